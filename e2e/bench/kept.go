package main

import (
	"context"
	"fmt"
	"io"
	"math/rand"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/demo"
	"metaplasis/demo/files"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/delivery"
	"metaplasis/internal/origin"
	"metaplasis/internal/present"
	"metaplasis/internal/store"
)

const (
	keptSlug = "kept"
	keptStep = 2 * media.VideoTimescale
)

// filler keeps segments of a length in bytes, one behind the other.
type filler struct {
	s      *store.Store
	epoch  time.Time
	header *segment.Header
	body   []byte
	n      uint64
}

func newFiller(s *store.Store, epoch time.Time, size int) *filler {
	t := media.Track{Kind: media.Video, Codec: media.H264, CodecName: "avc1.64001f", Timescale: media.VideoTimescale, Width: 1280, Height: 720, Config: []byte{1, 2}}
	body := make([]byte, size)
	_, _ = rand.New(rand.NewSource(1)).Read(body)
	return &filler{s: s, epoch: epoch, header: &segment.Header{Name: "header-source.mp4", Bytes: []byte("header"), Track: t}, body: body}
}

func (f *filler) keep(count int) {
	for range count {
		at := int64(f.n) * keptStep
		f.s.Keep(keptSlug, "source", "", f.epoch, &segment.Segment{MSN: f.n, Prefix: "a-", Discontinuity: f.n == 0, Start: at, Duration: keptStep, Header: f.header, ETag: segment.Tag(f.n, f.header),
			Size: int64(len(f.body)), Blob: segment.Memory{f.body}, Units: 60, FirstPTS: at, TrackDuration: keptStep, KeySize: 9000})
		f.n++
		if f.n*uint64(len(f.body))%(16<<20) < uint64(len(f.body)) || f.n%64 == 0 { // the queue is bounded
			f.wait()
		}
	}
	f.wait()
}

func (f *filler) wait() {
	for {
		if st, _ := f.s.Status(keptSlug); st.Waiting == 0 {
			return
		}
		time.Sleep(200 * time.Microsecond)
	}
}

// keptThings measures what is kept: writing, lists of a day, viewers that look back, an index of a year.
func keptThings() error {
	dir, err := os.MkdirTemp("", "bench-kept-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	for _, do := range []func(string) error{keptWriting, keptDay, keptViewers, keptYear, onDemand, keptOnObjects} {
		sub := filepath.Join(dir, fmt.Sprint(time.Now().UnixNano()))
		if err := os.MkdirAll(sub, 0o755); err != nil {
			return err
		}
		if err := do(sub); err != nil {
			return err
		}
		_ = os.RemoveAll(sub)
	}
	return nil
}

func openKept(dir string, now time.Time, ledger store.Ledger, known []store.Bundle) (*store.Store, error) {
	s, err := store.Open(store.Options{Place: store.Folder(dir), Ledger: ledger, Now: func() time.Time { return now }}, known)
	if err == nil {
		s.Set(keptSlug, store.Keeping{TimeShift: 48 * time.Hour})
	}
	return s, err
}

