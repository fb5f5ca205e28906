package transcode

import (
	"slices"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Sounds makes the renditions of all audio tracks of one channel: each track is a graph of its own. Its methods are
// called from one goroutine, but for those that only tell something.
type Sounds struct {
	sink Sink
	main *Sound
	by   map[media.TrackID]*Sound // beside the main one; made with the first configuration
}

// NewSounds makes graphs without tracks.
func NewSounds(sink Sink) *Sounds {
	return &Sounds{sink: sink, main: newSound(sink)}
}

// of lists the renditions that are encoded of a track.
func of(list []AudioRung, id media.TrackID) []AudioRung {
	return slices.DeleteFunc(slices.Clone(list), func(r AudioRung) bool { return r.Track != id })
}

// Configure queues a configuration for the boundary that it names.
func (g *Sounds) Configure(c Config) {
	if g.by == nil {
		g.by = map[media.TrackID]*Sound{}
		for _, t := range c.Others {
			g.by[t.ID] = newSound(g.sink)
		}
	}
	all := c.Sound
	c.Sound = of(all, 0)
	g.main.Configure(c)
	c.Rungs = nil // those beside the main one are decoded only when something is encoded of them
	for _, t := range c.Others {
		if s := g.by[t.ID]; s != nil {
			c.Audio, c.Sound = t, of(all, t.ID)
			s.Configure(c)
		}
	}
}

// Boundary announces where a segment begins.
func (g *Sounds) Boundary(b segment.Boundary) {
	g.main.Boundary(b)
	for _, s := range g.by {
		s.Boundary(b)
	}
}

// Audio takes one frame of a track of the source.
func (g *Sounds) Audio(id media.TrackID, u *media.AccessUnit) {
	if s := g.by[id]; s != nil {
		s.Audio(u)
		return
	}
	g.main.Audio(u)
}

// Drain ends all encoders.
func (g *Sounds) Drain() {
	g.main.Drain()
	for _, s := range g.by {
		s.Drain()
	}
}

// Status is what the graphs tell: how many frames their decoders refused, their nodes, how loud the main track is, and
// the renditions that are brought to a loudness. It may be called from any goroutine once there is a configuration.
func (g *Sounds) Status() (errors int64, nodes []Node, loud *Loudness, levels []Leveled) {
	errors, nodes, loud, levels = g.main.Errors(), g.main.Nodes(), g.main.Loudness(), g.main.Levels()
	for _, s := range g.by {
		errors += s.Errors()
		nodes = append(nodes, s.Nodes()...)
		levels = append(levels, s.Levels()...)
	}
	return errors, nodes, loud, levels
}
