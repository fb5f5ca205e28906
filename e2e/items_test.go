package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo/files"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/inspector"
	"metaplasis/internal/library"
	"metaplasis/internal/settings"
)

// put writes a file into the library's folder, as if it had lain there for a while.
func (s *service) put(t *testing.T, name string, b []byte) {
	t.Helper()
	path := filepath.Join(s.data, "library", name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, b, 0o644))
	old := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(path, old, old))
}

// items waits until so many items were looked into.
func (s *service) items(t *testing.T, n int) map[string]library.Entry {
	t.Helper()
	out := map[string]library.Entry{}
	eventually(t, fmt.Sprintf("%d items", n), func() bool {
		list, err := s.api.Items(context.Background())
		clear(out)
		for _, e := range list {
			if e.Looking == 0 {
				out[e.Name] = e
			}
		}
		return err == nil && len(out) == n
	})
	return out
}

// content reports whether the inspector finds nothing wrong with a stream.
func content(t *testing.T, address string) {
	t.Helper()
	r, err := inspector.Run(context.Background(), inspector.Options{Address: address, Follow: 100 * time.Millisecond})
	require.NoError(t, err, address)
	for _, f := range r.Findings {
		// MP3 as its own frames has no name of a codec that all players take.
		if packed := f.Rule == "codecs-missing" && strings.Contains(address, "booth"); f.Level != inspect.Note && !packed {
			t.Errorf("%s: %s, %s: found %s, expected %s", address, f.Rule, f.Where, f.Found, f.Want)
		}
	}
}

// TestFilesOnDemand: files of every kind, through HLS, HLS with transport streams and DASH.
func TestFilesOnDemand(t *testing.T) {
	t.Parallel()
	list, err := files.Make()
	require.NoError(t, err)
	s := start(t)
	for _, f := range list {
		s.put(t, "2026/"+f.Name, f.Bytes)
	}
	entries := s.items(t, len(list))
	p := open(t)
	defer p.stop()
	for i := range list {
		f := &list[i]
		name := "2026-" + strings.NewReplacer(".", "-", " ", "-").Replace(strings.TrimSuffix(f.Name, filepath.Ext(f.Name)))
		e, ok := entries[name]
		for n := 2; ok && e.File != "2026/"+f.Name; n++ { // several of one name
			e, ok = entries[fmt.Sprintf("%s-%d", name, n)]
		}
		require.True(t, ok, f.Name)
		if !f.Plays {
			assert.Contains(t, e.Trouble, f.Says, f.Name)
			code, b, _ := s.get("/items/" + e.Name + "/index.m3u8")
			assert.Equal(t, http.StatusUnprocessableEntity, code, f.Name)
			assert.Contains(t, string(b), f.Says, f.Name)
			continue
		}
		assert.Empty(t, e.Trouble, f.Name)
		assert.Equal(t, f.Container, e.Container)
		base := s.http + "/items/" + e.Name
		content(t, base+"/index.m3u8")
		if e.DASH != "" {
			content(t, base+"/index.mpd")
		}
		// The inspector looks at all of them; one of each kind is played in every way.
		ways := []string{"hls"}
		every := slices.Contains([]string{"race.flv", "stream.ts", "race.mkv", "camera.mov", "phone.webm", "drone.webm", "pyramid.mp4", "far-keyframes.mp4"}, f.Name)
		if every {
			ways = append(ways, "dash")
		}
		if e.TS != "" {
			if content(t, base+"/ts.m3u8"); every {
				ways = append(ways, "ts")
			}
		}
		for _, way := range ways {
			p.do(chromedp.Navigate(s.http + "/embed/library?item=" + e.Name + "&as=" + way))
			p.until(`!!document.querySelector("video")`)
			if f.Unread || f.Pictures == 0 {
				ok := p.becomes(`document.querySelector("video").currentTime > 1`)
				require.True(t, ok, "%s as %s: %s", f.Name, way, eval[string](p, `JSON.stringify([document.querySelector("video").currentTime, document.querySelector("video").error?.message, document.querySelector("video").buffered.length, MediaSource.isTypeSupported('audio/mp4; codecs="mp4a.6B"'), window.playback?.message])`))
				continue
			}
			eval[chromedp.Void](p, collector)
			ok := p.becomes(`window.frames_.filter(f => f.drawn >= 0).length > 25`)
			require.True(t, ok, "%s as %s: %s", f.Name, way, eval[string](p, `JSON.stringify([window.frames_.length, window.playback?.message])`))
			list := eval[[]shown](p, "window.frames_")
			wrong, read := disorder(list, f.Pictures)
			assert.Empty(t, wrong, "%s as %s", f.Name, way)
			assert.Greater(t, read, 15, "%s as %s", f.Name, way)
			assert.Less(t, list[0].Drawn, 20, "%s as %s: it begins with its beginning", f.Name, way)
		}
	}
	// Far into a file whose keyframes lie 10 s apart.
	far := entries["2026-far-keyframes"]
	assert.InDelta(t, 10_000, far.Tracks[0].KeyMillis, 100)
	p.do(chromedp.Navigate(s.http + "/embed/library?item=" + far.Name))
	p.until(`document.querySelector("video")?.readyState > 2`)
	eval[chromedp.Void](p, collector)
	eval[chromedp.Void](p, `window.frames_.length = 0; document.querySelector("video").currentTime = 17`)
	p.until(`window.frames_.filter(f => f.drawn >= 400).length > 5`)
	seen := eval[[]shown](p, `window.frames_.filter(f => f.drawn >= 400)`)
	assert.InDelta(t, 17*25, seen[0].Drawn, 3, "the picture of the moment that was asked for")
	// The file itself.
	code, b, _ := s.get("/items/2026-camera/file")
	assert.Equal(t, http.StatusOK, code)
	assert.Greater(t, len(b), 10_000)
	out, exit := s.command("items", "show", "2026-race")
	assert.Zero(t, exit)
	assert.Contains(t, out, "H.264 320x180")
	require.NoError(t, os.Remove(filepath.Join(s.data, "library", "2026", "fragments.mp4")))
	eventually(t, "a file that is gone is not listed", func() bool { code, _, _ := s.get("/items/2026-fragments/index.m3u8"); return code == 404 })
}

