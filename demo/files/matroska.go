package files

import (
	"context"
	"encoding/binary"
	"math"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/opus"
)

var background = context.Background()

// MatroskaOptions are how a file is written.
type MatroskaOptions struct {
	Unknown bool // sizes of segment and clusters are not told, as live writers leave them
	Groups  bool // blocks lie in groups
	Lacing  int  // of sound: 0 none, 1 as Xiph has it, 2 fixed sizes where they are equal, 3 EBML
	Strip   bool // the first two bytes of pictures, which are the same in all, are left out
}

func element(id uint32, body ...[]byte) []byte {
	n := 0
	for _, b := range body {
		n += len(b)
	}
	out := append(name(id), size(uint64(n))...)
	for _, b := range body {
		out = append(out, b...)
	}
	return out
}

func name(id uint32) []byte {
	b := binary.BigEndian.AppendUint32(nil, id)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return b
}

// size writes a number of variable length (RFC 8794, section 4).
func size(n uint64) []byte {
	for length := 1; length < 8; length++ {
		if n < 1<<(7*length)-1 {
			v := n | 1<<(7*length)
			b := binary.BigEndian.AppendUint64(nil, v)
			return b[8-length:]
		}
	}
	return binary.BigEndian.AppendUint64(nil, n|1<<56)
}

func number(v uint64) []byte {
	b := binary.BigEndian.AppendUint64(nil, v)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return b
}

var codecIDs = map[media.Codec]string{media.H264: "V_MPEG4/ISO/AVC", media.VP8: "V_VP8", media.VP9: "V_VP9", media.AV1: "V_AV1", media.AAC: "A_AAC", media.Opus: "A_OPUS"}

// matroska writes a file, a cluster for each second.
//
//large:the elements nest as the file does
func matroska(docType string, o MatroskaOptions, tracks ...*track) []byte {
	const (
		fileHead = 0x1a45dfa3
		segment  = 0x18538067
		cluster  = 0x1f43b675
	)
	unknown := []byte{1, 255, 255, 255, 255, 255, 255, 255}
	out := element(fileHead, element(0x4282, []byte(docType)), element(0x4287, number(4)), element(0x4285, number(2)))
	body := element(0x1549a966, element(0x2ad7b1, number(1_000_000)), element(0x4d80, []byte("files")), element(0x5741, []byte("files")))
	var entries []byte
	var prefix []byte
	for i, t := range tracks {
		kind, config := uint64(1), t.Config
		var more []byte
		if t.Kind == media.Audio {
			kind = 2
			more = element(0xe1, element(0xb5, binary.BigEndian.AppendUint64(nil, math.Float64bits(float64(t.SampleRate)))), element(0x9f, number(uint64(t.Channels))))
			if t.Codec == media.Opus {
				var c opus.Config
				if c.UnmarshalBox(config) == nil {
					config = c.MarshalHead()
				}
			}
		} else {
			more = element(0xe0, element(0xb0, number(uint64(t.Width))), element(0xba, number(uint64(t.Height))))
			if o.Strip {
				prefix = t.units[0].Data[:2]
				more = append(more, element(0x6d80, element(0x6240, element(0x5031, number(0)), element(0x5033, number(0)), element(0x5034, element(0x4254, number(3)), element(0x4255, prefix))))...)
			}
		}
		private := element(0x63a2, config)
		if t.Codec == media.VP8 || t.Codec == media.VP9 {
			private = nil
		}
		entries = append(entries, element(0xae, element(0xd7, number(uint64(i+1))), element(0x73c5, number(uint64(i+1))), element(0x83, number(kind)), element(0x86, []byte(codecIDs[t.Codec])), private, more)...)
	}
	body = append(body, element(0x1654ae6b, entries)...)
	at := make([]int, len(tracks))
	for ms := int64(0); ; ms += 1000 {
		content := element(0xe7, number(uint64(ms)))
		left := false
		for i, t := range tracks {
			for at[i] < len(t.units) {
				u := &t.units[at[i]]
				if media.Rescale(u.DTS, t.Timescale, 1000) >= ms+1000 {
					left = true
					break
				}
				count := 1
				if o.Lacing > 0 && t.Kind == media.Audio {
					for count < 6 && at[i]+count < len(t.units) && media.Rescale(t.units[at[i]+count].DTS, t.Timescale, 1000) < ms+1000 {
						if o.Lacing == 2 && len(t.units[at[i]+count].Data) != len(u.Data) {
							break
						}
						count++
					}
				}
				block := size(uint64(i + 1))
				stamp := max(media.Rescale(u.PTS, t.Timescale, 1000), 0) - ms
				block = binary.BigEndian.AppendUint16(block, uint16(int16(stamp)))
				flags := byte(0)
				if u.Key && !o.Groups {
					flags = 0x80
				}
				if count > 1 {
					flags |= [...]byte{0, 2, 4, 6}[o.Lacing]
				}
				block = append(block, flags)
				if count > 1 {
					block = append(block, byte(count-1))
					for k := range count - 1 {
						n := len(t.units[at[i]+k].Data)
						switch {
						case o.Lacing == 1:
							for ; n >= 255; n -= 255 {
								block = append(block, 255)
							}
							block = append(block, byte(n))
						case o.Lacing == 3 && k == 0:
							block = append(block, size(uint64(n))...)
						case o.Lacing == 3: // a difference of two bytes
							d := n - len(t.units[at[i]+k-1].Data) + 1<<13 - 1
							block = append(block, byte(0x40|d>>8), byte(d))
						}
					}
				}
				for k := range count {
					data := t.units[at[i]+k].Data
					if t.Kind == media.Video {
						data = data[len(prefix):]
					}
					block = append(block, data...)
				}
				at[i] += count
				if o.Groups {
					group := element(0xa1, block)
					if !u.Key {
						group = append(group, element(0xfb, []byte{0xff})...)
					}
					content = append(content, element(0xa0, group)...)
				} else {
					content = append(content, element(0xa3, block)...)
				}
			}
		}
		if o.Unknown {
			body = append(append(append(body, name(cluster)...), unknown...), content...)
		} else {
			body = append(body, element(cluster, content)...)
		}
		if !left {
			break
		}
	}
	if o.Unknown {
		return append(append(append(out, name(segment)...), unknown...), body...)
	}
	return append(out, element(segment, body)...)
}
