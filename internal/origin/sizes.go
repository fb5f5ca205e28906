package origin

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
)

// size is a track of pictures of a feed. Of several that show the same in several sizes the largest is the main one, as
// long as it comes; the others are ready-made rungs.
type size struct {
	track *media.Track
	since time.Time // when it began to come without a pause
	heard time.Time // when its newest unit came
}

const (
	// sizePause is how long nothing may come of the main picture until the next smaller one takes its place.
	sizePause = 700 * time.Millisecond
	// sizeSteady is how long a larger one must have come to take the place of the main one.
	sizeSteady = 4 * time.Second
	// keyEach is how often a keyframe is asked for while the main picture needs one to begin, and keyForJoining while all are
	// decoded, for relays and viewers that take them as they come.
	keyEach       = 500 * time.Millisecond
	keyForJoining = 6 * time.Second
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
	return area(a) != area(b) && min(across, down) > 0 && abs(across-down)*40 <= max(across, down)
}

func (f *Feed) sizeOf(id media.TrackID) *size {
	for _, o := range f.sizes {
		if o.track.ID == id {
			return o
		}
	}
	return nil
}

// keepSize takes a track of pictures in its place.
func (f *Feed) keepSize(t *media.Track) {
	if o := f.sizeOf(t.ID); o != nil {
		o.track = t
	} else {
		f.sizes = append(f.sizes, &size{track: t})
	}
	if f.video == nil || f.video.ID == t.ID {
		f.video = t
	}
}

// beside are the tracks that show the main picture in smaller sizes, and come.
func (f *Feed) beside() (out []*media.Track) {
	for _, o := range f.sizes {
		if f.video != nil && o.track != f.video && o.track.ID != f.video.ID && sameScene(o.track, f.video) && area(o.track) < area(f.video) &&
			(o.heard.IsZero() || f.heard.Sub(o.heard) < layerSilence) {
			out = append(out, o.track)
		}
	}
	slices.SortFunc(out, func(a, b *media.Track) int { return cmp.Compare(area(b), area(a)) })
	return out
}

// otherSize takes a track of pictures that is not the main one, or is not yet.
func (f *Feed) otherSize(t *media.Track) {
	switch {
	case f.standby:
	case f.session == nil:
		if sameScene(t, f.video) && area(t) > area(f.video) && f.sizeOf(f.video.ID).heard.IsZero() {
			f.lead(t) // nothing came of the smaller one so far
		}
	case sameScene(t, f.video) && area(t) < area(f.video):
		f.session.setLayer(t)
		f.session.applyLadder(f.c.ladderFor(f.session))
		f.c.o.Keeper.Feed(f.record(nil))
	}
}

// lead makes a track of pictures the main one.
func (f *Feed) lead(t *media.Track) {
	f.video = t
	f.rate = timeline.RateMeter{}
	for i := range f.early {
		if e := &f.early[i]; e.id == t.ID {
			f.rate.Add(t.Stamps().Ticks(e.stamp) / ticksEachMilli)
		}
	}
}

// sizeCame notes a unit of a track of pictures, and has another one lead when that is due.
func (f *Feed) sizeCame(o *size, key bool) {
	if f.heard.Sub(o.heard) > sizePause {
		o.since = f.heard
	}
	o.heard = f.heard
	if o.track.ID == f.video.ID {
		f.keyless = f.keyless && !key
		return
	}
	main := f.sizeOf(f.video.ID)
	if f.standby || !sameScene(o.track, f.video) {
		return
	}
	larger := area(o.track) > area(f.video)
	switch paused := main.heard.IsZero() || f.heard.Sub(main.heard) > sizePause; {
	case f.session == nil && larger && f.heard.Sub(f.first) < sizePause, f.session == nil && paused && f.heard.Sub(main.since) > sizePause:
	case f.session != nil && larger && f.heard.Sub(o.since) >= sizeSteady:
	case f.session != nil && paused && !f.largerComes(o):
	default:
		return
	}
	if f.session == nil {
		f.lead(o.track)
		return
	}
	w, h := ladder.Display(o.track)
	f.c.event(events.Info, "feed-changed", fmt.Sprintf("The largest picture that comes of the sender is %dx%d now.", w, h), "")
	f.c.endSession()
	f.session, f.first, f.keyless = nil, time.Time{}, true
	f.lead(o.track)
}

// largerComes reports whether one that is larger than another one comes, and is not the main one.
func (f *Feed) largerComes(than *size) bool {
	return slices.ContainsFunc(f.sizes, func(o *size) bool {
		return o.track.ID != f.video.ID && f.heard.Sub(o.heard) <= sizePause && sameScene(o.track, f.video) && area(o.track) > area(than.track)
	})
}

// inBand reads what a keyframe tells of its track, which counts as a new one.
func (f *Feed) inBand(o *size, data []byte) {
	if t, other := coding.Renew(o.track, data); other {
		f.track(t)
	}
}
