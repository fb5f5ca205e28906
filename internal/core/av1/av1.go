// Package av1 reads the syntax of AV1 that a packager needs: open bitstream units, sequence headers and
// the head of frame headers (AV1 Bitstream & Decoding Process Specification), and the record of
// "AV1 Codec ISO Media File Format Binding".
package av1

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// OBU types (6.2.2).
const (
	typeSequence    = 1
	typeDelimiter   = 2
	typeFrameHeader = 3
	typeFrame       = 6
	typePadding     = 15
)

// obu is one open bitstream unit.
type obu struct {
	kind    int
	whole   []byte
	payload []byte
}

// next splits the first unit off (5.3). One without a size reaches to the end.
func next(b []byte) (u obu, rest []byte, err error) {
	bad := func(found, want string) (obu, []byte, error) {
		return obu{}, nil, &media.FormatError{Format: "AV1 unit", Found: found, Want: want}
	}
	if len(b) == 0 || b[0]&0x80 != 0 {
		return bad("a forbidden bit that is set", "a unit header")
	}
	at := 1
	if b[0]&4 != 0 { // extension
		at++
	}
	size := len(b) - at
	if b[0]&2 != 0 {
		n, length := leb128(b[min(at, len(b)):])
		if length == 0 {
			return bad("a size that does not end", "8 bytes at most")
		}
		at += length
		if n > uint64(len(b)-at) {
			return bad(fmt.Sprintf("a size of %d", n), fmt.Sprintf("%d at most", len(b)-at))
		}
		size = int(n)
	}
	if size < 0 {
		return bad("its end", "a unit header")
	}
	return obu{kind: int(b[0] >> 3 & 15), whole: b[:at+size], payload: b[at : at+size]}, b[at+size:], nil
}

// leb128 reads a number of 7 bits a byte (4.10.5); length is 0 when it does not end.
func leb128(b []byte) (v uint64, length int) {
	for i := range min(len(b), 8) {
		v |= uint64(b[i]&0x7f) << (7 * i)
		if b[i]&0x80 == 0 {
			return v, i + 1
		}
	}
	return 0, 0
}

// Unit is what a temporal unit tells.
type Unit struct {
	Key      bool      // its first frame is a key frame that is shown: decoding may start here
	Sequence *Sequence // nil when it brings no sequence header
	Data     []byte    // without temporal delimiters and padding, as samples must be (binding, 2.4)
}

// ParseUnit reads a temporal unit. Its Data shares b unless something has to be left out.
func ParseUnit(b []byte) (u Unit, err error) {
	out, copied, framed := b[:0:0], false, false
	start := b
	for rest := b; len(rest) > 0; {
		o, after, err := next(rest)
		if err != nil {
			return u, err
		}
		switch o.kind {
		case typeDelimiter, typePadding:
			if !copied {
				out, copied = append(make([]byte, 0, len(b)), start[:len(start)-len(rest)]...), true
			}
			rest = after
			continue
		case typeSequence:
			if u.Sequence, err = parseSequence(o.payload); err != nil {
				return u, err
			}
		case typeFrameHeader, typeFrame:
			if !framed {
				framed = true
				r := bits.NewReader(o.payload)
				// show_existing_frame, frame_type, show_frame (5.9.2)
				u.Key = !r.Flag() && r.U(2) == 0 && r.Flag() && r.Err() == nil
			}
		}
		if copied {
			out = append(out, o.whole...)
		}
		rest = after
	}
	if u.Data = b; copied {
		u.Data = out
	}
	return u, nil
}

// Config is an AV1CodecConfigurationRecord (binding, 2.3).
type Config struct {
	record   []byte
	Sequence *Sequence // nil when the record holds none
}

const recordHeader = 4

// Unmarshal reads a record, which it copies.
func (c *Config) Unmarshal(b []byte) error {
	if len(b) < recordHeader || b[0] != 0x81 {
		return &media.FormatError{Format: "AV1 configuration", Found: fmt.Sprintf("%d bytes that begin with % x", len(b),
			b[:min(len(b), 1)]), Want: "at least 4 that begin with 81"}
	}
	*c = Config{record: append([]byte(nil), b...)}
	for rest := c.record[recordHeader:]; len(rest) > 0; {
		o, after, err := next(rest)
		if err != nil {
			return err
		}
		if o.kind == typeSequence {
			if c.Sequence, err = parseSequence(o.payload); err != nil {
				return err
			}
		}
		rest = after
	}
	return nil
}

// NewConfig makes the record of a sequence header.
func NewConfig(s *Sequence) []byte {
	flag := func(on bool, shift int) byte {
		if on {
			return 1 << shift
		}
		return 0
	}
	b := []byte{
		0x81, s.Profile<<5 | s.Level,
		s.Tier<<7 | flag(s.Depth > 8, 6) | flag(s.Depth == 12, 5) | flag(s.Mono, 4) | flag(s.SubsampledX,
			3) | flag(s.SubsampledY, 2) | s.Position,
		0,
	}
	n := len(s.payload)
	b = append(b, typeSequence<<3|2)
	for ; n >= 0x80; n >>= 7 {
		b = append(b, byte(n)|0x80)
	}
	return append(append(b, byte(n)), s.payload...)
}

// Track makes a video track of a record. Without a sequence header in it, the size comes with the first
// key frame: see Complete.
func (c *Config) Track() media.Track {
	t := media.Track{
		Kind: media.Video, Codec: media.AV1, Timescale: media.VideoTimescale, Config: c.record,
		SAR: media.Rational{Num: 1, Den: 1},
	}
	if s := c.Sequence; s != nil {
		t.Width, t.Height, t.FrameRate, t.Colour, t.CodecName = s.Width, s.Height, s.FrameRate, s.Colour, s.Name()
	}
	return t
}

// Complete adds to a track what its first key frame tells.
func Complete(t *media.Track, sample []byte) error {
	u, err := ParseUnit(sample)
	if err == nil && u.Sequence != nil {
		c := Config{record: NewConfig(u.Sequence), Sequence: u.Sequence}
		own := c.Track()
		t.Config, t.Width, t.Height, t.FrameRate, t.Colour, t.CodecName = own.Config, own.Width, own.Height, own.FrameRate, own.Colour, own.CodecName
	}
	return err
}
