package fetch

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/media"
)

type mediaID = media.TrackID

// dash follows a manifest: the best representation of pictures, and each set of sound.
func (x *follower) dash(ctx context.Context, address string, body []byte) error {
	lister := inspect.New(address) // it lists segments; its judgement is not asked for
	queues := map[string]chan inspect.Entry{}
	fetched := &offered{}
	lines := &periodLines{seen: map[string]int{}}
	ended := make(chan error, maxRenditions+1)
	var all sync.WaitGroup
	go func() {
		ended <- contribution.Safely(x.logger, func() error {
			for first := true; ; first = false {
				m, list, err := lister.Manifest(body, x.clock())
				if err != nil {
					return err
				}
				list = chosen(m, list)
				if first {
					x.mu.Lock()
					x.expect = names(list)
					x.mu.Unlock()
				}
				for _, e := range newest(list, fetched, x.clock(), first && m.Type == "dynamic") {
					q := queues[e.Name]
					if q == nil {
						if len(queues) >= maxRenditions {
							continue
						}
						q = make(chan inspect.Entry, 256)
						queues[e.Name] = q
						r := &rendition{x: x, lines: lines, number: len(queues) - 1, ids: map[mediaID]bool{}, line: -1}
						all.Add(1)
						go func() {
							defer all.Done()
							if err := contribution.Safely(x.logger, func() error { return x.representation(ctx, r, address, q) }); err != nil {
								ended <- err
							}
						}()
					}
					select {
					case q <- e:
					default: // the source is faster than we
					}
				}
				if m.Type != "dynamic" {
					for _, q := range queues {
						close(q)
					}
					all.Wait()
					return errEnded
				}
				wait := min(max(m.MinimumUpdatePeriod.D(), 500*time.Millisecond), 4*time.Second)
				if !pause(ctx, wait) {
					return ctx.Err()
				}
				if body, err = x.again(ctx, address, -1, 0); err != nil {
					return fmt.Errorf("manifest: %w", err)
				}
			}
		})
	}()
	return x.wait(ctx, ended)
}

// names counts the representations of segments.
func names(list []inspect.Entry) int {
	seen := map[string]bool{}
	for _, e := range list {
		seen[e.Name] = true
	}
	return len(seen)
}

// chosen keeps the segments of the best pictures, and of the best sound of each set.
func chosen(m *dash.MPD, list []inspect.Entry) (out []inspect.Entry) {
	wanted := map[string]bool{}
	pictures := false
	for i := range m.Periods {
		pictures = false
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
			case strings.Contains(kind, "audio"):
			default:
				continue
			}
			wanted[best.ID] = true
		}
	}
	for _, e := range list {
		if wanted[e.Name] {
			out = append(out, e)
		}
	}
	return out
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

// turn goes on to the next manifest. One that names nothing, as a source's may that begins anew, forgets nothing.
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

// representation fetches the segments of one.
func (x *follower) representation(ctx context.Context, r *rendition, base string, queue <-chan inspect.Entry) error {
	for {
		var e inspect.Entry
		var ok bool
		select {
		case <-ctx.Done():
			return nil
		case e, ok = <-queue:
		}
		if !ok {
			return nil
		}
		at := fmt.Sprint(resolve(base, e.Header.URI), e.Header.Offset)
		if e.Header.URI != "" && at != r.header {
			b, err := x.again(ctx, resolve(base, e.Header.URI), e.Header.Offset, e.Header.Length)
			if err != nil {
				return fmt.Errorf("header of segments: %w", err)
			}
			if err := r.open(b); err != nil {
				return err
			}
			r.header = at
		}
		r.next(r.lines.of(e.Period))
		b, err := x.again(ctx, resolve(base, e.URI), e.Offset, e.Length)
		if err != nil {
			x.logger.Warn("a segment did not come and is left out", "error", err)
			continue
		}
		if err := r.segment(b); err != nil {
			return err
		}
		if !x.rest(ctx) {
			return errors.New("its input was removed, or nobody watches")
		}
	}
}
