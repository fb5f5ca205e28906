package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/settings"
)

// own starts a service with a database of its own.
func own(t *testing.T, args ...string) *service {
	s := &service{t: t, data: t.TempDir(), args: args, http: "http://127.0.0.1:0", rtmp: "rtmp://127.0.0.1:0"}
	s.start()
	t.Cleanup(func() { s.stop(syscall.SIGTERM) })
	return s
}

func (s *service) databasePID() int {
	b, err := os.ReadFile(filepath.Join(s.data, "records", "mariadbd.pid"))
	require.NoError(s.t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	require.NoError(s.t, err)
	return pid
}

// TestDatabaseDiesAndHangsWhileOnAir: media and senders go on, what happens meanwhile is recorded later,
// and everybody who asks is told.
func TestDatabaseDiesAndHangsWhileOnAir(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := own(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, sourceOnly)
	s.send(0, camera.Options{URL: url, Retry: 100 * time.Millisecond})
	eventually(t, "on air", func() bool { return s.newest("start-line", "source") > 1 })
	begun := s.status("start-line").Feed.Begun
	down := func() bool { code, _, _ := s.get("/readyz"); return code == 503 }
	up := func() bool { code, _, _ := s.get("/readyz"); return code == 200 }

	pid := s.databasePID()
	kill(t, pid)
	eventually(t, "a word of it", down)
	before := s.newest("start-line", "source")
	eventually(t, "more segments", func() bool { return s.newest("start-line", "source") > before+1 })
	eventually(t, "the database", up)
	assert.NotEqual(t, pid, s.databasePID(), "it was started again")

	pid = s.databasePID()
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	eventually(t, "a word of it", down)
	eventually(t, "a problem of the service", func() bool {
		list, err := s.api.Health(context.Background())
		return err == nil && len(list.Problems) > 0 && list.Problems[0].What == "database"
	})
	// A key that cannot be checked is not called wrong; one that was right before is known.
	_, err := rtmp.Dial(context.Background(), s.rtmp+"/in/start-line/another", rtmp.Options{})
	assert.ErrorContains(t, err, "Try again in a while")
	second, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	assert.ErrorContains(t, err, "Stop the other sender", "the key was accepted")
	if second != nil {
		second.Cut()
	}
	before = s.newest("start-line", "source")
	eventually(t, "media does not wait", func() bool { return s.newest("start-line", "source") > before+2 })
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	eventually(t, "the database", up)
	assert.Equal(t, begun, s.status("start-line").Feed.Begun, "the sender stayed")
	eventually(t, "what happened meanwhile", func() bool { return s.hasEvent("feed-refused") && s.hasEvent("database-recovered") })
}

func TestRemovedKeySendsItsSenderAway(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	url := s.channel("start-line", settings.Settings{}, sourceOnly)
	conn, err := rtmp.Dial(context.Background(), url, rtmp.Options{})
	require.NoError(t, err)
	keys, err := s.api.Keys(context.Background(), "start-line")
	require.NoError(t, err)
	require.NoError(t, s.api.RemoveKey(context.Background(), "start-line", keys[0].ID))
	var refused *rtmp.RefusedError
	require.ErrorAs(t, <-conn.Failed(), &refused)
	assert.Equal(t, "its contribution key was removed", refused.Text)
	eventually(t, "no sender", func() bool { st := s.status("start-line"); return st.Feed == nil && st.LastFeed != nil })
	assert.Equal(t, refused.Text, s.status("start-line").LastFeed.Reason)
	_, err = rtmp.Dial(context.Background(), url, rtmp.Options{})
	assert.ErrorContains(t, err, "Copy the key", "it is not known in memory any more")
}

// TestLikeEventsAreOne: who guesses keys does not wipe the log.
func TestLikeEventsAreOne(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	s.channel("start-line", settings.Settings{}, sourceOnly)
	for i := range 30 {
		_, err := rtmp.Dial(context.Background(), fmt.Sprintf("%s/in/start-line/guess%d", s.rtmp, i), rtmp.Options{})
		require.Error(t, err)
	}
	eventually(t, "a count", func() bool {
		refused, count := map[string]int{}, int64(0)
		for _, e := range s.events() {
			if e.Kind == "feed-refused" {
				_, text, _ := strings.Cut(e.Text, ": ")
				refused[text]++
				count += e.Count
			}
		}
		wrong, more := refused["the contribution key is wrong."], refused["too many keys that nobody knows come at a time; it was not checked."]
		return count == 30 && wrong == 1 && more <= 1 && len(refused) == wrong+more // those that come too fast are another event, once
	})
}

func TestBadInputIsToldInASentence(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	s.channel("start-line", settings.Settings{}, sourceOnly)
	post := func(method, path, body string) (int, api.Error) {
		req, err := http.NewRequest(method, s.http+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.api.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		var e api.Error
		_ = json.NewDecoder(res.Body).Decode(&e)
		return res.StatusCode, e
	}
	for _, c := range []struct {
		path, body string
		status     int
		says       string
	}{
		{"/channels/start-line/keys", `{"label":"` + strings.Repeat("x", 500) + `"}`, 422, "found 500 characters, expected 120 at most"},
		{"/tokens", `{"label":"` + strings.Repeat("ü", 121) + `"}`, 422, "found 121 characters"},
		{"/channels/start-line/keys", `{"label":"a\u0007b"}`, 422, "control character U+0007"},
		{"/channels/start-line/keys", `{"label":"a"} trailing`, 400, "behind the JSON value"},
		{"/channels", `{"slug":"x","title":"two\nlines"}`, 422, "control character U+000A"},
		{"/channels/start-line/markers", `{"text":"a\u0000b"}`, 400, "control character U+0000"},
		{"/channels", `{"slug":"x","title":"` + strings.Repeat("x", 2<<20) + `"}`, 413, "more than 1048576 bytes"},
	} {
		status, e := post("POST", c.path, c.body)
		text := e.Text
		for _, p := range e.Problems {
			text += "; " + p.Text
		}
		assert.Equal(t, c.status, status, "%.80s", c.body)
		assert.Contains(t, text, c.says, "%.80s", c.body)
		assert.NotContains(t, strings.ToLower(text), "sql")
	}
	// Two people with one form each: the second is told what the first changed.
	ch, err := s.api.Channel(context.Background(), "start-line")
	require.NoError(t, err)
	stale := ch.Revision
	status, _ := post("PATCH", "/channels/start-line", fmt.Sprintf(`{"title":"First","revision":%d}`, ch.Revision))
	assert.Equal(t, 200, status)
	status, e := post("PATCH", "/channels/start-line", fmt.Sprintf(`{"packaging":{"segmentMillis":4000},"revision":%d}`, ch.Revision))
	assert.Equal(t, 409, status)
	require.Len(t, e.Problems, 1)
	assert.Equal(t, ladder.Problem{Field: "title", Text: "was start-line, is First"}, e.Problems[0])
	ch, err = s.api.Channel(context.Background(), "start-line")
	require.NoError(t, err)
	assert.EqualValues(t, 2000, ch.Settings.SegmentMillis, "nothing was overwritten")
	// Of a group each setting is for itself; null is the default, and what is no setting changes nothing.
	status, _ = post("PATCH", "/channels/start-line", `{"packaging":{"segmentMillis":4000,"language":"en"},"outputs":{"selections":[{"name":"radio","soundOnly":true}]}}`)
	assert.Equal(t, 200, status)
	status, _ = post("PATCH", "/channels/start-line", `{"packaging":{"window":8,"segmentMillis":null},"access":{"closed":false}}`)
	assert.Equal(t, 200, status)
	for body, says := range map[string]string{`{"packaging":{"length":1}}`: `unknown field "length"`, `{"packaging":7}`: "expected an object", `{"slug":"other"}`: "it stays for good", `{"packaging":{"window":"many"}}`: "window", `{"window":8}`: `unknown field "window"`} {
		status, e = post("PATCH", "/channels/start-line", body)
		assert.Equal(t, 400, status, body)
		assert.Contains(t, e.Text, says, body)
	}
	status, e = post("PATCH", "/channels/start-line", fmt.Sprintf(`{"title":"Third","revision":%d}`, ch.Revision))
	assert.Equal(t, 409, status)
	fields := []string{}
	for _, p := range e.Problems {
		fields = append(fields, p.Field)
	}
	assert.Equal(t, []string{"outputs.selections", "packaging.language", "packaging.window"}, fields, "the second is told setting by setting")
	ch, err = s.api.Channel(context.Background(), "start-line")
	require.NoError(t, err)
	assert.EqualValues(t, 2000, ch.Settings.SegmentMillis)
	assert.Equal(t, "en", ch.Settings.Language)
	assert.Len(t, ch.Settings.Selections, 1)
	status, _ = post("PUT", "/channels/start-line/ladder", fmt.Sprintf(`{"planned":true,"rungs":null,"revision":%d}`, stale))
	assert.Equal(t, 409, status)
}

// TestInspectorStaysOut: the console's inspector reaches neither this machine nor its network, by name
// or by redirect, ends in time, and looks at our own addresses.
func TestInspectorStaysOut(t *testing.T) {
	t.Parallel() // it waits more than it works
	var asked atomic.Int64
	secret := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked.Add(1) }))
	defer secret.Close()
	s := start(t)
	s.channel("start-line", settings.Settings{}, sourceOnly)
	_, port, _ := strings.Cut(strings.TrimPrefix(secret.URL, "http://"), ":")
	for _, address := range []string{secret.URL + "/x.m3u8", "http://localhost:" + port + "/x.m3u8", "http://[::1]:" + port + "/", "http://127.1.2.3:" + port + "/", "http://169.254.169.254/latest", "http://10.0.0.1/", "http://[::ffff:127.0.0.1]:" + port + "/"} {
		_, err := inspectOverAPI(s, address, 1)
		assert.ErrorContains(t, err, "not allowed", address)
	}
	assert.Zero(t, asked.Load(), "nothing was asked")
	_, err := inspectOverAPI(s, s.http+"/media/start-line/index.m3u8", 1)
	assert.ErrorContains(t, err, "503", "our own address is looked at, though it has nothing yet")

	allowed := start(t, "--inspect-private")
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "#EXTM3U\n")
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}))
	defer slow.Close()
	begin := time.Now()
	_, err = inspectOverAPI(allowed, slow.URL+"/x.m3u8", 1)
	assert.Error(t, err)
	assert.Less(t, time.Since(begin), 15*time.Second, "it was asked for one second")
}

