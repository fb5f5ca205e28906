package item_test

import (
	"encoding/binary"
	"strings"
	"sync"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo/files"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/webvtt"
)

func newHeader(t media.Track) *segment.Header {
	return &segment.Header{Name: "header.mp4", Bytes: bmff.Header(&t), Track: t}
}

// made are the files, made once.
var made = sync.OnceValues(files.Make)

func open(b []byte, texts ...item.Text) (*item.Item, error) {
	return item.Open(item.Options{Files: []item.Source{files.Memory(b)}, Texts: texts, NewHeader: newHeader})
}

// units reads all units of a track back out of its segments.
func units(t *testing.T, tr *item.Track) (out []media.AccessUnit) {
	t.Helper()
	for i, s := range tr.Segments {
		b, err := s.Blob.(interface{ Make() ([]byte, error) }).Make()
		require.NoError(t, err)
		assert.LessOrEqual(t, int64(len(b)), s.Size, "a segment is no longer than it was said to be")
		f, err := bmff.ReadFragments(b)
		require.NoError(t, err)
		first := true
		for k := range f {
			for _, u := range f[k].Units {
				if first && tr.Kind == media.Video {
					assert.True(t, u.Key, "segment %d begins with a keyframe", i)
				}
				first = false
				out = append(out, u)
			}
		}
	}
	return out
}

func TestEveryFile(t *testing.T) {
	list, err := made()
	require.NoError(t, err)
	require.Greater(t, len(list), 25)
	for _, f := range list {
		t.Run(f.Name, func(t *testing.T) {
			it, err := open(f.Bytes)
			if err != nil {
				assert.False(t, f.Plays, "%v", err)
				assert.Contains(t, err.Error(), f.Says)
				assert.True(t, media.IsFormat(err))
				return
			}
			assert.Equal(t, f.Container, it.Container)
			assert.Contains(t, strings.Join(it.Notes, " "), f.Notes)
			played, trouble := 0, ""
			for i := range it.Tracks {
				tr := &it.Tracks[i]
				if tr.Trouble != "" {
					trouble += tr.Label + ": " + tr.Trouble
					continue
				}
				played++
				got := units(t, tr)
				assert.Equal(t, tr.Count(), len(got), "no unit is lost between segments")
				want := f.Pictures
				if tr.Kind == media.Audio {
					want = f.Frames
				}
				if want > 0 {
					assert.Equal(t, want, len(got), "%s", tr.Kind)
				}
				for k := 1; k < len(got); k++ {
					require.GreaterOrEqual(t, got[k].DTS, got[k-1].DTS, "decode times do not go back")
					if tr.Kind == media.Audio {
						require.Equal(t, got[k-1].DTS+got[k-1].Duration, got[k].DTS, "sound goes on without a gap")
					}
				}
				for k := range got {
					require.GreaterOrEqual(t, got[k].PTS, got[k].DTS)
				}
			}
			if f.Says == "" || f.Says == "ends early" {
				assert.Empty(t, trouble)
			}
			assert.Equal(t, f.Plays, played > 0, trouble)
			if f.Says != "" && f.Says != "ends early" {
				assert.Contains(t, trouble, f.Says)
			}
			assert.Equal(t, f.Says == "ends early", it.Truncated)
		})
	}
}

// The same media comes out of every container, at the same times.
func TestContainersHoldTheSame(t *testing.T) {
	list, err := made()
	require.NoError(t, err)
	of := map[string]*item.Item{}
	for _, f := range list {
		if it, err := open(f.Bytes); err == nil {
			of[f.Name] = it
		}
	}
	want := of["race-plain.mp4"]
	for _, name := range []string{"race.flv", "camera.mov", "stream.ts", "disc.m2ts", "wraps.ts", "race.mkv", "live.mkv", "laced-xiph.mkv", "laced-fixed.mkv", "laced-ebml.mkv"} {
		it := of[name]
		require.Len(t, it.Tracks, 2, name)
		for i := range want.Tracks {
			a, b := &want.Tracks[i], &it.Tracks[i]
			require.Equal(t, a.Kind, b.Kind, name)
			x, y := units(t, a), units(t, b)
			require.Equal(t, len(x), len(y), name)
			for k := range x {
				from := media.Rescale(x[k].PTS-x[0].PTS, a.Timescale, 90000)
				to := media.Rescale(y[k].PTS-y[0].PTS, b.Timescale, 90000)
				require.InDelta(t, from, to, 200, "%s: unit %d of %s", name, k, a.Kind)
				require.Equal(t, x[k].Key, y[k].Key, name)
			}
		}
	}
}

