package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/origin/publish"
)

const (
	waiterCount = 2000
	waiterParts = 30 // that each of them waits for
)

// waiters is a process of its own: so many players on one rendition, each with a connection that
// waits for one part after the other. It prints when each answer was complete. One loop serves
// all connections, since real players would not share the service's processor.
func waiters(args []string) {
	address, path := args[0], args[1]
	msn, _ := strconv.Atoi(args[2])
	poll, err := syscall.EpollCreate1(0)
	if err != nil {
		log.Fatal(err)
	}
	to, err := net.ResolveTCPAddr("tcp4", address)
	if err != nil {
		log.Fatal(err)
	}
	sockets := make([]int, waiterCount)
	for n := range sockets {
		fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
		if err != nil {
			log.Fatal(err)
		}
		if err := syscall.Connect(fd, &syscall.SockaddrInet4{Port: to.Port, Addr: [4]byte(to.IP.To4())}); err != nil {
			log.Fatal(err)
		}
		if err := syscall.EpollCtl(poll, syscall.EPOLL_CTL_ADD, fd, &syscall.EpollEvent{Events: syscall.EPOLLIN, Fd: int32(fd)}); err != nil {
			log.Fatal(err)
		}
		sockets[n] = fd
	}
	w := bufio.NewWriter(os.Stdout)
	buf := make([]byte, 16<<10)
	events := make([]syscall.EpollEvent, 256)
	for i := range waiterParts {
		ask := []byte(fmt.Sprintf("GET %s?_HLS_msn=%d&_HLS_part=%d HTTP/1.1\r\nHost: x\r\nAccept-Encoding: gzip\r\n\r\n", path, msn+i/10, i%10))
		for _, fd := range sockets {
			if _, err := syscall.Write(fd, ask); err != nil {
				log.Fatal(err)
			}
		}
		missing := map[int32]int{} // bytes that are still to come
		for left := waiterCount; left > 0; {
			n, err := syscall.EpollWait(poll, events, -1)
			if err != nil && err != syscall.EINTR {
				log.Fatal(err)
			}
			for _, e := range events[:max(n, 0)] {
				size, err := syscall.Read(int(e.Fd), buf)
				if err != nil || size == 0 {
					log.Fatalf("read: %d, %v", size, err)
				}
				if more := missing[e.Fd]; more > 0 {
					missing[e.Fd] = more - size
				} else {
					missing[e.Fd] = rest(buf[:size])
				}
				if missing[e.Fd] == 0 {
					left--
					_, _ = fmt.Fprintln(w, i, time.Now().UnixNano())
				}
			}
		}
	}
	_ = w.Flush()
}

// rest returns how much of an answer is missing behind its first bytes.
func rest(b []byte) int {
	head, body, ok := bytes.Cut(b, []byte("\r\n\r\n"))
	_, after, told := bytes.Cut(head, []byte("Content-Length: "))
	if !ok || !told || !bytes.HasPrefix(b, []byte("HTTP/1.1 200")) {
		log.Fatalf("answer %q", b[:min(len(b), 80)])
	}
	digits, _, _ := bytes.Cut(after, []byte("\r"))
	length, err := strconv.Atoi(string(digits))
	if err != nil {
		log.Fatal(err)
	}
	return length - len(body)
}

// blocked: how long after a part is published the requests that wait for it are answered.
func blocked() error {
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	if err := r.channel("start-line", 2000, source); err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[0].FLV)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		_ = camera.Run(ctx, clip, camera.Options{URL: r.rtmp + "/in/start-line/key"})
	}()
	var rend *publish.Rendition
	for rend == nil || rend.View() == nil {
		time.Sleep(10 * time.Millisecond)
		rend = r.o.Channel("start-line").Rendition("source")
	}
	v := rend.View()
	msn, _ := v.Newest()
	first := msn + 2 // by then all are connected
	published := map[int]int64{}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for len(published) < waiterParts {
			<-v.Next()
			v = rend.View()
			now := v.Changed.UnixNano()
			newest, part := v.Newest()
			for i := range waiterParts {
				if published[i] == 0 && (newest > first+uint64(i/10) || newest == first+uint64(i/10) && (part < 0 || part >= i%10)) {
					published[i] = now
				}
			}
		}
	}()
	late, err := lateness(r.http, "/start-line/source/index.m3u8", first, func() map[int]int64 { <-done; return published })
	if err != nil {
		return err
	}
	_, body, err := answered(r.http + "/start-line/source/index.m3u8")
	if err != nil {
		return err
	}
	bare, err := bareWaiting(body)
	if err != nil {
		return err
	}
	var bursts []int64 // the p99 of each part
	for i := range waiterParts {
		bursts = append(bursts, quantile(append([]int64(nil), late[i*waiterCount:(i+1)*waiterCount]...), 990))
	}
	ms := func(v int64) string { return fmt.Sprintf("%.0f", float64(v)/1000) }
	both := func(l []int64) string { return ms(quantile(l, 500)) + ", " + ms(quantile(l, 990)) }
	row(fmt.Sprintf("%d blocked playlists after their part: p50, p99, ms", waiterCount), both(late), both(bare),
		fmt.Sprintf("%.2f", float64(quantile(late, 990))/float64(quantile(bare, 990))),
		fmt.Sprintf("p99 <= 50; of %d parts each: %s best, %s middle, %s worst", waiterParts, ms(quantile(bursts, 0)), ms(quantile(bursts, 500)), ms(quantile(bursts, 1000))))
	return nil
}

