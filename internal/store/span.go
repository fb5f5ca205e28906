package store

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// RenditionSpan is a stretch of one rendition.
type RenditionSpan struct {
	Rendition string
	Sound     string // the rendition of sound that goes with pictures
	Track     media.Track
	List      []*segment.Segment // shared: not to be changed
	Longest   int64              // that a segment lasts, ticks of media.VideoTimescale
	Gaps      int                // about how many of them there are
	Ordinal   uint64             // of the first: it counts what a playlist calls the media sequence
	Breaks    uint32             // discontinuities before the first
}

// Span is a stretch of a channel: its renditions by name, their times told by one epoch.
type Span struct {
	Epoch      time.Time
	Renditions []RenditionSpan
}

// Begin returns the wall clock at the first segment, zero when there is none.
func (s *Span) Begin() (at time.Time) {
	for i := range s.Renditions {
		if b := media.WallClock(s.Epoch, s.Renditions[i].List[0].Start); at.IsZero() || b.Before(at) {
			at = b
		}
	}
	return at
}

// recent is the newest part of a strip as segments. It is made when somebody looks back, grows with what comes, and
// goes when nobody has looked for a while. Discontinuities and holes are in it as a playlist tells them.
type recent struct {
	list    []*segment.Segment
	ordinal uint64
	breaks  uint32 // before the first
	epoch   time.Time
	from    time.Time // nothing is missing from here on
	used    time.Time
	longest int64    // that a segment lasted
	breakAt []uint64 // ordinals of the discontinuities in the list
	gaps    int
	last    position
}

// position is where a list stands behind its last segment.
type position struct {
	ordinal uint64 // of the last
	breaks  uint32 // up to the last
}

// add puts a segment at the end, when there is a list.
func (r *recent) add(s *segment.Segment, ordinal uint64, breaks uint32) {
	if len(r.list) > 0 {
		r.append(s, ordinal, breaks)
	}
}

// maxHole is how many segments of a hole are told one by one.
//
//limit:segments of a hole that are told one by one | each playlist | a discontinuity instead
const maxHole = 100_000

func (r *recent) append(s *segment.Segment, ordinal uint64, breaks uint32) {
	r.longest = max(r.longest, s.Duration)
	if len(r.list) == 0 {
		r.ordinal, r.breaks = ordinal, breaks
		if s.Discontinuity {
			r.breaks--
			r.breakAt = append(r.breakAt, ordinal)
		}
		r.list, r.last = append(r.list, s), position{ordinal, breaks}
		return
	}
	missing := int64(ordinal - r.last.ordinal - 1)
	own := uint32(0)
	if s.Discontinuity {
		own = 1
	}
	// Discontinuities that other renditions have in a hole of this one are told in it.
	untold := int64(breaks - r.last.breaks - own)
	if missing > 0 && missing < maxHole {
		last := r.list[len(r.list)-1]
		r.gaps += int(missing)
		at, step := last.Start+last.Duration, max(last.Duration, 1)
		if between := s.Start - at; between > 0 {
			step = between / missing
		}
		for i := range missing {
			r.list = append(r.list, &segment.Segment{MSN: last.MSN + 1 + uint64(i), Prefix: s.Prefix, Gap: true, Discontinuity: i < untold, Start: at, Duration: step, Header: s.Header})
			if i < untold {
				r.breakAt = append(r.breakAt, r.last.ordinal+1+uint64(i))
			}
			at += step
		}
		untold -= missing
	}
	if untold > 0 && !s.Discontinuity {
		again := *s
		again.Discontinuity = true
		s = &again
	}
	if s.Discontinuity {
		r.breakAt = append(r.breakAt, ordinal)
	}
	r.list, r.last = append(r.list, s), position{ordinal, breaks}
}

// cutFront drops what lies before a time.
func (r *recent) cutFront(before int64) {
	n, _ := slices.BinarySearchFunc(r.list, before, func(s *segment.Segment, t int64) int { return cmp.Compare(s.Start+s.Duration, t) })
	if n < len(r.list)/4 || n == 0 || n == len(r.list) {
		return // not worth a copy
	}
	r.ordinal += uint64(n)
	m, _ := slices.BinarySearch(r.breakAt, r.ordinal)
	r.breaks, r.breakAt = r.breaks+uint32(m), slices.Clone(r.breakAt[m:])
	r.list = slices.Clone(r.list[n:])
}

