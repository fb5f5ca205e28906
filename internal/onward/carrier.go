package onward

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
)

// ErrIdle ends what is carried while nothing is on air; ErrChanged when its tracks have become others.
var (
	ErrIdle    = errors.New("nothing is on air")
	ErrChanged = errors.New("the tracks have become others")
)

// Carrier carries what a tap reads over a sender. Who is slow falls to the next keyframe.
type Carrier struct {
	To    Sender
	Fixed bool          // its tracks cannot become others
	Idle  time.Duration // that nothing may come before it ends; 0: forever
	Begun time.Time     // when the line's clock was at its beginning, of several that share one; zero: with the first unit
	// Sent is told of each unit: its bytes, and how many before it were left out since the far end is slow.
	Sent func(bytes int, lost int64)

	tracks map[media.TrackID]*media.Track
	begun  time.Time
	zero   int64 // media time that is 0 on the line, ticks of media.VideoTimescale
	set    bool
	lead   time.Duration // between wall clock and media, the least that was seen
	wait   bool          // for a keyframe: it is late
	lost   int64
	sent   bool
	lag    atomic.Int64 // nanoseconds by which the newest unit was later than the most punctual one
}

// Lag is by how much what is sent is later than it could be.
func (c *Carrier) Lag() time.Duration { return time.Duration(c.lag.Load()) }

const (
	// HeadStart is where the line's clock begins, so that sound that came early does not lie before 0.
	HeadStart = media.VideoTimescale
	// maxBehind is how late a line may be before it falls to the next keyframe.
	//limit:how late units may be | each relay or receiver | it goes on at the next keyframe, and what is left out is counted
	maxBehind = 4 * time.Second
)

// Run carries the units at hand and all that follow, until the context, the tap or the far end ends it.
func (c *Carrier) Run(ctx context.Context, tap Tap, units []hub.Unit) error {
	c.tracks, c.begun = map[media.TrackID]*media.Track{}, time.Now()
	if c.Sent == nil {
		c.Sent = func(int, int64) {}
	}
	own, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() {
		select {
		case err := <-c.To.Failed():
			cancel(err)
		case <-own.Done():
		}
	}()
	var buf [32]hub.Unit
	n := copy(buf[:], units)
	for {
		if err := c.send(tap, buf[:n]); err != nil {
			return err
		}
		clear(buf[:n])
		wait, stop := own, func() {}
		if c.Idle > 0 {
			wait, stop = context.WithTimeout(own, c.Idle)
		}
		var lost hub.Loss
		var err error
		n, lost, err = tap.Next(wait, buf[:])
		stop()
		c.lost += lost.Units
		switch {
		case err == nil:
		case ctx.Err() != nil:
			return ctx.Err()
		case own.Err() != nil:
			return context.Cause(own)
		case errors.Is(err, context.DeadlineExceeded):
			return ErrIdle
		default:
			return err
		}
	}
}

func (c *Carrier) send(tap Tap, units []hub.Unit) error {
	video, sound := tap.Tracks()
	for i := range units {
		u := &units[i]
		if !c.set {
			c.zero, c.set = u.At-HeadStart, true
			if !c.Begun.IsZero() {
				c.zero -= media.Ticks(c.begun.Sub(c.Begun)+time.Since(c.begun), media.VideoTimescale)
			}
			c.lead = c.behind(u)
			for _, t := range []*media.Track{video, sound} {
				if t == nil {
					continue
				}
				if err := c.announce(t); err != nil {
					return err
				}
			}
		}
		if err := c.announce(u.Track); err != nil {
			return err
		}
		if c.late(u, video != nil) {
			c.lost++
			continue
		}
		at := u.DTS - media.Rescale(c.zero, media.VideoTimescale, u.Track.Timescale)
		if at < 0 { // sound from long before the picture that the line begins with
			continue
		}
		c.To.Unit(u.Track.ID, at, u.PTS-u.DTS, u.Key, u.Data)
		if err := c.To.Flush(); err != nil {
			return err
		}
		c.sent = true
		c.Sent(len(u.Data), c.lost)
		c.lost = 0
	}
	return nil
}

// announce tells the far end of a track, or of what has become of one.
func (c *Carrier) announce(t *media.Track) error {
	before := c.tracks[t.ID]
	if before == t {
		return nil
	}
	if c.Fixed && (before == nil && c.sent || before != nil && !before.SamePicture(t)) {
		return ErrChanged
	}
	c.tracks[t.ID] = t
	out := *t
	out.Clock = media.Clock{Scale: t.Timescale}
	c.To.Track(out)
	if t.Kind == media.Video {
		c.To.FrameRate(t.FrameRate.Milli())
	}
	return nil
}

// behind is how much later the wall clock is than the media.
func (c *Carrier) behind(u *hub.Unit) time.Duration {
	return time.Since(c.begun) - media.Duration(u.At-c.zero, media.VideoTimescale)
}

// late reports whether a unit is left out, since the far end is slow.
func (c *Carrier) late(u *hub.Unit, video bool) bool {
	now := c.behind(u)
	c.lead = min(c.lead, now)
	c.lag.Store(int64(now - c.lead))
	random := u.Random && (u.Track.Kind == media.Video || !video)
	if c.wait {
		c.wait = !random || now-c.lead > maxBehind/2
	} else if now-c.lead > maxBehind {
		c.wait = true
	}
	return c.wait
}
