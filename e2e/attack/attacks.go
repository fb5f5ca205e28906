package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/protocol/rtmp"
)

// hello is a client's part of the RTMP handshake, C0, C1 and C2.
func hello() []byte {
	b := make([]byte, 1+2*1536)
	b[0] = 3
	return b
}

// openMany opens connections and lets a function begin on each; close closes them all.
func openMany(address string, n int, begin func(net.Conn)) (opened int, closeAll func()) {
	var conns []net.Conn
	for range n {
		c, err := net.DialTimeout("tcp", address, 2*time.Second)
		if err != nil {
			continue
		}
		if begin != nil {
			begin(c)
		}
		conns = append(conns, c)
	}
	return len(conns), func() {
		for _, c := range conns {
			_ = c.Close()
		}
	}
}

// admitted reports whether another camera gets in within a second, beside whatever goes on.
func admitted(r *rig, name string) (time.Duration, error) {
	url, err := r.channel(name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = r.api.RemoveChannel(context.Background(), name) }()
	begin := time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	conn, err := rtmp.Dial(ctx, url, rtmp.Options{})
	if err != nil {
		return 0, fmt.Errorf("no camera gets in: %w", err)
	}
	took := time.Since(begin)
	conn.Cut()
	if took > time.Second {
		return took, fmt.Errorf("a camera gets in only after %d ms", took.Milliseconds())
	}
	return took, nil
}

func idleConnections(r *rig) (string, error) {
	n, closeAll := openMany(r.rtmp, 1000, nil)
	defer closeAll()
	took, err := admitted(r, "beside-idle")
	return fmt.Sprintf("%d connections; a camera gets in after %d ms", n, took.Milliseconds()), err
}

func unfinishedMessages(r *rig) (string, error) {
	junk := bytes.Repeat([]byte{0xff}, 4096)
	var sent atomic.Int64
	n, closeAll := openMany(r.rtmp, 400, func(c net.Conn) {
		_ = c.SetDeadline(time.Now().Add(2 * time.Second))
		_, _ = c.Write(hello())
		_, _ = c.Write([]byte{2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff}) // chunks of 16 MB
		_, _ = c.Write([]byte{3, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0})
		for range 64 {
			k, err := c.Write(junk)
			sent.Add(int64(k))
			if err != nil {
				break
			}
		}
	})
	defer closeAll()
	took, err := admitted(r, "beside-unfinished")
	return fmt.Sprintf("%d connections, %d MB; a camera gets in after %d ms", n, sent.Load()>>20, took.Milliseconds()), err
}

func rtmpFlood(r *rig) (string, error) {
	var n atomic.Int64
	stop := time.Now().Add(r.last(8*time.Second, 3*time.Second))
	var all sync.WaitGroup
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(stop) {
				c, err := net.DialTimeout("tcp", r.rtmp, time.Second)
				if err != nil {
					continue
				}
				n.Add(1)
				_, _ = c.Write(bytes.Repeat([]byte("GET / HTTP/1.1\r\n"), 100))
				_ = c.Close()
			}
		}()
	}
	all.Wait()
	_, err := admitted(r, "after-flood")
	return fmt.Sprintf("%d connections with garbage", n.Load()), err
}

func wrongKeys(r *rig) (string, error) {
	var n atomic.Int64
	stop := time.Now().Add(r.last(8*time.Second, 3*time.Second))
	var all sync.WaitGroup
	for range 16 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(stop) {
				ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
				conn, err := rtmp.Dial(ctx, fmt.Sprintf("rtmp://%s/in/%s/wrong%d", r.rtmp, slug, n.Add(1)), rtmp.Options{})
				if err == nil {
					conn.Cut()
				}
				cancel()
			}
		}()
	}
	all.Wait()
	list, err := r.api.Events(context.Background(), slug, 1000)
	if err != nil {
		return "", err
	}
	refused := 0
	for _, e := range list {
		if e.Kind == "feed-refused" {
			refused++
		}
	}
	if refused > 5 {
		err = fmt.Errorf("%d events of it", refused)
	}
	if _, in := admitted(r, "beside-guesses"); in != nil {
		err = in
	}
	return fmt.Sprintf("%d guesses, %d event", n.Load(), refused), err
}

