package rtc

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/network"
)

// Session is what a peer does once its offer is taken.
type Session interface {
	// Negotiate sets the streams up, once the offer is read.
	Negotiate(p *Peer) error
	// Refused is told why the offer is not taken. Ended follows.
	Refused(err error)
	// Connected is told once.
	Connected()
	// Ended is told once, whether it was connected or not.
	Ended(reason string)
}

// A Session that is an http.Handler too answers what is asked below its address.

// Refusal is why a peer is not admitted, for HTTP.
type Refusal struct {
	Status int
	Text   string
}

func (r *Refusal) Error() string { return r.Text }

// Signal answers offers over HTTP. Who has not connected is bounded for all together, and for a network.
type Signal struct {
	Path  string // that it answers below, "/whip/"
	Peers string // what they are, for people: "senders"
	// Connect makes the connection of a session.
	Connect func(x Session) (*webrtc.PeerConnection, error)
	// Admit is asked before an offer is read. It may write headers. An error that is a *Refusal says its status.
	Admit func(w http.ResponseWriter, r *http.Request, channel string) (Session, error)
	Most  int // sessions, connected or not
	// Grace is for how long who has offered may connect before it makes room for others.
	Grace time.Duration
	ICE   []string // Link headers of ICE servers (RFC 9725, 4.6)
	// Directions are those of the media that peers may offer: sendonly and sendrecv of senders, recvonly of viewers.
	Directions []string

	once     sync.Once
	busy     chan struct{}
	mu       sync.Mutex
	peers    map[string]*Peer
	pending  map[string]int // peers that are not connected, by network
	networks map[string]int // all peers, by network: of one no more than a quarter of Most
	waiting  int
	turns    map[string]*turns // by network
	closed   bool
}

// Grace is that of senders and viewers.
const Grace = 3 * time.Second

// Bounds. Who has not connected holds about 100 kB.
const (
	//limit:connections over WebRTC that are not made yet | all | 503
	maxPending = 64
	//limit:connections that are not made yet | each network | 503
	maxPendingNetwork = 16
	//limit:bytes of an offer | each request | 413
	maxOffer = 64 << 10
	//limit:offers that are answered at a time | all | others wait
	maxAtOnce  = 4 // offers that are answered at one time; others wait
	waitAtMost = 3 * time.Second
	//limit:offers that are answered or wait for it | each network | 503
	maxWaitingNetwork = 16
)

// Close ends all sessions.
func (s *Signal) Close() {
	s.mu.Lock()
	s.closed = true
	var list []*Peer
	for _, p := range s.peers {
		list = append(list, p)
	}
	s.mu.Unlock()
	for _, p := range list {
		p.End("the service stopped")
	}
}

// Routes answers below the path.
func (s *Signal) Routes() http.Handler {
	r := chi.NewRouter()
	r.Use(cross)
	r.Options("/{channel}", s.options)
	r.Options("/{channel}/{session}", s.options)
	r.Post("/{channel}", s.offer)
	r.Patch("/{channel}/{session}", s.patch)
	r.Delete("/{channel}/{session}", s.remove)
	r.HandleFunc("/{channel}/{session}/*", func(w http.ResponseWriter, r *http.Request) {
		if p := s.find(w, r); p != nil {
			if x, ok := p.x.(http.Handler); ok {
				x.ServeHTTP(w, r)
				return
			}
			http.NotFound(w, r)
		}
	})
	r.Options("/{channel}/{session}/*", s.options)
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Allow", "POST, OPTIONS")
		if below := strings.TrimPrefix(r.URL.Path, strings.TrimSuffix(s.Path, "/")); strings.Count(strings.Trim(below, "/"), "/") > 0 { // a session's
			w.Header().Set("Allow", "PATCH, DELETE, OPTIONS")
		}
		http.Error(w, "Here an offer is taken with POST, candidates with PATCH, and DELETE ends.", http.StatusMethodNotAllowed)
	})
	return r
}

// cross lets pages of any origin in, with their credentials in a header.
func cross(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		w.Header().Set("Access-Control-Expose-Headers", "Location, ETag, Link, Accept-Patch")
		next.ServeHTTP(w, r)
	})
}

