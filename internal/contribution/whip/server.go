// Package whip receives feeds over WebRTC, signalled by WHIP (RFC 9725). WebRTC itself is pion's.
package whip

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/pion/ice/v4"
	"github.com/pion/interceptor"
	"github.com/pion/interceptor/pkg/nack"
	"github.com/pion/logging"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/contribution"
	"metaplasis/internal/network"
)

// Config of a Server.
type Config struct {
	Address   string   // host:port for ICE over UDP and TCP; "" is off
	Announced []string // addresses to announce instead of this machine's
	Codecs    []string // of pictures, in the order in which they are preferred; none is all, as the sender prefers
}

// Server answers WHIP.
type Server struct {
	Receiver contribution.Receiver
	Logger   *slog.Logger
	Port     int // in use, UDP and TCP

	conf     Config
	api      *webrtc.API
	closers  []io.Closer
	mu       sync.Mutex
	sessions map[string]*session
	pending  map[string]int // sessions that are not connected, by network
	waiting  int
	closed   bool
}

// Bounds. Who has not connected holds about 100 kB.
const (
	maxSessions       = 256
	maxPending        = 64
	maxPendingNetwork = 16
	maxOffer          = 64 << 10
	connectWithin     = 15 * time.Second
	// retransmitWait is for how long a missing packet is waited for: it is asked for again within it, some times.
	retransmitWait = 300 * time.Millisecond
	nackEach       = 20 * time.Millisecond
)

// New opens the port.
func New(c Config, r contribution.Receiver, logger *slog.Logger) (*Server, error) {
	s := &Server{Receiver: r, Logger: logger, conf: c, sessions: map[string]*session{}, pending: map[string]int{}}
	var e webrtc.SettingEngine
	inner := logging.NewDefaultLoggerFactory()
	inner.Writer = slog.NewLogLogger(logger.Handler(), slog.LevelDebug).Writer()
	e.LoggerFactory = inner
	e.SetICETimeouts(4*time.Second, 12*time.Second, time.Second)
	e.SetIncludeLoopbackCandidate(true)
	e.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeUDP4, webrtc.NetworkTypeUDP6, webrtc.NetworkTypeTCP4, webrtc.NetworkTypeTCP6})
	if err := s.listen(&e); err != nil {
		s.Close()
		return nil, err
	}
	if len(c.Announced) > 0 {
		if err := e.SetICEAddressRewriteRules(webrtc.ICEAddressRewriteRule{External: c.Announced, AsCandidateType: webrtc.ICECandidateTypeHost}); err != nil {
			s.Close()
			return nil, fmt.Errorf("announced addresses of WebRTC: %w", err)
		}
	}
	m := &webrtc.MediaEngine{}
	if err := m.RegisterDefaultCodecs(); err != nil {
		s.Close()
		return nil, err
	}
	i := &interceptor.Registry{}
	if err := intercept(m, i); err != nil {
		s.Close()
		return nil, err
	}
	s.api = webrtc.NewAPI(webrtc.WithMediaEngine(m), webrtc.WithInterceptorRegistry(i), webrtc.WithSettingEngine(e))
	return s, nil
}

// intercept sets up what answers senders over RTCP: requests for what is missing, reports, congestion feedback.
func intercept(m *webrtc.MediaEngine, i *interceptor.Registry) error {
	generator, err := nack.NewGeneratorInterceptor(nack.GeneratorInterval(nackEach))
	if err != nil {
		return err
	}
	m.RegisterFeedback(webrtc.RTCPFeedback{Type: "nack"}, webrtc.RTPCodecTypeVideo)
	m.RegisterFeedback(webrtc.RTCPFeedback{Type: "nack", Parameter: "pli"}, webrtc.RTPCodecTypeVideo)
	i.Add(generator)
	return errors.Join(webrtc.ConfigureRTCPReports(i), webrtc.ConfigureTWCCSender(m, i), webrtc.ConfigureSimulcastExtensionHeaders(m))
}

