package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/intake"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/run"
	"metaplasis/internal/worker"
)

// drainWait is for how long a worker may take to hand over the last of a run.
const drainWait = 3 * time.Second

// session is a run within its channel: what it makes goes to the publisher, to the event log and to those who read the hub, and what
// its worker makes comes back through it. It implements worker.Handler, on a goroutine of the worker's supervisor.
type session struct {
	*run.Run
	c      *Channel
	outlet *publish.Outlet
	worker *worker.Supervisor // nil while there is none
}

// startSession begins a run of a source.
func (c *Channel) startSession(src intake.Source) *session {
	c.numbers.Position = c.positionNow()
	first := src.First
	if first.IsZero() {
		first = c.now()
	}
	wanted := c.created.Add(-c.past.setBack)
	if c.settings.Aligned {
		wanted = time.Unix(0, 0).UTC() // the same on every origin
	}
	if !wanted.Equal(c.out.Epoch()) {
		c.past.end = 0
		c.numbers.Reincarnate(c.settings.Aligned)
		c.out.Restart(wanted)
		c.texts.Reset()
	}
	due := media.Ticks(first.Sub(wanted), media.VideoTimescale)
	// Dates in playlists hold milliseconds: media times that begin on one are told exactly.
	const milli = media.VideoTimescale / 1000
	start := (max(due, c.past.end) + milli - 1) / milli * milli
	if src.Video != nil {
		c.past.video = *src.Video
	}
	if len(src.Sounds) > 0 {
		c.past.audio = *src.Sounds[0]
	}
	s := &session{c: c}
	s.Run = run.New(run.Options{
		Source: layout.Source{Settings: c.settings, Video: src.Video, Longest: src.Longest, IDs: c.ids, Images: c.o.Images.Get,
			Pair: layout.Pair{Video: c.demand.Video, Sound: c.demand.Sound}},
		Sizes: src.Sizes, Audio: src.Sounds, Hub: c.hub, Messages: c.notes.Messages, Employ: s.employ, Now: c.now, Monotonic: c.o.Monotonic,
		First: first, Epoch: wanted, Start: start, Lead: media.Duration(start-due, media.VideoTimescale), NextMSN: c.numbers.Position.NextMSN,
		Distance: c.past.distance, Prefix: c.numbers.Incarnation,
	})
	s.outlet = c.out.Outlet(c.texts, s.Makes)
	s.ApplyLadder(c.ladderFor(&s.Source))
	c.carryOut(s)
	if gone := c.past.feed.Ended; !gone.IsZero() && first.Sub(gone) > retained(c.out.TargetDuration(), c.settings.Window) {
		c.out.ForgetTarget()
	}
	c.out.Begin(s.Clock())
	c.texts.Begin(start)
	c.session = s
	s.SetLongest(c.out.LongestSegment())
	c.changes.Tell()
	return s
}

// carryOut carries out what a run asks for since the last time.
func (c *Channel) carryOut(s *session) {
	for _, m := range s.Take() {
		switch m := m.(type) {
		case run.Event:
			e := m.Event
			e.At, e.Channel = c.now(), c.slug
			c.o.event(e)
		case run.TracksChanged:
			c.changes.Tell()
		default:
			s.outlet.Take(m)
		}
	}
	s.SetLongest(c.out.LongestSegment())
}

// endSession ends the run that goes on, if there is one.
func (c *Channel) endSession() {
	s := c.session
	if s == nil {
		return
	}
	c.numbers.Position = c.positionNow()
	c.past.end = max(c.past.end, s.End())
	c.past.distance = s.Distance()
	c.session = nil
	c.changes.Tell()
	c.out.End()
	s.Close()
	c.carryOut(s)
	c.texts.Settle(c.past.end)
	if s.worker != nil {
		time.AfterFunc(drainWait, func() { c.dismiss(s) })
		return
	}
	c.out.Idle()
}

