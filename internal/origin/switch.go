package origin

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
	"metaplasis/internal/settings"
)

// The switch decides which feed is on air: the one of the input that was chosen by hand, else of the one
// that stands first in the channel's inputs, as long as something comes of it. A sender that another feed
// takes the place of stands by, connected: it goes on air again when that one leaves, when somebody chooses
// it, or once it has been steady for a while. Each change is one discontinuity for viewers.

const (
	// usualSilence is for how long nothing may come of a feed before others may take its place, where its
	// protocol does not say.
	usualSilence = 2 * time.Second
	// backAfter is for how long a feed must be steady before it takes the place of one that is preferred less:
	// a line that comes and goes does not take its channel along. One whose input was not on air for
	// forgivenAfter does so at once.
	backAfter     = 3 * time.Second
	forgivenAfter = 10 * time.Second
	// standbyAfter is how long a channel is without a feed before a file stands in: an encoder that lost its
	// line comes back sooner.
	standbyAfter = time.Second
	// maxStandby is how many senders stand by at a time.
	//limit:senders that stand by | each channel | the sender is refused
	maxStandby = 4
)

// onAir is what the switch knows: who is on air, who could be, and what was chosen.
type onAir struct {
	feed    *Feed
	standby []*Feed        // senders that another feed took the place of
	chosen  settings.Input // by hand; the zero value while the inputs' order decides
	holding bool           // a place on air is made for a feed that comes
	last    LastFeed
	left    map[settings.Input]time.Time // when a feed of an input was taken off the air last
	// what keeps inputs from playing that play by themselves
	problems map[settings.Input]string
}

// rank is where an input stands: the smaller the better, negative when the channel does not have it.
func (c *Channel) rank(in settings.Input) int {
	at := c.settings.Rank(in)
	if at < 0 || in != c.air.chosen {
		if at >= 0 {
			at++
		}
		return at
	}
	return 0
}

// silent reports whether so long nothing has come that others may take the feed's place.
func (f *Feed) silent(now time.Time) bool { return now.Sub(f.heard) > f.silence }

// hear notes that something came.
func (f *Feed) hear(now time.Time) {
	if f.silent(now) {
		f.steady = now
	}
	f.heard = now
}

// admitSender lets a sender in by one of the channel's inputs for senders: the one of a name, or the best one that
// nobody uses.
func (c *Channel) admitSender(f *Feed, name string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	f.input = c.senderInput(name)
	return c.admitNow(f)
}

// senderInput is the input for senders that one comes to: the one of a name, or the best one that nobody uses.
func (c *Channel) senderInput(name string) settings.Input {
	var first *settings.Input
	for i := range c.settings.Inputs {
		in := c.settings.Inputs[i]
		if in.Kind != settings.InputSender || name != "" && in.Name != name {
			continue
		}
		if u := c.user(in); u == nil || u.silent(c.now()) {
			return in
		}
		if first == nil {
			first = &in
		}
	}
	if first != nil {
		return *first
	}
	return settings.Input{Kind: settings.InputSender, Name: name}
}

// wouldAdmit reports whether a sender would be let in now.
func (c *Channel) wouldAdmit(name string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in := c.senderInput(name)
	switch u := c.user(in); {
	case c.closed:
		return ErrUnknownChannel
	case c.settings.Closed:
		return ErrEnded
	case c.rank(in) < 0:
		return ErrNoInput
	case u != nil && !u.silent(c.now()):
		return ErrTaken
	}
	return nil
}

// outlastFor is how long a sender waits for one that may be dead.
//
//limit:how long a sender waits for another one that is silent | each sender | it is refused
const outlastFor = 3 * time.Second

// outlast lets a sender in that comes while another one is there of which nothing comes: one whose connection died without a word
// and who is back at once. It waits until the other one has been silent for long enough, or is heard.
func (c *Channel) outlast(name string, admit func() error) error {
	const look = 250 * time.Millisecond
	heard := c.lastHeard(name)
	err := admit()
	for begun := time.Now(); errors.Is(err, ErrTaken) && time.Since(begun) < outlastFor; err = admit() {
		time.Sleep(look)
		if c.lastHeard(name) != heard {
			return err
		}
	}
	return err
}

// lastHeard is when something came of who uses an input for senders.
func (c *Channel) lastHeard(name string) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if u := c.user(c.senderInput(name)); u != nil {
		return u.heard
	}
	return time.Time{}
}

// user is the feed that an input has, on air or standing by, nil without one.
func (c *Channel) user(in settings.Input) *Feed {
	if f := c.air.feed; f != nil && f.input == in {
		return f
	}
	if i := slices.IndexFunc(c.air.standby, func(f *Feed) bool { return f.input == in }); i >= 0 {
		return c.air.standby[i]
	}
	return nil
}

// admit puts a feed on air when there is none, when the one on air has fallen silent, or when this one's
// input is preferred to it; one whose input is preferred less stands by, if it is live.
func (c *Channel) admit(f *Feed) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.admitNow(f)
}