func signInStorm(r *rig) (string, error) {
	var all sync.WaitGroup
	var answered [600]atomic.Int64
	for range 200 {
		all.Add(1)
		go func() {
			defer all.Done()
			res, err := http.Post(r.http+"/api/v1/sign-in", "application/json", strings.NewReader(`{"user":"admin","password":"a guess"}`))
			if err == nil {
				_ = res.Body.Close()
				answered[min(res.StatusCode, 599)].Add(1)
			}
		}()
	}
	all.Wait()
	return fmt.Sprintf("200 at once: %d wrong, %d throttled, %d put off", answered[401].Load(), answered[429].Load(), answered[503].Load()), nil
}

func longNames(r *rig) (string, error) {
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	name := strings.Repeat("x", 30_000)
	n := 20_000
	if r.quick {
		n = 4000
	}
	var all sync.WaitGroup
	work := make(chan int)
	for range 4 {
		all.Add(1)
		go func() {
			defer all.Done()
			for i := range work {
				req, _ := http.NewRequest(http.MethodGet, r.http+"/media/"+slug+"/source/index.m3u8", nil)
				req.Header.Set("User-Agent", fmt.Sprint(i, name))
				if res, err := c.Do(req); err == nil {
					_ = res.Body.Close()
				}
			}
		}()
	}
	for i := range n {
		work <- i
	}
	close(work)
	all.Wait()
	return fmt.Sprintf("%d requests, each under another name of 30 kB", n), nil
}

func slowReaders(r *rig) (string, error) {
	request := fmt.Sprintf("GET /media/%s/source/index.m3u8 HTTP/1.1\r\nHost: x\r\n\r\n", slug)
	n, closeAll := openMany(strings.TrimPrefix(r.http, "http://"), 500, func(c net.Conn) {
		for range 20 { // pipelined, and nothing is read
			_, _ = c.Write([]byte(request))
		}
	})
	defer closeAll()
	time.Sleep(r.last(5*time.Second, 2*time.Second))
	return fmt.Sprintf("%d connections ask and read nothing", n), nil
}

type rlimit struct{ cur, max uint64 }

func prlimit(pid int, set, old *rlimit) error {
	const nofile = 7
	_, _, e := syscall.Syscall6(syscall.SYS_PRLIMIT64, uintptr(pid), nofile, uintptr(unsafe.Pointer(set)), uintptr(unsafe.Pointer(old)), 0, 0)
	if e != 0 {
		return e
	}
	return nil
}

func noDescriptors(r *rig) (string, error) {
	pid := r.cmd.Process.Pid
	entries, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	if err != nil {
		return "", err
	}
	var before rlimit
	tight := rlimit{cur: uint64(len(entries) + 8)}
	if err := prlimit(pid, nil, &before); err != nil {
		return "", err
	}
	tight.max = before.max
	if err := prlimit(pid, &tight, nil); err != nil {
		return "", err
	}
	n, closeAll := openMany(r.rtmp, 60, nil)
	m, closeMore := openMany(strings.TrimPrefix(r.http, "http://"), 60, nil)
	time.Sleep(r.last(4*time.Second, 2*time.Second))
	closeAll()
	closeMore()
	if err := prlimit(pid, &before, nil); err != nil {
		return "", err
	}
	err = r.await("a new viewer", 5*time.Second, func() bool { ok, _ := r.ready(); return ok })
	return fmt.Sprintf("room for 8 more, %d connections", n+m), err
}

func fullSpeed(r *rig) (string, error) {
	url, err := r.channel("full-speed")
	if err != nil {
		return "", err
	}
	defer func() { _ = r.api.RemoveChannel(context.Background(), "full-speed") }()
	clip, err := camera.Load(demo.Loops[1].FLV)
	if err != nil {
		return "", err
	}
	span := r.last(15*time.Second, 6*time.Second)
	ctx, cancel := context.WithTimeout(context.Background(), span)
	defer cancel()
	var tags atomic.Int64
	begin := time.Now()
	_ = camera.Run(ctx, clip, camera.Options{URL: url, Fast: true, OnSent: func(uint8, int, int, time.Time) { tags.Add(1) }})
	ch, err := r.api.Channel(context.Background(), "full-speed")
	if err != nil {
		return "", err
	}
	newest := int64(0)
	for _, v := range ch.Status.Renditions {
		newest = max(newest, int64(v.Last)*ch.Settings.SegmentMillis)
	}
	ahead := time.Duration(newest)*time.Millisecond - time.Since(begin)
	if ahead > 14*time.Second {
		return "", fmt.Errorf("its clock ran %v ahead", ahead)
	}
	return fmt.Sprintf("%d messages in %v; its media is %d s ahead", tags.Load(), span, max(0, int(ahead.Seconds()))), nil
}

