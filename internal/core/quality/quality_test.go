package quality

import (
	"math"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/picture"
)

// plain is the definition, sample by sample, with means and variances as they are written.
func plain(a, b *picture.Picture) (psnr, ssim float64) {
	at := func(p *picture.Picture, x, y int) float64 { return float64(p.Y[y*p.StrideY+x]) }
	var square float64
	for y := range a.Height {
		for x := range a.Width {
			square += math.Pow(at(a, x, y)-at(b, x, y), 2)
		}
	}
	psnr = 20*math.Log10(255) - 10*math.Log10(square/float64(a.Width*a.Height))
	windows := 0.0
	for y0 := 0; y0 <= a.Height-8; y0 += 4 {
		for x0 := 0; x0 <= a.Width-8; x0 += 4 {
			var ma, mb float64
			for i := range 64 {
				ma, mb = ma+at(a, x0+i%8, y0+i/8)/64, mb+at(b, x0+i%8, y0+i/8)/64
			}
			var va, vb, ab float64
			for i := range 64 {
				da, db := at(a, x0+i%8, y0+i/8)-ma, at(b, x0+i%8, y0+i/8)-mb
				va, vb, ab = va+da*da/63, vb+db*db/63, ab+da*db/63
			}
			c1, c2 := 0.01*255*0.01*255, 0.03*255*0.03*255
			ssim += (2*ma*mb + c1) * (2*ab + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
			windows++
		}
	}
	return psnr, ssim / windows
}

func TestAgainstTheDefinitions(t *testing.T) {
	random := rand.New(rand.NewSource(1))
	for _, size := range [][2]int{{64, 48}, {71, 37}, {320, 180}} {
		a, b := picture.New(size[0], size[1]), picture.New(size[0], size[1])
		for y := range a.Height {
			for x := range a.Width {
				v := 128 + 90*math.Sin(float64(x)/9)*math.Cos(float64(y)/5)
				a.Y[y*a.StrideY+x] = byte(v)
				b.Y[y*b.StrideY+x] = byte(max(0, min(255, v*0.97+float64(random.Intn(15)))))
			}
		}
		psnr, ssim := plain(a, b)
		assert.InDelta(t, psnr, PSNR(a, b), 1e-9)
		assert.InDelta(t, ssim, SSIM(a, b), 1e-6)
		assert.InDelta(t, SSIM(a, b), SSIM(b, a), 1e-12)
		assert.Equal(t, Same, PSNR(a, a))
		assert.InDelta(t, 1, SSIM(a, a), 1e-12)
	}
	black, white := picture.New(16, 16), picture.New(16, 16)
	for i := range white.Y {
		white.Y[i] = 255
	}
	assert.InDelta(t, 0, PSNR(black, white), 1e-9)
	assert.Less(t, SSIM(black, white), 0.01)
	assert.InDelta(t, 1, SSIM(picture.New(4, 4), picture.New(4, 4)), 0, "smaller than a window")
}

func BenchmarkSSIM(b *testing.B) {
	p, q := picture.New(854, 480), picture.New(854, 480)
	for b.Loop() {
		SSIM(p, q)
	}
}
