package transcode

import (
	"fmt"
	"math"
	"slices"

	"metaplasis/internal/codec/aacdec"
	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/media"
)

// sound encodes one audio rendition. All of them share one decoder, held by the first.
type sound struct {
	rung     AudioRung
	enc      *aacenc.Encoder
	held     []int16 // samples that do not fill a frame yet
	next     int64   // presentation time of held[0], samples
	from     int64   // nothing before this time is sent, ticks of media.VideoTimescale
	until    int64   // nor from this time on
	channels int
}

func (s *sound) close() {
	if s.enc != nil {
		s.enc.Close()
		s.enc = nil
	}
}

// driftSlack is how many samples stamps may be beside the sample count before it follows them.
const driftSlack = 48

// applySound begins and ends audio encoders at a boundary.
func (g *Graph) applySound(c Config, start int64) {
	for _, s := range g.sound {
		if !slices.Contains(c.Sound, s.rung) {
			s.until = min(s.until, start)
		}
	}
	for _, r := range c.Sound {
		if !slices.ContainsFunc(g.sound, func(s *sound) bool { return s.rung == r && s.until == math.MaxInt64 }) {
			g.sound = append(g.sound, &sound{rung: r, next: math.MinInt64, from: start, until: math.MaxInt64})
		}
	}
}

// Audio takes one frame of the source.
func (g *Graph) Audio(u *media.AccessUnit) {
	if g.current.Audio == nil {
		return
	}
	if len(g.sound) == 0 && !g.soundComing() {
		return
	}
	if g.audioDecoder == nil {
		var err error
		if g.audioDecoder, err = aacdec.New(g.current.Audio.Config); err != nil {
			for _, s := range g.sound {
				g.sink.Failed(s.rung.Name, err)
			}
			g.current.Audio = nil
			return
		}
	}
	pcm, err := g.audioDecoder.Decode(u.Data)
	if err != nil {
		g.stats.errors.Add(1)
		return
	}
	if len(pcm) == 0 {
		return
	}
	// The decoder may double the rate (SBR), so times are counted at its output's.
	pts := media.Rescale(u.PTS, g.current.Audio.Timescale, int64(g.audioDecoder.Rate))
	now := media.Rescale(u.PTS, g.current.Audio.Timescale, media.VideoTimescale)
	g.sound = slices.DeleteFunc(g.sound, func(s *sound) bool {
		over := now-media.VideoTimescale > s.until // what is held comes out first
		if over {
			s.close()
		}
		return over
	})
	for _, s := range g.sound {
		if err := s.take(g.sink, pcm, pts, g.audioDecoder.Rate, g.audioDecoder.Channels); err != nil {
			g.sink.Failed(s.rung.Name, err)
		}
	}
}

func (g *Graph) soundComing() bool {
	for _, c := range g.pending {
		if len(c.Sound) > 0 {
			return true
		}
	}
	return false
}

func (s *sound) take(sink Sink, pcm []int16, pts int64, rate, channels int) error {
	if s.enc == nil {
		if s.channels < 0 {
			return nil // it failed before
		}
		var err error
		if s.enc, err = aacenc.New(rate, channels, s.rung.Bitrate); err != nil {
			s.channels = -1
			return fmt.Errorf("audio rendition %s: %w", s.rung.Name, err)
		}
		s.channels = channels
		sink.Track(s.rung.Name, s.enc.Config.Track(s.enc.Config.Marshal()))
	}
	if channels != s.channels {
		return nil // a change of layout comes with a new feed
	}
	// Follow the sample count, and by a sample a frame the stamps, as the sender's clock drifts; step
	// over to them when they part by more than two frames.
	switch d := pts - s.next - int64(len(s.held)/channels); {
	case s.next == math.MinInt64 || d > 2*aac.FrameSamples || d < -2*aac.FrameSamples:
		s.next, s.held = pts, s.held[:0]
	case d > driftSlack:
		s.next++
	case d < -driftSlack:
		s.next--
	}
	s.held = append(s.held, pcm...)
	n := aac.FrameSamples * channels
	for len(s.held) >= n {
		frame, err := s.enc.Encode(s.held[:n])
		if err != nil {
			return fmt.Errorf("audio rendition %s: %w", s.rung.Name, err)
		}
		at := s.next - aacenc.Delay
		s.held = append(s.held[:0], s.held[n:]...)
		s.next += aac.FrameSamples
		when := media.Rescale(at, int64(rate), media.VideoTimescale)
		if len(frame) > 0 && when >= s.from && when < s.until {
			sink.Unit(s.rung.Name, media.AccessUnit{DTS: at, PTS: at, Duration: aac.FrameSamples, Key: true, Data: frame})
		}
	}
	return nil
}
