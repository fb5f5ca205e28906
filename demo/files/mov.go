package files

import (
	"encoding/binary"
	"slices"
)

// Cameras and phones write MOV files whose sound is told of otherwise than in MP4 files: these are made of MP4 files.

// boxed is a box with its size.
func boxed(kind string, parts ...[]byte) []byte {
	body := slices.Concat(parts...)
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(8+len(body))), kind...), body...)
}

// rebuilt writes boxes again; change may change the body of those that hold none.
func rebuilt(b []byte, change func(kind string, body []byte) []byte) (out []byte) {
	for len(b) >= 8 {
		n := int(binary.BigEndian.Uint32(b))
		if n < 8 || n > len(b) {
			return append(out, b...)
		}
		kind, body := string(b[4:8]), b[8:n]
		switch kind {
		case "moov", "trak", "mdia", "minf", "stbl":
			body = rebuilt(body, change)
		default:
			body = change(kind, slices.Clone(body))
		}
		out = append(out, boxed(kind, body)...)
		b = b[n:]
	}
	return out
}

// moved adds to the chunk offsets how much further the media lies.
func moved(before, after []byte) []byte {
	delta := len(after) - len(before)
	return rebuilt(after, func(kind string, body []byte) []byte {
		if kind == "stco" {
			for i := 8; i+4 <= len(body); i += 4 {
				binary.BigEndian.PutUint32(body[i:], uint32(int(binary.BigEndian.Uint32(body[i:]))+delta))
			}
		}
		if kind == "co64" {
			for i := 8; i+8 <= len(body); i += 8 {
				binary.BigEndian.PutUint64(body[i:], uint64(int(binary.BigEndian.Uint64(body[i:]))+delta))
			}
		}
		return body
	})
}

// quickTime makes a MOV file of an MP4 file with its tables first: its AAC has a sound description of version 1, with the
// configuration in a wave atom that ends with an empty one.
func quickTime(b []byte) []byte {
	out := rebuilt(b, func(kind string, body []byte) []byte {
		if kind == "ftyp" {
			copy(body, "qt  ")
		}
		if kind != "stsd" || string(body[12:16]) != "mp4a" {
			return body
		}
		entry := body[16:]
		head := slices.Clone(entry[:28])
		head[9] = 1
		more := make([]byte, 16)
		binary.BigEndian.PutUint32(more, 1024)
		wave := boxed("wave", boxed("frma", []byte("mp4a")), boxed("mp4a", make([]byte, 4)), entry[28:], []byte{0, 0, 0, 8, 0, 0, 0, 0})
		return append(slices.Clone(body[:8]), boxed("mp4a", head, more, wave)...)
	})
	return moved(b, out)
}

// uncompressed makes a MOV file of an MP4 file with its tables first: its sound is samples of 16 bits, each with a row of its own in the
// tables, behind the rest of the file.
func uncompressed(b []byte, pcm []int16, channels int) []byte {
	frames := len(pcm) / channels
	u32 := func(v ...int) (out []byte) {
		for _, x := range v {
			out = binary.BigEndian.AppendUint32(out, uint32(x))
		}
		return out
	}
	make1 := func(place int) []byte {
		sound := false
		out := rebuilt(b, func(kind string, body []byte) []byte {
			if kind == "ftyp" {
				copy(body, "qt  ")
			}
			if kind == "hdlr" && len(body) >= 12 {
				sound = string(body[8:12]) == "soun"
			}
			if !sound {
				return body
			}
			switch kind {
			case "stsd":
				entry := slices.Clone(body[16 : 16+28])
				return append(slices.Clone(body[:8]), boxed("sowt", entry)...)
			case "stts":
				return u32(0, 1, frames, 1)
			case "stsz":
				return u32(0, 2*channels, frames)
			case "stsc":
				return u32(0, 1, 1, frames, 1)
			case "stco":
				return u32(0, 1, place)
			case "co64":
				return u32(0, 1, 0, place)
			}
			return body
		})
		return out
	}
	raw := make([]byte, 0, 2*len(pcm))
	for _, v := range pcm {
		raw = binary.LittleEndian.AppendUint16(raw, uint16(v))
	}
	first := make1(0)
	place := len(first) + 8 // the media box's head
	out := make1(place - (len(first) - len(b)))
	out = moved(b, out)
	return append(out, boxed("mdat", raw)...)
}
