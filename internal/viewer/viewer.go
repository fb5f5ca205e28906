// Package viewer is the stand-in viewer: a headless browser that opens a channel's player and
// measures what it shows.
package viewer

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"sort"
	"time"

	"github.com/chromedp/chromedp"
)

// New starts a browser with one tab. The flags keep it off the network but for what it is told to
// open, and let video play without a click.
func New(parent context.Context, more ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("autoplay-policy", "no-user-gesture-required"),
		chromedp.Flag("mute-audio", true),
		chromedp.WindowSize(1280, 800),
	)
	allocator, stopAllocator := chromedp.NewExecAllocator(parent, append(options, more...)...)
	ctx, stop := chromedp.NewContext(allocator)
	return ctx, func() { stop(); stopAllocator() }
}

// errNoBrowser says that there is none to measure with.
var errNoBrowser = errors.New("no Chromium was found; install it (Debian package chromium) and try again")

// Available reports whether a browser is there.
func Available() error {
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome", "headless-shell"} {
		if _, err := exec.LookPath(name); err == nil {
			return nil
		}
	}
	return errNoBrowser
}

// Run is one measurement: a way to play a channel, with one rung.
type Run struct {
	Channel string
	Way     string // as the player names it, such as ll-hls
	Rung    string // "" lets the player choose
	Settle  time.Duration
	Take    time.Duration
}

// Result is what a viewer saw. Times are milliseconds from the camera to the page.
type Result struct {
	Channel  string `json:"channel"`
	Way      string `json:"way"`
	Rung     string `json:"rung"`
	Pictures int    `json:"pictures"` // that were measured
	Median   int64  `json:"medianMillis"`
	P95      int64  `json:"p95Millis"`
	Longest  int64  `json:"longestMillis"`
	Stalls   int    `json:"stalls"`
	InHand   int64  `json:"inHandMillis"` // of the median: what the player holds behind the picture on screen
}

// Measure plays a channel in a browser and reads the delay off its pictures.
func Measure(ctx context.Context, server string, r Run) (Result, error) {
	out := Result{Channel: r.Channel, Way: r.Way, Rung: r.Rung}
	ctx, stop := New(ctx)
	defer stop()
	if err := chromedp.Do(ctx, chromedp.Navigate(fmt.Sprintf("%s/watch/%s?as=%s&rung=%s", server, r.Channel, r.Way,
		r.Rung))); err != nil {
		return out, fmt.Errorf("opening the player: %w", err)
	}
	const begun = `(v => !!v && v.readyState >= 3 && v.currentTime > 0 && !!window.playback && window.playback.meter.recent().count > 5)(document.querySelector("video"))`
	if _, err := chromedp.Run(ctx, chromedp.Poll[bool](begun, chromedp.WithPollingInterval(100*time.Millisecond),
		chromedp.WithPollingTimeout(40*time.Second))); err != nil {
		why, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`window.playback ? window.playback.message : document.body.innerText`))
		return out, fmt.Errorf("%s of %s did not play, or its sender is not a camera of this program (the page says %q): %w", r.Way, r.Channel, why, err)
	}
	if err := wait(ctx, r.Settle); err != nil {
		return out, err
	}
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[chromedp.Void](`window.playback.meter.restart(); window.playback.stalls = 0`)); err != nil {
		return out, fmt.Errorf("beginning to measure: %w", err)
	}
	const hold = `window.inHand_ = []; window.holding_ = setInterval(() => window.inHand_.push(window.playback.buffered * 1000), 100)`
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[chromedp.Void](hold)); err != nil {
		return out, fmt.Errorf("beginning to measure: %w", err)
	}
	if err := wait(ctx, r.Take); err != nil {
		return out, err
	}
	held, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`clearInterval(window.holding_); window.inHand_`))
	if err != nil {
		return out, fmt.Errorf("reading what the player held: %w", err)
	}
	if sort.Float64s(held); len(held) > 0 {
		out.InHand = int64(held[len(held)/2])
	}
	values, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`[...window.playback.meter.all()]`))
	if err != nil {
		return out, fmt.Errorf("reading the measurement: %w", err)
	}
	if out.Stalls, err = chromedp.Run(ctx, chromedp.Evaluate[int](`window.playback.stalls`)); err != nil {
		return out, fmt.Errorf("reading the stalls: %w", err)
	}
	if out.Rung == "" {
		out.Rung, _ = chromedp.Run(ctx, chromedp.Evaluate[string](`window.playback.showing`))
	}
	if out.Pictures = len(values); out.Pictures == 0 {
		return out, fmt.Errorf("%s of %s showed no picture of a demo camera", r.Way, r.Channel)
	}
	sort.Float64s(values)
	at := func(q int) int64 { return int64(values[min(len(values)*q/100, len(values)-1)]) }
	out.Median, out.P95, out.Longest = at(50), at(95), at(100)
	return out, nil
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}
