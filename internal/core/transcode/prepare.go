package transcode

import (
	"time"

	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// preparation makes decoded frames into whole pictures of the standard range: what the scalers and encoders take.
// It is used by the decoding goroutine.
type preparation struct {
	mode     ladder.Interlaced
	colour   media.Colour
	light    *media.Light
	tones    *picture.ToneMap
	toned    *picture.Picture
	toneless bool // the range is not one that is mapped, or the table could not be made

	lines  picture.Deinterlacer
	frame  *picture.Picture // of an interlaced frame in memory of our own
	fields [2]*picture.Picture
	copier scale.Scaler
	last   int64 // presentation time of the frame before

	toning, deinterlacing work
}

// configure takes what is known of the source.
func (p *preparation) configure(t *media.Track, mode ladder.Interlaced) {
	if p.mode = mode; t == nil {
		return
	}
	if p.colour != t.Colour {
		p.tones, p.toneless = nil, false
	}
	p.colour, p.light = t.Colour, t.Light
}

// Flattened is the colour of pictures once their range is the standard one.
func Flattened(c media.Colour) media.Colour {
	if c.Range() == "" {
		return c
	}
	const bt709 = 1 // ITU-T H.273
	return media.Colour{Primaries: bt709, Transfer: bt709, Matrix: bt709}
}

// Fields reports whether interlaced pictures become a picture of each field.
func Fields(mode ladder.Interlaced) bool {
	return mode == ladder.FieldsAdaptive || mode == ladder.FieldsBob
}

// prepare hands out what becomes of a frame: itself, or one or two pictures. step is how long a frame lasts, 0 when
// nobody knows.
func (p *preparation) prepare(f *picture.Frame, step int64, each func(*picture.Frame)) {
	if p.colour.Range() != "" && !p.toneless {
		f = p.tone(f)
	}
	if !f.Interlaced || p.mode == ladder.Weave {
		p.lines.Reset()
		p.last = f.PTS
		each(f)
		return
	}
	if step == 0 {
		step = max(f.PTS-p.last, 0)
	}
	p.last = f.PTS
	begin := time.Now()
	if p.frame == nil || p.frame.Width != f.Width || p.frame.Height != f.Height {
		p.frame = picture.New(f.Width, f.Height)
		p.fields = [2]*picture.Picture{picture.New(f.Width, f.Height), picture.New(f.Width, f.Height)}
	}
	if p.copier.FromFrame(p.frame, f) != nil {
		each(f)
		return
	}
	count := 1
	if Fields(p.mode) {
		count = 2
	}
	p.lines.Bob = p.mode == ladder.FieldsBob
	for i := range count {
		p.lines.Field(p.fields[i], p.frame, (i == 1) == f.TopFirst)
	}
	p.lines.Seen(p.frame)
	p.deinterlacing.add(time.Since(begin))
	for i := range count {
		each(p.fields[i].Frame(f.PTS + int64(i)*step/2))
	}
}

// tone brings a frame to the standard range. One that cannot be stays as it is.
func (p *preparation) tone(f *picture.Frame) *picture.Frame {
	begin := time.Now()
	if p.tones == nil {
		peak := 0
		if p.light != nil {
			if peak = p.light.MaxContent; peak == 0 {
				peak = p.light.Brightest / 10_000
			}
		}
		var err error
		if p.tones, err = picture.NewToneMap(picture.Transfer(p.colour.Transfer), p.colour.FullRange, peak); err != nil {
			p.toneless = true
			return f
		}
	}
	if p.toned == nil || p.toned.Width != f.Width || p.toned.Height != f.Height {
		p.toned = picture.New(f.Width, f.Height)
	}
	if p.tones.Apply(p.toned, f) != nil {
		return f
	}
	p.toning.add(time.Since(begin))
	out := p.toned.Frame(f.PTS)
	out.Interlaced, out.TopFirst = f.Interlaced, f.TopFirst
	return out
}