func quantile(l []int64, thousandths int) int64 {
	slices.Sort(l)
	return l[min(len(l)*thousandths/1000, len(l)-1)]
}

// lateness lets a process of waiters ask, and returns how long after its publication each answer
// was complete, in microseconds, by part.
func lateness(server, path string, first uint64, published func() map[int]int64) (late []int64, err error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, "waiters", strings.TrimPrefix(server, "http://"), path, fmt.Sprint(first))
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return nil, err
	}
	at := published()
	for line := range strings.Lines(string(out)) {
		var i int
		var then int64
		if _, err := fmt.Sscan(line, &i, &then); err != nil {
			return nil, err
		}
		late = append(late, (then-at[i])/1000)
	}
	return late, nil
}

// bareWaiting is the limit for blocked playlists: a bare net/http handler whose requests wait for
// one channel to be closed, and write the same bytes.
func bareWaiting(body []byte) (late []int64, err error) {
	var begun sync.Once
	var parts [waiterParts]chan struct{}
	for i := range parts {
		parts[i] = make(chan struct{})
	}
	published := map[int]int64{}
	done := make(chan struct{})
	publish := func() {
		defer close(done)
		time.Sleep(time.Second) // by then all wait
		for i, c := range parts {
			published[i] = time.Now().UnixNano()
			close(c)
			time.Sleep(200 * time.Millisecond)
		}
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun.Do(func() { go publish() })
		var msn, part int
		_, _ = fmt.Sscanf(r.URL.RawQuery, "_HLS_msn=%d&_HLS_part=%d", &msn, &part)
		<-parts[10*msn+part]
		w.Header()["Content-Length"] = []string{strconv.Itoa(len(body))}
		_, _ = w.Write(body)
	}))
	defer server.Close()
	return lateness(server.URL, "/", 0, func() map[int]int64 { <-done; return published })
}

// parts: delivery of segments, of parts, and of playlists, against a bare handler that writes the same bytes.
func parts() error {
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	if err := r.channel("chase-boat", 2000, source); err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[1].FLV)
	if err != nil {
		return err
	}
	if err := camera.Run(context.Background(), clip, camera.Options{URL: r.rtmp + "/in/chase-boat/key", Fast: true, Loops: 1}); err != nil {
		return err
	}
	c := r.o.Channel("chase-boat")
	for c.Status().Feed != nil {
		time.Sleep(5 * time.Millisecond)
	}
	v := c.Rendition("source").View()
	whole := v.Snapshot.Listed
	seg := whole[len(whole)-1]
	for _, what := range []struct {
		name, path string
	}{
		{"Segment", fmt.Sprintf("/chase-boat/source/%s%d.m4s", seg.Prefix, seg.MSN)},
		{"Part", fmt.Sprintf("/chase-boat/source/%s%d.4.m4s", seg.Prefix, seg.MSN)},
		{"Playlist", "/chase-boat/source/index.m3u8"},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		same, body, err := answered(r.http + what.path)
		if err != nil {
			return err
		}
		bare := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			maps.Copy(w.Header(), same)
			_, _ = w.Write(body)
		})}
		go func() { _ = bare.Serve(l) }()
		var a, b int64
		for range 6 { // in turns, so that both meet the same weather
			a += fetch("http://"+l.Addr().String()+"/", 500*time.Millisecond)
			b += fetch(r.http+what.path, 500*time.Millisecond)
		}
		_ = bare.Close()
		size := int64(len(body))
		goal := ">= 0.95"
		if what.name == "Playlist" {
			goal = ""
		}
		row(fmt.Sprintf("%s delivery, %.1f kB each, 8 viewers at once", what.name, float64(size)/1000),
			fmt.Sprintf("%d/s", b/size/3), fmt.Sprintf("%d/s", a/size/3), fmt.Sprintf("%.3f", float64(b)/float64(a)), goal)
	}
	return nil
}

// answered returns an answer's headers and body, so that a bare handler writes the same bytes.
func answered(url string) (http.Header, []byte, error) {
	client := &http.Client{Transport: &http.Transport{DisableCompression: true, DisableKeepAlives: true}}
	res, err := client.Get(url)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = res.Body.Close() }()
	res.Header.Del("Date")
	b, err := io.ReadAll(res.Body)
	res.Header.Del("Connection")
	return res.Header, b, err
}

// packaging: what cutting, wrapping and describing costs, by the origin's own benchmark.
func packaging() error {
	out, err := exec.Command("go", "test", "-run", "^$", "-bench", "BenchmarkPackaging$", "-benchtime", "60x", "./internal/origin").Output()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) < 4 || !strings.HasPrefix(f[0], "BenchmarkPackaging") {
			continue
		}
		ns, err := strconv.ParseFloat(f[2], 64)
		if err != nil {
			return err
		}
		row("Packaging of 4 renditions and sound, 12 Mbit/s, 200 ms parts", fmt.Sprintf("%.2f %% of a core", ns/1e7), "", "", "<= 3 %")
		return nil
	}
	return io.ErrUnexpectedEOF
}
