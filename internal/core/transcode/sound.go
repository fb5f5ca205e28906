package transcode

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/resample"
	"metaplasis/internal/core/dynamics"
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
	broken    error // why there is no decoder
	wanted    bool  // something is encoded: sound that only passes by is not worth its decoding
	encodings []*encoding
	errors    atomic.Int64

	mu        sync.Mutex // guards encodings against Nodes
	decoding  work
	measuring work
	source    meter
}

// Loudness returns how loud the source is, nil while nobody knows. It may be called from any goroutine.
func (g *Sound) Loudness() *Loudness { return g.source.read() }

// Levels lists how loud the renditions are that are brought to a loudness. It may be called from any goroutine.
func (g *Sound) Levels() (out []Leveled) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.encodings {
		if s.meter == nil {
			continue
		}
		if v := s.meter.read(); v != nil {
			out = append(out, Leveled{s.rung.Name, s.rung.Loudness, *v})
		}
	}
	return out
}

// measure shows samples of the source to the meter.
func (g *Sound) measure(pcm []int16, rate, channels int) {
	begin := time.Now()
	g.source.add(pcm, rate, channels)
	g.measuring.add(time.Since(begin))
}

// Nodes lists the nodes of the graph. It may be called from any goroutine.
func (g *Sound) Nodes() []Node {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.decoding.units.Load() == 0 {
		return nil
	}
	out := []Node{g.decoding.node(DecodeSound, ""), g.measuring.node(MeasureSound, "")}
	for _, s := range g.encodings {
		out = append(out, s.coding.node(EncodeSound, s.rung.Name))
	}
	return out
}

// newSound makes an empty graph.
func newSound(sink Sink) *Sound { return &Sound{sink: sink} }

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
	channels int     // of the source
	rate     int     // of the encoder, samples per second
	resample *resample.Resampler
	mixed    []int16
	leveller *dynamics.Leveller // nil when its loudness stays as it is
	meter    *meter             // of what comes out of that
	failed   bool
	coding   work
}

func (s *encoding) close() {
	if s.enc != nil {
		s.enc.Close()
		s.enc = nil
	}
	if s.resample != nil {
		s.resample.Close()
		s.resample = nil
	}
	if s.meter != nil {
		s.meter.close()
	}
}

// open opens the encoder for a source's rate and channels.
func (s *encoding) open(sink Sink, rate, channels int) (err error) {
	s.channels, s.rate = channels, codec.SoundRate(s.rung.Codec, cmp.Or(s.rung.Rate, rate))
	out := cmp.Or(s.rung.Channels, channels)
	if s.rate != rate {
		if s.resample, err = resample.New(rate, s.rate, out); err != nil {
			return err
		}
	}
	if s.enc, err = codec.NewSoundEncoder(s.rung.Codec, s.rate, out, s.rung.Bitrate); err != nil {
		return err
	}
	if s.rung.Loudness != 0 {
		s.leveller = dynamics.New(float64(s.rung.Loudness), s.rate, out)
	}
	sink.Track(s.rung.ID, s.enc.Track())
	return nil
}

// mix brings samples to the rung's channels.
func (s *encoding) mix(pcm []int16) []int16 {
	switch want := cmp.Or(s.rung.Channels, s.channels); {
	case want == s.channels:
		return pcm
	case want == 1:
		s.mixed = s.mixed[:0]
		for i := 0; i+1 < len(pcm); i += 2 {
			s.mixed = append(s.mixed, int16((int32(pcm[i])+int32(pcm[i+1]))/2))
		}
	default:
		s.mixed = s.mixed[:0]
		for _, v := range pcm {
			s.mixed = append(s.mixed, v, v)
		}
	}
	return s.mixed
}

// longestSilence is for how many seconds silence stands in for frames that are missing.
const longestSilence = 5

// driftSlack is how many samples stamps may be beside the sample count before it follows them.
const driftSlack = 48

// apply begins and ends encoders at a boundary.
func (g *Sound) apply(c Config, start int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.wanted = len(c.Rungs)+len(c.Sound) > 0
	for _, s := range g.encodings {
		if !slices.Contains(c.Sound, s.rung) {
			s.until = min(s.until, start)
		}
	}
	for _, r := range c.Sound {
		if !slices.ContainsFunc(g.encodings, func(s *encoding) bool { return s.rung == r && s.until == math.MaxInt64 }) {
			s := &encoding{rung: r, next: math.MinInt64, from: start, until: math.MaxInt64}
			if r.Loudness != 0 {
				s.meter = &meter{}
			}
			g.encodings = append(g.encodings, s)
		}
	}
}

