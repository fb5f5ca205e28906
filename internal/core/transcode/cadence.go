package transcode

import "metaplasis/internal/core/media"

// Cadence is how a rung's pictures are taken from the source's. The zero value takes all of them. A keyframe begins
// it again, so that the renditions' keyframes stand at the same times.
type Cadence struct {
	Every int            `json:"every,omitempty"` // 2: every second picture
	Rate  media.Rational `json:"rate,omitzero"`   // pictures stand at even times, so many a second
}

// Of returns the rate of the pictures that are taken from those of a rate.
func (c Cadence) Of(rate media.Rational) media.Rational {
	switch {
	case c.Rate.Valid():
		return c.Rate
	case c.Every > 1 && rate.Valid():
		return media.Rational{Num: rate.Num, Den: rate.Den * int64(c.Every)}.Reduce()
	}
	return rate
}

// same reports whether all pictures are taken as they come.
func (c Cadence) same() bool { return c.Every <= 1 && !c.Rate.Valid() }

// beat is where a cadence stands.
type beat struct {
	Cadence
	begun bool
	base  int64 // time of the keyframe that it began with
	index int64 // pictures since then: of the source, or even times that have passed
}

// longestRepeat is for how many seconds a picture is repeated when none comes.
const longestRepeat = 2

// schedule says whether a picture is taken, and when it is shown; repeat is how many even times before that have no
// picture of their own, for which the one before stands. must: a part begins with it, and others were left out, so that
// counting them tells nothing. Times are in ticks of media.VideoTimescale.
func (b *beat) schedule(pts int64, key, must bool) (at int64, repeat int64, taken bool) {
	if b.same() {
		return pts, 0, true
	}
	if key || !b.begun {
		b.begun, b.base, b.index = true, pts, 0
		return pts, 0, true
	}
	if !b.Rate.Valid() {
		if b.index++; must {
			b.index = 0
		}
		return pts, 0, b.index%int64(b.Every) == 0
	}
	// A picture that is a little early, by the rounding of stamps, counts as on time.
	const early = media.VideoTimescale / 1000
	index := media.RescaleDown(pts-b.base+early, b.Rate.Den*media.VideoTimescale, b.Rate.Num)
	if index <= b.index {
		return 0, 0, false
	}
	repeat = min(index-b.index-1, longestRepeat*b.Rate.Num/b.Rate.Den)
	b.index = index
	return b.at(index), repeat, true
}

// at is when the picture of an even time is shown.
func (b *beat) at(index int64) int64 {
	return b.base + media.Rescale(index, b.Rate.Num, b.Rate.Den*media.VideoTimescale)
}
