package timeline

import (
	"time"

	"metaplasis/internal/core/media"
)

// A sender's clock never runs quite as fast as ours: 50 millionths are 4 s a day. What came of its
// media by a time is compared with that time. A network only ever delays, so of each window the unit
// that was delayed least is what counts.
const (
	driftWindow = 10 * time.Second
	// A difference up to driftRest microseconds stays as it is, since a network makes as much; what is
	// beyond is made up over settleIn, and at maxRate millionths at most: nobody hears or sees it.
	driftRest = 40_000
	settleIn  = 60 * time.Second
	//limit:millionths by which times are moved | each feed | it takes longer
	maxRate = 500
	// The drift is told from so many windows at the begin and as many at the end, once so many have passed.
	driftSample  = 6
	driftWindows = 60
)

// drift follows the clock of one sender. All differences are microseconds.
type drift struct {
	set     bool
	best    int64 // of the window: how far media was ahead of the clock at most
	until   time.Duration
	last    time.Duration
	moved   int64 // ticks·10^6 by which media times are moved
	rate    int64 // millionths at which they are being moved
	lead    int64 // by which the first unit was ahead of the clock
	windows int64
	first   int64              // sum of the first windows' differences, without what was moved
	recent  [driftSample]int64 // the last ones
}

// see takes the media time of a unit since the feed's start, in ticks of media.VideoTimescale, and
// the wall clock when it came, and returns by how many ticks to move it.
func (d *drift) see(ticks int64, now time.Duration) (move int64) {
	if now > d.last {
		// ticks·10^6 = seconds · 90,000 · millionths
		d.moved += media.Rescale((now-d.last).Microseconds()*d.rate, 1_000_000, media.VideoTimescale)
		d.last = now
	}
	ahead := micros(ticks+d.shift()) - now.Microseconds() + d.lead
	if !d.set {
		d.set, d.best, d.until = true, ahead, now+driftWindow
	}
	d.best = max(d.best, ahead)
	if now >= d.until {
		d.turn(now)
		d.best = ahead
	}
	return d.shift()
}

func micros(ticks int64) int64 { return media.RescaleDown(ticks, media.VideoTimescale, 1_000_000) }

// shift is by how many ticks times are moved now.
func (d *drift) shift() int64 {
	const half = 500_000
	if d.moved < 0 {
		return -((-d.moved + half) / 1_000_000)
	}
	return (d.moved + half) / 1_000_000
}

// turn ends a window.
func (d *drift) turn(now time.Duration) {
	d.until = now + driftWindow
	raw := d.best - micros(d.shift())
	if d.windows < driftSample {
		d.first += raw
	}
	d.recent[d.windows%driftSample] = raw
	d.windows++
	beyond := max(d.best-driftRest, 0) + min(d.best+driftRest, 0)
	d.rate = min(max(-beyond/int64(settleIn/time.Second), -maxRate), maxRate)
}

// measured returns by how many millionths the sender's clock runs fast.
func (d *drift) measured() (ppm int64, known bool) {
	if d.windows < driftWindows {
		return 0, false
	}
	var recent int64
	for _, v := range d.recent {
		recent += v
	}
	span := (d.windows - driftSample) * int64(driftWindow/time.Second) // seconds between the samples' middles
	change := (recent - d.first) / driftSample
	if change < 0 {
		return -((-change + span/2) / span), true
	}
	return (change + span/2) / span, true
}
