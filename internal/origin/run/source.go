package run

import (
	"fmt"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/layout"
)

// source is what a run sees in the bits of its video: where decoding may begin. A rung that
// passes through needs IDR pictures, since its segments begin with them.
type source struct {
	begun     bool  // a first unit came
	idr       int64 // presentation time of the newest IDR picture, of the first unit before any
	idrs      int
	distance  int64 // of the newest two IDR pictures, 0 before there are two
	intra     int   // pictures since then that are intra encoded and no IDR pictures
	refreshes int   // recovery points since then at which the picture becomes right only later
	recovers  int   // recovery points since then at which it is right at once
	sparse    bool  // IDR pictures are further apart than segments should be
	regular   int   // IDR pictures since then that came as they should
}

const (
	// sparseKeyframes is how many segment lengths may lie between two of the source's keyframes
	// before the engineer is told.
	sparseKeyframes = 2
	// idrPatience is how long a source may be without any IDR picture before its encoded rungs go on
	// without the one that passes through.
	idrPatience = 12 * media.VideoTimescale
	// regularAfter is how many IDR pictures must come in time before it is on again.
	regularAfter = 2
)

// inspectPicture notes what a unit tells, and returns how long there was no IDR picture before it.
func (s *source) inspectPicture(pts int64, p *coding.Picture) (gap int64) {
	if !s.begun {
		s.begun, s.idr = true, pts
	}
	gap = pts - s.idr
	switch {
	case p.Random:
		if s.idrs > 0 {
			s.distance = gap
		}
		s.idr = pts
		s.idrs++
		s.intra, s.refreshes, s.recovers = 0, 0, 0
	case p.Recovery && p.After > 0:
		s.refreshes++
	case p.Recovery:
		s.recovers++
	case p.Intra:
		s.intra++
	}
	return gap
}

// patience is how long to wait for an IDR picture: not for long where the bits show that the source
// goes on without.
func (s *source) patience(step int64) int64 {
	if s.refreshes+s.recovers+s.intra > 0 {
		return min(sparseKeyframes*step, idrPatience)
	}
	return idrPatience
}

// advice says what was seen instead of IDR pictures, and which setting of the encoder to change.
func (s *source) advice(stepMillis int64, rate media.Rational) (seen, do string) {
	interval := fmt.Sprintf("%d ms", stepMillis)
	if rate.Valid() {
		interval += fmt.Sprintf(" (%d frames)", (stepMillis*rate.Num+500*rate.Den)/(1000*rate.Den))
	}
	switch {
	case s.refreshes > 0:
		return "It refreshes its pictures bit by bit (periodic intra refresh) instead of sending IDR pictures.",
			"Turn intra refresh off in the encoder, and set its keyframe (IDR) interval to " + interval + "."
	case s.recovers+s.intra > 0:
		return "Its keyframes are not IDR pictures: later pictures refer to what lies before them (open GOP).",
			"Set the encoder to closed GOP, and its IDR interval to " + interval + "."
	}
	return "", "Set the encoder's keyframe (IDR) interval to " + interval + "."
}

// Apart is by how many milliseconds the newest picture is later than the newest sound; 0 when one is missing.
func (r *Run) Apart() int64 {
	main := r.Main()
	if r.Video == nil || main == nil || r.progress.newest == 0 {
		return 0
	}
	return (r.progress.newest - media.Rescale(r.sounds[0].time.Last(), main.Timescale, media.VideoTimescale)) / 90
}

// judgeSource follows the source's IDR pictures: it tells the engineer when they are too far apart for
// a rung that passes through, turns that rung off where the encoded ones would wait for it, and on again.
func (r *Run) judgeSource(u *media.AccessUnit, p *coding.Picture) {
	gap := r.source.inspectPicture(u.PTS, p)
	if !layout.PassesThrough(r.Rungs) {
		return
	}
	step := r.Settings.SegmentTicks()
	if !r.Suspended && gap > r.source.patience(step) && !p.Random {
		r.suspendSource(gap)
		return
	}
	if !p.Random || r.source.idrs < 2 {
		return
	}
	switch {
	case gap > sparseKeyframes*step:
		r.source.regular = 0
		if !r.source.sparse {
			r.source.sparse = true
			seen, do := r.source.advice(r.Settings.SegmentMillis, r.Video.FrameRate)
			r.event(events.Warning, "keyframes-sparse", fmt.Sprintf("The sender's IDR pictures are %d ms apart, and segments of %d ms follow them. %s", gap/90, r.Settings.SegmentMillis, seen), do)
		}
	case r.Suspended:
		if r.source.regular++; r.source.regular >= regularAfter {
			r.Suspended, r.source.sparse = false, false
			r.event(events.Info, "source-resumed", "The sender's IDR pictures come regularly now; the rung that passes through is on again.", "")
			r.ApplyLadder(r.Rungs)
		}
	}
}

func (r *Run) suspendSource(gap int64) {
	seen, do := r.source.advice(r.Settings.SegmentMillis, r.Video.FrameRate)
	if !r.source.sparse {
		text := fmt.Sprintf("The sender sent no IDR picture for %d ms, and the rung that passes through needs them. %s",
			gap/90, seen)
		if layout.Encodes(r.Rungs) {
			text += " The other rungs go on without it."
		}
		r.event(events.Warning, "source-without-idr", text, do)
	}
	r.source.sparse = true
	if layout.Encodes(r.Rungs) && r.Video.Undecodable == "" {
		r.Suspended, r.source.regular = true, 0
		r.ApplyLadder(r.Rungs)
	}
}

// Keyframes is what is known of the source's keyframes.
type Keyframes struct {
	DistanceMillis int64 // of the newest two, 0 before there are two
	GapMillis      int64 // since the newest one
	// Problem says what is wrong with them for a rung that passes through, "" when nothing is.
	Problem string
}

// Keyframes returns what is known of the source's keyframes.
func (r *Run) Keyframes() Keyframes {
	k := Keyframes{DistanceMillis: r.source.distance / 90, GapMillis: (r.progress.newest - r.source.idr) / 90}
	if r.Video != nil && layout.PassesThrough(r.Rungs) {
		k.Problem = r.source.problem(r.Suspended, r.progress.newest, r.Settings.SegmentTicks(), r.Settings.SegmentMillis, r.Video.FrameRate)
	}
	return k
}

// problem says what is wrong with the source now, "" when nothing is.
func (s *source) problem(suspended bool, pts, step, stepMillis int64, rate media.Rational) string {
	if !s.begun {
		return ""
	}
	seen, do := s.advice(stepMillis, rate)
	gap := (pts - s.idr) / 90
	switch {
	case suspended:
		return fmt.Sprintf("The rung that passes through is off: the sender's last IDR picture came %d ms ago. %s %s", gap,
			seen, do)
	case s.idrs == 0 && pts-s.idr > step:
		return fmt.Sprintf("No IDR picture came for %d ms, and the rung that passes through needs one to begin. %s %s", gap,
			seen, do)
	case s.sparse:
		return "The sender's IDR pictures are further apart than the segments should be. " + do
	}
	return ""
}
