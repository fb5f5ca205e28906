package delivery

import (
	"cmp"
	"context"
	"errors"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/webvtt"
	"metaplasis/internal/core/wrap"
	"metaplasis/internal/library"
	"metaplasis/internal/present"
)

// Items serves files on demand, below the mount point:
//
//	{item}/index.m3u8, ts.m3u8, index.mpd, file
//	{item}/{track}/index.m3u8, ts.m3u8, aac.m3u8, keys.m3u8, text.vtt
//	{item}/{track}/header-*.mp4, {n}.m4s, {n}.ts, {n}.aac, {n}.key.m4s
type Items struct {
	Library *library.Library
	// Turn bounds what is made at a time, for who is at an address; nil bounds nothing.
	Turn func(ctx context.Context, remote string) (done func(), err error)

	documents documents
}

// ServeHTTP implements http.Handler.
func (s *Items) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	h := rw.Header()
	h["Access-Control-Allow-Origin"] = anyOrigin
	h["Access-Control-Expose-Headers"] = exposed
	switch r.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodOptions:
		preflight(rw)
		return
	default:
		h.Set("Allow", "GET, HEAD, OPTIONS")
		http.Error(rw, "Media is read with GET or HEAD.", http.StatusMethodNotAllowed)
		return
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	if len(parts) < 2 || len(parts) > 3 {
		http.Error(rw, "There is nothing at this address. An item's playlist is ITEM/index.m3u8.", http.StatusNotFound)
		return
	}
	list, trouble, known := s.Library.Find(parts[0])
	switch {
	case !known:
		http.Error(rw, "There is no such item.", http.StatusNotFound)
		return
	case trouble != "":
		http.Error(rw, "The item cannot be played. "+trouble, http.StatusUnprocessableEntity)
		return
	}
	past := pastOf(parts[0], list)
	file := parts[len(parts)-1]
	if len(parts) == 2 {
		w, playlist := wrappings[file]
		switch {
		case file == "file":
			s.download(rw, r, parts[0])
		case playlist && (w == hls.CMAF || w == hls.TS):
			if list[0].Track.Kind == media.Audio && s.Library.Packed(parts[0]) {
				w = hls.TS // which is packed sound where there are no pictures
			}
			s.document(rw, r, parts[0]+"/"+file, typePlaylist, func() []byte { return past.Multivariant(w) }, past)
		case file == "index.mpd" && s.Library.Packed(parts[0]):
			http.Error(rw, "Browsers take the item's "+list[0].Track.Label+" in HLS alone: take index.m3u8, or code it anew.", http.StatusUnprocessableEntity)
		case file == "index.mpd":
			s.document(rw, r, parts[0]+"/"+file, typeManifest, past.Manifest, past)
		default:
			http.Error(rw, "There is nothing at this address. An item's playlist is index.m3u8 or ts.m3u8, its manifest index.mpd.", http.StatusNotFound)
		}
		return
	}
	for i := range list {
		if list[i].Name == parts[1] {
			s.track(rw, r, past, &list[i], parts[0], file)
			return
		}
	}
	http.Error(rw, "The item has no such track.", http.StatusNotFound)
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
		s := present.PastStrip{Name: list[i].Name, List: t.Segments, Ordinal: t.Segments[0].MSN}
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

// turn waits for its turn on the processor.
func (s *Items) turn(r *http.Request) (done func(), err error) {
	if s.Turn == nil {
		return func() {}, nil
	}
	return s.Turn(r.Context(), r.RemoteAddr)
}

// tooMany answers when too much is made already.
func tooMany(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "2")
	http.Error(w, "Too much is being made for others. Try again in a moment.", http.StatusServiceUnavailable)
}

// busy answers when nothing was made since there is no room, and reports whether that is so.
func busy(w http.ResponseWriter, r *http.Request, s *Items) bool {
	done, err := s.turn(r)
	if err == nil {
		done()
		return false
	}
	tooMany(w)
	return true
}

