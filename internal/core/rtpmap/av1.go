package rtpmap

// av1Units puts OBUs together to temporal units ("RTP Payload Format For AV1", 4):
//
//	Z Y W(2) N reserved(3) { [length(leb128)] element }
//
// Z: the first element goes on with one of before; Y: the last goes on in the next packet; W: how many elements there
// are, the last without its length; 0: each has one.
type av1Units struct {
	stamp  uint32
	data   []byte
	part   []byte // an OBU that goes on
	open   bool
	broken bool
}

func (u *av1Units) Packet(p *Packet, lost bool, take func(Unit)) {
	if u.open && p.Timestamp != u.stamp {
		if !lost && !u.broken && len(u.part) == 0 && len(u.data) > 0 {
			take(Unit{u.stamp, u.data})
		}
		*u = av1Units{}
	} else if lost && u.open {
		u.broken = true
	}
	u.open, u.stamp = true, p.Timestamp
	u.read(p.Payload)
	if p.Marker {
		if !u.broken && len(u.part) == 0 && len(u.data) > 0 {
			take(Unit{u.stamp, u.data})
		}
		*u = av1Units{}
	}
}

func (u *av1Units) read(b []byte) {
	if len(b) < 2 {
		return
	}
	z, y, w := b[0]&0x80 != 0, b[0]&0x40 != 0, int(b[0]>>4&3)
	b = b[1:]
	for n := 1; len(b) > 0; n++ {
		size := len(b)
		if w == 0 || n < w {
			v, length := leb128(b)
			if length == 0 || v > len(b)-length {
				u.broken = true
				return
			}
			b, size = b[length:], v
		}
		element, last := b[:size], size == len(b)
		b = b[size:]
		if n == 1 && z {
			if len(u.part) == 0 {
				u.broken = true
				continue
			}
			element = append(u.part, element...)
			u.part = nil
		}
		if len(u.data)+len(element) > maxUnit {
			u.broken = true
			return
		}
		if last && y {
			u.part = append([]byte(nil), element...)
			return
		}
		u.obu(element)
	}
}

// obu adds an OBU, with its size, which RTP leaves out.
func (u *av1Units) obu(b []byte) {
	const delimiter, tileList = 2, 8
	if len(b) == 0 {
		return
	}
	if kind := b[0] >> 3 & 15; kind == delimiter || kind == tileList {
		return
	}
	if b[0]&2 != 0 { // it has its size
		u.data = append(u.data, b...)
		return
	}
	head := 1
	if b[0]&4 != 0 {
		head = 2
	}
	if len(b) < head {
		u.broken = true
		return
	}
	u.data = append(u.data, b[0]|2)
	u.data = append(u.data, b[1:head]...)
	n := len(b) - head
	for ; n >= 0x80; n >>= 7 {
		u.data = append(u.data, byte(n)|0x80)
	}
	u.data = append(append(u.data, byte(n)), b[head:]...)
}

func leb128(b []byte) (v, length int) {
	for i := range min(len(b), 4) {
		v |= int(b[i]&0x7f) << (7 * i)
		if b[i]&0x80 == 0 {
			return v, i + 1
		}
	}
	return 0, 0
}
