package vp8

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var key = []byte{0x10, 0x02, 0x00, 0x9d, 0x01, 0x2a, 0x40, 0x01, 0xb4, 0x40, 0}

func TestFrames(t *testing.T) {
	f, err := ParseFrame(key)
	require.NoError(t, err)
	assert.Equal(t, Frame{Key: true, Width: 320, Height: 180}, f, "the scale above the size is left out")
	f, err = ParseFrame([]byte{0x11, 0, 0})
	require.NoError(t, err)
	assert.False(t, f.Key)
	for _, b := range [][]byte{nil, {0x10, 0}, {0x10, 0, 0, 1, 2, 3, 4, 5, 6, 7}, {0x10, 0, 0, 0x9d, 1, 0x2a, 0, 0, 1, 0}} {
		_, err := ParseFrame(b)
		assert.Error(t, err, "%x", b)
	}
}

func TestTracks(t *testing.T) {
	for _, config := range [][]byte{nil, {0, 10, 0x80, 2, 2, 2, 0, 0}} {
		track, err := Track(config)
		require.NoError(t, err)
		require.NoError(t, Complete(&track, key))
		assert.Equal(t, []any{320, 180}, []any{track.Width, track.Height})
		assert.Regexp(t, `^vp08\.00\.(00|10)\.08$`, track.CodecName)
	}
	_, err := Track([]byte{1, 2})
	assert.Error(t, err)
}

func FuzzParseFrame(f *testing.F) {
	bits.CatchRunaways()
	f.Add(key)
	f.Fuzz(func(t *testing.T, b []byte) {
		if f, err := ParseFrame(b); err == nil && f.Key && f.Width*f.Height == 0 {
			t.Fatalf("%+v", f)
		}
	})
}
