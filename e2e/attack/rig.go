package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"metaplasis/demo"
	"metaplasis/e2e/selfsigned"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// rig is a service with a camera and a player.
type rig struct {
	quick             bool
	dir               string
	mounted           bool
	cmd               *exec.Cmd
	out               safeBuffer
	http              string // http://127.0.0.1:port
	rtmp              string // 127.0.0.1:port
	srt, rtsp, webrtc string // host and port
	https             string // host and port, TCP and UDP
	trusted           *x509.CertPool
	api               *client.Client
	key               string
	watch             watch
	stop              context.CancelFunc
	all               sync.WaitGroup
}

const slug = "start-line"

// dataSize is the disk of the service, so that it can be filled.
const dataSize = 400 << 20

// newRig starts a service with a channel on air.
//
//large:starts everything that an attack needs, in order
func newRig(quick bool, args ...string) (_ *rig, err error) {
	r := &rig{quick: quick}
	defer func() {
		if err != nil {
			r.close()
		}
	}()
	if r.dir, err = os.MkdirTemp("", "metaplasis-attack-"); err != nil {
		return nil, err
	}
	if syscall.Mount("tmpfs", r.dir, "tmpfs", 0, fmt.Sprintf("size=%d,mode=0700", dataSize)) == nil {
		r.mounted = true
	}
	cert, key := filepath.Join(r.dir, "cert.pem"), filepath.Join(r.dir, "key.pem")
	if r.trusted, err = selfsigned.Write(cert, key); err != nil {
		return nil, err
	}
	r.cmd = exec.Command("bin/metaplasis", "serve", "--https", "127.0.0.1:0", "--http3", "--tls-cert", cert, "--tls-key", key, "--outbound", "127.0.0.0/8,::1", "--data", filepath.Join(r.dir, "data"), "--http", "127.0.0.1:0", "--rtmp", "127.0.0.1:0",
		"--srt", "127.0.0.1:0", "--rtsp", "127.0.0.1:0", "--webrtc", "127.0.0.1:0", "--studio", "lo")
	r.cmd.Args = append(r.cmd.Args, args...)
	r.cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+r.dir)
	r.cmd.Stderr = &r.out
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	stdout, err := r.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := r.cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w (make build makes it)", err)
	}
	lines := bufio.NewScanner(stdout)
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) > 1 && f[0] == "Console" {
			r.http = strings.TrimSuffix(f[1], "/")
		}
		if len(f) > 1 && f[0] == "HTTPS" {
			r.https = strings.TrimSuffix(strings.TrimPrefix(f[1], "https://"), "/")
		}
		if len(f) > 1 && f[0] == "RTMP" {
			r.rtmp = strings.TrimPrefix(strings.TrimSuffix(f[1], "/in/CHANNEL"), "rtmp://")
		}
		if len(f) > 1 && f[0] == "SRT" {
			r.srt = strings.TrimPrefix(f[1], "srt://")
		}
		if len(f) > 1 && f[0] == "RTSP" {
			r.rtsp, _, _ = strings.Cut(strings.TrimPrefix(f[1], "rtsp://"), "/")
		}
		if len(f) > 1 && f[0] == "WebRTC" {
			r.webrtc = f[len(f)-1]
		}
		if strings.Contains(lines.Text(), "Commands on this machine") {
			break
		}
	}
	go func() { _, _ = io.Copy(io.Discard, stdout) }()
	token, err := os.ReadFile(filepath.Join(r.dir, "data", "operator-token"))
	if err != nil {
		return nil, fmt.Errorf("the service did not start: %s", r.out.String())
	}
	r.api = &client.Client{Server: r.http, Token: strings.TrimSpace(string(token))}
	if r.key, err = r.channel(slug); err != nil {
		return nil, err
	}
	var ctx context.Context
	ctx, r.stop = context.WithCancel(context.Background())
	clip, err := camera.Load(demo.Loops[0].FLV)
	if err != nil {
		return nil, err
	}
	r.all.Add(2)
	go func() {
		defer r.all.Done()
		_ = camera.Run(ctx, clip, camera.Options{
			URL: r.key, Retry: 300 * time.Millisecond,
			OnSent:   func(uint8, int, int, time.Time) { r.watch.sent() },
			OnChange: func(state string) { r.watch.camera(state) },
		})
	}()
	go func() {
		defer r.all.Done()
		r.play(ctx)
	}()
	return r, r.await("a player that plays", 30*time.Second, func() bool { return r.watch.playing() })
}

// channel makes a channel that passes through and encodes one rung, and returns where to send.
func (r *rig) channel(name string) (url string, err error) {
	set := settings.Settings{Slug: name, Ladder: ladder.Ladder{Rungs: []ladder.Rung{
		{Name: "source", On: true, Source: true}, {Name: "240p", On: true, Height: 240, Bitrate: 350_000, Effort: 1},
	}}}
	if _, err := r.api.CreateChannel(context.Background(), set); err != nil {
		return "", err
	}
	k, err := r.api.CreateKey(context.Background(), name, api.NewKey{Label: "attack"})
	return k.URL, err
}

