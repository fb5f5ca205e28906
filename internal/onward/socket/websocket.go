package socket

import (
	"context"
	"net/http"

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
	c, err := websocket.Accept(w, r, &websocket.AcceptOptions{InsecureSkipVerify: true, Subprotocols: []string{subprotocol}})
	if err != nil {
		return // it has answered
	}
	c.SetReadLimit(maxRequest)
	q := r.URL.Query()
	s.Play(r.Context(), webSocketLine{c}, channel, q.Get("rung"), q.Get("sound"))
}

// webSocketLine is a Line.
type webSocketLine struct{ c *websocket.Conn }

func (l webSocketLine) Text(ctx context.Context, b []byte) error {
	return l.c.Write(ctx, websocket.MessageText, b)
}

func (l webSocketLine) Binary(ctx context.Context, pieces [][]byte) error {
	if len(pieces) == 1 {
		return l.c.Write(ctx, websocket.MessageBinary, pieces[0])
	}
	w, err := l.c.Writer(ctx, websocket.MessageBinary)
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

func (l webSocketLine) Read(ctx context.Context) ([]byte, error) {
	for {
		kind, b, err := l.c.Read(ctx)
		if err != nil || kind == websocket.MessageText {
			return b, err
		}
	}
}

func (l webSocketLine) Close(reason string) {
	if len(reason) > 120 { // RFC 6455, 5.5: a control frame holds 125 bytes
		reason = reason[:120]
	}
	_ = l.c.Close(websocket.StatusNormalClosure, reason)
}
