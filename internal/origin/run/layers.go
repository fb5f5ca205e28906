package run

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/layout"
)

// layer is a smaller picture that the sender makes beside the main one and sends as a track of its own: what becomes a
// ready-made rung. Its pictures are those of the main one, and get their times.
type layer struct {
	*layout.Layer
	shift   int64 // from its times to those of the main picture, ticks of media.VideoTimescale
	known   bool  // shift is
	waiting []layerPicture
	bytes   int
	heard   time.Time // when its newest unit came
	begun   uint64    // the newest segment that a picture of it belongs to
	missed  int       // segments in a row that began without a keyframe of it
}

// layerPicture waits for the main picture that it belongs to. Its times are ticks of media.VideoTimescale.
type layerPicture struct {
	at, composition int64
	key             bool
	data            []byte
}

const (
	// maxMissed is how many segments in a row may begin without a keyframe of a layer.
	//limit:segments without a keyframe of a layer | each layer | it is encoded here instead
	maxMissed = 2
	// LayerSilence is how long nothing may come of a layer until it is encoded here instead.
	LayerSilence = 2 * time.Second
	// Bounds of what waits of a layer: the main picture may be that much later on its way.
	//limit:bytes of a layer that wait for the main picture | each layer | it is encoded here instead
	maxLayerBytes = 4 << 20
	//limit:pictures of a layer that wait for the main picture | each layer | it is encoded here instead
	maxLayerUnits = 64
	layerWait     = media.VideoTimescale / 2
	// samePicture is how far the times of one picture in two sizes may lie apart, and sameKey those of keyframes that
	// were asked for at once, while nothing better is known: ticks of media.VideoTimescale.
	samePicture = media.VideoTimescale * 7 / 1000
	sameKey     = media.VideoTimescale * 150 / 1000
)

// mainPictures are the newest pictures of the main track.
type mainPictures struct {
	list  [maxLayerUnits]mainPicture
	n     int
	ended bool // none will come
}

// mainPicture is one of them: at is when it says that it is decoded, raw when it is presented by the same clock.
type mainPicture struct {
	at, raw, pts, early, duration int64
	key                           bool
}

func (l *mainPictures) note(at, composition int64, u *media.AccessUnit, duration int64) {
	raw := at + composition
	l.list[l.n%len(l.list)] = mainPicture{at: at, raw: raw, pts: u.PTS, early: at + u.PTS - raw - u.DTS, duration: duration, key: u.Key}
	l.n++
}

// newest returns the newest one.
func (l *mainPictures) newest() (mainPicture, bool) {
	if l.n == 0 {
		return mainPicture{}, false
	}
	return l.list[(l.n-1)%len(l.list)], true
}

// near returns the one that is presented nearest to a time and not further away than that, keyframes alone if asked.
func (l *mainPictures) near(raw, most int64, key bool) (best mainPicture, found bool) {
	for i := range min(l.n, len(l.list)) {
		if o := l.list[i]; (o.key || !key) && abs(o.raw-raw) <= most {
			best, found, most = o, true, abs(o.raw-raw)
		}
	}
	return best, found
}

func abs(v int64) int64 { return max(v, -v) }

// layerOf returns the layer of a track, nil when it is none.
func (r *Run) layerOf(id media.TrackID) *layer {
	for _, l := range r.layers {
		if l.Track.ID == id {
			return l
		}
	}
	return nil
}

// layerAs returns the run's own record of a layer, nil for none.
func (r *Run) layerAs(of *layout.Layer) *layer {
	if i := slices.IndexFunc(r.layers, func(l *layer) bool { return l.Layer == of }); i >= 0 {
		return r.layers[i]
	}
	return nil
}

// addLayer takes a layer that is new.
func (r *Run) addLayer(t *media.Track) {
	l := &layout.Layer{Track: t}
	r.Layers = append(r.Layers, l)
	r.layers = append(r.layers, &layer{Layer: l})
}

// SetLayer takes a layer that came later, or its other parameters.
func (r *Run) SetLayer(t *media.Track) {
	if l := r.layerOf(t.ID); l != nil {
		l.Track = t
		l.Unfit, l.missed, l.heard = false, 0, r.Now()
		for _, o := range r.outputs {
			if o.layer == l {
				r.setTrack(o, r.LayerTrack(l.Layer))
			}
		}
		return
	}
	r.addLayer(t)
}

