package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/demo/feeds"
	"metaplasis/e2e/browser"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/codec/mpegvenc"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mpegv"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/settings"
)

// TestTwentyChangesWhilePlaying changes everything that a rung has, twenty times, while a page plays it.
func TestTwentyChangesWhilePlaying(t *testing.T) {
	t.Parallel()
	s := start(t)
	rung := ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 700_000, Effort: 1}
	p := playing(t, s, "hls", 1000, rung)
	begun := s.status("start-line").Feed.Begun
	changes := []func(*ladder.Rung){
		func(r *ladder.Rung) { r.Bitrate = 500_000 },
		func(r *ladder.Rung) { r.Effort = 2 },
		func(r *ladder.Rung) { r.Height = 270 },
		func(r *ladder.Rung) { r.Quality = 60 },
		func(r *ladder.Rung) { r.Profile = "main" },
		func(r *ladder.Rung) { r.Level = "4" },
		func(r *ladder.Rung) { r.Buffer = 700 },
		func(r *ladder.Rung) { r.Content = ladder.Drawn },
		func(r *ladder.Rung) { r.Picture.Clock = ladder.ClockTop },
		func(r *ladder.Rung) { r.Picture.Clock = ladder.NoClock },
		func(r *ladder.Rung) { r.Picture.Label = true },
		func(r *ladder.Rung) { r.Picture.Filter = ladder.BilinearFilter },
		func(r *ladder.Rung) { r.AudioBitrate = 64_000 },
		func(r *ladder.Rung) { r.Loudness = -20 },
		func(r *ladder.Rung) { r.AudioBitrate, r.Loudness = 0, 0 },
		func(r *ladder.Rung) { r.Peak = 900_000 },
		func(r *ladder.Rung) { r.BFrames = -1 },
		func(r *ladder.Rung) { r.Quality = 0 },
		func(r *ladder.Rung) { r.Height = 360 },
		func(r *ladder.Rung) { r.Picture, r.Effort = ladder.Picture{}, 1 },
	}
	for i, change := range changes {
		change(&rung)
		_, err := s.api.SetLadder(context.Background(), "start-line", ladder.Ladder{Rungs: []ladder.Rung{rung}})
		require.NoError(t, err, i)
		before := s.newest("start-line", "360p")
		eventually(t, "the next segment", func() bool { return s.newest("start-line", "360p") > before })
	}
	p.playOn(60)
	assert.Equal(t, begun, s.status("start-line").Feed.Begun, "the sender stayed connected")
	assert.Zero(t, s.status("start-line").Worker.Replaced)
	s.whole("start-line", "360p")
	steady(t, p.frames(), demo.Loops[0])
	for _, rendition := range []string{"360p", "audio"} {
		for _, e := range s.playlist("start-line", rendition).Entries {
			if e.Gap { // a worker that was behind left a whole group of pictures out
				assert.Positive(t, s.status("start-line").Worker.Skipped, "segment %d", e.MSN)
				continue
			}
			code, _, _ := s.get(path.Join("/media/start-line", rendition, e.URI))
			assert.Equal(t, 200, code, e.URI)
		}
	}
}

// interlaced writes a film of interlaced MPEG-2 into the folder of files: both fields of a frame show its number.
func interlaced(t *testing.T, s *service, name string) *demo.Loop {
	const width, height, frames = 640, 384, 100
	e, err := mpegvenc.New(width, height, media.Rational{Num: 25, Den: 1}, true)
	require.NoError(t, err)
	var units []media.AccessUnit
	pic := picture.New(width, height)
	for n := range frames {
		feeds.Draw(pic, n)
		u := e.Encode(pic, int64(n)*3600)
		u.Duration = 3600
		units = append(units, u)
	}
	track := media.Track{ID: 1}
	require.NoError(t, mpegv.Complete(&track, units[0].Data))
	require.True(t, track.Interlaced)
	file := bmff.Header(&track)
	for at := 0; at < frames; at += 25 {
		file = bmff.AppendChunk(file, &track, bmff.ChunkOptions{Sequence: uint32(at/25 + 1)}, units[at:at+25])
	}
	folder := filepath.Join(s.data, "files")
	require.NoError(t, os.MkdirAll(folder, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, name), file, 0o600))
	return &demo.Loop{Name: "truck", Frames: frames}
}

