// Package quality compares pictures with what they were before they were encoded: the peak signal-to-noise ratio and
// the structural similarity of their luma.
package quality

import (
	"math"

	"metaplasis/internal/core/picture"
)

// Same is the ratio of pictures that do not differ, in decibels.
const Same = 100.0

// PSNR returns the peak signal-to-noise ratio of two pictures of one size, of luma, in decibels.
func PSNR(a, b *picture.Picture) float64 {
	var sum uint64
	for y := range a.Height {
		p, q := a.Y[y*a.StrideY:][:a.Width], b.Y[y*b.StrideY:][:a.Width]
		for x, v := range p {
			d := int32(v) - int32(q[x])
			sum += uint64(d * d)
		}
	}
	if sum == 0 {
		return Same
	}
	mean := float64(sum) / float64(a.Width*a.Height)
	return min(10*math.Log10(255*255/mean), Same)
}

// The structural similarity is the mean over windows of so many samples a side, so far apart.
const (
	window = 8
	stride = 4
)

// SSIM returns the structural similarity of two pictures of one size, of luma: 1 where they do not differ
// (Z. Wang and others, "Image quality assessment: from error visibility to structural similarity", 2004, with square
// windows). Pictures smaller than a window have none: 1.
func SSIM(a, b *picture.Picture) float64 {
	var sum float64
	n := 0
	for y := 0; y+window <= a.Height; y += stride {
		for x := 0; x+window <= a.Width; x += stride {
			sum += similar(a, b, x, y)
			n++
		}
	}
	if n == 0 {
		return 1
	}
	return sum / float64(n)
}

// similar is the similarity of one window.
func similar(a, b *picture.Picture, x, y int) float64 {
	var sa, sb, saa, sbb, sab int32
	for dy := range window {
		p, q := a.Y[(y+dy)*a.StrideY+x:][:window], b.Y[(y+dy)*b.StrideY+x:][:window]
		for i := range window {
			v, w := int32(p[i]), int32(q[i])
			sa, sb = sa+v, sb+w
			saa, sbb, sab = saa+v*v, sbb+w*w, sab+v*w
		}
	}
	const (
		n  = window * window
		c1 = (0.01 * 255) * (0.01 * 255) * n * n
		c2 = (0.03 * 255) * (0.03 * 255) * n * (n - 1)
	)
	// Means and variances, each times n or n·n, so that they are whole numbers.
	means := float64(sa) * float64(sb)
	squares := float64(sa)*float64(sa) + float64(sb)*float64(sb)
	covariance := float64(n*sab) - means
	variances := float64(n*saa) + float64(n*sbb) - squares
	return (2*means + c1) * (2*covariance + c2) / ((squares + c1) * (variances + c2))
}
