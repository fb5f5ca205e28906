package mpegts

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"syscall"
	"time"

	"github.com/pion/rtp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/rtpmap"
)

// Bounds of a socket.
const (
	batchSize    = 64
	datagramSize = 9216 // the longest of a network with jumbo frames
	socketBuffer = 8 << 20
	// reorderWait is for how long a missing RTP packet is waited for.
	reorderWait = 80 * time.Millisecond
	lookUDP     = 50 * time.Millisecond
	// udpSilence is for how long nothing may come until a source is taken for gone.
	udpSilence = 10 * time.Second
	tsType     = 33 // payload type of transport streams (RFC 3551, 6)
)

// Listen opens the socket of an address such as udp://239.1.1.1:5000?interface=eth0&source=192.0.2.7: of a group it is
// a member of it, on the interface and from the source that the address names; else it is bound to the host, which is
// one of this machine's, or 0.0.0.0 for all.
func Listen(u *url.URL) (*net.UDPConn, error) {
	host, err := netip.ParseAddr(u.Hostname())
	if err != nil {
		ips, lookup := net.DefaultResolver.LookupNetIP(context.Background(), "ip", u.Hostname())
		if lookup != nil || len(ips) == 0 {
			return nil, fmt.Errorf("found the host %q, expected an address of this machine, a multicast group, or 0.0.0.0", u.Hostname())
		}
		host = ips[0].Unmap()
	}
	q := u.Query()
	var face *net.Interface
	if name := q.Get("interface"); name != "" {
		if face, err = net.InterfaceByName(name); err != nil {
			return nil, fmt.Errorf("there is no network interface %q", name)
		}
	}
	lc := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			if host.IsMulticast() { // others may listen to the group too
				_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
			}
			if unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, socketBuffer) != nil {
				_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, socketBuffer)
			}
			_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RXQ_OVFL, 1)
		})
	}}
	network := "udp4"
	if host.Is6() {
		network = "udp6"
	}
	c, err := lc.ListenPacket(context.Background(), network, net.JoinHostPort(host.String(), u.Port()))
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("port %s is taken by another program or input", u.Port())
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return nil, fmt.Errorf("%s is no address of this machine: name one that is, a multicast group, or 0.0.0.0", host)
	case err != nil:
		return nil, err
	}
	conn := c.(*net.UDPConn)
	if host.IsMulticast() {
		if err := join(conn, host, face, q.Get("source")); err != nil {
			_ = conn.Close()
			return nil, err
		}
	}
	return conn, nil
}

// join makes a socket a member of a group, from one source alone where one is named (RFC 4607).
func join(c *net.UDPConn, group netip.Addr, face *net.Interface, source string) error {
	to := &net.UDPAddr{IP: group.AsSlice()}
	var from *net.UDPAddr
	if source != "" {
		ip := net.ParseIP(source)
		if ip == nil {
			return fmt.Errorf("found the source %q, expected an address", source)
		}
		from = &net.UDPAddr{IP: ip}
	}
	var err error
	switch {
	case group.Is4() && from == nil:
		err = ipv4.NewPacketConn(c).JoinGroup(face, to)
	case group.Is4():
		err = ipv4.NewPacketConn(c).JoinSourceSpecificGroup(face, to, from)
	case from == nil:
		err = ipv6.NewPacketConn(c).JoinGroup(face, to)
	default:
		err = ipv6.NewPacketConn(c).JoinSourceSpecificGroup(face, to, from)
	}
	if err != nil {
		return fmt.Errorf("joining the group %s: %w; name the interface in the address, such as ?interface=eth0", group, err)
	}
	return nil
}

// receiveUDP reads datagrams of a transport stream, bare or in RTP, until nothing comes for long.
func receiveUDP(ctx context.Context, u *url.URL, s *Stream) error {
	conn, err := Listen(u)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Now()) })
	defer stop()
	var source netip.Addr
	if text := u.Query().Get("source"); text != "" {
		source, _ = netip.ParseAddr(text)
	}
	r := &datagrams{s: s, socket: contribution.Socket{Buffer: bufferOf(conn)}, source: source, begun: time.Now()}
	return r.read(ctx, conn)
}

