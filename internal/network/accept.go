package network

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"
)

// Acceptor hands the connections of a port to their handlers, and ends them in good order. The zero value is ready.
type Acceptor struct {
	mu    sync.Mutex
	conns map[net.Conn]struct{}
	leave chan struct{} // closed when no more are accepted
	over  bool
	all   sync.WaitGroup
}

// Leaving is closed when connections are to end by themselves.
func (a *Acceptor) Leaving() <-chan struct{} {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.leaving()
}

func (a *Acceptor) leaving() chan struct{} {
	if a.leave == nil {
		a.leave = make(chan struct{})
	}
	return a.leave
}

// Serve accepts connections until the listener is closed, over TLS where a configuration is given, and closes each when
// its handler returns. Within which limits, and what happens without descriptors, is the listener's business.
func (a *Acceptor) Serve(l net.Listener, conf *tls.Config, handle func(net.Conn)) error {
	if conf != nil {
		l = tls.NewListener(l, conf)
	}
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		if !a.admit(conn) {
			_ = conn.Close()
			continue
		}
		go func() {
			defer a.forget(conn)
			handle(conn)
		}()
	}
}

func (a *Acceptor) admit(c net.Conn) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.over {
		return false
	}
	if a.conns == nil {
		a.conns = map[net.Conn]struct{}{}
	}
	a.conns[c] = struct{}{}
	a.all.Add(1)
	return true
}

func (a *Acceptor) forget(c net.Conn) {
	_ = c.Close()
	a.mu.Lock()
	delete(a.conns, c)
	a.mu.Unlock()
	a.all.Done()
}

// Shutdown lets connections end by themselves for a while, closes those that are left, and waits for their handlers.
func (a *Acceptor) Shutdown(ctx context.Context, farewell time.Duration) error {
	a.mu.Lock()
	first, some := !a.over, len(a.conns) > 0
	if a.over = true; first {
		close(a.leaving())
	}
	a.mu.Unlock()
	done := make(chan struct{})
	go func() { a.all.Wait(); close(done) }()
	if some && first && farewell > 0 {
		select {
		case <-done:
		case <-time.After(farewell):
		}
	}
	a.mu.Lock()
	for c := range a.conns {
		_ = c.Close()
	}
	a.mu.Unlock()
	select {
	case <-done:
		return nil
	case <-ctx.Done():
		return fmt.Errorf("connections did not end: %w", ctx.Err())
	}
}
