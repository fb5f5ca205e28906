package control

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"metaplasis/internal/origin"
)

// Live updates are server-sent events (HTML standard, 9.2): "status" with the state of all
// channels once a second while anything changes, "health" with what is wrong with the service itself,
// and "event" with each new event, and again with its count when it happens again.

const (
	liveEvery    = time.Second
	liveQueue    = 64 // events that wait for a slow page; past it they are dropped and it reloads
	maxListeners = 200
)

// hub hands events to the pages that listen.
type hub struct {
	mu        sync.Mutex
	listeners map[chan origin.Event]struct{}
	closed    chan struct{}
	end       sync.Once
}

func newHub() *hub {
	return &hub{listeners: map[chan origin.Event]struct{}{}, closed: make(chan struct{})}
}

func (h *hub) event(e origin.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
		}
	}
}

func (h *hub) listen() chan origin.Event {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) >= maxListeners {
		return nil
	}
	c := make(chan origin.Event, liveQueue)
	h.listeners[c] = struct{}{}
	return c
}

func (h *hub) leave(c chan origin.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, c)
}

// CloseLive ends all live connections, so that the HTTP server can stop.
func (s *Service) CloseLive() { s.hub.end.Do(func() { close(s.hub.closed) }) }

// status is a channel at a glance, with its viewers.
func (s *Service) status(c *origin.Channel) origin.Status {
	st := c.Status()
	if s.Viewers != nil {
		st.Viewers = s.Viewers(st.Slug)
	}
	return st
}

func (s *Service) statuses() []origin.Status {
	out := []origin.Status{}
	for _, c := range s.o.Channels() {
		out = append(out, s.status(c))
	}
	return out
}

func (s *Service) live(w http.ResponseWriter, r *http.Request) {
	c := s.hub.listen()
	if c == nil {
		s.refuse(w, http.StatusServiceUnavailable, fmt.Sprintf("%d pages listen already", maxListeners),
			"Close some of them.")
		return
	}
	defer s.hub.leave(c)
	rc := http.NewResponseController(w)
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	send := func(kind string, body any) bool {
		b, err := json.Marshal(body)
		if err != nil {
			return false
		}
		_ = rc.SetWriteDeadline(time.Now().Add(10 * time.Second))
		if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", kind, b); err != nil {
			return false
		}
		return rc.Flush() == nil
	}
	tick := time.NewTicker(liveEvery)
	defer tick.Stop()
	if !send("status", s.statuses()) || !send("health", s.Health()) {
		return
	}
	for {
		ok := true
		select {
		case <-r.Context().Done():
			return
		case <-s.hub.closed:
			return
		case e := <-c:
			ok = send("event", e)
		case <-tick.C:
			ok = send("status", s.statuses()) && send("health", s.Health())
		}
		if !ok {
			return
		}
	}
}