// TestFilesThatBelongTogether: subtitles, sound in another language and rungs beside a file.
func TestFilesThatBelongTogether(t *testing.T) {
	t.Parallel()
	list, err := files.Make()
	require.NoError(t, err)
	of := map[string][]byte{}
	for _, f := range list {
		of[f.Name] = f.Bytes
	}
	s := start(t)
	s.put(t, "race.mp4", of["race-plain.mp4"])
	s.put(t, "race.180p.mov", of["camera.mov"])
	s.put(t, "race.de.m4a", of["booth.m4a"])
	s.put(t, "race.en.srt", []byte("1\n00:00:00,500 --> 00:00:02,500\nThe boats are off\n\n2\n00:00:03,000 --> 00:00:06,000\nRound the first mark\n"))
	s.put(t, "race.fr.ttml", []byte(`<tt xmlns="http://www.w3.org/ns/ttml"><body><div><p begin="0.5s" end="00:00:02.500">Les bateaux partent</p></div></body></tt>`))
	s.put(t, "race.xx.vtt", []byte("no subtitles"))
	e := s.items(t, 1)["race"]
	require.Len(t, e.Tracks, 7, "%+v", e.Tracks)
	assert.Contains(t, e.Note, "race.xx.vtt")
	assert.Len(t, e.Beside, 5)
	_, b, _ := s.get("/items/race/index.m3u8")
	text := string(b)
	assert.Equal(t, 2, strings.Count(text, "#EXT-X-STREAM-INF"), text)
	assert.Contains(t, text, `TYPE=SUBTITLES`)
	assert.Contains(t, text, `LANGUAGE="fr"`)
	assert.Contains(t, text, `LANGUAGE="de"`)
	content(t, s.http+"/items/race/index.m3u8")
	content(t, s.http+"/items/race/index.mpd")
	_, b, _ = s.get("/items/race/text/text.vtt")
	assert.Contains(t, string(b), "00:00:03.000 --> 00:00:06.000\nRound the first mark")
	p := open(t)
	defer p.stop()
	for _, way := range []string{"hls", "dash"} {
		p.do(chromedp.Navigate(s.http + "/embed/library?captions=en&item=race&as=" + way))
		p.until(`!!document.querySelector("video")`)
		ok := p.becomes(`[...document.querySelector("video").textTracks].some(t => [...(t.activeCues ?? [])].some(c => c.text.includes("Round the first mark")))`)
		assert.True(t, ok, "%s: %s", way, eval[string](p, `JSON.stringify([...document.querySelector("video").textTracks].map(t => [t.language, t.mode, t.cues?.length]))`))
	}
}

