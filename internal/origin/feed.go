package origin

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
	"metaplasis/internal/network"
	"metaplasis/internal/settings"
)

// Bounds of what a feed holds before its tracks are known.
const (
	//limit:bytes that wait until the tracks are known | each feed | the feed begins with the tracks that are known
	maxEarlyBytes = 16 << 20
	// orderUnits is how many pictures tell whether some are presented before they say that they are decoded.
	orderUnits = 5
	// patience is how long, in milliseconds of media, a feed waits for a second track and for its
	// frame rate to show.
	patience = 700
)

// Feed is one contribution connection into a channel. Its methods are called from one goroutine.
type Feed struct {
	c        *Channel
	id       int64
	input    settings.Input
	key      int64     // contribution key that it came with
	expires  time.Time // when it must go, zero for never
	protocol string
	remote   string
	begun    time.Time
	kicked   chan string
	once     sync.Once

	video      *media.Track   // the main one of sizes
	sizes      []*size        // all tracks of pictures
	keyless    bool           // the main picture waits for a keyframe
	sounds     []*media.Track // by their ids; the first is the main one
	ignored    map[media.TrackID]bool
	early      []earlyUnit
	earlyBytes int
	rate       timeline.RateMeter
	announced  media.Rational // frame rate from metadata
	session    *session
	over       bool
	spliced    bool                     // cue messages came
	standby    bool                     // another feed is on air: what comes is not used
	eager      bool                     // it takes the place of that one with its first picture
	silence    time.Duration            // for how long nothing may come before others may take its place
	heard      time.Time                // when the last unit came
	steady     time.Time                // since when there was no such silence
	pictured   time.Time                // when the last picture came
	anchors    map[media.TrackID]anchor // what is known of the sender's wall clock
	pace       pace
	stale      int64     // units that were still on the line before a jump
	first      time.Time // when the first unit came that waits for its session
	line       atomic.Pointer[contribution.Line]
	loud       time.Time // when its sound was last heard
	losses     losses
	// It was faulty, and is not preferred before this time, for so long.
	avoidedUntil time.Time
	rest         time.Duration
}

// soundAlone is after what time a feed without pictures is taken for one of sound alone.
const soundAlone = time.Second

// unitCost is what a waiting unit takes beside its data, in bytes.
const unitCost = 128

// maxSounds is how many tracks of sound of a feed are used.
//
//limit:tracks of sound that are used | each feed | further ones are left out
const maxSounds = 8

type earlyUnit struct {
	id          media.TrackID
	kind        media.Kind
	stamp       int64 // of the track's clock
	composition int64 // of the same
	data        []byte
}

// Open admits a sender to a channel. The errors are ErrUnknownChannel, ErrNotAllowed, ErrBadKey, ErrEnded, ErrNoInput and
// ErrTaken, each with what to do.
func (o *Origin) Open(s contribution.Sender) (*Feed, error) {
	c, grant, err := o.check(s)
	if err != nil {
		return nil, err
	}
	if err := o.Gate.AskAdmission(s); err != nil {
		return nil, o.refuse(s, ErrNotAllowed, s.Channel, fmt.Sprintf("a program that is asked refused it: %s.", err), "Ask whoever runs that program.")
	}
	f := o.newFeed(c, settings.Input{}, s.Protocol, s.Remote)
	f.silence = cmp.Or(s.Silence, f.silence)
	f.key, f.expires = grant.Key, grant.Expires
	if err := c.outlast(grant.Input, func() error { return c.admitSender(f, grant.Input) }); err != nil {
		return nil, o.notAdmitted(s, grant, err)
	}
	return f, nil
}

// May reports whether Open would admit a sender now, without admitting it. The errors are those of Open.
func (o *Origin) May(s contribution.Sender) error {
	c, grant, err := o.check(s)
	if err != nil {
		return err
	}
	if err := c.outlast(grant.Input, func() error { return c.wouldAdmit(grant.Input) }); err != nil {
		return o.notAdmitted(s, grant, err)
	}
	return nil
}

func (o *Origin) refuse(s contribution.Sender, err error, channel, text, do string) error {
	o.event(events.Event{At: o.Now(), Channel: channel, Level: events.Warning, Kind: "feed-refused",
		Text: fmt.Sprintf("%s from %s: %s", s.Protocol, s.Remote, text), Do: do, Like: network.Of(s.Remote) + text})
	return fmt.Errorf("%s %w", do, err)
}

