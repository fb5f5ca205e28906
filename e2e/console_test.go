package e2e

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/e2e/browser"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/settings"
)

// collector reads the block code of every picture that the page shows.
const collector = `(() => {
	const w = 320, h = 180, side = Math.floor(w * 8 / 10 / 16);
	const ctx = Object.assign(document.createElement("canvas"), {width: w, height: h}).getContext("2d", {willReadFrequently: true});
	window.frames_ = [];
	window.waits_ = [];
	performance.setResourceTimingBufferSize(10000);
	let epoch = 0;
	const video = document.querySelector("video");
	video.addEventListener("waiting", () => {
		const ranges = [...Array(video.buffered.length).keys()].map(i => video.buffered.start(i).toFixed(2) + "-" + video.buffered.end(i).toFixed(2));
		window.waits_.push("at " + video.currentTime.toFixed(2) + " with " + ranges.join(",") + " after " + window.frames_.length + " pictures, at " + performance.now().toFixed(0) + " ms");
	});
	video.addEventListener("emptied", () => { epoch++; window.waits_.push("the player started over") });
	let newest = -1;
	const look = (_, m) => {
		// The picture and its time in one: what the element shows may be a later picture than the one of this call.
		const frame = new VideoFrame(video);
		const own = frame.timestamp / 1e6;
		ctx.drawImage(frame, 0, 0, w, h);
		frame.close();
		const time = Math.abs(own - m.mediaTime) < 1 ? own : m.mediaTime; // of a line in real time the two have different clocks
		const again = time === newest;
		newest = time;
		const strip = ctx.getImageData(0, h - 2 * side, w, side).data;
		const cells = [];
		for (let i = 0; i < 16; i++) {
			let sum = 0, n = 0;
			for (let y = side / 3 | 0; y <= side * 2 / 3; y++)
				for (let x = side / 3 | 0; x <= side * 2 / 3; x++, n++)
					sum += strip[4 * (y * w + w / 10 + i * side + x) + 1];
			cells.push(sum / n);
		}
		const middle = (cells[0] + cells[15] + 2 * cells[1]) / 4;
		let number = 0, parity = 0;
		for (let i = 2; i <= 14; i++) {
			const bit = cells[i] > middle ? 1 : 0;
			parity ^= bit;
			if (i < 14) number = number * 2 + bit;
		}
		// A page that was late draws a later picture than the one it was called for.
		const late = performance.now() > m.expectedDisplayTime + 12;
		const drawn = parity === 0 && cells[0] - cells[1] > 60 ? number : -1;
		if (!again) window.frames_.push({number: late && time !== own ? -1 : drawn, drawn, late, epoch, time, height: video.videoHeight, rate: video.playbackRate});
		video.requestVideoFrameCallback(look);
	};
	video.requestVideoFrameCallback(look);
})()`

type shown struct {
	Number int // -1 when the page was late to look
	Drawn  int // what was read all the same: the picture that it was called for, or a later one
	Late   bool
	Time   float64
	Epoch  int // counts the player's beginnings: each has a time line of its own
	Height int
	Rate   float64 // of playback
}

type page struct {
	t    *testing.T
	ctx  context.Context
	stop func() // ends the browser before its test is over
}

func open(t *testing.T, more ...chromedp.ExecAllocatorOption) *page {
	ctx, stop := browser.New(context.Background(), more...)
	t.Cleanup(stop)
	require.NoError(t, chromedp.Do(ctx)) // starts it, without a limit
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(func() {
		if t.Failed() {
			if png, err := chromedp.Run(context.WithoutCancel(ctx), chromedp.CaptureScreenshot()); err == nil {
				file := filepath.Join(os.TempDir(), "metaplasis-"+strings.ReplaceAll(t.Name(), "/", "-")+".png")
				t.Logf("what the page showed: %s (%v)", file, os.WriteFile(file, png, 0o644))
			}
		}
		cancel()
	})
	return &page{t, ctx, stop}
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, steps...))
}

func (p *page) until(js string) {
	p.t.Helper()
	_, err := chromedp.Run(p.ctx, chromedp.Poll[bool](js, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience)))
	require.NoError(p.t, err, js)
}

// playerTree is what the player's element draws around its video.
const playerTree = `document.querySelector("metaplasis-player").shadowRoot`

// becomes waits for what a test tells more of when it does not come.
func (p *page) becomes(js string) bool {
	_, err := chromedp.Run(p.ctx, chromedp.Poll[bool](js, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience)))
	return err == nil
}

func eval[T any](p *page, js string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](js))
	require.NoError(p.t, err, js)
	return v
}

