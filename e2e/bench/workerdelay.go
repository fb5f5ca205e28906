package main

import (
	"errors"
	"fmt"
	"log/slog"
	"math"
	"sort"
	"sync"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// stopwatch measures how long pictures take through a worker.
type stopwatch struct {
	counter
	mu     sync.Mutex
	pushed map[int64]time.Time
	took   []time.Duration
	stats  worker.Stats
}

func (s *stopwatch) Unit(_ media.TrackID, u media.AccessUnit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at, ok := s.pushed[u.PTS]; ok {
		s.took = append(s.took, time.Since(at))
	}
}

func (s *stopwatch) Stats(st worker.Stats) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stats = st
}

// workerDelay: from an access unit in to the encoded one out, at settings for a low delay and the pace of the recording.
func workerDelay() error {
	track, units, err := loadVideo()
	if err != nil {
		return err
	}
	s := &stopwatch{counter: counter{done: make(chan struct{})}, pushed: map[int64]time.Time{}}
	held := hub.New(1<<30, 1<<40)
	rung := benchRungs[1]
	rung.BFrames, rung.Buffer = -1, 500
	w := worker.NewSupervisor(workerCommand, held, 0, transcode.Config{Video: track, Rungs: []transcode.Rung{rung}, Keep: math.MaxInt64}, s, slog.New(slog.DiscardHandler))
	begin := time.Now()
	for i := range units {
		time.Sleep(time.Until(begin.Add(time.Duration(units[i].DTS) * time.Second / media.VideoTimescale)))
		if i%60 == 0 {
			w.Boundary(segment.Boundary{MSN: uint64(i / 60), Start: units[i].PTS})
		}
		s.mu.Lock()
		s.pushed[units[i].PTS] = time.Now()
		s.mu.Unlock()
		w.Take(held.Push(track, &units[i]) + 1)
	}
	w.Drain()
	select {
	case <-s.done:
	case <-time.After(time.Minute):
		return errors.New("the worker did not finish")
	}
	w.Close()
	took := s.took[min(30, len(s.took)):] // behind its start
	if len(took) == 0 {
		return errors.New("nothing came back")
	}
	sort.Slice(took, func(i, j int) bool { return took[i] < took[j] })
	var codec int64
	for _, n := range s.stats.Nodes {
		if n.Units > 0 && n.Kind != transcode.MeasureQuality {
			codec += n.Busy / n.Units
		}
	}
	const frame = int64(1000 / 30) // of the recording, milliseconds
	limit := 3*frame + codec/1000
	p50, p95 := took[len(took)/2], took[len(took)*95/100]
	row("Through the worker, 1080p30 to 480p at low delay, live: p95", fmt.Sprintf("%d ms", p95.Milliseconds()), fmt.Sprintf("%d ms", limit),
		fmt.Sprintf("%.2f", float64(p95.Milliseconds())/float64(limit)), "<= 1: three pictures and the codecs")
	row("  the same, p50", fmt.Sprintf("%d ms", p50.Milliseconds()), fmt.Sprintf("%d ms", codec/1000), "-", "the codecs alone")
	return nil
}
