package store

import (
	"metaplasis/internal/retry"

	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Keeping says what is kept of a channel.
type Keeping struct {
	TimeShift time.Duration // how far back viewers may go; 0: nothing is kept for that
	Bytes     int64         // that the time-shift may take; 0: no limit
	Holds     []Hold        // what recordings hold
	Since     time.Time     // when the channel was made: what is older and in no ledger belongs to another one
	Undecided bool          // nobody has said what is to become of what nothing holds: it stays
}

// Hold is a stretch of a channel that is kept for a recording.
type Hold struct {
	From, To   time.Time // To is zero while it goes on
	Renditions []string  // none: all
}

// covers reports whether the hold keeps something of a rendition between two times.
func (h *Hold) covers(rendition string, from, to time.Time) bool {
	return h.From.Before(to) && (h.To.IsZero() || from.Before(h.To)) && (len(h.Renditions) == 0 || slices.Contains(h.Renditions, rendition))
}

// channelMedia is what is kept of one channel.
//
//large:the bundles of a channel, open and closed, behind one lock
type channelMedia struct {
	s    *Store
	slug string

	mu      sync.Mutex
	keeping Keeping
	decided bool                  // somebody has told what is kept
	covered map[string][]interval // what recordings hold, by rendition; nil: to be made
	loading bool                  // what is there is being looked through
	early   []early               // what came meanwhile
	lists   singleflight.Group    // that are being made
	sum     totals
	changed bool // the totals are to be counted again
	strips  map[string]*renditionMedia
	run     run
	next    uint64 // the ordinal behind all that were given
	breaks  uint32 // discontinuities among them
	queue   []*entry
	queued  int64 // bytes of what cannot be read from the place yet
	lost    int64 // segments that were not kept
	lostNow int64 // of them since the place failed
	failing error
	since   time.Time
	written int64 // bytes since the start
	gone    bool
	until   time.Time // until when it may write once it is gone
	wake    chan struct{}
	done    chan struct{}
}

// run numbers the segments that one process made without an interruption of the keeping.
type run struct {
	begun   bool
	prefix  string
	epoch   time.Time
	first   uint64 // number of its first segment
	newest  uint64 // of those that were given
	ordinal uint64 // of that one
	breaks  []runBreak
}

// runBreak is a discontinuity: the number of the segment that begins with it, and how many there were up to it.
type runBreak struct {
	msn   uint64
	count uint32
}

// renditionMedia is what is kept of one rendition.
type renditionMedia struct {
	name    string
	bundles []*Bundle // closed, and of the one that grows what can be read; the oldest first
	growing *growing  // nil between two; changed by the writer's goroutine under the lock
	pending []*entry  // cannot be read from the place yet
	last    uint64    // ordinal behind the newest entry
	recent  recent
}

// entry is a segment on its way into a bundle.
type entry struct {
	strip   *renditionMedia
	seg     *segment.Segment // without parts
	blob    *movable
	epoch   time.Time
	sound   string
	ordinal uint64
	breaks  uint32
}

// movable is a blob that lies in memory until it can be read from the place.
type movable struct {
	size int64
	now  atomic.Pointer[segment.Blob]
}

func newMovable(b segment.Blob) *movable {
	m := &movable{size: b.Size()}
	m.now.Store(&b)
	return m
}

func (m *movable) move(to segment.Blob) { m.now.Store(&to) }

// Size implements segment.Blob.
func (m *movable) Size() int64 { return m.size }

// Pieces implements segment.Blob.
func (m *movable) Pieces() [][]byte { return (*m.now.Load()).Pieces() }

// Open implements segment.Blob.
func (m *movable) Open() (io.ReadSeekCloser, error) { return (*m.now.Load()).Open() }

// errNotKept is why the bytes of a segment are not there.
var errNotKept = errors.New("the segment could not be kept")

// notKept is the blob of what was given up.
type notKept struct{}

// Size implements segment.Blob.
func (notKept) Size() int64 { return 0 }

// Pieces implements segment.Blob.
func (notKept) Pieces() [][]byte { return nil }

// Open implements segment.Blob.
func (notKept) Open() (io.ReadSeekCloser, error) { return nil, errNotKept }

// Keep takes a whole segment of a rendition over, if the channel keeps it. It does not wait. sound names the rendition of sound
// that goes with one of pictures. Gaps are told too, for the discontinuities that they carry.
func (s *Store) Keep(channel, rendition, sound string, epoch time.Time, seg *segment.Segment) {
	sh := s.known(channel)
	if sh == nil {
		return
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.loading {
		if sh.admit(seg.Size) {
			sh.early = append(sh.early, early{rendition, sound, epoch, seg})
		}
		return
	}
	sh.append(rendition, sound, epoch, seg)
}

// admit makes room for bytes in memory, or counts a segment as lost. The lock is held.
func (sh *channelMedia) admit(size int64) bool {
	if sh.queued+size <= maxQueued {
		if sh.s.queued.Add(size) <= maxQueuedAll {
			sh.queued += size
			return true
		}
		sh.s.queued.Add(-size)
	}
	sh.lost++
	sh.lostNow++
	return false
}

// append is Keep of one channel. The lock is held.
func (sh *channelMedia) append(rendition, sound string, epoch time.Time, seg *segment.Segment) {
	begin := media.WallClock(epoch, seg.Start)
	if !sh.wants(rendition, begin, media.WallClock(epoch, seg.Start+seg.Duration)) {
		return
	}
	ordinal, ok := sh.place(seg, epoch)
	if !ok || seg.Gap || seg.Blob == nil {
		return
	}
	st := sh.strips[rendition]
	if st == nil {
		st = &renditionMedia{name: rendition}
		sh.strips[rendition] = st
	}
	if ordinal < st.last {
		return
	}
	if !sh.admit(seg.Size) {
		return
	}
	e := &entry{strip: st, epoch: epoch, sound: sound, ordinal: ordinal, blob: newMovable(seg.Blob)}
	e.breaks = sh.run.count(seg.MSN)
	own := *seg
	own.Parts, own.Made, own.Blob = nil, nil, e.blob
	own.Discontinuity = sh.run.begins(seg.MSN)
	e.seg = &own
	st.last = ordinal + 1
	sh.next = max(sh.next, st.last)
	st.pending = append(st.pending, e)
	st.recent.add(&own, ordinal, e.breaks)
	sh.queue = append(sh.queue, e)
	select {
	case sh.wake <- struct{}{}:
	default:
	}
}

// wants reports whether a segment is to be kept.
func (sh *channelMedia) wants(rendition string, from, to time.Time) bool {
	return !sh.gone && (sh.keeping.TimeShift > 0 || slices.ContainsFunc(sh.keeping.Holds, func(h Hold) bool { return h.covers(rendition, from, to) }))
}

// place gives a segment its ordinal, and books the discontinuity that it begins with.
func (sh *channelMedia) place(seg *segment.Segment, epoch time.Time) (ordinal uint64, ok bool) {
	r := &sh.run
	if !r.begun || r.prefix != seg.Prefix || !r.epoch.Equal(epoch) || seg.MSN > r.newest+maxPause {
		sh.breaks++
		*r = run{begun: true, prefix: seg.Prefix, epoch: epoch, first: seg.MSN, newest: seg.MSN, ordinal: sh.next, breaks: []runBreak{{seg.MSN, sh.breaks}}}
	}
	if seg.MSN < r.first {
		return 0, false
	}
	r.newest = max(r.newest, seg.MSN)
	if seg.Discontinuity && !r.begins(seg.MSN) {
		sh.breaks++
		r.breaks = append(r.breaks, runBreak{seg.MSN, sh.breaks})
		slices.SortFunc(r.breaks, func(a, b runBreak) int { return int(int64(a.msn) - int64(b.msn)) })
		for i := range r.breaks { // renditions tell of them in another order than they lie
			r.breaks[i].count = sh.breaks - uint32(len(r.breaks)-1-i)
		}
		if n := len(r.breaks); n > maxRunBreaks {
			r.breaks = r.breaks[n-maxRunBreaks:]
		}
	}
	return r.ordinal + seg.MSN - r.first, true
}

// maxPause is after how many segments that nobody wanted another run begins: fewer are told as gaps.
//
//limit:segments that nobody wanted and that are told as gaps | each rendition | another run begins
const maxPause = 30

// maxRunBreaks is how many discontinuities of a run are remembered.
//
//limit:discontinuities that are remembered | each run | the oldest are forgotten
const maxRunBreaks = 1024

func (r *run) begins(msn uint64) bool {
	return slices.ContainsFunc(r.breaks, func(b runBreak) bool { return b.msn == msn })
}

// count is how many discontinuities there were up to the beginning of a segment.
func (r *run) count(msn uint64) (n uint32) {
	for _, b := range r.breaks {
		if b.msn > msn {
			break
		}
		n = b.count
	}
	return n
}

// Bounds of what waits to be written, in bytes of media: of one channel, and of all.
const (
	//limit:bytes that wait to be written | each rendition | segments are dropped, counted and told
	maxQueued = 64 << 20
	//limit:bytes that wait to be written | all | segments are dropped, counted and told
	maxQueuedAll = 384 << 20
)

// growing is a bundle that is being written. It belongs to the writer's goroutine.
type growing struct {
	head       Head
	bundle     Bundle
	media      File
	index      File
	offset     int64
	indexBytes int64
	first      int64 // where the first segment begins, ticks of media.VideoTimescale
	records    []Record
	entries    []*entry // that cannot be read yet
	readable   int      // records that can
	touched    time.Time
}

// A bundle to which nothing is added for so long is closed: its feed has ended.
const (
	idleEach  = 2 * time.Second
	idleAfter = 10 * time.Second
)

// closeIdle closes the bundles of feeds that have ended.
func (sh *channelMedia) closeIdle() {
	for _, st := range sh.all() {
		g := st.growing
		if g == nil || sh.s.now().Sub(g.touched) < max(idleAfter, 3*media.Duration(g.records[len(g.records)-1].Duration, media.VideoTimescale)) {
			continue
		}
		if err := sh.finish(st); err != nil {
			sh.fail(err)
		}
	}
}

// idle waits for something to write.
func (sh *channelMedia) idle() {
	timer := time.NewTimer(idleEach)
	defer timer.Stop()
	select {
	case <-sh.wake:
	case <-timer.C:
		sh.closeIdle()
	}
}

// write brings what comes into bundles until the channel is closed.
func (sh *channelMedia) write() {
	defer close(sh.done)
	pause := retry.New(retryFirst, retryMost)
	for {
		e, stop := sh.nextEntry()
		if stop {
			for _, st := range sh.all() {
				if err := sh.finish(st); err != nil {
					sh.s.logger.Error("the end of what is kept could not be written", "channel", sh.slug, "rendition", st.name, "error", err)
				}
			}
			return
		}
		if e == nil {
			sh.idle()
			continue
		}
		if sh.late() {
			sh.drop(e)
			continue
		}
		if err := sh.put(e); err != nil {
			sh.fail(err)
			if !sh.throttle(pause.Take()) { // at the end one attempt is enough
				sh.drop(e)
				continue
			}
			continue
		}
		sh.well()
		pause.Reset()
	}
}

// Pauses between two attempts to write.
const (
	retryFirst = 250 * time.Millisecond
	retryMost  = 5 * time.Second
)

// throttle waits before the next attempt, and reports whether there is to be one.
func (sh *channelMedia) throttle(pause time.Duration) bool {
	timer := time.NewTimer(pause)
	defer timer.Stop()
	for {
		sh.mu.Lock()
		gone := sh.gone
		sh.mu.Unlock()
		if gone {
			return false
		}
		select {
		case <-timer.C:
			return true
		case <-sh.wake:
		}
	}
}

// late reports whether the time to write is over, since the store is closed.
func (sh *channelMedia) late() bool {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return sh.gone && time.Now().After(sh.until)
}

// nextEntry returns the oldest entry that is not written, nil when there is none; stop says that no other will come.
func (sh *channelMedia) nextEntry() (e *entry, stop bool) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if len(sh.queue) > 0 {
		return sh.queue[0], false
	}
	return nil, sh.gone
}

func (sh *channelMedia) all() []*renditionMedia {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	var out []*renditionMedia
	for _, st := range sh.strips {
		out = append(out, st)
	}
	return out
}

// drop gives an entry up, wherever in the queue it is by now.
func (sh *channelMedia) drop(e *entry) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	sh.unqueue(e)
	sh.lost++
	sh.forget(e)
	e.blob.move(notKept{})
	e.strip.recent = recent{}
}