// admitNow is admit with the channel's lock held.
func (c *Channel) admitNow(f *Feed) error {
	rank := c.rank(f.input)
	switch {
	case c.closed:
		return ErrUnknownChannel
	case c.settings.Closed:
		return ErrEnded
	case rank < 0:
		return ErrNoInput
	}
	if old := c.user(f.input); old != nil && old.standby {
		if !old.silent(c.now()) {
			return ErrTaken
		}
		old.sendAway("another sender took over, since this one was silent")
	}
	if old := c.air.feed; old != nil {
		switch before, silent := c.rank(old.input), old.silent(c.now()); {
		case before >= 0 && rank < before && !silent && c.unsteady(f.input) && len(c.air.standby) < maxStandby:
			f.begin()
			c.standBy(f, "its input was lost a moment ago, and it is on air again once it is steady")
			return nil
		case before >= 0 && rank < before && !silent && old.session != nil && !f.input.Plays() && len(c.air.standby) < maxStandby:
			f.begin()
			f.eager = true
			c.standBy(f, "it is preferred, and on air with its first picture")
			return nil
		case before < 0 || rank < before:
			c.displace(old, "a preferred input took over")
		case silent && rank == before:
			old.sendAway("another sender took over, since this one was silent")
		case silent:
			c.displace(old, "another input took over, since nothing came of this one")
		case rank > before && !f.input.Plays() && len(c.air.standby) < maxStandby:
			f.begin()
			c.standBy(f, "a preferred input is on air")
			return nil
		default:
			return ErrTaken
		}
	}
	if c.air.feed != nil { // one that stood by was faster
		return ErrTaken
	}
	c.onAirNow(f)
	f.begin()
	return nil
}

// dismissSenders sends feeds away, on air or standing by.
func (c *Channel) dismissSenders(reason string, which func(*Feed) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range append(slices.Clone(c.air.standby), c.air.feed) {
		if f != nil && which(f) {
			f.sendAway(reason)
		}
	}
}

// unsteady reports whether an input went off the air a moment ago. What is chosen by hand is trusted.
func (c *Channel) unsteady(in settings.Input) bool {
	left, known := c.air.left[in]
	return known && in != c.air.chosen && c.now().Sub(left) < forgivenAfter
}

// onAirNow puts a feed on air. It needs the channel's lock.
func (c *Channel) onAirNow(f *Feed) {
	f.standby = false
	c.air.feed = f
	c.in.reset(c.now())
	c.load.reset()
}

// displace takes a feed off the air for one that is preferred: a sender stands by, a file comes back by
// itself. It needs the channel's lock.
func (c *Channel) displace(f *Feed, why string) {
	if f.input.Plays() || c.rank(f.input) < 0 || len(c.air.standby) >= maxStandby {
		c.air.holding = true // nobody that stands by takes the place that is made here
		f.sendAway(why)
		c.air.holding = false
		return
	}
	f.offAir(why)
	c.standBy(f, why)
}

func (c *Channel) standBy(f *Feed, why string) {
	f.standby = true
	c.air.standby = append(c.air.standby, f)
	c.event(events.Info, "feed-standby", fmt.Sprintf("The %s stands by: %s.", f.words(), why), "")
}

// promote puts the best of the feeds that stand by on air: when none is, when nothing comes of the one
// that is, or when that one is preferred less and the other has been steady, for which trusted stands. It needs
// the channel's lock.
func (c *Channel) promote(trusted bool) {
	if c.closed || c.settings.Closed || c.air.holding {
		return
	}
	now := c.now()
	best := c.bestStandby()
	if best == nil {
		return
	}
	if on := c.air.feed; on != nil && !on.silent(now) &&
		(c.rank(on.input) <= c.rank(best.input) || !trusted && (now.Sub(best.steady) < backAfter || now.Before(best.avoidedUntil))) {
		return
	}
	why := "a preferred input took over"
	if on := c.air.feed; on != nil && on.silent(now) {
		why = "another input took over, since nothing came of this one"
	}
	c.exchange(best, why)
}

// bestStandby is the best of the feeds that stand by and of which something comes, nil without one.
func (c *Channel) bestStandby() (best *Feed) {
	for _, f := range c.air.standby {
		if c.rank(f.input) >= 0 && !f.silent(c.now()) && (best == nil || c.rank(f.input) < c.rank(best.input)) {
			best = f
		}
	}
	return best
}

// exchange puts a feed that stands by on air, in place of the one that is.
func (c *Channel) exchange(best *Feed, why string) {
	c.air.standby = slices.DeleteFunc(c.air.standby, func(f *Feed) bool { return f == best })
	if on := c.air.feed; on != nil {
		c.displace(on, why)
	}
	best.loud, best.eager = c.now(), false
	c.onAirNow(best)
	c.event(events.Info, "feed-on-air", fmt.Sprintf("The %s, which stood by, is on air now.", best.words()), "")
}

