package rtc

import (
	"encoding/binary"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"

	"github.com/pion/transport/v5"
	"github.com/pion/transport/v5/stdnet"

	"metaplasis/internal/network/udp"
)

// Gather lets the packets of one stream of RTP leave together: those of a picture in one call of the system.
type Gather struct {
	socket atomic.Pointer[gatherer] // that the stream's packets went to last

	mu    sync.Mutex
	held  bool
	to    netip.AddrPort
	buf   []byte
	sizes []int
}

// mostGathered is how many packets are held.
//
//limit:packets that leave in one call | each connection | they leave
const mostGathered = udp.MaxBurst

// Hold keeps the stream's packets until Release.
func (g *Gather) Hold() {
	g.mu.Lock()
	g.held = true
	g.mu.Unlock()
}

// Release sends what was held, and what follows at once.
func (g *Gather) Release() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.held = false
	g.flush()
}

// collect holds a packet, or reports that it has to be sent at once.
func (g *Gather) collect(s *gatherer, b []byte, to netip.AddrPort) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.held {
		return false
	}
	if s != g.socket.Load() || to != g.to || len(g.sizes) == mostGathered {
		g.flush()
		g.socket.Store(s)
		g.to = to
	}
	g.buf = append(g.buf, b...)
	g.sizes = append(g.sizes, len(b))
	return true
}

// flush sends what is held: packets of one size and the shorter one behind them in one call. It is called with the lock.
func (g *Gather) flush() {
	s := g.socket.Load()
	b, sizes := g.buf, g.sizes
	for len(sizes) > 0 {
		n, size := 1, sizes[0]
		total := size
		for n < len(sizes) && sizes[n] <= size {
			total += sizes[n]
			n++
			if sizes[n-1] < size {
				break
			}
		}
		_ = s.burst.Send(b[:total], size, g.to) // what does not go is lost, as datagrams may be
		b, sizes = b[total:], sizes[n:]
	}
	g.buf, g.sizes = g.buf[:0], g.sizes[:0]
}

// gathering finds the streams of a port whose packets may be gathered, by their SSRC.
type gathering struct {
	streams sync.Map // of *Gather
}

// Gather lets the packets of a stream that this side sends be gathered, until the function that it returns is called.
func (p *Port) Gather(ssrc uint32) (*Gather, func()) {
	g := &Gather{}
	p.gathering.streams.Store(ssrc, g)
	return g, func() {
		p.gathering.streams.CompareAndDelete(ssrc, g)
		g.Release()
	}
}

// gatherer is a socket whose packets may be gathered.
type gatherer struct {
	*net.UDPConn
	all   *gathering
	burst *udp.Burst
}

func newGatherer(c *net.UDPConn, all *gathering) *gatherer {
	return &gatherer{c, all, udp.NewBurst(c)}
}

// ReadFromAddrPort implements ice.AddrPortReaderWriter.
func (s *gatherer) ReadFromAddrPort(b []byte) (int, netip.AddrPort, error) {
	return s.ReadFromUDPAddrPort(b)
}

// WriteToAddrPort implements ice.AddrPortReaderWriter.
func (s *gatherer) WriteToAddrPort(b []byte, to netip.AddrPort) (int, error) {
	if g := s.all.of(b); g != nil && g.collect(s, b, to) {
		return len(b), nil
	}
	return s.WriteToUDPAddrPort(b, to)
}

// WriteTo implements net.PacketConn.
func (s *gatherer) WriteTo(b []byte, to net.Addr) (int, error) {
	if u, ok := to.(*net.UDPAddr); ok {
		return s.WriteToAddrPort(b, u.AddrPort())
	}
	return s.UDPConn.WriteTo(b, to)
}

// of finds the stream of a packet of RTP (RFC 3550, 5.1; told from what else a port carries by RFC 7983, 7, and from RTCP
// by RFC 5761, 4).
func (a *gathering) of(b []byte) *Gather {
	const fixedHeader = 12
	if len(b) < fixedHeader || b[0]>>6 != 2 || b[1]&0x7f >= 64 && b[1]&0x7f < 96 {
		return nil
	}
	g, ok := a.streams.Load(binary.BigEndian.Uint32(b[8:]))
	if !ok {
		return nil
	}
	return g.(*Gather)
}

// gatheringNet opens sockets whose packets may be gathered.
type gatheringNet struct {
	*stdnet.Net
	all *gathering
}

// ListenUDP implements transport.Net.
func (n *gatheringNet) ListenUDP(network string, at *net.UDPAddr) (transport.UDPConn, error) {
	c, err := net.ListenUDP(network, at)
	if err != nil {
		return nil, err
	}
	return newGatherer(c, n.all), nil
}
