// Package opus reads the syntax of Opus that a packager needs: the identification header (RFC 7845, 5.1),
// the box of the encapsulation in ISO media files, and the durations of packets (RFC 6716, 3).
package opus

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/media"
)

// SampleRate is what every decoder puts out, and the timescale of a track.
const SampleRate = 48000

const (
	headSize = 19 // of an identification header without a mapping table
	boxSize  = 11
	//limit:samples of a packet | each packet | it is refused
	maxPacket  = 5760 // samples: 120 ms
	headMagic  = "OpusHead"
	usualFrame = 960 // samples: 20 ms
)

// Config describes a stream.
type Config struct {
	Channels  uint8
	PreSkip   uint16
	InputRate uint32
	Gain      int16  // Q7.8 dB
	Family    uint8  // channel mapping
	Mapping   []byte // stream count, coupled count and the table, when Family is not 0
}

// UnmarshalHead reads an identification header.
func (c *Config) UnmarshalHead(b []byte) error {
	if len(b) < headSize || string(b[:8]) != headMagic {
		return &media.FormatError{Format: "Opus header", Found: fmt.Sprintf("%d bytes that begin with %q", len(b),
			b[:min(len(b), 8)]), Want: fmt.Sprintf("%q and at least %d bytes", headMagic, headSize)}
	}
	if b[8]>>4 != 0 {
		return &media.FormatError{Format: "Opus header", Found: fmt.Sprintf("version %d", b[8]), Want: "1"}
	}
	*c = Config{
		Channels: b[9], PreSkip: binary.LittleEndian.Uint16(b[10:]), InputRate: binary.LittleEndian.Uint32(b[12:]),
		Gain: int16(binary.LittleEndian.Uint16(b[16:])), Family: b[18],
	}
	return c.mapping(b[headSize:])
}

// UnmarshalBox reads the content of a dOps box ("Encapsulation of Opus in ISO Base Media File Format", 4.3.2).
func (c *Config) UnmarshalBox(b []byte) error {
	if len(b) < boxSize || b[0] != 0 {
		return &media.FormatError{Format: "dOps box", Found: fmt.Sprintf("%d bytes", len(b)),
			Want: fmt.Sprintf("version 0 and at least %d bytes", boxSize)}
	}
	*c = Config{
		Channels: b[1], PreSkip: binary.BigEndian.Uint16(b[2:]), InputRate: binary.BigEndian.Uint32(b[4:]),
		Gain: int16(binary.BigEndian.Uint16(b[8:])), Family: b[10],
	}
	return c.mapping(b[boxSize:])
}

func (c *Config) mapping(rest []byte) error {
	most := 2
	if c.Family > 0 {
		most = 8
		if len(rest) < 2+int(c.Channels) {
			return &media.FormatError{Format: "Opus header", Found: fmt.Sprintf("a mapping of %d bytes", len(rest)),
				Want: fmt.Sprintf("%d", 2+int(c.Channels))}
		}
		c.Mapping = append([]byte(nil), rest[:2+int(c.Channels)]...)
	}
	if c.Channels < 1 || int(c.Channels) > most {
		return &media.FormatError{Format: "Opus header", Found: fmt.Sprintf("%d channels in mapping family %d", c.Channels,
			c.Family), Want: fmt.Sprintf("1 to %d", most)}
	}
	return nil
}

// MarshalBox writes the content of a dOps box.
func (c *Config) MarshalBox() []byte {
	b := []byte{0, c.Channels}
	b = binary.BigEndian.AppendUint16(b, c.PreSkip)
	b = binary.BigEndian.AppendUint32(b, c.InputRate)
	b = binary.BigEndian.AppendUint16(b, uint16(c.Gain))
	return append(append(b, c.Family), c.Mapping...)
}

// MarshalHead writes an identification header.
func (c *Config) MarshalHead() []byte {
	b := append([]byte(headMagic), 1, c.Channels)
	b = binary.LittleEndian.AppendUint16(b, c.PreSkip)
	b = binary.LittleEndian.AppendUint32(b, c.InputRate)
	b = binary.LittleEndian.AppendUint16(b, uint16(c.Gain))
	return append(append(b, c.Family), c.Mapping...)
}

// Track makes an audio track. Packets are taken to last 20 ms until the first one tells: see Complete.
func (c *Config) Track() media.Track {
	return media.Track{
		Kind: media.Audio, Codec: media.Opus, Timescale: SampleRate, Config: c.MarshalBox(), CodecName: "opus",
		SampleRate: SampleRate, Channels: int(c.Channels), FrameSamples: usualFrame,
	}
}

// Samples returns how long a packet lasts, in samples of SampleRate (RFC 6716, 3.1 and 3.2).
func Samples(packet []byte) (int64, error) {
	if len(packet) == 0 {
		return 0, &media.FormatError{Format: "Opus packet", Found: "no bytes", Want: "at least 1"}
	}
	var frame int64
	switch config := packet[0] >> 3; {
	case config < 12: // SILK: 10, 20, 40, 60 ms
		frame = [4]int64{480, 960, 1920, 2880}[config&3]
	case config < 16: // hybrid: 10, 20 ms
		frame = 480 << (config & 1)
	default: // CELT: 2.5, 5, 10, 20 ms
		frame = 120 << (config & 3)
	}
	count := int64(1)
	switch packet[0] & 3 {
	case 1, 2:
		count = 2
	case 3:
		if len(packet) < 2 {
			return 0, &media.FormatError{Format: "Opus packet", Found: "1 byte", Want: "a frame count"}
		}
		count = int64(packet[1] & 63)
	}
	if n := frame * count; n > 0 && n <= maxPacket {
		return n, nil
	}
	return 0, &media.FormatError{Format: "Opus packet", Found: fmt.Sprintf("%d frames of %d samples", count, frame),
		Want: fmt.Sprintf("1 to %d samples", maxPacket)}
}

// Complete adds to a track what its first packet tells.
func Complete(t *media.Track, packet []byte) error {
	n, err := Samples(packet)
	if err == nil {
		t.FrameSamples = n
	}
	return err
}
