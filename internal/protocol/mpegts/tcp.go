package mpegts

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/network"
	"metaplasis/internal/onward/mux"
)

// A transport stream over TCP has no framing: packets follow one another, and demux finds where they begin.

// receiveTCP reads the stream of one connection until it ends: of the other side that is called, or, in listener mode, of the first
// sender that comes from where senders are let in.
func receiveTCP(ctx context.Context, u *url.URL, _ string, s *reception) error {
	conn, err := openTCP(ctx, u, s)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Now()) })()
	stall := time.AfterFunc(connectTimeout, cancel)
	defer stall.Stop()
	return demux.Read(ctx, conn, s.stream, stall)
}

func openTCP(ctx context.Context, u *url.URL, s *reception) (net.Conn, error) {
	if u.Query().Get("mode") != "listener" {
		conn, err := network.Dialer(connectTimeout).DialContext(ctx, "tcp", u.Host)
		if err != nil {
			return nil, fmt.Errorf("the source at %s: %w", u.Host, err)
		}
		return conn, nil
	}
	l, err := new(net.ListenConfig).Listen(ctx, "tcp", u.Host)
	if err != nil {
		return nil, fmt.Errorf("port %s: %w", u.Host, err)
	}
	defer func() { _ = l.Close() }() // who comes later is refused until this one ends
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	for {
		conn, err := l.Accept()
		if err != nil {
			return nil, errors.Join(ctx.Err(), err)
		}
		if s.r.may(s, conn.RemoteAddr().String()) {
			return conn, nil
		}
		_ = conn.Close()
	}
}

// tcpWait is for how long the other side may take nothing.
const tcpWait = 5 * time.Second

// dialTCP sends a transport stream to tcp://host:port.
func dialTCP(ctx context.Context, u *url.URL) (*mux.Conn, error) {
	conn, err := network.Dialer(connectTimeout).DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return nil, fmt.Errorf("sending to %s: %w", u.Host, err)
	}
	send := func(b []byte) error {
		_ = conn.SetWriteDeadline(time.Now().Add(tcpWait))
		_, err := conn.Write(b)
		return err
	}
	c := mux.NewConn(send, conn.Close, nil)
	return c, c.SetRate(u)
}
