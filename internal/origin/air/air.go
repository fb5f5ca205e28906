// Package air decides which feed of a channel is on air: the one of the input that was chosen by hand, else of the one that stands
// first in the channel's inputs, as long as something comes of it. A sender that another feed takes the place of stands by,
// connected: it goes on air again when that one leaves, when somebody chooses it, or once it has been steady for a while. Each
// change is one discontinuity for viewers.
//
// What happens goes in, with the time at which it does: a feed comes, is heard, shows a picture, leaves; settings change; a second
// has passed. Decisions come out, in the order in which they are to be carried out. A Switch has neither a lock nor a clock of its
// own; the channel calls it with its lock held.
package air

import (
	"errors"
	"slices"
	"time"

	"metaplasis/internal/settings"
)

const (
	// UsualSilence is for how long nothing may come of a feed before others may take its place, where its protocol does not say.
	UsualSilence = 2 * time.Second
	// backAfter is for how long a feed must be steady before it takes the place of one that is preferred less: a line that comes
	// and goes does not take its channel along. One whose input was not on air for forgivenAfter does so at once.
	backAfter     = 3 * time.Second
	forgivenAfter = 10 * time.Second
	// standInAfter is how long a channel is without a feed before a file stands in: an encoder that lost its line comes back
	// sooner.
	standInAfter = time.Second
	// maxStandby is how many senders stand by at a time.
	//limit:senders that stand by | each channel | the sender is refused
	maxStandby = 4
)

// Errors of Admit.
var (
	ErrRemoved = errors.New("no such channel")
	ErrClosed  = errors.New("the channel is closed")
	ErrNoInput = errors.New("the channel has no such input")
	ErrTaken   = errors.New("the channel has a sender already")
)

// Feed is a feed as the switch sees it.
type Feed struct {
	Input   settings.Input
	Begun   time.Time
	Expires time.Time     // when it must go, zero for never
	Silence time.Duration // for how long nothing may come before others may take its place
	Shows   bool          // a run of it goes on; the channel keeps it up to date

	heard   time.Time // when the last unit came
	steady  time.Time // since when there was no such silence
	standby bool      // another feed is on air: what comes is not used
	eager   bool      // it takes the place of that one with its first picture
	gone    bool
	faults  faults
}

// NewFeed is a feed that begins now.
func NewFeed(in settings.Input, now time.Time) *Feed {
	return &Feed{Input: in, Begun: now, Silence: UsualSilence, heard: now, steady: now, faults: faults{loud: now}}
}

// Heard is when the last unit came.
func (f *Feed) Heard() time.Time { return f.heard }

// Standby reports whether another feed is on air, and what comes of this one is not used.
func (f *Feed) Standby() bool { return f.standby }

// Gone reports whether the feed has ended.
func (f *Feed) Gone() bool { return f.gone }

// Silent reports whether nothing has come for so long that others may take the feed's place.
func (f *Feed) Silent(now time.Time) bool { return now.Sub(f.heard) > f.Silence }

// Hear notes that something came.
func (f *Feed) Hear(now time.Time) {
	if f.Silent(now) {
		f.steady = now
	}
	f.heard = now
}

// Act is what is to be done about a feed.
type Act int

// The acts.
const (
	Admit    Act = iota // it is let in
	PutOnAir            // its media is the channel's from now on
	TakeOff             // its run ends, and it stays connected
	StandBy             // it waits, and what comes of it is not used
	End                 // it is over: its run ends, if it has one, and its connection
)

// Decision is one thing to be carried out.
type Decision struct {
	Act  Act
	Feed *Feed
	Why  string
	// Stood says of PutOnAir that the feed stood by; Kick of End that the connection is to be closed.
	Stood, Kick bool
}

// Switch is what is known of a channel's feeds: who is on air, who could be, and what was chosen.
//
//large:a small method for each question about who is on air
type Switch struct {
	inputs  []settings.Input
	closed  bool
	removed bool

	on      *Feed
	standby []*Feed        // senders that another feed took the place of
	chosen  settings.Input // by hand; the zero value while the inputs' order decides
	holding bool           // a place on air is made for a feed that comes
	last    time.Time      // when nobody was on air any more
	left    map[settings.Input]time.Time
	out     []Decision
}

