package rtpmap

import (
	"bytes"
	"encoding/binary"
	"image"
	stdjpeg "image/jpeg"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"metaplasis/internal/core/bits"

	"github.com/pion/rtp/codecs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// payloader is what the independent writers of RTP have in common.
type payloader interface {
	Payload(mtu uint16, payload []byte) [][]byte
}

func nal(head []byte, n int, seed byte) []byte {
	b := append(slices.Clone(head), slices.Repeat([]byte{seed, 0x55, 0xaa}, n/3)...)
	return append(append([]byte{0, 0, 0, 1}, b...), 0x80)
}

// TestPayloadsOfAnIndependentWriter takes apart what another implementation put into packets.
func TestPayloadsOfAnIndependentWriter(t *testing.T) {
	frame := func(n int) []byte { return slices.Repeat([]byte{1, 2, 3, 4, 5}, n/5) }
	for _, c := range []struct {
		name  string
		f     Format
		w     payloader
		units [][]byte
	}{
		{"H.264", Format{Name: "H264"}, &codecs.H264Payloader{}, [][]byte{slices.Concat(nal([]byte{0x67}, 12, 1), nal([]byte{0x68}, 6, 2), nal([]byte{0x65}, 5000, 3)), nal([]byte{0x41}, 300, 4), nal([]byte{0x01}, 9000, 5)}},
		{"HEVC", Format{Name: "H265"}, &codecs.H265Payloader{}, [][]byte{nal([]byte{0x26, 1}, 5000, 3), nal([]byte{2, 1}, 300, 4)}},
		{"VP8", Format{Name: "VP8"}, &codecs.VP8Payloader{EnablePictureID: true}, [][]byte{frame(5000), frame(100)}},
		{"VP9", Format{Name: "VP9"}, &codecs.VP9Payloader{}, [][]byte{append([]byte{0x82, 0x49, 0x83, 0x42, 0, 1, 0xf0, 0, 0xf0}, frame(5000)...), append([]byte{0x86}, frame(200)...)}},
		{"Opus", Format{Name: "OPUS"}, &codecs.OpusPayloader{}, [][]byte{frame(100), frame(55)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := New(&c.f)
			require.NoError(t, err)
			var got []Unit
			seq := uint16(65530)
			for n, u := range c.units {
				parts := c.w.Payload(1100, u)
				for i, part := range parts {
					d.Packet(&Packet{Sequence: seq, Timestamp: uint32(3000 * n), Marker: i == len(parts)-1, Payload: part}, false, func(u Unit) { got = append(got, u) })
					seq++
				}
			}
			require.Len(t, got, len(c.units))
			for n := range got {
				assert.Equal(t, c.units[n], got[n].Data, "unit %d", n)
				assert.EqualValues(t, 3000*n, got[n].Timestamp)
			}
		})
	}
}

// TestAMissingPacketCostsItsUnitAlone loses each packet of a stream in turn.
func TestAMissingPacketCostsItsUnitAlone(t *testing.T) {
	w := &codecs.H264Payloader{}
	var packets []*Packet
	for n := range 5 {
		parts := w.Payload(500, nal([]byte{0x41}, 1600+300*n, byte(n)))
		for i, part := range parts {
			packets = append(packets, &Packet{Sequence: uint16(len(packets)), Timestamp: uint32(3000 * n), Marker: i == len(parts)-1, Payload: part})
		}
	}
	for lost := range packets {
		d, err := New(&Format{Name: "H264"})
		require.NoError(t, err)
		var got []uint32
		for i, p := range packets {
			if i != lost {
				d.Packet(p, i == lost+1, func(u Unit) { got = append(got, u.Timestamp) })
			}
		}
		assert.NotContains(t, got, packets[lost].Timestamp)
		// When the last packet of a picture is missing, nobody can tell whether one of the next was.
		assert.GreaterOrEqual(t, len(got), 3, "packet %d", lost)
	}
}

func TestAACInPackets(t *testing.T) {
	d, err := New(&Format{Name: "MPEG4-GENERIC", Parameters: map[string]string{"sampling": "YCbCr-4:2:2", "width": "32", "height": "18", "depth": "8", "sizelength": "13", "indexlength": "3", "indexdeltalength": "3"}})
	require.NoError(t, err)
	var got []Unit
	take := func(u Unit) { got = append(got, u) }
	one, two := bytes.Repeat([]byte{1}, 100), bytes.Repeat([]byte{2}, 37)
	d.Packet(&Packet{Timestamp: 1000, Marker: true, Payload: slices.Concat([]byte{0, 32, 100 >> 5, 100 & 31 << 3, 37 >> 5, 37 & 31 << 3}, one, two)}, false, take)
	big := bytes.Repeat([]byte{3}, 3000)
	for i := 0; i < 3000; i += 1000 {
		d.Packet(&Packet{Timestamp: 5000, Marker: i == 2000, Payload: slices.Concat([]byte{0, 16, byte(3000 >> 5), byte(3000 & 31 << 3)}, big[i:i+1000])}, false, take)
	}
	assert.Equal(t, []Unit{{1000, one}, {2024, two}, {5000, big}}, got)
	_, err = New(&Format{Name: "MPEG4-GENERIC"})
	assert.ErrorContains(t, err, "AAC-hbr")
	_, err = New(&Format{Name: "SPEEX"})
	assert.ErrorContains(t, err, `"SPEEX" is not supported`)
}

// TestPicturesOfJPEG sends what image/jpeg wrote, without its headers, and lets it read the result.
func TestPicturesOfJPEG(t *testing.T) {
	picture := image.NewYCbCr(image.Rect(0, 0, 64, 48), image.YCbCrSubsampleRatio420)
	for i := range picture.Y {
		picture.Y[i] = byte(i * 3)
	}
	var file bytes.Buffer
	require.NoError(t, stdjpeg.Encode(&file, picture, &stdjpeg.Options{Quality: 80}))
	b := file.Bytes()
	at := bytes.Index(b, []byte{0xff, 0xda})
	scan := b[at+2+int(binary.BigEndian.Uint16(b[at+2:])):]
	var tables []byte
	for i := bytes.Index(b, []byte{0xff, 0xdb}); len(tables) < 128; {
		n := int(binary.BigEndian.Uint16(b[i+2:]))
		for t := b[i+4 : i+2+n]; len(t) >= 65; t = t[65:] {
			tables = append(tables, t[1:65]...)
		}
		i += 2 + n
	}
	d, err := New(&Format{Name: "JPEG"})
	require.NoError(t, err)
	var got []Unit
	for off := 0; off < len(scan); off += 200 {
		head := []byte{0, byte(off >> 16), byte(off >> 8), byte(off), 1, 255, 64 / 8, 48 / 8}
		if off == 0 {
			head = append(append(head, 0, 0, 0, 128), tables...)
		}
		d.Packet(&Packet{Timestamp: 9, Marker: off+200 >= len(scan), Payload: append(head, scan[off:min(off+200, len(scan))]...)}, false, func(u Unit) { got = append(got, u) })
	}
	require.Len(t, got, 1)
	want, err := stdjpeg.Decode(bytes.NewReader(b))
	require.NoError(t, err)
	read, err := stdjpeg.Decode(bytes.NewReader(got[0].Data))
	require.NoError(t, err)
	assert.Equal(t, want.At(10, 10), read.At(10, 10))
	assert.Equal(t, want.(*image.YCbCr).Y, read.(*image.YCbCr).Y)
}

// TestPacketsAreBroughtInOrder shuffles, doubles and loses packets, within what the queue waits for.
func TestPacketsAreBroughtInOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	q := NewQueue(90000, 50*time.Millisecond)
	var got []uint16
	lost := 0
	take := func(p *Packet, n int) { got = append(got, p.Sequence); lost += n }
	type arrival struct {
		seq uint16
		at  time.Duration
	}
	var list []arrival
	missing := 0
	for n := range 2000 {
		seq := uint16(65000 + n)
		if n%97 == 50 {
			missing++
			continue
		}
		at := time.Duration(n)*time.Millisecond + time.Duration(r.IntN(8))*time.Millisecond
		list = append(list, arrival{seq, at})
		if n%31 == 0 {
			list = append(list, arrival{seq, at + 3*time.Millisecond})
		}
	}
	slices.SortStableFunc(list, func(a, b arrival) int { return int(a.at - b.at) })
	for _, a := range list {
		q.Put(&Packet{Sequence: a.seq}, a.at, take)
	}
	q.Look(time.Hour, take)
	require.Len(t, got, 2000-missing)
	for i := 1; i < len(got); i++ {
		assert.Positive(t, int16(got[i]-got[i-1]))
	}
	assert.Equal(t, missing, lost)
	assert.EqualValues(t, missing, q.Lost)
	assert.Positive(t, q.Reordered)
	assert.Positive(t, q.Twice, "what came twice")
	assert.Zero(t, q.Late, "is not late")
	q.Put(&Packet{Sequence: got[len(got)-1] - 20}, time.Hour, take)
	assert.Zero(t, q.Late)
	q.Put(&Packet{Sequence: got[0] + 50 + 97*19}, time.Hour, take)
	assert.EqualValues(t, 1, q.Late, "one that was given up")
	before := len(got)
	q.Put(&Packet{Sequence: got[len(got)-1] + 20_000}, time.Hour, take)
	assert.Len(t, got, before+1, "another stream begins at once")
	q.Put(&Packet{Sequence: got[len(got)-1] + 3}, time.Hour, take)
	assert.Equal(t, []uint16{got[len(got)-1] + 1, got[len(got)-1] + 2}, q.Missing(9))
}

