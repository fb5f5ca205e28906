package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

// fill keeps so many segments of a channel and closes the store.
func fill(t *testing.T, place Place, l *ledger, channel string, segments uint64, change func(*Options)) {
	t.Helper()
	s := open(t, place, l, change)
	s.Set(channel, Keeping{TimeShift: 24 * time.Hour})
	src := newSource("source", "a-", media.Video)
	for i := range segments {
		s.Keep(channel, "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
	}
	settled(t, s, channel)
	s.Close()
}

func files(t *testing.T, place Folder) (n int) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(string(place), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			n++
		}
		return err
	}))
	return n
}

func short(o *Options) {
	o.Limits.BundleSpan, o.Now = 10*time.Second, func() time.Time { return epoch.Add(30 * 24 * time.Hour) }
}

// A start whose channels are told late, or never, removes nothing.
func TestNothingGoesBeforeItsChannelIsTold(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	fill(t, place, l, "line", 50, short)
	before := files(t, place)
	require.Greater(t, before, 4)
	s := open(t, place, l, short)
	defer s.Close()
	s.limits.Bytes = 1 // not even when the store is full
	tidied(t, s)
	assert.Equal(t, before, files(t, place))
	assert.Empty(t, s.Quarantined(), "channels may still be told")
	s.Settled()
	q := s.Quarantined()
	require.Len(t, q, 1)
	assert.Equal(t, "line", q[0].Channel)
	assert.Equal(t, whyUnknownChannel, q[0].Why)
	assert.Equal(t, before, 2*q[0].Bundles)

	// A channel whose settings were refused has its recordings held, and the rest stays too.
	s.limits.Bytes = 0
	s.Set("line", Keeping{Undecided: true, Holds: []Hold{{From: epoch, To: epoch.Add(20 * time.Second)}}})
	tidied(t, s)
	assert.Equal(t, before, files(t, place))
	// When the recording of such a channel is removed, what it held goes, and nothing else.
	s.Set("line", Keeping{Undecided: true})
	s.Release("line", Hold{From: epoch, To: epoch.Add(20 * time.Second)})
	tidied(t, s)
	assert.Equal(t, before-4, files(t, place))
	// A person decides about the rest.
	s.Set("line", Keeping{TimeShift: time.Hour})
	tidied(t, s)
	assert.Zero(t, files(t, place), "the rule of the channel is about these very files")
}

// An empty or another database beside a store that holds something.
func TestWhatTheLedgerDoesNotKnowIsSetAside(t *testing.T) {
	place := Folder(t.TempDir())
	fill(t, place, &ledger{}, "line", 50, short)
	before := files(t, place)
	empty := &ledger{}
	s := open(t, place, empty, short)
	s.Set("line", Keeping{TimeShift: time.Hour, Since: epoch.Add(30 * 24 * time.Hour)}) // made again under the same name
	s.Settled()
	s.limits.Bytes = 1
	tidied(t, s)
	assert.Equal(t, before, files(t, place))
	require.Len(t, s.Quarantined(), 1)
	assert.Equal(t, whyUnrecorded, s.Quarantined()[0].Why)
	span, err := s.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	assert.Len(t, span.Renditions[0].List, 50, "it plays all the same")
	assert.Empty(t, empty.all())

	s.limits.Bytes = 0
	s.Set("line", Keeping{TimeShift: time.Hour, Since: epoch.Add(30 * 24 * time.Hour), Holds: []Hold{{From: epoch, To: epoch.Add(time.Minute)}}})
	q, err := s.AdoptQuarantined("line")
	require.NoError(t, err)
	assert.Equal(t, before, 2*q.Bundles)
	tidied(t, s)
	left := files(t, place)
	assert.Greater(t, left, 10, "what a recording holds stays")
	assert.Less(t, left, before, "and the rule is for the rest")
	_, err = s.RemoveQuarantined("line")
	require.Error(t, err, "nothing is left to decide about")
	s.Close()
}

// What a process that was killed left behind is the channel's own, however long ago that was.
func TestTheTailOfAKilledProcessIsItsChannels(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	fill(t, place, l, "line", 50, short)
	l.mu.Lock()
	newest, path := time.Time{}, ""
	for p, b := range l.list {
		if b.Begin.After(newest) {
			newest, path = b.Begin, p
		}
	}
	delete(l.list, path) // as if it had been growing
	l.mu.Unlock()
	s := open(t, place, l, short)
	defer s.Close()
	s.Set("line", Keeping{TimeShift: time.Hour})
	s.Settled()
	assert.Empty(t, s.Quarantined())
	assert.Len(t, l.all(), files(t, place)/2)
	tidied(t, s)
	assert.Zero(t, files(t, place))
}

// stubborn does not remove files for a while.
type stubborn struct {
	Folder
	refuses atomic.Bool
	tries   atomic.Int64
}

func (p *stubborn) Remove(name string) error {
	p.tries.Add(1)
	if p.refuses.Load() {
		return errors.New("not now")
	}
	return p.Folder.Remove(name)
}

// remembering is a ledger that knows what is to go.
type remembering struct{ ledger }

