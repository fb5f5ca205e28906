package publish

import (
	"sync/atomic"
	"time"

	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// Rendition is one encoded stream of a channel, as delivery sees it.
type Rendition struct {
	Name   string
	window *segment.Window
	view   atomic.Pointer[present.View]

	impaired bool       // its text tells also what is to be heard beside speech
	text     bool       // made of captions or subtitles: no run makes it, and none stands in
	standIn  *Rendition // goes on in its place since the rung was turned off
	orphan   bool       // it was turned off while none was there that could: the first to come does
	until    uint64     // from this segment on

	// A rung that is on again: until its first segment is out, the stand-in goes on.
	returning bool
	past      []*segment.Segment // that it lists from before, its own and others'
	elsewhere map[uint64]string  // the renditions that those of others belong to
	own       []*segment.Segment // of before, still in memory for those who have their addresses
}

// View returns the current view, nil before the first segment.
func (r *Rendition) View() *present.View { return r.view.Load() }

// show replaces the view and wakes who waits for that.
func (r *Rendition) show(v *present.View) {
	if old := r.view.Swap(v); old != nil {
		old.Replace()
	}
}

// nudge lets all who wait look again, when nothing has come for a while.
func (r *Rendition) nudge(now time.Time) {
	v := r.view.Load()
	if v == nil || now.Sub(v.Changed) < nudgeAfter {
		return
	}
	if r.view.CompareAndSwap(v, v.Again()) {
		v.Replace()
	}
}

// markEnded tells all who wait that nothing will follow.
func (r *Rendition) markEnded() {
	if v := r.view.Load(); v != nil {
		r.show(v.Over())
	}
}

const nudgeAfter = time.Second

// retire lets another rendition of the same kind stand in, so that viewers of this one go on
// without noticing more than a segment boundary, from a segment on. A nil leaves the playlist as it ended.
func (r *Rendition) retire(standIn *Rendition, from uint64) {
	if r.returning && standIn == r.standIn {
		from = r.until // nothing of its own came in between
	}
	r.standIn, r.until, r.orphan, r.returning = standIn, from, standIn == nil, false
	if v := r.view.Load(); v != nil {
		r.show(v.Gone())
	}
}
