package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

var epoch = time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)

// two seconds a segment
const step = 2 * media.VideoTimescale

// source makes segments of a rendition whose bytes tell what they are.
type source struct {
	name   string
	prefix string
	header *segment.Header
}

func newSource(name, prefix string, kind media.Kind) *source {
	return &source{name, prefix, &segment.Header{Name: "header-" + name + ".mp4", Bytes: []byte("header of " + name),
		Track: media.Track{Kind: kind, Codec: media.H264, Timescale: 90_000, Width: 640, Height: 360, Config: []byte{1, 2}}}}
}

func (s *source) bytes(msn uint64) []byte {
	return []byte(strings.Repeat(fmt.Sprintf("%s %s%d;", s.name, s.prefix, msn), 20))
}

func (s *source) segment(msn uint64, at int64, discontinuity bool) *segment.Segment {
	b := s.bytes(msn)
	return &segment.Segment{MSN: msn, Prefix: s.prefix, Discontinuity: discontinuity, Start: at, Duration: step, Header: s.header, ETag: segment.Tag(msn, s.header),
		Size: int64(len(b)), Blob: segment.Memory{b[:10], b[10:]}, Units: 50, FirstPTS: at, TrackDuration: step, KeySize: 9}
}

// ledger remembers in memory.
type ledger struct {
	mu   sync.Mutex
	list map[string]Bundle
}

func (l *ledger) Closed(b Bundle) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.list == nil {
		l.list = map[string]Bundle{}
	}
	l.list[b.Path] = b
}

func (l *ledger) Removing(string) {}

func (l *ledger) Removed(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.list, path)
}

func (l *ledger) all() (out []Bundle) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, b := range l.list {
		out = append(out, b)
	}
	return out
}

// open opens a store on a folder, whose clock stands where it is told.
func open(t *testing.T, place Place, l *ledger, change func(*Options)) *Store {
	t.Helper()
	o := Options{Place: place, Ledger: l, Now: func() time.Time { return epoch.Add(time.Hour) }}
	if change != nil {
		change(&o)
	}
	s, err := Open(o, l.all())
	require.NoError(t, err)
	return s
}

func status(s *Store, channel string) Stock {
	st, _ := s.Status(channel)
	return st
}

// settled waits until all that was handed over is written.
func settled(t *testing.T, s *Store, channel string) {
	t.Helper()
	require.Eventually(t, func() bool { return status(s, channel).Waiting == 0 }, 5*time.Second, time.Millisecond)
}

// tidied lets the store remove what it may, and waits until it is gone.
func tidied(t *testing.T, s *Store) {
	t.Helper()
	s.Tidy()
	require.Eventually(t, func() bool { n, _ := s.Deletions(); return n == 0 }, 10*time.Second, time.Millisecond)
}

// whole checks that every segment of a strip can be read and is what it says.
func whole(t *testing.T, s *Store, channel string, st *RenditionSpan) (gaps int) {
	t.Helper()
	for i, seg := range st.List {
		if i > 0 && !seg.Discontinuity {
			assert.Equal(t, st.List[i-1].Start+st.List[i-1].Duration, seg.Start, "segment %d of %s follows", seg.MSN, st.Rendition)
		}
		if seg.Gap {
			gaps++
			continue
		}
		from := &source{name: st.Rendition, prefix: seg.Prefix}
		b, err := seg.Bytes()
		require.NoError(t, err)
		assert.Equal(t, string(from.bytes(seg.MSN)), string(bytes.Join(b, nil)))
		found := s.Find(channel, st.Rendition, seg.Prefix, seg.MSN)
		require.NotNil(t, found, "segment %s", seg.Name())
		assert.Equal(t, seg.ETag, found.ETag)
		assert.Equal(t, seg.FirstPTS, found.FirstPTS)
		assert.NotNil(t, s.Header(channel, st.Rendition, seg.Header.Name))
	}
	return gaps
}

