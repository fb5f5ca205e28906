package rtmp

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/rtmp"
	"metaplasis/internal/network"
)

// Timeouts of a connection.
const (
	connectTimeout = 10 * time.Second
	pushTimeout    = 10 * time.Second
	closeTimeout   = 5 * time.Second
	// sendBuffer is what the system may hold of what was sent, in bytes.
	sendBuffer = 256 << 10
)

// RefusedError says that the server does not take the stream.
type RefusedError struct{ Code, Text string }

func (e *RefusedError) Error() string {
	return fmt.Sprintf("the far end refused the stream (%s): %s", cmp.Or(e.Code, "without a code"), cmp.Or(e.Text, "it does not say why"))
}

// ReconnectError says that the server asks to connect again.
type ReconnectError struct{ Text string }

func (e *ReconnectError) Error() string { return "the server asks to connect again: " + e.Text }

// Options of a connection.
type Options struct {
	Digest bool        // use the digest form of the handshake
	TLS    *tls.Config // for rtmps addresses; nil trusts the system's authorities
	// Dial reaches the server's host and port; nil: network.Dialer.
	Dial func(ctx context.Context, kind, address string) (net.Conn, error)
}

// Conn is a connection that publishes.
type Conn struct {
	conn   net.Conn
	mu     sync.Mutex // guards client
	client *rtmp.Client
	failed chan error
}

// Dial connects to rtmp://host[:port]/app/name, where name is the last part of the path with its
// query, and returns once the server lets us publish.
func Dial(ctx context.Context, address string, o Options) (*Conn, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, fmt.Errorf("address of the server: %w", err)
	}
	path := strings.Trim(u.Path, "/")
	cut := strings.LastIndexByte(path, '/')
	if u.Scheme != "rtmp" && u.Scheme != "rtmps" || u.Host == "" || cut < 1 {
		return nil, fmt.Errorf("address of the server: found %s://%s with %d path parts, expected rtmp://host/in/CHANNEL/KEY", u.Scheme, u.Host, strings.Count(path, "/")+1)
	}
	app, name := path[:cut], path[cut+1:]
	if q := network.WithoutTrust(u); q != "" {
		name += "?" + q
	}
	ctx, cancel := context.WithTimeout(ctx, connectTimeout)
	defer cancel()
	conn, err := o.dial(ctx, u)
	if err != nil {
		return nil, err
	}
	client, err := rtmp.NewClient(rand.Reader, u.Scheme+"://"+u.Host+"/"+app, app, name, o.Digest)
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	c := &Conn{conn: conn, client: client, failed: make(chan error, 1)}
	if err := c.start(ctx); err != nil {
		_ = conn.Close()
		return nil, err
	}
	go c.listen()
	return c, nil
}

func (o *Options) dial(ctx context.Context, u *url.URL) (net.Conn, error) {
	host := u.Host
	if u.Port() == "" {
		port := "1935"
		if u.Scheme == "rtmps" {
			port = "443"
		}
		host = net.JoinHostPort(u.Hostname(), port)
	}
	reach := o.Dial
	if reach == nil {
		reach = network.Dialer(0).DialContext
	}
	conn, err := reach(ctx, "tcp", host)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", host, err)
	}
	if t, ok := conn.(*net.TCPConn); ok { // what waits in the system's buffer is late
		_ = t.SetWriteBuffer(sendBuffer)
	}
	if u.Scheme != "rtmps" {
		return conn, nil
	}
	conf, err := network.Trust(u, true)
	if err == nil && o.TLS != nil && !u.Query().Has(network.VerifyParameter) {
		if conf = o.TLS.Clone(); conf.ServerName == "" {
			conf.ServerName = u.Hostname()
		}
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	safe := tls.Client(conn, conf)
	if err := safe.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		return nil, fmt.Errorf("connecting to %s: %w", host, err)
	}
	return safe, nil
}

