package push

import (
	"errors"
	"log/slog"
	"testing"
	"time"

	"metaplasis/internal/contribution"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
