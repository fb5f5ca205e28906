package avc

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// Closed captions travel in supplemental enhancement information: user data registered by ITU-T
// T.35 (ITU-T H.264, D.1.6), as ATSC A/53 part 4, 6.2.3 lays it out:
//
//	country(8)=0xb5 provider(16)=0x0031 "GA94" type(8)=3 cc_data()
//	cc_data: reserved(1) process(1) additional(1) count(5) 0xff { marker(5) valid(1) type(2) data(16) } 0xff

const seiRegistered = 4 // payloadType of user_data_registered_itu_t_t35

var captionMark = []byte{0xb5, 0x00, 0x31, 'G', 'A', '9', '4', 3}

// Captions returns the cc_data of a unit's captions, each as it stands in its message; the NAL
// units stand behind lengths of four bytes. The common case, none, costs a look at each NAL header.
func Captions(data []byte) (out [][]byte) {
	for len(data) >= 4 {
		n := int(binary.BigEndian.Uint32(data))
		data = data[4:]
		if n > len(data) || n == 0 {
			return out
		}
		if NALType(data[:n]) == TypeSEI {
			out = append(out, captionsOf(unescape(data[1:n]))...)
		}
		data = data[n:]
	}
	return out
}

// captionsOf walks the messages of one SEI unit (7.3.2.3.1).
func captionsOf(b []byte) (out [][]byte) {
	for len(b) > 2 {
		kind, rest, ok := seiNumber(b)
		if !ok {
			return out
		}
		size, rest, ok := seiNumber(rest)
		if !ok || size > len(rest) {
			return out
		}
		if kind == seiRegistered && bytes.HasPrefix(rest[:size], captionMark) {
			out = append(out, rest[len(captionMark):size])
		}
		b = rest[size:]
	}
	return out
}

// seiNumber reads a number written as bytes of 255 and a last one.
func seiNumber(b []byte) (n int, rest []byte, ok bool) {
	for i, v := range b {
		n += int(v)
		if v != 255 {
			return n, b[i+1:], true
		}
	}
	return 0, nil, false
}

// CaptionScan finds out which captions a stream carries.
type CaptionScan struct {
	packet []byte // of CEA-708, as far as it has come
	size   int
}

// See looks at one cc_data, in order of presentation, and returns the services that say something in
// it: CC1 to CC4 (CEA-608) and SERVICE1 to SERVICE63 (CEA-708). Padding says nothing.
func (s *CaptionScan) See(cc []byte) (found []string) {
	if len(cc) < 2 {
		return nil
	}
	triplets := cc[2:]
	for range min(int(cc[0]&0x1f), len(triplets)/3) {
		kind, a, b := triplets[0], triplets[1], triplets[2]
		triplets = triplets[3:]
		if kind&4 == 0 { // not valid
			continue
		}
		switch kind & 3 {
		case 0, 1: // a pair of CEA-608 for one field; a control code tells whose text follows (8.4)
			code, what := a&0x7f, b&0x7f
			text := code&0x76 == 0x14 && (what == 0x2a || what == 0x2b)
			if code >= 0x10 && code < 0x20 && what >= 0x20 && !text {
				found = append(found, fmt.Sprintf("CC%d", 1+2*(kind&1)+code>>3&1))
			}
		case 3: // the begin of a packet of CEA-708 (5.)
			if s.size = 2 * int(a&0x3f); s.size == 0 {
				s.size = 128
			}
			s.packet = append(s.packet[:0], a, b)
		default:
			if len(s.packet) < s.size {
				s.packet = append(s.packet, a, b)
			}
		}
		if s.size > 0 && len(s.packet) >= s.size {
			found = append(found, blocks(s.packet[1:s.size])...)
			s.size = 0
		}
	}
	return found
}

// blocks lists the services with a block in a packet (CEA-708, 6.2).
func blocks(b []byte) (found []string) {
	for len(b) > 0 {
		service, size := int(b[0]>>5), int(b[0]&0x1f)
		b = b[1:]
		if service == 7 && size > 0 && len(b) > 0 {
			service = int(b[0] & 0x3f)
			b = b[1:]
		}
		if service == 0 || size > len(b) {
			return found
		}
		if size > 0 {
			found = append(found, fmt.Sprintf("SERVICE%d", service))
		}
		b = b[size:]
	}
	return found
}

// CaptionSEI makes a SEI unit that carries cc_data.
func CaptionSEI(ccData []byte) []byte {
	payload := append(append([]byte(nil), captionMark...), ccData...)
	b := []byte{TypeSEI, seiRegistered}
	n := len(payload)
	for ; n >= 255; n -= 255 {
		b = append(b, 255)
	}
	b = append(b, byte(n))
	b = append(b, payload...)
	b = append(b, 0x80)
	return escape(b)
}

// escape puts in emulation_prevention_three_byte (7.4.1).
func escape(nal []byte) []byte {
	out := make([]byte, 0, len(nal)+8)
	zeros := 0
	for _, v := range nal {
		if zeros >= 2 && v <= 3 {
			out = append(out, 3)
			zeros = 0
		}
		out = append(out, v)
		if v == 0 {
			zeros++
		} else {
			zeros = 0
		}
	}
	return out
}

// InsertSEI puts SEI units before the first slice of an access unit, behind its delimiter.
func InsertSEI(data []byte, seis ...[]byte) []byte {
	size := len(data)
	for _, s := range seis {
		size += len(s) + 4
	}
	out := make([]byte, 0, size)
	if len(data) >= 5 && NALType(data[4:]) == TypeAUD {
		n := 4 + int(binary.BigEndian.Uint32(data))
		if n <= len(data) {
			out = append(out, data[:n]...)
			data = data[n:]
		}
	}
	for _, s := range seis {
		out = AppendNAL(out, s)
	}
	return append(out, data...)
}

// Pair608 is cc_data with one pair of CEA-608 bytes for the first field. Parity is set here.
func Pair608(a, b byte) []byte {
	return []byte{0x80 | 0x40 | 1, 0xff, 0xf8 | 4, parity(a), parity(b), 0xff}
}

// parity sets the eighth bit so that the number of ones is odd (CEA-608, 8.2).
func parity(v byte) byte {
	v &= 0x7f
	ones := 0
	for b := v; b != 0; b &= b - 1 {
		ones++
	}
	if ones%2 == 0 {
		v |= 0x80
	}
	return v
}

// RollUp608 writes a line of text as the pairs of a roll-up caption on channel 1 (CEA-608, annex B.5):
// each pair goes with one picture. Characters that the standard's basic set lacks become spaces.
func RollUp608(text string) (pairs [][2]byte) {
	control := func(b byte) { pairs = append(pairs, [2]byte{0x14, b}, [2]byte{0x14, b}) } // sent twice
	control(0x25)                                                                         // roll-up, two rows
	control(0x2d)                                                                         // carriage return
	control(0x70)                                                                         // row 15, white
	clean := []byte(text)
	for i, c := range clean {
		if c < 0x20 || c > 0x7a || c == 0x2a || c == 0x5c || c == 0x5e || c == 0x5f || c == 0x60 {
			clean[i] = ' '
		}
	}
	if len(clean)%2 == 1 {
		clean = append(clean, 0)
	}
	for i := 0; i < len(clean); i += 2 {
		pairs = append(pairs, [2]byte{clean[i], clean[i+1]})
	}
	return pairs
}
