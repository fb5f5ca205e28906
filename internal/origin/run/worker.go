package run

import (
	"fmt"

	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/layout"
)

// What a worker says comes back through these methods.

func (r *Run) startWorker() { r.worker = r.Employ(r.at, r.config) }

// encoded returns the output of a track of the worker, nil when there is none.
func (r *Run) encoded(id media.TrackID) *output {
	for _, o := range r.all() {
		if o.id == id && !o.direct {
			return o
		}
	}
	return nil
}

// EncodedTrack takes the configuration of a track that the worker makes.
func (r *Run) EncodedTrack(id media.TrackID, t media.Track) {
	if o := r.encoded(id); o != nil {
		r.setTrack(o, t)
		r.make(Offer{r.Offering(), r.partTarget})
		r.make(TracksChanged{})
		return
	}
	r.pairTrack(id, t)
}

// EncodedUnit takes a unit that the worker made.
func (r *Run) EncodedUnit(id media.TrackID, u media.AccessUnit) {
	o := r.encoded(id)
	if o == nil {
		r.pairUnit(id, &u)
		return
	}
	if o.cutter.Header() == nil {
		return
	}
	t := &o.cutter.Header().Track
	if t.Kind == media.Audio {
		r.Hub.Push(t, &u)
		r.hold(o.name, u)
		r.releaseAudio(false)
		return
	}
	r.encoding.back(o.name, u.PTS, r.Now())
	r.addCaptions(o, &u)
	r.shownAt(t.ID, u.PTS)
	r.Hub.Push(t, &u)
	r.cut(o, u)
}

// EncodingFailed takes word from the worker that a track cannot be made, 0 for all of them: its rungs are given up, and the others go on
// without waiting for them.
func (r *Run) EncodingFailed(id media.TrackID, text string) {
	const do = "Change the rung's settings, or turn it off; the other rungs go on."
	if id == 0 {
		r.event(events.Failure, "transcoding-failed", "The worker could not go on as it should: "+text,
			"Check the machine's memory and the feed's encoder.")
		return
	}
	name := r.IDs.Name(id)
	if name == layout.PairVideo || name == layout.PairSound {
		r.Pair.Broken = true
		r.event(events.Failure, "transcoding-failed", fmt.Sprintf("The rung for real-time viewers cannot be made: %s.", text),
			"Give the channel a rung of H.264 without B-frames, and sound in Opus.")
	}
	for _, rung := range r.Rungs {
		if rung.Name != name && r.SoundName(&rung) != name {
			continue
		}
		if _, known := r.Failed[rung.Name]; known {
			continue
		}
		r.Failed[rung.Name] = layout.Failure{Rung: rung, Text: text}
		r.event(events.Failure, "transcoding-failed", fmt.Sprintf("The rung %s cannot be made: %s.", rung.Name, text), do)
	}
	r.ApplyLadder(r.Rungs)
}

// Replaced takes word that another worker is about to repeat what the one before did not finish. It returns from which time on
// each track is wanted, where some of it is published.
func (r *Run) Replaced() map[media.TrackID]int64 {
	resume := map[media.TrackID]int64{}
	for _, o := range r.all() {
		if o.direct {
			continue
		}
		from := o.cutter.Discard()
		if from > 0 {
			resume[o.id] = from
		} else if b, ok := r.clock.Start(o.cutter.Floor()); ok {
			from = b
		}
		o.captioned = min(o.captioned, from-1) // what was in pictures that did not come out is needed again
	}
	return resume
}
