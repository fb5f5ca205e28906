package bmff

import (
	"bytes"
	"testing"
	"time"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

var (
	picture = media.Track{Kind: media.Video, Codec: media.H264, Timescale: 90000, Width: 720, Height: 576, SAR: media.Rational{Num: 16, Den: 11}, Config: []byte{1, 100, 0, 31, 0xff}}
	sound   = media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, Config: []byte{0x11, 0x90}}
)

func TestHeadersReadBack(t *testing.T) {
	h, err := ReadHeader(Header(&picture))
	require.NoError(t, err)
	assert.Equal(t, &HeaderInfo{Tracks: 1, ID: 1, usual: map[uint32]sample{1: {}}, Timescale: 90000, Handler: "vide", SampleEntry: "avc1", Config: picture.Config, Width: 720, Height: 576}, h)
	h, err = ReadHeader(Header(&sound))
	require.NoError(t, err)
	assert.Equal(t, &HeaderInfo{Tracks: 1, ID: 1, usual: map[uint32]sample{1: {}}, Timescale: 48000, Handler: "soun", SampleEntry: "mp4a", ObjectType: 0x40, Config: sound.Config}, h)
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

	assert.NotContains(t, string(b[:32]), "msix", "that brand promises an index in each segment")

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
	bits.CatchRunaways()
	f.Add(Chunk(&sound, ChunkOptions{First: true, Produced: time.Unix(1, 0), Messages: []Message{{Scheme: "a"}}}, []media.AccessUnit{{DTS: 1024, PTS: 1024, Duration: 1024, Key: true, Data: []byte{1, 2}}}))
	f.Add(Header(&picture))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = ReadFragments(b)
		if h, err := ReadHeader(b); err == nil {
			_, _ = h.ReadFragments(b)
		}
		_, _, _ = ReadIndex(b)
	})
}

// muxed is a header as others write it: sound as track 1, pictures as track 2 with defaults in trex,
// both encrypted.
func muxed() []byte {
	track := func(b []byte, id uint32, handler, entry string, skip int) []byte {
		return box(b, "trak", func(b []byte) []byte {
			b = fullBox(b, "tkhd", 0, 0, func(b []byte) []byte { return u32(zeros(b, 8), id) })
			return box(b, "mdia", func(b []byte) []byte {
				b = fullBox(b, "mdhd", 1, 0, func(b []byte) []byte { return u32(zeros(b, 16), 1000*id) })
				b = fullBox(b, "hdlr", 0, 0, func(b []byte) []byte { return append(zeros(b, 4), handler...) })
				return box(b, "minf", func(b []byte) []byte {
					return box(b, "stbl", func(b []byte) []byte {
						return fullBox(b, "stsd", 0, 0, func(b []byte) []byte {
							return box(u32(b, 1), entry, func(b []byte) []byte {
								return box(zeros(b, skip), "sinf", func(b []byte) []byte {
									return box(b, "frma", func(b []byte) []byte { return append(b, "avc1"...) })
								})
							})
						})
					})
				})
			})
		})
	}
	return box(nil, "moov", func(b []byte) []byte {
		b = track(b, 1, "soun", "enca", 28)
		b = track(b, 2, "vide", "encv", 78)
		return box(b, "mvex", func(b []byte) []byte {
			return fullBox(b, "trex", 0, 0, func(b []byte) []byte {
				for _, v := range []uint32{2, 1, 40, 3, 0x10000} {
					b = u32(b, v)
				}
				return b
			})
		})
	})
}

// TestFragmentsOfOthers reads what CMAF does without but others write: more tracks than one,
// defaults instead of a record for each sample, times of 32 bits, several runs.
func TestFragmentsOfOthers(t *testing.T) {
	h, err := ReadHeader(muxed())
	require.NoError(t, err)
	assert.Equal(t, []any{2, uint32(2), int64(2000), "vide", "avc1", true}, []any{h.Tracks, h.ID, h.Timescale, h.Handler, h.SampleEntry, h.Protected})
	const moofSize = 8 + 16 + (8 + 16 + 16) + (8 + 28 + 16 + 24 + 16)
	fragment := func(of uint32) []byte {
		b := box(nil, "moof", func(b []byte) []byte {
			b = fullBox(b, "mfhd", 0, 0, func(b []byte) []byte { return u32(b, 7) })
			b = box(b, "traf", func(b []byte) []byte {
				b = fullBox(b, "tfhd", 0, 0x20000, func(b []byte) []byte { return u32(b, 1) })
				return fullBox(b, "tfdt", 0, 0, func(b []byte) []byte { return u32(b, 5) })
			})
			return box(b, "traf", func(b []byte) []byte {
				b = fullBox(b, "tfhd", 0, 0x20009, func(b []byte) []byte { return u32(zeros(u32(b, of), 8), 50) })
				b = fullBox(b, "tfdt", 0, 0, func(b []byte) []byte { return u32(b, 900) })
				b = fullBox(b, "trun", 0, 5, func(b []byte) []byte { return u32(u32(u32(b, 2), moofSize+10), 0) })
				return fullBox(b, "trun", 0, 0, func(b []byte) []byte { return u32(b, 1) })
			})
		})
		require.Len(t, b, moofSize)
		return box(b, "mdat", func(b []byte) []byte { return append(b, "..onetwosix"...) })
	}
	f, err := h.ReadFragments(fragment(2))
	require.NoError(t, err)
	assert.Equal(t, []media.AccessUnit{
		{DTS: 900, PTS: 900, Duration: 50, Key: true, Data: []byte("one")},
		{DTS: 950, PTS: 950, Duration: 50, Data: []byte("two")},
		{DTS: 1000, PTS: 1000, Duration: 50, Data: []byte("six")},
	}, f[0].Units)
	assert.EqualValues(t, []any{int64(900), 11}, []any{f[0].DTS, f[0].Data})
	_, err = h.ReadFragments(fragment(9))
	assert.ErrorContains(t, err, "found a fragment of track 9, expected track 2")
	_, err = h.ReadFragments(fragment(2)[:moofSize+8+9])
	assert.Error(t, err)
}