// Choose puts an input on air by hand, as soon as it has something: it is preferred to all others until
// another one is chosen, or none with the zero value. An input that the channel does not have is
// ErrNoInput.
func (c *Channel) Choose(in settings.Input) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if in != (settings.Input{}) {
		i := slices.IndexFunc(c.settings.Inputs, in.Same)
		if i < 0 {
			return ErrNoInput
		}
		in = c.settings.Inputs[i]
	}
	if c.air.chosen == in {
		return nil
	}
	c.air.chosen = in
	text := "The inputs are switched by their order again."
	if in != (settings.Input{}) {
		text = fmt.Sprintf("The input %s was chosen by hand.", in)
	}
	c.event(events.Info, "input-chosen", text, "")
	c.promote(true)
	return nil
}

// sendAway ends the feed and its connection. It needs the channel's lock.
func (f *Feed) sendAway(why string) {
	f.leave(why)
	f.kick(why)
}

// offAir ends what the feed has on air. It needs the channel's lock.
func (f *Feed) offAir(reason string) {
	c := f.c
	if f.session == nil && len(f.early) > 0 {
		f.start()
	}
	c.endSession()
	if c.air.feed == f {
		c.air.feed = nil
		c.air.last = LastFeed{Remote: f.remote, Ended: c.now(), Reason: reason}
		c.air.left[f.input] = c.now()
	}
	c.extras.Store(nil)
	c.in.reset(c.now())
	c.load.idle()
	f.session, f.first, f.rate = nil, time.Time{}, timeline.RateMeter{}
	f.early, f.earlyBytes = nil, 0
}

// Vacant reports whether an input that plays by itself would be put on air: nobody is, or one that is preferred less, and
// who left last has been away for a while.
func (c *Channel) Vacant(in settings.Input) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	rank := c.rank(in)
	switch {
	case rank < 0 || c.closed || c.settings.Closed:
		return false
	case c.air.feed != nil:
		before := c.rank(c.air.feed.input)
		return before < 0 || rank < before || rank > before && c.air.feed.silent(c.now())
	}
	return c.air.last.Ended.IsZero() || c.now().Sub(c.air.last.Ended) > standbyAfter
}

// Players lists the inputs that play by themselves.
func (c *Channel) Players() (out []settings.Input) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, in := range c.settings.Inputs {
		if in.Plays() {
			out = append(out, in)
		}
	}
	return out
}

// Sources lists the inputs that the service fetches or receives by itself, and whether each is wanted now: all but
// those that wait for viewers.
func (c *Channel) Sources() (out []settings.Input, wanted []bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	watched := c.sinceWatched() < watchedFor
	for _, in := range c.settings.Inputs {
		if in.Connects() && !c.closed && !c.settings.Closed {
			out, wanted = append(out, in), append(wanted, !in.OnDemand || watched)
		}
	}
	return out, wanted
}

// watchedFor is for how long an input that waits for viewers is kept up behind the last one.
const watchedFor = 30 * time.Second

// Watched says that somebody asked for the channel's media.
func (c *Channel) Watched() {
	if c.sinceWatched() > time.Second {
		c.watched.Store(int64(c.monotonic(c.now())) + 1)
	}
}

// Starts reports whether a channel without a list yet is likely to have one soon: a sender is there, or is fetched since somebody watches.
func (c *Channel) Starts() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.settings.Closed || c.settings.Unpackaged {
		return false
	}
	return c.air.feed != nil || slices.ContainsFunc(c.settings.Inputs, func(in settings.Input) bool { return in.OnDemand })
}

// sinceWatched is how long ago somebody asked for the channel's media.
func (c *Channel) sinceWatched() time.Duration {
	at := c.watched.Load()
	if at == 0 {
		return 1<<63 - 1
	}
	return c.monotonic(c.now()) - time.Duration(at)
}

// words is who sends, in a sentence.
func (f *Feed) words() string {
	if f.input.Connects() || f.input.Plays() {
		return f.input.Words()
	}
	return "sender from " + f.remote
}

// InputProblem says what keeps an input from playing, "" when nothing does.
func (c *Channel) InputProblem(in settings.Input, text string) {
	c.mu.Lock()
	before := c.air.problems[in]
	if text == "" {
		delete(c.air.problems, in)
	} else {
		c.air.problems[in] = text
	}
	c.mu.Unlock()
	do := "Put an FLV or TS file, or CMAF track files, of that name into the folder of files."
	switch in.Kind {
	case settings.InputItems:
		do = "Look at them: metaplasis items list; it is tried again by itself."
	case settings.InputSlate:
		do = "Take another image, or none for the channel's title."
	case settings.InputStudio:
		do = "Look whether the source is on, and which there are: metaplasis studio; it is tried again by itself."
	case settings.InputAddress, settings.InputProgramme, settings.InputChannel:
		do = "Look at the source and the line to it; it is tried again by itself."
	}
	if text != "" && text != before {
		c.event(events.Warning, "input-failed", fmt.Sprintf("The input %s cannot be played: %s.", in, text), do)
	}
}
