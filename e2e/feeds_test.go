package e2e

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo/feeds"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/inspector"
	"metaplasis/internal/settings"
)

// sideBySide is how many kinds of feed are sent, inspected and played at a time.
const sideBySide = 5

// TestEveryKindOfFeed sends every kind of feed that encoders make, follows it with the inspector, and
// plays it in Chromium: the numbers in the pictures go up, whatever the feed's rate, structure,
// timestamps, headers and interleaving are.
func TestEveryKindOfFeed(t *testing.T) {
	t.Parallel()
	s := start(t)
	kinds := feeds.Kinds()
	if only := os.Getenv("KINDS"); only != "" { // KINDS="open GOP,lossless" looks at some
		kinds = nil
		for _, k := range feeds.Kinds() {
			if strings.Contains(","+only+",", ","+k.Name+",") {
				kinds = append(kinds, k)
			}
		}
	}
	for len(kinds) > 0 {
		n := min(sideBySide, len(kinds))
		playKinds(t, s, kinds[:n])
		kinds = kinds[n:]
	}
}

// trial is one kind on its way.
type trial struct {
	kind feeds.Kind
	feed *feeds.Feed
	slug string
	rung string
	stop context.CancelFunc
	done chan struct{}
	err  error
}

func playKinds(t *testing.T, s *service, kinds []feeds.Kind) {
	p := open(t)
	defer p.stop()
	var trials []*trial
	ctx := context.Background()
	for _, k := range kinds {
		f, err := feeds.Make(k)
		require.NoError(t, err)
		tr := &trial{kind: k, feed: f, slug: slugOf(k.Name), rung: k.Rung, done: make(chan struct{})}
		rungs := []ladder.Rung{sourceOnly}
		if k.Rung != "" || k.Profile != "" || k.Width > 0 || len(k.Options) > 0 || len(k.Durations) > 0 { // its pictures are of a kind of their own
			rungs = append(rungs, ladder.Rung{Name: "low", On: true, Height: 144, Bitrate: 250_000, Effort: 1})
		}
		if tr.rung == "" {
			tr.rung = "source"
		}
		url := s.channel(tr.slug, settings.Settings{}, rungs...)
		var send context.Context
		send, tr.stop = context.WithCancel(ctx)
		go func() {
			defer close(tr.done)
			tr.err = f.Send(send, url, 20)
		}()
		trials = append(trials, tr)
	}
	defer func() {
		for _, tr := range trials {
			tr.stop()
			<-tr.done
			assert.NoError(t, tr.err, tr.kind.Name)
			assert.NoError(t, s.api.RemoveChannel(ctx, tr.slug))
		}
	}()
	for _, tr := range trials {
		eventually(t, tr.kind.Name+": the rung that plays", func() bool {
			for _, r := range s.status(tr.slug).Renditions {
				if r.Name == tr.rung && r.Segments > 1 {
					return true
				}
			}
			return false
		})
	}
	var all sync.WaitGroup
	for _, tr := range trials {
		all.Add(1)
		go func() {
			defer all.Done()
			tr.inspect(t, s)
		}()
	}
	tr := trials
	frames := ""
	for _, tr := range tr {
		if !tr.kind.Silent {
			frames += fmt.Sprintf(`<iframe src="/embed/%s?as=hls&rung=%s" style="width:330px;height:200px;border:0" allow="autoplay"></iframe>`, tr.slug, tr.rung)
		}
	}
	p.do(chromedp.Navigate(s.http + "/embed/none"))
	eval[chromedp.Void](p, fmt.Sprintf("document.body.style.cssText = 'display:grid;grid-template-columns:repeat(3,330px);margin:0'; document.body.innerHTML = %q", frames))
	p.until(`[...document.querySelectorAll("iframe")].every(f => (v => v && v.readyState >= 3 && v.currentTime > 0)(f.contentWindow.document.querySelector("video")))`)
	eval[chromedp.Void](p, strings.Replace(frameCollector(), "turn++ % 4", "turn++ % 2", 1))
	i := 0
	for _, tr := range trials {
		if !tr.kind.Silent {
			p.until(fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.frames_.filter(x => x.drawn >= 0 || %v).length > 8`, i, tr.kind.Unread))
			i++
		}
	}
	all.Wait()
	i = 0
	for _, tr := range trials {
		if tr.kind.Silent {
			continue
		}
		list := eval[[]shown](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.frames_ || []`, i))
		message := eval[string](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.playback?.message ?? "no player"`, i))
		i++
		wrong, read := disorder(list, tr.feed.Pictures)
		if tr.kind.Unread {
			wrong, read = "", len(list)
		}
		assert.Empty(t, wrong, "%s", tr.kind.Name)
		assert.Greater(t, read, 4, "%s: readable pictures of %d; the player says %q, the channel %v", tr.kind.Name, len(list), message, s.status(tr.slug).Problems)
	}
	for _, tr := range trials {
		if tr.kind.Expect != "" {
			eventually(t, tr.kind.Name+": the event "+tr.kind.Expect, func() bool {
				for _, e := range s.events() {
					if e.Channel == tr.slug && e.Kind == tr.kind.Expect {
						return true
					}
				}
				return false
			})
		}
	}
}

// disorder says what is wrong with the order of the numbers shown, "" when nothing is, and how many
// pictures could be read.
func disorder(list []shown, pictures int) (wrong string, read int) {
	last, at := -1, -1.0
	for _, f := range list {
		if f.Drawn < 0 {
			continue
		}
		if f.Drawn != last {
			read++ // the same again: a page that was late saw the next picture, or a worker without time showed one again
		}
		const near = 2 // seconds: behind a jump of the player's the numbers start over
		if last >= 0 && f.Time > at && f.Time < at+near {
			if ahead := (f.Drawn - last + pictures) % pictures; ahead > pictures/2 {
				return fmt.Sprintf("picture %d at %.3f s came behind %d at %.3f s", f.Drawn, f.Time, last, at), read
			}
		}
		last, at = f.Drawn, f.Time
	}
	return "", read
}

func slugOf(name string) string {
	b := []byte(strings.ToLower(name))
	for i := range b {
		if (b[i] < 'a' || b[i] > 'z') && (b[i] < '0' || b[i] > '9') {
			b[i] = '-'
		}
	}
	return strings.Trim(string(b), "-")
}

func (tr *trial) inspect(t *testing.T, s *service) {
	for _, file := range []string{"index.m3u8", "low.mpd"} {
		r, err := inspector.Run(context.Background(), inspector.Options{Address: s.http + "/media/" + tr.slug + "/" + file, Follow: 3 * time.Second})
		if !assert.NoError(t, err, "%s %s", tr.kind.Name, file) {
			continue
		}
		for _, f := range r.Findings {
			if f.Level == inspect.Breaks && !tr.kind.MayBreak {
				t.Errorf("%s %s: %s at %s: found %s, expected %s", tr.kind.Name, file, f.Rule, f.Where, f.Found, f.Want)
			}
		}
	}
}