// unqueue takes an entry out of the queue. The lock is held.
func (sh *channelMedia) unqueue(e *entry) {
	switch i := slices.Index(sh.queue, e); i {
	case -1:
	case 0:
		sh.queue[0] = nil
		sh.queue = sh.queue[1:]
	default:
		sh.queue = slices.Delete(sh.queue, i, i+1)
	}
}

// forget takes an entry out of those in memory. The lock is held.
func (sh *channelMedia) forget(e *entry) {
	if i := slices.Index(e.strip.pending, e); i >= 0 {
		e.strip.pending = slices.Delete(slices.Clone(e.strip.pending), i, i+1)
	}
	sh.queued -= e.seg.Size
	sh.s.queued.Add(-e.seg.Size)
}

func (sh *channelMedia) fail(err error) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.failing == nil {
		sh.since = sh.s.now()
		sh.lostNow = 0
		sh.s.logger.Error("what was on air cannot be kept now; it waits", "channel", sh.slug, "error", err)
	}
	sh.failing = err
}

func (sh *channelMedia) well() {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	sh.failing = nil
	if sh.queued < maxQueued/2 {
		sh.lostNow = 0
	}
}

// put writes an entry.
func (sh *channelMedia) put(e *entry) error {
	st := e.strip
	if g := st.growing; g != nil && sh.isFull(g, e) {
		if err := sh.finish(st); err != nil {
			return err
		}
	}
	if st.growing == nil {
		if err := sh.begin(st, e); err != nil {
			return err
		}
	}
	g := st.growing
	sum := uint32(0)
	pieces := (*e.blob.now.Load()).Pieces()
	for _, p := range pieces {
		sum = crc32.Update(sum, castagnoli, p)
	}
	r := Record{
		MSN: e.seg.MSN, Start: e.seg.Start, Duration: e.seg.Duration, FirstPTS: e.seg.FirstPTS, TrackDuration: e.seg.TrackDuration, Offset: g.offset,
		Size: uint32(e.seg.Size), KeySize: uint32(e.seg.KeySize), Units: uint32(e.seg.Units), Breaks: e.breaks, Sum: sum, Discontinuity: e.seg.Discontinuity,
	}
	for _, p := range pieces {
		if _, err := g.media.Write(p); err != nil {
			return sh.abandon(st, fmt.Errorf("writing %s: %w", g.bundle.Path+mediaEnding, err))
		}
	}
	sh.s.step(stepMedia)
	if _, err := g.index.Write(r.append(nil)); err != nil {
		return sh.abandon(st, fmt.Errorf("writing %s: %w", g.bundle.Path+indexEnding, err))
	}
	sh.s.step(stepRecord)
	g.offset += int64(r.Size)
	g.indexBytes += recordSize
	sh.mu.Lock()
	g.records = append(g.records, r)
	g.entries = append(g.entries, e)
	g.touched = sh.s.now()
	sh.unqueue(e)
	sh.written += int64(r.Size) + recordSize
	sh.settle(st, g, g.media.Readable())
	sh.mu.Unlock()
	return nil
}

