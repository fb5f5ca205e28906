package ts

import (
	"encoding/binary"
	"fmt"
	"slices"
	"testing"

	"metaplasis/internal/core/bits"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/media"
)

var (
	video  = &media.Track{Kind: media.Video, Codec: media.H264, Timescale: 90000}
	config = aac.Config{ObjectType: 2, SampleRate: 48000, OutputRate: 48000, Channels: 2}
	sound  = &media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000}
)

// input makes a segment of so many pictures and the sound that goes with them, from a time on.
func input(from int64, pictures, size int) *Input {
	in := &Input{Video: video, Audio: sound, FrameHeader: config.ADTS}
	for n := range int64(pictures) {
		nal := make([]byte, size+int(n)%7)
		nal[0] = 0x41
		if n == 0 {
			nal[0] = 0x65
		}
		at := from + n*3000
		in.VideoUnits = append(in.VideoUnits, media.AccessUnit{DTS: at, PTS: at + 6000, Key: n == 0, Data: avc.AppendNAL(nil, nal)})
	}
	for n := int64(0); n*1024*90/48 < int64(pictures)*3000; n++ {
		at := from*48/90 + n*1024
		in.AudioUnits = append(in.AudioUnits, media.AccessUnit{DTS: at, PTS: at, Key: true, Data: []byte{1, 2, byte(n)}})
	}
	return in
}

func TestSegmentsReadBackWithinTheStandardsBounds(t *testing.T) {
	for _, size := range []int{1, 20, 150, 183, 184, 185, 4000, 70_000} {
		t.Run(fmt.Sprint(size), func(t *testing.T) {
			in := input(1<<33-90_000, 60, size) // the times wrap on the way
			in.Meta = []Meta{{PTS: in.VideoUnits[0].PTS, Tag: []byte("ID3\x04")}}
			s, err := Read(Segment(in))
			require.NoError(t, err)
			assert.Empty(t, s.Faults)
			assert.Equal(t, pidVideo, s.ClockPID)
			v, a, m := s.First(TypeH264), s.First(TypeAAC), s.First(TypeID3)
			require.Len(t, v.PES, 60)
			require.Len(t, m.PES, 1)
			assert.Equal(t, "ID3\x04", string(m.PES[0].Data))
			for i, p := range v.PES {
				u := in.VideoUnits[i]
				assert.Equal(t, [2]int64{u.PTS & (1<<33 - 1), u.DTS & (1<<33 - 1)}, [2]int64{p.PTS, p.DTS})
				assert.Equal(t, u.Key, p.Random)
				nals := avc.SplitAnnexB(p.Data)
				assert.Equal(t, avc.TypeAUD, avc.NALType(nals[0]))
				assert.Equal(t, u.Data[4], nals[1][0])
			}
			frames := 0
			for _, p := range a.PES {
				frames += len(p.Data) / 10
			}
			assert.Equal(t, len(in.AudioUnits), frames)
			for pid, c := range s.Counters {
				assert.Equal(t, [2]byte{0, 15}, c, "PID %d: segments join without a jump of their counters", pid)
			}
		})
	}
}

// TestLongTagsTakeMorePackets: a packet tells its length in 16 bits, and a tag with a cover picture is longer.
func TestLongTagsTakeMorePackets(t *testing.T) {
	tag := make([]byte, 150_000)
	for i := range tag {
		tag[i] = byte(i % 251)
	}
	in := input(90_000, 30, 300)
	in.Meta = []Meta{{PTS: in.VideoUnits[0].PTS, Tag: tag}}
	s, err := Read(Segment(in))
	require.NoError(t, err)
	assert.Empty(t, s.Faults)
	var got []byte
	for _, p := range s.First(TypeID3).PES {
		assert.Equal(t, in.VideoUnits[0].PTS, p.PTS)
		got = append(got, p.Data...)
	}
	assert.Equal(t, tag, got)
	assert.Len(t, s.First(TypeH264).PES, 30, "the pictures beside it are whole")
}

func TestClocksKeepTheirDistance(t *testing.T) {
	for _, rate := range []int64{3000, 9000, 45_000} { // 30, 10 and 2 pictures per second
		in := input(90_000, 1, 500)
		in.VideoUnits = nil
		for n := range 180_000 / rate {
			in.VideoUnits = append(in.VideoUnits, media.AccessUnit{DTS: 90_000 + n*rate, PTS: 90_000 + n*rate, Key: n == 0, Data: avc.AppendNAL(nil, []byte{0x65, 1})})
		}
		in.AudioUnits = nil
		for n := range int64(94) {
			in.AudioUnits = append(in.AudioUnits, media.AccessUnit{DTS: 48_000 + n*1024, PTS: 48_000 + n*1024, Data: []byte{1}})
		}
		s, err := Read(Segment(in))
		require.NoError(t, err)
		assert.Empty(t, s.ClockFaults())
	}
}

