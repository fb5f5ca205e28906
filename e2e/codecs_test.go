package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/demo/feeds"
	"metaplasis/internal/camera"
	"metaplasis/internal/codec/hevcenc"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/inspector"
	"metaplasis/internal/settings"
)

// TestOtherCodecsPassThrough sends VP9 and AV1 with Opus in RTMP's enhanced form, and plays each in all
// formats in Chromium: the numbers in the pictures go up.
func TestOtherCodecsPassThrough(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t)
	defer p.stop()
	for i, codecs := range []string{"vp09.00.21.08,opus", "av01.0.01M.08,opus"} {
		loop := demo.Others[i]
		stop := s.sendLoop(&loop, camera.Options{URL: s.channel(loop.Name, settings.Settings{Outputs: settings.Outputs{TS: true}}, sourceOnly)})
		eventually(t, loop.Name+" on air", func() bool { return s.newest(loop.Name, "source") >= 2 })
		_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
		assert.Contains(t, string(b), `CODECS="`+codecs+`"`, loop.Name)
		code, b, _ := s.get("/media/" + loop.Name + "/source/ts.m3u8")
		assert.Equal(t, 404, code)
		assert.Contains(t, string(b), "take index.m3u8")
		s.inspectAll(loop.Name, "index.m3u8", "index.mpd", "low.mpd")
		s.playsInOrder(p, &loop, "hls", "dash", "ll-hls", "ll-dash")
		stop()
	}
}

// inspectAll lets the inspector judge addresses of a channel.
func (s *service) inspectAll(slug string, files ...string) {
	s.t.Helper()
	s.inspectBut("", slug, files...)
}

// inspectBut is inspectAll without one rule, which what is sent breaks.
func (s *service) inspectBut(rule, slug string, files ...string) {
	s.t.Helper()
	for _, file := range files {
		r, err := inspector.Run(context.Background(), inspector.Options{Address: s.http + "/media/" + slug + "/" + file,
			Follow: 3 * time.Second})
		require.NoError(s.t, err, file)
		assert.NotEmpty(s.t, r.Streams, file)
		for _, f := range r.Findings {
			if f.Level != inspect.Note && f.Rule != rule {
				s.t.Errorf("%s/%s: %s, %s: found %s, expected %s", slug, file, f.Rule, f.Where, f.Found, f.Want)
			}
		}
	}
}

