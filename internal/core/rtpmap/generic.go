package rtpmap

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// generic reads AAC (RFC 3640, 3.2): headerLength(16) { size index } frames. A frame in fragments is put together.
type generic struct {
	size, index, delta int // bits of an AU header
	samples            uint32

	part  []byte
	want  int
	stamp uint32
}

// aacSamples is how long a frame is when nobody says, in samples.
const aacSamples = 1024

func newGeneric(f *Format) (*generic, error) {
	g := &generic{size: f.number("sizelength"), index: f.number("indexlength"), delta: f.number("indexdeltalength"), samples: uint32(f.number("constantduration"))}
	if g.size < 1 || g.size > 16 || g.index > 16 || g.delta > 16 {
		return nil, &media.UnsupportedError{Format: "RTP of AAC", What: fmt.Sprintf("a size of %d bits in its headers", g.size), Do: "set the sender to the mode AAC-hbr (RFC 3640)"}
	}
	if g.samples == 0 {
		g.samples = aacSamples
	}
	return g, nil
}

func (g *generic) Packet(p *Packet, lost bool, take func(Unit)) {
	b := p.Payload
	if len(b) < 2 {
		return
	}
	n := int(b[0])<<8 | int(b[1])
	head := (n + 7) / 8
	if len(b) < 2+head {
		return
	}
	r := bits.NewReader(b[2 : 2+head])
	b = b[2+head:]
	if lost {
		g.part = nil
	}
	stamp := p.Timestamp
	for first := true; r.Left() >= g.size+g.index && n > 0; first = false {
		size := int(r.U(g.size))
		index := g.index
		if !first {
			index = g.delta
		}
		skipped := r.U(index)
		if r.Err() != nil || size == 0 {
			return
		}
		if !first {
			stamp += g.samples * (1 + skipped)
		}
		if size > len(b) { // a fragment, alone in its packet
			g.fragment(b, size, p, take)
			return
		}
		if g.part != nil && first {
			g.fragment(b, size, p, take)
			return
		}
		take(Unit{stamp, b[:size]})
		b = b[size:]
	}
}

func (g *generic) fragment(b []byte, size int, p *Packet, take func(Unit)) {
	if g.part == nil || p.Timestamp != g.stamp {
		g.part, g.want, g.stamp = nil, size, p.Timestamp
	}
	if g.part = append(g.part, b...); len(g.part) >= g.want {
		take(Unit{g.stamp, g.part[:g.want]})
		g.part = nil
	}
}