func workerKilled(r *rig) (string, error) {
	killed, kills, pause := 0, 10, 2*time.Second
	if r.quick {
		pause = time.Second
	}
	for range kills {
		ch, err := r.api.Channel(context.Background(), slug)
		if err != nil {
			return "", err
		}
		if w := ch.Status.Worker; w != nil && w.PID > 0 && syscall.Kill(w.PID, syscall.SIGKILL) == nil {
			killed++
		}
		time.Sleep(pause)
	}
	before := newestOf(r, "240p")
	err := r.await("the encoded rung's next segments", 20*time.Second, func() bool { return newestOf(r, "240p") > before+1 })
	return fmt.Sprintf("%d kills; its rung goes on", killed), err
}

func newestOf(r *rig, rendition string) uint64 {
	ch, err := r.api.Channel(context.Background(), slug)
	if err != nil {
		return 0
	}
	for _, v := range ch.Status.Renditions {
		if v.Name == rendition {
			return v.Last
		}
	}
	return 0
}

func databaseKilled(r *rig) (string, error) {
	pid, err := r.database()
	if err != nil {
		return "", err
	}
	begin := time.Now()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		return "", err
	}
	if err := r.await("a word of it at /readyz", 10*time.Second, func() bool { ok, _ := r.ready(); return !ok }); err != nil {
		return "", err
	}
	err = r.await("the database", 60*time.Second, func() bool { ok, _ := r.ready(); return ok })
	return fmt.Sprintf("kill -9; back after %.1f s", time.Since(begin).Seconds()), err
}

func databaseHung(r *rig) (string, error) {
	pid, err := r.database()
	if err != nil {
		return "", err
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		return "", err
	}
	span := r.last(30*time.Second, 8*time.Second)
	// A camera that was on air comes back from what is known in memory; a wrong key is not called wrong.
	err = r.await("a word of it at /readyz", span, func() bool { ok, _ := r.ready(); return !ok })
	text := ""
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Second)
	if _, e := rtmp.Dial(ctx, fmt.Sprintf("rtmp://%s/in/%s/some-other-key", r.rtmp, slug), rtmp.Options{}); e != nil {
		text = e.Error()
	}
	cancel()
	if !strings.Contains(text, "cannot be checked now") && err == nil {
		err = fmt.Errorf("a key that could not be checked was answered with %q", text)
	}
	time.Sleep(span / 4)
	if e := syscall.Kill(pid, syscall.SIGCONT); e != nil {
		return "", e
	}
	if e := r.await("records to be stored", 60*time.Second, func() bool { ok, _ := r.ready(); return ok }); e != nil {
		return "", e
	}
	return fmt.Sprintf("stopped for %v; records were stored later", span.Round(time.Second)), err
}

func diskFull(r *rig) (string, error) {
	if !r.mounted {
		return "left out: this needs the right to mount a disk of its own", nil
	}
	path := filepath.Join(r.dir, "filler")
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	block := make([]byte, 1<<20)
	for err == nil {
		_, err = w.Write(block)
	}
	if !errors.Is(err, syscall.ENOSPC) {
		return "", err
	}
	err = r.await("a word of it at /readyz, and in the console's words which", 15*time.Second, func() bool {
		ok, _ := r.ready()
		h, err := r.api.Health(context.Background())
		return !ok && err == nil && strings.Contains(fmt.Sprint(h.Problems), "full")
	})
	time.Sleep(r.last(10*time.Second, 3*time.Second))
	_ = f.Close()
	_ = os.Remove(path)
	if e := r.await("all to be well again", 60*time.Second, func() bool { ok, _ := r.ready(); return ok }); e != nil {
		return "", e
	}
	return "not a byte left; said while it lasted", err
}
