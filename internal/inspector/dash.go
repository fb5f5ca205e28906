package inspector

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/inspect"
)

// followDASH follows a manifest until the time is over.
func (f *follower) followDASH(ctx context.Context, body []byte) {
	fetched := map[string]bool{}
	first := true
	var all sync.WaitGroup
	queues := map[string]chan inspect.Entry{} // one representation's segments are fetched one by one
	defer func() {
		for _, q := range queues {
			close(q)
		}
		all.Wait()
	}()
	for {
		var m *dash.MPD
		var list []inspect.Entry
		var err error
		at := time.Now()
		f.judge(func() { m, list, err = f.i.Manifest(body, at) })
		if err != nil {
			return
		}
		if first {
			f.clock(ctx, m)
			f.Say("%d periods, %d segments", len(m.Periods), len(list))
		}
		for _, e := range f.newest(list, fetched, first, m.Type == "dynamic") {
			if m.Type != "dynamic" {
				f.dashSegments(ctx, e)
				continue
			}
			q := queues[e.Name]
			if q == nil {
				q = make(chan inspect.Entry, queueLength)
				queues[e.Name] = q
				all.Add(1)
				go func() {
					defer all.Done()
					for e := range q {
						f.dashSegment(ctx, e)
					}
				}()
			}
			select {
			case q <- e:
			default: // the stream is faster than we: leave it out
			}
		}
		first = false
		if m.Type != "dynamic" || time.Now().After(f.until) || ctx.Err() != nil {
			return
		}
		wait := min(max(m.MinimumUpdatePeriod.D()/2, 250*time.Millisecond), time.Second)
		pause(ctx, wait)
		next, _, _, err := f.get(ctx, f.Address)
		if err != nil {
			if ctx.Err() == nil {
				f.judge(func() { f.i.Unreachable(inspect.Breaks, "", "the manifest", err) })
			}
			return
		}
		body = next
	}
}

// newest picks the segments that were not fetched yet: at first only the last of each
// representation, and of a stream that is not live some of the begin and the last.
func (f *follower) newest(list []inspect.Entry, fetched map[string]bool, first, live bool) (out []inspect.Entry) {
	left, passed := map[string]int{}, map[string]int{}
	for _, e := range list {
		left[e.Name]++
	}
	for _, e := range list {
		left[e.Name]--
		passed[e.Name]++
		key := fmt.Sprint(e.Name, e.Number, e.Resource)
		if fetched[key] {
			continue
		}
		fetched[key] = true
		if !first || live && left[e.Name] < atFirst || !live && (passed[e.Name] <= onDemand || left[e.Name] == 0) {
			out = append(out, e)
		}
	}
	return out
}

// dashSegments fetches a segment, or an index and some of the segments that it tells of.
func (f *follower) dashSegments(ctx context.Context, e inspect.Entry) {
	if !e.Index {
		f.dashSegment(ctx, e)
		return
	}
	r := e.Resource
	r.URI = join(f.Address, r.URI)
	body, _, _, err := f.fetch(ctx, r, false)
	var list []inspect.Entry
	f.judge(func() {
		if err != nil {
			f.i.Unreachable(inspect.Breaks, e.Name, "the index", err)
			return
		}
		list = f.i.Index(e, body)
	})
	for n, one := range list {
		if n < onDemand || n == len(list)-1 {
			f.dashSegment(ctx, one)
		}
	}
}

func (f *follower) dashSegment(ctx context.Context, e inspect.Entry) {
	header := f.header(ctx, e.Name, f.Address, e.Header)
	r := e.Resource
	r.URI = join(f.Address, r.URI)
	body, _, took, err := f.fetch(ctx, r, false)
	if ctx.Err() != nil {
		return
	}
	f.judge(func() {
		var status *statusError
		switch {
		case errors.As(err, &status):
			f.i.Late(e.Name, e.Number, status.status)
		case err != nil:
			f.i.Unreachable(inspect.Breaks, e.Name, fmt.Sprintf("segment %d", e.Number), err)
		default:
			f.i.Segment(e.Name, &inspect.Piece{MSN: e.Number, Part: -1, Header: header, Body: body, Duration: e.Duration,
				Discontinuity: e.New, Took: took, Start: e.Start, Timescale: e.Timescale, Counted: e.Counted})
		}
	})
}

// clock asks the clock that the manifest names.
func (f *follower) clock(ctx context.Context, m *dash.MPD) {
	for _, t := range m.UTCTiming {
		if !strings.Contains(t.Scheme, "http-iso") && !strings.Contains(t.Scheme, "http-xsdate") {
			continue
		}
		begin := time.Now()
		body, _, took, err := f.get(ctx, join(f.Address, t.Value))
		if err != nil {
			f.judge(func() { f.i.Unreachable(inspect.Breaks, "", "the clock "+t.Value, err) })
			continue
		}
		told, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(string(body)))
		f.judge(func() {
			if err != nil {
				f.i.Unreachable(inspect.Breaks, "", "the clock "+t.Value, err)
				return
			}
			f.i.Clock(told, begin.Add(took/2))
		})
	}
}
