package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/demo/files"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// keeping is a channel of short segments with a time-shift of half an hour.
var keeping = settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000, Window: 4}, Keeping: settings.Keeping{TimeShiftMinutes: 30}}

// past reads a media playlist of what lies back, and every segment that it lists.
func (s *service) past(slug, rendition, query string) *hls.Playlist {
	s.t.Helper()
	code, b, _ := s.get("/media/" + slug + "/" + rendition + "/index.m3u8?" + query)
	require.Equal(s.t, 200, code, string(b))
	list, err := hls.ReadMedia(b)
	require.NoError(s.t, err)
	for _, e := range list.Entries {
		if e.Gap {
			continue
		}
		code, b, h := s.get(path.Join("/media", slug, rendition, e.URI))
		require.Equal(s.t, 200, code, e.URI)
		assert.NotEmpty(s.t, b)
		assert.Contains(s.t, h.Get("Cache-Control"), "immutable")
	}
	return list
}

func TestTimeShiftReachesBackThroughRestarts(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", keeping, sourceOnly, ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1})
	began := time.Now()
	stop := s.send(0, camera.Options{URL: url})
	eventually(t, "more than a window was on air", func() bool { return s.newest("start-line", "180p") >= 14 })
	for _, rendition := range []string{"source", "180p", "audio"} {
		list := s.past("start-line", rendition, "from="+began.UTC().Format(time.RFC3339))
		assert.GreaterOrEqual(t, len(list.Entries), 13, rendition)
		assert.False(t, list.Ended)
	}
	// A time that is told from now is fixed with the first answer.
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get(s.http + "/media/start-line/index.m3u8?from=8%20seconds%20ago")
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusFound, res.StatusCode)
	assert.Regexp(t, `^index\.m3u8\?from=2\d\d\d-.*Z$`, res.Header.Get("Location"))
	for _, wrong := range []string{"from=yesterday", "from=2026-01-01T00:00:00Z&to=2025-01-01T00:00:00Z", "recording=7", "recording=x"} {
		code, b, _ := s.get("/media/start-line/index.m3u8?" + wrong)
		assert.Contains(t, []int{400, 404}, code, "%s: %s", wrong, b)
	}
	s.inspectAll("start-line", "index.m3u8?from=10s", "index.mpd?from=10s")

	// A crash of the service, and a change of feeds.
	s.stop(syscall.SIGKILL)
	stop()
	s.start()
	list := s.past("start-line", "180p", "from="+began.UTC().Format(time.RFC3339))
	before := len(list.Entries)
	assert.GreaterOrEqual(t, before, 12, "what was kept is there before the channel is on air again")
	key, err := s.api.CreateKey(context.Background(), "start-line", api.NewKey{Label: "again"})
	require.NoError(t, err)
	stop = s.send(0, camera.Options{URL: key.URL})
	defer stop()
	eventually(t, "on air again", func() bool {
		code, b, _ := s.get("/media/start-line/180p/index.m3u8?from=" + began.UTC().Format(time.RFC3339))
		l, err := hls.ReadMedia(b)
		return code == 200 && err == nil && len(l.Entries) > before+4
	})
	list = s.past("start-line", "180p", "from="+began.UTC().Format(time.RFC3339))
	breaks := 0
	for _, e := range list.Entries {
		if e.Discontinuity {
			breaks++
		}
	}
	assert.Equal(t, 1, breaks-boolInt(list.Entries[0].Discontinuity), "one seam")
	s.inspectAll("start-line", "index.m3u8?from=60s", "index.mpd?from=60s")
	st := s.status("start-line")
	require.NotNil(t, st.Kept)
	assert.Positive(t, st.Kept.Bytes)
	assert.WithinDuration(t, began, st.Kept.Oldest, 10*time.Second)
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// recorded waits until a recording is complete.
func (s *service) recorded(id int64) api.Recording {
	s.t.Helper()
	var r api.Recording
	eventually(s.t, "the recording is complete", func() bool {
		var err error
		r, err = s.api.Recording(context.Background(), id)
		return err == nil && r.State == api.Complete
	})
	return r
}

