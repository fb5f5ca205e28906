package delivery

import (
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/origin"
)

type counter struct {
	mu      sync.Mutex
	kinds   map[string]int
	waiting int
	most    int
}

func (c *counter) Answered(kind string, status int, _ int64, _ time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kinds[fmt.Sprint(kind, " ", status)]++
}

func (c *counter) Waiting(by int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.waiting += by
	c.most = max(c.most, c.waiting)
}

func ask(s *Server, path string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest("GET", path, nil)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	return w
}

func TestWaitersAreAnsweredTogether(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{SegmentMillis: 1000})
	frames(f, 0, 200)
	c := &counter{kinds: map[string]int{}}
	s := New(o, c)
	p, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	last := p.Entries[len(p.Entries)-1]
	require.True(t, last.Open)
	want := fmt.Sprintf("/booth/audio/index.m3u8?_HLS_msn=%d&_HLS_part=%d", last.MSN, len(last.Parts))
	paths := []string{want, want, fmt.Sprintf("/booth/audio/%s", hls.PartName(last.MSN, len(last.Parts))), fmt.Sprintf("/booth/audio/%d.m4s", last.MSN+1)}
	answers := make([]*httptest.ResponseRecorder, len(paths))
	var all sync.WaitGroup
	for i, path := range paths {
		all.Add(1)
		go func() {
			defer all.Done()
			answers[i] = ask(s, path)
		}()
	}
	require.Eventually(t, func() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.waiting == len(paths) }, 5*time.Second, time.Millisecond)
	frames(f, 200, 320)
	all.Wait()
	for i, a := range answers {
		assert.Equal(t, 200, a.Code, paths[i])
		assert.NotZero(t, a.Body.Len())
	}
	for _, a := range answers[:2] {
		assert.Contains(t, a.Body.String(), hls.PartName(last.MSN, len(last.Parts))+`",INDEP`, "the part that was asked for")
	}
	assert.Zero(t, c.waiting)
	assert.Equal(t, 2, c.kinds["playlist-blocking 200"])
	assert.Equal(t, 1, c.kinds["part-hinted 200"])
}

func TestNobodyWaitsForeverForAChannelThatIsGone(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{SegmentMillis: 1000})
	frames(f, 0, 200)
	s := New(o, nil)
	v := o.Channel("booth").Rendition("audio").View()
	msn, _ := v.Newest()
	done := make(chan int)
	go func() { done <- ask(s, fmt.Sprintf("/booth/audio/index.m3u8?_HLS_msn=%d", msn+1)).Code }()
	require.Eventually(t, func() bool { return s.waiting.Load() == 1 }, 5*time.Second, time.Millisecond)
	require.NoError(t, o.Remove("booth"))
	select {
	case code := <-done:
		assert.Contains(t, []int{200, 404}, code) // the end itself is an answer
	case <-time.After(5 * time.Second):
		t.Fatal("the request still waits")
	}
}

func TestPlaylistsCompress(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{})
	frames(f, 0, 600)
	s := New(o, nil)
	plain, packed := ask(s, "/booth/audio/index.m3u8"), ask(s, "/booth/audio/index.m3u8", "Accept-Encoding", "br, gzip;q=0.5")
	assert.Equal(t, "gzip", packed.Header().Get("Content-Encoding"))
	assert.NotEqual(t, plain.Header().Get("ETag"), packed.Header().Get("ETag"))
	r, err := gzip.NewReader(packed.Body)
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, plain.Body.String(), string(b))
	assert.Empty(t, ask(s, "/booth/audio/index.m3u8", "Accept-Encoding", "gzip;q=0").Header().Get("Content-Encoding"))
}

func TestRangesAcrossPieces(t *testing.T) {
	p := newPieces([][]byte{[]byte("abc"), []byte("defg"), []byte("h")})
	b, err := io.ReadAll(p)
	require.NoError(t, err)
	assert.Equal(t, "abcdefgh", string(b))
	_, err = p.Seek(-4, io.SeekEnd)
	require.NoError(t, err)
	b, _ = io.ReadAll(p)
	assert.Equal(t, "efgh", string(b))
	_, err = p.Seek(-1, io.SeekStart)
	assert.Error(t, err)
}

