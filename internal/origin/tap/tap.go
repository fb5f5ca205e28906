// Package tap is what reads a channel's hub on behalf of whatever carries the channel onward: relays, real-time viewers, receivers
// that fetch, other channels. A Choice goes in (a rung, a sound, what a viewer can decode); access units come out, of the tracks
// that the choice means now, whichever feed is on air.
//
// A Tap may be read from any one goroutine, without the channel's lock; it asks the channel for its tracks, which takes the lock.
// The functions on a run, and a Demand, need the lock.
package tap

import (
	"context"
	"slices"
	"sync"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// Channel is what a tap asks of its channel.
type Channel interface {
	// Lines finds the tracks that a choice means now.
	Lines(onward.Choice) Lines
	// Watched says that somebody takes the channel's media.
	Watched()
	// Removed reports whether the channel is gone for good.
	Removed() bool
}

// Changes wakes those who wait for another choice of tracks. The zero value is ready.
type Changes struct {
	mu   sync.Mutex
	next chan struct{} // nil while nobody waits
}

// Wait returns a channel that is closed at the next change.
func (c *Changes) Wait() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next == nil {
		c.next = make(chan struct{})
	}
	return c.next
}

// Tell wakes all who wait.
func (c *Changes) Tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}

// Lines are the tracks that a choice means.
type Lines struct {
	Video, Sound *media.Track // nil for none
	Since        uint64       // number of the run's first unit
}

func (l *Lines) ids() (out []media.TrackID) {
	for _, t := range []*media.Track{l.Video, l.Sound} {
		if t != nil {
			out = append(out, t.ID)
		}
	}
	return out
}

// Tap is an onward.Tap of a channel.
type Tap struct {
	c       Channel
	hub     *hub.Hub
	changes *Changes
	choice  onward.Choice
	reader  *hub.Reader // nil while there is nothing to read
	lines   Lines
	changed <-chan struct{}
	next    uint64 // number behind the newest unit that was read
	release func()
	once    sync.Once
}

// New begins to read a channel. release is called once, when the tap is closed.
func New(c Channel, h *hub.Hub, changes *Changes, choice onward.Choice, release func()) *Tap {
	t := &Tap{c: c, hub: h, changes: changes, choice: choice, release: release}
	t.resolve()
	return t
}

// resolve finds what to read.
func (t *Tap) resolve() {
	t.changed = t.changes.Wait() // before looking, so that no change is missed
	l := t.c.Lines(t.choice)
	ids := l.ids()
	same := t.reader != nil && slices.Equal(ids, t.lines.ids())
	t.lines = l
	if same {
		return
	}
	t.reader = nil
	if len(ids) == 0 {
		return
	}
	from := hub.Newest
	switch {
	case t.next > 0 || t.choice.Oldest:
		from = hub.Oldest
	case t.choice.Coming:
		from = hub.Coming
	}
	t.reader = t.hub.NewReader(from, ids...)
	t.reader.NotBelow(max(t.next, l.Since))
}

// Tracks implements onward.Tap.
func (t *Tap) Tracks() (video, sound *media.Track) { return t.lines.Video, t.lines.Sound }

// Close implements onward.Tap.
func (t *Tap) Close() { t.once.Do(t.release) }

// Next implements onward.Tap.
func (t *Tap) Next(ctx context.Context, into []hub.Unit) (n int, lost hub.Loss, err error) {
	for {
		t.c.Watched()
		var arrived <-chan struct{}
		if t.reader != nil {
			if n, lost = t.reader.Read(into); n > 0 {
				t.next = into[n-1].Number + 1
				return n, lost, nil
			}
			arrived, _ = t.reader.Wait()
		}
		select {
		case <-t.changed:
			if t.c.Removed() {
				return 0, lost, onward.ErrOver
			}
			t.resolve()
		case <-arrived:
		case <-ctx.Done():
			return 0, lost, ctx.Err()
		}
	}
}
