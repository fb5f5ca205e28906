package bmff

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

var (
	picture = media.Track{Kind: media.Video, Timescale: 90000, Width: 720, Height: 576, SAR: media.Rational{Num: 16, Den: 11}, Config: []byte{1, 100, 0, 31, 0xff}}
	sound   = media.Track{Kind: media.Audio, Timescale: 48000, SampleRate: 48000, Channels: 2, Config: []byte{0x11, 0x90}}
)

func TestHeadersReadBack(t *testing.T) {
	h, err := ReadHeader(Header(&picture))
	require.NoError(t, err)
	assert.Equal(t, &HeaderInfo{Timescale: 90000, Handler: "vide", SampleEntry: "avc1", Config: picture.Config, Width: 720, Height: 576}, h)
	h, err = ReadHeader(Header(&sound))
	require.NoError(t, err)
	assert.Equal(t, &HeaderInfo{Timescale: 48000, Handler: "soun", SampleEntry: "mp4a", Config: sound.Config}, h)
}

func TestSegmentsReadBack(t *testing.T) {
	in := []media.AccessUnit{
		{DTS: 1 << 40, PTS: 1<<40 + 6000, Duration: 3000, Key: true, Data: []byte("idr")},
		{DTS: 1<<40 + 3000, PTS: 1<<40 + 12000, Duration: 3000, Data: []byte("p")},
		{DTS: 1<<40 + 6000, PTS: 1<<40 + 3000, Duration: 2500, Data: []byte("early")},
	}
	said := Message{Scheme: "urn:test", Value: "1", Time: 1 << 40, Duration: 90000, ID: 4, Data: []byte("now")}
	produced := time.Date(2026, 6, 1, 12, 0, 0, 500_000_000, time.UTC)
	b := Chunk(&picture, ChunkOptions{Sequence: 9, First: true, Produced: produced, Messages: []Message{said}}, in)
	f, err := ReadFragments(b)
	require.NoError(t, err)
	require.Len(t, f, 1)
	assert.EqualValues(t, 9, f[0].Sequence)
	assert.Equal(t, in, f[0].Units)
	assert.Equal(t, []Message{said}, f[0].Messages)
	assert.WithinDuration(t, produced, f[0].Produced, time.Microsecond)

	frames := []media.AccessUnit{{DTS: 1024, PTS: 1024, Duration: 1024, Key: true, Data: []byte{1, 2}}, {DTS: 2048, PTS: 2048, Duration: 1024, Key: true, Data: []byte{3}}}
	f, err = ReadFragments(Chunk(&sound, ChunkOptions{Sequence: 1}, frames))
	require.NoError(t, err)
	assert.Equal(t, frames, f[0].Units)
	for cut := range len(b) - 1 {
		_, _ = ReadFragments(b[:cut])
	}
	_, err = ReadFragments(b[:len(b)-1])
	assert.ErrorContains(t, err, `box "mdat"`)
}

func FuzzReadFragments(f *testing.F) {
	f.Add(Chunk(&sound, ChunkOptions{First: true, Produced: time.Unix(1, 0), Messages: []Message{{Scheme: "a"}}}, []media.AccessUnit{{DTS: 1024, PTS: 1024, Duration: 1024, Key: true, Data: []byte{1, 2}}}))
	f.Add(Header(&picture))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = ReadFragments(b)
		_, _ = ReadHeader(b)
	})
}
