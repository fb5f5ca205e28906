package whip

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/sdp/v3"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
)

// mediaSilence is for how long nothing may come of a sender until others may take its place.
const mediaSilence = 2 * time.Second

// session is one sender.
type session struct {
	s       *Server
	id      string
	sender  contribution.Sender
	network string
	pending bool // the server's lock guards it
	over    chan struct{}

	mu        sync.Mutex
	pc        *webrtc.PeerConnection
	offer     string
	restarts  int
	media     *rtpmedia.Session
	feed      contribution.Feed
	ended     bool
	connected bool
	sizes     int // in which a picture came so far
}

// tag tells the ICE sessions of one session apart (RFC 9725, 4.3.1).
func (x *session) tag() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return fmt.Sprintf(`"%s-%d"`, x.id[:8], x.restarts)
}

// start answers an offer.
func (x *session) start(offer string) (answer string, err error) {
	pc, err := x.s.api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return "", err
	}
	x.mu.Lock()
	x.pc, x.offer = pc, offer
	x.mu.Unlock()
	x.media = rtpmedia.NewSession(x.open)
	pc.OnTrack(x.track)
	pc.OnConnectionStateChange(func(st webrtc.PeerConnectionState) {
		switch st {
		case webrtc.PeerConnectionStateConnected:
			x.begin()
		case webrtc.PeerConnectionStateFailed:
			go x.end("the connection was lost")
		case webrtc.PeerConnectionStateClosed:
			go x.end("it closed the connection")
		}
	})
	if err := pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", err
	}
	if err := x.negotiate(); err != nil {
		return "", err
	}
	answer, err = x.answer()
	if err == nil {
		time.AfterFunc(connectWithin, func() {
			x.mu.Lock()
			connected := x.connected
			x.mu.Unlock()
			if !connected {
				x.end(fmt.Sprintf("it did not connect within %d s: look at firewalls between, and at the announced addresses", int(connectWithin.Seconds())))
			}
		})
	}
	return answer, err
}

// negotiate takes each stream only to receive, in the codecs that are allowed.
func (x *session) negotiate() error {
	streams, pictures := 0, false
	for _, t := range x.pc.GetTransceivers() {
		if t.Kind() == webrtc.RTPCodecTypeVideo {
			pictures = true
			if len(x.s.conf.Codecs) > 0 {
				if err := t.SetCodecPreferences(x.preferred(t)); err != nil {
					return err
				}
			}
		}
		streams++
	}
	if streams == 0 {
		return errors.New("it offers neither pictures nor sound")
	}
	x.media.Expect(streams, pictures)
	return nil
}

// preferred lists the codecs of a stream that are allowed, in our order.
func (x *session) preferred(t *webrtc.RTPTransceiver) (out []webrtc.RTPCodecParameters) {
	all := t.Receiver().GetParameters().Codecs
	for _, name := range x.s.conf.Codecs {
		for _, c := range all {
			if strings.EqualFold(strings.TrimPrefix(strings.ToLower(c.MimeType), "video/"), name) {
				out = append(out, c)
			}
		}
	}
	for _, c := range all {
		if strings.EqualFold(c.MimeType, "video/rtx") {
			out = append(out, c)
		}
	}
	return out
}

// answer makes one with all candidates in it.
func (x *session) answer() (string, error) {
	a, err := x.pc.CreateAnswer(nil)
	if err != nil {
		return "", err
	}
	gathered := webrtc.GatheringCompletePromise(x.pc)
	if err := x.pc.SetLocalDescription(a); err != nil {
		return "", err
	}
	select {
	case <-gathered:
	case <-time.After(2 * time.Second):
	}
	return x.pc.LocalDescription().SDP, nil
}

// begin marks the session as connected.
func (x *session) begin() {
	x.mu.Lock()
	first := !x.connected
	x.connected = true
	x.mu.Unlock()
	if first {
		x.s.settle(x, false)
		go x.watch()
	}
}

