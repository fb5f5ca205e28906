package network

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/quic-go/quic-go"
)

// Bounds of connections over QUIC: of all networks, and of one.
const (
	//limit:connections over QUIC: HTTP/3 and WebTransport | all | the connection is refused
	maxQUIC = 2048
	//limit:connections over QUIC | each network | the connection is refused
	maxQUICEach = 512
)

// ServeQUIC accepts connections over QUIC within bounds until the socket is closed, and hands each to serve. Addresses
// are made sure of before anything is kept for them (RFC 9000, 8.1.2).
func ServeQUIC(udp *net.UDPConn, tlsConf *tls.Config, conf *quic.Config, serve func(*quic.Conn) error) error {
	t := &quic.Transport{Conn: udp, VerifySourceAddress: func(net.Addr) bool { return true }}
	defer func() { _ = t.Close() }()
	l, err := t.ListenEarly(tlsConf, conf)
	if err != nil {
		return err
	}
	quota := &Quota{Total: maxQUIC, EachNetwork: maxQUICEach}
	for {
		c, err := l.Accept(context.Background())
		if errors.Is(err, net.ErrClosed) || errors.Is(err, quic.ErrServerClosed) || errors.Is(err, quic.ErrTransportClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		release, ok := quota.Take(c.RemoteAddr().String())
		if !ok {
			const excessiveLoad = 0x107 // H3_EXCESSIVE_LOAD (RFC 9114, 8.1)
			_ = c.CloseWithError(excessiveLoad, "too many connections")
			continue
		}
		go func() {
			defer release()
			_ = serve(c)
		}()
	}
}

// Deadlines gives the body of each request and its answer a time, as a server of net/http does: a handler that takes
// longer renews them. It is for servers that have no such bounds of their own.
func Deadlines(read, write time.Duration, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rc, now := http.NewResponseController(w), time.Now()
		_ = rc.SetReadDeadline(now.Add(read))
		_ = rc.SetWriteDeadline(now.Add(write))
		next.ServeHTTP(w, r)
	})
}
