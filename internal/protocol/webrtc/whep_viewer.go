package webrtc

import (
	"metaplasis/internal/safely"

	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pion/interceptor/pkg/cc"
	"github.com/pion/rtcp"
	"github.com/pion/webrtc/v4"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network/rtc"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/fan"
)

// whepViewer is one viewer. It implements rtc.Session and http.Handler.
type whepViewer struct {
	s                  *WHEP
	peer               *rtc.Peer
	channel            string
	hasVideo, hasSound bool
	estimator          cc.BandwidthEstimator
	video, sound       *sendPath // nil for none
	changed            chan struct{}

	mu     sync.Mutex
	wanted string // rung; "" is the best that fits
	byHand bool
	now    string // the rung that it is sent
	rungs  adaptation
	again  bool // it lost pictures and begins at a keyframe
	begun  time.Time
}

// sendPath is a track on its way to a viewer.
type sendPath struct {
	t      *viewerTrack
	clock  int64
	reader *fan.Reader
	offset uint32 // from the media's clock to stamps
	last   int64  // time of the newest unit that was sent
	rejoin time.Time
	pause  time.Duration // until the next one
	units  [16]fan.Unit
	burst  int // packets sent without a pause
	report time.Time
}

// Negotiate implements rtc.Session: it takes the first stream of each kind that the viewer wants to receive.
func (v *whepViewer) Negotiate(p *rtc.Peer) error {
	v.peer = p
	real := &onward.Real{}
	for _, t := range p.PC.GetTransceivers() {
		offered := t.Receiver().GetParameters().Codecs
		list := codecs(kindOf(t.Kind()), func(rtp string) bool {
			for _, c := range offered {
				if _, name, _ := strings.Cut(c.MimeType, "/"); strings.EqualFold(name, rtp) {
					return true
				}
			}
			return false
		})
		if t.Kind() == webrtc.RTPCodecTypeVideo {
			real.Video = append(real.Video, list...)
		} else {
			real.Audio = append(real.Audio, list...)
		}
	}
	var err error
	if codec := v.codec(media.Video, real); v.hasVideo && slices.Contains(real.Video, codec) {
		v.video, err = v.add(media.Video, codec, 90000)
	}
	if codec := v.codec(media.Audio, real); err == nil && v.hasSound && slices.Contains(real.Audio, codec) {
		v.sound, err = v.add(media.Audio, codec, 48000)
	}
	switch {
	case err != nil:
		return err
	case v.video == nil && v.sound == nil:
		return errors.New("it wants nothing that the channel has: pictures in H.264, VP8, VP9 or AV1, sound in Opus")
	}
	return nil
}

func kindOf(k webrtc.RTPCodecType) media.Kind {
	if k == webrtc.RTPCodecTypeVideo {
		return media.Video
	}
	return media.Audio
}

// codec is what a viewer of such codecs is sent: that of the rung that fits, or the one in which the origin encodes for it.
func (v *whepViewer) codec(kind media.Kind, real *onward.Real) media.Codec {
	only := &onward.Real{Video: real.Video}
	if kind == media.Audio {
		only = &onward.Real{Audio: real.Audio}
	}
	tap, err := v.s.Channels.Tap(v.channel, onward.Choice{Rung: v.wanted, Real: only, Look: true})
	if err == nil {
		video, sound := tap.Tracks()
		defer tap.Close()
		if kind == media.Video && video != nil {
			return video.Codec
		}
		if kind == media.Audio && sound != nil {
			return sound.Codec
		}
	}
	return coding.RealTime(kind)
}

func (v *whepViewer) add(kind media.Kind, codec media.Codec, clock int64) (*sendPath, error) {
	l := &sendPath{t: &viewerTrack{kind: webrtc.RTPCodecTypeAudio, codec: codec, sequence: uint16(rand.Uint32())}, clock: clock, offset: rand.Uint32()}
	if kind == media.Video {
		l.t.kind, l.t.gather = webrtc.RTPCodecTypeVideo, v.s.port.Gather
	}
	sender, err := v.peer.PC.AddTrack(l.t)
	if err != nil {
		return nil, err
	}
	go v.hear(l, sender)
	return l, nil
}