func TestBrokenStreams(t *testing.T) {
	good := Segment(input(0, 30, 300))
	for name, c := range map[string]struct {
		b    []byte
		want string
	}{
		"length": {good[:1000], "multiple of 188"},
		"empty":  {nil, "multiple of 188"},
		"sync":   {append([]byte{0}, good[1:]...), "sync byte"},
		"tables": {good[2*PacketSize : 6*PacketSize], "no programme association"},
	} {
		_, err := Read(c.b)
		assert.ErrorContains(t, err, c.want, name)
	}
	lost := append(append([]byte(nil), good[:5*PacketSize]...), good[6*PacketSize:]...)
	s, err := Read(lost)
	require.NoError(t, err)
	assert.NotEmpty(t, s.Faults, "a lost packet shows in its counter")
}

func FuzzRead(f *testing.F) {
	bits.CatchRunaways()
	f.Add(Segment(input(0, 3, 30)))
	f.Fuzz(func(_ *testing.T, b []byte) {
		if s, err := Read(b); err == nil {
			s.ClockFaults()
		}
	})
}

func BenchmarkSegment(b *testing.B) {
	in := input(0, 60, 12_500)
	b.SetBytes(60 * 12_500)
	for b.Loop() {
		Segment(in)
	}
}

// TestClocksAndTablesComeInTime: of segments and of streams, at all usual rates of video and audio, beside each other and alone.
func TestClocksAndTablesComeInTime(t *testing.T) {
	for _, rate := range []int64{50, 30, 25, 24, 10} {
		for _, sounds := range []bool{true, false} {
			in := input(90_000, 1, 500)
			in.VideoUnits, in.AudioUnits = nil, nil
			m := NewMux()
			p := m.Programme(1, "Harbour")
			video, err := p.Track(&media.Track{ID: 1, Kind: media.Video, Codec: media.MPEG2})
			require.NoError(t, err)
			sound, err := p.Track(&mp3Track)
			require.NoError(t, err)
			frames := int64(0)
			for n := range 6 * rate {
				at := 90_000 + n*90_000/rate
				in.VideoUnits = append(in.VideoUnits, media.AccessUnit{DTS: at, PTS: at, Key: n == 0, Data: avc.AppendNAL(nil, append([]byte{0x65}, make([]byte, 2000)...))})
				video.Unit(at, at, n == 0, make([]byte, 2000))
				for ; sounds && frames*1920 < (n+1)*90_000/rate; frames++ {
					in.AudioUnits = append(in.AudioUnits, media.AccessUnit{DTS: 48_000 + frames*1024, PTS: 48_000 + frames*1024, Data: make([]byte, 300)})
					sound.Unit(90_000+frames*1920, 90_000+frames*1920, true, make([]byte, 300))
				}
			}
			for what, b := range map[string][]byte{"segment": Segment(in), "stream": m.Take()} {
				if what == "stream" && rate < 24 { // a stream puts nothing in between
					continue
				}
				most := int64(9_300)
				if what == "segment" { // tables there stand between two clocks, and are counted from the first
					most += pcrEvery
				}
				clock, before, table, tables := int64(-1), int64(-1), int64(-1), 0
				for p := range slices.Chunk(b, PacketSize) {
					if p[3]&0x20 != 0 && p[4] > 6 && p[5]&0x10 != 0 {
						clock = int64(binary.BigEndian.Uint32(p[6:]))<<1 | int64(p[10]>>7)
						if before >= 0 {
							assert.LessOrEqual(t, clock-before, int64(3_750), "clocks of a %s of %d pictures per second, sound %v", what, rate, sounds)
						}
						before = clock
					}
					if int(p[1]&0x1f)<<8|int(p[2]) == pidPAT && clock >= 0 {
						if tables++; table >= 0 {
							assert.LessOrEqual(t, clock-table, most, "tables of a %s of %d pictures per second, sound %v", what, rate, sounds)
						}
						table = clock
					}
				}
				assert.Greater(t, tables, 50)
			}
		}
	}
}
