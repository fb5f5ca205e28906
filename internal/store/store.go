package store

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Ledger remembers bundles over a restart. Its methods do not wait.
type Ledger interface {
	Closed(Bundle)
	Removed(path string)
}

// noLedger remembers nothing: the next start reads every index.
type noLedger struct{}

func (noLedger) Closed(Bundle)  {}
func (noLedger) Removed(string) {}

// Limits of a store.
type Limits struct {
	Bytes       int64         // that all channels may take together; 0: no limit
	BundleSpan  time.Duration // media in a bundle; 0 is what suits the place
	BundleBytes int64         // the same in bytes
}

// Options of a store.
type Options struct {
	Place  Place
	Ledger Ledger // nil: none
	Limits Limits
	Logger *slog.Logger     // nil: none
	Now    func() time.Time // nil: time.Now
	Step   func(string)     // is called at each step of writing, for tests; nil: nobody
}

// Store keeps what has been on air.
type Store struct {
	place  Place
	ledger Ledger
	limits Limits
	logger *slog.Logger
	now    func() time.Time
	step   func(string)
	cache  *cache
	queued atomic.Int64

	mu      sync.Mutex
	shelves map[string]*shelf
	full    error // why nothing more can go though a limit is passed, nil when none is
	stop    chan struct{}
	stopped sync.WaitGroup
}

// The steps of writing, as Options.Step is told them.
const (
	stepHeader      = "header written"
	stepHead        = "index begun"
	stepMedia       = "segment written"
	stepRecord      = "record written"
	stepMediaClosed = "media closed"
	stepIndexClosed = "index closed"
	stepTold        = "ledger told"
)

const (
	cacheBytes   = 32 << 20
	tidyEach     = 5 * time.Second
	unusedFor    = 2 * time.Minute
	folderSpan   = 10 * time.Minute
	folderBundle = 1 << 30
)