// open lets the sender in, once something of it comes.
func (x *session) open() (contribution.Feed, error) {
	feed, err := x.s.Receiver.Open(x.sender)
	if err != nil {
		go x.end(err.Error())
		return nil, err
	}
	x.mu.Lock()
	x.feed = feed
	ended := x.ended
	x.mu.Unlock()
	if ended {
		feed.End("the connection was lost")
		return nil, errors.New("the connection was lost")
	}
	return feed, nil
}

// watch keeps the streams going: what is missing is given up in time, keyframes are asked for where segments are to
// begin.
func (x *session) watch() {
	const lookEach = 50 * time.Millisecond
	look := time.NewTicker(lookEach)
	defer look.Stop()
	var asked time.Time
	var kicked <-chan string
	for {
		select {
		case <-x.over:
			return
		case why := <-kicked:
			x.end(why)
			return
		case now := <-look.C:
			x.media.Look(now)
			x.mu.Lock()
			feed := x.feed
			x.mu.Unlock()
			if feed == nil {
				continue
			}
			if kicked == nil {
				kicked = feed.Kicked()
			}
			if grid := feed.Grid(); grid > 0 && now.Sub(asked) >= grid {
				asked = now
				x.keyframe()
			}
		}
	}
}

// keyframe asks for one of all pictures, in one packet, so that those of several sizes come together.
func (x *session) keyframe() {
	var list []rtcp.Packet
	for _, r := range x.pc.GetReceivers() {
		for _, t := range r.Tracks() {
			if t.Kind() == webrtc.RTPCodecTypeVideo && t.SSRC() != 0 {
				list = append(list, &rtcp.PictureLossIndication{MediaSSRC: uint32(t.SSRC())})
			}
		}
	}
	if len(list) > 0 {
		_ = x.pc.WriteRTCP(list)
	}
}

func (x *session) refresh(ssrc uint32) {
	_ = x.pc.WriteRTCP([]rtcp.Packet{&rtcp.PictureLossIndication{MediaSSRC: ssrc}})
}

// maxSizes is in how many sizes a picture is received (RFC 8853).
const maxSizes = 4

// track receives a stream until it ends.
func (x *session) track(remote *webrtc.TrackRemote, receiver *webrtc.RTPReceiver) {
	m, err := describe(remote.Codec())
	if rid := remote.RID(); rid != "" {
		x.mu.Lock()
		if x.sizes++; x.sizes > maxSizes {
			err = fmt.Errorf("found a picture in more sizes than %d", maxSizes)
		}
		x.mu.Unlock()
	}
	if err == nil {
		var t *rtpmedia.Track
		if t, err = x.media.Add(m, retransmitWait); err == nil {
			if remote.Kind() == webrtc.RTPCodecTypeVideo {
				t.SetKey(func() { x.refresh(uint32(remote.SSRC())) })
			}
			go x.reports(func() ([]rtcp.Packet, error) {
				if rid := remote.RID(); rid != "" {
					list, _, err := receiver.ReadSimulcastRTCP(rid)
					return list, err
				}
				list, _, err := receiver.ReadRTCP()
				return list, err
			})
			for {
				p, _, err := remote.ReadRTP()
				if err != nil {
					return
				}
				if len(p.Payload) == 0 { // padding
					continue
				}
				t.RTP(p, time.Now())
			}
		}
	}
	x.s.Logger.Warn("a stream of a WebRTC sender is left out", "channel", x.sender.Channel, "error", err)
}

