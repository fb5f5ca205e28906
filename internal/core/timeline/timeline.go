// Package timeline turns the times that a sender writes into the times of a channel. In come stamps of
// each track's own clock, which may wrap, jitter, run a little fast or slow, jump or stop; out go
// times that go up, are evenly spaced where the source is, and stand on the channel's media time,
// which runs with the wall clock since the channel was made.
//
// A Feed does what all tracks of one connection share: wrapping, jumps, and the drift of the
// sender's clock. A Track evens out one of them.
package timeline

import (
	"time"

	"metaplasis/internal/core/media"
)

// ticksEachMilli converts milliseconds to ticks of media.VideoTimescale.
const ticksEachMilli = media.VideoTimescale / 1000

// Verdict says what a stamp means.
type Verdict uint8

// The verdicts.
const (
	Follows Verdict = iota
	// Jumped: the stamp cannot be on the line that the others were on. A new run begins with it.
	Jumped
	// Stale: the stamp is still on the line of the run before, which has ended.
	Stale
)

// Bounds of what counts as one line, in ticks of media.VideoTimescale.
const (
	// maxBack is how far a track's stamps may go back: units that were interleaved in the wrong order.
	//limit:ticks by which stamps may go back | each track | the line starts over
	maxBack = 500 * ticksEachMilli
	// maxAhead is how far they may go forward beyond all tracks and the time that has passed.
	//limit:ticks by which stamps may be ahead of all tracks and the clock | each track | the line starts over
	maxAhead = 1000 * ticksEachMilli
	// maxJump is how far a stamp may stray from the one before it in any case.
	//limit:ticks by which a stamp may stray from the one before | each track | the line starts over
	maxJump = 10_000 * ticksEachMilli
	// maxCorrection is how far a track's anchors may lie apart and be taken for one.
	//limit:ticks by which a track's anchors may differ | each feed | another line
	maxCorrection = 200 * ticksEachMilli
	// maxClockStep is how far a sender's wall clock may correct a track; past it that clock was set.
	//limit:ticks by which a sender's wall clock moves a track | each feed | its clock was set, the track stays
	maxClockStep = 1000 * ticksEachMilli
	// staleFor is for how long after a jump the stamps of other tracks may still be on the old line.
	staleFor = 3000 * ticksEachMilli
)

// trackTimeline is what is known of one track's stamps, unwrapped.
type trackTimeline struct {
	set   bool
	clock media.Clock   // of the track
	stamp int64         // the newest, of its clock
	last  int64         // the same in ticks of media.VideoTimescale, on the line of all tracks
	shift int64         // from the track's own line to that one, in the same
	known bool          // shift is by the sender's wall clock
	at    time.Duration // when it came
	moved int           // the newest jump that it followed, counted from 1
}

// Feed maps the stamps of one contribution connection to media time, in ticks of
// media.VideoTimescale. It is not safe for concurrent use.
type Feed struct {
	start  int64 // media time of the feed's first stamp
	base   int64 // the feed's first stamp, unwrapped, ticks of media.VideoTimescale
	set    bool
	newest int64 // the newest over all tracks, in the same way
	last   int64 // the newest media time given out
	tracks map[media.TrackID]*trackTimeline
	old    *int64 // the newest stamp of the line before a jump
	drift  *drift // nil: the sender's clock is taken as it is

	jumps  []jump // the newest, of all tracks
	jumped int    // how many there were
	moved  int64  // by how much all of them together moved the line

	anchored bool  // some track was anchored
	wall     int64 // the sender's wall clock where the line is 0
}

// jump is by how much a track's stamps jumped, and when.
type jump struct {
	by     int64
	at     time.Duration
	number int // counted from 1
}

const (
	//limit:jumps that are remembered | each feed | the oldest is forgotten
	maxJumps = 4
	// sameJump is for how long another track's jump may be the same one, and how far it may then lie beside its place.
	sameJumpWithin = 10 * time.Second
	sameJump       = 500 * ticksEachMilli
	// silent is after what time without a unit the time that passed counts, and not the unit's length.
	silent = 500 * time.Millisecond
)