// isFull reports whether an entry begins another bundle.
func (sh *channelMedia) isFull(g *growing, e *entry) bool {
	sh.mu.Lock()
	span := sh.span()
	sh.mu.Unlock()
	return g.head.Header != e.seg.Header.Name || g.head.Prefix != e.seg.Prefix || !g.head.Epoch.Equal(e.epoch) || g.head.Sound != e.sound ||
		e.seg.Start-g.first >= int64(span/time.Second)*media.VideoTimescale || g.offset >= sh.s.limits.BundleBytes || e.seg.Start < g.first
}

// span is how much media a bundle holds: enough that there are few, and little enough that a short time-shift does not keep
// much more than it was asked to. The lock is held.
func (sh *channelMedia) span() time.Duration {
	return max(min(sh.keeping.TimeShift/6, sh.s.limits.BundleSpan), min(time.Minute, sh.s.limits.BundleSpan))
}

// settle lets what can be read from the place by now leave memory. The lock is held.
func (sh *channelMedia) settle(st *renditionMedia, g *growing, readable int64) {
	for len(g.entries) > 0 {
		r := &g.records[g.readable]
		if r.Offset+int64(r.Size) > readable {
			break
		}
		e := g.entries[0]
		g.entries = g.entries[1:]
		g.readable++
		e.blob.move(kept{sh.s.place, g.bundle.Path + mediaEnding, r.Offset, int64(r.Size)})
		sh.forget(e)
	}
	if g.readable == 0 {
		return
	}
	before := g.bundle.Bytes
	g.bundle.of(&g.head, g.records[:g.readable], g.indexBytes)
	sh.grew(&g.bundle, before)
	if g.readable > 0 && (len(st.bundles) == 0 || st.bundles[len(st.bundles)-1] != &g.bundle) {
		st.bundles, sh.changed = append(st.bundles, &g.bundle), true
	}
}

