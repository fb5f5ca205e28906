package origin_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/delivery"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

const workerMark = "METAPLASIS_TEST_WORKER"

// TestMain lets the test binary be its own worker process.
func TestMain(m *testing.M) {
	if os.Getenv(workerMark) != "" {
		if err := worker.Run(); err != nil {
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
	events   []events.Event
	position map[string]publish.Position
	ended    []string
}

func (m *memory) Reserve(c string, p publish.Position, stored func()) {
	m.Settle(c, p)
	go stored()
}

func (m *memory) Settle(c string, p publish.Position) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.position == nil {
		m.position = map[string]publish.Position{}
	}
	m.position[c] = p
}

func (m *memory) Marked(string, publish.Marker) {}

func (m *memory) Event(e events.Event) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.events = append(m.events, e)
}
func (m *memory) NewFeed() int64 { return 1 }
func (m *memory) Feed(f origin.FeedRecord) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !f.Ended.IsZero() {
		m.ended = append(m.ended, f.Reason)
	}
}
func (m *memory) Admit(s contribution.Sender) (origin.Grant, error) {
	switch s.Key {
	case "right":
		return origin.Grant{Key: 1}, nil
	case "backup":
		return origin.Grant{Key: 2, Input: "backup"}, nil
	case "unknown":
		return origin.Grant{}, origin.ErrUnchecked
	}
	return origin.Grant{}, origin.ErrBadKey
}

func (m *memory) has(kind string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.ContainsFunc(m.events, func(e events.Event) bool { return e.Kind == kind })
}

type receiver struct{ o *origin.Origin }

func (r receiver) Open(s contribution.Sender) (contribution.Feed, error) { return r.o.Open(s) }
func (r receiver) May(s contribution.Sender) error                       { return r.o.May(s) }

func (r receiver) IsTaken(err error) bool               { return strings.Contains(err.Error(), "sender already") }
func (r receiver) Report(c, net, kind, text, do string) { r.o.Report(c, net, kind, text, do) }

// rig is an origin with an RTMP port and an HTTP address.
type rig struct {
	passed atomic.Int64 // how much longer than it did the origin has run, nanoseconds
	t      *testing.T
	o      *origin.Origin
	keep   *memory
	rtmp   string
	http   string
}

func newRig(t *testing.T) *rig {
	r := &rig{t: t, keep: &memory{}}
	r.o = origin.New(origin.Options{Keeper: r.keep, Gate: r.keep, Burst: -1, Now: func() time.Time { return time.Now().Add(time.Duration(r.passed.Load())) }, Worker: func() *exec.Cmd {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), workerMark+"=1")
		cmd.Stderr = os.Stderr
		return cmd
	}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	in := &rtmp.Server{Receiver: receiver{r.o}, Logger: r.o.Logger}
	go func() { _ = in.Serve(l) }()
	web := httptest.NewServer(delivery.New(delivery.Options{Origin: r.o}))
	r.rtmp, r.http = "rtmp://"+l.Addr().String(), web.URL
	t.Cleanup(func() {
		_ = l.Close()
		_ = in.Shutdown(context.Background())
		r.o.Close()
		web.Close()
	})
	return r
}

