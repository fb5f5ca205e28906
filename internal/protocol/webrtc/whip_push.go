package webrtc

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/pion/webrtc/v4"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network"
	"metaplasis/internal/onward/rtpmedia"
)

const (
	connectTimeout = 15 * time.Second
	// gatherFor is how much media is waited for until all tracks are known, in ticks of media.VideoTimescale.
	gatherFor = media.VideoTimescale
	// settleFor is how much comes before the tracks are taken for all, once there are video and audio.
	settleFor = media.VideoTimescale / 5
)

// RefusedError says that the server does not take the stream.
type RefusedError struct{ Text string }

// client makes requests where the policy of the process lets it.
var client = &http.Client{Transport: network.Transport(15 * time.Second)}

func (e *RefusedError) Error() string { return "refused: " + e.Text }

// Options of a connection.
type Options struct {
	Key string // bearer token
	TCP bool   // ICE over TCP alone
}

// Conn sends.
type Conn struct {
	endpoint string
	o        Options
	pc       *webrtc.PeerConnection
	resource string
	order    []media.TrackID
	tracks   map[media.TrackID]*pushedTrack
	waiting  []pushedUnit
	started  bool
	notes    map[string]string
	failed   chan error
	err      error
	begun    time.Time
}

type pushedTrack struct {
	media.Track
	stream *rtpmedia.Stream
	local  *webrtc.TrackLocalStaticRTP
}

type pushedUnit struct {
	id  media.TrackID
	pts int64
	dts int64
	key bool
	b   []byte
}

// Dial prepares to send to an endpoint, http(s)://host/whip/CHANNEL; it connects once the tracks are known.
func Dial(u *url.URL, o Options) (*Conn, error) {
	bare := *u
	bare.User = nil
	if password, ok := u.User.Password(); ok && o.Key == "" {
		o.Key = password
	}
	q := bare.Query()
	if k := q.Get("key"); k != "" {
		o.Key = k
		q.Del("key")
		bare.RawQuery = q.Encode()
	}
	return &Conn{endpoint: bare.String(), o: o, tracks: map[media.TrackID]*pushedTrack{}, failed: make(chan error, 4), begun: time.Now()}, nil
}

// FrameRate implements onward.Sender.
func (c *Conn) FrameRate(int64) {}

// Track implements onward.Sender.
func (c *Conn) Track(t media.Track) {
	if c.tracks[t.ID] != nil || c.started {
		return
	}
	c.order = append(c.order, t.ID)
	c.tracks[t.ID] = &pushedTrack{Track: t}
}

// Unit implements onward.Sender.
func (c *Conn) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	t := c.tracks[id]
	if t == nil || c.err != nil {
		return
	}
	dts := t.Stamps().Ticks(stamp)
	c.waiting = append(c.waiting, pushedUnit{id, dts + t.Stamps().Ticks(composition), dts, key, data})
	if c.started {
		return
	}
	kinds := map[media.Kind]bool{}
	for _, t := range c.tracks {
		kinds[t.Kind] = true
	}
	if dts-c.waiting[0].dts > settleFor && len(kinds) == 2 || dts-c.waiting[0].dts > gatherFor {
		c.started = true
		c.err = c.start()
	}
}

// Notes are what the sender says of itself once it is connected, to a server of ours: texts whose names begin with x-. Other
// servers refuse them, which does no harm. It is called before the first unit.
func (c *Conn) Notes(list map[string]string) { c.notes = list }

func (c *Conn) tell() {
	if len(c.notes) == 0 || c.resource == "" {
		return
	}
	b, err := json.Marshal(c.notes)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), connectTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPut, c.resource+"/notes", bytes.NewReader(b))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+c.o.Key)
	if res, err := client.Do(req); err == nil {
		_ = res.Body.Close()
	}
}

// Cue implements onward.Sender: WebRTC has no place for it.
func (c *Conn) Cue(int64, []byte) {}

