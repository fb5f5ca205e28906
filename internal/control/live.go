package control

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/events"
)

// Live updates are server-sent events (HTML standard, 9.2): "status" with the state of all
// channels once a second, "health" with what is wrong with the service itself, "event" with each new
// event, and again with its count when it happens again, and "also" with the answer of each call of this
// API that the page asked to follow by ?also=PATH, at first and whenever it is another one.

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

const (
	//limit:calls of the API that a page follows | each page | 400
	maxFollowed = 8
	//limit:bytes of an answer that a page follows | each answer | the page asks for it itself
	maxFollowedBytes = 1 << 20
)

// follow is a call of the API that a page follows.
type follow struct {
	path string
	at   *url.URL
	last [sha256.Size]byte // of the answer that the page has
}

// followed reads the calls that a page asks to follow.
func followed(paths []string) (out []follow, err error) {
	if len(paths) > maxFollowed {
		return nil, fmt.Errorf("found %d calls to follow, expected %d at most", len(paths), maxFollowed)
	}
	for _, path := range paths {
		at, err := url.ParseRequestURI(path)
		if err != nil || at.Host != "" || at.Path == "/live" {
			return nil, fmt.Errorf("found also=%.60q, expected the path of a call, such as /recordings", path)
		}
		out = append(out, follow{path: path, at: at})
	}
	return out, nil
}

// look makes the call for who listens, and returns a message with its answer, nil when the page has that already.
func (f *follow) look(calls http.Handler, r *http.Request) []byte {
	// The router starts over: it takes a request that has a route already for one of a part of itself.
	inner := r.Clone(context.WithValue(r.Context(), chi.RouteCtxKey, (*chi.Context)(nil)))
	inner.Method, inner.URL, inner.RequestURI, inner.Body = http.MethodGet, f.at, f.path, http.NoBody
	a := answerBuffer{header: http.Header{}, status: http.StatusOK}
	calls.ServeHTTP(&a, inner)
	sum := sha256.Sum256(a.body.Bytes())
	if sum == f.last || a.long || !json.Valid(a.body.Bytes()) {
		return nil
	}
	f.last = sum
	return message("also", followedAnswer{Path: f.path, Status: a.status, Body: a.body.Bytes()})
}

// followedAnswer is what a page is told of a call that it follows.
type followedAnswer struct {
	Path   string          `json:"path"`
	Status int             `json:"status"`
	Body   json.RawMessage `json:"body"`
}

// answerBuffer holds an answer.
type answerBuffer struct {
	header http.Header
	status int
	body   bytes.Buffer
	long   bool // longer than may be held
}

// Header implements http.ResponseWriter.
func (a *answerBuffer) Header() http.Header { return a.header }

// WriteHeader implements http.ResponseWriter.
func (a *answerBuffer) WriteHeader(status int) { a.status = status }

// Write implements http.ResponseWriter.
func (a *answerBuffer) Write(b []byte) (int, error) {
	if a.long = a.long || a.body.Len()+len(b) > maxFollowedBytes; a.long {
		return 0, errors.New("the answer is too long to be followed")
	}
	return a.body.Write(b)
}

// signedInEach is how often it is looked whether who follows the live updates is signed in yet.
const signedInEach = time.Second

func (s *Service) live(w http.ResponseWriter, r *http.Request, calls http.Handler) {
	also, err := followed(r.URL.Query()["also"])
	if err != nil {
		refuse(w, http.StatusBadRequest, err.Error(), "")
		return
	}
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
	checked, looked := time.Now(), time.Time{}
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
			if now := time.Now(); now.Sub(looked) > liveEvery*9/10 {
				looked, b = now, slices.Clip(b) // b is for all pages
				for i := range also {
					b = append(b, also[i].look(calls, r)...)
				}
			}
			_ = rc.SetWriteDeadline(time.Now().Add(10 * time.Second))
			if _, err := w.Write(b); err != nil || rc.Flush() != nil {
				return
			}
		}
	}
}
