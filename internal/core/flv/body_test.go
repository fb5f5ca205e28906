package flv

import (
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

func bodies(t *testing.T, tag uint8, b []byte) (out []Body) {
	require.NoError(t, Bodies(tag, b, func(one *Body) error { out = append(out, *one); return nil }))
	return out
}

func TestBodiesReadBack(t *testing.T) {
	for _, b := range []Body{
		{Codec: media.H264, Config: true, Key: true, Data: []byte{1, 2}},
		{Codec: media.HEVC, Key: true, Composition: -40, Data: []byte{3}},
		{Codec: media.VP9, Data: []byte{4, 5}},
		{Codec: media.AV1, Track: 3, Key: true, Data: []byte{6}},
		{Codec: media.H264, Track: 2, Composition: 80, Data: []byte{7}},
		{Codec: media.Opus, Data: []byte{8}},
		{Codec: media.AAC, Track: 1, Config: true, Data: []byte{9}},
		{Codec: media.EAC3, Track: 200, Data: []byte{10, 11}},
		{Codec: media.AV1, End: true},
		{Codec: media.H264, Key: true, Composition: 40, Nanos: 683_333, Data: []byte{12}},
		{Codec: media.VP9, Track: 4, Nanos: 1, Data: []byte{13}},
	} {
		tag := uint8(TagVideo)
		if b.Codec == media.Opus || b.Codec == media.AAC || b.Codec == media.EAC3 {
			tag = TagAudio
		}
		got := bodies(t, tag, b.Marshal())
		require.Len(t, got, 1)
		if len(got[0].Data) == 0 {
			got[0].Data = nil
		}
		assert.Equal(t, b, got[0])
	}
}

// TestSeveralTracksInOneMessage reads the three kinds of multitrack messages, and modifiers before them.
func TestSeveralTracksInOneMessage(t *testing.T) {
	same := append([]byte{9<<4 | 5, 1<<4 | 1}, "mp4a\x00\x00\x00\x02ab\x01\x00\x00\x01c"...)
	assert.Equal(t, []Body{{Codec: media.AAC, Data: []byte("ab")}, {Codec: media.AAC, Track: 1, Data: []byte("c")}}, bodies(t, TagAudio, same))
	codecs := append([]byte{9<<4 | 5, 2<<4 | 1}, "mp4a\x00\x00\x00\x01aOpus\x05\x00\x00\x02bc"...)
	assert.Equal(t, []Body{{Codec: media.AAC, Data: []byte("a")}, {Codec: media.Opus, Track: 5, Data: []byte("bc")}}, bodies(t, TagAudio, codecs))
	// A modifier of three bytes, such as nanoseconds, then an encoded frame of VP9.
	modified := append([]byte{0x80 | 1<<4 | 7, 2, 0, 0, 9, 0<<4 | 1}, "vp09xyz"...)
	assert.Equal(t, []Body{{Codec: media.VP9, Key: true, Nanos: 9, Data: []byte("xyz")}}, bodies(t, TagVideo, modified))
	assert.Empty(t, bodies(t, TagVideo, []byte{0x80 | 5<<4, 0}), "a command has no media")
}

func TestBadBodies(t *testing.T) {
	for want, b := range map[string][]byte{
		"a FourCC":                     {0x80 | 1<<4, 'a', 'v'},
		`video codec "vvc1"`:           append([]byte{0x80 | 1<<4}, "vvc1"...),
		`video codec "mp4a"`:           append([]byte{0x80 | 1<<4}, "mp4a"...),
		"the composition time":         append([]byte{0x80 | 1<<4 | 1}, "hvc1x"...),
		"a modifier":                   {0x80 | 7},
		"a modifier and a packet type": {0x80 | 7, 9, 0},
		"the kind of its tracks":       {0x80 | 6},
		"a track's size":               append([]byte{0x80 | 6, 1<<4 | 1}, "av01\x00\x00"...),
		"1000000 nanoseconds":          append([]byte{0x80 | 7, 2, 0x0f, 0x42, 0x40, 1}, "av01x"...),
		"9 bytes of track 1":           append([]byte{0x80 | 6, 1<<4 | 1}, "av01\x01\x00\x00\x09x"...),
	} {
		err := Bodies(TagVideo, b, func(*Body) error { return nil })
		assert.ErrorContains(t, err, want)
	}
}

func FuzzBodies(f *testing.F) {
	bits.CatchRunaways()
	f.Add(append([]byte{0x80 | 6, 2<<4 | 1}, "av01\x00\x00\x00\x01a"...), true)
	f.Add(append([]byte{9<<4 | 7, 2, 0, 0, 9, 1}, "Opusxyz"...), false)
	f.Add([]byte{0x17, 1, 0, 0, 0, 9}, true)
	f.Fuzz(func(_ *testing.T, b []byte, video bool) {
		tag := uint8(TagAudio)
		if video {
			tag = TagVideo
		}
		_ = Bodies(tag, b, func(*Body) error { return nil })
	})
}
