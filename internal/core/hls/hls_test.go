package hls

import (
	"strings"
	"testing"
	"time"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

func TestMediaPlaylist(t *testing.T) {
	one, two := &segment.Header{Name: "header-1.mp4"}, &segment.Header{Name: "header-2.mp4"}
	m := Media{
		Whole: []*segment.Segment{
			{MSN: 41, Start: 0, Duration: 180_000, Header: one},
			{MSN: 42, Start: 180_000, Duration: 180_003, Header: one, Gap: true},
			{MSN: 43, Start: 900_000, Duration: 90_000, Header: two, Discontinuity: true},
		},
		Discontinuity: 3, TargetDuration: 2, Epoch: time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC),
	}
	want := `#EXTM3U
#EXT-X-VERSION:8
#EXT-X-TARGETDURATION:2
#EXT-X-MEDIA-SEQUENCE:41
#EXT-X-DISCONTINUITY-SEQUENCE:3
#EXT-X-INDEPENDENT-SEGMENTS
#EXT-X-MAP:URI="header-1.mp4"
#EXT-X-PROGRAM-DATE-TIME:2026-06-01T12:00:00.000Z
#EXTINF:2.00000,
41.m4s
#EXT-X-GAP
#EXTINF:2.00003,
42.m4s
#EXT-X-DISCONTINUITY
#EXT-X-MAP:URI="header-2.mp4"
#EXT-X-PROGRAM-DATE-TIME:2026-06-01T12:00:10.000Z
#EXTINF:1.00000,
43.m4s
`
	assert.Equal(t, want, string(m.Marshal()))
	p, err := ReadMedia(m.Marshal())
	require.NoError(t, err)
	require.Len(t, p.Entries, 3)
	assert.Equal(t, Entry{MSN: 43, URI: "43.m4s", Header: "header-2.mp4", HeaderOffset: -1, Duration: time.Second, Discontinuity: true, DateTime: m.Epoch.Add(10 * time.Second), Offset: -1, Line: 18}, p.Entries[2])
	assert.True(t, p.Entries[1].Gap && p.Independent && !p.Ended)
}

// TestSoundIsNeverSaidToLieLate: a player that adds up what two playlists say must not take any sound
// to lie later, beside the pictures, than it does.
func TestSoundIsNeverSaidToLieLate(t *testing.T) {
	list := func(kind media.Kind, epoch time.Time, start int64) *Playlist {
		h := &segment.Header{Name: "header.mp4", Track: media.Track{Kind: kind}}
		m := Media{Epoch: epoch, TargetDuration: 2}
		for n := range uint64(5) {
			m.Whole = append(m.Whole, &segment.Segment{MSN: n, Start: start, Duration: 90_007, Header: h})
			start += 90_007
		}
		p, err := ReadMedia(m.Marshal())
		require.NoError(t, err)
		return p
	}
	for i := range int64(200) {
		epoch := time.Unix(1_790_000_000, i*7_654_321)
		sound, pictures := list(media.Audio, epoch, i*1_919), list(media.Video, epoch, i*1_777)
		said := sound.Entries[0].DateTime.Sub(pictures.Entries[0].DateTime)
		for _, e := range sound.Entries {
			said += e.Duration
		}
		is := media.Rescale(i*(1_919-1_777)+5*90_007, media.VideoTimescale, int64(time.Second))
		require.LessOrEqual(t, said.Nanoseconds(), is)
		require.Greater(t, said.Nanoseconds(), is-int64(3*time.Millisecond))
	}
}

// TestPlaylistsOfOthers reads what we do not write: byte ranges and keys.
func TestPlaylistsOfOthers(t *testing.T) {
	p, err := ReadMedia([]byte(`#EXTM3U
#EXT-X-TARGETDURATION:2
#EXT-X-MAP:URI="all.mp4",BYTERANGE="600@0"
#EXT-X-KEY:METHOD=AES-128,URI="key",IV=0x000102030405060708090A0B0C0D0E0F
#EXT-X-KEY:METHOD=AES-128,URI="other",KEYFORMAT="com.example"
#EXTINF:2,
#EXT-X-BYTERANGE:1000@600
all.mp4
#EXTINF:2,
#EXT-X-BYTERANGE:500
all.mp4
#EXT-X-KEY:METHOD=SAMPLE-AES,URI="third"
#EXT-X-MAP:URI="more.mp4"
#EXTINF:2,
more.m4s
#EXT-X-KEY:METHOD=NONE
#EXTINF:2,
plain.m4s
#EXT-X-ENDLIST
`))
	require.NoError(t, err)
	key := &Key{Method: "AES-128", URI: "key", IV: []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}}
	assert.Equal(t, Entry{URI: "all.mp4", Header: "all.mp4", HeaderLength: 600, Key: key, Duration: 2 * time.Second, Offset: 600, Length: 1000, Line: 8}, p.Entries[0])
	assert.Equal(t, []any{int64(1600), int64(500), key}, []any{p.Entries[1].Offset, p.Entries[1].Length, p.Entries[1].Key})
	assert.Equal(t, []any{"more.mp4", int64(-1), "SAMPLE-AES"}, []any{p.Entries[2].Header, p.Entries[2].HeaderOffset, p.Entries[2].Key.Method})
	assert.Nil(t, p.Entries[3].Key)
	_, err = ReadMedia([]byte("#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-KEY:METHOD=AES-128,URI=\"k\",IV=0x12\n"))
	assert.ErrorContains(t, err, "expected an IV of 128 bits")
}

