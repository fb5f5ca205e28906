package run

import (
	"metaplasis/internal/core/media"
)

// Audio waits twice: until the first picture has come, since a run begins with one; and until the clock has decided in which segment
// it belongs, since a keyframe of the source that is presented before it may still be on its way.

const (
	// MaxHeldBytes bounds each of the two.
	//limit:bytes of sound that wait for the first picture | each channel | the oldest are dropped and counted
	MaxHeldBytes = 4 << 20
	// longestWait is for how many seconds sound waits for the first picture.
	longestWait = 5
	// unitCost is what a waiting unit takes beside its data, in bytes.
	unitCost = 128
)

// waitingUnits came before the first picture.
type waitingUnits struct {
	list  []waitingUnit
	bytes int
}

type waitingUnit struct {
	of *sound
	u  media.AccessUnit
}

// heldUnits wait until their segment is decided.
type heldUnits struct {
	list  []heldUnit
	bytes int
}

type heldUnit struct {
	rendition string
	u         media.AccessUnit
}

// audioUnit takes a frame of an audio track into the hub.
func (r *Run) audioUnit(a *sound, u *media.AccessUnit) {
	if !r.begun && r.Video == nil && a == r.sounds[0] {
		r.begin()
	}
	if !r.begun {
		// It may belong to the picture that the run begins with, and only have come first.
		w := &r.waiting
		w.list = append(w.list, waitingUnit{a, *u})
		w.bytes += len(u.Data) + unitCost
		for len(w.list) > 0 && (w.bytes > MaxHeldBytes || a.seconds(u)-w.list[0].of.seconds(&w.list[0].u) > longestWait) {
			w.bytes -= len(w.list[0].u.Data) + unitCost
			w.list = w.list[1:]
		}
		return
	}
	r.Hub.Push(a.Track, u)
	r.releaseWaiting()
	r.drain()
}

func (r *Run) cutAudio(a *sound, u *media.AccessUnit) {
	if r.Video == nil && a == r.sounds[0] {
		lead := *u
		lead.PTS = media.Rescale(u.PTS, a.Track.Timescale, media.VideoTimescale)
		lead.DTS = lead.PTS
		r.offer(&lead)
	}
	if o := r.outputs[a.Name]; o != nil && o.direct {
		r.hold(a.Name, *u)
	}
	r.releaseAudio(false)
}

// seconds is the whole seconds of a unit's time.
func (a *sound) seconds(u *media.AccessUnit) int64 { return u.PTS / a.Track.Timescale }

// releaseWaiting sends the sound on its way that came before the first picture.
func (r *Run) releaseWaiting() {
	for i := range r.waiting.list {
		r.Hub.Push(r.waiting.list[i].of.Track, &r.waiting.list[i].u)
	}
	r.waiting = waitingUnits{}
}

// hold keeps a unit of sound until the clock knows its segment.
func (r *Run) hold(rendition string, u media.AccessUnit) {
	r.held.list = append(r.held.list, heldUnit{rendition, u})
	r.held.bytes += len(u.Data) + unitCost
	if r.held.bytes > MaxHeldBytes {
		r.releaseAudio(true)
	}
}

func (r *Run) releaseAudio(all bool) {
	kept := r.held.list[:0]
	r.held.bytes = 0
	for _, h := range r.held.list {
		o := r.outputs[h.rendition]
		if o == nil || o.cutter.Header() == nil {
			continue
		}
		pts := media.Rescale(h.u.PTS, o.cutter.Header().Track.Timescale, media.VideoTimescale)
		if !all && r.Video != nil && !r.clock.Decided(pts) {
			kept = append(kept, h)
			r.held.bytes += len(h.u.Data) + unitCost
			continue
		}
		r.cut(o, h.u)
	}
	clear(r.held.list[len(kept):])
	r.held.list = kept
}
