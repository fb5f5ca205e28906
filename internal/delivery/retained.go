package delivery

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/wrap"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
	"metaplasis/internal/recording"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// wantsRetained reports whether a request is for media that was retained: time-shift or a recording.
func (q *request) wantsRetained() bool {
	query := q.r.URL.RawQuery
	return q.s.store != nil && query != "" && (strings.Contains(query, "from=") || strings.Contains(query, recording.Parameter+"="))
}

// stretch is what a request wants of what was retained.
type stretch struct {
	from, to  time.Time
	recording *recording.Recording // nil: of the channel's time-shift
	ended     bool
	cut       bool // at the times that were asked for
	relative  bool // the time was told from now
}

// named returns the recording that a request names, nil when there is none of that name, and whether it names one.
func (q *request) named() (r *recording.Recording, named bool) {
	if !strings.Contains(q.r.URL.RawQuery, recording.Parameter+"=") { // most requests name none
		return nil, false
	}
	name := q.r.URL.Query().Get(recording.Parameter)
	if name == "" || q.s.recordings == nil {
		return nil, name != ""
	}
	return q.s.recordings.Named(q.name, name), true
}

// leaving is how much longer what has left the time-shift is served, for playlists that players hold.
const leaving = 2 * time.Minute

// readable reports whether what ended at a time may be read by who asks: it lies within the channel's time-shift, or
// within the recording that the request names. It is asked for each thing that is kept.
func (q *request) readable(end time.Time) bool {
	if r, named := q.named(); named {
		return r != nil && end.After(r.Begun) && (r.Ended.IsZero() || end.Before(r.Ended.Add(leaving)))
	}
	c := q.s.o.Channel(q.name)
	if c == nil {
		return false
	}
	depth := time.Duration(c.Settings().TimeShiftMinutes) * time.Minute
	return depth > 0 && end.After(q.s.now().Add(-depth-leaving))
}

// timeForm is how times are written in addresses.
const timeForm = "2006-01-02T15:04:05.000Z"

// query is what leads to the same from now on.
func (a *stretch) query() string {
	var parts []string
	if a.recording != nil {
		parts = append(parts, a.recording.Query())
	}
	if a.recording == nil || a.cut {
		parts = append(parts, "from="+a.from.UTC().Format(timeForm))
		if !a.to.IsZero() {
			parts = append(parts, "to="+a.to.UTC().Format(timeForm))
		}
	}
	return "?" + strings.Join(parts, "&")
}

// stretch reads the query of a request. When that makes no sense it answers, and ok is false.
func (q *request) stretch() (a stretch, ok bool) {
	if q.channel = q.s.o.Channel(q.name); q.channel != nil {
		q.channel.Watched()
	}
	v, err := url.ParseQuery(q.r.URL.RawQuery)
	if err != nil {
		q.fail(http.StatusBadRequest, "The query could not be read: "+err.Error())
		return a, false
	}
	if v.Get(recording.Parameter) != "" {
		if a.recording, _ = q.named(); a.recording == nil {
			q.fail(http.StatusNotFound, "The channel has no such recording.")
			return a, false
		}
		a.from, a.to = a.recording.Begun, a.recording.Ended
	} else if q.channel == nil {
		q.fail(http.StatusNotFound, "There is no such channel.")
		return a, false
	}
	now := q.s.now()
	c := q.channel
	read := func(name string) (time.Time, bool) {
		text := v.Get(name)
		if text == "" {
			return time.Time{}, name != "from" || a.recording != nil
		}
		at, relative, err := origin.ParseTime(text, now, c)
		if err != nil {
			q.fail(http.StatusBadRequest, fmt.Sprintf("Found %s=%q: %v.", name, clipped(text), err))
			return at, false
		}
		a.relative = a.relative || relative
		return at, true
	}
	from, ok := read("from")
	if !ok {
		return a, false
	}
	to, ok := read("to")
	if !ok {
		return a, false
	}
	if from.After(a.from) { // of a recording no more than it holds
		a.from, a.cut = from, true
	}
	if !to.IsZero() && (a.to.IsZero() || to.Before(a.to)) {
		a.to, a.cut = to, true
	}
	if !a.to.IsZero() && !a.to.After(a.from) {
		q.fail(http.StatusBadRequest, "Found an end time that is not after the start time.")
		return a, false
	}
	a.ended = !a.to.IsZero() && a.to.Before(now)
	if c != nil && a.recording == nil {
		if depth := time.Duration(c.Settings().TimeShiftMinutes) * time.Minute; depth == 0 {
			q.fail(http.StatusNotFound, "The channel has no time-shift. Turn it on in its settings.")
			return a, false
		} else if oldest := now.Add(-depth); a.from.Before(oldest) {
			a.from = oldest.Truncate(time.Minute).Add(time.Minute)
		}
	}
	return a, true
}