// check looks at everything that does not depend on who else is there.
func (o *Origin) check(s contribution.Sender) (*Channel, Grant, error) {
	c := o.Channel(s.Channel)
	if c == nil {
		return nil, Grant{}, o.refuse(s, ErrUnknownChannel, "", fmt.Sprintf("there is no channel %q.", settings.Clip(s.Channel)),
			"Create the channel, or correct its name in the encoder's server address.")
	}
	if set := c.Settings(); !set.Admits(s.Remote) {
		return nil, Grant{}, o.refuse(s, ErrNotAllowed, s.Channel, "its address is not among those from which senders are let in.",
			"Add its network to the channel's sender networks, or send from one of them.")
	}
	grant, err := o.Gate.Admit(s)
	switch {
	case errors.Is(err, ErrManyKeys):
		err = o.refuse(s, ErrManyKeys, s.Channel, "too many keys that nobody knows come at a time; it was not checked.",
			"Try again in a second. Senders that were on air before are let in at once.")
	case errors.Is(err, ErrUnchecked):
		err = o.refuse(s, ErrUnchecked, s.Channel, "the contribution key cannot be checked now, since the database does not answer.",
			"Try again in a while; senders that were on air before may come back at once.")
	case err != nil:
		err = o.refuse(s, ErrBadKey, s.Channel, "the contribution key is wrong.",
			"Copy the key from the channel's sender settings again, or make a new one.")
	case !grant.Expires.IsZero() && o.Now().After(grant.Expires):
		err = o.refuse(s, ErrBadKey, s.Channel, "the contribution key has expired.", "Make a new key.")
	case grant.Protocol != "" && !strings.EqualFold(strings.TrimSuffix(s.Protocol, "S"), strings.TrimSuffix(grant.Protocol, "S")):
		err = o.refuse(s, ErrBadKey, s.Channel, fmt.Sprintf("the contribution key is for %s alone.", grant.Protocol),
			"Send over that, or make a key for this protocol.")
	}
	return c, grant, err
}

// notAdmitted tells why a sender with the right key is not let in.
func (o *Origin) notAdmitted(s contribution.Sender, grant Grant, err error) error {
	switch {
	case errors.Is(err, ErrUnknownChannel):
		return o.refuse(s, err, "", "the channel is being removed.", "Send to another channel.")
	case errors.Is(err, ErrEnded):
		return o.refuse(s, err, s.Channel, "the channel is closed.", "Open the channel again in its settings, then connect.")
	case errors.Is(err, ErrNoInput) && grant.Input != "":
		return o.refuse(s, err, s.Channel, fmt.Sprintf("the channel has no input for senders with the name %q, to which the key leads.", grant.Input),
			"Add it to the channel's inputs, or use another key.")
	case errors.Is(err, ErrNoInput):
		return o.refuse(s, err, s.Channel, "the channel takes no senders.", "Add a sender to the channel's inputs, then connect.")
	}
	return o.refuse(s, err, s.Channel, "another sender is on the channel.",
		"Stop the other sender first, or give this one a channel of its own, or a further input for senders.")
}

// Grid is how often a keyframe is wanted of a sender that makes them when it is asked: where a rung passes the source
// through, its segments begin with them; soon while somebody cannot go on without one; else now and then, for who joins.
// 0: never.
func (f *Feed) Grid() time.Duration {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	step := time.Duration(f.c.settings.SegmentMillis) * time.Millisecond
	switch {
	case f.standby:
		return 0
	case f.keyless || f.session != nil && f.c.load.read().now.Keyless:
		return min(step, keyEach)
	case !sourceLeads(f.c.rungs) && len(f.c.rungs) > 0:
		return max(step, keyForJoining)
	}
	return step
}

// OpenPlayer puts an input of a channel on air that plays by itself. The errors are ErrUnknownChannel, ErrEnded, ErrNoInput
// and ErrTaken.
func (o *Origin) OpenPlayer(slug string, in settings.Input) (*Feed, error) {
	c := o.Channel(slug)
	if c == nil {
		return nil, ErrUnknownChannel
	}
	f := o.newFeed(c, in, in.Kind, cmp.Or(in.File, in.Kind))
	if err := c.admit(f); err != nil {
		return nil, err
	}
	return f, nil
}

