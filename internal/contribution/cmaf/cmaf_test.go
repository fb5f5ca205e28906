package cmaf

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
)

type sink struct {
	tracks []media.Track
	stamps []int64
}

func (s *sink) Track(t media.Track) { s.tracks = append(s.tracks, t) }

func (s *sink) Unit(_ media.TrackID, stamp, _ int64, _ bool, _ []byte) {
	s.stamps = append(s.stamps, stamp)
}

var track = media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, Config: []byte{0x11, 0x90}, SampleRate: 48000, Channels: 2, FrameSamples: 1024}

func file(units int) []byte {
	b := bmff.Header(&track)
	for n := range units {
		b = bmff.AppendChunk(b, &track, bmff.ChunkOptions{Sequence: uint32(n)}, []media.AccessUnit{{DTS: int64(n) * 1024, PTS: int64(n) * 1024, Duration: 1024, Key: true, Data: make([]byte, 100)}})
	}
	return b
}

func TestPiecesOfAnySize(t *testing.T) {
	b := file(5)
	for _, size := range []int{1, 100, len(b)} {
		s := &sink{}
		r := NewReader(7, "en", s)
		for c := range slices.Chunk(b, size) {
			require.NoError(t, r.Write(c))
		}
		require.Len(t, s.tracks, 1)
		assert.Equal(t, []any{media.TrackID(7), "en", media.Clock{Scale: 48000}}, []any{s.tracks[0].ID, s.tracks[0].Language, s.tracks[0].Clock})
		assert.Equal(t, []int64{0, 1024, 2048, 3072, 4096}, s.stamps)
	}
	s := &sink{}
	r := NewReader(1, "", s)
	require.NoError(t, r.Write(b[:len(b)-30]))
	r.Reset() // the request broke off, and the sender goes on with the next chunk
	require.NoError(t, r.Write(file(9)[len(b):]))
	assert.Equal(t, []int64{0, 1024, 2048, 3072, 5120, 6144, 7168, 8192}, s.stamps)
	assert.ErrorContains(t, r.Write([]byte{0x7f, 0xff, 0xff, 0xff, 'f', 'r', 'e', 'e'}), "a box \"free\" of")
	assert.ErrorContains(t, r.Write([]byte("not a file at all")), "expected boxes")
}

func FuzzReader(f *testing.F) {
	f.Add(file(3), 50)
	f.Fuzz(func(_ *testing.T, b []byte, size int) {
		r := NewReader(1, "", &sink{})
		for c := range slices.Chunk(b, max(size, 1)) {
			if r.Write(c) != nil {
				r.Reset()
			}
		}
	})
}

// A fragmented file may hold video and audio, in fragments of their own or together.
func TestSeveralTracksOfOneFile(t *testing.T) {
	second := track
	second.Channels, second.Config = 1, []byte{0x11, 0x88}
	header := bmff.MovieHeader([][]media.Track{{track}, {second}})
	var s sink
	ids := map[media.TrackID]int{}
	r := NewReader(7, "en", &byID{&s, ids})
	require.NoError(t, r.Write(header))
	for n := range 4 {
		at := int64(n) * 1024
		unit := []media.AccessUnit{{DTS: at, PTS: at, Duration: 1024, Key: true, Data: make([]byte, 100)}}
		require.NoError(t, r.Write(bmff.AppendChunk(nil, &track, bmff.ChunkOptions{Sequence: uint32(n), Track: uint32(n%2 + 1)}, unit)))
	}
	assert.Len(t, s.tracks, 2)
	assert.Equal(t, map[media.TrackID]int{7: 2, 7 | 1<<trackBits: 2}, ids)
}

type byID struct {
	*sink
	ids map[media.TrackID]int
}

func (s *byID) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	s.ids[id]++
}
