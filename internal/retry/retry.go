// Package retry is the pause between attempts: it doubles with each one that fails, up to a bound, and starts over once an
// attempt succeeds. A Pause belongs to one goroutine.
package retry

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Pause is the pause between attempts.
type Pause struct {
	b    *backoff.ExponentialBackOff
	next time.Duration
}

// New returns a pause that is first after the first failure, and most at most.
func New(first, most time.Duration) *Pause {
	p := &Pause{b: &backoff.ExponentialBackOff{InitialInterval: first, MaxInterval: most, Multiplier: 2}}
	p.Reset()
	return p
}

// Reset starts over, after an attempt that succeeded.
func (p *Pause) Reset() {
	p.b.Reset()
	p.next = p.b.NextBackOff()
}

// Next is how long the next wait is going to be, for messages.
func (p *Pause) Next() time.Duration { return p.next }

// Take returns how long to wait now, and doubles the next wait.
func (p *Pause) Take() time.Duration {
	d := p.next
	p.next = p.b.NextBackOff()
	return d
}

// Wait waits until the next attempt is due. It returns false when the context ends before that.
func (p *Pause) Wait(ctx context.Context) bool { return p.Until(ctx.Done()) }

// Until waits until the next attempt is due. It returns false when stop is closed before that.
func (p *Pause) Until(stop <-chan struct{}) bool {
	timer := time.NewTimer(p.Take())
	defer timer.Stop()
	select {
	case <-stop:
		return false
	case <-timer.C:
		return true
	}
}