// Open opens a store. known are the bundles that the ledger remembers; those that it does not are looked for where it
// ends, and their bytes are checked.
func Open(o Options, known []Bundle) (*Store, error) {
	if o.Ledger == nil {
		o.Ledger = noLedger{}
	}
	if o.Logger == nil {
		o.Logger = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Step == nil {
		o.Step = func(string) {}
	}
	if o.Limits.BundleSpan == 0 {
		o.Limits.BundleSpan = folderSpan
	}
	if o.Limits.BundleBytes == 0 {
		o.Limits.BundleBytes = folderBundle
	}
	s := &Store{place: o.Place, ledger: o.Ledger, limits: o.Limits, logger: o.Logger, now: o.Now, step: o.Step, cache: newCache(cacheBytes),
		shelves: map[string]*shelf{}, stop: make(chan struct{})}
	if err := s.load(known); err != nil {
		return nil, err
	}
	for _, sh := range s.shelves {
		go sh.write()
	}
	s.stopped.Add(1)
	go s.tidy()
	return s, nil
}

// Close writes what waits, for as long as the place takes it.
func (s *Store) Close() {
	close(s.stop)
	s.stopped.Wait()
	s.mu.Lock()
	all := make([]*shelf, 0, len(s.shelves))
	for _, sh := range s.shelves {
		all = append(all, sh)
	}
	s.mu.Unlock()
	for _, sh := range all {
		sh.end()
	}
	for _, sh := range all {
		<-sh.done
	}
}

func (sh *shelf) end() {
	sh.mu.Lock()
	sh.gone = true
	sh.mu.Unlock()
	select {
	case sh.wake <- struct{}{}:
	default:
	}
}

// Set says what is kept of a channel from now on.
func (s *Store) Set(channel string, k Keeping) {
	sh := s.make(channel)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	sh.keeping = k
}

// make returns the shelf of a channel, made when it is new.
func (s *Store) make(channel string) *shelf {
	s.mu.Lock()
	defer s.mu.Unlock()
	sh := s.shelves[channel]
	if sh == nil {
		sh = newShelf(s, channel)
		s.shelves[channel] = sh
		go sh.write()
	}
	return sh
}

func newShelf(s *Store, channel string) *shelf {
	return &shelf{s: s, slug: channel, strips: map[string]*strip{}, wake: make(chan struct{}, 1), done: make(chan struct{})}
}

// known returns the shelf of a channel, nil when there is none.
func (s *Store) known(channel string) *shelf {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.shelves[channel]
}

func (s *Store) stripOf(channel, rendition string) (*shelf, *strip) {
	sh := s.known(channel)
	if sh == nil {
		return nil, nil
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return sh, sh.strips[rendition]
}

// Has reports whether anything is kept of a channel.
func (s *Store) Has(channel string) bool {
	sh := s.known(channel)
	if sh == nil {
		return false
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return len(sh.strips) > 0
}

func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrNothing) }

// missing notes a bundle that cannot be read.
func (s *Store) missing(sh *shelf, st *strip, path string, err error) {
	s.logger.Error("a bundle cannot be read", "channel", sh.slug, "path", path, "error", err)
	if !isGone(err) {
		return
	}
	sh.mu.Lock()
	st.bundles = slices.DeleteFunc(slices.Clone(st.bundles), func(b *Bundle) bool { return b.Path == path })
	st.recent = recent{}
	sh.mu.Unlock()
	s.ledger.Removed(path)
}

// load takes the bundles that are known, and those that lie in the place behind them.
func (s *Store) load(known []Bundle) error {
	newest := map[string]time.Time{} // of each channel
	have := map[string]bool{}
	for i := range known {
		b := &known[i]
		have[b.Path] = true
		s.adopt(b)
		if b.Begin.After(newest[b.Channel]) {
			newest[b.Channel] = b.Begin
		}
	}
	channels, err := s.place.List("")
	if err != nil {
		return fmt.Errorf("the store at %s: %w", s.place, err)
	}
	for _, c := range channels {
		slug, folder := strings.CutSuffix(c.Name, "/")
		if !folder {
			continue
		}
		days, err := s.place.List(slug)
		if err != nil {
			return err
		}
		from := newest[slug].Add(-24 * time.Hour).Format("2006-01-02")
		for _, day := range days {
			if d, folder := strings.CutSuffix(day.Name, "/"); folder && (newest[slug].IsZero() || d >= from) {
				if err := s.look(slug+"/"+d, have); err != nil {
					return err
				}
			}
		}
	}
	for _, sh := range s.shelves {
		for _, st := range sh.strips {
			slices.SortFunc(st.bundles, func(a, b *Bundle) int { return a.Begin.Compare(b.Begin) })
			for _, b := range st.bundles {
				end := b.Ordinal + b.LastMSN - b.FirstMSN + 1
				st.last = max(st.last, end)
				sh.next, sh.breaks = max(sh.next, end), max(sh.breaks, b.Breaks)
			}
		}
	}
	return nil
}

func (s *Store) adopt(b *Bundle) {
	sh := s.shelves[b.Channel]
	if sh == nil {
		sh = newShelf(s, b.Channel)
		s.shelves[b.Channel] = sh
	}
	st := sh.strips[b.Rendition]
	if st == nil {
		st = &strip{name: b.Rendition}
		sh.strips[b.Rendition] = st
	}
	st.bundles = append(st.bundles, b)
}

// look takes the bundles of a day that are not known.
func (s *Store) look(day string, have map[string]bool) error {
	renditions, err := s.place.List(day)
	if err != nil {
		return err
	}
	for _, r := range renditions {
		files, err := s.place.List(day + "/" + strings.TrimSuffix(r.Name, "/"))
		if err != nil {
			return err
		}
		folder := day + "/" + r.Name
		indexed := map[string]bool{}
		for _, f := range files {
			if base, index := strings.CutSuffix(f.Name, indexEnding); index {
				indexed[base] = true
				if path := folder + base; !have[path] {
					s.recover(path, f.Size)
				}
			}
		}
		for _, f := range files { // what was begun and has no index
			if base, ok := strings.CutSuffix(f.Name, mediaEnding); ok && !indexed[base] {
				_ = s.place.Remove(folder + f.Name)
			}
		}
	}
	return nil
}

// recover takes a bundle whose index lies in the place, as far as it is whole.
func (s *Store) recover(path string, size int64) {
	c, whole, err := read(s.place, path)
	n := 0
	if err == nil {
		n, err = check(s.place, path, c)
	}
	if isGone(err) || err == nil && n == 0 {
		_ = s.place.Remove(path + indexEnding)
		_ = s.place.Remove(path + mediaEnding)
		return
	}
	if err != nil {
		s.logger.Error("a bundle cannot be read, and is left alone", "path", path, "error", err)
		return
	}
	if cut := int64(len(c.list)-n) * recordSize; cut > 0 || whole < size {
		if err := s.place.Truncate(path+indexEnding, whole-cut); err != nil {
			s.logger.Error("the end of an index cannot be cut off", "path", path, "error", err)
		}
		whole -= cut
	}
	c.list = c.list[:n]
	last := &c.list[n-1]
	if err := s.place.Truncate(path+mediaEnding, last.Offset+int64(last.Size)); err != nil {
		s.logger.Error("the end of a bundle cannot be cut off", "path", path, "error", err)
	}
	b := &Bundle{Path: path}
	b.of(&c.head, c.list, whole)
	s.adopt(b)
	s.ledger.Closed(*b)
}

// tidy drops what is older than it is to be kept, until the store is closed.
func (s *Store) tidy() {
	defer s.stopped.Done()
	t := time.NewTicker(tidyEach)
	defer t.Stop()
	for {
		select {
		case <-s.stop:
			return
		case <-t.C:
			s.Tidy()
		}
	}
}

// Tidy drops what is older than it is to be kept, and then the oldest until the limits hold.
func (s *Store) Tidy() {
	s.mu.Lock()
	all := make([]*shelf, 0, len(s.shelves))
	for _, sh := range s.shelves {
		all = append(all, sh)
	}
	s.mu.Unlock()
	for _, sh := range all {
		s.remove(sh, sh.expired())
	}
	if s.limits.Bytes == 0 {
		return
	}
	var free []removable
	var total int64
	for _, sh := range all {
		list, bytes := sh.unheld()
		free, total = append(free, list...), total+bytes
	}
	slices.SortFunc(free, func(a, b removable) int { return a.b.Begin.Compare(b.b.Begin) })
	for i := range free {
		if total <= s.limits.Bytes {
			break
		}
		total -= free[i].b.Bytes
		s.remove(free[i].sh, free[i:i+1])
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.full = nil
	if total > s.limits.Bytes {
		s.full = fmt.Errorf("recordings hold %d MB, the limit of the store is %d MB", total>>20, s.limits.Bytes>>20)
	}
}

// removable is a bundle that may go.
type removable struct {
	sh *shelf
	st *strip
	b  *Bundle
}

// held reports whether a recording holds a bundle. The lock is held.
func (sh *shelf) held(b *Bundle) bool {
	return slices.ContainsFunc(sh.keeping.Holds, func(h Hold) bool { return h.covers(b.Rendition, b.Begin, b.End) })
}

// free lists the bundles that no recording holds and that do not grow, the oldest first. The lock is held.
func (sh *shelf) free() (out []removable, bytes, heldBytes int64) {
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			switch {
			case sh.held(b):
				heldBytes += b.Bytes
			case st.growing != nil && b == &st.growing.bundle:
				bytes += b.Bytes
			default:
				bytes += b.Bytes
				out = append(out, removable{sh, st, b})
			}
		}
	}
	slices.SortFunc(out, func(a, b removable) int { return a.b.Begin.Compare(b.b.Begin) })
	return out, bytes, heldBytes
}

