package socket

import (
	"bufio"
	"context"
	"net"
	"net/http"
	"time"

	"github.com/coder/websocket"
	"github.com/go-chi/chi/v5"
)

// maxRequest is how many bytes a viewer may say at once.
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
		http.Error(w, err.Error(), http.StatusForbidden)
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

// widened gives a connection that is taken over a buffer in which a message of a picture fits as a rule: it leaves in one call
// of the system.
type widened struct {
	http.ResponseWriter
	conn net.Conn
}

const socketBuffer = 16 << 10

// Hijack implements http.Hijacker.
func (w *widened) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, b, err := http.NewResponseController(w.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	w.conn = conn
	return conn, bufio.NewReadWriter(b.Reader, bufio.NewWriterSize(conn, socketBuffer)), nil
}

// webSocketLine is a Line. The end of a write is set on the connection, now and then: a context for each message costs more
// than the message.
type webSocketLine struct {
	c    *websocket.Conn
	conn net.Conn
	set  time.Time // when the end of writes was set
}

func (l *webSocketLine) limit() {
	if now := time.Now(); l.conn != nil && now.Sub(l.set) > sendWithin/4 {
		l.set = now
		_ = l.conn.SetWriteDeadline(now.Add(sendWithin))
	}
}

func (l *webSocketLine) Text(_ context.Context, b []byte) error {
	l.limit()
	return l.c.Write(context.Background(), websocket.MessageText, b)
}

func (l *webSocketLine) Binary(_ context.Context, pieces [][]byte) error {
	l.limit()
	if len(pieces) == 1 {
		return l.c.Write(context.Background(), websocket.MessageBinary, pieces[0])
	}
	w, err := l.c.Writer(context.Background(), websocket.MessageBinary)
	if err != nil {
		return err
	}
	for _, p := range pieces {
		if _, err := w.Write(p); err != nil {
			return err
		}
	}
	return w.Close()
}

func (l *webSocketLine) Read(ctx context.Context) ([]byte, error) {
	for {
		kind, b, err := l.c.Read(ctx)
		if err != nil || kind == websocket.MessageText {
			return b, err
		}
	}
}

func (l *webSocketLine) Close(reason string) {
	if len(reason) > 120 { // RFC 6455, 5.5: a control frame holds 125 bytes
		reason = reason[:120]
	}
	_ = l.c.Close(websocket.StatusNormalClosure, reason)
}
