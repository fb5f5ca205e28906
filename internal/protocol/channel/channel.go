// Package channel feeds a channel from another one: from its source as it came, or from one of its rungs.
package channel

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/onward"
)

// Scheme stands before the name of a channel in the address of such a source.
const Scheme = "channel"

// silence is for how long nothing may come of the other channel until other inputs may take its place.
const silence = 2 * time.Second

// idle is for how long the feed stays while nothing is on air there.
const idle = 4 * time.Second

// Receiver receives such sources. It implements source.Protocol.
type Receiver struct{ Channels onward.Channels }

// Receive implements source.Protocol.
func (r *Receiver) Receive(ctx context.Context, l *source.Line) error {
	known, _, _ := r.Channels.Runs(l.From)
	if !known {
		return fmt.Errorf("there is no channel %q", l.From)
	}
	tap, err := r.Channels.Tap(l.From, onward.Choice{Rung: l.Programme})
	if err != nil {
		return err
	}
	defer tap.Close()
	l.Problem("nothing is on air on " + l.From)
	var units [32]hub.Unit
	n, _, err := tap.Next(ctx, units[:])
	if err != nil {
		return err
	}
	feed, err := l.Open("channel", l.From, silence)
	if err != nil {
		return err
	}
	x := &sink{Feed: feed, failed: make(chan error, 1)}
	over := make(chan struct{})
	defer close(over)
	go func() {
		select {
		case why := <-feed.Kicked():
			x.failed <- errors.New(why)
		case <-over:
		}
	}()
	c := onward.Carrier{To: x, Idle: idle}
	err = c.Run(ctx, tap, units[:n])
	feed.End(err.Error())
	return err
}

// sink makes an onward.Sender of a feed.
type sink struct {
	contribution.Feed
	failed chan error
}

// Cue implements onward.Sender.
func (*sink) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (*sink) Flush() error { return nil }

// Failed implements onward.Sender.
func (x *sink) Failed() <-chan error { return x.failed }

// Close implements onward.Sender.
func (*sink) Close() error { return nil }
