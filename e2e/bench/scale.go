package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/delivery"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/present"
)

type noRuns struct{}

func (noRuns) Before(uint64) uint64 { return 0 }
func (noRuns) Begins(uint64) bool   { return false }

// windows: from a part's publication to the delta update that players ask for then, with a window of
// twelve seconds and one of an hour.
func windows() error {
	const turns, parts, step = 3000, 10, 2 * media.VideoTimescale
	cost := func(window int) time.Duration {
		w := segment.NewWindow(window, noRuns{})
		h := &segment.Header{Name: "header.mp4", Track: media.Track{Kind: media.Video}}
		publish := func(msn uint64, n int) {
			s := &segment.Segment{MSN: msn, Open: n < parts, Start: int64(msn) * step, Duration: int64(n) * step / parts, Header: h}
			for range n {
				s.Parts = append(s.Parts, &segment.Part{Duration: step / parts})
			}
			w.Publish(s, step)
		}
		for msn := range uint64(2*window + 2) {
			publish(msn, parts)
		}
		best := time.Hour
		msn := uint64(2*window + 2)
		for range 5 {
			begin := time.Now()
			for i := range turns {
				publish(msn+uint64(i/parts), i%parts+1)
				snap := w.Snapshot()
				v := present.NewView(hls.Media{Whole: snap.Listed, Open: snap.Open, TargetDuration: 2, PartTarget: step / parts}, snap,
					func() []hls.Report { return nil })
				v.Playlist(hls.CMAF, true).Bytes()
			}
			best = min(best, time.Since(begin)/turns)
			msn += turns / parts
		}
		return best
	}
	short, long := cost(6), cost(1800)
	row("A part, with its delta update: window of 1,800 segments, of 6", fmt.Sprintf("%.1f us", float64(long)/1e3), fmt.Sprintf("%.1f us", float64(short)/1e3),
		fmt.Sprintf("%.2f", float64(long)/float64(short)), "no more than a playlist of 6 that skips nothing")
	return nil
}

// channels: processor time a bit of one passed-through feed and of fifty beside each other.
func channels() error {
	const many, loops = 50, 12
	one, err := feedsCost(1, loops)
	if err != nil {
		return err
	}
	fifty, err := feedsCost(many, loops)
	if err != nil {
		return err
	}
	row(fmt.Sprintf("Processor time a feed: %d passed-through channels, one", many), fmt.Sprintf("%.1f ms", fifty*1000), fmt.Sprintf("%.1f ms", one*1000),
		fmt.Sprintf("%.2f", fifty/one), "<= 1.10")
	return nil
}

// feedsCost returns the processor time, in seconds, that a loop of a feed takes.
func feedsCost(feeds, loops int) (float64, error) {
	r, err := newRig()
	if err != nil {
		return 0, err
	}
	args := []string{"cameras", "loops=" + strconv.Itoa(loops)}
	for i := range feeds {
		slug := fmt.Sprintf("feed-%d", i)
		if err := r.channel(slug, 2000, source); err != nil {
			return 0, err
		}
		args = append(args, r.rtmp+"/in/"+slug+"/key")
	}
	exe, err := os.Executable()
	if err != nil {
		return 0, err
	}
	var before, after syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &before)
	cmd := exec.Command(exe, args...)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return 0, err
	}
	for _, c := range r.o.Channels() {
		for c.Status().Feed != nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &after)
	r.close()
	used := time.Duration(after.Utime.Nano() + after.Stime.Nano() - before.Utime.Nano() - before.Stime.Nano())
	return used.Seconds() / float64(feeds*loops), nil
}

// crowds: what the status of a second costs with 50,000 viewers and 20 pages that show it. It is made and
// marshalled once; the pages cost a write each.
func crowds() error {
	const viewers, pages, channels = 50_000, 20, 20
	r, err := newRig()
	if err != nil {
		return err
	}
	defer r.close()
	server := delivery.New(delivery.Options{Origin: r.o})
	for i := range channels {
		if err := r.channel(fmt.Sprintf("feed-%d", i), 2000, source); err != nil {
			return err
		}
	}
	if err := r.play("feed-0"); err != nil {
		return err
	}
	come := func(n int) {
		for i := range n {
			q := httptest.NewRequest(http.MethodGet, "/feed-0/source/index.m3u8", nil)
			q.Header.Set("CMCD-Session", `sid="viewer-`+strconv.Itoa(i)+`"`)
			server.ServeHTTP(httptest.NewRecorder(), q)
		}
	}
	status := func() time.Duration {
		best := time.Hour
		for range 20 {
			begin := time.Now()
			by := server.Viewers()
			var list []status.Status
			for _, c := range r.o.Channels() {
				st := c.Status()
				st.Viewers = by[st.Slug]
				list = append(list, st)
			}
			b, err := json.Marshal(list)
			if err != nil {
				return 0
			}
			sink := make([][]byte, pages)
			for i := range sink {
				sink[i] = b
			}
			best = min(best, time.Since(begin))
		}
		return best
	}
	come(1)
	few := status()
	come(viewers)
	crowd := status()
	counted := 0
	for _, n := range server.Viewers()["feed-0"] {
		counted += n
	}
	row(fmt.Sprintf("Status a second: %d channels, %d pages; %d viewers, one", channels, pages, counted), fmt.Sprintf("%.2f ms", float64(crowd)/1e6), fmt.Sprintf("%.2f ms", float64(few)/1e6),
		fmt.Sprintf("%.2f", float64(crowd)/float64(few)), "marshalled once for all pages")
	return nil
}

// play sends the small loop to a channel until it can be played.
func (r *rig) play(slug string) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(exe, "cameras", "loops=2", r.rtmp+"/in/"+slug+"/key")
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	for c := r.o.Channel(slug); !c.Playable(); {
		time.Sleep(5 * time.Millisecond)
	}
	return nil
}
