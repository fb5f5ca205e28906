package relay

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// attempt opens the way once there is something to send, and sends until one of them ends. up is called when the far end
// takes what is sent.
func (x *relay) attempt(ctx context.Context, up func()) error {
	u, err := url.Parse(x.p.Full)
	if err != nil {
		return err
	}
	scheme, known := x.r.Schemes[u.Scheme]
	if !known {
		return fmt.Errorf("nothing here sends to such an address: %s", u.Scheme)
	}
	if x.p.Whole {
		return x.whole(ctx, u, scheme, up)
	}
	tap, err := x.r.Channels.Tap(x.p.Channel, onward.Choice{Rung: x.p.Rung, Sound: x.p.Sound, Real: scheme.Real, Coming: true})
	if err != nil {
		return err
	}
	defer tap.Close()
	var units [32]hub.Unit
	x.set(Waiting, "nothing is on air")
	n, _, err := tap.Next(ctx, units[:])
	if err != nil {
		return err
	}
	x.set(Connecting, "calling "+Shown(x.p.Address))
	line, err := scheme.Dial(ctx, u, &x.p)
	if err != nil {
		return err
	}
	c := &carrier{x: x, line: line, tracks: map[media.TrackID]*media.Track{}, up: up, begun: time.Now()}
	defer func() { _ = line.Close() }()
	// What had come while the far end was called is late already: the way begins with the next keyframe.
	for {
		if err := c.send(tap, units[:n]); err != nil {
			return err
		}
		clear(units[:n])
		wait, cancel := context.WithTimeout(ctx, idle)
		var lost hub.Loss
		n, lost, err = next(wait, tap, units[:], line.Failed())
		cancel()
		c.lost += lost.Units
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, context.DeadlineExceeded):
			return errIdle
		case err != nil:
			return err
		}
	}
}

// next waits for units, or for the far end to end the way.
func next(ctx context.Context, tap onward.Tap, into []hub.Unit, failed <-chan error) (int, hub.Loss, error) {
	own, cancel := context.WithCancel(ctx)
	defer cancel()
	var far error
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		select {
		case far = <-failed:
			cancel()
		case <-own.Done():
		}
	}()
	n, lost, err := tap.Next(own, into)
	cancel()
	<-heard
	if far != nil {
		return 0, lost, far
	}
	return n, lost, err
}

// carrier sends units over a line.
type carrier struct {
	x      *relay
	line   Line
	tracks map[media.TrackID]*media.Track
	up     func()
	begun  time.Time
	zero   int64 // media time that is 0 on the line, ticks of media.VideoTimescale
	set    bool
	lead   time.Duration // between wall clock and media, the least that was seen
	wait   bool          // for a keyframe: it is late
	lost   int64
	up1    bool
}

// headStart is where the line's clock begins, so that sound that came early does not lie before 0.
const headStart = media.VideoTimescale

func (c *carrier) send(tap onward.Tap, units []hub.Unit) error {
	video, _ := tap.Tracks()
	for i := range units {
		u := &units[i]
		if err := c.announce(u.Track); err != nil {
			return err
		}
		if !c.set {
			c.zero, c.set = u.At-headStart, true
			c.lead = c.behind(u)
			for _, t := range tracksOf(tap) {
				if err := c.announce(t); err != nil {
					return err
				}
			}
		}
		if c.late(u, video != nil) {
			c.lost++
			continue
		}
		clock := u.Track.Timescale
		c.line.Unit(u.Track.ID, u.DTS-media.Rescale(c.zero, media.VideoTimescale, clock), u.PTS-u.DTS, u.Key, u.Data)
		if err := c.line.Flush(); err != nil {
			return err
		}
		if !c.up1 {
			c.up1 = true
			c.x.set(Sending, "sending to "+Shown(c.x.p.Address))
			c.up()
		}
		c.x.sent(len(u.Data), c.lost)
		c.lost = 0
	}
	return nil
}

func tracksOf(tap onward.Tap) (out []*media.Track) {
	video, sound := tap.Tracks()
	for _, t := range []*media.Track{video, sound} {
		if t != nil {
			out = append(out, t)
		}
	}
	return out
}

// announce tells the far end of a track, or of what has become of one.
func (c *carrier) announce(t *media.Track) error {
	before := c.tracks[t.ID]
	if before == t {
		return nil
	}
	if c.line.Fixed && (before == nil && c.up1 || before != nil && !before.SamePicture(t)) {
		return errChanged
	}
	c.tracks[t.ID] = t
	out := *t
	out.Clock = media.Clock{Scale: t.Timescale}
	c.line.Track(out)
	if t.Kind == media.Video {
		c.line.FrameRate(t.FrameRate.Milli())
	}
	return nil
}

// behind is how much later the wall clock is than the media.
func (c *carrier) behind(u *hub.Unit) time.Duration {
	return time.Since(c.begun) - time.Duration(u.At-c.zero)*time.Second/media.VideoTimescale
}

// late reports whether a unit is left out, since the far end is slow.
func (c *carrier) late(u *hub.Unit, video bool) bool {
	now := c.behind(u)
	c.lead = min(c.lead, now)
	random := u.Random && (u.Track.Kind == media.Video || !video)
	if c.wait {
		c.wait = !random || now-c.lead > maxBehind/2
	} else if now-c.lead > maxBehind {
		c.wait = true
	}
	return c.wait
}

// whole hands the sender's transport stream on as it came.
func (x *relay) whole(ctx context.Context, u *url.URL, scheme Scheme, up func()) error {
	x.set(Connecting, "calling "+Shown(x.p.Address))
	line, err := scheme.Dial(ctx, u, &x.p)
	if err != nil {
		return err
	}
	defer func() { _ = line.Close() }()
	raw, ok := line.Sender.(interface{ Raw(b []byte) error })
	if !ok {
		return fmt.Errorf("a whole transport stream goes over udp, rtp and srt alone, not over %s", u.Scheme)
	}
	own, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() {
		select {
		case err := <-line.Failed():
			cancel(err)
		case <-own.Done():
		}
	}()
	x.set(Waiting, "no transport stream comes")
	first := true
	err = x.r.Whole(own, x.p.Channel, func(b []byte) error {
		if first {
			first = false
			x.set(Sending, "sending the whole stream to "+Shown(x.p.Address))
			up()
		}
		if err := raw.Raw(b); err != nil {
			cancel(err)
			return err
		}
		x.sent(len(b), 0)
		return nil
	})
	if cause := context.Cause(own); cause != nil && ctx.Err() == nil {
		return cause
	}
	return err
}

// Test tries a relay for a moment: it reports in words what the far end says.
func (r *Runner) Test(ctx context.Context, p Plan) (string, error) {
	const patience = 12 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	x := &relay{r: r, p: p}
	u, err := url.Parse(p.Full)
	if err != nil {
		return "", err
	}
	began := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- x.attempt(ctx, func() { began <- struct{}{} })
	}()
	select {
	case err := <-ended:
		if err == nil || errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("nothing was sent within %v: %s", patience, x.status().Text)
		}
		return "", err
	case <-began:
	}
	select { // what is refused is refused soon
	case err := <-ended:
		return "", err
	case <-time.After(1500 * time.Millisecond):
	}
	cancel()
	<-ended
	if u.Scheme == "udp" || u.Scheme == "rtp" {
		return "Packets leave for " + Shown(p.Address) + ". Whether somebody receives them cannot be told.", nil
	}
	return "The far end takes the stream.", nil
}
