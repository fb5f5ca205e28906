// Package origin runs the channels: it takes feeds, sets their times right, decides where
// segments begin, keeps each channel's worker alive, and publishes windows that delivery serves.
// Media flows one way: from a Feed through a session to the renditions.
package origin

import (
	"errors"
	"fmt"
	"log/slog"
	"os/exec"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/air"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
)

// Options of an origin.
type Options struct {
	Keeper  Keeper
	Gate    Gate
	Archive publish.Archive  // keeps what was on air; nil: nobody
	Worker  func() *exec.Cmd // makes the command line of a worker process
	Logger  *slog.Logger
	Now     func() time.Time // the wall clock; nil is time.Now
	// Monotonic returns how long the origin has run at a time that Now returned, whatever the wall clock was set to
	// since; nil is the monotonic reading of that time.
	Monotonic func(time.Time) time.Duration
	// Burst is how far a feed's media may run ahead of the wall clock; 0 is DefaultBurst, less than 0
	// without a limit, for measurements.
	Burst time.Duration
}

// Origin holds the channels.
type Origin struct {
	Options
	Images   Images // that channels may lay upon their pictures
	mu       sync.Mutex
	channels atomic.Pointer[map[string]*Channel] // replaced whole, so that delivery reads without a lock
	idle     atomic.Int64                        // thousandths of the machine that nobody uses, less than 0 when not known
	stop     chan struct{}
	stopped  sync.WaitGroup
}

// Errors that callers tell apart.
var (
	ErrUnknownChannel = air.ErrRemoved
	ErrExists         = errors.New("the channel exists already")
	ErrBadKey         = errors.New("the key does not open this channel")
	ErrUnchecked      = errors.New("the key cannot be checked now")
	ErrManyKeys       = errors.New("too many unknown keys come at a time")
	ErrTaken          = air.ErrTaken
	ErrNoInput        = air.ErrNoInput
	ErrNotAllowed     = errors.New("the sender's address is not let in")
	errEnded          = air.ErrClosed
)

// New makes an origin without channels.
func New(o Options) *Origin {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Burst == 0 {
		o.Burst = DefaultBurst
	}
	if o.Logger == nil {
		o.Logger = slog.New(slog.DiscardHandler)
	}
	if o.Monotonic == nil {
		begun := o.Now()
		o.Monotonic = func(at time.Time) time.Duration { return at.Sub(begun) }
	}
	or := &Origin{Options: o, stop: make(chan struct{})}
	or.channels.Store(&map[string]*Channel{})
	or.stopped.Add(1)
	go or.tick()
	return or
}

func (o *Origin) event(e events.Event) { o.Keeper.Event(e) }

// tick measures the channels once a second.
func (o *Origin) tick() {
	defer o.stopped.Done()
	t := time.NewTicker(lookEach)
	defer t.Stop()
	var machine machineLoad
	var order govern.Order
	for {
		select {
		case <-o.stop:
			return
		case <-t.C:
			idle := machine.sample()
			o.idle.Store(idle)
			order.Begin()
			for _, c := range *o.channels.Load() {
				c.see(&order, idle)
			}
			order.End()
			for _, c := range *o.channels.Load() {
				c.measure(idle, order.Turn(c.slug))
			}
		}
	}
}

// Add starts a channel. created is its epoch, the wall clock at media time 0.
func (o *Origin) Add(s settings.Settings, created time.Time, at publish.Position) (*Channel, error) {
	s = s.WithDefaults()
	if p := s.Check(); len(p) > 0 {
		return nil, &settings.InvalidError{Problems: p}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	old := *o.channels.Load()
	if old[s.Slug] != nil {
		return nil, fmt.Errorf("%s: %w", s.Slug, ErrExists)
	}
	c := newChannel(o, s, created, at)
	o.replace(old, func(m map[string]*Channel) { m[s.Slug] = c })
	return c, nil
}

func (o *Origin) replace(old map[string]*Channel, change func(map[string]*Channel)) {
	next := make(map[string]*Channel, len(old)+1)
	for k, v := range old {
		next[k] = v
	}
	change(next)
	o.channels.Store(&next)
}

// Remove ends a channel, its feed and its worker.
func (o *Origin) Remove(slug string) error {
	o.mu.Lock()
	c := (*o.channels.Load())[slug]
	if c != nil {
		o.replace(*o.channels.Load(), func(m map[string]*Channel) { delete(m, slug) })
	}
	o.mu.Unlock()
	if c == nil {
		return fmt.Errorf("%s: %w", slug, ErrUnknownChannel)
	}
	c.close("the channel was removed")
	return nil
}

// Channel returns a running channel, or nil.
func (o *Origin) Channel(slug string) *Channel { return (*o.channels.Load())[slug] }

// Channels returns all of them, by slug.
func (o *Origin) Channels() []*Channel {
	m := *o.channels.Load()
	out := make([]*Channel, 0, len(m))
	for _, c := range m {
		out = append(out, c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].slug < out[j].slug })
	return out
}

// Close ends all channels and returns when their workers are gone.
func (o *Origin) Close() {
	var all sync.WaitGroup
	for _, c := range o.Channels() {
		all.Add(1)
		go func() {
			defer all.Done()
			c.close("the service stopped")
		}()
	}
	all.Wait()
	close(o.stop)
	o.stopped.Wait()
}

// Report books what went wrong with a connection of a network.
func (o *Origin) Report(channel, network, kind, text, do string) {
	o.event(events.Event{At: o.Now(), Channel: channel, Level: events.Warning, Kind: kind, Text: text, Do: do, Like: network})
}

// KeyRemoved sends the senders away that came with a key.
func (o *Origin) KeyRemoved(slug string, key int64) {
	if c := o.Channel(slug); c != nil {
		c.dismissSenders("its contribution key was removed", func(f *Feed) bool { return f.key == key })
	}
}