// start shakes hands and publishes.
func (c *Conn) start(ctx context.Context) error {
	deadline, _ := ctx.Deadline()
	_ = c.conn.SetDeadline(deadline)
	defer func() { _ = c.conn.SetDeadline(time.Time{}) }()
	buf := make([]byte, 8<<10)
	started := false
	for !started {
		if err := c.Flush(); err != nil {
			return err
		}
		n, err := c.conn.Read(buf)
		if n > 0 {
			ferr := c.client.Feed(buf[:n], func(e rtmp.Event) error {
				switch e.Kind {
				case rtmp.EventStarted:
					started = true
				case rtmp.EventRefused:
					return &RefusedError{e.Name, e.Text}
				}
				return nil
			})
			if ferr != nil {
				return ferr
			}
		}
		var late net.Error
		if errors.As(err, &late) && late.Timeout() && !started {
			return fmt.Errorf("the server took the connection and said nothing for %d s", int(connectTimeout.Seconds()))
		}
		if err != nil && !started {
			return fmt.Errorf("the server closed the connection before it accepted the stream: %w", err)
		}
	}
	return nil
}

// listen reads what the server says while we send, so that its refusals are heard.
func (c *Conn) listen() {
	buf := make([]byte, 4<<10)
	for {
		n, err := c.conn.Read(buf)
		if n > 0 {
			c.mu.Lock()
			ferr := c.client.Feed(buf[:n], func(e rtmp.Event) error {
				switch e.Kind {
				case rtmp.EventRefused:
					return &RefusedError{e.Name, e.Text}
				case rtmp.EventReconnect:
					return &ReconnectError{e.Text}
				}
				return nil
			})
			c.mu.Unlock()
			if ferr != nil {
				c.failed <- ferr
				return
			}
		}
		if err != nil {
			c.failed <- fmt.Errorf("the server closed the connection: %w", err)
			return
		}
	}
}

// Takes reports whether the server announced a codec of the enhanced form by its FourCC.
func (c *Conn) Takes(fourCC string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.client.Takes(fourCC)
}

// Failed delivers the reason when the server ends the stream.
func (c *Conn) Failed() <-chan error { return c.failed }

// Metadata sends onMetaData.
func (c *Conn) Metadata(values amf.ECMAArray) error {
	c.mu.Lock()
	c.client.Metadata(values)
	c.mu.Unlock()
	return c.Flush()
}

// Data sends another data message.
func (c *Conn) Data(timestamp uint32, name string, values amf.Object) error {
	c.mu.Lock()
	c.client.Data(timestamp, name, values)
	c.mu.Unlock()
	return c.Flush()
}

// Media sends the body of an FLV tag.
func (c *Conn) Media(kind uint8, timestamp uint32, body []byte) error {
	c.mu.Lock()
	c.client.Media(kind, timestamp, body)
	c.mu.Unlock()
	return c.Flush()
}

// Flush writes what is queued.
func (c *Conn) Flush() error {
	c.mu.Lock()
	out := c.client.TakeOutput()
	c.mu.Unlock()
	if len(out) == 0 {
		return nil
	}
	_ = c.conn.SetWriteDeadline(time.Now().Add(pushTimeout))
	if _, err := c.conn.Write(out); err != nil {
		select {
		case refused := <-c.failed: // the reason is worth more than the broken pipe
			return refused
		default:
			return fmt.Errorf("sending: %w", err)
		}
	}
	return nil
}

// Close ends the stream in good order.
func (c *Conn) Close() error {
	c.mu.Lock()
	c.client.Close()
	c.mu.Unlock()
	err := c.Flush()
	// Closing while answers of the server lie unread would reset the connection and take from the
	// server what it has not read yet: let it finish and close first.
	if half, ok := c.conn.(interface{ CloseWrite() error }); ok && half.CloseWrite() == nil {
		select {
		case <-c.failed:
		case <-time.After(closeTimeout):
		}
	}
	return errors.Join(err, c.conn.Close())
}

// Cut breaks the connection without a word, as a lost line does.
func (c *Conn) Cut() { _ = c.conn.Close() }
