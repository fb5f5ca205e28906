package transcode

import (
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// shownTimes lets a cadence take pictures of a source, with a keyframe every so many, and returns when they are shown,
// repetitions among them, in milliseconds.
func shownTimes(c Cadence, pictures, key int, pts func(n int) int64) (out []int64) {
	b := beat{Cadence: c}
	for n := range pictures {
		at, repeat, taken := b.schedule(pts(n), n%key == 0, false)
		for i := repeat; i > 0; i-- {
			out = append(out, b.at(b.index-i)/90)
		}
		if taken {
			out = append(out, at/90)
		}
	}
	return out
}

func TestCadencesTakePictures(t *testing.T) {
	rate := func(num, den int64) Cadence { return Cadence{Rate: media.Rational{Num: num, Den: den}} }
	thirty := func(n int) int64 { return int64(n) * 3000 }
	assert.Equal(t, []int64{0, 33, 66, 100}, shownTimes(Cadence{}, 4, 4, thirty))
	assert.Equal(t, []int64{0, 66, 133, 166, 233, 300}, shownTimes(Cadence{Every: 2}, 10, 5, thirty), "a keyframe is always taken")
	assert.Equal(t, []int64{0, 40, 80, 120, 160, 200, 240}, shownTimes(rate(25, 1), 9, 100, thirty))
	sixty := func(n int) int64 { return int64(n) * 90_000 * 1001 / 60_000 }
	got := shownTimes(rate(30000, 1001), 120, 60, sixty)
	assert.Len(t, got, 60, "every second one, exactly")
	for i, at := range got {
		assert.EqualValues(t, int64(i)*1001/30, at)
	}
	// Pictures that come when they like stand at even times; where none came, the one before stands.
	uneven := []int64{0, 20, 50, 55, 300, 330, 410}
	assert.Equal(t, []int64{0, 40, 80, 120, 160, 200, 240, 280, 320, 360, 400}, shownTimes(rate(25, 1), len(uneven), 100, func(n int) int64 { return uneven[n] * 90 }))
	// A source that stops for long does not fill the stream.
	assert.LessOrEqual(t, len(shownTimes(rate(25, 1), 2, 100, func(n int) int64 { return int64(n) * 90_000 * 3600 })), 2+longestRepeat*25)
	assert.Equal(t, media.Rational{Num: 15, Den: 1}, Cadence{Every: 2}.Of(media.Rational{Num: 30, Den: 1}))
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, rate(25, 1).Of(media.Rational{}))
}

// TestSamplesTellTheQuality: each minute a segment is compared with what went in; the more bits, the nearer.
func TestSamplesTellTheQuality(t *testing.T) {
	measure := func(bitrate int64) Quality {
		enc, err := codec.NewPictureEncoder(media.H264, codec.PictureSettings{Width: 320, Height: 180, Bitrate: bitrate, Peak: bitrate * 6 / 5, Buffer: 1000, Effort: 6,
			SAR: media.Rational{Num: 1, Den: 1}, FrameRate: media.Rational{Num: 25, Den: 1}})
		require.NoError(t, err)
		defer enc.Close()
		track, err := enc.Track()
		require.NoError(t, err)
		var s sampler
		defer s.close()
		pic := picture.New(320, 180)
		random := rand.New(rand.NewSource(1))
		for n := range 130 { // a second each, a keyframe every ten
			draw(pic, n)
			for i := range 4000 {
				pic.Y[i*5] = byte(60 + random.Intn(120)) // hard to code
			}
			pts, key := int64(n)*media.VideoTimescale, n%10 == 0
			s.before(&track, pic, pts, key, 1)
			u, err := enc.Encode(pic, pts, key)
			require.NoError(t, err)
			if u != nil {
				s.after(u)
			}
		}
		q, known := s.result()
		require.True(t, known)
		assert.LessOrEqual(t, len(s.idle), maxSampled)
		return q
	}
	poor, good := measure(100_000), measure(4_000_000)
	for _, q := range []Quality{poor, good} {
		assert.Positive(t, q.Pictures)
		assert.EqualValues(t, 100*media.VideoTimescale, q.At, "the second sample")
		assert.Greater(t, q.PSNR, int64(1000))
		assert.LessOrEqual(t, q.SSIM, int64(10_000))
	}
	assert.Greater(t, good.PSNR, poor.PSNR+300)
	assert.Greater(t, good.SSIM, poor.SSIM+100)
}
