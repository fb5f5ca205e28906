// Package aac reads and writes the AudioSpecificConfig of ISO/IEC 14496-3, 1.6.2.1:
//
//	audioObjectType(5) [+6] samplingFrequencyIndex(4) [+24] channelConfiguration(4) …
//
// and what follows it for the coders of general audio (4.4.1), enhanced low delay (4.6.20) and unified
// speech and audio (ISO/IEC 23003-3, 5.2).
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
	TypeMain  = 1
	TypeLC    = 2
	TypeSSR   = 3
	TypeLTP   = 4
	TypeSBR   = 5
	TypePS    = 29
	typeScale = 6
	typeLD    = 23
	typeELD   = 39
	typeUSAC  = 42
)

// names are what people call the object types.
var names = map[int]string{
	TypeMain: "AAC Main", TypeLC: "AAC-LC", TypeSSR: "AAC SSR", TypeLTP: "AAC LTP", typeScale: "scalable AAC", 17: "error resilient AAC-LC",
	19: "error resilient AAC LTP", 20: "error resilient scalable AAC", typeLD: "AAC-LD", typeELD: "AAC-ELD", typeUSAC: "xHE-AAC",
}

// sampleRates is table 1.18.
var sampleRates = [...]int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}

// Config is an AudioSpecificConfig.
type Config struct {
	ObjectType int   // of the core coder, 2 for LC
	Extension  int   // 5 (SBR) or 29 (PS) when signalled, else 0
	SampleRate int   // of the core coder, samples per second
	OutputRate int   // after SBR, samples per second
	Channels   int   // after PS
	Short      bool  // frames of 960 samples instead of 1024, or 480 instead of 512 (frameLengthFlag)
	Frame      int64 // samples of one channel in a frame, of coders that say themselves; else 0
}

// Samples is the number of samples of one channel in a frame of the core coder.
func (c *Config) Samples() int64 {
	switch {
	case c.Frame > 0:
		return c.Frame
	case c.Short:
		return 960
	}
	return FrameSamples
}

// Unmarshal reads a config.
func (c *Config) Unmarshal(b []byte) error { return c.read(bits.NewReader(b), true) }

// read reads a config; alone says that nothing else follows it, so that what lies behind it may be an extension.
func (c *Config) read(r *bits.Reader, alone bool) error {
	size := r.Left() / 8
	*c = Config{}
	c.ObjectType = objectType(r)
	c.SampleRate = sampleRate(r)
	c.OutputRate = c.SampleRate
	layout := int(r.U(4))
	if c.ObjectType == TypeSBR || c.ObjectType == TypePS {
		c.Extension = c.ObjectType
		c.OutputRate = sampleRate(r)
		c.ObjectType = objectType(r)
	}
	if r.Err() != nil {
		return &media.FormatError{Format: "AudioSpecificConfig", Found: fmt.Sprintf("%d bytes", size), Want: "at least 2"}
	}
	if !plausible(c.SampleRate) || !plausible(c.OutputRate) {
		return &media.FormatError{Format: "AudioSpecificConfig",
			Found: fmt.Sprintf("a sampling frequency of %d", c.SampleRate), Want: "7350 to 96000"}
	}
	if names[c.ObjectType] == "" {
		return &media.UnsupportedError{Format: "AAC", What: fmt.Sprintf("audio object type %d", c.ObjectType),
			Do: "set the encoder to AAC-LC"}
	}
	c.Channels = channelsOf(layout)
	switch c.ObjectType {
	case typeELD:
		c.lowDelay(r)
	case typeUSAC:
		if err := c.unified(r); err != nil {
			return err
		}
	default:
		if err := c.general(r, layout); err != nil {
			return err
		}
		if alone {
			c.backward(r)
		}
	}
	if c.Channels < 1 {
		return &media.UnsupportedError{Format: "AAC", What: fmt.Sprintf("channel configuration %d", layout),
			Do: "send mono or stereo"}
	}
	if c.Extension == TypePS && c.Channels == 1 {
		c.Channels = 2 // parametric stereo makes two of one
	}
	return nil
}

func plausible(rate int) bool { return rate >= 7350 && rate <= 96000 }

// channelsOf returns how many channels a channelConfiguration has (table 1.19), 0 when it does not say.
func channelsOf(layout int) int {
	switch {
	case layout >= 1 && layout <= 6:
		return layout
	case layout == 7, layout == 12, layout == 14:
		return 8
	case layout == 11:
		return 7
	case layout == 13:
		return 24
	}
	return 0
}