// described is the stretch that is asked for, nil when the request was answered.
func (q *request) described(a *stretch) *present.Past {
	if longest := a.from.Add(q.longest()); a.to.After(longest) || a.to.IsZero() && longest.Before(q.s.now()) {
		a.to, a.ended = longest, true // a playlist of more is none that a player reads
	}
	span, err := q.s.store.Span(q.r.Context(), q.name, a.from, a.to)
	switch {
	case errors.Is(err, store.ErrNothing):
		q.fail(http.StatusNotFound, "No media of that time is stored.")
		return nil
	case errors.Is(err, store.ErrTooLong):
		q.fail(http.StatusRequestEntityTooLarge, "The time range is too long for one playlist. Request a shorter one, with to=.")
		return nil
	case err != nil:
		q.w.Header().Set("Retry-After", "2")
		q.fail(http.StatusServiceUnavailable, "What is kept cannot be read now: "+err.Error()+".")
		return nil
	}
	out := &present.Past{Slug: q.name, Epoch: span.Epoch, Now: q.s.now(), Ended: a.ended, Query: a.query(), Step: settings.DefaultSegmentMillis * (media.VideoTimescale / 1000)}
	if a.cut {
		out.From = a.from
	}
	var renditions []string
	if a.recording != nil {
		out.Suffix, renditions = "?"+a.recording.Query(), a.recording.Renditions
	}
	if c := q.channel; c != nil {
		set := c.Settings()
		out.Step, out.Language, out.SoundName = media.Rescale(set.SegmentMillis, 1000, media.VideoTimescale), set.Language, set.SoundName
		out.Ranges, out.Markers = c.Ranges(a.from, a.to), c.Noted()
	}
	for i := range span.Renditions {
		s := &span.Renditions[i]
		if s.Rendition == publish.Stills {
			out.Tiles = len(s.List) > 0
			continue
		}
		if len(renditions) > 0 && !slices.Contains(renditions, s.Rendition) {
			continue
		}
		out.Renditions = append(out.Renditions, present.RetainedRendition{Name: s.Rendition, Sound: s.Sound, List: s.List, Gapped: s.Gaps > 0, Goes: !a.ended && goes(q.channel, s.Rendition), Ordinal: s.Ordinal, Breaks: s.Breaks, Longest: s.Longest,
			Impaired: strings.HasPrefix(s.Rendition, "text-cc") || strings.HasPrefix(s.Rendition, "text-service")})
	}
	if len(out.Renditions) == 0 {
		q.fail(http.StatusNotFound, "No media of that time is stored.")
		return nil
	}
	out.Align()
	return out
}

// goes reports whether a channel makes a rendition now.
func goes(c *origin.Channel, rendition string) bool {
	if c == nil {
		return false
	}
	r := c.Rendition(rendition)
	if r == nil {
		return false
	}
	v := r.View()
	return v == nil || !v.Retired
}

// state names what a document of a stretch is made of.
func state(p *present.Past) string {
	var b strings.Builder
	for i := range p.Renditions {
		s := &p.Renditions[i]
		fmt.Fprintf(&b, "%d+%d;", s.Ordinal, len(s.List))
	}
	return b.String()
}

// retainedMaster answers with the multivariant playlist of what was retained, or its manifest.
func (q *request) retainedMaster() {
	if q.file != "index.m3u8" && q.file != "index.mpd" {
		q.fail(http.StatusNotFound, "Time-shift and recordings have the addresses index.m3u8 and index.mpd.")
		return
	}
	a, ok := q.stretch()
	if !ok {
		return
	}
	if a.relative { // so that the address means the same whenever it is asked for again
		h := q.w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("Location", q.file+a.query())
		q.w.WriteHeader(http.StatusFound)
		q.s.meter.Answered(q.kind, http.StatusFound, 0, q.s.now().Sub(q.begun))
		return
	}
	past := q.described(&a)
	if past == nil {
		return
	}
	kind, make := typePlaylist, func() []byte { return past.Multivariant(hls.CMAF) }
	if q.file == "index.mpd" {
		kind, make = typeManifest, past.Manifest
		q.here("dash", true)
	}
	q.sendRetained(&a, past, kind, make)
}

// retainedPlaylist answers with the media playlist of a rendition of what was retained.
func (q *request) retainedPlaylist(w hls.Wrapping) {
	if w != hls.CMAF && w != hls.Keys {
		q.fail(http.StatusNotFound, "Time-shift and recordings are offered in CMAF alone: take index.m3u8.")
		return
	}
	a, ok := q.stretch()
	if !ok {
		return
	}
	past := q.described(&a)
	if past == nil {
		return
	}
	q.here("hls", true)
	skip := readDirectives(q.r.URL.RawQuery).skip
	if past.IsText(q.rendition) {
		w = hls.VTT
	}
	q.sendRetained(&a, past, typePlaylist, func() []byte { return past.Playlist(q.rendition, w, skip) })
}

