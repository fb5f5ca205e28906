package main

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/store"
)

// What is kept on an object store that is slow: so many channels of 12 Mbit/s, for so long.
const (
	objectChannels = 50
	objectSpan     = 90 * time.Second
	objectDelay    = 100 * time.Millisecond // a request
	objectSegment  = 12_000_000 / 8 * 2
)

// slowObjects answers as an object store does that takes its time, and keeps nothing of what it is given but the size.
type slowObjects struct {
	requests, bytes atomic.Int64
	mu              sync.Mutex
	sizes           map[string]int64
}

func (o *slowObjects) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	time.Sleep(objectDelay)
	o.requests.Add(1)
	n, _ := io.Copy(io.Discard, r.Body)
	o.bytes.Add(n)
	q := r.URL.Query()
	w.Header().Set("ETag", `"00000000000000000000000000000000"`)
	switch {
	case r.Method == http.MethodPost && q.Has("uploads"):
		_, _ = fmt.Fprintf(w, "<InitiateMultipartUploadResult><Bucket>kept</Bucket><Key>x</Key><UploadId>1</UploadId></InitiateMultipartUploadResult>")
	case r.Method == http.MethodPost && q.Has("uploadId"):
		_, _ = fmt.Fprintf(w, "<CompleteMultipartUploadResult><Bucket>kept</Bucket><Key>x</Key><ETag>\"0\"</ETag></CompleteMultipartUploadResult>")
	case r.Method == http.MethodPut:
		o.mu.Lock()
		o.sizes[r.URL.Path] += n
		o.mu.Unlock()
	case r.Method == http.MethodHead && strings.Count(strings.Trim(r.URL.Path, "/"), "/") > 0:
		o.mu.Lock()
		size, known := o.sizes[r.URL.Path]
		o.mu.Unlock()
		if !known {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Length", fmt.Sprint(size))
		w.Header().Set("Last-Modified", time.Now().UTC().Format(http.TimeFormat))
	case q.Has("location"):
		_, _ = fmt.Fprint(w, "<LocationConstraint></LocationConstraint>")
	case r.Method == http.MethodGet:
		_, _ = fmt.Fprint(w, "<ListBucketResult><Name>kept</Name><IsTruncated>false</IsTruncated></ListBucketResult>")
	}
}

// within gives a measurement a folder of its own.
func within(do func(dir string) error) error {
	dir, err := os.MkdirTemp("", "bench-kept-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	return do(dir)
}

// keptOnObjects keeps fifty channels at their pace on such an object store, and tells what was lost and what it took.
func keptOnObjects(dir string) error {
	objects := &slowObjects{sizes: map[string]int64{}}
	server := httptest.NewServer(objects)
	defer server.Close()
	place, limits, err := store.Parse("s3://key:secret@" + strings.TrimPrefix(server.URL, "http://") + "/kept?tls=off")
	if err != nil {
		return err
	}
	local := filepath.Join(dir, "spool")
	if err := os.MkdirAll(local, 0o755); err != nil {
		return err
	}
	spool, err := store.NewSpool(store.Folder(local), place.(store.Remote), 0, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	s, err := store.Open(store.Options{Place: spool, Limits: limits}, nil)
	if err != nil {
		return err
	}
	t := media.Track{Kind: media.Video, Codec: media.H264, CodecName: "avc1.64001f", Timescale: media.VideoTimescale, Width: 1920, Height: 1080, Config: []byte{1, 2}}
	header := &segment.Header{Name: "header-source.mp4", Bytes: []byte("header"), Track: t}
	slug := func(n int) string { return fmt.Sprintf("channel-%d", n) }
	for n := range objectChannels {
		s.Set(slug(n), store.Keeping{TimeShift: time.Hour})
	}
	var before, now runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	used := processorTime()
	epoch, begun := time.Now(), time.Now()
	var peak, waiting uint64
	kept := 0
	for turn := 0; ; turn++ {
		at := time.Duration(turn) * 2 * time.Second / objectChannels
		if at > objectSpan {
			break
		}
		time.Sleep(time.Until(begun.Add(at)))
		n, msn := turn%objectChannels, uint64(turn/objectChannels)
		from := int64(msn) * keptStep
		s.Keep(slug(n), "source", "", epoch, &segment.Segment{MSN: msn, Prefix: "a-", Discontinuity: msn == 0, Start: from, Duration: keptStep, Header: header, ETag: segment.Tag(msn, header),
			Size: objectSegment, Blob: segment.Memory{make([]byte, objectSegment)}, Units: 60, FirstPTS: from, TrackDuration: keptStep, KeySize: 9000})
		kept++
		if turn%objectChannels == 0 {
			runtime.ReadMemStats(&now)
			peak = max(peak, now.HeapInuse)
			var sum int64
			for n := range objectChannels {
				st, _ := s.Status(slug(n))
				sum += st.Waiting
			}
			waiting = max(waiting, uint64(sum))
		}
	}
	lost := int64(0)
	for n := range objectChannels {
		st, _ := s.Status(slug(n))
		lost += st.Lost
	}
	used = processorTime() - used
	local64, _, _ := spool.Waiting()
	s.Close()
	row(fmt.Sprintf("%d channels of 12 Mbit/s for %.0f s on objects of %d ms", objectChannels, objectSpan.Seconds(), objectDelay.Milliseconds()),
		fmt.Sprintf("%d of %d lost", lost, kept), fmt.Sprintf("%d requests", objects.requests.Load()), fmt.Sprintf("%.0f %%", float64(used)*100/float64(objectSpan)), "nothing lost")
	row("the same: in memory at most; not written yet at most; on the local disk", fmt.Sprintf("%d MB", (max(peak, before.HeapInuse)-before.HeapInuse)>>20), fmt.Sprintf("%d MB", waiting>>20), fmt.Sprintf("%d MB", local64>>20), "384 MB in memory")
	return nil
}
