package fan

import (
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// Steps is how a viewer goes from rung to rung by what its line carries. When a better rung is soon given up again, the
// next try waits twice as long.
type Steps struct {
	Changes int

	since time.Time // it is on this rung
	tried time.Time // a better one was tried
	back  time.Duration
}

const (
	// settle is for how long a line is measured before a lower rung is taken, and how far apart two changes are at least.
	settle      = 3 * time.Second
	longestBack = 2 * time.Minute
)

// Begin notes the first rung, and for how long it is kept at least before a better one is tried.
func (s *Steps) Begin(now time.Time, back time.Duration) { s.since, s.back = now, back }

// Changed notes that another rung is taken.
func (s *Steps) Changed(now time.Time) {
	s.since = now
	s.Changes++
}

// Settled reports whether the line was measured for long enough on this rung.
func (s *Steps) Settled(now time.Time) bool { return now.Sub(s.since) >= settle }

// Sink notes that the rung was too much.
func (s *Steps) Sink(now time.Time) {
	if now.Sub(s.tried) < 2*s.back {
		s.back = min(2*s.back, longestBack)
	}
}

// MayClimb reports whether it is time to try a better rung.
func (s *Steps) MayClimb(now time.Time) bool { return now.Sub(s.since) > s.back }

// Climb notes that a better rung is tried.
func (s *Steps) Climb(now time.Time) { s.tried = now }

// About is what viewers are told of a channel.
type About struct {
	Offers []onward.Offer // what can be had in real time, the best first
	Epoch  time.Time      // wall clock at media time 0, zero while nobody knows

	at time.Time
}

const (
	aboutFor = 250 * time.Millisecond
	//limit:rungs whose rate is remembered | each receiver | all are measured again
	maxAbout = 256
)

// About returns what was known of a channel within the last quarter of a second: it is asked for by every viewer, and the
// channel's media waits while it is found. codec is that of the pictures that a viewer in real time takes, "" for all rungs.
func (p *Pool) About(channel string, codec media.Codec) About {
	key := Name{Channel: channel, Kind: media.Video, Codec: codec}
	now := time.Now()
	p.mu.Lock()
	a, known := p.about[key]
	p.mu.Unlock()
	if known && now.Sub(a.at) < aboutFor {
		return a
	}
	a = About{Offers: p.Channels.Offers(channel, key.choice().Real), Epoch: p.Channels.Epoch(channel), at: now}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.about == nil || len(p.about) >= maxAbout {
		p.about = map[Name]About{}
	}
	p.about[key] = a
	return a
}
