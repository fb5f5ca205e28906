package srt

import (
	"bufio"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"metaplasis/internal/contribution/demux"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStreamIDs(t *testing.T) {
	for text, want := range map[string]Access{
		"#!::r=start-line,m=publish,u=KEY":                   {"start-line", "KEY", false, ""},
		"#!::u=KEY,r=start-line":                             {"start-line", "KEY", false, ""},
		"#!::r=/in/start-line,s=KEY,x=y":                     {"start-line", "KEY", false, ""},
		"#!::r=start-line/KEY,m=publish":                     {"start-line", "KEY", false, ""},
		"#!::r=start-line,m=request,u=KEY":                   {"start-line", "KEY", true, ""},
		"%23%21%3A%3Ar%3Dstart-line%2Cm%3Drequest%2Cu%3DKEY": {"start-line", "KEY", true, ""},
		"start-line/KEY":                                     {"start-line", "KEY", false, ""},
		"/in/start-line/KEY":                                 {"start-line", "KEY", false, ""},
		"publish/start-line/KEY":                             {"start-line", "KEY", false, ""},
		"start-line?key=KEY":                                 {"start-line", "KEY", false, ""},
		"request/start-line/KEY":                             {"start-line", "KEY", true, ""},
		"request/start-line/720p/KEY":                        {"start-line", "KEY", true, "720p"},
		"#!::r=start-line/720p,m=request,u=KEY":              {"start-line", "KEY", true, "720p"},
	} {
		got, err := parseStreamID(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "start-line", "#!::r=start-line", "#!::u=s3cret", "#!::r=a,u=s3cret,m=bidirectional", strings.Repeat("s3cret/", 100)} {
		_, err := parseStreamID(text)
		require.ErrorContains(t, err, "expected #!::r=CHANNEL", text)
		assert.NotContains(t, err.Error(), "s3cret", "a key is never repeated")
	}
}

func FuzzStreamID(f *testing.F) {
	f.Add("#!::r=a,u=b")
	f.Fuzz(func(t *testing.T, text string) {
		if a, err := parseStreamID(text); err == nil {
			assert.NotEmpty(t, a.Channel)
			assert.NotEmpty(t, a.Key)
		}
	})
}

func TestAdviceOnTheLatency(t *testing.T) {
	line := func(lossPercent int64, rtt time.Duration) (list []loss) {
		for n := range int64(30) {
			list = append(list, loss{received: n * 1000, lost: n * 10 * lossPercent, rtt: rtt})
		}
		return list
	}
	ms := time.Millisecond
	for _, c := range []struct {
		loss    int64
		rtt     time.Duration
		latency time.Duration
		want    string
	}{
		{0, 5 * ms, 120 * ms, "fits"},
		{0, 5 * ms, 2000 * ms, "120 ms would do"},
		{5, 50 * ms, 120 * ms, "set the sender to 250 ms"},
		{12, 80 * ms, 400 * ms, "set the sender to 560 ms"},
		{2, 50 * ms, 250 * ms, "fits"},
	} {
		assert.Contains(t, advise(line(c.loss, c.rtt), c.latency), c.want, "%+v", c)
	}
	assert.Empty(t, advise(line(0, ms)[:3], 100*ms), "too early to tell")
	dropping := line(1, 5*ms)
	dropping[29].dropped = 40
	assert.Contains(t, advise(dropping, 120*ms), "40 packets did not come in time. The latency of 120 ms is short: set the sender to 180 ms.")
}

func TestAddressesOfCalls(t *testing.T) {
	read := func(text string) (*dialMessage, error) {
		u, err := url.Parse(text)
		require.NoError(t, err)
		return dialOf(u, "secret-phrase")
	}
	d, err := read("srt://192.0.2.7:7000?latency=300&streamid=cam&pbkeylen=32&overhead=30&tlpktdrop=0")
	require.NoError(t, err)
	assert.Equal(t, &dialMessage{Mode: modeCaller, Remote: "192.0.2.7:7000", Latency: 300 * time.Millisecond, Passphrase: "secret-phrase", KeyLength: 32, StreamID: "cam",
		Overhead: 30, KeepLate: true}, d)
	d, err = read("srt://0.0.0.0:7001?mode=listener")
	require.NoError(t, err)
	assert.Equal(t, "0.0.0.0:7001", d.Local)
	d, err = read("srt://192.0.2.7:7002?mode=rendezvous")
	require.NoError(t, err)
	assert.Equal(t, []string{"0.0.0.0:7002", "192.0.2.7:7002"}, []string{d.Local, d.Remote})
	for _, wrong := range []string{"srt://h:1?mode=other", "srt://h:1?latency=x", "srt://h:1?latency=5", "srt://h:1?overhead=300", "srt://h:1?latencyms=200"} {
		_, err = read(wrong)
		assert.ErrorContains(t, err, "expected", wrong)
	}
}

// noHost is a manager whose host is the other end of a pipe.
func noHost(t *testing.T) (*Manager, net.Conn) {
	ours, theirs := net.Pipe()
	t.Cleanup(func() { _ = ours.Close(); _ = theirs.Close() })
	m := &Manager{Logger: slog.New(slog.DiscardHandler), requests: map[uint32]*request{}, conns: map[uint32]*conn{}, changed: make(chan struct{}), done: make(chan struct{})}
	m.connect(bufio.NewWriter(ours))
	return m, theirs
}

func within(t *testing.T, what string, do func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal(what)
	}
}

func opened(t *testing.T, m *Manager, id, request uint32) {
	body, err := json.Marshal(openedMessage{Request: request, Peer: "192.0.2.1:9"})
	require.NoError(t, err)
	m.handle(message{kind: kindOpened, id: id, body: body})
}

// However many call a port that one of them feeds already, nobody waits for them.
func TestManyCallersOfOnePort(t *testing.T) {
	m, host := noHost(t)
	go func() { _, _ = io.Copy(io.Discard, host) }()
	r, id, sent := m.ask(kindListen, &dialMessage{Mode: modeListener})
	require.True(t, sent)
	m.handle(message{kind: kindBound, id: id, body: []byte("4000")})
	assert.Empty(t, r.over, "a port that is bound waits for its callers")
	within(t, "the seventeenth caller blocks all of SRT", func() {
		for n := range uint32(64) {
			opened(t, m, 100+n, id)
		}
		m.SetPolicy(map[string]ChannelPolicy{})
	})
	e := <-r.opened
	assert.EqualValues(t, 100, e.id)
	m.use(r, true)
	within(t, "a caller of a port in use", func() { opened(t, m, 999, id) })
	select {
	case <-r.opened:
		t.Fatal("a port that is in use takes nobody else")
	default:
	}
	within(t, "the end of the request", func() {
		for range 20 {
			m.handle(message{kind: kindFailed, id: id, body: []byte(`{"text":"the port is taken"}`)})
		}
	})
	assert.Equal(t, "the port is taken", (<-r.over).text)
}

// A sender whose stream a receiver has untouched, while the host tells figures and takes nothing for a while.
func TestFiguresAndCopiesDoNotWaitForEachOther(t *testing.T) {
	m, host := noHost(t)
	opened := &conn{id: 7, queue: &queue{wake: make(chan struct{}, 1)}, over: make(chan struct{})}
	m.conns[7] = opened
	stream := demux.NewStream(time.Now)
	streams := &demux.Streams{}
	m.Streams = streams
	defer streams.Publish("line", stream)()
	m.measure(opened, stream)
	receiver := &conn{id: 8, over: make(chan struct{})}
	copied := make(chan bool, 1)
	go func() { copied <- m.copy(receiver, "line") }()
	packet := append([]byte{0x47, 0x1f, 0xff, 0x10}, make([]byte, 184)...)
	within(t, "writing waits for a host that takes nothing", func() {
		for range 500 { // nobody reads what goes to the host
			stream.Write(packet)
			m.handle(message{kind: kindStats, id: 7, body: []byte("{}")})
		}
	})
	go func() { _, _ = io.Copy(io.Discard, host) }()
	within(t, "a copy ends with its connection", func() {
		close(receiver.over)
		assert.False(t, <-copied)
	})
}
