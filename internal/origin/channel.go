package origin

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/events"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
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

// shared is what every part of a channel knows: its name, the clock, and where events go.
type shared struct {
	slug string
	now  func() time.Time
	// monotonic is how long the origin has run at a time that now returned, whatever the wall clock was set to since.
	monotonic func(time.Time) time.Duration
	images    *Images
	picture   *atomic.Pointer[Picture]
	archive   Archive                                         // keeps what was on air; nil: nobody
	layout    *changes                                        // of the tracks that are put out
	event     func(level events.Level, kind, text, do string) // does not wait
}

// Channel is one running channel. Its lock covers the way of the media: the feed on air, its session, and the
// publisher, each of which writes only what is its own. What is read beside the media has locks of its own
// or is replaced whole.
type Channel struct {
	shared
	o       *Origin
	created time.Time
	begun   time.Duration // when the channel was started, on the monotonic clock
	hub     *hub.Hub      // the newest access units of the source and of all renditions
	notes   *annotations
	load    load
	extras  atomic.Pointer[map[string]string] // what the sender says of itself, for pages that know what it means
	life    atomic.Int64                      // segment length, milliseconds
	watched atomic.Int64                      // when somebody asked for media last, on the monotonic clock; 0: never

	mu       sync.Mutex
	settings settings.Settings
	air      onAir
	session  *session
	out      *publisher
	texts    *texts
	numbers  *numbering
	tracks   trackIDs
	pair     pair
	closed   bool
	rungs    []ladder.Rung // of the ladder, without what the governor changes
	governor govern.Governor
	setBack  time.Duration // by how much the epoch lies before the channel's beginning, since the wall clock was set back
	lastEnd  int64         // media time behind the last session, ticks of media.VideoTimescale
	distance int64         // of the source's keyframes in the run before, ticks of media.VideoTimescale
	cut      int64         // segments and units that were given up at the channel's bound
	squeezed time.Time     // when that happened last
	badCue   time.Time     // when a cue message came last that could not be read
	in       meter
	// How the last feed was, for a slate to be like it.
	lastVideo, lastAudio media.Track
}

func newChannel(o *Origin, s settings.Settings, created time.Time, at Position) *Channel {
	c := &Channel{o: o, created: created, settings: s, hub: hub.New(hubBytes, hubSpan(&s)), notes: &annotations{},
		tracks: trackIDs{}, air: onAir{problems: map[settings.Input]string{}, left: map[settings.Input]time.Time{}}}
	c.shared = shared{slug: s.Slug, now: o.Now, monotonic: o.Monotonic, images: &o.Images, picture: &atomic.Pointer[Picture]{}, archive: o.Archive, layout: &changes{}, event: func(level events.Level, kind, text, do string) {
		o.event(events.Event{At: o.Now(), Channel: s.Slug, Level: level, Kind: kind, Text: text, Do: do})
	}}
	c.begun = o.Monotonic(o.Now())
	c.numbers = newNumbering(s.Slug, o.Keeper, at)
	c.numbers.reincarnate(s.Aligned)
	c.notes.setCover(s.CoverEvery)
	c.out = newPublisher(c.shared, c.numbers, c.notes, s, created)
	c.texts = &texts{out: c.out}
	c.life.Store(s.SegmentMillis)
	return c
}

// Slug returns the channel's name in addresses.
func (c *Channel) Slug() string { return c.slug }

// Settings returns the settings in force.
func (c *Channel) Settings() settings.Settings {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settings
}

// Rendition returns a rendition that has or had segments, or nil.
func (c *Channel) Rendition(name string) *Rendition { return (*c.out.renditions.Load())[name] }

// Views returns the renditions that have or had segments, by their names.
func (c *Channel) Views() map[string]*present.View {
	out := map[string]*present.View{}
	for name, r := range *c.out.renditions.Load() {
		if v := r.View(); v != nil {
			out[name] = v
		}
	}
	return out
}

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
	next := uint64(0)
	if c.session != nil {
		next = c.session.clock.Next()
	}
	return c.numbers.now(next)
}

