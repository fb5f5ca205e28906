package mpegts_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/media"
	"metaplasis/internal/protocol/mpegts"
)

// counted is a feed that counts pictures by their tracks. Whatever else it is told does not matter here.
type counted struct {
	contribution.Feed

	mu     sync.Mutex
	kinds  map[media.TrackID]media.Kind
	units  map[media.Kind]int
	enough chan struct{}
}

func newCounted() *counted {
	return &counted{kinds: map[media.TrackID]media.Kind{}, units: map[media.Kind]int{}, enough: make(chan struct{}, 1)}
}

func (f *counted) Track(track media.Track) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.kinds[track.ID] = track.Kind
}

func (f *counted) Unit(id media.TrackID, _, _ int64, _ bool, _ []byte) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.units[f.kinds[id]]++
	if f.units[media.Video] >= 60 && f.units[media.Audio] >= 60 {
		select {
		case f.enough <- struct{}{}:
		default:
		}
	}
}

func (f *counted) End(string)                             {}
func (f *counted) FrameRate(int64)                        {}
func (f *counted) Line(contribution.Line)                 {}
func (f *counted) Extras(map[string]string)               {}
func (f *counted) Caption(contribution.Caption)           {}
func (f *counted) Splice(media.Clock, int64, []byte)      {}
func (f *counted) Anchor(media.TrackID, int64, time.Time) {}
func (f *counted) Grid() time.Duration                    { return 0 }
func (f *counted) Pace() time.Duration                    { return 0 }
func (f *counted) Kicked() <-chan string                  { return nil }

// receive takes an address into a feed until the test ends.
func receive(t *testing.T, address string, lets func(string) bool) (*counted, <-chan error) {
	u, err := url.Parse(address)
	require.NoError(t, err)
	f, over := newCounted(), make(chan error, 1)
	ctx, cancel := context.WithCancel(context.Background())
	r := &mpegts.Receiver{Streams: &demux.Streams{}, Logger: slog.New(slog.DiscardHandler)}
	var all sync.WaitGroup
	all.Go(func() {
		over <- r.Receive(ctx, &source.Line{Source: source.Source{Channel: "pier", Address: address}, URL: u, Problem: func(string) {}, Lets: lets,
			Open: func(protocol, _ string, _ time.Duration) (contribution.Feed, error) {
				assert.Equal(t, "TCP", protocol)
				return f, nil
			}})
	})
	t.Cleanup(func() { cancel(); all.Wait() })
	return f, over
}

// send lets a camera send a loop as fast as it is taken, again and again until the test ends.
func send(t *testing.T, address string) {
	clip, err := camera.Load(demo.Others[2].FLV)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() {
		for ctx.Err() == nil {
			_ = camera.Run(ctx, clip, camera.Options{URL: address, Fast: true, Loops: 2, Retry: 50 * time.Millisecond})
		}
	})
	t.Cleanup(func() { cancel(); all.Wait() })
}

func await(t *testing.T, f *counted) {
	t.Helper()
	select {
	case <-f.enough:
	case <-time.After(time.Minute):
		t.Fatalf("what came in a minute: %v", f.units)
	}
}

func address(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

// TestTransportStreamsOverTCP: a sender that calls us, and one that is called.
func TestTransportStreamsOverTCP(t *testing.T) {
	host := address(t)
	f, _ := receive(t, "tcp://"+host+"?mode=listener", func(string) bool { return true })
	send(t, "tcp://"+host)
	await(t, f)

	l, err := net.Listen("tcp", "127.0.0.1:0") // a multiplexer that lets programs fetch what it makes
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			clip, err := camera.Load(demo.Others[2].FLV)
			if assert.NoError(t, err) {
				ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
				_ = camera.Serve(ctx, clip, camera.Options{Fast: true, Loops: 2}, func(b []byte) error { _, err := conn.Write(b); return err })
				cancel()
			}
			_ = conn.Close()
		}
	}()
	f, over := receive(t, "tcp://"+l.Addr().String(), nil)
	await(t, f)
	select {
	case err := <-over:
		assert.Error(t, err, "it ended its stream")
	case <-time.After(time.Minute):
		t.Fatal("the end was not noticed")
	}
}

// TestOnlySendersOfTheChannelsNetworks: who is not let in is hung up on, and holds nobody else up.
func TestOnlySendersOfTheChannelsNetworks(t *testing.T) {
	host := address(t)
	asked := make(chan string, 16)
	let := make(chan struct{})
	f, _ := receive(t, "tcp://"+host+"?mode=listener", func(remote string) bool {
		select {
		case asked <- remote:
		default:
		}
		select {
		case <-let:
			return true
		default:
			return false
		}
	})
	var conn net.Conn
	require.Eventually(t, func() (ok bool) {
		var err error
		conn, err = net.Dial("tcp", host)
		return err == nil
	}, time.Minute, 10*time.Millisecond, "it listens")
	_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
	_, err := conn.Read(make([]byte, 1))
	assert.Error(t, err)
	assert.NotErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, conn.LocalAddr().String(), <-asked)
	close(let)
	send(t, "tcp://"+host)
	await(t, f)
}

func TestNobodyThere(t *testing.T) {
	_, over := receive(t, "tcp://"+address(t), nil)
	select {
	case err := <-over:
		assert.ErrorContains(t, err, "refused")
	case <-time.After(time.Minute):
		t.Fatal("it is not noticed")
	}
	u := fmt.Sprintf("tcp://%s", address(t))
	at, err := url.Parse(u)
	require.NoError(t, err)
	_, err = mpegts.Dial(context.Background(), at)
	assert.ErrorContains(t, err, "refused")
}