// cut drops what lies before a time.
func (r *recent) cut(before time.Time) {
	if r.from.Before(before) {
		n := len(r.list)
		if r.cutFront(r.ticks(before)); len(r.list) < n {
			r.from = before
		}
	}
}

// ticks converts a wall clock to media time.
func (r *recent) ticks(at time.Time) int64 {
	return media.TicksSince(r.epoch, at)
}

// within returns what lies between two times.
func (r *recent) within(from, to time.Time) (out RenditionSpan) {
	after := func(at time.Time) int {
		t := r.ticks(at)
		n, _ := slices.BinarySearchFunc(r.list, t, func(s *segment.Segment, t int64) int {
			if s.Start+s.Duration <= t {
				return -1
			}
			return 1
		})
		return n
	}
	a, b := after(from), len(r.list)
	if !to.IsZero() {
		b, _ = slices.BinarySearchFunc(r.list, r.ticks(to), func(s *segment.Segment, t int64) int { return cmp.Compare(s.Start, t) })
	}
	if a >= b {
		return out
	}
	out.Ordinal, out.Breaks = r.ordinal+uint64(a), r.breaks
	n, _ := slices.BinarySearch(r.breakAt, r.ordinal+uint64(a))
	out.Breaks += uint32(n)
	out.List, out.Longest, out.Gaps = r.list[a:b:b], r.longest, r.gaps
	for len(out.List) > 0 && out.List[0].Gap { // a list begins with something
		if out.List[0].Discontinuity {
			out.Breaks++
		}
		out.List, out.Ordinal = out.List[1:], out.Ordinal+1
	}
	return out
}

// ErrNothing says that nothing of a stretch of time is kept.
var ErrNothing = errors.New("nothing of that time is kept")

// Span returns what is kept of a channel between two times; a zero to is the newest. Of times before the epoch of the newest
// segments nothing is told beside them.
func (s *Store) Span(ctx context.Context, channel string, from, to time.Time) (*Span, error) {
	sh, err := s.ready(channel)
	if err != nil {
		return nil, err
	}
	out := &Span{}
	for _, st := range sh.all() {
		r, err := sh.readIndexes(ctx, st, from, to)
		if err != nil {
			return nil, err
		}
		strip := r.within(from, to)
		if len(strip.List) == 0 {
			continue
		}
		if r.epoch.After(out.Epoch) || len(out.Renditions) == 0 {
			out.Epoch = r.epoch
		}
		strip.Rendition, strip.Sound, strip.Track = st.name, sh.soundOf(st), strip.List[len(strip.List)-1].Header.Track
		out.Renditions = append(out.Renditions, strip)
	}
	if len(out.Renditions) == 0 {
		return nil, ErrNothing
	}
	slices.SortFunc(out.Renditions, func(a, b RenditionSpan) int { return cmp.Compare(a.Rendition, b.Rendition) })
	return out, nil
}

// Rendition returns one rendition of what is kept between two times.
func (s *Store) Rendition(ctx context.Context, channel, rendition string, from, to time.Time) (RenditionSpan, error) {
	if _, err := s.ready(channel); err != nil {
		return RenditionSpan{}, err
	}
	sh, st := s.stripOf(channel, rendition)
	if st == nil {
		return RenditionSpan{}, ErrNothing
	}
	r, err := sh.readIndexes(ctx, st, from, to)
	if err != nil {
		return RenditionSpan{}, err
	}
	out := r.within(from, to)
	if len(out.List) == 0 {
		return out, ErrNothing
	}
	for n := len(out.List); out.List[n-1].Gap; n = len(out.List) {
		out.List = out.List[:n-1]
	}
	out.Rendition, out.Track = rendition, out.List[len(out.List)-1].Header.Track
	return out, nil
}

func (sh *channelMedia) soundOf(st *renditionMedia) string {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if n := len(st.pending); n > 0 {
		return st.pending[n-1].sound
	}
	if n := len(st.bundles); n > 0 {
		return st.bundles[n-1].Sound
	}
	return ""
}

