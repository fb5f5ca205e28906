package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
)

// layer is a smaller picture that the sender makes beside the main one and sends as a track of its own: what becomes a
// ready-made rung. Its pictures are those of the main one, and get their times.
type layer struct {
	track   *media.Track
	shift   int64 // from its times to those of the main picture, ticks of media.VideoTimescale
	known   bool  // shift is
	waiting []layerPicture
	bytes   int
	heard   time.Time // when its newest unit came
	begun   uint64    // the newest segment that a picture of it belongs to
	missed  int       // segments in a row that began without a keyframe of it
	unfit   bool      // it is coded here instead
}

// layerPicture waits for the main picture that it belongs to. Its times are ticks of media.VideoTimescale.
type layerPicture struct {
	at, composition int64
	key             bool
	data            []byte
}

const (
	// maxSizes is how many pictures of a sender are used.
	//limit:sizes of one picture (simulcast) that are used | each sender | further ones are left out
	maxSizes = 4
	// maxMissed is how many segments in a row may begin without a keyframe of a layer.
	//limit:segments without a keyframe of a layer | each layer | it is coded here instead
	maxMissed = 2
	// layerSilence is how long nothing may come of a layer until it is coded here instead.
	layerSilence = 2 * time.Second
	// Bounds of what waits of a layer: the main picture may be that much later on its way.
	//limit:bytes of a layer that wait for the main picture | each layer | it is coded here instead
	maxLayerBytes = 4 << 20
	//limit:pictures of a layer that wait for the main picture | each layer | it is coded here instead
	maxLayerUnits = 64
	layerWait     = media.VideoTimescale / 2
	// samePicture is how far the times of one picture in two sizes may lie apart, and sameKey those of keyframes that
	// were asked for at once, while nothing better is known: ticks of media.VideoTimescale.
	samePicture = media.VideoTimescale * 7 / 1000
	sameKey     = media.VideoTimescale * 150 / 1000
)

// leads are the newest pictures of the main track.
type leads struct {
	list  [maxLayerUnits]lead
	n     int
	ended bool // none will come
}

// lead is one of them: at is when it says that it is decoded, raw when it is presented by the same clock.
type lead struct {
	at, raw, pts, early, duration int64
	key                           bool
}

func (l *leads) note(at, composition int64, u *media.AccessUnit, duration int64) {
	raw := at + composition
	l.list[l.n%len(l.list)] = lead{at: at, raw: raw, pts: u.PTS, early: at + u.PTS - raw - u.DTS, duration: duration, key: u.Key}
	l.n++
}

// newest returns the newest one.
func (l *leads) newest() (lead, bool) {
	if l.n == 0 {
		return lead{}, false
	}
	return l.list[(l.n-1)%len(l.list)], true
}

// near returns the one that is presented nearest to a time and not further away than that, keyframes alone if asked.
func (l *leads) near(raw, most int64, key bool) (best lead, found bool) {
	for i := range min(l.n, len(l.list)) {
		if o := l.list[i]; (o.key || !key) && abs(o.raw-raw) <= most {
			best, found, most = o, true, abs(o.raw-raw)
		}
	}
	return best, found
}

func abs(v int64) int64 { return max(v, -v) }

// layerOf returns the layer of a track, nil when it is none.
func (s *session) layerOf(id media.TrackID) *layer {
	for _, l := range s.layers {
		if l.track.ID == id {
			return l
		}
	}
	return nil
}

// layerFor returns the layer that a rung takes its pictures from, nil when it is to be coded.
func (s *session) layerFor(r *ladder.Rung) *layer {
	if !r.Ready || s.source.suspended {
		return nil
	}
	for _, l := range s.layers {
		if !l.unfit && r.Makes(l.track) {
			return l
		}
	}
	return nil
}

// sizes are the tracks of all layers, those that are not fit too: the rungs stay as they are then.
func (s *session) sizes() (out []*media.Track) {
	for _, l := range s.layers {
		out = append(out, l.track)
	}
	return out
}

// setLayer takes a layer that came later, or its other parameters.
func (s *session) setLayer(t *media.Track) {
	if l := s.layerOf(t.ID); l != nil {
		l.track = t
		l.unfit, l.missed, l.heard = false, 0, s.now()
		for _, o := range s.outputs {
			if o.layer == l {
				s.setTrack(o, s.layerTrack(l))
			}
		}
		return
	}
	s.layers = append(s.layers, &layer{track: t})
}

// layerTrack is the track of a layer as viewers are told of it.
func (s *session) layerTrack(l *layer) media.Track {
	t := *l.track
	if !t.FrameRate.Valid() {
		t.FrameRate = s.video.FrameRate
	}
	return t
}

