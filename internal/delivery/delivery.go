// Package delivery serves viewers: playlists, headers and segments, straight from the windows
// that the origin publishes. A request takes no lock and copies no payload.
//
// Addresses, below the mount point:
//
//	{channel}/index.m3u8                  multivariant playlist
//	{channel}/{rendition}/index.m3u8      media playlist
//	{channel}/{rendition}/header-*.mp4    CMAF header
//	{channel}/{rendition}/{number}.m4s    CMAF segment
//	{channel}/picture.jpg                 preview
package delivery

import (
	"bytes"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin"
)

// Content types (RFC 8216, 4; RFC 4337).
const (
	typePlaylist = "application/vnd.apple.mpegurl"
	typeVideo    = "video/mp4"
	typeAudio    = "audio/mp4"
)

// Cache lives. A segment never changes. A playlist lives no longer than half a segment, so that
// a cache in front is never a whole segment behind.
const immutable = "public, max-age=31536000, immutable"

// Counter is told of each answer: what kind of thing was asked for, the status and the bytes.
type Counter func(kind string, status int, bytes int64)

// Handler serves the media of an origin.
func Handler(o *origin.Origin, count Counter) http.Handler {
	if count == nil {
		count = func(string, int, int64) {}
	}
	s := &server{o, count}
	r := chi.NewRouter()
	r.Use(cors)
	for pattern, h := range map[string]http.HandlerFunc{
		"/{channel}/index.m3u8":             s.master,
		"/{channel}/picture.jpg":            s.picture,
		"/{channel}/{rendition}/index.m3u8": s.playlist,
		"/{channel}/{rendition}/{file}":     s.file,
	} {
		r.Get(pattern, h)
		r.Head(pattern, h)
		r.Options(pattern, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	}
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		s.fail(w, "other", http.StatusNotFound, "There is nothing at this address. A channel's playlist is CHANNEL/index.m3u8.")
	})
	return r
}

// cors lets pages of any origin play (Fetch standard, 3.2). Ranges are spelled out, since they are
// not always safelisted.
func cors(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Access-Control-Allow-Origin", "*")
		if r.Method == http.MethodOptions {
			h.Set("Access-Control-Allow-Methods", "GET, HEAD, OPTIONS")
			h.Set("Access-Control-Allow-Headers", "Range, If-None-Match")
			h.Set("Access-Control-Max-Age", "86400")
		} else {
			h.Set("Access-Control-Expose-Headers", "Content-Length, Content-Range, Date, ETag")
		}
		next.ServeHTTP(w, r)
	})
}

type server struct {
	o     *origin.Origin
	count Counter
}

func (s *server) fail(w http.ResponseWriter, kind string, status int, text string) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	if status == http.StatusServiceUnavailable {
		h.Set("Retry-After", "1")
	}
	if status == http.StatusNotFound || status == http.StatusGone {
		h.Set("Cache-Control", "public, max-age=1")
	}
	http.Error(w, text, status)
	s.count(kind, status, int64(len(text)))
}

// send answers with bytes that never change under their tag. http.ServeContent does ranges,
// conditional requests and HEAD.
func (s *server) send(w http.ResponseWriter, r *http.Request, kind, contentType, cache, etag string, modified time.Time, b []byte) {
	h := w.Header()
	h.Set("Content-Type", contentType)
	h.Set("Cache-Control", cache)
	h.Set("ETag", etag)
	c := &counted{ResponseWriter: w, status: http.StatusOK}
	if r.Method == http.MethodGet && r.Header.Get("Range") == "" && r.Header.Get("If-None-Match") == "" && r.Header.Get("If-Modified-Since") == "" {
		// The common case in one write, without a copy through a buffer.
		h.Set("Content-Length", strconv.Itoa(len(b)))
		h.Set("Accept-Ranges", "bytes")
		_, _ = c.Write(b)
	} else {
		http.ServeContent(c, r, "", modified, bytes.NewReader(b))
	}
	s.count(kind, c.status, c.bytes)
}

// counted notes what was answered.
type counted struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *counted) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.bytes += int64(n)
	return n, err
}

