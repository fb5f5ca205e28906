// Package source keeps the inputs up that the service fetches or receives by itself: each is tried again with growing
// pauses for as long as its channel has it, and wants it.
package source

import (
	"metaplasis/internal/retry"

	"metaplasis/internal/safely"

	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"sync"
	"time"

	"metaplasis/internal/contribution"
)

// Source is an input of a channel that the service opens by itself.
type Source struct {
	Channel   string // that it feeds
	Address   string // "" of a programme of another channel
	From      string // that other channel
	Programme string // of a transport stream, by number or name; "" for the first
	Secret    string
	OnDemand  bool
	// The address and the secret as the settings hold them: what is shown, and what is not.
	Shown, Sealed string
}

// Channels is what is known of channels here.
type Channels interface {
	// Sources lists those of all channels that are wanted now.
	Sources() []Source
	// Open puts a source on air, or lets it stand by. silence is for how long nothing may come of it until others
	// may take its place.
	Open(s Source, protocol, remote string, silence time.Duration) (contribution.Feed, error)
	// Problem says what keeps a source from feeding its channel, "" when nothing does.
	Problem(s Source, text string)
	// Lets reports whether somebody at an address and port, who comes by himself, may feed a channel.
	Lets(channel, remote string) bool
}

// Line is how a protocol reaches the channel.
type Line struct {
	Source
	URL     *url.URL
	Open    func(protocol, remote string, silence time.Duration) (contribution.Feed, error)
	Problem func(text string)
	// Lets reports whether somebody at an address and port may feed the channel, where anybody may come.
	Lets func(remote string) bool
}

// Protocol receives a source until the context or the line ends, and says why.
type Protocol interface {
	Receive(ctx context.Context, l *Line) error
}

// Runner keeps all sources up.
type Runner struct {
	Channels  Channels
	Protocols map[string]Protocol // by the scheme of the address; "" is that of programmes
	Logger    *slog.Logger

	all sync.WaitGroup
}

// Pauses between attempts, and after what time a line counts as one that was up.
const (
	lookEach   = 200 * time.Millisecond
	firstPause = time.Second
	//limit:pause before the next try | each source | it does not grow further
	maxPause = 30 * time.Second
	steady   = 20 * time.Second
)

// Run keeps the sources up until the context ends.
func (r *Runner) Run(ctx context.Context) {
	defer r.all.Wait()
	running := map[Source]context.CancelFunc{}
	ended := map[Source]chan struct{}{} // those that were cancelled and are not gone yet
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		wanted := map[Source]bool{}
		for _, s := range r.Channels.Sources() {
			wanted[s] = true
			if running[s] != nil {
				continue
			}
			if gone := ended[s]; gone != nil {
				select {
				case <-gone:
				default:
					continue
				}
			}
			own, cancel := context.WithCancel(ctx)
			done := make(chan struct{})
			running[s], ended[s] = cancel, done
			r.all.Add(1)
			go func() {
				defer r.all.Done()
				defer close(done)
				r.maintain(own, s)
			}()
		}
		for s, cancel := range running {
			if !wanted[s] {
				cancel()
				delete(running, s)
			}
		}
		for s, gone := range ended {
			select {
			case <-gone:
				if running[s] == nil {
					delete(ended, s)
				}
			default:
			}
		}
		select {
		case <-ctx.Done():
			for _, cancel := range running {
				cancel()
			}
			return
		case <-look.C:
		}
	}
}

// maintain tries one source again and again.
func (r *Runner) maintain(ctx context.Context, s Source) {
	defer r.Channels.Problem(s, "")
	pause := retry.New(firstPause, maxPause)
	for {
		begun := time.Now()
		err := safely.Run(r.Logger, func() error { return r.try(ctx, s) })
		if ctx.Err() != nil {
			return
		}
		if time.Since(begun) > steady {
			pause.Reset()
		}
		var refused *Refused
		if errors.As(err, &refused) && time.Since(begun) < steady {
			r.Channels.Problem(s, fmt.Sprintf("%v; it is not tried again, so that nobody is locked out: correct the user name and password of the input", err))
			<-ctx.Done()
			return
		}
		if err != nil {
			r.Channels.Problem(s, fmt.Sprintf("%v; it is tried again in %v", err, pause.Next()))
		}
		if !pause.Wait(ctx) {
			return
		}
	}
}

// Refused is an error of a source that does not let us in. It is not tried again by itself: devices lock who tries on.
type Refused struct{ Err error }

func (e *Refused) Error() string { return e.Err.Error() }

// Unwrap returns why.
func (e *Refused) Unwrap() error { return e.Err }

// errUnknown says that nothing here receives such an address.
var errUnknown = errors.New("nothing here receives such an address")

func (r *Runner) try(ctx context.Context, s Source) error {
	u, err := url.Parse(s.Address)
	if err != nil {
		return err
	}
	p := r.Protocols[u.Scheme]
	if p == nil {
		return fmt.Errorf("%w: %s", errUnknown, u.Scheme)
	}
	return p.Receive(ctx, &Line{Source: s, URL: u,
		Open: func(protocol, remote string, silence time.Duration) (contribution.Feed, error) {
			feed, err := r.Channels.Open(s, protocol, remote, silence)
			if err == nil {
				r.Channels.Problem(s, "")
			}
			return feed, err
		},
		Problem: func(text string) { r.Channels.Problem(s, text) },
		Lets:    func(remote string) bool { return r.Channels.Lets(s.Channel, remote) }})
}
