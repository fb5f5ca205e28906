package segment

import (
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
)

// Header is the CMAF header of a run of segments, shared by all of them.
type Header struct {
	Name  string // file name, made of its contents, so that equal bytes have one name
	Bytes []byte
	Track media.Track
}

// Segment is a finished CMAF segment. It is immutable.
type Segment struct {
	MSN           uint64
	Discontinuity bool
	Gap           bool  // nothing was coded for this stretch: it has a length but no bytes
	Start         int64 // first presentation time, ticks of media.VideoTimescale
	Duration      int64 // ticks of media.VideoTimescale
	Header        *Header
	Bytes         []byte
	Units         int       // access units
	Arrived       time.Time // when the last unit came in
}

// Bitrate returns bits a second.
func (s *Segment) Bitrate() int64 {
	if s.Duration <= 0 {
		return 0
	}
	return int64(len(s.Bytes)) * 8 * media.VideoTimescale / s.Duration
}

// The bounds of an open segment: a sender without keyframes must not fill the memory.
const (
	maxUnits = 4096
	maxBytes = 64 << 20
)

// Cutter collects the units of one rendition between two boundaries.
type Cutter struct {
	header  *Header // of the open segment
	next    *Header // of the segments that begin from now on
	open    *Boundary
	units   []media.AccessUnit
	bytes   int
	arrived time.Time
	lastDur int64
	flushed bool   // the segment of open is out already
	floor   uint64 // no segment below this number may be made any more
	Dropped uint64 // units that had no place: late, before a keyframe, or past a bound
}

// SetHeader changes the header for the segments that begin from now on.
func (c *Cutter) SetHeader(h *Header) { c.next = h }

// Header returns the header that the next segment will have.
func (c *Cutter) Header() *Header { return c.next }

// Open returns the number of the segment being collected.
func (c *Cutter) Open() (uint64, bool) {
	if c.open == nil {
		return 0, false
	}
	return c.open.MSN, true
}

// Push adds a unit to the segment that b opens, and returns the segments that this finishes: the
// one before, when u is the first behind a boundary, and its own, when u is known to be its last:
// it tells its duration and ends at due. A due of 0 means that nobody knows yet.
func (c *Cutter) Push(u media.AccessUnit, b Boundary, due int64, now time.Time) (done []*Segment) {
	if c.next == nil || b.MSN < c.floor {
		c.Dropped++
		return nil
	}
	if c.open == nil || b.MSN > c.open.MSN {
		if c.next.Track.Kind == media.Video && !u.Key {
			c.Dropped++ // an encoder that missed its keyframe, or a feed that joins late
			return nil
		}
		if s := c.finish(&u, b.Discontinuity); s != nil {
			done = append(done, s)
		}
		c.open, c.units, c.bytes, c.flushed, c.header = &b, nil, 0, false, c.next
	} else if b.MSN < c.open.MSN || c.flushed || len(c.units) >= maxUnits || c.bytes+len(u.Data) > maxBytes {
		c.Dropped++
		return done
	}
	c.closeGap(u.DTS)
	c.units = append(c.units, u)
	c.bytes += len(u.Data)
	c.arrived = now
	if u.Duration > 0 && due > 0 && u.PTS == u.DTS {
		end := media.Rescale(u.PTS+u.Duration, c.header.Track.Timescale, media.VideoTimescale)
		if end >= due {
			if s := c.finish(nil, false); s != nil {
				done = append(done, s)
			}
			c.flushed = true
		}
	}
	return done
}

// closeGap sets the duration of the newest unit from the time of its successor.
func (c *Cutter) closeGap(next int64) {
	if n := len(c.units); n > 0 {
		if d := next - c.units[n-1].DTS; d > 0 {
			c.units[n-1].Duration = d
			c.lastDur = d
		}
	}
}

// Flush finishes the open segment, at the end of a feed.
func (c *Cutter) Flush() *Segment {
	s := c.finish(nil, false)
	c.open, c.units, c.bytes, c.flushed = nil, nil, 0, false
	return s
}

// Floor returns the lowest number that a segment can still get.
func (c *Cutter) Floor() uint64 { return c.floor }

// SetFloor forbids segments below a number.
func (c *Cutter) SetFloor(msn uint64) { c.floor = max(c.floor, msn) }

// Discard forgets the open segment, so that its units can come again from a new worker.
func (c *Cutter) Discard() {
	if !c.flushed {
		c.open, c.units, c.bytes = nil, nil, 0
	}
}

func (c *Cutter) finish(next *media.AccessUnit, jump bool) *Segment {
	if len(c.units) == 0 || c.flushed {
		return nil
	}
	if next != nil && !jump {
		c.closeGap(next.DTS)
	}
	last := &c.units[len(c.units)-1]
	if last.Duration <= 0 {
		last.Duration = max(c.lastDur, 1)
	}
	c.floor = c.open.MSN + 1
	t := &c.header.Track
	var total int64
	start := c.units[0].PTS
	for i := range c.units {
		total += c.units[i].Duration
		start = min(start, c.units[i].PTS)
	}
	return &Segment{
		MSN: c.open.MSN, Discontinuity: c.open.Discontinuity, Header: c.header,
		Start:    media.Rescale(start, t.Timescale, media.VideoTimescale),
		Duration: media.Rescale(total, t.Timescale, media.VideoTimescale),
		Bytes:    bmff.Segment(t, uint32(c.open.MSN), c.units),
		Units:    len(c.units), Arrived: c.arrived,
	}
}
