package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/e2e/browser"
	"metaplasis/e2e/impair"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/hooks"
	"metaplasis/internal/settings"
)

// windowed are settings for a channel of some inputs with a window that holds a test.
func windowed(inputs ...string) settings.Settings {
	set := settings.Settings{Packaging: settings.Packaging{Window: 20}}
	for _, in := range inputs {
		set.Inputs = append(set.Inputs, settings.ParseInput(in))
	}
	return set
}

// TestBadLines sends over lines that lose, delay and reorder: SRT loses no picture, the others go on. Its latency leaves time for
// a machine that is busy with other work.
func TestBadLines(t *testing.T) {
	t.Parallel()
	s := start(t)
	committee, harbour := &demo.Others[2], &demo.Others[0]
	relay := func(listen, target string, l impair.Line) *impair.Relay {
		r, err := impair.Start(listen, target, l)
		require.NoError(t, err)
		t.Cleanup(r.Close)
		return r
	}
	port := func() int { return freePort(t) }
	udp, rtp := port(), port()
	half := 25 * time.Millisecond
	srtLine := relay("127.0.0.1:0", strings.TrimPrefix(s.srt, "srt://"), impair.Line{Loss: 0.05, Delay: half, Seed: 1})
	udpLine := relay("127.0.0.1:0", fmt.Sprintf("127.0.0.1:%d", udp), impair.Line{Loss: 0.01, Seed: 2})
	rtpLine := relay("127.0.0.1:0", fmt.Sprintf("127.0.0.1:%d", rtp), impair.Line{Loss: 0.01, Delay: half, Jitter: 10 * time.Millisecond, Duplicate: 0.02, Seed: 3})
	media := s.webrtc[strings.LastIndexByte(s.webrtc, ':'):]
	rtcLine := relay("127.0.0.2"+media, "127.0.0.1"+media, impair.Line{Loss: 0.05, Delay: half, Seed: 4})
	lines := []struct {
		name, input, to string
		loop            *demo.Loop
		relay           *impair.Relay
		share           float64 // of the pictures that must arrive
	}{
		{"srt", "sender", fmt.Sprintf("srt://%s?latency=4000&streamid=srt/KEY", srtLine.Addr), committee, srtLine, 1},
		{"udp", fmt.Sprintf("udp://127.0.0.1:%d", udp), fmt.Sprintf("udp://%s", udpLine.Addr), committee, udpLine, 0.8},
		{"rtp", fmt.Sprintf("rtp://127.0.0.1:%d", rtp), fmt.Sprintf("rtp://%s", rtpLine.Addr), committee, rtpLine, 0.8},
		{"whip", "sender", s.throughRelay("127.0.0.2") + "/whip/whip?key=KEY", harbour, rtcLine, 0.8},
	}
	for _, l := range lines {
		s.channel(l.name, windowed(l.input), sourceOnly)
		s.sendLoop(l.loop, camera.Options{URL: strings.ReplaceAll(l.to, "KEY", s.key(l.name, api.NewKey{}).Secret), Name: l.name, Retry: time.Second})
	}
	for _, l := range lines {
		eventually(t, l.name+" goes on", func() bool { return s.newest(l.name, "source") >= 7 })
		p := s.playlist(l.name, "source")
		var span time.Duration
		for _, e := range p.Whole() {
			span += e.Duration
		}
		out := s.made(l.name, l.loop)
		sent := int(span * 30 / time.Second)
		t.Logf("%-5s %4d of %5d packets lost, %3d of %3d pictures came", l.name, l.relay.Lost.Load(), l.relay.Carried.Load(), out.pictures, sent)
		assert.Positive(t, l.relay.Lost.Load(), l.name)
		assert.GreaterOrEqual(t, float64(out.pictures), l.share*float64(sent)-1, l.name)
		if l.share == 1 {
			assert.Empty(t, out.wrong, l.name)
		}
		st := s.status(l.name)
		assert.NotNil(t, st.Feed, "%s is still connected", l.name)
	}
	st := s.status("srt").Inputs[0].Line.SRT
	require.NotNil(t, st)
	assert.Positive(t, st.Lost)
	assert.Zero(t, st.Dropped)
	assert.GreaterOrEqual(t, st.RTT, 2*half.Microseconds()*9/10, "the delay of the line, both ways")
	assert.Positive(t, s.status("udp").Inputs[0].Line.TS.Continuity)
	assert.Positive(t, s.status("rtp").Inputs[0].Line.RTP.Lost)
}