// start offers what there is.
func (c *Conn) start() error {
	var e webrtc.SettingEngine
	e.SetIncludeLoopbackCandidate(true)
	if c.o.TCP {
		e.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeTCP4, webrtc.NetworkTypeTCP6})
	}
	m := &webrtc.MediaEngine{}
	if err := m.RegisterDefaultCodecs(); err != nil {
		return err
	}
	api := webrtc.NewAPI(webrtc.WithSettingEngine(e), webrtc.WithMediaEngine(m))
	pc, err := api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return err
	}
	c.pc = pc
	var wrong error
	for i, id := range c.order {
		if err := c.add(c.tracks[id], uint8(96+i)); err != nil {
			wrong = err // the rest goes without it
		}
	}
	if len(pc.GetSenders()) == 0 {
		return wrong
	}
	connected := make(chan struct{}, 1)
	pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		switch s {
		case webrtc.PeerConnectionStateConnected:
			select {
			case connected <- struct{}{}:
			default:
			}
		case webrtc.PeerConnectionStateFailed, webrtc.PeerConnectionStateClosed:
			select {
			case c.failed <- errors.New("the connection was lost"):
			default:
			}
		}
	})
	if err := c.signal(); err != nil {
		return err
	}
	select {
	case <-connected:
		go c.tell()
		return nil
	case err := <-c.failed:
		return err
	case <-time.After(connectTimeout):
		return fmt.Errorf("no connection within %v", connectTimeout)
	}
}

func (c *Conn) add(t *pushedTrack, payloadType uint8) error {
	s, err := rtpmedia.New(t.Track, payloadType, c.begun)
	if err != nil {
		return err
	}
	kind := "audio"
	if t.Kind == media.Video {
		kind = "video"
	}
	mime := kind + "/" + s.Name
	if s.Name == "MPEG4-GENERIC" {
		return &media.UnsupportedError{Format: "WebRTC", What: coding.Label(t.Codec), Do: "send a loop with Opus, such as harbour"}
	}
	capability := webrtc.RTPCodecCapability{MimeType: mime, ClockRate: uint32(s.Clock)}
	if s.Name == "OPUS" {
		capability.Channels = 2
	}
	if s.Name == "H264" {
		capability.SDPFmtpLine = "level-asymmetry-allowed=1;packetization-mode=1;profile-level-id=42e01f"
	}
	local, err := webrtc.NewTrackLocalStaticRTP(capability, kind, "camera")
	if err != nil {
		return err
	}
	sender, err := c.pc.AddTrack(local)
	if err != nil {
		return err
	}
	go func() { // what the other side asks for is answered by the interceptors
		buf := make([]byte, 1500)
		for {
			if _, _, err := sender.Read(buf); err != nil {
				return
			}
		}
	}()
	t.stream, t.local = s, local
	return nil
}

// signal exchanges offer and answer.
func (c *Conn) signal() error {
	offer, err := c.pc.CreateOffer(nil)
	if err != nil {
		return err
	}
	gathered := webrtc.GatheringCompletePromise(c.pc)
	if err := c.pc.SetLocalDescription(offer); err != nil {
		return err
	}
	<-gathered
	ctx, cancel := context.WithTimeout(context.Background(), connectTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.endpoint, strings.NewReader(c.pc.LocalDescription().SDP))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/sdp")
	req.Header.Set("Authorization", "Bearer "+c.o.Key)
	res, err := client.Do(req)
	if err != nil {
		return network.WithoutSecrets(err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusCreated {
		return &RefusedError{network.Answer(res)}
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err != nil {
		return err
	}
	if at, err := res.Location(); err == nil {
		c.resource = at.String()
	}
	return c.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: string(b)})
}

// Flush implements onward.Sender.
func (c *Conn) Flush() error {
	if c.err != nil || !c.started {
		return c.err
	}
	for _, u := range c.waiting {
		t := c.tracks[u.id]
		if t.local == nil {
			continue
		}
		for _, p := range t.stream.Packets(u.pts, u.key, u.b) {
			if err := t.local.WriteRTP(p); err != nil && !errors.Is(err, io.ErrClosedPipe) {
				return err
			}
		}
	}
	c.waiting = nil
	return nil
}

// Failed implements onward.Sender.
func (c *Conn) Failed() <-chan error { return c.failed }

// Close implements onward.Sender.
func (c *Conn) Close() error {
	if c.resource != "" {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if req, err := http.NewRequestWithContext(ctx, http.MethodDelete, c.resource, nil); err == nil {
			req.Header.Set("Authorization", "Bearer "+c.o.Key)
			if res, err := client.Do(req); err == nil {
				_ = res.Body.Close()
			}
		}
	}
	if c.pc != nil {
		return c.pc.Close()
	}
	return nil
}
