package vp9_test

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/vp9"
)

func coded(t testing.TB) (config vp9.Config, units [][]byte) {
	enc, err := vp9enc.New(322, 182, 200_000, 1)
	require.NoError(t, err)
	defer enc.Close()
	for n := range 3 {
		u, err := enc.Encode(picture.New(322, 182), int64(n)*3000, 3000, n != 1)
		require.NoError(t, err)
		units = append(units, u.Data)
	}
	return enc.Config, units
}

func TestFramesAndTrack(t *testing.T) {
	config, units := coded(t)
	for i, key := range []bool{true, false, true} {
		f, err := vp9.ParseFrame(units[i])
		require.NoError(t, err)
		assert.Equal(t, key, f.Key, "frame %d", i)
	}
	var c vp9.Config
	require.NoError(t, c.Unmarshal(config.Marshal()))
	assert.Equal(t, config, c)
	boxed := append([]byte{1, 0, 0, 0}, config.Marshal()...) // as it lies in its box
	require.NoError(t, c.Unmarshal(boxed))
	assert.Equal(t, config, c)
	track := c.Track()
	assert.Equal(t, "vp09.00.11.08", track.CodecName)
	assert.Zero(t, track.Width)
	require.NoError(t, vp9.Complete(&track, units[1]))
	assert.Zero(t, track.Width, "a frame that is no key frame does not tell")
	require.NoError(t, vp9.Complete(&track, units[0]))
	assert.Equal(t, []int{322, 182}, []int{track.Width, track.Height})
	c.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
	c.Profile, c.Depth = 2, 10
	assert.Equal(t, "vp09.02.11.10.01.09.16.09.00", c.Name())
}

func TestBad(t *testing.T) {
	_, units := coded(t)
	_, err := vp9.ParseFrame(units[0][:2])
	assert.Error(t, err)
	_, err = vp9.ParseFrame([]byte{0x00, 0x00})
	assert.ErrorContains(t, err, "frame marker")
	var c vp9.Config
	assert.ErrorContains(t, c.Unmarshal([]byte{0, 10, 0x80}), "at least 8")
	assert.ErrorContains(t, c.Unmarshal([]byte{0, 10, 0x52, 2, 2, 2, 0, 0}), "with 5 bits")
}

func FuzzFrame(f *testing.F) {
	bits.CatchRunaways()
	_, units := coded(f)
	f.Add(units[0])
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = vp9.ParseFrame(b)
		var c vp9.Config
		_ = c.Unmarshal(b)
	})
}