func (p *page) frames() []shown { return eval[[]shown](p, "window.frames_") }

// collect begins to read block codes once the video plays.
func (p *page) collect() {
	p.until(`(v => v && v.readyState >= 3 && v.currentTime > 0 && v.videoWidth > 0)(document.querySelector("video"))`)
	eval[chromedp.Void](p, collector)
}

// steady holds what was shown against the loop: times go up, and the number of every picture is
// the one that belongs to its time, whichever rendition it came from. While a player catches up,
// what is drawn may be one picture beside what its callback is told.
func steady(t *testing.T, frames []shown, loop demo.Loop) {
	t.Helper()
	require.Empty(t, unsteady(frames, loop, 0, 0))
}

// unsteady says what is wrong with what was shown. It allows numbers that are so many pictures beside
// their time, and a share of them to be further off: a page whose processor is shared with other
// players may draw a later picture already.
func unsteady(frames []shown, loop demo.Loop, allowed int, strays float64) string {
	offset := func(f shown) int {
		n := (f.Number - int(f.Time*30+0.5)) % loop.Frames
		return (n + loop.Frames) % loop.Frames
	}
	counts := map[int]map[int]int{} // of offsets, by epoch
	read := 0
	var last *shown // that was read
	for i := range frames {
		f := frames[i]
		if i > 0 && f.Epoch == frames[i-1].Epoch && f.Time < frames[i-1].Time {
			return fmt.Sprintf("showed %f after %f", f.Time, frames[i-1].Time)
		}
		if f.Number < 0 {
			continue
		}
		if last != nil && f.Epoch == last.Epoch && f.Time <= last.Time {
			return fmt.Sprintf("showed %f twice", f.Time)
		}
		last = &frames[i]
		read++
		if counts[f.Epoch] == nil {
			counts[f.Epoch] = map[int]int{}
		}
		counts[f.Epoch][offset(f)]++
	}
	if read == 0 {
		return fmt.Sprintf("showed nothing readable in %d pictures", len(frames))
	}
	usual := map[int]int{}
	for epoch, list := range counts {
		for o, n := range list {
			if n > list[usual[epoch]] || list[usual[epoch]] == 0 {
				usual[epoch] = o
			}
		}
	}
	beside := func(f shown) int {
		return (offset(f)-usual[f.Epoch]+loop.Frames+loop.Frames/2)%loop.Frames - loop.Frames/2
	}
	var stray []string
	for i, f := range frames {
		if f.Number < 0 {
			continue
		}
		d := beside(f)
		slack := allowed
		if f.Rate != 1 || i > 0 && frames[i-1].Rate != 1 {
			slack = 1
		}
		if d == 1 && i+1 < len(frames) && frames[i+1].Drawn == f.Number {
			continue // the page drew the next picture already, and was called for that one too
		}
		if d < 0 {
			// A worker that has no time shows a picture again. It stands still then, and does not move on beside its time.
			moves := false
			for _, near := range []int{i - 1, i + 1} {
				if near >= 0 && near < len(frames) && frames[near].Number >= 0 && frames[near].Number != f.Number && frames[near].Epoch == f.Epoch {
					moves = moves || beside(frames[near]) == d
				}
			}
			if !moves {
				continue
			}
		}
		if max(d, -d) > slack {
			stray = append(stray, fmt.Sprintf("%d at %f: %d beside, %d lines, speed %f", f.Number, f.Time, d, f.Height, f.Rate))
		}
	}
	if float64(len(stray)) > strays*float64(read) {
		return fmt.Sprintf("showed %d of %d pictures beside their time: %v", len(stray), read, stray[:min(len(stray), 8)])
	}
	return ""
}

