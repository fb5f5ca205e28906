package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/camera"
	"metaplasis/internal/settings"
)

// cue is a cue as a browser has it.
type cue struct {
	Start, End float64
	Text       string
}

// TestCaptionsBecomeText: what the captions in the pictures say is a rendition of text, whose segments stand beside
// those of the pictures, and players show it at its time.
func TestCaptionsBecomeText(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{Window: 8}, Keeping: keeping.Keeping}, sourceOnly)
	began := time.Now()
	lines := []string{"WIND 14 KNOTS", "FIRST GUN"}
	s.send(0, camera.Options{URL: url, Captions: lines})
	eventually(t, "text is offered", func() bool {
		_, b, _ := s.get("/media/start-line/index.m3u8")
		return strings.Contains(string(b), `TYPE=SUBTITLES,GROUP-ID="text",NAME="CC1"`)
	})
	eventually(t, "a window of it", func() bool { return s.newest("start-line", "text-cc1") >= 6 })
	text, pictures := s.playlist("start-line", "text-cc1").Whole(), s.playlist("start-line", "source").Whole()
	require.NotEmpty(t, text)
	durations := map[string]string{}
	for _, e := range pictures {
		durations[strings.TrimSuffix(e.URI, ".m4s")] = fmt.Sprint(e.Duration)
	}
	all := ""
	for _, e := range text {
		require.True(t, strings.HasSuffix(e.URI, ".vtt"))
		if d, there := durations[strings.TrimSuffix(e.URI, ".vtt")]; there {
			assert.Equal(t, d, fmt.Sprint(e.Duration), e.URI)
		}
		status, b, head := s.get("/media/start-line/text-cc1/" + e.URI)
		assert.Equal(t, []any{200, "text/vtt; charset=utf-8"}, []any{status, head.Get("Content-Type")})
		assert.True(t, strings.HasPrefix(string(b), "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:"))
		_, again, _ := s.get("/media/start-line/text-cc1/" + e.URI)
		assert.Equal(t, b, again)
		all += string(b)
	}
	for _, line := range lines {
		assert.Contains(t, all, "\n"+line)
	}
	s.inspectAll("start-line", "index.m3u8", "index.mpd", "low.mpd")
	// The same in what is kept.
	from := "?from=" + began.UTC().Format(time.RFC3339)
	_, b, _ := s.get("/media/start-line/index.m3u8" + from)
	assert.Contains(t, string(b), `TYPE=SUBTITLES,GROUP-ID="text",NAME="CC1"`)
	kept := ""
	for _, e := range s.past("start-line", "text-cc1", from[1:]).Entries {
		_, b, _ := s.get("/media/start-line/text-cc1/" + e.URI)
		kept += string(b)
	}
	for _, line := range lines {
		assert.Contains(t, kept, "\n"+line)
	}
	s.inspectAll("start-line", "index.m3u8"+from, "index.mpd"+from)

	p := open(t)
	defer p.stop()
	for _, way := range []string{"hls", "dash"} {
		p.do(chromedp.Navigate(s.http + "/embed/start-line?as=" + way))
		p.becomes(`(v => v && v.readyState >= 3 && v.currentTime > 0)(document.querySelector("video"))`)
		const option = `[...` + playerTree + `.querySelectorAll("select[aria-label=Captions] option")].find(o => o.textContent === "CC1")`
		p.becomes("!!" + option)
		eval[chromedp.Void](p, `(o => { o.parentElement.value = o.value; o.parentElement.dispatchEvent(new Event("change", {bubbles: true})) })(`+option+`)`)
		const now = `[...document.querySelector("video").textTracks].filter(t => t.mode === "showing").flatMap(t => [...(t.cues || [])])`
		p.becomes(now + `.some(c => c.text.includes("WIND") && Math.abs(c.startTime - document.querySelector("video").currentTime) < 20)`)
		list := eval[[]cue](p, now+`.map(c => ({Start: c.startTime, End: c.endTime, Text: c.text}))`)
		at := eval[float64](p, `document.querySelector("video").currentTime`)
		near := 0
		for _, c := range list {
			if c.End > at-4 && c.Start < at+4 {
				near++
			}
			assert.Less(t, c.Start, c.End, way)
		}
		assert.Positive(t, near, "%s: cues beside the picture at %v: %v", way, at, list)
	}
}