// Rejoin sets a track whose stamp Map found to have jumped behind its newest unit: what follows goes on without a break.
// Tracks that jump together keep their distance. step is how long a unit lasts, in ticks of media.VideoTimescale. It reports
// false where the line is not ours to move.
func (f *Feed) Rejoin(id media.TrackID, c media.Clock, stamp, step int64, now time.Duration) (by int64, ok bool) {
	t := f.trackOf(id)
	if f.drift == nil || !f.set {
		return 0, false
	}
	passed := max(step, 1)
	s := c.Ticks(f.unwrap(t, c, stamp)) + t.shift
	after := f.newest // of a track that had no unit yet
	if t.set {
		after = t.last
		if d := now - t.at; d > silent {
			passed = media.Ticks(d, media.VideoTimescale)
		}
	}
	by = after + passed - s
	for i := range f.jumps {
		j := &f.jumps[i]
		if now-j.at >= sameJumpWithin || abs(by-j.by) >= sameJump || !t.set || t.moved >= j.number {
			continue
		}
		if more := by - j.by; s+j.by <= t.last { // there is no room: who jumped before makes it
			for _, o := range f.tracks {
				if o.moved == j.number {
					o.shift += more
				}
			}
			j.by, f.moved = by, f.moved+more
		}
		t.shift, t.moved = t.shift+j.by, j.number
		return j.by, true
	}
	f.jumped++
	if f.jumps = append(f.jumps, jump{by, now, f.jumped}); len(f.jumps) > maxJumps {
		f.jumps = f.jumps[1:]
	}
	f.moved += by
	t.shift, t.moved = t.shift+by, f.jumped
	return by, true
}

// joins reports whether a stamp that might follow lies where a jump of another track would put it: a jump of a second is as much as stamps
// may be ahead, and tracks that jump together keep their distance.
func (f *Feed) joins(t *trackTimeline, s int64, now time.Duration) bool {
	strays := s - t.last - media.Ticks(now-t.at, media.VideoTimescale)
	for _, j := range f.jumps {
		if now-j.at < sameJumpWithin && t.moved < j.number && abs(strays+j.by) < sameJump/2 {
			return true
		}
	}
	return false
}

// NewFeed begins at a media time in ticks of media.VideoTimescale.
func NewFeed(start int64) *Feed {
	return &Feed{start: start, last: start, drift: &drift{}, tracks: map[media.TrackID]*trackTimeline{}}
}

// Lead says by how much the feed's first unit lies ahead of the wall clock, which is made up slowly.
func (f *Feed) Lead(d time.Duration) {
	if f.drift != nil {
		f.drift.lead = d.Microseconds()
	}
}

// After lets a feed begin behind another one whose stamps jumped, so that units of other tracks that
// are still on its line are known.
func (f *Feed) After(before *Feed) {
	if before.set {
		newest := before.newest
		f.old = &newest
	}
}

// absolute is how far a stamp may lie from the wall clock and still be taken for it.
const absolute = 10_000 * ticksEachMilli

// Align lets media time follow the sender's stamps in a way that every receiver of the same feed
// finds alike: as wall clock times, modulo the clock's range, where they are that; else shifted by whole
// steps so that the first stamp lies nearest to the time when it came. Media time 0 is 1970. wall and
// step are milliseconds. The sender's clock is not corrected then.
func (f *Feed) Align(id media.TrackID, c media.Clock, stamp, wall, step int64) {
	v := f.first(f.trackOf(id), c, stamp)
	f.set, f.base, f.newest, f.drift = true, v, v, nil
	wall, step = wall*ticksEachMilli, step*ticksEachMilli
	near := v
	if c.Turn > 0 {
		turn := c.Ticks(c.Turn)
		near = v + (wall-v+turn/2)/turn*turn
	}
	if abs(near-wall) < absolute {
		f.start = near
	} else {
		f.start = v + (wall-v+step/2)/step*step
	}
	f.last = f.start
}