// sendRetained answers with a document of a stretch, made once for all who ask for the same.
func (q *request) sendRetained(a *stretch, past *present.Past, kind string, make func() []byte) {
	d, err := q.document(a.query()+" "+q.r.URL.Query().Get("_HLS_skip"), state(past), make)
	if err != nil {
		q.fail(http.StatusServiceUnavailable, "The service is busy with other requests. Try again in a moment.")
		return
	}
	if d == nil {
		q.fail(http.StatusNotFound, "No media of that time is stored for this rendition.")
		return
	}
	cache := fmt.Sprintf("public, max-age=%d", max(1, past.Step/media.VideoTimescale/2))
	if a.ended {
		cache = "public, max-age=60"
	}
	q.sendDoc(d, kind, cache, time.Time{})
}

// stillReach is how far before a time a picture of it may lie.
const stillReach = 90 * time.Second

// still answers with the small picture that was on air at a time.
func (q *request) still() {
	text := q.r.URL.Query().Get("time")
	at, _, err := origin.ParseTime(text, q.s.now(), q.s.o.Channel(q.name))
	if err != nil {
		q.fail(http.StatusBadRequest, fmt.Sprintf("Found time=%q: %v.", clipped(text), err))
		return
	}
	if !q.readable(at) {
		q.fail(http.StatusNotFound, "No picture of that time is stored.")
		return
	}
	strip, err := q.s.store.Rendition(q.r.Context(), q.name, publish.Stills, at.Add(-stillReach), at.Add(time.Second))
	if err != nil || len(strip.List) == 0 {
		q.fail(http.StatusNotFound, "No picture of that time is stored.")
		return
	}
	s := strip.List[len(strip.List)-1]
	q.send("image/jpeg", "public, max-age=3600", s.ETag, s.Arrived, s.Blob)
}

const (
	// maxListed is how many segments a playlist of what is kept lists.
	//limit:segments of a playlist of what is kept | each request | the list is clipped
	maxListed = 100_000
)

// longest is how long a stretch may be listed.
func (q *request) longest() time.Duration {
	step := int64(settings.DefaultSegmentMillis)
	if c := q.channel; c != nil {
		step = c.Settings().SegmentMillis
	}
	return maxListed * time.Duration(step) * time.Millisecond
}

// readsSome reports whether who asks may read anything that is kept: headers are of no time.
func (q *request) readsSome() bool {
	if r, named := q.named(); named {
		return r != nil
	}
	c := q.s.o.Channel(q.name)
	return c != nil && c.Settings().TimeShiftMinutes > 0
}

// retainedFile answers with a header or segment that was retained, and reports whether there is one.
func (q *request) retainedFile() bool {
	if q.s.store == nil {
		return false
	}
	if strings.HasPrefix(q.file, headerPrefix) {
		h := q.s.store.Header(q.name, q.rendition, q.file)
		if h == nil || !q.readsSome() {
			return false
		}
		q.kind = "header"
		q.send(contentType(q.file, h.Track.Kind == media.Audio), immutable, `"`+h.Name+`"`, time.Time{}, segment.Memory{h.Bytes})
		return true
	}
	name, ending, _ := strings.Cut(q.file, ".")
	cut := strings.LastIndexByte(name, '-') + 1
	msn, err := strconv.ParseUint(name[cut:], 10, 63)
	if err != nil || ending != "m4s" && ending != "key.m4s" && ending != "vtt" {
		return false
	}
	seg := q.s.store.Find(q.name, q.rendition, name[:cut], msn)
	if seg == nil || !q.readable(seg.Arrived) {
		return false
	}
	q.kind = "segment-kept"
	sound := seg.Header.Track.Kind == media.Audio
	if ending == "key.m4s" {
		b, err := wrap.Keyframe(seg)
		if err != nil {
			q.fail(http.StatusNotFound, err.Error())
			return true
		}
		q.send(contentType(q.file, sound), immutable, seg.ETag, seg.Arrived, segment.Memory{b})
		return true
	}
	if ending == "vtt" {
		b, err := wrap.Text(seg)
		if err != nil {
			q.fail(http.StatusNotFound, err.Error())
			return true
		}
		q.send(contentType(q.file, false), immutable, strings.TrimSuffix(seg.ETag, `"`)+`-vtt"`, seg.Arrived, segment.Memory{b})
		return true
	}
	q.send(contentType(q.file, sound), immutable, seg.ETag, seg.Arrived, seg.Blob)
	return true
}
