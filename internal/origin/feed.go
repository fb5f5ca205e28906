package origin

import (
	"bytes"
	"fmt"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// Bounds of what a feed holds before its tracks are known.
const (
	maxEarlyUnits = 600
	// patience is how long, in milliseconds of media, a feed waits for a second track and for its
	// frame rate to show.
	patience = 700
)

// Feed is one contribution connection into a channel. Its methods are called from one goroutine.
type Feed struct {
	c        *Channel
	id       int64
	protocol string
	remote   string
	begun    time.Time
	kicked   chan string
	once     sync.Once

	video, audio *media.Track
	early        []earlyUnit
	rate         timeline.RateMeter
	told         media.Rational // frame rate from metadata
	session      *session
	over         bool
	heard        time.Time // when the last unit came
	first        time.Time // when the first unit came that waits for its session
}

// deaf is how long a sender may be silent before another one may take its channel: an encoder
// that lost its line comes back before its old connection times out.
const deaf = 2 * time.Second

type earlyUnit struct {
	kind        media.Kind
	stamp       uint32
	composition int64
	key         bool
	data        []byte
}

// Open admits a sender to a channel. The errors are ErrUnknownChannel, ErrBadKey and ErrTaken,
// each with what to do.
func (o *Origin) Open(slug, key, protocol, remote string) (*Feed, error) {
	refuse := func(err error, channel, text, do string) (*Feed, error) {
		o.event(Event{At: o.Now(), Channel: channel, Level: Warning, Kind: "feed-refused", Text: fmt.Sprintf("%s from %s: %s", protocol, remote, text), Do: do})
		return nil, fmt.Errorf("%s %w", do, err)
	}
	c := o.Channel(slug)
	if c == nil {
		return refuse(ErrUnknownChannel, "", fmt.Sprintf("there is no channel %q.", clip(slug)), "Create the channel, or correct its name in the encoder's server address.")
	}
	if err := o.Gate.Admit(slug, key); err != nil {
		return refuse(ErrBadKey, slug, "the contribution key is wrong.", "Copy the key from the channel's sender settings again, or make a new one.")
	}
	f := &Feed{c: c, protocol: protocol, remote: remote, begun: o.Now(), heard: o.Now(), kicked: make(chan string, 1)}
	c.mu.Lock()
	if old := c.feed; old != nil && o.Now().Sub(old.heard) > deaf {
		c.mu.Unlock()
		old.end("another sender took over, since this one was silent")
		old.kick("another sender took over")
		c.mu.Lock()
	}
	taken := c.feed != nil
	closed, ended := c.closed, c.settings.Closed
	taken = taken && !ended
	if !ended && !taken && !closed {
		c.feed = f
		c.in.reset(o.Now())
		c.load.reset()
	}
	c.mu.Unlock()
	if closed {
		return refuse(ErrUnknownChannel, "", "the channel is being removed.", "Send to another channel.")
	}
	if ended {
		return refuse(ErrEnded, slug, "the channel is closed.", "Open the channel again in its settings, then connect.")
	}
	if taken {
		return refuse(ErrTaken, slug, "another sender is on the channel.", "Stop the other sender first, or give this one a channel of its own.")
	}
	f.id = o.Keeper.FeedBegun(FeedRecord{Channel: slug, Protocol: protocol, Remote: remote, Begun: f.begun})
	c.event(Info, "feed-begun", fmt.Sprintf("A sender connected over %s from %s.", protocol, remote), "")
	return f, nil
}

func clip(s string) string { return s[:min(len(s), 80)] }

// Kicked delivers the reason when the origin wants the sender to go.
func (f *Feed) Kicked() <-chan string { return f.kicked }

func (f *Feed) kick(reason string) {
	select {
	case f.kicked <- reason:
	default:
	}
}

// FrameRate tells the frame rate that the sender announces, for tracks that do not say.
func (f *Feed) FrameRate(milli int64) {
	if milli > 1000 && milli < 300_000 {
		f.told = timeline.SnapRate(milli)
	}
}

// Clock tells when a stand-in camera sends its pictures.
func (f *Feed) Clock(c media.SendClock) { f.c.camera.Store(&c) }

// Splice sets a marker for a splice_info_section that takes effect at a stamp.
func (f *Feed) Splice(stamp uint32, section []byte) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	at := f.c.o.Now()
	if f.session != nil {
		at = f.c.wall(f.session.feed.Peek(stamp))
	}
	f.c.splice(at, section)
}

