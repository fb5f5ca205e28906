// Package udp opens sockets for media that comes in datagrams, and reads them many at a time.
package udp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"syscall"
	"time"

	"metaplasis/internal/network"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// Bounds of a socket.
const (
	// MaxDatagram is the longest of a network with jumbo frames, in bytes.
	//limit:bytes of a datagram | each socket | it is cut, and does not parse
	MaxDatagram  = 9216
	socketBuffer = 8 << 20
)

// Buffer is a query parameter of the address for Listen: bytes that the socket may hold. It is set by the program alone.
const Buffer = "socket-buffer"

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
	buffer, _ := strconv.Atoi(q.Get(Buffer))
	conn, err := bind(host, u.Port(), max(buffer, socketBuffer))
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("port %s is taken by another program or input", u.Port())
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return nil, fmt.Errorf("%s is no address of this machine: name one that is, a multicast group, or 0.0.0.0", host)
	case err != nil:
		return nil, err
	}
	if host.IsMulticast() {
		if err := join(conn, host, face, q.Get("source")); err != nil {
			_ = conn.Close()
			return nil, err
		}
	}
	return conn, nil
}

// bind opens a socket at an address. That of a group is bound to the group itself, and gets what it joined alone: the
// usual way binds to all addresses, and each socket of a port would get what is sent to the groups of all others.
func bind(host netip.Addr, port string, buffer int) (*net.UDPConn, error) {
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, fmt.Errorf("found port %q, expected 0 to 65535", port)
	}
	family := unix.AF_INET
	var at unix.Sockaddr
	if host.Is4() {
		at = &unix.SockaddrInet4{Port: int(number), Addr: host.As4()}
	} else {
		family = unix.AF_INET6
		six := &unix.SockaddrInet6{Port: int(number), Addr: host.As16()}
		if face, err := net.InterfaceByName(host.Zone()); err == nil {
			six.ZoneId = uint32(face.Index)
		}
		at = six
	}
	fd, err := unix.Socket(family, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	file := os.NewFile(uintptr(fd), "udp")
	defer func() { _ = file.Close() }()
	if host.IsMulticast() { // others may listen to the group too
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
		if host.Is4() {
			err = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_MULTICAST_ALL, 0)
		} else {
			err = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_MULTICAST_ALL, 0)
		}
		if err != nil {
			return nil, err
		}
	}
	if family == unix.AF_INET6 {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_V6ONLY, 1)
	}
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, buffer) != nil {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, buffer)
	}
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RXQ_OVFL, 1)
	if err := unix.Bind(fd, at); err != nil {
		return nil, err
	}
	c, err := net.FilePacketConn(file)
	if err != nil {
		return nil, err
	}
	return c.(*net.UDPConn), nil
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

// Dial opens a socket that sends to an address such as udp://239.1.1.1:5000?interface=eth0&ttl=4: to a group by the
// interface and with the lifetime that the address names.
func Dial(ctx context.Context, u *url.URL) (*net.UDPConn, error) {
	c, err := network.Dialer(0).DialContext(ctx, "udp", u.Host)
	if err != nil {
		return nil, fmt.Errorf("sending to %s: %w", u.Host, err)
	}
	conn := c.(*net.UDPConn)
	if err := multicast(conn, u); err != nil {
		_ = c.Close()
		return nil, err
	}
	return conn, nil
}

// multicast sets where packets to a group go and how far.
func multicast(c *net.UDPConn, u *url.URL) error {
	to := c.RemoteAddr().(*net.UDPAddr)
	if !to.IP.IsMulticast() {
		return nil
	}
	ttl := 1
	if text := u.Query().Get("ttl"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 255 {
			return fmt.Errorf("found ttl %q, expected 1 to 255", text)
		}
		ttl = n
	}
	var face *net.Interface
	if name := u.Query().Get("interface"); name != "" {
		f, err := net.InterfaceByName(name)
		if err != nil {
			return fmt.Errorf("there is no network interface %q", name)
		}
		face = f
	}
	if to.IP.To4() == nil {
		p := ipv6.NewPacketConn(c)
		if face != nil {
			if err := p.SetMulticastInterface(face); err != nil {
				return err
			}
		}
		return p.SetMulticastHopLimit(ttl)
	}
	p := ipv4.NewPacketConn(c)
	if face != nil {
		if err := p.SetMulticastInterface(face); err != nil {
			return err
		}
	}
	return p.SetMulticastTTL(ttl)
}

// Reader reads the datagrams of a socket. It is not safe for concurrent use.
type Reader struct {
	Packets  int64 // datagrams that came
	Overruns int64 // those that found the socket's buffer full

	conn     *net.UDPConn
	packets  *ipv4.PacketConn
	messages []ipv4.Message
}

// NewReader makes a reader of a socket that takes so many datagrams at a time.
func NewReader(conn *net.UDPConn, batch int) *Reader {
	r := &Reader{conn: conn, packets: ipv4.NewPacketConn(conn), messages: make([]ipv4.Message, batch)}
	block := make([]byte, batch*MaxDatagram)
	oob := make([]byte, batch*64)
	for i := range r.messages {
		r.messages[i].Buffers = [][]byte{block[i*MaxDatagram : (i+1)*MaxDatagram]}
		r.messages[i].OOB = oob[i*64 : (i+1)*64]
	}
	return r
}

// Read waits for datagrams, for so long at most, and hands over those that are there; their bytes are the reader's
// again when take returns. It returns nil when none came.
func (r *Reader) Read(wait time.Duration, take func(b []byte, from netip.Addr)) error {
	_ = r.conn.SetReadDeadline(time.Now().Add(wait))
	n, err := r.packets.ReadBatch(r.messages, 0)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return nil
	}
	if err != nil {
		return err
	}
	r.Packets += int64(n)
	for i := range r.messages[:n] {
		m := &r.messages[i]
		if m.NN > 0 {
			r.overruns(m.OOB[:m.NN])
		}
		var from netip.Addr
		if a, ok := m.Addr.(*net.UDPAddr); ok {
			from = a.AddrPort().Addr().Unmap()
		}
		take(m.Buffers[0][:m.N], from)
	}
	return nil
}

// overruns reads how many datagrams found the socket's buffer full.
func (r *Reader) overruns(oob []byte) {
	list, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return
	}
	for _, m := range list {
		if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SO_RXQ_OVFL && len(m.Data) >= 4 {
			r.Overruns = int64(binary.NativeEndian.Uint32(m.Data))
		}
	}
}

// BufferOf is how many bytes a socket may hold.
func BufferOf(c *net.UDPConn) (n int64) {
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
