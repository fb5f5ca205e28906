package rtpmap

import (
	"encoding/binary"

	"metaplasis/internal/core/rawvideo"
)

// raw puts pictures together that are not compressed (RFC 4175). A packet has 16 more bits of sequence number, then a
// header for each stretch of a line, and the samples:
//
//	length(16) field(1) line(15) continues(1) offset(15)
//
// Samples lie where their header says, whatever the order. A line of which something is missing is that of the picture
// before.
type raw struct {
	f      rawvideo.Format
	data   []byte
	filled []int // bytes of each line that came
	stamp  uint32
	open   bool
	second bool   // lines of the second field came
	later  uint32 // its timestamp
	last   []byte // the picture before; others read it
	spare  []byte // of a picture that was dropped
}

func newRaw(f *Format) (*raw, error) {
	of, err := rawvideo.Parse(f.Parameters)
	if err != nil {
		return nil, err
	}
	return &raw{f: of, filled: make([]int, of.Height)}, nil
}

const rawHead = 6

// Packet implements Depacketizer.
func (r *raw) Packet(p *Packet, _ bool, take func(Unit)) {
	b := p.Payload
	if len(b) < 2+rawHead {
		return
	}
	heads := b[2:]
	n := 0
	for more := true; more; n++ {
		if len(heads) < (n+1)*rawHead {
			return
		}
		more = heads[n*rawHead+4]&0x80 != 0
	}
	samples := heads[n*rawHead:]
	second := heads[2]&0x80 != 0
	if r.open && r.f.Fields && second && !r.second {
		r.second, r.later = true, p.Timestamp
	}
	if r.open && p.Timestamp != r.stamp && !(r.second && second && p.Timestamp == r.later) {
		r.finish(take) // its last packet is missing
	}
	if !r.open {
		r.open, r.stamp, r.second, r.later = true, p.Timestamp, second, p.Timestamp
		if r.data, r.spare = r.spare, nil; r.data == nil {
			r.data = make([]byte, r.f.PictureBytes())
		}
		clear(r.filled)
	}
	for i := range n {
		h := heads[i*rawHead:]
		length := int(binary.BigEndian.Uint16(h))
		if length > len(samples) {
			break
		}
		r.put(int(binary.BigEndian.Uint16(h[2:])&0x7fff), h[2]&0x80 != 0, int(binary.BigEndian.Uint16(h[4:])&0x7fff), samples[:length])
		samples = samples[length:]
	}
	if p.Marker && (!r.f.Fields || second) {
		r.finish(take)
	}
}

// put sets a stretch of a line in its place.
func (r *raw) put(line int, second bool, offset int, samples []byte) {
	if r.f.Fields {
		if line *= 2; second {
			line++
		}
	}
	size := r.f.LineBytes()
	at := offset / 2 * r.f.GroupBytes()
	if line >= r.f.Height || at >= size {
		return
	}
	r.filled[line] += copy(r.data[line*size+at:(line+1)*size], samples)
}

// finish hands a picture over, unless most of it is missing.
func (r *raw) finish(take func(Unit)) {
	size := r.f.LineBytes()
	came := 0
	for _, n := range r.filled {
		came += min(n, size)
	}
	all := size * len(r.filled)
	if came == all || r.last != nil && 2*came >= all {
		for line, n := range r.filled {
			if n < size {
				copy(r.data[line*size:(line+1)*size], r.last[line*size:])
			}
		}
		r.last = r.data
		take(Unit{r.stamp, r.data})
	} else {
		r.spare = r.data
	}
	r.open, r.data = false, nil
}
