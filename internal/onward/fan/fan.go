// Package fan makes what many viewers of a channel are sent once: the units of a rung, packed as their protocol has it. Each
// viewer reads them at its own pace; who is too far behind goes on at the newest keyframe.
package fan

import (
	"context"
	"errors"
	"sync"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// Packer packs the units of a track. Another track, or another configuration of it, has another Packer.
type Packer struct {
	Clock int64                      // ticks a second of the times of what it packs
	Head  []byte                     // what a decoder needs before the units
	Unit  func(u *hub.Unit) [][]byte // as it is sent, in one piece or several
}

// Pool holds the streams of all channels.
type Pool struct {
	Channels onward.Channels
	Pack     func(t *media.Track) (*Packer, error)

	mu      sync.Mutex
	streams map[Name]*Stream
	about   map[Name]About
	all     sync.WaitGroup
}

// Name tells streams apart.
type Name struct {
	Channel string
	Kind    media.Kind
	Rung    string      // "": the best one that fits, or the source as it came
	Sound   string      // a rendition of sound; "": that of the rung
	Codec   media.Codec // that a viewer in real time takes; "" of others
}

// choice is what is tapped for it.
func (n *Name) choice() onward.Choice {
	c := onward.Choice{Rung: n.Rung, Sound: n.Sound, Only: n.Kind}
	if n.Codec != "" {
		c.Real = &onward.Real{}
		if n.Kind == media.Video {
			c.Real.Video = []media.Codec{n.Codec}
		} else {
			c.Real.Audio = []media.Codec{n.Codec}
		}
	}
	return c
}

// Join returns a stream, which goes on until all that joined it have left.
func (p *Pool) Join(n Name) *Stream {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.streams == nil {
		p.streams = map[Name]*Stream{}
	}
	s := p.streams[n]
	if s == nil {
		ctx, stop := context.WithCancel(context.Background())
		s = &Stream{Name: n, stop: stop}
		p.streams[n] = s
		p.all.Go(func() { s.run(ctx, p) })
	}
	s.viewers++
	return s
}

// Leave leaves a stream; nil is none.
func (p *Pool) Leave(s *Stream) {
	if s == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if s.viewers--; s.viewers == 0 {
		s.stop()
		if p.streams[s.Name] == s {
			delete(p.streams, s.Name)
		}
	}
}

// Wait waits until all streams are over.
func (p *Pool) Wait() { p.all.Wait() }

// Stream is one track of a channel. Its methods may be called from any goroutine.
type Stream struct {
	Name
	viewers int // the pool's lock guards it
	stop    context.CancelFunc

	mu    sync.RWMutex
	units []Unit // the newest; the first has the number first
	first uint64
	key   uint64 // number of the newest unit that a decoder can start at
	keyed bool
	bytes int
	wake  chan struct{} // closed when a unit comes; nil while nobody waits
	later chan struct{} // the same for who waits for several
	ended bool
	rate  rate
}

// Unit is a packed access unit.
type Unit struct {
	Time   int64 // of presentation, ticks of the packer's clock
	Key    bool
	Pieces [][]byte
	Size   int
	Track  *media.Track
	Packer *Packer
}

// Bounds of what a stream holds: since the newest keyframe, and what slow viewers have not sent.
const (
	//limit:bytes that are held for all receivers | each stream | the oldest are dropped; who still wanted them goes on at a keyframe
	maxStreamBytes = 12 << 20
	//limit:units that are held for all receivers | each stream | the oldest are dropped; who still wanted them goes on at a keyframe
	maxStreamUnits = 1024
)

// run reads a tap until the stream is stopped.
func (s *Stream) run(ctx context.Context, p *Pool) {
	defer s.end()
	tap, err := p.Channels.Tap(s.Channel, s.choice())
	if err != nil {
		return
	}
	defer tap.Close()
	units := make([]hub.Unit, 32)
	var of *media.Track
	var packer *Packer
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
				if packer, err = p.Pack(u.Track); err != nil {
					return
				}
				of = u.Track
			}
			s.push(&Unit{Time: media.Rescale(u.PTS, u.Track.Timescale, packer.Clock), Key: u.Random || s.Kind == media.Audio,
				Pieces: packer.Unit(u), Track: of, Packer: packer}, u.At)
			*u = hub.Unit{}
		}
	}
}

func (s *Stream) push(p *Unit, at int64) {
	for _, b := range p.Pieces {
		p.Size += len(b)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rate.add(at, p.Size)
	if p.Key {
		s.key, s.keyed = s.first+uint64(len(s.units)), true
	}
	s.units = append(s.units, *p)
	s.bytes += p.Size
	gone := 0
	for s.bytes > maxStreamBytes || len(s.units)-gone > maxStreamUnits {
		s.bytes -= s.units[gone].Size
		s.units[gone] = Unit{}
		gone++
	}
	s.units, s.first = s.units[gone:], s.first+uint64(gone)
	if s.key < s.first {
		s.keyed = false
	}
	s.signal((s.first+uint64(len(s.units)))%several == 0)
}

// several is how many units come before who waits for several is woken, at least now and then.
const several = 5

// signal wakes who waits, and who waits for several units if they have come.
func (s *Stream) signal(enough bool) {
	if s.wake != nil {
		close(s.wake)
		s.wake = nil
	}
	if enough && s.later != nil {
		close(s.later)
		s.later = nil
	}
}

func (s *Stream) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	s.signal(true)
}

// Read returns units from a number on, at most as many as fit. Who is too far behind goes on at the newest keyframe, which
// lost tells.
func (s *Stream) Read(from uint64, into []Unit) (n int, next uint64, lost bool) {
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

// Behind is how much is waiting from a number on, ticks of media.VideoTimescale.
func (s *Stream) Behind(from uint64) int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	n := len(s.units)
	if n == 0 || from >= s.first+uint64(n) {
		return 0
	}
	oldest, newest := &s.units[0], &s.units[n-1]
	if from > s.first {
		oldest = &s.units[from-s.first]
	}
	return media.Rescale(max(newest.Time-oldest.Time, 0), newest.Packer.Clock, media.VideoTimescale)
}

// Newest returns the number of the newest unit that a decoder can start at, and the number behind the newest unit.
func (s *Stream) Newest() (key, end uint64, ok bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.key, s.first + uint64(len(s.units)), s.keyed
}

// Wait returns a channel that is closed when there is something from a number on, or nothing will follow.
func (s *Stream) Wait(from uint64) (ready <-chan struct{}, over bool) {
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

// Later is like Wait for who takes the units when something else comes, and is woken by them alone only when that does not
// happen: now and then, when there may be several.
func (s *Stream) Later(from uint64) (ready <-chan struct{}, over bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if from+several <= s.first+uint64(len(s.units)) || s.ended {
		return closed, s.ended
	}
	if s.later == nil {
		s.later = make(chan struct{})
	}
	return s.later, false
}

var closed = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// Bitrate is what the stream has lately, bits per second; 0 while it is not known.
func (s *Stream) Bitrate() int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.rate.value
}

// rate measures bits per second over some seconds of media.
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
		r.value = media.PerSecond(r.bytes*8, span, media.VideoTimescale)
		r.since, r.bytes = at, 0
	}
	r.bytes += int64(size)
}
