// Package media holds the words that every other package speaks: tracks, access units,
// timescales and the two kinds of error that a parser may return. Nothing here does I/O.
package media

import (
	"errors"
	"fmt"
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
	H264  Codec = "h264"
	HEVC  Codec = "hevc"
	VP8   Codec = "vp8"
	VP9   Codec = "vp9"
	AV1   Codec = "av1"
	MPEG2 Codec = "mpeg-2"
	JPEG  Codec = "jpeg"
	// WebVTT is text in time that is made of captions and subtitles.
	WebVTT Codec = "webvtt"
	// RawVideo is not compressed: see core/rawvideo.
	RawVideo Codec = "raw"
	AAC      Codec = "aac"
	Opus     Codec = "opus"
	MP2      Codec = "mp2"
	MP3      Codec = "mp3"
	AC3      Codec = "ac-3"
	EAC3     Codec = "e-ac-3"
	ALaw     Codec = "a-law"
	ULaw     Codec = "u-law"
	PCM      Codec = "pcm"

	// Timed data.
	ID3       Codec = "id3"
	SCTE35    Codec = "scte-35"
	Captions  Codec = "captions"
	Teletext  Codec = "teletext"
	Subtitles Codec = "dvb-subtitles" // pictures of text
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

// Period returns how many ticks of a timescale one unit lasts at this rate a second, rounded down: of 30000/1001 and
// 90000 it is 3003.
func (r Rational) Period(timescale int64) int64 { return RescaleDown(timescale, r.Num, r.Den) }

// Common returns the highest fraction of which both are whole multiples: of 30 and 24 it is 6.
func (r Rational) Common(o Rational) Rational {
	a, b := r.Num*o.Den, o.Num*r.Den
	for b != 0 {
		a, b = b, a%b
	}
	return Rational{a, r.Den * o.Den}.Reduce()
}

// Less reports whether r is the smaller of the two.
func (r Rational) Less(o Rational) bool { return r.Num*o.Den < o.Num*r.Den }

// Clock is how a sender stamps the units of a track.
type Clock struct {
	Scale int64 // ticks a second
	Turn  int64 // stamps begin again after so many ticks; 0: they do not
}

// Milliseconds is the clock of RTMP and FLV: 32 bits of milliseconds. Nanoseconds is the same with the finer
// offsets of Enhanced RTMP.
var (
	Milliseconds = Clock{1000, 1 << 32}
	Nanoseconds  = Clock{1_000_000_000, 1 << 32 * 1_000_000}
)

// Between returns how many ticks a stamp lies behind another one, less than 0 before: within half a turn.
func (c Clock) Between(from, to int64) int64 {
	d := to - from
	if c.Turn > 0 {
		if d %= c.Turn; d < 0 {
			d += c.Turn
		}
		if d >= c.Turn/2 {
			d -= c.Turn
		}
	}
	return d
}

// Ticks converts a time of the clock to ticks of VideoTimescale.
func (c Clock) Ticks(v int64) int64 { return Rescale(v, c.Scale, VideoTimescale) }

// TrackID tells the tracks of a feed apart.
type TrackID uint32

// Role says what a track is for (ISO/IEC 23009-1, 5.8.5.5); "" is taken for main.
type Role string

// The roles that a sender may give a track.
const (
	RoleMain        Role = "main"
	RoleAlternate   Role = "alternate"
	RoleCommentary  Role = "commentary"
	RoleDescription Role = "description"
)

// Track describes one elementary stream. Config is the decoder configuration of the codec as it lies
// in its box of an ISO media file, such as an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1);
// of AAC it is the AudioSpecificConfig (ISO/IEC 14496-3, 1.6.2.1).
//
//large:what is known of a track, of every kind
type Track struct {
	ID        TrackID `json:"id,omitempty"`
	Language  string  `json:"language,omitempty"` // RFC 5646; "" when the sender does not say
	Role      Role    `json:"role,omitempty"`
	Name      string  `json:"name,omitempty"` // for people
	Kind      Kind    `json:"kind"`
	Codec     Codec   `json:"codec"`
	Label     string  `json:"label,omitempty"`     // what people call the codec
	CodecName string  `json:"codecName,omitempty"` // RFC 6381 name, such as avc1.64001f
	Timescale int64   `json:"timescale"`           // ticks a second of all times of this track
	Config    []byte  `json:"config"`
	Clock     Clock   `json:"-"` // of the sender's stamps; the zero value is Milliseconds

	// Video.
	Width     int      `json:"width,omitempty"`    // luma samples after cropping
	Height    int      `json:"height,omitempty"`   // luma samples after cropping
	SAR       Rational `json:"sar,omitzero"`       // sample aspect ratio, 1:1 when unknown
	FrameRate Rational `json:"frameRate,omitzero"` // frames per second; invalid when unknown
	Colour    Colour   `json:"colour,omitzero"`
	// Interlaced: pictures hold two fields, as far as the configuration tells.
	Interlaced bool   `json:"interlaced,omitempty"`
	Light      *Light `json:"light,omitempty"` // of pictures with a high dynamic range, when the sender tells
	// Undecodable says why no decoder here reads the track, in words; "" when one does. It passes through all the same.
	Undecodable string `json:"undecodable,omitempty"`
	OnlyCoded   bool   `json:"onlyCoded,omitempty"` // nothing packages it as it is: it is re-encoded
	Turned      int    `json:"-"`                   // degrees clockwise by which players turn the pictures: 0, 90, 180 or 270
	Reorder     *int   `json:"-"`                   // how many pictures may be decoded before one and presented behind it; nil: it does not say
	Reordered   bool   `json:"-"`                   // pictures may be presented in another order than they are decoded

	// Audio.
	FrameSamples int64 `json:"frameSamples,omitempty"` // ticks that a frame lasts
	SampleRate   int   `json:"sampleRate,omitempty"`   // samples per second of the output
	Channels     int   `json:"channels,omitempty"`
}

// Colour says how the samples of a picture are to be read: code points of ITU-T H.273, 0 when the
// source does not say.
type Colour struct {
	Primaries uint8 `json:"primaries,omitempty"`
	Transfer  uint8 `json:"transfer,omitempty"`
	Matrix    uint8 `json:"matrix,omitempty"`
	FullRange bool  `json:"fullRange,omitempty"`
}

// Range is the dynamic range of pictures: "PQ" (SMPTE ST 2084), "HLG" (ARIB STD-B67), or "" for the standard one.
func (c Colour) Range() string {
	switch c.Transfer { // ITU-T H.273, table 3
	case 16:
		return "PQ"
	case 18:
		return "HLG"
	}
	return ""
}

// Light is how bright pictures are and the display that they were graded on (SMPTE ST 2086; CTA-861.3).
type Light struct {
	MaxContent int `json:"maxContent,omitempty"` // brightest sample, candela per square metre
	MaxAverage int `json:"maxAverage,omitempty"` // brightest mean of a picture
	// Display holds the chromaticities of red, green, blue and white, x and y, in units of 0.00002; all 0 when
	// nobody says.
	Display   [8]int `json:"display,omitzero"`
	Brightest int    `json:"brightest,omitempty"` // of the display, in units of 0.0001 candela per square metre
	Darkest   int    `json:"darkest,omitempty"`
}

// Stamps returns the clock of the sender's stamps.
func (t *Track) Stamps() Clock {
	if t.Clock.Scale == 0 {
		return Milliseconds
	}
	return t.Clock
}

// SamePicture reports whether a decoder and a viewer see no difference between two tracks but for
// the sets of parameters themselves.
func (t *Track) SamePicture(o *Track) bool {
	return t.Kind == o.Kind && t.Codec == o.Codec && t.Width == o.Width && t.Height == o.Height && t.SAR == o.SAR &&
		t.CodecName == o.CodecName && t.Colour == o.Colour && sameLight(t.Light, o.Light) && t.Undecodable == o.Undecodable &&
		t.Interlaced == o.Interlaced && t.SampleRate == o.SampleRate && t.Channels == o.Channels && t.Timescale == o.Timescale &&
		t.FrameSamples == o.FrameSamples
}

func sameLight(a, b *Light) bool { return a == b || a != nil && b != nil && *a == *b }

// AccessUnit is one encoded picture or audio frame. Its Data is written once and never changed:
// every reader shares it. H.264 is held as NAL units, each behind its length in four bytes.
type AccessUnit struct {
	DTS      int64 // decode time in ticks of the track
	PTS      int64 // presentation time in ticks of the track
	Duration int64 // in ticks; 0 when only the next access unit can tell
	Key      bool  // a decoder can start here (H.264: an IDR picture)
	Data     []byte
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

// IsFormat reports whether an error says that bytes from outside are wrong, or not supported.
func IsFormat(err error) bool {
	var f *FormatError
	var u *UnsupportedError
	return errors.As(err, &f) || errors.As(err, &u)
}

// sampleAspects is the table of sample aspect ratios (ITU-T H.273, 8.6).
var sampleAspects = [...]Rational{
	{1, 1}, {1, 1}, {12, 11}, {10, 11}, {16, 11}, {40, 33}, {24, 11}, {20, 11}, {32, 11}, {80, 33}, {18, 11}, {15, 11},
	{64, 33}, {160, 99}, {4, 3}, {3, 2}, {2, 1},
}

// SampleAspect returns the ratio of a code point of ITU-T H.273, 8.6; 1:1 for one that is not specified.
func SampleAspect(code uint32) Rational {
	if int(code) < len(sampleAspects) {
		return sampleAspects[code]
	}
	return sampleAspects[0]
}

// Described takes a code point of ITU-T H.273; 2, unspecified, says as much as none.
func Described(v uint32) uint8 {
	if v == 2 {
		return 0
	}
	return uint8(v)
}
