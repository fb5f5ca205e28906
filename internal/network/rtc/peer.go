package rtc

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/pion/webrtc/v4"
)

// connectWithin is how long a peer may take from its offer to media.
const connectWithin = 15 * time.Second

// Peer is one connection.
type Peer struct {
	token  string // that it offered with, in a header; "" for none
	ID     string
	Remote string                 // host:port that offered
	PC     *webrtc.PeerConnection // set before Negotiate

	s       *Signal
	x       Session
	channel string
	network string
	pending bool // the signal's lock guards it and began
	began   time.Time
	over    chan struct{}

	mu        sync.Mutex
	offer     string
	restarts  int
	ended     bool
	connected bool
	limit     *time.Timer // by when it has to be connected; it would hold the peer
}

// Over is closed when the session has ended.
func (p *Peer) Over() <-chan struct{} { return p.over }

// tag tells the ICE sessions of one peer apart (RFC 9725, 4.3.1).
func (p *Peer) tag() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return fmt.Sprintf(`"%s-%d"`, p.ID[:8], p.restarts)
}

// start answers an offer.
func (p *Peer) start(offer string) (answer string, err error) {
	pc, err := p.s.Connect(p.x)
	if err != nil {
		return "", err
	}
	p.mu.Lock()
	p.PC, p.offer = pc, offer
	p.mu.Unlock()
	pc.OnConnectionStateChange(func(st webrtc.PeerConnectionState) {
		switch st {
		case webrtc.PeerConnectionStateConnected:
			p.begin()
		case webrtc.PeerConnectionStateFailed:
			go p.End("the connection was lost")
		case webrtc.PeerConnectionStateClosed:
			go p.End("it closed the connection")
		}
	})
	if err := pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", err
	}
	if err := p.x.Negotiate(p); err != nil {
		return "", err
	}
	answer, err = p.answer()
	if err == nil {
		limit := time.AfterFunc(connectWithin, func() {
			p.mu.Lock()
			connected := p.connected
			p.mu.Unlock()
			if !connected {
				p.End(fmt.Sprintf("it did not connect within %d s: look at firewalls between, and at the announced addresses", int(connectWithin.Seconds())))
			}
		})
		p.mu.Lock()
		if p.limit = limit; p.ended {
			limit.Stop()
		}
		p.mu.Unlock()
	}
	return answer, err
}

// answer makes one with all candidates in it.
func (p *Peer) answer() (string, error) {
	a, err := p.PC.CreateAnswer(nil)
	if err != nil {
		return "", err
	}
	gathered := webrtc.GatheringCompletePromise(p.PC)
	if err := p.PC.SetLocalDescription(a); err != nil {
		return "", err
	}
	select {
	case <-gathered:
	case <-time.After(2 * time.Second):
	}
	return p.PC.LocalDescription().SDP, nil
}

// begin marks the peer as connected.
func (p *Peer) begin() {
	p.mu.Lock()
	first := !p.connected && !p.ended
	p.connected = true
	p.mu.Unlock()
	if first {
		p.s.settle(p, false)
		p.x.Connected()
	}
}

// trickle takes a fragment (RFC 8840): candidates, or another ufrag and password, which restart ICE and are answered.
func (p *Peer) trickle(text string) (answer string, err error) {
	//limit:candidates | each offer | 400
	const maxCandidates = 64
	var ufrag, password, mid string
	var candidates []webrtc.ICECandidateInit
	read := 0
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if len(line) < 2 || line[1] != '=' {
			if line == "" {
				continue
			}
			return "", fmt.Errorf("found the line %.40q, expected a letter, = and a value (RFC 8840, 9)", line)
		}
		read++
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
	if read == 0 {
		return "", errors.New("found nothing in it, expected candidates or another ufrag (RFC 8840, 9)")
	}
	p.mu.Lock()
	offer := p.offer
	p.mu.Unlock()
	if ufrag != "" && !strings.Contains(offer, "a=ice-ufrag:"+ufrag+"\r\n") {
		if password == "" {
			return "", errors.New("another ufrag came without its password")
		}
		offer = restarted(offer, ufrag, password)
		if err := p.PC.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
			return "", err
		}
		whole, err := p.answer()
		if err != nil {
			return "", err
		}
		p.mu.Lock()
		p.offer = offer
		p.restarts++
		p.mu.Unlock()
		answer = fragment(whole)
	}
	for _, c := range candidates {
		if err := p.PC.AddICECandidate(c); err != nil {
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

// End closes the connection, once.
func (p *Peer) End(reason string) {
	p.mu.Lock()
	if p.ended {
		p.mu.Unlock()
		return
	}
	p.ended = true
	if p.limit != nil {
		p.limit.Stop()
	}
	pc := p.PC
	p.mu.Unlock()
	close(p.over)
	p.x.Ended(reason)
	p.s.settle(p, true)
	if pc != nil {
		_ = pc.Close()
	}
}
