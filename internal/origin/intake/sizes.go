package intake

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
)

// size is a track of pictures of a feed. Of several that show the same in several sizes the largest is the main one, as long as it
// comes; the others are ready-made rungs.
type size struct {
	track *media.Track
	since time.Time // when it began to come without a pause
	heard time.Time // when its newest unit came
}

const (
	// maxSizes is how many pictures of a sender are used.
	//limit:sizes of one picture (simulcast) that are used | each sender | further ones are left out
	maxSizes = 4
	// sizePause is how long nothing may come of the main picture until the next smaller one takes its place.
	sizePause = 700 * time.Millisecond
	// sizeSteady is how long a larger one must have come to take the place of the main one.
	sizeSteady = 4 * time.Second
	// sizeGone is how long nothing may come of a smaller one until it is no part of the source any more.
	sizeGone = 2 * time.Second
)

func area(t *media.Track) int {
	w, h := ladder.Display(t)
	return w * h
}

// sameScene reports whether two tracks may show the same in two sizes: their shape is the same, and their size is not.
func sameScene(a, b *media.Track) bool {
	aw, ah := ladder.Display(a)
	bw, bh := ladder.Display(b)
	across, down := int64(aw)*int64(bh), int64(bw)*int64(ah)
	off := max(across-down, down-across)
	return area(a) != area(b) && min(across, down) > 0 && off*40 <= max(across, down)
}

func (x *Intake) size(id media.TrackID) *size {
	for _, o := range x.sizes {
		if o.track.ID == id {
			return o
		}
	}
	return nil
}

// keepSize takes a track of pictures in its place.
func (x *Intake) keepSize(t *media.Track) {
	if o := x.size(t.ID); o != nil {
		o.track = t
	} else {
		x.sizes = append(x.sizes, &size{track: t})
	}
	if x.video == nil || x.video.ID == t.ID {
		x.video = t
	}
}

// beside are the tracks that show the main picture in smaller sizes, and come.
func (x *Intake) beside(now time.Time) (out []*media.Track) {
	for _, o := range x.sizes {
		if x.video != nil && o.track != x.video && o.track.ID != x.video.ID && sameScene(o.track, x.video) && area(o.track) < area(x.video) &&
			(o.heard.IsZero() || now.Sub(o.heard) < sizeGone) {
			out = append(out, o.track)
		}
	}
	slices.SortFunc(out, func(a, b *media.Track) int { return cmp.Compare(area(b), area(a)) })
	return out
}

// otherSize takes a track of pictures that is not the main one, or is not yet.
func (x *Intake) otherSize(t *media.Track, state State) (c Change) {
	switch {
	case state == Standby:
	case state == Waiting:
		if sameScene(t, x.video) && area(t) > area(x.video) && x.size(x.video.ID).heard.IsZero() {
			x.lead(t) // nothing came of the smaller one so far
		}
	case sameScene(t, x.video) && area(t) < area(x.video):
		c = Change{Step: Layer, Track: t}
	}
	return c
}

// lead makes a track of pictures the main one.
func (x *Intake) lead(t *media.Track) {
	x.video = t
	x.rate = timeline.RateMeter{}
	for i := range x.early {
		if e := &x.early[i]; e.ID == t.ID {
			x.rate.Add(t.Stamps().Ticks(e.Stamp) / ticksEachMilli)
		}
	}
}

// Came notes a unit of a track of pictures that came at a time, and has another one lead when that is due.
func (x *Intake) Came(id media.TrackID, key bool, now time.Time, state State) (c Change) {
	o := x.size(id)
	if now.Sub(o.heard) > sizePause {
		o.since = now
	}
	o.heard = now
	if o.track.ID == x.video.ID {
		x.keyless = x.keyless && !key
		return c
	}
	main := x.size(x.video.ID)
	if state == Standby || !sameScene(o.track, x.video) {
		return c
	}
	larger, waits := area(o.track) > area(x.video), state == Waiting
	switch paused := main.heard.IsZero() || now.Sub(main.heard) > sizePause; {
	case waits && larger && now.Sub(x.first) < sizePause, waits && paused && now.Sub(main.since) > sizePause:
	case !waits && larger && now.Sub(o.since) >= sizeSteady:
	case !waits && paused && !x.largerComes(o, now):
	default:
		return c
	}
	if waits {
		x.lead(o.track)
		return c
	}
	w, h := ladder.Display(o.track)
	x.first, x.keyless = time.Time{}, true
	x.lead(o.track)
	return Change{Restart, o.track, fmt.Sprintf("The largest picture that comes of the sender is %dx%d now.", w, h)}
}

// largerComes reports whether one that is larger than another one comes, and is not the main one.
func (x *Intake) largerComes(than *size, now time.Time) bool {
	return slices.ContainsFunc(x.sizes, func(o *size) bool {
		return o.track.ID != x.video.ID && now.Sub(o.heard) <= sizePause && sameScene(o.track, x.video) && area(o.track) > area(than.track)
	})
}
