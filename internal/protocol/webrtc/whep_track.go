package webrtc

import (
	"strings"
	"sync"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/rtc"
)

// viewerTrack is a stream as one viewer is sent it: the payloads are those of all viewers, the headers its own. It implements
// webrtc.TrackLocal.
type viewerTrack struct {
	kind   webrtc.RTPCodecType
	codec  media.Codec
	gather func(ssrc uint32) (*rtc.Gather, func()) // nil: each packet is sent by itself

	mu       sync.Mutex
	together *rtc.Gather
	forget   func()
	writer   webrtc.TrackLocalWriter
	header   rtp.Header // of the newest packet: extensions are added to it
	sequence uint16
	sent     [sentRing]sentPacket
	packets  uint32
	octets   uint32
	stamp    uint32
	again    int // bytes that may be sent again now
}

// What is sent again, in bytes: half of what is sent, and so much at once. A line that loses for want of room is not sent more.
const (
	againShare = 2 // one of so many bytes
	//limit:bytes that are sent again at once | each viewer | the packet is not sent again
	maxAgain = 128 << 10
	// againEach is how soon a packet may be asked for again: the answer before may be on its way.
	againEach = 30 * time.Millisecond
)

// sentRing is how many packets can be sent again, when the viewer misses them: about a second of pictures.
const sentRing = 1024

type sentPacket struct {
	sequence uint16
	stamp    uint32
	marker   bool
	payload  []byte
	again    time.Time // when it was sent again
}

// ID implements webrtc.TrackLocal.
func (t *viewerTrack) ID() string { return t.kind.String() }

// RID implements webrtc.TrackLocal.
func (t *viewerTrack) RID() string { return "" }

// StreamID implements webrtc.TrackLocal: video and audio of one stream are shown in step.
func (t *viewerTrack) StreamID() string { return "channel" }

// Kind implements webrtc.TrackLocal.
func (t *viewerTrack) Kind() webrtc.RTPCodecType { return t.kind }

// Bind implements webrtc.TrackLocal.
func (t *viewerTrack) Bind(c webrtc.TrackLocalContext) (webrtc.RTPCodecParameters, error) {
	want := coding.Find(t.codec).RTP
	var found *webrtc.RTPCodecParameters
	list := c.CodecParameters()
	for i := range list {
		p := &list[i]
		if _, name, _ := strings.Cut(p.MimeType, "/"); !strings.EqualFold(name, want) {
			continue
		}
		// H.264 comes in fragments (RFC 6184, 6.3), which one form of it has not.
		if found == nil || strings.Contains(p.SDPFmtpLine, "packetization-mode=1") && !strings.Contains(found.SDPFmtpLine, "packetization-mode=1") {
			found = p
		}
	}
	if found == nil {
		return webrtc.RTPCodecParameters{}, webrtc.ErrUnsupportedCodec
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.writer = c.WriteStream()
	if t.gather != nil {
		t.together, t.forget = t.gather(uint32(c.SSRC()))
	}
	t.header = rtp.Header{Version: 2, PayloadType: uint8(found.PayloadType), SSRC: uint32(c.SSRC())}
	return *found, nil
}

// Unbind implements webrtc.TrackLocal.
func (t *viewerTrack) Unbind(webrtc.TrackLocalContext) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.writer = nil
	if t.forget != nil {
		t.forget()
		t.together, t.forget = nil, nil
	}
	return nil
}

// hold lets packets leave together, until release.
func (t *viewerTrack) hold() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.together != nil {
		t.together.Hold()
	}
}

func (t *viewerTrack) release() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.together != nil {
		t.together.Release()
	}
}

// write sends a payload.
func (t *viewerTrack) write(stamp uint32, marker bool, payload []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.sequence++
	p := &t.sent[t.sequence%sentRing]
	*p = sentPacket{sequence: t.sequence, stamp: stamp, marker: marker, payload: payload}
	t.stamp = stamp
	t.packets++
	t.octets += uint32(len(payload))
	t.again = min(t.again+len(payload)/againShare, maxAgain)
	t.put(p)
}

func (t *viewerTrack) put(p *sentPacket) {
	if t.writer == nil {
		return
	}
	h := &t.header
	h.Extensions = h.Extensions[:0]
	h.SequenceNumber, h.Timestamp, h.Marker = p.sequence, p.stamp, p.marker
	_, _ = t.writer.WriteRTP(h, p.payload) // who is gone is noticed by ICE
}

// repeat sends a packet again that the viewer misses. It reports whether it did.
func (t *viewerTrack) repeat(sequence uint16, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := &t.sent[sequence%sentRing]
	if p.payload == nil || p.sequence != sequence || now.Sub(p.again) < againEach || len(p.payload) > t.again {
		return false
	}
	p.again = now
	t.again -= len(p.payload)
	t.put(p)
	return true
}

// counts returns what a report says of the track.
func (t *viewerTrack) counts() (ssrc, packets, octets, stamp uint32) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.header.SSRC, t.packets, t.octets, t.stamp
}