// TestRecordingsBecomeFiles records across two feeds and a change of the ladder, and plays what comes out.
func TestRecordingsBecomeFiles(t *testing.T) {
	t.Parallel()
	s := start(t)
	set := keeping
	set.TimeShiftMinutes = 0
	small := ladder.Rung{Name: "180p", On: true, Height: 180, Bitrate: 300_000, Effort: 1}
	url := s.channel("start-line", set, sourceOnly, small)
	rec, err := s.api.AddRecording(context.Background(), "start-line", api.NewRecording{Title: "Race 3", Days: 7})
	require.NoError(t, err)
	stop := s.send(0, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest("start-line", "180p") >= 5 })
	_, err = s.api.SetLadder(context.Background(), "start-line", ladder.Ladder{Rungs: []ladder.Rung{sourceOnly, small, {Name: "120p", On: true, Height: 120, Bitrate: 150_000, Effort: 1}}})
	require.NoError(t, err)
	eventually(t, "the new rung", func() bool { return s.newest("start-line", "120p") >= 2 })
	stop()
	stop = s.send(0, camera.Options{URL: url})
	before := s.newest("start-line", "180p")
	eventually(t, "the second feed", func() bool { return s.newest("start-line", "180p") >= before+5 })
	_, err = s.api.StopRecording(context.Background(), rec.ID)
	require.NoError(t, err)
	eventually(t, "the last segment", func() bool { return s.newest("start-line", "180p") >= before+8 })
	stop()
	r := s.recorded(rec.ID)
	assert.Subset(t, r.Kept, []string{"120p", "180p", "audio", "source"})
	query := "recording=" + r.Name
	for _, rendition := range []string{"source", "180p", "120p"} {
		list := s.past("start-line", rendition, query)
		assert.True(t, list.Ended)
		for _, e := range list.Entries {
			assert.False(t, e.Gap, "%s stands in where %s was not made", "another rung", rendition)
		}
	}
	s.inspectAll("start-line", "index.m3u8?"+query, "index.mpd?"+query)
	if t.Failed() {
		for _, rendition := range []string{"source", "180p", "audio"} {
			_, b, _ := s.get("/media/start-line/" + rendition + "/index.m3u8?" + query)
			t.Logf("%s:\n%s", rendition, b)
		}
	}

	p := open(t)
	defer p.stop()
	dir := t.TempDir()
	for _, file := range []string{"180p.mp4", "180p.m4s", "source.mp4", "180p.ts"} {
		res, err := http.Get(s.http + "/media/start-line/" + file + "?" + query)
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		_ = res.Body.Close()
		require.NoError(t, err)
		require.Equal(t, 200, res.StatusCode, string(b[:min(len(b), 300)]))
		name := filepath.Join(dir, file)
		require.NoError(t, os.WriteFile(name, b, 0o600))
		if file == "source.mp4" || filepath.Ext(file) == ".ts" {
			continue
		}
		p.do(chromedp.Navigate(s.http + "/embed/none"))
		eval[chromedp.Void](p, fmt.Sprintf(`document.body.innerHTML = '<video muted autoplay src="/media/start-line/%s?%s" style="width:640px"></video>'`, file, query))
		eval[chromedp.Void](p, collector)
		p.becomes(`document.querySelector("video").ended`)
		list := eval[[]shown](p, "window.frames_")
		wrong, read := disorder(list, demo.Loops[0].Frames)
		_ = wrong // at the seam between the feeds the numbers start over
		assert.Greater(t, read, 200, file)
		assert.Empty(t, eval[string](p, `document.querySelector("video").error?.message ?? ""`))
		t.Log(file, len(b), read, wrong, eval[float64](p, `document.querySelector("video").duration`))
	}
}

