// Package e2e tests the whole service: the binary on loopback with a real MariaDB, called through
// its commands and HTTP, fed by cameras over RTMP, watched in headless Chromium.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// Places of loops in demo.Others.
const (
	harbourLoop   = 0
	committeeLoop = 2
)

var (
	binary    string
	database  *records.Server
	databases atomic.Int64
)

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "metaplasis-e2e-")
	if err != nil {
		panic(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	binary = filepath.Join(dir, "metaplasis")
	if out, err := exec.Command("go", "build", "-o", binary, "metaplasis/cmd/metaplasis").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
		return 1
	}
	database, err = records.StartServer(context.Background(), filepath.Join(dir, "db"), slog.New(slog.DiscardHandler))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = database.Stop() }()
	return m.Run()
}

// newDatabase makes an empty database on the tests' server.
func newDatabase(t *testing.T) string {
	conf, err := mysql.ParseDSN(database.DSN)
	require.NoError(t, err)
	conf.DBName = fmt.Sprintf("test%d", databases.Add(1))
	// The service's own account may use its own database alone, so the owner makes this one.
	statements := fmt.Sprintf("CREATE DATABASE %s; GRANT ALL ON %s.* TO '%s'@'127.0.0.1'", conf.DBName, conf.DBName, conf.User)
	out, err := exec.Command("mariadb", "--no-defaults", "--socket="+database.Socket, "--user="+database.Owner, "-e", statements).CombinedOutput()
	require.NoError(t, err, string(out))
	return conf.FormatDSN()
}

// service is a running metaplasis serve.
type service struct {
	t        *testing.T
	dsn      string
	data     string
	args     []string
	cmd      *exec.Cmd
	out      *safeBuffer
	http     string // http://127.0.0.1:port
	rtmp     string // rtmp://127.0.0.1:port
	srt      string // srt://127.0.0.1:port
	rtsp     string // rtsp://127.0.0.1:port
	webrtc   string // 127.0.0.1:port, where media goes
	password string
	api      *client.Client
}

var (
	consoleLine  = regexp.MustCompile(`Console\s+(http://[^/\s]+)/`)
	rtmpLine     = regexp.MustCompile(`RTMP\s+(rtmp://[^/\s]+)/`)
	rtspLine     = regexp.MustCompile(`RTSP\s+(rtsp://[^/\s]+)/`)
	webrtcLine   = regexp.MustCompile(`media over (\S+)`)
	srtLine      = regexp.MustCompile(`SRT\s+(srt://\S+)`)
	passwordLine = regexp.MustCompile(`^\s+password\s+(\S+)`)
)

func start(t *testing.T, args ...string) *service {
	s := &service{t: t, dsn: newDatabase(t), data: t.TempDir(), args: args, http: "http://127.0.0.1:0", rtmp: "rtmp://127.0.0.1:0", srt: "srt://127.0.0.1:0", rtsp: "rtsp://127.0.0.1:0"}
	s.start()
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("the channels stood so:\n%s", s.standing())
		}
		s.stop(syscall.SIGTERM)
		if t.Failed() {
			t.Logf("the service said:\n%s", tail(s.out.String(), 60))
		}
	})
	return s
}

// standing tells how the channels are, for who looks into a failure.
func (s *service) standing() string {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	list, err := s.api.Channels(ctx)
	if err != nil {
		return err.Error()
	}
	var b strings.Builder
	for i := range list {
		st := &list[i].Status
		fmt.Fprintf(&b, "%s: %s, viewers %v, worker %+v\n", st.Slug, st.State, st.Viewers, st.Worker)
		for _, p := range st.Problems {
			fmt.Fprintf(&b, "\t%s: %s\n", p.Field, p.Text)
		}
		if f := st.Feed; f != nil {
			fmt.Fprintf(&b, "\tfeed over %s, %d bit/s, %d mHz, gap %d ms, keyframes %d ms apart\n", f.Protocol, f.Bitrate, f.FrameRate, f.GapMillis, f.KeyMillis)
		}
		for i := range st.Renditions {
			fmt.Fprintf(&b, "\t%+v\n", st.Renditions[i])
		}
	}
	return b.String()
}

// problems are those of a channel, but for what a machine without time for it has.
func (s *service) problems(slug string) (out []ladder.Problem) {
	for _, p := range s.status(slug).Problems {
		if !strings.HasPrefix(p.Text, "The CPU cannot keep up") && !strings.HasPrefix(p.Text, "The worker is ") {
			out = append(out, p)
		}
	}
	return out
}

func tail(s string, n int) string {
	l := strings.Split(s, "\n")
	return strings.Join(l[max(0, len(l)-n):], "\n")
}

