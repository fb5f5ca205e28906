package origin

import (
	"hash/fnv"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// period is a stretch of the channel in which no encoding changes.
type period struct {
	msn   uint64
	start int64 // ticks of media.VideoTimescale
	end   int64 // 0 while it goes on
	key   uint64
	step  int64 // length of its segments, as a whole number of ticks of scale
	scale int64
}

// where returns where a segment lies by its number, if all of the period's are equally long.
func (p *period) where(msn uint64) int64 {
	return p.start + media.Rescale(int64(msn-p.msn)*p.step, p.scale, media.VideoTimescale)
}

// length is how long the period's segments are, in ticks of media.VideoTimescale.
func (p *period) length() int64 { return media.Rescale(p.step, p.scale, media.VideoTimescale) }

// evenStep returns how long segments are that begin like one, exactly: where encoders follow our
// steps that is our step, and where the source leads a whole number of its pictures.
func (c *Channel) evenStep(s *segment.Segment) (step, scale int64) {
	length := s.Duration
	if c.session != nil && !c.session.ended {
		near := func(even int64) bool { return s.Open || length > even*3/5 && length < even*7/5 }
		if even := c.session.clock.Even(); even > 0 && near(even) {
			return even, media.VideoTimescale
		}
		if s.Open {
			length = c.session.clock.Length()
		}
	}
	if rate := s.Header.Track.FrameRate; s.Header.Track.Kind == media.Video && rate.Valid() {
		n := (length*rate.Num + media.VideoTimescale*rate.Den/2) / (media.VideoTimescale * rate.Den)
		fine := (media.VideoTimescale + rate.Num - 1) / rate.Num // so that a tick is short
		if d := media.Rescale(n*rate.Den, rate.Num, media.VideoTimescale) - length; n > 0 && d < wholeWithin &&
			-d < wholeWithin {
			return n * rate.Den * fine, rate.Num * fine
		}
	}
	return length, media.VideoTimescale
}

// wholeWithin is by how much a segment may miss a whole number of pictures: by rounding, and by the
// sender's jitter.
const wholeWithin = media.VideoTimescale / 100

// notePeriods finds where encodings changed among the segments that came since the last look. A
// period begins at a discontinuity and wherever a header changes.
func (c *Channel) notePeriods(list []offer) {
	lead := list[0].video
	if lead == nil {
		lead = list[0].sound
	}
	for _, s := range lead.Snapshot.All {
		if s.Gap || s.MSN < c.scanned {
			continue
		}
		begins := len(c.counted) == 0 || s.Discontinuity
		if s.Open {
			// A run begins in the manifest for low latency with its first part.
			if begins && c.targetKnown() && c.everywhere(list, s.MSN, true) {
				c.beginCounted(list, s, true)
			}
			break
		}
		if !c.everywhere(list, s.MSN, false) {
			break // its other renditions are still being made
		}
		step, scale := c.evenStep(s)
		c.periods = extend(c.periods, period{msn: s.MSN, start: s.Start, key: keyOf(list, s.MSN), step: step, scale: scale},
			s.Discontinuity)
		c.beginCounted(list, s, s.Discontinuity)
		c.scanned = s.MSN + 1
	}
	if len(lead.Snapshot.All) == 0 {
		return
	}
	first := lead.Snapshot.Advertised[0].MSN
	c.periods, c.counted = forget(c.periods, first), forget(c.counted, first)
}

// beginCounted adds a segment to the periods of the manifest that counts. There a period also begins
// where a segment lies beside its place: the source's keyframes rule, not our wish.
func (c *Channel) beginCounted(list []offer, s *segment.Segment, begins bool) {
	if n := len(c.counted); n > 0 {
		last := &c.counted[n-1]
		if last.msn == s.MSN {
			return // it began with the segment's first part
		}
		if d := s.Start - last.where(s.MSN); d > last.length()*2/5 || -d > last.length()*2/5 {
			begins = true
		}
	}
	step, scale := c.evenStep(s)
	c.counted = extend(c.counted, period{msn: s.MSN, start: s.Start, key: keyOf(list, s.MSN), step: step, scale: scale},
		begins)
}

// keyOf tells sets of encodings apart: those of a segment's renditions.
func keyOf(list []offer, msn uint64) uint64 {
	h := fnv.New64a()
	for _, o := range list {
		for _, v := range []*View{o.video, o.sound} {
			if v == nil {
				continue
			}
			if other, _ := v.Snapshot.Find(msn); other != nil {
				_, _ = h.Write([]byte(other.Header.Name))
			}
		}
	}
	return h.Sum64()
}

// extend begins a period when it must, or when its encodings differ from those before.
func extend(list []period, next period, begins bool) []period {
	n := len(list)
	if n > 0 && !begins && list[n-1].key == next.key {
		return list
	}
	if n > 0 && list[n-1].end == 0 {
		list[n-1].end = next.start
	}
	return append(list, next)
}

// forget drops periods that ended before a segment.
func forget(list []period, first uint64) []period {
	for len(list) > 1 && list[1].msn <= first {
		list = list[1:]
	}
	return list
}

// everywhere reports whether a segment is whole in all renditions, or with open begun.
func (c *Channel) everywhere(list []offer, msn uint64, open bool) bool {
	for _, o := range list {
		for _, v := range []*View{o.video, o.sound} {
			if v == nil {
				continue
			}
			all := v.Snapshot.All
			if n := len(all); n == 0 || all[n-1].MSN < msn || all[n-1].MSN == msn && all[n-1].Open && !open {
				return false
			}
		}
	}
	return true
}