// fill writes an hour and more of a loop into the store of a service that stands still, as if it had been on air. It returns the wall
// clock at the first picture of the loop's first turn.
func (s *service) fill(slug string, ago, length time.Duration) time.Time {
	t := s.t
	folder := store.Folder(filepath.Join(s.data, "store"))
	was, err := store.Open(store.Options{Place: folder}, nil)
	require.NoError(t, err)
	span, err := was.Span(context.Background(), slug, time.Now().Add(-time.Hour), time.Time{})
	require.NoError(t, err)
	db, err := sql.Open("mysql", s.dsn)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	// The channel is older than it is, and its numbers are further on.
	const older = 3 * time.Hour
	for _, q := range []string{"UPDATE channels SET created = created - INTERVAL 3 HOUR, next_msn = 100000", "DELETE FROM bundles"} {
		_, err = db.Exec(q)
		require.NoError(t, err)
	}
	epoch := span.Epoch.Add(-older)
	loop := int64(demo.Loops[0].Frames) * media.VideoTimescale / 30
	begin := media.TicksSince(epoch, time.Now().Add(-ago)) / loop * loop
	const turns = 4 // segments of a turn of the loop, whose keyframes lie two seconds apart
	strips := map[string]store.RenditionSpan{}
	units := map[*segment.Segment][]media.AccessUnit{}
	for _, st := range span.Renditions {
		if st.Rendition != "source" && st.Rendition != "audio" {
			continue
		}
		st.List = st.List[:turns] // the feed begins with the loop's first picture
		strips[st.Rendition] = st
		for _, seg := range st.List {
			b, err := seg.Bytes()
			require.NoError(t, err)
			f, err := bmff.ReadFragments(b[0])
			require.NoError(t, err)
			for k := range f {
				units[seg] = append(units[seg], f[k].Units...)
			}
		}
	}
	first := strips["source"].List[0].Start
	was.Close()
	require.NoError(t, os.RemoveAll(string(folder)))
	now, err := store.Open(store.Options{Place: folder}, nil)
	require.NoError(t, err)
	now.Set(slug, store.Keeping{TimeShift: 24 * time.Hour})
	msn := uint64(0)
	for turn := int64(0); turn*loop < int64(length/time.Second)*media.VideoTimescale; turn++ {
		for i := range turns {
			for name, st := range strips {
				seg := st.List[i]
				scale := seg.Header.Track.Timescale
				shift := begin + turn*loop - first
				list := slices.Clone(units[seg])
				for k := range list {
					list[k].DTS += media.Rescale(shift, media.VideoTimescale, scale)
					list[k].PTS += media.Rescale(shift, media.VideoTimescale, scale)
				}
				b := bmff.Chunk(&seg.Header.Track, bmff.ChunkOptions{Sequence: uint32(msn), First: true}, list)
				now.Keep(slug, name, map[string]string{"source": "audio"}[name], epoch, &segment.Segment{
					MSN: msn, Prefix: "fill-", Discontinuity: msn == 0, Start: seg.Start + shift, Duration: seg.Duration, Header: seg.Header, Size: int64(len(b)),
					Blob: segment.Memory{b}, Units: len(list), FirstPTS: list[0].PTS, TrackDuration: seg.TrackDuration,
				})
			}
			for st, _ := now.Status(slug); st.Waiting > 32<<20; st, _ = now.Status(slug) {
				time.Sleep(time.Millisecond) // as fast as the disk takes it
			}
			msn++
		}
	}
	now.Close()
	return media.WallClock(epoch, begin)
}

