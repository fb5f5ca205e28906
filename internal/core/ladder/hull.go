package ladder

import (
	"fmt"
	"math"
	"slices"
)

// Measured is what a way of coding took and how it looked.
type Measured struct {
	Width   int   `json:"width"`
	Height  int   `json:"height"`
	Bitrate int64 `json:"bitrate"` // bits per second
	Quality int64 `json:"quality"` // hundredths of a decibel, all at one size of screen
}

// Hull returns the points that are worth their bits, by rising bitrate: the upper convex hull of quality over the
// logarithm of the bitrate. What lies below it is beaten by a mix of its neighbours.
func Hull(points []Measured) []Measured {
	list := slices.Clone(points)
	slices.SortFunc(list, func(a, b Measured) int {
		if a.Bitrate != b.Bitrate {
			return int(a.Bitrate - b.Bitrate)
		}
		return int(b.Quality - a.Quality)
	})
	x := func(m Measured) float64 { return math.Log2(float64(max(m.Bitrate, 1))) }
	var out []Measured
	for _, m := range list {
		if n := len(out); n > 0 && m.Quality <= out[n-1].Quality {
			continue // more bits for no more
		}
		for len(out) >= 2 {
			a, b := out[len(out)-2], out[len(out)-1]
			if (x(b)-x(a))*float64(m.Quality-a.Quality)-(x(m)-x(a))*float64(b.Quality-a.Quality) < 0 {
				break // b lies above the line from a to m
			}
			out = out[:len(out)-1]
		}
		out = append(out, m)
	}
	return out
}

// How rungs are laid along a hull.
const (
	enoughQuality = 4600 // hundredths of a decibel: nobody sees more
	rungApart     = 1.8  // each has so many times fewer bits than the one above
	leastGain     = 60   // hundredths of a decibel for twice the bits
)

// Propose lays rungs along the hull of what was measured of a source: the highest where more bits are not seen any more,
// each further one a step below, at the size that looks best there.
func Propose(points []Measured, effort int) []Rung {
	hull := Hull(points)
	if len(hull) == 0 {
		return nil
	}
	top := len(hull) - 1
	for i, m := range hull {
		if m.Quality >= enoughQuality || i > 0 && gain(hull[i-1], m) < leastGain {
			top = i
			break
		}
	}
	rungs := []Rung{{Name: "source", On: true, Source: true}}
	names := map[string]bool{}
	for bits := float64(hull[top].Bitrate); len(rungs) <= maxPlanned+1 && bits >= float64(hull[0].Bitrate)*0.9; bits /= rungApart {
		m := best(points, hull, bits)
		r := Rung{On: true, Width: m.Width, Height: m.Height, Effort: effort, Bitrate: max(int64(bits/10_000+0.5)*10_000, minBitrate)}
		r.Name = fmt.Sprintf("%dp", min(m.Width, m.Height))
		if names[r.Name] {
			r.Name = fmt.Sprintf("%s-%dk", r.Name, r.Bitrate/1000)
		}
		names[r.Name] = true
		rungs = append(rungs, r.WithDefaults())
	}
	return rungs
}

// gain is what twice the bits bring between two points.
func gain(a, b Measured) int64 {
	doublings := math.Log2(float64(b.Bitrate) / float64(max(a.Bitrate, 1)))
	return int64(float64(b.Quality-a.Quality) / max(doublings, 0.01))
}

// best is the size that looks best at a bitrate, by what was measured of each; the nearest of the hull where nothing was.
func best(points, hull []Measured, bits float64) Measured {
	by := map[[2]int][]Measured{}
	for _, m := range points {
		size := [2]int{m.Width, m.Height}
		by[size] = append(by[size], m)
	}
	const beyond = 1.3 // so far outside of what was measured it may be told
	found, most := nearest(hull, bits), -1.0
	for _, list := range by {
		slices.SortFunc(list, func(a, b Measured) int { return int(a.Bitrate - b.Bitrate) })
		if bits*beyond < float64(list[0].Bitrate) || bits > beyond*float64(list[len(list)-1].Bitrate) {
			continue
		}
		if q := between(list, bits); q > most {
			found, most = list[0], q
		}
	}
	return found
}

// between is the quality at a bitrate among points of one size, by rising bitrate.
func between(list []Measured, bits float64) float64 {
	i := 1
	for i < len(list)-1 && float64(list[i].Bitrate) < bits {
		i++
	}
	if len(list) == 1 || list[i].Bitrate <= list[i-1].Bitrate {
		return float64(list[0].Quality)
	}
	a, b := list[i-1], list[i]
	part := math.Log(bits/float64(max(a.Bitrate, 1))) / math.Log(float64(b.Bitrate)/float64(max(a.Bitrate, 1)))
	return float64(a.Quality) + part*float64(b.Quality-a.Quality)
}

// nearest is the point of a hull whose bitrate is nearest.
func nearest(hull []Measured, bits float64) Measured {
	return slices.MinFunc(hull, func(a, b Measured) int {
		da, db := math.Abs(math.Log2(float64(a.Bitrate)/bits)), math.Abs(math.Log2(float64(b.Bitrate)/bits))
		switch {
		case da < db:
			return -1
		case da > db:
			return 1
		}
		return 0
	})
}
