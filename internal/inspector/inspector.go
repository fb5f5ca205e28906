// Package inspector follows a stream over HTTP as a player would and lets core/inspect judge it.
package inspector

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
)

// Bounds of what is fetched.
const (
	maxBody       = 64 << 20
	maxRenditions = 16
	requestLimit  = 30 * time.Second
	queueLength   = 256
	atFirst       = 2 // segments of each rendition that are fetched before new ones come
	onDemand      = 3 // of the begin, and one of the end, of a stream that is not live
)

// Options of an inspection.
type Options struct {
	Address string
	Follow  time.Duration
	Client  *http.Client                  // nil: one of its own
	Say     func(format string, a ...any) // progress; nil: silence
}

// follower is one inspection under way.
type follower struct {
	Options
	mu      sync.Mutex // guards i
	i       *inspect.Inspector
	begun   time.Time
	until   time.Time
	headers map[string]bool // fetched, by rendition and address
}

// ErrAddress says that an address cannot be inspected.
var ErrAddress = errors.New("the address cannot be inspected")

// Run follows a stream and returns what was found. An error means that not even the address
// answered.
func Run(ctx context.Context, o Options) (inspect.Report, error) {
	u, err := url.Parse(o.Address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return inspect.Report{}, fmt.Errorf("%w: found %q, expected an address of a playlist or manifest, such as http://host/media/start-line/index.m3u8", ErrAddress, o.Address)
	}
	if o.Client == nil {
		o.Client = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: false}}
		defer o.Client.CloseIdleConnections()
	}
	if o.Say == nil {
		o.Say = func(string, ...any) {}
	}
	f := &follower{Options: o, i: inspect.New(o.Address), begun: time.Now(), headers: map[string]bool{}}
	f.until = f.begun.Add(o.Follow)
	body, kind, _, err := f.get(ctx, o.Address)
	if err != nil {
		return inspect.Report{}, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	f.judge(func() { f.i.ContentType("", kind) })
	switch {
	case bytes.Contains(body[:min(len(body), 4096)], []byte("<MPD")):
		f.followDASH(ctx, body)
	case hls.IsMultivariant(body):
		f.followHLS(ctx, body)
	default:
		f.followPlaylist(ctx, inspect.Name(o.Address), o.Address, body)
	}
	f.judge(f.i.Aligned)
	return f.i.Report(time.Since(f.begun)), nil
}

func (f *follower) judge(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
}

// statusError is an answer other than 200.
type statusError struct{ status int }

func (e *statusError) Error() string { return fmt.Sprintf("status %d", e.status) }

func (f *follower) get(ctx context.Context, address string) (body []byte, kind string, took time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, requestLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, "", 0, err
	}
	req.Header.Set("User-Agent", "Metaplasis-inspector")
	begin := time.Now()
	res, err := f.Client.Do(req)
	if err != nil {
		return nil, "", 0, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<16))
		return nil, "", 0, &statusError{res.StatusCode}
	}
	body, err = io.ReadAll(io.LimitReader(res.Body, maxBody))
	return body, res.Header.Get("Content-Type"), time.Since(begin), err
}

func join(base, ref string) string {
	b, err := url.Parse(base)
	if err != nil {
		return ref
	}
	u, err := b.Parse(ref)
	if err != nil {
		return ref
	}
	return u.String()
}

// followHLS follows every rendition that a multivariant playlist names.
func (f *follower) followHLS(ctx context.Context, body []byte) {
	var all sync.WaitGroup
	seen := map[string]bool{}
	add := func(uri string) {
		address := join(f.Address, uri)
		if uri == "" || seen[address] || len(seen) >= maxRenditions {
			return
		}
		seen[address] = true
		all.Add(1)
		go func() {
			defer all.Done()
			f.followPlaylist(ctx, inspect.Name(uri), address, nil)
		}()
	}
	var variants []hls.VariantEntry
	var renditions []map[string]string
	f.judge(func() { variants, renditions = f.i.Multivariant(body) })
	f.Say("%d variants, %d renditions", len(variants), len(renditions))
	for _, v := range variants {
		add(v.URI)
	}
	for _, r := range renditions {
		add(r["URI"])
	}
	for _, k := range hls.ReadKeyVariants(body) {
		f.keyframes(ctx, k)
	}
	stop := make(chan struct{})
	go func() { // renditions are compared while all of them are fresh
		t := time.NewTicker(time.Second)
		defer t.Stop()
		for {
			select {
			case <-stop:
				return
			case <-t.C:
				f.judge(f.i.Aligned)
			}
		}
	}()
	all.Wait()
	close(stop)
}

