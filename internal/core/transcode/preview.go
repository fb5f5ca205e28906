package transcode

import (
	"image"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Matrix coefficients of ITU-T H.273, table 4, for luma of red and blue.
var lumaWeights = map[uint8][2]float64{
	1: {0.2126, 0.0722}, // ITU-R BT.709
	4: {0.30, 0.11},
	5: {0.299, 0.114}, 6: {0.299, 0.114}, // ITU-R BT.601
	7: {0.212, 0.087},
	9: {0.2627, 0.0593}, // ITU-R BT.2020
}

// asJPEG converts a picture to what JPEG takes its samples for: full range, with the matrix of BT.601
// (ITU-T T.871). A source that says nothing is of limited range, and of BT.709 where it is of high
// definition, as players assume.
func asJPEG(p *picture.Picture, c media.Colour) *image.YCbCr {
	img := image.NewYCbCr(image.Rect(0, 0, p.Width, p.Height), image.YCbCrSubsampleRatio420)
	w, ok := lumaWeights[c.Matrix]
	if !ok {
		w = lumaWeights[1]
	}
	low, luma, chroma := 16.0, 255.0/219, 255.0/224
	if c.FullRange {
		low, luma, chroma = 0, 1, 1
	}
	// Chroma of the source as differences of the blue and red to luma, and those of BT.601 from them.
	to := lumaWeights[6]
	toBlue, toRed := 2*(1-w[1]), 2*(1-w[0])
	green := 1 - w[0] - w[1]
	for y := range p.Height {
		for x := range p.Width {
			cb := (float64(p.U[y/2*p.Stride+x/2]) - 128) * chroma
			cr := (float64(p.V[y/2*p.Stride+x/2]) - 128) * chroma
			l := (float64(p.Y[y*p.StrideY+x]) - low) * luma
			r, b := l+toRed*cr, l+toBlue*cb
			g := (l - w[0]*r - w[1]*b) / green
			out := to[0]*r + (1-to[0]-to[1])*g + to[1]*b
			img.Y[y*img.YStride+x] = sample(out)
			if x%2 == 0 && y%2 == 0 {
				i := y/2*img.CStride + x/2
				img.Cb[i] = sample((b-out)/(2*(1-to[1])) + 128)
				img.Cr[i] = sample((r-out)/(2*(1-to[0])) + 128)
			}
		}
	}
	return img
}

func sample(v float64) uint8 { return uint8(min(max(v+0.5, 0), 255)) }
