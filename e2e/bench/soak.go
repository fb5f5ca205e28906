package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/hls"
)

const soakViewers = 1000

// crowd is a process of its own: so many players that follow a rendition part by part, each with a
// connection of its own. Some are slow, and some come and go.
func crowd(args []string) {
	base := args[0]
	var all sync.WaitGroup
	var bytes, failed atomic.Int64
	go func() {
		for range time.Tick(10 * time.Second) {
			fmt.Println(bytes.Load(), failed.Load())
		}
	}()
	for n := range soakViewers {
		all.Add(1)
		go func() {
			defer all.Done()
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 2}, Timeout: 20 * time.Second}
			time.Sleep(time.Duration(n) * 10 * time.Millisecond)
			for turn := 0; ; turn++ {
				if err := watch(client, base, n, &bytes); err != nil {
					failed.Add(1)
					time.Sleep(time.Second)
				}
				client.CloseIdleConnections()
			}
		}()
	}
	all.Wait()
}

// watch follows the playlist for a while as a player would.
func watch(client *http.Client, base string, n int, count *atomic.Int64) error {
	get := func(url string) ([]byte, error) {
		res, err := client.Get(url)
		if err != nil {
			return nil, err
		}
		defer func() { _ = res.Body.Close() }()
		b, err := io.ReadAll(res.Body)
		if res.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("status %d", res.StatusCode)
		}
		count.Add(int64(len(b)))
		return b, err
	}
	address := base + "/240p/index.m3u8"
	query := ""
	for range 100 + n%100 { // parts, then it comes again
		b, err := get(address + query)
		if err != nil {
			return err
		}
		p, err := hls.ReadMedia(b)
		if err != nil || len(p.Entries) == 0 {
			return errors.Join(err, io.ErrUnexpectedEOF)
		}
		e := &p.Entries[len(p.Entries)-1]
		msn, part := e.MSN+1, 0
		if e.Open {
			msn, part = e.MSN, len(e.Parts)
		}
		if len(e.Parts) > 0 {
			if _, err := get(base + "/240p/" + e.Parts[len(e.Parts)-1].URI); err != nil {
				return err
			}
		}
		if n%20 == 0 {
			time.Sleep(700 * time.Millisecond) // a slow one
		}
		query = fmt.Sprintf("?_HLS_msn=%d&_HLS_part=%d", msn, part)
	}
	return nil
}

// soak lets a thousand viewers watch for a while and holds the memory against its start.
//
//large:one measurement, told from its begin to its end
func soak(args []string) error {
	lasts := 15 * time.Minute
	if len(args) > 0 {
		d, err := time.ParseDuration(args[0])
		if err != nil {
			return fmt.Errorf("found duration %q, expected one such as 15m", args[0])
		}
		lasts = d
	}
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	small := source
	small.Name = "240p" // what the crowd asks for: the loop as it comes, in parts of half a second
	if err := r.channel("start-line", 2000, small); err != nil {
		return err
	}
	set := r.o.Channel("start-line").Settings()
	set.PartMillis = 1000
	if err := r.o.Channel("start-line").Apply(set); err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[0].FLV)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		_ = camera.Run(ctx, clip, camera.Options{URL: r.rtmp + "/in/start-line/key", Retry: time.Second})
	}()
	time.Sleep(5 * time.Second)
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(exe, "crowd", r.http+"/start-line")
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	said, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	var newest atomic.Value
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := said.Read(b)
			if err != nil {
				return
			}
			newest.Store(strings.TrimSpace(string(b[:n])))
		}
	}()
	fmt.Println("minute   live heap     of it the window   goroutines   the crowd: bytes, failures")
	settle := min(lasts/5, 2*time.Minute)
	var live []float64 // megabytes that are in use behind a collection, since the crowd has settled
	begin := time.Now()
	for time.Since(begin) < lasts {
		time.Sleep(min(30*time.Second, lasts/10))
		runtime.GC()
		runtime.GC() // what pools hold goes with the second
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		heap := float64(m.HeapAlloc) / 1e6
		fmt.Printf("%6.1f   %8.1f MB   %13.1f MB   %10d   %v\n", time.Since(begin).Minutes(), heap, float64(r.o.Channel("start-line").Status().Memory)/1e6, runtime.NumGoroutine(), newest.Load())
		if time.Since(begin) < settle {
			continue
		}
		live = append(live, heap)
	}
	if len(live) < 6 {
		return fmt.Errorf("found %d samples behind the settling, expected at least 6: let it run longer", len(live))
	}
	// One sample says little: the crowd comes and goes. Thirds of the time are compared.
	third := len(live) / 3
	from, to := middle(live[:third]), middle(live[len(live)-third:])
	fmt.Printf("\nheap in the first third after settling %.1f MB, in the last %.1f MB: ratio %.2f, goal at most 1.2\n", from, to, to/from)
	if to > from*1.2 {
		log.Fatal("the memory grew")
	}
	return nil
}

// middle returns the median.
func middle(v []float64) float64 {
	v = append([]float64(nil), v...)
	sort.Float64s(v)
	return v[len(v)/2]
}