func inspectOverAPI(s *service, address string, seconds int) (int, error) {
	body, _ := json.Marshal(api.Inspection{Address: address, Seconds: seconds})
	req, err := http.NewRequest(http.MethodPost, s.http+"/api/v1/inspect", strings.NewReader(string(body)))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+s.api.Token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 400 {
		var e api.Error
		_ = json.NewDecoder(res.Body).Decode(&e)
		return res.StatusCode, errors.New(e.Text)
	}
	return res.StatusCode, nil
}

func TestHeadersAndListings(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t, "--metrics", "127.0.0.1:0")
	for _, path := range []string{"/", "/watch/x", "/embed/x", "/livez", "/readyz", "/api/v1/me", "/api/v1/openapi.json", "/media/x/index.m3u8", "/icon.svg", "/assets/", "/assets/none.js"} {
		_, _, h := s.get(path)
		assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), path)
		if policy := h.Get("Content-Security-Policy"); !strings.HasPrefix(path, "/media/") {
			assert.Contains(t, policy, "base-uri", path)
			assert.Contains(t, policy, "form-action", path)
		}
	}
	code, body, _ := s.get("/assets/")
	assert.Equal(t, 404, code)
	assert.NotContains(t, string(body), ".js", "no listing")
	code, _, _ = s.get("/metrics")
	assert.Equal(t, 404, code, "metrics have an address of their own")
	// The pages keep their own policy.
	p := open(t)
	url := s.channel("start-line", settings.Settings{}, sourceOnly)
	s.send(0, camera.Options{URL: url, Captions: []string{"WIND 14 KNOTS"}})
	p.do(chromedp.Navigate(s.http + "/watch/start-line?as=hls"))
	eval[chromedp.Void](p, `window.violations_ = []; document.addEventListener("securitypolicyviolation", e => violations_.push(e.violatedDirective + " " + e.blockedURI))`)
	p.until(`(v => v && v.readyState >= 3 && v.currentTime > 2 && [...v.textTracks].some(t => { t.mode = "showing"; return t.cues?.length > 0; }))(document.querySelector("video"))`)
	assert.Empty(t, eval[[]string](p, "window.violations_"))
}

