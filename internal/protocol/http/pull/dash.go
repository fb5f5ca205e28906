package pull

import (
	"metaplasis/internal/safely"

	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/media"
)

type mediaID = media.TrackID

// dash follows a manifest: the best representation of pictures, and each set of sound.
func (x *follower) dash(ctx context.Context, address, base string, body []byte) error {
	ended := make(chan error, maxRenditions+1)
	d := &manifests{x: x, ended: ended, places: newPlaces(), queues: map[int]*entryQueue{}, lines: &periodLines{seen: map[string]int{}}}
	go func() {
		ended <- safely.Run(x.logger, func() error { return d.follow(ctx, address, base, body) })
	}()
	return x.wait(ctx, ended)
}

// manifests follows the manifest of a source.
type manifests struct {
	x       *follower
	ended   chan<- error
	places  *places
	fetched offered
	queues  map[int]*entryQueue // by place
	lines   *periodLines
	all     sync.WaitGroup
}

func (d *manifests) follow(ctx context.Context, address, base string, body []byte) error {
	x := d.x
	lister := inspect.New(address) // it lists segments; its judgement is not asked for
	var asked time.Time
	for first := true; ; first = false {
		m, list, err := lister.Manifest(body, x.clock())
		if err != nil {
			return err
		}
		if m.Type == "dynamic" && time.Since(asked) > clockEach {
			asked = time.Now()
			if x.synchronise(ctx, base, m.UTCTiming); first { // what is available depends on it
				if m, list, err = inspect.New(address).Manifest(body, x.clock()); err != nil {
					return err
				}
			}
		}
		chosen := d.places.chosen(m)
		list = slices.DeleteFunc(list, func(e inspect.Entry) bool { _, ok := chosen[periodName{e.Period, e.Name}]; return !ok })
		if first {
			x.mu.Lock()
			x.expect = names(list)
			x.mu.Unlock()
		}
		for _, e := range newest(list, &d.fetched, x.clock(), first && m.Type == "dynamic") {
			p := chosen[periodName{e.Period, e.Name}]
			d.queue(ctx, p).put(fetchable{e, base, p.language})
		}
		if m.Type != "dynamic" {
			for _, q := range d.queues {
				q.end()
			}
			d.all.Wait()
			return errEnded
		}
		wait := min(max(m.MinimumUpdatePeriod.D(), 500*time.Millisecond), 4*time.Second)
		if !pause(ctx, wait) {
			return ctx.Err()
		}
		for n := range attempts {
			if body, base, err = x.list(ctx, address); err == nil || ctx.Err() != nil {
				break
			}
			pause(ctx, time.Duration(n+1)*300*time.Millisecond)
		}
		if err != nil {
			return fmt.Errorf("manifest: %w", err)
		}
	}
}

// queue is that of a place, whose segments are fetched from when the first comes.
func (d *manifests) queue(ctx context.Context, p place) *entryQueue {
	q := d.queues[p.number]
	if q != nil {
		return q
	}
	q = newEntryQueue()
	d.queues[p.number] = q
	r := &rendition{x: d.x, lines: d.lines, number: p.number, ids: map[mediaID]bool{}, line: -1}
	d.all.Add(1)
	go func() {
		defer d.all.Done()
		if err := safely.Run(d.x.logger, func() error { return d.x.representation(ctx, r, q) }); err != nil {
			d.ended <- err
		}
	}()
	return q
}

// fetchable is a segment to fetch: its addresses are relative to base.
type fetchable struct {
	inspect.Entry
	base, language string
}

// entryQueue holds the segments of a place that are to be fetched. A manifest names no more than so many.
type entryQueue struct {
	mu    sync.Mutex
	list  []fetchable
	ended bool
	wake  chan struct{}
}

// maxQueued bounds it.
//
//limit:segments that wait to be fetched | each rendition | the oldest is left out: the source is faster than the line
const maxQueued = 20_000

func newEntryQueue() *entryQueue { return &entryQueue{wake: make(chan struct{}, 1)} }

func (q *entryQueue) put(e fetchable) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.list) >= maxQueued {
		q.list = q.list[1:]
	}
	q.list = append(q.list, e)
	q.notify()
}

func (q *entryQueue) end() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.ended = true
	q.notify()
}

func (q *entryQueue) notify() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// next waits for the next one; ok is false when there is none any more.
func (q *entryQueue) next(ctx context.Context) (e fetchable, ok bool) {
	for {
		q.mu.Lock()
		if len(q.list) > 0 {
			e, q.list = q.list[0], q.list[1:]
			q.mu.Unlock()
			return e, ctx.Err() == nil
		}
		ended := q.ended
		q.mu.Unlock()
		if ended {
			return e, false
		}
		select {
		case <-ctx.Done():
			return e, false
		case <-q.wake:
		}
	}
}

// names counts the representations of segments.
func names(list []inspect.Entry) int {
	seen := map[string]bool{}
	for _, e := range list {
		if e.Period == list[len(list)-1].Period {
			seen[e.Name] = true
		}
	}
	return len(seen)
}

