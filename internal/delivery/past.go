package delivery

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/clip"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/wrap"
	"metaplasis/internal/network"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// Past serves what was kept.
type Past struct {
	Store *store.Store
	// Recording tells of a recording of a channel by the name that it has in addresses, nil when there is none.
	Recording func(channel, name string) *Stretch
	// Recode codes the edges of clips; nil when nobody can.
	Recode clip.Recode

	documents documents
	exports   network.Quota
	waiting   network.Quota // for their turn
	making    chan struct{} // room for what is being made
	once      sync.Once
}

// Stretch is what a recording holds.
type Stretch struct {
	From, To   time.Time // To is zero while it goes on
	Renditions []string  // none: all
}

// looksBack reports whether a request is for something that lies back.
func (q *request) looksBack() bool {
	return q.r.URL.RawQuery != "" && (strings.Contains(q.r.URL.RawQuery, "from=") || strings.Contains(q.r.URL.RawQuery, "recording="))
}

// asked is what a request wants of the past.
type asked struct {
	from, to   time.Time
	renditions []string
	recording  string
	ended      bool
	cut        bool // at the times that were asked for
	relative   bool // the time was told from now
}

// recordingOf returns a recording by its name, nil when there is none.
func (p *Past) recordingOf(channel, name string) *Stretch {
	if p.Recording == nil || name == "" {
		return nil
	}
	return p.Recording(channel, name)
}

// leaving is how much longer what has left the time-shift is served, for playlists that players hold.
const leaving = 2 * time.Minute

// public reports whether what ended at a time may be read by who asks: it lies within the channel's time-shift, or
// within the recording that the request names. It is asked for each thing that is kept.
func (p *Past) public(q *request, end time.Time) bool {
	if name := q.r.URL.Query().Get("recording"); name != "" {
		s := p.recordingOf(q.slug, name)
		return s != nil && end.After(s.From) && (s.To.IsZero() || end.Before(s.To.Add(leaving)))
	}
	c := q.s.o.Channel(q.slug)
	if c == nil {
		return false
	}
	depth := time.Duration(c.Settings().TimeShiftMinutes) * time.Minute
	return depth > 0 && end.After(q.s.now().Add(-depth-leaving))
}

// timeForm is how times are written in addresses.
const timeForm = "2006-01-02T15:04:05.000Z"

// query is what leads to the same from now on.
func (a *asked) query() string {
	switch {
	case a.recording != "" && a.cut && !a.to.IsZero():
		return "?recording=" + a.recording + "&from=" + a.from.UTC().Format(timeForm) + "&to=" + a.to.UTC().Format(timeForm)
	case a.recording != "" && a.cut:
		return "?recording=" + a.recording + "&from=" + a.from.UTC().Format(timeForm)
	case a.recording != "":
		return "?recording=" + a.recording
	case a.to.IsZero():
		return "?from=" + a.from.UTC().Format(timeForm)
	}
	return "?from=" + a.from.UTC().Format(timeForm) + "&to=" + a.to.UTC().Format(timeForm)
}

