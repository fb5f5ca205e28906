package origin

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/air"
	"metaplasis/internal/origin/status"
)

// Watch looks whether another feed is to be on air. The origin does it once a second.
func (c *Channel) Watch() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.watchFeeds()
}

func (c *Channel) watchFeeds() {
	if f := c.onAir(); f != nil {
		fault, rest, list := c.air.Avoid(c.faults(f), c.now())
		if fault != nil {
			c.event(events.Warning, "feed-faulty", fmt.Sprintf("%s for %d s, so another input takes over from the %s for %v.", fault.Text, int(fault.Lasts.Seconds()), f.words(), rest),
				fault.Do+" Take the input by hand when it is right.")
		}
		c.decide(list)
	}
	c.decide(c.air.Watch(c.now()))
}

// onAir is the feed on air, nil for none. It needs the channel's lock.
func (c *Channel) onAir() *Feed { return c.feeds[c.air.On()] }

// faults lists what is wrong with what the feed on air shows. It needs the channel's lock.
func (c *Channel) faults(f *Feed) []air.Fault {
	if f.air.Input.Plays() || c.session == nil {
		return nil
	}
	l := &c.health.load
	m := air.Figures{Decoded: l.Known, Black: time.Duration(l.Now.BlackMillis) * time.Millisecond, Frozen: time.Duration(l.Now.FrozenMillis) * time.Millisecond}
	if l.Now.Loudness != nil {
		m.Loudness = &l.Now.Loudness.Momentary
	}
	if line := f.line.Load(); line != nil {
		m.Measured = true
		switch {
		case line.SRT != nil: // what is sent again in time is no loss
			m.Lost = line.SRT.Dropped
		case line.RTP != nil:
			m.Lost = line.RTP.Lost
		case line.TS != nil:
			m.Lost = line.TS.Continuity
		}
	}
	return f.air.Faults(m, c.settings.Switching, c.now())
}

// measure looks at everything that is measured, once a second.
func (c *Channel) measure(idle int64, turn govern.Turn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.watchFeeds()
	c.govern(idle, turn)
	c.health.in.Measure(c.now())
	c.out.Nudge(time.Now())
	cut := c.out.Cut()
	if c.session != nil {
		cut += c.session.Overflows()
	}
	if cut > c.health.cut {
		c.health.squeezed = c.now()
	}
	c.health.cut = cut
}

// Status returns the channel at a glance.
func (c *Channel) Status() status.Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	return status.Of(c.snapshot())
}

// snapshot is all that is known of the channel now. It needs the channel's lock.
func (c *Channel) snapshot() *status.Snapshot {
	s := &status.Snapshot{Now: c.now(), Settings: c.settings, Rungs: c.rungs, Load: c.health.load, Inputs: c.inputs(), Advice: c.advice(),
		Started: c.out.Started(), Playable: c.out.Playable(), PartTarget: c.out.PartTarget(), Squeezed: c.health.squeezed, BadCue: c.health.badCue,
		Unsaved: !c.numbers.Stored(c.positionNow().NextMSN), Burst: c.o.Burst}
	if p := c.picture.Load(); p != nil {
		s.PictureAt = p.At
	}
	if mode := c.settings.Ladder.Governor; mode != ladder.Ungoverned {
		s.Governor = &status.GovernorStatus{Mode: mode, Steps: append([]govern.Step{}, c.governor.Steps()...)}
	}
	if last := c.past.feed; !last.Ended.IsZero() {
		s.LastFeed = &last
	}
	for name, v := range c.out.Views() {
		r := status.Rendition{Name: name, View: v}
		if c.session != nil {
			r.Dropped, r.Ready = c.session.Dropped(name)
			r.Encoding = c.session.EncodingTime(name)
		}
		s.Renditions = append(s.Renditions, r)
	}
	others := 0
	if c.session != nil {
		others = max(0, len(c.session.Sounds)-1)
		s.Run = c.session.status()
	}
	rungs := c.rungs
	if rungs == nil {
		rungs = c.settings.Ladder.Rungs
	}
	s.MemoryBound = memoryBound(&c.settings, rungs, others)
	if f := c.onAir(); f != nil {
		s.Feed = f.status()
		s.Fault = air.Shown(c.faults(f))
	}
	return s
}

// status is what is known of the feed on air.
func (f *Feed) status() *status.Feed {
	now := f.c.now()
	return &status.Feed{Protocol: f.protocol, Remote: f.remote, Begun: f.air.Begun, Tracks: f.tracks(), Meter: f.c.health.in, Heard: f.air.Heard(),
		Pictured: f.pictured, HasVideo: f.intake.Video() != nil, Silent: f.air.Silent(now), Line: f.line.Load(), Slowed: f.pace.slowed}
}

// status is what is known of the run.
func (s *session) status() *status.Run {
	keys := s.Keyframes()
	r := &status.Run{KeyMillis: keys.DistanceMillis, KeyProblem: keys.Problem, ApartMillis: s.Apart(), NotMade: s.NotMade(), EncodesPictures: s.EncodesPictures()}
	r.DriftPPM, r.DriftKnown = s.Drift()
	if t := s.Main(); t != nil && t.Undecodable != "" && slices.ContainsFunc(s.Rungs, func(r ladder.Rung) bool { return r.On && r.AudioBitrate > 0 }) {
		r.UndecodedSound = t.Undecodable
	}
	if s.worker != nil {
		lost, _ := s.worker.Lost()
		r.Worker = &status.Worker{PID: s.worker.PID(), Lost: lost}
	}
	return r
}

// inputs are the channel's inputs at a glance.
func (c *Channel) inputs() (out []status.InputStatus) {
	on := c.air.On()
	for _, in := range c.settings.Inputs {
		s := status.InputStatus{Input: in, OnAir: on != nil && on.Input == in, Chosen: c.air.Chosen() == in, Standby: c.air.Waiting(in), Problem: c.health.inputs[in]}
		s.Secret = ""
		if f := c.feeds[c.air.User(in)]; f != nil {
			s.Remote, s.Protocol, s.Line = f.remote, f.protocol, f.line.Load()
		}
		out = append(out, s)
	}
	return out
}
