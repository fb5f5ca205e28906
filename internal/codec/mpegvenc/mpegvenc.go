// Package mpegvenc encodes MPEG-2 video for loops and tests: intra pictures whose blocks of eight by eight samples are
// even (ISO/IEC 13818-2, with the mean of each block as its only coefficient). What is drawn in such blocks comes out
// as it went in.
package mpegvenc

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Encoder encodes one film.
type Encoder struct {
	width, height int
	rate          uint32 // frame_rate_code
	interlaced    bool
	count         uint32
}

// rates is table 6-4.
var rates = map[media.Rational]uint32{{Num: 24, Den: 1}: 2, {Num: 25, Den: 1}: 3, {Num: 30000, Den: 1001}: 4, {Num: 30, Den: 1}: 5, {Num: 50, Den: 1}: 6, {Num: 60, Den: 1}: 8}

// New makes an encoder. With interlaced, the even lines of each picture are shown before the odd ones.
func New(width, height int, rate media.Rational, interlaced bool) (*Encoder, error) {
	code, known := rates[rate]
	if !known || width < 16 || height < 16 || width > 4095 || height > 2800 {
		return nil, fmt.Errorf("MPEG-2 encoder: found %dx%d at %d/%d, expected 16x16 to 4095x2800 at a rate of the standard", width, height, rate.Num, rate.Den)
	}
	return &Encoder{width: width, height: height, rate: code, interlaced: interlaced}, nil
}

// unit is an access unit that is being written.
type unit struct {
	out []byte
	w   bits.Writer
	dc  [3]int // predictors of luma and chroma
}

// start begins what a start code announces.
func (u *unit) start(code byte) {
	u.end()
	u.out = append(u.out, 0, 0, 1, code)
	u.w = bits.Writer{}
}

func (u *unit) end() { u.out, u.w = append(u.out, u.w.Bytes()...), bits.Writer{} }

func (u *unit) flag(on bool) {
	if on {
		u.w.U(1, 1)
	} else {
		u.w.U(1, 0)
	}
}

// Encode encodes a picture. Every one is a random access point.
func (e *Encoder) Encode(p *picture.Picture, pts int64) media.AccessUnit {
	u := &unit{}
	e.heads(u)
	rows := (e.height + 15) / 16
	if e.interlaced {
		rows = (e.height + 31) / 32 * 2
	}
	for row := range rows {
		u.start(byte(row + 1))
		u.w.U(5, 1) // quantiser_scale_code
		u.w.U(1, 0) // extra_bit_slice
		u.dc = [3]int{128, 128, 128}
		for column := range (e.width + 15) / 16 {
			e.macroblock(u, p, column, row)
		}
	}
	u.end()
	e.count++
	return media.AccessUnit{DTS: pts, PTS: pts, Key: true, Data: u.out}
}

// heads writes what stands before the slices (6.2.2 to 6.2.3.1).
func (e *Encoder) heads(u *unit) {
	u.start(0xb3)
	u.w.U(12, uint32(e.width))
	u.w.U(12, uint32(e.height))
	u.w.U(4, 1) // square samples
	u.w.U(4, e.rate)
	u.w.U(18, 0x3ffff)
	u.w.U(1, 1)
	u.w.U(10, 112)
	u.w.U(3, 0)
	u.start(0xb5)
	u.w.U(4, 1)
	u.w.U(8, 0x44) // Main profile, High level
	u.flag(!e.interlaced)
	u.w.U(2, 1) // 4:2:0
	u.w.U(2+2+12, 0)
	u.w.U(1, 1)
	u.w.U(8+1+2+5, 0)
	u.start(0xb8)
	u.w.U(25, 1<<12)
	u.w.U(2, 2) // closed
	u.start(0x00)
	u.w.U(10, 0)
	u.w.U(3, 1)
	u.w.U(16, 0xffff)
	u.w.U(1, 0)
	u.start(0xb5)
	u.w.U(4, 8)
	u.w.U(16, 0xffff)
	u.w.U(2, 0) // eight bits of DC
	u.w.U(2, 3) // a frame
	u.flag(e.interlaced)
	u.flag(!e.interlaced)
	u.w.U(5, 0)
	u.flag(!e.interlaced)
	u.flag(!e.interlaced)
	u.w.U(1, 0)
}

// macroblock writes one (6.2.5): four blocks of luma, by fields in interlaced pictures, and two of chroma.
func (e *Encoder) macroblock(u *unit, p *picture.Picture, column, row int) {
	u.w.U(2, 3) // the next one; intra
	if e.interlaced {
		u.w.U(1, 1) // dct_type: by fields
	}
	for i := range 4 {
		x, y, step := column*16+i%2*8, row*16+i/2*8, 1
		if e.interlaced {
			y, step = row*16+i/2, 2
		}
		u.luma(mean(p.Y, p.StrideY, p.Width, p.Height, x, y, step))
	}
	for i, plane := range [][]byte{p.U, p.V} {
		u.chroma(i+1, mean(plane, p.Stride, (p.Width+1)/2, (p.Height+1)/2, column*8, row*8, 1))
	}
}

// mean is that of the samples of a block; those outside the picture are as the ones at its edge.
func mean(plane []byte, stride, width, height, x, y, step int) int {
	sum := 0
	for dy := range 8 {
		line := plane[min(y+dy*step, height-1)*stride:]
		for dx := range 8 {
			sum += int(line[min(x+dx, width-1)])
		}
	}
	return (sum + 32) / 64
}

// lumaSizes and chromaSizes are tables B.12 and B.13: bits and code by the size of the difference.
var (
	lumaSizes   = [9][2]int{{3, 4}, {2, 0}, {2, 1}, {3, 5}, {3, 6}, {4, 14}, {5, 30}, {6, 62}, {7, 126}}
	chromaSizes = [9][2]int{{2, 0}, {2, 1}, {2, 2}, {3, 6}, {4, 14}, {5, 30}, {6, 62}, {7, 126}, {8, 254}}
)

func (u *unit) luma(v int)          { u.block(0, v, &lumaSizes) }
func (u *unit) chroma(which, v int) { u.block(which, v, &chromaSizes) }

// block writes a block whose samples are all v.
func (u *unit) block(which, v int, sizes *[9][2]int) {
	d := v - u.dc[which]
	u.dc[which] = v
	size := 0
	for n := max(d, -d); n > 0; n >>= 1 {
		size++
	}
	u.w.U(sizes[size][0], uint32(sizes[size][1]))
	if d < 0 {
		d += 1<<size - 1
	}
	if size > 0 {
		u.w.U(size, uint32(d))
	}
	u.w.U(2, 2) // end of block
}