func (l *remembering) Removing(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.list[path]
	b.Removing = true
	l.list[path] = b
}

// What cannot be removed now is removed later, also by the next process.
func TestRemovalsAreNotForgotten(t *testing.T) {
	place, l := &stubborn{Folder: Folder(t.TempDir())}, &remembering{}
	with := func(o *Options) { short(o); o.Ledger = l }
	fill(t, place, &l.ledger, "line", 50, with)
	place.refuses.Store(true)
	s := open(t, place, &l.ledger, with)
	s.Set("line", Keeping{TimeShift: time.Hour})
	s.Tidy()
	require.Eventually(t, func() bool { _, err := s.Deletions(); return err != nil }, 5*time.Second, time.Millisecond)
	assert.NotEmpty(t, l.all())
	begun := time.Now()
	s.Close()
	assert.Less(t, time.Since(begun), 30*time.Second, "a place that refuses does not hold up the end")
	again := open(t, place, &l.ledger, with)
	defer again.Close()
	_, err := again.Span(context.Background(), "line", epoch, time.Time{})
	require.ErrorIs(t, err, ErrNothing, "what is to go is not played any more")
	place.refuses.Store(false)
	require.Eventually(t, func() bool { n, _ := again.Deletions(); return n == 0 }, 20*time.Second, time.Millisecond)
	assert.Zero(t, files(t, place.Folder))
	assert.Empty(t, l.all())
}

// Whether a recording holds a bundle is found the same way however many there are.
func TestManyHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	at := func() time.Time { return epoch.Add(time.Duration(r.IntN(10_000)) * time.Second) }
	for range 50 {
		sh := newShelf(nil, "line")
		for range r.IntN(40) {
			h := Hold{From: at()}
			if h.To = at(); r.IntN(8) == 0 {
				h.To = time.Time{}
			}
			if !h.To.IsZero() && h.To.Before(h.From) {
				h.From, h.To = h.To, h.From
			}
			if r.IntN(3) == 0 {
				h.Renditions = []string{"360p"}
			}
			sh.keeping.Holds = append(sh.keeping.Holds, h)
		}
		for range 200 {
			b := &Bundle{Rendition: []string{"source", "360p"}[r.IntN(2)], Begin: at()}
			b.End = b.Begin.Add(time.Duration(1+r.IntN(600)) * time.Second)
			want := false
			for i := range sh.keeping.Holds {
				want = want || sh.keeping.Holds[i].covers(b.Rendition, b.Begin, b.End)
			}
			require.Equal(t, want, sh.held(b), "%v to %v of %s", b.Begin, b.End, b.Rendition)
		}
	}
}

// The end of an event is whole soon after it, though no further segment comes.
func TestAFeedThatEndsClosesItsBundles(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	var now atomic.Int64
	s := open(t, place, l, func(o *Options) { o.Now = func() time.Time { return epoch.Add(time.Duration(now.Load())) } })
	defer s.Close()
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	for i := range uint64(3) {
		s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
	}
	settled(t, s, "line")
	assert.Empty(t, l.all(), "it may go on")
	now.Store(int64(time.Minute))
	require.Eventually(t, func() bool { return len(l.all()) == 1 }, 10*time.Second, time.Millisecond)
	s.Keep("line", "source", "", epoch, src.segment(3, 3*step, false))
	settled(t, s, "line")
	span, err := s.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	assert.Len(t, span.Renditions[0].List, 4)
	assert.Zero(t, whole(t, s, "line", &span.Renditions[0]))
}

func TestFilesThatAreMissingAreFound(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	fill(t, place, l, "line", 50, short)
	s := open(t, place, l, short)
	defer s.Close()
	hold := Hold{From: epoch, To: epoch.Add(100 * time.Second)}
	s.Set("line", Keeping{Holds: []Hold{hold}})
	report, err := s.Verify(context.Background(), "line", hold)
	require.NoError(t, err)
	assert.True(t, report.Sound())
	assert.Equal(t, 50, report.Segments)
	var paths []string
	for p := range l.list {
		paths = append(paths, filepath.Join(string(place), p))
	}
	require.Greater(t, len(paths), 4)
	require.NoError(t, os.Remove(paths[0]+mediaEnding))
	require.NoError(t, os.Remove(paths[1]+indexEnding))
	require.NoError(t, os.Truncate(paths[2]+mediaEnding, 400))
	b, err := os.ReadFile(paths[3] + mediaEnding)
	require.NoError(t, err)
	b[len(b)-5] ^= 1
	require.NoError(t, os.WriteFile(paths[3]+mediaEnding, b, 0o600))
	s.Audit(0) // by names and sizes
	n, _ := s.Lost("line", hold)
	assert.Equal(t, 3, n)
	assert.Positive(t, status(s, "line").Missing)
	report, err = s.Verify(context.Background(), "line", hold) // by checksums
	require.NoError(t, err)
	assert.Len(t, report.Missing, 2)
	assert.Len(t, report.Damaged, 2)
	n, bytes := s.Lost("line", hold)
	assert.Equal(t, 4, n)
	assert.Positive(t, bytes)
	// A copy that is brought back is good again.
	b[len(b)-5] ^= 1
	require.NoError(t, os.WriteFile(paths[3]+mediaEnding, b, 0o600))
	_, err = s.Verify(context.Background(), "line", hold)
	require.NoError(t, err)
	n, _ = s.Lost("line", hold)
	assert.Equal(t, 3, n)
}