// playsInOrder plays a channel in several ways side by side.
func (s *service) playsInOrder(p *page, loop *demo.Loop, ways ...string) {
	s.t.Helper()
	frames := ""
	for _, way := range ways {
		frames += fmt.Sprintf(`<iframe src="/embed/%s?as=%s" style="width:128px;height:72px;border:0" allow="autoplay"></iframe>`, loop.Name, way)
	}
	p.do(chromedp.Navigate(s.http + "/embed/none"))
	eval[chromedp.Void](p, fmt.Sprintf("document.body.style.cssText = 'display:grid;grid-template-columns:repeat(4,128px);margin:0'; document.body.innerHTML = %q", frames))
	p.until(`[...document.querySelectorAll("iframe")].every(f => (v => v && v.readyState >= 3 && v.currentTime > 0)(f.contentWindow.document.querySelector("video")))`)
	eval[chromedp.Void](p, strings.Replace(frameCollector(), "turn++ % 4", "turn++ % 6", 1))
	p.until(`[...document.querySelectorAll("iframe")].every(f => (f.contentWindow.frames_ || []).filter(x => x.drawn >= 0).length > 12)`)
	for i, way := range ways {
		list := eval[[]shown](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.frames_ || []`, i))
		message := eval[string](p, fmt.Sprintf(`document.querySelectorAll("iframe")[%d].contentWindow.playback?.message ?? "no player"`, i))
		wrong, read := disorder(list, loop.Frames)
		assert.Empty(s.t, wrong, "%s as %s", loop.Name, way)
		assert.Greater(s.t, read, 5, "%s as %s: readable pictures of %d; the player says %q", loop.Name, way, len(list),
			message)
	}
}

// TestSeveralSounds sends H.264 with three audio tracks, and switches between them in the player.
func TestSeveralSounds(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Others[2]
	s.sendLoop(&loop, camera.Options{URL: s.channel(loop.Name, settings.Settings{}, sourceOnly)})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "source") >= 2 })
	_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
	for _, want := range []string{
		`NAME="English",DEFAULT=YES,AUTOSELECT=YES,LANGUAGE="en",CHANNELS="2",URI="audio/index.m3u8"`,
		`NAME="Français",DEFAULT=NO,AUTOSELECT=YES,LANGUAGE="fr",CHANNELS="2",URI="audio-fr/index.m3u8"`,
		`GROUP-ID="audio-opus",NAME="Deutsch",DEFAULT=YES,AUTOSELECT=YES,LANGUAGE="de",CHANNELS="2",URI="audio-de/index.m3u8"`, // a group of its own
	} {
		assert.Contains(t, string(b), want)
	}
	s.inspectAll(loop.Name, "index.m3u8", "index.mpd", "low.mpd")
	tracks := s.status(loop.Name).Feed.Tracks
	require.Len(t, tracks, 4)
	assert.Equal(t, []string{"en", "fr", "de"}, []string{tracks[1].Language, tracks[2].Language, tracks[3].Language})
	p := open(t)
	defer p.stop()
	for _, way := range []string{"hls", "ll-hls", "dash", "ll-dash"} {
		p.do(chromedp.Navigate(s.http + "/watch/" + loop.Name + "?as=" + way))
		p.until(playerTree + `.querySelectorAll("select[aria-label=Sound] option").length === 3 && document.querySelector("video").currentTime > 1`)
		for _, name := range []string{"Français", "Deutsch", "English"} {
			rendition := map[string]string{"Français": "audio-fr", "Deutsch": "audio-de", "English": "audio"}[name]
			eval[chromedp.Void](p, fmt.Sprintf(`window.asked_ = performance.now(); window.from_ = document.querySelector("video").currentTime; (s => { s.value = [...s.options].find(o => o.text === %q).value; s.dispatchEvent(new Event("change", {bubbles: true})) })(`+playerTree+`.querySelector("select[aria-label=Sound]"))`, name))
			ok := p.becomes(fmt.Sprintf(`performance.getEntriesByType("resource").some(e => e.startTime > window.asked_ && /\/%s\/.*m4s/.test(e.name)) && document.querySelector("video").currentTime > window.from_ + 2`, rendition))
			assert.True(t, ok, "%s plays %s: %s", way, name, eval[string](p,
				`JSON.stringify({at: document.querySelector("video").currentTime, from: window.from_, says: window.playback.message, asked: performance.getEntriesByType("resource").slice(-6).map(e => e.name)})`))
		}
	}
}

// TestAnotherCodecTakesOver: a sender of another codec follows one that left, and players of all formats
// go on with one discontinuity.
func TestAnotherCodecTakesOver(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("line", settings.Settings{Packaging: settings.Packaging{Window: 60}}, sourceOnly)
	stop := s.sendLoop(&demo.Others[2], camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest("line", "source") >= 3 })
	p := open(t)
	defer p.stop()
	ways := []string{"hls", "ll-hls", "dash", "ll-dash"}
	frames := ""
	for _, way := range ways {
		frames += fmt.Sprintf(`<iframe src="/embed/line?as=%s" style="width:128px;height:72px;border:0" allow="autoplay"></iframe>`, way)
	}
	p.do(chromedp.Navigate(s.http + "/embed/none"))
	eval[chromedp.Void](p, fmt.Sprintf("document.body.innerHTML = %q", frames))
	const every = `[...document.querySelectorAll("iframe")].every(f => (v => v && v.readyState >= 3 && v.currentTime > 1 && %s)(f.contentWindow.document.querySelector("video")))`
	p.until(fmt.Sprintf(every, "true"))
	eval[chromedp.Void](p, frameCollector())
	stop()
	s.sendLoop(&demo.Others[0], camera.Options{URL: url})
	eventually(t, "the other codec is announced", func() bool {
		_, b, _ := s.get("/media/line/index.m3u8")
		return strings.Contains(string(b), "vp09")
	})
	eval[chromedp.Void](p, `for (const f of document.querySelectorAll("iframe")) f.contentWindow.frames_ = []`)
	ok := p.becomes(`[...document.querySelectorAll("iframe")].every(f => f.contentWindow.frames_.filter(x => x.drawn >= 0).length > 12)`)
	assert.True(t, ok, "%v", eval[[]string](p, `[...document.querySelectorAll("iframe")].map(f => f.contentWindow.frames_.length + " pictures, at " + f.contentWindow.document.querySelector("video").currentTime + ", " + f.contentWindow.playback.message)`))
	list := s.playlist("line", "source")
	breaks := 0
	for _, e := range list.Entries {
		if e.Discontinuity {
			breaks++
		}
	}
	assert.LessOrEqual(t, breaks, 1)
	assert.EqualValues(t, 1, int(list.DiscontinuitySequence)+breaks, "one discontinuity since the channel began")
	code, b, _ := s.get("/media/line/index.mpd")
	require.Equal(t, 200, code)
	assert.Equal(t, 2, strings.Count(string(b), "<Period "), "a period for each of the two feeds")
	s.inspectBut("codecs-wrong", "line", "index.m3u8", "index.mpd", "low.mpd") // the new codec alone is announced
	seen := s.newest("line", "source")
	eventually(t, "what is inspected is of the second sender", func() bool { return s.newest("line", "source") >= seen+6 })
	s.inspectAll("line", "index.m3u8", "index.mpd", "low.mpd")
}

// TestOtherCodecsAreCoded: what comes as VP9, AV1 or HEVC with Opus becomes a ladder of H.264 with AAC, which plays.
func TestOtherCodecsAreCoded(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t)
	defer p.stop()
	for _, loop := range []*demo.Loop{&demo.Others[0], &demo.Others[1], hevcLoop(t, media.Opus)} {
		url := s.channel(loop.Name, settings.Settings{}, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 400_000, Effort: 1, AudioBitrate: 96_000})
		stop := s.sendLoop(loop, camera.Options{URL: url})
		eventually(t, loop.Name+" on air", func() bool { return s.newest(loop.Name, "180p") >= 2 })
		_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
		assert.Regexp(t, `CODECS="avc1\.\w+,mp4a\.40\.2"`, string(b), loop.Name)
		assert.Empty(t, s.problems(loop.Name), loop.Name)
		s.inspectAll(loop.Name, "index.m3u8")
		s.playsInOrder(p, loop, "ll-hls", "dash")
		stop()
	}
}

// hevcLoop is four seconds of numbered pictures in HEVC with silence in Opus or AC-3, as an encoder sends them.
func hevcLoop(t *testing.T, sound media.Codec) *demo.Loop {
	const width, height, rate, frames = 320, 180, 25, 100
	enc, err := hevcenc.New(width, height, media.Rational{Num: rate, Den: 1}, 200_000)
	require.NoError(t, err)
	defer enc.Close()
	out := flv.AppendTag(flv.AppendHeader(nil), &flv.Tag{Type: flv.TagScript,
		Body: amf.Append(nil, "onMetaData", amf.ECMAArray{{Name: "duration", Value: 4.0}})})
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Body: (&flv.Body{Codec: media.HEVC, Config: true, Key: true, Data: enc.Record}).Marshal()})
	// 48 kHz, 192 kbit/s, stereo: 768 bytes and 32 ms a frame.
	frame, long := append([]byte{0x0b, 0x77, 0, 0, 20, 0x40, 0x40}, make([]byte, 761)...), 32
	if sound == media.Opus {
		e, err := opusenc.New(2, 96_000)
		require.NoError(t, err)
		defer e.Close()
		frame, err = e.Encode(make([]int16, 2*opusenc.FrameSamples))
		require.NoError(t, err)
		long = 20
		out = flv.AppendTag(out, &flv.Tag{Type: flv.TagAudio, Body: (&flv.Body{Codec: media.Opus, Config: true, Data: e.Config.MarshalHead()}).Marshal()})
	}
	at := 0
	for n := range frames {
		pic := picture.New(width, height)
		feeds.Draw(pic, n)
		u, err := enc.Encode(pic, int64(n)*media.VideoTimescale/rate, n%50 == 0)
		require.NoError(t, err)
		stamp := uint32(n * 1000 / rate)
		out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Timestamp: stamp, Body: (&flv.Body{Codec: media.HEVC, Key: u.Key, Data: u.Data}).Marshal()})
		for ; at*long < int(stamp)+1000/rate; at++ {
			out = flv.AppendTag(out, &flv.Tag{Type: flv.TagAudio, Timestamp: uint32(at * long), Body: (&flv.Body{Codec: sound, Data: frame}).Marshal()})
		}
	}
	return &demo.Loop{Name: "truck", Frames: frames, FLV: out}
}

// TestHEVCAndAC3PassThrough: Chromium has neither, so the inspector and a parser of others judge.
func TestHEVCAndAC3PassThrough(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.sendLoop(hevcLoop(t, media.AC3), camera.Options{URL: s.channel("truck", settings.Settings{}, sourceOnly)})
	eventually(t, "on air", func() bool { return s.newest("truck", "source") >= 2 })
	_, b, _ := s.get("/media/truck/index.m3u8")
	assert.Regexp(t, `CODECS="hvc1\.1\.6\.L\d+\.90,ac-3"`, string(b))
	s.inspectAll("truck", "index.m3u8", "index.mpd", "low.mpd")
	for rendition, want := range map[string]string{"source": "HEVC", "audio": "AC-3"} {
		list := s.playlist("truck", rendition)
		e := list.Entries[0]
		_, header, _ := s.get("/media/truck/" + rendition + "/" + e.Header)
		_, segment, _ := s.get("/media/truck/" + rendition + "/" + e.URI)
		file := filepath.Join(t.TempDir(), rendition+".mp4")
		require.NoError(t, os.WriteFile(file, append(header, segment...), 0o600))
		told, err := exec.Command("mediainfo", "--Output=%Format%\\n", "--Inform="+map[string]string{"source": "Video;%Format% %Width%x%Height%", "audio": "Audio;%Format% %Channel(s)% %SamplingRate%"}[rendition], file).CombinedOutput()
		require.NoError(t, err, string(told))
		assert.Contains(t, string(told), want)
		t.Logf("%s: %s", rendition, told)
	}
}

// TestLadderOfTwoCodecs encodes one feed as H.264 and as VP9: variants of a codec stand together, an
// adaptation set is of one codec, keyframes of all stand at the same times, and both play.
func TestLadderOfTwoCodecs(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{}, ladder.Rung{Name: "source", On: true, Source: true},
		ladder.Rung{Name: "240p", On: true, Height: 240, Bitrate: 400_000, Effort: 1},
		ladder.Rung{Name: "240p-vp9", On: true, Height: 240, Bitrate: 300_000, Effort: 1, Codec: media.VP9},
		ladder.Rung{Name: "144p-vp9", On: true, Height: 144, Bitrate: 150_000, Effort: 1, Codec: media.VP9})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "240p-vp9") >= 2 && s.newest(loop.Name, "144p-vp9") >= 2 })
	_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
	variants, _, err := hls.ReadMultivariant(b)
	require.NoError(t, err)
	var order []string
	for _, v := range variants {
		order = append(order, strings.Split(v.Attributes["CODECS"], ".")[0])
	}
	assert.Equal(t, []string{"avc1", "avc1", "vp09", "vp09"}, order, string(b))
	code, b, _ := s.get("/media/" + loop.Name + "/index.mpd")
	require.Equal(t, 200, code)
	var m dash.MPD
	require.NoError(t, m.Unmarshal(b))
	sets := m.Periods[0].Sets
	require.Len(t, sets, 3, "H.264, VP9 and the sound")
	assert.Equal(t, []int{2, 2, 1}, []int{len(sets[0].Representations), len(sets[1].Representations), len(sets[2].Representations)})
	assert.Contains(t, string(b), `schemeIdUri="urn:mpeg:dash:adaptation-set-switching:2016" value="101"`)
	s.inspectAll(loop.Name, "index.m3u8", "index.mpd", "low.mpd")
	starts := map[string]map[uint64]time.Duration{}
	for _, name := range []string{"240p", "240p-vp9"} {
		starts[name] = map[uint64]time.Duration{}
		for _, e := range s.playlist(loop.Name, name).Whole() {
			starts[name][e.MSN] = e.Duration
		}
	}
	for msn, d := range starts["240p"] {
		if other, both := starts["240p-vp9"][msn]; both {
			assert.Equal(t, d, other, "segment %d", msn)
		}
	}
	p := open(t)
	defer p.stop()
	for _, rung := range []string{"240p", "240p-vp9"} {
		p.do(chromedp.Navigate(s.http + "/watch/" + loop.Name + "?as=hls&rung=" + rung))
		p.until(`(v => v && v.videoHeight === 240 && v.currentTime > 2)(document.querySelector("video"))`)
	}
	s.playsInOrder(p, &loop, "hls", "dash", "ll-hls", "ll-dash")
}

// TestOldCodecsPassThrough: VP8, MP3 and what is not compressed, which no page plays, are described
// rightly all the same.
func TestOldCodecsPassThrough(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	for name, c := range map[string]struct {
		sound media.Codec
		frame []byte
		bare  []byte
		every int // milliseconds
		want  string
	}{
		"harbour": {media.MP3, append([]byte{0xff, 0xfb, 0x94, 0x00}, make([]byte, 380)...), nil, 24, `CODECS="vp08.00.00.08,mp4a.6B"`},
		"marks":   {media.ULaw, make([]byte, 160), coding.BareSound(media.ULaw, 8000, 8, 1), 20, `CODECS="vp08.00.00.08,ulaw"`},
	} {
		out := flv.AppendTag(flv.AppendHeader(nil), &flv.Tag{Type: flv.TagScript,
			Body: amf.Append(nil, "onMetaData", amf.ECMAArray{{Name: "duration", Value: 2.4}})})
		for at := uint32(0); at < 2400; at++ {
			if at%40 == 0 {
				picture := []byte{0x11, 2, 0, 1, 2, 3}
				if at == 0 {
					picture = []byte{0x10, 2, 0, 0x9d, 0x01, 0x2a, 0x40, 0x01, 0xb4, 0x00, 0}
				}
				out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Timestamp: at, Body: (&flv.Body{Codec: media.VP8, Key: at == 0, Data: picture}).Marshal()})
			}
			if int(at)%c.every == 0 {
				out = flv.AppendTag(out, &flv.Tag{Type: flv.TagAudio, Timestamp: at, Body: (&flv.Body{Codec: c.sound, Data: c.frame, Bare: c.bare}).Marshal()})
			}
		}
		s.sendLoop(&demo.Loop{Name: name, FLV: out}, camera.Options{URL: s.channel(name, settings.Settings{}, sourceOnly)})
		eventually(t, "on air", func() bool { return s.newest(name, "source") >= 2 })
		_, b, _ := s.get("/media/" + name + "/index.m3u8")
		assert.Contains(t, string(b), c.want, name)
		s.inspectAll(name, "index.m3u8", "index.mpd", "low.mpd")
	}
	shown, _ := s.command("channels", "show", "harbour")
	assert.Contains(t, shown, "VP8 320x180, MP3 48000 Hz 2 ch")
}

// TestRungsOfOtherRatesAndSounds: half the pictures, 20 a second, sound in Opus beside AAC, and a rung of HEVC, which
// this browser leaves out.
func TestRungsOfOtherRatesAndSounds(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := demo.Loops[0]
	url := s.channel(loop.Name, settings.Settings{},
		ladder.Rung{Name: "240p", On: true, Height: 240, Bitrate: 400_000, Effort: 1, AudioBitrate: 96_000},
		ladder.Rung{Name: "240p-half", On: true, Height: 240, Bitrate: 250_000, Effort: 1, FrameRate: "half", AudioBitrate: 96_000},
		ladder.Rung{Name: "144p-20", On: true, Height: 144, Bitrate: 120_000, Effort: 1, FrameRate: "20", AudioBitrate: 48_000, AudioCodec: media.Opus, AudioChannels: 1},
		ladder.Rung{Name: "144p-hevc", On: true, Height: 144, Bitrate: 100_000, Effort: 1, Codec: media.HEVC, AudioBitrate: 96_000})
	s.sendLoop(&loop, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest(loop.Name, "240p-half") >= 2 && s.newest(loop.Name, "144p-20") >= 2 })
	_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
	for _, want := range []string{"FRAME-RATE=30.000", "FRAME-RATE=15.000", "FRAME-RATE=20.000", `opus"`, `URI="audio-opus-48k-mono/index.m3u8"`, `CODECS="hvc1.1.6.`} {
		assert.Contains(t, string(b), want)
	}
	s.inspectAll(loop.Name, "index.m3u8", "index.mpd", "low.mpd")
	eventually(t, "the nodes tell what they take", func() bool {
		w := s.status(loop.Name).Worker
		return w != nil && len(w.Nodes) == 1+3*4+2+2 && w.Loudness != nil && w.Nodes[2].Micros > 0
	})
	for _, r := range s.status(loop.Name).Renditions {
		assert.Positive(t, r.Second, r.Name)
		assert.Positive(t, r.Segment, r.Name)
		assert.Positive(t, r.Asked, r.Name)
	}
	p := open(t)
	defer p.stop()
	for _, as := range []string{"ll-hls", "dash"} {
		p.do(chromedp.Navigate(s.http + "/watch/" + loop.Name + "?as=" + as + "&rung=144p-20"))
		p.until(`(v => v && v.videoHeight === 144 && v.currentTime > 2)(document.querySelector("video"))`)
	}
}
