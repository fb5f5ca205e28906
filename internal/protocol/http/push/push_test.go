package push

import (
	"bytes"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/vp9"
)

// keyframe is the begin of one of VP9.
var keyframe = []byte{0x82, 0x49, 0x83, 0x42, 0, 1, 0xf0, 0, 0xf0}

func TestNamesOfTracks(t *testing.T) {
	for name, want := range map[string]string{
		"Streams(audio-1.cmfa)":   "audio-1.cmfa",
		"video/seg-17.m4s":        "video/",
		"video/init.mp4":          "video/",
		"camera-00017.m4s":        "camera",
		"Streams(a b).cmfv":       "a b).cmfv",
		"harbour.cmfv":            "harbour.cmfv",
		"1.m4s":                   "",
		"sound/eng/chunk_0009.m4": "sound/eng/",
	} {
		assert.Equal(t, want, trackName(name), name)
	}
}

func TestTracksAreOrderedByTheirNumbers(t *testing.T) {
	// The second sound's request came first, a track without a number before all.
	none, second, first, long := idOf("sound", 0), idOf("audio-257.cmfa", 1), idOf("audio-1.cmfa", 2), idOf("a/99999999999999999999/", 3)
	assert.Less(t, first, second)
	assert.Less(t, second, none)
	assert.Less(t, none, long)
	assert.NotEqual(t, idOf("left-1", 4), idOf("right-1", 5))
	assert.Less(t, idOf("1", 0), idOf("2", 0))
}

// gate lets senders in, some of them slowly, and its feeds have a fault.
type gate struct {
	contribution.Receiver
	slow chan struct{}
}

func (g *gate) Open(s contribution.Sender) (contribution.Feed, error) {
	if s.Key == "wrong" {
		<-g.slow
		return nil, errors.New("the key is wrong")
	}
	return &faulty{ended: make(chan string, 1)}, nil
}

type faulty struct {
	contribution.Feed
	ended chan string
}

func (f *faulty) Pace() time.Duration   { panic("a fault") }
func (f *faulty) End(why string)        { f.ended <- why }
func (f *faulty) Kicked() <-chan string { return nil }

// A sender whose key takes long to be checked holds nobody else up, and a fault leaves no lock behind.
func TestAdmissionsWaitForNobody(t *testing.T) {
	g := &gate{slow: make(chan struct{})}
	s := &Server{Receiver: g, Logger: slog.New(slog.DiscardHandler)}
	refused := make(chan error, 2)
	for range 2 {
		go func() {
			_, err := s.join(contribution.Sender{Channel: "line", Key: "wrong", Remote: "192.0.2.1:1"})
			refused <- err
		}()
	}
	x, err := s.join(contribution.Sender{Channel: "line", Key: "right", Remote: "198.51.100.1:1"})
	require.NoError(t, err)
	close(g.slow)
	for range 2 {
		require.ErrorContains(t, <-refused, "the key is wrong")
	}
	tr, err := x.track("a.cmfv")
	require.NoError(t, err)
	assert.Panics(t, func() { _, _, _, _ = x.write(tr, nil) })
	x.end("the connection ended")
	assert.Equal(t, "the connection ended", <-x.feed.(*faulty).ended)
	s.Close()
}

// Requests of one track take turns, however they overlap: the second one's bytes come behind the first one's. One of which
// nothing comes any more gives way to the next.
func TestRequestsOfATrackTakeTurns(t *testing.T) {
	feed := &counting{}
	s := &Server{Receiver: &open{feed: feed}, Logger: slog.New(slog.DiscardHandler)}
	server := httptest.NewServer(s.Routes())
	defer server.Close()
	defer s.Close()
	track := media.Track{Kind: media.Video, Codec: media.VP9, Timescale: 48000, Width: 64, Height: 36, Config: (&vp9.Config{Level: 10, Depth: 8, Chroma: 1}).Marshal()}
	chunk := func(from int64) []byte {
		var list []media.AccessUnit
		for n := range int64(4) {
			list = append(list, media.AccessUnit{DTS: (from + n) * 1000, PTS: (from + n) * 1000, Duration: 1000, Key: true, Data: keyframe})
		}
		return bmff.Chunk(&track, bmff.ChunkOptions{Sequence: uint32(from)}, list)
	}
	put := func(name string, body io.Reader) int {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPut, server.URL+"/line/"+name, body)
		require.NoError(t, err)
		req.SetBasicAuth("", "right")
		res, err := server.Client().Do(req)
		require.NoError(t, err)
		_ = res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, http.StatusOK, put("video/init.mp4", bytes.NewReader(bmff.Header(&track))))
	read, write := io.Pipe()
	answers := make(chan int, 2)
	go func() { answers <- put("video/seg-1.m4s", read) }()
	first := chunk(0)
	_, _ = write.Write(first[:len(first)/2])
	go func() { answers <- put("video/seg-2.m4s", bytes.NewReader(chunk(4))) }()
	for x := s.only(); x.tracks["video/"].waits.Load() == 0; { // the second one waits
		runtime.Gosched()
	}
	_, _ = write.Write(first[len(first)/2:])
	_ = write.Close()
	assert.Equal(t, []int{http.StatusOK, http.StatusOK}, []int{<-answers, <-answers})
	assert.Equal(t, []int64{0, 1000, 2000, 3000, 4000, 5000, 6000, 7000}, feed.all())

	stuck, keep := io.Pipe()
	go func() { answers <- put("video/seg-3.m4s", stuck) }()
	_, _ = keep.Write(chunk(8)[:20])
	for x := s.only(); x.tracks["video/"].now.Load() == nil; { // the server reads it
		runtime.Gosched()
	}
	go func() { answers <- put("video/seg-4.m4s", bytes.NewReader(chunk(12))) }()
	assert.ElementsMatch(t, []int{http.StatusConflict, http.StatusOK}, []int{<-answers, <-answers})
	assert.Equal(t, int64(15000), feed.all()[len(feed.all())-1])
}

// open lets everybody in.
type open struct {
	contribution.Receiver
	feed contribution.Feed
}

func (o *open) Open(contribution.Sender) (contribution.Feed, error) { return o.feed, nil }

type counting struct {
	contribution.Feed
	mu     sync.Mutex
	stamps []int64
}

func (c *counting) Track(media.Track)     {}
func (c *counting) Pace() time.Duration   { return 0 }
func (c *counting) End(string)            {}
func (c *counting) Kicked() <-chan string { return nil }
func (c *counting) all() []int64          { c.mu.Lock(); defer c.mu.Unlock(); return slices.Clone(c.stamps) }
func (c *counting) Unit(_ media.TrackID, stamp, _ int64, _ bool, _ []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stamps = append(c.stamps, stamp)
}

func (s *Server) only() *session {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.sessions {
		return x
	}
	return nil
}
