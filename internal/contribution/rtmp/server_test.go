package rtmp

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward/rtmp"
)

func TestAddressesAsEncodersWriteThem(t *testing.T) {
	for _, c := range []struct{ app, name, channel, key string }{
		{"in/start-line", "KEY", "start-line", "KEY"},
		{"in/start-line/", "KEY", "start-line", "KEY"},
		{"/in/start-line", "/KEY", "start-line", "KEY"},
		{"in", "start-line/KEY", "start-line", "KEY"},
		{"in", "start-line?key=KEY", "start-line", "KEY"},
		{"in/start-line", "start-line?key=KEY", "start-line", "KEY"},
		{"in/start-line?tune=zero", "KEY", "start-line", "KEY"},
		{"in/start-line/KEY", "", "start-line", "KEY"},
		{"in", "start-line?key=a%2Bb&x=1", "start-line", "a+b"},
	} {
		channel, key, err := Address(c.app, c.name)
		require.NoError(t, err, "%s %s", c.app, c.name)
		assert.Equal(t, c.channel, channel, "%s %s", c.app, c.name)
		assert.Equal(t, c.key, key, "%s %s", c.app, c.name)
	}
	for _, c := range [][2]string{{"in", "start-line"}, {"live", "start-line/s3cret"}, {"", ""}, {"in/a/b", "s3cret"}, {"in//", "s3cret"}, {"other/start-line", "start-line?key=s3cret"}} {
		_, _, err := Address(c[0], c[1])
		require.ErrorContains(t, err, "expected application in/CHANNEL", c)
		assert.NotContains(t, err.Error(), "s3cret", "a key is never repeated")
	}
}

// taken is a receiver with one feed that notes what it gets.
type taken struct {
	mu      sync.Mutex
	tracks  []media.Track
	units   map[media.Kind]int
	keys    int
	rate    int64
	ended   chan string
	reports chan string
	kick    chan string
	refuse  error
}

func newTaken() *taken {
	return &taken{units: map[media.Kind]int{}, ended: make(chan string, 1), reports: make(chan string, 1), kick: make(chan string, 1)}
}

func (r *taken) Open(string, string, string, string) (Feed, error) {
	if r.refuse != nil {
		return nil, r.refuse
	}
	return r, nil
}
func (r *taken) IsTaken(error) bool             { return true }
func (r *taken) Report(_, kind, text, _ string) { r.reports <- kind + ": " + text }
func (r *taken) FrameRate(milli int64)          { r.rate = milli }
func (r *taken) Clock(media.SendClock)          {}
func (r *taken) Splice(uint32, []byte)          {}
func (r *taken) Track(t media.Track) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tracks = append(r.tracks, t)
}
func (r *taken) End(reason string)     { r.ended <- reason }
func (r *taken) Kicked() <-chan string { return r.kick }
func (r *taken) Unit(k media.Kind, _ uint32, _ int64, key bool, _ []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.units[k]++
	if key && k == media.Video {
		r.keys++
	}
}

func serve(t *testing.T, r *taken) (url string, s *Server) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s = &Server{Receiver: r, Logger: slog.New(slog.DiscardHandler)}
	done := make(chan error, 1)
	go func() { done <- s.Serve(l) }()
	t.Cleanup(func() {
		_ = l.Close()
		require.NoError(t, <-done)
		require.NoError(t, s.Shutdown(context.Background()))
	})
	return "rtmp://" + l.Addr().String() + "/in/start-line/key", s
}

func TestLoopArrivesWhole(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	require.NoError(t, err)
	file, err := flv.NewReader(bytes.NewReader(demo.Loops[0].FLV))
	require.NoError(t, err)
	for {
		tag, err := file.Next()
		if err != nil {
			break
		}
		if tag.Type != flv.TagScript {
			require.NoError(t, conn.Media(tag.Type, tag.Timestamp, tag.Body))
		}
	}
	require.NoError(t, conn.Close())
	assert.Equal(t, "it ended its stream", <-r.ended)
	assert.Equal(t, map[media.Kind]int{media.Video: 240, media.Audio: 375}, r.units)
	assert.Equal(t, 4, r.keys)
	require.Len(t, r.tracks, 2)
	assert.Equal(t, 1280, r.tracks[0].Width)
	assert.Equal(t, 48000, r.tracks[1].SampleRate)
}

func TestSenderIsSentAway(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	require.NoError(t, err)
	r.kick <- "the channel was removed"
	require.NoError(t, conn.Media(8, 0, []byte{0xaf, 0, 0x11, 0x90}))
	var said *rtmp.RefusedError
	require.ErrorAs(t, <-conn.Failed(), &said)
	assert.Equal(t, "the channel was removed", said.Text)
	<-r.ended
}

func TestRefusalCarriesTheReason(t *testing.T) {
	r := newTaken()
	r.refuse = errors.New("Stop the other sender first.")
	url, _ := serve(t, r)
	_, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	var said *rtmp.RefusedError
	if !errors.As(err, &said) {
		t.Fatalf("found %v, expected a refusal", err)
	}
	assert.Equal(t, "NetStream.Publish.BadName", said.Code)
	assert.Contains(t, said.Text, "Stop the other sender")
}

func TestLostLineEndsTheFeed(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	require.NoError(t, err)
	conn.Cut()
	select {
	case why := <-r.ended:
		assert.Contains(t, []string{"it closed the connection", "the connection was lost"}, why)
	case <-time.After(10 * time.Second):
		t.Fatal("the feed did not end")
	}
}

func TestConnectionsAreBounded(t *testing.T) {
	s := &Server{}
	for range maxConnections {
		a, b := net.Pipe()
		_ = b.Close()
		require.True(t, s.register(a))
		defer s.forget(a)
	}
	a, _ := net.Pipe()
	assert.False(t, s.register(a))
}

func TestDialRefusesOtherAddresses(t *testing.T) {
	for _, address := range []string{"http://host/in/a/b", "rtmp://host/in", "rtmp:///in/a/b", "://"} {
		_, err := rtmp.Dial(context.Background(), address, rtmp.Options{})
		assert.ErrorContains(t, err, "address of the server", address)
	}
}
