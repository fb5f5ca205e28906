package network

import (
	"crypto/tls"
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// BoundUnsent bounds what the system takes of a connection's bytes before it sends them (TCP_NOTSENT_LOWAT), and what it holds until they
// are acknowledged. It looks through TLS and through counted connections; of others it does nothing.
func BoundUnsent(c net.Conn, unsent, buffer int) {
	for {
		switch v := c.(type) {
		case *Conn:
			c = v.Conn
			continue
		case *tls.Conn:
			c = v.NetConn()
			continue
		case *net.TCPConn:
			_ = v.SetWriteBuffer(buffer)
			raw, err := v.SyscallConn()
			if err != nil {
				return
			}
			_ = raw.Control(func(fd uintptr) {
				_ = syscall.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, unsent)
			})
		}
		return
	}
}
