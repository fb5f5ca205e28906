package origin

import (
	"crypto/rand"
	"encoding/base32"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

const (
	// lease is how many numbers are reserved ahead: two hours of usual segments, so that a database
	// that is away for long does no harm. So many breaks are reserved too.
	lease      = 4096
	breakLease = 64
)

// LastFeed is how the newest feed of a channel ended.
type LastFeed struct {
	Remote string    `json:"remote"`
	Ended  time.Time `json:"ended"`
	Reason string    `json:"reason"`
}

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

	renditions atomic.Pointer[map[string]*Rendition]   // replaced whole
	documents  atomic.Pointer[map[string]*present.Doc] // by file name
	sounds     atomic.Pointer[map[string]string]       // the audio rendition of each rung
	names      atomic.Pointer[map[string]bool]         // the files that the settings promise
	picture    atomic.Pointer[Picture]
	extras     atomic.Pointer[map[string]string] // what the sender says of itself, for pages that know what it means
	life       atomic.Int64                      // segment length, milliseconds
	hub        *hub.Hub                          // the newest access units of the source and of all renditions

	mu          sync.Mutex
	settings    Settings
	position    Position
	reserved    Position                 // what is below is safe after a crash
	asked       Position                 // what the keeper was asked to store last
	incarnation string                   // of the addresses: bytes of another one never have the same
	breaks      []uint64                 // numbers of the segments that carry a discontinuity, since this process began
	base        uint64                   // discontinuities before this process began
	trackIDs    map[string]media.TrackID // of renditions, by their names
	session     *session
	feed        *Feed   // on air
	standby     []*Feed // senders that another feed took the place of
	chosen      Input   // by hand; the zero value while the inputs' order decides
	holding     bool    // a place on air is made for a feed that comes
	// what keeps file inputs from playing, by their files
	inputProblems map[string]string
	closed        bool
	firstMedia    time.Time // when the session's first segment came out
	onAir         []ladder.Rung
	lastEnd       int64 // media time behind the last session, ticks of media.VideoTimescale
	target        int64 // target duration of all playlists, seconds
	longest       int64 // that a segment lasted since then, ticks of media.VideoTimescale
	lastFeed      LastFeed
	markers       []Marker
	playing       NowPlaying
	cover         string // media type of its picture
	markerCount   int
	shown         []present.Offer
	alternates    []present.Alternate // tracks of sound beside the main one
	periods       present.Periods
	listed        bool     // playlists were shown, with a target duration that may not change any more
	distance      int64    // of the source's keyframes in the run before, ticks of media.VideoTimescale
	wholeShown    bool     // players of whole segments have had enough to begin with
	captions      []string // the caption services that the video carries
	titled        bool     // timed metadata was set
	partTarget    int64    // of all renditions, ticks of media.VideoTimescale

	cut      int64     // segments and units that were given up at the channel's bound
	squeezed time.Time // when that happened last
	badCue   time.Time // when a cue message came last that could not be read

	in   meter
	load load
}

