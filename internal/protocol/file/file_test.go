package file

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// heard is a feed that keeps the times of what it is given.
type heard struct {
	mu     sync.Mutex
	begun  time.Time
	tracks []media.Track
	clocks map[media.TrackID][]int64 // decode times
	at     map[media.TrackID][]time.Duration
	ended  string
	kick   chan string
}

func newHeard() *heard {
	return &heard{begun: time.Now(), clocks: map[media.TrackID][]int64{}, at: map[media.TrackID][]time.Duration{}, kick: make(chan string, 1)}
}

func (h *heard) FrameRate(int64) {}

func (h *heard) Track(t media.Track) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.tracks = append(h.tracks, t)
}

func (h *heard) Unit(id media.TrackID, stamp, _ int64, _ bool, _ []byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.clocks[id] = append(h.clocks[id], stamp)
	h.at[id] = append(h.at[id], time.Since(h.begun))
}

func (h *heard) Kicked() <-chan string { return h.kick }

func (h *heard) End(reason string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ended = reason
}

func (h *heard) units() (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, list := range h.clocks {
		n += len(list)
	}
	return n
}

// room is one channel with one file.
type room struct {
	mu       sync.Mutex
	in       Input
	vacant   bool
	feeds    []*heard
	loads    int
	load     func() (Recording, error)
	problems []string
	taken    bool // somebody else is on air as soon as the file would be
}

func (r *room) Inputs() []Input { return []Input{r.in} }

func (r *room) Vacant(Input) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.vacant
}

func (r *room) Open(Input) (Feed, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.taken {
		return nil, errors.New("a sender was first")
	}
	r.vacant = false
	r.feeds = append(r.feeds, newHeard())
	return r.feeds[len(r.feeds)-1], nil
}

func (r *room) Load(context.Context, Input) (Recording, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.loads++
	return r.load()
}

func (r *room) Problem(_ Input, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if n := len(r.problems); n == 0 || r.problems[n-1] != text {
		r.problems = append(r.problems, text)
	}
}

func (r *room) set(f func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f()
}

// TestAFileRepeatsInRealTime plays a loop of eight seconds for half a minute of a clock that costs nothing.
func TestAFileRepeatsInRealTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		loop := demo.Others[2]
		recording, err := Parse(loop.FLV)
		require.NoError(t, err)
		assert.InDelta(t, 8, recording.length().Seconds(), 0.001)
		r := &room{in: Input{Channel: "pier", Kind: "file", File: "standby.flv"}, vacant: true, load: func() (Recording, error) { return recording, nil }}
		ctx, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() { (&Player{Channels: r}).Run(ctx) })
		time.Sleep(30 * time.Second)
		synctest.Wait()
		f := r.feeds[0]
		require.NotEmpty(t, f.tracks)
		for _, track := range f.tracks {
			clock, at := f.clocks[track.ID], f.at[track.ID]
			require.NotEmpty(t, clock, track.Kind)
			for i := 1; i < len(clock); i++ {
				require.Greater(t, clock[i], clock[i-1], "%v, unit %d: a turn follows the one before", track.Kind, i)
				require.LessOrEqual(t, at[i-1], at[i])
			}
			perSecond := float64(len(clock)) / 30
			if track.Kind == media.Video {
				assert.InDelta(t, 30, perSecond, 0.1)
			}
		}
		assert.Empty(t, r.problems[0], "nothing is wrong")
		cancel()
		all.Wait()
		assert.Equal(t, "the service stopped", f.ended)
	})
}

