package rtpmap

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/rawvideo"
)

func rawFormat(depth int, more map[string]string) (*Format, rawvideo.Format) {
	f := &Format{Name: "RAW", Clock: 90000, Parameters: map[string]string{"sampling": "YCbCr-4:2:2", "width": "64", "height": "36", "depth": fmt.Sprint(depth)}}
	for k, v := range more {
		f.Parameters[k] = v
	}
	of, _ := rawvideo.Parse(f.Parameters)
	return f, of
}

// rawPackets cuts a picture as a sender may do that fills its packets: the end of one line, and the begin of the next.
func rawPackets(of *rawvideo.Format, picture []byte, stamp uint32, field int) (out []*Packet) {
	size, groups := of.LineBytes(), of.Width/2
	lines := of.Height
	if of.Fields {
		lines /= 2
	}
	half := groups / 2 * of.GroupBytes()
	for n := 0; n < lines; n += 2 {
		part := func(line, from, to, offset int, more bool) (head, samples []byte) {
			whole := line
			mark := byte(0)
			if of.Fields {
				whole = 2*line + field
				mark = byte(field) << 7
			}
			b := picture[whole*size+from : whole*size+to]
			head = []byte{byte(len(b) >> 8), byte(len(b)), mark | byte(line>>8), byte(line), byte(offset >> 8), byte(offset)}
			if more {
				head[4] |= 0x80
			}
			return head, b
		}
		h1, a := part(n, 0, half, 0, false)
		h2, b := part(n, half, size, groups/2*2, true)
		h3, c := part(n+1, 0, half, 0, false)
		h4, d := part(n+1, half, size, groups/2*2, false)
		for _, payload := range [][]byte{slices.Concat([]byte{0, 0}, h1, a), slices.Concat([]byte{0, 0}, h2, h3, b, c), slices.Concat([]byte{0, 0}, h4, d)} {
			out = append(out, &Packet{Timestamp: stamp, Payload: payload})
		}
	}
	out[len(out)-1].Marker = true
	return out
}

func pictureOf(of *rawvideo.Format, seed int) []byte {
	b := make([]byte, of.PictureBytes())
	for i := range b {
		b[i] = byte(i*7 + i/251 + seed)
	}
	return b
}

func TestRawPictures(t *testing.T) {
	for _, depth := range []int{8, 10} {
		f, of := rawFormat(depth, nil)
		d, err := New(f)
		require.NoError(t, err)
		var got []Unit
		take := func(u Unit) { got = append(got, u) }
		one, two, three := pictureOf(&of, 1), pictureOf(&of, 2), pictureOf(&of, 3)
		for _, p := range rawPackets(&of, one, 100, 0)[5:] {
			d.Packet(p, false, take)
		}
		assert.Empty(t, got, "the begin of the first is missing, and there is nothing to put in its place")
		for _, p := range rawPackets(&of, one, 3100, 0) {
			d.Packet(p, false, take)
		}
		list := rawPackets(&of, two, 6100, 0)
		slices.Reverse(list[:len(list)-1]) // samples lie where they belong, whatever the order
		for _, p := range list {
			d.Packet(p, false, take)
		}
		require.Len(t, got, 2)
		assert.Equal(t, []Unit{{3100, one}, {6100, two}}, got)
		// Lines are missing, and so is the last packet: those of the picture before stay.
		lost := rawPackets(&of, three, 9100, 0)
		for i, p := range lost[:len(lost)-1] {
			if i != 4 {
				d.Packet(p, i == 5, take)
			}
		}
		d.Packet(rawPackets(&of, one, 12100, 0)[0], true, take)
		require.Len(t, got, 3)
		size := of.LineBytes()
		for line := range of.Height {
			from := three
			if line == 2 || line == 3 || line == of.Height-1 { // a packet of those
				from = two
			}
			assert.Equal(t, from[line*size:(line+1)*size], got[2].Data[line*size:(line+1)*size], "line %d", line)
		}
	}
}

func TestRawFields(t *testing.T) {
	f, of := rawFormat(8, map[string]string{"interlace": ""})
	d, err := New(f)
	require.NoError(t, err)
	var got []Unit
	for n := range 3 {
		want := pictureOf(&of, n)
		for field := range 2 { // of two times
			for _, p := range rawPackets(&of, want, uint32(3000*n+1500*field), field) {
				d.Packet(p, false, func(u Unit) { got = append(got, u) })
			}
		}
		require.Len(t, got, n+1)
		assert.Equal(t, Unit{uint32(3000 * n), want}, got[n])
	}
	_, err = New(&Format{Name: "RAW", Parameters: map[string]string{"sampling": "RGB"}})
	assert.ErrorContains(t, err, "RGB")
}

// TestLinearSound: packets of a millisecond come out as units of 20, and a gap starts over.
func TestLinearSound(t *testing.T) {
	d, err := New(&Format{Name: "L24", Clock: 48000, Channels: 2})
	require.NoError(t, err)
	var got []Unit
	send := func(from, to int) {
		for at := from; at < to; at += 48 {
			b := make([]byte, 48*6)
			for i := range 96 {
				v := (at+i/2)<<8 | 0x42
				b[3*i], b[3*i+1], b[3*i+2] = byte(v>>16), byte(v>>8), byte(v)
			}
			d.Packet(&Packet{Timestamp: uint32(at), Payload: b}, false, func(u Unit) { got = append(got, u) })
		}
	}
	send(0, 960*3)
	send(10080, 10080+960)
	require.Len(t, got, 4)
	for i, at := range []int{0, 960, 1920, 10080} {
		require.EqualValues(t, at, got[i].Timestamp)
		require.Len(t, got[i].Data, 960*6)
		assert.Equal(t, []byte{0x42, byte(at + 5), byte((at + 5) >> 8)}, got[i].Data[5*6:5*6+3], "the upper bytes last")
	}
}
