package rtc

import (
	"encoding/binary"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pion/transport/v5"
	"github.com/pion/transport/v5/stdnet"
	"golang.org/x/sys/unix"
)

// Gather lets the packets of one stream of RTP leave together: those of a picture in one call of the system, which cuts them
// apart again (UDP segmentation offload). It costs a fraction of as many calls.
type Gather struct {
	socket atomic.Pointer[gatherer] // that the stream's packets went to last

	mu       sync.Mutex
	held     bool
	to       netip.AddrPort
	buf      []byte
	sizes    []int
	overhead []byte // room for the control message
}

const (
	// mostGathered is how many packets leave in one call, and gatheredBytes how many bytes: the system takes 64 KB.
	mostGathered  = 44
	gatheredBytes = 60_000
)

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

// take holds a packet, or reports that it has to be sent at once.
func (g *Gather) take(s *gatherer, b []byte, to netip.AddrPort) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.held {
		return false
	}
	if s != g.socket.Load() || to != g.to || len(g.sizes) == mostGathered || len(g.buf)+len(b) > gatheredBytes {
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
		s.send(g, b[:total], size, n, g.to)
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
	all    *gathering
	whole  atomic.Bool // the system, or the way to somebody, does not cut packets apart
	isIPv6 bool
}

func newGatherer(c *net.UDPConn, all *gathering) *gatherer {
	return &gatherer{UDPConn: c, all: all, isIPv6: c.LocalAddr().(*net.UDPAddr).IP.To4() == nil}
}

// ReadFromAddrPort implements ice.AddrPortReaderWriter.
func (s *gatherer) ReadFromAddrPort(b []byte) (int, netip.AddrPort, error) {
	return s.ReadFromUDPAddrPort(b)
}

// WriteToAddrPort implements ice.AddrPortReaderWriter.
func (s *gatherer) WriteToAddrPort(b []byte, to netip.AddrPort) (int, error) {
	if g := s.all.of(b); g != nil && g.take(s, b, to) {
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

// send sends packets of a size, the last of which may be shorter. What does not go is lost, as datagrams may be.
func (s *gatherer) send(g *Gather, b []byte, size, n int, to netip.AddrPort) {
	if n > 1 && !s.whole.Load() {
		if g.overhead == nil {
			g.overhead = segmentSize()
		}
		binary.NativeEndian.PutUint16(g.overhead[unix.CmsgLen(0):], uint16(size))
		if _, _, err := s.WriteMsgUDPAddrPort(b, g.overhead, s.mapped(to)); err == nil {
			return
		}
		s.whole.Store(true) // and each goes by itself from now on
		time.AfterFunc(wholeFor, func() { s.whole.Store(false) })
	}
	for ; len(b) > 0; b = b[min(size, len(b)):] {
		_, _ = s.WriteToUDPAddrPort(b[:min(size, len(b))], to)
	}
}

// wholeFor is for how long packets go one by one after the system did not take several.
const wholeFor = time.Minute

// mapped is an address in the socket's family.
func (s *gatherer) mapped(to netip.AddrPort) netip.AddrPort {
	if s.isIPv6 && to.Addr().Is4() {
		return netip.AddrPortFrom(netip.AddrFrom16(to.Addr().As16()), to.Port())
	}
	if !s.isIPv6 && to.Addr().Is4In6() {
		return netip.AddrPortFrom(to.Addr().Unmap(), to.Port())
	}
	return to
}

// segmentSize is a control message that tells the size of packets (udp(7), UDP_SEGMENT).
func segmentSize() []byte {
	b := make([]byte, unix.CmsgSpace(2))
	binary.NativeEndian.PutUint64(b, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(b[8:], unix.SOL_UDP)
	binary.NativeEndian.PutUint32(b[12:], unix.UDP_SEGMENT)
	return b
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
