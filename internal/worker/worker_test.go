package worker

import (
	"bufio"
	"bytes"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

const mark = "METAPLASIS_TEST_WORKER"

// TestMain lets the test binary be a worker that returns what it gets, dies of the word POISON
// and hangs at the word HANG.
func TestMain(m *testing.M) {
	if os.Getenv(mark) == "" {
		os.Exit(m.Run())
	}
	out := os.NewFile(firstSocket, "socket")
	var mu sync.Mutex
	send := func(kind byte, parts ...[]byte) {
		mu.Lock()
		defer mu.Unlock()
		_ = writeMessage(out, kind, parts...)
	}
	go func() {
		for range time.Tick(100 * time.Millisecond) {
			send(kindStats, mustJSON(Stats{PID: os.Getpid()}))
		}
	}()
	var ended sync.WaitGroup
	drained := make(chan struct{}, lanes)
	for i, f := range []*os.File{out, os.NewFile(firstSocket+1, "socket")} {
		ended.Go(func() {
			r := bufio.NewReader(f)
			for {
				kind, body, err := readMessage(r)
				if err != nil {
					return
				}
				_, u, _ := parseUnit(body)
				switch text := string(u.Data); {
				case kind == kindDrain:
					if drained <- struct{}{}; len(drained) == lanes {
						send(kindDrained)
					}
				case kind != kindAccess:
				case text == "POISON":
					os.Exit(7)
				case text == "HANG":
					mu.Lock() // not even its heart beats
					select {}
				case text == "STAND":
					select {} // this lane alone
				default:
					send(kindUnit, unitHead(media.TrackID(i+1), &u), u.Data)
				}
			}
		})
	}
	ended.Wait()
}

// heard is a handler that keeps what comes.
type heard struct {
	mu       sync.Mutex
	units    []string
	replaced []bool
	drained  int
}

func (h *heard) do(f func()) { h.mu.Lock(); defer h.mu.Unlock(); f() }

func (h *heard) Track(media.TrackID, media.Track) {}
func (h *heard) Unit(_ media.TrackID, u media.AccessUnit) {
	h.do(func() { h.units = append(h.units, string(u.Data)) })
}
func (h *heard) Picture([]byte)               {}
func (h *heard) Stats(Stats)                  {}
func (h *heard) Failed(media.TrackID, string) {}
func (h *heard) Replaced(_ string, repeats bool) map[media.TrackID]int64 {
	h.do(func() { h.replaced = append(h.replaced, repeats); h.units = append(h.units, "|") })
	return nil
}
func (h *heard) Drained() { h.do(func() { h.drained++ }) }

func (h *heard) wait(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, func() bool { h.mu.Lock(); defer h.mu.Unlock(); return ok() }, 20*time.Second, 5*time.Millisecond, what)
}

var (
	video = &media.Track{ID: 1, Kind: media.Video, Timescale: media.VideoTimescale}
	sound = &media.Track{ID: 2, Kind: media.Audio, Timescale: media.VideoTimescale}
)

// rig is a supervisor with the hub that it reads from.
type rig struct {
	*Supervisor
	units *hub.Hub
}

func newTest(t *testing.T) (*rig, *heard) {
	h := &heard{}
	units := hub.New(1<<20, 1<<40)
	s := NewSupervisor(func() *exec.Cmd {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), mark+"=1")
		return cmd
	}, units, 0, transcode.Config{Video: video, Audio: sound}, h, slog.New(slog.DiscardHandler))
	t.Cleanup(s.Close)
	return &rig{s, units}, h
}

func (r *rig) put(track *media.Track, at int64, key bool, data []byte) {
	r.Take(r.units.Push(track, &media.AccessUnit{PTS: at, DTS: at, Key: key, Data: data}) + 1)
}

func send(r *rig, pts int64, key bool, text string) { r.put(video, pts, key, []byte(text)) }

func TestLostWorkerIsReplacedAndRepeats(t *testing.T) {
	s, h := newTest(t)
	for i := range int64(6) {
		if i%2 == 0 {
			s.Boundary(segment.Boundary{MSN: uint64(i / 2), Start: i})
		}
		send(s, i, i%2 == 0, fmt.Sprint(i))
	}
	h.wait(t, "all six", func() bool { return len(h.units) == 6 })
	s.Settled(1) // segment 0 is out: units 0 and 1 are not needed again
	first := s.PID()
	p, err := os.FindProcess(first)
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	h.wait(t, "the repetition", func() bool { return len(h.units) == 11 })
	assert.Equal(t, []string{"0", "1", "2", "3", "4", "5", "|", "2", "3", "4", "5"}, h.units)
	assert.NotEqual(t, first, s.PID())
	assert.Equal(t, []bool{true}, h.replaced)
	s.Drain()
	h.wait(t, "the end", func() bool { return h.drained == 1 })
}

