package control

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"metaplasis/internal/events"
)

// Live updates are server-sent events (HTML standard, 9.2): "status" with the state of all
// channels once a second while anything changes, "health" with what is wrong with the service itself,
// and "event" with each new event, and again with its count when it happens again.

const (
	liveEvery = time.Second
	liveQueue = 64 // events that wait for a slow page; past it they are dropped and it reloads
	//limit:console pages that follow the live updates | all | 503
	maxListeners = 200
)

// board hands what happens to the pages that listen. Each message is made once, for all of them.
type board struct {
	mu        sync.Mutex
	listeners map[chan []byte]struct{}
	now       func() []byte // the messages that tell how everything is
	last      []byte        // the newest of them, for a page that comes
	running   bool
	closed    chan struct{}
	end       sync.Once
}

func newBoard(now func() []byte) *board {
	return &board{listeners: map[chan []byte]struct{}{}, now: now, closed: make(chan struct{})}
}

// message writes one server-sent event.
func message(kind string, body any) []byte {
	b, err := json.Marshal(body)
	if err != nil {
		return nil // our own plain structures
	}
	return fmt.Appendf(nil, "event: %s\ndata: %s\n\n", kind, b)
}

func (h *board) event(e events.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) > 0 {
		h.tell(message("event", e))
	}
}

// tell hands a message to all pages; a slow one does without. It needs the lock.
func (h *board) tell(b []byte) {
	for c := range h.listeners {
		select {
		case c <- b:
		default:
		}
	}
}

// listen returns what a page is told from now on, nil when too many listen already.
func (h *board) listen() chan []byte {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) >= maxListeners {
		return nil
	}
	c := make(chan []byte, liveQueue)
	h.listeners[c] = struct{}{}
	if h.running {
		if h.last != nil {
			c <- h.last
		}
		return c
	}
	h.running = true
	go h.run()
	return c
}

// run looks once a second, as long as anybody listens.
func (h *board) run() {
	tick := time.NewTicker(liveEvery)
	defer tick.Stop()
	for {
		b := h.now()
		h.mu.Lock()
		h.last = b
		h.tell(b)
		if h.running = len(h.listeners) > 0; !h.running {
			h.last = nil
			h.mu.Unlock()
			return
		}
		h.mu.Unlock()
		select {
		case <-h.closed:
			return
		case <-tick.C:
		}
	}
}

func (h *board) leave(c chan []byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, c)
}

// CloseLive ends all live connections, so that the HTTP server can stop.
func (s *Service) CloseLive() { s.board.end.Do(func() { close(s.board.closed) }) }

// snapshot is how everything is now, as messages for all pages.
func (s *Service) snapshot() []byte {
	return append(message("status", s.Watch.Statuses()), message("health", s.Watch.Health())...)
}

// signedInEach is how often it is looked whether who follows the live updates is signed in yet.
const signedInEach = time.Second

func (s *Service) live(w http.ResponseWriter, r *http.Request) {
	c := s.board.listen()
	if c == nil {
		refuse(w, http.StatusServiceUnavailable, fmt.Sprintf("%d pages listen already", maxListeners), "Close some of them.")
		return
	}
	defer s.board.leave(c)
	rc := http.NewResponseController(w)
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	checked := time.Now()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-s.board.closed:
			return
		case b := <-c:
			if now := time.Now(); now.Sub(checked) > signedInEach {
				if checked = now; !s.stillSignedIn(r) {
					return
				}
			}
			_ = rc.SetWriteDeadline(time.Now().Add(10 * time.Second))
			if _, err := w.Write(b); err != nil || rc.Flush() != nil {
				return
			}
		}
	}
}