func (r *rig) channel(s settings.Settings) *origin.Channel {
	c, err := r.o.Add(s, time.Now(), publish.Position{})
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
	all := r.View().Snapshot.All()
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
	for _, e := range p.Whole() {
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
		for _, chunk := range f[1:] { // a segment is its parts, one behind the other
			last := f[0].Units[len(f[0].Units)-1]
			require.Equal(r.t, last.DTS+last.Duration, chunk.DTS)
			f[0].Units = append(f[0].Units, chunk.Units...)
		}
		f = f[:1]
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

// TestFeedBecomesAnAlignedLadder: segments of all rungs begin and end together. A worker that has no time for a picture, since
// others use the machine, leaves it out, and makes the one before it last longer.
func TestFeedBecomesAnAlignedLadder(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: ladder.Ladder{Rungs: []ladder.Rung{
		{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1},
		{Name: "180p", On: true, Height: 180, Bitrate: 250_000, Effort: 1, AudioBitrate: 48_000},
	}}, Packaging: settings.Packaging{SegmentMillis: 1000}})
	r.send(0, "start-line", camera.Options{})
	r.eventually("three segments", func() bool { return last(c, "180p") >= 3 && last(c, "audio-48k") >= 3 })
	large, small := r.check("start-line", "360p"), r.check("start-line", "180p")
	r.check("start-line", "audio")
	r.check("start-line", "audio-48k")
	most := 0
	for i := range min(len(large), len(small)) {
		require.Equal(t, large[i].DTS, small[i].DTS)
		most = max(most, len(large[i].Units), len(small[i].Units))
		var lengths [2]int64
		for rung, f := range []bmff.Fragment{large[i], small[i]} {
			for _, u := range f.Units {
				lengths[rung] += u.Duration
			}
		}
		assert.Equal(t, lengths[0], lengths[1])
	}
	assert.LessOrEqual(t, most, 30)
	assert.Positive(t, most)
}

// feed opens a feed without a network and returns what sends numbered pictures of one rate.
func (r *rig) feed(slug string) *origin.Feed {
	f, err := r.o.Open(contribution.Sender{Channel: slug, Key: "right", Protocol: "TEST", Remote: "here"})
	require.NoError(r.t, err)
	return f
}

// h264 returns the track and the access units of a demo loop.
func h264(t *testing.T, loop int) (media.Track, []flv.VideoBody, []uint32) {
	file, err := flv.NewReader(bytes.NewReader(demo.Loops[loop].FLV))
	require.NoError(t, err)
	var track media.Track
	var units []flv.VideoBody
	var stamps []uint32
	for {
		tag, err := file.Next()
		if err != nil {
			return track, units, stamps
		}
		var v flv.VideoBody
		if tag.Type != flv.TagVideo || v.Unmarshal(tag.Body) != nil {
			continue
		}
		if v.Config {
			track, err = flv.Track(media.H264, v.Data)
			require.NoError(t, err)
			continue
		}
		units, stamps = append(units, v), append(stamps, tag.Timestamp)
	}
}

var sourceOnly = ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: true}}}

func (r *rig) playlist(slug, name string) *hls.Playlist {
	code, b := r.get("/" + slug + "/" + name + "/index.m3u8")
	require.Equal(r.t, 200, code)
	p, err := hls.ReadMedia(b)
	require.NoError(r.t, err)
	return p
}

// Stamps that jump, forwards or back, lose no picture and break nothing: the channel's times go on.
func TestTimestampsThatJumpBreakNothing(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceOnly})
	f := r.feed("start-line")
	track, units, stamps := h264(t, 1)
	f.Track(track)
	for _, base := range []uint32{0, 8000, 4_000_000_000, 4_000_008_000, 3_000_000_000, 3_000_004_000} { // on, a jump ahead, on, a jump back, one of seconds
		for i, u := range units {
			f.Unit(media.TrackID(media.Video), int64(base+stamps[i]), int64(u.Composition), u.Key, u.Data)
		}
	}
	f.End("test")
	r.eventually("all segments", func() bool { return last(c, "source") >= 22 })
	p := r.playlist("start-line", "source")
	for _, e := range p.Whole() {
		assert.False(t, e.Discontinuity)
		assert.InDelta(t, 2.0, e.Duration.Seconds(), 0.05)
	}
	r.eventually("an event", func() bool { return r.keep.has("timestamps-jumped") })
	assert.Zero(t, c.Position().Discontinuities)
}

func TestTracksThatChangeBeginANewRun(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceOnly})
	f := r.feed("start-line")
	base := uint32(0)
	for _, loop := range []int{1, 0} {
		track, units, stamps := h264(t, loop)
		f.Track(track)
		for i, u := range units {
			f.Unit(media.TrackID(media.Video), int64(base+stamps[i]), int64(u.Composition), u.Key, u.Data)
		}
		base += 8000
	}
	f.End("test")
	r.eventually("both", func() bool { return last(c, "source") >= 6 })
	var sizes []int
	all := c.Rendition("source").View().Snapshot.All()
	for _, s := range all {
		if n := len(sizes); n == 0 || sizes[n-1] != s.Header.Track.Height {
			sizes = append(sizes, s.Header.Track.Height)
		}
		assert.Equal(t, s.MSN == 4, s.Discontinuity, "segment %d", s.MSN)
	}
	assert.Equal(t, []int{1080, 720}, sizes)
	r.eventually("an event", func() bool { return r.keep.has("feed-changed") })
}