func (sh *shelf) unheld() ([]removable, int64) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	list, bytes, held := sh.free()
	return list, bytes + held
}

// expired lists what is past the time-shift or its bytes.
func (sh *shelf) expired() (out []removable) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	list, bytes, _ := sh.free()
	oldest := sh.s.now().Add(-sh.keeping.TimeShift)
	for _, r := range list {
		if r.b.End.Before(oldest) || sh.keeping.Bytes > 0 && bytes > sh.keeping.Bytes {
			out = append(out, r)
			bytes -= r.b.Bytes
		}
	}
	for _, st := range sh.strips {
		if r := &st.recent; len(r.list) > 0 {
			if sh.s.now().Sub(r.used) > unusedFor {
				st.recent = recent{}
			} else {
				r.cut(oldest)
			}
		}
	}
	return out
}

// remove removes bundles: the index first, so that nothing is listed that is not there.
func (s *Store) remove(sh *shelf, list []removable) {
	for _, r := range list {
		sh.mu.Lock()
		r.st.bundles = slices.DeleteFunc(slices.Clone(r.st.bundles), func(b *Bundle) bool { return b == r.b })
		if len(r.st.recent.list) > 0 && !r.st.recent.from.After(r.b.End) {
			r.st.recent = recent{}
		}
		if len(r.st.bundles) == 0 && len(r.st.pending) == 0 && r.st.growing == nil {
			delete(sh.strips, r.st.name)
		}
		sh.mu.Unlock()
		s.cache.forget(r.b.Path)
		s.ledger.Removed(r.b.Path)
		err := s.place.Remove(r.b.Path + indexEnding)
		if err = errors.Join(err, s.place.Remove(r.b.Path+mediaEnding)); err != nil {
			s.logger.Error("a bundle cannot be removed", "path", r.b.Path, "error", err)
		}
	}
}

