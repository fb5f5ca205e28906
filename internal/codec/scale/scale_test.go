package scale_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/picture"
)

func TestScaledPictureKeepsItsBlockCode(t *testing.T) {
	src := picture.New(1280, 720)
	for i, white := range picture.EncodeNumber(2741) {
		x, y, side := picture.CodeCell(1280, 720, i)
		for dy := range side {
			for dx := range side {
				if white {
					src.Y[(y+dy)*src.StrideY+x+dx] = 235
				}
			}
		}
	}
	for _, size := range [][2]int{{854, 480}, {426, 240}, {1280, 720}, {853, 479}} {
		dst := picture.New(size[0], size[1])
		require.NoError(t, new(scale.Scaler).Picture(dst, src))
		n, ok := picture.DecodeNumber(dst.Y, dst.StrideY, size[0], size[1])
		assert.True(t, ok, size)
		assert.Equal(t, 2741, n, size)
	}
	_, ok := picture.DecodeNumber(make([]byte, 320*180), 320, 320, 180)
	assert.False(t, ok, "a black picture carries no number")
}

func BenchmarkScale1080To480(b *testing.B) {
	src, dst := picture.New(1920, 1080), picture.New(854, 480)
	var s scale.Scaler
	for b.Loop() {
		_ = s.Picture(dst, src)
	}
}
