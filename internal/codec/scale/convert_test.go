package scale

import (
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/picture"
)

// TestOtherSamplesBecomePlain: more bits, more colour or none comes out as 4:2:0 of bytes with the same levels.
func TestOtherSamplesBecomePlain(t *testing.T) {
	const w, h = 38, 22
	for _, depth := range []int{8, 10, 12} {
		for _, chroma := range []picture.Chroma{picture.Chroma420, picture.Chroma422, picture.Chroma444, picture.Grey} {
			size := 1
			if depth > 8 {
				size = 2
			}
			f := &picture.Frame{Width: w, Height: h, Depth: depth, Chroma: chroma, StrideY: 48 * size, Stride: 48 * size}
			level := [3]int{60, 100, 180}
			var keep [3][]byte
			for i := range f.Plane {
				keep[i] = make([]byte, 48*size*h)
				for at := 0; at < len(keep[i]); at += size {
					v := level[i] << (depth - 8)
					keep[i][at] = byte(v)
					if size == 2 {
						keep[i][at+1] = byte(v >> 8)
					}
				}
				f.Plane[i] = unsafe.Pointer(&keep[i][0])
			}
			if chroma == picture.Grey {
				level[1], level[2] = 128, 128
			}
			for _, to := range [][2]int{{w, h}, {w / 2, h / 2}} {
				pic := picture.New(to[0], to[1])
				require.NoError(t, new(Scaler).FromFrame(pic, f))
				assert.EqualValues(t, level[0], pic.Y[(to[1]-1)*pic.StrideY+to[0]-1], "%d bits, chroma %d", depth, chroma)
				assert.EqualValues(t, level[1], pic.U[(to[1]-1)/2*pic.Stride+(to[0]-1)/2], "%d bits, chroma %d", depth, chroma)
				assert.EqualValues(t, level[2], pic.V[(to[1]-1)/2*pic.Stride+(to[0]-1)/2], "%d bits, chroma %d", depth, chroma)
			}
		}
	}
	assert.Error(t, new(Scaler).FromFrame(picture.New(2, 2), &picture.Frame{Width: 2, Height: 2, Depth: 20}))
}
