package e2e

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/inspector"
	"metaplasis/internal/settings"
)

// formatLadder fits two processors beside a browser.
var formatLadder = []ladder.Rung{
	{Name: "source", On: true, Source: true},
	{Name: "240p", On: true, Height: 240, Bitrate: 350_000, Effort: 1},
	{Name: "180p", On: true, Height: 180, Bitrate: 250_000, Effort: 1, AudioBitrate: 64_000},
}

// formats starts a channel that is packaged in every way, and one of audio only.
func formats(t *testing.T) *service {
	s := start(t)
	set := settings.Settings{Packaging: settings.Packaging{Window: 10, Language: "en", SoundName: "Commentary"}, Outputs: settings.Outputs{TS: true, Selections: []settings.Selection{{Name: "phones", Rungs: []string{"180p"}}, {Name: "radio", SoundOnly: true}}}}
	s.send(0, camera.Options{URL: s.channel("start-line", set, formatLadder...), Captions: []string{"WIND 14 KNOTS", "FIRST GUN"}, Splices: 9 * time.Second})
	s.send(0, camera.Options{URL: s.channel("booth", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}, Outputs: settings.Outputs{TS: true}}), NoVideo: true})
	for _, path := range []string{"/media/start-line/index.mpd", "/media/start-line/ts.m3u8", "/media/start-line/radio.m3u8", "/media/booth/index.m3u8"} {
		eventually(t, path, func() bool { code, _, _ := s.get(path); return code == http.StatusOK })
	}
	return s
}

// player is one frame of a page of players.
type player struct {
	slug, way, rung string
	picture         bool
}

// Two pages of players: near the live edge, and further back.
var (
	lowWays = []player{
		{"start-line", "ll-hls", "240p", true},
		{"start-line", "ll-dash", "240p", true},
		{"booth", "ll-hls", "", false},
	}
	deepWays = []player{
		{"start-line", "hls", "180p", true},
		{"start-line", "dash", "180p", true},
		{"start-line", "ts", "180p", true},
		{"start-line", "native&rungs=phones", "", true},
		{"booth", "ts", "", false},
	}
)

// frameCollector reads each fourth picture of every player of the page.
func frameCollector() string {
	one := strings.Replace(collector, "const look = (_, m) => {", "let turn = 0;\n\tconst look = (_, m) => {\n\t\tif (turn++ % 4) return video.requestVideoFrameCallback(look);", 1)
	one = strings.NewReplacer("window.", "win.", "document.", "win.document.", "performance.", "win.performance.").Replace(one)
	return `for (const f of document.querySelectorAll("iframe")) { const win = f.contentWindow; ` + one + ` }`
}

// TestEveryFormatPlays plays and judges one channel in all of its formats.
func TestEveryFormatPlays(t *testing.T) {
	t.Parallel()
	s := formats(t)
	playTogether(t, s, lowWays, func(*page) {
		eventually(t, "viewers of parts and of a manifest counted", func() bool {
			v := s.status("start-line").Viewers
			return v["ll-hls"] == 1 && v["dash"] == 1
		})
	})
	inspectorPassesOurFormats(t, s)
	lowLatencyRequests(t, s)
	parsersOfOthers(t, s)
	playTogether(t, s, deepWays, func(p *page) {
		eventually(t, "all viewers counted", func() bool {
			v := s.status("start-line").Viewers
			return v["dash"] == 1 && v["hls-ts"] == 1 && v["hls"] == 2 // once the inspector is forgotten
		})
		// Captions of the source come through in an encoded rendition.
		p.until(`[...document.querySelectorAll("iframe")[0].contentWindow.document.querySelector("video").textTracks].flatMap(t => { t.mode = "hidden"; return [...(t.cues || [])].map(c => c.text); }).join("|").includes("WIND 14 KNOTS")`)
	})
}