func TestCommandsFindTheService(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	s.channel("start-line", settings.Settings{}, sourceOnly)
	cmd := exec.Command(binary, "channels", "list")
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.data, "XDG_DATA_HOME=" + s.data, "XDG_CONFIG_HOME=" + t.TempDir()}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "start-line")
	s.stop(syscall.SIGKILL)
	cmd = exec.Command(binary, "channels", "list")
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.data, "XDG_DATA_HOME=" + s.data, "XDG_CONFIG_HOME=" + t.TempDir()}
	out, _ = cmd.CombinedOutput()
	assert.Equal(t, 3, cmd.ProcessState.ExitCode(), "what a crash left leads nowhere: %s", out)
}

// TestAChannelMadeAgainHasOtherAddresses: nothing that a cache keeps for a year gets other bytes.
func TestAChannelMadeAgainHasOtherAddresses(t *testing.T) {
	t.Parallel() // it waits more than it works
	s := start(t)
	seen := map[string]bool{}
	last := uint64(0)
	for turn := range 2 {
		url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 500}}, sourceOnly)
		stop := s.send(0, camera.Options{URL: url, NoVideo: true})
		eventually(t, "segments", func() bool { return s.newest("start-line", "audio") >= int64(last)+3 })
		p := s.playlist("start-line", "audio")
		for _, e := range p.Entries {
			assert.False(t, seen[e.URI], e.URI)
			seen[e.URI] = true
			if turn > 0 {
				assert.Greater(t, e.MSN, last, "numbers go on")
			}
		}
		last = p.Entries[len(p.Entries)-1].MSN
		stop()
		require.NoError(t, s.api.RemoveChannel(context.Background(), "start-line"))
	}
}

