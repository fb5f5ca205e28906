package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/e2e/browser"
	"metaplasis/e2e/impair"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// realTime plays a channel over WebRTC in Chromium.
func realTime(t *testing.T, s *service, slug string) *page {
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/watch/" + slug + "?as=webrtc"))
	p.until(`(v => v && v.videoWidth > 0 && v.currentTime > 0.5)(document.querySelector("video"))`)
	eval[chromedp.Void](p, collector)
	return p
}

// inOrder holds the numbers of pictures against a loop: each is behind the one before, but where the loop begins again. A page
// that was late to look drew a later picture, which is in its order too.
func inOrder(t *testing.T, frames []shown, loop demo.Loop) {
	t.Helper()
	last, back, seen := -1, 0, 0
	for i, f := range frames {
		if f.Drawn < 0 {
			continue
		}
		seen++
		if last >= 0 && f.Drawn < last && last-f.Drawn < loop.Frames/2 {
			back++
			t.Logf("a picture came back, the last of these: %+v", frames[max(i-4, 0):i+1])
		}
		last = f.Drawn
	}
	assert.Zero(t, back, "pictures that came back")
	assert.Greater(t, seen, len(frames)/2, "pictures whose number can be read")
}

// TestRealTimePassedThrough: H.264 that fits passes through, AAC becomes Opus for viewers in real time, and a viewer
// changes rungs by hand. Pictures that come in another order than they are shown are encoded for such viewers, who are
// offered that in place of the source.
func TestRealTimePassedThrough(t *testing.T) {
	t.Parallel()
	s := start(t)
	small := ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1}
	reordered, loop := demo.Loops[0], demo.Loops[1] // 720p and 1080p
	url := s.channel(loop.Name, settings.Settings{}, sourceOnly, small)
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
	p := realTime(t, s, loop.Name)
	defer p.stop()
	p.until(`document.querySelector("video").videoHeight === 1080 && window.playback.showing === "source"`)
	p.until(`window.frames_.length > 120`)
	p.until(`document.querySelector("video").srcObject.getAudioTracks().length === 1`)
	frames := p.frames()
	inOrder(t, frames, loop)
	t.Logf("%d pictures; %v", len(frames), eval[string](p, `JSON.stringify({delay: window.playback.delay, behind: window.playback.behind, stalls: window.playback.stalls})`))
	assert.Equal(t, []string{"source", "180p"}, eval[[]string](p, `window.playback.qualities.map(q => q.id)`))
	for _, rung := range []struct {
		name   string
		height int
	}{{"180p", 180}, {"source", 1080}} {
		eval[chromedp.Void](p, fmt.Sprintf(`window.playback.choose(%q)`, rung.name))
		p.until(fmt.Sprintf(`document.querySelector("video").videoHeight === %d && window.playback.showing === %q`, rung.height, rung.name))
	}
	frames = p.frames()
	inOrder(t, frames, loop)
	assert.Zero(t, frames[len(frames)-1].Epoch, "the player did not start over")
	eventually(t, "the viewer is counted", func() bool { return s.status(loop.Name).Viewers["webrtc"] == 1 })
	eval[chromedp.Void](p, firstPictures(loop.Name, "180p"))
	p.until(`window.firsts_?.length === 10`)
	t.Logf("milliseconds from the offer to the first picture, ten viewers of the encoded rung: %v", eval[[]int](p, `window.firsts_.sort((a, b) => a - b)`))
	p.stop()
	eventually(t, "and gone", func() bool { return s.status(loop.Name).Viewers["webrtc"] == 0 })

	s.sendLoop(&reordered, camera.Options{URL: s.channel(reordered.Name, settings.Settings{}, sourceOnly, small)})
	eventually(t, "on air", func() bool { return s.newest(reordered.Name, "180p") >= 2 })
	p = realTime(t, s, reordered.Name)
	defer p.stop()
	p.until(`window.playback.showing === "real time" && document.querySelector("video").videoHeight === 720 && window.frames_.length > 60`)
	frames = p.frames()
	inOrder(t, frames, reordered)
	assert.Equal(t, []string{"real time", "180p"}, eval[[]string](p, `window.playback.qualities.map(q => q.id)`))
}

