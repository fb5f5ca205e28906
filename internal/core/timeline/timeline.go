// Package timeline turns the times that a sender writes into the times of a channel. In come
// millisecond stamps that wrap at 32 bits, jitter by rounding, jump or stop; out go times in the
// tracks' own timescales that go up, are evenly spaced where the source is, and stand on the
// channel's media time, which runs with the wall clock since the channel was made.
package timeline

import "metaplasis/internal/core/media"

const (
	// maxJump is how far a stamp may stray from the one before it, in milliseconds, before the
	// feed counts as having jumped.
	maxJump = 10_000
	// audioSlack is how far audio stamps may drift from the sample count before they win.
	// Encoders round to milliseconds and resample; 60 ms is about three AAC frames.
	audioSlack = 60
	// videoSlack is the rounding that a millisecond stamp may carry, either way.
	videoSlack = 2
)

// Unwrapper extends 32-bit millisecond stamps to 64 bits.
type Unwrapper struct {
	last int64
	set  bool
}

// Next returns the extended stamp nearest to the one before.
func (u *Unwrapper) Next(stamp uint32) int64 {
	if !u.set {
		u.last, u.set = int64(stamp), true
		return u.last
	}
	u.last += int64(int32(stamp - uint32(u.last)))
	return u.last
}

// Feed maps the stamps of one contribution connection. It is not safe for concurrent use.
type Feed struct {
	start int64 // media time of the feed's first stamp, in milliseconds since the channel's epoch
	base  int64 // the feed's first stamp
	set   bool
	last  int64 // the newest mapped time, milliseconds, over all tracks
	wrap  Unwrapper
}

// NewFeed begins at a media time in milliseconds.
func NewFeed(start int64) *Feed { return &Feed{start: start, last: start} }

// absolute is how far a stamp may lie from the wall clock and still be taken for it, milliseconds.
const absolute = 10_000

// Align lets media time follow the sender's stamps in a way that every receiver of the same feed
// finds alike: as wall clock times, modulo 2^32, where they are that; else shifted by whole steps
// so that the first stamp lies nearest to the time when it came. Media time 0 is 1970. All times
// are milliseconds.
func (f *Feed) Align(stamp uint32, wall, step int64) {
	v := int64(stamp)
	f.wrap = Unwrapper{}
	f.wrap.Next(stamp)
	f.set, f.base = true, v
	const turn = 1 << 32
	turns := (wall - v + turn/2) / turn
	if d := v + turns*turn - wall; d < absolute && d > -absolute {
		f.start = v + turns*turn
	} else {
		f.start = v + (wall-v+step/2)/step*step
	}
	f.last = f.start
}

// Map returns the media time of a stamp in milliseconds, and whether the feed jumped: the stamp
// is so far from its neighbours that the old line cannot be followed. After a jump the line goes
// on where it was, one typical step later, and the caller declares a discontinuity.
func (f *Feed) Map(stamp uint32) (ms int64, jumped bool) {
	v := f.wrap.Next(stamp)
	if !f.set {
		f.set, f.base = true, v
	}
	ms = f.start + v - f.base
	if ms > f.last+maxJump || ms < f.last-maxJump {
		const step = 40
		f.base = v - (f.last + step - f.start)
		ms, jumped = f.last+step, true
	}
	f.last = max(f.last, ms)
	return ms, jumped
}

// Peek returns the media time of a stamp in milliseconds without moving on.
func (f *Feed) Peek(stamp uint32) (ms int64) {
	if !f.set {
		return f.start
	}
	w := f.wrap
	return f.start + w.Next(stamp) - f.base
}

// Last returns the newest media time given out, in milliseconds.
func (f *Feed) Last() int64 { return f.last }

// Track evens out the times of one track and converts them to its timescale.
type Track struct {
	timescale int64
	step      media.Rational // ticks between two units; invalid when the rate is not constant or not known
	slack     int64          // ticks by which a stamp may stray from the even line
	origin    int64          // ticks of the line's unit 0
	n         int64          // units since origin
	last      int64
	set       bool
	strays    int   // resyncs that came soon after one another
	Resyncs   int64 // how often the stamps won over the even line
}

