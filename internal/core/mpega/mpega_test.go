package mpega

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

func TestHeaders(t *testing.T) {
	for _, c := range []struct {
		name  string
		frame []byte
		want  Header
	}{
		{"layer III, 128 kbit/s at 44.1 kHz", []byte{0xff, 0xfb, 0x90, 0x00}, Header{Layer: 3, SampleRate: 44100, Channels: 2, Samples: 1152, Bitrate: 128_000, Size: 417}},
		{"layer II, 192 kbit/s at 48 kHz", []byte{0xff, 0xfd, 0xa4, 0x00}, Header{Layer: 2, SampleRate: 48000, Channels: 2, Samples: 1152, Bitrate: 192_000, Size: 576}},
		{"layer I, mono", []byte{0xff, 0xff, 0x44, 0xc0}, Header{Layer: 1, SampleRate: 48000, Channels: 1, Samples: 384, Bitrate: 128_000, Size: 128}},
		{"layer III at a low rate", []byte{0xff, 0xf3, 0x84, 0xc0}, Header{Layer: 3, Low: true, SampleRate: 24000, Channels: 1, Samples: 576, Bitrate: 64_000, Size: 192}},
		{"a quarter rate, padded", []byte{0xff, 0xe3, 0x82, 0x00}, Header{Layer: 3, Low: true, SampleRate: 11025, Channels: 2, Samples: 576, Bitrate: 64_000, Size: 418}},
		{"free format", []byte{0xff, 0xfb, 0x00, 0x00}, Header{Layer: 3, SampleRate: 44100, Channels: 2, Samples: 1152}},
	} {
		h, err := Parse(c.frame)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, h, c.name)
	}
	for _, b := range [][]byte{nil, {0xff}, {0xff, 0xfb, 0xf0, 0}, {0xff, 0xeb, 0x90, 0}, {0xff, 0xf9, 0x90, 0}, {0x12, 0x34, 0x56, 0x78}, {0xff, 0xfb, 0x9c, 0}} {
		_, err := Parse(b)
		assert.Error(t, err, "%x", b)
	}
}

func TestTracks(t *testing.T) {
	track := media.Track{ID: 7, Language: "fr"}
	require.NoError(t, Complete(&track, []byte{0xff, 0xfd, 0xa4, 0x00}))
	assert.Equal(t, []any{media.TrackID(7), "fr", media.MP2, "mp4a.6B", int64(48000)}, []any{track.ID, track.Language, track.Codec, track.CodecName, track.Timescale})
	require.NoError(t, Complete(&track, []byte{0xff, 0xf3, 0x84, 0xc0}))
	assert.Equal(t, []any{media.MP3, "mp4a.69"}, []any{track.Codec, track.CodecName})
	assert.Error(t, Complete(&track, nil))
}

func FuzzParse(f *testing.F) {
	bits.CatchRunaways()
	f.Add([]byte{0xff, 0xfb, 0x90, 0x00})
	f.Fuzz(func(t *testing.T, b []byte) {
		if h, err := Parse(b); err == nil && (h.SampleRate == 0 || h.Samples == 0 || h.Size < 0) {
			t.Fatalf("%+v", h)
		}
	})
}
