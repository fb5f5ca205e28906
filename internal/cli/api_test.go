package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/api"
)

// browser calls the API as a page does: with a cookie, after its user signed in.
type browser struct {
	t    *testing.T
	http http.Client
	base string
}

func (b *browser) call(method, path string, in, out any) int {
	b.t.Helper()
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		require.NoError(b.t, err)
		body = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(b.t.Context(), method, b.base+"/api/v1"+path, body)
	require.NoError(b.t, err)
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	res, err := b.http.Do(r)
	require.NoError(b.t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(b.t, err)
	if out != nil {
		require.NoError(b.t, json.Unmarshal(text, out), "%s %s: %s", method, path, text)
	}
	return res.StatusCode
}

func newBrowser(t *testing.T, d *desk, user, password string) *browser {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	b := &browser{t, http.Client{Jar: jar}, "http://" + d.s.HTTP}
	require.Less(t, b.call("POST", "/sign-in", map[string]string{"user": user, "password": password}, nil), 300)
	return b
}

// refusal is what an answer says that refuses.
type refusal struct {
	Error    string `json:"error"`
	Do       string `json:"do"`
	Problems []struct{ Field, Text string }
}

// TestRolesOverHTTP: each user may do what the role allows, and a refusal says what to do.
func TestRolesOverHTTP(t *testing.T) {
	d := newDesk(t)
	var no refusal
	stranger := &browser{t, http.Client{}, "http://" + d.s.HTTP}
	assert.Equal(t, http.StatusUnauthorized, stranger.call("GET", "/channels", nil, &no))
	assert.NotEmpty(t, no.Do)
	assert.Equal(t, http.StatusNotFound, stranger.call("GET", "/nothing", nil, &no))
	assert.Contains(t, no.Do, "openapi.json")
	assert.Equal(t, http.StatusMethodNotAllowed, stranger.call("PUT", "/channels", nil, &no))
	admin := newBrowser(t, d, "admin", d.s.FirstPassword)
	const password = "a long pass phrase"
	for name, role := range map[string]api.Role{"wendy": api.Watch, "otto": api.Operate} {
		require.Less(t, admin.call("POST", "/users", api.NewUser{Name: name, Password: password, Role: role}, nil), 300)
	}
	wendy, otto := newBrowser(t, d, "wendy", password), newBrowser(t, d, "otto", password)
	channel := map[string]any{"slug": "pier", "title": "Pier"}
	assert.Equal(t, http.StatusForbidden, wendy.call("POST", "/channels", channel, &no))
	assert.Contains(t, no.Do, "administrator")
	require.Less(t, otto.call("POST", "/channels", channel, nil), 300)
	var list []api.Channel
	require.Equal(t, http.StatusOK, wendy.call("GET", "/channels", nil, &list))
	require.Len(t, list, 1)
	assert.Equal(t, http.StatusForbidden, otto.call("POST", "/users", api.NewUser{Name: "x", Password: password, Role: api.Watch}, &no))
	var me api.Me
	require.Equal(t, http.StatusOK, otto.call("GET", "/me", nil, &me))
	assert.Equal(t, api.Operate, me.Role)
	// Who is removed is out at once, with each session.
	require.Less(t, admin.call("DELETE", "/users/otto", nil, nil), 300)
	assert.Equal(t, http.StatusUnauthorized, otto.call("GET", "/me", nil, &no))
	require.Less(t, wendy.call("POST", "/sign-out", nil, nil), 300)
	assert.Equal(t, http.StatusUnauthorized, wendy.call("GET", "/me", nil, &no))
}

// TestChangesThatAreStaleAreRefused: of two who change the same settings the later one is told what the earlier one did.
func TestChangesThatAreStaleAreRefused(t *testing.T) {
	d := newDesk(t)
	d.do("channels", "create", "pier", "--title", "Pier")
	b := newBrowser(t, d, "admin", d.s.FirstPassword)
	var before, after api.Channel
	require.Equal(t, http.StatusOK, b.call("GET", "/channels/pier", nil, &before))
	require.Equal(t, http.StatusOK, b.call("PATCH", "/channels/pier", map[string]any{"revision": before.Revision, "title": "Pier, first"}, &after))
	assert.Greater(t, after.Revision, before.Revision)
	var no refusal
	assert.Equal(t, http.StatusConflict, b.call("PATCH", "/channels/pier", map[string]any{"revision": before.Revision, "title": "Pier, second"}, &no))
	assert.NotEmpty(t, no.Error)
	assert.Equal(t, http.StatusUnprocessableEntity, b.call("PATCH", "/channels/pier", map[string]any{"packaging": map[string]any{"segmentMillis": 1, "window": -1}}, &no))
	fields := []string{}
	for _, p := range no.Problems {
		fields = append(fields, p.Field)
	}
	assert.Contains(t, strings.Join(fields, " "), "segmentMillis", "all that is wrong is listed")
	assert.Contains(t, strings.Join(fields, " "), "window")
	assert.Equal(t, http.StatusBadRequest, b.call("PATCH", "/channels/pier", map[string]any{"colour": "red"}, &no))
	assert.Contains(t, no.Error, "colour")
	require.Equal(t, http.StatusOK, b.call("GET", "/channels/pier", nil, &after))
	assert.Equal(t, "Pier, first", after.Settings.Title)
	// A page of another site cannot use the cookie.
	r, err := http.NewRequestWithContext(t.Context(), "POST", b.base+"/api/v1/sign-out", nil)
	require.NoError(t, err)
	r.Header.Set("Origin", "https://elsewhere.example")
	r.Header.Set("Sec-Fetch-Site", "cross-site")
	res, err := b.http.Do(r)
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusForbidden, res.StatusCode)
}