// Stock says how the keeping of a channel is.
type Stock struct {
	Oldest  time.Time `json:"oldest,omitzero"`   // of what is kept
	Bytes   int64     `json:"bytes"`             // of it
	Held    int64     `json:"held,omitempty"`    // of that for recordings
	Waiting int64     `json:"waiting"`           // bytes that are not written yet
	Lost    int64     `json:"lost,omitempty"`    // segments that could not be kept since the start
	Written int64     `json:"written"`           // bytes since the start
	Daily   int64     `json:"daily"`             // bytes a day at the pace of the last hours
	Error   string    `json:"error,omitempty"`   // why nothing can be written now
	Since   time.Time `json:"since,omitzero"`    // when that began
	LostNow int64     `json:"lostNow,omitempty"` // segments lost since then
	Full    string    `json:"full,omitempty"`    // why a limit cannot be kept
}

// Place says where the store is.
func (s *Store) Place() string { return s.place.String() }

// Held tells what is kept of a stretch: the bytes of its bundles, the renditions, and which of them has the most bytes a second of
// pictures, or of sound when there are none.
func (s *Store) Held(channel string, h Hold) (bytes int64, renditions []string, best string) {
	sh := s.known(channel)
	if sh == nil {
		return 0, []string{}, ""
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	renditions = []string{}
	var most float64
	for _, st := range sh.strips {
		var own int64
		var span time.Duration
		pictures := false
		for _, b := range st.bundles {
			if h.covers(st.name, b.Begin, b.End) {
				own += int64(float64(b.Bytes) * h.share(b))
				span += b.End.Sub(b.Begin)
				pictures = pictures || b.Sound != ""
			}
		}
		if own == 0 {
			continue
		}
		bytes += own
		renditions = append(renditions, st.name)
		rate := float64(own) / max(span.Seconds(), 1)
		if pictures {
			rate *= 1e6
		}
		if rate > most {
			most, best = rate, st.name
		}
	}
	slices.Sort(renditions)
	return bytes, renditions, best
}

// share is how much of a bundle lies within the hold, as a part of 1.
func (h *Hold) share(b *Bundle) float64 {
	from, to := b.Begin, b.End
	if h.From.After(from) {
		from = h.From
	}
	if !h.To.IsZero() && h.To.Before(to) {
		to = h.To
	}
	all := b.End.Sub(b.Begin)
	if all <= 0 {
		return 1
	}
	return min(max(float64(to.Sub(from))/float64(all), 0), 1)
}

// Status returns how the keeping of a channel is, and whether anything is or was kept of it.
func (s *Store) Status(channel string) (out Stock, known bool) {
	sh := s.known(channel)
	if sh == nil {
		return out, false
	}
	s.mu.Lock()
	if s.full != nil {
		out.Full = s.full.Error()
	}
	s.mu.Unlock()
	sh.mu.Lock()
	defer sh.mu.Unlock()
	_, free, held := sh.free()
	out.Bytes, out.Held, out.Waiting, out.Lost, out.Written, out.LostNow = free+held, held, sh.queued, sh.lost, sh.written, sh.lostNow
	var span time.Duration
	var bytes int64
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if out.Oldest.IsZero() || b.Begin.Before(out.Oldest) {
				out.Oldest = b.Begin
			}
		}
		if n := len(st.bundles); n > 0 {
			b := st.bundles[n-1]
			if d := b.End.Sub(b.Begin); d > 0 {
				span = max(span, d)
				bytes += int64(float64(b.Bytes) * float64(24*time.Hour) / float64(d))
			}
		}
		if len(st.bundles) == 0 && len(st.pending) > 0 && out.Oldest.IsZero() {
			out.Oldest = st.pending[0].seg.Arrived
		}
	}
	out.Daily = bytes
	if sh.failing != nil {
		out.Error, out.Since = sh.failing.Error(), sh.since
	}
	return out, true
}
