// Package segment cuts access units into segments. One Clock a channel decides where segments
// begin, for every rendition alike; one Cutter a rendition collects units between two of these
// boundaries and hands out CMAF segments a Window holds what is published.
package segment

import "metaplasis/internal/core/media"

// Boundary is the begin of a segment. Start is a presentation time in ticks of
// media.VideoTimescale, whatever the track.
type Boundary struct {
	MSN           uint64 // media sequence number
	Start         int64
	Discontinuity bool // the segment begins a new run of timestamps or encodings
	Open          bool // the source has no keyframe here: what passes through begins without one
}

// Mode says who leads the clock.
type Mode uint8

const (
	// Grid cuts at even steps; encoders are told to place keyframes there.
	Grid Mode = iota
	// Lead cuts at the source's own keyframes, since a rung passes the source through.
	Lead
)

// keep is how many past boundaries stay known, for renditions that lag behind.
const keep = 64

// Clock decides boundaries. Its mode may change at any boundary. It is not safe for concurrent use.
type Clock struct {
	step     int64 // nominal segment length in ticks of media.VideoTimescale
	mode     Mode
	next     uint64
	nextAt   int64 // where the next boundary is due
	pending  bool  // the next boundary carries a discontinuity
	fresh    bool  // the next boundary lies where the first unit is
	known    []Boundary
	horizon  int64 // every boundary before this time is decided
	anything bool
	aligned  bool  // boundaries lie at whole multiples of step, and numbers count them
	lastKey  int64 // presentation time of the newest keyframe
	distance int64 // from the one before it; 0 when there was none
	keys     int
	limit    int64 // the most that a segment may last, 0: no limit
	lastDTS  int64 // of the unit before
	opened   int64 // when the unit that opened the newest segment is decoded
	step1    int64 // how long units lasted lately, at most
}

// SetLimit bounds how long a segment may be where the source leads: one without a keyframe is cut all the same.
func (c *Clock) SetLimit(ticks int64) { c.limit = ticks }

// Expected returns where the next boundary will lie if the source's keyframes go on as they came, 0
// when nobody knows.
func (c *Clock) Expected() int64 {
	if at, certain := c.Due(); certain {
		return at
	}
	if c.mode != Lead || c.distance <= 0 {
		return 0
	}
	due := c.nextAt - c.distance/16 // keyframes that jitter a little
	at := c.lastKey + c.distance
	if at < due {
		at += (due - at + c.distance - 1) / c.distance * c.distance
	}
	return at
}

// NewClock makes a clock whose first boundary will carry the number next.
func NewClock(next uint64, step int64) *Clock { return &Clock{next: next, step: step} }

// Next returns the number of the next boundary that is not yet decided.
func (c *Clock) Next() uint64 { return c.next }

// SetMode changes who leads, from the next boundary on.
func (c *Clock) SetMode(m Mode) { c.mode = m }

// SetStep changes the nominal length, from the next boundary on.
func (c *Clock) SetStep(step int64) { c.step = step }

// SetAligned makes boundaries lie at whole multiples of the step since media time 0, and numbers
// count these, so that two clocks that are shown the same units agree. Numbers still never go back.
func (c *Clock) SetAligned(on bool) { c.aligned = on }

// align moves a boundary that is due onto the grid and gives it its number.
func (c *Clock) align(b *Boundary) {
	index := (b.Start + c.step/4) / c.step // an aligned sender's keyframe may come a little early
	if c.mode == Grid {
		index = b.Start / c.step
	}
	if index >= 0 {
		c.next = max(c.next, uint64(index))
	}
	b.MSN = c.next
	c.nextAt = (index + 1) * c.step
	if c.mode == Lead {
		c.nextAt -= c.step / 4
	}
}

// Begin starts a new run at a presentation time: the next boundary lies there.
func (c *Clock) Begin(at int64, discontinuity bool) {
	c.nextAt, c.pending, c.fresh = at, discontinuity, true
	c.keys, c.distance = 0, 0
	c.horizon = at
}