// throughRelay is the service's HTTP address for WebRTC senders, with answers in which another address stands for the
// media's, and offers without addresses of the sender, so that nothing goes beside the relay there.
func (s *service) throughRelay(host string) string {
	candidates := regexp.MustCompile(`(?m)^a=candidate:.*\r\n`)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		req, err := http.NewRequest(r.Method, s.http+r.URL.String(), strings.NewReader(candidates.ReplaceAllString(string(b), "")))
		if err != nil {
			return
		}
		req.Header = r.Header.Clone()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer func() { _ = res.Body.Close() }()
		answer, _ := io.ReadAll(res.Body)
		for k, v := range res.Header {
			w.Header()[k] = v
		}
		w.Header().Del("Content-Length")
		w.WriteHeader(res.StatusCode)
		_, _ = io.WriteString(w, strings.ReplaceAll(string(answer), " 127.0.0.1 ", " "+host+" "))
	}))
	s.t.Cleanup(server.Close)
	return server.URL
}

// TestGuestContributes opens the page for guests in Chromium, with a made-up camera, and watches it in another.
func TestGuestContributes(t *testing.T) {
	t.Parallel()
	s := start(t)
	for _, codec := range []string{"H264", "VP8"} {
		slug := strings.ToLower(codec)
		rung := sourceOnly
		if codec == "VP8" { // no browser plays it in CMAF
			rung = ladder.Rung{Name: "source", On: true, Height: 360, Bitrate: 600_000, Effort: 1}
		}
		s.channel(slug, settings.Settings{}, rung)
		key := s.key(slug, api.NewKey{Protocol: "WebRTC", Label: "guest"})
		p := open(t, browser.WithCamera()...)
		p.do(chromedp.Navigate(fmt.Sprintf("%s/contribute/%s?codec=video/%s#%s", s.http, slug, codec, key.Secret)))
		p.until(`!!document.querySelector("button.btn-primary") && !document.querySelector("button.btn-primary").disabled`)
		p.do(chromedp.Click(chromedp.CSS("button.btn-primary")))
		p.until(`!!document.querySelector("[data-phase=connected]")`)
		eventually(t, codec+" on air", func() bool { return s.newest(slug, "source") >= 3 })
		st := s.status(slug)
		require.NotNil(t, st.Feed)
		assert.Equal(t, "WebRTC", st.Feed.Protocol)
		labels := map[string]string{"H264": "H.264", "VP8": "VP8"}
		assert.Equal(t, labels[codec], st.Feed.Tracks[0].Label)
		assert.Equal(t, "Opus", st.Feed.Tracks[1].Label)
		viewer := open(t)
		eval[chromedp.Void](p, `[...document.querySelectorAll("label")].find(l => l.textContent.includes("viewers see")).querySelector("input").click()`)
		p.until(`(v => v && v.videoWidth > 0 && v.currentTime > 0.5)(document.querySelector("[data-beside] video"))`)
		viewer.do(chromedp.Navigate(s.http + "/watch/" + slug))
		viewer.until(`(v => v && v.videoWidth > 0 && v.currentTime > 1 && v.getVideoPlaybackQuality().totalVideoFrames > 20)(document.querySelector("video"))`)
		viewer.stop()
		// The page leaves, and the channel hears it at once.
		p.do(chromedp.Click(chromedp.CSS("button.btn-error")))
		eventually(t, "the guest is gone", func() bool { return s.status(slug).Feed == nil })
		p.stop()
	}
	p := open(t)
	p.do(chromedp.Navigate(s.http + "/contribute/h264"))
	p.until(`document.body.textContent.includes("The link has no key")`)
}

