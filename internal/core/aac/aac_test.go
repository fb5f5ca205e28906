package aac

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bits"
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

// written writes fields: pairs of their width in bits and value.
func written(fields ...uint32) []byte {
	var w bits.Writer
	for i := 0; i < len(fields); i += 2 {
		w.U(int(fields[i]), fields[i+1])
	}
	return w.Bytes()
}

// TestObjectTypes: every coder of general audio, and how it is signalled.
func TestObjectTypes(t *testing.T) {
	for _, c := range []struct {
		name    string
		config  []byte
		want    Config
		codec   string
		samples int64
	}{
		{"AAC Main", []byte{0x09, 0x90}, Config{ObjectType: TypeMain, SampleRate: 48000, OutputRate: 48000, Channels: 2}, "mp4a.40.1", 1024},
		{"AAC LTP", []byte{0x21, 0x90}, Config{ObjectType: TypeLTP, SampleRate: 48000, OutputRate: 48000, Channels: 2}, "mp4a.40.4", 1024},
		{"HE-AAC", []byte{0x13, 0x10, 0x56, 0xe5, 0x98}, Config{ObjectType: TypeLC, Extension: TypeSBR, SampleRate: 24000, OutputRate: 48000, Channels: 2}, "mp4a.40.5", 1024},
		{"HE-AAC v2", []byte{0x13, 0x08, 0x56, 0xe5, 0x9d, 0x48, 0x80}, Config{ObjectType: TypeLC, Extension: TypePS, SampleRate: 24000, OutputRate: 48000, Channels: 2}, "mp4a.40.29", 1024},
		{"AAC-LD", []byte{0xb9, 0x90, 0x00}, Config{ObjectType: 23, SampleRate: 48000, OutputRate: 48000, Channels: 2, Frame: 512}, "mp4a.40.23", 512},
		{"AAC-ELD", []byte{0xf8, 0xe6, 0x50, 0x00}, Config{ObjectType: 39, SampleRate: 48000, OutputRate: 48000, Channels: 2, Short: true, Frame: 480}, "mp4a.40.39", 480},
		{"xHE-AAC", written(5, 31, 6, 10, 4, 3, 4, 2, 5, 3, 3, 1, 5, 2, 4, 0), Config{ObjectType: 42, SampleRate: 48000, OutputRate: 48000, Channels: 2, Frame: 1024}, "mp4a.40.42", 1024},
		{"AAC-LC", written(5, 2, 4, 3, 4, 0, 3, 0, 4, 0, 2, 1, 4, 3, 4, 1, 4, 0, 4, 0, 2, 0, 3, 0, 4, 0, 3, 0, 1, 1, 4, 0), Config{ObjectType: TypeLC, SampleRate: 48000, OutputRate: 48000, Channels: 2}, "mp4a.40.2", 1024},
	} {
		var got Config
		require.NoError(t, got.Unmarshal(c.config), c.name)
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.name, got.Name())
		track := got.Track(c.config)
		assert.Equal(t, []any{c.codec, c.samples}, []any{track.CodecName, track.FrameSamples}, c.name)
		assert.Equal(t, got.ObjectType == TypeLC, track.Undecodable == "", c.name)
		assert.Equal(t, got.ObjectType <= TypeLTP, got.HasADTS(), c.name)
	}
}

func TestConfigRefusals(t *testing.T) {
	var c Config
	assert.ErrorContains(t, c.Unmarshal([]byte{0x11}), "1 bytes")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x41, 0x90}), "audio object type 8")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x16, 0x90}), "sampling frequency")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x11, 0x80}), "program config element")
	assert.ErrorContains(t, c.Unmarshal([]byte{0x11, 0xc0}), "channel configuration 8")
}

func FuzzConfig(f *testing.F) {
	bits.CatchRunaways()
	f.Add([]byte{0x11, 0x90})
	f.Add([]byte{0x2b, 0x11, 0x88, 0x00})
	f.Fuzz(func(t *testing.T, b []byte) {
		var c Config
		if c.Unmarshal(b) == nil && (c.Channels < 1 || c.SampleRate < 7350) {
			t.Fatalf("%+v", c)
		}
	})
}

// A configuration that would be of four thousand million bits costs no more than its bytes.
func TestHugeConfigurationsOfLATM(t *testing.T) {
	var w bits.Writer
	w.U(1, 0)           // another StreamMuxConfig
	w.U(2, 2)           // audioMuxVersion 1, A 0
	w.U(10, 0)          // taraBufferFullness of one byte
	w.U(1+6+4+3, 1<<13) // one frame, programme and layer
	w.U(2, 3)           // a value of four bytes
	w.U(32, 0xfffffff0) // bits of the configuration
	b := append(w.Bytes(), 1, 2, 3)
	allocated := testing.AllocsPerRun(10, func() {
		_, err := (&LATM{}).Element(b, true)
		require.ErrorContains(t, err, "expected all of it")
	})
	assert.Less(t, allocated, 50.0)
}
