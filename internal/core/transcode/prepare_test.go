package transcode

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"math"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/codec/mpegvenc"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// screen decodes a rendition and keeps its pictures by time.
func screen(t *testing.T, track media.Track, units []media.AccessUnit) map[int64]*picture.Picture {
	d, err := codec.NewPictureDecoder(&track)
	require.NoError(t, err)
	defer d.Close()
	var s scale.Scaler
	out := map[int64]*picture.Picture{}
	each := func(f *picture.Frame) {
		p := picture.New(f.Width, f.Height)
		require.NoError(t, s.FromFrame(p, f))
		out[f.PTS] = p
	}
	for i := range units {
		require.NoError(t, d.Decode(&units[i], each))
	}
	require.NoError(t, d.Decode(nil, each))
	return out
}

func luma(p *picture.Picture, x, y int) int { return int(p.Y[y*p.StrideY+x]) }

// plain is a rung that keeps to what it is asked for.
func plain(id media.TrackID, name string, w, h int) Rung {
	return Rung{ID: id, Name: name, Codec: media.H264, Width: w, Height: h, Bitrate: 900_000, Peak: 1_500_000, Buffer: 1000, Effort: 3}
}

// TestFieldsAreMadeWhole: interlaced MPEG-2 at 25 frames per second becomes fifty pictures per second, or twenty-five; each
// shows the number of its own field.
func TestFieldsAreMadeWhole(t *testing.T) {
	const w, h, frames = 640, 384, 30
	for mode, each := range map[ladder.Interlaced]int{ladder.FieldsAdaptive: 2, ladder.FieldsBob: 2, ladder.FramesAdaptive: 1} {
		e, err := mpegvenc.New(w, h, media.Rational{Num: 25, Den: 1}, true)
		require.NoError(t, err)
		even, odd, woven := picture.New(w, h), picture.New(w, h), picture.New(w, h)
		var units []media.AccessUnit
		for n := range frames {
			// What changes with each field and back again is still to the adaptive way: there both fields show one number.
			first := 2 * n
			draw(even, first)
			if mode == ladder.FieldsBob {
				first++
			}
			draw(odd, first)
			for y := range h {
				from := even
				if y%2 == 1 {
					from = odd
				}
				copy(woven.Y[y*woven.StrideY:][:w], from.Y[y*from.StrideY:])
			}
			woven.U, woven.V = even.U, even.V
			units = append(units, e.Encode(woven, 10*frame+int64(n)*3600))
		}
		track := &media.Track{Kind: media.Video, Codec: media.MPEG2, Timescale: media.VideoTimescale, Width: w, Height: h, FrameRate: media.Rational{Num: 25, Den: 1}, Interlaced: true}
		sink := newCollected()
		g := New(sink)
		g.Configure(Config{Video: track, Interlaced: mode, Rungs: []Rung{plain(large, "large", w, h), plain(small, "small", w/2, h/2)}})
		play(g, units, 25)
		g.Drain()
		require.Empty(t, sink.failed)
		assert.Zero(t, g.Stats().Errors)
		assert.Equal(t, int64(25*each), sink.tracks[large][0].FrameRate.Num)
		for _, id := range []media.TrackID{large, small} {
			shown := screen(t, sink.tracks[id][0], sink.units[id])
			require.Len(t, shown, frames*each, "%s", mode)
			for pts, p := range shown {
				n, ok := picture.DecodeNumber(p.Y, p.StrideY, p.Width, p.Height)
				assert.True(t, ok)
				want := (pts - 10*frame) / 1800
				if mode != ladder.FieldsBob {
					want &^= 1
				}
				assert.EqualValues(t, want, n, "%q at %d", mode, pts)
			}
		}
	}
}

// TestPictureWork: each rung crops, turns and pads the same source for itself, and draws upon its own pictures alone.
func TestPictureWork(t *testing.T) {
	track, units := film(t, 320, 180, 3, 10, media.Rational{})
	badge := image.NewNRGBA(image.Rect(0, 0, 20, 20))
	for i := range 400 {
		badge.SetNRGBA(i%20, i/20, color.NRGBA{255, 255, 255, 255})
	}
	var file bytes.Buffer
	require.NoError(t, png.Encode(&file, badge))
	turned := plain(large, "turned", 180, 320)
	turned.Picture.Rotate = 90
	padded := plain(small, "padded", 240, 240)
	padded.Picture.Pad, padded.Inner = true, [2]int{240, 134}
	cropped := plain(rungA, "cropped", 160, 80)
	cropped.Picture.Crop = ladder.Crop{Top: 20}
	cropped.Picture.Filter = ladder.BoxFilter
	drawn := plain(rungB, "drawn", 320, 180)
	drawn.Picture = ladder.Picture{Label: true, Clock: ladder.ClockTop, Logo: ladder.Logo{Image: "badge", Place: ladder.BottomLeft, Width: 10}}
	drawn.Logo = "digest"
	clean := plain(other, "clean", 160, 90) // made from the one that is drawn upon
	sink := newCollected()
	g := New(sink)
	g.Configure(Config{Video: track, Rungs: []Rung{turned, padded, cropped, drawn, clean}, Images: map[string][]byte{"digest": file.Bytes()}})
	play(g, units, 25)
	g.Drain()
	require.Empty(t, sink.failed)
	first := func(id media.TrackID) *picture.Picture {
		shown := screen(t, sink.tracks[id][0], sink.units[id])
		require.Len(t, shown, 10)
		return shown[int64(10)*frame]
	}
	// Clockwise, the lower edge with its white block at the left end comes to the left, its block on top.
	x, y, side := picture.CodeCell(320, 180, 0)
	p := first(large)
	assert.InDelta(t, 230, luma(p, 180-1-(y+side/2), x+side/2), 12)
	assert.InDelta(t, 90, luma(p, 120, 100), 5)

	p = first(small)
	assert.InDelta(t, 16, luma(p, 120, 20), 3, "a bar above")
	assert.InDelta(t, 16, luma(p, 120, 230), 3, "a bar below")
	assert.InDelta(t, 90, luma(p, 120, 100), 5)

	p = first(rungA)
	assert.InDelta(t, 230, luma(p, (x+side/2)/2, (y+side/2-20)/2), 12, "cropped on top: what is below moved up")

	p = first(rungB)
	assert.InDelta(t, 235, luma(p, 4+16, 180-4-16), 12, "the logo")
	dark, bright := 0, 0
	for y := 4; y < 16; y++ {
		for x := 4; x < 80; x++ {
			if v := luma(p, x, y); v < 60 {
				dark++
			} else if v > 180 {
				bright++
			}
		}
	}
	assert.Greater(t, dark, 100)
	assert.Greater(t, bright, 30, "the name, white on dark")
	p = first(other)
	assert.InDelta(t, 90, luma(p, 10, 82), 5, "no logo")
	assert.InDelta(t, 90, luma(p, 5, 5), 5, "no name")
}

