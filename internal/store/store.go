package store

import (
	"metaplasis/internal/lru"

	"metaplasis/internal/retry"

	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"slices"
	"sort"
	"sync"
	"sync/atomic"
	"time"
)

// Ledger remembers bundles over a restart. Its methods do not wait.
type Ledger interface {
	// Closed says that a bundle is whole, and Removing that its files are to go.
	Closed(Bundle)
	Removing(path string)
	// Removed says that they are gone.
	Removed(path string)
}

// noLedger remembers nothing: the next start reads every index.
type noLedger struct{}

func (noLedger) Closed(Bundle)   {}
func (noLedger) Removing(string) {}
func (noLedger) Removed(string)  {}

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
//
//large:a method for each question that recordings, delivery and retention ask
type Store struct {
	place  Place
	ledger Ledger
	limits Limits
	logger *slog.Logger
	now    func() time.Time
	step   func(string)
	cache  *lru.Cache[string, *contents] // the records of bundles that were read recently, by path
	queued atomic.Int64

	mu        sync.Mutex
	shelves   map[string]*channelMedia
	loading   bool          // what is there is being looked through
	loadedAll chan struct{} // closed when it was
	loadError error         // why it could not be read when it was tried last
	settled   bool          // all channels of the records were told
	deletions deletions
	full      error // why nothing more can go though a limit is passed, nil when none is
	stop      chan struct{}
	stopped   sync.WaitGroup
	deleted   sync.WaitGroup
	reading   chan struct{}   // room for what reads indexes
	over      context.Context // ends with the store
	close     context.CancelFunc
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
	//limit:bytes of indexes and of segments that are held | all | those that were not used longest are dropped
	cacheBytes   = 32 << 20
	tidyEach     = 5 * time.Second
	unusedFor    = 2 * time.Minute
	folderSpan   = 10 * time.Minute
	folderBundle = 1 << 30
)

