// Command bench measures what the hot paths cost, each as a ratio to a bare limit taken in the
// same run, and prints one table. It needs bin/metaplasis for its workers.
package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/delivery"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/settings"
)

// main measures, and prints the table.
//
//large:the list of all rows
func main() {
	if len(os.Args) > 1 && os.Args[1] == "cameras" {
		cameras(os.Args[2:])
		return
	}
	if len(os.Args) > 3 && os.Args[1] == "send-to" {
		sendTo(os.Args[2:])
		return
	}
	if len(os.Args) > 2 && os.Args[1] == "crowd" {
		crowd(os.Args[2:])
		return
	}
	if len(os.Args) > 4 && os.Args[1] == "waiters" {
		waiters(os.Args[2:])
		return
	}
	if len(os.Args) > 4 && os.Args[1] == "audience" {
		audienceOf(os.Args[2:])
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "soak" {
		if err := soak(os.Args[2:]); err != nil {
			log.Fatal(err)
		}
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "dear" {
		if err := dear(os.Args[2:]); err != nil {
			log.Fatal(err)
		}
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "transcoding" {
		if err := transcoding(); err != nil {
			log.Fatal(err)
		}
		return
	}
	list := []func() error{onOneCore, passthrough, channels, windows, crowds, packaging, parts, blocked, latency, realTime, workerDelay, waysIn, partDelays, pageDelays, watchers, relaysOut, keptThings}
	if len(os.Args) > 1 && os.Args[1] == "delivery" {
		list = []func() error{packaging, parts, blocked}
	}
	if len(os.Args) > 1 && os.Args[1] == "worker" {
		list = []func() error{workerDelay}
	}
	if len(os.Args) > 1 && os.Args[1] == "ways" {
		list = []func() error{waysIn, partDelays}
	}
	if len(os.Args) > 1 && os.Args[1] == "delays" {
		list = []func() error{partDelays, pageDelays}
	}
	if len(os.Args) > 1 && os.Args[1] == "kept" {
		list = []func() error{keptThings}
	}
	if len(os.Args) > 1 && os.Args[1] == "objects" {
		list = []func() error{func() error { return within(keptOnObjects) }}
	}
	if len(os.Args) > 1 && os.Args[1] == "relays" {
		list = []func() error{relaysOut}
	}
	if len(os.Args) > 1 && os.Args[1] == "viewers" {
		list = []func() error{watchers}
	}
	if len(os.Args) > 1 && os.Args[1] == "passthrough" {
		list = []func() error{passthrough}
	}
	if len(os.Args) > 1 && os.Args[1] == "scale" {
		list = []func() error{channels, windows, crowds}
	}
	if len(os.Args) > 1 && os.Args[1] == "blocked" {
		list = []func() error{blocked}
	}
	fmt.Println("what                                                          measured          bare limit        ratio    goal")
	for _, bench := range list {
		if err := bench(); err != nil {
			log.Fatal(err)
		}
	}
}

func row(what, measured, limit, ratio, goal string) {
	fmt.Printf("%-60s  %-16s  %-16s  %-7s  %s\n", what, measured, limit, ratio, goal)
}

// processorTime is what this process and its ended children have used.
func processorTime() time.Duration {
	var total time.Duration
	for _, who := range []int{syscall.RUSAGE_SELF, syscall.RUSAGE_CHILDREN} {
		var ru syscall.Rusage
		if err := syscall.Getrusage(who, &ru); err != nil {
			log.Fatal(err)
		}
		total += time.Duration(ru.Utime.Nano() + ru.Stime.Nano())
	}
	return total
}

func workerCommand() *exec.Cmd {
	cmd := exec.Command("bin/metaplasis", "worker")
	cmd.Stderr = os.Stderr
	return cmd
}

// open is a keeper and a gate that lets everything through.
type open struct{}

func (open) Reserve(_ string, _ publish.Position, stored func()) { go stored() }
func (open) Settle(string, publish.Position)                     {}
func (open) Marked(string, publish.Marker)                       {}
func (open) Event(events.Event)                                  {}
func (open) NewFeed() int64                                      { return 1 }
func (open) Feed(origin.FeedRecord)                              {}
func (open) Admit(contribution.Sender) (origin.Grant, error)     { return origin.Grant{Key: 1}, nil }

type receiver struct{ o *origin.Origin }

func (r receiver) Open(s contribution.Sender) (contribution.Feed, error) { return r.o.Open(s) }
func (r receiver) May(s contribution.Sender) error                       { return r.o.May(s) }

func (receiver) IsTaken(error) bool                { return false }
func (receiver) Report(_, _, kind, text, _ string) { log.Println(kind, text) }

// rig is an origin with its ports, in this process.
type rig struct {
	o          *origin.Origin
	rtmp, http string
	close      func()
}

func newRig() (*rig, error) {
	o := origin.New(origin.Options{Keeper: open{}, Gate: open{}, Worker: workerCommand, Burst: -1})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	h, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	in := &rtmp.Server{Receiver: receiver{o}, Logger: slog.New(slog.DiscardHandler)}
	web := &http.Server{Handler: delivery.New(delivery.Options{Origin: o})}
	go func() { _ = in.Serve(l) }()
	go func() { _ = web.Serve(h) }()
	return &rig{o: o, rtmp: "rtmp://" + l.Addr().String(), http: "http://" + h.Addr().String(), close: func() {
		_ = l.Close()
		_ = in.Shutdown(context.Background())
		o.Close()
		_ = web.Close()
	}}, nil
}

func (r *rig) channel(slug string, segment int64, rungs ...ladder.Rung) error {
	_, err := r.o.Add(settings.Settings{Slug: slug, Ladder: ladder.Ladder{Rungs: rungs}, Packaging: settings.Packaging{SegmentMillis: segment}}, time.Now(), publish.Position{})
	return err
}

var source = ladder.Rung{Name: "source", On: true, Source: true}

// cameras is a process of its own, so that its processor time is not booked on the origin: it
// sends the 1080p loop a few times to each address, as fast as it is taken.
func cameras(urls []string) {
	loops := passthroughLoops
	if text, ok := strings.CutPrefix(urls[0], "loops="); ok {
		loops, _ = strconv.Atoi(text)
		urls = urls[1:]
	}
	clip, err := camera.Load(demo.Loops[1].FLV)
	if err != nil {
		log.Fatal(err)
	}
	var all sync.WaitGroup
	for _, u := range urls {
		all.Add(1)
		go func() {
			defer all.Done()
			if err := camera.Run(context.Background(), clip, camera.Options{URL: u, Fast: true, Loops: loops}); err != nil {
				log.Print(err)
			}
		}()
	}
	all.Wait()
}

const (
	passthroughLoops = 12
	passthroughFeeds = 4
)

// passthrough: RTMP in, packaged, nothing transcoded but the keyframes of the preview.
func passthrough() error {
	r, err := newRig()
	if err != nil {
		return err
	}
	args := []string{"cameras"}
	for i := range passthroughFeeds {
		slug := fmt.Sprintf("feed-%d", i)
		if err := r.channel(slug, 2000, source); err != nil {
			return err
		}
		args = append(args, r.rtmp+"/in/"+slug+"/key")
	}
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	var before, after syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
	cmd := exec.Command(exe, args...)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	for _, c := range r.o.Channels() {
		for c.Status().Feed != nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
	r.close()
	used := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
	bits := int64(len(demo.Loops[1].FLV)) * 8 * passthroughLoops * passthroughFeeds
	rate := float64(bits) / used.Seconds() / 1e6
	feed := float64(len(demo.Loops[1].FLV)) * 8 / 8 / 1e6
	row("Passthrough on one core: RTMP in, packaged", fmt.Sprintf("%.0f Mbit/s", rate), "", "", fmt.Sprintf("= %.0f feeds of %.1f Mbit/s", rate/feed, feed))
	return nil
}

// fetch reads an address over and over on eight connections and returns the bytes.
func fetch(url string, d time.Duration) int64 {
	var total int64
	var mu sync.Mutex
	var all sync.WaitGroup
	tr := &http.Transport{MaxIdleConnsPerHost: 8, DisableCompression: true}
	defer tr.CloseIdleConnections()
	end := time.Now().Add(d)
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(end) {
				res, err := (&http.Client{Transport: tr}).Get(url)
				if err != nil {
					log.Fatal(err)
				}
				n, _ := io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
				mu.Lock()
				total += n
				mu.Unlock()
			}
		}()
	}
	all.Wait()
	return total
}

// latency: from the last byte of a segment's last picture to the segment being served.
func latency() error {
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	if err := r.channel("passed", 2000, source); err != nil {
		return err
	}
	if err := r.channel("encoded", 500, ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1}); err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[0].FLV)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	taken := map[string][]time.Duration{}
	for slug, every := range map[string]int{"passed": 60, "encoded": 15} {
		pictures := 0
		name := map[string]string{"passed": "source", "encoded": "360p"}[slug]
		all.Add(1)
		go func() {
			defer all.Done()
			var waiting sync.WaitGroup
			err := camera.Run(context.Background(), clip, camera.Options{URL: r.rtmp + "/in/" + slug + "/key", Loops: 2, OnSent: func(kind uint8, _, _ int, at time.Time) {
				if kind != 9 {
					return
				}
				if pictures++; pictures%every == 0 && pictures < 480 {
					n := pictures/every - 1
					waiting.Add(1)
					go func() {
						defer waiting.Done()
						d := served(fmt.Sprintf("%s/%s/%s/%d.m4s", r.http, slug, name, n), at)
						mu.Lock()
						taken[slug] = append(taken[slug], d)
						mu.Unlock()
					}()
				}
			}})
			waiting.Wait()
			if err != nil {
				log.Print(err)
			}
		}()
	}
	all.Wait()
	for _, slug := range []string{"passed", "encoded"} {
		d := taken[slug]
		sort.Slice(d, func(i, j int) bool { return d[i] < d[j] })
		what := map[string]string{
			"passed":  "Last byte in to segment served, passed through (30 fps)",
			"encoded": "Last byte in to segment served, encoded 360p",
		}[slug]
		row(what, fmt.Sprintf("p50 %d ms", d[len(d)/2].Milliseconds()), fmt.Sprintf("p99 %d ms", d[len(d)*99/100].Milliseconds()), "", fmt.Sprintf("%d segments", len(d)))
	}
	return nil
}

