package rtsp

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/rtsp"
)

// Requests that are not understood, or not in force, are answered as RFC 2326 has it.
func TestAnswersToUnusualRequests(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{Logger: slog.New(slog.DiscardHandler)}
	go func() { _ = s.Serve(l) }()
	defer func() {
		_ = l.Close()
		_ = s.Shutdown(context.Background())
	}()
	conn, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	r := bufio.NewReader(conn)
	for n, c := range []struct {
		line, headers string
		status        int
	}{
		{"OPTIONS * RTSP/1.0", "", 200},
		{"OPTIONS * RTSP/2.0", "", 505},
		{"SETUP rtsp://a/out/b RTSP/1.0", "Require: org.example.fast\r\n", 551},
		{"PLAY rtsp://a/out/b RTSP/1.0", "Session: 123456\r\n", 454},
		{"PLAY rtsp://a/out/b RTSP/1.0", "", 455},
		{"RECORD rtsp://a/in/b RTSP/1.0", "", 455},
		{"DESCRIBE rtsp://a/out/b RTSP/1.0", "Accept: application/rtsl, text/plain;q=0.5\r\n", 406},
		{"DESCRIBE rtsp://a/out/b RTSP/1.0", "Accept: application/*\r\n", 405},
		{"REDIRECT rtsp://a/out/b RTSP/1.0", "", 501},
	} {
		_, err := fmt.Fprintf(conn, "%s\r\nCSeq: %d\r\n%s\r\n", c.line, n, c.headers)
		require.NoError(t, err)
		m, _, err := rtsp.Read(r)
		require.NoError(t, err)
		assert.Equal(t, c.status, m.Status, "%s %s", c.line, c.headers)
		if c.status == 551 {
			assert.Equal(t, "org.example.fast", m.Header.Get("Unsupported"))
		}
	}
}

// camera answers as a function says.
func camera(t *testing.T, answer func(m *rtsp.Message) *rtsp.Message) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
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
					m, _, err := rtsp.Read(r)
					if err != nil {
						return
					}
					if m == nil {
						continue
					}
					out := answer(m)
					if out == nil {
						<-t.Context().Done()
						return
					}
					if _, err := conn.Write(out.Marshal()); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// channel is one that has an input, and notes what is wrong with it.
type channel struct {
	from     source.Source
	problems chan string
}

func (c *channel) Sources() []source.Source { return []source.Source{c.from} }
func (c *channel) Open(source.Source, string, string, time.Duration) (contribution.Feed, error) {
	return nil, fmt.Errorf("it is not opened")
}
func (c *channel) Problem(_ source.Source, text string) {
	if text != "" {
		c.problems <- text
	}
}

// A camera that refuses the password is not asked again and again, which would lock it.
func TestAWrongPasswordIsNotTriedOn(t *testing.T) {
	var signed atomic.Int64
	host := camera(t, func(m *rtsp.Message) *rtsp.Message {
		if m.Header.Get("Authorization") != "" {
			signed.Add(1)
		}
		out := m.Response(401, "Unauthorized")
		out.Header.Set("Www-Authenticate", `Digest realm="camera", nonce="1", algorithm=SHA-256`)
		return out
	})
	c := &channel{source.Source{Channel: "harbour", Address: "rtsp://deck@" + host + "/1?transport=tcp", Secret: "wrong"}, make(chan string, 10)}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	runner := &source.Runner{Channels: c, Protocols: map[string]source.Protocol{"rtsp": &Puller{Logger: slog.New(slog.DiscardHandler)}}, Logger: slog.New(slog.DiscardHandler)}
	go func() { runner.Run(ctx); close(done) }()
	assert.Contains(t, <-c.problems, "it is not tried again")
	asked := signed.Load()
	cancel()
	<-done
	assert.Equal(t, asked, signed.Load())
	assert.LessOrEqual(t, asked, int64(1))
}

// A camera that plays and then says nothing more, on no way, is left after seconds.
func TestACameraThatFallsSilent(t *testing.T) {
	const description = "v=0\r\no=- 0 0 IN IP4 127.0.0.1\r\ns=camera\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\nm=audio 0 RTP/AVP 0\r\na=control:track0\r\n"
	playing := false
	host := camera(t, func(m *rtsp.Message) *rtsp.Message {
		out := m.Response(200, "OK")
		switch m.Method {
		case "DESCRIBE":
			out.Header.Set("Content-Type", "application/sdp")
			out.Body = []byte(description)
		case "SETUP":
			out.Header.Set("Transport", m.Header.Get("Transport"))
			out.Header.Set("Session", "1;timeout=60")
		case "PLAY":
			playing = true
		case "OPTIONS":
			if playing {
				return nil
			}
		}
		return out
	})
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	begun := time.Now()
	err := (&Puller{Logger: slog.New(slog.DiscardHandler)}).Receive(ctx, &source.Line{URL: &url.URL{Scheme: "rtsp", Host: host, Path: "/1", RawQuery: "transport=tcp"},
		Open: func(string, string, time.Duration) (contribution.Feed, error) { return nil, nil }, Problem: func(string) {}})
	require.ErrorContains(t, err, "does not answer")
	assert.GreaterOrEqual(t, time.Since(begun), mediaSilence)
	assert.False(t, strings.Contains(err.Error(), "10 s"))
}

func (c *channel) Lets(string, string) bool { return true }
