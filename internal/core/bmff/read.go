package bmff

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Fragment is what one moof and mdat hold of one track.
type Fragment struct {
	Sequence uint32
	DTS      int64 // baseMediaDecodeTime, in the track's timescale
	Units    []media.AccessUnit
	Messages []Message // of the emsg boxes that stood before it
	Produced time.Time // of the prft box that stood before it, else zero
	Data     int       // bytes of its mdat
	places   []place   // of the units' data
}

// place is where a sample lies, counted from the first byte of its moof.
type place struct {
	at   int64
	size uint32
}

// HeaderInfo is what a reader of segments needs of a header.
type HeaderInfo struct {
	Tracks        int // that the header describes; what follows is the first track of video, else the first
	ID            uint32
	Timescale     int64
	Handler       string // "vide" or "soun"
	SampleEntry   string // a FourCC
	Config        []byte // the codec's configuration: what its box holds, of MPEG-4 audio the decoder specific info
	ObjectType    byte   // objectTypeIndication of its descriptor, 0 without one
	Width, Height int    // of the visual sample entry
	Protected     bool   // its samples are encrypted (ISO/IEC 23001-7)
	// Sampled is how sound lies in the file that is not compressed, by its sample entry; nil of other sound.
	Sampled *coding.Sampled

	usual map[uint32]sample // by track: what trex says of samples that say nothing
	among bool              // fragments may be of other tracks alone
	depth depth
}

// sample is what is told of a sample, or of all that do not tell themselves.
type sample struct{ duration, size, flags uint32 }

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
var containers = map[string]bool{"mdia": true, "minf": true, "stbl": true}

// ReadHeader reads the header of a file of movie fragments (8.2, 8.8.3). CMAF has one track in it;
// of more, the one that leads is told.
func ReadHeader(b []byte) (*HeaderInfo, error) {
	all, err := ReadHeaders(b)
	if err != nil {
		return nil, err
	}
	h := all[0]
	for _, t := range all {
		if t.Handler == "vide" {
			h = t
			break
		}
	}
	if h.Timescale == 0 || h.SampleEntry == "" {
		return nil, broken("no track", "a moov with a track")
	}
	h.among = false
	return h, nil
}

// ReadHeaders reads the header of a file of movie fragments of several tracks, in its order. Each reads its own samples
// from the fragments.
func ReadHeaders(b []byte) ([]*HeaderInfo, error) {
	var all []*HeaderInfo
	usual := map[uint32]sample{}
	tracks := 0
	err := walk(b, func(kind string, body []byte) error {
		if kind != "moov" {
			return nil
		}
		return walk(body, func(kind string, body []byte) error {
			switch kind {
			case "trak":
				t := &HeaderInfo{usual: usual}
				if err := walk(body, t.visit); err != nil {
					return err
				}
				if tracks++; len(all) < maxTracks {
					all = append(all, t)
				}
			case "mvex":
				return walk(body, (&HeaderInfo{usual: usual}).extends)
			}
			return nil
		})
	})
	if err == nil && len(all) == 0 {
		err = broken("no track", "a moov with a track")
	}
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		t.Tracks, t.among = tracks, tracks > 1
	}
	return all, nil
}

// maxTracks bounds the tracks that are read, and the defaults that are kept.
//
//limit:tracks that are read, and whose defaults are kept | each header | further ones are left out
const maxTracks = 64

// extends reads a trex box (8.8.3).
func (h *HeaderInfo) extends(kind string, body []byte) error {
	if kind != "trex" {
		return nil
	}
	if len(body) < 24 {
		return broken("a short trex", "24 bytes")
	}
	if len(h.usual) < maxTracks {
		h.usual[binary.BigEndian.Uint32(body[4:])] = sample{binary.BigEndian.Uint32(body[12:]),
			binary.BigEndian.Uint32(body[16:]), binary.BigEndian.Uint32(body[20:])}
	}
	return nil
}