// TestSeekingAnHourBack goes back in the player by more than an hour, through a restart, to a marker, and to live again.
func TestSeekingAnHourBack(t *testing.T) {
	t.Parallel()
	s := start(t)
	set := keeping
	set.TimeShiftMinutes = 120
	url := s.channel("start-line", set, sourceOnly)
	stop := s.send(0, camera.Options{URL: url})
	eventually(t, "two turns of the loop", func() bool { return s.newest("start-line", "source") >= 20 })
	markerAt := time.Now().Add(-50 * time.Minute).Truncate(time.Second)
	_, err := s.api.Mark(context.Background(), "start-line", api.NewMarker{Class: "start", Text: "Race 3", At: markerAt})
	require.NoError(t, err)
	stop()
	s.stop(syscall.SIGTERM)
	origin := s.fill("start-line", 70*time.Minute, 69*time.Minute)
	s.start()
	key, err := s.api.CreateKey(context.Background(), "start-line", api.NewKey{Label: "again"})
	require.NoError(t, err)
	s.send(0, camera.Options{URL: key.URL})
	eventually(t, "on air", func() bool { return s.newest("start-line", "source") >= 100004 })
	_, list, _ := s.get("/media/start-line/source/index.m3u8?from=" + markerAt.Add(-time.Minute).UTC().Format(time.RFC3339))
	assert.Contains(t, string(list), `X-TEXT="Race 3"`, "a marker outlives the service, and stands in the time-shift")

	p := open(t)
	defer p.stop()
	p.do(chromedp.Navigate(s.http + "/embed/start-line?as=ll-hls"))
	p.until(`(v => v && v.readyState >= 3 && v.currentTime > 0)(document.querySelector("video"))`)
	p.until(`window.playback.back && window.playback.markers.length === 1`)
	eval[chromedp.Void](p, collector)
	// shows checks that what is on screen lies at a time, and that its pictures follow each other.
	shows := func(what string, back time.Duration) {
		t.Helper()
		ok := p.becomes(fmt.Sprintf(`Math.abs(window.playback.behind - %f) < 30 && window.frames_.filter(f => f.drawn >= 0).length > 40`, back.Seconds()))
		require.True(t, ok, "%s: %s", what, eval[string](p, `(v => JSON.stringify([window.playback.behind, window.frames_.length, window.playback.message, window.playback.from, window.playback.oldest, v.currentTime, v.readyState, v.paused, v.seeking, [...Array(v.buffered.length).keys()].map(i => v.buffered.start(i) + "-" + v.buffered.end(i)), performance.getEntriesByType("resource").slice(-8).map(e => e.name.split("/media/")[1])]))(document.querySelector("video"))`))
		list := eval[[]shown](p, "window.frames_")
		wrong, read := disorder(list, demo.Loops[0].Frames)
		assert.Empty(t, wrong, what)
		assert.Greater(t, read, 30, what)
	}
	clear := `window.frames_.length = 0; window.asked_ = performance.now(); document.querySelector("video").addEventListener("seeked", () => {}, {once: true})`
	for _, back := range []time.Duration{time.Hour + 5*time.Minute, 20 * time.Minute, time.Hour} {
		eval[chromedp.Void](p, clear+fmt.Sprintf(`; window.playback.playAt(Date.now() - %d)`, back.Milliseconds()))
		p.becomes(`window.frames_.length > 0`)
		t.Logf("%v back: the first picture after %.0f ms", back, eval[float64](p, `performance.now() - window.asked_`))
		shows(back.String()+" back", back)
		// The picture is the one that was on air then.
		v := eval[[]float64](p, `(f => [f.drawn, Date.now() - window.playback.behind * 1000])(window.frames_.filter(f => f.drawn >= 0).at(-1))`)
		due := time.UnixMilli(int64(v[1])).Sub(origin).Seconds() * 30
		away := (int(due) - int(v[0])%demo.Loops[0].Frames + 1000*demo.Loops[0].Frames) % demo.Loops[0].Frames
		assert.True(t, away < 20 || away > demo.Loops[0].Frames-20, "picture %v where %v was on air", v[0], due)
	}
	s.inspectAll("start-line", "index.m3u8?from=20m", "index.mpd?from=20m")

	eval[chromedp.Void](p, clear+`; `+playerTree+`.querySelector(".marker").click()`)
	shows("at the marker", time.Since(markerAt))
	eval[chromedp.Void](p, clear+`; window.playback.toLive()`)
	shows("live", 2*time.Second)
	assert.Equal(t, "ll-hls", eval[string](p, "window.playback.way"))
	// More than a minute has passed: it is in the records.
	eventually(t, "a minute of statistics", func() bool {
		out, exit := s.command("export", "statistics", "--channel", "start-line")
		return exit == 0 && strings.Contains(out, ",60,start-line,")
	})
}

