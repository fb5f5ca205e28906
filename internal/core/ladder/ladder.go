// Package ladder plans the renditions of a channel: a default ladder from what the source is, named plans,
// the checks of what a person wrote, and the arithmetic of size, bitrate and memory.
package ladder

import (
	"cmp"

	"metaplasis/internal/core/media"
)

// Rung is one line of a ladder: the plan of one rendition. One without a size and with a bitrate of sound is of sound
// alone. A setting with a flag is one of the CLI too, with the help text beside it.
//
//large:what can be set of a rung, as it is stored
type Rung struct {
	Name   string `json:"name"`                                                                            // part of the rendition's address
	On     bool   `json:"on" flag:"on" help:"make this rendition"`                                         // false: kept in the ladder, not made
	Source bool   `json:"source,omitempty" flag:"source" help:"pass the source's video through unchanged"` //
	// Ready takes the sender's own picture of this size where it sends one beside the main one, as a ready-made rung.
	Ready   bool  `json:"ready,omitempty" flag:"sender-layer" was:"ready" help:"use the sender's own layer of this size while it sends one, and encode this rung while it does not"`
	Width   int   `json:"width,omitempty" flag:"width" help:"width in pixels; 0: from the height"`                                        // luma samples
	Height  int   `json:"height,omitempty" flag:"height" help:"height in pixels; 0: from the width"`                                      // luma samples
	Bitrate int64 `json:"bitrate,omitempty" flag:"bitrate" unit:"bit/s" help:"average bitrate, such as 2.5M"`                             //
	Peak    int64 `json:"peak,omitempty" flag:"peak" unit:"bit/s" help:"peak bitrate, such as 3M; 0: 1.2 times the average"`              //
	Buffer  int   `json:"buffer,omitempty" flag:"buffer" unit:"ms" help:"decoder buffer at the peak bitrate, such as 1s; 0: 1s"`          //
	Effort  int   `json:"effort,omitempty" flag:"effort" help:"1 (least CPU) to 9 (best quality); 0: 2"`                                  //
	Quality int   `json:"quality,omitempty" flag:"quality" help:"constant quality, 1 to 100, capped by the bitrate; 0: constant bitrate"` // 0 keeps to the bitrate
	// Codec of the pictures, one that the workers encode; "" is the usual one, which every player reads.
	Codec   media.Codec `json:"codec,omitempty" flag:"codec" help:"video codec; default: the one that every player supports"`
	Profile string      `json:"profile,omitempty" flag:"profile" help:"profile of the codec, such as main; default: the highest"`
	Level   string      `json:"level,omitempty" flag:"level" help:"level of the codec, such as 4.1; default: the lowest that fits"`
	// BFrames are pictures that refer to later ones, so many between two others: they save bits and cost delay. 0 is as
	// the effort says, -1 is none.
	BFrames int     `json:"bFrames,omitempty" flag:"b-frames" help:"consecutive B-frames, 1 to 4: they save bits and add delay; 0: by effort, -1: none"`
	Content Content `json:"content,omitempty" flag:"content" help:"type of content: camera, screen or drawn; default: camera"`
	// FrameRate is "" for the source's, "half" for every second picture, or pictures per second, such as 25, 29.97 or
	// 30000/1001: then they stand at even times. It is never more than the source's.
	FrameRate string  `json:"frameRate,omitempty" flag:"frame-rate" help:"frame rate, such as 25 or 29.97, or half for every other frame; default: that of the source"`
	Picture   Picture `json:"picture,omitzero"`
	// AudioBitrate asks for sound that is re-encoded, at bits per second; 0 passes the source's audio through.
	AudioBitrate  int64       `json:"audioBitrate,omitempty" flag:"audio-bitrate" was:"audio" unit:"bit/s" help:"re-encode the audio at this bitrate, such as 96k; 0: pass it through"`
	AudioCodec    media.Codec `json:"audioCodec,omitempty" flag:"audio-codec" help:"codec of re-encoded audio; default: the usual one"`
	AudioChannels int         `json:"audioChannels,omitempty" flag:"audio-channels" help:"1: mix down to mono, 2: stereo; 0: as the source"`
	// AudioTrack is the track of the source's sound that the rung has, from 1; 0 is the main one.
	AudioTrack int `json:"audioTrack,omitempty" flag:"audio-track" help:"audio track of the source, from 1; 0: the main one"`
	// AudioLanguage is what is told of the language of sound that is encoded, instead of what the sender says (RFC 5646).
	AudioLanguage string `json:"audioLanguage,omitempty" flag:"audio-language" help:"language of the audio, such as en; default: as the sender signals it"`
	AudioRate     int    `json:"audioRate,omitempty" flag:"audio-rate" help:"sample rate of re-encoded audio in Hz; 0: that of the source"`
	// Loudness is what that sound is brought to, in LUFS (EBU R 128), such as -23; 0 leaves it as it is. Its true peaks
	// are limited to -1 dB.
	Loudness int `json:"loudness,omitempty" flag:"loudness" help:"normalize the audio to this loudness in LUFS, such as -23, with true peaks below -1 dB; 0: leave it"`
}