func (r *rig) close() {
	if r.stop != nil {
		r.stop()
		r.all.Wait()
	}
	if r.cmd != nil && r.cmd.Process != nil {
		_ = r.cmd.Process.Signal(syscall.SIGTERM)
		_ = r.cmd.Wait()
	}
	if r.mounted {
		_ = syscall.Unmount(r.dir, 0)
	}
	_ = os.RemoveAll(r.dir)
}

// last takes the longer time, or the shorter one when there are only two minutes for all.
func (r *rig) last(long, short time.Duration) time.Duration {
	if r.quick {
		return short
	}
	return long
}

func (r *rig) await(what string, limit time.Duration, ok func() bool) error {
	for until := time.Now().Add(limit); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		if ok() {
			return nil
		}
	}
	return fmt.Errorf("%s did not come within %v", what, limit)
}

func (r *rig) alive() bool {
	return syscall.Kill(r.cmd.Process.Pid, 0) == nil && r.cmd.ProcessState == nil
}

func (r *rig) said() string {
	l := strings.Split(r.out.String(), "\n")
	return strings.Join(l[max(0, len(l)-20):], "\n")
}

func (r *rig) proc(file string) string {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/%s", r.cmd.Process.Pid, file))
	return string(b)
}

func (r *rig) line(name string) (mb int64) {
	for line := range strings.SplitSeq(r.proc("status"), "\n") {
		if f := strings.Fields(line); len(f) > 1 && f[0] == name+":" {
			kb, _ := strconv.ParseInt(f[1], 10, 64)
			return kb >> 10
		}
	}
	return 0
}

func (r *rig) memory() int64 { return r.line("VmRSS") }
func (r *rig) peak() int64   { return r.line("VmHWM") }

// resetPeak lets the kernel forget the highest resident size (proc(5), clear_refs).
func (r *rig) resetPeak() {
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", r.cmd.Process.Pid), []byte("5"), 0)
}

// database is the process id of the service's database server.
func (r *rig) database() (int, error) {
	b, err := os.ReadFile(filepath.Join(r.dir, "data", "records", "mariadbd.pid"))
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(strings.TrimSpace(string(b)))
}

// ready asks whether the service says that all is well.
func (r *rig) ready() (ok bool, text string) {
	c := http.Client{Timeout: 5 * time.Second}
	res, err := c.Get(r.http + "/readyz")
	if err != nil {
		return false, err.Error()
	}
	defer func() { _ = res.Body.Close() }()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode == http.StatusOK, string(b)
}

// play follows the source's playlist part by part, and reads each part.
func (r *rig) play(ctx context.Context) {
	c := &http.Client{Timeout: 20 * time.Second}
	at := r.http + "/media/" + slug + "/source/"
	get := func(address, bytes string) ([]byte, bool) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return nil, false
		}
		if bytes != "" {
			req.Header.Set("Range", bytes)
		}
		res, err := c.Do(req)
		if err != nil {
			return nil, false
		}
		defer func() { _ = res.Body.Close() }()
		b, err := io.ReadAll(res.Body)
		return b, err == nil && res.StatusCode < 300
	}
	query := ""
	for ctx.Err() == nil {
		b, ok := get(at+"index.m3u8"+query, "")
		p, err := hls.ReadMedia(b)
		if !ok || err != nil || len(p.Entries) == 0 {
			query = ""
			time.Sleep(50 * time.Millisecond)
			continue
		}
		e := &p.Entries[len(p.Entries)-1]
		if n := len(e.Parts); n > 0 {
			part := &e.Parts[n-1]
			if _, ok := get(at+part.URI, fmt.Sprintf("bytes=%d-%d", part.Offset, part.Offset+part.Length-1)); ok {
				r.watch.part()
			}
		}
		query = fmt.Sprintf("?_HLS_msn=%d&_HLS_part=0", e.MSN+1)
		if e.Open {
			query = fmt.Sprintf("?_HLS_msn=%d&_HLS_part=%d", e.MSN, len(e.Parts))
		}
	}
}

// watch notes whether camera and player were disturbed.
type watch struct {
	mu       sync.Mutex
	last     time.Time // when a part came
	longest  time.Duration
	parts    int
	losses   int
	lastSent time.Time
}

func (w *watch) reset() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.longest, w.losses = 0, 0
}

func (w *watch) part() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.last.IsZero() {
		w.longest = max(w.longest, time.Since(w.last))
	}
	w.last = time.Now()
	w.parts++
}

func (w *watch) sent() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lastSent = time.Now()
}

func (w *watch) camera(state string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if strings.HasPrefix(state, "lost") {
		w.losses++
	}
}

func (w *watch) playing() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.parts > 10
}

// worst is the longest wait for a part, the one under way too.
func (w *watch) worst() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return max(w.longest, time.Since(w.last))
}

func (w *watch) lost() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.lastSent) > 2*time.Second {
		return w.losses + 1
	}
	return w.losses
}

// safeBuffer keeps the end of what the service says.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.b.Len() > 1<<20 {
		s.b.Reset()
	}
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
