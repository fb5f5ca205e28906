package webrtc

import (
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/pion/interceptor"
	"github.com/pion/interceptor/pkg/cc"
	"github.com/pion/interceptor/pkg/gcc"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/rtc"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/fan"
	"metaplasis/internal/onward/rtpmedia"
)

// WHEP answers WHEP.
type WHEP struct {
	Channels onward.Channels
	// Watch decides who may: it returns nil, or why not, for people.
	Watch  func(r *http.Request, channel string) error
	Logger *slog.Logger

	port    *rtc.Port
	signal  rtc.Signal
	mu      sync.Mutex
	pool    fan.Pool
	viewers map[*whepViewer]struct{}
	all     sync.WaitGroup
}

// maxViewers bounds the viewers. One that is connected takes about 150 kB.
//
//limit:viewers over WebRTC | all | 503
const maxViewers = 5000

// firstEstimate is what a viewer's line is taken to carry before it was measured, bits per second.
const firstEstimate = 4_000_000

// NewWHEP sends from a port.
func NewWHEP(p *rtc.Port, channels onward.Channels, watch func(*http.Request, string) error, logger *slog.Logger) *WHEP {
	s := &WHEP{Channels: channels, Watch: watch, Logger: logger, port: p, pool: fan.Pool{Channels: channels, Pack: pack}, viewers: map[*whepViewer]struct{}{}}
	s.signal = rtc.Signal{Path: "/whep/", Peers: "viewers", Connect: s.connect, Admit: s.admit, Most: maxViewers, Grace: rtc.Grace, ICE: p.Links, Directions: []string{"recvonly"}}
	return s
}

// Routes answers below /whep.
func (s *WHEP) Routes() http.Handler { return s.signal.Routes() }

// Close ends all sessions.
func (s *WHEP) Close() {
	s.signal.Close()
	s.all.Wait()
	s.pool.Wait()
}

// Viewers counts those that are connected, by channel.
func (s *WHEP) Viewers() map[string]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]int{}
	for v := range s.viewers {
		out[v.channel]++
	}
	return out
}

// admit lets in who may watch what is on air.
func (s *WHEP) admit(w http.ResponseWriter, r *http.Request, channel string) (rtc.Session, error) {
	if err := s.Watch(r, channel); err != nil {
		w.Header().Set("WWW-Authenticate", "Bearer")
		return nil, &rtc.Refusal{Status: http.StatusUnauthorized, Text: err.Error()}
	}
	known, video, sound := s.Channels.Runs(channel)
	switch {
	case !known:
		return nil, &rtc.Refusal{Status: http.StatusNotFound, Text: fmt.Sprintf("There is no channel %q.", channel)}
	case !video && !sound:
		w.Header().Set("Retry-After", "2")
		return nil, &rtc.Refusal{Status: http.StatusConflict, Text: "The channel is not on air. Ask again when it is."}
	}
	rung := r.URL.Query().Get("rung")
	if !s.Channels.Has(channel, rung) {
		return nil, &rtc.Refusal{Status: http.StatusNotFound, Text: fmt.Sprintf("The channel has no rung %.40q on.", rung)}
	}
	return &whepViewer{s: s, channel: channel, wanted: rung, byHand: rung != "", hasVideo: video, hasSound: sound, changed: make(chan struct{}, 1)}, nil
}

// connect makes the connection of a viewer, whose line is measured by what it tells of packets' arrival (transport-wide
// congestion control).
func (s *WHEP) connect(x rtc.Session) (*webrtc.PeerConnection, error) {
	m := &webrtc.MediaEngine{}
	if err := m.RegisterDefaultCodecs(); err != nil {
		return nil, err
	}
	for _, feedback := range []webrtc.RTCPFeedback{{Type: "nack"}, {Type: "nack", Parameter: "pli"}} {
		m.RegisterFeedback(feedback, webrtc.RTPCodecTypeVideo)
	}
	i := &interceptor.Registry{}
	control, err := cc.NewInterceptor(func() (cc.BandwidthEstimator, error) {
		return gcc.NewSendSideBWE(gcc.SendSideBWEInitialBitrate(firstEstimate), gcc.SendSideBWEMaxBitrate(50_000_000), gcc.SendSideBWEPacer(gcc.NewNoOpPacer()))
	})
	if err != nil {
		return nil, err
	}
	control.OnNewPeerConnection(func(_ string, e cc.BandwidthEstimator) { x.(*whepViewer).estimator = e })
	i.Add(control)
	if err := webrtc.ConfigureTWCCHeaderExtensionSender(m, i); err != nil {
		return nil, err
	}
	return webrtc.NewAPI(webrtc.WithMediaEngine(m), webrtc.WithInterceptorRegistry(i), webrtc.WithSettingEngine(s.port.Engine())).NewPeerConnection(webrtc.Configuration{})
}

// pack makes payloads of RTP.
func pack(t *media.Track) (*fan.Packer, error) {
	s, err := rtpmedia.New(*t, 0, time.Time{})
	if err != nil {
		return nil, err
	}
	return &fan.Packer{Clock: s.Clock, Unit: func(u *hub.Unit) [][]byte { return s.Payloads(u.Key, u.Data) }}, nil
}

// codecs are those that WebRTC can carry to viewers, of a kind.
func codecs(kind media.Kind, offered func(rtp string) bool) (out []media.Codec) {
	for _, c := range coding.OverRTP(kind) {
		if offered(c.RTP) {
			out = append(out, c.ID)
		}
	}
	return out
}

func (s *WHEP) count(v *whepViewer, here bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if here {
		s.viewers[v] = struct{}{}
	} else {
		delete(s.viewers, v)
	}
}
