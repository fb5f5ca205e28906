package run

import (
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin/layout"
)

// pairTracks are those of the pair in the hub, nil while they are not made.
type pairTracks struct{ video, sound *media.Track }

// reuse lets those go that are not made any more.
func (p *pairTracks) reuse(s *layout.Source) {
	if !s.MakesPairVideo() {
		p.video = nil
	}
	if !s.MakesPairSound() {
		p.sound = nil
	}
}

// pairTrack takes the configuration of one of the pair.
func (r *Run) pairTrack(id media.TrackID, t media.Track) {
	t.ID = id
	switch r.IDs.Name(id) {
	case layout.PairVideo:
		r.pair.video = &t
	case layout.PairSound:
		r.pair.sound = &t
	default:
		return
	}
	r.make(TracksChanged{})
}

// pairUnit takes a unit of the pair: it goes to the hub alone. What a worker that was replaced repeats is left out.
func (r *Run) pairUnit(id media.TrackID, u *media.AccessUnit) {
	for _, t := range []*media.Track{r.pair.video, r.pair.sound} {
		if t == nil || t.ID != id {
			continue
		}
		if last, seen := r.order.latest[id]; seen && u.PTS <= last {
			return
		}
		r.order.latest[id] = u.PTS
		r.Hub.Push(t, u)
	}
}

// pictureOrder is in which order the pictures of tracks come.
type pictureOrder struct {
	reordered map[media.TrackID]bool  // another one than they are shown in
	latest    map[media.TrackID]int64 // presentation time of the newest picture, or unit of the pair
}

// shownAt notes in which order the pictures of a track come.
func (r *Run) shownAt(id media.TrackID, pts int64) {
	if latest, seen := r.order.latest[id]; seen && pts < latest && !r.order.reordered[id] {
		r.order.reordered[id] = true
		r.make(TracksChanged{})
	}
	r.order.latest[id] = max(r.order.latest[id], pts)
}

// Reordered reports whether the pictures of a track came in another order than they are shown.
func (r *Run) Reordered(id media.TrackID) bool { return r.order.reordered[id] }

// Since is the number in the hub of the first unit that a reader of the run may have.
func (r *Run) Since() uint64 {
	if !r.begun {
		return r.Hub.Next()
	}
	return r.first
}

// VideoTrack is the track in the hub of a rendition of pictures, nil when there is none yet.
func (r *Run) VideoTrack(rendition string) *media.Track {
	o := r.outputs[rendition]
	if o == nil || o.cutter.Header() == nil {
		return nil
	}
	if o.direct && o.layer == nil {
		return r.Video
	}
	return &o.cutter.Header().Track
}

// SoundTrack is the track in the hub of an audio rendition, nil when there is none yet.
func (r *Run) SoundTrack(rendition string) *media.Track {
	for _, a := range r.sounds {
		if a.Name == rendition {
			return a.Track
		}
	}
	if o := r.outputs[rendition]; o != nil && !o.direct && o.cutter.Header() != nil && o.cutter.Header().Track.Kind == media.Audio {
		return &o.cutter.Header().Track
	}
	return nil
}

// EncodedSounds are the tracks in the hub of audio that is encoded here.
func (r *Run) EncodedSounds() (out []*media.Track) {
	for _, o := range r.outputs {
		if h := o.cutter.Header(); h != nil && h.Track.Kind == media.Audio && !o.direct {
			out = append(out, &h.Track)
		}
	}
	return out
}

// PairTracks are the tracks in the hub of the pair for real-time viewers, nil while they are not made.
func (r *Run) PairTracks() (video, sound *media.Track) { return r.pair.video, r.pair.sound }