func TestWhatWasKeptIsFoundAgain(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	short := func(o *Options) { o.Limits.BundleSpan = 20 * time.Second }
	s := open(t, place, l, short)
	s.Set("line", Keeping{TimeShift: 2 * time.Hour})
	video, sound := newSource("source", "a-", media.Video), newSource("audio", "a-", media.Audio)
	for msn := range uint64(35) {
		for _, src := range []*source{video, sound} {
			s.Keep("line", src.name, "audio", epoch, src.segment(7+msn, int64(msn)*step, msn == 0 || msn == 20))
		}
		if msn == 30 { // also while much of it is not written yet
			span, err := s.Span(context.Background(), "line", epoch, time.Time{})
			require.NoError(t, err)
			for i := range span.Renditions {
				assert.Len(t, span.Renditions[i].List, 31)
			}
		}
	}
	settled(t, s, "line")
	check := func(s *Store) {
		span, err := s.Span(context.Background(), "line", epoch.Add(9*time.Second), time.Time{})
		require.NoError(t, err)
		require.Len(t, span.Renditions, 2)
		assert.True(t, span.Epoch.Equal(epoch))
		for i := range span.Renditions {
			st := &span.Renditions[i]
			assert.Len(t, st.List, 31)
			assert.EqualValues(t, 4, st.Ordinal)
			assert.EqualValues(t, 1, st.Breaks)
			assert.Zero(t, whole(t, s, "line", st))
			assert.True(t, st.List[16].Discontinuity)
		}
		assert.Equal(t, media.Audio, span.Renditions[0].Track.Kind)
		assert.Equal(t, "audio", span.Renditions[1].Sound)
		part, err := s.Span(context.Background(), "line", epoch.Add(20*time.Second), epoch.Add(30*time.Second))
		require.NoError(t, err)
		assert.Len(t, part.Renditions[0].List, 5)
		assert.EqualValues(t, 10, part.Renditions[0].Ordinal)
		_, err = s.Span(context.Background(), "line", epoch.Add(2*time.Hour), time.Time{})
		assert.ErrorIs(t, err, ErrNothing)
	}
	check(s)
	s.Close()
	assert.Len(t, l.list, 8, "four bundles of two renditions")
	for path := range l.list { // a bundle is a file that plays: the header, and segments behind each other
		b, err := os.ReadFile(filepath.Join(string(place), path+mediaEnding))
		require.NoError(t, err)
		assert.Contains(t, string(b), "header of ")
	}
	again := open(t, place, l, short)
	check(again)
	again.Close()
	anew := open(t, place, &ledger{}, short) // the records were lost
	check(anew)
	anew.Close()
}

func TestRunsFollowEachOther(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	var span *Span
	for run, from := range []struct{ msn, at uint64 }{{0, 0}, {4096, 100}, {4120, 200}} {
		s := open(t, place, l, nil)
		s.Set("line", Keeping{TimeShift: time.Hour})
		src := newSource("source", fmt.Sprintf("run%d-", run), media.Video)
		for i := range uint64(5) {
			if run == 1 && i == 2 {
				continue // a hole
			}
			s.Keep("line", "source", "", epoch, src.segment(from.msn+i, int64(from.at+i)*step, i == 0))
		}
		settled(t, s, "line")
		var err error
		span, err = s.Span(context.Background(), "line", epoch, time.Time{})
		require.NoError(t, err)
		s.Close()
	}
	st := span.Renditions[0]
	require.Len(t, st.List, 15)
	assert.True(t, st.List[7].Gap)
	assert.Equal(t, "run1-4098", st.List[7].Name())
	breaks := 0
	for i, s := range st.List {
		if s.Discontinuity {
			breaks++
			assert.Zero(t, i%5)
		}
	}
	assert.Equal(t, 3, breaks)
	assert.Zero(t, st.Breaks)
}

// TestARenditionThatIsLate: at the end of a recording renditions come one after the other.
func TestARenditionThatIsLate(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	s := open(t, place, l, nil)
	s.Set("line", Keeping{Holds: []Hold{{From: epoch.Add(5 * time.Second), To: epoch.Add(20 * time.Second)}, {From: epoch.Add(200 * time.Second), To: epoch.Add(220 * time.Second)}}})
	fast, slow := newSource("source", "a-", media.Video), newSource("180p", "a-", media.Video)
	for i := range uint64(130) {
		s.Keep("line", "source", "", epoch, fast.segment(i, int64(i)*step, i == 0))
		if i >= 3 {
			s.Keep("line", "180p", "", epoch, slow.segment(i-3, int64(i-3)*step, i == 3))
		}
	}
	settled(t, s, "line")
	span, err := s.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	require.Len(t, span.Renditions, 2)
	for i := range span.Renditions {
		st := &span.Renditions[i]
		assert.Len(t, st.List, 18, st.Rendition)
		assert.Zero(t, whole(t, s, "line", st))
		assert.EqualValues(t, 0, st.Ordinal)
		assert.True(t, st.List[8].Discontinuity)
	}
	s.Close()
}

