package rtpmap

import (
	"bytes"
	"encoding/hex"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/rawvideo"
)

// An access unit of several slices, of which the first is lost, is no access unit, whether its packets before were whole or not.
func TestAnAccessUnitWithoutItsHead(t *testing.T) {
	for name, nals := range map[string]struct{ head, first, later []byte }{
		"H264": {[]byte{0x67, 1, 2, 3}, []byte{0x65, 0x88, 1}, []byte{0x65, 0x40, 9}},
		"H265": {[]byte{33 << 1, 1, 2, 3}, []byte{19 << 1, 1, 0x80, 1}, []byte{19 << 1, 1, 0x20, 1}},
	} {
		d, err := New(&Format{Name: name})
		require.NoError(t, err)
		var got []uint32
		send := func(stamp uint32, lost bool, payloads ...[]byte) {
			for i, b := range payloads {
				d.Packet(&Packet{Timestamp: stamp, Marker: i == len(payloads)-1, Payload: b}, lost && i == 0, func(u Unit) { got = append(got, u.Timestamp) })
			}
		}
		send(1, false, nals.head, nals.first, nals.later)
		send(2, true, nals.later)             // its first slice is missing
		send(3, true, nals.first, nals.later) // packets of others are
		send(4, true, nals.head, nals.later)  // the head came, the first slice did not
		send(5, false, nals.first, nals.later)
		assert.Equal(t, []uint32{1, 3, 5}, got, name)
	}
}

// Frames of Enhanced AC-3 come whole, several in a packet, or in fragments, of which one may be lost.
func TestFragmentsOfEnhancedAC3(t *testing.T) {
	d, err := New(&Format{Name: "EAC3"})
	require.NoError(t, err)
	frame := append([]byte{0x0b, 0x77}, bytes.Repeat([]byte{5}, 2998)...)
	var got []Unit
	send := func(stamp uint32, skip int) {
		for i := range 3 {
			if i != skip {
				d.Packet(&Packet{Timestamp: stamp, Marker: i == 2, Payload: slices.Concat([]byte{1, 3}, frame[i*1000:(i+1)*1000])}, i-1 == skip && skip >= 0, func(u Unit) { got = append(got, u) })
			}
		}
	}
	send(1, -1)
	for skip := range 3 {
		send(uint32(2+skip), skip)
	}
	send(9, -1)
	d.Packet(&Packet{Timestamp: 10, Payload: slices.Concat([]byte{0, 2}, frame, frame)}, false, func(u Unit) { got = append(got, u) })
	assert.Equal(t, []Unit{{1, frame}, {9, frame}, {10, slices.Concat(frame, frame)}}, got)
}

// Audio mux elements whose configuration the description tells hold frames alone.
func TestElementsWithAConfigurationApart(t *testing.T) {
	const config = "400026203fc0" // AAC-LC, 24 kHz, stereo: one programme, one layer
	d, err := New(&Format{Name: "MP4A-LATM", Parameters: map[string]string{"cpresent": "0", "config": config}})
	require.NoError(t, err)
	frame := bytes.Repeat([]byte{0xa5}, 300)
	var got []Unit
	d.Packet(&Packet{Timestamp: 7, Marker: true, Payload: slices.Concat([]byte{255, 45}, frame)}, false, func(u Unit) { got = append(got, u) })
	assert.Equal(t, []Unit{{7, frame}}, got)
	_, err = New(&Format{Name: "MP4A-LATM", Parameters: map[string]string{"cpresent": "0"}})
	assert.ErrorContains(t, err, "StreamMuxConfig")
	_, err = hex.DecodeString(config)
	require.NoError(t, err)
}

// Packets of raw video that each begin a picture cost no picture each.
func TestPiecesOfRawPicturesCostLittle(t *testing.T) {
	of := rawvideo.Format{Width: 1920, Height: 1080, Depth: 8}
	d, err := New(&Format{Name: "RAW", Parameters: map[string]string{"sampling": "YCbCr-4:2:2", "width": "1920", "height": "1080", "depth": "8"}})
	require.NoError(t, err)
	pictures := 0
	take := func(Unit) { pictures++ }
	whole := pictureOf(&of, 1)
	for line := range of.Height {
		head := []byte{0, 0, byte(of.LineBytes() >> 8), byte(of.LineBytes() & 255), byte(line >> 8), byte(line), 0, 0}
		d.Packet(&Packet{Timestamp: 1, Marker: line == of.Height-1, Payload: slices.Concat(head, whole[line*of.LineBytes():(line+1)*of.LineBytes()])}, false, take)
	}
	require.Equal(t, 1, pictures)
	n := uint32(2)
	allocated := testing.AllocsPerRun(200, func() {
		d.Packet(&Packet{Timestamp: n, Payload: []byte{0, 0, 0, 4, 0, 1, 0, 0, 1, 2, 3, 4}}, false, take)
		n++
	})
	assert.Less(t, allocated, 3.0)
	assert.Equal(t, 1, pictures, "a picture of which nearly nothing came is none")
}
