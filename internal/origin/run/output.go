package run

import (
	"slices"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/layout"
)

// output is a rendition as one run makes it.
type output struct {
	name      string
	id        media.TrackID // of its units in the hub
	cutter    segment.Cutter
	until     uint64 // the first segment that is not made any more; 0: none
	direct    bool   // fed from the source, not from the worker
	layer     *layer // that it is fed from, nil for the main picture and for sound
	captioned int64  // captions up to this presentation time are in it
}

// want makes an output for a rendition, unless there is one that goes on.
func (r *Run) want(name string, from layout.Origins, at uint64) {
	old, layer := r.outputs[name], r.layerAs(from.Layer)
	if old != nil && old.direct == from.Direct && old.layer == layer && old.until == 0 {
		return
	}
	o := &output{name: name, direct: from.Direct, layer: layer, id: r.IDs.Of(name)}
	o.cutter.SetFloor(at)
	budget := layout.Budget(&r.Settings, r.Bitrate(name))
	o.cutter.MaxBytes = int(layout.OpenShare(budget))
	r.make(Rendition{name, budget})
	switch {
	case o.layer != nil:
		r.setTrack(o, r.LayerTrack(o.layer.Layer))
	case o.direct:
		r.setTrack(o, *r.SourceTrack(name))
	}
	if old != nil {
		if other := old.direct != o.direct || old.layer != o.layer; other && old.goesOn(at) && !r.ended {
			old.until = at
			r.leaving = append(r.leaving, old)
		} else {
			r.finish(old)
		}
	}
	r.outputs[name] = o
}

// goesOn reports whether an output of pictures has a segment open that ends before another one.
func (o *output) goesOn(until uint64) bool {
	msn, open := o.cutter.Open()
	return open && msn < until && o.cutter.Header().Track.Kind == media.Video
}

// awaits reports whether an output that takes the place of another one waits for its end.
func (r *Run) awaits(o *output) bool {
	return slices.ContainsFunc(r.leaving, func(old *output) bool { return old.name == o.name && old != o })
}

// offer shows a unit of the leading track to the clock and passes on the boundary that it opens.
func (r *Run) offer(u *media.AccessUnit) {
	r.clock.SetLimit(r.longest)
	b, ok := r.clock.Offer(u)
	if !ok {
		return
	}
	if r.worker == nil && r.encodes() {
		r.startWorker()
	}
	if r.worker != nil {
		r.worker.Boundary(b)
	}
	r.make(Boundary{b})
	for _, o := range r.all() {
		// A segment later every encoder has put out what it held. What passes through holds nothing.
		if o.until > 0 && (b.MSN > o.until || b.MSN == o.until && o.direct && slices.Contains(r.leaving, o)) {
			r.finish(o)
			r.handOver(o)
		}
	}
}

// handOver lets another rendition take the place of one that was turned off, once its last segment is whole: at once, since
// viewers of parts have less than a second in hand.
func (r *Run) handOver(o *output) {
	if i := slices.Index(r.leaving, o); i >= 0 {
		r.leaving = slices.Delete(r.leaving, i, i+1)
		return // another one makes the rendition
	}
	if r.outputs[o.name] != o {
		return // it was done with its last segment
	}
	delete(r.outputs, o.name)
	if r.ended {
		return // the run that follows decides which renditions go on
	}
	r.make(Retired{o.name, o.until})
}

// cut gives a unit to its rendition's cutter and passes on what that finishes.
func (r *Run) cut(o *output, u media.AccessUnit) {
	t := &o.cutter.Header().Track
	b, due, ok := r.clock.Lookup(media.Rescale(u.PTS, t.Timescale, media.VideoTimescale))
	if !ok {
		return
	}
	if o.until > 0 && b.MSN >= o.until {
		r.finish(o) // what comes is behind its end
		return
	}
	o.cutter.Longest = r.longest
	for _, seg := range o.cutter.Push(u, b, due, r.Now()) {
		r.pass(o, seg)
	}
}

// pass passes on a segment, or the next state of an open one.
func (r *Run) pass(o *output, seg *segment.Segment) {
	r.make(Segment{o.name, seg})
	if !seg.Open && o.until > 0 && seg.MSN+1 >= o.until {
		r.handOver(o)
	}
	if o.direct || r.worker == nil || seg.Open {
		return
	}
	// What every rendition of the worker has finished need not be repeated by another worker.
	settled := seg.MSN + 1
	for _, other := range r.outputs {
		if !other.direct && other.until == 0 {
			settled = min(settled, other.cutter.Floor())
		}
	}
	r.worker.Settled(settled)
}

func (r *Run) finish(o *output) {
	if seg := o.cutter.Flush(); seg != nil {
		r.pass(o, seg)
	}
}

// Overflows is how many times an open segment reached its bound in bytes.
func (r *Run) Overflows() (n int64) {
	for _, o := range r.outputs {
		n += int64(o.cutter.Overflows)
	}
	return n
}