// Open opens a store and returns when it has looked through what is there. known are the bundles that the ledger
// remembers; those that it does not are looked for where it ends, and their bytes are checked.
func Open(o Options, known []Bundle) (*Store, error) {
	if _, err := o.Place.List(""); err != nil {
		return nil, fmt.Errorf("the store at %s: %w", o.Place, err)
	}
	s := Start(o, func() ([]Bundle, error) { return known, nil })
	if err := s.Loaded(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Start opens a store that looks through what is there beside the media. known returns the bundles that the ledger
// remembers.
func Start(o Options, known func() ([]Bundle, error)) *Store {
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
	s := &Store{place: o.Place, ledger: o.Ledger, limits: o.Limits, logger: o.Logger, now: o.Now, step: o.Step, cache: lru.New[string, *contents](cacheBytes),
		shelves: map[string]*channelMedia{}, stop: make(chan struct{}), loadedAll: make(chan struct{}), reading: make(chan struct{}, maxReading),
		deletions: deletions{wake: make(chan struct{}, 1)}, loading: true}
	s.over, s.close = context.WithCancel(context.Background())
	s.stopped.Add(3)
	go s.loadAll(known)
	go s.tidy()
	go s.audit()
	s.deleted.Add(1)
	go s.deleteFiles()
	return s
}

// loadAll looks through what is there, again until it can be read.
func (s *Store) loadAll(known func() ([]Bundle, error)) {
	defer s.stopped.Done()
	for pause := retry.New(retryFirst, retryMost); ; {
		err := s.load(known)
		s.mu.Lock()
		s.loadError = err
		all := make([]*channelMedia, 0, len(s.shelves))
		if err == nil || errors.Is(err, errStopped) {
			s.loading = false
			for _, sh := range s.shelves {
				all = append(all, sh)
			}
		}
		s.mu.Unlock()
		for _, sh := range all { // those of which nothing was there
			sh.mu.Lock()
			sh.loaded(s)
			sh.mu.Unlock()
		}
		if b, ok := s.place.(buffered); ok && err == nil {
			b.Resume()
		}
		if err == nil || errors.Is(err, errStopped) {
			close(s.loadedAll)
			return
		}
		s.logger.Error("what is kept cannot be looked through now; it is tried again", "error", err)
		if !pause.Until(s.stop) {
			close(s.loadedAll)
			return
		}
	}
}

// buffered is a place of which what is new lies elsewhere first.
type buffered interface {
	Resume()
	Waiting() (bytes int64, since time.Time, err error)
	Close()
}

// Loaded waits until what is there was looked through.
func (s *Store) Loaded() error {
	<-s.loadedAll
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.loadError
}

// closeBudget is for how long a store that is closed writes what waits.
//
//limit:how long a store that is closed writes what waits | all | what is left is told as lost
const closeBudget = 10 * time.Second

// Close writes what waits, for as long as the place takes it and there is time.
func (s *Store) Close() {
	close(s.stop)
	s.close()
	s.stopped.Wait()
	until := time.Now().Add(closeBudget)
	all := s.allShelves()
	for _, sh := range all {
		sh.end(until)
	}
	for _, sh := range all {
		select {
		case <-sh.done:
		case <-time.After(time.Until(until.Add(time.Second))):
			s.logger.Error("the end of what is kept could not be written in time", "channel", sh.slug)
		}
	}
	if b, ok := s.place.(buffered); ok {
		b.Close()
	}
	deleted := make(chan struct{})
	go func() {
		s.deleted.Wait()
		close(deleted)
	}()
	select {
	case <-deleted:
	case <-time.After(closeBudget / 5): // the ledger knows what is still to go
	}
}

func (s *Store) allShelves() []*channelMedia {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := make([]*channelMedia, 0, len(s.shelves))
	for _, sh := range s.shelves {
		all = append(all, sh)
	}
	return all
}

func (sh *channelMedia) end(until time.Time) {
	sh.mu.Lock()
	sh.gone, sh.until = true, until
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
	sh.keeping, sh.covered, sh.decided, sh.changed = k, nil, true, true
	own := sh.judgeFound()
	sh.mu.Unlock()
	for _, b := range own {
		s.ledger.Closed(b)
	}
}

// make returns the media of a channel, made when it is new.
func (s *Store) make(channel string) *channelMedia {
	s.mu.Lock()
	defer s.mu.Unlock()
	sh := s.shelves[channel]
	if sh == nil {
		sh = newShelf(s, channel)
		sh.loading = s.loading
		s.shelves[channel] = sh
		go sh.write()
	}
	return sh
}

func newShelf(s *Store, channel string) *channelMedia {
	return &channelMedia{s: s, slug: channel, strips: map[string]*renditionMedia{}, wake: make(chan struct{}, 1), done: make(chan struct{})}
}

// known returns the media of a channel, nil when there is none.
func (s *Store) known(channel string) *channelMedia {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.shelves[channel]
}

func (s *Store) stripOf(channel, rendition string) (*channelMedia, *renditionMedia) {
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
func (s *Store) missing(sh *channelMedia, st *renditionMedia, path string, err error) {
	s.logger.Error("a bundle cannot be read", "channel", sh.slug, "path", path, "error", err)
	if !isGone(err) {
		return
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	for _, b := range st.bundles {
		if b.Path == path && !b.lost && !b.Removing {
			b.lost, sh.changed = true, true
			st.recent = recent{}
		}
	}
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
	all := s.allShelves()
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
	sh *channelMedia
	st *renditionMedia
	b  *Bundle
}

// totals are how many bytes a channel takes.
type totals struct {
	free, held int64 // of what nobody holds, and of what recordings do
	lost       int64 // of what is not in the place any more though it is to be kept
	oldest     time.Time
	daily      int64 // a day, at the pace of the newest bundles
}

// count brings the totals up to date, when something has changed. The lock is held.
func (sh *channelMedia) count() totals {
	if !sh.changed {
		return sh.sum
	}
	var t totals
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			switch {
			case b.lost:
				t.lost += b.Bytes
				continue
			case sh.held(b):
				t.held += b.Bytes
			default:
				t.free += b.Bytes
			}
			if t.oldest.IsZero() || b.Begin.Before(t.oldest) {
				t.oldest = b.Begin
			}
		}
		if n := len(st.bundles); n > 0 {
			b := st.bundles[n-1]
			if d := b.End.Sub(b.Begin); d > 0 {
				t.daily += int64(float64(b.Bytes) * float64(24*time.Hour) / float64(d))
			}
		}
		if len(st.bundles) == 0 && len(st.pending) > 0 && t.oldest.IsZero() {
			t.oldest = st.pending[0].seg.Arrived
		}
	}
	sh.sum, sh.changed = t, false
	return t
}

// grew books what the bundle that grows has become, without counting all. The lock is held.
func (sh *channelMedia) grew(b *Bundle, before int64) {
	if sh.held(b) {
		sh.sum.held += b.Bytes - before
	} else {
		sh.sum.free += b.Bytes - before
	}
}

// removableOf reports whether a rule may remove a bundle: nobody holds it, it does not grow, and somebody has decided about
// it. The lock is held.
func (sh *channelMedia) removableOf(st *renditionMedia, b *Bundle) bool {
	if b.from == unclaimed {
		return !sh.held(b)
	}
	return sh.decided && !sh.keeping.Undecided && b.from == written && !sh.held(b) && (st.growing == nil || b != &st.growing.bundle)
}

// unheld lists what may go when the store is full, and all that the channel takes.
func (sh *channelMedia) unheld() (out []removable, bytes int64) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if sh.removableOf(st, b) {
				out = append(out, removable{sh, st, b})
			}
		}
	}
	t := sh.count()
	return out, t.free + t.held
}

