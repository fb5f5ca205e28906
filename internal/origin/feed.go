package origin

import (
	"fmt"
	"sync/atomic"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/air"
	"metaplasis/internal/origin/intake"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/run"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
)

// Feed is one contribution connection into a channel. It is what a protocol hands media to: its methods are called from one
// goroutine, and take the channel's lock.
//
//large:a method for each thing that a sender may tell
type Feed struct {
	c        *Channel
	air      *air.Feed
	intake   *intake.Intake
	id       int64
	key      int64 // contribution key that it came with
	protocol string
	remote   string
	kicked   chan string
	line     atomic.Pointer[contribution.Line]

	session  *session                 // its run, nil while it is not on air or its source is not known
	pictured time.Time                // when the last picture came
	anchors  map[media.TrackID]anchor // what is known of the sender's wall clock
	cues     bool                     // cue messages came
	pace     pace
}

// anchor is a stamp of a track and its time on the sender's wall clock.
type anchor struct {
	stamp int64
	at    time.Time
}

func (o *Origin) newFeed(c *Channel, in settings.Input, protocol, remote string) *Feed {
	now := o.Now()
	return &Feed{c: c, air: air.NewFeed(in, now), intake: intake.New(), protocol: protocol, remote: remote, pictured: now,
		anchors: map[media.TrackID]anchor{}, kicked: make(chan string, 1)}
}

// Kicked delivers the reason when the origin wants the sender to go.
func (f *Feed) Kicked() <-chan string { return f.kicked }

// FrameRate tells the frame rate that the sender announces, for tracks that do not say.
func (f *Feed) FrameRate(milli int64) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	f.intake.SetFrameRate(milli)
}

// Extras takes what the sender says of itself for pages that know what it means.
func (f *Feed) Extras(list map[string]string) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if !f.air.Gone() {
		f.c.extras.Store(&list)
	}
}

// Line takes what the protocol measures of its connection, for people.
func (f *Feed) Line(l contribution.Line) { f.line.Store(&l) }

// Anchor says that a stamp of a track that was announced is a time on the sender's own wall clock.
func (f *Feed) Anchor(id media.TrackID, stamp int64, at time.Time) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if _, _, used := f.intake.Kind(id); !used || f.air.Gone() {
		return
	}
	f.anchors[id] = anchor{stamp, at}
	if f.session != nil {
		f.session.Anchor(id, stamp, at)
	}
}

// Splice sets a marker for a splice_info_section that takes effect at a stamp of a clock.
func (f *Feed) Splice(clock media.Clock, stamp int64, section []byte) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.air.Standby() || f.air.Gone() {
		return
	}
	f.cues = true
	at := f.c.now()
	if f.session != nil {
		at = media.WallClock(f.c.out.Epoch(), f.session.MediaTime(clock, stamp))
	}
	f.c.splice(at, section)
}

// splice takes a cue message of the feed. It needs the channel's lock.
func (c *Channel) splice(at time.Time, section []byte) {
	var s scte35.Section
	if err := s.Unmarshal(section); err != nil {
		c.health.badCue = c.now()
		c.event(events.Warning, "splice-refused", "The sender sent a cue message that could not be read: "+err.Error(),
			"Check the encoder's SCTE 35 settings.")
		return
	}
	if m, changed := c.notes.Splice(at, &s, section); changed {
		c.o.Keeper.Marked(c.slug, m)
		c.out.Describe()
	}
}

// Caption takes what a service of captions or subtitles beside the pictures shows from a stamp on.
func (f *Feed) Caption(c contribution.Caption) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.air.Standby() || f.air.Gone() || f.session == nil {
		return
	}
	f.c.texts.Say(run.Caption{At: f.session.MediaTime(c.Clock, c.Stamp), Service: c.Service, Language: c.Language, Text: c.Text, Impaired: c.Impaired, Top: c.Top})
}

// Track announces a track, which its id tells from others; the only one of its kind may go without. One that a decoder or a viewer must
// tell from the one before begins a new run, with a discontinuity; other parameter sets for the same picture do not.
func (f *Feed) Track(t media.Track) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	f.track(t)
}