// layerUnit takes a picture of a layer, its times still the sender's.
func (r *Run) layerUnit(l *layer, stamp, composition int64, data []byte, now time.Time) {
	l.heard = now
	if r.layerUse(l) == nil {
		l.waiting, l.bytes = nil, 0
		return
	}
	clock := l.Track.Stamps()
	at, verdict := r.feed.Map(l.Track.ID, clock, stamp, now.Sub(r.First))
	if verdict != timeline.Follows {
		return
	}
	l.waiting = append(l.waiting, layerPicture{at, clock.Ticks(composition), coding.Look(l.Track.Codec, data).Random, data})
	l.bytes += len(data) + unitCost
	r.releaseLayer(l)
}

// layerUse returns the rendition that a layer feeds, nil for none.
func (r *Run) layerUse(l *layer) *output {
	for _, o := range r.all() {
		if o.layer == l {
			return o
		}
	}
	return nil
}

// releaseLayers cuts what waits of all layers for pictures that have come by now, and gives up layers of which nothing
// comes.
func (r *Run) releaseLayers() {
	for _, l := range r.layers {
		r.releaseLayer(l)
		if l.Unfit || r.ended || r.layerUse(l) == nil {
			continue
		}
		if now := r.Now(); l.heard.IsZero() {
			l.heard = now
		} else if now.Sub(l.heard) > LayerSilence {
			r.giveUp(l, fmt.Sprintf("nothing came of it for %d s", int(LayerSilence.Seconds())))
		}
	}
}

func (r *Run) releaseLayer(l *layer) {
	newest, any := r.pictures.newest()
	if o := r.layerUse(l); o != nil && r.awaits(o) && l.bytes <= maxLayerBytes && len(l.waiting) <= maxLayerUnits && !r.pictures.ended {
		return
	}
	for len(l.waiting) > 0 {
		p := &l.waiting[0]
		late := r.pictures.ended || l.bytes > maxLayerBytes || len(l.waiting) > maxLayerUnits
		if !late && (!any || !r.begun) {
			return
		}
		reach := p.at + l.shift
		if !l.known {
			reach += sameKey
		}
		if !late && newest.at < reach && l.waiting[len(l.waiting)-1].at-p.at < layerWait {
			return
		}
		next := *p
		p.data = nil
		l.bytes -= len(next.data) + unitCost
		if l.waiting = l.waiting[1:]; len(l.waiting) == 0 {
			l.waiting = nil
		}
		r.cutLayer(l, &next)
	}
}

// cutLayer gives a picture the times of the main one, and cuts it.
func (r *Run) cutLayer(l *layer, p *layerPicture) {
	o := r.layerUse(l)
	if o == nil {
		return
	}
	raw := p.at + p.composition
	if p.key {
		if lead, found := r.pictures.near(raw+l.shift, sameKey, true); found {
			l.shift, l.known = lead.raw-raw, true
		}
	}
	if !l.known { // there was no keyframe together with one of the main picture
		r.missed(l, o, raw)
		return
	}
	raw += l.shift
	u := media.AccessUnit{Key: p.key, Data: p.data}
	lead, found := r.pictures.near(raw, samePicture, false)
	if !found {
		// The main track left it out: it keeps its distance from the one before.
		if lead, found = r.pictures.near(raw, layerWait, false); !found {
			return
		}
		lead.pts += raw - lead.raw
		lead.raw = raw
	}
	u.PTS, u.Duration = lead.pts, lead.duration
	u.DTS = min(p.at+l.shift+lead.pts-lead.raw-lead.early, u.PTS)
	b, _, ok := r.clock.Lookup(u.PTS)
	if !ok {
		return
	}
	if b.MSN > l.begun {
		if l.begun = b.MSN; !u.Key {
			if r.missed(l, o, raw); l.Unfit {
				return
			}
		} else {
			l.missed = 0
		}
	}
	t := &o.cutter.Header().Track
	r.shownAt(t.ID, u.PTS)
	r.Hub.Push(t, &u)
	r.cut(o, u)
}

// missed counts segments that begin without a keyframe of a layer.
func (r *Run) missed(l *layer, o *output, raw int64) {
	if !l.known {
		if b, _, ok := r.clock.Lookup(raw); !ok || b.MSN <= l.begun {
			return
		} else {
			l.begun = b.MSN
		}
	}
	if l.missed++; l.missed >= maxMissed {
		r.giveUp(l, "it has no keyframes where those of the main picture are")
	}
}

// giveUp has the rungs of a layer encoded here from the next segment on.
func (r *Run) giveUp(l *layer, why string) {
	w, h := ladder.Display(l.Track)
	l.Unfit, l.waiting, l.bytes = true, nil, 0
	r.event(events.Warning, "layer-unfit", fmt.Sprintf("The sender's own picture of %dx%d is not used any more: %s. The rung is encoded here.", w, h, why),
		"Let the sender make keyframes of all sizes together, or turn the mark \"ready-made\" of the rung off.")
	r.ApplyLadder(r.Rungs)
}
