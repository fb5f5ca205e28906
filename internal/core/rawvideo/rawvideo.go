// Package rawvideo describes pictures that are not compressed, as RTP carries them (RFC 4175; SMPTE ST 2110-20): 4:2:2 of
// 8 or 10 bits. A picture is its lines one behind the other, each of groups of two samples:
//
//	 8 bits   Cb(8) Y0(8) Cr(8) Y1(8)
//	10 bits   Cb(10) Y0(10) Cr(10) Y1(10), 5 bytes
package rawvideo

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"

	"metaplasis/internal/core/media"
)

// Format is how the pictures of a stream lie in memory.
type Format struct {
	Width, Height int
	Depth         int            // bits of a sample: 8 or 10
	Rate          media.Rational // pictures per second, invalid when nobody says
	Fields        bool           // the lines of a picture come in two turns, the even ones first
	Interlaced    bool           // these are of two times
	Colour        media.Colour
}

// Bounds of a picture.
const (
	//limit:width of an uncompressed picture | each source | the source is refused
	maxWidth = 4096
	//limit:height of an uncompressed picture | each source | the source is refused
	maxHeight = 2304
	// MaxPicture is how many bytes a picture may have.
	//limit:bytes of an uncompressed picture | each picture | the source is refused
	MaxPicture = 12 << 20
)

// LineBytes is how many bytes a line has.
func (f *Format) LineBytes() int { return f.Width / 2 * f.GroupBytes() }

// GroupBytes is how many bytes two samples have.
func (f *Format) GroupBytes() int { return f.Depth / 2 }

// PictureBytes is how many bytes a picture has.
func (f *Format) PictureBytes() int { return f.LineBytes() * f.Height }

// Bitrate is that of the pictures alone, bits per second; 0 when their rate is not known.
func (f *Format) Bitrate() int64 {
	if !f.Rate.Valid() {
		return 0
	}
	return int64(f.PictureBytes()) * 8 * f.Rate.Num / f.Rate.Den
}

// Colorimetries (RFC 4175, 6.1; SMPTE ST 2110-20, 7.5) and transfer characteristics (7.6), as code points of ITU-T H.273.
var (
	colorimetries = []struct {
		name              string
		primaries, matrix uint8
	}{{"BT709-2", 1, 1}, {"BT709", 1, 1}, {"BT601-5", 6, 6}, {"BT601", 6, 6}, {"SMPTE240M", 7, 7}, {"BT2020", 9, 9}, {"BT2100", 9, 9}}
	transfers = []struct {
		name string
		code uint8
	}{{"SDR", 1}, {"PQ", 16}, {"HLG", 18}}
)

func broken(found, want string) error {
	return &media.FormatError{Format: "description of raw video", Found: found, Want: want}
}

// Parse reads the parameters of the media type video/raw, names in lower case.
func Parse(p map[string]string) (f Format, err error) {
	number := func(name string) int {
		n, _ := strconv.Atoi(strings.TrimSpace(p[name]))
		return n
	}
	f.Width, f.Height, f.Depth = number("width"), number("height"), number("depth")
	if s := p["sampling"]; !strings.EqualFold(s, "YCbCr-4:2:2") {
		return f, &media.UnsupportedError{Format: "raw video", What: fmt.Sprintf("the sampling %.20q", s), Do: "set the source to YCbCr-4:2:2"}
	}
	if f.Depth != 8 && f.Depth != 10 {
		return f, &media.UnsupportedError{Format: "raw video", What: fmt.Sprintf("samples of depth %.10q", p["depth"]), Do: "set the source to 8 or 10 bits"}
	}
	_, f.Fields = p["interlace"]
	_, segmented := p["segmented"] // whole pictures in two turns
	f.Interlaced = f.Fields && !segmented
	f.Rate = rate(p["exactframerate"])
	for _, c := range colorimetries {
		if strings.EqualFold(p["colorimetry"], c.name) {
			f.Colour.Primaries, f.Colour.Matrix, f.Colour.Transfer = c.primaries, c.matrix, c.primaries
		}
	}
	if f.Colour.Primaries == 9 {
		f.Colour.Transfer = 14 // BT.2020 with 10 bits
	}
	for _, t := range transfers[1:] {
		if strings.EqualFold(p["tcs"], t.name) {
			f.Colour.Transfer = t.code
		}
	}
	f.Colour.FullRange = strings.EqualFold(p["range"], "FULL")
	return f, f.check()
}