// place is where a representation goes on in the feed: the pictures, or one of the sounds.
type place struct {
	number   int
	language string
}

// periodName is a representation of a period: others may have one of the same name, or the same one by another name.
type periodName struct{ period, name string }

// places gives the representations of each period places in the feed. One that takes another's place goes on there.
type places struct {
	sounds []string // languages, by place; pictures have place 0
}

func newPlaces() *places { return &places{} }

// chosen is the best representation of the pictures, and of each set of sound.
func (s *places) chosen(m *dash.MPD) map[periodName]place {
	out := map[periodName]place{}
	for i := range m.Periods {
		id := m.PeriodID(i)
		pictures := false
		taken := map[int]bool{}
		for k := range m.Periods[i].Sets {
			set := &m.Periods[i].Sets[k]
			if len(set.Representations) == 0 {
				continue
			}
			best := &set.Representations[0]
			for n := range set.Representations {
				if set.Representations[n].Bandwidth > best.Bandwidth {
					best = &set.Representations[n]
				}
			}
			kind := set.ContentType + set.MimeType + best.MimeType
			switch {
			case strings.Contains(kind, "video") && !pictures:
				pictures = true
				out[periodName{id, best.ID}] = place{0, set.Lang}
			case strings.Contains(kind, "audio"):
				if n, ok := s.sound(set.Lang, taken); ok {
					out[periodName{id, best.ID}] = place{n, set.Lang}
				}
			}
		}
	}
	return out
}

// sound finds the place of a sound: that of its language, else one that this period does not use, else another.
func (s *places) sound(language string, taken map[int]bool) (number int, ok bool) {
	free := -1
	for i, l := range s.sounds {
		switch {
		case taken[i+1]:
		case l == language:
			taken[i+1] = true
			return i + 1, true
		case free < 0:
			free = i
		}
	}
	if free < 0 {
		if len(s.sounds)+1 >= maxRenditions {
			return 0, false
		}
		s.sounds = append(s.sounds, language)
		free = len(s.sounds) - 1
	}
	s.sounds[free] = language
	taken[free+1] = true
	return free + 1, true
}

// offered knows the segments that the newest manifests name, and that were taken from them. What has left the window
// is forgotten with the manifest after the one that named it last.
type offered struct{ before, now map[string]bool }

// seen reports whether a segment of this manifest was in one of those before.
func (o *offered) seen(key string) bool {
	if o.now == nil {
		o.now = map[string]bool{}
	}
	known := o.before[key] || o.now[key]
	o.now[key] = true
	return known
}

// turn goes on to the next manifest. One that names nothing, as a source's may that starts over, forgets nothing.
func (o *offered) turn() {
	if len(o.now) > 0 {
		o.before, o.now = o.now, nil
	}
}

// newest keeps those that were not fetched yet, at first only the last ones of each representation.
func newest(list []inspect.Entry, fetched *offered, now time.Time, first bool) (out []inspect.Entry) {
	defer fetched.turn()
	left := map[string]int{}
	for _, e := range list {
		left[e.Name]++
	}
	for _, e := range list {
		left[e.Name]--
		key := fmt.Sprint(e.Name, " ", e.Number, " ", e.URI, " ", e.Offset)
		if e.Index || e.Available.After(now) || fetched.seen(key) {
			continue
		}
		if !first || left[e.Name] < fromEnd {
			out = append(out, e)
		}
	}
	return out
}

// periodLines numbers periods: each is a line of its own. The newest are known.
type periodLines struct {
	mu   sync.Mutex
	seen map[string]int
	next int
}

//limit:periods whose lines are remembered | each source | the oldest are forgotten
const maxPeriods = 256

func (p *periodLines) of(period string) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	n, known := p.seen[period]
	if !known {
		n = p.next
		p.next++
		for id, number := range p.seen {
			if number <= n-maxPeriods {
				delete(p.seen, id)
			}
		}
		p.seen[period] = n
	}
	return n
}

// representation fetches the segments of one place.
func (x *follower) representation(ctx context.Context, r *rendition, queue *entryQueue) error {
	for {
		e, ok := queue.next(ctx)
		if !ok {
			r.finish()
			return nil
		}
		r.language = e.language
		r.next(r.lines.of(e.Period))
		at := fmt.Sprint(resolve(e.base, e.Header.URI), e.Header.Offset)
		if e.Header.URI != "" && at != r.header {
			b, err := x.again(ctx, resolve(e.base, e.Header.URI), e.Header.Offset, e.Header.Length)
			if err != nil {
				return fmt.Errorf("header of segments: %w", err)
			}
			if err := r.open(b); err != nil {
				return err
			}
			r.header = at
		}
		b, err := x.patiently(ctx, resolve(e.base, e.URI), e.Offset, e.Length, e.Duration)
		if err != nil {
			x.logger.Warn("a segment did not come and is left out", "error", err)
			continue
		}
		if err := r.segment(b); err != nil {
			return err
		}
		if !x.pause(ctx, r) {
			return errors.New("its input was removed, or nobody watches")
		}
	}
}
