package present

import (
	"hash/fnv"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Period is a stretch of the channel in which no encoding changes.
type Period struct {
	MSN   uint64
	Start int64  // ticks of media.VideoTimescale
	End   int64  // 0 while it goes on
	Key   uint64 // tells sets of encodings apart
	Step  int64  // length of its segments, as a whole number of ticks of Scale
	Scale int64
}

// Where returns where a segment lies by its number, if all of the period's are equally long.
func (p *Period) Where(msn uint64) int64 {
	return p.Start + media.Rescale(int64(msn-p.MSN)*p.Step, p.Scale, media.VideoTimescale)
}

// length is how long the period's segments are, in ticks of media.VideoTimescale.
func (p *Period) length() int64 { return media.Rescale(p.Step, p.Scale, media.VideoTimescale) }

// Periods follows where encodings changed: a period begins at a discontinuity and wherever a header
// changes. What a look costs depends on what came since the last one, not on the window's length.
type Periods struct {
	Listed  []Period // of the manifest that lists segments
	Counted []Period // of the manifest that counts them
	scanned uint64   // segments below are in periods
}

// Look is what a look at the periods needs to know.
type Look struct {
	Offers     []Offer
	Alternates []Alternate
	// Known: it is known how long segments will be, so that a run may begin with its first part.
	Known bool
	// Even returns how long segments are that begin like one, as a whole number of ticks of a scale.
	Even func(*segment.Segment) (step, scale int64)
}

// Scanned is the number of the first segment that no look has taken in.
func (p *Periods) Scanned() uint64 { return p.scanned }

// Note takes in the segments that came since the last look.
func (p *Periods) Note(c *Look) {
	lead := c.Offers[0].Video
	if lead == nil {
		lead = c.Offers[0].Sound
	}
	first := lead.List.First()
	if first == nil {
		return
	}
	held := lead.Snapshot.Held
	if len(held) > 0 && p.scanned > held[0].MSN {
		held = held[min(p.scanned-held[0].MSN, uint64(len(held))):]
	}
	for _, s := range held {
		if s.Gap {
			continue
		}
		if !c.everywhere(s.MSN, false) {
			break // its other renditions are still being made
		}
		step, scale := c.Even(s)
		p.Listed = extend(p.Listed, Period{MSN: s.MSN, Start: s.Start, Key: c.key(s.MSN), Step: step, Scale: scale}, s.Discontinuity)
		p.count(c, s, s.Discontinuity)
		p.scanned = s.MSN + 1
	}
	// A run begins in the manifest for low latency with its first part.
	if s := lead.Snapshot.Open; s != nil && (len(p.Counted) == 0 || s.Discontinuity) && p.scanned >= s.MSN-min(s.MSN, 1) &&
		c.Known && c.everywhere(s.MSN, true) {
		p.count(c, s, true)
	}
	p.Listed, p.Counted = forget(p.Listed, first.MSN), forget(p.Counted, first.MSN)
}

// Close ends the newest periods with what there is of them.
func (p *Periods) Close(list []Offer) {
	for _, periods := range [][]Period{p.Listed, p.Counted} {
		n := len(periods)
		if n == 0 || periods[n-1].End > 0 {
			continue
		}
		for i := range list {
			for _, v := range list[i].views() {
				if w := v.List.Whole; len(w) > 0 {
					periods[n-1].End = max(periods[n-1].End, w[len(w)-1].Start+w[len(w)-1].Duration)
				}
			}
		}
	}
}

// count adds a segment to the periods of the manifest that counts. There a period also begins
// where a segment lies beside its place: the source's keyframes rule, not our wish.
func (p *Periods) count(c *Look, s *segment.Segment, begins bool) {
	if n := len(p.Counted); n > 0 {
		last := &p.Counted[n-1]
		if last.MSN == s.MSN {
			return // it began with the segment's first part
		}
		if d := s.Start - last.Where(s.MSN); d > last.length()*2/5 || -d > last.length()*2/5 {
			begins = true
		}
	}
	step, scale := c.Even(s)
	p.Counted = extend(p.Counted, Period{MSN: s.MSN, Start: s.Start, Key: c.key(s.MSN), Step: step, Scale: scale},
		begins)
}

// key tells sets of encodings apart: those of a segment's renditions.
func (c *Look) key(msn uint64) uint64 {
	h := fnv.New64a()
	for _, v := range c.views() {
		if s, _ := v.Snapshot.Find(msn); s != nil {
			_, _ = h.Write([]byte(s.Header.Name))
		}
	}
	return h.Sum64()
}

// views lists all views, in the order of the rungs.
func (c *Look) views() (out []*View) {
	for i := range c.Offers {
		out = append(out, c.Offers[i].views()...)
	}
	for i := range c.Alternates {
		out = append(out, c.Alternates[i].View)
	}
	return out
}

// extend begins a period when it must, or when its encodings differ from those before.
func extend(list []Period, next Period, begins bool) []Period {
	n := len(list)
	if n > 0 && !begins && list[n-1].Key == next.Key {
		return list
	}
	if n > 0 && list[n-1].End == 0 {
		list[n-1].End = next.Start
	}
	return append(list, next)
}

// forget drops periods that ended before a segment.
func forget(list []Period, first uint64) []Period {
	for len(list) > 1 && list[1].MSN <= first {
		list = list[1:]
	}
	return list
}

// everywhere reports whether a segment is whole in all renditions of the rungs, or with open begun.
func (c *Look) everywhere(msn uint64, open bool) bool {
	for i := range c.Offers {
		for _, v := range c.Offers[i].views() {
			s := v.Snapshot.Newest()
			if s == nil || s.MSN < msn || s.MSN == msn && s.Open && !open {
				return false
			}
		}
	}
	return true
}