// begin makes a bundle for an entry.
func (sh *channelMedia) begin(st *renditionMedia, e *entry) error {
	at := media.WallClock(e.epoch, e.seg.Start).UTC()
	g := &growing{first: e.seg.Start, head: Head{
		Channel: sh.slug, Rendition: st.name, Sound: e.sound, Epoch: e.epoch, Prefix: e.seg.Prefix, MSN: e.seg.MSN, Ordinal: e.ordinal,
		Header: e.seg.Header.Name, Bytes: e.seg.Header.Bytes, Track: e.seg.Header.Track,
	}}
	g.bundle.Path = fmt.Sprintf("%s/%s/%s/%s-%s", sh.slug, at.Format("2006-01-02"), st.name, at.Format("150405"), e.seg.Name())
	line, err := g.head.marshal()
	if err != nil {
		return err
	}
	if g.media, err = sh.s.place.Create(g.bundle.Path + mediaEnding); err != nil {
		return fmt.Errorf("making %s: %w", g.bundle.Path+mediaEnding, err)
	}
	sh.grow(st, g)
	if _, err = g.media.Write(g.head.Bytes); err != nil {
		return sh.abandon(st, fmt.Errorf("writing %s: %w", g.bundle.Path+mediaEnding, err))
	}
	sh.s.step(stepHeader)
	if g.index, err = sh.s.place.Create(g.bundle.Path + indexEnding); err != nil {
		return sh.abandon(st, fmt.Errorf("making %s: %w", g.bundle.Path+indexEnding, err))
	}
	if _, err = g.index.Write(line); err != nil {
		return sh.abandon(st, fmt.Errorf("writing %s: %w", g.bundle.Path+indexEnding, err))
	}
	sh.s.step(stepHead)
	g.offset, g.indexBytes = int64(len(g.head.Bytes)), int64(len(line))
	return nil
}

