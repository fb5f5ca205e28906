package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/e2e/browser"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
)

// realTime plays a channel over WebRTC in Chromium.
func realTime(t *testing.T, s *service, slug string) *page {
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/watch/" + slug + "?as=webrtc"))
	p.until(`(v => v && v.videoWidth > 0 && v.currentTime > 0.5)(document.querySelector("video"))`)
	eval[chromedp.Void](p, collector)
	return p
}

// inOrder holds the numbers of pictures against a loop: each is behind the one before, but where the loop begins again.
func inOrder(t *testing.T, frames []shown, loop demo.Loop) {
	t.Helper()
	last, back, seen := -1, 0, 0
	for _, f := range frames {
		if f.Number < 0 {
			continue
		}
		seen++
		if last >= 0 && f.Number < last && last-f.Number < loop.Frames/2 {
			back++
		}
		last = f.Number
	}
	assert.Zero(t, back, "pictures that came back")
	assert.Greater(t, seen, len(frames)/2, "pictures whose number can be read")
}

// TestRealTimePassedThrough: H.264 that fits passes through, AAC becomes Opus for viewers in real time, and a viewer
// changes rungs by hand.
func TestRealTimePassedThrough(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, origin.Settings{}, ladder.Rung{Name: "source", On: true, Source: true},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
	p := realTime(t, s, loop.Name)
	defer p.stop()
	p.until(`document.querySelector("video").videoHeight === 720`)
	p.until(`window.frames_.length > 120`)
	p.until(`document.querySelector("video").srcObject.getAudioTracks().length === 1`)
	frames := p.frames()
	inOrder(t, frames, loop)
	t.Logf("%d pictures; %v", len(frames), eval[string](p, `JSON.stringify({delay: window.playback.delay, behind: window.playback.behind, stalls: window.playback.stalls})`))
	for _, rung := range []struct {
		name   string
		height int
	}{{"180p", 180}, {"source", 720}} {
		eval[chromedp.Void](p, fmt.Sprintf(`window.playback.choose(%q)`, rung.name))
		p.until(fmt.Sprintf(`document.querySelector("video").videoHeight === %d && window.playback.showing === %q`, rung.height, rung.name))
	}
	inOrder(t, p.frames(), loop)
	eventually(t, "the viewer is counted", func() bool { return s.status(loop.Name).Viewers["webrtc"] == 1 })
	p.stop()
	eventually(t, "and gone", func() bool { return s.status(loop.Name).Viewers["webrtc"] == 0 })
}

// TestSocketsPlay: over WebSocket and WebTransport, pictures in their order and at their time, a rung chosen by hand, and
// viewers counted by their way.
func TestSocketsPlay(t *testing.T) { inFairWeather(t, socketsPlay) }

func socketsPlay(t *testing.T) []string {
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, origin.Settings{}, ladder.Rung{Name: "source", On: true, Source: true},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
	var stalls []string
	for _, way := range []string{"websocket", "webtransport"} {
		p := open(t)
		p.do(chromedp.Navigate(s.http + "/watch/" + loop.Name + "?as=" + way))
		p.collect()
		p.until(`document.querySelector("video").videoHeight === 720`)
		p.until(`window.frames_.length > 120`)
		steady(t, p.frames(), loop)
		t.Logf("%s: %v", way, eval[string](p, `JSON.stringify({delay: window.playback.delay, inHand: window.playback.behind, stalls: window.playback.stalls})`))
		for _, rung := range []struct {
			name   string
			height int
		}{{"180p", 180}, {"source", 720}} {
			eval[chromedp.Void](p, fmt.Sprintf(`window.playback.choose(%q)`, rung.name))
			p.until(fmt.Sprintf(`document.querySelector("video").videoHeight === %d && window.playback.showing === %q`, rung.height, rung.name))
		}
		steady(t, p.frames(), loop)
		stalls = append(stalls, eval[[]string](p, "window.waits_")...)
		eventually(t, "the viewer is counted", func() bool { return s.status(loop.Name).Viewers[way] == 1 })
		p.stop()
		eventually(t, "and gone", func() bool { return s.status(loop.Name).Viewers[way] == 0 })
	}
	return stalls
}

// TestPlayersSideBySide: a page of the console with players of four kinds, each with its delay; and the player's code in a
// page of somebody else.
func TestPlayersSideBySide(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, origin.Settings{}, sourceOnly)
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "source") >= 2 })
	p := open(t)
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/players"))
	p.click("Four ways of")
	p.until(`document.querySelectorAll("[data-tile]").length === 4`)
	p.until(`[...document.querySelectorAll("[data-delay]")].filter(d => /^\d+\.\d\d s$/.test(d.textContent.trim())).length === 4`)
	t.Log(eval[string](p, `[...document.querySelectorAll("[data-tile]")].map(e => e.dataset.tile + " " + e.querySelector("[data-delay]").textContent.trim()).join(", ")`))
	p.do(chromedp.Navigate(s.http + "/#/channels/" + loop.Name + "/addresses/embed"))
	p.until(`document.querySelector("[data-embed] textarea")?.value.includes("metaplasis-player")`)
	code := eval[string](p, `document.querySelector("[data-embed] textarea").value`)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = fmt.Fprintf(w, `<!doctype html><title>Club</title><h1>Club house</h1>%s<script>
			window.heard = [];
			document.querySelector("metaplasis-player").addEventListener("rung", e => window.heard.push(e.detail));
		</script>`, code)
	}))
	defer other.Close()
	p.do(chromedp.Navigate(other.URL))
	p.until(`(v => v && v.videoHeight === 720 && v.currentTime > 1)(document.querySelector("metaplasis-player video"))`)
	p.until(`window.heard.some(d => d.rung === "source" && d.way === "webtransport")`)
	// Keys work on it.
	eval[chromedp.Void](p, `document.querySelector("metaplasis-player").shadowRoot.querySelector("[role=region]").focus()`)
	p.do(chromedp.KeyEvent("k"))
	p.until(`document.querySelector("video").paused`)
	p.do(chromedp.KeyEvent("k"))
	p.until(`!document.querySelector("video").paused`)
	p.do(chromedp.KeyEvent("m"))
	p.until(`!document.querySelector("video").muted`)
}