// TestAFileComesInPieces: an upload goes on where its connection was lost.
func TestAFileComesInPieces(t *testing.T) {
	t.Parallel()
	list, err := files.Make()
	require.NoError(t, err)
	var whole []byte
	for _, f := range list {
		if f.Name == "race-plain.mp4" {
			whole = f.Bytes
		}
	}
	s := start(t)
	tus := func(method, path string, header map[string]string, body io.Reader) *http.Response {
		req, err := http.NewRequest(method, s.http+path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.api.Token)
		req.Header.Set("Tus-Resumable", "1.0.0")
		for k, v := range header {
			req.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil
		}
		_ = res.Body.Close()
		return res
	}
	const uploads = "/api/v1/uploads"
	res := tus("POST", uploads, map[string]string{"Upload-Length": fmt.Sprint(len(whole)), "Upload-Metadata": "filename cmFjZS5tcDQ="}, nil)
	require.Equal(t, http.StatusCreated, res.StatusCode)
	at := res.Header.Get("Location")
	piece := map[string]string{"Upload-Offset": "0", "Content-Type": "application/offset+octet-stream"}
	// The line breaks within a piece: what came of it stays.
	broken := io.MultiReader(bytes.NewReader(whole[:10_000]), &failing{})
	require.Nil(t, tus("PATCH", at, piece, broken))
	offset := ""
	eventually(t, "what came is kept", func() bool {
		offset = tus("HEAD", at, nil, nil).Header.Get("Upload-Offset")
		return offset == "10000"
	})
	assert.Equal(t, http.StatusConflict, tus("PATCH", at, piece, bytes.NewReader(whole)).StatusCode, "a piece that does not go on")
	piece["Upload-Offset"] = offset
	res = tus("PATCH", at, piece, bytes.NewReader(whole[10_000:]))
	require.Equal(t, http.StatusNoContent, res.StatusCode)
	assert.Equal(t, "race.mp4", res.Header.Get("Metaplasis-File"))
	assert.Empty(t, s.items(t, 1)["race"].Trouble)
	res = tus("HEAD", at, nil, nil)
	assert.Equal(t, http.StatusOK, res.StatusCode, "who did not hear that it is complete asks")
	assert.Equal(t, fmt.Sprint(len(whole)), res.Header.Get("Upload-Offset"))
	got, err := os.ReadFile(filepath.Join(s.data, "library", "race.mp4"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(whole, got))
	// What is refused.
	for name, header := range map[string]map[string]string{"a program": {"Upload-Length": "10", "Upload-Metadata": "filename bS5leGU="}, "a path out": {"Upload-Length": "10", "Upload-Metadata": "filename Li4vLi4vLm1wNA=="}, "nothing": {"Upload-Length": "0", "Upload-Metadata": "filename cmFjZS5tcDQ="}} {
		assert.Equal(t, http.StatusUnprocessableEntity, tus("POST", uploads, header, nil).StatusCode, name)
	}
	// The command does the same.
	file := filepath.Join(t.TempDir(), "race.mp4")
	require.NoError(t, os.WriteFile(file, whole, 0o644))
	out, exit := s.command("items", "upload", file)
	assert.Zero(t, exit, out)
	assert.Contains(t, out, "race (2).mp4 is in the library")
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// TestAFileIsCodedIntoALadder: in the background, paused, through a restart of the service.
func TestAFileIsCodedIntoALadder(t *testing.T) {
	t.Parallel()
	list, err := files.Make()
	require.NoError(t, err)
	s := start(t)
	for _, f := range list {
		if f.Name == "far-keyframes.mp4" || f.Name == "booth.wav" {
			s.put(t, f.Name, f.Bytes)
		}
	}
	s.items(t, 2)
	_, exit := s.command("items", "code", "far-keyframes", "--heights", "180,90")
	require.Zero(t, exit)
	state := func(name string) *library.Coding {
		e, err := s.api.Item(context.Background(), name)
		require.NoError(t, err)
		return e.Coding
	}
	eventually(t, "it is being coded", func() bool { return state("far-keyframes").Percent > 0 })
	_, exit = s.command("items", "pause", "far-keyframes")
	require.Zero(t, exit)
	assert.Equal(t, "paused", state("far-keyframes").State)
	s.stop(syscall.SIGKILL)
	s.start()
	s.items(t, 2)
	assert.Equal(t, "paused", state("far-keyframes").State)
	_, exit = s.command("items", "resume", "far-keyframes")
	require.Zero(t, exit)
	_, exit = s.command("items", "code", "booth")
	require.Zero(t, exit)
	var e library.Entry
	eventually(t, "both are encoded and looked into", func() bool {
		e, err = s.api.Item(context.Background(), "far-keyframes")
		b, err2 := s.api.Item(context.Background(), "booth")
		if c := e.Coding; c != nil && c.State == "failed" {
			t.Fatal(c.Trouble)
		}
		return err == nil && err2 == nil && e.Coding.State == "done" && b.Coding.State == "done" && e.Looking == 0 && b.Looking == 0 && len(e.Tracks) == 3 && b.Trouble == ""
	})
	assert.Equal(t, int64(4000), e.Tracks[0].KeyMillis)
	content(t, s.http+"/items/far-keyframes/index.m3u8")
	content(t, s.http+"/items/far-keyframes/index.mpd")
	for _, file := range []string{"180p", "90p"} {
		path := filepath.Join(s.data, "library", ".coded", "far-keyframes", file+".mp4")
		told, err := exec.Command("mediainfo", "--Output=Video;%FrameCount%", path).CombinedOutput()
		require.NoError(t, err)
		assert.Equal(t, "600", strings.TrimSpace(string(told)), "no picture is missing")
	}
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/embed/library?rung=180p&item=far-keyframes"))
	p.until(`document.querySelector("video")?.readyState > 2`)
	eval[chromedp.Void](p, collector)
	p.until(`window.frames_.filter(f => f.drawn >= 0).length > 60`)
	wrong, read := disorder(eval[[]shown](p, "window.frames_"), 600)
	assert.Empty(t, wrong)
	assert.Greater(t, read, 40)
}

// TestItemsAsAChannel: items one after the other are a channel, again and again, until somebody sends.
func TestItemsAsAChannel(t *testing.T) {
	t.Parallel()
	list, err := files.Make()
	require.NoError(t, err)
	s := start(t)
	for _, f := range list {
		if f.Name == "race-plain.mp4" || f.Name == "race.mkv" || f.Name == "stream.ts" {
			s.put(t, strings.ReplaceAll(f.Name, "race.mkv", "second.mkv"), f.Bytes)
		}
	}
	s.items(t, 3)
	set := settings.Settings{Packaging: settings.Packaging{SegmentMillis: 2000, Window: 12}, Inputs: []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputItems, File: "race-plain+stream+second"}}}
	url := s.channel("replay", set, sourceOnly)
	eventually(t, "all three were on air", func() bool { return s.newest("replay", "source") >= 14 })
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/embed/replay?as=hls"))
	p.until(`document.querySelector("video")?.readyState > 2`)
	eval[chromedp.Void](p, collector)
	p.until(`window.frames_.filter(f => f.drawn >= 0).length > 330`) // over a seam
	wrong, read := disorder(eval[[]shown](p, "window.frames_"), 240)
	assert.Empty(t, wrong, "the items follow each other without a picture lost")
	assert.Greater(t, read, 250)
	stop := s.send(0, camera.Options{URL: url})
	defer stop()
	eventually(t, "who sends goes first", func() bool { f := s.status("replay").Feed; return f != nil && f.Protocol == "RTMP" })
	// What is not there is said.
	_, err = s.api.CreateChannel(context.Background(), settings.Settings{Slug: "nothing", Inputs: []settings.Input{{Kind: settings.InputItems, File: "race-9"}}})
	require.NoError(t, err)
	eventually(t, "it is told", func() bool { return s.hasEvent("input-failed") })
}

