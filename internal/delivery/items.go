package delivery

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/library"
	"metaplasis/internal/present"
)

// Items serves files on demand, below the mount point:
//
//	{item}/index.m3u8, index.mpd
//	{item}/{track}/index.m3u8
//	{item}/{track}/header-*.mp4, {n}.m4s
type Items struct {
	Library *library.Library
	// Turn bounds what is made at a time; nil bounds nothing.
	Turn func() (done func())

	documents documents
}

// ServeHTTP implements http.Handler.
func (s *Items) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h["Access-Control-Allow-Origin"] = anyOrigin
	h["Access-Control-Expose-Headers"] = exposed
	switch r.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodOptions:
		preflight(w)
		return
	default:
		h.Set("Allow", "GET, HEAD, OPTIONS")
		http.Error(w, "Media is read with GET or HEAD.", http.StatusMethodNotAllowed)
		return
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	if len(parts) < 2 || len(parts) > 3 {
		http.Error(w, "There is nothing at this address. An item's playlist is ITEM/index.m3u8.", http.StatusNotFound)
		return
	}
	list, trouble, known := s.Library.Find(parts[0])
	switch {
	case !known:
		http.Error(w, "There is no such item.", http.StatusNotFound)
		return
	case trouble != "":
		http.Error(w, "The item cannot be played. "+trouble, http.StatusUnprocessableEntity)
		return
	}
	past := pastOf(parts[0], list)
	file := parts[len(parts)-1]
	if len(parts) == 2 {
		switch file {
		case "index.m3u8":
			s.document(w, r, parts[0]+"/"+file, typePlaylist, past.Multivariant, past)
		case "index.mpd":
			s.document(w, r, parts[0]+"/"+file, typeManifest, past.Manifest, past)
		default:
			http.Error(w, "There is nothing at this address. An item's playlist is index.m3u8, its manifest index.mpd.", http.StatusNotFound)
		}
		return
	}
	for i := range list {
		if list[i].Name == parts[1] {
			s.track(w, r, past, &list[i], parts[0], file)
			return
		}
	}
	http.Error(w, "The item has no such track.", http.StatusNotFound)
}

// pastOf is an item as a stretch that is over.
func pastOf(name string, list []library.Rendition) *present.Past {
	p := &present.Past{Slug: name, Epoch: time.Unix(0, 0).UTC(), Now: time.Unix(0, 0).UTC(), Ended: true, Undated: true, Step: 6 * media.VideoTimescale}
	sound := ""
	for i := range list {
		if list[i].Track.Kind == media.Audio && sound == "" {
			sound = list[i].Name
		}
	}
	for i := range list {
		t := list[i].Track
		s := present.PastStrip{Name: list[i].Name, List: t.Segments, Ordinal: 0}
		if t.Kind == media.Video {
			s.Sound = sound
		}
		for _, seg := range t.Segments {
			s.Longest = max(s.Longest, seg.Duration)
		}
		p.Strips = append(p.Strips, s)
	}
	return p
}

func (s *Items) document(w http.ResponseWriter, r *http.Request, key, kind string, make func() []byte, past *present.Past) {
	d := s.documents.get(key, fmt.Sprintf("%p", past.Strips[0].List[0]), func() []byte {
		if s.Turn != nil {
			defer s.Turn()()
		}
		return make()
	})
	if d == nil {
		http.Error(w, "The item has nothing to play.", http.StatusNotFound)
		return
	}
	b, etag := d.Bytes()
	s.send(w, r, kind, "public, max-age=10", etag, b)
}

func (s *Items) send(w http.ResponseWriter, r *http.Request, kind, cache, etag string, b []byte) {
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", cache)
	h.Set("Etag", etag)
	blob, _ := segment.Memory{b}.Open() // memory does not fail
	http.ServeContent(w, r, "", time.Time{}, blob)
}

// track answers for what belongs to one track.
func (s *Items) track(w http.ResponseWriter, r *http.Request, past *present.Past, t *library.Rendition, name, file string) {
	sound := t.Track.Kind == media.Audio
	switch {
	case file == "index.m3u8":
		s.document(w, r, name+"/"+t.Name+"/"+file, typePlaylist, func() []byte { return past.Playlist(t.Name, hls.CMAF, false) }, past)
	case file == t.Track.Header.Name:
		s.send(w, r, contentType(file, sound), immutable, `"`+file+`"`, t.Track.Header.Bytes)
	default:
		number, ok := strings.CutSuffix(file, ".m4s")
		n, err := strconv.ParseUint(number, 10, 31)
		if !ok || err != nil {
			http.Error(w, "There is nothing at this address.", http.StatusNotFound)
			return
		}
		for _, seg := range t.Track.Segments {
			if seg.MSN == n {
				s.segment(w, r, seg, contentType(file, sound))
				return
			}
		}
		http.Error(w, "There is no such segment.", http.StatusNotFound)
	}
}

func (s *Items) segment(w http.ResponseWriter, r *http.Request, seg *segment.Segment, kind string) {
	done := func() {}
	if s.Turn != nil {
		done = s.Turn()
	}
	b, err := s.Library.Make(seg)
	done()
	if err != nil {
		status := http.StatusServiceUnavailable
		if media.IsFormat(err) {
			status = http.StatusUnprocessableEntity
		}
		http.Error(w, "The segment cannot be made: "+err.Error(), status)
		return
	}
	s.send(w, r, kind, "public, max-age=3600", seg.ETag, b)
}
