package operations

import (
	"context"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"time"

	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/records"
)

// Bounds of the event log: like events become one, with a count, while they follow one another
// within mergeSpan; so many kinds are told apart at a time, and what is past that becomes one event
// of its kind, whoever caused it.
const (
	mergeSpan  = 10 * time.Minute
	mergeKinds = 512
	mergeEvery = time.Second // between two updates of a merged event
)

type likeness struct{ channel, kind, like string }

type merged struct {
	event events.Event
	dirty bool // counted since it was stored last
}

// merging merges like events before they are stored and shown.
type merging struct {
	mu     sync.Mutex
	recent map[likeness]*merged
}

// add takes an event. It returns the event as it is now, and whether it is a new one.
func (l *merging) add(e events.Event, id func() int64) (out events.Event, isNew bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	key := likeness{e.Channel, e.Kind, e.Like}
	if e.Like == "" {
		key.like = e.Text
	}
	m := l.recent[key]
	if m == nil && len(l.recent) >= mergeKinds {
		key = likeness{kind: e.Kind}
		m = l.recent[key]
	}
	if m != nil && e.At.Sub(m.latest()) < mergeSpan {
		m.event.Count = max(m.event.Count, 1) + 1
		m.event.Last = e.At
		m.event.Text = e.Text // the newest of them
		m.dirty = true
		return m.event, false
	}
	if l.recent == nil {
		l.recent = map[likeness]*merged{}
	}
	e.ID = id()
	l.recent[key] = &merged{event: e}
	return e, true
}

func (m *merged) latest() time.Time {
	if m.event.Last.After(m.event.At) {
		return m.event.Last
	}
	return m.event.At
}

// due returns the events that were counted since the last call, and forgets those that are over.
func (l *merging) due(now time.Time) (out []events.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, m := range l.recent {
		if m.dirty {
			out = append(out, m.event)
			m.dirty = false
		} else if now.Sub(m.latest()) > mergeSpan {
			delete(l.recent, key)
		}
	}
	return out
}

// Log is the event log: like events are merged, stored, told to the hooks and shown to those who listen.
type Log struct {
	journal *records.Journal
	hooks   *hooks.Runner
	logger  *slog.Logger
	ids     ids
	merging merging

	mu        sync.Mutex
	listeners []func(events.Event)
}

// Listen lets a function have every event, and those that are counted again. It must not wait.
func (l *Log) Listen(to func(events.Event)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.listeners = append(l.listeners, to)
}

func (l *Log) show(e events.Event) {
	l.mu.Lock()
	list := l.listeners
	l.mu.Unlock()
	for _, to := range list {
		to(e)
	}
}

// hookEvents are the events of the log that hooks are told of.
var hookEvents = []string{hooks.FeedBegun, hooks.FeedRefused, hooks.FeedEnded}

// Event stores an event and shows it to the pages that listen.
func (l *Log) Event(e events.Event) {
	e, isNew := l.merging.add(e, func() int64 { return l.ids.next(e.At) })
	if (isNew || e.Kind != hooks.FeedRefused) && slices.Contains(hookEvents, e.Kind) { // of a flood of refusals the first is told
		l.hooks.Fire(hooks.Happening{Event: e.Kind, At: e.At.UTC(), Channel: e.Channel, Text: e.Text, Do: e.Do})
	}
	if !isNew {
		return // it is stored and shown with its count
	}
	l.logger.Info(e.Text, "kind", e.Kind, "channel", e.Channel, "level", string(e.Level))
	l.store(e)
	l.show(e)
}

func (l *Log) store(e events.Event) {
	r := records.Event{ID: e.ID, At: e.At, Channel: e.Channel, Level: string(e.Level), Kind: e.Kind, Text: e.Text,
		Remedy: e.Do, Count: max(e.Count, 1)}
	if !e.Last.IsZero() {
		last := e.Last.UTC()
		r.Last = &last
	}
	l.journal.Put(records.Write{Key: "event " + itoa(e.ID), Size: len(e.Text) + len(e.Do),
		Do: func(ctx context.Context, db *records.DB) error {
			return db.PutEvent(ctx, r)
		}})
}

// storeCounts stores and shows the counts of merged events.
func (l *Log) storeCounts(now time.Time) {
	for _, e := range l.merging.due(now) {
		l.store(e)
		l.show(e)
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