// abandon ends a bundle that cannot be written any further. What it holds that can be read stays; what cannot is written again.
func (sh *channelMedia) abandon(st *renditionMedia, why error) error {
	g := st.growing
	sh.grow(st, nil)
	_ = g.media.Close()
	if g.index != nil {
		_ = g.index.Close()
	}
	sh.mu.Lock()
	sh.queue = append(slices.Clone(g.entries), sh.queue...)
	closed := sh.close(g)
	sh.mu.Unlock()
	if closed == nil {
		_ = sh.s.place.Remove(g.bundle.Path + indexEnding)
		_ = sh.s.place.Remove(g.bundle.Path + mediaEnding)
	} else {
		sh.s.ledger.Closed(*closed)
	}
	return why
}

// close notes a bundle that does not grow any more, and returns it, nil when nothing of it can be read. The lock is held.
func (sh *channelMedia) close(g *growing) *Bundle {
	if g.readable == 0 {
		return nil
	}
	sh.s.remember(&contents{path: g.bundle.Path, head: g.head, header: &segment.Header{Name: g.head.Header, Bytes: g.head.Bytes, Track: g.head.Track},
		list: g.records[:g.readable]})
	g.records, g.entries = nil, nil
	closed := g.bundle
	return &closed
}

// grow says which bundle of a strip grows.
func (sh *channelMedia) grow(st *renditionMedia, g *growing) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	st.growing = g
}

// finish closes the bundle of a strip that grows.
func (sh *channelMedia) finish(st *renditionMedia) error {
	g := st.growing
	if g == nil {
		return nil
	}
	if err := g.media.Close(); err != nil {
		g.media = closed{}
		return sh.abandon(st, fmt.Errorf("closing %s: %w", g.bundle.Path+mediaEnding, err))
	}
	g.media = closed{}
	sh.s.step(stepMediaClosed)
	if err := g.index.Close(); err != nil {
		g.index = closed{}
		return sh.abandon(st, fmt.Errorf("closing %s: %w", g.bundle.Path+indexEnding, err))
	}
	sh.s.step(stepIndexClosed)
	sh.mu.Lock()
	st.growing = nil
	sh.settle(st, g, 1<<62)
	done := sh.close(g)
	sh.mu.Unlock()
	if done != nil {
		sh.s.ledger.Closed(*done)
	}
	sh.s.step(stepTold)
	return nil
}

// closed is a file that was closed already.
type closed struct{ File }

// Close implements File.
func (closed) Close() error { return nil }