// visit reads the boxes of one track.
func (h *HeaderInfo) visit(kind string, body []byte) error {
	switch {
	case containers[kind]:
		return h.depth.into(func() error { return walk(body, h.visit) })
	case kind == "tkhd" || kind == "mdhd": // the two begin with the same fields (8.3.2, 8.4.2)
		at := 12
		if len(body) > 0 && body[0] == 1 {
			at = 20
		}
		if len(body) < at+4 {
			return broken("a short "+kind, fmt.Sprintf("%d bytes", at+4))
		}
		if v := binary.BigEndian.Uint32(body[at:]); kind == "tkhd" {
			h.ID = v
		} else {
			h.Timescale = int64(v)
		}
	case kind == "hdlr" && len(body) >= 12:
		h.Handler = string(body[8:12])
	case kind == "stsd":
		if len(body) < 8 {
			return broken("a short stsd", "a sample entry")
		}
		plain := body[0] == 0 // then an entry of sound with another version is one of a MOV file
		return walk(body[8:], func(kind string, body []byte) error {
			if h.SampleEntry != "" { // the first describes what there is; of others, File tells
				return nil
			}
			return h.sampleEntry(kind, body, plain)
		})
	}
	return nil
}

func (h *HeaderInfo) sampleEntry(kind string, body []byte, plain bool) error {
	h.SampleEntry = kind
	skip := map[string]int{"vide": 78, "soun": 28}[h.Handler]
	if skip == 0 {
		return nil // neither pictures nor sound
	}
	if len(body) < skip {
		return broken("a short "+kind, fmt.Sprintf("%d bytes", skip))
	}
	if h.Handler == "vide" {
		h.Width, h.Height = int(binary.BigEndian.Uint16(body[24:])), int(binary.BigEndian.Uint16(body[26:]))
	}
	if h.Handler == "soun" {
		skip = min(h.sound(kind, body, plain), len(body))
	}
	return walk(body[skip:], h.entryBox)
}

// sound reads an entry of sound, and returns how long it is without its boxes. Those of MOV files (their File Format Specification,
// "Sound Sample Descriptions") are longer in versions 1 and 2.
func (h *HeaderInfo) sound(kind string, body []byte, plain bool) (skip int) {
	const (
		base       = 28
		more1      = 16
		more2      = 36
		floating   = 1
		bigEndian  = 2
		rateAt     = 24
		channelsAt = 16
		bitsAt     = 18
	)
	v := &coding.Sampled{Rate: int(binary.BigEndian.Uint32(body[rateAt:]) >> 16), Channels: int(binary.BigEndian.Uint16(body[channelsAt:])), Bits: int(binary.BigEndian.Uint16(body[bitsAt:])), BigEndian: true}
	skip = base
	version := binary.BigEndian.Uint16(body[8:])
	switch {
	case plain && version == 1:
		skip += more1
	case plain && version == 2 && len(body) >= base+more2:
		skip += more2
		if rate := math.Float64frombits(binary.BigEndian.Uint64(body[32:])); rate >= 1 && rate < 1e7 {
			v.Rate = int(rate)
		}
		v.Channels, v.Bits = int(binary.BigEndian.Uint32(body[40:])&255), int(binary.BigEndian.Uint32(body[48:])&255)
	}
	switch kind {
	case "sowt":
		v.BigEndian = false
	case "twos", "alaw", "ulaw":
		if kind != "twos" {
			v.Law, v.Bits = map[string]byte{"alaw": 'A', "ulaw": 'u'}[kind], 8
		}
	case "in24":
		v.Bits = 24
	case "in32":
		v.Bits = 32
	case "lpcm":
		if version != 2 || len(body) < base+more2 {
			return skip
		}
		flags := binary.BigEndian.Uint32(body[52:])
		if v.BigEndian = flags&bigEndian != 0; flags&floating != 0 {
			return skip
		}
	default:
		return skip
	}
	h.Sampled = v
	return skip
}

// entryBox reads a box within a sample entry.
func (h *HeaderInfo) entryBox(kind string, body []byte) error {
	if c := coding.ByBox(kind); c != nil {
		if c.BoxVersion >= 0 {
			body = body[min(4, len(body)):]
		}
		if h.Config = body; c.ObjectType != 0 {
			h.ObjectType, h.Config = specificInfo(body)
		}
	}
	switch kind {
	case "wave": // of MOV files: what belongs to the codec lies within, and what ends it is not always a box
		_ = h.depth.into(func() error { return walk(body, h.entryBox) })
	case "enda":
		if h.Sampled != nil && len(body) >= 2 && body[1] == 1 {
			h.Sampled.BigEndian = false
		}
	case "sinf":
		h.Protected = true
		return walk(body, func(kind string, body []byte) error {
			if kind == "frma" && len(body) >= 4 {
				h.SampleEntry = string(body[:4])
			}
			return nil
		})
	}
	return nil
}

