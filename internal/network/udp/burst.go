package udp

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Burst sends datagrams that are there at the same time in one call of the system, which cuts them apart again (udp(7),
// UDP_SEGMENT). It costs a fraction of as many calls. It may be used from several goroutines.
type Burst struct {
	conn  *net.UDPConn
	ipv6  bool
	whole atomic.Bool // the system, or the way to somebody, does not cut datagrams apart
}

const (
	// MaxBurst is how many datagrams leave in one call, and maxBurstBytes how many bytes.
	//limit:datagrams that leave in one call | each socket | they leave
	MaxBurst = 44
	//limit:bytes that leave in one call | each socket | they leave
	maxBurstBytes = 60_000
	// wholeFor is for how long datagrams go one by one after the system did not take several.
	wholeFor = time.Minute
)

// NewBurst sends over a socket.
func NewBurst(c *net.UDPConn) *Burst {
	return &Burst{conn: c, ipv6: c.LocalAddr().(*net.UDPAddr).IP.To4() == nil}
}

// Send sends datagrams of a size, which lie behind each other and the last of which may be shorter. to is invalid for a socket
// that has one address to send to. Where several do not go at once, each goes by itself; the error is the last one's.
func (s *Burst) Send(b []byte, size int, to netip.AddrPort) (err error) {
	to = s.mapped(to)
	for len(b) > 0 {
		n := min(len(b), min(MaxBurst, max(maxBurstBytes/size, 1))*size)
		if e := s.send(b[:n], size, to); e != nil {
			err = e
		}
		b = b[n:]
	}
	return err
}

func (s *Burst) send(b []byte, size int, to netip.AddrPort) (err error) {
	if len(b) > size && !s.whole.Load() {
		control := segmentSize(size)
		_, _, err = s.conn.WriteMsgUDPAddrPort(b, control, to)
		if errors.Is(err, syscall.ECONNREFUSED) { // told of what was sent before
			_, _, err = s.conn.WriteMsgUDPAddrPort(b, control, to)
		}
		if err == nil || errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, net.ErrClosed) {
			return err
		}
		s.whole.Store(true)
		time.AfterFunc(wholeFor, func() { s.whole.Store(false) })
	}
	for ; len(b) > 0; b = b[min(size, len(b)):] {
		if _, _, e := s.conn.WriteMsgUDPAddrPort(b[:min(size, len(b))], nil, to); e != nil {
			err = e
		}
	}
	return err
}

// mapped is an address in the socket's family.
func (s *Burst) mapped(to netip.AddrPort) netip.AddrPort {
	switch {
	case s.ipv6 && to.Addr().Is4():
		return netip.AddrPortFrom(netip.AddrFrom16(to.Addr().As16()), to.Port())
	case !s.ipv6 && to.Addr().Is4In6():
		return netip.AddrPortFrom(to.Addr().Unmap(), to.Port())
	}
	return to
}

// segmentSize is a control message that tells the size of datagrams.
func segmentSize(size int) []byte {
	b := make([]byte, unix.CmsgSpace(2))
	binary.NativeEndian.PutUint64(b, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(b[8:], unix.SOL_UDP)
	binary.NativeEndian.PutUint32(b[12:], unix.UDP_SEGMENT)
	binary.NativeEndian.PutUint16(b[unix.CmsgLen(0):], uint16(size))
	return b
}
