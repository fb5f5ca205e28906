package whip

import (
	"sync"
	"sync/atomic"
	"time"

	"github.com/pion/rtp"

	"metaplasis/internal/contribution/rtpmedia"
)

// layers are the sizes in which a sender sends one picture (RFC 8853). One is received at a time: that of which most
// comes, which is the largest. When nothing comes of it any more, since the line of the sender is too narrow, another one
// goes on; one that is larger takes over again once it has been there for a while.
type layers struct {
	mu     sync.Mutex
	begun  time.Time // when the first packet of any came
	chosen uint32    // SSRC, once it is known
	known  bool
	list   map[uint32]*layer
	track  *rtpmedia.Track
	asks   atomic.Uint32 // the same as chosen, for who asks for keyframes
}

// refresh asks for a keyframe of the one that is received.
func (l *layers) refresh(x *session) {
	if ssrc := l.asks.Load(); ssrc != 0 {
		x.refresh(ssrc)
	}
}

// layer is one of them.
type layer struct {
	bytes int64 // that came within the last span, about
	since time.Time
	heard time.Time
}

const (
	// measureLayers is for how long layers are looked at before one is chosen.
	measureLayers = 700 * time.Millisecond
	// layerSilence is how long nothing may come of the one that is received.
	layerSilence = 700 * time.Millisecond
	// layerSteady is how long a larger one must have been there to take over.
	layerSteady = 4 * time.Second
	// layerSpan is over how long what comes is counted.
	layerSpan = time.Second
)

// take takes a packet, and hands it on if it is of the layer that is received. It reports whether another
// one was chosen, which needs a keyframe.
func (l *layers) take(p *rtp.Packet, now time.Time) (other bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.begun.IsZero() {
		l.begun, l.list = now, map[uint32]*layer{}
	}
	own := l.list[p.SSRC]
	if own == nil {
		if len(l.list) >= maxLayers {
			return false
		}
		own = &layer{since: now}
		l.list[p.SSRC] = own
	}
	if now.Sub(own.heard) > layerSilence {
		own.since, own.bytes = now, 0
	}
	// What came long ago counts less and less.
	own.bytes -= own.bytes * int64(min(now.Sub(own.heard), layerSpan)) / int64(layerSpan)
	own.bytes += int64(len(p.Payload))
	own.heard = now
	other = l.choose(now)
	if l.known && p.SSRC == l.chosen {
		l.track.RTP(p, now)
	}
	return other
}

// maxLayers is how many sizes of a picture are looked at.
const maxLayers = 4

// choose reports whether another layer is received from now on.
func (l *layers) choose(now time.Time) bool {
	if !l.known && now.Sub(l.begun) < measureLayers {
		return false
	}
	current := l.list[l.chosen]
	lost := !l.known || now.Sub(current.heard) > layerSilence
	best, most := uint32(0), int64(-1)
	for ssrc, o := range l.list {
		if now.Sub(o.heard) <= layerSilence && o.bytes > most {
			best, most = ssrc, o.bytes
		}
	}
	if most < 0 || l.known && best == l.chosen {
		return false
	}
	if !lost && (now.Sub(l.list[best].since) < layerSteady || most < current.bytes*3/2) {
		return false
	}
	l.chosen, l.known = best, true
	l.asks.Store(best)
	l.track.Switch()
	return true
}
