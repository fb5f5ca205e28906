package slate

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// play reads a recording and returns its pictures, in decode order, and how many frames of sound it has.
func play(t *testing.T, file []byte) (pictures []*picture.Picture, times []int64, keys, sound int) {
	r, err := flv.NewReader(bytes.NewReader(file))
	require.NoError(t, err)
	var dec codec.PictureDecoder
	var s scale.Scaler
	for {
		tag, err := r.Next()
		if err != nil {
			break
		}
		if tag.Type == flv.TagScript {
			continue
		}
		require.NoError(t, flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			switch {
			case tag.Type == flv.TagAudio && !b.Config:
				sound++
			case tag.Type == flv.TagVideo && b.Config:
				track, err := flv.Track(b.Codec, b.Data)
				require.NoError(t, err)
				dec, err = codec.NewPictureDecoder(&track)
				require.NoError(t, err)
			case tag.Type == flv.TagVideo:
				if b.Key {
					keys++
				}
				u := media.AccessUnit{PTS: int64(tag.Timestamp), DTS: int64(tag.Timestamp), Key: b.Key, Data: b.Data}
				require.NoError(t, dec.Decode(&u, func(f *picture.Frame) {
					p := picture.New(f.Width, f.Height)
					require.NoError(t, s.FromFrame(p, f))
					pictures, times = append(pictures, p), append(times, f.PTS)
				}))
			}
			return nil
		}))
	}
	require.NoError(t, dec.Decode(nil, func(f *picture.Frame) { pictures = append(pictures, picture.New(f.Width, f.Height)) }))
	dec.Close()
	return pictures, times, keys, sound
}

func TestASlateShowsItsTitleOrItsImage(t *testing.T) {
	file, err := Make(Request{Width: 640, Height: 360, Title: "Start line"})
	require.NoError(t, err)
	pictures, _, keys, sound := play(t, file)
	assert.Len(t, pictures, seconds*25)
	assert.Equal(t, seconds, keys)
	assert.InDelta(t, seconds*48_000/1024, sound, 2)
	p := pictures[3]
	bright := 0
	for y := 150; y < 210; y++ {
		for x := 100; x < 540; x++ {
			if p.Y[y*p.StrideY+x] > 180 {
				bright++
			}
		}
	}
	assert.Greater(t, bright, 1000, "the title")
	assert.Less(t, int(p.Y[5*p.StrideY+5]), 60, "the ground is dark")

	red := image.NewNRGBA(image.Rect(0, 0, 30, 30))
	for i := range 900 {
		red.SetNRGBA(i%30, i/30, color.NRGBA{200, 20, 20, 255})
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, red))
	file, err = Make(Request{Width: 640, Height: 360, Image: b.Bytes(), FrameRate: media.Rational{Num: 50, Den: 1}, SampleRate: 44_100, Channels: 1})
	require.NoError(t, err)
	pictures, _, _, _ = play(t, file)
	assert.Len(t, pictures, seconds*50)
	p = pictures[5]
	assert.Greater(t, int(p.V[90*p.Stride+160]), 180, "the image, in the middle")
	assert.InDelta(t, 16, p.Y[180*p.StrideY+20], 4, "black beside it")

	_, err = Make(Request{Image: []byte("no picture")})
	assert.ErrorContains(t, err, "the slate's image")
	odd := Request{Width: 4097, Height: 2161, FrameRate: media.Rational{Num: 500, Den: 1}, SampleRate: 8000, Channels: 6}.withDefaults()
	assert.LessOrEqual(t, odd.Width, maxSide)
	assert.Zero(t, odd.Width%2+odd.Height%2)
	assert.Equal(t, []any{media.Rational{Num: 25, Den: 1}, usualSamples, 2}, []any{odd.FrameRate, odd.SampleRate, odd.Channels})
}