// TestInterlacedMPEG2IsCoded: a recording in interlaced MPEG-2 becomes whole pictures in H.264 and AV1, which play: one a
// frame, or one a field.
func TestInterlacedMPEG2IsCoded(t *testing.T) {
	t.Parallel()
	s := start(t)
	loop := interlaced(t, s, "truck.mp4")
	rungs := []ladder.Rung{{Name: "192p", On: true, Height: 192, Bitrate: 400_000, Effort: 1}, {Name: "192p-av1", On: true, Height: 192, Bitrate: 300_000, Effort: 1, Codec: media.AV1}}
	in := []settings.Input{{Kind: settings.InputFile, File: "truck.mp4"}}
	for slug, mode := range map[string]ladder.Interlaced{"truck": ladder.FramesAdaptive, "fields": ladder.FieldsAdaptive} {
		_, err := s.api.CreateChannel(context.Background(), settings.Settings{Slug: slug, Inputs: in, Ladder: ladder.Ladder{Rungs: rungs, Interlaced: mode}})
		require.NoError(t, err)
	}
	for slug, rate := range map[string]string{"truck": "FRAME-RATE=25.000", "fields": "FRAME-RATE=50.000"} {
		eventually(t, slug+" on air", func() bool { return s.newest(slug, "192p") >= 2 && s.newest(slug, "192p-av1") >= 2 })
		_, b, _ := s.get("/media/" + slug + "/index.m3u8")
		assert.Contains(t, string(b), rate, slug)
		assert.Regexp(t, `CODECS="avc1\.\w+"`, string(b))
		assert.Regexp(t, `CODECS="av01\.0\.\w+\.08"`, string(b))
		assert.Empty(t, s.problems(slug), slug)
		s.inspectAll(slug, "index.m3u8", "index.mpd")
	}
	eventually(t, "the time that it takes", func() bool {
		for _, n := range s.status("fields").Worker.Nodes {
			if n.Kind == "deinterlace" && n.Micros > 0 {
				return true
			}
		}
		return false
	})
	require.NoError(t, s.api.RemoveChannel(context.Background(), "fields"))
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, loop, "hls", "dash")
	p.do(chromedp.Navigate(s.http + "/watch/truck?as=hls&rung=192p-av1"))
	p.until(`(v => v && v.videoHeight === 192 && v.currentTime > 2)(document.querySelector("video"))`)
}