func TestIndexes(t *testing.T) {
	for version := range byte(2) {
		b := fullBox([]byte{0, 0, 0, 8, 'f', 'r', 'e', 'e'}, "sidx", version, 0, func(b []byte) []byte {
			b = u32(u32(b, 1), 48000)
			for _, v := range []uint64{1024, 4} {
				if version == 1 {
					b = u64(b, v)
				} else {
					b = u32(b, uint32(v))
				}
			}
			b = u32(b, 2)
			for _, v := range []uint32{100, 48128, 0, 60, 1024, 0} {
				b = u32(b, v)
			}
			return b
		})
		x, taken, err := ReadIndex(append(b, 0, 0, 0, 12, 'm', 'd', 'a', 't', 1, 2, 3, 4))
		require.NoError(t, err)
		assert.EqualValues(t, len(b), taken)
		assert.Equal(t, &Index{Timescale: 48000, Earliest: 1024, Pieces: []IndexPiece{{4, 100, 48128}, {104, 60, 1024}}}, x)
		for cut := range len(b) {
			_, _, err := ReadIndex(b[:cut])
			assert.Error(t, err)
		}
		b[len(b)-24] |= 0x80
		_, _, err = ReadIndex(b)
		assert.ErrorContains(t, err, "an index of indexes")
	}
}

// TestEntriesOfOtherCodecs: the sample entry and its box are those of the codec's binding.
func TestEntriesOfOtherCodecs(t *testing.T) {
	for _, c := range []struct {
		track      media.Track
		entry, box string
	}{
		{media.Track{Kind: media.Video, Codec: media.HEVC, Width: 16, Height: 16}, "hvc1", "\x00\x00\x00\x0chvcC\x01\x02\x03\x04"},
		{media.Track{Kind: media.Video, Codec: media.VP9, Width: 16, Height: 16}, "vp09", "\x00\x00\x00\x10vpcC\x01\x00\x00\x00\x01\x02\x03\x04"},
		{media.Track{Kind: media.Video, Codec: media.AV1, Width: 16, Height: 16}, "av01", "\x00\x00\x00\x0cav1C\x01\x02\x03\x04"},
		{media.Track{Kind: media.Audio, Codec: media.Opus, Channels: 2, SampleRate: 48000}, "Opus", "\x00\x00\x00\x0cdOps\x01\x02\x03\x04"},
		{media.Track{Kind: media.Audio, Codec: media.AC3, Channels: 6, SampleRate: 48000}, "ac-3", "\x00\x00\x00\x0cdac3\x01\x02\x03\x04"},
		{media.Track{Kind: media.Audio, Codec: media.EAC3, Channels: 2, SampleRate: 48000}, "ec-3", "\x00\x00\x00\x0cdec3\x01\x02\x03\x04"},
	} {
		c.track.Timescale, c.track.Config = 48000, []byte{1, 2, 3, 4}
		b := Header(&c.track)
		assert.Contains(t, string(b), c.box)
		h, err := ReadHeader(b)
		require.NoError(t, err)
		assert.Equal(t, c.entry, h.SampleEntry)
		assert.Equal(t, c.track.Config, h.Config, c.entry)
	}
}

func TestHighDynamicRangeIsInTheHeader(t *testing.T) {
	track := picture
	track.Light = &media.Light{MaxContent: 1000, MaxAverage: 400, Display: [8]int{1, 2, 3, 4, 5, 6, 7, 8}, Brightest: 10_000_000, Darkest: 50}
	h := Header(&track)
	at := bytes.Index(h, []byte("mdcv"))
	require.Positive(t, at)
	assert.Equal(t, []byte{0, 3, 0, 4, 0, 5, 0, 6, 0, 1, 0, 2, 0, 7, 0, 8, 0, 0x98, 0x96, 0x80, 0, 0, 0, 50}, h[at+4:at+28], "green, blue, red, white")
	at = bytes.Index(h, []byte("clli"))
	require.Positive(t, at)
	assert.Equal(t, []byte{3, 0xe8, 1, 0x90}, h[at+4:at+8])
	_, err := ReadHeader(h)
	require.NoError(t, err)
}