// TestSRTWithAnIndependentPeer lets the library's own program send, and receive the stream untouched.
func TestSRTWithAnIndependentPeer(t *testing.T) {
	t.Parallel()
	s := start(t)
	set := windowed("sender")
	set.Receivers, set.Passphrase = true, "kestrel-bay-regatta"
	s.channel("wall", set, sourceOnly)
	pull := freePort(t)
	s.channel("called", windowed(fmt.Sprintf("srt://127.0.0.1:%d", pull)), sourceOnly)
	key := s.key("wall", api.NewKey{Protocol: "SRT"}).Secret
	run := func(from, to string) { // it ends with its connection, and is started again
		ctx, cancel := context.WithCancel(context.Background())
		over := make(chan struct{})
		go func() {
			defer close(over)
			for ctx.Err() == nil {
				_ = exec.CommandContext(ctx, "srt-live-transmit", "-q", "-a:no", from, to).Run()
			}
		}()
		t.Cleanup(func() { cancel(); <-over })
	}
	receiving := s.key("wall", api.NewKey{Receives: true}).Secret
	id := func(mode, key string) string { return url.QueryEscape("#!::r=wall,m=" + mode + ",u=" + key) }
	feed, other, out := freePort(t), freePort(t), freePort(t)
	run(fmt.Sprintf("udp://127.0.0.1:%d", feed), s.srt+"?mode=caller&passphrase=kestrel-bay-regatta&streamid="+id("publish", key))
	run(fmt.Sprintf("udp://127.0.0.1:%d", other), fmt.Sprintf("srt://127.0.0.1:%d?mode=listener", pull))
	for _, p := range []int{feed, other} {
		s.sendLoop(&demo.Others[2], camera.Options{URL: fmt.Sprintf("udp://127.0.0.1:%d", p), Name: "Committee boat"})
	}
	for _, slug := range []string{"wall", "called"} {
		eventually(t, slug+" on air", func() bool { return s.newest(slug, "source") >= 3 })
		assert.Empty(t, s.made(slug, &demo.Others[2]).wrong, slug)
	}
	assert.True(t, s.status("wall").Inputs[0].Line.SRT.Encrypted)

	// A receiver takes the same packets out, all tables and tracks in them.
	run(s.srt+"?mode=caller&passphrase=kestrel-bay-regatta&streamid="+id("request", receiving), fmt.Sprintf("udp://127.0.0.1:%d", out))
	got := &heardStream{}
	got.d = ts.NewDemuxer(got)
	stop := got.listen(t, out)
	defer stop()
	eventually(t, "the stream at the receiver", func() bool {
		got.mu.Lock()
		defer got.mu.Unlock()
		return len(got.list) == 1 && len(got.list[0].Tracks) == 4 && got.pes > 100
	})
	got.mu.Lock()
	assert.Equal(t, "Committee boat", got.list[0].Name)
	assert.Zero(t, got.d.Health.Continuity)
	got.mu.Unlock()

	// Who has no key, or the wrong passphrase, or asks where nothing is handed out, is told so.
	for to, want := range map[string]string{
		s.srt + "?streamid=wall/wrong&passphrase=kestrel-bay-regatta":                                            "the key is wrong",
		s.srt + "?streamid=nowhere/" + key:                                                                       "it has no such channel",
		s.srt + "?streamid=wall/" + key + "&passphrase=not-this-passphrase":                                      "the passphrase is wrong",
		s.srt + "?passphrase=kestrel-bay-regatta&streamid=" + id("publish", receiving):                           "does not let",
		s.srt + "?streamid=" + url.QueryEscape("#!::r=called,m=request,u="+s.key("called", api.NewKey{}).Secret): "does not let",
	} {
		eventually(t, want, func() bool {
			out, _ := s.command("camera", "--loop", "committee", "--times", "1", "--to", to)
			return strings.Contains(out, want)
		})
	}
}

// heardStream demultiplexes what comes to a port.
type heardStream struct {
	mu   sync.Mutex
	d    *ts.Demuxer
	list []ts.Programme
	pes  int
}

func (h *heardStream) Programmes(list []ts.Programme) {
	h.list = list
	for _, p := range list {
		for i := range p.Tracks {
			h.d.Follow(&p.Tracks[i])
		}
	}
}
func (h *heardStream) PES(int, ts.PES)     { h.pes++ }
func (h *heardStream) Section(int, []byte) {}
func (h *heardStream) Lost(int)            {}

