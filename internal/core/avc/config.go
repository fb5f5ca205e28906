package avc

import (
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/media"
)

// Config is an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1):
//
//	version profile compatibility level | 111111 lengthSize-1 | 111 numSPS | (len16 SPS)* | numPPS | (len16 PPS)* | …
type Config struct {
	LengthSize int // bytes before each NAL unit: 1, 2 or 4
	SPS, PPS   [][]byte
}

// Unmarshal reads a record. The parameter sets share b.
func (c *Config) Unmarshal(b []byte) error {
	short := func(what string) error {
		return &media.FormatError{Format: "AVCDecoderConfigurationRecord",
			Found: fmt.Sprintf("%d bytes that end inside %s", len(b), what), Want: "the whole record"}
	}
	if len(b) < 7 {
		return short("its header")
	}
	if b[0] != 1 {
		return &media.FormatError{Format: "AVCDecoderConfigurationRecord", Found: fmt.Sprintf("version %d", b[0]),
			Want: "1"}
	}
	*c = Config{LengthSize: int(b[4]&3) + 1}
	if c.LengthSize == 3 {
		return &media.FormatError{Format: "AVCDecoderConfigurationRecord", Found: "lengths of 3 bytes", Want: "1, 2 or 4"}
	}
	p := b[5:]
	sets := func(count int, what string) ([][]byte, error) {
		var out [][]byte
		for range count {
			if len(p) < 2 {
				return nil, short(what)
			}
			n := int(binary.BigEndian.Uint16(p))
			if p = p[2:]; n > len(p) || n == 0 {
				return nil, short(what)
			}
			out = append(out, p[:n])
			p = p[n:]
		}
		return out, nil
	}
	var err error
	count := int(p[0] & 31)
	p = p[1:]
	if c.SPS, err = sets(count, "an SPS"); err != nil {
		return err
	}
	if len(p) < 1 {
		return short("the number of PPS")
	}
	count = int(p[0])
	p = p[1:]
	if c.PPS, err = sets(count, "a PPS"); err != nil {
		return err
	}
	if len(c.SPS) == 0 || len(c.PPS) == 0 {
		return &media.FormatError{Format: "AVCDecoderConfigurationRecord",
			Found: fmt.Sprintf("%d SPS and %d PPS", len(c.SPS), len(c.PPS)), Want: "at least one of each"}
	}
	return nil
}

// Marshal writes a record with four-byte lengths, whatever LengthSize says, since that is how
// access units are held inside the origin.
func (c *Config) Marshal() []byte {
	sps := c.SPS[0]
	b := []byte{1, sps[1], sps[2], sps[3], 0xfc | (startCodeLen - 1), 0xe0 | byte(len(c.SPS))}
	for _, s := range c.SPS {
		b = binary.BigEndian.AppendUint16(b, uint16(len(s)))
		b = append(b, s...)
	}
	b = append(b, byte(len(c.PPS)))
	for _, s := range c.PPS {
		b = binary.BigEndian.AppendUint16(b, uint16(len(s)))
		b = append(b, s...)
	}
	if parsed, err := ParseSPS(sps); err == nil {
		switch parsed.Profile {
		case 100, 110, 122, 144: // the record's fields for High profiles
			b = append(b, 0xfc|byte(parsed.ChromaFormat), 0xf8|byte(parsed.BitDepth-8), 0xf8|byte(parsed.ChromaDepth-8), 0)
		}
	}
	return b
}

// Track makes a video track of the record: what the first SPS says, and the record rewritten
// for four-byte lengths.
func (c *Config) Track() (media.Track, error) {
	sps, err := ParseSPS(c.SPS[0])
	if err != nil {
		return media.Track{}, err
	}
	var reorder *int
	if sps.Reorder >= 0 {
		reorder = &sps.Reorder
	}
	return media.Track{
		Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Config: c.Marshal(),
		Width: sps.Width, Height: sps.Height, SAR: sps.SAR, FrameRate: sps.FrameRate, CodecName: sps.CodecName(),
		Colour: sps.Colour, Undecodable: sps.Undecodable(), Reordered: sps.Reordered, Reorder: reorder,
	}, nil
}

// WithSets returns an access unit behind the parameter sets of a record.
func WithSets(record, unit []byte) []byte {
	var c Config
	if c.Unmarshal(record) != nil {
		return unit
	}
	out := make([]byte, 0, len(record)+len(unit)+8*(len(c.SPS)+len(c.PPS)))
	for _, n := range append(append([][]byte(nil), c.SPS...), c.PPS...) {
		out = AppendNAL(out, n)
	}
	return append(out, unit...)
}