// unwrap extends a stamp to 64 bits, nearest to what is known.
func (f *Feed) unwrap(t *trackTimeline, c media.Clock, stamp int64) int64 {
	if c.Turn == 0 {
		return stamp
	}
	near := t.stamp
	switch {
	case !t.set && !t.known:
		near = media.Rescale(f.newest-t.shift, media.VideoTimescale, c.Scale)
	case t.clock != c: // the sender took another one
		near = media.Rescale(t.last-t.shift, media.VideoTimescale, c.Scale)
	}
	return near + c.Between(near, stamp)
}

// Map returns the media time of a track's stamp that came at a time on the wall clock since the feed
// began, and what the stamp means. Of one that jumped or is stale nothing is kept.
func (f *Feed) Map(id media.TrackID, c media.Clock, stamp int64, now time.Duration) (ticks int64, v Verdict) {
	t := f.trackOf(id)
	if !f.set {
		v := f.first(t, c, stamp)
		f.set, f.base, f.newest = true, v, v
	}
	whole := f.unwrap(t, c, stamp)
	s := c.Ticks(whole) + t.shift
	if v := f.judge(t, s, now); v != Follows {
		return 0, v
	}
	if !t.set || s > t.last {
		t.last, t.stamp, t.clock = s, whole, c
	}
	t.set, t.at = true, now
	f.newest = max(f.newest, s)
	ticks = f.at(s)
	if f.drift != nil {
		ticks += f.drift.see(ticks-f.start, now)
	}
	f.last = max(f.last, ticks)
	return ticks, Follows
}

func (f *Feed) trackOf(id media.TrackID) *trackTimeline {
	t := f.tracks[id]
	if t == nil {
		t = &trackTimeline{}
		f.tracks[id] = t
	}
	return t
}

// Anchor says that a stamp of a track is a time, in ticks of media.VideoTimescale, on a clock that is the same
// for all tracks of the sender. Tracks that were anchored lie on the line of that clock, from wherever each of
// them counts. What the sender corrects later counts when it is more than it could by its network and its drift.
func (f *Feed) Anchor(id media.TrackID, c media.Clock, stamp, at int64) {
	t := f.trackOf(id)
	whole := f.unwrap(t, c, stamp)
	shift := at - c.Ticks(whole)
	if !f.anchored {
		f.anchored = true
		if f.set { // units came before: the line of the first track that is anchored stays where it is
			f.wall = shift - t.shift
		}
	}
	if shift -= f.wall; t.known && abs(shift-t.shift) <= maxCorrection {
		return
	}
	if t.known && t.set && abs(shift-t.shift) > maxClockStep {
		f.wall += shift - t.shift // the sender set its clock; its streams go on (RFC 3550, 6.4.1)
		return
	}
	t.shift, t.known = shift, true
	if !t.set {
		t.stamp, t.clock = whole, c
	}
}

// first is where a feed's line begins, with a stamp of a track.
func (f *Feed) first(t *trackTimeline, c media.Clock, stamp int64) int64 {
	if t.known {
		return c.Ticks(f.unwrap(t, c, stamp)) + t.shift
	}
	return c.Ticks(stamp) + t.shift
}

func (f *Feed) at(ticks int64) int64 { return f.start + ticks - f.base }

func (f *Feed) judge(t *trackTimeline, s int64, now time.Duration) Verdict {
	if f.old != nil && now < staleFor/ticksEachMilli*time.Millisecond {
		if near := abs(s-f.newest) <= abs(s-*f.old); !near && abs(s-*f.old) < maxJump {
			return Stale
		}
	}
	if !t.set {
		if abs(s-f.newest) > maxJump {
			return Jumped
		}
		return Follows
	}
	passed := (now - t.at).Milliseconds() * ticksEachMilli
	switch d := s - t.last; {
	case d < -maxBack:
		return Jumped
	case len(f.jumps) > 0 && f.joins(t, s, now):
		return Jumped
	case d <= maxAhead || s <= f.newest+maxAhead:
		return Follows // on the line of another track, which did not stop meanwhile
	case d > maxJump, d > 2*passed+maxAhead:
		return Jumped
	}
	return Follows
}

func abs(v int64) int64 { return max(v, -v) }

