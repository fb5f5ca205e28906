package origin

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/worker"
)

const (
	// lease is how many numbers are reserved ahead, so that the keeper is asked once in a while.
	lease = 32
	// startBelow is the bitrate that a player is assumed to manage before it has measured.
	startBelow = 2_500_000
	// startWith is how many segments the renditions have when the channel first shows itself: a
	// player must begin three target durations before the end (RFC 8216, 6.3.3), and one that
	// begins later stalls until it has fallen back that far.
	startWith = 3
	// allowance is how long the multivariant playlist waits for renditions that are late.
	allowance = 12 * time.Second
)

// Picture is a small JPEG of what is on air.
type Picture struct {
	JPEG []byte
	At   time.Time
}

// Channel is one running channel.
type Channel struct {
	o       *Origin
	slug    string
	epoch   time.Time // wall clock at media time 0
	created time.Time

	renditions atomic.Pointer[map[string]*Rendition] // replaced whole
	documents  atomic.Pointer[map[string]*Doc]       // by file name
	sounds     atomic.Pointer[map[string]string]     // the audio rendition of each rung
	names      atomic.Pointer[map[string]bool]       // the files that the settings promise
	picture    atomic.Pointer[Picture]
	camera     atomic.Pointer[media.SendClock]
	life       atomic.Int64 // segment length, milliseconds

	mu          sync.Mutex
	settings    Settings
	position    Position
	reserved    uint64   // numbers below are safe after a crash
	breaks      []uint64 // numbers of the segments that carry a discontinuity, since this process began
	base        uint64   // discontinuities before this process began
	session     *session
	feed        *Feed
	closed      bool
	firstMedia  time.Time // when the session's first segment came out
	onAir       []ladder.Rung
	lastEnd     int64 // media time where the last session ended, milliseconds
	markers     []Marker
	playing     NowPlaying
	cover       string // media type of its picture
	markerCount int
	shown       []offer
	periods     []period
	counted     []period // of the manifest that counts segments
	scanned     uint64   // segments below are in periods
	captions    []string // the caption services that the video carries
	titled      bool     // timed metadata was set
	partTarget  int64    // of all renditions, ticks of media.VideoTimescale

	in   meter
	load load
}

func newChannel(o *Origin, s Settings, created time.Time, at Position) *Channel {
	c := &Channel{o: o, slug: s.Slug, epoch: created, created: created, settings: s, position: at, reserved: at.NextMSN, base: at.Discontinuities}
	c.renditions.Store(&map[string]*Rendition{})
	c.life.Store(s.SegmentMillis)
	names := s.names()
	c.names.Store(&names)
	return c
}

// Slug returns the channel's name in addresses.
func (c *Channel) Slug() string { return c.slug }

// Settings returns the settings in force.
func (c *Channel) Settings() Settings {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settings
}

// Rendition returns a rendition that has or had segments, or nil.
func (c *Channel) Rendition(name string) *Rendition { return (*c.renditions.Load())[name] }

// Camera returns when a stand-in camera sends its pictures, nil for other senders.
func (c *Channel) Camera() *media.SendClock { return c.camera.Load() }

// Picture returns the newest preview, or nil.
func (c *Channel) Picture() *Picture { return c.picture.Load() }

// Position returns where the numbering stands.
func (c *Channel) Position() Position {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.positionNow()
}

func (c *Channel) positionNow() Position {
	p := Position{NextMSN: c.position.NextMSN, Discontinuities: c.base + uint64(len(c.breaks))}
	if c.session != nil {
		p.NextMSN = max(p.NextMSN, c.session.clock.Next())
	}
	return p
}