func (f *Feed) track(t media.Track) {
	if f.air.Gone() {
		return
	}
	change, ignored := f.intake.Announce(t, f.state())
	if ignored != nil {
		f.c.event(events.Warning, "track-ignored", ignored.Text, ignored.Do)
	}
	f.change(change)
	if f.state() == intake.Waiting && f.intake.Ready() && !f.c.settings.Unpackaged {
		f.start()
	}
}

// state is what becomes of what the feed sends.
func (f *Feed) state() intake.State {
	switch {
	case f.air.Standby():
		return intake.Standby
	case f.session == nil:
		return intake.Waiting
	}
	return intake.Running
}

// change carries out what a track or a unit asks for.
func (f *Feed) change(c intake.Change) {
	switch c.Step {
	case intake.Clock:
		f.session.SetClock(c.Track)
	case intake.Parameters:
		f.session.SetParameters(c.Track)
		f.c.carryOut(f.session)
		f.c.o.Keeper.Feed(f.record(nil))
	case intake.Layer:
		f.session.SetLayer(c.Track)
		f.session.ApplyLadder(f.c.ladderFor(&f.session.Source))
		f.c.carryOut(f.session)
		f.c.o.Keeper.Feed(f.record(nil))
	case intake.Restart:
		f.c.event(events.Info, "feed-changed", c.Text, "")
		f.stop()
		f.intake.Rewind()
	}
}

// start begins a run with the tracks at hand, and sends what has waited through it.
func (f *Feed) start() {
	src := f.intake.Begin(f.air.Heard())
	f.begin(src)
	if src.JitterKnown {
		f.session.SetJitter(src.Jitter)
	}
	f.c.o.Keeper.Feed(f.record(nil))
	if src.Shift > 0 {
		f.session.SetShift(src.Shift)
	}
	for _, u := range src.Units {
		f.send(u)
	}
}

// begin begins a run of a source.
func (f *Feed) begin(src intake.Source) { f.use(f.c.startSession(src)) }

// use takes a run that goes on as the feed's.
func (f *Feed) use(s *session) {
	f.session, f.air.Shows = s, s != nil
	if s == nil {
		return
	}
	for id, a := range f.anchors {
		s.Anchor(id, a.stamp, a.at)
	}
}

// stop ends the feed's run.
func (f *Feed) stop() {
	f.c.endSession()
	f.use(nil)
}

// again is the source for another run of the same tracks, which begins with the unit at hand.
func (f *Feed) again() intake.Source {
	src := f.intake.Again(f.air.Heard())
	if f.session != nil {
		src.Longest = f.session.Longest
	}
	return src
}

// soundAlone is after what time a feed without pictures is taken for one of audio only.
const soundAlone = time.Second

// Unit takes one access unit of a track that was announced. stamp is its decode time by the track's clock, which may wrap;
// composition is how much later it is presented, by the same clock. The data is the feed's from now on.
func (f *Feed) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	c := f.c
	c.mu.Lock()
	defer c.mu.Unlock()
	if f.air.Gone() {
		return
	}
	now := c.now()
	f.air.Hear(now)
	kind, main, used := f.intake.Kind(id)
	if !used {
		return
	}
	if main {
		f.pictured = now
	}
	if !f.air.Standby() {
		c.health.in.Add(len(data), now, main)
	}
	if kind == media.Video {
		if key {
			if t, other := f.intake.Renew(id, data); other {
				f.track(t)
			}
		}
		f.change(f.intake.Came(id, key, now, f.state()))
		_, main, _ = f.intake.Kind(id)
	}
	if f.air.Eager() && (main && key || f.intake.Video() == nil && now.Sub(f.air.Begun) > soundAlone) {
		c.decide(c.air.Shown(f.air, now))
	}
	if f.air.Standby() {
		return
	}
	if c.settings.Unpackaged {
		if f.session != nil {
			f.stop()
		}
		return
	}
	u := intake.Unit{ID: id, Kind: kind, Stamp: stamp, Composition: composition, Data: data}
	if f.session != nil {
		f.send(u)
	} else if f.intake.Hold(u, now) {
		f.start()
	}
}