func (s *Signal) options(w http.ResponseWriter, _ *http.Request) {
	h := w.Header()
	for _, link := range s.ICE { // for who gathers candidates before it offers; credentials are for who is let in
		if !strings.Contains(link, "credential=") {
			h.Add("Link", link)
		}
	}
	h.Set("Access-Control-Allow-Methods", "GET, POST, PATCH, DELETE, OPTIONS")
	h.Set("Access-Control-Allow-Headers", "Authorization, Content-Type, If-Match")
	h.Set("Access-Control-Max-Age", "86400")
	h.Set("Accept-Post", offerType)
	w.WriteHeader(http.StatusNoContent)
}

const (
	offerType    = "application/sdp"
	fragmentType = "application/trickle-ice-sdpfrag"
)

// Bearer is the credential that a request carries.
func Bearer(r *http.Request) string {
	if key, ok := bearer(r); ok {
		return key
	}
	return r.URL.Query().Get("key")
}

// bearer is the credential in a request's header (RFC 6750, 2.1).
func bearer(r *http.Request) (key string, ok bool) {
	scheme, key, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	return strings.TrimSpace(key), strings.EqualFold(scheme, "bearer")
}

// body reads what a request brings, of one type.
func body(w http.ResponseWriter, r *http.Request, want string) (string, bool) {
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != want {
		http.Error(w, fmt.Sprintf("Found the content type %.60q, expected %s.", r.Header.Get("Content-Type"), want), http.StatusUnsupportedMediaType)
		return "", false
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxOffer))
	if err != nil {
		http.Error(w, fmt.Sprintf("The body could not be read, or has more than %d kB.", maxOffer>>10), http.StatusRequestEntityTooLarge)
		return "", false
	}
	return string(b), true
}

// offer takes an offer (RFC 9725, 4.2).
func (s *Signal) offer(w http.ResponseWriter, r *http.Request) {
	channel := chi.URLParam(r, "channel")
	x, err := s.Admit(w, r, channel)
	if err != nil {
		status := http.StatusForbidden
		if refusal := (*Refusal)(nil); errors.As(err, &refusal) {
			status = refusal.Status
		}
		http.Error(w, err.Error(), status)
		return
	}
	text, ok := body(w, r, offerType)
	if !ok {
		return
	}
	s.once.Do(func() { s.busy = make(chan struct{}, maxAtOnce) })
	leave, ok := s.turn(network.Of(r.RemoteAddr))
	if !ok {
		w.Header().Set("Retry-After", "2")
		http.Error(w, "Too many offers come from this network. Try again in a moment.", http.StatusServiceUnavailable)
		return
	}
	defer leave()
	select { // answering an offer takes milliseconds of a processor
	case s.busy <- struct{}{}:
		defer func() { <-s.busy }()
	case <-time.After(waitAtMost):
		w.Header().Set("Retry-After", "2")
		http.Error(w, "Too many "+s.Peers+" are connecting. Try again in a moment.", http.StatusServiceUnavailable)
		return
	}
	var id [16]byte
	_, _ = rand.Read(id[:])
	p := &Peer{ID: hex.EncodeToString(id[:]), Remote: r.RemoteAddr, s: s, x: x, channel: channel, network: network.Of(r.RemoteAddr), over: make(chan struct{})}
	if !s.add(p) {
		w.Header().Set("Retry-After", "1")
		http.Error(w, "Too many "+s.Peers+" are connecting. Try again in a moment.", http.StatusServiceUnavailable)
		return
	}
	p.token, _ = bearer(r)
	err = check(text, s.Directions)
	answer := ""
	if err == nil {
		answer, err = p.start(text)
	}
	if err != nil {
		p.End(err.Error())
		x.Refused(err)
		http.Error(w, "The offer is not taken: "+err.Error(), http.StatusBadRequest)
		return
	}
	h := w.Header()
	h.Set("Content-Type", offerType)
	h.Set("Location", s.Path+channel+"/"+p.ID)
	h.Set("ETag", p.tag())
	h.Set("Accept-Patch", fragmentType)
	for _, link := range s.ICE {
		h.Add("Link", link)
	}
	w.WriteHeader(http.StatusCreated)
	_, _ = io.WriteString(w, answer)
}

// turns are the offers of a network that are answered, and that wait for it.
type turns struct {
	room  chan struct{}
	users int
}

