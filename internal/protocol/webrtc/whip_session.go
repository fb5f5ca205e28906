package webrtc

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/sdp/v3"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/rtpmedia"
	"metaplasis/internal/network"
	"metaplasis/internal/network/rtc"
)

// mediaSilence is for how long nothing may come of a sender until others may take its place.
const mediaSilence = 2 * time.Second

// whipSession is one sender.
type whipSession struct {
	s      *WHIP
	peer   *rtc.Peer
	sender contribution.Sender
	media  *rtpmedia.Session

	mu    sync.Mutex
	notes contribution.Extras // that it said of itself
	feed  contribution.Feed
	ended bool
	sizes int // in which a picture came so far

	asking []asking
}

// asking is a stream whose missing packets are asked for.
type asking struct {
	t    *rtpmedia.Track
	ssrc uint32
}

// asks reports whether a sender takes requests for packets of a codec.
func asks(c webrtc.RTPCodecParameters) bool {
	return slices.ContainsFunc(c.RTCPFeedback, func(f webrtc.RTCPFeedback) bool { return f.Type == "nack" && f.Parameter == "" })
}

// ask asks for what is missing.
func (x *whipSession) ask(now time.Time) {
	x.mu.Lock()
	list := x.asking
	x.mu.Unlock()
	var out []rtcp.Packet
	for _, a := range list {
		if missing := a.t.Requests(now); len(missing) > 0 {
			out = append(out, &rtcp.TransportLayerNack{SenderSSRC: 1, MediaSSRC: a.ssrc, Nacks: rtcp.NackPairsFromSequenceNumbers(missing)})
		}
	}
	if len(out) > 0 {
		_ = x.peer.PC.WriteRTCP(out)
	}
}

// Negotiate implements rtc.Session: each stream is taken only to receive, in the codecs that are allowed.
func (x *whipSession) Negotiate(p *rtc.Peer) error {
	x.peer = p
	x.media = rtpmedia.NewSession(x.open)
	p.PC.OnTrack(x.track)
	streams, pictures := 0, false
	for _, t := range p.PC.GetTransceivers() {
		if t.Kind() == webrtc.RTPCodecTypeVideo {
			pictures = true
			if len(x.s.codecs) > 0 {
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

// Refused implements rtc.Session.
func (x *whipSession) Refused(err error) {
	remote := x.sender.Remote
	x.s.Receiver.Report(x.sender.Channel, network.Of(remote), "feed-refused", fmt.Sprintf("WebRTC from %s: the offer is not taken: %v.", remote, err),
		"Check that the sender offers H.264, VP8, VP9 or AV1, and Opus.")
}

// preferred lists the codecs of a stream that are allowed, in our order.
func (x *whipSession) preferred(t *webrtc.RTPTransceiver) (out []webrtc.RTPCodecParameters) {
	all := t.Receiver().GetParameters().Codecs
	for _, name := range x.s.codecs {
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

// Connected implements rtc.Session.
func (x *whipSession) Connected() { go x.watch() }

// Ended implements rtc.Session.
func (x *whipSession) Ended(reason string) {
	x.mu.Lock()
	x.ended = true
	feed := x.feed
	x.mu.Unlock()
	if feed != nil {
		feed.End(reason)
	}
}

// ServeHTTP takes, with PUT at notes below the address of a session, what the sender says of itself: JSON of texts whose
// names begin with x-, such as the clock of a camera for tests.
func (x *whipSession) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPut || !strings.HasSuffix(r.URL.Path, "/notes") {
		http.Error(w, "PUT at notes takes what a sender says of itself.", http.StatusNotFound)
		return
	}
	var in map[string]string
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxNotes)).Decode(&in); err != nil {
		http.Error(w, fmt.Sprintf("Found no JSON of texts, or more than %d kB.", maxNotes>>10), http.StatusBadRequest)
		return
	}
	notes := contribution.Extras{}
	for name, text := range in {
		notes.Take(name, text)
	}
	x.mu.Lock()
	x.notes = notes
	feed := x.feed
	x.mu.Unlock()
	if feed != nil {
		feed.Extras(notes)
	}
	w.WriteHeader(http.StatusNoContent)
}

// maxNotes bounds what a sender says of itself, in bytes.
//
//limit:bytes that a sender says of itself | each request | 400
const maxNotes = 128 << 10

// open lets the sender in, once something of it comes.
func (x *whipSession) open() (contribution.Feed, error) {
	feed, err := x.s.Receiver.Open(x.sender)
	if err != nil {
		go x.peer.End(err.Error())
		return nil, err
	}
	x.mu.Lock()
	x.feed = feed
	ended, notes := x.ended, x.notes
	x.mu.Unlock()
	if len(notes) > 0 {
		feed.Extras(notes)
	}
	if ended {
		feed.End("the connection was lost")
		return nil, errors.New("the connection was lost")
	}
	return feed, nil
}

// watch keeps the streams going: what is missing is given up in time, keyframes are asked for where segments are to
// begin.
func (x *whipSession) watch() {
	const lookEach = 50 * time.Millisecond
	look, request := time.NewTicker(lookEach), time.NewTicker(requestEach)
	defer look.Stop()
	defer request.Stop()
	var asked time.Time
	var kicked <-chan string
	for {
		select {
		case <-x.peer.Over():
			return
		case why := <-kicked:
			x.peer.End(why)
			return
		case now := <-request.C:
			x.ask(now)
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
func (x *whipSession) keyframe() {
	var list []rtcp.Packet
	for _, r := range x.peer.PC.GetReceivers() {
		for _, t := range r.Tracks() {
			if t.Kind() == webrtc.RTPCodecTypeVideo && t.SSRC() != 0 {
				list = append(list, &rtcp.PictureLossIndication{MediaSSRC: uint32(t.SSRC())})
			}
		}
	}
	if len(list) > 0 {
		_ = x.peer.PC.WriteRTCP(list)
	}
}

func (x *whipSession) refresh(ssrc uint32) {
	_ = x.peer.PC.WriteRTCP([]rtcp.Packet{&rtcp.PictureLossIndication{MediaSSRC: ssrc}})
}

// maxSizes is in how many sizes a picture is received (RFC 8853).
//
//limit:sizes of one picture (simulcast) | each sender | further ones are left out
const maxSizes = 4

// track receives a stream until it ends.
func (x *whipSession) track(remote *webrtc.TrackRemote, receiver *webrtc.RTPReceiver) {
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
			if asks(remote.Codec()) {
				x.mu.Lock()
				x.asking = append(x.asking, asking{t, uint32(remote.SSRC())})
				x.mu.Unlock()
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
func (x *whipSession) reports(read func() ([]rtcp.Packet, error)) {
	for {
		list, err := read()
		if err != nil {
			return
		}
		for _, p := range list {
			x.media.Control(p)
		}
	}
}
