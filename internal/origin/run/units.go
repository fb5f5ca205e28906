package run

import (
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// Verdict says what became of a unit.
type Verdict int

// The verdicts. After the last three the unit was not used, and another run has to begin with it; a jump may be mended with Rejoin
// before that.
const (
	Used         Verdict = iota
	Stale                // it was still on the line before a jump, and is left out
	Jumped               // its stamp has nothing to do with those before
	Paused               // pictures were missing for long: see Pause
	ClockStepped         // the wall clock was set: see Step
)

// Pictures of an even rate that are missing for so long end a run, in ticks of media.VideoTimescale: what was on air ends with
// the last one, and players are not told of one picture that lasts for seconds. Past jumpedPause the stamps jumped.
const (
	longestPause = 3 * media.VideoTimescale / 2
	jumpedPause  = 10 * media.VideoTimescale
)

// longestPicture is how long a picture may last and still be taken for one of a varying rate.
const longestPicture = media.VideoTimescale / 8

// Unit takes one access unit of a track of the run, its times still the sender's.
func (r *Run) Unit(id media.TrackID, stamp, composition int64, data []byte) Verdict {
	p := &r.progress
	now, clock := r.Now(), r.clockOf(id)
	elapsed, step := p.timer.elapsed(now, r.Monotonic)
	if step != 0 {
		p.stepped = step
		return ClockStepped
	}
	if l := r.layerOf(id); l != nil {
		r.layerUnit(l, stamp, composition, data, now)
		return Used
	}
	if p.unaligned {
		p.unaligned = false
		r.feed.Align(id, clock, stamp, now.UnixMilli(), r.Settings.SegmentMillis)
		p.firstAt = r.feed.Last()
	}
	if r.isVideo(id) && r.begun && !r.videoTime.Varies() {
		// Time that has passed, and not stamps that leap.
		if d := r.feed.Peek(clock, stamp) - p.mapped; p.mapped > 0 && d > longestPause && d < jumpedPause && elapsed-p.cameAt > duration(d)/2 {
			p.pause = duration(d)
			return Paused
		}
	}
	at, verdict := r.feed.Map(id, clock, stamp, elapsed)
	switch verdict {
	case timeline.Jumped:
		return Jumped
	case timeline.Stale:
		return Stale
	}
	if r.isVideo(id) {
		p.mapped, p.cameAt = at, elapsed
		r.timedPicture(at, clock.Ticks(composition), data)
		return Used
	}
	a := r.sound(id)
	u := media.AccessUnit{Data: data, Key: true, Duration: a.Track.FrameSamples}
	u.DTS = a.time.DTS(at)
	u.PTS = u.DTS
	p.end = max(p.end, media.Rescale(u.PTS+u.Duration, a.Track.Timescale, media.VideoTimescale))
	r.audioUnit(a, &u)
	return Used
}

// timedPicture takes a picture of the main track with its media time, in ticks of media.VideoTimescale.
func (r *Run) timedPicture(at, composition int64, data []byte) {
	u := media.AccessUnit{Data: data}
	before := r.videoTime.Last()
	u.DTS, u.PTS = r.videoTime.Times(at, composition)
	if before > 0 {
		r.Longest = max(r.Longest, min(u.DTS-before, longestPicture))
	}
	r.progress.end = max(r.progress.end, u.PTS+max(r.videoTime.Step(), 1))
	r.videoUnit(&u)
	if len(r.layers) > 0 {
		r.pictures.note(at, composition, &u, max(r.videoTime.Step(), 0))
		r.releaseLayers()
	}
}

// Pause is for how long pictures were missing that ended the run.
func (r *Run) Pause() time.Duration { return r.progress.pause }

// Step is by how much the wall clock was set, which ended the run.
func (r *Run) Step() time.Duration { return r.progress.stepped }

// KeepTimes lets an aligned run go on though the wall clock was set back, with its times as they were.
func (r *Run) KeepTimes() {
	since := duration(r.feed.Last() - r.progress.firstAt)
	r.progress.timer = newClock(r.Now(), r.Monotonic)
	r.progress.timer.wall = r.progress.timer.wall.Add(-since)
	r.progress.timer.monotonic -= since
}

// Ahead is by how much the media that came runs ahead of the wall clock.
func (r *Run) Ahead(now time.Time) time.Duration {
	return duration(r.feed.Last()-r.progress.firstAt) - now.Round(0).Sub(r.progress.timer.wall) + r.Lead
}

// Rejoin lets a track whose stamps jumped go on where it was, and returns by how much they jumped, in ticks of
// media.VideoTimescale; ok is false where that cannot be.
func (r *Run) Rejoin(id media.TrackID, stamp int64) (by int64, ok bool) {
	step := int64(1)
	if a := r.sound(id); a != nil {
		step = media.Rescale(a.Track.FrameSamples, a.Track.Timescale, media.VideoTimescale)
	} else if r.videoTime != nil {
		step = r.videoTime.Step()
	}
	elapsed, _ := r.progress.timer.elapsed(r.Now(), r.Monotonic)
	return r.feed.Rejoin(id, r.clockOf(id), stamp, step, elapsed)
}

// Follow says that this run goes on behind another one, whose units may still be on the line.
func (r *Run) Follow(before *Run) { r.feed.After(before.feed) }

// Anchor says that a stamp of a track is a time on the sender's wall clock.
func (r *Run) Anchor(id media.TrackID, stamp int64, at time.Time) {
	if r.Has(id) {
		r.feed.Anchor(id, r.clockOf(id), stamp, media.Ticks(at.Sub(time.Unix(0, 0)), media.VideoTimescale))
	}
}

// MediaTime is the media time of a stamp of the sender's clock, in ticks of media.VideoTimescale.
func (r *Run) MediaTime(clock media.Clock, stamp int64) int64 { return r.feed.Peek(clock, stamp) }

// clockOf is how the sender stamps a track.
func (r *Run) clockOf(id media.TrackID) media.Clock {
	if r.isVideo(id) {
		return r.Video.Stamps()
	}
	if l := r.layerOf(id); l != nil {
		return l.Track.Stamps()
	}
	return r.sound(id).Track.Stamps()
}

// videoUnit takes a picture of the source into the hub.
func (r *Run) videoUnit(u *media.AccessUnit) {
	p := coding.Look(r.Video.Codec, u.Data)
	u.Key = p.Random
	r.progress.newest = max(r.progress.newest, u.PTS)
	r.judgeSource(u, &p)
	if r.videoTime.Varies() && !r.Varies {
		// The rate that the sender told of was wrong: parts are planned again, from the next segment on.
		r.Varies = true
		r.ApplyLadder(r.Rungs)
	}
	if !r.begun {
		// Without IDR pictures a decoder may begin at a recovery point, or at a picture of its own.
		if !u.Key && !(r.Suspended && (p.Recovery || p.Intra)) {
			return
		}
		r.leading = p.Random
		r.begin()
	} else if u.Key {
		r.leading = false
	}
	if r.leading && p.Leading { // it needs what came before the run
		return
	}
	r.shownAt(r.Video.ID, u.PTS)
	r.Hub.Push(r.Video, u)
	r.releaseWaiting()
	r.drain()
}

// begin starts the clock, the channel's numbering and the worker at the first unit.
func (r *Run) begin() {
	r.begun = true
	r.Hub.Break()
	r.at = r.Hub.Next()
	r.first = r.at
	r.make(TracksChanged{})
	ids := make([]media.TrackID, 0, 1+len(r.sounds))
	if r.Video != nil {
		ids = append(ids, r.Video.ID)
	}
	for _, a := range r.sounds {
		ids = append(ids, a.Track.ID)
	}
	r.reader = r.Hub.NewReader(hub.Coming, ids...)
	if r.worker == nil && r.encodes() {
		r.startWorker()
	}
	r.make(Begun{r.clock.Next()})
}

// Begun reports whether the first keyframe has come.
func (r *Run) Begun() bool { return r.begun }

// drain reads what has come into the hub: it is cut as it comes, and the worker may have it from then on.
func (r *Run) drain() {
	var list [8]hub.Unit
	for {
		n, _ := r.reader.Read(list[:])
		if n == 0 {
			return
		}
		for i := range list[:n] {
			u := &list[i]
			r.at = u.Number
			if r.isVideo(u.Track.ID) {
				r.cutVideo(&u.AccessUnit)
			} else if a := r.sound(u.Track.ID); a != nil {
				r.cutAudio(a, &u.AccessUnit)
			}
			if r.worker != nil {
				r.worker.Take(u.Number + 1)
			}
		}
	}
}

func (r *Run) cutVideo(u *media.AccessUnit) {
	r.offer(u)
	r.noteCaptions(u)
	if r.worker != nil && r.config.Video != nil {
		r.encoding.came(u.PTS, r.Now())
	}
	for _, o := range r.all() {
		if o.direct && o.layer == nil && o.cutter.Header().Track.Kind == media.Video {
			direct := *u
			direct.Duration = r.videoTime.Step() // so that a part can end with this picture
			r.cut(o, direct)
		}
	}
	r.releaseAudio(false)
}

// duration converts ticks of media.VideoTimescale.
func duration(ticks int64) time.Duration { return media.Duration(ticks, media.VideoTimescale) }