func TestConsoleFromSignInToEveryRendition(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.until(`document.body.innerText.includes("No channels yet")`)
	p.do(chromedp.Click(chromedp.CSS(`a[href="#/new"]`)), chromedp.WaitVisible(chromedp.CSS("#title")),
		chromedp.SendKeys(chromedp.CSS("#title"), "Start line"))
	assert.Equal(t, "start-line", eval[string](p, `document.querySelector("#slug").value`))
	p.do(chromedp.Click(chromedp.CSS("form button.btn-primary")), chromedp.WaitVisible(chromedp.CSS("video")))
	p.until(playerTree + `.textContent.includes("Nobody is sending")`)

	// The sender's settings, as a person would copy them.
	p.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label of the new key"]`), "camera 1\r"), chromedp.WaitVisible(chromedp.CSS("[data-made-key] img")))
	fields := eval[[]string](p, `[...document.querySelectorAll("[data-made-key] input")].map(i => i.value)`)
	require.Len(t, fields, 3)
	assert.Equal(t, fields[2], fields[0]+"/"+fields[1])
	_, err := s.api.SetLadder(context.Background(), "start-line", ladder.Ladder{Rungs: []ladder.Rung{
		{Name: "source", On: true, Source: true},
		{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1},
		{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1},
	}})
	require.NoError(t, err)
	s.send(0, camera.Options{URL: fields[2]})

	p.collect()
	p.until(`document.querySelectorAll("[data-quality]").length === 3`)
	heights := map[string]int{"source": 720, "360p": 360, "180p": 180}
	for _, name := range []string{"180p", "source", "360p"} {
		p.do(chromedp.Click(chromedp.CSS(fmt.Sprintf("[data-quality=%q]", name))))
		p.until(fmt.Sprintf(`window.frames_.slice(-10).length === 10 && window.frames_.slice(-10).every(f => f.height === %d)`, heights[name]))
		p.until(fmt.Sprintf(`[...document.querySelectorAll("dd")].some(d => d.textContent.startsWith(%q))`, name+","))
	}
	frames := p.frames()
	steady(t, frames, demo.Loops[0])
	var seen []int
	for _, f := range frames {
		if !slices.Contains(seen, f.Height) {
			seen = append(seen, f.Height)
		}
	}
	assert.Subset(t, seen, []int{180, 360, 720})
	behind := eval[string](p, `[...document.querySelectorAll("dt")].find(d => d.textContent === "Camera to page").nextElementSibling.textContent`)
	assert.Regexp(t, `^\d+\.\d s$`, behind)
	p.until(`!!document.querySelector("[data-state=live], [data-state=degraded]")`)
}

// playing starts a channel with a camera and a page that plays it in one of its ways.
func playing(t *testing.T, s *service, way string, segment int64, rungs ...ladder.Rung) *page {
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: segment, Window: 60}}, rungs...)
	s.send(0, camera.Options{URL: url})
	// The encoders start before the browser does, so that the two do not hold each other up.
	eventually(t, "a few segments", func() bool { return s.newest("start-line", rungs[0].Name) >= 2 })
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/watch/start-line?as=" + way))
	p.collect()
	return p
}

// whole reads the segments of a rendition: each lasts as long as the playlist says, and they lie one behind the other.
func (s *service) whole(slug, rendition string) {
	s.t.Helper()
	var end time.Duration
	for _, e := range s.playlist(slug, rendition).Whole() {
		if e.Gap {
			end = 0
			continue
		}
		_, head, _ := s.get(path.Join("/media", slug, rendition, e.Header))
		h, err := bmff.ReadHeader(head)
		require.NoError(s.t, err)
		_, b, _ := s.get(path.Join("/media", slug, rendition, e.URI))
		fragments, err := h.ReadFragments(b)
		require.NoError(s.t, err)
		var length int64
		for _, f := range fragments {
			for _, u := range f.Units {
				length += u.Duration
			}
		}
		begin, lasts := media.Duration(fragments[0].DTS, h.Timescale), media.Duration(length, h.Timescale)
		if d := lasts - e.Duration; d.Abs() > 40*time.Millisecond {
			s.t.Errorf("%s, segment %d at %v: it lasts %v, and is listed with %v", rendition, e.MSN, begin, lasts, e.Duration)
		}
		if d := begin - end; end > 0 && !e.Discontinuity && d.Abs() > 40*time.Millisecond {
			s.t.Errorf("%s, segment %d begins at %v, and the one before ends at %v", rendition, e.MSN, begin, end)
		}
		end = begin + lasts
	}
}

// playOn waits until so many more pictures were shown.
func (p *page) playOn(n int) {
	p.t.Helper()
	p.until(fmt.Sprintf("window.frames_.length >= %d", len(p.frames())+n))
}

