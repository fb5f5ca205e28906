package e2e

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/e2e/browser"
	"metaplasis/internal/api"
	"metaplasis/internal/settings"
)

// TestSeveralSizesOfOnePicture: of a browser that sends its picture in three sizes, the smallest first, the largest
// becomes the source, and the others ready-made rungs that are cut where it is.
func TestSeveralSizesOfOnePicture(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.channel("sizes", settings.Settings{})
	key := s.key("sizes", api.NewKey{Protocol: "WebRTC"}).Secret
	p := open(t, browser.WithCamera()...)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/contribute/sizes?sizes&codec=video/H264#" + key))
	p.until(`!!document.querySelector("button.btn-primary") && !document.querySelector("button.btn-primary").disabled`)
	p.do(chromedp.Click(chromedp.CSS("button.btn-primary")))
	p.until(`!!document.querySelector("[data-phase=connected]")`)
	eventually(t, "on air in the largest size", func() bool {
		f := s.status("sizes").Feed
		return f != nil && len(f.Tracks) > 3 && f.Tracks[0].Height == 720
	})
	ready := func() (out []string) {
		for _, r := range s.status("sizes").Renditions {
			if r.Ready {
				out = append(out, r.Name)
			}
		}
		return out
	}
	eventually(t, "ready-made rungs", func() bool { return len(ready()) == 2 })
	require.Equal(t, []string{"360p", "180p"}, ready())
	// A browser on a machine that has other work leaves sizes out, and takes them up again: what is looked at is a stretch in
	// which it did not.
	var starts map[int64]map[string]time.Duration
	for range 5 {
		changes := s.changes()
		from := s.newest("sizes", "source")
		eventually(t, "a few segments", func() bool { return s.newest("sizes", "180p") >= from+4 || s.changes() != changes })
		starts = map[int64]map[string]time.Duration{}
		for _, name := range []string{"source", "360p", "180p"} {
			for _, e := range s.playlist("sizes", name).Whole() {
				if n := int64(e.MSN); n > from && n < from+4 {
					if starts[n] == nil {
						starts[n] = map[string]time.Duration{}
					}
					starts[n][name] = e.Duration
				}
			}
		}
		if s.changes() == changes {
			break
		}
		t.Log("the browser changed its sizes:", s.events())
		eventually(t, "all sizes again", func() bool { return s.status("sizes").Feed.Tracks[0].Height == 720 && len(ready()) == 2 })
	}
	require.Len(t, starts, 3)
	for n, of := range starts {
		assert.Len(t, of, 3, "segment %d: %v", n, of)
		assert.InDelta(t, of["source"], of["180p"], float64(20*time.Millisecond), "segment %d", n)
		assert.InDelta(t, of["source"], of["360p"], float64(20*time.Millisecond), "segment %d", n)
	}
	assert.Len(t, ready(), 2, "they stayed: %v", s.events())
	viewer := open(t)
	defer viewer.stop()
	viewer.do(chromedp.Navigate(s.http + "/watch/sizes"))
	viewer.until(`(v => v && v.videoWidth > 0 && v.currentTime > 1 && v.getVideoPlaybackQuality().totalVideoFrames > 20)(document.querySelector("video"))`)
}

// changes counts how often a sender changed what it sends, and what is made of it.
func (s *service) changes() (n int) {
	for _, e := range s.events() {
		switch e.Kind {
		case "feed-changed", "feed-begun", "feed-ended":
			n += int(max(e.Count, 1))
		}
	}
	return n
}
