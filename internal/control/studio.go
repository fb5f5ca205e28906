package control

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/protocol/studio"
)

// Studio is the studio's network, as far as the service looks at it.
type Studio interface {
	On() bool
	// List is what is on it; wrong says what keeps it from being heard.
	List() (list []studio.Source, wrong []string)
	// Picture is a small picture of a source, JPEG.
	Picture(ctx context.Context, id string) ([]byte, error)
}

// pictureWait is for how long a picture of a source is waited for, with those before it.
const pictureWait = 8 * time.Second

// studioPicture answers with a small picture of a source.
func (s *Service) studioPicture(w http.ResponseWriter, r *http.Request) {
	if s.Studio == nil {
		refuse(w, http.StatusNotFound, "the service does not look at the studio's network", "Start it with --studio and the network's interface.")
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), pictureWait)
	defer cancel()
	source := chi.URLParam(r, "source")
	if plain, err := url.PathUnescape(source); err == nil && r.URL.RawPath != "" {
		source = plain
	}
	b, err := s.Studio.Picture(ctx, source)
	if err != nil {
		refuse(w, http.StatusNotFound, err.Error(), "See which sources there are: GET "+api.Prefix+"/studio.")
		return
	}
	h := w.Header()
	h.Set("Content-Type", "image/jpeg")
	h.Set("Cache-Control", "private, max-age=5")
	h.Set("Content-Length", strconv.Itoa(len(b)))
	_, _ = w.Write(b)
}
