package files

import (
	"encoding/binary"
	"slices"
)

// Edit is a stretch of an edit list (ISO/IEC 14496-12, 8.6.6): for how long, in ticks of the movie, and from where of the media, in ticks
// of the track; -1 is nothing.
type Edit struct{ Length, From int64 }

// edited gives the tracks of an MP4 file with its tables first edit lists, in their order.
func edited(b []byte, lists ...[]Edit) []byte {
	n := -1
	var out []byte
	for at := 0; at+8 <= len(b); {
		size := int(binary.BigEndian.Uint32(b[at:]))
		if size < 8 || size > len(b)-at { // the media, to the end
			size = len(b) - at
		}
		box := b[at : at+size]
		if string(box[4:8]) == "moov" {
			var body []byte
			for in := box[8:]; len(in) >= 8; {
				k := int(binary.BigEndian.Uint32(in))
				one := in[:k]
				if string(one[4:8]) == "trak" {
					if n++; n < len(lists) && lists[n] != nil {
						one = boxed("trak", without(one[8:], "edts"), boxed("edts", boxed("elst", editList(lists[n]))))
					}
				}
				body, in = append(body, one...), in[k:]
			}
			box = boxed("moov", body)
		}
		out = append(out, box...)
		at += size
	}
	return moved(b, out)
}

// without leaves boxes of a kind out.
func without(b []byte, kind string) (out []byte) {
	for len(b) >= 8 {
		n := int(binary.BigEndian.Uint32(b))
		if string(b[4:8]) != kind {
			out = append(out, b[:n]...)
		}
		b = b[n:]
	}
	return out
}

func editList(list []Edit) []byte {
	b := binary.BigEndian.AppendUint32([]byte{0, 0, 0, 0}, uint32(len(list)))
	for _, e := range list {
		b = binary.BigEndian.AppendUint32(b, uint32(e.Length))
		b = binary.BigEndian.AppendUint32(b, uint32(int32(e.From)))
		b = append(b, 0, 1, 0, 0)
	}
	return b
}

// turned says in an MP4 file that its pictures are to be turned by 90 degrees, as phones do.
func turned(b []byte) []byte {
	first := true
	return rebuilt(b, func(kind string, body []byte) []byte {
		if kind == "tkhd" && first {
			first = false
			matrix := body[40:]
			if body[0] == 1 {
				matrix = body[52:]
			}
			for i, v := range []uint32{0, 1 << 16, 0, 0xffff0000, 0, 0, 180 << 16, 0, 1 << 30} {
				binary.BigEndian.PutUint32(matrix[4*i:], v)
			}
		}
		return body
	})
}

// sampleDescriptions lets the second half of an MP4 file's chunks refer to another description of its samples.
func sampleDescriptions(b []byte) []byte {
	first := true
	out := rebuilt(b, func(kind string, body []byte) []byte {
		switch {
		case kind == "stsd" && first:
			body = append(body, body[8:]...)
			binary.BigEndian.PutUint32(body[4:], 2)
		case kind == "stsc" && first:
			first = false
			each := slices.Clone(body[12:16])
			body = append(body, 0, 0, 0, 2)
			body = append(append(body, each...), 0, 0, 0, 2)
			binary.BigEndian.PutUint32(body[4:], binary.BigEndian.Uint32(body[4:])+1)
		}
		return body
	})
	return moved(b, out)
}