// specificInfo finds the object type and the decoder specific info (tag 5) inside an ES descriptor.
func specificInfo(b []byte) (objectType byte, info []byte) {
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
			return objectType, nil
		}
		body := b[at : at+n]
		if tag == 5 {
			return objectType, body
		}
		inner, ok := skip[tag]
		if !ok || inner > len(body) {
			return objectType, nil
		}
		if tag == 4 {
			objectType = body[0]
		}
		b = body[inner:]
	}
	return objectType, nil
}

// ReadFragments reads every movie fragment of a segment of one track. The data of the units shares b.
func ReadFragments(b []byte) ([]Fragment, error) { return (&HeaderInfo{}).ReadFragments(b) }

// ReadFragments reads every movie fragment of a segment, with what the header says of the track
// that it tells (8.8.4 to 8.8.12). The data of the units shares b.
func (h *HeaderInfo) ReadFragments(b []byte) ([]Fragment, error) {
	var out []Fragment
	var moof []byte
	var messages []Message
	var produced time.Time
	placed := true
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
			if err := f.readMoof(body, h); err != nil {
				return err
			}
			moof, placed = from, false
			out = append(out, f)
		case "mdat":
			if len(out) == 0 {
				return broken("mdat", "moof before it")
			}
			f := &out[len(out)-1]
			f.Data += len(body)
			if !placed {
				placed = true
				return f.place(moof)
			}
		}
		return nil
	})
	return out, err
}

// maxMessages bounds the events of one fragment.
//
//limit:event messages | each fragment | further ones are left out
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
func (f *Fragment) place(from []byte) error {
	for i, p := range f.places {
		end := p.at + int64(p.size)
		if p.at < 0 || end > int64(len(from)) {
			return broken(fmt.Sprintf("a sample that ends at byte %d", end), fmt.Sprintf("%d at most", len(from)))
		}
		f.Units[i].Data = from[p.at:end]
	}
	return nil
}

// readMoof reads what a movie fragment holds of the header's track.
func (f *Fragment) readMoof(b []byte, h *HeaderInfo) error {
	others := uint32(0)
	found := false
	err := walk(b, func(kind string, body []byte) error {
		switch kind {
		case "mfhd":
			if len(body) < 8 {
				return broken("a short mfhd", "8 bytes")
			}
			f.Sequence = binary.BigEndian.Uint32(body[4:])
		case "traf":
			r := run{f: f}
			if err := walk(body, func(kind string, body []byte) error {
				if r.skip {
					return nil
				}
				switch kind {
				case "tfhd":
					return r.defaults(body, h)
				case "tfdt":
					return r.time(body)
				case "trun":
					return r.read(body)
				}
				return nil
			}); err != nil {
				return err
			}
			if r.skip {
				others = r.id
			}
			found = found || !r.skip
		}
		return nil
	})
	if err == nil && !found && others != 0 && !h.among {
		return broken(fmt.Sprintf("a fragment of track %d", others), fmt.Sprintf("track %d, as in the header", h.ID))
	}
	return err
}

// run is the state of reading one traf.
type run struct {
	f     *Fragment
	id    uint32
	skip  bool  // it belongs to another track
	next  int64 // behind the data of the run before, from the first byte of the moof
	dts   int64
	usual sample
}

// fields reads consecutive big-endian words of four bytes, 0 behind the end.
type fields []byte

func (b *fields) next() uint32 {
	if len(*b) < 4 {
		*b = nil
		return 0
	}
	v := binary.BigEndian.Uint32(*b)
	*b = (*b)[4:]
	return v
}

// defaults reads tfhd (8.8.7).
func (r *run) defaults(body []byte, h *HeaderInfo) error {
	b := fields(body)
	flags := b.next() & 0xffffff
	r.id = b.next()
	if h.ID != 0 && r.id != h.ID {
		r.skip = true
		return nil
	}
	r.usual = h.usual[r.id]
	want := 8
	for bit, size := range map[uint32]int{1: 8, 2: 4, 8: 4, 0x10: 4, 0x20: 4} {
		if flags&bit != 0 {
			want += size
		}
	}
	if len(body) < want {
		return broken("a short tfhd", fmt.Sprintf("%d bytes", want))
	}
	if flags&1 != 0 {
		// A place in the file, of which we see a piece: it names the moof, or else we could not tell.
		b.next()
		b.next()
	}
	if flags&2 != 0 {
		b.next()
	}
	if flags&8 != 0 {
		r.usual.duration = b.next()
	}
	if flags&0x10 != 0 {
		r.usual.size = b.next()
	}
	if flags&0x20 != 0 {
		r.usual.flags = b.next()
	}
	return nil
}