func TestViewersAreCountedBySession(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{TS: true})
	frames(f, 0, 600)
	s := New(o, nil)
	now := time.Now()
	s.now = func() time.Time { return now }
	for _, a := range [][]string{
		{"/booth/audio/index.m3u8"}, {"/booth/audio/5.1.m4s"}, {"/booth/audio/5.m4s"}, // one player
		{"/booth/audio/index.m3u8", "CMCD-Session", `cid="x",sid="one"`}, {"/booth/audio/index.m3u8", "CMCD-Session", `sid="one"`},
		{"/booth/index.mpd?CMCD=sid%3D%22two%22"}, {"/booth/audio/aac.m3u8", "User-Agent", "an old receiver"},
		{"/booth/audio/5.m4s", "User-Agent", "who never asked for a playlist"},
		{"/booth/index.mpd", "User-Agent", "a page that tells its session from now on"},
		{"/booth/index.mpd", "User-Agent", "an old receiver"}, // another program of the same name
		{"/booth/index.mpd", "User-Agent", "a set that tells none"}, {"/booth/audio/5.m4s", "User-Agent", "a set that tells none"},
	} {
		require.Equal(t, 200, ask(s, a[0], a[1:]...).Code, a[0])
	}
	assert.Equal(t, map[string]map[string]int{"booth": {"ll-hls": 1, "hls": 1, "dash": 2, "hls-ts": 1}}, s.Viewers())
	now = now.Add(viewerLife + time.Second)
	assert.Empty(t, s.Viewers(), "who asks for nothing has left")
}

func TestOtherWrappingsAreMadeOfTheSameMedia(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{TS: true, SegmentMillis: 1000})
	frames(f, 0, 300)
	s := New(o, nil)
	list := ask(s, "/booth/audio/aac.m3u8").Body.String()
	assert.NotContains(t, list, "EXT-X-MAP")
	assert.NotContains(t, list, "EXT-X-PART")
	p, err := hls.ReadMedia([]byte(list))
	require.NoError(t, err)
	e := p.Entries[1]
	a := ask(s, "/booth/audio/"+e.URI)
	assert.Equal(t, "audio/aac", a.Header().Get("Content-Type"))
	var tag id3.Tag
	rest, err := tag.Unmarshal(a.Body.Bytes())
	require.NoError(t, err)
	assert.Positive(t, tag.Timestamp)
	assert.Equal(t, []byte{0xff, 0xf1}, rest[:2])
	assert.Equal(t, a.Body.String(), ask(s, "/booth/audio/"+e.URI).Body.String())
	assert.Equal(t, 404, ask(s, "/booth/audio/"+strings.Replace(e.URI, "aac", "ts", 1)).Code, "there is no video to wrap")
	set := o.Channel("booth").Settings()
	set.TS = false
	require.NoError(t, o.Channel("booth").Apply(set))
	assert.Equal(t, 404, ask(s, "/booth/audio/aac.m3u8").Code)
	assert.Equal(t, 404, ask(s, "/booth/ts.m3u8").Code)
}

func TestDirectives(t *testing.T) {
	for query, want := range map[string]wanted{
		"_HLS_msn=7&_HLS_part=2": {msn: 7, part: 2, blocks: true},
		"x=1&_HLS_msn=7":         {msn: 7, part: -1, blocks: true},
		"_HLS_skip=YES":          {part: -1, skip: true},
		"_HLS_skip=v2":           {part: -1, skip: true},
		"":                       {part: -1},
	} {
		assert.Equal(t, want, readDirectives(query), query)
	}
	for _, query := range []string{"_HLS_msn=", "_HLS_msn=-1", "_HLS_part=1", "_HLS_msn=1&_HLS_part=x", "_HLS_skip=NO"} {
		assert.NotEmpty(t, readDirectives(query).problem, query)
	}
}

func TestMethodsAndMissingThings(t *testing.T) {
	o, f := newOrigin(t, origin.Settings{})
	frames(f, 0, 600)
	s := New(o, nil)
	for path, want := range map[string]int{"/": 404, "/booth": 404, "/nowhere/index.m3u8": 404, "/booth/other.m3u8": 404, "/booth/audio/a/b": 404, "/booth/audio/x": 404, "/booth/video/1.m4s": 404, "/booth/audio/1.x.m4s": 404, "/booth/audio/0.99.m4s": 404, "/booth/audio/0.key.m4s": 404, "/booth/time": 200} {
		assert.Equal(t, want, ask(s, path).Code, path)
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("POST", "/booth/index.m3u8", nil))
	assert.Equal(t, http.StatusMethodNotAllowed, w.Code)
}
