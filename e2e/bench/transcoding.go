package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"os"
	"os/exec"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/codec/h264dec"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// rungs of the comparison: 720p, 480p and 360p at effort 1.
var benchRungs = []transcode.Rung{
	{ID: 10, Name: "720p", Codec: media.H264, Width: 1280, Height: 720, Bitrate: 2_400_000, Peak: 2_900_000, Buffer: 1000, Effort: 1},
	{ID: 11, Name: "480p", Codec: media.H264, Width: 854, Height: 480, Bitrate: 1_300_000, Peak: 1_600_000, Buffer: 1000, Effort: 1},
	{ID: 12, Name: "360p", Codec: media.H264, Width: 640, Height: 360, Bitrate: 850_000, Peak: 1_000_000, Buffer: 1000, Effort: 1},
}

// fourthRung is below the others.
var fourthRung = transcode.Rung{ID: 13, Name: "240p", Codec: media.H264, Width: 428, Height: 240, Bitrate: 400_000, Peak: 480_000, Buffer: 1000, Effort: 1}

// loadVideo returns the 1080p loop, its times on one line.
func loadVideo() (*media.Track, []media.AccessUnit, error) {
	r, err := flv.NewReader(bytes.NewReader(demo.Loops[1].FLV))
	if err != nil {
		return nil, nil, err
	}
	var track *media.Track
	var units []media.AccessUnit
	for {
		tag, err := r.Next()
		if errors.Is(err, io.EOF) {
			return track, units, nil
		}
		if err != nil {
			return nil, nil, err
		}
		var v flv.VideoBody
		if tag.Type != flv.TagVideo {
			continue
		}
		if err := v.Unmarshal(tag.Body); err != nil {
			return nil, nil, err
		}
		if v.Config {
			t, err := flv.Track(media.H264, v.Data)
			if err != nil {
				return nil, nil, err
			}
			t.ID = 1
			track = &t
			continue
		}
		dts := int64(len(units)) * media.VideoTimescale / 30
		units = append(units, media.AccessUnit{DTS: dts, PTS: dts + media.Rescale(int64(v.Composition), 1000, media.VideoTimescale), Key: v.Key, Data: v.Data})
	}
}

// onOneCore runs the comparison of processor times on one core. On two, the ladder would run on
// both at once and the bare loop on one, and two threads that share caches and execution units
// are booked more time for the same work.
func onOneCore() error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command("taskset", "-c", "0", exe, "transcoding")
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	return cmd.Run()
}

// transcoding: processor time of the whole ladder, service and worker, against the bare codec
// loop on the same frames: decode once, scale, encode.
func transcoding() error {
	track, units, err := loadVideo()
	if err != nil {
		return err
	}
	for _, rungs := range [][]transcode.Rung{benchRungs, append(benchRungs[:3:3], fourthRung)} {
		var ratios []float64
		bare, whole := time.Hour, time.Hour
		for range 5 { // in turns
			one, err := bareLoop(rungs, track, units)
			if err != nil {
				return err
			}
			other, err := wholeLadder(rungs, track, units)
			if err != nil {
				return err
			}
			bare, whole, ratios = min(bare, one), min(whole, other), append(ratios, other.Seconds()/one.Seconds())
		}
		sort.Float64s(ratios)
		row(fmt.Sprintf("Ladder of 1080p30, %d rungs: processor time for 8 s", len(rungs)), fmt.Sprintf("%.2f s", whole.Seconds()), fmt.Sprintf("%.2f s", bare.Seconds()),
			fmt.Sprintf("%.3f", ratios[len(ratios)/2]), "<= 1.03, the median of pairs")
	}
	return nil
}

func bareLoop(rungs []transcode.Rung, track *media.Track, units []media.AccessUnit) (time.Duration, error) {
	var conf avc.Config
	if err := conf.Unmarshal(track.Config); err != nil {
		return 0, err
	}
	var sets []byte
	for _, n := range append(conf.SPS, conf.PPS...) {
		sets = append(append(sets, 0, 0, 0, 1), n...)
	}
	begin := processorTime()
	dec, err := h264dec.New()
	if err != nil {
		return 0, err
	}
	defer dec.Close()
	var encs []*h264enc.Encoder
	var pics []*picture.Picture
	for _, r := range rungs {
		e, err := h264enc.New(h264enc.Settings{Width: r.Width, Height: r.Height, FrameRate: track.FrameRate, Bitrate: r.Bitrate, Peak: r.Peak, Buffer: r.Buffer, Effort: r.Effort})
		if err != nil {
			return 0, err
		}
		defer e.Close()
		encs, pics = append(encs, e), append(pics, picture.New(r.Width, r.Height))
	}
	scalers := make([]scale.Scaler, len(pics))
	var buf []byte
	n := 0
	for i := range units {
		buf = buf[:0]
		if units[i].Key {
			buf = append(buf, sets...)
		}
		buf = avc.AppendAnnexB(buf, units[i].Data)
		f, err := dec.DecodeStream(buf, units[i].PTS)
		if err != nil {
			return 0, err
		}
		if f == nil {
			continue
		}
		for j, e := range encs {
			if j == 0 {
				err = scalers[j].FromFrame(pics[j], f)
			} else {
				err = scalers[j].Picture(pics[j], pics[j-1])
			}
			if err != nil {
				return 0, err
			}
			if _, err := e.Encode(pics[j], f.PTS, n%60 == 0); err != nil {
				return 0, err
			}
		}
		n++
	}
	return processorTime() - begin, nil
}

// counter takes what the worker makes.
type counter struct {
	made atomic.Int64
	once sync.Once
	done chan struct{}
}

func (*counter) Track(media.TrackID, media.Track)              {}
func (c *counter) Unit(media.TrackID, media.AccessUnit)        { c.made.Add(1) }
func (*counter) Picture([]byte)                                {}
func (*counter) Stats(worker.Stats)                            {}
func (*counter) Failed(media.TrackID, string)                  {}
func (*counter) Replaced(string, bool) map[media.TrackID]int64 { return nil }
func (c *counter) Drained()                                    { c.once.Do(func() { close(c.done) }) }

func wholeLadder(rungs []transcode.Rung, track *media.Track, units []media.AccessUnit) (time.Duration, error) {
	begin := processorTime()
	c := &counter{done: make(chan struct{})}
	held := hub.New(1<<30, 1<<40)
	s := worker.NewSupervisor(workerCommand, held, 0, transcode.Config{Video: track, Rungs: rungs, Keep: math.MaxInt64}, c, slog.New(slog.DiscardHandler))
	for i := range units {
		if i%60 == 0 {
			s.Boundary(segment.Boundary{MSN: uint64(i / 60), Start: units[i].PTS})
		}
		s.Take(held.Push(track, &units[i]) + 1)
	}
	s.Drain()
	select {
	case <-c.done:
	case <-time.After(2 * time.Minute):
		return 0, errors.New("the worker did not finish")
	}
	s.Close()
	if want := int64(len(units) * len(rungs)); c.made.Load() != want {
		return 0, fmt.Errorf("the worker made %d pictures, expected %d", c.made.Load(), want)
	}
	return processorTime() - begin, nil
}
