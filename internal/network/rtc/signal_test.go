package rtc

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pion/webrtc/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// silent is a session that never connects.
type silent struct{ ended *atomic.Int32 }

func (silent) Negotiate(*Peer) error { return nil }
func (silent) Refused(error)         {}
func (silent) Connected()            {}
func (s silent) Ended(string)        { s.ended.Add(1) }

// TestWhoNeverConnectsMakesRoom: of those of one network that offer and do not connect, the oldest go once they had time
// enough, and whoever comes is let in; before that, who comes is asked to wait, and nobody is sent away.
func TestWhoNeverConnectsMakesRoom(t *testing.T) {
	port, err := Open(Config{Address: "127.0.0.1:0"}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer port.Close()
	var ended atomic.Int32
	api := webrtc.NewAPI(webrtc.WithSettingEngine(port.Engine()))
	s := &Signal{Path: "/whep/", Peers: "viewers", Most: 1000,
		Connect: func(Session) (*webrtc.PeerConnection, error) { return api.NewPeerConnection(webrtc.Configuration{}) },
		Admit:   func(http.ResponseWriter, *http.Request, string) (Session, error) { return silent{&ended}, nil }}
	web := httptest.NewServer(s.Routes())
	defer web.Close()
	pc, err := webrtc.NewPeerConnection(webrtc.Configuration{})
	require.NoError(t, err)
	defer func() { _ = pc.Close() }()
	_, err = pc.AddTransceiverFromKind(webrtc.RTPCodecTypeAudio, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly})
	require.NoError(t, err)
	offer, err := pc.CreateOffer(nil)
	require.NoError(t, err)
	ask := func() *http.Response {
		res, err := http.Post(web.URL+"/pier", offerType, strings.NewReader(offer.SDP))
		require.NoError(t, err)
		_ = res.Body.Close()
		return res
	}
	const offers = maxPendingNetwork + 9
	for range maxPendingNetwork {
		require.Equal(t, http.StatusCreated, ask().StatusCode)
	}
	s.Grace = time.Hour
	res := ask()
	assert.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	assert.Equal(t, "1", res.Header.Get("Retry-After"))
	assert.Zero(t, ended.Load())
	s.Grace = 0
	for range offers - maxPendingNetwork {
		require.Equal(t, http.StatusCreated, ask().StatusCode)
	}
	s.mu.Lock()
	assert.Equal(t, maxPendingNetwork, s.waiting)
	assert.Len(t, s.peers, maxPendingNetwork)
	s.mu.Unlock()
	assert.EqualValues(t, offers-maxPendingNetwork, ended.Load())
	s.Close()
	assert.EqualValues(t, offers, ended.Load())
	s.mu.Lock()
	assert.Zero(t, s.waiting)
	assert.Empty(t, s.pending)
	s.mu.Unlock()
	assert.Equal(t, http.StatusServiceUnavailable, ask().StatusCode)
}
