// Package vp9 reads the syntax of VP9 that a packager needs: the frame header (VP9 Bitstream & Decoding
// Process Specification, 6.2) and the record of the VP Codec ISO Media File Format Binding.
package vp9

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Config is a VPCodecConfigurationRecord (binding, "VP Codec Configuration Box"):
//
//	profile(8) level(8) depth(4) chroma(3) fullRange(1) primaries(8) transfer(8) matrix(8) initSize(16)
type Config struct {
	Profile, Level uint8
	Depth          uint8 // bits of a sample
	Chroma         uint8 // 0 and 1: 4:2:0, 2: 4:2:2, 3: 4:4:4
	Colour         media.Colour
}

const recordSize = 8

// Unmarshal reads a record. Some senders write it as it lies in its box, behind a version and flags.
func (c *Config) Unmarshal(b []byte) error {
	if len(b) >= recordSize+4 && b[0] == 1 && b[1] == 0 && b[2] == 0 && b[3] == 0 {
		b = b[4:]
	}
	if len(b) < recordSize {
		return &media.FormatError{Format: "VP9 configuration", Found: fmt.Sprintf("%d bytes", len(b)),
			Want: fmt.Sprintf("at least %d", recordSize)}
	}
	*c = Config{
		Profile: b[0], Level: b[1], Depth: b[2] >> 4, Chroma: b[2] >> 1 & 7,
		Colour: media.Colour{Primaries: media.Described(uint32(b[3])), Transfer: media.Described(uint32(b[4])),
			Matrix: media.Described(uint32(b[5])), FullRange: b[2]&1 == 1},
	}
	if c.Profile > 3 || c.Depth != 8 && c.Depth != 10 && c.Depth != 12 {
		return &media.FormatError{Format: "VP9 configuration", Found: fmt.Sprintf("profile %d with %d bits", c.Profile,
			c.Depth), Want: "profile 0 to 3 with 8, 10 or 12 bits"}
	}
	return nil
}

// Marshal writes a record.
func (c *Config) Marshal() []byte {
	full := byte(0)
	if c.Colour.FullRange {
		full = 1
	}
	code := func(v uint8) byte {
		if v == 0 {
			return 2
		}
		return v
	}
	return []byte{c.Profile, c.Level, c.Depth<<4 | c.Chroma<<1 | full, code(c.Colour.Primaries), code(c.Colour.Transfer),
		code(c.Colour.Matrix), 0, 0}
}

// Name returns the RFC 6381 name (binding, "Codecs Parameter String").
func (c *Config) Name() string {
	name := fmt.Sprintf("vp09.%02d.%02d.%02d", c.Profile, c.Level, c.Depth)
	if c.Chroma > 1 || c.Colour != (media.Colour{}) {
		m := c.Marshal()
		name += fmt.Sprintf(".%02d.%02d.%02d.%02d.%02d", c.Chroma, m[3], m[4], m[5], m[2]&1)
	}
	return name
}

// Frame is what a frame's uncompressed header tells. The size is known of a key frame alone.
type Frame struct {
	Key           bool
	Profile       uint8
	Depth         uint8
	Width, Height int
}

const syncCode = 0x498342

// ParseFrame reads the header of the first frame of a sample (6.2): of a superframe, the first one that
// is decoded.
func ParseFrame(b []byte) (f Frame, err error) {
	r := bits.NewReader(b)
	if marker := r.U(2); marker != 2 {
		return f, &media.FormatError{Format: "VP9 frame", Found: fmt.Sprintf("frame marker %d", marker), Want: "2"}
	}
	f.Profile = uint8(r.U(1) | r.U(1)<<1)
	if f.Profile == 3 {
		r.U(1)
	}
	if r.Flag() { // show_existing_frame
		return f, r.Err()
	}
	if f.Key = !r.Flag(); !f.Key {
		return f, r.Err()
	}
	r.U(2) // show_frame, error_resilient_mode
	if code := r.U(24); code != syncCode && r.Err() == nil {
		return f, &media.FormatError{Format: "VP9 frame", Found: fmt.Sprintf("sync code %06x", code), Want: "498342"}
	}
	f.Depth = 8
	if f.Profile >= 2 {
		f.Depth = 10 + 2*uint8(r.U(1))
	}
	const rgb = 7
	odd := f.Profile == 1 || f.Profile == 3
	switch space := r.U(3); {
	case space != rgb:
		r.U(1) // color_range
		if odd {
			r.U(3)
		}
	case odd:
		r.U(1)
	}
	f.Width, f.Height = int(r.U(16))+1, int(r.U(16))+1
	return f, r.Err()
}

// Track makes a video track of a configuration. Its size comes with the first key frame: see Complete.
func (c *Config) Track() media.Track {
	return media.Track{
		Kind: media.Video, Codec: media.VP9, Timescale: media.VideoTimescale, Config: c.Marshal(), CodecName: c.Name(),
		SAR: media.Rational{Num: 1, Den: 1}, Colour: c.Colour,
	}
}

// Complete adds to a track what its first key frame tells.
func Complete(t *media.Track, sample []byte) error {
	f, err := ParseFrame(sample)
	if err == nil && f.Key {
		t.Width, t.Height = f.Width, f.Height
		var c Config
		if c.Unmarshal(t.Config) == nil && c.Level == 0 { // a writer that did not know: no player takes a name with it
			c.Level = LevelOf(f.Width, f.Height)
			told := c.Track()
			t.Config, t.CodecName = told.Config, told.CodecName
		}
	}
	return err
}

// LevelOf is the lowest level that takes pictures of a size, times ten, whatever their rate (VP9 Bitstream and Decoding Process
// Specification, annex A.2).
func LevelOf(width, height int) uint8 {
	for _, l := range []struct {
		level uint8
		most  int
	}{{10, 36_864}, {11, 73_728}, {20, 122_880}, {21, 245_760}, {30, 552_960}, {31, 983_040}, {40, 2_228_224}, {50, 8_912_896}} {
		if width*height <= l.most {
			return l.level
		}
	}
	return 60
}