// hear answers what the viewer says of a track.
func (v *whepViewer) hear(l *sendPath, sender *webrtc.RTPSender) {
	for {
		list, _, err := sender.ReadRTCP()
		if err != nil {
			return
		}
		for _, p := range list {
			switch p := p.(type) {
			case *rtcp.TransportLayerNack:
				missing := 0
				for _, pair := range p.Nacks {
					for _, sequence := range pair.PacketList() {
						if missing++; missing <= maxRepeated {
							l.t.repeat(sequence, time.Now())
						}
					}
				}
			case *rtcp.PictureLossIndication, *rtcp.FullIntraRequest:
				v.mu.Lock()
				v.again = true
				v.mu.Unlock()
				v.poke()
			}
		}
	}
}

// maxRepeated is how many packets one request brings, at most.
//
//limit:packets that are sent again for one request | each viewer | the rest is not sent again
const maxRepeated = 256

func (v *whepViewer) poke() {
	select {
	case v.changed <- struct{}{}:
	default:
	}
}

// Refused implements rtc.Session.
func (v *whepViewer) Refused(err error) {
	v.s.Logger.Debug("the offer of a viewer over WebRTC is not taken", "channel", v.channel, "error", err)
}

// Connected implements rtc.Session.
func (v *whepViewer) Connected() {
	v.s.count(v, true)
	v.begun = time.Now()
	v.s.all.Go(func() {
		_ = safely.Run(v.s.Logger, func() error {
			v.run()
			return nil
		})
		v.peer.End("the session is over")
	})
}

// Ended implements rtc.Session.
func (v *whepViewer) Ended(string) { v.s.count(v, false) }

// run sends until the session is over.
func (v *whepViewer) run() {
	defer v.peer.End("the channel is over")
	for _, l := range []*sendPath{v.video, v.sound} {
		if l == nil {
			continue
		}
		rung := ""
		kind := media.Audio
		if l == v.video {
			rung, kind = v.first(), media.Video
		}
		l.reader = v.s.pool.NewReader(fan.Name{Channel: v.channel, Kind: kind, Rung: rung, Codec: l.t.codec})
		defer l.reader.Close()
		if kind == media.Video {
			v.current(rung)
		}
	}
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		var ready [2]<-chan struct{}
		for i, l := range []*sendPath{v.video, v.sound} {
			if l == nil {
				continue
			}
			var over bool
			if ready[i], over = l.reader.Wait(); over {
				return
			}
		}
		select {
		case <-v.peer.Over():
			return
		case <-ready[0]:
			v.send(v.video)
		case <-ready[1]:
			v.send(v.sound)
		case <-v.changed:
			v.repair()
		case now := <-look.C:
			v.adapt(now)
		}
	}
}

const (
	lookEach = 250 * time.Millisecond
	// rejoinEach is how often a viewer that lost pictures is sent those since the newest keyframe again.
	rejoinEach = 700 * time.Millisecond
	rejoinMost = 6 * time.Second
	rejoinCalm = 15 * time.Second // without one, until they may come as often as at first
	reportEach = time.Second
	// squeezed is how far apart the stamps are of pictures that are sent only so that a newer one can be shown.
	squeezed = 90
	// A burst has a pause behind so many packets, so that it does not overrun what receives it.
	burstPackets = 12
	burstPause   = time.Millisecond
)

// repair begins at the newest keyframe again, now and then.
func (v *whepViewer) repair() {
	v.mu.Lock()
	again := v.again
	v.again = false
	v.mu.Unlock()
	l, now := v.video, time.Now()
	if !again || l == nil {
		return
	}
	if now.Sub(l.rejoin) > rejoinCalm {
		l.pause = rejoinEach
	}
	if now.Sub(l.rejoin) < l.pause {
		return
	}
	// A line that has no room loses more when all is sent again: each further time comes later.
	l.rejoin, l.pause = now, min(2*l.pause, rejoinMost)
	l.reader.Restart()
	v.send(l)
}