// rate reads 30, 29.97 or 30000/1001.
func rate(text string) (r media.Rational) {
	num, den, whole := strings.Cut(strings.TrimSpace(text), "/")
	if n, err := strconv.ParseInt(num, 10, 32); err == nil && n > 0 {
		r = media.Rational{Num: n, Den: 1}
	}
	if d, err := strconv.ParseInt(den, 10, 32); whole && err == nil && d > 0 {
		r.Den = d
	}
	return r
}

func (f *Format) check() error {
	switch {
	case f.Width < 16 || f.Width > maxWidth || f.Width%2 != 0 || f.Height < 16 || f.Height > maxHeight:
		return broken(fmt.Sprintf("pictures of %dx%d", f.Width, f.Height), fmt.Sprintf("an even width up to %d and a height up to %d", maxWidth, maxHeight))
	case f.Depth != 8 && f.Depth != 10:
		return broken(fmt.Sprintf("samples of %d bits", f.Depth), "8 or 10")
	case f.PictureBytes() > MaxPicture:
		return broken(fmt.Sprintf("pictures of %d bytes", f.PictureBytes()), fmt.Sprintf("%d at most", MaxPicture))
	case f.Rate.Valid() && (f.Rate.Num > 300*f.Rate.Den || f.Rate.Num < f.Rate.Den):
		return broken(fmt.Sprintf("%d/%d pictures per second", f.Rate.Num, f.Rate.Den), "1 to 300")
	}
	return nil
}

// Parameters writes what Parse reads.
func (f *Format) Parameters() string {
	out := fmt.Sprintf("sampling=YCbCr-4:2:2; width=%d; height=%d; depth=%d", f.Width, f.Height, f.Depth)
	if f.Rate.Valid() {
		out += fmt.Sprintf("; exactframerate=%d", f.Rate.Num)
		if f.Rate.Den > 1 {
			out += fmt.Sprintf("/%d", f.Rate.Den)
		}
	}
	for _, c := range colorimetries {
		if c.primaries == f.Colour.Primaries {
			out += "; colorimetry=" + c.name
			break
		}
	}
	for _, t := range transfers[1:] {
		if t.code == f.Colour.Transfer {
			out += "; TCS=" + t.name
		}
	}
	if f.Colour.FullRange {
		out += "; RANGE=FULL"
	}
	if f.Fields {
		out += "; interlace"
		if !f.Interlaced {
			out += "; segmented"
		}
	}
	return out
}

// size of a configuration: width(16) height(16) depth(8) flags(8) rate(32)/(32) primaries(8) transfer(8) matrix(8).
const size = 17

// Marshal writes the configuration that Unmarshal reads.
func (f *Format) Marshal() []byte {
	b := make([]byte, size)
	binary.BigEndian.PutUint16(b, uint16(f.Width))
	binary.BigEndian.PutUint16(b[2:], uint16(f.Height))
	b[4] = byte(f.Depth)
	if f.Interlaced {
		b[5] |= 1
	}
	if f.Colour.FullRange {
		b[5] |= 2
	}
	if f.Fields {
		b[5] |= 4
	}
	binary.BigEndian.PutUint32(b[6:], uint32(f.Rate.Num))
	binary.BigEndian.PutUint32(b[10:], uint32(f.Rate.Den))
	b[14], b[15], b[16] = f.Colour.Primaries, f.Colour.Transfer, f.Colour.Matrix
	return b
}

// Unmarshal reads a configuration.
func (f *Format) Unmarshal(b []byte) error {
	if len(b) != size {
		return broken(fmt.Sprintf("%d bytes", len(b)), fmt.Sprint(size))
	}
	*f = Format{Width: int(binary.BigEndian.Uint16(b)), Height: int(binary.BigEndian.Uint16(b[2:])), Depth: int(b[4]), Interlaced: b[5]&1 != 0, Fields: b[5]&4 != 0,
		Rate:   media.Rational{Num: int64(binary.BigEndian.Uint32(b[6:])), Den: int64(binary.BigEndian.Uint32(b[10:]))},
		Colour: media.Colour{Primaries: b[14], Transfer: b[15], Matrix: b[16], FullRange: b[5]&2 != 0}}
	return f.check()
}

// Track is a track of such pictures.
func Track(config []byte) (media.Track, error) {
	var f Format
	if err := f.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return media.Track{Kind: media.Video, Codec: media.RawVideo, CodecName: "raw", Timescale: media.VideoTimescale, Config: config, Width: f.Width, Height: f.Height,
		SAR: media.Rational{Num: 1, Den: 1}, FrameRate: f.Rate, Colour: f.Colour, Interlaced: f.Interlaced}, nil
}