// TestFilesElsewherePlay writes a channel to a folder and to a server that takes PUT, and plays it from there in the browser's own player.
func TestFilesElsewherePlay(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.Trim(r.URL.Path, "/")
		switch r.Method {
		case http.MethodPut:
			_ = root.MkdirAll(path.Dir(name), 0o755)
			b, err := io.ReadAll(r.Body)
			if err == nil {
				err = root.WriteFile(name, b, 0o644)
			}
			if err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
			}
		case http.MethodDelete:
			_ = root.Remove(name)
		default:
			http.FileServerFS(os.DirFS(dir)).ServeHTTP(w, r)
		}
	}))
	defer site.Close()
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000, Window: 6}, Relays: []settings.Relay{
		{Name: "site", Address: "put+" + site.URL + "/regatta/{channel}"}, {Name: "disk", Address: "folder://www/{channel}"},
	}}, sourceOnly)
	s.send(0, camera.Options{URL: url})
	onDisk := filepath.Join(s.data, "sent", "www", "start-line")
	eventually(t, "files in both places", func() bool {
		_, a := os.Stat(filepath.Join(onDisk, "index.mpd"))
		_, b := os.Stat(filepath.Join(dir, "regatta", "start-line", "index.m3u8"))
		return a == nil && b == nil
	})
	eventually(t, "a full list", func() bool {
		b, err := os.ReadFile(filepath.Join(onDisk, "source", "index.m3u8"))
		return err == nil && strings.Count(string(b), "#EXTINF") == 6
	})
	folder := httptest.NewServer(http.FileServerFS(os.DirFS(onDisk)))
	defer folder.Close()
	p := open(t)
	defer p.stop()
	for _, at := range []string{site.URL + "/regatta/start-line/index.m3u8", folder.URL + "/index.m3u8"} {
		p.do(chromedp.Navigate(strings.Join(strings.Split(at, "/")[:3], "/") + "/"))
		eval[chromedp.Void](p, fmt.Sprintf(`document.body.innerHTML = '<video muted autoplay src="%s" style="width:640px"></video>'`, at))
		eval[chromedp.Void](p, collector)
		ok := p.becomes(`window.frames_.filter(f => f.drawn >= 0).length > 90`)
		require.True(t, ok, "%s: %s", at, eval[string](p, `(v => JSON.stringify([v.error?.message, v.readyState, v.currentTime, window.frames_.length]))(document.querySelector("video"))`))
		wrong, read := disorder(eval[[]shown](p, "window.frames_"), demo.Loops[0].Frames)
		assert.Empty(t, wrong, at)
		assert.Greater(t, read, 60, at)
	}
	for _, r := range s.status("start-line").Relays {
		assert.EqualValues(t, "sending", r.State, r.Name)
		assert.Positive(t, r.Bytes)
	}
}

// TestFilesOnDemand puts files into the library's folder and plays them by HLS and DASH; files that do not play say why.

