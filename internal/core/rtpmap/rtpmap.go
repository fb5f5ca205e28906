package rtpmap

import (
	"encoding/hex"
	"fmt"
	"strings"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Format is how a stream of RTP is described (RFC 8866, 6.6 and 6.15; RFC 4855).
type Format struct {
	Name       string // encoding name, in upper case
	Clock      int64  // ticks a second
	Channels   int
	Parameters map[string]string // of the format, names in lower case
}

// Unit is what a depacketizer put together: an access unit of pictures, or one or several frames of sound, in the form
// of an elementary stream (coding.Elementary).
type Unit struct {
	Timestamp uint32
	Data      []byte
}

// Depacketizer puts payloads together. Packets come in order.
type Depacketizer interface {
	// Packet takes a packet; lost says that some before it are missing. Units that became whole are handed over.
	Packet(p *Packet, lost bool, take func(Unit))
}

// maxUnit bounds what is put together, in bytes.
//
//limit:bytes of a picture or frame that is put together | each stream | it is dropped and counted
const maxUnit = 12 << 20

// Check says what is wrong with a format that a description tells.
func (f *Format) Check() error {
	if f.Clock < leastClock || f.Clock > mostClock {
		return &media.FormatError{Format: "RTP format", Found: fmt.Sprintf("%s with %d ticks a second", f.Name, f.Clock), Want: fmt.Sprintf("%d to %d", leastClock, mostClock)}
	}
	return nil
}

// Bounds of a clock rate. Those that the payload formats name are 8,000 to 192,000.
const (
	leastClock = 1000
	//limit:ticks a second of a stream's clock | each stream | the description is refused
	mostClock = 100_000_000
)

// New returns the depacketizer of a format.
func New(f *Format) (Depacketizer, error) {
	switch f.Name {
	case "H264":
		return &nalUnits{form: avcPayload, codec: coding.ByRTP(f.Name)}, nil
	case "H265":
		return &nalUnits{form: hevcPayload, codec: coding.ByRTP(f.Name)}, nil
	case "VP8":
		return &frames{payload: vp8Payload}, nil
	case "VP9":
		return &frames{payload: vp9Payload}, nil
	case "AV1":
		return &av1Units{}, nil
	case "MPV":
		return &frames{payload: mpvPayload}, nil
	case "MPEG4-GENERIC":
		return newGeneric(f)
	case "MP4A-LATM":
		return newLATM(f)
	case "MPA":
		return &mpa{}, nil
	case "AC3":
		return &ac3{}, nil
	case "EAC3":
		return &eac3{}, nil
	case "OPUS", "PCMU", "PCMA", "L8":
		return whole{}, nil
	case "L16":
		return newLinear(f, 2), nil
	case "L24":
		return newLinear(f, 3), nil
	case "RAW":
		return newRaw(f)
	case "JPEG":
		return &jpeg{}, nil
	}
	return nil, &media.UnsupportedError{Format: "RTP", What: fmt.Sprintf("the encoding %.30q", f.Name), Do: "set the sender to H.264 with AAC or Opus"}
}

// whole takes each payload as one unit.
type whole struct{}

func (whole) Packet(p *Packet, _ bool, take func(Unit)) {
	if len(p.Payload) > 0 {
		take(Unit{p.Timestamp, p.Payload})
	}
}

// frames puts payloads of one timestamp together. One of which a packet is missing is left out.
type frames struct {
	// payload returns what a packet adds to its frame, and whether the frame begins with it; ok is false when it
	// cannot be read.
	payload func(b []byte) (data []byte, begins, ok bool)

	stamp  uint32
	data   []byte
	open   bool
	broken bool
}

func (f *frames) Packet(p *Packet, lost bool, take func(Unit)) {
	data, begins, ok := f.payload(p.Payload)
	if !f.open || p.Timestamp != f.stamp {
		if f.open && !f.broken && !lost {
			take(Unit{f.stamp, f.data}) // its last packet had no mark
		}
		f.stamp, f.data, f.open, f.broken = p.Timestamp, nil, true, lost && !begins
	} else if lost {
		f.broken = true
	}
	if !ok || len(f.data)+len(data) > maxUnit {
		f.broken = true
	} else {
		f.data = append(f.data, data...)
	}
	if p.Marker {
		if !f.broken && len(f.data) > 0 {
			take(Unit{f.stamp, f.data})
		}
		f.open, f.data = false, nil
	}
}

// vp8Payload reads a VP8 payload descriptor (RFC 7741, 4.2):
//
//	X R N S R PID(3) [ I L T K R(4) [M pictureID(7 or 15)] [tl0(8)] [tid(2) y keyIndex(5)] ] data
func vp8Payload(b []byte) (data []byte, begins, ok bool) {
	if len(b) < 1 {
		return nil, false, false
	}
	begins = b[0]&0x10 != 0 && b[0]&7 == 0
	at := 1
	if b[0]&0x80 != 0 {
		if len(b) < 2 {
			return nil, false, false
		}
		x := b[1]
		at = 2
		if x&0x80 != 0 {
			if at >= len(b) {
				return nil, false, false
			}
			if b[at]&0x80 != 0 {
				at++
			}
			at++
		}
		if x&0x40 != 0 {
			at++
		}
		if x&0x30 != 0 {
			at++
		}
	}
	if at >= len(b) {
		return nil, false, false
	}
	return b[at:], begins, true
}

// vp9Payload reads a VP9 payload descriptor (RFC 9628, 4.2):
//
//	I P L F B E V Z [M pictureID] [T U S D [tl0]] [references] [scalability structure] data
func vp9Payload(b []byte) (data []byte, begins, ok bool) {
	if len(b) < 1 {
		return nil, false, false
	}
	h := b[0]
	begins = h&0x08 != 0
	at := 1
	next := func() (v byte) {
		if at < len(b) {
			v = b[at]
		}
		at++
		return v
	}
	if h&0x80 != 0 && next()&0x80 != 0 {
		at++
	}
	if h&0x20 != 0 {
		layer := next()
		begins = begins && layer>>1&7 == 0
		if h&0x10 == 0 {
			at++
		}
	}
	if h&0x50 == 0x50 {
		for range 3 {
			if next()&1 == 0 {
				break
			}
		}
	}
	if h&0x02 != 0 {
		ss := next()
		if ss&0x10 != 0 {
			at += 4 * (int(ss>>5) + 1)
		}
		if ss&0x08 != 0 {
			for range int(next()) {
				at += int(next() >> 2 & 3)
			}
		}
	}
	if at >= len(b) {
		return nil, false, false
	}
	return b[at:], begins, true
}

// mpvPayload reads the header of MPEG video (RFC 2250, 3.4): reserved(5) T(1) reference(10) AN N S B E type(3) …
func mpvPayload(b []byte) (data []byte, begins, ok bool) {
	at := 4
	if len(b) > 4 && b[0]&0x04 != 0 {
		at = 8
	}
	if len(b) <= at {
		return nil, false, false
	}
	return b[at:], b[2]&0x10 != 0 && b[2]&0x20 != 0, true // begins a slice, with a sequence header
}

// mpa reads MPEG audio (RFC 2250, 3.5): zero(16) offset(16) data.
type mpa struct{}

func (mpa) Packet(p *Packet, _ bool, take func(Unit)) {
	if len(p.Payload) > 4 {
		take(Unit{p.Timestamp, p.Payload[4:]})
	}
}

// ac3 reads AC-3 (RFC 4184, 4.1): type and count of frames(16) data. Frames in fragments are put together.
type ac3 struct {
	data  []byte
	stamp uint32
}

func (a *ac3) Packet(p *Packet, lost bool, take func(Unit)) {
	if len(p.Payload) < 3 {
		return
	}
	const whole = 0
	kind, body := p.Payload[0]&3, p.Payload[2:]
	if kind == whole {
		a.data = nil
		take(Unit{p.Timestamp, body})
		return
	}
	if kind != 3 { // the first fragment
		a.data, a.stamp = append([]byte(nil), body...), p.Timestamp
	} else if lost || a.data == nil || len(a.data)+len(body) > maxUnit {
		a.data = nil
	} else {
		a.data = append(a.data, body...)
	}
	if p.Marker && a.data != nil {
		take(Unit{a.stamp, a.data})
		a.data = nil
	}
}

// eac3 reads Enhanced AC-3 (RFC 4598, 5.1): zero(7) fragment(1) count(8) data. Fragments of a frame have one timestamp; the
// first begins with the frame's sync word, the last has the mark.
type eac3 struct {
	data  []byte
	stamp uint32
	left  int // fragments that are still to come
}

func (a *eac3) Packet(p *Packet, lost bool, take func(Unit)) {
	if len(p.Payload) < 4 {
		return
	}
	fragment, count, body := p.Payload[0]&1 != 0, int(p.Payload[1]), p.Payload[2:]
	if !fragment {
		a.data = nil
		take(Unit{p.Timestamp, body})
		return
	}
	const sync0, sync1 = 0x0b, 0x77
	switch begins := body[0] == sync0 && body[1] == sync1; {
	case begins && (a.data == nil || lost || p.Timestamp != a.stamp):
		a.data, a.stamp, a.left = append([]byte(nil), body...), p.Timestamp, count-1
	case lost || a.data == nil || p.Timestamp != a.stamp || len(a.data)+len(body) > maxUnit:
		a.data = nil
		return
	default:
		a.data = append(a.data, body...)
		a.left--
	}
	if a.left <= 0 || p.Marker {
		take(Unit{a.stamp, a.data})
		a.data = nil
	}
}

// latm puts audio mux elements together (RFC 6416, 6.1), each handed over behind a header of LOAS; where the description tells
// their configuration, frames without anything.
type latm struct {
	data   []byte
	broken bool
	apart  *coding.Elements // nil: the configuration comes in the elements
}

func newLATM(f *Format) (*latm, error) {
	if strings.TrimSpace(f.Parameters["cpresent"]) != "0" {
		return &latm{}, nil
	}
	config, err := hex.DecodeString(strings.TrimSpace(f.Parameters["config"]))
	if err != nil || len(config) == 0 {
		return nil, &media.FormatError{Format: "RTP of AAC in LATM", Found: "cpresent=0 without a config", Want: "the StreamMuxConfig in hexadecimal digits (RFC 6416, 7.3)"}
	}
	apart, err := coding.NewElements(config)
	return &latm{apart: apart}, err
}

// elements hands over the frames of a mux element.
func (l *latm) elements(p *Packet, take func(Unit)) {
	frames, err := l.apart.Frames(l.data)
	if err != nil {
		return
	}
	for n, f := range frames {
		take(Unit{p.Timestamp + uint32(n*aacSamples), f})
	}
}

func (l *latm) Packet(p *Packet, lost bool, take func(Unit)) {
	const most = 1<<13 - 1
	if lost {
		l.broken = true
	}
	if l.data = append(l.data, p.Payload...); len(l.data) > most {
		l.broken = true
		l.data = l.data[:0]
	}
	if !p.Marker {
		return
	}
	if n := len(l.data); l.broken || n == 0 {
		// it is left out
	} else if l.apart != nil {
		l.elements(p, take)
	} else {
		take(Unit{p.Timestamp, append([]byte{0x56, 0xe0 | byte(n>>8), byte(n)}, l.data...)})
	}
	l.data, l.broken = nil, false
}

// number reads a parameter of a format.
func (f *Format) number(name string) (n int) {
	_, _ = fmt.Sscanf(strings.TrimSpace(f.Parameters[name]), "%d", &n)
	return n
}
