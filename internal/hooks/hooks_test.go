package hooks

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func started(t *testing.T, folder string, list ...Hook) *Runner {
	r := &Runner{Folder: folder}
	r.Start()
	t.Cleanup(r.Close)
	r.Set(list)
	return r
}

// TestCallsAreSignedAndRepeated answers the first call with an error.
func TestCallsAreSignedAndRepeated(t *testing.T) {
	before := pauses
	pauses = []time.Duration{time.Millisecond, time.Millisecond}
	defer func() { pauses = before }()
	var calls atomic.Int64
	got := make(chan string, 9)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		assertSigned(t, r, b, "s3cret")
		if calls.Add(1) == 1 {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		got <- string(b)
	}))
	defer server.Close()
	r := started(t, "", Hook{ID: 1, URL: server.URL, Secret: "s3cret", Channel: "line"}, Hook{ID: 2, URL: server.URL, Events: []string{OnAir}, Secret: "s3cret"})
	r.Fire(Happening{Event: FeedBegun, Channel: "other"})
	r.Fire(Happening{Event: FeedBegun, Channel: "line", Text: "A sender connected."})
	assert.Contains(t, <-got, `"event":"feed-begun"`)
	require.Eventually(t, func() bool { list, _ := r.Deliveries(1); return len(list) == 1 && list[0].Done }, 5*time.Second, time.Millisecond)
	list, lost := r.Deliveries(0)
	assert.Zero(t, lost)
	assert.Equal(t, []any{1, 2, "200 OK"}, []any{len(list), list[0].Tries, list[0].Status})

	server.Close()
	r.Fire(Happening{Event: OnAir, Channel: "other"})
	require.Eventually(t, func() bool { list, _ := r.Deliveries(2); return len(list) == 1 && list[0].GivenUp }, 5*time.Second, time.Millisecond)
}

func TestCommands(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\n"+text), 0o700))
	}
	write("note", "cat > noted; echo done")
	write("no", "echo 'not this one'; exit 3")
	write("slow", "sleep 60")
	r := started(t, folder, Hook{ID: 1, Command: "note"}, Hook{ID: 2, Command: "no", Events: []string{Admission}, Channel: "closed"},
		Hook{ID: 3, Command: "slow", Events: []string{Admission}, Channel: "slow"}, Hook{ID: 4, Command: "slow", Events: []string{Admission}, Channel: "strict", Strict: true})
	r.Fire(Happening{Event: ProblemBegun, Channel: "line", Text: "Nothing has come."})
	require.Eventually(t, func() bool { list, _ := r.Deliveries(1); return list[0].Done }, 5*time.Second, time.Millisecond)
	b, err := os.ReadFile(filepath.Join(folder, "noted"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "Nothing has come.")

	ctx := context.Background()
	assert.NoError(t, r.Admit(ctx, Happening{Channel: "line"}))
	assert.EqualError(t, r.Admit(ctx, Happening{Channel: "closed"}), "not this one")
	assert.NoError(t, r.Admit(ctx, Happening{Channel: "slow"}), "who does not answer fails open")
	assert.ErrorContains(t, r.Admit(ctx, Happening{Channel: "strict"}), "does not answer")

	for _, name := range []string{"../note", "", "-x", "a/b"} {
		assert.Contains(t, r.CheckCommand(name), "expected the name of a program", name)
	}
	assert.Contains(t, (&Runner{}).CheckCommand("note"), "--hook-commands")
	d := r.Try(ctx, Hook{ID: 9, Command: "missing"})
	assert.False(t, d.Done)
	assert.NotEmpty(t, d.Status)
}

// assertSigned checks a call as its receiver does: by RFC 9421 and RFC 9530 alone.
func assertSigned(t *testing.T, r *http.Request, body []byte, secret string) {
	sum := sha256.Sum256(body)
	assert.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", r.Header.Get("Content-Digest"))
	label, parameters, _ := strings.Cut(r.Header.Get("Signature-Input"), "=")
	names, rest, _ := strings.Cut(strings.TrimPrefix(parameters, "("), ")")
	assert.Regexp(t, `^;created=\d{10};keyid="hook-\d";alg="hmac-sha256"$`, rest)
	var base strings.Builder
	for name := range strings.FieldsSeq(names) {
		value := ""
		switch name {
		case `"@method"`:
			value = r.Method
		case `"@target-uri"`:
			value = "http://" + r.Host + r.RequestURI
		default:
			value = r.Header.Get(strings.Trim(name, `"`))
		}
		base.WriteString(name + ": " + value + "\n")
	}
	base.WriteString(`"@signature-params": ` + parameters)
	m := hmac.New(sha256.New, []byte(secret))
	m.Write([]byte(base.String()))
	assert.Equal(t, label+"=:"+base64.StdEncoding.EncodeToString(m.Sum(nil))+":", r.Header.Get("Signature"), base.String())
	for _, covered := range []string{"@method", "@target-uri", "content-digest"} {
		assert.Contains(t, names, covered)
	}
}

