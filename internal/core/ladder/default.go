package ladder

import (
	"fmt"
	"math"
	"slices"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// shortSides are the sizes of a default ladder, by the picture's shorter side.
var shortSides = []int{2160, 1440, 1080, 720, 480, 360, 240}

// maxPlanned is how many encoded rungs a default ladder has.
//
//limit:encoded rungs of a ladder that nobody chose | each channel | none is added
const maxPlanned = 3

// Default makes the default ladder of a source: the source itself on top, or a picture of its size where browsers do not
// play its codec, then up to three smaller pictures. It never enlarges. Without video it has one rung that carries the audio. Sound passes through where browsers
// play it, and is re-encoded where they do not.
func Default(video, sound *media.Track) []Rung { return heard(pictures(video), sound) }

func pictures(video *media.Track) []Rung {
	out := []Rung{{Name: "source", On: true, Source: true}}
	if video == nil {
		return out
	}
	w, h := Display(video)
	short := min(w, h)
	if !played(video) {
		out[0] = ownSize(fmt.Sprintf("%dp", short), video)
	}
	for _, side := range shortSides {
		if side >= short || len(out) > maxPlanned {
			continue
		}
		if side < short/5 {
			break
		}
		r := Small(video, side)
		r.Name = fmt.Sprintf("%dp", side)
		out = append(out, r)
	}
	return out
}

// ReadyMade makes a default ladder of a source whose sender sends its picture in smaller sizes too: these are its rungs, in
// place of those that would be encoded, as far as browsers play them.
func ReadyMade(rungs []Rung, sizes []*media.Track) []Rung {
	var ready []Rung
	for _, t := range sizes {
		w, h := Display(t)
		name := fmt.Sprintf("%dp", min(w, h))
		if !played(t) || w%2 != 0 || h%2 != 0 || slices.ContainsFunc(ready, func(r Rung) bool { return r.Name == name }) {
			continue
		}
		r := ownSize(name, t)
		r.Ready = true
		ready = append(ready, r)
	}
	if len(ready) == 0 {
		return rungs
	}
	slices.SortFunc(ready, func(a, b Rung) int { return b.Width*b.Height - a.Width*a.Height })
	out := slices.Clone(rungs[:1]) // the source, or a picture of its size
	for i := range ready {
		ready[i].AudioBitrate = out[0].AudioBitrate
		if ready[i].Name == out[0].Name {
			ready[i].Name += "-ready"
		}
	}
	return append(out, ready...)
}

// Makes reports whether a track of the sender's is what a ready-made rung asks for.
func (r Rung) Makes(t *media.Track) bool {
	w, h := Display(t)
	return r.Ready && played(t) && r.Width == w && r.Height == h && (r.Codec == "" || r.Codec == t.Codec)
}

// Packaged makes a rung of the source's own size of the one that passes the source through, where nothing packages the
// source as it is.
func Packaged(rungs []Rung, video *media.Track) []Rung {
	if video == nil || !video.OnlyCoded {
		return rungs
	}
	out := append([]Rung(nil), rungs...)
	for i, r := range out {
		if r.Source {
			out[i] = ownSize(r.Name, video)
			out[i].On = r.On
		}
	}
	return out
}

// ownSize is a rung of the source's own size.
func ownSize(name string, video *media.Track) Rung {
	w, h := Display(video)
	return Rung{Name: name, On: true, Width: w &^ 1, Height: h &^ 1, Bitrate: Bitrate(w, h, video.FrameRate), Effort: defaultEffort}.WithDefaults()
}

// Small is a rung of a source's own size, or of a shorter side where that is less.
func Small(video *media.Track, side int) Rung {
	w, h := Display(video)
	if min(w, h) <= side {
		return ownSize("", video)
	}
	r := Rung{On: true, Effort: defaultEffort}
	if w >= h {
		r.Height = side
	} else {
		r.Width = side
	}
	r.Width, r.Height = r.Size(video)
	r.Bitrate = Bitrate(r.Width, r.Height, video.FrameRate)
	return r.WithDefaults()
}

// played reports whether a track may pass through a default ladder: browsers play it, or nothing here reads it.
func played(t *media.Track) bool {
	c := coding.Find(t.Codec)
	return t.Undecodable != "" || c == nil || c.Web
}

// heardBitrate is that of sound that is re-encoded so that browsers play it.
const heardBitrate = 128_000

func heard(rungs []Rung, sound *media.Track) []Rung {
	if sound == nil || played(sound) {
		return rungs
	}
	out := append([]Rung(nil), rungs...)
	for i := range out {
		if out[i].AudioBitrate == 0 {
			out[i].AudioBitrate = heardBitrate
		}
	}
	return out
}

// Bitrate is what a picture of a size needs for a decent look at low effort, rounded to 50
// kbit/s: 6.4 times the three-quarter power of its samples per second, so that 1080p30 gets
// 4.5 Mbit/s and 360p30 0.85.
func Bitrate(width, height int, rate media.Rational) int64 {
	if !rate.Valid() {
		rate = media.Rational{Num: 30, Den: 1}
	}
	samples := float64(width) * float64(height) * float64(rate.Num) / float64(rate.Den)
	return max(int64(6.4*math.Pow(samples, 0.75))/50_000*50_000, 100_000)
}