// send gives a unit to the run, and begins another one where it has to.
func (f *Feed) send(u intake.Unit) {
	if !f.session.Has(u.ID) {
		return
	}
	switch f.put(u) {
	case run.ClockStepped:
		f.use(f.c.clockStepped(f.session, f.again))
		f.put(u)
	case run.Paused:
		f.c.event(events.Warning, "feed-paused", fmt.Sprintf("Pictures are missing for %s; the channel goes on with a discontinuity, at the next keyframe.", f.session.Pause().Round(100*time.Millisecond)), "Check the connection to the encoder, and the encoder's load.")
		f.another()
		f.put(u)
	case run.Jumped:
		f.jumped(u)
	}
}

// put gives a unit to the run and carries out what follows.
func (f *Feed) put(u intake.Unit) run.Verdict {
	v := f.session.Run.Unit(u.ID, u.Stamp, u.Composition, u.Data)
	f.c.carryOut(f.session)
	return v
}

// another ends the run and begins another one of the same tracks.
func (f *Feed) another() {
	src := f.again()
	f.c.endSession()
	f.begin(src)
}

// jumped goes on with a unit whose stamp has nothing to do with those before: within the run where that can be, else in another one.
func (f *Feed) jumped(u intake.Unit) {
	const do = "If it happens often, check the encoder's clock."
	if by, ok := f.session.Rejoin(u.ID, u.Stamp); ok {
		f.c.event(events.Warning, "timestamps-jumped", fmt.Sprintf("The timestamps of the sender's %s jumped by %s; the channel goes on without a break.", u.Kind, signed(by)), do)
		if f.put(u) != run.Jumped {
			return
		}
	}
	f.c.event(events.Warning, "timestamps-jumped", fmt.Sprintf("The timestamps of the sender's %s jumped; the channel goes on with a discontinuity.", u.Kind), do)
	before := f.session.Run
	f.another()
	f.session.Follow(before)
	f.put(u)
}

// signed writes a number of ticks of media.VideoTimescale as a time.
func signed(by int64) string {
	d := media.Duration(by, media.VideoTimescale).Round(10 * time.Millisecond)
	if d > 0 {
		return "+" + d.String()
	}
	return d.String()
}

// End says that the connection is over, and why.
func (f *Feed) End(reason string) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	f.c.decide(f.c.air.End(f.air, reason, f.c.now()))
}

// record is the feed as it is to be stored; ended, with a reason.
func (f *Feed) record(reason *string) FeedRecord {
	r := FeedRecord{ID: f.id, Channel: f.c.slug, Protocol: f.protocol, Remote: f.remote, Begun: f.air.Begun, Tracks: f.tracks()}
	if reason != nil {
		r.Ended, r.Reason = f.c.now(), *reason
	}
	return r
}

func (f *Feed) tracks() []media.Track {
	out := f.intake.Tracks(f.air.Heard())
	if f.c.air.On() == f.air {
		for _, service := range f.c.out.Captions() {
			out = append(out, coding.Data(media.Captions, service))
		}
	}
	if f.cues {
		out = append(out, coding.Data(media.SCTE35, ""))
	}
	return out
}

// words is who sends, in a sentence.
func (f *Feed) words() string {
	if in := f.air.Input; in.Connects() || in.Plays() {
		return in.Words()
	}
	return "sender from " + f.remote
}

// How often a keyframe is asked for while the main picture needs one to begin, and while all are decoded, for relays and viewers that
// take them as they come.
const (
	keyEach       = 500 * time.Millisecond
	keyForJoining = 6 * time.Second
)

// Grid is how often a keyframe is wanted of a sender that makes them when it is asked: where a rung passes the source through, its
// segments begin with them; soon while somebody cannot go on without one; else now and then, for those who join. 0: never.
func (f *Feed) Grid() time.Duration {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	step := time.Duration(f.c.settings.SegmentMillis) * time.Millisecond
	switch {
	case f.air.Standby():
		return 0
	case f.intake.Keyless() || f.session != nil && f.c.health.load.Now.Keyless:
		return min(step, keyEach)
	case !layout.SourceLeads(f.c.rungs) && len(f.c.rungs) > 0:
		return max(step, keyForJoining)
	}
	return step
}

