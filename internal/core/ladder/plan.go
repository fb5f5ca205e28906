package ladder

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/media"
)

// PlanFormat is what a file of a plan says that it is.
const PlanFormat = "metaplasis ladder plan"

// Plan is a named ladder that channels use. A changed plan is a new version: what uses an earlier one goes on with it.
// It is a file as it stands here, in JSON.
type Plan struct {
	Format     string     `json:"format"` // PlanFormat
	Name       string     `json:"name"`
	Version    int        `json:"version"` // from 1; 0 in a file that has none yet
	Title      string     `json:"title,omitempty"`
	BuiltIn    bool       `json:"builtIn,omitempty"` // it comes with the program and does not change
	Created    time.Time  `json:"created,omitzero"`
	Author     string     `json:"author,omitempty"` // user who stored it
	Governor   Governor   `json:"governor,omitempty"`
	Interlaced Interlaced `json:"interlaced,omitempty"`
	Rungs      []Rung     `json:"rungs"`
}

// Use is how a ladder uses a plan.
type Use struct {
	Name    string `json:"name"`
	Version int    `json:"version"` // 0 asks for the newest
	// Own are the rungs that the channel has otherwise than the plan, or beside it.
	Own []string `json:"own,omitempty"`
}

// Check lists everything that is wrong with a plan.
func (p Plan) Check() (out []Problem) {
	if !nameForm.MatchString(p.Name) {
		out = append(out, Problem{"name", fmt.Sprintf("found %.40q, expected lower-case letters, digits and hyphens, 31 at most", p.Name)})
	}
	if p.Format != "" && p.Format != PlanFormat {
		out = append(out, Problem{"format", fmt.Sprintf("found %.40q, expected %q", p.Format, PlanFormat)})
	}
	if t := CheckText("title", p.Title, 120); t != nil {
		out = append(out, *t)
	}
	if len(p.Rungs) == 0 {
		out = append(out, Problem{"rungs", "found none, expected at least one"})
	}
	return append(out, Ladder{Rungs: p.Rungs, Governor: p.Governor, Interlaced: p.Interlaced}.Check()...)
}

// With returns the ladder of a channel that uses the plan with some rungs of its own: they replace the plan's of the
// same name, or stand behind them.
func (p Plan) With(own []Rung) Ladder {
	l := Ladder{Rungs: slices.Clone(p.Rungs), Governor: p.Governor, Interlaced: p.Interlaced, Plan: &Use{Name: p.Name, Version: p.Version}}
	for _, r := range own {
		at := slices.IndexFunc(l.Rungs, func(o Rung) bool { return o.Name == r.Name })
		switch {
		case at < 0:
			l.Rungs = append(l.Rungs, r)
		case l.Rungs[at] == r:
			continue
		default:
			l.Rungs[at] = r
		}
		l.Plan.Own = append(l.Plan.Own, r.Name)
	}
	return l
}

// Own lists the rungs of a ladder that are not as its plan has them.
func (l Ladder) Own() (out []Rung) {
	for _, r := range l.Rungs {
		if l.Plan != nil && slices.Contains(l.Plan.Own, r.Name) {
			out = append(out, r)
		}
	}
	return out
}

// Fit turns those rungs of a plan off that a source is too small for: what has less than a rung asks for would be
// encoded twice at the same size, or beside the source itself. Something is left.
func Fit(rungs []Rung, video *media.Track) []Rung {
	if video == nil {
		return rungs
	}
	out := slices.Clone(rungs)
	coded := 0
	for _, r := range out {
		if r.On && !r.Source && !r.SoundOnly() {
			coded++
		}
	}
	source := slices.ContainsFunc(out, func(r Rung) bool { return r.On && r.Source })
	for i := range out {
		r := &out[i]
		if !r.On || r.Source || r.SoundOnly() || r.Picture.Pad {
			continue
		}
		w, h := r.Shape(video)
		larger := r.Width > even(w) || r.Height > even(h)
		same := source && (r.Width == even(w) || r.Height == even(h)) // which passes through
		if (larger || same) && (coded > 1 || source) {
			r.On = false
			coded--
		}
	}
	return out
}

// BuiltIn lists the plans that come with the program.
func BuiltIn() []Plan {
	video := func(height int, kbits int64, effort int, rest ...func(*Rung)) Rung {
		r := Rung{Name: fmt.Sprintf("%dp", height), On: true, Height: height, Bitrate: kbits * 1000, Effort: effort}
		for _, change := range rest {
			change(&r)
		}
		return r
	}
	low := func(r *Rung) { r.BFrames, r.Buffer = -1, 500 }
	half := func(r *Rung) { r.FrameRate = "half" }
	sound := func(kbits int64, mono bool) Rung {
		r := Rung{Name: fmt.Sprintf("sound-%dk", kbits), On: true, AudioBitrate: kbits * 1000}
		if mono {
			r.AudioChannels = 1
		}
		return r
	}
	voice := func(kbits int64) func(*Rung) { return func(r *Rung) { r.AudioBitrate = kbits * 1000 } }
	source := Rung{Name: "source", On: true, Source: true}
	plans := []Plan{
		{Name: "general", Title: "General: the source, and three sizes below it", Governor: GovernorLower,
			Rungs: []Rung{source, video(720, 2700, 2), video(480, 1300, 2), video(360, 750, 2)}},
		{Name: "low-delay", Title: "Low delay: no pictures that wait for later ones, short buffers", Governor: GovernorLower,
			Rungs: []Rung{source, video(720, 2800, 1, low), video(480, 1400, 1, low), video(360, 800, 2, low)}},
		{Name: "phone-first", Title: "Phone first: small pictures well made, few bits of sound", Governor: GovernorLower,
			Rungs: []Rung{video(720, 2200, 3), video(540, 1300, 4, voice(96)), video(360, 650, 5, voice(64)), video(240, 300, 5, half, voice(48))}},
		{Name: "high-motion", Title: "High motion: sport at the full frame rate, more bits a picture", Governor: GovernorLower,
			Rungs: []Rung{source, video(720, 4500, 2), video(540, 2600, 2), video(360, 1200, 2)}},
		{Name: "sound-only", Title: "Sound only: 256 down to 24 kbit/s",
			Rungs: []Rung{sound(256, false), sound(128, false), sound(96, false), sound(64, false), sound(48, true), sound(24, true)}},
	}
	for i := range plans {
		plans[i].Format, plans[i].Version, plans[i].BuiltIn = PlanFormat, 1, true
	}
	return plans
}
