package origin_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	rtmpin "metaplasis/internal/contribution/rtmp"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/delivery"
	"metaplasis/internal/origin"
	"metaplasis/internal/worker"
)

const workerMark = "METAPLASIS_TEST_WORKER"

// TestMain lets the test binary be its own worker process.
func TestMain(m *testing.M) {
	if os.Getenv(workerMark) != "" {
		if err := worker.Run(os.NewFile(3, "socket")); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// memory is a keeper and gate without a database.
type memory struct {
	mu       sync.Mutex
	events   []origin.Event
	position map[string]origin.Position
	ended    []string
}

func (m *memory) Reserve(c string, p origin.Position) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.position == nil {
		m.position = map[string]origin.Position{}
	}
	m.position[c] = p
	return nil
}

func (m *memory) Settle(c string, p origin.Position) error { return m.Reserve(c, p) }

func (m *memory) Event(e origin.Event) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.events = append(m.events, e)
}
func (m *memory) FeedBegun(origin.FeedRecord) int64        { return 1 }
func (m *memory) FeedTracks(int64, []media.Track)          {}
func (m *memory) FeedEnded(_ int64, _ time.Time, r string) { m.ended = append(m.ended, r) }
func (m *memory) Admit(_, key string) error {
	if key != "right" {
		return origin.ErrBadKey
	}
	return nil
}

type receiver struct{ o *origin.Origin }

func (r receiver) Open(c, k, p, remote string) (rtmpin.Feed, error) { return r.o.Open(c, k, p, remote) }
func (r receiver) IsTaken(err error) bool                           { return strings.Contains(err.Error(), "sender already") }
func (r receiver) Report(c, kind, text, do string)                  { r.o.Report(c, kind, text, do) }

// rig is an origin with an RTMP port and an HTTP address.
type rig struct {
	t    *testing.T
	o    *origin.Origin
	keep *memory
	rtmp string
	http string
}

func newRig(t *testing.T) *rig {
	r := &rig{t: t, keep: &memory{}}
	r.o = origin.New(origin.Options{Keeper: r.keep, Gate: r.keep, Worker: func() *exec.Cmd {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), workerMark+"=1")
		cmd.Stderr = os.Stderr
		return cmd
	}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	in := &rtmpin.Server{Receiver: receiver{r.o}, Logger: r.o.Logger}
	go func() { _ = in.Serve(l) }()
	web := httptest.NewServer(delivery.Handler(r.o, nil))
	r.rtmp, r.http = "rtmp://"+l.Addr().String(), web.URL
	t.Cleanup(func() {
		_ = l.Close()
		_ = in.Shutdown(context.Background())
		r.o.Close()
		web.Close()
	})
	return r
}

func (r *rig) channel(s origin.Settings) *origin.Channel {
	c, err := r.o.Add(s, time.Now(), origin.Position{})
	require.NoError(r.t, err)
	return c
}

// send starts a camera and returns the function that stops it and waits.
func (r *rig) send(loop int, slug string, o camera.Options) func() {
	clip, err := camera.Load(demo.Loops[loop].FLV)
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	o.URL = r.rtmp + "/in/" + slug + "/right"
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = camera.Run(ctx, clip, o)
	}()
	stop := func() { cancel(); <-done }
	r.t.Cleanup(stop)
	return stop
}

func (r *rig) get(path string) (int, []byte) {
	res, err := http.Get(r.http + path)
	require.NoError(r.t, err)
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	require.NoError(r.t, err)
	return res.StatusCode, b
}

// eventually polls a condition of the running service.
func (r *rig) eventually(what string, ok func() bool) {
	r.t.Helper()
	require.Eventually(r.t, ok, 30*time.Second, 20*time.Millisecond, what)
}

// last returns the newest number of a rendition, 0 without one.
func last(c *origin.Channel, name string) uint64 {
	r := c.Rendition(name)
	if r == nil || r.View() == nil {
		return 0
	}
	all := r.View().Snapshot.All
	return all[len(all)-1].MSN
}

// check reads a rendition back and holds it against the invariants: continuous times, IDRs at
// the front, numbers in a row.
func (r *rig) check(slug, name string) []bmff.Fragment {
	code, b := r.get("/" + slug + "/" + name + "/index.m3u8")
	require.Equal(r.t, 200, code)
	p, err := hls.ReadMedia(b)
	require.NoError(r.t, err)
	var out []bmff.Fragment
	var next int64
	for _, e := range p.Entries {
		assert.LessOrEqual(r.t, e.Duration.Round(time.Second), p.TargetDuration)
		code, h := r.get("/" + slug + "/" + name + "/" + e.Header)
		require.Equal(r.t, 200, code)
		info, err := bmff.ReadHeader(h)
		require.NoError(r.t, err)
		if e.Gap {
			next = 0
			continue
		}
		code, b := r.get("/" + slug + "/" + name + "/" + e.URI)
		require.Equal(r.t, 200, code)
		f, err := bmff.ReadFragments(b)
		require.NoError(r.t, err)
		require.Len(r.t, f, 1)
		assert.True(r.t, f[0].Units[0].Key)
		if next > 0 && !e.Discontinuity {
			assert.InDelta(r.t, next, f[0].DTS, float64(info.Timescale)/500, "%s/%s: decode time of %d", slug, name, e.MSN)
		}
		end := f[0].Units[len(f[0].Units)-1]
		next = end.DTS + end.Duration
		out = append(out, f...)
	}
	return out
}

func TestFeedBecomesAnAlignedLadder(t *testing.T) {
	r := newRig(t)
	c := r.channel(origin.Settings{Slug: "start-line", SegmentMillis: 1000, Ladder: ladder.Ladder{Rungs: []ladder.Rung{
		{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1},
		{Name: "180p", On: true, Height: 180, Bitrate: 250_000, Effort: 1, AudioBitrate: 48_000},
	}}})
	r.send(0, "start-line", camera.Options{})
	r.eventually("three segments", func() bool { return last(c, "180p") >= 3 && last(c, "audio-48k") >= 3 })
	large, small := r.check("start-line", "360p"), r.check("start-line", "180p")
	r.check("start-line", "audio")
	r.check("start-line", "audio-48k")
	for i := range min(len(large), len(small)) {
		require.Equal(t, large[i].DTS, small[i].DTS)
		require.Equal(t, len(large[i].Units), len(small[i].Units))
		assert.Equal(t, 30, len(large[i].Units))
	}
}