func (h *heardStream) listen(t *testing.T, port int) (stop func()) {
	c := listenUDP(t, port)
	go func() {
		buf := make([]byte, 2048)
		for {
			n, err := c.Read(buf)
			if err != nil {
				return
			}
			h.mu.Lock()
			h.d.Write(buf[:n], 0)
			h.mu.Unlock()
		}
	}()
	return func() { _ = c.Close() }
}

// TestProgrammesBecomeChannels receives a truck's stream once; each of its two programmes feeds a channel.
func TestProgrammesBecomeChannels(t *testing.T) {
	t.Parallel()
	s := start(t)
	group := fmt.Sprintf("udp://239.255.99.1:%d?interface=lo", freePort(t))
	programmes := []camera.Programme{}
	for i, loop := range []*demo.Loop{&demo.Others[2], &demo.Loops[1]} {
		clip, err := camera.Load(loop.FLV)
		require.NoError(t, err)
		programmes = append(programmes, camera.Programme{Number: 10 * (i + 1), Name: loop.Title, Clip: clip})
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() { _ = camera.RunProgrammes(ctx, programmes, camera.Options{URL: group}) }()
	s.channel("truck", windowed(group), sourceOnly)
	eventually(t, "the programmes are found", func() bool {
		l := s.status("truck").Inputs[0].Line
		return l != nil && len(l.Programmes) == 2 && l.Programme == 10
	})
	out, code := s.command("channels", "create", "second", "--inputs", "programme:truck#Chase boat")
	require.Zero(t, code, out)
	s.channel("third", windowed(group+"#20"), sourceOnly)
	s.channel("none", windowed(group+"#77"), sourceOnly)
	for _, slug := range []string{"truck", "second", "third"} {
		eventually(t, slug+" on air", func() bool { return s.newest(slug, "source") >= 2 })
	}
	assert.Empty(t, s.made("truck", &demo.Others[2]).wrong)
	assert.Empty(t, s.made("second", &demo.Loops[1]).wrong)
	assert.Empty(t, s.made("third", &demo.Loops[1]).wrong)
	eventually(t, "what is wrong with the last", func() bool { return s.status("none").Inputs[0].Problem != "" })
	assert.Contains(t, s.status("none").Inputs[0].Problem, `no programme "77"; it has 10 Committee boat, 20 Chase boat`)
	out, code = s.command("channels", "change", "truck", "--inputs", group+"#20")
	require.Zero(t, code, out)
	before := s.newest("truck", "source")
	eventually(t, "the other programme", func() bool {
		l := s.status("truck").Inputs[0].Line
		return l != nil && l.Programme == 20 && s.newest("truck", "source") > before+2
	})
}

// TestOneStandsInForAnother takes the primary away and brings it back, for pairs of protocols: viewers see one
// discontinuity each time.
func TestOneStandsInForAnother(t *testing.T) {
	t.Parallel()
	s := start(t, "--studio", "lo")
	port, pull := freePort(t), freePort(t)
	udp := fmt.Sprintf("udp://127.0.0.1:%d", port)
	for _, c := range []struct{ slug, first, second, to, backup string }{
		{"srt-rtmp", "sender", "sender:backup", "srt://" + strings.TrimPrefix(s.srt, "srt://") + "?streamid=srt-rtmp/KEY", s.rtmp + "/in/srt-rtmp/BACKUP"},
		{"udp-rtsp", udp, "sender", udp, s.rtsp + "/in/udp-rtsp?key=BACKUP"},
		{"studio-rtmp", "studio:Mast", "sender", "studio://239.20.12.1:5012?interface=lo&name=Mast", s.rtmp + "/in/studio-rtmp/BACKUP"},
		{"rtsp-udp", fmt.Sprintf("rtsp://127.0.0.1:%d/deck", pull), "sender", fmt.Sprintf("rtsp://127.0.0.1:%d/?mode=listener", pull), s.srt + "?streamid=rtsp-udp/BACKUP"},
		{"http-whip", "sender", "sender:backup", s.http + "/in/http-whip?key=KEY", s.http + "/whip/http-whip?key=BACKUP"},
	} {
		t.Run(c.slug, func(t *testing.T) {
			t.Parallel()
			s.channel(c.slug, windowed(c.first, c.second), sourceOnly)
			name := ""
			if strings.Contains(c.second, ":") {
				name = "backup"
			}
			backup := strings.ReplaceAll(c.backup, "BACKUP", s.key(c.slug, api.NewKey{Input: name}).Secret)
			loop := &demo.Others[2]
			if strings.Contains(backup, "/whip/") {
				loop = &demo.Others[0]
			}
			primary := strings.ReplaceAll(c.to, "KEY", s.key(c.slug, api.NewKey{}).Secret)
			send := func() func() {
				return s.sendLoop(&demo.Others[2], camera.Options{URL: primary, Retry: 300 * time.Millisecond})
			}
			onAir := func(n int) func() bool {
				return func() bool { in := s.status(c.slug).Inputs; return in[n].OnAir }
			}
			stop := send()
			eventually(t, "the primary", func() bool { return onAir(0)() && s.newest(c.slug, "source") >= 2 })
			s.sendLoop(loop, camera.Options{URL: backup, Retry: 300 * time.Millisecond})
			eventually(t, "the backup stands by", func() bool { return s.status(c.slug).Inputs[1].Standby == 1 })
			stop()
			gone := time.Now()
			eventually(t, "the backup on air", onAir(1))
			t.Logf("%s: the backup was on air %v after the primary left", c.slug, time.Since(gone).Round(time.Millisecond))
			before := s.newest(c.slug, "source")
			eventually(t, "segments of it", func() bool { return s.newest(c.slug, "source") >= before+2 })
			send()
			eventually(t, "the primary again", onAir(0))
			before = s.newest(c.slug, "source")
			eventually(t, "segments of it", func() bool { return s.newest(c.slug, "source") >= before+2 })
			breaks := 0
			list := s.playlist(c.slug, "source")
			for _, e := range list.Entries {
				if e.Discontinuity {
					breaks++
				}
			}
			assert.Equal(t, 2, int(list.DiscontinuitySequence)+breaks, "one each time")
			kinds := map[string]bool{}
			for _, e := range s.events() {
				if e.Channel == c.slug {
					kinds[e.Kind] = true
				}
			}
			assert.True(t, kinds["feed-standby"] && kinds["feed-on-air"], "%v", kinds)
		})
	}
}

// TestKeysEnd revokes keys while they are used, over every protocol that takes them, and lets one expire.
func TestKeysEnd(t *testing.T) {
	t.Parallel()
	s := start(t)
	for name, to := range map[string]string{
		"rtmp": s.rtmp + "/in/rtmp/KEY", "srt": s.srt + "?streamid=srt/KEY", "rtsp": s.rtsp + "/in/rtsp?key=KEY",
		"whip": s.http + "/whip/whip?key=KEY", "http": s.http + "/in/http?key=KEY", "http-ts": s.http + "/in/http-ts/a.ts?key=KEY", "expires": s.srt + "?streamid=expires/KEY",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s.channel(name, settings.Settings{}, sourceOnly)
			var k api.Key
			if name == "expires" {
				ends := time.Now().Add(6 * time.Second)
				k = s.key(name, api.NewKey{Expires: &ends})
			} else {
				k = s.key(name, api.NewKey{})
			}
			loop := &demo.Others[2]
			if name == "whip" {
				loop = &demo.Others[0]
			}
			s.sendLoop(loop, camera.Options{URL: strings.ReplaceAll(to, "KEY", k.Secret), Retry: 200 * time.Millisecond})
			eventually(t, "on air", func() bool { return s.status(name).Feed != nil })
			want := "its contribution key has expired"
			if name != "expires" {
				want = "its contribution key was removed"
				require.NoError(t, s.api.RemoveKey(context.Background(), name, k.ID))
			}
			eventually(t, "cut off", func() bool { st := s.status(name); return st.Feed == nil && st.LastFeed != nil })
			assert.Equal(t, want, s.status(name).LastFeed.Reason)
		})
	}
}