// TestPlansAreSharedAndVersioned goes the way of an engineer: use a plan, change a rung, keep it as a plan of one's own,
// change that, and take the new version.
func TestPlansAreSharedAndVersioned(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	s.channel("start-line", settings.Settings{})
	s.channel("harbour", settings.Settings{})
	must := func(args ...string) string {
		out, code := s.command(args...)
		require.Zero(t, code, out)
		return out
	}
	assert.Contains(t, must("plans", "list"), "phone-first")
	must("ladders", "use", "start-line", "general")
	must("ladders", "rung", "start-line", "480p", "--bitrate", "900000", "--label")
	out := must("ladders", "show", "start-line")
	assert.Contains(t, out, "uses the plan general, version 1; its own: 480p")
	out = must("ladders", "drop", "start-line", "360p")
	assert.Regexp(t, `360p\s+off`, out, "what a plan has is turned off")
	must("plans", "save", "regatta", "start-line", "--title", "Kestrel Bay")
	must("ladders", "use", "harbour", "regatta")
	file := filepath.Join(t.TempDir(), "regatta.json")
	must("plans", "export", "regatta", "--file", file)
	var p ladder.Plan
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &p))
	assert.Equal(t, []any{ladder.PlanFormat, 1, "Kestrel Bay"}, []any{p.Format, p.Version, p.Title})
	p.Rungs[2].Bitrate = 800_000
	b, err = json.Marshal(p)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, b, 0o600))
	out = must("plans", "import", "--file", file)
	assert.Contains(t, out, "stored as version 2")
	assert.Contains(t, out, "harbour goes on with version 1")
	must("ladders", "rung", "harbour", "source", "--on=false")
	l, err := s.api.Ladder(context.Background(), "harbour")
	require.NoError(t, err)
	assert.EqualValues(t, 900_000, l.Rungs[2].Bitrate)
	must("ladders", "use", "harbour", "regatta")
	l, err = s.api.Ladder(context.Background(), "harbour")
	require.NoError(t, err)
	assert.Equal(t, &ladder.Use{Name: "regatta", Version: 2, Own: []string{"source"}}, l.Plan)
	assert.EqualValues(t, 800_000, l.Rungs[2].Bitrate)
	assert.False(t, l.Rungs[0].On, "the channel's own rung stays so")

	// What cannot be is refused with what to do.
	for want, args := range map[string][]string{
		"does not change":                {"plans", "import", "--file", file, "--name", "general"},
		"there is no plan":               {"ladders", "use", "harbour", "nothing"},
		"there is no version 7":          {"ladders", "use", "harbour", "regatta", "--version", "7"},
		"cannot be removed":              {"plans", "remove", "general"},
		"expected lower-case letters":    {"plans", "import", "--file", file, "--name", "My Plan"},
		"expected the name of an image":  {"ladders", "rung", "harbour", "480p", "--logo", "burgee"},
		"level 1.1 does not take":        {"ladders", "rung", "harbour", "480p", "--level", "1.1"},
		"is not what plans export print": {"plans", "import", "--file", "/dev/null"},
	} {
		out, code := s.command(args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, out, want, args)
	}
	must("plans", "remove", "regatta")
	_, code := s.command("plans", "show", "regatta")
	assert.NotZero(t, code)
	l, err = s.api.Ladder(context.Background(), "harbour")
	require.NoError(t, err)
	assert.Len(t, l.Rungs, 4, "who uses it keeps the rungs")
	assert.Contains(t, must("plans", "import", "--file", file), "stored as version 3", "a version has one content for good")
}

// badge is a PNG file of one colour.
func badge(t *testing.T) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 40, 40))
	for i := range 1600 {
		img.SetNRGBA(i%40, i/40, color.NRGBA{220, 30, 30, 255})
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

// TestASlateFillsTheTime: while nobody sends, a channel with a slate shows its title or an image; a sender takes its
// place, and gives it back.
func TestASlateFillsTheTime(t *testing.T) {
	t.Parallel()
	s := start(t)
	file := filepath.Join(t.TempDir(), "burgee.png")
	require.NoError(t, os.WriteFile(file, badge(t), 0o600))
	out, code := s.command("images", "add", "burgee", file)
	require.Zero(t, code, out)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}, Inputs: []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputSlate, File: "burgee"}}},
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	eventually(t, "the slate", func() bool { return s.newest("start-line", "180p") >= 1 })
	st := s.status("start-line")
	assert.Equal(t, "slate", st.Feed.Protocol)
	assert.True(t, st.Inputs[1].OnAir)
	eventually(t, "its picture", func() bool {
		code, b, _ := s.get("/media/start-line/picture.jpg")
		if code != 200 {
			return false
		}
		img, _, err := image.Decode(bytes.NewReader(b))
		require.NoError(t, err)
		r, g, _, _ := img.At(img.Bounds().Dx()/2, img.Bounds().Dy()/2).RGBA()
		return r > 0xa000 && g < 0x5000
	})
	stop := s.send(0, camera.Options{URL: url})
	eventually(t, "the sender", func() bool { f := s.status("start-line").Feed; return f != nil && f.Protocol == "RTMP" })
	stop()
	eventually(t, "the slate again", func() bool { f := s.status("start-line").Feed; return f != nil && f.Protocol == "slate" })
	out, code = s.command("images", "remove", "burgee")
	assert.NotZero(t, code)
	assert.Contains(t, out, "used by [start-line]")
	_, err := s.api.PutImage(context.Background(), "burgee", []byte("no image"))
	assert.ErrorContains(t, err, "found no PNG image")
	out, _ = s.command("channels", "create", "marks", "--inputs", "sender,slate:nothing")
	assert.Contains(t, out, "expected the name of an image that was added")
}