func TestTextsBesideAFile(t *testing.T) {
	list, err := made()
	require.NoError(t, err)
	cues, err := webvtt.Parse([]byte("1\n00:00:01,000 --> 00:00:03,500\nThe start\n\n2\n00:00:05,000 --> 00:00:06,000\n<i>Round the mark</i>\n"))
	require.NoError(t, err)
	it, err := open(list[0].Bytes, item.Text{Language: "en", Name: "Subtitles", Cues: cues})
	require.NoError(t, err)
	tr := &it.Tracks[2]
	assert.Equal(t, media.Data, tr.Kind)
	assert.Len(t, tr.Segments, len(it.Tracks[0].Segments))
	assert.Equal(t, "Round the mark", tr.Cues[1].Text)
}

func FuzzOpen(f *testing.F) {
	bits.CatchRunaways()
	list, err := made()
	if err != nil {
		f.Fatal(err)
	}
	for _, x := range list {
		f.Add(x.Bytes[:min(len(x.Bytes), 3000)])
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		it, err := open(b)
		if err != nil {
			return
		}
		for i := range it.Tracks {
			for _, s := range it.Tracks[i].Segments {
				if m, ok := s.Blob.(interface{ Make() ([]byte, error) }); ok {
					_, _ = m.Make()
				}
			}
		}
	})
}

// Sound that is not compressed has a row for each frame in the tables of a MOV file: its blocks hold the samples as they are.
func TestSamplesOfAMOVFile(t *testing.T) {
	list, err := made()
	require.NoError(t, err)
	for _, f := range list {
		if f.Name != "recorder.mov" && f.Name != "booth.wav" {
			continue
		}
		it, err := open(f.Bytes)
		require.NoError(t, err)
		sound := &it.Tracks[len(it.Tracks)-1]
		assert.True(t, sound.Codable, f.Name)
		assert.Equal(t, []int{48000, 2}, []int{sound.SampleRate, sound.Channels}, f.Name)
		got, err := sound.Units(0, sound.Count())
		require.NoError(t, err)
		frames, next := int64(0), int64(0)
		var all []byte
		for _, u := range got {
			assert.Equal(t, next, u.PTS)
			next = u.PTS + u.Duration
			frames += u.Duration
			all = append(all, u.Data...)
		}
		assert.Equal(t, int64(8*48000), frames, f.Name)
		assert.Len(t, all, 8*48000*4, f.Name)
		assert.Equal(t, f.Bytes[len(f.Bytes)-len(all):], all, f.Name)
	}
}

// wav is a WAV file of a format and so many bytes of samples.
func wav(channels, rate, bits, samples int) []byte {
	le := binary.LittleEndian
	b := append([]byte("RIFF"), le.AppendUint32(nil, uint32(36+samples))...)
	b = append(append(b, "WAVEfmt "...), le.AppendUint32(nil, 16)...)
	b = le.AppendUint16(le.AppendUint16(b, 1), uint16(channels))
	b = le.AppendUint32(le.AppendUint32(b, uint32(rate)), uint32(rate*channels*bits/8))
	b = le.AppendUint16(le.AppendUint16(b, uint16(channels*bits/8)), uint16(bits))
	return append(append(append(b, "data"...), le.AppendUint32(nil, uint32(samples))...), make([]byte, samples)...)
}

func TestFormatsThatCannotBe(t *testing.T) {
	_, err := open(wav(2, 48_000, 16, 48_000))
	require.NoError(t, err)
	for _, b := range [][]byte{wav(2, 0, 16, 8), wav(0, 48_000, 16, 8)} {
		_, err := open(b)
		require.ErrorContains(t, err, "at least one of each")
	}
}