// TestHooksAreTold lets a program hear of a feed and of what is on air, and decide on senders.
func TestHooksAreTold(t *testing.T) {
	t.Parallel()
	s := start(t)
	var mu sync.Mutex
	heard := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var h hooks.Happening
		b, _ := io.ReadAll(r.Body)
		_ = json.Unmarshal(b, &h)
		mu.Lock()
		heard[h.Event+" "+h.Channel]++
		mu.Unlock()
		if h.Event == hooks.Admission && h.Channel == "closed" {
			http.Error(w, "not in the programme", http.StatusForbidden)
		}
	}))
	defer server.Close()
	out, code := s.command("hooks", "add", "--url", server.URL, "--label", "desk")
	require.Zero(t, code, out)
	assert.Regexp(t, `Secret +\w{16}`, out)
	out, code = s.command("hooks", "add", "--url", server.URL, "--events", "admission")
	require.Zero(t, code, out)
	for args, want := range map[string]string{"--command note": "--hook-commands", "--url ftp://x": "expected http", "--url " + server.URL + " --events no": "expected one of"} {
		out, code = s.command(append([]string{"hooks", "add"}, strings.Fields(args)...)...)
		assert.NotZero(t, code)
		assert.Contains(t, out, want)
	}
	out, code = s.command("hooks", "test", "1")
	assert.Zero(t, code)
	assert.Contains(t, out, "It took the call")
	url := s.channel("line", settings.Settings{}, sourceOnly)
	stop := s.sendLoop(&demo.Others[2], camera.Options{URL: url})
	was := func(what string) func() bool {
		return func() bool { mu.Lock(); defer mu.Unlock(); return heard[what] > 0 }
	}
	for _, what := range []string{"admission line", "feed-begun line", "channel-on-air line"} {
		eventually(t, what, was(what))
	}
	stop()
	eventually(t, "the feed's end", was("feed-ended line"))
	eventually(t, "off air", was("channel-off-air line"))
	closed := s.channel("closed", settings.Settings{}, sourceOnly)
	out, code = s.command("camera", "--loop", "committee", "--times", "1", "--to", closed)
	assert.NotZero(t, code)
	assert.Contains(t, out, "Ask whoever runs that program")
	eventually(t, "the refusal", was("feed-refused closed"))
	out, _ = s.command("hooks", "deliveries")
	assert.Regexp(t, `2 +admission +closed +done +1 +refused: not in the programme`, out)
	out, _ = s.command("hooks", "list")
	assert.Contains(t, out, "desk")
	assert.NotContains(t, out, "ecret")
}