// TestClipsAreExactAtBothEnds: by the edit list, and with the edges re-encoded, in an MP4 and in a transport stream.
func TestClipsAreExactAtBothEnds(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", keeping, sourceOnly)
	stop := s.send(0, camera.Options{URL: url})
	began := time.Now()
	eventually(t, "a while on air", func() bool { return s.newest("start-line", "source") >= 6 })
	stop()
	var list *hls.Playlist
	eventually(t, "it is kept", func() bool {
		list = s.past("start-line", "source", "from="+began.UTC().Format(time.RFC3339))
		return len(list.Entries) >= 5
	})
	first := list.Entries[0].DateTime.Add(list.Entries[0].Duration)
	require.False(t, first.IsZero())
	from, to := first.Add(370*time.Millisecond), first.Add(5590*time.Millisecond)
	query := "?from=" + from.UTC().Format("2006-01-02T15:04:05.000Z") + "&to=" + to.UTC().Format("2006-01-02T15:04:05.000Z")
	const pictures = 156 // those that come from 0.37 s to 5.59 s, at 30 a second
	p := open(t)
	defer p.stop()
	dir := t.TempDir()
	var begin, end []int
	for _, file := range []string{"source.mp4" + query, "source.mp4" + query + "&edges=coded"} {
		p.do(chromedp.Navigate(s.http + "/embed/none"))
		// As a file: what is written as it is asked for cannot be sought in.
		eval[chromedp.Void](p, fmt.Sprintf(`document.body.innerHTML = '<video muted preload=auto style="width:640px"></video>'; fetch("/media/start-line/%s").then(r => r.blob()).then(b => { document.querySelector("video").src = URL.createObjectURL(b) }); 0`, file))
		p.until(`document.querySelector("video").readyState > 2`)
		eval[chromedp.Void](p, collector)
		assert.InDelta(t, 5.22, eval[float64](p, `document.querySelector("video").duration`), 0.05, file)
		at := func(seconds string) int { // from elsewhere, so that a picture is shown again
			eval[chromedp.Void](p, `document.querySelector("video").currentTime = 2.5`)
			require.True(t, p.becomes(`!document.querySelector("video").seeking`), "%s: %s", file, eval[string](p, `(v => JSON.stringify([v.currentTime, v.readyState, v.networkState, v.error?.message, v.duration, v.seekable.length && v.seekable.end(0), v.buffered.length && [v.buffered.start(0), v.buffered.end(0)], v.videoWidth]))(document.querySelector("video"))`))
			eval[chromedp.Void](p, `window.frames_.length = 0; document.querySelector("video").currentTime = `+seconds)
			p.until(`!document.querySelector("video").seeking && window.frames_.some(f => f.drawn >= 0)`)
			return eval[int](p, `window.frames_.findLast(f => f.drawn >= 0).drawn`)
		}
		begin, end = append(begin, at("0.001")), append(end, at(`document.querySelector("video").duration - 0.001`))
	}
	loop := demo.Loops[0].Frames
	assert.Equal(t, begin[0], begin[1], "both begin with one picture")
	assert.Equal(t, end[0], end[1], "both end with one picture")
	assert.InDelta(t, pictures-1, (end[1]-begin[1]+loop)%loop, 1, "from picture %d to %d", begin[1], end[1])
	for _, ending := range []string{".mp4", ".m4s", ".ts"} {
		_, b, _ := s.get("/media/start-line/source" + ending + query + "&edges=coded")
		file := filepath.Join(dir, "clip"+strings.ReplaceAll(ending, "m4s", "frag.mp4"))
		require.NoError(t, os.WriteFile(file, b, 0o600))
		it, err := item.Open(item.Options{Files: []item.Source{files.Memory(b)}, NewHeader: segment.NewHeader})
		require.NoError(t, err, ending)
		for i := range it.Tracks {
			if tr := &it.Tracks[i]; tr.Kind == media.Video {
				assert.Equal(t, (end[1]-begin[1]+loop)%loop+1, tr.Count(), "%s: nothing is in the file that is not shown", ending)
			}
		}
	}
	code, _, _ := s.get("/media/start-line/source.mp4" + query[:strings.Index(query, "&")] + "&edges=coded")
	assert.Contains(t, []int{200, 400}, code)
}