// slowRemote is an object store of which each request takes a while, and which may be away.
type slowRemote struct {
	Folder
	takes time.Duration
	away  atomic.Bool
	mu    sync.Mutex
	most  int
	now   int
}

func (r *slowRemote) Upload(name, path string) error {
	r.mu.Lock()
	r.now++
	r.most = max(r.most, r.now)
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		r.now--
		r.mu.Unlock()
	}()
	time.Sleep(r.takes) // the request
	if r.away.Load() {
		return errors.New("away")
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	f, err := r.Create(name)
	if err != nil {
		return err
	}
	if _, err := f.Write(b); err != nil {
		return err
	}
	return f.Close()
}

// Many channels on an object store that is slow, and away for a while: nothing is lost, and a process that is killed
// leaves what it had for the next one.
func TestASlowObjectStoreLosesNothing(t *testing.T) {
	remote, folder, l := &slowRemote{Folder: Folder(t.TempDir()), takes: 20 * time.Millisecond}, Folder(t.TempDir()), &ledger{}
	spool := func() *Spool {
		p, err := NewSpool(folder, remote, 0, nil)
		require.NoError(t, err)
		return p
	}
	with := func(o *Options) { o.Limits.BundleSpan = 4 * time.Second }
	first := spool()
	s := open(t, first, l, with)
	const channels, segments = 12, 30
	name := func(c int) string { return fmt.Sprintf("mark-%d", c) }
	for c := range channels {
		s.Set(name(c), Keeping{TimeShift: time.Hour})
	}
	remote.away.Store(true)
	for i := range uint64(segments) {
		for c := range channels {
			s.Keep(name(c), "source", "", epoch, newSource("source", "a-", media.Video).segment(i, int64(i)*step, i == 0))
		}
		if i == segments/2 {
			remote.away.Store(false)
		}
	}
	lost := int64(0)
	for c := range channels {
		settled(t, s, name(c))
		lost += status(s, name(c)).Lost
	}
	assert.Zero(t, lost)
	assert.Zero(t, s.queued.Load(), "nothing waits in memory")
	// It is killed: neither closed nor told. What is on its way may arrive or not.
	first.mu.Lock()
	first.over = true
	first.wake.Broadcast()
	first.mu.Unlock()
	first.all.Wait()
	again := open(t, spool(), l, with)
	for c := range channels {
		again.Set(name(c), Keeping{TimeShift: time.Hour})
		span, err := again.Span(context.Background(), name(c), epoch, time.Time{})
		require.NoError(t, err)
		require.Len(t, span.Renditions, 1)
		assert.Len(t, span.Renditions[0].List, segments)
		assert.Zero(t, whole(t, again, name(c), &span.Renditions[0]))
	}
	again.Close()
	assert.LessOrEqual(t, files(t, folder), 0, "all of it is in the object store")
	assert.Greater(t, remote.most, 1, "several go at a time")
	_, err := os.Stat(string(folder))
	require.NoError(t, err)

	// The object store alone has all of it.
	last := open(t, remote, l, with)
	defer last.Close()
	span, err := last.Span(context.Background(), name(3), epoch, time.Time{})
	require.NoError(t, err)
	assert.Zero(t, whole(t, last, name(3), &span.Renditions[0]))
	assert.Len(t, span.Renditions[0].List, segments)
}

func TestASpoolThatIsFullSaysSo(t *testing.T) {
	remote := &slowRemote{Folder: Folder(t.TempDir())}
	remote.away.Store(true)
	p, err := NewSpool(Folder(t.TempDir()), remote, 1000, nil)
	require.NoError(t, err)
	s := open(t, p, &ledger{}, func(o *Options) { o.Limits.BundleSpan = 4 * time.Second })
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	for i := range uint64(12) {
		s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
	}
	require.Eventually(t, func() bool { return strings.Contains(status(s, "line").Error, "no room") }, 5*time.Second, time.Millisecond)
	remote.away.Store(false)
	settled(t, s, "line")
	assert.Zero(t, status(s, "line").Lost)
	s.Close()
}

func TestAPlaceKeepsItsIdentity(t *testing.T) {
	dir := t.TempDir()
	first, err := Identity(Folder(dir))
	require.NoError(t, err)
	again, err := Identity(Folder(dir + "/./"))
	require.NoError(t, err)
	assert.Equal(t, first, again, "however it is spelled")
	other, err := Identity(Folder(t.TempDir()))
	require.NoError(t, err)
	assert.NotEqual(t, first, other)
	require.NoError(t, os.WriteFile(filepath.Join(dir, identityFile), []byte("{}"), 0o600))
	_, err = Identity(Folder(dir))
	assert.ErrorContains(t, err, "without an id")
}