// OpenSource puts an input of a channel on air, or lets it stand by, that the service fetches or receives. The errors
// are those of OpenPlayer.
func (o *Origin) OpenSource(slug string, in settings.Input, protocol, remote string, silence time.Duration) (*Feed, error) {
	c := o.Channel(slug)
	if c == nil {
		return nil, ErrUnknownChannel
	}
	f := o.newFeed(c, in, protocol, remote)
	f.silence = cmp.Or(silence, f.silence)
	if err := c.admit(f); err != nil {
		return nil, err
	}
	return f, nil
}

func (o *Origin) newFeed(c *Channel, in settings.Input, protocol, remote string) *Feed {
	now := o.Now()
	return &Feed{c: c, input: in, protocol: protocol, remote: remote, begun: now, heard: now, steady: now, pictured: now, silence: usualSilence,
		anchors: map[media.TrackID]anchor{}, kicked: make(chan string, 1), loud: now, ignored: map[media.TrackID]bool{}}
}

// begin tells that a feed is on air. It needs the channel's lock.
func (f *Feed) begin() {
	f.id = f.c.o.Keeper.NewFeed()
	f.c.o.Keeper.Feed(f.record(nil))
	text := fmt.Sprintf("A sender connected over %s from %s.", f.protocol, f.remote)
	if f.input.Plays() || f.input.Connects() {
		text = fmt.Sprintf("The %s is on air.", f.input.Words())
	}
	f.c.event(events.Info, "feed-begun", text, "")
}

// record is the feed as it is to be stored; ended, with a reason.
func (f *Feed) record(reason *string) FeedRecord {
	r := FeedRecord{ID: f.id, Channel: f.c.slug, Protocol: f.protocol, Remote: f.remote, Begun: f.begun, Tracks: f.tracks()}
	if reason != nil {
		r.Ended, r.Reason = f.c.now(), *reason
	}
	return r
}

func (f *Feed) tracks() []media.Track {
	out := []media.Track{}
	if f.video != nil {
		out = append(out, *f.video)
		for _, t := range f.beside() {
			out = append(out, *t)
		}
	}
	for _, t := range f.sounds {
		out = append(out, *t)
	}
	if !f.standby && f.c.air.feed == f {
		for _, service := range f.c.out.captions {
			out = append(out, coding.Data(media.Captions, service))
		}
	}
	if f.spliced {
		out = append(out, coding.Data(media.SCTE35, ""))
	}
	return out
}

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
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if milli > 1000 && milli < 300_000 {
		f.announced = timeline.SnapRate(milli)
	}
}

// Extras takes what the sender says of itself for pages that know what it means.
func (f *Feed) Extras(list map[string]string) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if !f.over {
		f.c.extras.Store(&list)
	}
}

// Line takes what the protocol measures of its connection, for people.
func (f *Feed) Line(l contribution.Line) { f.line.Store(&l) }

// anchor is a stamp of a track and its time on the sender's wall clock.
type anchor struct {
	stamp int64
	at    time.Time
}

// Anchor says that a stamp of a track that was announced is a time on the sender's own wall clock.
func (f *Feed) Anchor(id media.TrackID, stamp int64, at time.Time) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	used := f.sizeOf(id) != nil || f.sound(id) >= 0
	if !used || f.over {
		return
	}
	f.anchors[id] = anchor{stamp, at}
	if f.session != nil {
		f.session.anchor(id, f.anchors[id])
	}
}

// Splice sets a marker for a splice_info_section that takes effect at a stamp of a clock.
func (f *Feed) Splice(clock media.Clock, stamp int64, section []byte) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.standby || f.over {
		return
	}
	f.spliced = true
	at := f.c.now()
	if f.session != nil {
		at = media.WallClock(f.c.out.epoch, f.session.feed.Peek(clock, stamp))
	}
	f.c.splice(at, section)
}

// Track announces a track, which its id tells from others; the only one of its kind may go without.
// One that a decoder or a viewer must tell from the one before begins a new run, with a discontinuity;
// other parameter sets for the same picture do not.
func (f *Feed) Track(t media.Track) {
	t.ID = cmp.Or(t.ID, media.TrackID(t.Kind))
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	f.track(t)
}

