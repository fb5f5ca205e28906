package control

import (
	"fmt"
	"net/http"

	"github.com/go-chi/chi/v5"

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
		if e := &list[i]; e.Trouble == "" {
			e.HLS, e.DASH = base(r)+"/items/"+e.Name+"/index.m3u8", base(r)+"/items/"+e.Name+"/index.mpd"
		}
	}
	return list
}

func (s *Service) listItems(_ http.ResponseWriter, r *http.Request) (any, error) {
	return s.itemsOf(r), nil
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