// TestCrashes stops the writing at each of its steps, and looks what the next start makes of it.
func TestCrashes(t *testing.T) {
	for _, at := range []string{stepHeader, stepHead, stepMedia, stepRecord, stepMediaClosed, stepIndexClosed, stepTold} {
		for _, turn := range []int{1, 2, 7} {
			place, l := Folder(t.TempDir()), &ledger{}
			crashed, count := make(chan struct{}), 0
			s := open(t, place, l, func(o *Options) {
				o.Limits.BundleSpan = 6 * time.Second
				o.Step = func(name string) {
					if count++; name == at && count >= turn {
						close(crashed)
						select {} // it never comes back
					}
				}
			})
			s.Set("line", Keeping{TimeShift: time.Hour})
			src := newSource("source", "a-", media.Video)
			for i := range uint64(12) {
				s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
			}
			<-crashed
			again := open(t, place, l, func(o *Options) { o.Limits.BundleSpan = 6 * time.Second })
			again.Set("line", Keeping{TimeShift: time.Hour})
			if span, err := again.Span(context.Background(), "line", epoch, time.Time{}); err == nil {
				assert.Zero(t, whole(t, again, "line", &span.Renditions[0]), "%s, %d", at, turn)
			}
			next := newSource("source", "b-", media.Video)
			for i := range uint64(4) {
				again.Keep("line", "source", "", epoch, next.segment(100+i, int64(100+i)*step, i == 0))
			}
			settled(t, again, "line")
			span, err := again.Span(context.Background(), "line", epoch, time.Time{})
			require.NoError(t, err)
			assert.Zero(t, whole(t, again, "line", &span.Renditions[0]), "%s, %d", at, turn)
			assert.Equal(t, "b-103", span.Renditions[0].List[len(span.Renditions[0].List)-1].Name())
			again.Close()
		}
	}
}

// TestTornFiles cuts and damages the files of a bundle that no ledger knows, as a loss of power does.
func TestTornFiles(t *testing.T) {
	for _, tear := range []struct {
		ending string
		change func([]byte) []byte
		left   int
	}{
		{mediaEnding, func(b []byte) []byte { return b[:len(b)-5] }, 4},
		{mediaEnding, func(b []byte) []byte { b[len(b)/2] ^= 1; return b }, 2},
		{mediaEnding, func(b []byte) []byte { return b[:8] }, 0},
		{indexEnding, func(b []byte) []byte { return b[:len(b)-5] }, 4},
		{indexEnding, func(b []byte) []byte { return append(b, make([]byte, 500)...) }, 5},
		{indexEnding, func(b []byte) []byte { b[len(b)-recordSize-9] ^= 1; return b }, 3},
		{indexEnding, func([]byte) []byte { return nil }, 0},
	} {
		place, l := Folder(t.TempDir()), &ledger{}
		s := open(t, place, l, nil)
		s.Set("line", Keeping{TimeShift: time.Hour})
		src := newSource("source", "a-", media.Video)
		for i := range uint64(5) {
			s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
		}
		s.Close()
		name := filepath.Join(string(place), l.all()[0].Path+tear.ending)
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, tear.change(b), 0o644))
		again := open(t, place, &ledger{}, nil)
		span, err := again.Span(context.Background(), "line", epoch, time.Time{})
		if tear.left == 0 {
			assert.ErrorIs(t, err, ErrNothing)
		} else {
			require.NoError(t, err)
			assert.Len(t, span.Renditions[0].List, tear.left)
			assert.Zero(t, whole(t, again, "line", &span.Renditions[0]))
		}
		again.Close()
	}
}