// layerUnit takes a picture of a layer, its times still the sender's.
func (s *session) layerUnit(l *layer, stamp, composition int64, data []byte, now time.Time) {
	l.heard = now
	if s.layerUse(l) == nil {
		l.waiting, l.bytes = nil, 0
		return
	}
	clock := l.track.Stamps()
	at, verdict := s.feed.Map(l.track.ID, clock, stamp, now.Sub(s.firstWall))
	if verdict != timeline.Follows {
		return
	}
	l.waiting = append(l.waiting, layerPicture{at, clock.Ticks(composition), coding.Look(l.track.Codec, data).Random, data})
	l.bytes += len(data) + unitCost
	s.releaseLayer(l)
}

// layerUse returns the rendition that a layer feeds, nil for none.
func (s *session) layerUse(l *layer) *output {
	for _, o := range s.all() {
		if o.layer == l {
			return o
		}
	}
	return nil
}

// releaseLayers cuts what waits of all layers for pictures that have come by now, and gives up layers of which nothing
// comes.
func (s *session) releaseLayers() {
	for _, l := range s.layers {
		s.releaseLayer(l)
		if l.unfit || s.ended || s.layerUse(l) == nil {
			continue
		}
		if now := s.now(); l.heard.IsZero() {
			l.heard = now
		} else if now.Sub(l.heard) > layerSilence {
			s.giveUp(l, fmt.Sprintf("nothing came of it for %d s", int(layerSilence.Seconds())))
		}
	}
}

func (s *session) releaseLayer(l *layer) {
	newest, any := s.leads.newest()
	if o := s.layerUse(l); o != nil && s.awaits(o) && l.bytes <= maxLayerBytes && len(l.waiting) <= maxLayerUnits && !s.leads.ended {
		return
	}
	for len(l.waiting) > 0 {
		p := &l.waiting[0]
		late := s.leads.ended || l.bytes > maxLayerBytes || len(l.waiting) > maxLayerUnits
		if !late && (!any || !s.begun) {
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
		s.cutLayer(l, &next)
	}
}

// cutLayer gives a picture the times of the main one, and cuts it.
func (s *session) cutLayer(l *layer, p *layerPicture) {
	o := s.layerUse(l)
	if o == nil {
		return
	}
	raw := p.at + p.composition
	if p.key {
		if lead, found := s.leads.near(raw+l.shift, sameKey, true); found {
			l.shift, l.known = lead.raw-raw, true
		}
	}
	if !l.known { // there was no keyframe together with one of the main picture
		s.missed(l, o, raw)
		return
	}
	raw += l.shift
	u := media.AccessUnit{Key: p.key, Data: p.data}
	lead, found := s.leads.near(raw, samePicture, false)
	if !found {
		// The main track left it out: it keeps its distance from the one before.
		if lead, found = s.leads.near(raw, layerWait, false); !found {
			return
		}
		lead.pts += raw - lead.raw
		lead.raw = raw
	}
	u.PTS, u.Duration = lead.pts, lead.duration
	u.DTS = min(p.at+l.shift+lead.pts-lead.raw-lead.early, u.PTS)
	b, _, ok := s.clock.Lookup(u.PTS)
	if !ok {
		return
	}
	if b.MSN > l.begun {
		if l.begun = b.MSN; !u.Key {
			if s.missed(l, o, raw); l.unfit {
				return
			}
		} else {
			l.missed = 0
		}
	}
	t := &o.cutter.Header().Track
	s.shownAt(t.ID, u.PTS)
	s.hub.Push(t, &u)
	s.cut(o, u)
}

// missed counts segments that begin without a keyframe of a layer.
func (s *session) missed(l *layer, o *output, raw int64) {
	if !l.known {
		if b, _, ok := s.clock.Lookup(raw); !ok || b.MSN <= l.begun {
			return
		} else {
			l.begun = b.MSN
		}
	}
	if l.missed++; l.missed >= maxMissed {
		s.giveUp(l, "it has no keyframes where those of the main picture are")
	}
}

// giveUp has the rungs of a layer coded here from the next segment on.
func (s *session) giveUp(l *layer, why string) {
	w, h := ladder.Display(l.track)
	l.unfit, l.waiting, l.bytes = true, nil, 0
	s.event(events.Warning, "layer-unfit", fmt.Sprintf("The sender's own picture of %dx%d is not used any more: %s. The rung is coded here.", w, h, why),
		"Let the sender make keyframes of all sizes together, or turn the mark \"ready-made\" of the rung off.")
	s.applyLadder(s.rungs)
}
