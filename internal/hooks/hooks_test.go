package hooks

import (
	"context"
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
		sign := r.Header.Get(SignatureHeader)
		at, _, _ := strings.Cut(strings.TrimPrefix(sign, "t="), ",")
		n, err := time.ParseDuration(at + "s")
		assert.NoError(t, err)
		assert.Equal(t, Signature("s3cret", time.Unix(int64(n.Seconds()), 0), b), sign)
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
	assert.NoError(t, r.Admit(ctx, Happening{Channel: "slow"}), "who does not answer keeps nobody out")
	assert.ErrorContains(t, r.Admit(ctx, Happening{Channel: "strict"}), "does not answer")

	for _, name := range []string{"../note", "", "-x", "a/b"} {
		assert.Contains(t, r.CheckCommand(name), "expected the name of a program", name)
	}
	assert.Contains(t, (&Runner{}).CheckCommand("note"), "--hook-commands")
	d := r.Try(ctx, Hook{ID: 9, Command: "missing"})
	assert.False(t, d.Done)
	assert.NotEmpty(t, d.Status)
}

// TestTheQueueIsBounded fires more than there is room for.
func TestTheQueueIsBounded(t *testing.T) {
	r := &Runner{wake: make(chan struct{}, 1)}
	r.Set([]Hook{{ID: 1, URL: "http://192.0.2.1/"}})
	for range maxQueue + 50 {
		r.Fire(Happening{Event: FeedBegun})
	}
	list, lost := r.Deliveries(0)
	assert.Len(t, list, keptLog)
	assert.EqualValues(t, 50, lost)
	assert.Len(t, r.queue, maxQueue)
}
