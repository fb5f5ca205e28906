// Package media holds the words that every other package speaks: tracks, access units,
// timescales and the two kinds of error that a parser may return. Nothing here does I/O.
package media

import (
	"fmt"
	"math/bits"
)

// VideoTimescale is the number of ticks a second of every video track inside the origin.
const VideoTimescale = 90000

// Kind says what a track carries.
type Kind uint8

// The kinds of track.
const (
	Video Kind = iota + 1
	Audio
	Data
)

func (k Kind) String() string {
	switch k {
	case Video:
		return "video"
	case Audio:
		return "audio"
	case Data:
		return "data"
	}
	return fmt.Sprintf("kind %d", uint8(k))
}

// Codec names the coding of a track.
type Codec string

// The codings that the origin knows.
const (
	H264 Codec = "h264"
	AAC  Codec = "aac"
)

// Rational is an exact fraction. Den is never 0 in a valid value.
type Rational struct {
	Num int64 `json:"num"`
	Den int64 `json:"den"`
}

// Valid reports whether the fraction is positive and finite.
func (r Rational) Valid() bool { return r.Num > 0 && r.Den > 0 }

// Reduce divides out the greatest common divisor.
func (r Rational) Reduce() Rational {
	a, b := r.Num, r.Den
	for b != 0 {
		a, b = b, a%b
	}
	if a == 0 {
		return r
	}
	if a < 0 {
		a = -a
	}
	return Rational{r.Num / a, r.Den / a}
}

// Milli returns the fraction in thousandths, rounded to nearest: 30000/1001 gives 29970.
func (r Rational) Milli() int64 {
	if !r.Valid() {
		return 0
	}
	return (r.Num*1000 + r.Den/2) / r.Den
}

// Less reports whether r is the smaller of the two.
func (r Rational) Less(o Rational) bool { return r.Num*o.Den < o.Num*r.Den }

// Rescale converts v from one timescale to another, rounded to nearest, half away from zero.
// The product is held in 128 bits, so no time that fits its own timescale overflows on the way.
func Rescale(v, from, to int64) int64 {
	if v < 0 {
		return -rescale(-v, from, to, from/2)
	}
	return rescale(v, from, to, from/2)
}

// RescaleDown converts v, which is not negative, from one timescale to another, rounded down.
func RescaleDown(v, from, to int64) int64 { return rescale(v, from, to, 0) }

func rescale(v, from, to, round int64) int64 {
	if from == to {
		return v
	}
	hi, lo := bits.Mul64(uint64(v), uint64(to))
	lo, carry := bits.Add64(lo, uint64(round), 0)
	q, _ := bits.Div64(hi+carry, lo, uint64(from))
	return int64(q)
}

// Track describes one elementary stream. Config is the decoder configuration record of the
// codec: an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1) or an
// AudioSpecificConfig (ISO/IEC 14496-3, 1.6.2.1).
type Track struct {
	Kind      Kind   `json:"kind"`
	Codec     Codec  `json:"codec"`
	Timescale int64  `json:"timescale"` // ticks a second of all times of this track
	Config    []byte `json:"config"`

	// Video.
	Width     int      `json:"width,omitempty"`     // luma samples after cropping
	Height    int      `json:"height,omitempty"`    // luma samples after cropping
	SAR       Rational `json:"sar,omitzero"`        // sample aspect ratio, 1:1 when unknown
	FrameRate Rational `json:"frameRate,omitzero"`  // frames a second; invalid when unknown
	CodecName string   `json:"codecName,omitempty"` // RFC 6381 name, such as avc1.64001f

	// Audio.
	SampleRate int `json:"sampleRate,omitempty"` // samples a second of the output
	Channels   int `json:"channels,omitempty"`
}

// AccessUnit is one coded picture or audio frame. Its Data is written once and never changed:
// every reader shares it. H.264 is held as NAL units, each behind its length in four bytes.
type AccessUnit struct {
	DTS      int64 // decode time in ticks of the track
	PTS      int64 // presentation time in ticks of the track
	Duration int64 // in ticks; 0 when only the next access unit can tell
	Key      bool  // a decoder can start here (H.264: an IDR picture)
	Data     []byte
}

// SendClock tells when a stand-in camera, which repeats a loop, sends each of its pictures. With it
// the delay to a page can be read off the pictures. All times are milliseconds.
type SendClock struct {
	Began  int64   `json:"began"`  // since 1970: the start of the first turn
	Length int64   `json:"length"` // of one turn
	Sent   []int64 `json:"sent"`   // of each picture, by its number, from the start of the turn
}

// FormatError says that bytes from outside break their format.
type FormatError struct {
	Format string // such as "RTMP chunk"
	Found  string // what was there
	Want   string // what should have been there
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("%s: found %s, expected %s", e.Format, e.Found, e.Want)
}

// UnsupportedError says that the bytes are right but that we do not handle what they ask for.
type UnsupportedError struct {
	Format string
	What   string // what was asked for
	Do     string // what the sender can do instead
}

func (e *UnsupportedError) Error() string {
	s := fmt.Sprintf("%s: %s is not supported", e.Format, e.What)
	if e.Do != "" {
		s += "; " + e.Do
	}
	return s
}
