// Package hevc reads the syntax of ITU-T H.265 that a packager needs: the decoder configuration record
// of ISO/IEC 14496-15, sequence parameter sets, and the types of NAL units.
package hevc

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"strings"

	bitstring "metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// NAL unit types (table 7-1).
const (
	typeIRAPFirst = 16 // BLA_W_LP: from here to typeIRAPLast decoding may start
	typeIRAPLast  = 23
	TypeVPS       = 32
	TypeSPS       = 33
	TypePPS       = 34
	TypeAUD       = 35
	TypeFiller    = 38
)

// NALType returns nal_unit_type (7.3.1.2), 0 for an empty unit.
func NALType(nal []byte) int {
	if len(nal) < 2 {
		return 0
	}
	return int(nal[0] >> 1 & 63)
}

// HasIRAP reports whether an access unit, its NAL units behind lengths of four bytes, holds a picture
// at which decoding may start.
func HasIRAP(data []byte) bool {
	return has(data, func(t int) bool { return t >= typeIRAPFirst && t <= typeIRAPLast })
}

// has reports whether one of an access unit's NAL units is of a type.
func has(data []byte, is func(nalType int) bool) bool {
	for len(data) >= 4 {
		n := int(binary.BigEndian.Uint32(data))
		if data = data[4:]; n > len(data) || n == 0 {
			return false
		}
		if is(NALType(data[:n])) {
			return true
		}
		data = data[n:]
	}
	return false
}

// Config is an HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1.2).
type Config struct {
	Profile       Profile
	LengthSize    int // bytes before each NAL unit: 1, 2 or 4
	VPS, SPS, PPS [][]byte
}

// Profile is the general part of profile_tier_level (7.3.3).
type Profile struct {
	Space         uint8
	High          bool // tier
	IDC           uint8
	Compatibility uint32
	Constraints   [6]byte
	Level         uint8
}

const recordHeader = 23

// Unmarshal reads a record. The parameter sets share b.
func (c *Config) Unmarshal(b []byte) error {
	const format = "HEVCDecoderConfigurationRecord"
	if len(b) < recordHeader {
		return &media.FormatError{Format: format, Found: fmt.Sprintf("%d bytes", len(b)),
			Want: fmt.Sprintf("at least %d", recordHeader)}
	}
	if b[0] > 1 { // some encoders still write 0
		return &media.FormatError{Format: format, Found: fmt.Sprintf("version %d", b[0]), Want: "1"}
	}
	*c = Config{
		Profile: Profile{
			Space: b[1] >> 6, High: b[1]&0x20 != 0, IDC: b[1] & 31, Compatibility: binary.BigEndian.Uint32(b[2:]),
			Constraints: [6]byte(b[6:12]), Level: b[12],
		},
		LengthSize: int(b[21]&3) + 1,
	}
	if c.LengthSize == 3 {
		return &media.FormatError{Format: format, Found: "lengths of 3 bytes", Want: "1, 2 or 4"}
	}
	short := &media.FormatError{Format: format, Found: fmt.Sprintf("%d bytes that end inside an array", len(b)),
		Want: "the whole record"}
	p := b[recordHeader:]
	for range b[22] {
		if len(p) < 3 {
			return short
		}
		kind, count := int(p[0]&63), int(binary.BigEndian.Uint16(p[1:]))
		p = p[3:]
		for range count {
			if len(p) < 2 {
				return short
			}
			n := int(binary.BigEndian.Uint16(p))
			if p = p[2:]; n == 0 || n > len(p) {
				return short
			}
			switch kind {
			case TypeVPS:
				c.VPS = append(c.VPS, p[:n])
			case TypeSPS:
				c.SPS = append(c.SPS, p[:n])
			case TypePPS:
				c.PPS = append(c.PPS, p[:n])
			}
			p = p[n:]
		}
	}
	if len(c.SPS) == 0 || len(c.PPS) == 0 {
		return &media.FormatError{Format: format, Found: fmt.Sprintf("%d SPS and %d PPS", len(c.SPS), len(c.PPS)),
			Want: "at least one of each"}
	}
	return nil
}

// Name returns the RFC 6381 name (ISO/IEC 14496-15, E.3): profile, compatibility in reverse bit order,
// tier and level, and the bytes of constraints without trailing zeros.
func (p *Profile) Name() string {
	space := ""
	if p.Space > 0 {
		space = string(rune('A' + p.Space - 1))
	}
	tier := "L"
	if p.High {
		tier = "H"
	}
	name := fmt.Sprintf("hvc1.%s%d.%X.%s%d", space, p.IDC, bits.Reverse32(p.Compatibility), tier, p.Level)
	last := len(p.Constraints)
	for last > 0 && p.Constraints[last-1] == 0 {
		last--
	}
	var out strings.Builder
	for _, c := range p.Constraints[:last] {
		fmt.Fprintf(&out, ".%X", c)
	}
	return name + out.String()
}

// Track makes a video track of a record: what its first SPS says. The record is taken as it came,
// with lengths of four bytes, since that is how access units are held inside the origin.
func (c *Config) Track(record []byte) (media.Track, error) {
	sps, err := ParseSPS(c.SPS[0])
	if err != nil {
		return media.Track{}, err
	}
	own := append([]byte(nil), record...)
	own[0] = 1
	own[21] |= 3
	return media.Track{
		Kind: media.Video, Codec: media.HEVC, Timescale: media.VideoTimescale, Config: own,
		Width: sps.Width, Height: sps.Height, SAR: sps.SAR, FrameRate: sps.FrameRate, CodecName: c.Profile.Name(),
		Colour: sps.Colour, Reordered: sps.Reordered, Reorder: &sps.Reorder,
	}, nil
}

// NewRecord makes the record of parameter sets, with lengths of four bytes.
func NewRecord(sets [][]byte) ([]byte, error) {
	kinds := []int{TypeVPS, TypeSPS, TypePPS}
	by := map[int][][]byte{}
	for _, n := range sets {
		by[NALType(n)] = append(by[NALType(n)], n)
	}
	if len(by[TypeSPS]) == 0 || len(by[TypePPS]) == 0 {
		return nil, &media.FormatError{Format: "HEVC parameter sets", Found: fmt.Sprintf("%d SPS and %d PPS",
			len(by[TypeSPS]), len(by[TypePPS])), Want: "at least one of each"}
	}
	sps, err := ParseSPS(by[TypeSPS][0])
	if err != nil {
		return nil, err
	}
	// The general part of profile_tier_level stands behind the NAL unit's header and one byte.
	general := bitstring.Unescape(by[TypeSPS][0])[3:]
	b := append([]byte{1}, general[:12]...)
	depth := byte(sps.BitDepth - 8)
	b = append(b, 0xf0, 0, 0xfc, 0xfc|byte(sps.ChromaFormat), 0xf8|depth, 0xf8|depth, 0, 0, 1<<3|1<<2|3, byte(len(kinds)))
	for _, k := range kinds {
		b = append(b, 0x80|byte(k))
		b = binary.BigEndian.AppendUint16(b, uint16(len(by[k])))
		for _, n := range by[k] {
			b = binary.BigEndian.AppendUint16(b, uint16(len(n)))
			b = append(b, n...)
		}
	}
	return b, nil
}