// open opens the decoder, and reports whether there is one. Renditions that need it are given up else.
func (g *Sound) open() bool {
	if g.dec == nil && g.broken == nil {
		g.dec, g.broken = codec.NewSoundDecoder(g.track)
	}
	if g.broken == nil {
		return true
	}
	for _, s := range g.encodings {
		if !s.failed {
			s.failed = true
			g.sink.Failed(s.rung.ID, g.broken)
		}
	}
	return false
}

// Audio takes one frame of the source: it is measured, and encoded for the renditions.
func (g *Sound) Audio(u *media.AccessUnit) {
	if g.track == nil || !g.wanted || !g.open() {
		return
	}
	begin := time.Now()
	pcm, err := g.dec.Decode(u.Data)
	g.decoding.add(time.Since(begin))
	if err != nil {
		if len(g.encodings) > 0 { // else nothing that anybody hears is missing
			g.errors.Add(1)
		}
		return
	}
	if len(pcm) == 0 {
		return
	}
	// The decoder may double the rate (SBR), so times are counted at its output's.
	rate, channels := g.dec.Format()
	g.measure(pcm, rate, channels)
	loud := g.Loudness()
	pts := media.Rescale(u.PTS, g.track.Timescale, int64(rate))
	now := media.Rescale(u.PTS, g.track.Timescale, media.VideoTimescale)
	g.forget(now)
	for _, s := range g.encodings {
		if s.failed {
			continue
		}
		begin := time.Now()
		err := s.encode(g.sink, pcm, pts, rate, channels, loud)
		s.coding.add(time.Since(begin))
		if err != nil {
			s.failed = true
			g.sink.Failed(s.rung.ID, fmt.Errorf("audio rendition %s: %w", s.rung.Name, err))
		}
	}
}

// forget ends the encoders whose time is over, once what they held is out.
func (g *Sound) forget(now int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.encodings = slices.DeleteFunc(g.encodings, func(s *encoding) bool {
		over := now-media.VideoTimescale > s.until
		if over {
			s.close()
		}
		return over
	})
}

// Drain ends all encoders. The graph can go on after that.
func (g *Sound) Drain() {
	g.mu.Lock()
	for _, s := range g.encodings {
		s.close()
	}
	g.encodings = nil
	g.mu.Unlock()
	g.source.close()
	if g.dec != nil {
		g.dec.Close()
		g.dec = nil
	}
}

// encode codes samples for one rendition. loud is how loud the source is, nil while nobody knows.
func (s *encoding) encode(sink Sink, pcm []int16, pts int64, rate, channels int, loud *Loudness) error {
	if s.enc == nil {
		if err := s.open(sink, rate, channels); err != nil {
			return err
		}
	}
	if channels != s.channels {
		return nil // a change of layout comes with a new feed
	}
	pcm, channels = s.mix(pcm), cmp.Or(s.rung.Channels, channels)
	if s.resample != nil {
		pts = media.Rescale(pts, int64(rate), int64(s.rate)) - s.resample.Delay()
		rate = s.rate
		var err error
		if pcm, err = s.resample.Process(pcm); err != nil || len(pcm) == 0 {
			return err
		}
	}
	if s.leveller != nil {
		if loud != nil {
			s.leveller.Measured(float64(loud.Integrated) / 100)
		}
		pcm = s.leveller.Process(pcm)
		pts -= s.leveller.Delay()
		s.meter.add(pcm, rate, channels)
	}
	samples, delay := s.enc.Frame()
	// Follow the sample count, and by a sample a frame the stamps, as the sender's clock drifts; step
	// over to them when they part by more than two frames; silence fills what is missing, as soon as it is most of a frame.
	frame := min(int64(len(pcm)/channels)*3/4, 2*samples)
	switch d := pts - s.next - int64(len(s.held)/channels); {
	case s.next != math.MinInt64 && d > max(frame, 1) && d < longestSilence*int64(rate):
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
