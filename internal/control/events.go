package control

import (
	"context"
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

// eventLog merges like events before they are stored and shown.
type eventLog struct {
	mu     sync.Mutex
	recent map[likeness]*merged
}

// add takes an event. It returns the event as it is now, and whether it is a new one.
func (l *eventLog) add(e events.Event, id func() int64) (out events.Event, isNew bool) {
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

// take returns the events that were counted since the last call, and forgets those that are over.
func (l *eventLog) take(now time.Time) (out []events.Event) {
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

// Event implements origin.Keeper: it stores an event and shows it to the pages that listen.
func (s *Service) Event(e events.Event) {
	e, isNew := s.log.add(e, func() int64 { return s.ids.next(e.At) })
	if isNew || e.Kind != hooks.FeedRefused { // of a flood of refusals the first is told
		s.tellHooks(&e)
	}
	if !isNew {
		return // tidy stores and shows it with its count
	}
	s.logger.Info(e.Text, "kind", e.Kind, "channel", e.Channel, "level", string(e.Level))
	s.storeEvent(e)
	s.board.event(e)
}

func (s *Service) storeEvent(e events.Event) {
	r := records.Event{ID: e.ID, At: e.At, Channel: e.Channel, Level: string(e.Level), Kind: e.Kind, Text: e.Text,
		Remedy: e.Do, Count: max(e.Count, 1)}
	if !e.Last.IsZero() {
		last := e.Last.UTC()
		r.Last = &last
	}
	s.journal.Put(records.Write{Key: "event " + itoa(e.ID), Size: len(e.Text) + len(e.Do),
		Do: func(ctx context.Context, db *records.DB) error {
			return db.PutEvent(ctx, r)
		}})
}

// pruneEvery is how often what is old is forgotten.
const pruneEvery = time.Hour

// tidy stores and shows the counts of merged events, and lets the records be pruned, until stop is closed.
func (s *Service) tidy(stop <-chan struct{}) {
	tick := time.NewTicker(mergeEvery)
	defer tick.Stop()
	var pruned time.Time
	for {
		select {
		case <-stop:
			s.storeCounts(time.Now())
			return
		case now := <-tick.C:
			s.storeCounts(now)
			if now.Sub(pruned) > pruneEvery {
				pruned = now
				s.background.Add(1)
				go s.prune(stop)
			}
		}
	}
}

// pruneWithin bounds one pruning: what is left over is the next one's.
const pruneWithin = 10 * time.Minute

// prune forgets what is old, beside everything else.
func (s *Service) prune(stop <-chan struct{}) {
	defer s.background.Done()
	ctx, cancel := context.WithTimeout(context.Background(), pruneWithin)
	defer cancel()
	go func() {
		select {
		case <-stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	if err := s.db.Prune(ctx); err != nil && ctx.Err() == nil {
		s.logger.Warn("what is old could not be forgotten; it is tried again in an hour", "error", err)
	}
}

func (s *Service) storeCounts(now time.Time) {
	for _, e := range s.log.take(now) {
		s.storeEvent(e)
		s.board.event(e)
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