// ask reads the query of a request. It answers itself when that makes no sense, and reports whether it did not.
func (p *Past) ask(q *request) (a asked, ok bool) {
	if q.channel = q.s.o.Channel(q.slug); q.channel != nil {
		q.channel.Watched()
	}
	v, err := url.ParseQuery(q.r.URL.RawQuery)
	if err != nil {
		q.fail(http.StatusBadRequest, "The query could not be read: "+err.Error())
		return a, false
	}
	if text := v.Get("recording"); text != "" {
		s := p.recordingOf(q.slug, text)
		if s == nil {
			q.fail(http.StatusNotFound, "The channel has no such recording.")
			return a, false
		}
		a = asked{from: s.From, to: s.To, renditions: s.Renditions, recording: text}
	} else if q.channel == nil {
		q.fail(http.StatusNotFound, "There is no such channel.")
		return a, false
	}
	now := q.s.now()
	c := q.channel
	read := func(name string) (time.Time, bool) {
		text := v.Get(name)
		if text == "" {
			return time.Time{}, name != "from" || a.recording != ""
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
		q.fail(http.StatusBadRequest, "Found a time to end that does not lie behind the time to begin.")
		return a, false
	}
	a.ended = !a.to.IsZero() && a.to.Before(now)
	if c != nil && a.recording == "" {
		if depth := time.Duration(c.Settings().TimeShiftMinutes) * time.Minute; depth == 0 {
			q.fail(http.StatusNotFound, "The channel has no time-shift. Set how far back viewers may go in what it keeps.")
			return a, false
		} else if oldest := now.Add(-depth); a.from.Before(oldest) {
			a.from = oldest.Truncate(time.Minute).Add(time.Minute)
		}
	}
	return a, true
}

// picture is the stretch that is asked for, nil when the request was answered.
func (p *Past) picture(q *request, a *asked) *present.Past {
	if longest := a.from.Add(p.longest(q)); a.to.After(longest) || a.to.IsZero() && longest.Before(q.s.now()) {
		a.to, a.ended = longest, true // a playlist of more is none that a player reads
	}
	span, err := p.Store.Span(q.r.Context(), q.slug, a.from, a.to)
	switch {
	case errors.Is(err, store.ErrNothing):
		q.fail(http.StatusNotFound, "Nothing of that time is kept.")
		return nil
	case errors.Is(err, store.ErrTooLong):
		q.fail(http.StatusRequestEntityTooLarge, "The stretch is too long to be listed at once. Ask for a shorter one, with to=.")
		return nil
	case err != nil:
		q.w.Header().Set("Retry-After", "2")
		q.fail(http.StatusServiceUnavailable, "What is kept cannot be read now: "+err.Error()+".")
		return nil
	}
	out := &present.Past{Slug: q.slug, Epoch: span.Epoch, Now: q.s.now(), Ended: a.ended, Query: a.query(), Step: settings.DefaultSegmentMillis * (media.VideoTimescale / 1000)}
	if a.cut {
		out.From = a.from
	}
	if a.recording != "" {
		out.Suffix = "?recording=" + url.QueryEscape(a.recording)
	}
	if c := q.channel; c != nil {
		set := c.Settings()
		out.Step, out.Language, out.SoundName = media.Rescale(set.SegmentMillis, 1000, media.VideoTimescale), set.Language, set.SoundName
		out.Ranges, out.Markers = c.Ranges(a.from, a.to), c.Noted()
	}
	for i := range span.Strips {
		s := &span.Strips[i]
		if s.Rendition == publish.Stills {
			out.Tiles = len(s.List) > 0
			continue
		}
		if len(a.renditions) > 0 && !slices.Contains(a.renditions, s.Rendition) {
			continue
		}
		out.Strips = append(out.Strips, present.PastStrip{Name: s.Rendition, Sound: s.Sound, List: s.List, Gapped: s.Gaps > 0, Goes: !a.ended && goes(q.channel, s.Rendition), Ordinal: s.Ordinal, Breaks: s.Breaks, Longest: s.Longest,
			Impaired: strings.HasPrefix(s.Rendition, "text-cc") || strings.HasPrefix(s.Rendition, "text-service")})
	}
	if len(out.Strips) == 0 {
		q.fail(http.StatusNotFound, "Nothing of that time is kept.")
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
	for i := range p.Strips {
		s := &p.Strips[i]
		fmt.Fprintf(&b, "%d+%d;", s.Ordinal, len(s.List))
	}
	return b.String()
}

// master answers with the playlist of all renditions, or the manifest.
func (p *Past) master(q *request) {
	if q.file != "index.m3u8" && q.file != "index.mpd" {
		q.fail(http.StatusNotFound, "What lies back has the addresses index.m3u8 and index.mpd.")
		return
	}
	a, ok := p.ask(q)
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
	past := p.picture(q, &a)
	if past == nil {
		return
	}
	kind, make := typePlaylist, func() []byte { return past.Multivariant(hls.CMAF) }
	if q.file == "index.mpd" {
		kind, make = typeManifest, past.Manifest
		p.here(q, "dash")
	}
	p.send(q, &a, past, kind, make)
}

// playlist answers with the media playlist of a rendition.
func (p *Past) playlist(q *request, w hls.Wrapping) {
	if w != hls.CMAF && w != hls.Keys {
		q.fail(http.StatusNotFound, "What lies back is offered in CMAF alone: take index.m3u8.")
		return
	}
	a, ok := p.ask(q)
	if !ok {
		return
	}
	past := p.picture(q, &a)
	if past == nil {
		return
	}
	p.here(q, "hls")
	skip := readDirectives(q.r.URL.RawQuery).skip
	if past.IsText(q.rendition) {
		w = hls.VTT
	}
	p.send(q, &a, past, typePlaylist, func() []byte { return past.Playlist(q.rendition, w, skip) })
}

// send answers with a document, made once for all who ask for the same.
func (p *Past) send(q *request, a *asked, past *present.Past, kind string, make func() []byte) {
	key := q.slug + "/" + q.rendition + "/" + q.file + a.query() + " " + q.r.URL.Query().Get("_HLS_skip")
	d := p.documents.get(key, state(past), func() []byte { return p.limited(q, make) })
	if d == nil && q.crowded {
		q.fail(http.StatusServiceUnavailable, "Too much is being made for others. Try again in a moment.")
		return
	}
	if d == nil {
		q.fail(http.StatusNotFound, "Nothing of that time is kept of this rendition.")
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
func (p *Past) still(q *request) {
	text := q.r.URL.Query().Get("time")
	at, _, err := origin.ParseTime(text, q.s.now(), q.s.o.Channel(q.slug))
	if err != nil {
		q.fail(http.StatusBadRequest, fmt.Sprintf("Found time=%q: %v.", clipped(text), err))
		return
	}
	if !p.public(q, at) {
		q.fail(http.StatusNotFound, "No picture of that time is kept.")
		return
	}
	strip, err := p.Store.Strip(q.r.Context(), q.slug, publish.Stills, at.Add(-stillReach), at.Add(time.Second))
	if err != nil || len(strip.List) == 0 {
		q.fail(http.StatusNotFound, "No picture of that time is kept.")
		return
	}
	s := strip.List[len(strip.List)-1]
	q.send("image/jpeg", "public, max-age=3600", s.ETag, s.Arrived, s.Blob)
}

// here counts the viewer, of a channel that there still is.
func (p *Past) here(q *request, protocol string) {
	if q.channel != nil {
		q.here(protocol, true)
	}
}

// Bounds of what is done for time-shift viewers.
const (
	// maxListed is how many segments a playlist of what is kept lists.
	//limit:segments of a playlist of what is kept | each request | the list is clipped
	maxListed = 100_000
	// So many wait for their turn, of all networks and of one.
	//limit:requests that wait for their turn to read what is kept | all | 503
	maxTurns = 256
	//limit:requests that wait for that | each network | 503
	maxTurnsEach = 32
)

// longest is how long a stretch may be listed.
func (p *Past) longest(q *request) time.Duration {
	step := int64(settings.DefaultSegmentMillis)
	if c := q.channel; c != nil {
		step = c.Settings().SegmentMillis
	}
	return maxListed * time.Duration(step) * time.Millisecond
}

func (p *Past) prepare() {
	p.once.Do(func() {
		p.making = make(chan struct{}, max(runtime.GOMAXPROCS(0)/2, 1))
		p.waiting.Total, p.waiting.EachNetwork = maxTurns, maxTurnsEach
		p.exports.Total, p.exports.EachNetwork = maxExports, maxExportsEach
	})
}

// errCrowded says that too many wait for their turn.
var errCrowded = errors.New("too much is being made for others")

// Turn waits until there is room on the processor for what is made of what is kept, or until the context ends: half of
// it at most, so that live viewers do not wait. done makes room again.
func (p *Past) Turn(ctx context.Context, remote string) (done func(), err error) {
	p.prepare()
	release, ok := p.waiting.Take(remote)
	if !ok {
		return nil, errCrowded
	}
	defer release()
	select {
	case p.making <- struct{}{}:
		return func() { <-p.making }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// limited makes something in its turn, nil when that does not come.
func (p *Past) limited(q *request, do func() []byte) []byte {
	done, err := p.Turn(q.r.Context(), q.r.RemoteAddr)
	if err != nil {
		q.crowded = true
		return nil
	}
	defer done()
	return do()
}

// reads reports whether who asks may read anything that is kept: headers are of no time.
func (p *Past) reads(q *request) bool {
	if name := q.r.URL.Query().Get("recording"); name != "" {
		return p.recordingOf(q.slug, name) != nil
	}
	c := q.s.o.Channel(q.slug)
	return c != nil && c.Settings().TimeShiftMinutes > 0
}

// file answers with a header or segment that was kept, and reports whether there is one.
func (p *Past) file(q *request) bool {
	if p == nil {
		return false
	}
	if strings.HasPrefix(q.file, headerPrefix) {
		h := p.Store.Header(q.slug, q.rendition, q.file)
		if h == nil || !p.reads(q) {
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
	seg := p.Store.Find(q.slug, q.rendition, name[:cut], msn)
	if seg == nil || !p.public(q, seg.Arrived) {
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

// documents are those of stretches, made of late, bounded in number and bytes. What nobody has asked for for a while goes.
type documents struct {
	mu    sync.Mutex
	byKey map[string]*document
	bytes int
	swept time.Time
}

type document struct {
	state string
	doc   *present.Doc
	size  int
	used  time.Time
}

// documentLife is for how long a document is held that nobody asks for.
const documentLife = 10 * time.Minute

const (
	//limit:playlists of what is kept that are held | all | all are made anew
	maxDocuments = 512
	//limit:bytes of them | all | all are made anew
	maxDocumentBytes = 48 << 20
)

// get returns a document that was made of a state, made when it is new; nil when there is nothing.
func (d *documents) get(key, state string, make func() []byte) *present.Doc {
	now := time.Now()
	d.mu.Lock()
	if e, ok := d.byKey[key]; ok && e.state == state {
		e.used = now
		d.mu.Unlock()
		return e.doc
	}
	d.mu.Unlock()
	b := make()
	if b == nil {
		return nil
	}
	e := &document{state: state, doc: present.NewDoc(func() []byte { return b }), size: 2*len(b) + len(key), used: now}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.sweep(now)
	if d.byKey == nil || len(d.byKey) >= maxDocuments || d.bytes+e.size > maxDocumentBytes {
		d.byKey, d.bytes = map[string]*document{}, 0
	}
	if before := d.byKey[key]; before != nil {
		d.bytes -= before.size
	}
	d.bytes += e.size
	d.byKey[key] = e
	return e.doc
}

// sweep drops what nobody has asked for for a while. It needs the lock.
func (d *documents) sweep(now time.Time) {
	if now.Sub(d.swept) < documentLife/2 {
		return
	}
	d.swept = now
	for key, e := range d.byKey {
		if now.Sub(e.used) > documentLife {
			d.bytes -= e.size
			delete(d.byKey, key)
		}
	}
}