// TestLiveUpdates: status and health come by themselves, events as they happen, and calls that are followed when their answers change.
func TestLiveUpdates(t *testing.T) {
	d := newDesk(t)
	d.do("channels", "create", "pier")
	b := newBrowser(t, d, "admin", d.s.FirstPassword)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", b.base+"/api/v1/live?also=/channels/pier/relays&also=/hooks", nil)
	require.NoError(t, err)
	res, err := b.http.Do(r)
	require.NoError(t, err)
	defer func() { _ = res.Body.Close() }()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	next := func(kind string, fits func(data string) bool) string {
		t.Helper()
		for at := ""; lines.Scan(); {
			if k, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				at = k
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok && at == kind && fits(data) {
				return data
			}
		}
		t.Fatalf("no %s came: %v", kind, lines.Err())
		return ""
	}
	next("status", func(s string) bool { return strings.Contains(s, `"slug":"pier"`) })
	next("health", func(string) bool { return true })
	next("also", func(s string) bool {
		return strings.Contains(s, `"path":"/channels/pier/relays"`) && strings.Contains(s, `"body":[]`)
	})
	d.do("relays", "add", "pier", "club", "srt://127.0.0.1:9", "--off")
	next("also", func(s string) bool {
		return strings.Contains(s, `"path":"/channels/pier/relays"`) && strings.Contains(s, `"name":"club"`)
	})
	d.do("keys", "create", "pier", "--label", "camera 1")
	next("event", func(s string) bool { return strings.Contains(s, "camera 1") })
	r, err = http.NewRequestWithContext(ctx, "GET", b.base+"/api/v1/live?also=http://elsewhere.example/", nil)
	require.NoError(t, err)
	wrong, err := b.http.Do(r)
	require.NoError(t, err)
	_ = wrong.Body.Close()
	assert.Equal(t, http.StatusBadRequest, wrong.StatusCode)
}

// TestWhatStrangersSee: without a sign-in there are the public list, health, the pages and the API's description.
func TestWhatStrangersSee(t *testing.T) {
	d := newDesk(t)
	d.do("channels", "create", "pier", "--title", "Pier")
	get := func(path string) (int, string, http.Header) {
		res, err := http.Get("http://" + d.s.HTTP + path)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b), res.Header
	}
	for path, says := range map[string]string{"/livez": "alive", "/readyz": "ready", "/": "<html", "/watch/pier": "<html", "/api/v1/openapi.json": `"openapi"`, "/api/v1/public": "[]", "/api/v1/public/pier": `"state":"waiting"`} {
		code, body, _ := get(path)
		assert.Equal(t, http.StatusOK, code, path)
		assert.Contains(t, body, says, path)
	}
	for path, want := range map[string]int{"/metrics": 401, "/api/v1/users": 401, "/api/v1/live": 401, "/nothing": 404, "/media/pier/index.m3u8": 503, "/media/none/index.m3u8": 404, "/items/none/index.m3u8": 404, "/api/v1/public/none": 404} {
		code, body, h := get(path)
		assert.Equal(t, want, code, path)
		assert.NotEmpty(t, body, path)
		if strings.HasPrefix(path, "/api") {
			assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), path)
		}
	}
	_, _, h := get("/")
	assert.NotEmpty(t, h.Get("Content-Security-Policy"))
}
