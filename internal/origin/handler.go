package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/worker"
)

// handler receives what the worker makes.
type handler struct{ s *session }

func (h *handler) lock() func() {
	h.s.c.mu.Lock()
	return h.s.c.mu.Unlock
}

// output returns the rendition of a track, nil when it is none that the worker makes.
func (s *session) output(id media.TrackID) *output {
	for _, o := range s.outputs {
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
		h.s.c.listVariants()
	}
}

// Unit implements worker.Handler.
func (h *handler) Unit(id media.TrackID, u media.AccessUnit) {
	defer h.lock()()
	s := h.s
	o := s.output(id)
	if o == nil || o.cutter.Header() == nil {
		return
	}
	t := &o.cutter.Header().Track
	if t.Kind == media.Audio {
		s.c.hub.Push(t, &u)
		s.hold(o.r.Name, u)
		s.releaseAudio(false)
		return
	}
	s.coding.back(o.r.Name, u.PTS, s.c.o.Now())
	s.addCaptions(o, &u)
	s.c.hub.Push(t, &u)
	s.cut(o, u)
}

// Picture implements worker.Handler.
func (h *handler) Picture(jpeg []byte) { h.s.c.picture.Store(&Picture{JPEG: jpeg, At: h.s.c.o.Now()}) }

// Stats implements worker.Handler.
func (h *handler) Stats(st worker.Stats) {
	defer h.lock()()
	h.s.c.load.take(st, h.s.c.o.Now())
}

// Failed implements worker.Handler: a rendition that cannot be made is given up, and the others go on
// without waiting for it.
func (h *handler) Failed(id media.TrackID, text string) {
	defer h.lock()()
	s := h.s
	const do = "Change the rung's settings, or turn it off; the other rungs go on."
	if id == 0 {
		s.c.event(Failure, "transcoding-failed", "The worker could not go on as it should: "+text,
			"Look at the machine's memory and at the feed's encoder.")
		return
	}
	name := s.c.nameOf(id)
	for _, r := range s.rungs {
		if r.Name != name && s.soundName(&r) != name {
			continue
		}
		if _, known := s.failed[r.Name]; known {
			continue
		}
		s.failed[r.Name] = failure{r, text}
		s.c.event(Failure, "transcoding-failed", fmt.Sprintf("The rung %s cannot be made: %s.", r.Name, text), do)
	}
	s.applyLadder(s.rungs)
}

// Replaced implements worker.Handler.
func (h *handler) Replaced(why string, repeats bool) map[media.TrackID]int64 {
	unlock := h.lock()
	s := h.s
	resume := map[media.TrackID]int64{}
	for _, o := range s.outputs {
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
	s.c.load.replaced++
	s.c.load.why, s.c.load.replacedAt = why, s.c.o.Now()
	unlock()
	text := "The worker was replaced: " + why + ". It goes on behind the last part that is out; viewers miss nothing."
	if !repeats {
		text = "The worker was replaced: " + why + ", twice on the same stretch of the feed. That stretch is left out as a gap."
	}
	s.c.o.event(Event{
		At: s.c.o.Now(), Channel: s.c.slug, Level: Warning, Kind: "worker-replaced", Text: text, Like: "worker-replaced",
		Do: "If it happens again, look at the feed's encoder and at the machine's memory.",
	})
	return resume
}

// replacedShown is for how long the replacement of a worker is a problem of its channel.
const replacedShown = 30 * time.Second

// Drained implements worker.Handler. The worker is dismissed on another goroutine, since it
// waits for the one that calls this.
func (h *handler) Drained() {
	h.s.c.mu.Lock()
	sup := h.s.sup
	ended := h.s.ended
	h.s.c.mu.Unlock()
	if ended && sup != nil {
		go h.s.dismiss(sup)
	}
}
