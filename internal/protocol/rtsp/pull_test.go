package rtsp

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/media"
)

// sends answers every request by sending the client elsewhere, and hands out what it was asked.
func sends(t *testing.T, location func() string) (host string, asked chan string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	asked = make(chan string, 20)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				r := bufio.NewReader(conn)
				for {
					var text, seq string
					for {
						line, err := r.ReadString('\n')
						if err != nil {
							return
						}
						if text += line; line == "\r\n" {
							break
						}
						if name, value, _ := strings.Cut(line, ":"); strings.EqualFold(name, "CSeq") {
							seq = strings.TrimSpace(value)
						}
					}
					asked <- text
					_, _ = fmt.Fprintf(conn, "RTSP/1.0 302 Found\r\nCSeq: %s\r\nLocation: %s\r\n\r\n", seq, location())
				}
			}()
		}
	}()
	return l.Addr().String(), asked
}

// TestSentElsewhere: a redirection is followed, a password does not follow it to another host, and circles end.
func TestSentElsewhere(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	camera := l.Addr().String()
	require.NoError(t, l.Close())
	served, err := Listen(&url.URL{Scheme: "rtsp", Host: camera, Path: "/stream1", User: url.UserPassword("harbour", "lantern")})
	require.NoError(t, err)
	defer func() { _ = served.Close() }()
	served.Track(media.Track{ID: 1, Kind: media.Audio, Codec: media.Opus, SampleRate: 48000, Channels: 2, Clock: media.Clock{Scale: 48000}})
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for n := int64(0); ; n++ {
			served.Unit(1, n*960, 0, true, []byte{0xf8, 0xff, 0xfe})
			_ = served.Flush()
			select {
			case <-stop:
				return
			case <-tick.C:
			}
		}
	}()
	_, port, err := net.SplitHostPort(camera)
	require.NoError(t, err)
	opened := errors.New("it is taken")
	fetch := func(host string) error {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		line := &source.Line{Source: source.Source{Secret: "lantern"}, URL: &url.URL{Scheme: "rtsp", Host: host, Path: "/door", User: url.User("harbour")},
			Open: func(string, string, time.Duration) (contribution.Feed, error) { return nil, opened }, Problem: func(string) {}}
		line.URL.RawQuery = "transport=tcp"
		return (&Puller{Logger: slog.New(slog.DiscardHandler)}).Receive(ctx, line)
	}

	same, _ := sends(t, func() string { return "rtsp://" + camera + "/stream1" })
	require.ErrorIs(t, fetch(same), opened, "the same host, and its password")

	other, asked := sends(t, func() string { return "rtsp://localhost:" + port + "/stream1" })
	require.ErrorContains(t, fetch(other), "asks for a user name and password")
	assert.NotContains(t, <-asked, "Authorization")

	var circle string
	circle, asked = sends(t, func() string { return "rtsp://" + circle + "/stream1" })
	require.ErrorContains(t, fetch(circle), "on and on")
	assert.LessOrEqual(t, len(asked), 3*maxRedirects)

	elsewhere, _ := sends(t, func() string { return "http://" + camera + "/page" })
	require.ErrorContains(t, fetch(elsewhere), "an address that is no RTSP")
}

// However often a player sets a stream up, it holds one pair of sockets for it.
func TestSettingUpAgainReplacesTheSockets(t *testing.T) {
	count := func() int {
		list, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(list)
	}
	x, before := &player{}, count()
	for range 400 {
		_, own, err := x.sockets(0, netip.MustParseAddr("127.0.0.1"), [2]int{9, 10})
		require.NoError(t, err)
		assert.NotZero(t, own[0])
	}
	assert.LessOrEqual(t, count(), before+4)
	x.closeAll()
	assert.LessOrEqual(t, count(), before+2)
}