// TestThePageSaysWhatIsOld: when the sender goes, the picture and the figures say so, and a page that
// is loaded again is still one viewer.
func TestThePageSaysWhatIsOld(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}}, ladder.Rung{Name: "source", On: true, Source: true})
	stop := s.send(0, camera.Options{URL: url})
	eventually(t, "on air", func() bool { return s.newest("start-line", "source") >= 1 })
	p := open(t)
	const playing = `(v => v && v.readyState >= 3 && v.currentTime > 0)(document.querySelector("video"))`
	for range 4 {
		p.do(chromedp.Navigate(s.http + "/watch/start-line"))
		p.until(playing)
	}
	eventually(t, "one viewer", func() bool {
		n := 0
		for _, v := range s.status("start-line").Viewers {
			n += v
		}
		return n == 1
	})
	stop()
	p.until(`!!` + playerTree + `.querySelector("[data-stale]")`)
	assert.Contains(t, eval[string](p, playerTree+`.querySelector("[data-stale]").innerText`), "stopped at")
	s.send(0, camera.Options{URL: url})
	p.until(`!` + playerTree + `.querySelector("[data-stale]") && ` + playing)
	p.do(chromedp.Navigate("about:blank"))
	begin := time.Now()
	eventually(t, "nobody", func() bool { return len(s.status("start-line").Viewers) == 0 })
	assert.Less(t, time.Since(begin), 12*time.Second, "who left is missed within seconds")
}