func (f *Feed) track(t media.Track) {
	old, used := f.known(&t)
	if !used || f.over || old != nil && old.Codec == t.Codec && bytes.Equal(old.Config, t.Config) && old.SamePicture(&t) && old.Stamps() == t.Stamps() {
		return
	}
	if old != nil && !t.FrameRate.Valid() {
		t.FrameRate = old.FrameRate
	}
	f.keep(&t)
	if old != nil && old.Stamps() != t.Stamps() {
		for i := range f.early {
			if e := &f.early[i]; e.id == t.ID {
				e.stamp = media.Rescale(e.stamp, old.Stamps().Scale, t.Stamps().Scale)
				e.composition = media.Rescale(e.composition, old.Stamps().Scale, t.Stamps().Scale)
			}
		}
	}
	if t.Kind == media.Video && f.video.ID != t.ID {
		f.otherSize(&t)
		return
	}
	switch {
	case f.standby:
		return
	case f.session == nil:
		if f.ready() && !f.c.settings.Unpackaged {
			f.start()
		}
		return
	case old != nil && bytes.Equal(old.Config, t.Config) && old.SamePicture(&t):
		f.session.setClock(&t)
		return
	case old != nil && old.SamePicture(&t) && t.Kind == media.Video:
		f.session.setParameters(&t)
		f.c.o.Keeper.Feed(f.record(nil))
		return
	case old != nil:
		f.c.event(events.Info, "feed-changed", fmt.Sprintf("The sender changed its %s to %s.", t.Kind, describe(&t)), "")
	default:
		f.c.event(events.Info, "feed-changed", fmt.Sprintf("The sender also sends %s: %s.", t.Kind, describe(&t)), "")
	}
	f.c.endSession()
	f.session, f.first = nil, time.Time{}
	f.rate = timeline.RateMeter{}
	if f.ready() {
		f.start()
	}
}

// known returns the track that another one takes the place of, nil when it is new, and whether it is
// used: of video one track is and its other sizes are, of sound so many.
func (f *Feed) known(t *media.Track) (old *media.Track, used bool) {
	if t.Kind == media.Video {
		if o := f.sizeOf(t.ID); o != nil {
			return o.track, true
		}
		if f.video == nil || len(f.sizes) < maxSizes && sameScene(f.video, t) {
			return nil, true
		}
	} else {
		if i := f.sound(t.ID); i >= 0 {
			return f.sounds[i], true
		}
		if len(f.sounds) < maxSounds {
			return nil, true
		}
	}
	if !f.ignored[t.ID] {
		f.ignored[t.ID] = true
		f.c.event(events.Warning, "track-ignored", fmt.Sprintf("The sender sends more tracks of %s than are used here; %s is left out.", t.Kind, describe(t)),
			fmt.Sprintf("Send one track of video, or %d at most that show the same in several sizes, and up to %d of sound; give other pictures a channel of their own.",
				maxSizes, maxSounds))
	}
	return nil, false
}

// sound returns where a track of sound is among the others, -1 when it is not.
func (f *Feed) sound(id media.TrackID) int {
	return slices.IndexFunc(f.sounds, func(t *media.Track) bool { return t.ID == id })
}

// keep takes a track in its place.
func (f *Feed) keep(t *media.Track) {
	if t.Kind == media.Video {
		f.keepSize(t)
		return
	}
	if i := f.sound(t.ID); i >= 0 {
		f.sounds[i] = t
		return
	}
	f.sounds = append(f.sounds, t)
	slices.SortFunc(f.sounds, func(a, b *media.Track) int { return cmp.Compare(a.ID, b.ID) })
}

// ready reports whether all is known that a session needs from its begin on.
func (f *Feed) ready() bool {
	return f.video != nil && len(f.sounds) > 0 && f.rateKnown() && f.orderKnown()
}

// rateKnown reports whether enough pictures came to tell their rate. What waits for that is not late:
// a channel shows itself with more media than that.
func (f *Feed) rateKnown() bool {
	return f.video == nil || f.rate.Frames() >= enoughFrames
}

// orderKnown reports whether it shows if pictures are presented before they say that they are decoded:
// such senders are told by their first pictures.
func (f *Feed) orderKnown() bool {
	if f.video == nil || !f.video.Reordered {
		return true
	}
	pictures := 0
	for i := range f.early {
		if e := &f.early[i]; e.id == f.video.ID {
			if pictures++; e.composition > 0 && pictures == 1 || pictures >= orderUnits {
				return true
			}
		}
	}
	return false
}