// playTogether plays a page of players, each for a while, and does something meanwhile: pictures come in their order, and no
// player gives up.
func playTogether(t *testing.T, s *service, ways []player, meanwhile func(*page)) {
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/watch/start-line?as=native"))
	frames := ""
	for _, w := range ways {
		frames += fmt.Sprintf(`<iframe src="/embed/%s?as=%s&rung=%s" style="width:310px;height:190px;border:0" allow="autoplay"></iframe>`, w.slug, w.way, w.rung)
	}
	eval[chromedp.Void](p, fmt.Sprintf("document.body.style.cssText = 'display:grid;grid-template-columns:repeat(4,310px);grid-auto-rows:200px;margin:0'; document.body.innerHTML = %q", frames))
	p.until(`[...document.querySelectorAll("iframe")].every(f => (v => v && v.readyState >= 3 && v.currentTime > 1)(f.contentWindow.document.querySelector("video")))`)
	eval[chromedp.Void](p, frameCollector())
	meanwhile(p)
	p.until(`[...document.querySelectorAll("iframe")].every(f => { const v = f.contentWindow.document.querySelector("video"), ranges = [...Array(v.played.length).keys()];
		return ranges.reduce((sum, i) => sum + v.played.end(i) - v.played.start(i), 0) > 10; })`)
	for i, w := range ways {
		name := w.slug + " " + w.way
		assert.Empty(t, eval[string](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.playback.message`, i)), name)
		if w.picture {
			p.until(fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.frames_.filter(f => f.drawn >= 0).length > 15`, i))
			shown := eval[[]shown](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.frames_`, i))
			wrong, read := disorder(shown, demo.Loops[0].Frames)
			if strings.HasPrefix(w.way, "native") {
				// The browser's own player that falls behind goes on elsewhere without a word, and its times with it: its order is
				// judged where it plays alone (TestBrowsersOwnPlayerPlays).
				t.Logf("%s: %d pictures; %s", name, read, wrong)
				assert.Greater(t, read, 5, name)
				continue
			}
			assert.Empty(t, wrong, name)
			t.Logf("%s: %d pictures in order", name, read)
		}
	}
}

// inspectorPassesOurFormats lets the inspector judge everything that a channel offers.
func inspectorPassesOurFormats(t *testing.T, s *service) {
	var all sync.WaitGroup
	var mu sync.Mutex
	turn := make(chan struct{}, 3) // so many at a time
	for path, protocol := range map[string]string{
		"/media/start-line/index.m3u8": "low-latency HLS", "/media/start-line/phones.m3u8": "low-latency HLS", "/media/start-line/radio.m3u8": "low-latency HLS",
		"/media/start-line/ts.m3u8": "HLS", "/media/start-line/index.mpd": "DASH", "/media/start-line/low.mpd": "low-latency DASH", "/media/start-line/phones-low.mpd": "low-latency DASH",
		"/media/booth/index.m3u8": "low-latency HLS", "/media/booth/ts.m3u8": "HLS", "/media/booth/index.mpd": "DASH",
	} {
		all.Add(1)
		turn <- struct{}{}
		go func() {
			defer all.Done()
			r, err := inspector.Run(context.Background(), inspector.Options{Address: s.http + path, Follow: 5 * time.Second})
			<-turn
			mu.Lock()
			defer mu.Unlock()
			assert.NoError(t, err, path)
			assert.Equal(t, protocol, r.Protocol, path)
			assert.NotEmpty(t, r.Streams, path)
			for _, f := range r.Findings {
				if f.Level != inspect.Note {
					t.Errorf("%s: %s %s: %s, expected %s", path, f.Rule, f.Where, f.Found, f.Want)
				}
			}
		}()
	}
	all.Wait()
	out, code := s.command("inspect", s.http+"/media/start-line/index.m3u8", "--for", "2s")
	assert.Contains(t, out, "RENDITION")
	assert.Zero(t, code, out)
	_, code = s.command("inspect", s.http+"/media/nowhere/index.m3u8")
	assert.Equal(t, 1, code)
}

// lowLatencyRequests asks for what is still to come.
func lowLatencyRequests(t *testing.T, s *service) {
	at := "/media/start-line/240p/"
	read := func(query string) *hls.Playlist {
		code, b, h := s.get(at + "index.m3u8" + query)
		require.Equal(t, http.StatusOK, code, string(b))
		assert.Equal(t, "Accept-Encoding", h.Get("Vary"))
		p, err := hls.ReadMedia(b)
		require.NoError(t, err)
		return p
	}
	p := read("")
	assert.Equal(t, []any{true, true}, []any{p.CanBlock, p.PartTarget > 0})
	assert.Len(t, p.Reports, 4, "one for each other rendition")
	last := p.Entries[len(p.Entries)-1]
	next := read(fmt.Sprintf("?_HLS_msn=%d&_HLS_part=0", last.MSN+1))
	newest := next.Entries[len(next.Entries)-1]
	assert.GreaterOrEqual(t, newest.MSN, last.MSN+1)
	// The part that the playlist hints at is answered when it is there.
	for _, h := range next.Hints {
		code, b, _ := s.get(at + h.URI)
		assert.True(t, code == http.StatusOK && len(b) > 0 || code == http.StatusNotFound, "%s: %d", h.URI, code)
	}
	// A segment is sent while it is made, byte for byte what its parts are.
	p = read(fmt.Sprintf("?_HLS_msn=%d", newest.MSN))
	open := p.MediaSequence + uint64(len(p.Whole()))
	code, early, _ := s.get(at + fmt.Sprintf("%d.m4s", open))
	require.Equal(t, http.StatusOK, code)
	_, whole, _ := s.get(at + fmt.Sprintf("%d.m4s", open))
	assert.Equal(t, whole, early)
	var parts []byte
	for n := 0; ; n++ {
		code, b, _ := s.get(at + fmt.Sprintf("%d.%d.m4s", open, n))
		if code != http.StatusOK {
			break
		}
		parts = append(parts, b...)
	}
	assert.Equal(t, whole, parts)
	eventually(t, "the oldest of ten segments are skipped", func() bool {
		delta := read("?_HLS_skip=YES")
		return delta.Skipped > 0 && delta.Version == 9
	})
	for query, want := range map[string]int{"?_HLS_msn=x": 400, "?_HLS_part=1": 400, "?_HLS_msn=1&_HLS_part=-1": 400, fmt.Sprintf("?_HLS_msn=%d", open+50): 400, "?_HLS_skip=maybe": 400, "?_HLS_msn=1": 200} {
		code, _, _ := s.get(at + "index.m3u8" + query)
		assert.Equal(t, want, code, query)
	}
}

// TestPlaylistsEndWithTheirSenderAndTheirChannel: a playlist stays when its sender goes, waiting
// requests are let go within their bound, and only a closed channel ends.
func TestPlaylistsEndWithTheirSenderAndTheirChannel(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	url := s.channel("booth", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 500}}, ladder.Rung{Name: "source", On: true, Source: true})
	stop := s.send(0, camera.Options{URL: url, NoVideo: true})
	eventually(t, "a playlist", func() bool { return s.newest("booth", "audio") >= 3 })
	stop()
	eventually(t, "no sender", func() bool { return s.status("booth").Feed == nil })
	at := "/media/booth/audio/index.m3u8"
	code, b, _ := s.get(at)
	require.Equal(t, 200, code)
	p, err := hls.ReadMedia(b)
	require.NoError(t, err)
	assert.Empty(t, p.Hints, "nothing is to be expected")
	assert.False(t, p.Ended)
	begin := time.Now()
	code, _, _ = s.get(fmt.Sprintf("%s?_HLS_msn=%d", at, s.newest("booth", "audio")+1))
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Less(t, time.Since(begin), 10*time.Second)
	out, exit := s.command("channels", "change", "booth", "--end-stream")
	require.Zero(t, exit, out)
	_, b, _ = s.get(at)
	assert.Contains(t, string(b), "#EXT-X-ENDLIST")
	_, b, _ = s.get("/media/booth/index.mpd")
	var m dash.MPD
	require.NoError(t, m.Unmarshal(b))
	assert.Equal(t, "static", m.Type)
	clip, err := camera.Load(demo.Loops[0].FLV)
	require.NoError(t, err)
	assert.Error(t, camera.Run(context.Background(), clip, camera.Options{URL: url, NoVideo: true, Loops: 1}), "a closed channel admits nobody")
	_, exit = s.command("channels", "change", "booth", "--end-stream=false")
	require.Zero(t, exit)
	before := s.newest("booth", "audio")
	s.send(0, camera.Options{URL: url, NoVideo: true})
	eventually(t, "it goes on", func() bool { return s.newest("booth", "audio") > before })
	_, b, _ = s.get(at)
	assert.NotContains(t, string(b), "#EXT-X-ENDLIST")
	assert.Contains(t, string(b), "#EXT-X-DISCONTINUITY\n")
}

// TestTwoOriginsCutTheSameSegments: with alignment to the wall clock, two origins with one source
// have the same names for the same bytes.
func TestTwoOriginsCutTheSameSegments(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	set := settings.Settings{Packaging: settings.Packaging{Aligned: true}} // segments as long as the camera's keyframes are apart
	from := uint32(time.Now().UnixMilli())                                 // a sender whose stamps are the wall clock's
	clip, err := camera.Load(demo.Loops[0].FLV)
	require.NoError(t, err)
	for _, slug := range []string{"here", "there"} {
		url := s.channel(slug, set, ladder.Rung{Name: "source", On: true, Source: true})
		ctx, cancel := context.WithCancel(context.Background())
		t.Cleanup(cancel)
		go func() { _ = camera.Run(ctx, clip, camera.Options{URL: url, From: from}) }()
		eventually(t, "a sender, before the second origin joins", func() bool { return s.status(slug).Feed != nil })
	}
	eventually(t, "both", func() bool { return s.newest("here", "source") > 0 && s.newest("there", "source") > 0 })
	first := s.newest("there", "source")
	eventually(t, "more", func() bool { return s.newest("here", "source") > first+1 && s.newest("there", "source") > first+1 })
	assert.InDelta(t, time.Now().Unix()/2, first, 15, "numbers count steps since 1970")
	for _, rendition := range []string{"source", "audio"} {
		name := fmt.Sprintf("/%s/%d.m4s", rendition, first+1)
		_, a, _ := s.get("/media/here" + name)
		_, b, _ := s.get("/media/there" + name)
		require.NotEmpty(t, a)
		assert.Equal(t, len(a), len(b))
		if string(a) != string(b) {
			for i := range a {
				if a[i] != b[i] {
					t.Fatalf("%s: byte %d of %d differs: %q and %q", name, i, len(a), a[max(0, i-40):i+8], b[max(0, i-40):i+8])
				}
			}
		}
	}
}

// TestMarkersAndTimedMetadata follows what an engineer says into every format.
func TestMarkersAndTimedMetadata(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := formats(t)
	out, code := s.command("channels", "mark", "start-line", "Starting signal", "--class", "start", "--lasts", "3s")
	require.Zero(t, code, out)
	out, code = s.command("channels", "playing", "start-line", "Race 3", "--artist", "Kestrel Bay Regatta")
	require.Zero(t, code, out)
	var list string
	eventually(t, "marker and splice in the playlist", func() bool {
		_, b, _ := s.get("/media/start-line/240p/index.m3u8")
		list = string(b)
		return strings.Contains(list, "Starting signal") && strings.Contains(list, "SCTE35-OUT=0xFC")
	})
	assert.Regexp(t, regexp.MustCompile(`#EXT-X-DATERANGE:ID="m\d+-1",CLASS="start",START-DATE="[^"]+",DURATION=3\.000,X-TEXT="Starting signal"`), list)
	eventually(t, "the way back completes the splice", func() bool {
		_, b, _ := s.get("/media/start-line/240p/index.m3u8")
		return strings.Contains(string(b), "SCTE35-IN=0xFC")
	})
	shown, _ := s.command("channels", "show", "start-line")
	assert.Contains(t, shown, "captions CC1, SCTE 35", "timed data stands among the tracks")
	_, b, _ := s.get("/media/start-line/index.mpd")
	assert.Contains(t, string(b), "start: Starting signal")
	assert.Contains(t, string(b), "<Binary>/D")
	assert.Contains(t, string(b), `value="CC1=en"`)
	_, b, _ = s.get("/media/start-line/index.m3u8")
	assert.Contains(t, string(b), `TYPE=CLOSED-CAPTIONS,GROUP-ID="captions",NAME="Captions"`)
	assert.Contains(t, string(b), `NAME="Commentary",DEFAULT=YES,AUTOSELECT=YES,LANGUAGE="en"`)
	eventually(t, "ID3 in a transport stream", func() bool {
		_, b, _ := s.get("/media/start-line/180p/" + fmt.Sprintf("%d.ts", s.newest("start-line", "180p")))
		stream, err := ts.Read(b)
		require.NoError(t, err)
		meta := stream.First(ts.TypeID3)
		return len(meta.PES) > 0 && strings.Contains(string(meta.PES[0].Data), "Kestrel Bay Regatta")
	})
	_, b, _ = s.get("/media/start-line/240p/" + fmt.Sprintf("%d.m4s", s.newest("start-line", "240p")))
	assert.Contains(t, string(b), "https://aomedia.org/emsg/ID3")
	out, code = s.command("channels", "mark", "start-line", " ")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "expected some words")
}
