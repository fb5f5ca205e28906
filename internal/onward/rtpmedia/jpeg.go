package rtpmedia

import (
	"encoding/binary"
)

// jpegPayloader writes JPEG pictures (RFC 2435): of 4:2:2 or 4:2:0, with the Huffman tables of the standard. Others are
// left out.
type jpegPayloader struct{}

// Payload implements rtp.Payloader.
func (jpegPayloader) Payload(mtu uint16, b []byte) (out [][]byte) {
	const ownTables = 255
	var tables []byte
	var kind, width, height byte
	scan := -1
	for at := 2; at+4 <= len(b) && scan < 0; {
		if b[at] != 0xff {
			return nil
		}
		n := int(binary.BigEndian.Uint16(b[at+2:]))
		if at+2+n > len(b) || n < 2 {
			return nil
		}
		body := b[at+4 : at+2+n]
		switch b[at+1] {
		case 0xdb:
			for ; len(body) >= 65; body = body[65:] {
				tables = append(tables, body[1:65]...)
			}
		case 0xc0:
			if len(body) < 9 {
				return nil
			}
			height, width = byte((int(body[1])<<8|int(body[2]))/8), byte((int(body[3])<<8|int(body[4]))/8)
			if body[7] == 0x22 {
				kind = 1
			}
		case 0xda:
			scan = at + 2 + n
		}
		at += 2 + n
	}
	if scan < 0 || len(tables) < 128 || width == 0 || height == 0 {
		return nil
	}
	data := b[scan:]
	for off := 0; off < len(data); {
		head := []byte{0, byte(off >> 16), byte(off >> 8), byte(off), kind, ownTables, width, height}
		if off == 0 {
			head = append(append(head, 0, 0, 0, 128), tables[:128]...)
		}
		n := min(int(mtu)-len(head), len(data)-off)
		out = append(out, append(head, data[off:off+n]...))
		off += n
	}
	return out
}
