package delivery

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/recording"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// newPast is a server whose channel keeps an hour, after so many seconds of sound were on air.
func newPast(t *testing.T, seconds int64) (*Server, *store.Store) {
	st, err := store.Open(store.Options{Place: store.Folder(t.TempDir())}, nil)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	st.Set("booth", store.Keeping{TimeShift: time.Hour})
	o, f := newOriginWith(t, settings.Settings{Keeping: settings.Keeping{TimeShiftMinutes: 60}}, st)
	frames(f, 0, seconds*48000/1024)
	s := New(Options{Origin: o, Store: st})
	s.now = func() time.Time { return time.Now().Add(2 * time.Minute) } // what was sent at once lies back
	return s, st
}

func TestWhatLiesBackIsServed(t *testing.T) {
	s, st := newPast(t, 60)
	assert.Equal(t, 200, ask(s, "/booth/audio/0.m4s").Code, "it left the window")
	span, err := st.Span(context.Background(), "booth", time.Now().Add(-2*time.Hour), time.Time{})
	require.NoError(t, err)
	from := span.Begin()
	query := "?from=" + from.UTC().Format(timeForm)
	w := ask(s, "/booth/index.m3u8"+query)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), "audio/index.m3u8"+query)
	w = ask(s, "/booth/audio/index.m3u8"+query)
	require.Equal(t, 200, w.Code, w.Body)
	list, err := hls.ReadMedia(w.Body.Bytes())
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(list.Entries), 28)
	assert.Contains(t, w.Body.String(), "CAN-SKIP-UNTIL")
	assert.EqualValues(t, 1, list.MediaSequence)
	delta := ask(s, "/booth/audio/index.m3u8"+query+"&_HLS_skip=YES")
	assert.Contains(t, delta.Body.String(), "#EXT-X-SKIP:SKIPPED-SEGMENTS=")
	assert.Less(t, delta.Body.Len(), w.Body.Len()/2)
	for _, e := range list.Entries {
		kept := ask(s, "/booth/audio/"+e.URI)
		require.Equal(t, 200, kept.Code, e.URI)
		assert.NotEmpty(t, kept.Body.Bytes())
	}
	part := ask(s, "/booth/audio/"+list.Entries[0].URI, "Range", "bytes=10-19")
	assert.Equal(t, http.StatusPartialContent, part.Code)
	assert.Equal(t, 10, part.Body.Len())
	assert.Equal(t, 200, ask(s, "/booth/audio/"+list.Entries[0].Header).Code)
	assert.Equal(t, http.StatusNotFound, ask(s, "/booth/audio/ts.m3u8"+query).Code)

	w = ask(s, "/booth/index.mpd"+query)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), `type="dynamic"`)
	assert.Contains(t, w.Body.String(), "timeShiftBufferDepth")

	to := "&to=" + from.Add(20*time.Second).UTC().Format(timeForm)
	w = ask(s, "/booth/audio/index.m3u8"+query+to)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), "#EXT-X-ENDLIST")
	w = ask(s, "/booth/index.mpd"+query+to)
	assert.Contains(t, w.Body.String(), `type="static"`)
	w = ask(s, "/booth/audio.mp4"+query+to)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Equal(t, fmt.Sprint(w.Body.Len()), w.Header().Get("Content-Length"))
	assert.True(t, bytes.Contains(w.Body.Bytes()[:64], []byte("isom")))
	w = ask(s, "/booth/audio.m4s"+query+to)
	require.Equal(t, 200, w.Code, w.Body)
	w = ask(s, "/booth/audio.ts"+query+to)
	require.Equal(t, 200, w.Code, w.Body)
	assert.EqualValues(t, 0x47, w.Body.Bytes()[188])
}

func TestWrongTimesAreRefused(t *testing.T) {
	s, _ := newPast(t, 20)
	for query, says := range map[string]string{
		"from=yesterday":            "expected a time such as",
		"from=5":                    "expected a time such as",
		"from=marker:none":          "no such marker",
		"from=10m&to=20m":           "is not after the start time",
		"recording=1":               "no such recording",
		"recording=a":               "no such recording",
		"from=2001-01-01T00:00:00Z": "",
	} {
		w := ask(s, "/booth/audio/index.m3u8?"+query)
		if says == "" {
			assert.Equal(t, 200, w.Code, query)
			continue
		}
		assert.GreaterOrEqual(t, w.Code, 400, query)
		assert.Contains(t, w.Body.String(), says, query)
	}
	assert.Equal(t, http.StatusNotFound, ask(s, "/booth/none.mp4?from=10m").Code)
	assert.Contains(t, ask(s, "/booth/picture.jpg?time=yesterday").Body.String(), "expected a time such as")
	assert.Contains(t, ask(s, "/booth/picture.jpg?at=1785").Body.String(), "no picture yet", "other queries are nobody's business")
	assert.True(t, strings.HasPrefix(ask(s, "/booth/index.m3u8?from=1+hour+ago").Header().Get("Location"), "index.m3u8?from="))
}