func bufferOf(c *net.UDPConn) (n int64) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0
	}
	_ = raw.Control(func(fd uintptr) {
		v, _ := unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF)
		n = int64(v)
	})
	return n
}

// datagrams reads the datagrams of one source.
type datagrams struct {
	s      *Stream
	socket contribution.Socket
	source netip.Addr // the only one; invalid for any
	begun  time.Time
	heard  time.Time
	queue  *rtpmap.Queue // of a stream in RTP
	ssrc   uint32
	other  int64 // packets of RTP that are not of the stream
	alien  int64 // packets of the stream since another SSRC came
}

func (r *datagrams) read(ctx context.Context, conn *net.UDPConn) error {
	messages := make([]ipv4.Message, batchSize)
	block := make([]byte, batchSize*datagramSize)
	oob := make([]byte, batchSize*64)
	for i := range messages {
		messages[i].Buffers = [][]byte{block[i*datagramSize : (i+1)*datagramSize]}
		messages[i].OOB = oob[i*64 : (i+1)*64]
	}
	pc := ipv4.NewPacketConn(conn)
	r.heard = time.Now()
	for {
		_ = conn.SetReadDeadline(time.Now().Add(lookUDP))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n, err := pc.ReadBatch(messages, 0)
		now := time.Now()
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			n = 0
			if now.Sub(r.heard) > udpSilence {
				return fmt.Errorf("nothing came for %d s", int(udpSilence.Seconds()))
			}
		case err != nil:
			return err
		}
		for i := range messages[:n] {
			m := &messages[i]
			if r.source.IsValid() {
				if a, ok := m.Addr.(*net.UDPAddr); !ok || a.AddrPort().Addr().Unmap() != r.source {
					continue
				}
			}
			if m.NN > 0 {
				r.overruns(m.OOB[:m.NN])
			}
			r.take(m.Buffers[0][:m.N], now)
		}
		if r.queue != nil {
			r.queue.Look(now.Sub(r.begun), r.deliver)
		}
		r.measured()
		r.s.Look()
	}
}

// overruns reads how many datagrams found the socket's buffer full.
func (r *datagrams) overruns(oob []byte) {
	list, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return
	}
	for _, m := range list {
		if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SO_RXQ_OVFL && len(m.Data) >= 4 {
			r.socket.Overruns = int64(binary.NativeEndian.Uint32(m.Data))
		}
	}
}

// take reads one datagram. Transport packets begin with their sync byte, RTP with its version.
func (r *datagrams) take(b []byte, now time.Time) {
	if len(b) == 0 {
		return
	}
	r.socket.Packets++
	if b[0] == 'G' || b[0]>>6 != 2 {
		r.heard = now
		r.s.Write(b)
		return
	}
	var p rtp.Packet
	if p.Unmarshal(b) != nil || p.PayloadType != tsType && p.PayloadType < 96 {
		r.other++
		return
	}
	if r.queue == nil || p.SSRC != r.ssrc {
		// Streams of forward error correction have an SSRC of their own (or 0) and no transport packets.
		if len(p.Payload) == 0 || p.Payload[0] != 'G' {
			r.other++
			return
		}
		if r.alien++; r.queue != nil && r.alien < batchSize {
			r.other++ // the sender began anew, if the old one is not heard any more
			return
		}
		r.queue, r.ssrc, r.alien = rtpmap.NewQueue(90000, reorderWait), p.SSRC, 0
	} else if r.alien > 0 {
		r.alien = 0
	}
	r.heard = now
	payload := append([]byte(nil), p.Payload...)
	r.queue.Put(&rtpmap.Packet{Sequence: p.SequenceNumber, Timestamp: p.Timestamp, Payload: payload}, now.Sub(r.begun), r.deliver)
}

func (r *datagrams) deliver(p *rtpmap.Packet, _ int) { r.s.Write(p.Payload) }

// measured hands the figures over.
func (r *datagrams) measured() {
	r.s.Measured(func(l *contribution.Line) {
		if l.Socket != nil && *l.Socket == r.socket {
			return
		}
		socket := r.socket
		l.Socket = &socket
		if q := r.queue; q != nil {
			l.RTP = &contribution.RTP{Packets: q.Packets, Lost: q.Lost, Late: q.Late, Reordered: q.Reordered, Jitter: q.JitterMicros(), Other: r.other}
		}
	})
}
