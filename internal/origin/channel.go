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
	"metaplasis/internal/origin/air"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/origin/tap"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
)

// Channel is one running channel. It assembles the parts, each of which knows nothing of the others, and holds the one lock under
// which they work: the switch, the feeds, the run that goes on, and the publisher. What is read beside the media has locks of its
// own or is replaced whole. It has more fields than a part may have, since it has all the parts.
//
//large:puts the parts of a channel together; all of its methods hold the one lock or ask a part
type Channel struct {
	o       *Origin
	slug    string
	created time.Time
	begun   time.Duration                     // when the channel was started, on the monotonic clock
	hub     *hub.Hub                          // the newest access units of the source and of all renditions
	changes *tap.Changes                      // of the tracks that can be read from the hub
	notes   *publish.Annotations              // markers, and what is playing
	picture atomic.Pointer[publish.Picture]   // the newest preview
	extras  atomic.Pointer[map[string]string] // what the sender says of itself, for pages that know what it means
	life    atomic.Int64                      // segment length, milliseconds
	watched atomic.Int64                      // when somebody asked for media last, on the monotonic clock; 0: never

	mu       sync.Mutex
	settings settings.Settings
	air      *air.Switch
	feeds    map[*air.Feed]*Feed
	session  *session // the run that goes on, nil for none
	out      *publish.Publisher
	texts    *publish.Texts
	numbers  *publish.Numbering
	ids      layout.TrackIDs
	demand   tap.Demand
	removed  bool
	rungs    []ladder.Rung // of the ladder, without what the governor changes
	governor govern.Governor
	past     past
	health   health
}

// past is what a run leaves to the one that follows.
type past struct {
	setBack  time.Duration // by how much the epoch lies before the channel's beginning, since the wall clock was set back
	end      int64         // media time behind the last run, ticks of media.VideoTimescale
	distance int64         // of the source's keyframes in it, ticks of media.VideoTimescale
	feed     status.LastFeed
	// How the last feed was, for a slate to be like it.
	video, audio media.Track
}

// health is what is measured of a channel.
type health struct {
	in       status.Meter
	load     status.Load
	cut      int64                     // segments and units that were given up at the channel's bound
	squeezed time.Time                 // when that happened last
	badCue   time.Time                 // when a cue message came last that could not be read
	inputs   map[settings.Input]string // what keeps inputs from playing
}

func newChannel(o *Origin, s settings.Settings, created time.Time, at publish.Position) *Channel {
	c := &Channel{o: o, slug: s.Slug, created: created, settings: s, hub: hub.New(hubBytes, hubSpan(&s)), changes: &tap.Changes{},
		notes: &publish.Annotations{}, ids: layout.TrackIDs{}, air: air.New(s.Inputs, s.Closed), feeds: map[*air.Feed]*Feed{}}
	c.health.inputs = map[settings.Input]string{}
	c.begun = o.Monotonic(o.Now())
	c.numbers = publish.NewNumbering(s.Slug, o.Keeper, at)
	c.numbers.Reincarnate(s.Aligned)
	c.notes.SetCover(s.CoverEvery)
	c.out = publish.New(publish.Options{Slug: c.slug, Now: o.Now, Archive: o.Archive, Picture: &c.picture}, c.numbers, c.notes, s, created)
	c.texts = publish.NewTexts(c.out)
	c.life.Store(s.SegmentMillis)
	return c
}

func (c *Channel) now() time.Time { return c.o.Now() }

// event writes to the event log. It does not wait.
func (c *Channel) event(level events.Level, kind, text, do string) {
	c.o.event(events.Event{At: c.now(), Channel: c.slug, Level: level, Kind: kind, Text: text, Do: do})
}

// Slug returns the channel's name in addresses.
func (c *Channel) Slug() string { return c.slug }

// Created is when the channel was made.
func (c *Channel) Created() time.Time { return c.created }

// Settings returns the settings in force.
func (c *Channel) Settings() settings.Settings {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settings
}

// Admits reports whether somebody at an address and port may send to the channel.
func (c *Channel) Admits(remote string) bool {
	s := c.Settings()
	return s.Admits(remote)
}

