// Package captions reads and writes closed captions as they lie in a codec's access units: cc_data of
// CEA-708, 4.4, which carries CEA-608 too.
package captions

import (
	"fmt"
)

// Scan finds out which captions a stream carries.
type Scan struct{ packets packets708 }

// See looks at one cc_data, in order of presentation, and returns the services that say something in
// it: CC1 to CC4 (CEA-608) and SERVICE1 to SERVICE63 (CEA-708). Padding says nothing.
func (s *Scan) See(cc []byte) (found []string) {
	triplets(cc, func(kind, a, b byte) {
		if kind >= 2 {
			s.packets.decodePair(kind, a, b, func(service int, block []byte) {
				if len(block) > 0 {
					found = append(found, fmt.Sprintf("SERVICE%d", service))
				}
			})
			return
		}
		// A pair of CEA-608 for one field; a control code tells whose text follows (8.4).
		code, what := a&0x7f, b&0x7f
		text := code&0x76 == 0x14 && (what == 0x2a || what == 0x2b)
		if code >= 0x10 && code < 0x20 && what >= 0x20 && !text {
			found = append(found, fmt.Sprintf("CC%d", 1+2*kind+code>>3&1))
		}
	})
	return found
}

// triplets walks what is valid of one cc_data: kind 0 and 1 are pairs of CEA-608 for a field, 3 is the begin of a packet
// of CEA-708, and 2 more of it.
func triplets(cc []byte, each func(kind, a, b byte)) {
	if len(cc) < 2 {
		return
	}
	list := cc[2:]
	for range min(int(cc[0]&0x1f), len(list)/3) {
		if list[0]&4 != 0 {
			each(list[0]&3, list[1], list[2])
		}
		list = list[3:]
	}
}

// packets708 puts packets of CEA-708 together (5.).
type packets708 struct {
	packet []byte // as far as it has come
	size   int
}

// decodePair takes two bytes, and hands over the service blocks of a packet that is whole with them (6.2).
func (p *packets708) decodePair(kind, a, b byte, each func(service int, block []byte)) {
	if kind == 3 {
		if p.size = 2 * int(a&0x3f); p.size == 0 {
			p.size = 128
		}
		p.packet = p.packet[:0]
	}
	if p.size == 0 {
		return
	}
	if p.packet = append(p.packet, a, b); len(p.packet) < p.size {
		return
	}
	blocks := p.packet[1:p.size]
	p.size = 0
	for len(blocks) > 0 {
		service, size := int(blocks[0]>>5), int(blocks[0]&0x1f)
		blocks = blocks[1:]
		if service == 7 && size > 0 && len(blocks) > 0 {
			service = int(blocks[0] & 0x3f)
			blocks = blocks[1:]
		}
		if service == 0 || size > len(blocks) {
			return
		}
		each(service, blocks[:size])
		blocks = blocks[size:]
	}
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
