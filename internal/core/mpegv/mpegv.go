// Package mpegv reads the headers of MPEG-2 video (ISO/IEC 13818-2, 6.2).
package mpegv

import (
	"bytes"
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Start codes (table 6-1) and the identifier of the sequence extension (table 6-2).
const (
	codePicture   = 0x00
	codeSequence  = 0xb3
	codeExtension = 0xb5
	codeGroup     = 0xb8

	sequenceExtension = 1
	typeIntra         = 1 // picture_coding_type
)

// longestHeader bounds a header with all of its quantiser matrices, in bytes.
const longestHeader = 160

// Sequence is what a sequence header and its extension tell.
type Sequence struct {
	Width, Height int
	Aspect        uint8 // aspect_ratio_information
	FrameRate     media.Rational
	Profile       uint8 // profile_and_level_indication; 0 of MPEG-1 video
	Progressive   bool
	Chroma        uint8 // 1: 4:2:0, 2: 4:2:2, 3: 4:4:4
	Config        []byte
}

// frameRates is table 6-4.
var frameRates = [...]media.Rational{{}, {Num: 24000, Den: 1001}, {Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001},
	{Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1}}

// Picture is what an access unit tells.
type Picture struct {
	Sequence *Sequence // nil when it has no sequence header
	Intra    bool
	Closed   bool // a group of pictures that refers to none before it begins here
}

// next returns the next start code and what lies from it to the one behind.
func next(b []byte) (code byte, body, rest []byte, ok bool) {
	i := bytes.Index(b, []byte{0, 0, 1})
	if i < 0 || i+3 >= len(b) {
		return 0, nil, nil, false
	}
	code, body = b[i+3], b[i+4:]
	if j := bytes.Index(body, []byte{0, 0, 1}); j >= 0 {
		return code, body[:j], body[j:], true
	}
	return code, body, nil, true
}

// Parse reads an access unit up to the head of its picture.
func Parse(b []byte) (p Picture, err error) {
	for {
		start := b
		code, body, rest, ok := next(b)
		if !ok {
			return p, &media.FormatError{Format: "MPEG-2 access unit", Found: "no picture", Want: "a picture header"}
		}
		b = rest
		switch code {
		case codeSequence:
			if len(body) > longestHeader {
				return p, &media.FormatError{Format: "MPEG-2 sequence header", Found: fmt.Sprintf("%d bytes", len(body)),
					Want: fmt.Sprintf("%d at most", longestHeader)}
			}
			if p.Sequence, err = sequence(body); err != nil {
				return p, err
			}
			p.Sequence.Config = bytes.Clone(start[bytes.Index(start, []byte{0, 0, 1}) : len(start)-len(rest)])
		case codeExtension:
			r := bits.NewReader(body)
			if p.Sequence == nil || r.U(4) != sequenceExtension {
				continue
			}
			if len(body) > longestHeader {
				continue
			}
			if err := p.Sequence.extend(r); err != nil {
				return p, err
			}
			p.Sequence.Config = append(append(p.Sequence.Config, 0, 0, 1, codeExtension), body...)
		case codeGroup:
			r := bits.NewReader(body)
			r.U(25) // time_code
			p.Closed = r.Flag()
		case codePicture:
			r := bits.NewReader(body)
			r.U(10)
			p.Intra = r.U(3) == typeIntra
			if r.Err() != nil {
				return p, &media.FormatError{Format: "MPEG-2 picture header", Found: fmt.Sprintf("%d bytes", len(body)), Want: "at least 2"}
			}
			return p, nil
		}
	}
}

// sequence reads: width(12) height(12) aspect(4) rate(4) bitrate(18) marker(1) …
func sequence(b []byte) (*Sequence, error) {
	r := bits.NewReader(b)
	s := &Sequence{Width: int(r.U(12)), Height: int(r.U(12)), Aspect: uint8(r.U(4)), Chroma: 1}
	rate := r.U(4)
	if r.Err() != nil || s.Width == 0 || s.Height == 0 || rate == 0 || int(rate) >= len(frameRates) {
		return nil, &media.FormatError{Format: "MPEG-2 sequence header",
			Found: fmt.Sprintf("%dx%d at rate code %d in %d bytes", s.Width, s.Height, rate, len(b)), Want: "a size and a rate code of 1 to 8"}
	}
	s.FrameRate = frameRates[rate]
	return s, nil
}

// extend reads: profile(8) progressive(1) chroma(2) width(2) height(2) bitrate(12) marker(1) vbv(8)
// lowDelay(1) rateN(2) rateD(5).
func (s *Sequence) extend(r *bits.Reader) error {
	s.Profile = uint8(r.U(8))
	s.Progressive = r.Flag()
	s.Chroma = uint8(r.U(2))
	s.Width |= int(r.U(2)) << 12
	s.Height |= int(r.U(2)) << 12
	r.U(12 + 1 + 8 + 1)
	n, d := int64(r.U(2)), int64(r.U(5))
	if r.Err() != nil {
		return &media.FormatError{Format: "MPEG-2 sequence extension", Found: "its end", Want: "6 bytes"}
	}
	s.FrameRate = media.Rational{Num: s.FrameRate.Num * (n + 1), Den: s.FrameRate.Den * (d + 1)}.Reduce()
	return nil
}

// SAR returns the sample aspect ratio (table 6-3).
func (s *Sequence) SAR() media.Rational {
	display := map[uint8]media.Rational{2: {Num: 4, Den: 3}, 3: {Num: 16, Den: 9}, 4: {Num: 221, Den: 100}}[s.Aspect]
	if !display.Valid() {
		return media.Rational{Num: 1, Den: 1}
	}
	return media.Rational{Num: display.Num * int64(s.Height), Den: display.Den * int64(s.Width)}.Reduce()
}

// Complete adds to a track what its first sequence header tells.
func Complete(t *media.Track, unit []byte) error {
	p, err := Parse(unit)
	if err != nil || p.Sequence == nil {
		return err
	}
	s := p.Sequence
	t.Kind, t.Codec, t.Timescale, t.CodecName = media.Video, media.MPEG2, media.VideoTimescale, "mp4v.61"
	if s.Profile == 0 {
		t.CodecName = "mp4v.6A"
	}
	t.Width, t.Height, t.SAR, t.FrameRate, t.Config = s.Width, s.Height, s.SAR(), s.FrameRate, s.Config
	t.Reordered, t.Interlaced = true, s.Profile != 0 && !s.Progressive
	return nil
}