func TestTheOldestGoesFirst(t *testing.T) {
	place, l := Folder(t.TempDir()), &ledger{}
	now := epoch.Add(10 * time.Minute)
	s := open(t, place, l, func(o *Options) {
		o.Limits.BundleSpan, o.Now = 10*time.Second, func() time.Time { return now }
	})
	keeping := Keeping{TimeShift: 5 * time.Minute, Holds: []Hold{{From: epoch.Add(time.Minute), To: epoch.Add(2 * time.Minute)}}}
	s.Set("line", keeping)
	src := newSource("source", "a-", media.Video)
	for i := range uint64(300) {
		s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
	}
	settled(t, s, "line")
	tidied(t, s)
	span, err := s.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	st := &span.Renditions[0]
	held := 0
	for _, seg := range st.List {
		if !seg.Gap && seg.Start < 5*60*media.VideoTimescale-step*6 {
			held++
			assert.GreaterOrEqual(t, seg.Start+5*step, int64(60*media.VideoTimescale))
			assert.LessOrEqual(t, seg.Start, int64(120*media.VideoTimescale)+5*step)
		}
	}
	assert.GreaterOrEqual(t, held, 30, "the recording's minute")
	assert.Less(t, held, 42)
	whole(t, s, "line", st)
	assert.Greater(t, status(s, "line").Held, int64(0))
	files := 0
	require.NoError(t, filepath.WalkDir(string(place), func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files++
		}
		return err
	}))
	assert.Less(t, files, 90)

	// By bytes, and for all channels together: what is held stays.
	s.limits.Bytes = 30_000
	tidied(t, s)
	st2 := status(s, "line")
	assert.Less(t, st2.Bytes, int64(60_000))
	assert.Equal(t, status(s, "line").Held, st2.Held)
	span, err = s.Span(context.Background(), "line", epoch.Add(time.Minute), epoch.Add(2*time.Minute))
	require.NoError(t, err)
	assert.Len(t, span.Renditions[0].List, 30)
	s.Close()
}

// faulty is a place that fails, or is slow, as it is told.
type faulty struct {
	Folder
	mu    sync.Mutex
	fails error
	slow  time.Duration
}

func (f *faulty) set(err error, slow time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.fails, f.slow = err, slow
}

func (f *faulty) state() (slow time.Duration, fails error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.slow, f.fails
}

func (f *faulty) Create(name string) (File, error) {
	if _, err := f.state(); err != nil {
		return nil, err
	}
	file, err := f.Folder.Create(name)
	return &faultyFile{File: file, f: f}, err
}

type faultyFile struct {
	File
	f *faulty
}

func (f *faultyFile) Write(b []byte) (int, error) {
	slow, err := f.f.state()
	time.Sleep(slow)
	if err != nil {
		n, _ := f.File.Write(b[:len(b)/2]) // as a full disk does
		return n, err
	}
	return f.File.Write(b)
}

func TestAPlaceThatFailsComesBack(t *testing.T) {
	place, l := &faulty{Folder: Folder(t.TempDir())}, &ledger{}
	s := open(t, place, l, nil)
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	keep := func(from, to uint64) {
		for i := from; i < to; i++ {
			s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
		}
	}
	keep(0, 5)
	settled(t, s, "line")
	place.set(errors.New("no space left on the device"), 0)
	keep(5, 12)
	require.Eventually(t, func() bool { return status(s, "line").Error != "" }, 5*time.Second, time.Millisecond)
	assert.Contains(t, status(s, "line").Error, "no space left on the device")
	span, err := s.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	assert.Len(t, span.Renditions[0].List, 12, "what waits is in memory")
	whole(t, s, "line", &span.Renditions[0])
	place.set(nil, 5*time.Millisecond)
	settled(t, s, "line")
	keep(12, 20)
	settled(t, s, "line")
	assert.Empty(t, status(s, "line").Error)
	s.Close()
	again := open(t, place, &ledger{}, nil)
	span, err = again.Span(context.Background(), "line", epoch, time.Time{})
	require.NoError(t, err)
	assert.Len(t, span.Renditions[0].List, 20)
	assert.Zero(t, whole(t, again, "line", &span.Renditions[0]))
	again.Close()
}

func TestWhatWaitsIsBounded(t *testing.T) {
	place, l := &faulty{Folder: Folder(t.TempDir())}, &ledger{}
	place.set(errors.New("gone"), 0)
	s := open(t, place, l, nil)
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	big := make([]byte, 16<<20)
	for i := range uint64(10) {
		seg := src.segment(i, int64(i)*step, i == 0)
		seg.Blob, seg.Size = segment.Memory{big}, int64(len(big))
		s.Keep("line", "source", "", epoch, seg)
	}
	st := status(s, "line")
	assert.LessOrEqual(t, st.Waiting, int64(maxQueued))
	assert.EqualValues(t, 6, st.Lost)
	s.Close()
	assert.EqualValues(t, 0, s.queued.Load())
}