// Apply changes the settings at the next segment boundary. Invalid ones change nothing.
func (c *Channel) Apply(s settings.Settings) error {
	s.Slug = c.slug
	s = s.WithDefaults()
	if p := s.Check(); len(p) > 0 {
		return &settings.InvalidError{Problems: p}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.air.chosen != (settings.Input{}) && s.Rank(c.air.chosen) < 0 {
		c.air.chosen = settings.Input{}
	}
	if s.Ladder.Governor == ladder.Ungoverned {
		c.governor.Reset()
	}
	ladderChanged := s.Ladder.Governor != c.settings.Ladder.Governor || s.Ladder.Planned != c.settings.Ladder.Planned || !slices.Equal(s.Ladder.Rungs, c.settings.Ladder.Rungs)
	stepChanged := s.SegmentMillis != c.settings.SegmentMillis || s.PartMillis != c.settings.PartMillis
	closes := s.Closed && !c.settings.Closed
	c.settings = s
	c.life.Store(s.SegmentMillis)
	c.hub.Limit(hubBytes, hubSpan(&s))
	c.notes.setCover(s.CoverEvery)
	c.out.apply(s)
	if c.session != nil {
		c.session.settings = s
		if ladderChanged || stepChanged {
			c.session.applyLadder(c.ladderFor(c.session))
		}
	}
	c.out.listVariants()
	for _, f := range slices.Clone(c.air.standby) {
		if closes || s.Rank(f.input) < 0 {
			f.sendAway("its input was removed or closed")
		}
	}
	switch f := c.air.feed; {
	case f != nil && closes:
		f.sendAway("the channel was closed")
	case f != nil && s.Rank(f.input) < 0:
		f.sendAway("its input was removed")
	case f != nil:
		c.promote(true) // the order may be another one
	case closes:
		c.out.rest()
	}
	return nil
}

// ladderFor returns the rungs to make for the source of a session.
func (c *Channel) ladderFor(s *session) []ladder.Rung {
	video, rungs := s.video, c.settings.Ladder.Rungs
	if c.settings.Ladder.Planned {
		rungs = ladder.ReadyMade(ladder.Default(video, s.main()), s.sizes())
	} else if c.settings.Ladder.Plan != nil {
		rungs = ladder.Fit(rungs, video)
	}
	rungs = ladder.Packaged(rungs, video)
	if !slices.Equal(rungs, c.rungs) {
		c.governor.Reset()
	}
	c.rungs = rungs
	return c.governor.Apply(rungs)
}

// firstRendition is the first track of a channel that is a rendition: tracks of feeds have lower ids.
const firstRendition media.TrackID = 1 << 20

// trackIDs are the tracks in the channel's hub of what the worker makes, by rendition. They stay the same.
type trackIDs map[string]media.TrackID

// of returns the track of a rendition.
func (t trackIDs) of(name string) media.TrackID {
	id, known := t[name]
	if !known {
		id = firstRendition + media.TrackID(len(t))
		t[name] = id
	}
	return id
}

// name returns the rendition of a track, "" when there is none.
func (t trackIDs) name(id media.TrackID) string {
	for name, of := range t {
		if of == id {
			return name
		}
	}
	return ""
}

// startSession begins a run for the tracks of a feed, whose first unit came at a time. longest is the
// longest that a picture lasted so far, in ticks of media.VideoTimescale, 0 when none was seen.
func (c *Channel) startSession(video *media.Track, sizes, sounds []*media.Track, first time.Time, longest int64) *session {
	c.numbers.position = c.positionNow()
	if first.IsZero() {
		first = c.now()
	}
	wanted := c.created.Add(-c.setBack)
	if c.settings.Aligned {
		wanted = time.Unix(0, 0).UTC() // the same on every origin
	}
	if !wanted.Equal(c.out.epoch) {
		c.lastEnd = 0
		c.numbers.reincarnate(c.settings.Aligned)
		c.out.startAnew(wanted)
		c.texts.reset()
	}
	due := ticksOf(first.Sub(wanted))
	// Dates in playlists hold milliseconds: media times that begin on one are told exactly.
	const milli = media.VideoTimescale / 1000
	start := (max(due, c.lastEnd) + milli - 1) / milli * milli
	// A window that players hold begins again with the new session's encodings.
	if video != nil {
		c.lastVideo = *video
	}
	if len(sounds) > 0 {
		c.lastAudio = *sounds[0]
	}
	s := c.newSession(video, sizes, sounds, first, start, longest)
	s.clock.SetDistance(c.distance)
	s.lead = ticks(start - due)
	s.feed.Lead(s.lead)
	if gone := c.air.last.Ended; !gone.IsZero() && first.Sub(gone) > time.Duration(c.out.target)*time.Second*time.Duration(segment.Retained(c.settings.Window)) {
		c.out.forgetTarget()
	}
	c.out.begin(s.clock)
	c.texts.begin(start)
	c.session = s
	c.layout.tell()
	return s
}

// endSession ends the current run, if there is one.
func (c *Channel) endSession() {
	s := c.session
	if s == nil {
		return
	}
	c.numbers.position = c.positionNow()
	c.lastEnd = max(c.lastEnd, s.end, s.feed.Last()+1)
	c.distance = s.clock.Distance()
	c.session = nil
	c.layout.tell()
	c.out.end()
	sup := s.close()
	c.texts.settle(c.lastEnd)
	if sup != nil {
		time.AfterFunc(drainWait, func() { c.dismiss(s, sup) })
		return
	}
	c.out.rest()
}

// dismiss publishes the last of what a worker made for a session, and ends it. It takes the channel's lock.
func (c *Channel) dismiss(s *session, sup *worker.Supervisor) {
	c.mu.Lock()
	if s.sup != sup {
		c.mu.Unlock()
		return
	}
	s.flush()
	c.out.rest()
	c.mu.Unlock()
	sup.Close()
}

// close ends the channel for good.
func (c *Channel) close(reason string) {
	c.mu.Lock()
	c.closed = true
	c.layout.tell()
	s := c.session
	for _, f := range append(slices.Clone(c.air.standby), c.air.feed) {
		if f != nil {
			f.sendAway(reason)
		}
	}
	var sup *worker.Supervisor
	if s != nil {
		sup = s.sup
	}
	c.mu.Unlock()
	if sup != nil {
		c.dismiss(s, sup)
	}
	c.mu.Lock()
	c.out.over()
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
	if c.air.last.Ended.IsZero() {
		c.air.last = f
	}
}

// Playable reports whether there is something to play, of now or of before.
func (c *Channel) Playable() bool { return c.out.documents.Load() != nil }

// Offered names the rungs that viewers can choose now.
func (c *Channel) Offered() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []string
	for _, o := range c.out.shown {
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

// Lets reports whether somebody at an address and port may send to the channel.
func (c *Channel) Lets(remote string) bool {
	s := c.Settings()
	return s.Admits(remote)
}