func (s *server) channel(w http.ResponseWriter, r *http.Request, kind string) *origin.Channel {
	c := s.o.Channel(chi.URLParam(r, "channel"))
	if c == nil {
		s.fail(w, kind, http.StatusNotFound, "There is no such channel.")
	}
	return c
}

// playlistLife is how long a cache may keep a playlist.
func playlistLife(c *origin.Channel) string {
	return fmt.Sprintf("public, max-age=%d", max(1, c.Life().Milliseconds()/2000))
}

func (s *server) master(w http.ResponseWriter, r *http.Request) {
	c := s.channel(w, r, "master")
	if c == nil {
		return
	}
	m := c.Master()
	if m == nil {
		s.fail(w, "master", http.StatusServiceUnavailable, "The channel has nothing to play yet. It begins a few seconds after its sender.")
		return
	}
	s.send(w, r, "master", typePlaylist, playlistLife(c), m.ETag, time.Time{}, m.Playlist)
}

// view finds a rendition's window, or answers why there is none.
func (s *server) view(w http.ResponseWriter, r *http.Request, kind string) (*origin.Channel, *origin.View) {
	c := s.channel(w, r, kind)
	if c == nil {
		return nil, nil
	}
	rend := c.Rendition(chi.URLParam(r, "rendition"))
	if rend == nil {
		s.fail(w, kind, http.StatusNotFound, "The channel has no such rendition.")
		return nil, nil
	}
	v := rend.View()
	if v == nil {
		s.fail(w, kind, http.StatusServiceUnavailable, "The rendition has no segment yet.")
		return nil, nil
	}
	return c, v
}

func (s *server) playlist(w http.ResponseWriter, r *http.Request) {
	c, v := s.view(w, r, "playlist")
	if v == nil {
		return
	}
	s.send(w, r, "playlist", typePlaylist, playlistLife(c), v.ETag, v.Changed, v.Playlist)
}

func (s *server) file(w http.ResponseWriter, r *http.Request) {
	_, v := s.view(w, r, "segment")
	if v == nil {
		return
	}
	file := chi.URLParam(r, "file")
	if h := findHeader(v.Snapshot, file); h != nil {
		s.send(w, r, "header", contentType(h), immutable, `"`+h.Name+`"`, v.Changed, h.Bytes)
		return
	}
	number, ok := strings.CutSuffix(file, ".m4s")
	msn, err := strconv.ParseUint(number, 10, 64)
	if !ok || err != nil {
		s.fail(w, "segment", http.StatusNotFound, "There is nothing at this address.")
		return
	}
	seg, gone := v.Snapshot.Find(msn)
	switch {
	case gone:
		s.fail(w, "segment", http.StatusGone, "The segment has left the window.")
	case seg == nil || seg.Gap:
		s.fail(w, "segment", http.StatusNotFound, "There is no such segment.")
	default:
		s.send(w, r, "segment", contentType(seg.Header), immutable, `"`+number+"-"+seg.Header.Name+`"`, seg.Arrived, seg.Bytes)
	}
}

// findHeader returns the header of a name among those that the window's segments need.
func findHeader(s *segment.Snapshot, name string) *segment.Header {
	if !strings.HasPrefix(name, "header-") {
		return nil
	}
	for i := len(s.All) - 1; i >= 0; i-- {
		if h := s.All[i].Header; h.Name == name {
			return h
		}
	}
	return nil
}

func contentType(h *segment.Header) string {
	if strings.HasPrefix(h.Track.CodecName, "mp4a") {
		return typeAudio
	}
	return typeVideo
}

func (s *server) picture(w http.ResponseWriter, r *http.Request) {
	c := s.channel(w, r, "picture")
	if c == nil {
		return
	}
	p := c.Picture()
	if p == nil {
		s.fail(w, "picture", http.StatusNotFound, "There is no picture yet.")
		return
	}
	s.send(w, r, "picture", "image/jpeg", "public, max-age=1", fmt.Sprintf(`"%d"`, p.At.UnixNano()), p.At, p.JPEG)
}
