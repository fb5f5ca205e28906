// Package pcm describes sound that is not compressed, or by a table of one byte a sample: linear PCM
// (ISO/IEC 23003-5) and the two laws of ITU-T G.711.
package pcm

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/media"
)

// Format is how samples lie in memory.
type Format struct {
	Codec        media.Codec // media.PCM, media.ALaw or media.ULaw
	Rate         int         // samples per second
	Channels     int
	Bits         int // of a sample: 8 of G.711
	LittleEndian bool
}

// size of a configuration: flags(8) bits(8), as in pcmC (ISO/IEC 23003-5, 5.2), rate(32) channels(8).
const size = 7

// Marshal writes the configuration that Unmarshal reads.
func (f *Format) Marshal() []byte {
	b := []byte{0, byte(f.Bits)}
	if f.LittleEndian {
		b[0] = 1
	}
	return append(binary.BigEndian.AppendUint32(b, uint32(f.Rate)), byte(f.Channels))
}

// Unmarshal reads a configuration of a codec.
func (f *Format) Unmarshal(c media.Codec, b []byte) error {
	if len(b) != size {
		return &media.FormatError{Format: "PCM format", Found: fmt.Sprintf("%d bytes", len(b)), Want: fmt.Sprint(size)}
	}
	*f = Format{Codec: c, LittleEndian: b[0]&1 == 1, Bits: int(b[1]), Rate: int(binary.BigEndian.Uint32(b[2:])), Channels: int(b[6])}
	if f.Rate < 4000 || f.Rate > 192_000 || f.Channels < 1 || f.Channels > 24 || f.Bits < 8 || f.Bits > 32 || f.Bits%8 != 0 {
		return &media.FormatError{Format: "PCM format", Found: fmt.Sprintf("%d channels of %d bits at %d Hz", f.Channels, f.Bits, f.Rate),
			Want: "1 to 24 channels of 8 to 32 bits at 4000 to 192000 Hz"}
	}
	return nil
}

// Track makes a track. How long its units are, the first one tells: see Complete.
func (f *Format) Track() media.Track {
	t := media.Track{Kind: media.Audio, Codec: f.Codec, Timescale: int64(f.Rate), SampleRate: f.Rate, Channels: f.Channels, Config: f.Marshal()}
	switch f.Codec {
	case media.ALaw:
		t.CodecName = "alaw"
	case media.ULaw:
		t.CodecName = "ulaw"
	default:
		t.CodecName = "ipcm"
	}
	return t
}

// Complete adds how many samples a unit holds.
func Complete(t *media.Track, unit []byte) error {
	var f Format
	if err := f.Unmarshal(t.Codec, t.Config); err != nil {
		return err
	}
	whole := f.Bits / 8 * f.Channels
	if t.FrameSamples = int64(len(unit) / whole); t.FrameSamples == 0 {
		return &media.FormatError{Format: "PCM", Found: fmt.Sprintf("%d bytes", len(unit)), Want: fmt.Sprintf("at least %d, one sample of each channel", whole)}
	}
	return nil
}

// Box returns the content of the pcmC box that a configuration has.
func Box(config []byte) []byte { return config[:min(2, len(config))] }