// TestWhoIsPreferredTakesAFileOffTheAir: the file ends at once, and is there again when it is wanted.
func TestWhoIsPreferredTakesAFileOffTheAir(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := &room{vacant: true, load: func() (Recording, error) { return Parse(demo.Loops[0].FLV) }}
		ctx, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() { (&Player{Channels: r}).Run(ctx) })
		time.Sleep(3 * time.Second)
		synctest.Wait()
		first := r.feeds[0]
		first.kick <- "a sender came"
		time.Sleep(time.Second)
		synctest.Wait()
		assert.Equal(t, "a sender came", first.ended)
		n := first.units()
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Equal(t, n, first.units(), "nothing more comes")
		require.Len(t, r.feeds, 1, "the channel is not vacant")
		r.set(func() { r.vacant = true })
		time.Sleep(time.Second)
		synctest.Wait()
		require.Len(t, r.feeds, 2)
		r.feeds[1].kick <- "a sender came"
		time.Sleep(time.Second)
		synctest.Wait()
		r.set(func() { r.vacant, r.taken = true, true }) // somebody is always quicker
		time.Sleep(10 * time.Second)
		synctest.Wait()
		assert.Len(t, r.feeds, 2)
		for _, p := range r.problems {
			assert.Empty(t, p, "to be too late is no problem")
		}
		cancel()
		all.Wait()
	})
}

// TestAFileThatCannotBePlayedIsLeftAloneForAWhile: it is told, tried every five seconds, and plays once it is there.
func TestAFileThatCannotBePlayedIsLeftAloneForAWhile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		there := false
		r := &room{vacant: true}
		r.load = func() (Recording, error) {
			if !there {
				return nil, errors.New("there is no file standby.flv")
			}
			return Parse(demo.Loops[0].FLV)
		}
		ctx, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() { (&Player{Channels: r}).Run(ctx) })
		time.Sleep(26 * time.Second)
		synctest.Wait()
		assert.Equal(t, []string{"there is no file standby.flv"}, r.problems)
		assert.InDelta(t, 5, r.loads, 1)
		r.set(func() { there = true })
		time.Sleep(6 * time.Second)
		synctest.Wait()
		assert.Equal(t, []string{"there is no file standby.flv", ""}, r.problems)
		require.Len(t, r.feeds, 1)
		r.set(func() { r.load = func() (Recording, error) { panic("a file that nobody foresaw") } })
		r.feeds[0].kick <- "away"
		time.Sleep(time.Second)
		synctest.Wait()
		r.set(func() { r.vacant = true })
		time.Sleep(time.Second)
		synctest.Wait()
		assert.Contains(t, r.problems[len(r.problems)-1], "nobody foresaw", "and the other files go on")
		n := r.loads
		time.Sleep(10 * time.Second)
		synctest.Wait()
		assert.InDelta(t, n+2, r.loads, 1, "a fault is not tried again at once")
		cancel()
		all.Wait()
	})
}

func TestWhatIsNoRecording(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, b []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		return path
	}
	flv := demo.Loops[0].FLV
	for path, says := range map[string]string{
		filepath.Join(dir, "none.flv"):                                "there is no file",
		write("empty.flv", nil):                                       "",
		write("text.flv", []byte("no media at all, not even a tag")):  "",
		write("head.flv", flv[:13]):                                   "found no media",
		write("text.ts", []byte(strings.Repeat("no packets ", 1000))): "found no media",
		write("empty.ts", nil):                                        "found no media",
		write("nulls.ts", make([]byte, 100*ts.PacketSize)):            "found no media",
		write("text.mp4", []byte("no boxes")):                         "",
		dir:                                                           "",
	} {
		r, err := Load(path)
		require.Error(t, err, path)
		assert.Nil(t, r, path)
		assert.Contains(t, err.Error(), says, path)
	}
	whole, err := Load(write("whole.flv", flv))
	require.NoError(t, err)
	half, err := Load(write("half.flv", flv[:len(flv)/2]))
	require.NoError(t, err, "a recording that was cut off plays as far as it goes")
	assert.Less(t, half.length(), whole.length())
	assert.Less(t, half.count(), whole.count())
	for i := 1; i < whole.count(); i++ {
		require.GreaterOrEqual(t, whole.due(i), whole.due(i-1))
	}
	assert.Greater(t, whole.length(), whole.due(whole.count()-1))
}
