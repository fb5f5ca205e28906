package rtpmedia

import (
	"encoding/binary"

	"metaplasis/internal/core/rawvideo"
)

// RawPackets cuts a picture without compression into packets (RFC 4175), each of a stretch of one line, and hands over
// the payload of each, whose bytes are valid until the next; sequence is the number of the first packet, of 32 bits. It
// returns the number that follows.
func RawPackets(f *rawvideo.Format, picture []byte, sequence uint32, most int, each func(payload []byte, last bool)) uint32 {
	const head = 8
	line := f.LineBytes()
	stretch := (most - head) / f.GroupBytes() * f.GroupBytes()
	n := (line + stretch - 1) / stretch // packets of a line, of about one length
	stretch = ((line/f.GroupBytes() + n - 1) / n) * f.GroupBytes()
	b := make([]byte, head+stretch)
	for y := range f.Height {
		for at := 0; at < line; at += stretch {
			part := picture[y*line+at : y*line+min(at+stretch, line)]
			binary.BigEndian.PutUint16(b, uint16(sequence>>16))
			binary.BigEndian.PutUint16(b[2:], uint16(len(part)))
			binary.BigEndian.PutUint16(b[4:], uint16(y))
			binary.BigEndian.PutUint16(b[6:], uint16(at/f.GroupBytes()*2))
			copy(b[head:], part)
			each(b[:head+len(part)], y == f.Height-1 && at+stretch >= line)
			sequence++
		}
	}
	return sequence
}
