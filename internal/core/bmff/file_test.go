package bmff

import (
	"bytes"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

var (
	fileVideo = media.Track{Kind: media.Video, Codec: media.H264, Timescale: 90_000, Width: 320, Height: 180, Config: []byte{1, 0x42, 0xc0, 0x0d, 0xff, 0xe1, 0, 0, 1, 0, 0}}
	fileSound = media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48_000, SampleRate: 48_000, Channels: 2, Language: "fra", Config: []byte{0x11, 0x90}}
)

// fileUnits are a second of pictures that are decoded in another order than they are shown, and of sound, from a time on.
func fileUnits(second int64) (video, sound []media.AccessUnit) {
	const frame = 3600 // 25 a second
	for i := range int64(25) {
		dts := second*90_000 + i*frame
		pts := dts + 2*frame
		if i%3 == 1 {
			pts += frame
		} else if i%3 == 2 {
			pts -= frame
		}
		video = append(video, media.AccessUnit{DTS: dts, PTS: pts, Duration: frame, Key: i == 0, Data: bytes.Repeat([]byte{byte(second), byte(i)}, 20+int(i))})
	}
	for i := range int64(47) {
		at := second*48_000 + i*1024
		sound = append(sound, media.AccessUnit{DTS: at, PTS: at, Duration: 1024, Key: true, Data: bytes.Repeat([]byte{0xaa, byte(i)}, 10)})
	}
	return video, sound
}

// plainFile is an MP4 of some seconds whose tables stand in front.
func plainFile(t testing.TB, seconds int64, change func(*Movie)) []byte {
	m := &Movie{}
	video, sound := m.Track(media.Video), m.Track(media.Audio)
	var data []byte
	for s := range seconds {
		v, a := fileUnits(s)
		require.NoError(t, video.Add(&fileVideo, v, 0))
		require.NoError(t, sound.Add(&fileSound, a, 0))
		for _, u := range append(v, a...) {
			data = append(data, u.Data...)
		}
	}
	if change != nil {
		change(m)
	}
	head, err := m.Header()
	require.NoError(t, err)
	require.EqualValues(t, len(data), m.Size())
	return append(head, data...)
}

// fragmentedFile is the same in fragments.
func fragmentedFile(seconds int64) []byte {
	out := MovieHeader([][]media.Track{{fileVideo}, {fileSound}})
	for s := range seconds {
		v, a := fileUnits(s)
		out = AppendChunk(out, &fileVideo, ChunkOptions{Sequence: uint32(2*s + 1), Track: 1}, v)
		out = AppendChunk(out, &fileSound, ChunkOptions{Sequence: uint32(2*s + 2), Track: 2}, a)
	}
	return out
}

func TestFilesReadBack(t *testing.T) {
	for name, b := range map[string][]byte{"plain": plainFile(t, 3, nil), "fragmented": fragmentedFile(3)} {
		f, err := ReadFile(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err, name)
		require.Len(t, f.Tracks, 2, name)
		assert.Equal(t, name == "fragmented", f.Fragmented)
		assert.False(t, f.Truncated)
		v, a := &f.Tracks[0], &f.Tracks[1]
		assert.Equal(t, "avc1", v.SampleEntry)
		assert.Equal(t, fileVideo.Config, v.Config)
		assert.Equal(t, "mp4a", a.SampleEntry)
		require.Len(t, v.Samples, 75, name)
		assert.Equal(t, 3*47, len(a.Samples))
		first := v.Samples[0].PTS
		for s := range int64(3) {
			want, sound := fileUnits(s)
			for i, u := range want {
				got := v.Samples[s*25+int64(i)]
				assert.Equal(t, u.PTS-2*3600, got.PTS-first, "%s, picture %d", name, i)
				assert.Equal(t, u.PTS-u.DTS, got.PTS-got.DTS)
				assert.Equal(t, u.Key, got.Key)
				assert.Equal(t, u.Data, b[got.Offset:got.Offset+int64(got.Size)])
			}
			for i, u := range sound {
				got := a.Samples[s*47+int64(i)]
				assert.Equal(t, u.Data, b[got.Offset:got.Offset+int64(got.Size)])
			}
		}
		// Pictures and sound keep their places to each other.
		assert.Equal(t, int64(2*3600), media.Rescale(first, 90_000, 90_000)-media.Rescale(a.Samples[0].PTS, 48_000, 90_000), name)
	}
	b := plainFile(t, 1, nil)
	f, err := ReadFile(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.Equal(t, "fra", f.Tracks[1].Language)
	assert.Zero(t, f.Tracks[0].Samples[0].PTS, "the presentation begins with the first picture")
}

func TestAMovieIsShownBetweenTwoTimes(t *testing.T) {
	b := plainFile(t, 3, func(m *Movie) { m.From, m.To = 90_000+2*3600, 2*90_000+2*3600 })
	f, err := ReadFile(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.Equal(t, []any{int64(0), true}, []any{f.Tracks[0].Samples[0].PTS, f.Tracks[0].Samples[0].Key}, "the second second is what there is of it")
	assert.InDelta(t, 25, len(f.Tracks[0].Samples), 1)
	at := bytes.Index(b, []byte("mvhd"))
	assert.EqualValues(t, 90_000, uint64(b[at+4+24])<<56|uint64(b[at+4+30])<<8|uint64(b[at+4+31])|uint64(b[at+4+29])<<16, "a second long")
}

func TestFilesThatEndEarly(t *testing.T) {
	whole := plainFile(t, 3, nil)
	f, err := ReadFile(bytes.NewReader(whole[:len(whole)-3000]), int64(len(whole)-3000))
	require.NoError(t, err)
	assert.True(t, f.Truncated)
	assert.Less(t, len(f.Tracks[0].Samples), 75)
	assert.Greater(t, len(f.Tracks[0].Samples), 40)
	parts := fragmentedFile(3)
	f, err = ReadFile(bytes.NewReader(parts[:len(parts)-1000]), int64(len(parts)-1000))
	require.NoError(t, err)
	assert.True(t, f.Truncated)
	assert.Len(t, f.Tracks[0].Samples, 75)
	for _, n := range []int{0, 5, 20, 200} {
		_, err = ReadFile(bytes.NewReader(whole[:n]), int64(n))
		assert.True(t, media.IsFormat(err), "%d bytes: %v", n, err)
	}
	assert.ErrorContains(t, err, "the rest is missing")
}

func FuzzReadFile(f *testing.F) {
	bits.CatchRunaways()
	f.Add(plainFile(f, 1, nil))
	f.Add(fragmentedFile(1))
	f.Fuzz(func(t *testing.T, b []byte) {
		file, err := ReadFile(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		for i := range file.Tracks {
			for _, s := range file.Tracks[i].Samples {
				if s.Offset < 0 {
					t.Fatalf("a sample at byte %d", s.Offset)
				}
			}
		}
	})
}