// New is a switch of a channel with these inputs.
func New(inputs []settings.Input, closed bool) *Switch {
	return &Switch{inputs: inputs, closed: closed, left: map[settings.Input]time.Time{}}
}

// On is the feed on air, nil for none.
func (s *Switch) On() *Feed { return s.on }

// All are all feeds, the one on air last.
func (s *Switch) All() []*Feed {
	out := slices.Clone(s.standby)
	if s.on != nil {
		out = append(out, s.on)
	}
	return out
}

// Waiting is how many feeds of an input stand by.
func (s *Switch) Waiting(in settings.Input) (n int) {
	for _, f := range s.standby {
		if f.Input == in {
			n++
		}
	}
	return n
}

// Chosen is the input that was chosen by hand, the zero value while the inputs' order decides.
func (s *Switch) Chosen() settings.Input { return s.chosen }

// SetLast says when a feed was on air last, before there was any.
func (s *Switch) SetLast(at time.Time) {
	if s.last.IsZero() {
		s.last = at
	}
}

// rank is where an input stands: the smaller the better, negative when the channel does not have it.
func (s *Switch) rank(in settings.Input) int {
	at := slices.Index(s.inputs, in)
	if at >= 0 && in == s.chosen {
		return 0
	}
	if at >= 0 {
		at++
	}
	return at
}

// User is the feed that an input has, on air or standing by, nil without one.
func (s *Switch) User(in settings.Input) *Feed {
	if s.on != nil && s.on.Input == in {
		return s.on
	}
	if i := slices.IndexFunc(s.standby, func(f *Feed) bool { return f.Input == in }); i >= 0 {
		return s.standby[i]
	}
	return nil
}