// Where the parameter sets tell the order, decode times are even from the first picture on, wherever a receiver joins.
func TestDecodeTimesOfAToldOrder(t *testing.T) {
	const step = 3000
	gop := []int64{0, 4, 2, 1, 3, 8, 6, 5, 7, 12, 10, 9, 11, 16, 14, 13, 15}
	for join := range 9 {
		var o Order
		o.Expect(2, step)
		var last int64
		for n, at := range gop[join:] {
			dts := o.Decode(at*step + 900_000)
			assert.LessOrEqual(t, dts, at*step+900_000)
			if n > 0 {
				assert.True(t, n < 6 || dts > last, "joined at %d, picture %d", join, n)
				assert.True(t, join > 0 || dts == last+step, "joined at %d, picture %d", join, n)
				assert.True(t, n < 6 || (dts-last)%step == 0, "joined at %d, picture %d", join, n)
			}
			last = dts
		}
	}
}

// TestDecodeTimes gives pictures that are shown in another order than they come.
func TestDecodeTimes(t *testing.T) {
	for name, c := range map[string]struct{ shown []int64 }{
		"as they come":   {[]int64{0, 1, 2, 3, 4, 5, 6, 7, 8}},
		"one B picture":  {[]int64{0, 2, 1, 4, 3, 6, 5, 8, 7}},
		"a pyramid of B": {[]int64{0, 4, 2, 1, 3, 8, 6, 5, 7, 12, 10, 9, 11, 16, 14, 13, 15}},
		"it starts over": {[]int64{500, 501, 502, 0, 1, 2, 3}},
	} {
		t.Run(name, func(t *testing.T) {
			var o Order
			last := int64(-1 << 62)
			for n, p := range c.shown {
				dts := o.Decode(p * 3000)
				assert.LessOrEqual(t, dts, p*3000)
				if n > 6 && name != "it starts over" {
					assert.Greater(t, dts, last, "picture %d", n)
				}
				last = dts
			}
		})
	}
}

