package coding

import (
	"bytes"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// elementarySink notes what an elementary stream holds.
type elementarySink struct {
	tracks []media.Track
	stamps []int64
	keys   []bool
	units  [][]byte
}

func (s *elementarySink) Track(t media.Track) { s.tracks = append(s.tracks, t) }

func (s *elementarySink) Unit(stamp, _ int64, key bool, data []byte) {
	s.stamps, s.keys, s.units = append(s.stamps, stamp), append(s.keys, key), append(s.units, bytes.Clone(data))
}

func openElementary(t *testing.T, id media.Codec, config []byte) (*Elementary, *elementarySink) {
	s := &elementarySink{}
	e, err := OpenElementary(Find(id), config, s)
	require.NoError(t, err)
	return e, s
}

var stereo48 = aac.Config{ObjectType: aac.TypeLC, SampleRate: 48000, OutputRate: 48000, Channels: 2}

// TestFramesOfSoundAreCut feeds frames in stretches that end anywhere, with noise among them.
func TestFramesOfSoundAreCut(t *testing.T) {
	adts := func(n int) []byte { return append(stereo48.ADTS(n), bytes.Repeat([]byte{9}, n)...) }
	mp3 := append([]byte{0xff, 0xfb, 0x90, 0x00}, make([]byte, 417-4)...) // 128 kbit/s at 44.1 kHz
	ac3 := append([]byte{0x0b, 0x77, 0, 0, 0x00, 0x40, 0x43, 0xe1}, make([]byte, 128-8)...)
	opus := append([]byte{0x7f, 0xe0, 100}, append([]byte{0xfc}, make([]byte, 99)...)...)
	for _, c := range []struct {
		name   string
		codec  media.Codec
		frame  []byte
		unit   int   // bytes of a unit
		length int64 // ticks of 90 kHz that it lasts
		is     media.Codec
	}{
		{"ADTS", media.AAC, adts(200), 200, 1920, media.AAC},
		{"MP3", media.MP3, mp3, 417, 2351, media.MP3},
		{"AC-3", media.AC3, ac3, 128, 2880, media.AC3},
		{"Opus", media.Opus, opus, 100, 1800, media.Opus},
	} {
		t.Run(c.name, func(t *testing.T) {
			all := bytes.Repeat(c.frame, 12)
			for _, size := range []int{len(all), 3*len(c.frame) + 5, len(c.frame) - 1} {
				e, s := openElementary(t, c.codec, nil)
				for at := 0; at < len(all); at += size {
					// The stamp is that of the first frame that begins in the stretch.
					first := int64((at + len(c.frame) - 1) / len(c.frame))
					require.NoError(t, e.Feed(5000+first*c.length, 0, slices.Clone(all[at:min(at+size, len(all))])))
				}
				require.Len(t, s.units, 12, "stretches of %d bytes", size)
				require.Len(t, s.tracks, 1)
				assert.Equal(t, c.is, s.tracks[0].Codec)
				for n := range s.units {
					assert.Len(t, s.units[n], c.unit)
					assert.InDelta(t, 5000+int64(n)*c.length, s.stamps[n], 12, "frame %d", n)
				}
			}
			e, s := openElementary(t, c.codec, nil)
			assert.Error(t, e.Feed(0, 0, append([]byte("noise that is no frame"), c.frame...)))
			assert.Len(t, s.units, 1)
			assert.Positive(t, e.Broken)
		})
	}
}

// TestAFalseSyncWordIsNoFrame: behind damage, bytes that look like the head of a frame are one only if another one follows.
func TestAFalseSyncWordIsNoFrame(t *testing.T) {
	frame := append(stereo48.ADTS(200), bytes.Repeat([]byte{9}, 200)...)
	mono := aac.Config{ObjectType: aac.TypeLC, SampleRate: 16000, OutputRate: 16000, Channels: 1}
	damage := append([]byte("noise"), mono.ADTS(60)...) // and nothing of it
	for _, piece := range []int{10_000, 100, 7, 1} {
		e, s := openElementary(t, media.AAC, nil)
		all := slices.Concat(frame, frame, damage, bytes.Repeat(frame, 4))
		for part := range slices.Chunk(all, piece) {
			_ = e.Feed(-1, 0, slices.Clone(part))
		}
		assert.Len(t, s.tracks, 1, "in pieces of %d bytes", piece)
		assert.Len(t, s.units, 6)
		for _, u := range s.units {
			assert.Len(t, u, 200)
		}
	}
}

// TestSoundThatChangesIsTold: frames that describe themselves tell of other channels, but one alone may be damaged.
func TestSoundThatChangesIsTold(t *testing.T) {
	frame := func(mode byte) []byte {
		return append([]byte{0x0b, 0x77, 0, 0, 0x00, 0x40, mode, 0xe1}, make([]byte, 128-8)...)
	}
	stereo, surround := frame(0x43), frame(0xe1)
	e, s := openElementary(t, media.AC3, nil)
	require.NoError(t, e.Feed(0, 0, slices.Concat(bytes.Repeat(stereo, 5), surround, bytes.Repeat(stereo, 5))))
	require.Len(t, s.tracks, 1)
	require.Len(t, s.units, 11)
	require.NoError(t, e.Feed(90_000, 0, bytes.Repeat(surround, 5)))
	require.Len(t, s.tracks, 2)
	assert.Equal(t, []int{2, 6}, []int{s.tracks[0].Channels, s.tracks[1].Channels})
	assert.Len(t, s.units, 16)
}

// TestPicturesThatChangeAreTold: a broadcaster's MPEG-2 goes from 4:3 to 16:9 at a sequence header (ISO/IEC 13818-2, 6.3.3).
func TestPicturesThatChangeAreTold(t *testing.T) {
	sequence := func(width, height int, aspect byte) []byte {
		return []byte{0, 0, 1, 0xb3, byte(width >> 4), byte(width<<4) | byte(height>>8), byte(height), aspect<<4 | 3, 0x13, 0x88, 0x20, 0x00,
			0, 0, 1, 0xb5, 0x14, 0x82, 0, 1, 0, 0, 0, 0, 1, 0x00, 0, 0x0f, 0xff, 0xf8, 0, 0, 1, 0x01, 0x12, 0x34}
	}
	e, s := openElementary(t, media.MPEG2, nil)
	require.NoError(t, e.Feed(0, 0, sequence(720, 576, 2)))
	require.Len(t, s.tracks, 1)
	same, other := Renew(&s.tracks[0], sequence(720, 576, 2))
	assert.False(t, other)
	assert.Equal(t, s.tracks[0].SAR, same.SAR)
	for _, next := range [][]byte{sequence(720, 576, 3), sequence(704, 576, 2)} {
		_, other = Renew(&s.tracks[0], next)
		assert.True(t, other)
	}
}

// TestLATM writes audio mux elements bit by bit, whose configuration comes with the first.
func TestLATM(t *testing.T) {
	element := func(config bool, frames ...[]byte) []byte {
		var w bits.Writer
		if config {
			w.U(1, 0) // useSameStreamMux
			w.U(1, 0) // audioMuxVersion
			w.U(1, 1)
			w.U(6, uint32(len(frames)-1))
			w.U(4+3, 0)
			for _, b := range stereo48.Marshal() {
				w.U(8, uint32(b))
			}
			w.U(3, 0)
			w.U(8, 0xff)
			w.U(2, 0)
		} else {
			w.U(1, 1)
		}
		for _, f := range frames {
			for n := len(f); ; n -= 255 {
				w.U(8, uint32(min(n, 255)))
				if n < 255 {
					break
				}
			}
			for _, b := range f {
				w.U(8, uint32(b))
			}
		}
		b := w.Bytes()
		return append([]byte{0x56, 0xe0 | byte(len(b)>>8), byte(len(b))}, b...)
	}
	one, two, three := bytes.Repeat([]byte{0xa1}, 300), bytes.Repeat([]byte{0xb2}, 255), []byte{0xc3, 1, 2}
	e, s := openElementary(t, media.AAC, nil)
	require.NoError(t, e.Feed(0, 0, element(false, one, two)), "without a configuration yet")
	assert.Empty(t, s.units)
	require.NoError(t, e.Feed(9000, 0, slices.Concat(element(true, one, two), element(false, three, one))))
	assert.Equal(t, [][]byte{one, two, three, one}, s.units)
	assert.Equal(t, []int64{9000, 10920, 12840, 14760}, s.stamps)
	assert.Equal(t, "mp4a.40.2", s.tracks[0].CodecName)
	require.Error(t, e.Feed(0, 0, []byte{0x56, 0xe0, 4, 0x20, 0xff, 0xff, 0xff, 0x56, 0xe0, 0}), "more programmes than are read")
}

// TestNALUnitsAreCut takes H.264 out of a byte stream: delimiters and parameter sets go, whose change is told, and two
// access units in one stretch come apart.
func TestNALUnitsAreCut(t *testing.T) {
	sets := [][]byte{}
	var c avc.Config
	require.NoError(t, c.Unmarshal(testAVCRecord(t)))
	sets = append(append(sets, c.SPS...), c.PPS...)
	stream := func(nals ...[]byte) (out []byte) {
		for _, n := range nals {
			out = append(append(out, 0, 0, 0, 1), n...)
		}
		return out
	}
	idr, slice, aud := []byte{0x65, 0x88, 1, 2, 3}, []byte{0x41, 0x9a, 4, 5}, []byte{9, 0xf0}
	second := []byte{0x41, 0x5a, 4, 5} // of the same picture: it begins with a later macroblock
	e, s := openElementary(t, media.H264, nil)
	require.NoError(t, e.Feed(0, 0, stream(aud, slice)), "nothing is known yet")
	assert.Empty(t, s.units)
	require.NoError(t, e.Feed(3000, 0, stream(append([][]byte{aud}, append(sets, idr)...)...)))
	require.NoError(t, e.Feed(6000, 0, stream(aud, slice, second, aud, slice)))
	require.Len(t, s.units, 3)
	assert.Equal(t, avc.AppendNAL(nil, idr), s.units[0])
	assert.Equal(t, avc.AppendNAL(avc.AppendNAL(nil, slice), second), s.units[1])
	assert.Equal(t, []bool{true, false, false}, s.keys)
	assert.EqualValues(t, []int64{3000, 6000}, s.stamps[:2])
	require.Len(t, s.tracks, 1)
	assert.Equal(t, testAVCRecord(t), s.tracks[0].Config)
	assert.ErrorContains(t, e.Feed(0, 0, []byte{1, 2, 3, 4}), "without a start code")
	// What a line carries of them is cut again into the same.
	l, ok := ForLine(&s.tracks[0])
	require.True(t, ok)
	e2, s2 := openElementary(t, media.H264, nil)
	for n, u := range s.units {
		require.NoError(t, e2.Feed(s.stamps[n], 0, l.Write(nil, u, s.keys[n])))
	}
	assert.Equal(t, s.units, s2.units)
	assert.Equal(t, s.tracks, s2.tracks)
}

func FuzzElementary(f *testing.F) {
	bits.CatchRunaways()
	f.Add(byte(0), []byte{0, 0, 1, 9, 0xf0, 0, 0, 1, 0x65, 1})
	f.Add(byte(6), []byte{0x56, 0xe0, 9, 0x20, 0, 0x11, 0x90, 0, 0, 1, 2, 3, 4})
	var ids []media.Codec
	for i := range table {
		if table[i].elementary != nil {
			ids = append(ids, table[i].ID)
		}
	}
	f.Fuzz(func(t *testing.T, which byte, b []byte) {
		s := &elementarySink{}
		e, err := OpenElementary(Find(ids[int(which)%len(ids)]), nil, s)
		require.NoError(t, err)
		for c := range slices.Chunk(b, 50) {
			_ = e.Feed(0, 0, slices.Clone(c))
		}
		assert.LessOrEqual(t, len(e.pending), maxPending)
	})
}

// testAVCRecord is the configuration of a small picture, written bit by bit.
func testAVCRecord(t *testing.T) []byte {
	var w bits.Writer
	for _, v := range []uint32{66, 0xc0, 30} { // Baseline
		w.U(8, v)
	}
	for _, v := range []uint32{0, 0, 2, 1} { // id, frame number, order by output, references
		w.UE(v)
	}
	w.U(1, 0)
	w.UE(19) // 320
	w.UE(14) // 240
	w.U(1, 1)
	w.U(1, 1)
	w.U(1, 0)
	w.U(1, 0)
	w.U(1, 1)
	c := avc.Config{LengthSize: 4, SPS: [][]byte{append([]byte{0x67}, w.Bytes()...)}, PPS: [][]byte{{0x68, 0xce, 0x3c, 0x80 | 1}}}
	record := c.Marshal()
	_, err := avcTrack(record)
	require.NoError(t, err)
	return record
}
