package relay

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"sync"
	"time"

	"metaplasis/internal/address"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/onward"
	"metaplasis/internal/settings"
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
	if scheme.Copy != nil {
		x.set(Connecting, "calling "+Shown(x.p.Address))
		return scheme.Copy(ctx, &x.p, func() {
			x.set(Sending, "writing to "+Shown(x.p.Address))
			up()
		}, x.sent, func(text string) { x.set(Sending, text) })
	}
	if x.p.Whole {
		return x.whole(ctx, u, scheme, up)
	}
	choice := onward.Choice{Rung: x.p.Rung, Sound: x.p.Sound, Real: scheme.Real}
	if err := x.wait(ctx, choice); err != nil {
		return err
	}
	x.set(Connecting, "calling "+Shown(x.p.Address))
	line, err := scheme.Dial(ctx, u, &x.p)
	if err != nil {
		return err
	}
	choice.Coming = true // the line gets what comes, not what has been
	tap, err := x.r.Channels.Tap(x.p.Channel, choice)
	if err != nil {
		return errors.Join(err, line.Close())
	}
	defer tap.Close()
	x.set(Connecting, "waiting for the next keyframe, for "+Shown(x.p.Address))
	defer func() { _ = line.Close() }()
	begun := time.Now()
	stop, err := x.others(ctx, line, begun)
	if err != nil {
		return err
	}
	defer stop()
	first := true
	c := onward.Carrier{Begun: begun, To: line.Sender, Fixed: line.Fixed, Idle: idle, Sent: func(bytes int, lost int64) {
		if first {
			first = false
			x.set(Sending, "sending to "+Shown(x.p.Address))
			up()
		}
		x.sent(bytes, lost)
	}}
	x.watch(c.Lag)
	defer x.watch(nil)
	return c.Run(ctx, tap, nil)
}

// watch says how late what is sent is; nil: nothing is sent.
func (x *relay) watch(lag func() time.Duration) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.lag, x.moved = lag, time.Now()
}

// others carries further programmes of the transport stream, until the function that it returns is called. Each comes and
// goes as its channel does.
func (x *relay) others(ctx context.Context, line Line, begun time.Time) (stop func(), err error) {
	if x.p.Programmes == "" {
		return func() {}, nil
	}
	var list []settings.CarriedProgramme
	if err := json.Unmarshal([]byte(x.p.Programmes), &list); err != nil {
		return nil, err
	}
	if line.Programme == nil {
		return nil, errors.New("several programmes go over udp, rtp and srt alone")
	}
	own, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	for _, p := range list {
		to := apart{line.Programme(p.Number, cmp.Or(p.Name, p.Channel))}
		all.Go(func() {
			for own.Err() == nil {
				tap, err := x.r.Channels.Tap(p.Channel, onward.Choice{Rung: p.Rung, Coming: true})
				if err == nil {
					c := onward.Carrier{To: to, Begun: begun, Sent: x.sent}
					err = c.Run(own, tap, nil)
					tap.Close()
				}
				if own.Err() == nil {
					x.r.Logger.Info("a programme of a relay waits", "channel", p.Channel, "relay", x.p.Name, "error", err)
				}
				select {
				case <-own.Done():
				case <-time.After(firstPause):
				}
			}
		})
	}
	return func() { cancel(); all.Wait() }, nil
}

// apart is a programme that leaves it to the first one to hear the far end.
type apart struct{ onward.Sender }

// Failed implements onward.Sender.
func (apart) Failed() <-chan error { return nil }

// wait waits until there is something to send.
func (x *relay) wait(ctx context.Context, choice onward.Choice) error {
	tap, err := x.r.Channels.Tap(x.p.Channel, choice)
	if err != nil {
		return err
	}
	defer tap.Close()
	if _, video, sound := x.r.Channels.Runs(x.p.Channel); !video && !sound {
		x.set(Waiting, "nothing is on air")
	}
	var units [1]hub.Unit
	_, _, err = tap.Next(ctx, units[:])
	return err
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
	if s, known := address.Find(u.Scheme); known && s.OneWay {
		return "Packets leave for " + Shown(p.Address) + ". Whether somebody receives them cannot be told.", nil
	}
	return "The far end accepts the stream.", nil
}