// Apply changes the settings at the next segment boundary. Invalid ones change nothing.
func (c *Channel) Apply(s Settings) error {
	s.Slug = c.slug
	s = s.WithDefaults()
	if p := s.Check(); len(p) > 0 {
		return &InvalidError{p}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	ladderChanged := s.Ladder.Planned != c.settings.Ladder.Planned || !slices.Equal(s.Ladder.Rungs, c.settings.Ladder.Rungs)
	stepChanged := s.SegmentMillis != c.settings.SegmentMillis || s.PartMillis != c.settings.PartMillis
	closes := s.Closed && !c.settings.Closed
	c.settings = s
	names := s.names()
	c.names.Store(&names)
	c.life.Store(s.SegmentMillis)
	for _, r := range *c.renditions.Load() {
		r.window.Resize(s.Window)
	}
	if c.session != nil && (ladderChanged || stepChanged) {
		c.session.applyLadder(c.ladderFor(c.session.video))
	}
	c.listVariants()
	switch f := c.feed; {
	case !closes:
	case f == nil:
		c.rest()
	default:
		go func() { // it takes this lock
			f.end("the channel was closed")
			f.kick("the channel was closed")
		}()
	}
	return nil
}

// ladderFor returns the rungs to make for a source.
func (c *Channel) ladderFor(video *media.Track) []ladder.Rung {
	rungs := c.settings.Ladder.Rungs
	if c.settings.Ladder.Planned {
		rungs = ladder.Plan(video)
	}
	c.onAir = rungs
	return rungs
}

// rendition returns the rendition of a name, made when it is new.
func (c *Channel) rendition(name string) *Rendition {
	old := *c.renditions.Load()
	if r := old[name]; r != nil && r.standIn == nil {
		r.until = 0
		return r
	}
	r := &Rendition{Name: name}
	r.window = c.newWindow()
	if back := old[name]; back != nil {
		// A rung that was off is on again: until its first segment is out, the stand-in goes on.
		r.view.Store(back.view.Load())
	}
	next := make(map[string]*Rendition, len(old)+1)
	maps.Copy(next, old)
	next[name] = r
	c.renditions.Store(&next)
	return r
}

func (c *Channel) newWindow() *segment.Window {
	return segment.NewWindow(c.settings.Window, func(s *segment.Segment) uint64 { return c.discontinuitiesBefore(s.MSN) })
}

// retire turns a rendition off and lets the nearest one that goes on stand in for it, and for
// those that it stood in for.
func (c *Channel) retire(r *Rendition, on func(name string) bool) {
	rends := *c.renditions.Load()
	track := func(r *Rendition) (media.Track, bool) {
		v := r.View()
		if v == nil || len(v.Snapshot.All) == 0 {
			return media.Track{}, false
		}
		return v.Snapshot.All[len(v.Snapshot.All)-1].Header.Track, true
	}
	mine, known := track(r)
	var best *Rendition
	distance := 0
	for name, other := range rends {
		t, ok := track(other)
		if !known || !ok || other == r || !on(name) || t.Kind != mine.Kind {
			continue
		}
		d := t.Width*t.Height - mine.Width*mine.Height
		if d = max(d*4, -d); best == nil || d < distance { // rather a smaller one
			best, distance = other, d
		}
	}
	for _, other := range rends {
		if other.standIn == r {
			other.standIn = best
		}
	}
	r.retire(best)
	if best != nil {
		r.window = c.newWindow() // what is still needed of the old one is in the view
		r.follow(c)
	}
}

func (c *Channel) discontinuitiesBefore(msn uint64) uint64 {
	n := c.base
	for _, b := range c.breaks {
		if b < msn {
			n++
		}
	}
	return n
}

// sessionBegun is called with the first unit of a session. Renditions of earlier sessions that it
// does not make are stood in for, so that nothing is held for good and their viewers go on.
func (c *Channel) sessionBegun(s *session) {
	c.firstMedia = time.Time{}
	on := func(name string) bool { return s.outputs[name] != nil }
	for name, r := range *c.renditions.Load() {
		if v := r.View(); !on(name) && v != nil && !v.Retired {
			r.until = s.clock.Next()
			c.retire(r, on)
		}
	}
}

// boundary books a boundary: the discontinuity that it carries, and numbers reserved ahead.
func (c *Channel) boundary(b segment.Boundary) {
	if b.Discontinuity {
		c.breaks = append(c.breaks, b.MSN)
	}
	if b.MSN+lease/2 >= c.reserved || b.Discontinuity {
		// Short, rare, and in front of the numbers' use: the one write that media waits for.
		p := Position{NextMSN: b.MSN + lease, Discontinuities: c.base + uint64(len(c.breaks))}
		if err := c.o.Keeper.Reserve(c.slug, p); err != nil {
			c.event(Warning, "records-unreachable", "The channel's numbering could not be stored: "+err.Error(), "Look at the database; the channel goes on, but after a crash its numbers may repeat.")
		}
		c.reserved = p.NextMSN
	}
}

func (c *Channel) publish(r *Rendition, s *segment.Segment) {
	if !r.publish(s, c) {
		return
	}
	if c.firstMedia.IsZero() {
		c.firstMedia = c.o.Now()
	}
	for _, other := range *c.renditions.Load() {
		if other.standIn == r {
			other.follow(c)
		}
	}
	if !s.Open {
		c.listVariants()
	}
}

// rest says in the playlists that no part is to be expected now, or never more.
func (c *Channel) rest() {
	if c.session != nil && !c.session.ended {
		return
	}
	for _, r := range *c.renditions.Load() {
		if r.standIn == nil {
			r.render(c, true)
		}
	}
	for _, list := range [][]period{c.periods, c.counted} {
		n := len(list)
		if n == 0 || list[n-1].end > 0 {
			continue
		}
		for _, o := range c.shown {
			for _, v := range []*View{o.video, o.sound} {
				if v == nil {
					continue
				}
				if w := v.Snapshot.Whole(); len(w) > 0 {
					list[n-1].end = max(list[n-1].end, w[len(w)-1].Start+w[len(w)-1].Duration)
				}
			}
		}
	}
	c.describe()
}

// reports tells of the newest parts of all other renditions.
func (c *Channel) reports(r *Rendition) []hls.Report {
	var out []hls.Report
	for name, other := range *c.renditions.Load() {
		v := other.View()
		if other == r || v == nil || v.Retired {
			continue
		}
		msn, part := v.Newest()
		if s, _ := v.Snapshot.Find(msn); part < 0 && s != nil {
			part = len(s.Parts) - 1 // told whenever a rendition has parts (draft, 4.4.5.4)
		}
		out = append(out, hls.Report{URI: "../" + name + "/index.m3u8", MSN: msn, Part: part})
	}
	slices.SortFunc(out, func(a, b hls.Report) int { return strings.Compare(a.URI, b.URI) })
	return out
}

// viewOf returns a rendition's view and track once it has segments and is not retired.
func (c *Channel) viewOf(rends map[string]*Rendition, name string) (*View, media.Track) {
	r := rends[name]
	if r == nil {
		return nil, media.Track{}
	}
	v := r.View()
	if v == nil || v.Retired || len(v.Snapshot.All) == 0 || c.documents.Load() == nil && len(v.Snapshot.Whole()) < startWith {
		return nil, media.Track{}
	}
	return v, v.Snapshot.All[len(v.Snapshot.All)-1].Header.Track
}

// event hands an event to the keeper, without waiting for it.
func (c *Channel) event(level Level, kind, text, do string) {
	c.o.event(Event{At: c.o.Now(), Channel: c.slug, Level: level, Kind: kind, Text: text, Do: do})
}

// startSession begins a run for the tracks of a feed, whose first unit came at a time.
func (c *Channel) startSession(video, audio *media.Track, first time.Time) *session {
	c.position = c.positionNow()
	if first.IsZero() {
		first = c.o.Now()
	}
	wanted := c.created
	if c.settings.Aligned {
		wanted = time.Unix(0, 0).UTC() // the same on every origin
	}
	if !wanted.Equal(c.epoch) {
		// What is in the windows is told by another clock: they begin anew.
		c.epoch, c.lastEnd, c.periods, c.counted, c.shown = wanted, 0, nil, nil, nil
		gone := *c.renditions.Load()
		c.renditions.Store(&map[string]*Rendition{})
		c.documents.Store(nil)
		for _, r := range gone {
			r.over()
		}
	}
	start := max(first.UnixMilli()-c.epoch.UnixMilli(), c.lastEnd+1)
	// A window that players hold begins again with the new session's encodings.
	s := newSession(c, video, audio, start)
	s.unaligned = c.settings.Aligned
	c.captions = nil // until this feed shows some
	c.session = s
	return s
}

// endSession ends the current run, if there is one.
func (c *Channel) endSession() {
	if s := c.session; s != nil {
		c.position = c.positionNow()
		c.lastEnd = max(c.lastEnd, s.feed.Last())
		s.end()
		c.session = nil
	}
}

func (c *Channel) workerStats(st worker.Stats) { c.load.take(st, c.o.Now()) }

// close ends the channel for good.
func (c *Channel) close(reason string) {
	c.mu.Lock()
	c.closed = true
	f, s := c.feed, c.session
	c.mu.Unlock()
	if f != nil {
		f.end(reason)
		f.kick(reason)
	}
	if s != nil {
		c.mu.Lock()
		sup := s.sup
		c.mu.Unlock()
		if sup != nil {
			s.dismiss(sup)
		}
	}
	c.mu.Lock()
	for _, r := range *c.renditions.Load() {
		r.over()
	}
	c.mu.Unlock()
	if err := c.o.Keeper.Settle(c.slug, c.Position()); err != nil {
		c.o.Logger.Error("the channel's numbering could not be stored", "channel", c.slug, "error", err)
	}
}

// Life is the nominal time between two changes of a media playlist: one segment.
func (c *Channel) Life() time.Duration {
	return time.Duration(c.life.Load()) * time.Millisecond
}

// Created is when the channel was made.
func (c *Channel) Created() time.Time { return c.created }