// listen opens UDP and TCP on one port.
func (s *Server) listen(e *webrtc.SettingEngine) error {
	l, err := net.Listen("tcp", s.conf.Address)
	if err != nil {
		return fmt.Errorf("WebRTC port %s over TCP: %w", s.conf.Address, err)
	}
	s.closers = append(s.closers, l)
	s.Port = l.Addr().(*net.TCPAddr).Port
	host, _, _ := net.SplitHostPort(s.conf.Address)
	tcp := webrtc.NewICETCPMux(e.LoggerFactory.NewLogger("ice"), l, 64)
	e.SetICETCPMux(tcp)
	s.closers = append(s.closers, tcp)
	if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
		mux, err := ice.NewMultiUDPMuxFromPort(s.Port, ice.UDPMuxFromPortWithLoopback(), ice.UDPMuxFromPortWithLogger(e.LoggerFactory.NewLogger("ice")))
		if err != nil {
			return fmt.Errorf("WebRTC port %d over UDP: %w", s.Port, err)
		}
		e.SetICEUDPMux(mux)
		s.closers = append(s.closers, mux)
		return nil
	}
	c, err := net.ListenPacket("udp", net.JoinHostPort(host, fmt.Sprint(s.Port)))
	if err != nil {
		return fmt.Errorf("WebRTC port %d over UDP: %w", s.Port, err)
	}
	mux := webrtc.NewICEUDPMux(e.LoggerFactory.NewLogger("ice"), c)
	e.SetICEUDPMux(mux)
	s.closers = append(s.closers, mux, c)
	return nil
}

// Close ends all sessions and the port.
func (s *Server) Close() {
	s.mu.Lock()
	s.closed = true
	var list []*session
	for _, x := range s.sessions {
		list = append(list, x)
	}
	s.mu.Unlock()
	for _, x := range list {
		x.end("the service stopped")
	}
	for _, c := range slices.Backward(s.closers) {
		_ = c.Close()
	}
}

// Routes answers below /whip.
func (s *Server) Routes() http.Handler {
	r := chi.NewRouter()
	r.Use(cross)
	r.Options("/{channel}", options)
	r.Options("/{channel}/{session}", options)
	r.Post("/{channel}", s.offer)
	r.Patch("/{channel}/{session}", s.patch)
	r.Delete("/{channel}/{session}", s.remove)
	r.MethodNotAllowed(func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "WHIP takes an offer with POST, candidates with PATCH, and DELETE.", http.StatusMethodNotAllowed)
	})
	return r
}

// cross lets pages of any origin contribute, with a key.
func cross(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		w.Header().Set("Access-Control-Expose-Headers", "Location, ETag, Link, Accept-Patch")
		next.ServeHTTP(w, r)
	})
}

func options(w http.ResponseWriter, _ *http.Request) {
	h := w.Header()
	h.Set("Access-Control-Allow-Methods", "POST, PATCH, DELETE, OPTIONS")
	h.Set("Access-Control-Allow-Headers", "Authorization, Content-Type, If-Match")
	h.Set("Access-Control-Max-Age", "86400")
	h.Set("Accept-Post", offerType)
	w.WriteHeader(http.StatusNoContent)
}

const (
	offerType    = "application/sdp"
	fragmentType = "application/trickle-ice-sdpfrag"
)