// TestSocketsPlay: over WebSocket and WebTransport, pictures in their order and at their time, a rung chosen by hand, and
// viewers counted by their way.
func TestSocketsPlay(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, ladder.Rung{Name: "source", On: true, Source: true},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
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
		eventually(t, "the viewer is counted", func() bool { return s.status(loop.Name).Viewers[way] == 1 })
		p.stop()
		eventually(t, "and gone", func() bool { return s.status(loop.Name).Viewers[way] == 0 })
	}
}

// TestPlayersSideBySide: a page of the console with players of four kinds, each with its delay; the player's code in a page of
// somebody else; and what is on air, for anybody.
func TestPlayersSideBySide(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Others[committeeLoop] // four players of it are not too much for a machine that has other work
	url := s.channel(loop.Name, settings.Settings{Access: settings.Access{Listed: true}}, sourceOnly)
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
	p.until(`(v => v && v.videoHeight === 360 && v.currentTime > 1)(document.querySelector("metaplasis-player video"))`)
	p.until(`window.heard.some(d => d.rung === "source" && d.way === "webtransport")`)
	// Keys work on it.
	eval[chromedp.Void](p, `document.querySelector("metaplasis-player").shadowRoot.querySelector("[role=region]").focus()`)
	p.do(chromedp.KeyEvent("k"))
	p.until(`document.querySelector("video").paused`)
	p.do(chromedp.KeyEvent("k"))
	p.until(`!document.querySelector("video").paused`)
	p.do(chromedp.KeyEvent("m"))
	p.until(`!document.querySelector("video").muted`)
	// What is on air stands on a page for anybody.
	p.do(chromedp.Navigate(s.http + "/watch"))
	p.until(`document.querySelectorAll("[data-on-air] a").length === 1 && document.querySelector("[data-on-air] img").naturalWidth > 0`)
	p.do(chromedp.Navigate(eval[string](p, `document.querySelector("[data-on-air] a").href`)))
	p.until(`location.pathname === "/watch/committee" && (v => v && v.currentTime > 0.5)(document.querySelector("video"))`)
}

// TestASlowLineGetsASmallerRung: over a line that carries less than the source's rung, a viewer over WebRTC is sent a smaller
// one, and the source again when the line is free.
func TestASlowLineGetsASmallerRung(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, ladder.Rung{Name: "source", On: true, Source: true},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 250_000, Effort: 1})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
	_, port, err := net.SplitHostPort(s.webrtc)
	require.NoError(t, err)
	line, err := impair.Start("127.0.0.2:"+port, "127.0.0.1:"+port, impair.Line{Delay: 15 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(line.Close)
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.throughRelay("127.0.0.2") + "/watch/" + loop.Name + "?as=webrtc"))
	height := func(n int) {
		p.until(fmt.Sprintf(`(v => v && v.videoHeight === %d && v.currentTime > 1)(document.querySelector("video"))`, n))
	}
	height(720)
	line.Set(impair.Line{Delay: 15 * time.Millisecond, Rate: 700_000})
	height(180)
	from := eval[float64](p, `document.querySelector("video").currentTime`)
	p.until(fmt.Sprintf(`document.querySelector("video").currentTime > %f`, from+3))
	line.Set(impair.Line{Delay: 15 * time.Millisecond})
	height(720)
	assert.Positive(t, line.Lost.Load())
}

// firstPictures measures how long ten viewers wait for their first picture, one after the other.
func firstPictures(slug, rung string) string {
	return fmt.Sprintf(`void (async () => {
		const out = window.firsts_ = [];
		for (let i = 0; i < 10; i++) {
			const pc = new RTCPeerConnection(), video = document.createElement("video");
			video.muted = true;
			document.body.append(video);
			pc.addTransceiver("video", {direction: "recvonly"});
			const shown = new Promise(done => video.requestVideoFrameCallback(done));
			pc.ontrack = e => { video.srcObject = new MediaStream([e.track]); video.play(); };
			await pc.setLocalDescription(await pc.createOffer());
			const begun = performance.now();
			const res = await fetch("/whep/%s?rung=%s", {method: "POST", headers: {"Content-Type": "application/sdp"}, body: pc.localDescription.sdp});
			await pc.setRemoteDescription({type: "answer", sdp: await res.text()});
			await shown;
			out.push(Math.round(performance.now() - begun));
			await fetch(res.headers.get("Location"), {method: "DELETE"});
			pc.close();
			video.remove();
		}
	})()`, slug, rung)
}