func describe(t *media.Track) string {
	if t.Kind == media.Video {
		return fmt.Sprintf("%s, %dx%d", t.CodecName, t.Width, t.Height)
	}
	return fmt.Sprintf("%s, %d Hz, %d channels", t.CodecName, t.SampleRate, t.Channels)
}

// start begins a session with the tracks at hand, and sends what has waited through it.
func (f *Feed) start() {
	if f.video != nil {
		v := *f.video
		if !v.FrameRate.Valid() {
			v.FrameRate = f.announced
		}
		if f.rate.Frames() >= fewFrames && !f.rate.Fits(v.FrameRate) { // what was seen counts more than what was said
			v.FrameRate = f.rate.Constant()
		}
		f.keepSize(&v)
	}
	f.session = f.c.startSession(f.video, f.beside(), f.sounds, f.first, media.Rescale(f.rate.Longest(), 1000, media.VideoTimescale))
	f.anchorAll()
	if f.video != nil && f.rate.Frames() >= fewFrames {
		f.session.vtime.SetJitter(f.rate.Jitter(f.video.FrameRate))
	}
	f.c.o.Keeper.Feed(f.record(nil))
	early := f.early
	f.early, f.earlyBytes = nil, 0
	var shift int64
	for i := range early {
		if early[i].kind == media.Video && early[i].id == f.video.ID {
			shift = max(shift, -early[i].composition)
		}
	}
	if shift > 0 && f.video != nil {
		f.session.vtime.SetShift(f.video.Stamps().Ticks(shift))
	}
	for _, e := range early {
		f.send(e)
	}
}

func (f *Feed) anchorAll() {
	for id, a := range f.anchors {
		f.session.anchor(id, a)
	}
}

// So many pictures tell the frame rate, and so few whether it is another than was said.
const (
	enoughFrames = 12
	fewFrames    = 6
)

// Unit takes one access unit of a track that was announced. stamp is its decode time by the track's clock,
// which may wrap; composition is how much later it is presented, by the same clock. The data is the
// feed's from now on.
func (f *Feed) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.over {
		return
	}
	f.hear(f.c.now())
	kind := media.Audio
	picture := f.sizeOf(id)
	main := picture != nil && f.video.ID == id
	switch {
	case picture != nil:
		kind = media.Video
	case f.sound(id) < 0:
		return
	}
	if main {
		f.pictured = f.heard
	}
	if !f.standby {
		f.c.in.add(len(data), f.heard, main)
	}
	if key && picture != nil {
		f.inBand(picture, data)
	}
	if picture != nil {
		f.sizeCame(picture, key)
		main = f.video.ID == id
	}
	if f.standby && f.eager && (main && key || f.video == nil && f.heard.Sub(f.begun) > soundAlone) {
		f.c.exchange(f, "a preferred input took over")
	}
	if f.standby {
		return
	}
	if f.c.settings.Unpackaged {
		if f.session != nil {
			f.c.endSession()
			f.session = nil
		}
		return
	}
	e := earlyUnit{id, kind, stamp, composition, data}
	if f.session != nil {
		f.send(e)
		return
	}
	if len(f.early) == 0 {
		f.first = f.heard
	}
	f.early = append(f.early, e)
	f.earlyBytes += len(data) + unitCost
	if main {
		f.rate.Add(f.video.Stamps().Ticks(stamp) / ticksEachMilli)
	}
	if f.ready() || f.waited(&e) >= patience || f.heard.Sub(f.first) > 3*patience*time.Millisecond ||
		f.earlyBytes >= maxEarlyBytes {
		f.start()
	}
}

// ticksEachMilli converts ticks of media.VideoTimescale.
const ticksEachMilli = media.VideoTimescale / 1000

// waited is how much of a unit's track has come, in milliseconds.
func (f *Feed) waited(e *earlyUnit) int64 {
	clock := media.Milliseconds
	if o := f.sizeOf(e.id); o != nil {
		clock = o.track.Stamps()
	} else if i := f.sound(e.id); i >= 0 {
		clock = f.sounds[i].Stamps()
	}
	for i := range f.early {
		first := &f.early[i]
		if first.id != e.id {
			continue
		}
		return clock.Ticks(clock.Between(first.stamp, e.stamp)) / ticksEachMilli
	}
	return 0
}