// keptWriting writes ten minutes at 12 Mbit/s.
func keptWriting(dir string) error {
	now := time.Now()
	s, err := openKept(dir, now, nil, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	const size, count = 12_000_000 / 8 * 2, 300
	f := newFiller(s, now.Add(-count*2*time.Second), size)
	begin := processorTime()
	f.keep(count)
	used := processorTime() - begin
	begin = processorTime()
	out, err := os.Create(filepath.Join(dir, "bare"))
	if err != nil {
		return err
	}
	for range count {
		if _, err := out.Write(f.body); err != nil {
			return err
		}
	}
	bare := processorTime() - begin
	_ = out.Close()
	of := func(d time.Duration) string {
		return fmt.Sprintf("%.2f %%", float64(d)*100/float64(count*2*time.Second))
	}
	row("Keeping 12 Mbit/s, of a core; a file written as it comes", of(used), of(bare), fmt.Sprintf("%.2f", float64(used)/float64(bare)), "2 % at most")
	return nil
}

// keptDay asks for lists of 24 hours.
func keptDay(dir string) error {
	now := time.Now()
	s, err := openKept(dir, now, nil, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	const count = 24 * 3600 / 2
	f := newFiller(s, now.Add(-count*2*time.Second), 2000)
	f.keep(count)
	measure := func(from time.Time, skip bool) (best time.Duration, size int) {
		best = time.Hour
		for range 20 {
			begin := time.Now()
			span, err := s.Span(context.Background(), keptSlug, from, time.Time{})
			if err != nil {
				return 0, 0
			}
			p := present.Past{Slug: keptSlug, Epoch: span.Epoch, Now: now, From: from, Step: keptStep}
			for i := range span.Renditions {
				x := &span.Renditions[i]
				p.Renditions = append(p.Renditions, present.RetainedRendition{Name: x.Rendition, List: x.List, Gapped: x.Gaps > 0, Goes: true, Ordinal: x.Ordinal, Breaks: x.Breaks, Longest: x.Longest})
			}
			size = len(p.Playlist("source", hls.CMAF, skip))
			best = min(best, time.Since(begin))
		}
		return best, size
	}
	day, dayBytes := measure(f.epoch, true)
	minutes, minutesBytes := measure(now.Add(-5*time.Minute), true)
	whole, wholeBytes := measure(f.epoch, false)
	row("A delta update of a list of 24 hours; of 5 minutes", fmt.Sprintf("%.0f µs, %d B", float64(day)/1e3, dayBytes), fmt.Sprintf("%.0f µs, %d B", float64(minutes)/1e3, minutesBytes), fmt.Sprintf("%.2f", float64(day)/float64(minutes)), "independent of the length")
	row("The whole list of 24 hours, made once for all who ask", fmt.Sprintf("%.1f ms, %d kB", float64(whole)/1e6, wholeBytes/1000), "-", "-", "-")
	return nil
}

// keptViewers lets a thousand viewers read segments at different places, against the same bytes as plain files.
//
//large:one measurement, told from its begin to its end
func keptViewers(dir string) error {
	now := time.Now()
	s, err := openKept(filepath.Join(dir, "store"), now, nil, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	const size, count, viewers = 250_000, 1000, 1000
	f := newFiller(s, now.Add(-count*2*time.Second), size)
	f.keep(count)
	plain := filepath.Join(dir, "plain")
	if err := os.MkdirAll(plain, 0o755); err != nil {
		return err
	}
	for i := range count {
		if err := os.WriteFile(filepath.Join(plain, fmt.Sprintf("a-%d.m4s", i)), f.body, 0o644); err != nil {
			return err
		}
	}
	o := origin.New(origin.Options{Keeper: open{}, Gate: open{}, Worker: workerCommand})
	d := delivery.New(delivery.Options{Origin: o, Store: s})
	serve := func(h http.Handler) (string, func(), error) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", nil, err
		}
		server := &http.Server{Handler: h, ReadHeaderTimeout: time.Minute}
		go func() { _ = server.Serve(l) }()
		return "http://" + l.Addr().String(), func() { _ = server.Close() }, nil
	}
	kept, stop, err := serve(d)
	if err != nil {
		return err
	}
	defer stop()
	bare, stopBare, err := serve(http.FileServer(http.Dir(plain)))
	if err != nil {
		return err
	}
	defer stopBare()
	rate := func(base string) (float64, error) {
		var next, got atomic.Int64
		var failed atomic.Value
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: viewers}}
		begin := time.Now()
		end := begin.Add(4 * time.Second)
		var all sync.WaitGroup
		for v := range viewers {
			all.Go(func() {
				buf := make([]byte, 64<<10)
				for at := v; time.Now().Before(end); at++ {
					res, err := client.Get(fmt.Sprintf("%s/a-%d.m4s", base, at%count))
					if err != nil {
						failed.Store(err)
						return
					}
					n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, res.Body, buf)
					_ = res.Body.Close()
					if err != nil || res.StatusCode != http.StatusOK {
						failed.Store(fmt.Errorf("%s, %d bytes: %w", res.Status, n, err))
						return
					}
					got.Add(n)
					next.Add(1)
				}
			})
		}
		all.Wait()
		client.CloseIdleConnections()
		if err, _ := failed.Load().(error); err != nil {
			return 0, err
		}
		return float64(got.Load()) / time.Since(begin).Seconds(), nil
	}
	var a, b float64
	for range 2 {
		x, err := rate(kept + "/" + keptSlug + "/source")
		if err != nil {
			return err
		}
		y, err := rate(bare)
		if err != nil {
			return err
		}
		a, b = max(a, x), max(b, y)
	}
	row("1,000 viewers at different places of the time-shift; files", fmt.Sprintf("%.0f MB/s", a/1e6), fmt.Sprintf("%.0f MB/s", b/1e6), fmt.Sprintf("%.2f", a/b), "0.9 at least")
	return nil
}