// Position returns where the numbering stands.
func (c *Channel) Position() publish.Position {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.positionNow()
}

func (c *Channel) positionNow() publish.Position {
	next := uint64(0)
	if c.session != nil {
		next = c.session.Clock().Next()
	}
	return c.numbers.Now(next)
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
	before := c.settings
	if s.Ladder.Governor == ladder.Ungoverned {
		c.governor.Reset()
	}
	c.settings = s
	c.life.Store(s.SegmentMillis)
	c.hub.Limit(hubBytes, hubSpan(&s))
	c.notes.SetCover(s.CoverEvery)
	c.out.Apply(s)
	if c.session != nil {
		c.session.Apply(s)
		ladderChanged := s.Ladder.Governor != before.Ladder.Governor || s.Ladder.Planned != before.Ladder.Planned || !slices.Equal(s.Ladder.Rungs, before.Ladder.Rungs)
		if ladderChanged || s.SegmentMillis != before.SegmentMillis || s.PartMillis != before.PartMillis {
			c.session.ApplyLadder(c.ladderFor(&c.session.Source))
			c.carryOut(c.session)
		}
	}
	c.out.List()
	onAir := c.air.On() != nil
	c.decide(c.air.Apply(s.Inputs, s.Closed, c.now()))
	if !onAir && s.Closed && !before.Closed {
		c.out.Idle()
	}
	return nil
}

// ladderFor returns the rungs to make for a source.
func (c *Channel) ladderFor(s *layout.Source) []ladder.Rung {
	rungs := c.settings.Ladder.Rungs
	if c.settings.Ladder.Planned {
		rungs = ladder.ReadyMade(ladder.Default(s.Video, s.Main()), s.LayerTracks())
	} else if c.settings.Ladder.Plan != nil {
		rungs = ladder.Fit(rungs, s.Video)
	}
	rungs = ladder.Packaged(rungs, s.Video)
	if !slices.Equal(rungs, c.rungs) {
		c.governor.Reset()
	}
	c.rungs = rungs
	return c.governor.Apply(rungs)
}

// close ends the channel for good.
func (c *Channel) close(reason string) {
	c.mu.Lock()
	c.removed = true
	c.changes.Tell()
	s := c.session
	c.decide(c.air.Remove(reason, c.now()))
	c.mu.Unlock()
	if s != nil {
		c.dismiss(s)
	}
	c.mu.Lock()
	c.out.Close()
	c.mu.Unlock()
	c.o.Keeper.Settle(c.slug, c.Position())
}

// Life is the nominal time between two changes of a media playlist: one segment.
func (c *Channel) Life() time.Duration {
	return time.Duration(c.life.Load()) * time.Millisecond
}

// SetLastFeed tells how the newest feed before this process ended.
func (c *Channel) SetLastFeed(f status.LastFeed) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.past.feed.Ended.IsZero() {
		c.past.feed = f
		c.air.SetLast(f.Ended)
	}
}

// Rendition returns a rendition that has or had segments, or nil.
func (c *Channel) Rendition(name string) *publish.Rendition { return c.out.Rendition(name) }

// Views returns the renditions that have or had segments, by their names.
func (c *Channel) Views() map[string]*present.View { return c.out.Views() }

// Extras returns what the sender says of itself, for pages that know what it means; nil of most.
func (c *Channel) Extras() map[string]string {
	if m := c.extras.Load(); m != nil {
		return *m
	}
	return nil
}

// Picture returns the newest preview, or nil.
func (c *Channel) Picture() *publish.Picture { return c.picture.Load() }

// Playable reports whether there is something to play, of now or of before.
func (c *Channel) Playable() bool { return c.out.Playable() }

// Offered names the rungs that viewers can choose now.
func (c *Channel) Offered() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.out.Offered()
}

// Epoch is the wall clock at media time 0.
func (c *Channel) Epoch() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.out.Epoch()
}

// retained is for how long a window holds what left its playlist.
func retained(target int64, window int) time.Duration {
	return time.Duration(target) * time.Second * time.Duration(segment.Retained(window))
}