// keyframes judges a playlist of keyframes by itself and its newest segment.
func (f *follower) keyframes(ctx context.Context, k hls.VariantEntry) {
	address, name := join(f.Address, k.URI), inspect.Name(k.URI)+" (keyframes)"
	body, _, _, err := f.get(ctx, address)
	if err != nil {
		f.judge(func() { f.i.Unreachable(inspect.Breaks, name, "the playlist of keyframes", err) })
		return
	}
	var p *hls.Playlist
	f.judge(func() { p, err = f.i.Playlist(name, body, time.Now()) })
	if err != nil {
		return
	}
	if w := p.Whole(); len(w) > 0 {
		f.segment(ctx, name, address, &w[len(w)-1])
	}
}

// followPlaylist follows one media playlist until the time is over or it ends.
func (f *follower) followPlaylist(ctx context.Context, name, address string, body []byte) {
	var last *hls.Playlist
	next := uint64(0) // the first segment that was not fetched
	part := [2]uint64{}
	probed := false
	for {
		at := time.Now()
		if body == nil {
			var err error
			var kind string
			if body, kind, _, err = f.get(ctx, f.reloadAddress(address, last)); err != nil {
				if ctx.Err() == nil {
					f.judge(func() { f.i.Unreachable(inspect.Breaks, name, "the playlist", err) })
				}
				return
			}
			at = time.Now()
			if last == nil {
				f.judge(func() { f.i.ContentType(name, kind) })
			}
		}
		var p *hls.Playlist
		var err error
		f.judge(func() { p, err = f.i.Playlist(name, body, at) })
		body = nil
		if err != nil {
			return
		}
		if last == nil {
			next = f.firstToFetch(p)
		}
		for _, e := range f.toFetch(p, next) {
			f.segment(ctx, name, address, e)
		}
		if w := p.Whole(); len(w) > 0 {
			next = max(next, w[len(w)-1].MSN+1)
		}
		f.parts(ctx, name, address, p, &part)
		if p.CanBlock && !probed {
			probed = true
			f.probe(ctx, name, address)
		}
		last = p
		if p.Ended || time.Now().After(f.until) || ctx.Err() != nil {
			return
		}
		if !p.CanBlock {
			pause(ctx, p.TargetDuration/2)
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// reloadAddress asks for the state behind the last one, where the server can wait for it.
func (f *follower) reloadAddress(address string, last *hls.Playlist) string {
	if last == nil || !last.CanBlock || len(last.Entries) == 0 {
		return address
	}
	e := &last.Entries[len(last.Entries)-1]
	msn, part := e.MSN+1, 0
	if e.Open {
		msn, part = e.MSN, len(e.Parts)
	}
	q := fmt.Sprintf("_HLS_msn=%d", msn)
	if last.PartTarget > 0 {
		q += fmt.Sprintf("&_HLS_part=%d", part)
	}
	if strings.Contains(address, "?") {
		return address + "&" + q
	}
	return address + "?" + q
}

func (f *follower) firstToFetch(p *hls.Playlist) uint64 {
	w := p.Whole()
	if len(w) == 0 {
		return 0
	}
	if p.Ended {
		return w[0].MSN
	}
	return w[max(0, len(w)-atFirst)].MSN
}

// toFetch lists the segments from a number on; of a stream that has ended only some.
func (f *follower) toFetch(p *hls.Playlist, from uint64) (out []*hls.Entry) {
	w := p.Whole()
	for n := range w {
		if w[n].MSN < from || w[n].Gap || p.Ended && n >= onDemand && n != len(w)-1 {
			continue
		}
		out = append(out, &w[n])
	}
	return out
}

// header fetches an initialization section once.
func (f *follower) header(ctx context.Context, name, address string) {
	f.mu.Lock()
	known := f.headers[name+" "+address]
	f.headers[name+" "+address] = true
	f.mu.Unlock()
	if known || address == "" {
		return
	}
	body, _, _, err := f.get(ctx, address)
	f.judge(func() {
		if err != nil {
			f.i.Unreachable(inspect.Breaks, name, "the header "+address, err)
			return
		}
		f.i.Header(name, address, body)
	})
}

func (f *follower) segment(ctx context.Context, name, address string, e *hls.Entry) {
	header := ""
	if e.Header != "" {
		header = join(address, e.Header)
		f.header(ctx, name, header)
	}
	body, _, took, err := f.get(ctx, join(address, e.URI))
	if ctx.Err() != nil {
		return
	}
	f.judge(func() {
		if err != nil {
			f.i.Unreachable(inspect.Breaks, name, fmt.Sprintf("segment %d", e.MSN), err)
			return
		}
		f.i.Segment(name, &inspect.Piece{MSN: e.MSN, Part: -1, Header: header, Body: cut(body, e.Offset, e.Length), Duration: e.Duration, Discontinuity: e.Discontinuity, Took: took, Start: -1})
	})
}

// cut takes a byte range out of a whole resource.
func cut(b []byte, offset, length int64) []byte {
	if offset < 0 || offset+length > int64(len(b)) {
		return b
	}
	return b[offset : offset+length]
}

// parts fetches the parts of the open segment that are new.
func (f *follower) parts(ctx context.Context, name, address string, p *hls.Playlist, done *[2]uint64) {
	n := len(p.Entries)
	if n == 0 || !p.Entries[n-1].Open {
		return
	}
	e := &p.Entries[n-1]
	from := 0
	if done[0] == e.MSN {
		from = int(done[1])
	}
	for k := from; k < len(e.Parts); k++ {
		part := &e.Parts[k]
		if part.Gap {
			continue
		}
		body, _, took, err := f.get(ctx, join(address, part.URI))
		if ctx.Err() != nil {
			return
		}
		f.judge(func() {
			if err != nil {
				f.i.Unreachable(inspect.Breaks, name, fmt.Sprintf("part %d of segment %d", k, e.MSN), err)
				return
			}
			f.i.Segment(name, &inspect.Piece{MSN: e.MSN, Part: k, Body: cut(body, part.Offset, part.Length), Duration: part.Duration, Independent: part.Independent, Took: took, Start: -1})
		})
	}
	*done = [2]uint64{e.MSN, uint64(len(e.Parts))}
}

// probe asks for nonsense, which must be refused, and for a delta update, which must be readable.
func (f *follower) probe(ctx context.Context, name, address string) {
	sep := "?"
	if strings.Contains(address, "?") {
		sep = "&"
	}
	_, _, _, err := f.get(ctx, address+sep+"_HLS_part=0")
	var status *statusError
	if !errors.As(err, &status) || status.status != http.StatusBadRequest {
		f.judge(func() { f.i.Nonsense(name, err) })
	}
	if body, _, _, err := f.get(ctx, address+sep+"_HLS_skip=YES"); err == nil {
		f.judge(func() { _, _ = f.i.Playlist(name, body, time.Now()) })
	}
}

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
		for _, e := range f.newest(list, fetched, first) {
			if m.Type != "dynamic" {
				f.dashSegment(ctx, e)
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

// newest picks the segments that were not fetched yet, at first only the last of each representation.
func (f *follower) newest(list []inspect.Entry, fetched map[string]bool, first bool) (out []inspect.Entry) {
	left := map[string]int{}
	for _, e := range list {
		left[e.Name]++
	}
	for _, e := range list {
		left[e.Name]--
		key := fmt.Sprint(e.Name, e.Number, e.URI)
		if fetched[key] {
			continue
		}
		fetched[key] = true
		if !first || left[e.Name] < atFirst {
			out = append(out, e)
		}
	}
	return out
}

func (f *follower) dashSegment(ctx context.Context, e inspect.Entry) {
	header := ""
	if e.Header != "" {
		header = join(f.Address, e.Header)
		f.header(ctx, e.Name, header)
	}
	body, _, took, err := f.get(ctx, join(f.Address, e.URI))
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
			f.i.Segment(e.Name, &inspect.Piece{MSN: e.Number, Part: -1, Header: header, Body: body, Duration: e.Duration, Discontinuity: e.New, Took: took, Start: e.Start, Timescale: e.Timescale})
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
