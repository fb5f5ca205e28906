package delivery

import (
	"cmp"
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

// item answers for a file on demand.
func (q *request) item() {
	q.kind = "item"
	if q.s.files == nil {
		q.fail(http.StatusNotFound, "There is no such item.")
		return
	}
	list, trouble, known := q.s.files.Find(q.name)
	switch {
	case !known:
		q.fail(http.StatusNotFound, "There is no such item.")
		return
	case trouble != "":
		q.fail(http.StatusUnprocessableEntity, "The item cannot be played. "+trouble)
		return
	}
	past := pastOf(q.name, list)
	if q.rendition == "" {
		q.itemFile(past, list)
		return
	}
	for i := range list {
		if list[i].Name == q.rendition {
			q.itemTrack(past, &list[i])
			return
		}
	}
	q.fail(http.StatusNotFound, "The item has no such track.")
}

// itemFile answers for what belongs to the whole item.
func (q *request) itemFile(past *present.Past, list []library.Rendition) {
	w, playlist := wrappings[q.file]
	switch {
	case q.file == "file":
		q.download()
	case playlist && (w == hls.CMAF || w == hls.TS):
		if list[0].Track.Kind == media.Audio && q.s.files.Packed(q.name) {
			w = hls.TS // which is packed sound where there are no pictures
		}
		q.sendItem(typePlaylist, past, func() []byte { return past.Multivariant(w) })
	case q.file == "index.mpd" && q.s.files.Packed(q.name):
		q.fail(http.StatusUnprocessableEntity, "Browsers take the item's "+list[0].Track.Label+" in HLS alone: take index.m3u8, or encode it again.")
	case q.file == "index.mpd":
		q.sendItem(typeManifest, past, past.Manifest)
	default:
		q.fail(http.StatusNotFound, "There is nothing at this address. An item's playlist is index.m3u8 or ts.m3u8, its manifest index.mpd.")
	}
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
		s := present.RetainedRendition{Name: list[i].Name, List: t.Segments, Ordinal: t.Segments[0].MSN}
		if t.Kind == media.Video {
			s.Sound = sound
		}
		for _, seg := range t.Segments {
			s.Longest = max(s.Longest, seg.Duration)
		}
		p.Renditions = append(p.Renditions, s)
	}
	return p
}

// itemLife is how long a cache may keep a document of an item, whose file may be replaced.
const itemLife = "public, max-age=10"

// sendItem answers with a document of an item.
func (q *request) sendItem(kind string, past *present.Past, make func() []byte) {
	d, err := q.document("", past.Renditions[0].List[0].ETag, make)
	switch {
	case err != nil:
		q.fail(http.StatusServiceUnavailable, "The service is busy with other requests. Try again in a moment.")
	case d == nil:
		q.fail(http.StatusNotFound, "The item has nothing to play.")
	default:
		q.sendDoc(d, kind, itemLife, time.Time{})
	}
}

// download answers with the file itself.
func (q *request) download() {
	f, info, err := q.s.files.Open(q.name)
	if err != nil {
		q.fail(http.StatusServiceUnavailable, "The file cannot be read now.")
		return
	}
	defer func() { _ = f.Close() }()
	q.w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": info.Name()}))
	c := &counted{ResponseWriter: &deadlineWriter{ResponseWriter: q.w, rc: http.NewResponseController(q.w)}, status: http.StatusOK}
	first := q.s.now().Sub(q.begun)
	http.ServeContent(c, q.r, info.Name(), info.ModTime(), f)
	q.s.meter.Answered(q.kind, c.status, c.bytes, first)
}

// itemTrack answers for what belongs to one track.
func (q *request) itemTrack(past *present.Past, t *library.Rendition) {
	sound := t.Track.Kind == media.Audio
	file := q.file
	wrapping, playlist := wrappings[file]
	if playlist && t.Track.Kind == media.Data {
		wrapping = hls.VTT
	}
	if playlist && (wrapping == hls.TS || wrapping == hls.Packed) && !coding.Transportable(&t.Track.Track) {
		q.fail(http.StatusNotFound, "Transport streams here do not hold "+t.Track.Label+": take index.m3u8.")
		return
	}
	switch {
	case playlist:
		q.sendItem(typePlaylist, past, func() []byte { return past.Playlist(t.Name, wrapping, false) })
		return
	case file == "text.vtt" && t.Track.Kind == media.Data:
		q.send(contentType(file, false), itemLife, segment.Tag(uint64(len(t.Track.Cues)), t.Track.Header), time.Time{}, segment.Memory{webvtt.Whole(t.Track.Cues)})
		return
	case file == t.Track.Header.Name:
		q.send(contentType(file, sound), immutable, `"`+file+`"`, time.Time{}, segment.Memory{t.Track.Header.Bytes})
		return
	}
	number, kind, _ := strings.Cut(file, ".")
	prefix := t.Track.Segments[0].Prefix
	if i := strings.LastIndexByte(number, '-') + 1; number[:i] != prefix {
		q.fail(http.StatusNotFound, "The file was replaced: ask for its playlist again.")
		return
	} else {
		number = number[i:]
	}
	n, err := strconv.ParseUint(number, 10, 31)
	if err != nil {
		q.fail(http.StatusNotFound, "There is nothing at this address.")
		return
	}
	seg := segmentOf(t.Track, n)
	if seg == nil {
		q.fail(http.StatusNotFound, "There is no such segment.")
		return
	}
	q.itemSegment(past, t, seg, kind)
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

// wrapItem makes a segment in a container.
func (s *Server) wrapItem(past *present.Past, t *library.Rendition, seg *segment.Segment, kind string) ([]byte, error) {
	whole := func(seg *segment.Segment) (*segment.Segment, error) {
		b, err := s.files.Make(seg)
		if err != nil {
			return nil, err
		}
		out := *seg
		out.Blob, out.Size = segment.Memory{b}, int64(len(b))
		return &out, nil
	}
	if kind == "m4s" {
		return s.files.Make(seg)
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
		for i := range past.Renditions {
			o := &past.Renditions[i]
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
	for i := range past.Renditions {
		if past.Renditions[i].Name == pictures {
			name = past.Renditions[i].Sound
		}
	}
	for i := range past.Renditions {
		if t := past.Renditions[i].Track(); past.Renditions[i].Name == name && !coding.Transportable(&t) {
			return ""
		}
	}
	return name
}

// itemSegment sends a segment of an item, made in its turn.
func (q *request) itemSegment(past *present.Past, t *library.Rendition, seg *segment.Segment, kind string) {
	done, err := q.s.turns.take(q.r.Context(), q.r.RemoteAddr)
	if err != nil {
		q.fail(http.StatusServiceUnavailable, "The service is busy with other requests. Try again in a moment.")
		return
	}
	b, err := q.s.wrapItem(past, t, seg, kind)
	done()
	switch {
	case errors.Is(err, errNoWrapping) || errors.Is(err, wrap.ErrNotOffered):
		q.fail(http.StatusNotFound, "There is nothing at this address.")
		return
	case err != nil:
		status := http.StatusServiceUnavailable
		if errors.Is(err, library.ErrReplaced) {
			status = http.StatusNotFound
		}
		if media.IsFormat(err) {
			status = http.StatusUnprocessableEntity
		}
		q.fail(status, "The segment cannot be made: "+err.Error())
		return
	}
	etag := seg.ETag
	if kind != "m4s" {
		etag = strings.TrimSuffix(etag, `"`) + "-" + kind + `"`
	}
	q.send(contentType(q.file, t.Track.Kind == media.Audio), "public, max-age=3600", etag, time.Time{}, segment.Memory{b})
}