func FuzzDepacketizers(f *testing.F) {
	bits.CatchRunaways()
	f.Add(byte(0), []byte{0x7c, 0x85, 1, 2, 3})
	f.Add(byte(2), []byte{0x90, 0x80, 1, 0x10, 2, 0, 0x9d, 1, 0x2a})
	f.Add(byte(4), []byte{0x10, 0x0a, 1, 2, 3, 4})
	names := []string{"H264", "H265", "VP8", "VP9", "AV1", "MPV", "MPA", "AC3", "MP4A-LATM", "JPEG", "L24", "MPEG4-GENERIC", "RAW"}
	f.Fuzz(func(t *testing.T, which byte, b []byte) {
		d, err := New(&Format{Name: names[int(which)%len(names)], Parameters: map[string]string{"sizelength": "13", "indexlength": "3", "indexdeltalength": "3"}})
		require.NoError(t, err)
		stamp := uint32(0)
		for c := range slices.Chunk(b, 40) {
			d.Packet(&Packet{Timestamp: stamp, Marker: c[0]&1 == 1, Payload: c[1:]}, c[0]&2 == 2, func(u Unit) { _ = u.Data[len(u.Data)-1] })
			if c[0]&4 == 4 {
				stamp += 3000
			}
		}
	})
}

func TestClocksThatCannotBe(t *testing.T) {
	for _, clock := range []int64{-1, 0, 1, 999, 1 << 40} {
		require.ErrorContains(t, (&Format{Name: "H264", Clock: clock}).Check(), "ticks a second", "%d", clock)
	}
}
