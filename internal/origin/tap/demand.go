package tap

import (
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/origin/run"
)

// Demand is who needs what is encoded for viewers in real time beside the ladder, the pair: it is made while somebody needs it.
type Demand struct {
	Video, Sound   bool // what is made
	videos, sounds int  // taps that may need it, of each kind
	idle           *time.Timer
}

// idleAfter is for how long the pair is encoded on when nobody needs it any more.
const idleAfter = 30 * time.Second

func (d *Demand) count(real *onward.Real, n int) {
	if len(real.Video) > 0 {
		d.videos += n
	}
	if len(real.Audio) > 0 {
		d.sounds += n
	}
}

// Hold notes a viewer.
func (d *Demand) Hold(real *onward.Real) {
	d.count(real, 1)
	if d.idle != nil {
		d.idle.Stop()
		d.idle = nil
	}
}

// Release lets a viewer go. Once nobody needs the pair, expire is called after a while, without the lock.
func (d *Demand) Release(real *onward.Real, expire func()) {
	d.count(real, -1)
	if d.videos+d.sounds == 0 && (d.Video || d.Sound) {
		d.idle = time.AfterFunc(idleAfter, expire)
	}
}

// Expire stops what nobody needs. It reports whether that is a change.
func (d *Demand) Expire() bool {
	if d.videos+d.sounds > 0 {
		return false
	}
	d.Video, d.Sound = false, false
	return true
}

// Want turns on what a viewer does not find in a run. It reports whether that is a change.
func (d *Demand) Want(r *run.Run, real *onward.Real, found Lines) bool {
	if r.Pair.Broken {
		return false
	}
	video := r.Video != nil && slices.Contains(real.Video, coding.RealTime(media.Video)) && found.Video == nil && r.Video.Undecodable == ""
	sound := r.Main() != nil && slices.Contains(real.Audio, coding.RealTime(media.Audio)) && found.Sound == nil && r.Main().Undecodable == ""
	if (!video || d.Video) && (!sound || d.Sound) {
		return false
	}
	d.Video, d.Sound = d.Video || video, d.Sound || sound
	return true
}
