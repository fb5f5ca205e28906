package rtc

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
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

// forViewers answers viewers of whom none ever connects.
func forViewers(t *testing.T, ended *atomic.Int32) *Signal {
	port, err := Open(Config{Address: "127.0.0.1:0"}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(port.Close)
	api := webrtc.NewAPI(webrtc.WithSettingEngine(port.Engine()))
	return &Signal{Path: "/whep/", Peers: "viewers", Most: 1000, Directions: []string{"recvonly"},
		Connect: func(Session) (*webrtc.PeerConnection, error) { return api.NewPeerConnection(webrtc.Configuration{}) },
		Admit:   func(http.ResponseWriter, *http.Request, string) (Session, error) { return silent{ended}, nil }}
}

// TestWhoNeverConnectsMakesRoom: of those of one network that offer and do not connect, the oldest go once they had time
// enough, and whoever comes is let in; before that, who comes is asked to wait, and nobody is sent away.
func TestWhoNeverConnectsMakesRoom(t *testing.T) {
	var ended atomic.Int32
	s := forViewers(t, &ended)
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

// TestOffersThatMakeNoSense are refused with a sentence, and nothing of them stays.
func TestOffersThatMakeNoSense(t *testing.T) {
	var ended atomic.Int32
	s := forViewers(t, &ended)
	web := httptest.NewServer(http.StripPrefix("/whep", s.Routes()))
	defer web.Close()
	defer s.Close()
	pc, err := webrtc.NewPeerConnection(webrtc.Configuration{})
	require.NoError(t, err)
	defer func() { _ = pc.Close() }()
	for _, kind := range []webrtc.RTPCodecType{webrtc.RTPCodecTypeVideo, webrtc.RTPCodecTypeAudio} {
		_, err = pc.AddTransceiverFromKind(kind, webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly})
		require.NoError(t, err)
	}
	offer, err := pc.CreateOffer(nil)
	require.NoError(t, err)
	ask := func(method, path, kind, token, body string) (*http.Response, string) {
		req, err := http.NewRequest(method, web.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		if kind != "" {
			req.Header.Set("Content-Type", kind)
		}
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		_ = res.Body.Close()
		return res, string(b)
	}
	line := func(name string) string { return regexp.MustCompile(`a=` + name + `:[^\r]*`).FindString(offer.SDP) }
	require.NotEmpty(t, line("ice-pwd"))
	for what, c := range map[string]struct{ sdp, says string }{
		"sent":           {strings.ReplaceAll(offer.SDP, "a=recvonly", "a=sendonly"), "found video that is sendonly, expected recvonly"},
		"both ways":      {strings.Replace(offer.SDP, "a=recvonly\r\n", "", 1), "found video that is sendrecv, expected recvonly"},
		"no description": {"hello", "found no session description"},
		"no media":       {"v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns=-\r\nt=0 0\r\n", "found no media"},
		"short password": {strings.ReplaceAll(offer.SDP, line("ice-pwd"), "a=ice-pwd:short"), "found an ice-pwd of 5 characters, expected 22 at least"},
		"short ufrag":    {strings.ReplaceAll(offer.SDP, line("ice-ufrag"), "a=ice-ufrag:x"), "found an ice-ufrag of 1 characters, expected 4 at least"},
		"no digest":      {strings.ReplaceAll(offer.SDP, "sha-256 ", "md5 "), "found a fingerprint by \"md5\""},
		"short digest":   {strings.ReplaceAll(offer.SDP, line("fingerprint"), "a=fingerprint:sha-256 AB:CD"), "found a fingerprint of 2 bytes, expected the 32"},
		"no digits":      {strings.ReplaceAll(offer.SDP, line("fingerprint"), "a=fingerprint:sha-256 XY:CD"), "found \"XY\" within a fingerprint"},
		"one mid twice":  {strings.ReplaceAll(offer.SDP, "a=mid:1", "a=mid:0"), "found two sections with the mid \"0\""},
	} {
		res, text := ask("POST", "/whep/pier", offerType, "", c.sdp)
		assert.Equal(t, http.StatusBadRequest, res.StatusCode, what)
		assert.Contains(t, text, "The offer is not taken: "+c.says, what)
	}
	s.mu.Lock()
	assert.Empty(t, s.peers)
	s.mu.Unlock()

	res, text := ask("POST", "/whep/pier", offerType, "secret", offer.SDP)
	require.Equal(t, http.StatusCreated, res.StatusCode, text)
	at := res.Header.Get("Location")
	for _, fragment := range []string{"", "\r\n", "no line of SDP\r\n", "a=mid:0\r\nbroken"} {
		res, text = ask("PATCH", at, fragmentType, "secret", fragment)
		assert.Equal(t, http.StatusBadRequest, res.StatusCode, "%q", fragment)
		assert.Contains(t, text, "The fragment is not taken: found")
	}
	for _, token := range []string{"", "another"} {
		res, _ = ask("DELETE", at, "", token, "")
		assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
		assert.Equal(t, "Bearer", res.Header.Get("WWW-Authenticate"))
	}
	for path, allow := range map[string]string{"/whep/pier": "POST, OPTIONS", at: "PATCH, DELETE, OPTIONS"} {
		res, _ = ask("PUT", path, "", "secret", "")
		assert.Equal(t, http.StatusMethodNotAllowed, res.StatusCode)
		assert.Equal(t, allow, res.Header.Get("Allow"))
	}
	res, _ = ask("DELETE", at, "", "secret", "")
	assert.Equal(t, http.StatusOK, res.StatusCode)
	res, _ = ask("DELETE", at, "", "secret", "")
	assert.Equal(t, http.StatusNotFound, res.StatusCode)
}