// SenderInput is the input for senders that one comes to: the one of a name, or the best one that nobody uses.
func (s *Switch) SenderInput(name string, now time.Time) settings.Input {
	var first *settings.Input
	for i := range s.inputs {
		in := s.inputs[i]
		if in.Kind != settings.InputSender || name != "" && in.Name != name {
			continue
		}
		if u := s.User(in); u == nil || u.Silent(now) {
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

// WouldAdmit reports whether a sender would be let in by an input now.
func (s *Switch) WouldAdmit(in settings.Input, now time.Time) error {
	switch u := s.User(in); {
	case s.removed:
		return ErrRemoved
	case s.closed:
		return ErrClosed
	case s.rank(in) < 0:
		return ErrNoInput
	case u != nil && !u.Silent(now):
		return ErrTaken
	}
	return nil
}

// Reasons that are told.
const (
	whyPreferred = "a preferred input took over"
	whySilent    = "another input took over, since nothing came of this one"
	whyReplaced  = "another sender took over, since this one was silent"
)

// Admit puts a feed on air when there is none, when the one on air has fallen silent, or when this one's input is preferred to it;
// one whose input is preferred less stands by, if it is live. What has to be done comes back even beside an error.
func (s *Switch) Admit(f *Feed, now time.Time) ([]Decision, error) {
	err := s.admit(f, now)
	return s.takeDecisions(), err
}

func (s *Switch) admit(f *Feed, now time.Time) error {
	rank := s.rank(f.Input)
	switch {
	case s.removed:
		return ErrRemoved
	case s.closed:
		return ErrClosed
	case rank < 0:
		return ErrNoInput
	}
	if old := s.User(f.Input); old != nil && old.standby {
		if !old.Silent(now) {
			return ErrTaken
		}
		s.end(old, whyReplaced, true, now)
	}
	if old := s.on; old != nil {
		room := len(s.standby) < maxStandby
		switch before, silent := s.rank(old.Input), old.Silent(now); {
		case before >= 0 && rank < before && !silent && s.unsteady(f.Input, now) && room:
			s.decide(Admit, f, "")
			s.standBy(f, "its input was lost a moment ago, and it is on air again once it is steady")
			return nil
		case before >= 0 && rank < before && !silent && old.Shows && !f.Input.Plays() && room:
			s.decide(Admit, f, "")
			f.eager = true
			s.standBy(f, "it is preferred, and on air with its first picture")
			return nil
		case before < 0 || rank < before:
			s.displace(old, whyPreferred, now)
		case silent && rank == before:
			s.end(old, whyReplaced, true, now)
		case silent:
			s.displace(old, whySilent, now)
		case rank > before && !f.Input.Plays() && room:
			s.decide(Admit, f, "")
			s.standBy(f, "a preferred input is on air")
			return nil
		default:
			return ErrTaken
		}
	}
	if s.on != nil { // one that stood by was faster
		return ErrTaken
	}
	s.putOnAir(f, false)
	s.decide(Admit, f, "")
	return nil
}

// End says that a feed's connection is over, and why.
func (s *Switch) End(f *Feed, why string, now time.Time) []Decision {
	s.end(f, why, false, now)
	return s.takeDecisions()
}

// SendAway ends feeds, on air or standing by, and their connections.
func (s *Switch) SendAway(why string, now time.Time, which func(*Feed) bool) []Decision {
	for _, f := range s.All() {
		if which(f) {
			s.end(f, why, true, now)
		}
	}
	return s.takeDecisions()
}

// Remove ends all feeds for good, since the channel is removed.
func (s *Switch) Remove(why string, now time.Time) []Decision {
	s.removed = true
	return s.SendAway(why, now, func(*Feed) bool { return true })
}

// Shown says that a feed shows its first picture, or that it has none: one that waits for that takes over.
func (s *Switch) Shown(f *Feed, now time.Time) []Decision {
	if f.standby && f.eager {
		s.exchange(f, whyPreferred, now)
	}
	return s.takeDecisions()
}

// Eager reports whether a feed takes over with its first picture.
func (f *Feed) Eager() bool { return f.standby && f.eager }

// Watch lets time pass: feeds that have expired go, and the best of those that stand by takes over when that is due.
func (s *Switch) Watch(now time.Time) []Decision {
	for _, f := range s.All() {
		if !f.Expires.IsZero() && now.After(f.Expires) {
			s.end(f, "its contribution key has expired", true, now)
		}
	}
	s.promote(false, now)
	return s.takeDecisions()
}

// Apply takes other settings.
func (s *Switch) Apply(inputs []settings.Input, closed bool, now time.Time) []Decision {
	closes := closed && !s.closed
	s.inputs, s.closed = inputs, closed
	if s.chosen != (settings.Input{}) && s.rank(s.chosen) < 0 {
		s.chosen = settings.Input{}
	}
	for _, f := range slices.Clone(s.standby) {
		if closes || s.rank(f.Input) < 0 {
			s.end(f, "its input was removed or closed", true, now)
		}
	}
	switch f := s.on; {
	case f != nil && closes:
		s.end(f, "the channel was closed", true, now)
	case f != nil && s.rank(f.Input) < 0:
		s.end(f, "its input was removed", true, now)
	case f != nil:
		s.promote(true, now) // the order may be another one
	}
	return s.takeDecisions()
}

// Choose puts an input on air by hand, as soon as it has something: it is preferred to all others until another one is chosen, or
// none with the zero value. It reports whether that is new. An input that the channel does not have is ErrNoInput.
func (s *Switch) Choose(in settings.Input, now time.Time) (chosen settings.Input, other bool, out []Decision, err error) {
	if in != (settings.Input{}) {
		i := slices.IndexFunc(s.inputs, in.Same)
		if i < 0 {
			return in, false, nil, ErrNoInput
		}
		in = s.inputs[i]
	}
	if s.chosen == in {
		return in, false, nil, nil
	}
	s.chosen = in
	s.promote(true, now)
	return in, true, s.takeDecisions(), nil
}

// Vacant reports whether an input that plays by itself would be put on air: nobody is, or one that is preferred less, and who left
// last has been away for a while.
func (s *Switch) Vacant(in settings.Input, now time.Time) bool {
	rank := s.rank(in)
	switch {
	case rank < 0 || s.removed || s.closed:
		return false
	case s.on != nil:
		before := s.rank(s.on.Input)
		return before < 0 || rank < before || rank > before && s.on.Silent(now)
	}
	return s.last.IsZero() || now.Sub(s.last) > standInAfter
}

func (s *Switch) decide(act Act, f *Feed, why string) {
	s.out = append(s.out, Decision{Act: act, Feed: f, Why: why})
}

func (s *Switch) takeDecisions() []Decision {
	out := s.out
	s.out = nil
	return out
}

// unsteady reports whether an input went off the air a moment ago. What is chosen by hand is trusted.
func (s *Switch) unsteady(in settings.Input, now time.Time) bool {
	left, known := s.left[in]
	return known && in != s.chosen && now.Sub(left) < forgivenAfter
}

func (s *Switch) putOnAir(f *Feed, stood bool) {
	f.standby, f.eager = false, false
	s.on = f
	s.out = append(s.out, Decision{Act: PutOnAir, Feed: f, Stood: stood})
}

func (s *Switch) standBy(f *Feed, why string) {
	f.standby = true
	s.standby = append(s.standby, f)
	s.decide(StandBy, f, why)
}

// vacate leaves nobody on air.
func (s *Switch) vacate(now time.Time) {
	s.left[s.on.Input], s.last = now, now
	s.on = nil
}

// end ends a feed, and lets the best of those that stand by take its place.
func (s *Switch) end(f *Feed, why string, kick bool, now time.Time) {
	if f.gone {
		return
	}
	f.gone = true
	if s.on == f {
		s.vacate(now)
	} else {
		s.standby = slices.DeleteFunc(s.standby, func(o *Feed) bool { return o == f })
	}
	s.out = append(s.out, Decision{Act: End, Feed: f, Why: why, Kick: kick})
	s.promote(false, now)
}

// displace takes a feed off the air for one that is preferred: a sender stands by, a file comes back by itself.
func (s *Switch) displace(f *Feed, why string, now time.Time) {
	if f.Input.Plays() || s.rank(f.Input) < 0 || len(s.standby) >= maxStandby {
		s.holding = true // nobody that stands by takes the place that is made here
		s.end(f, why, true, now)
		s.holding = false
		return
	}
	s.vacate(now)
	s.decide(TakeOff, f, why)
	s.standBy(f, why)
}

// promote puts the best of the feeds that stand by on air: when none is, when nothing comes of the one that is, or when that one is
// preferred less and the other has been steady, for which trusted stands.
func (s *Switch) promote(trusted bool, now time.Time) {
	if s.removed || s.closed || s.holding {
		return
	}
	best := s.best(now)
	if best == nil {
		return
	}
	on := s.on
	if on != nil && !on.Silent(now) &&
		(s.rank(on.Input) <= s.rank(best.Input) || !trusted && (now.Sub(best.steady) < backAfter || now.Before(best.faults.avoidedUntil))) {
		return
	}
	why := whyPreferred
	if on != nil && on.Silent(now) {
		why = whySilent
	}
	s.exchange(best, why, now)
}

// best is the best of the feeds that stand by and of which something comes, nil without one.
func (s *Switch) best(now time.Time) (best *Feed) {
	for _, f := range s.standby {
		if s.rank(f.Input) >= 0 && !f.Silent(now) && (best == nil || s.rank(f.Input) < s.rank(best.Input)) {
			best = f
		}
	}
	return best
}

// exchange puts a feed that stands by on air, in place of the one that is.
func (s *Switch) exchange(best *Feed, why string, now time.Time) {
	s.standby = slices.DeleteFunc(s.standby, func(f *Feed) bool { return f == best })
	if s.on != nil {
		s.displace(s.on, why, now)
	}
	best.faults.loud = now
	s.putOnAir(best, true)
}
