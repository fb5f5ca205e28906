// Package bits reads and writes single bits, most significant first, and the Exp-Golomb codes
// of ITU-T H.264, 9.1.
package bits

import (
	"bytes"

	"metaplasis/internal/core/media"
)

// Reader takes bits from a byte slice. The first read past the end sets an error that stays;
// every read after that returns 0, so a parser may check once at its end.
type Reader struct {
	buf   []byte
	pos   int // in bits
	err   error
	stray int // reads behind the error
}

// maxStray is how often a parser may read on behind an error before it counts as running away: a loop whose count
// comes from outside has to look at Err or Left.
//
//limit:reads behind an error (fuzz tests only) | each parser | the test fails: a loop does not look at its input's end
const maxStray = 1 << 12

// runaway is called when a parser reads on and on behind an error.
var runaway func()

// CatchRunaways lets a parser panic that reads on and on behind an error. Fuzz tests call it, so that they fail on input
// whose cost is out of proportion to its length.
func CatchRunaways() {
	runaway = func() { panic("a parser reads on and on behind the end of its input") }
}

// behind notes a read behind an error.
func (r *Reader) behind() {
	if r.stray++; r.stray > maxStray && runaway != nil {
		runaway()
	}
}

// NewReader reads from buf, which it does not copy.
func NewReader(buf []byte) *Reader { return &Reader{buf: buf} }

// Err returns the first error met.
func (r *Reader) Err() error { return r.err }

// Left returns the number of bits not yet read.
func (r *Reader) Left() int { return len(r.buf)*8 - r.pos }

// U reads n bits, 0 to 32.
func (r *Reader) U(n int) uint32 {
	if r.err != nil {
		r.behind()
		return 0
	}
	if n > r.Left() {
		r.err = &media.FormatError{Format: "bit string", Found: "its end", Want: "more bits"}
		return 0
	}
	var v uint32
	for n > 0 {
		free := 8 - r.pos&7
		take := min(free, n)
		b := uint32(r.buf[r.pos>>3]) >> (free - take) & (1<<take - 1)
		v = v<<take | b
		r.pos += take
		n -= take
	}
	return v
}

// Flag reads one bit.
func (r *Reader) Flag() bool { return r.U(1) == 1 }

// Skip passes over n bits, at the same cost however many they are.
func (r *Reader) Skip(n int) {
	switch {
	case r.err != nil:
		r.behind()
	case n < 0 || n > r.Left():
		r.err = &media.FormatError{Format: "bit string", Found: "its end", Want: "more bits"}
	default:
		r.pos += n
	}
}

// UE reads an unsigned Exp-Golomb code, ue(v).
func (r *Reader) UE() uint32 {
	zeros := 0
	for !r.Flag() {
		if zeros++; zeros > 31 || r.err != nil {
			if r.err == nil {
				r.err = &media.FormatError{Format: "Exp-Golomb code", Found: "32 leading zeros", Want: "31 at most"}
			}
			return 0
		}
	}
	return 1<<zeros - 1 + r.U(zeros)
}

// SE reads a signed Exp-Golomb code, se(v).
func (r *Reader) SE() int32 {
	k := r.UE()
	if k&1 == 1 {
		return int32(k/2 + 1)
	}
	return -int32(k / 2)
}

// Writer appends bits to a byte slice.
type Writer struct {
	buf []byte
	n   int // bits used in the last byte, 0 when it is full
}

// U writes the low n bits of v.
func (w *Writer) U(n int, v uint32) {
	for i := n - 1; i >= 0; i-- {
		if w.n == 0 {
			w.buf = append(w.buf, 0)
		}
		w.buf[len(w.buf)-1] |= byte(v>>i&1) << (7 - w.n)
		w.n = (w.n + 1) & 7
	}
}

// UE writes an unsigned Exp-Golomb code.
func (w *Writer) UE(v uint32) {
	v++
	n := 0
	for v>>n > 1 {
		n++
	}
	w.U(n, 0)
	w.U(n+1, v)
}

// Bytes returns what was written, its last byte padded with zeros.
func (w *Writer) Bytes() []byte { return w.buf }

// escape is what an encoder writes for two zeros that a byte up to 3 follows, with that byte behind it.
var escape = []byte{0, 0, 3}

// Unescape takes the emulation prevention bytes out of a NAL unit (ITU-T H.264, 7.4.1; H.265, 7.4.2). What comes back
// shares the unit's memory where there are none, and is not to be changed.
func Unescape(nal []byte) []byte {
	at := bytes.Index(nal, escape)
	if at < 0 {
		return nal
	}
	out := make([]byte, 0, len(nal))
	for ; at >= 0; at = bytes.Index(nal, escape) {
		out = append(out, nal[:at+2]...)
		nal = nal[at+3:]
	}
	return append(out, nal...)
}