// only is the one recording that there is.
type only recording.Recording

func (o only) Named(channel, name string) *recording.Recording {
	r := recording.Recording(o)
	if r.Channel != channel || r.Name != name {
		return nil
	}
	return &r
}

// TestRecordingsOutliveTheirChannel: what a recording holds plays when the channel is gone.
func TestRecordingsOutliveTheirChannel(t *testing.T) {
	s, st := newPast(t, 30)
	span, err := st.Span(context.Background(), "booth", time.Now().Add(-2*time.Hour), time.Time{})
	require.NoError(t, err)
	from := span.Begin()
	s.recordings = only{Channel: "booth", Name: "1", Begun: from, Ended: from.Add(20 * time.Second)}
	require.NoError(t, s.o.Remove("booth"))
	for _, path := range []string{"/booth/index.m3u8", "/booth/index.mpd", "/booth/audio.mp4"} {
		assert.Equal(t, 200, ask(s, path+"?recording=1").Code, path)
	}
	w := ask(s, "/booth/audio/index.m3u8?recording=1")
	require.Equal(t, 200, w.Code, w.Body)
	list, err := hls.ReadMedia(w.Body.Bytes())
	require.NoError(t, err)
	assert.True(t, list.Ended)
	uri, header := list.Entries[0].URI, list.Entries[0].Header
	assert.Equal(t, 200, ask(s, "/booth/audio/"+uri).Code)
	assert.Equal(t, 200, ask(s, "/booth/audio/"+header).Code)
	bare := func(text string) string { return strings.TrimSuffix(text, "?recording=1") }
	for _, path := range []string{"/booth/audio/" + bare(uri), "/booth/audio/" + bare(header), "/booth/index.m3u8?from=" + from.UTC().Format(timeForm), "/booth/audio/" + bare(uri) + "?recording=2",
		"/booth/picture.jpg?time=" + from.UTC().Format(timeForm)} {
		assert.Equal(t, 404, ask(s, path).Code, "%s: what is public is the recording, for who has its name", path)
	}
}

// A channel whose time-shift was turned off, or is shorter now, gives nothing out beyond it, by whatever address.
func TestOnlyTheTimeShiftIsPublic(t *testing.T) {
	s, st := newPast(t, 60)
	span, err := st.Span(context.Background(), "booth", time.Now().Add(-2*time.Hour), time.Time{})
	require.NoError(t, err)
	first := span.Renditions[0].List[0]
	paths := []string{"/booth/audio/" + first.Name() + ".m4s", "/booth/audio/0.m4s", "/booth/index.m3u8?from=10m", "/booth/picture.jpg?time=5m", "/booth/audio.mp4?from=10m"}
	assert.Equal(t, 200, ask(s, paths[0]).Code)
	set := s.o.Channel("booth").Settings()
	set.TimeShiftMinutes = 0
	require.NoError(t, s.o.Channel("booth").Apply(set))
	for _, path := range paths {
		assert.GreaterOrEqual(t, ask(s, path).Code, 400, path)
	}
	set.TimeShiftMinutes = 1
	require.NoError(t, s.o.Channel("booth").Apply(set))
	s.now = func() time.Time { return time.Now().Add(20 * time.Minute) }
	for _, path := range paths[:2] {
		assert.GreaterOrEqual(t, ask(s, path).Code, 400, path)
	}
}

// TestADocumentIsMadeOncePerContent: what has changed is made again, what is the same is not, and a crowd is told to wait.
func TestADocumentIsMadeOncePerContent(t *testing.T) {
	s, _ := newPast(t, 2)
	q := &request{s: s, r: httptest.NewRequest(http.MethodGet, "/booth/index.m3u8", nil)}
	made := 0
	make := func() []byte { made++; return []byte("list") }
	for _, content := range []string{"a", "a", "b", "a"} {
		d, err := q.document("?from=1", content, make)
		require.NoError(t, err)
		b, _ := d.Bytes()
		assert.Equal(t, "list", string(b))
	}
	assert.Equal(t, 2, made, "one of each content")
	q.family = ofItem
	_, err := q.document("?from=1", "a", make)
	require.NoError(t, err)
	assert.Equal(t, 3, made, "an item may have a channel's name")
	nothing, err := q.document("?from=2", "a", func() []byte { return nil })
	assert.NoError(t, err)
	assert.Nil(t, nothing)
	for s.turns.waiting.Taken() < maxTurnsEach { // all of a network's places are taken
		_, ok := s.turns.waiting.Take(q.r.RemoteAddr)
		require.True(t, ok)
	}
	_, err = q.document("?from=3", "a", make)
	assert.ErrorIs(t, err, errCrowded)
	_, err = q.document("?from=1", "b", nil)
	assert.Error(t, err, "of an item it is not made yet")
	q.family = ofChannel
	_, err = q.document("?from=1", "b", nil)
	assert.NoError(t, err, "what is made already waits for nothing")
}