// Bearer is the key that a request carries.
func Bearer(r *http.Request) string {
	scheme, key, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if strings.EqualFold(scheme, "bearer") {
		return strings.TrimSpace(key)
	}
	return r.URL.Query().Get("key")
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
func (s *Server) offer(w http.ResponseWriter, r *http.Request) {
	channel, key := chi.URLParam(r, "channel"), Bearer(r)
	if key == "" {
		w.Header().Set("WWW-Authenticate", "Bearer")
		http.Error(w, "A contribution key is needed as bearer token.", http.StatusUnauthorized)
		return
	}
	text, ok := body(w, r, offerType)
	if !ok {
		return
	}
	sender := contribution.Sender{Channel: channel, Key: key, Protocol: "WebRTC", Remote: r.RemoteAddr, Silence: mediaSilence}
	if err := s.Receiver.May(sender); err != nil {
		status := http.StatusForbidden
		if s.Receiver.IsTaken(err) {
			status = http.StatusConflict
		}
		http.Error(w, err.Error(), status)
		return
	}
	var id [16]byte
	_, _ = rand.Read(id[:])
	x := &session{s: s, id: hex.EncodeToString(id[:]), sender: sender, network: network.Of(r.RemoteAddr), over: make(chan struct{})}
	if !s.add(x) {
		w.Header().Set("Retry-After", "5")
		http.Error(w, "Too many senders are connecting. Try again in a moment.", http.StatusServiceUnavailable)
		return
	}
	answer, err := x.start(text)
	if err != nil {
		x.end(err.Error())
		s.Receiver.Report(channel, network.Of(r.RemoteAddr), "feed-refused", fmt.Sprintf("WebRTC from %s: the offer is not taken: %v.", r.RemoteAddr, err),
			"Check that the sender offers H.264, VP8, VP9 or AV1, and Opus.")
		http.Error(w, "The offer is not taken: "+err.Error(), http.StatusBadRequest)
		return
	}
	h := w.Header()
	h.Set("Content-Type", offerType)
	h.Set("Location", "/whip/"+channel+"/"+x.id)
	h.Set("ETag", x.tag())
	h.Set("Accept-Patch", fragmentType)
	w.WriteHeader(http.StatusCreated)
	_, _ = io.WriteString(w, answer)
}

// add books a session that is not connected yet.
func (s *Server) add(x *session) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || len(s.sessions) >= maxSessions || s.waiting >= maxPending || s.pending[x.network] >= maxPendingNetwork {
		return false
	}
	s.sessions[x.id] = x
	s.waiting++
	s.pending[x.network]++
	x.pending = true
	return true
}

// settle notes that a session is connected, or gone.
func (s *Server) settle(x *session, gone bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x.pending {
		x.pending = false
		s.waiting--
		if s.pending[x.network]--; s.pending[x.network] == 0 {
			delete(s.pending, x.network)
		}
	}
	if gone {
		delete(s.sessions, x.id)
	}
}

// find looks a session up. Who knows its id made it.
func (s *Server) find(w http.ResponseWriter, r *http.Request) *session {
	s.mu.Lock()
	x := s.sessions[chi.URLParam(r, "session")]
	s.mu.Unlock()
	if x == nil || x.sender.Channel != chi.URLParam(r, "channel") {
		http.Error(w, "There is no such session, or it is over. Offer anew.", http.StatusNotFound)
		return nil
	}
	return x
}

// patch takes candidates, or another ufrag, which restarts ICE (RFC 9725, 4.3).
func (s *Server) patch(w http.ResponseWriter, r *http.Request) {
	x := s.find(w, r)
	if x == nil {
		return
	}
	text, ok := body(w, r, fragmentType)
	if !ok {
		return
	}
	if tag := r.Header.Get("If-Match"); tag != "" && tag != "*" && tag != x.tag() {
		http.Error(w, "ICE was restarted meanwhile. The candidates are those of another session.", http.StatusPreconditionFailed)
		return
	}
	answer, err := x.trickle(text)
	switch {
	case err != nil:
		http.Error(w, "The fragment is not taken: "+err.Error(), http.StatusBadRequest)
	case answer != "":
		w.Header().Set("Content-Type", fragmentType)
		w.Header().Set("ETag", x.tag())
		_, _ = io.WriteString(w, answer)
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Server) remove(w http.ResponseWriter, r *http.Request) {
	if x := s.find(w, r); x != nil {
		x.end("it ended its stream")
	}
}
