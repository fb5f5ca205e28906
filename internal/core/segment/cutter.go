package segment

import (
	"cmp"
	"fmt"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// The bounds of an open segment: a sender without keyframes must not fill the memory.
const (
	longestSegment = 60 * media.VideoTimescale
	// MaxSegmentBytes is the most that an open segment holds, unless its channel allows less.
	//limit:bytes of an open segment | each rendition | the segment is closed early
	MaxSegmentBytes = 64 << 20
	unitCost        = 128 // bytes that a unit takes beside its data while it waits
)

// maxBridge is how far decode times may part from the end of what is out, in ticks of
// media.VideoTimescale, and still go on there, so that a decoder sees no gap. Presentation times stay.
//
//limit:ticks over which decode times go on without a gap | each rendition | a discontinuity
const maxBridge = media.VideoTimescale / 2

// Cutter collects the units of one rendition between two boundaries and hands them out in parts.
//
//large:the state of one open segment, its parts and what decides where it ends
type Cutter struct {
	header    *Header // of the open segment
	next      *Header // of the segments that begin from now on
	parting   Parting // of the open segment
	after     Parting // of the segments that begin from now on
	open      *Boundary
	state     *Segment           // the open segment as it was last handed out, nil before its first part
	units     []media.AccessUnit // of the part being collected
	part      int64              // the part grid's next line ends part number part
	base      int64              // where the part grid begins, ticks of media.VideoTimescale
	total     int                // units of the open segment
	bytes     int
	begun     time.Time
	arrived   time.Time
	lastDur   int64
	lastSize  int64  // bytes of the segment before
	room      []byte // set aside for the open segment
	flushed   bool   // the segment of open is out already
	dependent bool   // the open segment needs others
	floor     uint64 // no segment below this number may be made any more
	end       int64  // decode time behind the last unit that is out, track ticks
	started   bool   // end is known
	shown     int64  // presentation time behind all units of the open segment that are out, track ticks
	due       int64  // where the open segment ends, ticks of media.VideoTimescale; 0 while nobody knows
	again     bool   // units come a second time, and are not wanted before a keyframe behind shown
	MaxBytes  int    // of the open segment; 0 is MaxSegmentBytes
	Longest   int64  // that a segment may be, ticks of media.VideoTimescale: its last picture ends there; 0: no limit
	Prefix    string // of the segments' names
	// Fragments is how many fragments of a segment have numbers of their own; 0 is 512. See FragmentNumbers.
	Fragments int
	// Messages are put at the begin of the segment of a number; nil for none. Their times are set
	// to the segment's.
	Messages func(msn uint64) []bmff.Message
	// Produced tells when the media at a presentation time was made, for prft boxes; nil takes the
	// time when it came.
	Produced func(start int64) time.Time
	Dropped  uint64 // units that had no place: late, before a keyframe, or past a bound
	// Overflows are those of them that were past a bound.
	Overflows uint64
}

// SetHeader changes the header for the segments that begin from now on.
func (c *Cutter) SetHeader(h *Header) { c.next = h }

// Header returns the header that the next segment will have.
func (c *Cutter) Header() *Header { return c.next }

// SetParting changes how long parts are, from the next segment on.
func (c *Cutter) SetParting(p Parting) { c.after = p }

// Open returns the number of the segment being collected.
func (c *Cutter) Open() (uint64, bool) {
	if c.open == nil {
		return 0, false
	}
	return c.open.MSN, true
}

// Push adds a unit to the segment that b opens, and returns the new states of segments that this
// makes: of the one before, when u is the first behind a boundary, and of its own, when u ends a
// part. A part ends when its successor's first unit comes, or at once when u tells its duration.
// due is where the segment ends, 0 when nobody knows yet.
func (c *Cutter) Push(u media.AccessUnit, b Boundary, due int64, now time.Time) (out []*Segment) {
	if c.next == nil || b.MSN < c.floor {
		c.Dropped++
		return nil
	}
	if c.again {
		if u.PTS < c.shown || c.next.Track.Kind == media.Video && !u.Key {
			return nil
		}
		c.again = false
	}
	begins := c.open == nil || b.MSN > c.open.MSN
	leaves := c.open != nil && b.MSN > c.open.MSN+1 // something out: its time is not to be bridged
	if !begins || !b.Discontinuity && !leaves {
		c.chain(&u)
	}
	if begins {
		if c.next.Track.Kind == media.Video && !u.Key && (!b.Open || c.open == nil && !c.started) {
			c.Dropped++ // an encoder that missed its keyframe, or a feed that joins late
			return nil
		}
		if s := c.finish(&u, &b); s != nil {
			out = append(out, s)
		}
		c.begin(&u, b, now)
	} else if b.MSN < c.open.MSN || c.flushed || c.full(&u) {
		c.Dropped++
		if b.MSN == c.open.MSN && !c.flushed {
			c.Overflows++
		}
		return out
	} else {
		c.closeGap(u.DTS)
		if len(c.units) > 0 && c.passed(&u, false) {
			out = append(out, c.cut(false))
		}
	}
	if t := &c.header.Track; t.Kind == media.Video && !u.Key {
		c.dependent = c.dependent || c.total == 0 || coding.Leading(t.Codec, u.Data)
	}
	c.due = due
	c.units = append(c.units, u)
	c.total++
	c.bytes += len(u.Data) + unitCost
	c.arrived = now
	if u.Duration <= 0 {
		return out
	}
	if due > 0 && u.PTS == u.DTS {
		end := media.Rescale(u.PTS+u.Duration, c.header.Track.Timescale, media.VideoTimescale)
		if end >= due {
			if s := c.finish(nil, nil); s != nil {
				out = append(out, s)
			}
			c.flushed = true
			return out
		}
	}
	if c.passed(&u, true) {
		out = append(out, c.cut(false))
	}
	return out
}

// full reports whether the open segment takes no more.
func (c *Cutter) full(u *media.AccessUnit) bool {
	return c.bytes+len(u.Data)+unitCost > cmp.Or(c.MaxBytes, MaxSegmentBytes) ||
		media.Rescale(u.PTS, c.header.Track.Timescale, media.VideoTimescale)-c.open.Start > longestSegment
}

// chain lets a unit be decoded when the one before it is over, as was promised where that one ended a
// part, and never before it.
func (c *Cutter) chain(u *media.AccessUnit) {
	t := &c.next.Track
	switch n := len(c.units); {
	case n > 0:
		u.DTS = max(u.DTS, c.units[n-1].DTS+1)
	case c.started:
		d := u.DTS - c.end
		far := media.Rescale(max(d, -d), t.Timescale, media.VideoTimescale)
		if d == 0 || far > maxBridge {
			break
		}
		if t.Kind != media.Video && far > soundBridge {
			if d < 0 || u.Duration <= 0 {
				break
			}
			u.Duration += d // frames are missing: this one lasts over their place, so that players hold sound without a hole
		}
		u.DTS = c.end
	}
	if t.Kind != media.Video {
		u.PTS = u.DTS
	}
	u.PTS = max(u.PTS, u.DTS)
}

// soundBridge is the same as maxBridge for sound, which is presented when it is decoded: nobody hears a
// millisecond.
const soundBridge = media.VideoTimescale / 1000

func (c *Cutter) begin(u *media.AccessUnit, b Boundary, now time.Time) {
	c.open, c.state, c.units, c.bytes, c.total, c.flushed, c.header = &b, nil, nil, 0, 0, false, c.next
	c.dependent = false
	c.parting = c.after
	c.begun, c.part = now, 1
	c.base = b.Start
	if at := media.Rescale(u.PTS, c.header.Track.Timescale, media.VideoTimescale); c.parting.Step > 0 &&
		at-b.Start > c.parting.Step/8 {
		c.base = at // it begins late, and its first part is not to be a short one
	}
	if c.header.Track.Kind == media.Video {
		// Decode times are what grows evenly; they lie before the presentation times where
		// pictures are reordered.
		c.base = media.Rescale(u.DTS, c.header.Track.Timescale, media.VideoTimescale)
	}
}

// slack is how far a unit may miss a line of the part grid by rounding: half a millisecond.
const slack = media.VideoTimescale / 2000

// passed reports whether a unit, by its start or its end, has reached the end of the open part.
func (c *Cutter) passed(u *media.AccessUnit, end bool) bool {
	if c.parting.Step <= 0 {
		return false
	}
	if c.parting.Frames > 0 {
		return len(c.units) >= c.parting.Frames || c.overlong(u, end)
	}
	if c.parting.Least > 0 {
		at := u.DTS
		if end {
			at += u.Duration
		}
		first := at
		if len(c.units) > 0 {
			first = c.units[0].DTS
		}
		return media.Rescale(at-first, c.header.Track.Timescale, media.VideoTimescale)+slack >= c.parting.Least
	}
	at := u.DTS
	if end {
		at += u.Duration
	}
	return media.Rescale(at, c.header.Track.Timescale, media.VideoTimescale)-c.base+slack >= c.part*c.parting.Step
}

// overlong reports whether a part that is counted in frames lasts as long as that many do, since one of them lasts longer.
func (c *Cutter) overlong(u *media.AccessUnit, end bool) bool {
	if len(c.units) == 0 {
		return false
	}
	usual := c.header.Track.FrameSamples
	at := u.DTS
	if end {
		at += u.Duration
	}
	return usual > 0 && at-c.units[0].DTS > int64(c.parting.Frames)*usual-usual/2
}

// until is the decode time at which the newest unit is over: when the next one comes, and where numbers are left out between,
// no later than its own segment ends. What is left out is a gap of its own length.
func (c *Cutter) until(next *media.AccessUnit, b *Boundary) int64 {
	if n := len(c.units); n > 0 && b.MSN > c.open.MSN+1 {
		end := c.due
		if end <= c.open.Start {
			end = c.open.Start + (b.Start-c.open.Start)/int64(b.MSN-c.open.MSN)
		}
		last := &c.units[n-1]
		// Presentation times lie behind decode times by as much at the end as at the newest unit.
		if at := media.Rescale(end, media.VideoTimescale, c.header.Track.Timescale) - (last.PTS - last.DTS); at > last.DTS {
			return min(at, next.DTS)
		}
	}
	return next.DTS
}

// within is no later than the open segment may end, where its newest picture began before that.
func (c *Cutter) within(end int64) int64 {
	n := len(c.units)
	if c.Longest <= 0 || n == 0 {
		return end
	}
	first := c.units[0].DTS
	if c.state != nil {
		first = c.state.first
	}
	most := first + media.RescaleDown(c.Longest, media.VideoTimescale, c.header.Track.Timescale)
	if most <= c.units[n-1].DTS {
		return end
	}
	return min(end, most)
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

// cut makes a part of the units at hand and returns the segment's new state.
func (c *Cutter) cut(last bool) *Segment {
	t := &c.header.Track
	s := c.state
	if s == nil {
		s = &Segment{
			MSN: c.open.MSN, Prefix: c.Prefix, Discontinuity: c.open.Discontinuity, Header: c.header, ETag: Tag(c.open.MSN, c.header), Begun: c.begun, Made: &Made{},
			Start: media.Rescale(c.units[0].PTS, t.Timescale, media.VideoTimescale),
		}
		s.first, s.FirstPTS = c.units[0].DTS, c.units[0].PTS
		if t.Kind == media.Video && c.units[0].Key {
			s.KeySize = len(c.units[0].Data)
		}
	}
	next := *s // states that were handed out never change
	next.Open = !last
	next.Dependent = c.dependent
	if len(c.units) > 0 {
		tail := &c.units[len(c.units)-1]
		if tail.Duration <= 0 {
			tail.Duration = max(c.lastDur, 1)
		}
		o := bmff.ChunkOptions{Sequence: sequence(c.open.MSN, len(s.Parts), c.Fragments), First: len(s.Parts) == 0}
		if o.First {
			o.Produced = c.begun
			if c.Produced != nil {
				o.Produced = c.Produced(s.Start)
			}
			if c.Messages != nil {
				o.Messages = c.Messages(c.open.MSN)
			}
			for i := range o.Messages {
				o.Messages[i].Time = uint64(max(c.units[0].PTS, 0))
			}
		}
		p := &Part{
			Start:       media.Rescale(c.units[0].PTS, t.Timescale, media.VideoTimescale),
			Independent: c.units[0].Key, Units: len(c.units), Arrived: c.arrived,
			Bytes: c.write(t, o), ETag: fmt.Sprintf(`"%d.%d-%s"`, s.MSN, len(s.Parts), c.header.Name),
		}
		// Ends are rounded, not durations, so that no error adds up; and down, as hls.Seconds does.
		c.end, c.started = tail.DTS+tail.Duration, true
		if len(s.Parts) == 0 {
			c.shown = c.end
		}
		for i := range c.units {
			c.shown = max(c.shown, c.units[i].PTS+c.units[i].Duration)
		}
		until := media.RescaleDown(c.end-s.first, t.Timescale, media.VideoTimescale)
		p.Duration = until - s.Duration
		next.Parts = append(s.Parts, p)
		next.Blob = c.pieces(s.Blob, p.Bytes)
		next.Duration, next.TrackDuration = until, c.end-s.first
		next.Size += int64(len(p.Bytes))
		next.Units += p.Units
		next.Arrived = c.arrived
		if c.parting.Step > 0 {
			c.part = max(c.part+1, (media.Rescale(c.end, t.Timescale, media.VideoTimescale)-c.base+slack)/c.parting.Step+1)
		}
		c.units = nil
	}
	c.state = &next
	return &next
}

// sequence numbers fragments so that the numbers grow, the same on every origin of aligned segments
// (ISO/IEC 14496-12, 8.8.5). The field has 32 bits: with 64 numbers a segment they begin again after 67 million
// segments, four years of segments of two seconds. Media Source Extensions take no notice of them.
func sequence(msn uint64, part, fragments int) uint32 {
	if fragments <= 0 {
		fragments = 512
	}
	return uint32(msn*uint64(fragments)) + uint32(min(part, fragments-1))
}

// FragmentNumbers returns how many numbers to set aside for the fragments of a segment, given the nominal lengths of
// segments and parts: four times as many as there are, since a segment may be longer, and a power of two.
func FragmentNumbers(segment, part int64) int {
	n := 4
	for most := 4 * segment / max(part, 1); int64(n) < most && n < 512; {
		n *= 2
	}
	return n
}

// write makes a chunk in the room that was set aside for the segment, so that its parts lie one
// behind the other and the whole can be sent in one piece without being copied.
func (c *Cutter) write(t *media.Track, o bmff.ChunkOptions) []byte {
	if need := bmff.ChunkSize(o, c.units); o.First || need > cap(c.room)-len(c.room) {
		// The last segment's size is a good guess; what is not used of the room is given up.
		c.room = make([]byte, 0, max(need, int(c.lastSize+c.lastSize/8)))
	}
	from := len(c.room)
	c.room = bmff.AppendChunk(c.room, t, o, c.units)
	return c.room[from:len(c.room):len(c.room)]
}

// pieces adds a chunk to the pieces of a segment, joining it to the last one where they touch.
func (c *Cutter) pieces(before Blob, chunk []byte) Memory {
	list, _ := before.(Memory) // of a segment that is being made
	n := len(list)
	if n > 0 && len(c.room) > len(chunk) && len(list[n-1]) == len(c.room)-len(chunk) {
		return append(list[:n-1:n-1], c.room[:len(c.room):len(c.room)])
	}
	return append(list[:n:n], chunk)
}

// Flush finishes the open segment, at the end of a feed.
func (c *Cutter) Flush() *Segment {
	s := c.finish(nil, nil)
	c.open, c.state, c.units, c.bytes, c.total, c.flushed = nil, nil, nil, 0, 0, false
	return s
}

// Floor returns the lowest number that a segment can still get.
func (c *Cutter) Floor() uint64 { return c.floor }

// SetFloor forbids segments below a number.
func (c *Cutter) SetFloor(msn uint64) { c.floor = max(c.floor, msn) }

// Discard forgets the units that are not out yet, since they come again from a new worker, and
// returns the presentation time from which on they are wanted, 0 for all of the open segment.
func (c *Cutter) Discard() (from int64) {
	if c.flushed || c.open == nil {
		return 0
	}
	c.units = nil
	if c.state == nil {
		c.open, c.bytes, c.total = nil, 0, 0
		return 0
	}
	c.again = true
	return c.shown
}

// finish closes the open segment. next is what comes behind it, in the segment that b opens.
func (c *Cutter) finish(next *media.AccessUnit, b *Boundary) *Segment {
	if c.open == nil || c.flushed || c.state == nil && len(c.units) == 0 {
		return nil
	}
	if next != nil && !b.Discontinuity {
		c.closeGap(c.within(c.until(next, b)))
	}
	c.floor = c.open.MSN + 1
	s := c.cut(true)
	c.lastSize, c.room = s.Size, nil
	return s
}