// expired lists what is past the time-shift or its bytes.
func (sh *channelMedia) expired() (out []removable) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.loading {
		return nil
	}
	oldest := sh.s.now().Add(-sh.keeping.TimeShift)
	var free []removable
	bytes := sh.count().free
	for _, st := range sh.strips {
		for _, b := range st.bundles {
			if b.from == written && !sh.keeping.Undecided && sh.keeping.Bytes == 0 && !b.End.Before(oldest) {
				break // and so are all behind it
			}
			if sh.removableOf(st, b) {
				free = append(free, removable{sh, st, b})
			}
		}
	}
	slices.SortFunc(free, func(a, b removable) int { return a.b.Begin.Compare(b.b.Begin) })
	for _, r := range free {
		if r.b.from == unclaimed || r.b.End.Before(oldest) || sh.keeping.Bytes > 0 && bytes > sh.keeping.Bytes {
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

// remove takes bundles out of what is kept, and has their files removed.
func (s *Store) remove(sh *channelMedia, list []removable) {
	if len(list) == 0 {
		return
	}
	going := map[*renditionMedia]map[*Bundle]bool{}
	sh.mu.Lock()
	for _, r := range list {
		if going[r.st] == nil {
			going[r.st] = map[*Bundle]bool{}
		}
		going[r.st][r.b] = true
		if len(r.st.recent.list) > 0 && !r.st.recent.from.After(r.b.End) {
			r.st.recent = recent{}
		}
	}
	for st, gone := range going {
		st.bundles = slices.DeleteFunc(slices.Clone(st.bundles), func(b *Bundle) bool { return gone[b] })
		if len(st.bundles) == 0 && len(st.pending) == 0 && st.growing == nil {
			delete(sh.strips, st.name)
		}
	}
	sh.changed = true
	sh.mu.Unlock()
	for _, r := range list {
		s.cache.Remove(r.b.Path)
		s.ledger.Removing(r.b.Path)
		s.mu.Lock()
		s.deletions.add(r.b.Path)
		s.mu.Unlock()
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
	Away    string    `json:"away,omitempty"`    // why the object store takes nothing now; what is kept waits in a local folder
	Missing int64     `json:"missing,omitempty"` // bytes that are to be kept and are not in the place, or not whole
	Loading bool      `json:"loading,omitempty"` // what there is is still being looked through after a start
}

// Place says where the store is.
func (s *Store) Place() string { return s.place.String() }

// Held tells what is kept of a stretch: the bytes of its bundles, the renditions, and which of them has the most bytes per second of
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
		first := sort.Search(len(st.bundles), func(i int) bool { return st.bundles[i].End.After(h.From) })
		for _, b := range st.bundles[first:] {
			if !h.To.IsZero() && !b.Begin.Before(h.To) {
				break
			}
			if !b.lost && h.covers(st.name, b.Begin, b.End) {
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
	t := sh.count()
	out.Bytes, out.Held, out.Missing, out.Oldest, out.Daily = t.free+t.held, t.held, t.lost, t.oldest, t.daily
	out.Waiting, out.Lost, out.Written, out.LostNow, out.Loading = sh.queued, sh.lost, sh.written, sh.lostNow, sh.loading
	if b, ok := s.place.(buffered); ok {
		if _, since, err := b.Waiting(); err != nil {
			out.Away, out.Since = err.Error(), since
		}
	}
	if sh.failing != nil {
		out.Error, out.Since = sh.failing.Error(), sh.since
	}
	return out, true
}