func TestSparseKeyframesAreTold(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceOnly, Packaging: settings.Packaging{SegmentMillis: 500}})
	f := r.feed("start-line")
	track, units, stamps := h264(t, 1) // keyframes every two seconds
	f.Track(track)
	for i, u := range units {
		f.Unit(media.TrackID(media.Video), int64(stamps[i]), int64(u.Composition), u.Key, u.Data)
	}
	r.eventually("an event", func() bool { return r.keep.has("keyframes-sparse") })
	st := c.Status()
	require.NotEmpty(t, st.Problems)
	assert.Contains(t, st.Problems[0].Text, "Set the encoder's keyframe (IDR) interval to 500 ms (15 frames)")
	f.End("test")
	for _, s := range c.Rendition("source").View().Snapshot.All() {
		assert.EqualValues(t, 2*media.VideoTimescale, s.Duration)
	}
	assert.LessOrEqual(t, st.Memory, st.MemoryBound)
}

func TestSilentSenderLosesItsChannelToTheNext(t *testing.T) {
	now := &handClock{now: time.Now()}
	keep := &memory{}
	o := origin.New(origin.Options{Keeper: keep, Gate: keep, Worker: func() *exec.Cmd { return exec.Command("false") }, Now: now.Now})
	defer o.Close()
	_, err := o.Add(settings.Settings{Slug: "start-line"}, now.Now(), publish.Position{})
	require.NoError(t, err)
	first, err := o.Open(contribution.Sender{Channel: "start-line", Key: "right", Protocol: "TEST", Remote: "a"})
	require.NoError(t, err)
	_, err = o.Open(contribution.Sender{Channel: "start-line", Key: "right", Protocol: "TEST", Remote: "b"})
	require.ErrorIs(t, err, origin.ErrTaken)
	now.pass(3 * time.Second)
	second, err := o.Open(contribution.Sender{Channel: "start-line", Key: "right", Protocol: "TEST", Remote: "b"})
	require.NoError(t, err)
	assert.Contains(t, <-first.Kicked(), "another sender took over")
	_, err = o.Open(contribution.Sender{Channel: "start-line", Key: "wrong", Protocol: "TEST", Remote: "c"})
	assert.ErrorIs(t, err, origin.ErrBadKey)
	_, err = o.Open(contribution.Sender{Channel: "nowhere", Key: "right", Protocol: "TEST", Remote: "c"})
	assert.ErrorIs(t, err, origin.ErrUnknownChannel)
	second.End("test")
	assert.Equal(t, status.Waiting, o.Channel("start-line").Status().State)
	assert.NoError(t, o.Remove("start-line"))
	assert.ErrorIs(t, o.Remove("start-line"), origin.ErrUnknownChannel)
}

func TestSettingsAreAppliedWholeOrNotAtAll(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Title: "before"})
	_, err := r.o.Add(settings.Settings{Slug: "start-line"}, time.Now(), publish.Position{})
	assert.ErrorIs(t, err, origin.ErrExists)
	s := c.Settings()
	s.Title, s.Window = "after", 2
	var invalid *settings.InvalidError
	require.ErrorAs(t, c.Apply(s), &invalid)
	assert.Equal(t, "packaging.window", invalid.Problems[0].Field)
	assert.Equal(t, "before", c.Settings().Title)
	s.Window = 4
	require.NoError(t, c.Apply(s))
	assert.Equal(t, "after", c.Settings().Title)
	assert.Equal(t, settings.DefaultSegmentMillis, int(c.Settings().SegmentMillis))
}

func (m *memory) AskAdmission(contribution.Sender) error { return nil }
