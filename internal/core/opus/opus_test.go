package opus_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/core/opus"
)

func TestConfigs(t *testing.T) {
	enc, err := opusenc.New(2, 64_000)
	require.NoError(t, err)
	defer enc.Close()
	var head, box opus.Config
	require.NoError(t, head.UnmarshalHead(enc.Config.MarshalHead()))
	require.NoError(t, box.UnmarshalBox(head.MarshalBox()))
	assert.Equal(t, enc.Config, box)
	packet, err := enc.Encode(make([]int16, 2*opusenc.FrameSamples))
	require.NoError(t, err)
	track := box.Track()
	require.NoError(t, opus.Complete(&track, packet))
	assert.EqualValues(t, 960, track.FrameSamples)

	surround := opus.Config{Channels: 6, PreSkip: 312, InputRate: 48000, Family: 1, Mapping: []byte{4, 2, 0, 4, 1, 2, 3, 5}}
	require.NoError(t, box.UnmarshalHead(surround.MarshalHead()))
	assert.Equal(t, surround, box)
}

func TestDurations(t *testing.T) {
	for _, c := range []struct {
		packet []byte
		want   int64
	}{
		{[]byte{0 << 3}, 480},              // SILK, 10 ms
		{[]byte{3 << 3}, 2880},             // SILK, 60 ms
		{[]byte{13 << 3}, 960},             // hybrid, 20 ms
		{[]byte{16 << 3}, 120},             // CELT, 2.5 ms
		{[]byte{31<<3 | 1}, 1920},          // two of 20 ms
		{[]byte{31<<3 | 3, 3}, 2880},       // three, counted
		{[]byte{3<<3 | 3, 2 | 0x80}, 5760}, // two of 60 ms, of varying sizes
	} {
		n, err := opus.Samples(c.packet)
		require.NoError(t, err)
		assert.Equal(t, c.want, n, "% x", c.packet)
	}
	for _, bad := range [][]byte{nil, {3}, {3<<3 | 3, 3}, {31<<3 | 3, 0}} {
		_, err := opus.Samples(bad)
		assert.Error(t, err, "% x", bad)
	}
}

func FuzzHead(f *testing.F) {
	f.Add([]byte("OpusHead\x01\x02\x38\x01\x80\xbb\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var c opus.Config
		if c.UnmarshalHead(b) == nil {
			var again opus.Config
			require.NoError(t, again.UnmarshalBox(c.MarshalBox()))
			assert.Equal(t, c, again)
		}
		_ = c.UnmarshalBox(b)
		_, _ = opus.Samples(b)
	})
}
