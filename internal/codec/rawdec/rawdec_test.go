package rawdec

import (
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/rawvideo"
)

// TestSamplesComeApart: each sample of a picture lands in its plane with its value.
func TestSamplesComeApart(t *testing.T) {
	for _, depth := range []int{8, 10} {
		f := rawvideo.Format{Width: 32, Height: 18, Depth: depth}
		of := func(n int) int { return n * 37 % (1 << depth) }
		var unit []byte
		for group := range f.Width / 2 * f.Height {
			var word uint64
			for k := range 4 {
				word = word<<depth | uint64(of(4*group+k))
			}
			for shift := depth*4 - 8; shift >= 0; shift -= 8 {
				unit = append(unit, byte(word>>shift))
			}
		}
		d, err := New(f.Marshal())
		require.NoError(t, err)
		seen := false
		require.NoError(t, d.Decode(&media.AccessUnit{Data: unit, PTS: 7}, func(p *picture.Frame) {
			seen = true
			assert.Equal(t, []any{32, 18, depth, picture.Chroma422, int64(7)}, []any{p.Width, p.Height, p.Depth, p.Chroma, p.PTS})
			sample := func(plane, stride, x, y int) int {
				if depth == 8 {
					return int(*(*byte)(unsafe.Add(p.Plane[plane], y*stride+x)))
				}
				return int(*(*uint16)(unsafe.Add(p.Plane[plane], y*stride+2*x)))
			}
			for y := range 18 {
				for x := range 16 {
					group := 4 * (y*16 + x)
					assert.Equal(t, []int{of(group), of(group + 1), of(group + 2), of(group + 3)},
						[]int{sample(1, p.Stride, x, y), sample(0, p.StrideY, 2*x, y), sample(2, p.Stride, x, y), sample(0, p.StrideY, 2*x+1, y)})
				}
			}
		}))
		assert.True(t, seen)
		assert.Error(t, d.Decode(&media.AccessUnit{Data: unit[1:]}, nil))
	}
	_, err := New([]byte("no such format"))
	assert.Error(t, err)
}

func BenchmarkDecode(b *testing.B) {
	for _, depth := range []int{8, 10} {
		f := rawvideo.Format{Width: 1280, Height: 720, Depth: depth}
		d, _ := New(f.Marshal())
		u := &media.AccessUnit{Data: make([]byte, f.PictureBytes())}
		b.Run(map[int]string{8: "8 bits", 10: "10 bits"}[depth], func(b *testing.B) {
			b.SetBytes(int64(len(u.Data)))
			for b.Loop() {
				_ = d.Decode(u, func(*picture.Frame) {})
			}
		})
	}
}