// dismiss publishes the last of what a worker made for a run, and ends it. It takes the channel's lock.
func (c *Channel) dismiss(s *session) {
	c.mu.Lock()
	w := s.worker
	if w == nil {
		c.mu.Unlock()
		return
	}
	s.worker = nil
	s.Flush()
	c.carryOut(s)
	c.out.Idle()
	c.mu.Unlock()
	w.Close()
}

// employ starts a worker for the run, from a unit of the hub on.
func (s *session) employ(at uint64, conf transcode.Config) run.Worker {
	s.worker = worker.NewSupervisor(s.c.o.Worker, s.c.hub, at, conf, s, s.c.o.Logger.With("channel", s.c.slug))
	return s.worker
}

// locked calls what a worker says into the run, and carries out what follows.
func (s *session) locked(call func()) {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	call()
	s.c.carryOut(s)
}

// Track implements worker.Handler.
func (s *session) Track(id media.TrackID, t media.Track) {
	s.locked(func() { s.EncodedTrack(id, t) })
}

// Unit implements worker.Handler.
func (s *session) Unit(id media.TrackID, u media.AccessUnit) {
	s.locked(func() { s.EncodedUnit(id, u) })
}

// Picture implements worker.Handler.
func (s *session) Picture(jpeg []byte) {
	s.c.picture.Store(&publish.Picture{JPEG: jpeg, At: s.c.now()})
}

// Stats implements worker.Handler.
func (s *session) Stats(st worker.Stats) {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	s.c.health.load.Take(st, s.c.now())
}

// Failed implements worker.Handler.
func (s *session) Failed(id media.TrackID, text string) {
	s.locked(func() { s.EncodingFailed(id, text) })
}

// Replaced implements worker.Handler.
func (s *session) Replaced(why string, repeats bool) (resume map[media.TrackID]int64) {
	s.locked(func() {
		resume = s.Run.Replaced()
		s.c.health.load.Replace(why, s.c.now())
	})
	text := "The worker was replaced: " + why + ". It goes on behind the last part that is out; viewers miss nothing."
	if !repeats {
		text = "The worker was replaced: " + why + ", twice on the same stretch of the feed. That stretch is left out as a gap."
	}
	s.c.o.event(events.Event{
		At: s.c.now(), Channel: s.c.slug, Level: events.Warning, Kind: "worker-replaced", Text: text, Like: "worker-replaced",
		Do: "If it happens again, check the feed's encoder and the machine's memory.",
	})
	return resume
}

// Drained implements worker.Handler. The worker is dismissed on another goroutine, since it waits for the one that calls this.
func (s *session) Drained() {
	s.c.mu.Lock()
	ended := s.Ended() && s.worker != nil
	s.c.mu.Unlock()
	if ended {
		go s.c.dismiss(s)
	}
}

// clockStepped goes on after the wall clock was set. A run cannot follow that: another one begins, unless its numbers are those of
// the clock and must not come twice.
func (c *Channel) clockStepped(s *session, again func() intake.Source) *session {
	by := s.Step()
	set := fmt.Sprintf("forward by %s", round(by))
	if by < 0 {
		set = fmt.Sprintf("back by %s", round(-by))
	}
	const do = "No action is needed if it happens once. If it happens often, check the machine's time synchronization."
	if by < 0 && s.Aligned() {
		c.event(events.Warning, "clock-stepped", fmt.Sprintf("The machine's clock was set %s. The channel is aligned: its times go on as they were.", set), do)
		s.KeepTimes()
		return s
	}
	c.event(events.Warning, "clock-stepped", fmt.Sprintf("The machine's clock was set %s; the channel goes on with a discontinuity, so that its times are those of the clock.", set), do)
	c.endSession()
	if by < 0 {
		// Media time never goes back. It is told by another epoch instead.
		c.past.setBack = c.created.Sub(c.now().Round(0).Add(-media.Duration(c.past.end, media.VideoTimescale)))
	}
	return c.startSession(again())
}

func round(d time.Duration) time.Duration {
	if d > 10*time.Second {
		return d.Round(time.Second)
	}
	return d.Round(10 * time.Millisecond)
}
