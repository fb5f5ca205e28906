package webrtc

import (
	"errors"
	"log/slog"
	"net/http"
	"time"

	"github.com/pion/interceptor"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/contribution"
	"metaplasis/internal/network/rtc"
)

// WHIP answers WHIP.
type WHIP struct {
	Receiver contribution.Receiver
	Logger   *slog.Logger

	codecs []string
	signal rtc.Signal
}

// Bounds.
const (
	//limit:senders over WebRTC | all | 503
	maxSessions = 256
	// retransmitWait is for how long a missing packet is waited for: it is asked for again within it, some times.
	retransmitWait = 300 * time.Millisecond
	// requestEach is how often missing packets are looked for, to ask for them.
	requestEach = 20 * time.Millisecond
)

// NewWHIP receives on a port. codecs are those of pictures that are taken, in the order in which they are preferred; none is
// all, as the sender prefers.
func NewWHIP(p *rtc.Port, codecs []string, r contribution.Receiver, logger *slog.Logger) (*WHIP, error) {
	s := &WHIP{Receiver: r, Logger: logger, codecs: codecs}
	m := &webrtc.MediaEngine{}
	if err := m.RegisterDefaultCodecs(); err != nil {
		return nil, err
	}
	i := &interceptor.Registry{}
	if err := intercept(m, i); err != nil {
		return nil, err
	}
	api := webrtc.NewAPI(webrtc.WithMediaEngine(m), webrtc.WithInterceptorRegistry(i), webrtc.WithSettingEngine(p.Engine()))
	connect := func(rtc.Session) (*webrtc.PeerConnection, error) {
		return api.NewPeerConnection(webrtc.Configuration{})
	}
	s.signal = rtc.Signal{Path: "/whip/", Peers: "senders", Connect: connect, Admit: s.admit, Most: maxSessions, Grace: rtc.Grace, ICE: p.Links, Directions: []string{"sendonly", "sendrecv"}}
	return s, nil
}

// intercept sets up what answers senders over RTCP: reports, congestion feedback. Missing packets are asked for by who waits for them.
func intercept(m *webrtc.MediaEngine, i *interceptor.Registry) error {
	m.RegisterFeedback(webrtc.RTCPFeedback{Type: "nack"}, webrtc.RTPCodecTypeVideo)
	m.RegisterFeedback(webrtc.RTCPFeedback{Type: "nack", Parameter: "pli"}, webrtc.RTPCodecTypeVideo)
	return errors.Join(webrtc.ConfigureRTCPReports(i), webrtc.ConfigureTWCCSender(m, i), webrtc.ConfigureSimulcastExtensionHeaders(m))
}

// Close ends all sessions.
func (s *WHIP) Close() { s.signal.Close() }

// Routes answers below /whip.
func (s *WHIP) Routes() http.Handler { return s.signal.Routes() }

// admit lets in who has a key, while the channel can take a feed.
func (s *WHIP) admit(w http.ResponseWriter, r *http.Request, channel string) (rtc.Session, error) {
	key := rtc.Bearer(r)
	if key == "" {
		w.Header().Set("WWW-Authenticate", "Bearer")
		return nil, &rtc.Refusal{Status: http.StatusUnauthorized, Text: "A contribution key is needed as bearer token."}
	}
	sender := contribution.Sender{Channel: channel, Key: key, Protocol: "WebRTC", Remote: r.RemoteAddr, Silence: mediaSilence}
	if err := s.Receiver.May(sender); err != nil {
		if s.Receiver.IsTaken(err) {
			return nil, &rtc.Refusal{Status: http.StatusConflict, Text: err.Error()}
		}
		return nil, err
	}
	return &whipSession{s: s, sender: sender}, nil
}