func newChannel(o *Origin, s Settings, created time.Time, at Position) *Channel {
	c := &Channel{o: o, slug: s.Slug, epoch: created, created: created, settings: s, position: at, reserved: at, asked: at,
		base:          at.Discontinuities,
		inputProblems: map[string]string{}, trackIDs: map[string]media.TrackID{}, hub: hub.New(hubBytes, s.hubSpan())}
	c.reincarnate()
	c.renditions.Store(&map[string]*Rendition{})
	c.life.Store(s.SegmentMillis)
	names := s.names()
	c.names.Store(&names)
	c.reserve(at)
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

// Extras returns what the sender says of itself, for pages that know what it means; nil of most.
func (c *Channel) Extras() map[string]string {
	if m := c.extras.Load(); m != nil {
		return *m
	}
	return nil
}

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
	if c.chosen != (Input{}) && s.rank(c.chosen) < 0 {
		c.chosen = Input{}
	}
	ladderChanged := s.Ladder.Planned != c.settings.Ladder.Planned || !slices.Equal(s.Ladder.Rungs, c.settings.Ladder.Rungs)
	stepChanged := s.SegmentMillis != c.settings.SegmentMillis || s.PartMillis != c.settings.PartMillis
	closes := s.Closed && !c.settings.Closed
	c.settings = s
	names := s.names()
	c.names.Store(&names)
	c.life.Store(s.SegmentMillis)
	c.hub.Limit(hubBytes, s.hubSpan())
	for _, r := range *c.renditions.Load() {
		r.window.Resize(s.Window)
	}
	if c.session != nil && (ladderChanged || stepChanged) {
		c.session.applyLadder(c.ladderFor(c.session.video))
	}
	c.listVariants()
	for _, f := range slices.Clone(c.standby) {
		if closes || s.rank(f.input) < 0 {
			f.sendAway("its input was removed or closed")
		}
	}
	switch f := c.feed; {
	case f != nil && closes:
		f.sendAway("the channel was closed")
	case f != nil && s.rank(f.input) < 0:
		f.sendAway("its input was removed")
	case f != nil:
		c.promote() // the order may be another one
	case closes:
		c.rest()
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

// firstRendition is the first track of a channel that is a rendition: tracks of feeds have lower ids.
const firstRendition media.TrackID = 1 << 20

// trackOf returns the track in the channel's hub of what the worker makes for a rendition. It stays the same.
func (c *Channel) trackOf(name string) media.TrackID {
	id, known := c.trackIDs[name]
	if !known {
		id = firstRendition + media.TrackID(len(c.trackIDs))
		c.trackIDs[name] = id
	}
	return id
}

// nameOf returns the rendition of a track, "" when there is none.
func (c *Channel) nameOf(id media.TrackID) string {
	for name, of := range c.trackIDs {
		if of == id {
			return name
		}
	}
	return ""
}

func (c *Channel) newWindow() *segment.Window {
	return segment.NewWindow(c.settings.Window, runs{c})
}

// runs tells the windows about the channel's runs.
type runs struct{ c *Channel }

// Before implements segment.Runs.
func (r runs) Before(msn uint64) uint64 { return r.c.discontinuitiesBefore(msn) }

// Begins implements segment.Runs.
func (r runs) Begins(msn uint64) bool { return slices.Contains(r.c.breaks, msn) }

// retire turns a rendition off and lets the nearest one that goes on stand in for it, and for
// those that it stood in for.
func (c *Channel) retire(r *Rendition, on func(name string) bool) {
	rends := *c.renditions.Load()
	track := func(r *Rendition) (media.Track, bool) {
		if v := r.View(); v != nil {
			return v.Track()
		}
		return media.Track{}, false
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
	c.reserve(Position{NextMSN: b.MSN, Discontinuities: c.base + uint64(len(c.breaks))})
}

// reserve lets the keeper store numbers far ahead of those in use. Media does not wait for it: bytes
// are told apart by the incarnation in their addresses even should it never come to that.
func (c *Channel) reserve(used Position) {
	if used.NextMSN+lease/2 < c.asked.NextMSN && used.Discontinuities+breakLease/2 < c.asked.Discontinuities {
		return
	}
	p := Position{NextMSN: used.NextMSN + lease, Discontinuities: used.Discontinuities + breakLease}
	c.asked = p
	c.o.Keeper.Reserve(c.slug, p, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.reserved.NextMSN = max(c.reserved.NextMSN, p.NextMSN)
		c.reserved.Discontinuities = max(c.reserved.Discontinuities, p.Discontinuities)
	})
}

// reincarnate begins addresses that no bytes ever had. Aligned channels do without: there two origins
// have the same bytes under the same names, numbered by the wall clock.
func (c *Channel) reincarnate() {
	c.incarnation = ""
	if !c.settings.Aligned {
		var b [5]byte
		_, _ = rand.Read(b[:]) // never fails
		c.incarnation = strings.ToLower(base32.StdEncoding.EncodeToString(b[:])) + "-"
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
	if begins := s.Discontinuity && len(s.Parts) == 1; !s.Open || begins || !c.wholeShown {
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
	c.periods.Close(c.shown)
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
func (c *Channel) viewOf(rends map[string]*Rendition, name string) (*present.View, media.Track) {
	r := rends[name]
	if r == nil {
		return nil, media.Track{}
	}
	v := r.View()
	if v == nil || v.Retired || c.documents.Load() == nil && !v.Shows() {
		return nil, media.Track{}
	}
	t, known := v.Track()
	if !known {
		return nil, media.Track{}
	}
	return v, t
}

// event hands an event to the keeper, without waiting for it.
func (c *Channel) event(level Level, kind, text, do string) {
	c.o.event(Event{At: c.o.Now(), Channel: c.slug, Level: level, Kind: kind, Text: text, Do: do})
}

// startSession begins a run for the tracks of a feed, whose first unit came at a time. longest is the
// longest that a picture lasted so far, in ticks of media.VideoTimescale, 0 when none was seen.
func (c *Channel) startSession(video *media.Track, sounds []*media.Track, first time.Time, longest int64) *session {
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
		c.epoch, c.lastEnd, c.periods, c.shown, c.wholeShown, c.listed = wanted, 0, present.Periods{}, nil, false, false
		c.reincarnate()
		gone := *c.renditions.Load()
		c.renditions.Store(&map[string]*Rendition{})
		c.documents.Store(nil)
		for _, r := range gone {
			r.over()
		}
	}
	due := ticksOf(first.Sub(c.epoch))
	// Dates in playlists hold milliseconds: media times that begin on one are told exactly.
	const milli = media.VideoTimescale / 1000
	start := (max(due, c.lastEnd) + milli - 1) / milli * milli
	// A window that players hold begins again with the new session's encodings.
	s := newSession(c, video, sounds, first, start, longest)
	s.clock.SetDistance(c.distance)
	s.lead = ticks(start - due)
	s.feed.Lead(s.lead)
	if gone := c.lastFeed.Ended; !gone.IsZero() && first.Sub(gone) > time.Duration(c.target)*time.Second*time.Duration(segment.Retained(c.settings.Window)) {
		c.target, c.longest, c.listed = 0, 0, false // nobody holds a playlist of before
	}
	c.captions = nil // until this feed shows some
	c.session = s
	return s
}

// endSession ends the current run, if there is one.
func (c *Channel) endSession() {
	if s := c.session; s != nil {
		c.position = c.positionNow()
		c.lastEnd = max(c.lastEnd, s.end, s.feed.Last()+1)
		c.distance = s.clock.Distance()
		s.close()
		c.session = nil
	}
}

// close ends the channel for good.
func (c *Channel) close(reason string) {
	c.mu.Lock()
	c.closed = true
	s := c.session
	for _, f := range append(slices.Clone(c.standby), c.feed) {
		if f != nil {
			f.sendAway(reason)
		}
	}
	c.mu.Unlock()
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
	c.o.Keeper.Settle(c.slug, c.Position())
}

// Life is the nominal time between two changes of a media playlist: one segment.
func (c *Channel) Life() time.Duration {
	return time.Duration(c.life.Load()) * time.Millisecond
}

// SetLastFeed tells how the newest feed before this process ended.
func (c *Channel) SetLastFeed(f LastFeed) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lastFeed.Ended.IsZero() {
		c.lastFeed = f
	}
}

// Playable reports whether there is something to play, of now or of before.
func (c *Channel) Playable() bool { return c.documents.Load() != nil }

// Offered names the rungs that viewers can choose now.
func (c *Channel) Offered() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []string
	for _, o := range c.shown {
		name := o.Name
		if o.Video == nil {
			name = o.SoundName
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Created is when the channel was made.
func (c *Channel) Created() time.Time { return c.created }