func (s *Items) document(w http.ResponseWriter, r *http.Request, key, kind string, make func() []byte, past *present.Past) {
	d := s.documents.get(key, past.Strips[0].List[0].ETag, func() []byte {
		done, err := s.turn(r)
		if err != nil {
			return nil
		}
		defer done()
		return make()
	})
	if d == nil && busy(w, r, s) {
		return
	}
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

// download answers with the file itself.
func (s *Items) download(w http.ResponseWriter, r *http.Request, name string) {
	f, info, err := s.Library.Open(name)
	if err != nil {
		http.Error(w, "The file cannot be read now.", http.StatusServiceUnavailable)
		return
	}
	defer func() { _ = f.Close() }()
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": info.Name()}))
	http.ServeContent(&patient{ResponseWriter: w, rc: http.NewResponseController(w)}, r, info.Name(), info.ModTime(), f)
}

// track answers for what belongs to one track.
func (s *Items) track(w http.ResponseWriter, r *http.Request, past *present.Past, t *library.Rendition, name, file string) {
	sound := t.Track.Kind == media.Audio
	wrapping, playlist := wrappings[file]
	if playlist && t.Track.Kind == media.Data {
		wrapping = hls.VTT
	}
	if playlist && (wrapping == hls.TS || wrapping == hls.Packed) && !coding.Transportable(&t.Track.Track) {
		http.Error(w, "Transport streams here do not hold "+t.Track.Label+": take index.m3u8.", http.StatusNotFound)
		return
	}
	switch {
	case playlist:
		s.document(w, r, name+"/"+t.Name+"/"+file, typePlaylist, func() []byte { return past.Playlist(t.Name, wrapping, false) }, past)
		return
	case file == "text.vtt" && t.Track.Kind == media.Data:
		s.send(w, r, contentType(file, false), "public, max-age=10", segment.Tag(uint64(len(t.Track.Cues)), t.Track.Header), webvtt.Whole(t.Track.Cues))
		return
	case file == t.Track.Header.Name:
		s.send(w, r, contentType(file, sound), immutable, `"`+file+`"`, t.Track.Header.Bytes)
		return
	}
	number, kind, _ := strings.Cut(file, ".")
	prefix := t.Track.Segments[0].Prefix
	if i := strings.LastIndexByte(number, '-') + 1; number[:i] != prefix {
		http.Error(w, "The file was replaced: ask for its playlist again.", http.StatusNotFound)
		return
	} else {
		number = number[i:]
	}
	n, err := strconv.ParseUint(number, 10, 31)
	if err != nil {
		http.Error(w, "There is nothing at this address.", http.StatusNotFound)
		return
	}
	seg := segmentOf(t.Track, n)
	if seg == nil {
		http.Error(w, "There is no such segment.", http.StatusNotFound)
		return
	}
	s.segment(w, r, past, t, seg, kind, contentType(file, sound))
}

// segmentOf finds a segment of a track by its number, nil when there is none.
func segmentOf(t *item.Track, n uint64) *segment.Segment {
	i, found := slices.BinarySearchFunc(t.Segments, n, func(s *segment.Segment, n uint64) int { return cmp.Compare(s.MSN, n) })
	if !found {
		return nil
	}
	return t.Segments[i]
}

// transportLead is when the first unit of an item is decoded in transport streams: their clock runs before that, and not below 0.
const transportLead = 10 * media.VideoTimescale

var errNoWrapping = errors.New("it is not offered in this container")

// wrap makes a segment in a container.
func (s *Items) wrap(past *present.Past, t *library.Rendition, seg *segment.Segment, kind string) ([]byte, error) {
	whole := func(seg *segment.Segment) (*segment.Segment, error) {
		b, err := s.Library.Make(seg)
		if err != nil {
			return nil, err
		}
		out := *seg
		out.Blob, out.Size = segment.Memory{b}, int64(len(b))
		return &out, nil
	}
	if kind == "m4s" {
		return s.Library.Make(seg)
	}
	mine, err := whole(seg)
	if err != nil {
		return nil, err
	}
	track := &t.Track.Track
	switch {
	case kind == "key.m4s" && track.Kind == media.Video:
		return wrap.Keyframe(mine)
	case kind == "aac" && track.Kind == media.Audio && coding.Transportable(track):
		return wrap.PackedAudio(mine, transportLead)
	case kind == "vtt" && track.Kind == media.Data:
		return webvtt.File(seg.Start, webvtt.Within(t.Track.Cues, seg.Start, seg.Start+seg.Duration)), nil
	case kind == "ts" && track.Kind == media.Video && coding.Transportable(track):
		var with *segment.Segment
		for i := range past.Strips {
			o := &past.Strips[i]
			if o.Name != soundOf(past, t.Name) {
				continue
			}
			if k, found := slices.BinarySearchFunc(o.List, seg.MSN, func(s *segment.Segment, n uint64) int { return cmp.Compare(s.MSN, n) }); found {
				if with, err = whole(o.List[k]); err != nil {
					return nil, err
				}
			}
		}
		return wrap.TransportStream(mine, with, transportLead)
	}
	return nil, errNoWrapping
}

// soundOf is the rendition of sound that goes with pictures in a transport stream, "" when it cannot lie there.
func soundOf(past *present.Past, pictures string) string {
	name := ""
	for i := range past.Strips {
		if past.Strips[i].Name == pictures {
			name = past.Strips[i].Sound
		}
	}
	for i := range past.Strips {
		if t := past.Strips[i].Track(); past.Strips[i].Name == name && !coding.Transportable(&t) {
			return ""
		}
	}
	return name
}

func (s *Items) segment(w http.ResponseWriter, r *http.Request, past *present.Past, t *library.Rendition, seg *segment.Segment, kind, contentType string) {
	done, err := s.turn(r)
	if err != nil {
		tooMany(w)
		return
	}
	b, err := s.wrap(past, t, seg, kind)
	done()
	switch {
	case errors.Is(err, errNoWrapping) || errors.Is(err, wrap.ErrNotOffered):
		http.Error(w, "There is nothing at this address.", http.StatusNotFound)
		return
	case err != nil:
		status := http.StatusServiceUnavailable
		if errors.Is(err, library.ErrReplaced) {
			status = http.StatusNotFound
		}
		if media.IsFormat(err) {
			status = http.StatusUnprocessableEntity
		}
		http.Error(w, "The segment cannot be made: "+err.Error(), status)
		return
	}
	etag := seg.ETag
	if kind != "m4s" {
		etag = strings.TrimSuffix(etag, `"`) + "-" + kind + `"`
	}
	s.send(w, r, contentType, "public, max-age=3600", etag, b)
}
