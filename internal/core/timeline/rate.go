package timeline

import "metaplasis/internal/core/media"

// commonRates are the frame rates that a measured interval is matched against.
var commonRates = []media.Rational{
	{Num: 10, Den: 1}, {Num: 12, Den: 1}, {Num: 15, Den: 1}, {Num: 20, Den: 1}, {Num: 24000, Den: 1001}, {Num: 24,
		Den: 1}, {Num: 25, Den: 1},
	{Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 48, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60,
		Den: 1},
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
	longest     int64
	stamps      [meterStamps]int64
}

const meterStamps = 64

// Add takes one frame.
func (m *RateMeter) Add(ms int64) {
	if m.n == 0 {
		m.first = ms
	} else {
		m.longest = max(m.longest, ms-m.last)
	}
	if m.n < meterStamps {
		m.stamps[m.n] = ms
	}
	m.last = ms
	m.n++
}

// Longest returns the longest distance between two frames in milliseconds.
func (m *RateMeter) Longest() int64 { return m.longest }

// Frames returns how many frames came.
func (m *RateMeter) Frames() int64 { return m.n }

// Milli returns thousandths of a frame a second, 0 while it cannot tell.
func (m *RateMeter) Milli() int64 {
	if m.n < 2 || m.last <= m.first {
		return 0
	}
	return media.RescaleDown(m.n-1, m.last-m.first, 1_000_000)
}

// Constant returns the common rate that the frames have, as far as milliseconds and a little jitter can
// tell; an invalid one when their distances vary.
func (m *RateMeter) Constant() media.Rational {
	milli := m.Milli()
	if milli == 0 {
		return media.Rational{}
	}
	best, off := media.Rational{}, int64(0)
	for _, r := range append([]media.Rational{SnapRate((milli + 50) / 100 * 100)}, commonRates...) {
		if !r.Valid() {
			continue
		}
		// The rate is measured to within the rounding of the first and last stamp, and the jitter.
		d := abs(r.Milli() - milli)
		if span := m.last - m.first; d*span > 2*jitter*r.Milli() {
			continue
		}
		if far := m.strays(r); far <= jitter && (!best.Valid() || far < off) {
			best, off = r, far
		}
	}
	return best
}

// Fits reports whether the frames may have a rate.
func (m *RateMeter) Fits(r media.Rational) bool { return r.Valid() && m.strays(r) <= jitter }

// Jitter returns by how many milliseconds the frames stray from a rate.
func (m *RateMeter) Jitter(r media.Rational) int64 {
	if !r.Valid() {
		return 0
	}
	return m.strays(r)
}

// jitter is by how many milliseconds the stamps of a constant rate may stray.
const jitter = 13

// strays returns how far the stamps are from an even line at most, in milliseconds.
func (m *RateMeter) strays(r media.Rational) int64 {
	low, high := int64(0), int64(0)
	for i := range min(m.n, meterStamps) {
		d := m.stamps[i] - m.first - i*1000*r.Den/r.Num
		low, high = min(low, d), max(high, d)
	}
	return (high - low + 1) / 2
}
