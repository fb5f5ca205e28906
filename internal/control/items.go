package control

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/library"
)

// SetLibrary gives the service the files on demand.
func (s *Service) SetLibrary(l *library.Library) { s.files = l }

// itemsOf lists the library with addresses.
func (s *Service) itemsOf(r *http.Request) []library.Entry {
	if s.files == nil {
		return []library.Entry{}
	}
	list := s.files.List()
	for i := range list {
		e := &list[i]
		address := base(r) + "/items/" + e.Name
		e.Download = address + "/file"
		if e.Trouble == "" && e.Looking == 0 {
			if e.HLS = address + "/index.m3u8"; !e.Packed {
				e.DASH = address + "/index.mpd"
			}
			if e.Transport {
				e.TS = address + "/ts.m3u8"
			}
		}
	}
	return list
}

func (s *Service) listItems(w http.ResponseWriter, r *http.Request) (any, error) {
	return page(w, r, s.itemsOf(r), func(e *library.Entry) string { return e.Name })
}

func (s *Service) showItem(_ http.ResponseWriter, r *http.Request) (any, error) {
	name := chi.URLParam(r, "item")
	for _, e := range s.itemsOf(r) {
		if e.Name == name {
			return e, nil
		}
	}
	return nil, fail(http.StatusNotFound, fmt.Sprintf("there is no item %.80q", name), "metaplasis items list names those there are.")
}

// item answers for an item after something was done to it.
func (s *Service) item(r *http.Request, do func(name string) error) (any, error) {
	name := chi.URLParam(r, "item")
	if s.files == nil {
		return nil, fail(http.StatusNotFound, "there is no library", "")
	}
	err := do(name)
	switch {
	case errors.Is(err, library.ErrUnknown):
		return nil, fail(http.StatusNotFound, fmt.Sprintf("there is no item %.80q", name), "metaplasis items list names those there are.")
	case errors.Is(err, library.ErrNoCoding), errors.Is(err, library.ErrCannot):
		return nil, fail(http.StatusConflict, err.Error(), "")
	case err != nil:
		return nil, fail(http.StatusUnprocessableEntity, err.Error(), "")
	}
	for _, e := range s.itemsOf(r) {
		if e.Name == name {
			return e, nil
		}
	}
	return nil, nil
}

func (s *Service) startCoding(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in api.NewCoding
	if err := read(r, &in); err != nil {
		return nil, err
	}
	return s.item(r, func(name string) error { return s.files.StartCoding(name, in.Heights) })
}

func (s *Service) changeCoding(do func(*library.Library, string) error) func(http.ResponseWriter, *http.Request) (any, error) {
	return func(_ http.ResponseWriter, r *http.Request) (any, error) {
		return s.item(r, func(name string) error { return do(s.files, name) })
	}
}

func (s *Service) removeItem(_ http.ResponseWriter, r *http.Request) (any, error) {
	_, err := s.item(r, func(name string) error { return s.files.Remove(name) })
	return nil, err
}