// Content is what kind of pictures an encoder is tuned for.
type Content string

// The kinds of content.
const (
	Camera Content = ""
	Screen Content = "screen" // text and sharp edges, mostly still
	Drawn  Content = "drawn"  // even areas with few edges
)

// SoundOnly reports whether a rung has no pictures.
func (r Rung) SoundOnly() bool {
	return !r.Source && r.Width == 0 && r.Height == 0 && r.Bitrate == 0 && r.AudioBitrate > 0
}

// Ladder is the ordered plan of a channel. While Planned is set, it is made again from each
// source; the first edit by a person clears it.
type Ladder struct {
	Planned bool   `json:"planned"`
	Rungs   []Rung `json:"rungs"`
	// Plan is the named plan that the rungs are of, nil for none.
	Plan *Use `json:"plan,omitempty"`
	// Governor may change rungs while the machine is short, and back: "lower" lowers effort, then frame rate, then
	// turns the highest rung off; "raise" also raises the effort while there is room; "" leaves the ladder as it is.
	Governor Governor `json:"governor,omitempty"`
	// Priority says whose turn it is first when the machine is short for several channels, 1 to 9; 0 is 5. The lower
	// ones give way before the higher ones.
	Priority int `json:"priority,omitempty"`
	// Interlaced says what becomes of interlaced pictures; "" makes a picture of each field.
	Interlaced Interlaced `json:"interlaced,omitempty"`
}

// Governor says what may be changed of a ladder while it runs.
type Governor string

// What a governor may do.
const (
	Ungoverned    Governor = ""
	GovernorLower Governor = "lower"
	GovernorRaise Governor = "raise"
)

// Interlaced says how interlaced pictures are made whole.
type Interlaced string

// The ways. With the adaptive one, areas at rest keep the lines of both fields.
const (
	FieldsAdaptive Interlaced = ""       // a picture of each field: 50i becomes 50p
	FramesAdaptive Interlaced = "frames" // one of each two fields: 50i becomes 25p
	FieldsBob      Interlaced = "bob"    // a picture of each field, its missing lines from those around them
	Weave          Interlaced = "weave"  // as it is
)

// DefaultPriority is that of a ladder that names none.
const DefaultPriority = 5

// Nice is how far a worker stands back from other processes, 0 to 19: those of channels below the usual priority do.
func (l Ladder) Nice() int { return max(0, 2*(DefaultPriority-cmp.Or(l.Priority, DefaultPriority))) }

// WithDefaults fills in what was left out.
func (r Rung) WithDefaults() Rung {
	if r.Source || r.SoundOnly() {
		return r
	}
	if r.Content == "camera" {
		r.Content = Camera // its other name
	}
	if r.Effort == 0 {
		r.Effort = defaultEffort
	}
	if r.Peak == 0 {
		r.Peak = r.Bitrate * 6 / 5
	}
	if r.Buffer == 0 {
		r.Buffer = defaultBuffer
	}
	return r
}

// Most is the highest bitrate of what an encoded or ready-made rung holds, bits per second: a sender keeps to no peak of ours.
func (r Rung) Most() int64 {
	if r = r.WithDefaults(); r.Ready {
		return 2 * r.Peak
	}
	return r.Peak
}

// Equal reports whether two rungs make the same bytes.
func (r Rung) Equal(o Rung) bool { return r.WithDefaults() == o.WithDefaults() }