// general reads a GASpecificConfig (4.4.1). What is left out is 0.
func (c *Config) general(r *bits.Reader, layout int) error {
	c.Short = r.Flag()
	if c.ObjectType == typeLD {
		if c.Frame = 512; c.Short {
			c.Frame = 480
		}
	}
	if r.Flag() { // dependsOnCoreCoder
		r.U(14)
	}
	extension := r.Flag()
	if layout == 0 {
		if c.Channels = programChannels(r); r.Err() != nil {
			return &media.FormatError{Format: "AudioSpecificConfig", Found: "the end of a program config element", Want: "all of it"}
		}
	}
	if c.ObjectType == typeScale || c.ObjectType == 20 {
		r.U(3) // layerNr
	}
	if extension {
		if c.ObjectType >= 17 {
			r.U(3) // resilience
		}
		r.U(1)
	}
	if c.ObjectType >= 17 {
		r.U(2) // epConfig
	}
	return nil
}

// programChannels reads a program_config_element (4.5.1.2) and counts its channels.
func programChannels(r *bits.Reader) (n int) {
	r.U(4 + 2 + 4)
	pairs := []uint32{r.U(4), r.U(4), r.U(4)} // elements at the front, side and back
	low := r.U(2)
	r.U(3 + 4)
	for _, bits := range []int{4, 4, 3} { // mixdowns
		if r.Flag() {
			r.U(bits)
		}
	}
	for _, elements := range pairs {
		for range elements {
			n++
			if r.Flag() {
				n++
			}
			r.U(4)
		}
	}
	return n + int(low)
}

// backward reads what is signalled so that old decoders do not see it: SBR and PS behind the rest (1.6.5.3).
func (c *Config) backward(r *bits.Reader) {
	const syncSBR, syncPS = 0x2b7, 0x548
	if c.Extension != 0 || r.U(11) != syncSBR || r.Err() != nil {
		return
	}
	if objectType(r) != TypeSBR || !r.Flag() {
		return
	}
	rate := sampleRate(r)
	if r.Err() != nil || !plausible(rate) {
		return
	}
	c.Extension, c.OutputRate = TypeSBR, rate
	if r.U(11) == syncPS && r.Flag() && r.Err() == nil {
		c.Extension = TypePS
	}
}

// lowDelay reads an ELDSpecificConfig (4.6.20.3).
func (c *Config) lowDelay(r *bits.Reader) {
	c.Short = r.Flag()
	if c.Frame = 512; c.Short {
		c.Frame = 480
	}
	r.U(3)              // resilience
	present := r.Flag() // of SBR
	if double := present && r.Flag(); double {
		c.OutputRate = min(2*c.SampleRate, 96000)
	}
}

// unified reads the head of a UsacConfig (ISO/IEC 23003-3, 5.2). Its frames are counted at the rate that comes out.
func (c *Config) unified(r *bits.Reader) error {
	index := r.U(5)
	rate := 0
	if index == 31 {
		rate = int(r.U(24))
	} else if int(index) < len(unifiedRates) {
		rate = unifiedRates[index]
	}
	length, layout := r.U(3), int(r.U(5))
	if r.Err() != nil || !plausible(rate) || int(length) >= len(unifiedFrames) {
		return &media.FormatError{Format: "UsacConfig", Found: fmt.Sprintf("rate index %d and frame length index %d", index, length),
			Want: "ones of the standard"}
	}
	c.SampleRate, c.OutputRate, c.Frame = rate, rate, unifiedFrames[length]
	if n := channelsOf(layout); n > 0 {
		c.Channels = n
	}
	return nil
}

// Sampling frequencies by usacSamplingFrequencyIndex, and samples of a frame by coreSbrFrameLengthIndex (ISO/IEC
// 23003-3, tables 67 and 70).
var (
	unifiedRates = [...]int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350, 0, 0, 57600,
		51200, 40000, 38400, 34150, 28800, 25600, 20000, 19200, 17075, 14400, 12800, 9600}
	unifiedFrames = [...]int64{768, 1024, 2048, 2048, 4096}
)

// Name is what people call the coder.
func (c *Config) Name() string {
	switch {
	case c.Extension == TypePS:
		return "HE-AAC v2"
	case c.Extension == TypeSBR:
		return "HE-AAC"
	}
	return names[c.ObjectType]
}

// HasADTS reports whether frames can have a header of their own (1.A.2.2.1): it has room for four object types.
func (c *Config) HasADTS() bool { return c.ObjectType <= TypeLTP && c.Channels <= 8 }

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
	undecodable := ""
	if c.ObjectType != TypeLC {
		undecodable = c.Name()
	}
	return media.Track{
		Undecodable: undecodable,
		Kind:        media.Audio, Codec: media.AAC, Timescale: int64(c.SampleRate), Config: append([]byte(nil), config...),
		SampleRate: c.OutputRate, Channels: c.Channels, CodecName: name, FrameSamples: c.Samples(),
	}
}
