package aac

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestConfig(t *testing.T) {
	var c Config
	require.NoError(t, c.Unmarshal([]byte{0x11, 0x90}))
	assert.Equal(t, Config{ObjectType: TypeLC, SampleRate: 48000, OutputRate: 48000, Channels: 2}, c)
	assert.Equal(t, []byte{0x11, 0x90}, c.Marshal())
	track := c.Track(c.Marshal())
	assert.Equal(t, "mp4a.40.2", track.CodecName)
	assert.EqualValues(t, 48000, track.Timescale)

	require.NoError(t, c.Unmarshal([]byte{0x2b, 0x11, 0x88, 0x00})) // SBR over a 24 kHz core
	assert.Equal(t, 24000, c.SampleRate)
	assert.Equal(t, 48000, c.OutputRate)
	assert.Equal(t, TypeSBR, c.Extension)
}

func TestConfigRefusals(t *testing.T) {
	var c Config
	assert.ErrorContains(t, c.Unmarshal([]byte{0x11}), "1 bytes")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x09, 0x90}), "audio object type 1")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x16, 0x90}), "sampling frequency")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x11, 0x80}), "channel configuration 0")
}

func FuzzConfig(f *testing.F) {
	f.Add([]byte{0x11, 0x90})
	f.Add([]byte{0x2b, 0x11, 0x88, 0x00})
	f.Fuzz(func(t *testing.T, b []byte) {
		var c Config
		if c.Unmarshal(b) == nil && (c.Channels < 1 || c.SampleRate < 7350) {
			t.Fatalf("%+v", c)
		}
	})
}