func TestTargetDurationBoundsRoundedDurations(t *testing.T) {
	seg := func(ms int64) *segment.Segment { return &segment.Segment{Duration: ms * 90} }
	assert.EqualValues(t, 2, TargetDuration(2*media.VideoTimescale, seg(2400)))
	assert.EqualValues(t, 3, TargetDuration(2*media.VideoTimescale, seg(2500)))
	assert.EqualValues(t, 1, TargetDuration(media.VideoTimescale/2, nil))
}

func TestMultivariantPlaylist(t *testing.T) {
	m := Multivariant{
		Variants: []Variant{
			{URI: "360p/index.m3u8", Peak: 900_000, Average: 800_000, Codecs: []string{"avc1.42c01e", "mp4a.40.2"}, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30000, Den: 1001}, AudioGroup: "audio", Name: "360p"},
			{URI: "source/index.m3u8", Peak: 4_000_000, Average: 3_000_000, Codecs: []string{"avc1.64001f", "mp4a.40.2"}, Width: 1280, Height: 720, AudioGroup: "audio", Name: "source"},
		},
		Audio: []AudioRendition{{Group: "audio", Name: "Sound", URI: "audio/index.m3u8", Channels: 2, Default: true}},
	}
	OrderForStart(m.Variants, 2_500_000)
	assert.Equal(t, "360p", m.Variants[0].Name)
	variants, renditions, err := ReadMultivariant(m.Marshal())
	require.NoError(t, err)
	require.Len(t, variants, 2)
	assert.Equal(t, map[string]string{
		"BANDWIDTH": "900000", "AVERAGE-BANDWIDTH": "800000", "CODECS": "avc1.42c01e,mp4a.40.2", "RESOLUTION": "640x360",
		"FRAME-RATE": "29.970", "AUDIO": "audio", "STABLE-VARIANT-ID": "360p", "CLOSED-CAPTIONS": "NONE",
	}, variants[0].Attributes)
	assert.Equal(t, "audio/index.m3u8", renditions[0]["URI"])
	OrderForStart(m.Variants, 100)
	assert.Equal(t, "360p", m.Variants[0].Name, "the smallest when all are too large")
}

// TestQuotesStayOutOfAttributes: a quoted string has no escapes, so a quote in it would end it.
func TestQuotesStayOutOfAttributes(t *testing.T) {
	said := "The \"Kestrel\" leads,\nby a \\ length"
	m := Media{
		Whole: []*segment.Segment{{MSN: 1, Duration: 180_000, Header: &segment.Header{Name: "h.mp4"}}}, TargetDuration: 2,
		Ranges: []DateRange{{ID: "1", Class: said, Duration: -1, Planned: -1, Names: []string{"X-NOTE"}, Text: map[string]string{"X-NOTE": said}}},
	}
	for l := range strings.Lines(string(m.Marshal())) {
		if text, ok := strings.CutPrefix(l, "#EXT-X-DATERANGE:"); ok {
			a := readAttributes(strings.TrimSpace(text))
			assert.Equal(t, `The 'Kestrel' leads, by a \ length`, a["CLASS"])
			assert.Equal(t, a["CLASS"], a["X-NOTE"])
			return
		}
	}
	t.Fatal("no date range")
}

func TestBrokenPlaylists(t *testing.T) {
	for text, want := range map[string]string{
		"#EXTINF:2,\na.ts\n":                      `line 1: found "#EXTINF:2,"`,
		"#EXTM3U\n#EXTINF:two,\na.ts\n":           `line 2: found "two"`,
		"#EXTM3U\n#EXT-X-MEDIA-SEQUENCE:x\n":      "expected a whole number",
		"#EXTM3U\n#EXTINF:2,\na.ts\n":             "no EXT-X-TARGETDURATION",
		"#EXTM3U\n#EXT-X-PROGRAM-DATE-TIME:now\n": "a date and time",
	} {
		_, err := ReadMedia([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzRead(f *testing.F) {
	bits.CatchRunaways()
	f.Add([]byte("#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MAP:URI=\"h\"\n#EXTINF:2,\n1.m4s\n"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = ReadMedia(b)
		_, _, _ = ReadMultivariant(b)
	})
}
