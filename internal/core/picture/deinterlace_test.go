package picture

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// scene draws a picture of a film at fifty a second: a still board with fine lines on the left, and on the right a slanted
// sail that moves.
func scene(n int) *Picture {
	p := New(160, 96)
	for y := range p.Height {
		for x := range p.Width {
			v := byte(90)
			switch {
			case x < 60 && (y+x/3)%3 == 0:
				v = 210
			case x >= 70 && x-70-2*n > y/2 && x-70-2*n < y/2+22:
				v = 220
			}
			p.Y[y*p.StrideY+x] = v
		}
	}
	for i := range p.U {
		p.U[i], p.V[i] = 100, 150
	}
	return p
}

// weave makes an interlaced frame of two pictures.
func weave(even, odd *Picture) *Picture {
	p := New(even.Width, even.Height)
	for y := range p.Height {
		from := even
		if y%2 == 1 {
			from = odd
		}
		copy(p.Y[y*p.StrideY:][:p.Width], from.Y[y*from.StrideY:])
	}
	copy(p.U, even.U)
	copy(p.V, even.V)
	return p
}

// psnr is the mean squared difference of luma, in decibels below the largest.
func psnr(a, b *Picture) float64 {
	var sum float64
	for y := range a.Height {
		for x := range a.Width {
			d := float64(a.Y[y*a.StrideY+x]) - float64(b.Y[y*b.StrideY+x])
			sum += d * d
		}
	}
	return 10 * math.Log10(255*255/max(sum/float64(a.Width*a.Height), 1e-4))
}

// TestFieldsBecomeThePicturesThatWereDrawn: fifty fields per second are made whole and held against the film that they
// are of. What stands still is as it was, what moves has no combs, and either way beats both simple ones.
func TestFieldsBecomeThePicturesThatWereDrawn(t *testing.T) {
	adaptive, bob := &Deinterlacer{}, &Deinterlacer{Bob: true}
	var got, bobbed, woven float64
	const frames = 12
	for i := range frames {
		even, odd := scene(2*i), scene(2*i+1)
		frame := weave(even, odd)
		for j, want := range []*Picture{even, odd} {
			a, b := New(160, 96), New(160, 96)
			adaptive.Field(a, frame, j == 1)
			bob.Field(b, frame, j == 1)
			if i == 0 {
				continue // nothing to compare with yet
			}
			got, bobbed, woven = got+psnr(a, want), bobbed+psnr(b, want), woven+psnr(frame, want)
			for y := range 96 {
				for x := range 58 { // beside the edge of the board
					if a.Y[y*a.StrideY+x] != want.Y[y*want.StrideY+x] {
						t.Fatalf("frame %d, field %d: the board differs at %d,%d", i, j, x, y)
					}
				}
			}
			assert.Equal(t, want.U[10], a.U[10])
		}
		adaptive.Seen(frame)
		bob.Seen(frame)
	}
	n := float64(2 * (frames - 1))
	assert.Greater(t, got/n, 28.0)
	assert.Greater(t, got/n, bobbed/n+3)
	assert.Greater(t, got/n, woven/n+3)
}

func BenchmarkDeinterlace(b *testing.B) {
	d := &Deinterlacer{}
	frame, to := New(1920, 1080), New(1920, 1080)
	d.Field(to, frame, false)
	d.Seen(frame)
	for i := range frame.Y {
		frame.Y[i] = byte(i * 7)
	}
	b.ReportAllocs()
	b.SetBytes(1920 * 1080)
	for b.Loop() {
		d.Field(to, frame, true)
	}
}
