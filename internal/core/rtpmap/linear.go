package rtpmap

// linear gathers packets of linear sound (RFC 3551, 4.5.11; RFC 3190), of a few samples each, to units of one length,
// and puts the upper bytes of samples last.
type linear struct {
	size  int // bytes of a sample
	frame int // bytes of a sample of all channels
	unit  int // bytes of a unit
	data  []byte
	stamp uint32 // of the first sample that waits
}

// linearRate is how many units per second there are.
const linearRate = 50

func newLinear(f *Format, size int) *linear {
	frame := size * max(f.Channels, 1)
	return &linear{size: size, frame: frame, unit: frame * max(int(f.Clock)/linearRate, 1)}
}

// Packet implements Depacketizer.
func (l *linear) Packet(p *Packet, _ bool, take func(Unit)) {
	n := len(p.Payload) / l.frame * l.frame
	if n == 0 {
		return
	}
	if len(l.data) > 0 && l.stamp+uint32(len(l.data)/l.frame) != p.Timestamp {
		l.data = nil // something is missing; the timeline fills in
	}
	if len(l.data) == 0 {
		l.stamp = p.Timestamp
	}
	for i := 0; i < n; i += l.size {
		for k := range l.size {
			l.data = append(l.data, p.Payload[i+l.size-1-k])
		}
	}
	for len(l.data) >= l.unit {
		take(Unit{l.stamp, append([]byte(nil), l.data[:l.unit]...)})
		l.data = append(l.data[:0], l.data[l.unit:]...)
		l.stamp += uint32(l.unit / l.frame)
	}
}