// Peek returns the media time of a stamp of the line that tracks are on now, without moving on.
func (f *Feed) Peek(c media.Clock, stamp int64) (ticks int64) {
	if !f.set {
		return f.start
	}
	ticks = f.at(c.Ticks(f.unwrap(&trackTimeline{shift: f.moved}, c, stamp)) + f.moved)
	if f.drift != nil {
		ticks += f.drift.shift()
	}
	return ticks
}

// Last returns the newest media time given out.
func (f *Feed) Last() int64 { return f.last }

// Drift returns by how much the sender's clock runs fast, in millionths of real time; less than 0 is
// slow. It is not known before a few minutes.
func (f *Feed) Drift() (ppm int64, known bool) {
	if f.drift == nil {
		return 0, false
	}
	return f.drift.measured()
}

// Track evens out the times of one track and converts them to its timescale.
type Track struct {
	timescale int64
	step      media.Rational // ticks between two units; invalid when the rate varies or is not known
	sound     bool
	follow    int64 // the line moves by 1/follow of what a unit strays; 0: it stays
	origin    int64 // where the line's unit 0 lies, in fine ticks
	n         int64 // units since origin
	jitter    int64 // how far units stray from the line on average, in fine ticks
	off       int64 // the same with their sign: how far the line is beside them
	last      int64
	shift     int64 // how much earlier units are decoded than they say, since some are shown earlier still
	set       bool
	strays    int   // resyncs that came soon after one another
	Resyncs   int64 // how often the stamps won over the even line
}

const (
	// A rate that the stamps contradict this often, each time within this many units, was a wrong one.
	//limit:stamps that contradict a frame rate | each track | times are taken as they are
	maxStrays   = 4
	strayWithin = 60
	// maxSkipped is how many pictures may be missing in a row and the line still be trusted.
	//limit:pictures that may be missing in a row | each track | the line starts over
	maxSkipped = 60
	// fine is how many fine ticks a tick has: the line moves by less than a tick a unit.
	fine = 256
	// lineFollows is how slowly the line follows the stamps: over so many units.
	lineFollows = 64
	// audioSlack is how far audio stamps may drift from the sample count before they win.
	// Encoders round to milliseconds and resample; 60 ms is about three AAC frames.
	audioSlack = 60
	// A picture may stray from the even line by four times what pictures do on average and a little more,
	// up to videoSlack: some senders take their stamps from a busy clock. All are milliseconds; the average
	// is over jitterSpan units, and usualJitter before any came.
	videoSlack  = 26
	leastSlack  = 2
	usualJitter = 6
	jitterSpan  = 16
)

// NewVideo evens video out to a frame rate. With an invalid rate times are only converted.
func NewVideo(rate media.Rational) *Track {
	t := &Track{timescale: media.VideoTimescale, follow: lineFollows, jitter: usualJitter * ticksEachMilli * fine}
	if rate.Valid() {
		t.step = media.Rational{Num: media.VideoTimescale * rate.Den, Den: rate.Num}
	}
	return t
}

// NewAudio evens audio out to frames of a number of samples.
func NewAudio(timescale int64, samples int64) *Track {
	t := &Track{timescale: timescale, sound: true, follow: lineFollows, step: media.Rational{Num: samples, Den: 1}}
	t.jitter = usualJitter * t.milli()
	return t
}

// milli is a millisecond in fine ticks.
func (t *Track) milli() int64 { return media.RescaleDown(fine, 1000, t.timescale) }

// slack is how far a unit may stray from the line now, in fine ticks.
func (t *Track) slack() int64 {
	if t.sound {
		return min(4*t.jitter+leastSlack*t.milli(), audioSlack*t.milli())
	}
	return min(4*t.jitter+leastSlack*ticksEachMilli*fine, videoSlack*ticksEachMilli*fine)
}

// Stiff keeps the line where its first unit was, as long as it can be kept at all, so that what comes
// out does not depend on when a receiver joined.
func (t *Track) Stiff() { t.follow = 0 }

// SetJitter says by how many milliseconds stamps were seen to stray from an even line.
func (t *Track) SetJitter(ms int64) { t.jitter = min(ms, usualJitter) * ticksEachMilli * fine }

