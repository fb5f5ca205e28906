package rtpmedia

import (
	"metaplasis/internal/safely"

	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/rtp"

	"metaplasis/internal/contribution"
	"metaplasis/internal/network/udp"
)

// UDPWait and TCPWait are how long a missing packet is waited for: over TCP nothing is missing.
const (
	UDPWait = 120 * time.Millisecond
	TCPWait = 10 * time.Millisecond
)

// Ports are two sockets for one stream: RTP on an even port, RTCP on the one above (RFC 3550, 11).
type Ports struct {
	rtp, rtcp *net.UDPConn
	large     bool // much comes
}

const (
	firstPort = 30000
	lastPort  = 49998
	// largeBuffer is what the socket of a source may hold that sends without compression: a tenth of a second.
	largeBuffer = 32 << 20
)

// OpenPorts finds a pair that is free on a host of this machine.
func OpenPorts(host string) (*Ports, error) {
	start := firstPort + int(time.Now().UnixNano()/1000%int64(lastPort-firstPort))/2*2
	for i := range 200 {
		n := firstPort + (start-firstPort+2*i)%(lastPort-firstPort)
		if p, err := ListenPorts(host, [2]int{n, n + 1}, nil, false); err == nil {
			return p, nil
		}
	}
	return nil, errors.New("no two neighbouring UDP ports are free")
}

// ListenPorts opens two ports of a host or of a multicast group; q may name the interface and the source, as udp.Listen
// has it. large says that much comes.
func ListenPorts(host string, numbers [2]int, q url.Values, large bool) (*Ports, error) {
	p := &Ports{large: large}
	query := url.Values{}
	for _, name := range []string{"interface", "source"} {
		if q.Get(name) != "" {
			query.Set(name, q.Get(name))
		}
	}
	var err error
	open := func(port int) *net.UDPConn {
		c, e := udp.Listen(&url.URL{Host: net.JoinHostPort(host, strconv.Itoa(port)), RawQuery: query.Encode()})
		err = errors.Join(err, e)
		return c
	}
	p.rtcp = open(numbers[1])
	if large {
		query.Set(udp.Buffer, strconv.Itoa(largeBuffer))
	}
	p.rtp = open(numbers[0])
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// Close closes both sockets.
func (p *Ports) Close() {
	for _, c := range []*net.UDPConn{p.rtp, p.rtcp} {
		if c != nil {
			_ = c.Close()
		}
	}
}

// Numbers are those of the ports.
func (p *Ports) Numbers() [2]int {
	return [2]int{p.rtp.LocalAddr().(*net.UDPAddr).Port, p.rtcp.LocalAddr().(*net.UDPAddr).Port}
}

// Answer sends a packet of RTCP.
func (p *Ports) Answer(b []byte, to netip.AddrPort) { _, _ = p.rtcp.WriteToUDPAddrPort(b, to) }

// Read hands what comes to a track until the sockets are closed. Only what comes from an address counts, if it is valid.
func (p *Ports) Read(t *Track, from netip.Addr, heard func()) {
	safely.Do(nil, func() { p.read(t, from, heard) }, t.s.fault)
}

func (p *Ports) read(t *Track, from netip.Addr, heard func()) {
	go safely.Do(nil, func() {
		buf := make([]byte, udp.MaxDatagram)
		for {
			n, at, err := p.rtcp.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if !from.IsValid() || at.Addr().Unmap() == from {
				t.s.RTCP(buf[:n])
			}
		}
	}, t.s.fault)
	batch := 8
	if p.large {
		batch = 64
	}
	reader, buffer := udp.NewReader(p.rtp, batch), udp.BufferOf(p.rtp)
	var keep slab
	for {
		var now time.Time
		err := reader.Read(LookEach, func(b []byte, at netip.Addr) {
			if now.IsZero() {
				now = time.Now()
				heard()
			}
			if !from.IsValid() || at == from {
				t.Take(keep.copy(b), now)
			}
		})
		if err != nil {
			return
		}
		t.socket(contribution.Socket{Packets: reader.Packets, Overruns: reader.Overruns, Buffer: buffer})
	}
}

// slab copies small pieces into large ones.
type slab struct{ rest []byte }

const slabSize = 64 << 10

func (s *slab) copy(b []byte) []byte {
	if len(s.rest) < len(b) {
		s.rest = make([]byte, max(slabSize, len(b)))
	}
	out := s.rest[:len(b):len(b)]
	s.rest = s.rest[copy(out, b):]
	return out
}

// Take hands a packet of RTP to the track; its bytes are the track's from now on.
func (t *Track) Take(b []byte, now time.Time) {
	var p rtp.Packet
	if p.Unmarshal(b) == nil {
		t.RTP(&p, now)
	}
}

// RTCP takes packets of RTCP.
func (s *Session) RTCP(b []byte) {
	list, err := rtcp.Unmarshal(b)
	if err != nil {
		return
	}
	for _, p := range list {
		s.Control(p)
	}
}

// Control takes a packet of RTCP: what the sender says of its clocks, and that it leaves.
func (s *Session) Control(p rtcp.Packet) {
	switch p := p.(type) {
	case *rtcp.SenderReport:
		s.Report(p)
	case *rtcp.Goodbye:
		s.Bye(p.Sources)
	}
}

// Punch opens the way back through a firewall, as players do: an empty packet to each port of the server.
func (p *Ports) Punch(host netip.Addr, server [2]int) {
	for i, c := range []*net.UDPConn{p.rtp, p.rtcp} {
		if server[i] > 0 {
			_, _ = c.WriteToUDPAddrPort([]byte{0x80, 0xc9, 0, 1, 0, 0, 0, 0}, netip.AddrPortFrom(host, uint16(server[i])))
		}
	}
}

// LookEach is how often a session is to be looked at.
const LookEach = 50 * time.Millisecond

// SilenceLimit is how long nothing may come of a stream until it is taken for gone.
const SilenceLimit = 10 * time.Second

// ErrSilent says that it is.
var ErrSilent = fmt.Errorf("nothing came for %d s", int(SilenceLimit.Seconds()))