// time reads tfdt (8.8.12).
func (r *run) time(body []byte) error {
	switch {
	case len(body) >= 12 && body[0] == 1:
		r.dts = int64(binary.BigEndian.Uint64(body[4:]))
	case len(body) >= 8 && body[0] == 0:
		r.dts = int64(binary.BigEndian.Uint32(body[4:]))
	default:
		return broken("a short tfdt", "a time")
	}
	r.f.DTS = r.dts
	return nil
}

// maxSamples bounds a run of samples that tell nothing of themselves.
//
//limit:samples of a run that tell nothing of themselves | each run | the fragment is refused
const maxSamples = 1 << 16

// read reads trun (8.8.8).
func (r *run) read(body []byte) error {
	if len(body) < 8 {
		return broken("a short trun", "8 bytes")
	}
	b := fields(body)
	flags, count := b.next()&0xffffff, int(b.next())
	if flags&1 != 0 {
		r.next = int64(int32(b.next()))
	}
	first := r.usual.flags
	if flags&4 != 0 {
		first = b.next()
	}
	told := 0
	for bit := uint32(0x100); bit <= 0x800; bit <<= 1 {
		if flags&bit != 0 {
			told++
		}
	}
	if count*told*4 > len(b) || count > maxSamples {
		return broken(fmt.Sprintf("trun of %d samples in %d bytes", count, len(b)), "a record for each sample")
	}
	for n := range count {
		s := r.usual
		if n == 0 {
			s.flags = first
		}
		u := media.AccessUnit{DTS: r.dts, PTS: r.dts}
		if flags&0x100 != 0 {
			s.duration = b.next()
		}
		if flags&0x200 != 0 {
			s.size = b.next()
		}
		if flags&0x400 != 0 {
			s.flags = b.next()
		}
		if flags&0x800 != 0 {
			u.PTS += int64(int32(b.next()))
		}
		u.Duration, u.Key = int64(s.duration), s.flags&0x10000 == 0
		r.f.Units = append(r.f.Units, u)
		r.f.places = append(r.f.places, place{r.next, s.size})
		r.next += int64(s.size)
		r.dts += u.Duration
	}
	return nil
}

// Index is a segment index: consecutive pieces of a file (8.16.3).
type Index struct {
	Timescale int64
	Earliest  int64 // presentation time of the first piece
	Pieces    []IndexPiece
}

// IndexPiece is one piece. Offset counts from the first byte behind the index.
type IndexPiece struct {
	Offset, Size, Duration int64
}

// ReadIndex reads a segment index and tells how many bytes it took up to its end.
func ReadIndex(b []byte) (x *Index, taken int64, err error) {
	rest := int64(len(b))
	err = walkFrom(b, func(kind string, body, from []byte) error {
		if kind != "sidx" || x != nil {
			return nil
		}
		head := 8
		if binary.BigEndian.Uint32(from) == 1 {
			head = 16
		}
		rest = int64(len(from) - head - len(body))
		want := 24
		if len(body) > 0 && body[0] == 1 {
			want = 32
		}
		if len(body) < want {
			return broken("a short sidx", fmt.Sprintf("%d bytes", want))
		}
		f := fields(body)
		version := f.next() >> 24
		f.next()
		wide := func() int64 {
			v := int64(f.next())
			if version == 1 {
				v = v<<32 | int64(f.next())
			}
			return v
		}
		x = &Index{Timescale: int64(f.next())}
		x.Earliest = wide()
		at := wide()
		count := int(f.next() & 0xffff)
		if x.Timescale == 0 || count*12 > len(f) {
			return broken(fmt.Sprintf("sidx of %d references in %d bytes, timescale %d", count, len(f), x.Timescale),
				"a record for each and a timescale")
		}
		for range count {
			size := f.next()
			if size>>31 != 0 {
				return broken("an index of indexes", "references to media")
			}
			p := IndexPiece{Offset: at, Size: int64(size), Duration: int64(f.next())}
			f.next()
			x.Pieces = append(x.Pieces, p)
			at += p.Size
		}
		return nil
	})
	if err == nil && x == nil {
		err = broken("no sidx", "a segment index")
	}
	return x, int64(len(b)) - rest, err
}
