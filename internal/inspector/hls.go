package inspector

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
)

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

// header fetches an initialization section once and returns the name under which it is known.
func (f *follower) header(ctx context.Context, name, base string, r inspect.Resource) (id string) {
	if r.URI == "" {
		return ""
	}
	r.URI = join(base, r.URI)
	if id = r.URI; r.Offset >= 0 {
		id += fmt.Sprintf(" from byte %d", r.Offset)
	}
	f.mu.Lock()
	known := f.headers[name+" "+id]
	f.headers[name+" "+id] = true
	f.mu.Unlock()
	if known {
		return id
	}
	body, _, _, err := f.fetch(ctx, r, false)
	f.judge(func() {
		if err != nil {
			f.i.Unreachable(inspect.Breaks, name, "the header "+id, err)
			return
		}
		f.i.Header(name, id, body)
	})
	return id
}

func (f *follower) segment(ctx context.Context, name, address string, e *hls.Entry) {
	header := f.header(ctx, name, address, inspect.Resource{URI: e.Header, Offset: e.HeaderOffset, Length: e.HeaderLength})
	body, _, took, err := f.fetch(ctx, inspect.Resource{URI: join(address, e.URI), Offset: e.Offset, Length: e.Length},
		false)
	if err == nil && e.Key != nil {
		body, err = f.open(ctx, address, e, body)
	}
	if ctx.Err() != nil {
		return
	}
	f.judge(func() {
		switch {
		case errors.Is(err, errSealed):
			f.i.NotJudged(name, "segments encrypted with "+e.Key.Method)
		case err != nil:
			f.i.Unreachable(inspect.Breaks, name, fmt.Sprintf("segment %d", e.MSN), err)
		default:
			f.i.Segment(name, &inspect.Piece{MSN: e.MSN, Part: -1, Header: header, Body: body, Duration: e.Duration,
				Discontinuity: e.Discontinuity, Took: took, Start: -1})
		}
	})
}

// errSealed says that a segment cannot be looked into.
var errSealed = errors.New("encrypted in a way that hides its structure")

// open decrypts a segment as its playlist tells (RFC 8216, 4.3.2.4 and 5.2).
func (f *follower) open(ctx context.Context, address string, e *hls.Entry, body []byte) ([]byte, error) {
	switch {
	case e.Key.Method != "AES-128" && e.Header != "":
		return body, nil // samples are encrypted, their boxes are not
	case !e.Key.Opens():
		return nil, errSealed
	}
	uri := join(address, e.Key.URI)
	f.mu.Lock()
	key := f.keys[uri]
	f.mu.Unlock()
	if key == nil {
		var err error
		if key, _, _, err = f.get(ctx, uri); err != nil {
			return nil, fmt.Errorf("its key: %w", err)
		}
		f.mu.Lock()
		f.keys[uri] = key
		f.mu.Unlock()
	}
	return e.Key.Open(key, body, e.MSN)
}

// parts fetches the parts of the open segment that are new.
func (f *follower) parts(ctx context.Context, name, address string, p *hls.Playlist, done *[2]uint64) {
	n := len(p.Entries)
	if n == 0 || !p.Entries[n-1].Open || p.Entries[n-1].Key != nil {
		return
	}
	e := &p.Entries[n-1]
	header := f.header(ctx, name, address, inspect.Resource{URI: e.Header, Offset: e.HeaderOffset, Length: e.HeaderLength})
	from := 0
	if done[0] == e.MSN {
		from = int(done[1])
	}
	for k := from; k < len(e.Parts); k++ {
		part := &e.Parts[k]
		if part.Gap {
			continue
		}
		body, _, took, err := f.fetch(ctx, inspect.Resource{URI: join(address, part.URI), Offset: part.Offset,
			Length: part.Length}, false)
		if ctx.Err() != nil {
			return
		}
		f.judge(func() {
			if err != nil {
				f.i.Unreachable(inspect.Breaks, name, fmt.Sprintf("part %d of segment %d", k, e.MSN), err)
				return
			}
			f.i.Segment(name, &inspect.Piece{MSN: e.MSN, Part: k, Header: header, Body: body, Duration: part.Duration,
				Independent: part.Independent, Took: took, Start: -1})
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
