package origin

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
)

// source is what a session sees in the bits of its video: where decoding may begin. A rung that
// passes through needs IDR pictures, since its segments begin with them.
type source struct {
	begun     bool  // a first unit came
	idr       int64 // presentation time of the newest IDR picture, of the first unit before any
	idrs      int
	distance  int64 // of the newest two IDR pictures, 0 before there are two
	intra     int   // pictures since then that are intra coded and no IDR pictures
	refreshes int   // recovery points since then at which the picture becomes right only later
	recovers  int   // recovery points since then at which it is right at once
	sparse    bool  // IDR pictures are further apart than segments should be
	suspended bool  // the rung that passes through is off until they come as they should
	regular   int   // IDR pictures since then that came as they should
}

const (
	// sparseKeyframes is how many segment lengths may lie between two of the source's keyframes
	// before the engineer is told.
	sparseKeyframes = 2
	// idrPatience is how long a source may be without any IDR picture before its coded rungs go on
	// without the one that passes through.
	idrPatience = 12 * media.VideoTimescale
	// regularAfter is how many IDR pictures must come in time before it is on again.
	regularAfter = 2
)

// look notes what a unit tells, and returns how long there was no IDR picture before it.
func (s *source) look(pts int64, p *coding.Picture) (gap int64) {
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

// apart is by how many milliseconds the newest picture is later than the newest sound; 0 when one is missing.
func (s *session) apart() int64 {
	main := s.main()
	if s.video == nil || main == nil || len(s.sounds) == 0 || s.newest == 0 {
		return 0
	}
	return (s.newest - media.Rescale(s.sounds[0].time.Last(), main.Timescale, media.VideoTimescale)) / 90
}

// judgeSource follows the source's IDR pictures: it tells the engineer when they are too far apart for
// a rung that passes through, turns that rung off where the coded ones would wait for it, and on again.
func (s *session) judgeSource(u *media.AccessUnit, p *coding.Picture) {
	gap := s.source.look(u.PTS, p)
	if !sourceIsOn(s.rungs) {
		return
	}
	step := s.settings.SegmentTicks()
	if !s.source.suspended && gap > s.source.patience(step) && !p.Random {
		s.suspendSource(gap)
		return
	}
	if !p.Random || s.source.idrs < 2 {
		return
	}
	switch {
	case gap > sparseKeyframes*step:
		s.source.regular = 0
		if !s.source.sparse {
			s.source.sparse = true
			seen, do := s.source.advice(s.settings.SegmentMillis, s.video.FrameRate)
			s.event(events.Warning, "keyframes-sparse", fmt.Sprintf("The sender's IDR pictures are %d ms apart, and segments of %d ms follow them. %s", gap/90, s.settings.SegmentMillis, seen), do)
		}
	case s.source.suspended:
		if s.source.regular++; s.source.regular >= regularAfter {
			s.source.suspended, s.source.sparse = false, false
			s.event(events.Info, "source-resumed", "The sender's IDR pictures come regularly now; the rung that passes through is on again.", "")
			s.applyLadder(s.rungs)
		}
	}
}

func (s *session) suspendSource(gap int64) {
	seen, do := s.source.advice(s.settings.SegmentMillis, s.video.FrameRate)
	if !s.source.sparse {
		text := fmt.Sprintf("The sender sent no IDR picture for %d ms, and the rung that passes through needs them. %s",
			gap/90, seen)
		if codedIsOn(s.rungs) {
			text += " The other rungs go on without it."
		}
		s.event(events.Warning, "source-without-idr", text, do)
	}
	s.source.sparse = true
	if codedIsOn(s.rungs) && s.video.Undecodable == "" {
		s.source.suspended, s.source.regular = true, 0
		s.applyLadder(s.rungs)
	}
}

func sourceIsOn(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return r.Source && r.On })
}

// sourceLeads reports whether segments begin with keyframes of the source, since it passes through or has ready-made rungs.
func sourceLeads(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return r.On && (r.Source || r.Ready) })
}

func codedIsOn(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return !r.Source && !r.SoundOnly() && r.On })
}

// problem says what is wrong with the source now, "" when nothing is.
func (s *source) problem(pts, step, stepMillis int64, rate media.Rational) string {
	if !s.begun {
		return ""
	}
	seen, do := s.advice(stepMillis, rate)
	gap := (pts - s.idr) / 90
	switch {
	case s.suspended:
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

// allowance is how long the multivariant playlist waits for renditions that are late.
const allowance = 12 * time.Second

// StartsIn says, in words for people, when a channel that has nothing to play yet is likely to begin.
func (c *Channel) StartsIn() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch s := c.session; {
	case c.settings.Closed:
		return "The channel is closed."
	case c.air.feed == nil:
		return "Nobody is sending to this channel. It begins by itself, a second or two after its sender."
	case s == nil:
		return "A sender is connected; its tracks are being found out. It begins in about two seconds."
	case !s.begun:
		return fmt.Sprintf("A sender is connected; it begins about a second behind the sender's next keyframe, which is awaited for %d ms.", (s.newest-s.source.idr)/90)
	}
	return "The first parts are being made. It begins in about a second."
}
