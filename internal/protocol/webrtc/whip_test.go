package webrtc

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pion/webrtc/v4"
	pion "github.com/pion/webrtc/v4/pkg/media"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/rtc"
)

// taken admits everybody to one feed, and counts what comes.
type taken struct {
	opened atomic.Int32
	units  chan struct{}
	ended  chan string
	extras atomic.Pointer[map[string]string]
}

func (r *taken) Open(contribution.Sender) (contribution.Feed, error) { r.opened.Add(1); return r, nil }
func (r *taken) May(contribution.Sender) error                       { return nil }
func (r *taken) IsTaken(error) bool                                  { return false }
func (r *taken) Report(_, _, _, _, _ string)                         {}
func (r *taken) Track(media.Track)                                   {}
func (r *taken) FrameRate(int64)                                     {}
func (r *taken) Anchor(media.TrackID, int64, time.Time)              {}
func (r *taken) Line(contribution.Line)                              {}
func (r *taken) Extras(list map[string]string)                       { r.extras.Store(&list) }
func (r *taken) Caption(contribution.Caption)                        {}
func (r *taken) Splice(media.Clock, int64, []byte)                   {}
func (r *taken) Grid() time.Duration                                 { return 0 }
func (r *taken) Pace() time.Duration                                 { return 0 }
func (r *taken) End(reason string)                                   { r.ended <- reason }
func (r *taken) Kicked() <-chan string                               { return nil }

func (r *taken) Unit(media.TrackID, int64, int64, bool, []byte) {
	select {
	case r.units <- struct{}{}:
	default:
	}
}

// some waits until so many units have come from now on.
func (r *taken) some(t *testing.T, n int) {
	t.Helper()
	for len(r.units) > 0 {
		<-r.units
	}
	for range n {
		select {
		case <-r.units:
		case why := <-r.ended:
			t.Fatal("the feed has ended: " + why)
		case <-time.After(10 * time.Second):
			t.Fatal("nothing comes")
		}
	}
}

// peer is a sender of sound that signals in pieces.
type peer struct {
	t        *testing.T
	pc       *webrtc.PeerConnection
	base     string
	resource string
	tag      string
	answer   string
}