// TestASenderOverWebRTCComesBack: a sender whose line dies without a word is followed by another connection at once, which is on air
// once the first has been silent for two seconds; who watches over WebRTC goes on, without a new connection.
func TestASenderOverWebRTCComesBack(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[1]
	s.channel(loop.Name, settings.Settings{}, sourceOnly)
	key := s.key(loop.Name, api.NewKey{}).Secret
	media := s.webrtc[strings.LastIndexByte(s.webrtc, ':'):]
	line, err := impair.Start("127.0.0.4"+media, "127.0.0.1"+media, impair.Line{})
	require.NoError(t, err)
	t.Cleanup(line.Close)
	s.sendLoop(&loop, camera.Options{URL: s.throughRelay("127.0.0.4") + "/whip/" + loop.Name + "?key=" + key, Name: "first"})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "source") >= 2 })
	p := realTime(t, s, loop.Name)
	defer p.stop()
	p.until(`window.frames_.length > 30`)
	first := s.status(loop.Name).Feed.Begun
	line.Set(impair.Line{Loss: 1})
	s.sendLoop(&loop, camera.Options{URL: s.http + "/whip/" + loop.Name + "?key=" + key, Name: "second", Retry: 300 * time.Millisecond})
	eventually(t, "the second is on air", func() bool { f := s.status(loop.Name).Feed; return f != nil && !f.Begun.Equal(first) })
	for range 2 { // at first some of the pictures are still the first sender's
		eval[chromedp.Void](p, `window.frames_.length = 0`)
		p.until(`window.frames_.length > 40`)
	}
	inOrder(t, p.frames(), loop)
	assert.Zero(t, eval[int](p, `window.frames_.at(-1).epoch ?? 0`), "the player did not start over")
}
