package network

import (
	"metaplasis/internal/retry"

	"container/list"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"syscall"
	"time"
)

// Limits of a port. Connections that do something of use are told apart from those that only wait:
// of the latter, the oldest makes room for a new one, so that no crowd of idle strangers keeps
// anybody out.
type Limits struct {
	Total       int // connections
	EachNetwork int // connections of one network
	Idle        int // connections that wait
	IdleNetwork int // of one network
}

// Pauses of an accept loop that finds no descriptors.
const (
	acceptFirst   = 5 * time.Millisecond
	acceptLongest = time.Second
)

// Listener accepts within limits, and goes on when descriptors run out.
type Listener struct {
	net.Listener
	limits Limits
	logger *slog.Logger

	mu       sync.Mutex
	networks map[string]count
	all      count
	idle     *list.List // of *Conn, those that wait, the longest first
	refused  int64
	evicted  int64
}

type count struct{ conns, idle int }

// Listen wraps a listener.
func Listen(l net.Listener, limits Limits, logger *slog.Logger) *Listener {
	return &Listener{Listener: l, limits: limits, logger: logger, networks: map[string]count{}, idle: list.New()}
}

// Conn is a connection that counts against the limits of its port until it is closed. It begins
// as one that waits.
type Conn struct {
	net.Conn
	l       *Listener
	network string
	waiting *list.Element // nil while in use
	level   int           // how far it has come while it waits
	gone    bool
}

// Accept waits for the next connection that the limits allow. Only a closed listener ends it.
func (l *Listener) Accept() (net.Conn, error) {
	pause := retry.New(acceptFirst, acceptLongest)
	for {
		conn, err := l.Listener.Accept()
		switch {
		case err == nil:
		case errors.Is(err, net.ErrClosed):
			return nil, err
		case passing(err):
			l.logger.Warn("a connection could not be accepted; trying again", "address", l.Addr(), "error", err)
			time.Sleep(pause.Take()) // descriptors come back when others are closed
			continue
		default:
			return nil, err
		}
		pause.Reset()
		if c := l.admit(conn); c != nil {
			return c, nil
		}
		_ = conn.Close()
	}
}

// passing reports whether an accept error will pass: no descriptors or buffers left, or a peer that
// has gone already (accept(2)).
func passing(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ECONNABORTED, syscall.ENOBUFS, syscall.ENOMEM,
		syscall.EINTR, syscall.EPROTO, syscall.EPERM} {
		if errors.Is(err, e) {
			return true
		}
	}
	var network net.Error
	return errors.As(err, &network) && network.Timeout()
}

// admit books a connection, closing others that wait where that makes room. It returns nil when
// there is none.
func (l *Listener) admit(conn net.Conn) *Conn {
	c := &Conn{Conn: conn, l: l, network: Of(conn.RemoteAddr().String())}
	l.mu.Lock()
	defer l.mu.Unlock()
	for {
		n := l.networks[c.network]
		mine := n.conns >= l.limits.EachNetwork || n.idle >= l.limits.IdleNetwork
		if !mine && l.all.conns < l.limits.Total && l.all.idle < l.limits.Idle {
			break
		}
		victim := l.oldest(c.network, mine)
		if victim == nil {
			l.refused++
			return nil
		}
		l.evicted++
		l.forget(victim)
		_ = victim.Conn.Close() // does not wait: nothing lingers on it
	}
	l.add(c.network, 1, 0)
	l.wait(c)
	return c
}

func (l *Listener) add(network string, conns, idle int) {
	n := l.networks[network]
	n.conns, n.idle = n.conns+conns, n.idle+idle
	l.all.conns, l.all.idle = l.all.conns+conns, l.all.idle+idle
	if l.networks[network] = n; n == (count{}) {
		delete(l.networks, network)
	}
}

func (l *Listener) wait(c *Conn) {
	if c.waiting == nil && !c.gone {
		c.waiting = l.idle.PushBack(c)
		l.add(c.network, 0, 1)
	}
}

func (l *Listener) use(c *Conn) {
	if c.waiting != nil {
		l.idle.Remove(c.waiting)
		c.waiting = nil
		l.add(c.network, 0, -1)
	}
}

func (l *Listener) forget(c *Conn) {
	if c.gone {
		return
	}
	l.use(c)
	c.gone = true
	l.add(c.network, -1, 0)
}

// oldest returns the connection that goes first: of those that have come least far, the one that
// waits longest; of one network, or of all.
func (l *Listener) oldest(network string, mine bool) (out *Conn) {
	for e := l.idle.Front(); e != nil; e = e.Next() {
		c := e.Value.(*Conn)
		if (!mine || c.network == network) && (out == nil || c.level < out.level) {
			if out = c; c.level == 0 {
				break
			}
		}
	}
	return out
}

// Close closes the connection and gives its place up.
func (c *Conn) Close() error {
	c.l.mu.Lock()
	c.l.forget(c)
	c.l.mu.Unlock()
	return c.Conn.Close()
}

// CloseWrite ends the sending half.
func (c *Conn) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return errors.ErrUnsupported
}

// Use says that the connection does something of use and is not to be closed for another.
func (c *Conn) Use() {
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	c.l.use(c)
}

// Idle says that the connection waits again.
func (c *Conn) Idle() {
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	c.l.wait(c)
}

// Advance says how far a connection that waits has come: those that have come least far make room first.
func (c *Conn) Advance(level int) {
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	c.level = max(c.level, level)
}

// Under returns the connection below another, through TLS, or nil.
func Under(c net.Conn) *Conn {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	ours, _ := c.(*Conn)
	return ours
}

// HTTPState follows the connections of an HTTP server: as its ConnState.
func HTTPState(conn net.Conn, state http.ConnState) {
	c := Under(conn)
	if c == nil {
		return
	}
	switch state {
	case http.StateActive, http.StateHijacked:
		c.Use()
	case http.StateIdle:
		c.Idle()
	}
}

// Counts of a listener.
type Counts struct {
	Conns, Idle      int   // now
	Refused, Evicted int64 // since the start: for want of room, and to make room
}

// Counts returns what a metric or a status shows.
func (l *Listener) Counts() Counts {
	l.mu.Lock()
	defer l.mu.Unlock()
	return Counts{l.all.conns, l.all.idle, l.refused, l.evicted}
}

// RaiseDescriptors raises the limit of open descriptors to what the system allows, and returns it.
func RaiseDescriptors() (limit uint64) {
	var r syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &r) != nil {
		return usualDescriptors
	}
	if r.Cur < r.Max {
		want := r
		want.Cur = r.Max
		if syscall.Setrlimit(syscall.RLIMIT_NOFILE, &want) == nil {
			r = want
		}
	}
	return r.Cur
}

const usualDescriptors = 1024