// TestFilesOfABrowser: what a browser's own recorder writes plays.
func TestFilesOfABrowser(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/embed/none"))
	eval[chromedp.Void](p, `(async () => {
		const canvas = Object.assign(document.createElement("canvas"), {width: 320, height: 180}), c = canvas.getContext("2d");
		let n = 0;
		const draw = setInterval(() => { c.fillStyle = "hsl(" + n * 5 + " 60% 50%)"; c.fillRect(0, 0, 320, 180); c.fillStyle = "#fff"; c.fillRect(n++ % 300, 60, 20, 60) }, 40);
		const sound = new AudioContext(), tone = sound.createOscillator(), to = sound.createMediaStreamDestination();
		tone.connect(to); tone.start();
		window.files_ = {};
		for (const type of ["video/webm;codecs=vp8,opus", "video/webm;codecs=vp9,opus", "video/webm;codecs=av1,opus", "video/x-matroska;codecs=avc1,opus", "video/mp4;codecs=vp9,opus", "video/mp4;codecs=avc1,opus", "audio/webm;codecs=opus"]) {
			if (!MediaRecorder.isTypeSupported(type)) continue;
			const stream = new MediaStream([...(type.startsWith("audio") ? [] : canvas.captureStream(25).getVideoTracks()), ...to.stream.getAudioTracks()]);
			const r = new MediaRecorder(stream, {mimeType: type}), pieces = [];
			r.ondataavailable = e => pieces.push(e.data);
			r.start(500);
			await new Promise(done => setTimeout(done, 2500));
			await new Promise(done => { r.onstop = done; r.stop() });
			const b = new Uint8Array(await new Blob(pieces).arrayBuffer());
			let text = "";
			for (let i = 0; i < b.length; i += 8192) text += String.fromCharCode(...b.subarray(i, i + 8192));
			window.files_[type] = btoa(text);
		}
		clearInterval(draw);
		window.recorded_ = true;
	})(); 0`)
	require.True(t, p.becomes(`window.recorded_`))
	made := eval[map[string]string](p, `window.files_`)
	require.NotEmpty(t, made)
	ending := map[string]string{"video/webm": ".webm", "audio/webm": ".webm", "video/mp4": ".mp4", "video/x-matroska": ".mkv"}
	for kind, text := range made {
		b, err := base64.StdEncoding.DecodeString(text)
		require.NoError(t, err)
		container, _, _ := strings.Cut(kind, ";")
		s.put(t, strings.NewReplacer("/", "-", ";codecs=", "-", ",", "-").Replace(kind)+ending[container], b)
	}
	for name, e := range s.items(t, len(made)) {
		t.Logf("%s: %s %d ms %+v", name, e.Container, e.Millis, e.Tracks)
		assert.Empty(t, e.Trouble, name)
		assert.InDelta(t, 2500, e.Millis, 1200, name)
		content(t, s.http+"/items/"+name+"/index.m3u8")
		content(t, s.http+"/items/"+name+"/index.mpd")
		for _, way := range []string{"hls", "dash"} {
			p.do(chromedp.Navigate(s.http + "/embed/library?item=" + name + "&as=" + way))
			ok := p.becomes(`document.querySelector("video")?.currentTime > 1.2`)
			_, list, _ := s.get("/items/" + name + "/index.m3u8")
			assert.True(t, ok, "%s as %s: %s\n%s", name, way, eval[string](p, `JSON.stringify([document.querySelector("video")?.currentTime, window.playback?.message])`), list)
		}
	}
}
