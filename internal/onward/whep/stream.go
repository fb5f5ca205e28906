package whep

import (
	"context"
	"errors"
	"sync"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/rtpmedia"
)

// name tells the streams of all channels apart.
type name struct {
	channel string
	rung    string // "": the best one that fits
	codec   media.Codec
}

// stream is one track of a channel as payloads of RTP. They are made once, and all viewers send the same bytes.
type stream struct {
	name
	kind    media.Kind
	viewers int // the server's lock guards it
	stop    context.CancelFunc

	mu    sync.RWMutex
	units []packed // the newest; the first has the number first
	first uint64
	key   uint64 // number of the newest unit that a decoder can start at
	keyed bool
	bytes int
	wake  chan struct{} // closed when a unit comes; nil while nobody waits
	ended bool
	rate  rate
}

// packed is an access unit.
type packed struct {
	pts      int64 // ticks of the clock of its payload format
	key      bool
	payloads [][]byte
	size     int
}

// Bounds of what a stream holds: since the newest keyframe, and what slow viewers have not sent.
const (
	maxStreamBytes = 12 << 20
	maxStreamUnits = 1024
)

// run reads a tap until the stream is stopped.
func (s *stream) run(ctx context.Context, channels onward.Channels) {
	defer s.end()
	choice := onward.Choice{Rung: s.rung, Real: &onward.Real{}}
	if s.kind == media.Video {
		choice.Real.Video = []media.Codec{s.codec}
	} else {
		choice.Real.Audio = []media.Codec{s.codec}
	}
	tap, err := channels.Tap(s.channel, choice)
	if err != nil {
		return
	}
	defer tap.Close()
	units := make([]hub.Unit, 32)
	var of *media.Track
	var payloads *rtpmedia.Stream
	for {
		n, _, err := tap.Next(ctx, units)
		if err != nil {
			if errors.Is(err, context.Canceled) || errors.Is(err, onward.ErrOver) {
				return
			}
			continue
		}
		for i := range units[:n] {
			u := &units[i]
			if u.Track != of {
				if payloads, err = rtpmedia.New(*u.Track, 0, time.Time{}); err != nil {
					return
				}
				of = u.Track
			}
			s.push(&packed{pts: media.Rescale(u.PTS, u.Track.Timescale, payloads.Clock), key: u.Random && s.kind == media.Video || s.kind == media.Audio,
				payloads: payloads.Payloads(u.Key, u.Data)}, u.At)
			*u = hub.Unit{}
		}
	}
}

func (s *stream) push(p *packed, at int64) {
	for _, b := range p.payloads {
		p.size += len(b)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rate.add(at, p.size)
	if p.key {
		s.key, s.keyed = s.first+uint64(len(s.units)), true
	}
	s.units = append(s.units, *p)
	s.bytes += p.size
	gone := 0
	for s.bytes > maxStreamBytes || len(s.units)-gone > maxStreamUnits {
		s.bytes -= s.units[gone].size
		s.units[gone] = packed{}
		gone++
	}
	s.units, s.first = s.units[gone:], s.first+uint64(gone)
	if s.key < s.first {
		s.keyed = false
	}
	s.signal()
}

func (s *stream) signal() {
	if s.wake != nil {
		close(s.wake)
		s.wake = nil
	}
}

func (s *stream) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	s.signal()
}

// read returns units from a number on, at most as many as fit. Who is too far behind goes on at the newest keyframe, which
// lost tells.
func (s *stream) read(from uint64, into []packed) (n int, next uint64, lost bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	end := s.first + uint64(len(s.units))
	if from < s.first {
		lost = true
		if from = end; s.keyed {
			from = s.key
		}
	}
	if from < end {
		n = copy(into, s.units[from-s.first:])
	}
	return n, from + uint64(n), lost
}

// newest returns the number of the newest unit that a decoder can start at, and the number behind the newest unit.
func (s *stream) newest() (key, end uint64, ok bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.key, s.first + uint64(len(s.units)), s.keyed
}

// wait returns a channel that is closed when there is something from a number on, or nothing will follow.
func (s *stream) wait(from uint64) (ready <-chan struct{}, over bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if from < s.first+uint64(len(s.units)) || s.ended {
		return closed, s.ended
	}
	if s.wake == nil {
		s.wake = make(chan struct{})
	}
	return s.wake, false
}

var closed = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// bitrate is what the stream has lately, bits a second; 0 while it is not known.
func (s *stream) bitrate() int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.rate.value
}

// rate measures bits a second over some seconds of media.
type rate struct {
	since int64 // ticks of media.VideoTimescale
	bytes int64
	begun bool
	value int64
}

const rateSpan = 2 * media.VideoTimescale

func (r *rate) add(at int64, size int) {
	if !r.begun || at < r.since {
		*r = rate{since: at, begun: true, value: r.value}
	}
	if span := at - r.since; span >= rateSpan {
		r.value = r.bytes * 8 * media.VideoTimescale / span
		r.since, r.bytes = at, 0
	}
	r.bytes += int64(size)
}

// codecs are those that WebRTC can carry to viewers, of a kind.
func codecs(kind media.Kind, offered func(rtp string) bool) (out []media.Codec) {
	for _, c := range coding.OverRTP(kind) {
		if offered(c.RTP) {
			out = append(out, c.ID)
		}
	}
	return out
}