// ready returns the media of a channel that was looked through.
func (s *Store) ready(channel string) (*channelMedia, error) {
	s.mu.Lock()
	loading := s.loading
	sh := s.shelves[channel]
	s.mu.Unlock()
	if sh == nil && loading {
		return nil, errLoading
	}
	if sh == nil {
		return nil, ErrNothing
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.loading {
		return nil, errLoading
	}
	return sh, nil
}

// Bounds of one list.
const (
	// MaxListed is how many bundles a stretch may lie in.
	//limit:bundles in which a stretch may lie | each request | the request is refused: ask for a shorter stretch
	MaxListed = 20_000
	// maxReading is how many indexes are read at a time, for all time-shift viewers.
	//limit:indexes that are read at a time | all | others wait
	maxReading = 16
)

// ErrTooLong says that a stretch lies in too many bundles.
var ErrTooLong = errors.New("the stretch is too long to be listed at once; ask for a shorter one with to=")

// readIndexes makes the list of a strip from a time on, or to another one, nil when there is nothing. Requests for the same
// are answered with one list.
func (sh *channelMedia) readIndexes(ctx context.Context, st *renditionMedia, from, to time.Time) (*recent, error) {
	if r := sh.cached(st, from); r != nil {
		return r, nil
	}
	key := st.name + " " + from.UTC().Format(time.RFC3339Nano) + " " + to.UTC().Format(time.RFC3339Nano)
	made := sh.lists.DoChan(key, func() (any, error) {
		// Others may wait for it when the first who asked has gone: it ends with the store, or its own bound.
		own, cancel := context.WithTimeout(context.WithoutCancel(ctx), listWithin)
		defer cancel()
		defer context.AfterFunc(sh.s.over, cancel)()
		return sh.list(own, st, from, to)
	})
	select {
	case r := <-made:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(*recent), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// listWithin bounds the making of one list.
const listWithin = time.Minute

// cached returns the newest part of a strip when it reaches back far enough.
func (sh *channelMedia) cached(st *renditionMedia, from time.Time) *recent {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	r := &st.recent
	if len(r.list) == 0 || from.Before(r.from) {
		return nil
	}
	r.used = sh.s.now()
	own := *r
	return &own
}

// contents reads the indexes of bundles, several at a time. Those that cannot be read are left out.
func (sh *channelMedia) contents(ctx context.Context, st *renditionMedia, wanted []Bundle) (out []*contents, err error) {
	all := make([]*contents, len(wanted))
	var done sync.WaitGroup
	for i := range wanted {
		if c, ok := sh.s.cache.Get(wanted[i].Path); ok {
			all[i] = c
			continue
		}
		select {
		case sh.s.reading <- struct{}{}:
		case <-ctx.Done():
			done.Wait()
			return nil, ctx.Err()
		}
		done.Go(func() {
			defer func() { <-sh.s.reading }()
			c, err := sh.contentsOf(st, wanted[i].Path)
			if err != nil {
				sh.s.missing(sh, st, wanted[i].Path, err)
				return
			}
			all[i] = c
		})
	}
	done.Wait()
	return slices.DeleteFunc(all, func(c *contents) bool { return c == nil }), ctx.Err()
}

// list makes a list of what is in memory and in the place.
func (sh *channelMedia) list(ctx context.Context, st *renditionMedia, from, to time.Time) (*recent, error) {
	now := sh.s.now()
	sh.mu.Lock()
	var wanted []Bundle
	for _, b := range st.bundles {
		if !b.lost && b.End.After(from) && (to.IsZero() || b.Begin.Before(to)) {
			wanted = append(wanted, *b)
		}
	}
	sh.mu.Unlock()
	if len(wanted) > MaxListed {
		return nil, ErrTooLong
	}
	all, err := sh.contents(ctx, st, wanted)
	if err != nil {
		return nil, err
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	made := recent{from: from, used: now}
	if len(all) > 0 {
		made.epoch = all[len(all)-1].head.Epoch
	} else if len(st.pending) > 0 {
		made.epoch = st.pending[0].epoch
	}
	until := uint64(0) // the number behind the last segment that is in
	for _, c := range all {
		if !c.head.Epoch.Equal(made.epoch) {
			continue
		}
		for j := range c.list {
			rec := &c.list[j]
			made.append(segmentOf(sh.s.place, c.path, &c.head, c.header, rec), c.head.Ordinal+rec.MSN-c.head.MSN, rec.Breaks)
			until = rec.MSN + 1
		}
	}
	if to.IsZero() || len(st.pending) > 0 && media.WallClock(st.pending[0].epoch, st.pending[0].seg.Start).Before(to) {
		// What was written since the bundles were looked at, and what is not yet.
		if g := st.growing; g != nil && g.head.Epoch.Equal(made.epoch) {
			header := &segment.Header{Name: g.head.Header, Bytes: g.head.Bytes, Track: g.head.Track}
			for j := range g.records[:g.readable] {
				if rec := &g.records[j]; rec.MSN >= until {
					made.append(segmentOf(sh.s.place, g.bundle.Path, &g.head, header, rec), g.head.Ordinal+rec.MSN-g.head.MSN, rec.Breaks)
					until = rec.MSN + 1
				}
			}
		}
		for _, e := range st.pending {
			if e.seg.MSN >= until && e.epoch.Equal(made.epoch) {
				made.append(e.seg, e.ordinal, e.breaks)
				until = e.seg.MSN + 1
			}
		}
	}
	if len(made.list) == 0 {
		return &made, nil
	}
	if to.IsZero() { // it goes on with what comes
		if len(wanted) == 0 || wanted[0].Begin.After(from) {
			made.from = from
		} else {
			made.from = wanted[0].Begin
		}
		st.recent = made
	}
	return &made, nil
}

// contentsOf returns the records of a bundle, from memory or the place.
func (sh *channelMedia) contentsOf(st *renditionMedia, path string) (*contents, error) {
	sh.mu.Lock()
	if g := st.growing; g != nil && g.bundle.Path == path {
		c := &contents{path: path, head: g.head, header: &segment.Header{Name: g.head.Header, Bytes: g.head.Bytes, Track: g.head.Track}, list: g.records[:g.readable:g.readable]}
		sh.mu.Unlock()
		return c, nil
	}
	sh.mu.Unlock()
	if c, ok := sh.s.cache.Get(path); ok {
		return c, nil
	}
	c, _, err := read(sh.s.place, path)
	if err != nil {
		return nil, err
	}
	if len(c.list) == 0 {
		return nil, ErrNothing
	}
	sh.s.remember(c)
	return c, nil
}

// Find returns a kept segment of a rendition by what its name begins with and its number, nil when it is not kept.
func (s *Store) Find(channel, rendition, prefix string, msn uint64) *segment.Segment {
	sh, st := s.stripOf(channel, rendition)
	if st == nil {
		return nil
	}
	sh.mu.Lock()
	for _, e := range st.pending {
		if e.seg.MSN == msn && e.seg.Prefix == prefix {
			out := *e.seg
			out.Made = &segment.Made{}
			sh.mu.Unlock()
			return &out
		}
	}
	var path string
	for i := len(st.bundles) - 1; i >= 0; i-- {
		if b := st.bundles[i]; !b.lost && b.Prefix == prefix && b.FirstMSN <= msn && msn <= b.LastMSN {
			path = b.Path
			break
		}
	}
	sh.mu.Unlock()
	if path == "" {
		return nil
	}
	c, err := sh.contentsOf(st, path)
	if err != nil {
		s.missing(sh, st, path, err)
		return nil
	}
	i, found := slices.BinarySearchFunc(c.list, msn, func(r Record, msn uint64) int { return cmp.Compare(r.MSN, msn) })
	if !found {
		return nil
	}
	return segmentOf(s.place, path, &c.head, c.header, &c.list[i])
}

// Header returns a CMAF header of a rendition by its name, nil when nothing kept has it.
func (s *Store) Header(channel, rendition, name string) *segment.Header {
	sh, st := s.stripOf(channel, rendition)
	if st == nil {
		return nil
	}
	sh.mu.Lock()
	for _, e := range st.pending {
		if e.seg.Header.Name == name {
			sh.mu.Unlock()
			return e.seg.Header
		}
	}
	var paths []string // bundles that have it: one that is missing keeps nobody from what the others hold
	for i := len(st.bundles) - 1; i >= 0 && len(paths) < headerTries; i-- {
		if st.bundles[i].Header == name && !st.bundles[i].lost {
			paths = append(paths, st.bundles[i].Path)
		}
	}
	sh.mu.Unlock()
	for _, path := range paths {
		c, err := sh.contentsOf(st, path)
		if err == nil {
			return c.header
		}
		s.missing(sh, st, path, err)
	}
	return nil
}

// headerTries is in how many bundles a header is looked for.
const headerTries = 32

// remember holds the records of a bundle, since they are likely to be read again.
func (s *Store) remember(c *contents) { s.cache.Put(c.path, c, c.size()) }