func TestLadderChangesWhilePlaying(t *testing.T) {
	t.Parallel()
	s := start(t)
	rungs := []ladder.Rung{
		{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1},
		{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1},
	}
	p := playing(t, s, "ll-hls", 2000, rungs...) // as far apart as the camera's keyframes, which lead in the end
	begun := s.status("start-line").Feed.Begun
	ctx := context.Background()
	set := func(r ...ladder.Rung) {
		_, err := s.api.SetLadder(ctx, "start-line", ladder.Ladder{Rungs: r})
		require.NoError(t, err)
	}
	changed := rungs[0]
	changed.Height, changed.Bitrate = 270, 500_000
	set(changed, rungs[1]) // another size and bitrate under the same name
	eventually(t, "the new size", func() bool {
		for _, r := range s.status("start-line").Renditions {
			if r.Name == "360p" && r.Height == 270 {
				return true
			}
		}
		return false
	})
	set(changed, rungs[1], ladder.Rung{Name: "source", On: true, Source: true}) // an added one that leads from now on
	eventually(t, "the added rung", func() bool { return s.newest("start-line", "source") >= 0 })
	off := changed
	off.On = false
	set(off, rungs[1], ladder.Rung{Name: "source", On: true, Source: true}) // and one turned off
	eventually(t, "a stand-in for the rung that is off", func() bool {
		e := s.playlist("start-line", "360p").Entries
		return strings.HasPrefix(e[len(e)-1].URI, "../180p/")
	})
	_, master, _ := s.get("/media/start-line/index.m3u8")
	assert.NotContains(t, string(master), "360p")
	p.playOn(120)
	s.whole("start-line", "180p")
	steady(t, p.frames(), demo.Loops[0])
	assert.Equal(t, begun, s.status("start-line").Feed.Begun, "the sender stayed connected")
	a, b := s.playlist("start-line", "source"), s.playlist("start-line", "180p")
	times := map[uint64]time.Duration{}
	for _, e := range a.Entries {
		times[e.MSN] = e.Duration
	}
	common := 0
	for _, e := range b.Entries {
		if d, ok := times[e.MSN]; ok {
			common++
			assert.Equal(t, d, e.Duration, "segment %d", e.MSN)
		}
	}
	assert.Positive(t, common)

	// Settings that are wrong change nothing.
	bad := rungs[1]
	bad.Height = 181
	_, err := s.api.SetLadder(ctx, "start-line", ladder.Ladder{Rungs: []ladder.Rung{rungs[0], bad}})
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, 422, refused.Status)
	assert.Contains(t, err.Error(), "rungs[1].height: found 181, expected an even number")
	l, err := s.api.Ladder(ctx, "start-line")
	require.NoError(t, err)
	assert.Len(t, l.Rungs, 3)
}

func TestWorkerKilledWhilePlaying(t *testing.T) {
	t.Parallel()
	s := start(t)
	other := s.channel("harbour", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.send(0, camera.Options{URL: other})
	p := playing(t, s, "hls", 1000, ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1})
	eventually(t, "the other channel", func() bool { return s.newest("harbour", "180p") > 1 && s.status("harbour").Worker.PID > 0 })
	otherPID, pid := s.status("harbour").Worker.PID, s.status("start-line").Worker.PID
	require.NotEqual(t, otherPID, pid)
	before := s.newest("start-line", "360p")
	kill(t, pid)
	eventually(t, "a new worker", func() bool {
		w := s.status("start-line").Worker
		return w.PID > 0 && w.PID != pid && w.Replaced == 1
	})
	eventually(t, "segments go on", func() bool { return s.newest("start-line", "360p") >= before+4 })
	for _, e := range s.playlist("start-line", "360p").Entries {
		assert.False(t, e.Gap && s.status("start-line").Worker.Skipped == 0, "segment %d is missing", e.MSN)
	}
	p.playOn(60)
	s.whole("start-line", "360p")
	steady(t, p.frames(), demo.Loops[0])
	eventually(t, "an event that says so", func() bool { return s.hasEvent("worker-replaced") })
	assert.Equal(t, otherPID, s.status("harbour").Worker.PID)
	for _, e := range s.playlist("harbour", "180p").Entries {
		assert.False(t, e.Discontinuity)
	}
}

func TestBrowsersOwnPlayerPlays(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1})
	s.send(0, camera.Options{URL: url})
	eventually(t, "a playlist", func() bool { code, _, _ := s.get("/media/start-line/index.m3u8"); return code == 200 })
	eventually(t, "a few segments", func() bool { return s.newest("start-line", "360p") >= 3 })
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/media/start-line/time")) // a plain page, without a policy
	require.NotEmpty(t, eval[string](p, `document.createElement("video").canPlayType("application/vnd.apple.mpegurl")`), "this Chromium has no HLS player of its own")
	eval[chromedp.Void](p, `document.body.innerHTML = '<video muted autoplay playsinline src="/media/start-line/index.m3u8"></video>'; document.querySelector("video").play()`)
	p.collect()
	p.playOn(90)
	steady(t, p.frames(), demo.Loops[0])
}

func TestEmbedSaysWhyNothingPlays(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.channel("start-line", settings.Settings{})
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/embed/start-line"))
	p.until(playerTree + `.textContent.includes("Nobody is sending to this channel")`)
	p.do(chromedp.Navigate(s.http + "/embed/no-such"))
	p.until(playerTree + `.textContent.includes("There is no such channel")`)
}