// TestSoundIsLeveled: a rung of audio only is brought to a loudness, measured, and offered beside the pictures.
func TestSoundIsLeveled(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	url := s.channel("start-line", settings.Settings{}, sourceOnly, ladder.Rung{Name: "radio", On: true, AudioBitrate: 96_000, AudioRate: 32_000, Loudness: -16})
	s.send(0, camera.Options{URL: url})
	eventually(t, "sound", func() bool { return s.newest("start-line", "audio-96k-32000hz-16lufs") >= 3 })
	eventually(t, "its loudness", func() bool {
		w := s.status("start-line").Worker
		return w != nil && len(w.Levels) == 1 && w.Levels[0].Integrated > -1900 && w.Levels[0].Integrated < -1400 && w.Levels[0].Peak <= -95
	})
	_, b, _ := s.get("/media/start-line/index.m3u8")
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	assert.Contains(t, string(b), "audio-96k-32000hz-16lufs/index.m3u8")
	first := ""
	for i, line := range lines {
		if strings.HasPrefix(line, "#EXT-X-STREAM-INF") && first == "" {
			first = lines[i+1]
		}
	}
	assert.Equal(t, "source/index.m3u8", first, "players begin with pictures")
	s.inspectAll("start-line", "index.m3u8", "index.mpd")
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/watch/start-line?as=hls&rung=audio-96k-32000hz-16lufs"))
	p.until(`document.querySelector("video").currentTime > 1`)
}

// TestSoundOfAnotherTrack: a rung is encoded from the sender's second audio track, with a language of its own, and the
// worker that is killed meanwhile goes on with it.
func TestSoundOfAnotherTrack(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	url := s.channel("committee", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, sourceOnly, ladder.Rung{Name: "radio", On: true, AudioBitrate: 64_000, AudioTrack: 2, AudioLanguage: "fr-CH"})
	s.sendLoop(&demo.Others[2], camera.Options{URL: url})
	const name = "audio-64k-track2-fr-CH"
	eventually(t, "sound", func() bool { return s.newest("committee", name) >= 2 })
	_, b, _ := s.get("/media/committee/index.m3u8")
	assert.Contains(t, string(b), name+"/index.m3u8")
	_, b, _ = s.get("/media/committee/index.mpd")
	assert.Contains(t, string(b), name)
	s.inspectAll("committee", "index.m3u8", "index.mpd")
	kill(t, s.status("committee").Worker.PID)
	before := s.newest("committee", name)
	eventually(t, "it goes on", func() bool { return s.newest("committee", name) >= before+3 })
	for _, e := range s.playlist("committee", name).Entries {
		assert.False(t, e.Gap, "segment %d", e.MSN)
	}
	l, err := s.api.Ladder(context.Background(), "committee")
	require.NoError(t, err)
	l.Rungs[1].AudioTrack = 7
	_, err = s.api.SetLadder(context.Background(), "committee", l)
	require.NoError(t, err)
	eventually(t, "why there is none", func() bool {
		for _, p := range s.status("committee").Problems {
			if strings.Contains(p.Text, "no such audio track") {
				return true
			}
		}
		return false
	})
}

