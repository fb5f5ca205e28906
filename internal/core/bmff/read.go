package bmff

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"time"

	"metaplasis/internal/core/media"
)

// Fragment is what one moof and mdat hold, for the one track that CMAF allows.
type Fragment struct {
	Sequence uint32
	DTS      int64 // baseMediaDecodeTime, in the track's timescale
	Units    []media.AccessUnit
	Messages []Message // of the emsg boxes that stood before it
	Produced time.Time // of the prft box that stood before it, else zero
	Data     int       // bytes of its mdat
	sizes    []int     // of the units, as trun tells them
}

// HeaderInfo is what a reader of segments needs of a header.
type HeaderInfo struct {
	Timescale     int64
	Handler       string // "vide" or "soun"
	SampleEntry   string // "avc1", "mp4a"
	Config        []byte // the contents of avcC, or of the decoder specific info
	Width, Height int    // of the visual sample entry
}

func broken(found, want string) error {
	return &media.FormatError{Format: "ISO base media file", Found: found, Want: want}
}

// walk calls visit for each box in b, with the box's body.
func walk(b []byte, visit func(kind string, body []byte) error) error {
	return walkFrom(b, func(kind string, body, _ []byte) error { return visit(kind, body) })
}

// walkFrom also hands over b from the first byte of the box on.
func walkFrom(b []byte, visit func(kind string, body, from []byte) error) error {
	for len(b) > 0 {
		if len(b) < 8 {
			return broken(fmt.Sprintf("%d bytes where a box should begin", len(b)), "at least 8")
		}
		n := uint64(binary.BigEndian.Uint32(b))
		head := uint64(8)
		if n == 1 && len(b) >= 16 {
			n, head = binary.BigEndian.Uint64(b[8:]), 16
		} else if n == 0 {
			n = uint64(len(b))
		}
		if n < head || n > uint64(len(b)) {
			return broken(fmt.Sprintf("box %q of %d bytes", b[4:8], n), fmt.Sprintf("%d to %d", head, len(b)))
		}
		if err := visit(string(b[4:8]), b[head:n], b); err != nil {
			return err
		}
		b = b[n:]
	}
	return nil
}

// containers are the boxes that ReadHeader looks into.
var containers = map[string]bool{"moov": true, "trak": true, "mdia": true, "minf": true, "stbl": true}

// ReadHeader reads a CMAF header of one track.
func ReadHeader(b []byte) (*HeaderInfo, error) {
	h := &HeaderInfo{}
	var visit func(kind string, body []byte) error
	visit = func(kind string, body []byte) error {
		switch {
		case containers[kind]:
			return walk(body, visit)
		case kind == "mdhd":
			at := 12
			if len(body) > 0 && body[0] == 1 {
				at = 20
			}
			if len(body) < at+4 {
				return broken("a short mdhd", "a timescale")
			}
			h.Timescale = int64(binary.BigEndian.Uint32(body[at:]))
		case kind == "hdlr" && len(body) >= 12:
			h.Handler = string(body[8:12])
		case kind == "stsd":
			if len(body) < 8 {
				return broken("a short stsd", "a sample entry")
			}
			return walk(body[8:], func(kind string, body []byte) error { return h.sampleEntry(kind, body) })
		}
		return nil
	}
	if err := walk(b, visit); err != nil {
		return nil, err
	}
	if h.Timescale == 0 || h.SampleEntry == "" {
		return nil, broken("no track", "a moov with one track")
	}
	return h, nil
}

func (h *HeaderInfo) sampleEntry(kind string, body []byte) error {
	h.SampleEntry = kind
	skip := 78
	if kind == "mp4a" {
		skip = 28
	}
	if len(body) < skip {
		return broken("a short "+kind, fmt.Sprintf("%d bytes", skip))
	}
	if kind == "avc1" {
		h.Width, h.Height = int(binary.BigEndian.Uint16(body[24:])), int(binary.BigEndian.Uint16(body[26:]))
	}
	return walk(body[skip:], func(kind string, body []byte) error {
		switch kind {
		case "avcC":
			h.Config = body
		case "esds":
			if len(body) > 4 {
				h.Config = specificInfo(body[4:])
			}
		}
		return nil
	})
}

// specificInfo finds the decoder specific info (tag 5) inside an ES descriptor.
func specificInfo(b []byte) []byte {
	skip := map[byte]int{3: 3, 4: 13}
	for len(b) >= 2 {
		tag, n, at := b[0], 0, 1
		for at < len(b) {
			n = n<<7 | int(b[at]&0x7f)
			at++
			if b[at-1]&0x80 == 0 {
				break
			}
		}
		if n > len(b)-at {
			return nil
		}
		body := b[at : at+n]
		if tag == 5 {
			return body
		}
		inner, ok := skip[tag]
		if !ok || inner > len(body) {
			return nil
		}
		b = body[inner:]
	}
	return nil
}