// start runs the service, on the ports of the time before if there was one.
func (s *service) start() {
	args := append([]string{"serve", "--outbound", "127.0.0.0/8,::1", "--data", s.data, "--dsn", s.dsn, "--http", strings.TrimPrefix(s.http, "http://"), "--rtmp", strings.TrimPrefix(s.rtmp, "rtmp://"), "--srt", strings.TrimPrefix(s.srt, "srt://"), "--webrtc", "127.0.0.1:0", "--rtsp", strings.TrimPrefix(s.rtsp, "rtsp://")}, s.args...)
	s.cmd = exec.Command(binary, args...)
	s.cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+s.data)
	s.out = &safeBuffer{}
	s.cmd.Stderr = s.out
	stdout, err := s.cmd.StdoutPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, s.cmd.Start())
	lines := bufio.NewScanner(stdout)
	for lines.Scan() {
		if m := consoleLine.FindStringSubmatch(lines.Text()); m != nil {
			s.http = m[1]
		}
		if m := rtmpLine.FindStringSubmatch(lines.Text()); m != nil {
			s.rtmp = m[1]
		}
		if m := rtspLine.FindStringSubmatch(lines.Text()); m != nil {
			s.rtsp = m[1]
		}
		if m := webrtcLine.FindStringSubmatch(lines.Text()); m != nil {
			s.webrtc = m[1]
		}
		if m := srtLine.FindStringSubmatch(lines.Text()); m != nil {
			s.srt = m[1]
		}
		if m := passwordLine.FindStringSubmatch(lines.Text()); m != nil {
			s.password = m[1]
		}
		if strings.Contains(lines.Text(), "Commands on this machine") {
			break
		}
	}
	go func() { _, _ = io.Copy(io.Discard, stdout) }()
	require.NotEqual(s.t, "http://127.0.0.1:0", s.http, s.out.String())
	token, err := os.ReadFile(filepath.Join(s.data, "operator-token"))
	require.NoError(s.t, err)
	s.api = &client.Client{Server: s.http, Token: strings.TrimSpace(string(token))}
}

func (s *service) stop(sig syscall.Signal) {
	if s.cmd.ProcessState != nil {
		return
	}
	_ = s.cmd.Process.Signal(sig)
	_ = s.cmd.Wait()
}

// command runs a metaplasis command against the service.
func (s *service) command(args ...string) (out string, code int) {
	return s.commandWith("", args...)
}

// commandWith runs a command with a text on its standard input.
func (s *service) commandWith(in string, args ...string) (out string, code int) {
	cmd := exec.Command(binary, args...)
	cmd.Stdin = strings.NewReader(in)
	cmd.Env = append(os.Environ(), "METAPLASIS_SERVER="+s.http, "METAPLASIS_DATA="+s.data, "HOME="+s.data, "XDG_CONFIG_HOME="+s.data)
	b, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		s.t.Fatal(err)
	}
	return string(b), cmd.ProcessState.ExitCode()
}

// channel makes a channel and a key for it.
func (s *service) channel(slug string, set settings.Settings, rungs ...ladder.Rung) (url string) {
	ctx := context.Background()
	set.Slug = slug
	set.Ladder.Rungs = rungs
	_, err := s.api.CreateChannel(ctx, set)
	require.NoError(s.t, err)
	k, err := s.api.CreateKey(ctx, slug, api.NewKey{Label: "test"})
	require.NoError(s.t, err)
	require.NotEmpty(s.t, k.URL)
	return k.URL
}

// send starts a camera and returns what stops it.
func (s *service) send(loop int, o camera.Options) (stop func()) {
	return s.sendLoop(&demo.Loops[loop], o)
}

func (s *service) sendLoop(loop *demo.Loop, o camera.Options) (stop func()) {
	clip, err := camera.Load(loop.FLV)
	require.NoError(s.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = camera.Run(ctx, clip, o)
	}()
	stop = func() { cancel(); <-done }
	s.t.Cleanup(stop)
	return stop
}

func (s *service) get(path string) (int, []byte, http.Header) {
	res, err := http.Get(s.http + path)
	require.NoError(s.t, err)
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	return res.StatusCode, b, res.Header
}

// playlist reads a rendition's playlist, nil while there is none.
func (s *service) playlist(slug, rendition string) *hls.Playlist {
	code, b, _ := s.get("/media/" + slug + "/" + rendition + "/index.m3u8")
	if code != http.StatusOK {
		return nil
	}
	p, err := hls.ReadMedia(b)
	require.NoError(s.t, err, string(b))
	p.Entries = p.Whole()
	return p
}

// newest returns the newest number of a rendition, -1 without one.
func (s *service) newest(slug, rendition string) int64 {
	p := s.playlist(slug, rendition)
	if p == nil || len(p.Entries) == 0 {
		return -1
	}
	return int64(p.Entries[len(p.Entries)-1].MSN)
}

func (s *service) status(slug string) status.Status {
	c, err := s.api.Channel(context.Background(), slug)
	require.NoError(s.t, err)
	return c.Status
}

// onAir reports whether viewers can watch, whether or not the machine keeps up.
func (s *service) onAir(slug string) bool {
	st := s.status(slug).State
	return st == status.Live || st == status.Degraded
}

// events returns what was recorded last. It is recorded beside what it tells of: await it.
func (s *service) events() []events.Event {
	list, err := s.api.Events(context.Background(), "", 100)
	require.NoError(s.t, err)
	return list
}

func (s *service) hasEvent(kind string) bool {
	return slices.ContainsFunc(s.events(), func(e events.Event) bool { return e.Kind == kind })
}

// patience is how long a test waits for what has to come: the machine is shared, and nothing here judges how fast it is.
const patience = 3 * time.Minute

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, patience, 50*time.Millisecond, what)
}

func kill(t *testing.T, pid int) { require.NoError(t, syscall.Kill(pid, syscall.SIGKILL)) }

var consoleLineBelow = regexp.MustCompile(`http://127\.0\.0\.1:\d+`)

// safeBuffer collects output while a test reads it.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