// describe reads a codec as a session description would have it.
func describe(c webrtc.RTPCodecParameters) (*rtpmedia.Media, error) {
	_, name, _ := strings.Cut(c.MimeType, "/")
	text := fmt.Sprintf("%d %s/%d", c.PayloadType, name, c.ClockRate)
	if c.Channels > 0 {
		text += fmt.Sprintf("/%d", c.Channels)
	}
	return rtpmedia.Describe(&sdp.MediaDescription{MediaName: sdp.MediaName{Formats: []string{fmt.Sprint(c.PayloadType)}},
		Attributes: []sdp.Attribute{{Key: "rtpmap", Value: text}, {Key: "fmtp", Value: fmt.Sprintf("%d %s", c.PayloadType, c.SDPFmtpLine)}}})
}

// reports reads what the sender says of its clock.
func (x *session) reports(read func() ([]rtcp.Packet, error)) {
	for {
		list, err := read()
		if err != nil {
			return
		}
		for _, p := range list {
			if sr, ok := p.(*rtcp.SenderReport); ok {
				x.media.Report(sr)
			}
		}
	}
}

// trickle takes a fragment (RFC 8840): candidates, or another ufrag and password, which restart ICE and are answered.
func (x *session) trickle(text string) (answer string, err error) {
	const maxCandidates = 64
	var ufrag, password, mid string
	var candidates []webrtc.ICECandidateInit
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "a=ice-ufrag:"):
			ufrag = line[len("a=ice-ufrag:"):]
		case strings.HasPrefix(line, "a=ice-pwd:"):
			password = line[len("a=ice-pwd:"):]
		case strings.HasPrefix(line, "a=mid:"):
			mid = line[len("a=mid:"):]
		case strings.HasPrefix(line, "a=candidate:"):
			if len(candidates) >= maxCandidates {
				return "", errors.New("it has too many candidates")
			}
			of := mid
			candidates = append(candidates, webrtc.ICECandidateInit{Candidate: line[len("a="):], SDPMid: &of})
		}
	}
	x.mu.Lock()
	offer, pc := x.offer, x.pc
	x.mu.Unlock()
	if ufrag != "" && !strings.Contains(offer, "a=ice-ufrag:"+ufrag+"\r\n") {
		if password == "" {
			return "", errors.New("another ufrag came without its password")
		}
		offer = restarted(offer, ufrag, password)
		if err := pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
			return "", err
		}
		whole, err := x.answer()
		if err != nil {
			return "", err
		}
		x.mu.Lock()
		x.offer = offer
		x.restarts++
		x.mu.Unlock()
		answer = fragment(whole)
	}
	for _, c := range candidates {
		if err := pc.AddICECandidate(c); err != nil {
			return "", err
		}
	}
	return answer, nil
}

// restarted is an offer with another ufrag and password, and without the candidates of before.
func restarted(offer, ufrag, password string) string {
	var out strings.Builder
	for line := range strings.Lines(offer) {
		switch {
		case strings.HasPrefix(line, "a=ice-ufrag:"):
			line = "a=ice-ufrag:" + ufrag + "\r\n"
		case strings.HasPrefix(line, "a=ice-pwd:"):
			line = "a=ice-pwd:" + password + "\r\n"
		case strings.HasPrefix(line, "a=candidate:"):
			continue
		}
		out.WriteString(line)
	}
	return out.String()
}

// fragment keeps what a fragment has of an answer.
func fragment(answer string) string {
	var out strings.Builder
	for line := range strings.Lines(answer) {
		for _, keep := range []string{"a=ice-ufrag:", "a=ice-pwd:", "a=candidate:", "a=end-of-candidates", "m=", "a=mid:"} {
			if strings.HasPrefix(line, keep) {
				out.WriteString(line)
			}
		}
	}
	return out.String()
}

// end closes the session, once.
func (x *session) end(reason string) {
	x.mu.Lock()
	if x.ended {
		x.mu.Unlock()
		return
	}
	x.ended = true
	feed, pc := x.feed, x.pc
	x.mu.Unlock()
	close(x.over)
	if feed != nil {
		feed.End(reason)
	}
	x.s.settle(x, true)
	if pc != nil {
		_ = pc.Close()
	}
}