// turn waits for the turn of a network: what one network offers takes no more than half of what can be answered, so that others are not
// kept out by it.
func (s *Signal) turn(of string) (leave func(), ok bool) {
	s.mu.Lock()
	if s.turns == nil {
		s.turns = map[string]*turns{}
	}
	t := s.turns[of]
	if t == nil {
		t = &turns{room: make(chan struct{}, maxAtOnce/2)}
		s.turns[of] = t
	}
	if t.users >= maxWaitingNetwork {
		s.mu.Unlock()
		return nil, false
	}
	t.users++
	s.mu.Unlock()
	gone := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if t.users--; t.users == 0 {
			delete(s.turns, of)
		}
	}
	select {
	case t.room <- struct{}{}:
		return func() { <-t.room; gone() }, true
	case <-time.After(waitAtMost):
		gone()
		return nil, false
	}
}

// add books a peer that is not connected yet. Where there are too many of those, the oldest of its network makes room, or of
// the network that has the most, if it had time enough: who means it connects within a second. Else who comes waits its turn,
// so that of a crowd that comes at once all get in.
func (s *Signal) add(p *Peer) bool {
	s.mu.Lock()
	if s.closed || len(s.peers) >= s.Most || s.networks[p.network] >= max(s.Most/4, maxPendingNetwork) {
		s.mu.Unlock()
		return false
	}
	var away *Peer
	if most := s.crowded(p.network); most != "" {
		for _, o := range s.peers {
			if o.pending && o.network == most && (away == nil || o.began.Before(away.began)) {
				away = o
			}
		}
		if away == nil || time.Since(away.began) < s.Grace {
			s.mu.Unlock()
			return false
		}
	}
	if s.peers == nil {
		s.peers, s.pending = map[string]*Peer{}, map[string]int{}
	}
	s.peers[p.ID] = p
	if s.networks == nil {
		s.networks = map[string]int{}
	}
	s.networks[p.network]++
	s.waiting++
	s.pending[p.network]++
	p.pending, p.began = true, time.Now()
	s.mu.Unlock()
	if away != nil {
		away.End("others wait to connect")
	}
	return true
}

// crowded returns the network of which one has to make room for a peer of a network, "" when there is room.
func (s *Signal) crowded(network string) string {
	if s.pending[network] >= maxPendingNetwork {
		return network
	}
	if s.waiting < maxPending {
		return ""
	}
	most := network
	for other, n := range s.pending {
		if n > s.pending[most] {
			most = other
		}
	}
	return most
}

// settle notes that a peer is connected, or gone.
func (s *Signal) settle(p *Peer, gone bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.pending {
		p.pending = false
		s.waiting--
		if s.pending[p.network]--; s.pending[p.network] == 0 {
			delete(s.pending, p.network)
		}
	}
	if gone {
		if _, there := s.peers[p.ID]; there {
			if s.networks[p.network]--; s.networks[p.network] == 0 {
				delete(s.networks, p.network)
			}
		}
		delete(s.peers, p.ID)
	}
}

// find looks a peer up. Who offered with a credential shows it again.
func (s *Signal) find(w http.ResponseWriter, r *http.Request) *Peer {
	s.mu.Lock()
	p := s.peers[chi.URLParam(r, "session")]
	s.mu.Unlock()
	if p == nil || p.channel != chi.URLParam(r, "channel") {
		http.Error(w, "There is no such session, or it is over. Offer again.", http.StatusNotFound)
		return nil
	}
	if p.token != "" && r.Method != http.MethodOptions {
		if key, _ := bearer(r); subtle.ConstantTimeCompare([]byte(key), []byte(p.token)) != 1 {
			w.Header().Set("WWW-Authenticate", "Bearer")
			http.Error(w, "The bearer token of the offer is needed for its session too.", http.StatusUnauthorized)
			return nil
		}
	}
	return p
}

// patch takes candidates, or another ufrag, which restarts ICE (RFC 9725, 4.3).
func (s *Signal) patch(w http.ResponseWriter, r *http.Request) {
	p := s.find(w, r)
	if p == nil {
		return
	}
	text, ok := body(w, r, fragmentType)
	if !ok {
		return
	}
	if tag := r.Header.Get("If-Match"); tag != "" && tag != "*" && tag != p.tag() {
		http.Error(w, "ICE was restarted meanwhile. The candidates are those of another session.", http.StatusPreconditionFailed)
		return
	}
	answer, err := p.trickle(text)
	switch {
	case err != nil:
		http.Error(w, "The fragment is not taken: "+err.Error(), http.StatusBadRequest)
	case answer != "":
		w.Header().Set("Content-Type", fragmentType)
		w.Header().Set("ETag", p.tag())
		_, _ = io.WriteString(w, answer)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Signal) remove(w http.ResponseWriter, r *http.Request) {
	if p := s.find(w, r); p != nil {
		p.End("it ended its stream")
	}
}