// A rate that the stamps contradict this often, each time within this many units, was a wrong one.
const (
	maxStrays   = 4
	strayWithin = 30
)

// NewVideo evens video out to a frame rate. With an invalid rate times are only converted.
func NewVideo(rate media.Rational) *Track {
	t := &Track{timescale: media.VideoTimescale, slack: videoSlack * media.VideoTimescale / 1000}
	if rate.Valid() {
		t.step = media.Rational{Num: media.VideoTimescale * rate.Den, Den: rate.Num}
	}
	return t
}

// NewAudio evens audio out to frames of a number of samples.
func NewAudio(timescale int64, samples int64) *Track {
	return &Track{timescale: timescale, slack: audioSlack * timescale / 1000, step: media.Rational{Num: samples, Den: 1}}
}

// DTS converts a mapped time to ticks. The result is always greater than the one before.
func (t *Track) DTS(ms int64) int64 {
	ticks := media.Rescale(ms, 1000, t.timescale)
	if t.step.Valid() {
		if !t.set {
			t.origin, t.n = ticks, 0
		}
		even := t.origin + (t.n*t.step.Num+t.step.Den/2)/t.step.Den
		if d := ticks - even; d > t.slack || d < -t.slack {
			t.stray()
			t.origin, t.n = ticks, 0
			even = ticks
		}
		t.n++
		ticks = even
	}
	if t.set && ticks <= t.last {
		ticks = t.last + 1
	}
	t.last, t.set = ticks, true
	return ticks
}

// Step returns how long the newest unit lasts if the next one comes when it should, 0 when nobody
// can tell.
func (t *Track) Step() int64 {
	if !t.step.Valid() {
		return 0
	}
	return t.origin + (t.n*t.step.Num+t.step.Den/2)/t.step.Den - t.last
}

// stray counts a resync, and gives the rate up when they come one after the other.
func (t *Track) stray() {
	t.Resyncs++
	if t.n > strayWithin {
		t.strays = 0
	}
	if t.strays++; t.strays >= maxStrays {
		t.step = media.Rational{}
	}
}

// Composition converts the distance from decode to presentation time, snapping it to whole
// frames where the rate is constant. It never returns less than 0.
func (t *Track) Composition(ms int64) int64 {
	ticks := media.Rescale(max(ms, 0), 1000, t.timescale)
	if !t.step.Valid() {
		return ticks
	}
	frames := (2*ticks*t.step.Den + t.step.Num) / (2 * t.step.Num)
	even := (frames*t.step.Num + t.step.Den/2) / t.step.Den
	if d := ticks - even; d > t.slack || d < -t.slack {
		return ticks
	}
	return even
}

// commonRates are the frame rates that a measured interval is matched against.
var commonRates = []media.Rational{
	{Num: 10, Den: 1}, {Num: 12, Den: 1}, {Num: 15, Den: 1}, {Num: 20, Den: 1}, {Num: 24000, Den: 1001}, {Num: 24, Den: 1}, {Num: 25, Den: 1},
	{Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 48, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1},
}

// SnapRate returns the common rate nearest to a rate in thousandths of a frame a second, when
// one lies within 0.05 %, and the rate itself otherwise.
func SnapRate(milli int64) media.Rational {
	for _, r := range commonRates {
		if d := r.Milli() - milli; d*2000 <= r.Milli() && -d*2000 <= r.Milli() {
			return r
		}
	}
	return media.Rational{Num: milli, Den: 1000}.Reduce()
}

// RateMeter measures a frame rate from decode times in milliseconds.
type RateMeter struct {
	first, last int64
	n           int64
}

// Add takes one frame.
func (m *RateMeter) Add(ms int64) {
	if m.n == 0 {
		m.first = ms
	}
	m.last = ms
	m.n++
}

// Milli returns thousandths of a frame a second, 0 while it cannot tell.
func (m *RateMeter) Milli() int64 {
	if m.n < 2 || m.last <= m.first {
		return 0
	}
	return (m.n - 1) * 1_000_000 / (m.last - m.first)
}