func FuzzIndex(f *testing.F) {
	h := Head{Channel: "line", Rendition: "source", Epoch: epoch, Bytes: []byte("header")}
	line, _ := h.marshal()
	r := Record{MSN: 1, Offset: 6, Size: 10}
	f.Add(r.append(line))
	f.Add([]byte("{}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, list, whole, err := readIndex(bytes.NewReader(b))
		if err != nil && !media.IsFormat(err) && !errors.Is(err, io.EOF) {
			t.Fatal(err)
		}
		if whole > int64(len(b)) || int64(len(list))*recordSize > whole {
			t.Fatalf("%d bytes of %d", whole, len(b))
		}
	})
}

func BenchmarkKeep(b *testing.B) {
	s, err := Open(Options{Place: Folder(b.TempDir())}, nil)
	require.NoError(b, err)
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	media := make([]byte, 3<<20) // two seconds at 12 Mbit/s
	b.SetBytes(int64(len(media)))
	for i := range uint64(b.N) {
		seg := src.segment(i, int64(i)*step, i == 0)
		seg.Blob, seg.Size = segment.Memory{media}, int64(len(media))
		s.Keep("line", "source", "", epoch, seg)
		for status(s, "line").Waiting > 0 {
			time.Sleep(100 * time.Microsecond)
		}
	}
	b.StopTimer()
	s.Close()
}

// TestAnObjectStoreKeepsToo keeps in a bucket: what is not whole there yet is served from memory.
func TestAnObjectStoreKeepsToo(t *testing.T) {
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket("kept"))
	server := httptest.NewServer(gofakes3.New(backend).Server())
	defer server.Close()
	place, limits, err := Parse("s3://key:secret@" + strings.TrimPrefix(server.URL, "http://") + "/kept/regatta?tls=off")
	require.NoError(t, err)
	assert.NotContains(t, place.String(), "secret")
	assert.LessOrEqual(t, limits.BundleSpan, time.Minute)
	l := &ledger{}
	with := func(o *Options) { o.Limits = limits }
	s := open(t, place, l, with)
	s.Set("line", Keeping{TimeShift: time.Hour})
	src := newSource("source", "a-", media.Video)
	for i := range uint64(25) {
		s.Keep("line", "source", "", epoch, src.segment(i, int64(i)*step, i == 0))
	}
	look := func(s *Store) {
		span, err := s.Span(context.Background(), "line", epoch, time.Time{})
		require.NoError(t, err)
		assert.Len(t, span.Renditions[0].List, 25)
		assert.Zero(t, whole(t, s, "line", &span.Renditions[0]))
	}
	look(s)
	s.Close()
	for _, known := range []*ledger{l, {}} {
		again := open(t, place, known, with)
		look(again)
		seg := again.Find("line", "source", "a-", 3)
		in, err := seg.Blob.Open()
		require.NoError(t, err)
		_, err = in.Seek(-4, io.SeekEnd)
		require.NoError(t, err)
		b, err := io.ReadAll(in)
		require.NoError(t, err)
		assert.Equal(t, string(src.bytes(3)[len(src.bytes(3))-4:]), string(b))
		require.NoError(t, in.Close())
		again.Close()
	}
	last := open(t, place, l, func(o *Options) { o.Limits, o.Now = limits, func() time.Time { return epoch.Add(5 * time.Hour) } })
	last.Set("line", Keeping{TimeShift: time.Hour})
	tidied(t, last)
	_, err = last.Span(context.Background(), "line", epoch, time.Time{})
	require.ErrorIs(t, err, ErrNothing)
	last.Close()
	list, err := place.List("")
	require.NoError(t, err)
	assert.Empty(t, list)
	_, _, err = Parse("s3://key:secret@" + strings.TrimPrefix(server.URL, "http://") + "/other?tls=off")
	assert.ErrorContains(t, err, "no such bucket")
	_, _, err = Parse("gopher://x")
	assert.ErrorContains(t, err, "expected a folder")
}
