package transcode

import (
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"metaplasis/internal/codec"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Sound makes the sound of one channel's renditions. All of them share one decoder. Its methods are
// called from one goroutine; Errors may be called from any.
type Sound struct {
	sink      Sink
	track     *media.Track
	pending   []Config
	dec       codec.SoundDecoder
	broken    bool // there is no decoder
	encodings []*encoding
	errors    atomic.Int64
}

// NewSound makes an empty graph.
func NewSound(sink Sink) *Sound { return &Sound{sink: sink} }

// Errors returns how many frames the decoder refused.
func (g *Sound) Errors() int64 { return g.errors.Load() }

// Configure queues a configuration for the boundary that it names.
func (g *Sound) Configure(c Config) {
	g.pending = append(g.pending, c)
	if g.track == nil {
		g.track = c.Audio
	}
}

// Boundary announces where a segment begins. It must come before any frame behind it.
func (g *Sound) Boundary(b segment.Boundary) {
	for len(g.pending) > 0 && g.pending[0].At <= b.MSN {
		g.apply(g.pending[0], b.Start)
		g.pending = g.pending[1:]
	}
}

// encoding is one audio rendition.
type encoding struct {
	rung     AudioRung
	enc      codec.SoundEncoder
	held     []int16 // samples that do not fill a frame yet
	next     int64   // presentation time of held[0], samples
	from     int64   // nothing before this time is sent, ticks of media.VideoTimescale
	until    int64   // nor from this time on
	channels int
	failed   bool
}

func (s *encoding) close() {
	if s.enc != nil {
		s.enc.Close()
		s.enc = nil
	}
}

// longestSilence is for how many seconds silence stands in for frames that are missing.
const longestSilence = 5

// driftSlack is how many samples stamps may be beside the sample count before it follows them.
const driftSlack = 48

// apply begins and ends encoders at a boundary.
func (g *Sound) apply(c Config, start int64) {
	for _, s := range g.encodings {
		if !slices.Contains(c.Sound, s.rung) {
			s.until = min(s.until, start)
		}
	}
	for _, r := range c.Sound {
		if !slices.ContainsFunc(g.encodings, func(s *encoding) bool { return s.rung == r && s.until == math.MaxInt64 }) {
			g.encodings = append(g.encodings, &encoding{rung: r, next: math.MinInt64, from: start, until: math.MaxInt64})
		}
	}
}

// Audio takes one frame of the source.
func (g *Sound) Audio(u *media.AccessUnit) {
	if g.track == nil || g.broken || len(g.encodings) == 0 && !g.coming() {
		return
	}
	if g.dec == nil {
		var err error
		if g.dec, err = codec.NewSoundDecoder(g.track); err != nil {
			for _, s := range g.encodings {
				g.sink.Failed(s.rung.ID, err)
			}
			g.broken = true
			return
		}
	}
	pcm, err := g.dec.Decode(u.Data)
	if err != nil {
		g.errors.Add(1)
		return
	}
	if len(pcm) == 0 {
		return
	}
	// The decoder may double the rate (SBR), so times are counted at its output's.
	rate, channels := g.dec.Format()
	pts := media.Rescale(u.PTS, g.track.Timescale, int64(rate))
	now := media.Rescale(u.PTS, g.track.Timescale, media.VideoTimescale)
	g.encodings = slices.DeleteFunc(g.encodings, func(s *encoding) bool {
		over := now-media.VideoTimescale > s.until // what is held comes out first
		if over {
			s.close()
		}
		return over
	})
	for _, s := range g.encodings {
		if s.failed {
			continue
		}
		if err := s.take(g.sink, pcm, pts, rate, channels); err != nil {
			s.failed = true
			g.sink.Failed(s.rung.ID, fmt.Errorf("audio rendition %s: %w", s.rung.Name, err))
		}
	}
}

// coming reports whether renditions of sound are configured for a boundary to come.
func (g *Sound) coming() bool {
	return slices.ContainsFunc(g.pending, func(c Config) bool { return len(c.Sound) > 0 })
}

// Drain ends all encoders. The graph can go on after that.
func (g *Sound) Drain() {
	for _, s := range g.encodings {
		s.close()
	}
	g.encodings = nil
	if g.dec != nil {
		g.dec.Close()
		g.dec = nil
	}
}

func (s *encoding) take(sink Sink, pcm []int16, pts int64, rate, channels int) error {
	if s.enc == nil {
		var err error
		if s.enc, err = codec.NewSoundEncoder(s.rung.Codec, rate, channels, s.rung.Bitrate); err != nil {
			return err
		}
		s.channels = channels
		sink.Track(s.rung.ID, s.enc.Track())
	}
	if channels != s.channels {
		return nil // a change of layout comes with a new feed
	}
	samples, delay := s.enc.Frame()
	// Follow the sample count, and by a sample a frame the stamps, as the sender's clock drifts; step
	// over to them when they part by more than two frames; silence fills what is missing.
	switch d := pts - s.next - int64(len(s.held)/channels); {
	case s.next != math.MinInt64 && d > 2*samples && d < longestSilence*int64(rate):
		s.held = append(s.held, make([]int16, d*int64(channels))...) // frames are missing: what players hold goes on
	case s.next == math.MinInt64 || d > 2*samples || d < -2*samples:
		s.next, s.held = pts, s.held[:0]
	case d > driftSlack:
		s.next++
	case d < -driftSlack:
		s.next--
	}
	s.held = append(s.held, pcm...)
	n, done := int(samples)*channels, 0
	defer func() { s.held = append(s.held[:0], s.held[done:]...) }()
	for len(s.held)-done >= n {
		frame, err := s.enc.Encode(s.held[done : done+n])
		if err != nil {
			return err
		}
		at := s.next - delay
		done += n
		s.next += samples
		when := media.Rescale(at, int64(rate), media.VideoTimescale)
		if len(frame) > 0 && when >= s.from && when < s.until {
			sink.Unit(s.rung.ID, media.AccessUnit{DTS: at, PTS: at, Duration: samples, Key: true, Data: frame})
		}
	}
	return nil
}
