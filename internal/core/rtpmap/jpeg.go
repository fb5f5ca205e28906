package rtpmap

// jpeg puts JPEG pictures together (RFC 2435):
//
//	specific(8) offset(24) type(8) q(8) width/8(8) height/8(8) [interval(16) F L count(14)] [mbz(8) precision(8)
//	length(16) tables] scan
//
// and writes the headers that the payload format leaves out (appendix A and B).
type jpeg struct {
	stamp  uint32
	data   []byte
	scan   int // bytes of the scan so far
	open   bool
	broken bool
	tables [256][]byte // quantisation tables by q, of those that are sent once
}

const jpegHead = 8

func (j *jpeg) Packet(p *Packet, lost bool, take func(Unit)) {
	b := p.Payload
	if len(b) < jpegHead {
		return
	}
	offset := int(b[1])<<16 | int(b[2])<<8 | int(b[3])
	kind, q, width, height := b[4], b[5], int(b[6])*8, int(b[7])*8
	b = b[jpegHead:]
	if p.Timestamp != j.stamp || offset == 0 || lost {
		j.open, j.broken = offset == 0, offset != 0
	}
	restart := 0
	if kind >= 64 && kind <= 127 {
		if len(b) < 4 {
			return
		}
		restart = int(b[0])<<8 | int(b[1])
		b = b[4:]
	}
	if offset == 0 {
		j.stamp, j.scan = p.Timestamp, 0
		var tables []byte
		if q >= 128 {
			if len(b) < 4 {
				j.broken = true
				return
			}
			n := int(b[2])<<8 | int(b[3])
			if n > len(b)-4 {
				j.broken = true
				return
			}
			if tables = b[4 : 4+n]; n == 0 {
				tables = j.tables[q]
			} else if q != 255 {
				j.tables[q] = append([]byte(nil), tables...)
			}
			b = b[4+n:]
		} else {
			tables = scaledTables(int(q))
		}
		if len(tables) < 128 || width == 0 || height == 0 || kind&63 > 1 {
			j.broken = true
			return
		}
		j.data = jpegHeaders(int(kind&63), width, height, tables, restart)
	}
	if j.broken || !j.open || offset != j.scan || len(j.data)+len(b) > maxUnit {
		j.broken = true
		return
	}
	j.data = append(j.data, b...)
	j.scan += len(b)
	if p.Marker {
		if n := len(j.data); j.data[n-2] != 0xff || j.data[n-1] != 0xd9 {
			j.data = append(j.data, 0xff, 0xd9)
		}
		take(Unit{j.stamp, j.data})
		j.open, j.data = false, nil
	}
}
