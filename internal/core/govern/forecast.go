package govern

import (
	"cmp"
	"fmt"
	"slices"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// Machine is what there is to share.
type Machine struct {
	Cores int
	Idle  int64 // thousandths of all processors that nobody uses; less than 0 when not known
}

// room is how much more may be taken, in thousandths of one processor: a part stays free, for what comes and goes.
func (m Machine) room() int64 {
	const spare = 150 // thousandths of the machine
	return (m.Idle - spare) * int64(m.Cores)
}

// Outlook is whether a ladder is likely to keep up.
type Outlook struct {
	KeepsUp bool   `json:"keepsUp"`
	Text    string `json:"text"`
	// Loads are what each encoded rung is likely to take, in thousandths of a processor.
	Loads []RungLoad `json:"loads"`
	More  int64      `json:"more"` // than now, thousandths of a processor; less than 0 is less
	Room  int64      `json:"room"` // thousandths of a processor; less than 0 when not known
}

// RungLoad is what a rung is likely to take.
type RungLoad struct {
	Rung string `json:"rung"`
	Load int64  `json:"load"`
}

// samples is how many luma samples per second a rung codes.
func samples(r ladder.Rung, video *media.Track) int64 {
	w, h := r.Size(video)
	source := video.FrameRate
	if !source.Valid() {
		source = media.Rational{Num: 25, Den: 1}
	}
	rate, err := ladder.ParseRate(r.FrameRate)
	if err != nil {
		rate = ladder.Rate{}
	}
	of := rate.Of(source)
	return int64(w) * int64(h) * of.Num / of.Den
}

// table is what a rung takes by the table of codecs, in thousandths of a processor.
func table(r ladder.Rung, video *media.Track) int64 {
	c := coding.Find(cmp.Or(r.Codec, coding.Usual(media.Video)))
	if c == nil {
		return 0
	}
	effort := min(max(r.WithDefaults().Effort, lowestEffort), highestEffort)
	return max(media.RescaleDown(samples(r, video), 1_000_000, int64(c.Cost[effort-1])), 1) // nanoseconds a second to thousandths
}

// encoded reports whether a rung has pictures that are encoded.
func coded(r ladder.Rung) bool { return r.On && !r.Source && !r.SoundOnly() }

// measuredOver is by how much this machine and content differ from the table, in thousandths: from the rungs that run.
func measuredOver(l Load, now []ladder.Rung, video *media.Track) int64 {
	var seen, told int64
	for _, r := range now {
		if load := l.Encoding[r.Name]; coded(r) && load > 0 {
			seen, told = seen+load, told+table(r, video)
		}
	}
	if seen == 0 || told == 0 {
		return 1000
	}
	return min(max(seen*1000/told, 300), 5000)
}

// Forecast says whether a channel is likely to keep up with another ladder than the one that runs.
func Forecast(m Machine, l Load, now, then []ladder.Rung, video *media.Track) (o Outlook) {
	if video == nil {
		return Outlook{KeepsUp: true, Text: "Nothing is known of the source yet; audio only costs next to nothing.", Loads: []RungLoad{}, Room: m.room()}
	}
	factor := measuredOver(l, now, video)
	o = Outlook{KeepsUp: true, Loads: []RungLoad{}, Room: m.room()}
	var before, after int64
	for _, r := range now {
		if coded(r) {
			before += cmp.Or(l.Encoding[r.Name], table(r, video)*factor/1000)
		}
	}
	worst := RungLoad{}
	for _, r := range then {
		if !coded(r) {
			continue
		}
		load := table(r, video) * factor / 1000
		if i := slices.IndexFunc(now, func(n ladder.Rung) bool { return n.Name == r.Name && n.Equal(r) }); i >= 0 && l.Encoding[r.Name] > 0 {
			load = l.Encoding[r.Name] // it is what runs
		}
		o.Loads = append(o.Loads, RungLoad{r.Name, load})
		after += load
		if load > worst.Load {
			worst = RungLoad{r.Name, load}
		}
	}
	o.More = after - before
	percent := func(n int64) string { return fmt.Sprintf("%d %%", n/10) }
	switch {
	case worst.Load > shortBusy:
		o.KeepsUp = false
		o.Text = fmt.Sprintf("%s would take %s of a processor, and an encoder has one: pictures would be left out. Lower its effort or size.", worst.Rung, percent(worst.Load))
	case m.Idle >= 0 && o.More > 0 && o.More > o.Room:
		o.KeepsUp = false
		o.Text = fmt.Sprintf("This takes %s of a processor more than now, and %s are free: pictures would be left out, or the governor lowers the ladder.", percent(o.More), percent(max(o.Room, 0)))
	case m.Idle < 0:
		o.Text = fmt.Sprintf("The rungs take about %s of a processor; how much is free is not known.", percent(after))
	case o.More > 0:
		o.Text = fmt.Sprintf("The machine is likely to keep up: this takes %s of a processor more than now, of %s that are free.", percent(o.More), percent(max(o.Room, 0)))
	default:
		o.Text = fmt.Sprintf("The machine is likely to keep up: this takes %s of a processor less than now.", percent(-o.More))
	}
	return o
}

// Advise recommends an effort for each encoded rung of a ladder that runs: as much as there is room for, the cheapest rung
// first, so that no encoder comes near the whole of its processor.
func Advise(m Machine, l Load, now []ladder.Rung, video *media.Track) map[string]int {
	if video == nil || m.Idle < 0 {
		return nil
	}
	factor := measuredOver(l, now, video)
	rungs := slices.DeleteFunc(slices.Clone(now), func(r ladder.Rung) bool { return !coded(r) })
	room := m.room()
	for i := range rungs {
		rungs[i] = rungs[i].WithDefaults()
		room += cmp.Or(l.Encoding[rungs[i].Name], table(rungs[i], video)*factor/1000)
		rungs[i].Effort = lowestEffort
		room -= table(rungs[i], video) * factor / 1000
	}
	for {
		best, extra := -1, int64(0)
		for i, r := range rungs {
			if r.Effort == highestEffort {
				continue
			}
			before := table(r, video) * factor / 1000
			r.Effort++
			after := table(r, video) * factor / 1000
			if after > calmBusy || after-before > room {
				continue
			}
			if best < 0 || r.Effort < rungs[best].Effort+1 || r.Effort == rungs[best].Effort+1 && after-before < extra {
				best, extra = i, after-before
			}
		}
		if best < 0 {
			break
		}
		rungs[best].Effort++
		room -= extra
	}
	out := map[string]int{}
	for _, r := range rungs {
		out[r.Name] = r.Effort
	}
	return out
}
