package rtsp

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/rtp"

	"metaplasis/internal/contribution/mpegts"
	"metaplasis/internal/contribution/rtpmedia"
)

// How long a missing packet is waited for: over TCP nothing is missing.
const (
	udpWait = 120 * time.Millisecond
	tcpWait = 10 * time.Millisecond
)

const datagramSize = 9216

// ports are two sockets for one stream: RTP on an even port, RTCP on the one above (RFC 3550, 11).
type ports struct{ rtp, rtcp *net.UDPConn }

const (
	firstPort = 30000
	lastPort  = 49998
)

// openPorts finds a pair that is free.
func openPorts(host string) (*ports, error) {
	start := firstPort + int(time.Now().UnixNano()/1000%int64(lastPort-firstPort))/2*2
	for i := range 200 {
		n := firstPort + (start-firstPort+2*i)%(lastPort-firstPort)
		a, err := mpegts.Listen(&url.URL{Scheme: "udp", Host: net.JoinHostPort(host, strconv.Itoa(n))})
		if err != nil {
			continue
		}
		b, err := mpegts.Listen(&url.URL{Scheme: "udp", Host: net.JoinHostPort(host, strconv.Itoa(n+1))})
		if err != nil {
			_ = a.Close()
			continue
		}
		return &ports{a, b}, nil
	}
	return nil, errors.New("no two neighbouring UDP ports are free")
}

func (p *ports) close() {
	_ = p.rtp.Close()
	_ = p.rtcp.Close()
}

func (p *ports) numbers() [2]int {
	return [2]int{p.rtp.LocalAddr().(*net.UDPAddr).Port, p.rtcp.LocalAddr().(*net.UDPAddr).Port}
}

// read hands what comes to a track until the sockets are closed. Only what comes from an address counts, if it is valid.
func (p *ports) read(t *rtpmedia.Track, s *rtpmedia.Session, from netip.Addr, heard func()) {
	go func() {
		buf := make([]byte, datagramSize)
		for {
			n, at, err := p.rtcp.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if !from.IsValid() || at.Addr().Unmap() == from {
				takeRTCP(s, buf[:n])
			}
		}
	}()
	buf := make([]byte, datagramSize)
	for {
		n, at, err := p.rtp.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if !from.IsValid() || at.Addr().Unmap() == from {
			heard()
			takeRTP(t, append([]byte(nil), buf[:n]...))
		}
	}
}

// takeRTP hands a packet to its track; its bytes are the track's from now on.
func takeRTP(t *rtpmedia.Track, b []byte) {
	var p rtp.Packet
	if p.Unmarshal(b) == nil {
		t.RTP(&p, time.Now())
	}
}

func takeRTCP(s *rtpmedia.Session, b []byte) {
	list, err := rtcp.Unmarshal(b)
	if err != nil {
		return
	}
	for _, p := range list {
		if r, ok := p.(*rtcp.SenderReport); ok {
			s.Report(r)
		}
	}
}

// punch opens the way back through a firewall, as players do: an empty packet to each port of the server.
func (p *ports) punch(host netip.Addr, server [2]int) {
	for i, c := range []*net.UDPConn{p.rtp, p.rtcp} {
		if server[i] > 0 {
			_, _ = c.WriteToUDPAddrPort([]byte{0x80, 0xc9, 0, 1, 0, 0, 0, 0}, netip.AddrPortFrom(host, uint16(server[i])))
		}
	}
}

var errSilent = fmt.Errorf("nothing came for %d s", int(silenceLimit.Seconds()))
