package mjpeg

import (
	"bytes"
	"image"
	"image/jpeg"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

func TestSizeOfPictures(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 320, 200)), nil))
	track, err := Track(nil)
	require.NoError(t, err)
	require.NoError(t, Complete(&track, b.Bytes()))
	assert.Equal(t, []int{320, 200}, []int{track.Width, track.Height})
	assert.Equal(t, media.JPEG, track.Codec)
	for _, wrong := range [][]byte{nil, {0xff, 0xd8}, []byte("no picture"), b.Bytes()[:20], {0xff, 0xd8, 0xff, 0xda, 0, 2, 0, 0, 0, 0, 0, 0}} {
		_, _, err := sizeOf(wrong)
		assert.Error(t, err)
	}
}

func FuzzSize(f *testing.F) {
	f.Add([]byte{0xff, 0xd8, 0xff, 0xc0, 0, 17, 8, 0, 9, 0, 9})
	f.Fuzz(func(_ *testing.T, b []byte) { _, _, _ = sizeOf(b) })
}
