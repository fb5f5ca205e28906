// Package aac reads and writes the AudioSpecificConfig of ISO/IEC 14496-3, 1.6.2.1:
//
//	audioObjectType(5) [+6] samplingFrequencyIndex(4) [+24] channelConfiguration(4) …
package aac

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// FrameSamples is the number of samples of one channel in an AAC-LC frame.
const FrameSamples = 1024

// Audio object types (table 1.17).
const (
	TypeLC  = 2
	TypeSBR = 5
	TypePS  = 29
)

// sampleRates is table 1.18.
var sampleRates = [...]int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}

// Config is an AudioSpecificConfig.
type Config struct {
	ObjectType int // of the core coder, 2 for LC
	Extension  int // 5 (SBR) or 29 (PS) when signalled, else 0
	SampleRate int // of the core coder, samples a second
	OutputRate int // after SBR, samples a second
	Channels   int
	Short      bool // frames of 960 samples instead of 1024 (frameLengthFlag)
}

// Samples is the number of samples of one channel in a frame of the core coder.
func (c *Config) Samples() int64 {
	if c.Short {
		return 960
	}
	return FrameSamples
}

// Unmarshal reads a config. It refuses what no decoder here can play.
func (c *Config) Unmarshal(b []byte) error {
	r := bits.NewReader(b)
	*c = Config{}
	c.ObjectType = objectType(r)
	c.SampleRate = sampleRate(r)
	c.OutputRate = c.SampleRate
	channels := int(r.U(4))
	if c.ObjectType == TypeSBR || c.ObjectType == TypePS {
		c.Extension = c.ObjectType
		c.OutputRate = sampleRate(r)
		c.ObjectType = objectType(r)
	}
	err := r.Err()
	c.Short = r.Flag() // GASpecificConfig (4.4.1); one that is left out is 0
	if err != nil {
		return &media.FormatError{Format: "AudioSpecificConfig", Found: fmt.Sprintf("%d bytes", len(b)), Want: "at least 2"}
	}
	if c.SampleRate < 7350 || c.SampleRate > 96000 || c.OutputRate < 7350 || c.OutputRate > 96000 {
		return &media.FormatError{Format: "AudioSpecificConfig",
			Found: fmt.Sprintf("a sampling frequency of %d", c.SampleRate), Want: "7350 to 96000"}
	}
	if c.ObjectType != TypeLC {
		return &media.UnsupportedError{Format: "AAC", What: fmt.Sprintf("audio object type %d", c.ObjectType),
			Do: "set the encoder to AAC-LC"}
	}
	switch {
	case channels == 7:
		c.Channels = 8
	case channels >= 1 && channels <= 6:
		c.Channels = channels
	default:
		return &media.UnsupportedError{Format: "AAC", What: fmt.Sprintf("channel configuration %d", channels),
			Do: "send mono or stereo"}
	}
	return nil
}

func objectType(r *bits.Reader) int {
	if t := r.U(5); t != 31 {
		return int(t)
	}
	return 32 + int(r.U(6))
}

func sampleRate(r *bits.Reader) int {
	i := r.U(4)
	if i == 15 {
		return int(r.U(24))
	}
	if int(i) < len(sampleRates) {
		return sampleRates[i]
	}
	return 0
}

// Marshal writes a config without extensions.
func (c *Config) Marshal() []byte {
	var w bits.Writer
	w.U(5, uint32(c.ObjectType))
	index := 15
	for i, r := range sampleRates {
		if r == c.SampleRate {
			index = i
		}
	}
	w.U(4, uint32(index))
	if index == 15 {
		w.U(24, uint32(c.SampleRate))
	}
	channels := c.Channels
	if channels == 8 {
		channels = 7
	}
	w.U(4, uint32(channels))
	short := uint32(0)
	if c.Short {
		short = 1
	}
	w.U(1, short)
	w.U(2, 0) // GASpecificConfig: no core coder, no extension
	return w.Bytes()
}

// ADTS writes the header of a frame of so many bytes (ISO/IEC 14496-3, 1.A.2.2.1).
func (c *Config) ADTS(frame int) []byte {
	index := 15
	for i, r := range sampleRates {
		if r == c.SampleRate {
			index = i
		}
	}
	channels := c.Channels
	if channels == 8 {
		channels = 7
	}
	n := frame + 7
	return []byte{0xff, 0xf1, byte(c.ObjectType-1)<<6 | byte(index)<<2 | byte(channels>>2), byte(channels)<<6 | byte(n>>11),
		byte(n >> 3), byte(n)<<5 | 0x1f, 0xfc}
}

// Track makes an audio track. Its timescale is the core coder's sampling frequency, so that a
// frame is as many ticks long as it has samples.
func (c *Config) Track(config []byte) media.Track {
	name := fmt.Sprintf("mp4a.40.%d", c.ObjectType)
	if c.Extension != 0 {
		name = fmt.Sprintf("mp4a.40.%d", c.Extension)
	}
	return media.Track{
		Kind: media.Audio, Codec: media.AAC, Timescale: int64(c.SampleRate), Config: append([]byte(nil), config...),
		SampleRate: c.OutputRate, Channels: c.Channels, CodecName: name, FrameSamples: c.Samples(),
	}
}
