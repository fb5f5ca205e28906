package control

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCallsToFollowAreRead(t *testing.T) {
	list, err := followed([]string{"/recordings?channel=pier", "/items"})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "/recordings", list[0].at.Path)
	assert.Equal(t, "channel=pier", list[0].at.RawQuery)
	for _, wrong := range []string{"", "items", "http://elsewhere.example/items", "/live", "/%zz"} {
		_, err := followed([]string{wrong})
		assert.ErrorContains(t, err, "expected the path of a call", wrong)
	}
	_, err = followed(make([]string, maxFollowed+1))
	assert.ErrorContains(t, err, "found 9 calls to follow, expected 8 at most")
}

// TestAFollowedCallIsToldWhenItsAnswerChanges makes the call as the one who listens, from within a route of the same router.
func TestAFollowedCallIsToldWhenItsAnswerChanges(t *testing.T) {
	answer := `{"count":1}`
	calls := chi.NewRouter()
	calls.Get("/items", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Cookie") != "session=x" {
			w.WriteHeader(http.StatusForbidden)
			_, _ = io.WriteString(w, `{"error":"who asks?"}`)
			return
		}
		_, _ = io.WriteString(w, answer)
	})
	look := func(f *follow, cookie string) (told followedAnswer, changed bool) {
		var b []byte
		outer := chi.NewRouter()
		outer.Post("/live", func(_ http.ResponseWriter, r *http.Request) { b = f.look(calls, r) })
		r := httptest.NewRequest(http.MethodPost, "/live", strings.NewReader("a body that is not the call's"))
		r.Header.Set("Cookie", cookie)
		outer.ServeHTTP(httptest.NewRecorder(), r)
		if b == nil {
			return told, false
		}
		kind, data, ok := bytes.Cut(b, []byte("\ndata: "))
		require.True(t, ok)
		assert.Equal(t, "event: also", string(kind))
		require.NoError(t, json.Unmarshal(data, &told))
		return told, true
	}
	list, err := followed([]string{"/items", "/nothing"})
	require.NoError(t, err)
	told, changed := look(&list[0], "session=x")
	assert.True(t, changed, "at first")
	assert.Equal(t, followedAnswer{Path: "/items", Status: 200, Body: json.RawMessage(answer)}, told)
	_, changed = look(&list[0], "session=x")
	assert.False(t, changed, "it is the same")
	answer = `{"count":2}`
	told, changed = look(&list[0], "session=x")
	assert.True(t, changed)
	assert.JSONEq(t, answer, string(told.Body))
	told, _ = look(&list[0], "")
	assert.Equal(t, http.StatusForbidden, told.Status, "a call refuses whom it would refuse")
	answer = fmt.Sprintf("%q", strings.Repeat("x", maxFollowedBytes))
	_, changed = look(&list[0], "session=x")
	assert.False(t, changed, "too long to be held")
	_, changed = look(&list[1], "session=x")
	assert.False(t, changed, "what is no JSON is no answer of the API")
}
