package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// anotherPlayer is a page with a player that the project does not ship, for what its own ones forgive.
const anotherPlayer = `<!doctype html><body style="margin:0"><video muted autoplay playsinline width=640 height=360></video>
<script src="/dist/shaka-player.compiled.js"></script><script>
	const video = document.querySelector("video");
	window.failed_ = "";
	window.pictures_ = 0;
	window.waits_ = 0;
	const look = (_, m) => { window.pictures_ = m.presentedFrames; video.requestVideoFrameCallback(look); };
	video.requestVideoFrameCallback(look);
	video.addEventListener("waiting", () => window.waits_++);
	(async () => {
		const player = window.player_ = new shaka.Player();
		await player.attach(video);
		player.addEventListener("error", e => window.failed_ += e.detail.code + " ");
		player.configure({streaming: {lowLatencyMode: true}});
		await player.load(new URLSearchParams(location.search).get("play"));
	})().catch(e => window.failed_ += String(e.code ?? e));
</script>`

// TestAnotherPlayerFollowsByItself: a second player of DASH, told nothing but the address, reaches the
// place near the live edge that the manifest tells; and one of low-latency HLS plays on.
func TestAnotherPlayerFollowsByItself(t *testing.T) {
	t.Parallel()
	files := http.FileServer(http.Dir(filepath.Join("..", "web", "node_modules", "shaka-player")))
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			w.Header().Set("Content-Type", "text/html")
			_, _ = fmt.Fprint(w, anotherPlayer)
			return
		}
		files.ServeHTTP(w, r)
	}))
	defer page.Close()
	s := start(t)
	url := s.channel("start-line", settings.Settings{}, ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 800_000, Effort: 1})
	s.send(0, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest("start-line", "360p") >= 2 })
	for _, file := range []string{"low.mpd", "index.m3u8"} {
		p := open(t)
		p.do(chromedp.Navigate(page.URL + "/?play=" + s.http + "/media/start-line/" + file))
		p.until(`window.failed_ !== "" || (v => v.readyState >= 3 && v.currentTime > 0 && window.pictures_ > 0)(document.querySelector("video"))`)
		require.Empty(t, eval[string](p, "window.failed_"), file)
		if file == "low.mpd" { // by its service description; in HLS it stays where it began, which a busy machine decides
			p.until(`window.failed_ !== "" || (d => d && Date.now() - d < 2500)(window.player_.getPlayheadTimeAsDate())`)
		}
		from := eval[float64](p, `document.querySelector("video").currentTime`)
		p.until(fmt.Sprintf(`window.failed_ !== "" || document.querySelector("video").currentTime > %f`, from+6))
		t.Logf("%s: %.2f s behind, %d waits", file, eval[float64](p, `(Date.now() - window.player_.getPlayheadTimeAsDate()) / 1000`), eval[int](p, "window.waits_"))
		assert.Empty(t, eval[string](p, "window.failed_"), file)
		p.stop()
	}
}
