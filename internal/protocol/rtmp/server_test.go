package rtmp

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rtmp"
	"metaplasis/internal/network"
	"metaplasis/internal/onward"
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
		{"in/start-line", "KEY?tune=zero", "start-line", "KEY"},
		{"in", "start-line/KEY?", "start-line", "KEY"},
	} {
		channel, key, err := senderAddress(c.app, c.name)
		require.NoError(t, err, "%s %s", c.app, c.name)
		assert.Equal(t, c.channel, channel, "%s %s", c.app, c.name)
		assert.Equal(t, c.key, key, "%s %s", c.app, c.name)
	}
	for _, c := range [][2]string{{"in", "start-line"}, {"live", "start-line/s3cret"}, {"", ""}, {"in/a/b", "s3cret"}, {"in//", "s3cret"}, {"other/start-line", "start-line?key=s3cret"}} {
		_, _, err := senderAddress(c[0], c[1])
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
	pace    time.Duration
}

func newTaken() *taken {
	return &taken{units: map[media.Kind]int{}, ended: make(chan string, 1), reports: make(chan string, 1), kick: make(chan string, 1)}
}

func (r *taken) Line(contribution.Line) {}

func (r *taken) Grid() time.Duration { return 0 }

func (r *taken) May(contribution.Sender) error { return r.refuse }

func (r *taken) Open(contribution.Sender) (contribution.Feed, error) {
	if r.refuse != nil {
		return nil, r.refuse
	}
	return r, nil
}
func (r *taken) IsTaken(error) bool                     { return true }
func (r *taken) Report(_, _, kind, text, _ string)      { r.reports <- kind + ": " + text }
func (r *taken) FrameRate(milli int64)                  { r.rate = milli }
func (r *taken) Anchor(media.TrackID, int64, time.Time) {}
func (r *taken) Extras(map[string]string)               {}
func (r *taken) Caption(contribution.Caption)           {}
func (r *taken) Splice(media.Clock, int64, []byte)      {}
func (r *taken) Track(t media.Track) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tracks = append(r.tracks, t)
}
func (r *taken) End(reason string)     { r.ended <- reason }
func (r *taken) Kicked() <-chan string { return r.kick }
func (r *taken) Pace() time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.pace
}
func (r *taken) Unit(id media.TrackID, _, _ int64, key bool, _ []byte) {
	k := media.Kind(id >> 8)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.units[k]++
	if key && k == media.Video {
		r.keys++
	}
}

func serve(t *testing.T, r *taken) (url string, s *Server) {
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := network.Listen(raw, Limits, slog.New(slog.DiscardHandler))
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
	conn, err := Dial(context.Background(), url, Options{})
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
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	r.kick <- "the channel was removed"
	require.NoError(t, conn.Media(8, 0, []byte{0xaf, 0, 0x11, 0x90}))
	var said *RefusedError
	require.ErrorAs(t, <-conn.Failed(), &said)
	assert.Equal(t, "the channel was removed", said.Text)
	<-r.ended
}

func TestRefusalCarriesTheReason(t *testing.T) {
	r := newTaken()
	r.refuse = errors.New("Stop the other sender first.")
	url, _ := serve(t, r)
	_, err := Dial(context.Background(), url, Options{})
	var said *RefusedError
	if !errors.As(err, &said) {
		t.Fatalf("found %v, expected a refusal", err)
	}
	assert.Equal(t, "NetStream.Publish.BadName", said.Code)
	assert.Contains(t, said.Text, "Stop the other sender")
}

func TestLostLineEndsTheFeed(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	conn.Cut()
	select {
	case why := <-r.ended:
		assert.Contains(t, []string{"it closed the connection", "the connection was lost"}, why)
	case <-time.After(10 * time.Second):
		t.Fatal("the feed did not end")
	}
}

func TestCameraGetsInBesideIdleStrangers(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	address := strings.TrimPrefix(url[:strings.Index(url, "/in/")], "rtmp://")
	for i := range 1000 {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer func() { _ = c.Close() }()
		if i%2 == 0 {
			_, _ = c.Write([]byte{3, 0, 0})
		}
	}
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	defer conn.Cut()
	for range 500 { // and they keep coming
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer func() { _ = c.Close() }()
	}
	require.NoError(t, conn.Media(flv.TagVideo, 0, (&flv.VideoBody{End: true}).Marshal()))
	select {
	case why := <-r.ended:
		t.Fatalf("the camera was disturbed: %s", why)
	case err := <-conn.Failed():
		t.Fatalf("the camera was disturbed: %v", err)
	default:
	}
}

// A stranger's unfinished messages are bounded before he may publish.
func TestStrangersHoldLittle(t *testing.T) {
	url, _ := serve(t, newTaken())
	c, err := net.Dial("tcp", strings.TrimPrefix(url[:strings.Index(url, "/in/")], "rtmp://"))
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	hello := make([]byte, 1+2*1536)
	hello[0] = 3
	_, err = c.Write(hello)
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, c, 1+2*1536)
	require.NoError(t, err)
	// A message of 16 MB in one chunk, of which most comes.
	_, _ = c.Write([]byte{2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff})
	_, _ = c.Write([]byte{3, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0})
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	sent := 0
	for sent < 16<<20 {
		n, err := c.Write(make([]byte, 4096))
		if sent += n; err != nil {
			break
		}
	}
	answer, _ := io.ReadAll(c)
	assert.Contains(t, string(answer), "expected 32768 at most", "it is told why")
}

func TestSenderIsSentAwayAtOnce(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	r.kick <- "its contribution key was removed" // it sends nothing meanwhile
	begin := time.Now()
	var refused *RefusedError
	require.ErrorAs(t, <-conn.Failed(), &refused)
	assert.Equal(t, "its contribution key was removed", refused.Text)
	assert.Equal(t, "its contribution key was removed", <-r.ended)
	assert.Less(t, time.Since(begin), silence/2)
}