// Track announces a track. A second one of the same kind with another config begins a new run,
// with a discontinuity.
func (f *Feed) Track(t media.Track) {
	at := &f.video
	if t.Kind == media.Audio {
		at = &f.audio
	}
	if *at != nil && bytes.Equal((*at).Config, t.Config) {
		return
	}
	changed := *at != nil
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.over {
		return
	}
	*at = &t
	if f.session != nil {
		if changed {
			f.c.event(Info, "feed-changed", fmt.Sprintf("The sender changed its %s to %s.", t.Kind, describe(&t)), "")
		}
		f.c.endSession()
		f.session = nil
		f.rate = timeline.RateMeter{}
	}
	if f.video != nil && f.audio != nil && f.rateKnown() {
		f.start()
	}
}

func (f *Feed) rateKnown() bool {
	return f.video == nil || f.video.FrameRate.Valid() || f.told.Valid()
}

func describe(t *media.Track) string {
	if t.Kind == media.Video {
		return fmt.Sprintf("%s, %dx%d", t.CodecName, t.Width, t.Height)
	}
	return fmt.Sprintf("%s, %d Hz, %d channels", t.CodecName, t.SampleRate, t.Channels)
}

// start begins a session with the tracks at hand, and sends what has waited through it.
func (f *Feed) start() {
	if f.video != nil && !f.video.FrameRate.Valid() {
		v := *f.video
		if v.FrameRate = f.told; !v.FrameRate.Valid() {
			if milli := f.rate.Milli(); milli > 0 {
				v.FrameRate = timeline.SnapRate((milli + 50) / 100 * 100)
			}
		}
		f.video = &v
	}
	f.session = f.c.startSession(f.video, f.audio, f.first)
	var tracks []media.Track
	for _, t := range []*media.Track{f.video, f.audio} {
		if t != nil {
			tracks = append(tracks, *t)
		}
	}
	f.c.o.later(func() { f.c.o.Keeper.FeedTracks(f.id, tracks) })
	early := f.early
	f.early = nil
	for _, e := range early {
		f.send(e)
	}
}

// Unit takes one access unit. stamp is its decode time in milliseconds, which may wrap;
// composition is how much later it is presented. The data is the feed's from now on.
func (f *Feed) Unit(kind media.Kind, stamp uint32, composition int64, key bool, data []byte) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.over {
		return
	}
	f.c.in.add(kind, len(data))
	f.heard = f.c.o.Now()
	e := earlyUnit{kind, stamp, composition, key, data}
	if f.session != nil {
		f.send(e)
		return
	}
	if kind == media.Video && f.video == nil || kind == media.Audio && f.audio == nil {
		return
	}
	if len(f.early) == 0 {
		f.first = f.heard
	}
	f.early = append(f.early, e)
	if kind == media.Video {
		f.rate.Add(int64(stamp))
	}
	waited := int64(int32(stamp - f.early[0].stamp))
	ready := f.video != nil && f.audio != nil && f.rateKnown()
	if ready || waited >= patience || len(f.early) >= maxEarlyUnits {
		f.start()
	}
}

func (f *Feed) send(e earlyUnit) {
	s := f.session
	if e.kind == media.Video && s.video == nil || e.kind == media.Audio && s.audio == nil {
		return
	}
	if s.unit(e.kind, e.stamp, e.composition, e.key, e.data) {
		// The sender's times jumped: begin a new run.
		f.c.event(Warning, "timestamps-jumped", "The sender's timestamps jumped by more than 10 s; the channel goes on with a discontinuity.", "If it happens often, look at the encoder's clock.")
		f.c.endSession()
		f.session = f.c.startSession(f.video, f.audio, f.heard)
		f.session.unit(e.kind, e.stamp, e.composition, e.key, e.data)
	}
}

// End says that the connection is over, and why.
func (f *Feed) End(reason string) { f.end(reason) }

func (f *Feed) end(reason string) {
	f.once.Do(func() {
		c := f.c
		c.mu.Lock()
		f.over = true
		if f.session == nil && len(f.early) > 0 {
			f.start()
		}
		c.endSession()
		if c.feed == f {
			c.feed = nil
		}
		c.camera.Store(nil)
		c.in.reset(c.o.Now())
		c.load.idle()
		c.mu.Unlock()
		c.event(Info, "feed-ended", fmt.Sprintf("The sender from %s is gone: %s.", f.remote, reason), "")
		at := c.o.Now()
		c.o.later(func() { c.o.Keeper.FeedEnded(f.id, at, reason) })
	})
}