func TestPoisonIsLeftOutAfterTwoDeaths(t *testing.T) {
	s, h := newTest(t)
	s.Boundary(segment.Boundary{})
	send(s, 0, true, "before")
	send(s, 1, false, "POISON")
	h.wait(t, "both deaths", func() bool { return len(h.replaced) == 2 })
	send(s, 2, true, "after")
	h.wait(t, "what comes behind", func() bool { return len(h.units) > 0 && h.units[len(h.units)-1] == "after" })
	assert.Equal(t, []bool{true, false}, h.replaced)
}

func TestHungWorkerIsReplaced(t *testing.T) {
	s, h := newTest(t)
	s.Boundary(segment.Boundary{})
	send(s, 0, true, "first")
	h.wait(t, "the first", func() bool { return len(h.units) == 1 })
	before := s.PID()
	send(s, 1, false, "HANG")
	h.wait(t, "its replacement", func() bool { return len(h.replaced) >= 1 })
	require.Eventually(t, func() bool { return s.PID() != before && s.PID() != 0 }, 5*time.Second, 5*time.Millisecond)
}

// TestAWorkerThatStandsStillLosesWhatLeftTheHub: nothing else waits or grows, sound goes on beside pictures
// that stand, and what was lost is counted.
func TestAWorkerThatStandsStillLosesWhatLeftTheHub(t *testing.T) {
	s, h := newTest(t)
	s.Boundary(segment.Boundary{})
	send(s, 0, true, "STAND")
	s.put(sound, 0, true, []byte("sound"))
	h.wait(t, "sound beside pictures that stand", func() bool { return len(h.units) == 1 })
	data := make([]byte, 50<<10)
	for i := range int64(200) {
		s.put(video, i+1, i%10 == 0, data)
	}
	for i := range maxNotes + 10 {
		s.Boundary(segment.Boundary{MSN: uint64(i + 1), Start: 500})
	}
	s.mu.Lock()
	notes := len(s.notes)
	s.mu.Unlock()
	assert.LessOrEqual(t, notes, maxNotes)
	p, err := os.FindProcess(s.PID())
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	h.wait(t, "the newest of what is held", func() bool { return len(h.units) > 10 })
	s.put(sound, 300, true, []byte("later"))
	h.wait(t, "sound", func() bool { return slices.Contains(h.units, "later") })
}

func TestMessagesReadBack(t *testing.T) {
	u := media.AccessUnit{DTS: -5, PTS: 7, Duration: 3000, Key: true, Data: []byte("data")}
	id, got, err := parseUnit(append(unitHead(77, &u), u.Data...))
	require.NoError(t, err)
	assert.Equal(t, media.TrackID(77), id)
	assert.Equal(t, u, got)
	b, err := parseBoundary(boundaryBody(segment.Boundary{MSN: 9, Start: -1}))
	require.NoError(t, err)
	assert.Equal(t, segment.Boundary{MSN: 9, Start: -1}, b)
	_, _, err = parseUnit([]byte{9, 1})
	assert.Error(t, err)
	_, _, err = readMessage(bufio.NewReader(bytes.NewReader([]byte{'u', 0xff, 0xff, 0xff, 0xff})))
	assert.ErrorContains(t, err, "at most")
}

func FuzzMessages(f *testing.F) {
	f.Add([]byte{'u', 0, 0, 0, 1, 0})
	f.Fuzz(func(_ *testing.T, b []byte) {
		r := bufio.NewReader(bytes.NewReader(b))
		for {
			_, body, err := readMessage(r)
			if err != nil {
				return
			}
			_, _, _ = parseUnit(body)
			_, _ = parseBoundary(body)
		}
	})
}

// TestWaitingTellsBusyFromAsleep: only what asks for a processor may be excused for being slow.
func TestWaitingTellsBusyFromAsleep(t *testing.T) {
	for line, want := range map[string]bool{"while :; do :; done": true, "exec sleep 60": false} {
		cmd := exec.Command("sh", "-c", line)
		require.NoError(t, cmd.Start())
		assert.Eventually(t, func() bool { return waiting(cmd.Process.Pid, 0) == want }, 5*time.Second, time.Millisecond, line)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
	assert.False(t, waiting(0, 0))
}
