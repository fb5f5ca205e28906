package socket

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/go-chi/chi/v5"

	"metaplasis/internal/network"
	"metaplasis/internal/onward"
)

// maxRequest is how many bytes a viewer may say at once.
//
//limit:bytes of what a viewer says | each message | the connection is closed
const maxRequest = 4 << 10

// subprotocol names the framing, and its version.
const subprotocol = "metaplasis.live.1"

// Routes answers /{channel} over WebSocket: ?rung=720p&sound=audio-64k.
func (s *Server) Routes() http.Handler {
	r := chi.NewRouter()
	r.Get("/{channel}", s.webSocket)
	r.Get("/", func(w http.ResponseWriter, r *http.Request) {
		if s.Transport == nil {
			http.Error(w, "WebTransport is turned off on this service.", http.StatusNotFound)
			return
		}
		s.Transport.ServeHTTP(w, r)
	})
	return r
}

// Admit lets a viewer in, or answers why not.
func (s *Server) Admit(w http.ResponseWriter, r *http.Request, channel, way string) (leave func(), ok bool) {
	leave, err := s.Join(r, channel, way)
	if err != nil {
		status := http.StatusForbidden
		if errors.Is(err, onward.ErrNoChannel) {
			status = http.StatusNotFound
		}
		http.Error(w, err.Error(), status)
		return nil, false
	}
	known, video, sound := s.Channels.Runs(channel)
	switch {
	case !known:
		leave()
		http.Error(w, "There is no such channel.", http.StatusNotFound)
		return nil, false
	case !video && !sound:
		leave()
		w.Header().Set("Retry-After", "2")
		http.Error(w, "The channel is not on air.", http.StatusConflict)
		return nil, false
	}
	for _, name := range []string{"rung", "sound"} {
		if v := r.URL.Query().Get(name); !s.Channels.Has(channel, v) {
			leave()
			http.Error(w, fmt.Sprintf("The channel has no %s %.40q on.", name, v), http.StatusNotFound)
			return nil, false
		}
	}
	return leave, true
}

func (s *Server) webSocket(w http.ResponseWriter, r *http.Request) {
	channel := chi.URLParam(r, "channel")
	leave, ok := s.Admit(w, r, channel, "websocket")
	if !ok {
		return
	}
	defer leave()
	// Pages of any origin may watch: nothing of the browser's own is used, such as cookies.
	wide := &widened{ResponseWriter: w}
	c, err := websocket.Accept(wide, r, &websocket.AcceptOptions{InsecureSkipVerify: true, Subprotocols: []string{subprotocol}})
	if err != nil {
		return // it has answered
	}
	c.SetReadLimit(maxRequest)
	q := r.URL.Query()
	s.Play(r.Context(), &webSocketLine{c: c, conn: wide.conn}, channel, q.Get("rung"), q.Get("sound"))
}

// widened lets a connection that is taken over be written to past the library too: media goes out in frames that are made
// already.
type widened struct {
	http.ResponseWriter
	conn *sharedConn
}

// socketBuffer is more than any text of ours or control frame takes: each leaves in one write.
const socketBuffer = 16 << 10

// What the system holds of a viewer's media: what waits there is late without anybody seeing it, and a slow line is noticed when a write
// waits. sendBytes leaves room for what is on its way over a long line.
const (
	//limit:bytes that wait in the system and were not sent | each viewer over WebSocket | the viewer is behind, and moved to less
	unsentBytes = 64 << 10
	sendBytes   = 512 << 10
)

// Hijack implements http.Hijacker.
func (w *widened) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, b, err := http.NewResponseController(w.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	w.conn = &sharedConn{Conn: conn}
	network.BoundUnsent(conn, unsentBytes, sendBytes)
	return w.conn, bufio.NewReadWriter(b.Reader, bufio.NewWriterSize(w.conn, socketBuffer)), nil
}

// sharedConn is written to by the library, which answers pings and closes, and by who sends media: a whole frame each time.
type sharedConn struct {
	net.Conn
	mu sync.Mutex
}

// Write implements net.Conn.
func (c *sharedConn) Write(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.Conn.Write(b)
}

// writeAll writes frames: in one call of the system where the connection is TCP's own.
func (c *sharedConn) writeAll(frames net.Buffers) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	raw := c.Conn
	if counted, ok := raw.(*network.Conn); ok {
		raw = counted.Conn
	}
	_, err := frames.WriteTo(raw)
	return err
}

// webSocketLine is a Line. The end of a write is set on the connection, now and then: a context for each message costs more
// than the message.
type webSocketLine struct {
	c      *websocket.Conn
	conn   *sharedConn
	set    time.Time // when the end of writes was set
	broken bool
	frames [][]byte // on their way out
}

func (l *webSocketLine) limit() {
	if now := time.Now(); now.Sub(l.set) > sendWithin/4 {
		l.set = now
		_ = l.conn.SetWriteDeadline(now.Add(sendWithin))
	}
}

func (l *webSocketLine) Text(_ context.Context, b []byte) error {
	l.limit()
	return l.c.Write(context.Background(), websocket.MessageText, b)
}

func (l *webSocketLine) Binary(_ context.Context, list []message) error {
	l.limit()
	l.frames = l.frames[:0]
	for _, m := range list {
		l.frames = append(l.frames, m.frame())
	}
	err := l.conn.writeAll(l.frames)
	clear(l.frames)
	l.broken = l.broken || err != nil // perhaps within a frame
	return err
}

func (l *webSocketLine) Read(ctx context.Context) ([]byte, error) {
	for {
		kind, b, err := l.c.Read(ctx)
		var lost net.Error
		if err != nil && websocket.CloseStatus(err) < 0 && ctx.Err() == nil && !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) && !errors.As(err, &lost) {
			return nil, &ProtocolError{err}
		}
		if err != nil || kind == websocket.MessageText {
			return b, err
		}
	}
}

func (l *webSocketLine) Fail(err error) {
	_ = l.c.Close(websocket.StatusProtocolError, shortened(err.Error()))
}

// shortened is a reason as a control frame holds it: 125 bytes with its status (RFC 6455, 5.5).
func shortened(reason string) string { return reason[:min(len(reason), 120)] }

func (l *webSocketLine) Close(reason string) {
	if l.broken {
		_ = l.c.CloseNow()
		return
	}
	_ = l.c.Close(websocket.StatusNormalClosure, shortened(reason))
}