// Pace returns how long to read nothing more from the sender, since its media runs too far ahead of the wall clock; 0 to go on. A feed
// that comes faster than real time is so read as fast as the clock runs, and the sender's own buffers fill.
func (f *Feed) Pace() time.Duration {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.session == nil || f.air.Gone() {
		return 0
	}
	now, burst := f.c.now(), f.c.o.Burst
	wait := f.pace.wait(f.session.Ahead(now), burst, now)
	if wait > 0 && !f.pace.told {
		f.pace.told = true
		f.c.event(events.Warning, "feed-too-fast", fmt.Sprintf("The sender sends faster than real time: its media is %d s ahead of the clock. It is read more slowly.", burst/time.Second),
			"Set the encoder to real time. Files are sent at their own pace by metaplasis camera --file.")
	}
	return wait
}

// How far a feed's media may run ahead of the wall clock, as it does when a line that was down comes back and what the encoder kept
// meanwhile comes at once; and for how long at a time reading rests.
const (
	DefaultBurst = 10 * time.Second

	longestRest = 500 * time.Millisecond
)

// pace slows a feed down.
type pace struct {
	told   bool
	slowed time.Time // when last
}

func (p *pace) wait(ahead, burst time.Duration, now time.Time) time.Duration {
	if ahead <= burst || burst < 0 {
		return 0
	}
	p.slowed = now
	return min(ahead-burst, longestRest)
}

// decide carries out what the switch has decided. It needs the channel's lock.
func (c *Channel) decide(list []air.Decision) {
	for _, d := range list {
		f := c.feeds[d.Feed]
		switch d.Act {
		case air.Admit:
			f.admitted()
		case air.PutOnAir:
			c.health.in.Reset(c.now())
			c.health.load.Reset()
			if d.Stood {
				c.event(events.Info, "feed-on-air", fmt.Sprintf("The %s, which was on standby, is on air now.", f.words()), "")
			}
		case air.TakeOff:
			f.offAir(d.Why)
		case air.StandBy:
			c.event(events.Info, "feed-standby", fmt.Sprintf("The %s stands by: %s.", f.words(), d.Why), "")
		case air.End:
			f.finish(d.Why, d.Kick)
		}
	}
}

// admitted tells that a feed was let in.
func (f *Feed) admitted() {
	f.id = f.c.o.Keeper.NewFeed()
	f.c.o.Keeper.Feed(f.record(nil))
	text := fmt.Sprintf("A sender connected over %s from %s.", f.protocol, f.remote)
	if in := f.air.Input; in.Plays() || in.Connects() {
		text = fmt.Sprintf("The %s is on air.", in.Words())
	}
	f.c.event(events.Info, "feed-begun", text, "")
}

// finish ends a feed.
func (f *Feed) finish(why string, kick bool) {
	c := f.c
	if !f.air.Standby() {
		f.offAir(why)
	}
	text := fmt.Sprintf("The sender from %s disconnected: %s.", f.remote, why)
	if in := f.air.Input; in.Plays() || in.Connects() {
		text = fmt.Sprintf("The %s is off air: %s.", in.Words(), why)
	}
	c.event(events.Info, "feed-ended", text, "")
	c.o.Keeper.Feed(f.record(&why))
	delete(c.feeds, f.air)
	if kick {
		select {
		case f.kicked <- why:
		default:
		}
	}
}

// offAir ends what the feed has on air.
func (f *Feed) offAir(why string) {
	c := f.c
	if f.session == nil && f.intake.Holds() {
		f.start()
	}
	f.stop()
	c.past.feed = status.LastFeed{Remote: f.remote, Ended: c.now(), Reason: why}
	c.extras.Store(nil)
	c.health.in.Reset(c.now())
	c.health.load.Idle()
	f.intake.Reset()
}

// dismissSenders sends feeds away, on air or standing by.
func (c *Channel) dismissSenders(reason string, which func(*Feed) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.decide(c.air.SendAway(reason, c.now(), func(f *air.Feed) bool { return which(c.feeds[f]) }))
}