// TestAHighRangeIsMapped: a decoder's frame of ten bits in PQ becomes one of eight in BT.709, and interlaced fields of
// it come after that.
func TestAHighRangeIsMapped(t *testing.T) {
	const w, h = 64, 32
	plane := func(n int, v uint16) []byte {
		out := make([]byte, 2*n)
		for i := range n {
			binary.LittleEndian.PutUint16(out[2*i:], v)
		}
		return out
	}
	y, b, r := plane(w*h, 64+876*58/100), plane(w*h/4, 512), plane(w*h/4, 512) // the reference white
	f := &picture.Frame{Width: w, Height: h, StrideY: 2 * w, Stride: w, Depth: 10, PTS: 5,
		Plane: [3]unsafe.Pointer{unsafe.Pointer(&y[0]), unsafe.Pointer(&b[0]), unsafe.Pointer(&r[0])}}
	var p preparation
	p.configure(&media.Track{Colour: media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}}, ladder.FieldsAdaptive)
	seen := 0
	p.prepare(f, 3600, func(f *picture.Frame) {
		seen++
		assert.True(t, f.Plain())
		assert.EqualValues(t, 5, f.PTS)
		assert.InDelta(t, 208, *(*byte)(f.Plane[0]), 8)
	})
	assert.Equal(t, 1, seen)
	assert.Equal(t, media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}, Flattened(p.colour))
	assert.EqualValues(t, 1, p.toning.units.Load())
	f.Interlaced = true
	var times []int64
	p.prepare(f, 3600, func(f *picture.Frame) { times = append(times, f.PTS) })
	assert.Equal(t, []int64{5, 1805}, times)
}

// TestAHighRangeComesThroughADecoder: HEVC of ten bits in PQ becomes H.264 of the standard range.
func TestAHighRangeComesThroughADecoder(t *testing.T) {
	const w, h, frames = 320, 180, 30
	enc, err := hevcenc.NewDeep(w, h, media.Rational{Num: 30, Den: 1}, 600_000, media.Colour{Primaries: 9, Transfer: 16, Matrix: 9})
	require.NoError(t, err)
	defer enc.Close()
	var conf hevc.Config
	require.NoError(t, conf.Unmarshal(enc.Record))
	track, err := conf.Track(enc.Record)
	require.NoError(t, err)
	require.Equal(t, "PQ", track.Colour.Range())
	pic := picture.New(w, h)
	var units []media.AccessUnit
	for n := range frames {
		pic.Fill(143, 128, 128) // 58 % of the signal: the reference white
		for y := range 60 {
			for x := range w {
				pic.Y[y*pic.StrideY+x] = 86 // 32 %: about 12.5 cd/m²
			}
		}
		u, err := enc.Encode(pic, int64(n+10)*frame, n == 0)
		require.NoError(t, err)
		units = append(units, *u)
	}
	sink := newCollected()
	g := New(sink)
	rung := plain(small, "small", w/2, h/2)
	rung.Colour = Flattened(track.Colour)
	g.Configure(Config{Video: &track, Rungs: []Rung{rung}})
	play(g, units, 25)
	g.Drain()
	require.Empty(t, sink.failed)
	assert.Empty(t, sink.tracks[small][0].Colour.Range())
	shown := screen(t, sink.tracks[small][0], sink.units[small])
	require.Len(t, shown, frames)
	p := shown[20*frame]
	assert.InDelta(t, 208, luma(p, 80, 70), 10, "white stays bright, and is not clipped")
	assert.InDelta(t, 16+219*math.Pow(12.5/203, 1/2.4), luma(p, 80, 15), 8, "what is dark keeps its light")
	assert.Greater(t, g.Stats().Nodes[1].Units, int64(frames-1))
	assert.Equal(t, TonePictures, g.Stats().Nodes[1].Kind)
}
