package tap

import (
	"cmp"
	"fmt"
	"slices"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/run"
)

// Choose finds the tracks of a choice in a run.
func Choose(r *run.Run, choice onward.Choice) (l Lines) {
	l.Since = r.Since()
	if choice.Real != nil {
		l.Video, l.Sound = realVideo(r, choice), realSound(r, choice)
	} else {
		l.Video, l.Sound = chosen(r, choice.Rung)
		if choice.Sound != "" {
			l.Sound = r.SoundTrack(choice.Sound)
		}
	}
	switch choice.Only {
	case media.Video:
		l.Sound = nil
	case media.Audio:
		l.Video = nil
	}
	return l
}

// Has reports whether a run has a rung, or an audio rendition, of a name; "" is the source as it came.
func Has(r *run.Run, rung string) bool {
	if rung == "" || rung == layout.PairVideo || rung == layout.PairSound || r.Makes(rung) || r.SoundTrack(rung) != nil {
		return true
	}
	return slices.ContainsFunc(r.Made(), func(o ladder.Rung) bool { return o.Name == rung })
}

// chosen are the tracks of a rung by its name; "" is the source as it came.
func chosen(r *run.Run, name string) (video, sound *media.Track) {
	if name == "" {
		return r.Video, r.Main()
	}
	for _, rung := range r.Made() {
		if rung.Name != name {
			continue
		}
		if !rung.SoundOnly() {
			video = r.VideoTrack(name)
		}
		return video, r.SoundTrack(r.SoundName(&rung))
	}
	return nil, r.SoundTrack(name)
}

// realVideo chooses pictures for a viewer in real time: the rung that it asks for when it fits, else the best one that does, else what
// is encoded for such viewers.
func realVideo(r *run.Run, choice onward.Choice) *media.Track {
	if r.Video == nil || len(choice.Real.Video) == 0 {
		return nil
	}
	if choice.Rung != "" {
		if t, _ := chosen(r, choice.Rung); inRealTime(r, t, choice.Real.Video) {
			return t
		}
	} else if offers := Offers(r, choice.Real); len(offers) > 0 && offers[0].Rung != layout.PairVideo {
		t, _ := chosen(r, offers[0].Rung)
		return t
	}
	if slices.Contains(choice.Real.Video, coding.RealTime(media.Video)) {
		video, _ := r.PairTracks()
		return video
	}
	return nil
}

// realSound chooses sound in the same way.
func realSound(r *run.Run, choice onward.Choice) *media.Track {
	if r.Main() == nil || len(choice.Real.Audio) == 0 {
		return nil
	}
	fits := func(t *media.Track) bool { return t != nil && slices.Contains(choice.Real.Audio, t.Codec) }
	if choice.Sound != "" {
		if t := r.SoundTrack(choice.Sound); fits(t) {
			return t
		}
	}
	if fits(r.Main()) {
		return r.Main()
	}
	if list := r.EncodedSounds(); slices.ContainsFunc(list, fits) {
		return list[slices.IndexFunc(list, fits)]
	}
	_, sound := r.PairTracks()
	return sound
}

// inRealTime reports whether a track of pictures can be shown as it comes: its codec is one of some, and its pictures come as they
// are shown.
func inRealTime(r *run.Run, t *media.Track, codecs []media.Codec) bool {
	return t != nil && t.Kind == media.Video && slices.Contains(codecs, t.Codec) && !r.Reordered(t.ID) && (t.ID != r.Video.ID || !r.Video.Interlaced)
}

// enoughLines is how many lines a rung has that is good enough for viewers in real time.
const enoughLines = 480

// Offers lists the rungs of a run with pictures that fit a viewer in real time, the best first; all of them for nil.
func Offers(r *run.Run, real *onward.Real) (out []onward.Offer) {
	for _, rung := range r.Made() {
		if rung.SoundOnly() {
			continue
		}
		if t := r.VideoTrack(rung.Name); t != nil && (real == nil || inRealTime(r, t, real.Video)) {
			out = append(out, onward.Offer{Rung: rung.Name, Bitrate: rung.Bitrate, Width: t.Width, Height: t.Height})
		}
	}
	if w, h := ladder.Display(r.Video); real != nil && r.Video.Undecodable == "" && slices.Contains(real.Video, coding.RealTime(media.Video)) &&
		!slices.ContainsFunc(out, func(o onward.Offer) bool { return min(o.Width, o.Height) >= min(w, h, enoughLines) }) {
		pair := layout.PairRung(r.Video)
		w, h = pair.Size(r.Video)
		out = append(out, onward.Offer{Rung: layout.PairVideo, Bitrate: pair.Bitrate, Width: w, Height: h})
	}
	slices.SortStableFunc(out, func(a, b onward.Offer) int { return b.Width*b.Height - a.Width*a.Height })
	return out
}

// Sounds lists the source's audio tracks, the main one first.
func Sounds(r *run.Run) (out []onward.Sound) {
	for i, a := range r.Sounds {
		out = append(out, onward.Sound{Name: a.Name, Label: cmp.Or(a.Track.Name, a.Track.Language, fmt.Sprintf("Sound %d", i+1))})
	}
	return out
}