func (f *Feed) send(e earlyUnit) {
	s := f.session
	if e.kind == media.Video && (s.video == nil || s.video.ID != e.id && s.layerOf(e.id) == nil) || e.kind == media.Audio && s.sound(e.id) == nil {
		return
	}
	verdict := s.unit(e.id, e.stamp, e.composition, e.data)
	if by := s.stepped; by != 0 {
		s.stepped = 0
		f.clockStepped(by)
		f.session.unit(e.id, e.stamp, e.composition, e.data)
		return
	}
	if verdict == timeline.Jumped && !s.paused {
		if by, ok := s.rejoin(e.id, e.stamp); ok {
			f.c.event(events.Warning, "timestamps-jumped", fmt.Sprintf("The timestamps of the sender's %s jumped by %s; the channel goes on without a break.", e.kind, signed(by)), "If it happens often, look at the encoder's clock.")
			verdict = s.unit(e.id, e.stamp, e.composition, e.data)
		}
	}
	switch verdict {
	case timeline.Jumped:
		if s.paused {
			f.c.event(events.Warning, "feed-paused", fmt.Sprintf("Pictures are missing for %s; the channel goes on with a discontinuity, at the next keyframe.", s.pause.Round(100*time.Millisecond)), "Look at the line to the encoder, and at the encoder's load.")
			f.c.endSession()
			f.session = f.c.startSession(f.video, f.beside(), f.sounds, f.heard, s.longest)
			f.anchorAll()
			f.session.unit(e.id, e.stamp, e.composition, e.data)
			return
		}
		f.c.event(events.Warning, "timestamps-jumped", fmt.Sprintf("The timestamps of the sender's %s jumped; the channel goes on with a discontinuity.", e.kind), "If it happens often, look at the encoder's clock.")
		f.c.endSession()
		f.session = f.c.startSession(f.video, f.beside(), f.sounds, f.heard, s.longest)
		f.anchorAll()
		f.session.feed.After(s.feed)
		f.session.unit(e.id, e.stamp, e.composition, e.data)
	case timeline.Stale:
		f.stale++
	}
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
func (f *Feed) End(reason string) { f.end(reason) }

func (f *Feed) end(reason string) {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	f.leave(reason)
}

// leave ends the feed. It needs the channel's lock.
func (f *Feed) leave(reason string) {
	f.once.Do(func() {
		c := f.c
		f.over = true
		if f.standby {
			c.air.standby = slices.DeleteFunc(c.air.standby, func(o *Feed) bool { return o == f })
		} else {
			f.offAir(reason)
		}
		text := fmt.Sprintf("The sender from %s is gone: %s.", f.remote, reason)
		if f.input.Plays() || f.input.Connects() {
			text = fmt.Sprintf("The %s is off air: %s.", f.input.Words(), reason)
		}
		c.event(events.Info, "feed-ended", text, "")
		c.o.Keeper.Feed(f.record(&reason))
		c.promote(false)
	})
}

// Pace returns how long to read nothing more from the sender, since its media runs too far ahead of
// the wall clock; 0 to go on. The feed of one who sends faster than real time is so read at the pace
// of the clock, and the sender's own buffers fill.
func (f *Feed) Pace() time.Duration {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.session == nil || f.over {
		return 0
	}
	now, burst := f.c.now(), f.c.o.Burst
	wait := f.pace.wait(f.session.mediaAhead(now), burst, now)
	if wait > 0 && !f.pace.told {
		f.pace.told = true
		f.c.event(events.Warning, "feed-too-fast", fmt.Sprintf("The sender sends faster than real time: its media is %d s ahead of the clock. It is read more slowly.", burst/time.Second),
			"Set the encoder to real time. Files are sent at their own pace by metaplasis camera --file.")
	}
	return wait
}

// How far a feed's media may run ahead of the wall clock, as it does when a line that was down comes
// back and what the encoder kept meanwhile comes at once; and for how long at a time reading rests.
const (
	DefaultBurst = 10 * time.Second

	longestRest = 500 * time.Millisecond
	paceShown   = 5 * time.Second // a feed that was slowed down within this time is said to be
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
