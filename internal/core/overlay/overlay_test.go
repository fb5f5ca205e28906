package overlay

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/picture"
)

// file is a PNG of one colour.
func file(t *testing.T, w, h int, c color.NRGBA) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		img.SetNRGBA(i%w, i/w, c)
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

func grey(w, h int) *picture.Picture {
	p := picture.New(w, h)
	p.Fill(90, 128, 128)
	return p
}

func TestALogoLiesWhereItIsAskedFor(t *testing.T) {
	logo := file(t, 30, 15, color.NRGBA{255, 255, 255, 255})
	for place, at := range map[ladder.Place][2]int{
		ladder.TopRight: {300, 12}, ladder.TopLeft: {20, 12}, ladder.BottomLeft: {20, 165}, ladder.BottomRight: {300, 165}, ladder.Centre: {160, 90},
	} {
		p := grey(320, 180)
		o, err := New(320, 180, ladder.Picture{Logo: ladder.Logo{Image: "burgee", Place: place, Width: 10}}, "", logo)
		require.NoError(t, err)
		o.Draw(p, time.Time{}, 0)
		covered := 0
		for y := range 180 {
			for x := range 320 {
				if p.Y[y*p.StrideY+x] > 200 {
					covered++
				}
			}
		}
		assert.InDelta(t, 32*16, covered, 40, place)
		assert.InDelta(t, 235, p.Y[at[1]*p.StrideY+at[0]], 2, place)
	}
	p := grey(320, 180)
	o, err := New(320, 180, ladder.Picture{Logo: ladder.Logo{Image: "burgee", Place: ladder.Centre, Opacity: 50}}, "", file(t, 30, 15, color.NRGBA{255, 0, 0, 255}))
	require.NoError(t, err)
	o.Draw(p, time.Time{}, 0)
	luma, _, cr := narrow(color.NRGBA{255, 0, 0, 255})
	assert.InDelta(t, (90+int(luma))/2, p.Y[90*p.StrideY+160], 3)
	assert.InDelta(t, (128+int(cr))/2, p.V[45*p.Stride+80], 3)
	_, err = New(320, 180, ladder.Picture{Logo: ladder.Logo{Image: "burgee"}}, "", nil)
	assert.ErrorContains(t, err, "metaplasis images add")
}

// TestTheClockTellsTimeAndNumber: what is drawn is the same for the same time and number, and another one for others.
func TestTheClockTellsTimeAndNumber(t *testing.T) {
	o, err := New(640, 360, ladder.Picture{Clock: ladder.ClockBottom}, "", nil)
	require.NoError(t, err)
	at := time.Date(2026, 7, 4, 14, 30, 5, 250e6, time.UTC)
	draw := func(at time.Time, n int64) []byte {
		p := grey(640, 360)
		o.Draw(p, at, n)
		return p.Y
	}
	one := draw(at, 12)
	assert.Equal(t, one, draw(at, 12))
	assert.NotEqual(t, one, draw(at.Add(time.Millisecond), 12))
	assert.NotEqual(t, one, draw(at, 13))
	for i, v := range one[:200*640] {
		if v != 90 {
			t.Fatalf("the upper part is touched at %d", i)
		}
	}
	// Each character is its stamp.
	p := grey(640, 360)
	p.Y = one
	s := o.digits['1']
	for y := range s.h {
		for x := range s.w {
			if s.alpha[y*s.w+x] == 255 {
				assert.Equal(t, s.luma[y*s.w+x], p.Y[(o.clock.y+y)*p.StrideY+o.clock.x+x])
			}
		}
	}
}

func TestNothingIsDrawnOutside(t *testing.T) {
	for _, size := range [][2]int{{16, 16}, {18, 200}, {34, 18}, {4096, 16}} {
		p := grey(size[0], size[1])
		o, err := New(size[0], size[1], ladder.Picture{Label: true, Clock: ladder.ClockTop, Logo: ladder.Logo{Image: "a", Width: 100}}, "a-rung-with-a-long-name", file(t, 9, 400, color.NRGBA{9, 9, 9, 200}))
		require.NoError(t, err)
		o.Draw(p, time.Now(), 1<<40)
	}
}

func TestImagesAreChecked(t *testing.T) {
	assert.NoError(t, CheckImage(file(t, 8, 8, color.NRGBA{})))
	good := file(t, 400, 400, color.NRGBA{1, 2, 3, 4})
	for want, b := range map[string][]byte{
		"found no PNG image": []byte("GIF89a"), "ends early": good[:len(good)-30], "bytes, expected": make([]byte, MaxImage+1), "expected 4096x4096 at most": file(t, 4097, 1, color.NRGBA{}),
	} {
		assert.ErrorContains(t, CheckImage(b), want)
	}
}