// pause is how long a burst of packets waits for the next one, so that what is made up leaves no faster than a few times what the line is
// estimated to take.
func (v *whepViewer) pause() time.Duration {
	const (
		faster = 3
		bits   = burstPackets * 1200 * 8
		most   = 15 * time.Millisecond
	)
	if v.estimator == nil {
		return burstPause
	}
	rate := max(v.estimator.GetTargetBitrate(), 100_000)
	return max(burstPause, min(media.Duration(bits, int64(faster*rate)), most))
}

// send sends what has come of a track.
func (v *whepViewer) send(l *sendPath) {
	for {
		before := l.reader.Stream()
		n, catchUp := l.reader.Read(l.units[:])
		if l.reader.Stream() != before {
			v.current(l.reader.Stream().Rung)
		}
		if n == 0 {
			return
		}
		if catchUp > 1 {
			v.hurry(l, n, catchUp)
			continue
		}
		for i := range l.units[:n] {
			v.put(l, &l.units[i], l.units[i].Time)
			l.units[i] = fan.Unit{}
		}
	}
}

// hurry sends units that are there only so that a newer one can be shown, the first of them at hand: their stamps lie closely
// together before that of the last.
func (v *whepViewer) hurry(l *sendPath, n int, count uint64) {
	all := append([]fan.Unit(nil), l.units[:n]...)
	for uint64(len(all)) < count {
		n, catchUp := l.reader.Read(l.units[:min(len(l.units), int(count)-len(all))])
		if n == 0 || catchUp > 0 {
			break
		}
		all = append(all, l.units[:n]...)
	}
	newest := all[len(all)-1].Time
	step := int64(squeezed)
	if l.last > 0 { // behind what was sent before
		step = max(min(step, (newest-l.last)/int64(len(all))), 1)
	}
	for i := range all {
		v.put(l, &all[i], newest-step*int64(len(all)-1-i))
	}
}

// current notes the rung that is sent.
func (v *whepViewer) current(rung string) {
	v.mu.Lock()
	v.now = rung
	v.mu.Unlock()
}

func (v *whepViewer) put(l *sendPath, u *fan.Unit, pts int64) {
	l.put(u, pts, v.pause)
	if now := time.Now(); now.Sub(l.report) >= reportEach {
		l.report = now
		v.tell(l, pts)
	}
}

// put sends a unit with a time.
func (l *sendPath) put(u *fan.Unit, pts int64, pause func() time.Duration) {
	if l.last > 0 && pts <= l.last {
		pts = l.last + 1
	}
	l.last = pts
	stamp := l.offset + uint32(pts)
	l.t.hold()
	defer l.t.release()
	for i, payload := range u.Pieces {
		if l.burst++; l.burst%burstPackets == 0 && len(u.Pieces) > burstPackets {
			l.t.release()
			time.Sleep(pause())
			l.t.hold()
		}
		l.t.write(stamp, i == len(u.Pieces)-1 && l.t.kind == webrtc.RTPCodecTypeVideo, payload)
	}
}

// tell sends a report of the sender's clock (RFC 3550, 6.4.1), in which video and audio that belong together have one
// time, whenever each of them came.
func (v *whepViewer) tell(l *sendPath, pts int64) {
	ssrc, packets, octets, stamp := l.t.counts()
	v.mu.Lock()
	if v.rungs.zero.IsZero() {
		if v.rungs.zero = v.s.Channels.Epoch(v.channel); v.rungs.zero.IsZero() {
			v.rungs.zero = time.Now().Add(-seconds(pts, l.clock))
		}
	}
	at := v.rungs.zero.Add(seconds(pts, l.clock))
	v.mu.Unlock()
	const since1900 = 2208988800
	ntp := uint64(at.Unix()+since1900)<<32 | uint64(at.Nanosecond())<<32/1_000_000_000
	_ = v.peer.PC.WriteRTCP([]rtcp.Packet{&rtcp.SenderReport{SSRC: ssrc, NTPTime: ntp, RTPTime: stamp, PacketCount: packets, OctetCount: octets}})
}

func seconds(ticks, clock int64) time.Duration {
	return media.Duration(ticks, clock)
}