// TestTrialAndComparison: a trial of a rung and of the whole ladder, beside what is on air, and what it proposes is used
// from the page; two renditions are compared there, picture for picture.
func TestTrialAndComparison(t *testing.T) { // alone: it encodes as fast as the machine can
	s := start(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, sourceOnly,
		ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	ctx := context.Background()
	_, err := s.api.BeginTrial(ctx, "start-line", api.NewTrial{})
	assert.ErrorContains(t, err, "no video on air")
	s.sendLoop(&demo.Others[2], camera.Options{URL: url})
	eventually(t, "segments", func() bool { return s.newest("start-line", "180p") >= 3 })
	for want, in := range map[string]api.NewTrial{"expected 1 to 9": {Rung: "180p", Efforts: []int{12}}, "expected a rung": {Rung: "none"}, "expected 48 at most": {Rung: "180p", Efforts: []int{1, 2, 3, 4, 5, 6, 7, 8, 9}, Bitrates: []int64{100_000, 150_000, 200_000, 250_000, 300_000, 400_000}}} {
		_, err := s.api.BeginTrial(ctx, "start-line", in)
		assert.ErrorContains(t, err, want)
	}
	trial, err := s.api.BeginTrial(ctx, "start-line", api.NewTrial{Rung: "180p", Efforts: []int{1, 5}, Bitrates: []int64{100_000, 400_000}})
	require.NoError(t, err)
	assert.Equal(t, 4, trial.Of)
	_, err = s.api.BeginTrial(ctx, "start-line", api.NewTrial{})
	assert.ErrorContains(t, err, "one runs at a time")
	ended := func() api.Trial {
		var out api.Trial
		eventually(t, "the trial's end", func() bool {
			out, err = s.api.Trial(ctx, "start-line")
			return err == nil && out.State != api.TrialRunning
		})
		require.Equal(t, api.TrialDone, out.State, out.Text)
		return out
	}
	trial = ended()
	require.Len(t, trial.Points, 4)
	for _, pt := range trial.Points {
		assert.Equal(t, []int{320, 180}, []int{pt.Width, pt.Height})
		assert.InDelta(t, float64(pt.Asked), float64(pt.Bitrate), 0.5*float64(pt.Asked))
		assert.Positive(t, pt.Micros)
	}
	assert.Greater(t, trial.Points[1].PSNR, trial.Points[0].PSNR, "more bits")
	assert.Greater(t, trial.Points[2].PSNR, trial.Points[0].PSNR, "more effort")
	assert.Greater(t, trial.Points[2].Micros, trial.Points[0].Micros)

	p := open(t)
	defer p.stop()
	require.NoError(t, browser.SignIn(p.ctx, s.http, "admin", s.password))
	p.do(chromedp.Navigate(s.http + "/#/channels/start-line/ladder/trial"))
	p.until(`document.querySelectorAll("[data-trial=done] table.table tbody tr").length === 4`)
	p.click("Use")
	p.until(`document.body.innerText.includes("Takes effect at the next segment")`)
	l, err := s.api.Ladder(ctx, "start-line")
	require.NoError(t, err)
	assert.EqualValues(t, []int64{100_000, 1}, []int64{l.Rungs[1].Bitrate, int64(l.Rungs[1].Effort)})
	p.click("Try the last seconds")
	p.becomes(`document.querySelector("[data-proposed]") !== null`)
	trial = ended()
	assert.NotEmpty(t, trial.Hull)
	p.click("Use this ladder")
	p.until(`document.body.innerText.includes("Takes effect at the next segment")`)
	l, err = s.api.Ladder(ctx, "start-line")
	require.NoError(t, err)
	assert.Equal(t, trial.Proposed, l.Rungs)

	eventually(t, "what was proposed", func() bool { return s.newest("start-line", l.Rungs[1].Name) >= 4 })
	p.do(chromedp.Navigate(s.http + "/#/channels/start-line/ladder/compare"))
	p.becomes(`Number(document.querySelector("[data-compare]")?.dataset.pairs) > 15`)
	p.click("Pause")
	before := eval[string](p, `document.querySelector("[data-compare]").dataset.time`)
	// Pressed again until there is another picture: on a busy machine both sides have none in hand at first.
	p.until(fmt.Sprintf(`(document.querySelector('[aria-label="One picture on"]').click(), Number(document.querySelector("[data-compare]").dataset.time) > Number(%q))`, before))
	p.click("Side by side")
	p.until(`(c => c.width === 1280)(document.querySelector("[data-compare] canvas"))`)
	numbers := eval[[]int](p, readBoth)
	assert.Equal(t, numbers[0], numbers[1], "both sides show one picture")
	assert.GreaterOrEqual(t, numbers[0], 0)
}

// readBoth reads the block code on both halves of the page's canvas.
const readBoth = `(() => {
	const c = document.querySelector("[data-compare] canvas"), w = c.width / 2, h = c.height, g = c.getContext("2d");
	const side = Math.floor(w * 8 / 10 / 16);
	return [0, w].map(x0 => {
		const level = [...Array(16).keys()].map(i => g.getImageData(x0 + Math.floor(w / 10) + i * side + side / 2, h - 2 * side + side / 2, 1, 1).data[0]);
		const white = (level[0] + level[15]) / 2;
		if (white - level[1] < 60) return -1;
		return level.slice(2, 14).reduce((n, l) => n * 2 + (l > (white + level[1]) / 2 ? 1 : 0), 0);
	});
})()`
