package origin

import (
	"fmt"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// Rendition is one coded stream of a channel, as delivery sees it.
type Rendition struct {
	Name   string
	window *segment.Window
	view   atomic.Pointer[present.View]
	until  uint64 // the first segment that is not made any more; 0: none

	standIn *Rendition // goes on in its place since the rung was turned off
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

// over tells all who wait that nothing will follow.
func (r *Rendition) over() {
	if v := r.view.Load(); v != nil {
		r.show(v.Over())
	}
}

const nudgeAfter = time.Second

// newHeader makes the header of a track. Its name is a digest of its bytes.
func newHeader(t media.Track) *segment.Header {
	b := bmff.Header(&t)
	return &segment.Header{Name: "header-" + present.Digest(b) + ".mp4", Bytes: b, Track: t}
}

// publish adds a segment, or the next state of an open one.
func (r *Rendition) publish(s *segment.Segment, c *Channel) bool {
	step := c.settings.step()
	if !r.window.Publish(s, step) {
		return false
	}
	r.render(c, false)
	return true
}

// render makes the view of the window as it is now.
func (r *Rendition) render(c *Channel, idle bool) {
	snap := r.window.Snapshot()
	if snap.Newest() == nil {
		return
	}
	v := present.NewView(hls.Media{
		Whole: snap.Listed, Open: snap.Open, Discontinuity: snap.Discontinuity, TargetDuration: c.targetFor(snap.NewestWhole()),
		PartTarget: snap.PartTarget(c.partTarget), Epoch: c.epoch, StartOffset: c.settings.StartOffsetMillis, Idle: idle,
		Ended: idle && c.settings.Closed, Ranges: c.rangesWithin(snap), PartFiles: c.settings.PartFiles, NextAt: c.expectedEnd(),
	}, snap, func() []hls.Report { return c.reports(r) })
	v.Peak, v.Average, v.KeyPeak = r.window.Rates()
	r.show(v)
}

// targetFor returns the target duration of all of the channel's playlists, which agree. It never
// falls while somebody may hold one of them. It is told before any segment is whole: the source's
// keyframes lead, so that it counts how far apart they were. whole is the newest segment that is, or nil.
func (c *Channel) targetFor(whole *segment.Segment) int64 {
	before := c.target
	expected := int64(0)
	if s := c.session; s != nil && !s.ended {
		expected = (s.clock.Length() + media.VideoTimescale/2) / media.VideoTimescale
	}
	c.target = max(c.target, expected, hls.TargetDuration(c.settings.step(), whole))
	if whole != nil {
		c.longest = max(c.longest, whole.Duration)
	}
	if before > 0 && c.target > before && c.listed {
		c.event(Warning, "target-duration-rose", fmt.Sprintf("A segment of %d s came where %d s were told: the sender's keyframes are further apart than before. Players may wait once.", c.target, before),
			fmt.Sprintf("Set the encoder's keyframe interval to %d ms.", c.settings.SegmentMillis))
	}
	return c.target
}

// targetKnown reports whether it is known how long segments will be. Playlists wait for that, since
// their target duration may not change: where the source leads, two keyframes tell.
func (c *Channel) targetKnown() bool {
	s := c.session
	return c.listed || s == nil || s.ended || s.clock.Even() > 0 || s.clock.Known()
}

// expectedEnd is where the open segments are likely to end, 0 when nobody knows.
func (c *Channel) expectedEnd() int64 {
	if c.session == nil || c.session.ended {
		return 0
	}
	return c.session.clock.Expected()
}

// retire lets another rendition of the same kind stand in, so that viewers of this one go on
// without noticing more than a segment boundary. A nil leaves the playlist as it ended.
func (r *Rendition) retire(standIn *Rendition) {
	r.standIn = standIn
	if v := r.view.Load(); v != nil {
		r.show(v.Gone())
	}
}

// follow renders the playlist of a retired rendition from its own last segments and those of its
// stand-in. discontinuities tells how many lie before a segment.
func (r *Rendition) follow(c *Channel) {
	v, other := r.view.Load(), r.standIn.view.Load()
	if v == nil || other == nil {
		return
	}
	first := other.List.First()
	if first == nil {
		return
	}
	length := uint64(len(other.List.Whole) + 1)
	var own, shown []*segment.Segment
	for _, s := range v.Snapshot.Held {
		if s.MSN < r.until && s.MSN+length >= first.MSN {
			own = append(own, s) // still in memory for those who have its address
			if s.MSN >= first.MSN {
				shown = append(shown, s)
			}
		}
	}
	list := other.List
	for _, s := range list.Whole {
		if s.MSN >= r.until {
			shown = append(shown, s)
		}
	}
	if list.Open != nil && list.Open.MSN < r.until {
		list.Open = nil
	}
	if list.Whole = shown; list.First() == nil {
		return
	}
	list.TargetDuration, list.Discontinuity = c.targetFor(nil), c.discontinuitiesBefore(list.First().MSN)
	list.StandIn, list.StandInFrom = r.standIn.Name, r.until
	next := present.NewView(list, segment.SnapshotOf(own), func() []hls.Report { return c.reports(r) })
	next.Retired = true
	r.show(next)
}