// TestTheQueueIsBounded fires more than one hook has room for: the other loses nothing.
func TestTheQueueIsBounded(t *testing.T) {
	r := &Runner{wake: make(chan struct{}, 1)}
	r.Set([]Hook{{ID: 1, URL: "http://192.0.2.1/"}, {ID: 2, URL: "http://192.0.2.2/", Events: []string{FeedEnded}}})
	for range maxQueue + 50 {
		r.Fire(Happening{Event: FeedBegun})
	}
	r.Fire(Happening{Event: FeedEnded})
	list, lost := r.Deliveries(0)
	assert.Len(t, list, maxQueue+1)
	assert.EqualValues(t, 51, lost)
	assert.Len(t, r.queue, maxQueue+1)
}

// TestASlowHookHoldsNoOtherUp has one that answers nothing, with more to tell it than there are workers.
func TestASlowHookHoldsNoOtherUp(t *testing.T) {
	hold := make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-hold:
		case <-r.Context().Done():
		}
	}))
	defer slow.Close()
	defer close(hold)
	told := make(chan struct{}, 9)
	quick := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { told <- struct{}{} }))
	defer quick.Close()
	r := started(t, "", Hook{ID: 1, URL: slow.URL}, Hook{ID: 2, URL: quick.URL, Events: []string{OnAir}})
	for range 2 * workers {
		r.Fire(Happening{Event: FeedBegun})
	}
	r.Fire(Happening{Event: OnAir})
	<-told
	list, _ := r.Deliveries(1)
	for _, d := range list {
		assert.False(t, d.Done)
	}
}

// TestWhatWaitsOutlivesAStop stops with a hook that could not be told, and starts again.
func TestWhatWaitsOutlivesAStop(t *testing.T) {
	keep := filepath.Join(t.TempDir(), "waiting.json")
	var well atomic.Bool
	told := make(chan string, 9)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if !well.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		told <- string(b)
	}))
	defer server.Close()
	list := []Hook{{ID: 1, URL: server.URL}}
	r := &Runner{Keep: keep}
	r.Start()
	r.Set(list)
	r.Fire(Happening{Event: FeedEnded, Channel: "line"})
	require.Eventually(t, func() bool { list, _ := r.Deliveries(1); return list[0].Tries == 1 }, 5*time.Second, time.Millisecond)
	r.Close()
	well.Store(true)

	r = &Runner{Keep: keep}
	r.Start()
	defer r.Close()
	r.Set(list)
	r.Fire(Happening{Event: FeedBegun, Channel: "line"})
	assert.Contains(t, <-told, FeedBegun)
	assert.Contains(t, <-told, FeedEnded)
	_, err := os.Stat(keep)
	assert.ErrorIs(t, err, os.ErrNotExist, "it is taken once")
	out, _ := r.Deliveries(1)
	assert.NotEqual(t, out[0].happened.ID, out[1].happened.ID)
}

// TestAnAdmissionThatIsNotAnsweredByYes has programs that send somebody elsewhere, or know nothing of it.
func TestAnAdmissionThatIsNotAnsweredByYes(t *testing.T) {
	for status, refused := range map[int]bool{200: false, 204: false, 302: true, 308: true, 401: true, 403: true, 404: true, 500: false} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", "/in")
			w.WriteHeader(status)
		}))
		r := started(t, "", Hook{ID: 1, URL: server.URL, Events: []string{Admission}})
		err := r.Admit(context.Background(), Happening{Channel: "line"})
		assert.Equal(t, refused, err != nil, "%d: %v", status, err)
		server.Close()
	}
	// Two that do not answer are asked at the same time: each has its own time.
	hold := make(chan struct{})
	var asked atomic.Int64
	slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if asked.Add(1) == 2 {
			close(hold)
		}
		<-hold
	}))
	defer slow.Close()
	r := started(t, "", Hook{ID: 1, URL: slow.URL, Events: []string{Admission}}, Hook{ID: 2, URL: slow.URL, Events: []string{Admission}, Strict: true})
	require.NoError(t, r.Admit(context.Background(), Happening{Channel: "line"}))
}