// served polls an address until it answers, and returns how long after a time that was.
func served(url string, from time.Time) time.Duration {
	for {
		res, err := http.Get(url)
		if err == nil {
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return time.Since(from)
			}
		}
		if time.Since(from) > 10*time.Second {
			log.Fatalf("%s was never served", url)
		}
		time.Sleep(time.Millisecond)
	}
}

// realTime: 1080p30 with three lower rungs at effort 1, at the pace of a camera.
func realTime() error {
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	rungs := []ladder.Rung{source}
	for _, h := range []int{720, 480, 360} {
		rungs = append(rungs, ladder.Rung{Name: fmt.Sprintf("%dp", h), On: true, Height: h, Bitrate: ladder.Bitrate(h*16/9, h, media.Rational{Num: 30, Den: 1}), Effort: 1})
	}
	if err := r.channel("chase-boat", 2000, rungs...); err != nil {
		return err
	}
	clip, err := camera.Load(demo.Loops[1].FLV)
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() {
		done <- camera.Run(context.Background(), clip, camera.Options{URL: r.rtmp + "/in/chase-boat/key", Loops: 2})
	}()
	var w status.WorkerStatus
	for {
		select {
		case err := <-done:
			row("1080p30 with 720p, 480p, 360p at effort 1, 16 s live", fmt.Sprintf("%d dropped", w.Dropped), fmt.Sprintf("load %d.%d %%", w.Load/10, w.Load%10), "", fmt.Sprintf("0 dropped; %d ms behind", w.LagMillis))
			return err
		case <-time.After(500 * time.Millisecond):
			if st := r.o.Channel("chase-boat").Status(); st.Worker != nil {
				w = *st.Worker
			}
		}
	}
}

func (open) AskAdmission(contribution.Sender) error { return nil }