// call makes a request with a body.
func (p *peer) call(method, at, kind, tag, body string) (*http.Response, string) {
	req, err := http.NewRequest(method, at, strings.NewReader(body))
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", kind)
	req.Header.Set("Authorization", "bearer secret")
	if tag != "" {
		req.Header.Set("If-Match", tag)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res, string(b)
}

// describe makes an offer, and returns it without candidates, and those apart.
func (p *peer) describe(restart bool) (offer string, candidates []string) {
	o, err := p.pc.CreateOffer(&webrtc.OfferOptions{ICERestart: restart})
	require.NoError(p.t, err)
	gathered := webrtc.GatheringCompletePromise(p.pc)
	require.NoError(p.t, p.pc.SetLocalDescription(o))
	<-gathered
	for line := range strings.Lines(p.pc.LocalDescription().SDP) {
		if strings.HasPrefix(line, "a=candidate:") {
			candidates = append(candidates, line)
		} else if !strings.HasPrefix(line, "a=end-of-candidates") {
			offer += line
		}
	}
	return offer, candidates
}

// value is that of the first such line of a description.
func value(text, name string) string {
	_, rest, _ := strings.Cut(text, name)
	v, _, _ := strings.Cut(rest, "\r\n")
	return v
}

// TestSignallingInPieces: candidates come after the offer, ICE is restarted while media flows and the feed stays one,
// old entity tags are refused, and what is gone is gone.
func TestSignallingInPieces(t *testing.T) {
	r := &taken{units: make(chan struct{}, 1000), ended: make(chan string, 1)}
	port, err := rtc.Open(rtc.Config{Address: "127.0.0.1:0", ICE: []string{"stun:192.0.2.1:3478", "turn:192.0.2.1:3478,boat,secret"}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer port.Close()
	s, err := NewWHIP(port, nil, r, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer s.Close()
	web := httptest.NewServer(http.StripPrefix("/whip", s.Routes()))
	defer web.Close()
	var e webrtc.SettingEngine
	e.SetIncludeLoopbackCandidate(true)
	pc, err := webrtc.NewAPI(webrtc.WithSettingEngine(e)).NewPeerConnection(webrtc.Configuration{})
	require.NoError(t, err)
	defer func() { _ = pc.Close() }()
	sound, err := webrtc.NewTrackLocalStaticSample(webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypeOpus, ClockRate: 48000, Channels: 2}, "sound", "boat")
	require.NoError(t, err)
	_, err = pc.AddTrack(sound)
	require.NoError(t, err)
	go func() {
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for range tick.C {
			if pc.ConnectionState() == webrtc.PeerConnectionStateClosed {
				return
			}
			_ = sound.WriteSample(pion.Sample{Data: []byte{0xf8, 0xff, 0xfe}, Duration: 20 * time.Millisecond}) // of silence
		}
	}()
	p := &peer{t: t, pc: pc, base: web.URL + "/whip/pier"}

	offer, candidates := p.describe(false)
	require.NotEmpty(t, candidates)
	res, text := p.call("POST", p.base, "text/plain", "", offer)
	assert.Equal(t, 415, res.StatusCode, text)
	res, text = p.call("POST", p.base, "application/sdp", "", "v=0\r\nnonsense")
	assert.Equal(t, 400, res.StatusCode, text)
	res, p.answer = p.call("POST", p.base, "application/sdp", "", offer)
	require.Equal(t, 201, res.StatusCode, p.answer)
	assert.Equal(t, []string{`<stun:192.0.2.1:3478>; rel="ice-server"`, `<turn:192.0.2.1:3478>; rel="ice-server"; username="boat"; credential="secret"; credential-type="password"`}, res.Header.Values("Link"))
	_, err = rtc.Open(rtc.Config{Address: "127.0.0.1:0", ICE: []string{"http://192.0.2.1"}}, slog.New(slog.DiscardHandler))
	require.ErrorContains(t, err, "expected stun:")
	p.resource, p.tag = web.URL+res.Header.Get("Location"), res.Header.Get("ETag")
	require.NotEmpty(t, p.tag)
	assert.Equal(t, "application/trickle-ice-sdpfrag", res.Header.Get("Accept-Patch"))
	require.NoError(t, pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: p.answer}))

	head := fmt.Sprintf("a=ice-ufrag:%s\r\na=ice-pwd:%s\r\nm=audio 9 UDP/TLS/RTP/SAVPF 0\r\na=mid:0\r\n", value(offer, "a=ice-ufrag:"), value(offer, "a=ice-pwd:"))
	for _, c := range candidates {
		res, text = p.call("PATCH", p.resource, "application/trickle-ice-sdpfrag", p.tag, head+c)
		require.Equal(t, 204, res.StatusCode, text)
	}
	r.some(t, 25)
	res, text = p.call("PUT", p.resource+"/notes", "application/json", "", `{"x-camera-clock": "tick", "title": "no extra"}`)
	require.Equal(t, 204, res.StatusCode, text)
	assert.Equal(t, map[string]string{"x-camera-clock": "tick"}, *r.extras.Load())
	res, text = p.call("PUT", p.resource+"/notes", "application/json", "", "tick")
	assert.Equal(t, 400, res.StatusCode, text)
	res, _ = p.call("GET", p.resource+"/notes", "", "", "")
	assert.Equal(t, 404, res.StatusCode)

	offer, candidates = p.describe(true)
	head = fmt.Sprintf("a=ice-ufrag:%s\r\na=ice-pwd:%s\r\nm=audio 9 UDP/TLS/RTP/SAVPF 0\r\na=mid:0\r\n", value(offer, "a=ice-ufrag:"), value(offer, "a=ice-pwd:"))
	res, text = p.call("PATCH", p.resource, "application/trickle-ice-sdpfrag", "*", head+strings.Join(candidates, ""))
	require.Equal(t, 200, res.StatusCode, text)
	assert.NotEqual(t, p.tag, res.Header.Get("ETag"), "another ICE session has another tag")
	ufrag, password := value(text, "a=ice-ufrag:"), value(text, "a=ice-pwd:")
	assert.NotEqual(t, value(p.answer, "a=ice-ufrag:"), ufrag)
	again := ""
	for line := range strings.Lines(p.answer) {
		if !strings.HasPrefix(line, "a=candidate:") {
			again += line
		}
	}
	again = strings.NewReplacer("a=ice-ufrag:"+value(p.answer, "a=ice-ufrag:"), "a=ice-ufrag:"+ufrag, "a=ice-pwd:"+value(p.answer, "a=ice-pwd:"), "a=ice-pwd:"+password).Replace(again)
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "a=candidate:") {
			again += line
		}
	}
	require.NoError(t, pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: again}))
	r.some(t, 50)
	assert.EqualValues(t, 1, r.opened.Load(), "the feed is the same")

	res, text = p.call("PATCH", p.resource, "application/trickle-ice-sdpfrag", p.tag, head+candidates[0])
	assert.Equal(t, 412, res.StatusCode, text)
	res, text = p.call("PATCH", p.resource, "application/trickle-ice-sdpfrag", "", "a=ice-ufrag:another\r\n")
	assert.Equal(t, 400, res.StatusCode, text)
	assert.Contains(t, text, "without its password")

	res, text = p.call("DELETE", p.resource, "", "", "")
	require.Equal(t, 200, res.StatusCode, text)
	assert.Equal(t, "it ended its stream", <-r.ended)
	res, text = p.call("PATCH", p.resource, "application/trickle-ice-sdpfrag", "", head)
	assert.Equal(t, 404, res.StatusCode, text)
	assert.Contains(t, text, "Offer again")
}
