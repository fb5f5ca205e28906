package coding

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// avcSPS writes a set of 1920 by 1088, with order counts of eight bits, at 25 frames per second where timed.
func avcSPS(interlaced, timed bool, reorder int) []byte {
	var w bits.Writer
	for _, v := range []uint32{77, 0, 40} {
		w.U(8, v)
	}
	for _, v := range []uint32{0, 0, 0, 4, 4} { // id, frame_num of four bits, order type 0 of eight bits, references
		w.UE(v)
	}
	w.U(1, 0)
	w.UE(119)
	if interlaced {
		w.UE(33)
		w.U(2, 0)
	} else {
		w.UE(67)
		w.U(1, 1)
	}
	w.U(2, 2) // direct 8x8, no cropping
	if !timed && reorder < 0 {
		w.U(2, 1)
		return append([]byte{0x67}, w.Bytes()...)
	}
	w.U(1, 1) // vui
	w.U(4, 0)
	if timed {
		w.U(1, 1)
		w.U(32, 0x01010101) // no start code
		w.U(32, 50*0x01010101)
		w.U(1, 1)
	} else {
		w.U(1, 0)
	}
	w.U(3, 0) // no reference decoders, no structure
	if reorder < 0 {
		w.U(1, 0)
	} else {
		w.U(2, 3)
		for range 4 {
			w.UE(0)
		}
		w.UE(uint32(reorder))
		w.UE(uint32(max(reorder, 1)))
	}
	w.U(1, 1)
	return append([]byte{0x67}, w.Bytes()...)
}

// slice is one of a picture, or of a field of one.
type slice struct {
	idr           bool
	first         uint32 // macroblock
	frame, order  uint32
	field, bottom bool
	interlaced    bool
}

func (s slice) nal() []byte {
	var w bits.Writer
	w.UE(s.first)
	w.UE(7)
	w.UE(0)
	w.U(4, s.frame)
	if s.interlaced {
		if w.U(1, 0); s.field {
			w = bits.Writer{}
			w.UE(s.first)
			w.UE(7)
			w.UE(0)
			w.U(4, s.frame)
			w.U(1, 1)
			bottom := uint32(0)
			if s.bottom {
				bottom = 1
			}
			w.U(1, bottom)
		}
	}
	kind := byte(0x41)
	if s.idr {
		kind = 0x65
		w.UE(0)
	}
	w.U(8, s.order)
	w.U(24, 0x9a5b7d)
	return append([]byte{kind}, w.Bytes()...)
}

func byteStream(nals ...[]byte) (out []byte) {
	for _, n := range nals {
		out = append(append(out, 0, 0, 0, 1), n...)
	}
	return out
}

var pps, aud, sei = []byte{0x68, 0xce, 0x3c, 0x80}, []byte{9, 0xf0}, []byte{6, 5, 2, 1, 1, 0x80}

// presented notes when pictures are presented, too.
type presented struct {
	elementarySink
	pts []int64
}

func (p *presented) Unit(stamp, composition int64, key bool, data []byte) {
	p.elementarySink.Unit(stamp, composition, key, data)
	p.pts = append(p.pts, stamp+composition)
}

// Two fields make one access unit: in one stretch with delimiters between them, in one of their own each, and as bare slices.
// One without its partner goes alone.
func TestFieldsArePaired(t *testing.T) {
	const frames = 6
	for name, split := range map[string]bool{"in one stretch": false, "in two": true} {
		for _, delimited := range []bool{true, false} {
			var s presented
			e, err := OpenElementary(Find(media.H264), nil, &s)
			require.NoError(t, err)
			var want [][]byte
			for n := range uint32(frames) {
				top := slice{idr: n == 0, frame: n, order: 2 * n, field: true, interlaced: true}.nal()
				bottom := slice{frame: n, order: 2*n + 1, field: true, bottom: true, interlaced: true}.nal()
				more := slice{first: 60, frame: n, order: 2*n + 1, field: true, bottom: true, interlaced: true}.nal()
				one, two := [][]byte{top}, [][]byte{bottom, more}
				if delimited {
					one, two = [][]byte{aud, sei, top}, [][]byte{aud, sei, bottom, more}
				}
				if n == 0 {
					one = append([][]byte{avcSPS(true, true, -1), pps}, one...)
				}
				at := int64(n) * 3600
				if split {
					require.NoError(t, e.Feed(at, 0, byteStream(one...)))
					require.NoError(t, e.Feed(at+1800, 0, byteStream(two...)))
				} else {
					require.NoError(t, e.Feed(at, 0, byteStream(append(one, two...)...)))
				}
				var unit []byte
				for _, nal := range append(one, two...) {
					if k := avc.NALType(nal); k != avc.TypeAUD && k != avc.TypeSPS && k != avc.TypePPS {
						unit = avc.AppendNAL(unit, nal)
					}
				}
				want = append(want, unit)
			}
			require.Len(t, s.units, frames, name)
			assert.Equal(t, want, s.units, name)
			assert.Equal(t, []int64{0, 3600, 7200, 10800, 14400, 18000}, s.stamps, name)
			assert.Equal(t, []bool{true, false, false, false, false, false}, s.keys, name)

			lone := slice{frame: 7, order: 14, field: true, interlaced: true}.nal()
			require.NoError(t, e.Feed(25200, 0, byteStream(aud, lone)))
			next := slice{frame: 8, order: 16, interlaced: true}.nal()
			require.NoError(t, e.Feed(28800, 0, byteStream(aud, next)))
			assert.Equal(t, []int64{25200, 28800}, s.stamps[frames:])
			require.NoError(t, e.Feed(32400, 0, byteStream(aud, lone)))
			e.Lost()
			assert.Len(t, s.units, frames+3)
		}
	}
}

// Several pictures in one stretch have the time of the first alone: the others follow from the frame rate and the order of
// output, with delimiters or without them.
func TestPicturesWithoutTimes(t *testing.T) {
	for name, timed := range map[string]bool{"told rate": true, "measured rate": false} {
		for step, delimiter := range map[uint32][][]byte{2: nil, 1: {aud}} {
			var s presented
			e, err := OpenElementary(Find(media.H264), nil, &s)
			require.NoError(t, err)
			for gop := range int64(4) {
				var nals [][]byte
				nals = append(nals, avcSPS(false, timed, 2), pps)
				for n, order := range []uint32{0, 3, 1, 2, 6, 4, 5} { // I P B B P B B
					nals = append(append(nals, delimiter...), slice{idr: n == 0, frame: uint32(n), order: order * step}.nal())
				}
				require.NoError(t, e.Feed(gop*7*3600, 3600, byteStream(nals...)))
			}
			require.Len(t, s.units, 28, name)
			for n := range s.units {
				if !timed && n < 7 {
					continue // the second stretch tells
				}
				gop, in := int64(n/7), n%7
				assert.Equal(t, int64(n)*3600, s.stamps[n], "%s %d %d", name, step, n)
				assert.Equal(t, (gop*7+[]int64{0, 3, 1, 2, 6, 4, 5}[in]+1)*3600, s.pts[n], "%s %d %d", name, step, n)
			}
		}
	}
}

func TestSetsTellTheOrder(t *testing.T) {
	for _, depth := range []int{0, 1, 2, 4} {
		sps, err := avc.ParseSPS(avcSPS(false, true, depth))
		require.NoError(t, err)
		assert.Equal(t, depth, sps.Reorder)
	}
	sps, err := avc.ParseSPS(avcSPS(true, false, -1))
	require.NoError(t, err)
	assert.Equal(t, -1, sps.Reorder)
}