func TestBrokenConfigurationIsToldToTheSender(t *testing.T) {
	for what, body := range map[string][]byte{
		"AVCDecoderConfigurationRecord": (&flv.VideoBody{Config: true, Data: []byte{1, 2, 3}}).Marshal(),
		"an AVC packet type":            {0x17, 9, 0, 0, 0, 0},
		"an unknown codec":              append([]byte{0x90}, "hvc1"...),
	} {
		r := newTaken()
		url, _ := serve(t, r)
		conn, err := Dial(context.Background(), url, Options{})
		require.NoError(t, err)
		require.NoError(t, conn.Media(flv.TagVideo, 0, body))
		var refused *RefusedError
		require.ErrorAs(t, <-conn.Failed(), &refused, what)
		assert.Equal(t, "NetStream.Publish.Failed", refused.Code, what)
		assert.Equal(t, "feed-broken: ", (<-r.reports)[:13], what)
	}
}

// A sender that is ahead is not read, so that its own buffers fill.
func TestSenderThatIsAheadIsReadMoreSlowly(t *testing.T) {
	r := newTaken()
	url, _ := serve(t, r)
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	defer conn.Cut()
	r.mu.Lock()
	r.pace = 20 * time.Millisecond
	r.mu.Unlock()
	file, err := flv.NewReader(bytes.NewReader(demo.Loops[0].FLV))
	require.NoError(t, err)
	config, err := file.Next()
	for err == nil && config.Type != flv.TagVideo {
		config, err = file.Next()
	}
	require.NoError(t, err)
	require.NoError(t, conn.Media(config.Type, 0, config.Body))
	var sent atomic.Int64
	go func() {
		body := (&flv.VideoBody{Data: append([]byte{0, 1, 0, 0}, make([]byte, 1<<16)...)}).Marshal()
		for conn.Media(flv.TagVideo, uint32(sent.Add(1)), body) == nil {
		}
	}()
	// The sender stops when the buffers of the line are full, and goes on when it is read again.
	settled, last := 0, int64(-1)
	require.Eventually(t, func() bool {
		now := sent.Load()
		if settled++; now != last {
			settled, last = 0, now
		}
		return settled > 20
	}, 30*time.Second, 10*time.Millisecond)
	r.mu.Lock()
	r.pace = 0
	r.mu.Unlock()
	require.Eventually(t, func() bool { return sent.Load() > last+100 }, 30*time.Second, 10*time.Millisecond)
}

func TestDialRefusesOtherAddresses(t *testing.T) {
	for _, address := range []string{"http://host/in/a/b", "rtmp://host/in", "rtmp:///in/a/b", "://"} {
		_, err := Dial(context.Background(), address, Options{})
		assert.ErrorContains(t, err, "address of the server", address)
	}
}

// TestSendersAreAskedToConnectAgain: a service that stops says so to senders that understand it.
func TestSendersAreAskedToConnectAgain(t *testing.T) {
	r := newTaken()
	url, s := serve(t, r)
	conn, err := Dial(context.Background(), url, Options{})
	require.NoError(t, err)
	require.NoError(t, s.Shutdown(context.Background()))
	var again *ReconnectError
	require.ErrorAs(t, <-conn.Failed(), &again)
	assert.Contains(t, again.Text, "the service stops")
	assert.Contains(t, <-r.ended, "the service stops")
}

// A player that sends media all the same is told so.
func TestAPlayerThatSendsMedia(t *testing.T) {
	c := &connection{s: &Server{Logger: slog.New(slog.DiscardHandler)}, engine: rtmp.NewServer(rand.Reader), playing: &playing{}}
	for _, kind := range []rtmp.EventKind{rtmp.EventVideo, rtmp.EventAudio, rtmp.EventMetadata, rtmp.EventData} {
		require.ErrorIs(t, c.event(rtmp.Event{Kind: kind, Payload: []byte{0x17, 1, 0, 0, 0}}), errPlays)
	}
}

// nowhere has one channel, on air with one rung.
type nowhere struct{ onward.Channels }

func (nowhere) Tap(slug string, _ onward.Choice) (onward.Tap, error) {
	if slug != "pier" {
		return nil, onward.ErrNoChannel
	}
	return silentTap{}, nil
}
func (nowhere) Has(_, rung string) bool { return rung == "" || rung == "source" }

type silentTap struct{ onward.Tap }

func (silentTap) Close() {}

// TestPlayersAreToldThatThereIsNoSuchStream: a channel or rung that is not there has a code of its own; what else is wrong has another.
func TestPlayersAreToldThatThereIsNoSuchStream(t *testing.T) {
	for name, code := range map[string]string{"nobody": rtmp.CodeNotFound, "pier/nope": rtmp.CodeNotFound, "a/b/c/d": rtmp.CodeNotFound, "pier?ticket=wrong": rtmp.CodePlayFailed} {
		left := 0
		server := &Server{Logger: slog.New(slog.DiscardHandler), Channels: nowhere{}, Join: func(_, _, _, ticket string) (func(), error) {
			if ticket == "wrong" {
				return nil, errors.New("the ticket is wrong")
			}
			left++
			return func() { left-- }, nil
		}}
		c := &connection{s: server, conn: here{}, engine: rtmp.NewServer(rand.Reader)}
		require.Error(t, c.play("out", name), name)
		assert.Contains(t, string(c.engine.TakeOutput()), code, name)
		assert.Zero(t, left, "who is refused is not counted: %s", name)
	}
}

// here is a connection of this machine.
type here struct{ net.Conn }

func (here) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1} }