// Offer shows the clock a unit of the leading track before it is used, and returns the boundary
// that it opens, if it opens one. In Grid mode any unit at or behind the due time does; in Lead
// mode only a keyframe does.
func (c *Clock) Offer(u *media.AccessUnit) (Boundary, bool) {
	// Later keyframes cannot be presented before this unit is decoded.
	c.horizon = max(c.horizon, u.DTS)
	if u.Key {
		if c.keys++; c.keys > 1 {
			c.distance = u.PTS - c.lastKey
		}
		c.lastKey = u.PTS
	}
	open := c.overdue(u)
	if !open && (u.PTS < c.nextAt || c.mode == Lead && !u.Key) {
		return Boundary{}, false
	}
	b := Boundary{Open: open, MSN: c.next, Start: c.nextAt, Discontinuity: c.pending}
	if c.mode == Lead || c.fresh || u.PTS >= c.nextAt+c.step { // the last: the source paused
		b.Start = u.PTS
	}
	if open { // pictures that are decoded behind this one may be presented before it
		b.Start = u.DTS
	}
	c.pending, c.fresh, c.anything = false, false, true
	if c.aligned {
		c.align(&b)
	} else if c.mode == Lead {
		// A keyframe a little early still ends its segment: the sender's interval rules, not our step.
		c.nextAt = b.Start + c.step - c.step/4
	} else {
		c.nextAt = b.Start + c.step
	}
	c.next++
	c.opened = u.DTS
	c.known = append(c.known, b)
	if len(c.known) > keep {
		c.known = append(c.known[:0], c.known[len(c.known)-keep:]...)
	}
	return b, true
}

// overdue reports whether a unit that is no keyframe must begin a segment, since the one that is open would be too long with it.
func (c *Clock) overdue(u *media.AccessUnit) bool {
	c.step1 = max(min(u.DTS-c.lastDTS, media.VideoTimescale), c.step1-c.step1/16)
	c.lastDTS = u.DTS
	if c.mode != Lead || c.limit <= 0 || u.Key || c.fresh || len(c.known) == 0 {
		return false
	}
	return u.DTS+c.step1-c.opened > c.limit
}

// Due returns where the next boundary lies, when that is certain already.
func (c *Clock) Due() (at int64, certain bool) {
	return c.nextAt, c.mode == Grid && !c.fresh && c.anything
}

// Decided reports whether the segment of a presentation time is known for certain.
func (c *Clock) Decided(pts int64) bool {
	if !c.anything {
		return false
	}
	if at, certain := c.Due(); certain && pts < at {
		return true
	}
	return pts < c.horizon
}

// Even returns how far boundaries lie apart when they lie at even steps, 0 when the source leads.
func (c *Clock) Even() int64 {
	if c.mode == Grid {
		return c.step
	}
	return 0
}

// Known reports whether it has shown how far the source's keyframes are apart.
func (c *Clock) Known() bool { return c.distance > 0 }

// SetDistance tells how far the source's keyframes were apart before this run.
func (c *Clock) SetDistance(d int64) { c.distance = d }

// Distance returns how far the source's keyframes are apart, 0 when it has not shown.
func (c *Clock) Distance() int64 { return c.distance }

// Length returns how long segments are likely to be, in ticks of media.VideoTimescale.
func (c *Clock) Length() int64 {
	if c.mode != Lead || c.distance <= 0 {
		return c.step
	}
	return (c.step*3/4 + c.distance - 1) / c.distance * c.distance
}

// Start returns where the segment of a number begins, while that is known.
func (c *Clock) Start(msn uint64) (at int64, ok bool) {
	for i := range c.known {
		if c.known[i].MSN == msn {
			return c.known[i].Start, true
		}
	}
	return 0, false
}

// Lookup returns the boundary that opens the segment of a presentation time, and where that
// segment ends, 0 when this is not certain yet. It fails for times before the first boundary
// that is still known.
func (c *Clock) Lookup(pts int64) (b Boundary, end int64, ok bool) {
	end, certain := c.Due()
	if !certain {
		end = 0
	}
	for i := len(c.known) - 1; i >= 0; i-- {
		if c.known[i].Start <= pts {
			return c.known[i], end, true
		}
		end = c.known[i].Start
	}
	return Boundary{}, 0, false
}