// ReadFragments reads every movie fragment of a segment. The data of the units shares b.
func ReadFragments(b []byte) ([]Fragment, error) {
	var out []Fragment
	var offset int64 // of the data, from the start of moof
	var moof []byte
	var messages []Message
	var produced time.Time
	err := walkFrom(b, func(kind string, body, from []byte) error {
		switch kind {
		case "emsg":
			if m, ok := readMessage(body); ok && len(messages) < maxMessages {
				messages = append(messages, m)
			}
		case "prft":
			if len(body) >= 20 {
				at := binary.BigEndian.Uint64(body[8:])
				produced = time.Unix(int64(at>>32)-ntpEpoch, int64((at&0xffffffff)*uint64(time.Second)>>32))
			}
		case "moof":
			f := Fragment{Messages: messages, Produced: produced}
			messages, produced = nil, time.Time{}
			if err := f.readMoof(body, &offset); err != nil {
				return err
			}
			moof = from
			out = append(out, f)
		case "mdat":
			if len(out) == 0 {
				return broken("mdat", "moof before it")
			}
			out[len(out)-1].Data = len(body)
			return out[len(out)-1].place(moof, offset)
		}
		return nil
	})
	return out, err
}

// maxMessages bounds the events of one fragment.
const maxMessages = 64

// readMessage reads an emsg box of version 1.
func readMessage(b []byte) (m Message, ok bool) {
	if len(b) < 24 || b[0] != 1 {
		return m, false
	}
	m.Time, m.Duration, m.ID = binary.BigEndian.Uint64(b[8:]), binary.BigEndian.Uint32(b[16:]), binary.BigEndian.Uint32(b[20:])
	scheme, rest, ok := bytes.Cut(b[24:], []byte{0})
	if !ok {
		return m, false
	}
	value, data, ok := bytes.Cut(rest, []byte{0})
	m.Scheme, m.Value, m.Data = string(scheme), string(value), data
	return m, ok
}

// place points the units at their data.
func (f *Fragment) place(from []byte, offset int64) error {
	for i, n := range f.sizes {
		if offset < 0 || offset+int64(n) > int64(len(from)) {
			return broken(fmt.Sprintf("a sample that ends at byte %d", offset+int64(n)), fmt.Sprintf("%d at most", len(from)))
		}
		f.Units[i].Data = from[offset : offset+int64(n)]
		offset += int64(n)
	}
	return nil
}

func (f *Fragment) readMoof(b []byte, offset *int64) error {
	return walk(b, func(kind string, body []byte) error {
		switch kind {
		case "mfhd":
			if len(body) < 8 {
				return broken("a short mfhd", "8 bytes")
			}
			f.Sequence = binary.BigEndian.Uint32(body[4:])
		case "traf":
			var tfhdFlags uint32
			return walk(body, func(kind string, body []byte) error {
				switch kind {
				case "tfhd":
					if len(body) >= 12 && body[3]&0x20 != 0 {
						tfhdFlags = binary.BigEndian.Uint32(body[len(body)-4:])
					}
				case "tfdt":
					if len(body) < 12 || body[0] != 1 {
						return broken("tfdt", "version 1")
					}
					f.DTS = int64(binary.BigEndian.Uint64(body[4:]))
				case "trun":
					return f.readTrun(body, tfhdFlags, offset)
				}
				return nil
			})
		}
		return nil
	})
}

func (f *Fragment) readTrun(b []byte, defaultFlags uint32, offset *int64) error {
	if len(b) < 8 {
		return broken("a short trun", "8 bytes")
	}
	flags := binary.BigEndian.Uint32(b) & 0xffffff
	count := int(binary.BigEndian.Uint32(b[4:]))
	b = b[8:]
	next := func() uint32 {
		if len(b) < 4 {
			b = nil
			return 0
		}
		v := binary.BigEndian.Uint32(b)
		b = b[4:]
		return v
	}
	if flags&1 != 0 {
		*offset = int64(int32(next()))
	}
	if flags&4 != 0 {
		next()
	}
	fields := 0
	for bit := uint32(0x100); bit <= 0x800; bit <<= 1 {
		if flags&bit != 0 {
			fields++
		}
	}
	if fields == 0 || count*fields*4 > len(b) {
		return broken(fmt.Sprintf("trun of %d samples in %d bytes", count, len(b)), "a record for each sample")
	}
	dts := f.DTS
	for range count {
		u := media.AccessUnit{DTS: dts, PTS: dts}
		sampleFlags := defaultFlags
		if flags&0x100 != 0 {
			u.Duration = int64(next())
		}
		size := 0
		if flags&0x200 != 0 {
			size = int(next())
		}
		f.sizes = append(f.sizes, size)
		if flags&0x400 != 0 {
			sampleFlags = next()
		}
		if flags&0x800 != 0 {
			u.PTS += int64(int32(next()))
		}
		u.Key = sampleFlags&0x10000 == 0
		f.Units = append(f.Units, u)
		dts += u.Duration
	}
	return nil
}
