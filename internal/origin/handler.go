package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/worker"
)

// handler receives what the worker makes for a session, on a goroutine of the worker's supervisor.
type handler struct {
	c *Channel
	s *session
}

// employ starts a worker for a session, from the unit at hand on.
func (c *Channel) employ(s *session) *worker.Supervisor {
	return worker.NewSupervisor(c.o.Worker, c.hub, s.at, s.config, &handler{c, s}, c.o.Logger.With("channel", c.slug))
}

func (h *handler) lock() func() {
	h.c.mu.Lock()
	return h.c.mu.Unlock
}

// output returns the rendition of a track, nil when it is none that the worker makes.
func (s *session) output(id media.TrackID) *output {
	for _, o := range s.all() {
		if o.id == id && !o.direct {
			return o
		}
	}
	return nil
}

// Track implements worker.Handler.
func (h *handler) Track(id media.TrackID, t media.Track) {
	defer h.lock()()
	if o := h.s.output(id); o != nil {
		h.s.setTrack(o, t)
		h.s.out.offer(h.s.offering(), h.s.partTarget)
		h.s.layout.tell()
		return
	}
	h.s.pairTrack(id, t)
}

// Unit implements worker.Handler.
func (h *handler) Unit(id media.TrackID, u media.AccessUnit) {
	defer h.lock()()
	s := h.s
	o := s.output(id)
	if o == nil {
		s.pairUnit(id, &u)
		return
	}
	if o.cutter.Header() == nil {
		return
	}
	t := &o.cutter.Header().Track
	if t.Kind == media.Audio {
		s.hub.Push(t, &u)
		s.hold(o.r.Name, u)
		s.releaseAudio(false)
		return
	}
	s.coding.back(o.r.Name, u.PTS, s.now())
	s.addCaptions(o, &u)
	s.shownAt(t.ID, u.PTS)
	s.hub.Push(t, &u)
	s.cut(o, u)
}

// Picture implements worker.Handler.
func (h *handler) Picture(jpeg []byte) { h.c.picture.Store(&Picture{JPEG: jpeg, At: h.c.now()}) }

// Stats implements worker.Handler.
func (h *handler) Stats(st worker.Stats) {
	h.c.load.take(st, h.c.now())
}

// Failed implements worker.Handler: a rendition that cannot be made is given up, and the others go on
// without waiting for it.
func (h *handler) Failed(id media.TrackID, text string) {
	defer h.lock()()
	s := h.s
	const do = "Change the rung's settings, or turn it off; the other rungs go on."
	if id == 0 {
		s.event(events.Failure, "transcoding-failed", "The worker could not go on as it should: "+text,
			"Look at the machine's memory and at the feed's encoder.")
		return
	}
	name := s.tracks.name(id)
	if name == pairVideoName || name == pairSoundName {
		s.pairBroken = true
		s.event(events.Failure, "transcoding-failed", fmt.Sprintf("What is coded for viewers in real time cannot be made: %s.", text), "Give the channel a rung of H.264 without B-frames, and sound in Opus.")
	}
	for _, r := range s.rungs {
		if r.Name != name && s.soundName(&r) != name {
			continue
		}
		if _, known := s.failed[r.Name]; known {
			continue
		}
		s.failed[r.Name] = failure{r, text}
		s.event(events.Failure, "transcoding-failed", fmt.Sprintf("The rung %s cannot be made: %s.", r.Name, text), do)
	}
	s.applyLadder(s.rungs)
}

// Replaced implements worker.Handler.
func (h *handler) Replaced(why string, repeats bool) map[media.TrackID]int64 {
	unlock := h.lock()
	s := h.s
	resume := map[media.TrackID]int64{}
	for _, o := range s.all() {
		if o.direct {
			continue
		}
		from := o.cutter.Discard()
		if from > 0 {
			resume[o.id] = from
		} else if b, ok := s.clock.Start(o.cutter.Floor()); ok {
			from = b
		}
		o.captioned = min(o.captioned, from-1) // what was in pictures that did not come out is needed again
	}
	unlock()
	h.c.load.replace(why, s.now())
	text := "The worker was replaced: " + why + ". It goes on behind the last part that is out; viewers miss nothing."
	if !repeats {
		text = "The worker was replaced: " + why + ", twice on the same stretch of the feed. That stretch is left out as a gap."
	}
	h.c.o.event(events.Event{
		At: s.now(), Channel: s.slug, Level: events.Warning, Kind: "worker-replaced", Text: text, Like: "worker-replaced",
		Do: "If it happens again, look at the feed's encoder and at the machine's memory.",
	})
	return resume
}

// replacedShown is for how long the replacement of a worker is a problem of its channel.
const replacedShown = 30 * time.Second

// Drained implements worker.Handler. The worker is dismissed on another goroutine, since it
// waits for the one that calls this.
func (h *handler) Drained() {
	h.c.mu.Lock()
	sup := h.s.sup
	ended := h.s.ended
	h.c.mu.Unlock()
	if ended && sup != nil {
		go h.c.dismiss(h.s, sup)
	}
}