// SetShift says how much earlier than their stamps units must be decoded, in ticks, since some of them
// are presented before that.
func (t *Track) SetShift(ticks int64) { t.shift = max(t.shift, ticks) }

// Last returns the newest decode time given out, 0 before the first.
func (t *Track) Last() int64 { return t.last }

// Varies reports whether the rate is not constant, or not known.
func (t *Track) Varies() bool { return !t.step.Valid() }

// at returns where the line's unit n lies, in fine ticks.
func (t *Track) at(n int64) int64 { return t.origin + (n*t.step.Num*fine+t.step.Den/2)/t.step.Den }

// DTS converts a mapped time, in ticks of media.VideoTimescale, to the decode time of the next unit.
// The result is always greater than the one before.
func (t *Track) DTS(mapped int64) int64 {
	return t.decode(t.even(media.Rescale(mapped, media.VideoTimescale, t.timescale)))
}

func (t *Track) decode(at int64) int64 {
	at -= t.shift
	if t.set && at <= t.last {
		at = t.last + 1
	}
	t.last, t.set = at, true
	return at
}

// Times converts a mapped time and the distance from decode to presentation, which may be negative, both
// in ticks of media.VideoTimescale, to the next unit's decode and presentation time.
func (t *Track) Times(mapped, composition int64) (dts, pts int64) {
	at := t.even(media.Rescale(mapped, media.VideoTimescale, t.timescale))
	pts = at + t.composition(composition)
	t.SetShift(at - pts)
	return t.decode(at), pts
}

// even moves a time onto the line.
func (t *Track) even(ticks int64) int64 {
	if !t.step.Valid() {
		return ticks
	}
	if !t.set {
		t.origin, t.n = ticks*fine, 0
	}
	d := ticks*fine - t.at(t.n)
	slack := t.slack()
	if skipped := t.skipped(d); d > slack && skipped > 0 { // pictures are missing, the line goes on
		t.n += skipped
		d = ticks*fine - t.at(t.n)
	}
	if abs(d) > slack {
		if t.stray(); !t.step.Valid() {
			return ticks
		}
		t.origin, t.n, d, t.off = ticks*fine, 0, 0, 0
	} else {
		t.jitter += (abs(d) - t.jitter) / jitterSpan
	}
	on := t.at(t.n)
	t.n++
	// Stamps that are cut to milliseconds are no reason to move: even times stay even to the tick.
	t.off += (d - t.off) / lineFollows
	if t.follow > 0 && abs(t.off) > t.timescale/1000*fine {
		t.origin += d / t.follow
		t.off -= t.off / t.follow
	}
	return (on + fine/2) / fine
}

// skipped returns how many units are missing before one that lies so many fine ticks behind its place.
func (t *Track) skipped(d int64) int64 {
	step := t.step.Num * fine / t.step.Den
	n := (d + step/2) / step
	if n < 1 || n > maxSkipped || t.sound && abs(d-n*step) > t.slack() {
		return 0 // a sender whose stamps stray by more than that lost nothing
	}
	return n
}

// Step returns how long the newest unit lasts if the next one comes when it should, 0 when nobody
// can tell.
func (t *Track) Step() int64 {
	if !t.step.Valid() {
		return 0
	}
	return (t.at(t.n)+fine/2)/fine - t.shift - t.last
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

// composition converts the distance from decode to presentation time, snapping it to whole frames
// where the rate is constant.
func (t *Track) composition(mapped int64) int64 {
	ticks := media.Rescale(mapped, media.VideoTimescale, t.timescale)
	if !t.step.Valid() {
		return ticks
	}
	size := abs(ticks)
	frames := (2*size*t.step.Den + t.step.Num) / (2 * t.step.Num)
	even := (frames*t.step.Num + t.step.Den/2) / t.step.Den
	if abs(size-even) > 2*leastSlack*ticksEachMilli && abs(size-even)*fine > t.slack() {
		return ticks
	}
	if ticks < 0 {
		return -even
	}
	return even
}