// books remembers bundles.
type books struct {
	mu   sync.Mutex
	list []store.Bundle
}

func (l *books) Closed(b store.Bundle) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.list = append(l.list, b)
}

func (l *books) Removing(string) {}

func (l *books) Removed(string) {}

// keptYear starts with the index of a year in the records: one rendition a year long, of bundles as they are made.
func keptYear(dir string) error {
	now := time.Now()
	l := &books{}
	s, err := openKept(dir, now, l, nil)
	if err != nil {
		return err
	}
	f := newFiller(s, now.Add(-24*time.Hour), 400)
	f.keep(24 * 3600 / 2)
	s.Close()
	// A day is written; the others of the year are told of alone.
	day := append([]store.Bundle(nil), l.list...)
	var year []store.Bundle
	for n := range 365 {
		for _, b := range day {
			b.Path = fmt.Sprintf("%s/%03d-%s", filepath.Dir(b.Path), n, filepath.Base(b.Path))
			back := -time.Duration(n) * 24 * time.Hour
			b.Begin, b.End = b.Begin.Add(back), b.End.Add(back)
			year = append(year, b)
		}
	}
	begin := time.Now()
	again, err := openKept(dir, now, nil, day)
	if err != nil {
		return err
	}
	one := time.Since(begin)
	again.Close()
	begin = time.Now()
	again, err = openKept(dir, now, nil, year)
	if err != nil {
		return err
	}
	all := time.Since(begin)
	again.Close()
	row(fmt.Sprintf("Start with the index of a year (%d bundles); of a day", len(year)), fmt.Sprintf("%.2f s", all.Seconds()), fmt.Sprintf("%.3f s", one.Seconds()), "-", "-")
	return nil
}

// onDemand looks into a file of two hours and makes its first segment.
func onDemand(dir string) error {
	b, err := files.Long(demo.Loops[0].FLV, 2*time.Hour)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "long.mp4")
	if err := os.WriteFile(path, b, 0o644); err != nil {
		return err
	}
	size := len(b)
	b = nil
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	look, first := time.Hour, time.Hour
	for range 5 {
		begin := time.Now()
		it, err := item.Open(item.Options{Files: []item.Source{sized{f, int64(size)}}, NewHeader: segment.NewHeader})
		if err != nil {
			return err
		}
		looked := time.Since(begin)
		if _, err := it.Tracks[0].Segments[0].Blob.(interface{ Make() ([]byte, error) }).Make(); err != nil {
			return err
		}
		look, first = min(look, looked), min(first, time.Since(begin))
	}
	begin := time.Now()
	if _, err := io.Copy(io.Discard, io.NewSectionReader(f, 0, int64(size))); err != nil {
		return err
	}
	row(fmt.Sprintf("First segment of a file of two hours, %d MB; all of it read", size>>20), fmt.Sprintf("%.0f ms", float64(first)/1e6), fmt.Sprintf("%.0f ms", float64(time.Since(begin))/1e6), fmt.Sprintf("%.2f", float64(first)/float64(time.Since(begin))), "300 ms at most")
	row("  of which the looking, once for each file", fmt.Sprintf("%.0f ms", float64(look)/1e6), "-", "-", "-")
	return nil
}

type sized struct {
	io.ReaderAt
	size int64
}

func (s sized) Size() int64 { return s.size }
