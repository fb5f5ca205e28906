package delivery

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
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
	if to := w.Header().Get("Location"); w.Code == http.StatusTemporaryRedirect {
		return ask(s, path[:strings.LastIndexByte(path, '/')+1]+to, headers...) // a bare number
	}
	return w
}

func TestWaitersAreAnsweredTogether(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000, PartFiles: true}})
	frames(f, 0, 200)
	c := &counter{kinds: map[string]int{}}
	s := New(Options{Origin: o, Meter: c})
	p, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	last := p.Entries[len(p.Entries)-1]
	require.True(t, last.Open)
	want := fmt.Sprintf("/booth/audio/index.m3u8?_HLS_msn=%d&_HLS_part=%d", last.MSN, len(last.Parts))
	paths := []string{want, want, fmt.Sprintf("/booth/audio/%d.%d.m4s", last.MSN, len(last.Parts)), fmt.Sprintf("/booth/audio/%d.m4s", last.MSN+1)}
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
		assert.Contains(t, a.Body.String(), fmt.Sprintf(`%d.%d.m4s",INDEP`, last.MSN, len(last.Parts)), "the part that was asked for")
	}
	assert.Zero(t, c.waiting)
	assert.Equal(t, 2, c.kinds["playlist-blocking 200"])
	assert.Equal(t, 1, c.kinds["part-hinted 200"])
}

// TestYoungPlaylists: a player begins when it will not stall, by what its request tells of it.
func TestYoungPlaylists(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 120) // two segments and a half
	s := New(Options{Origin: o})
	const list = "/booth/audio/index.m3u8"
	listed := func(a *httptest.ResponseRecorder) (whole int) {
		require.Less(t, a.Code, 300)
		p, err := hls.ReadMedia(a.Body.Bytes())
		require.NoError(t, err)
		for _, e := range p.Entries {
			if !e.Open {
				whole++
			}
		}
		return whole
	}
	assert.Equal(t, 2, listed(ask(s, list)), "a player that may know parts")
	got := make(chan *httptest.ResponseRecorder)
	go func() { got <- ask(s, list, "Range", "bytes=0-", "Accept-Encoding", "identity") }()
	require.Eventually(t, func() bool { return s.waiting.Taken() == 1 }, 5*time.Second, time.Millisecond)
	frames(f, 120, 160)
	assert.Equal(t, 3, listed(<-got), "a media element, which does not")
}

func TestNobodyWaitsForeverForAChannelThatIsGone(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 200)
	s := New(Options{Origin: o})
	v := o.Channel("booth").Rendition("audio").View()
	msn, _ := v.Newest()
	done := make(chan int)
	go func() { done <- ask(s, fmt.Sprintf("/booth/audio/index.m3u8?_HLS_msn=%d", msn+1)).Code }()
	require.Eventually(t, func() bool { return s.waiting.Taken() == 1 }, 5*time.Second, time.Millisecond)
	require.NoError(t, o.Remove("booth"))
	select {
	case code := <-done:
		assert.Contains(t, []int{200, 404}, code) // the end itself is an answer
	case <-time.After(5 * time.Second):
		t.Fatal("the request still waits")
	}
}

func TestPlaylistsCompress(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{})
	frames(f, 0, 600)
	s := New(Options{Origin: o})
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

func TestViewersAreCountedBySession(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Outputs: settings.Outputs{TS: true}})
	frames(f, 0, 600)
	s := New(Options{Origin: o})
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
	now = now.Add(partsLife + time.Second)
	assert.Equal(t, map[string]map[string]int{"booth": {"hls": 1, "dash": 2, "hls-ts": 1}}, s.Viewers(), "players of parts are missed soon")
	now = now.Add(longestLife + time.Second)
	assert.Empty(t, s.Viewers(), "who asks for nothing has left")
}

// Who reads playlists of parts and segments while they are made, in one request each, reads parts.
func TestViewersOfGrowingSegments(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 200)
	s := New(Options{Origin: o})
	p, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	last := p.Entries[len(p.Entries)-1]
	assert.Equal(t, map[string]map[string]int{"booth": {"hls": 1}}, s.Viewers())
	ask(s, "/booth/audio/"+last.Parts[0].URI, "Range", fmt.Sprintf("bytes=0-%d", last.Parts[0].Length-1))
	assert.Equal(t, map[string]map[string]int{"booth": {"ll-hls": 1}}, s.Viewers())
}

// The table of viewers holds what it must, whatever strangers write into their headers.
func TestViewersTakeLittleRoom(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{})
	frames(f, 0, 600)
	s := New(Options{Origin: o})
	at := time.Now()
	s.now = func() time.Time { return at } // as if all came at once
	const n = 20_000
	agent := strings.Repeat("x", 30_000)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for i := range n {
		ask(s, "/booth/audio/index.m3u8", "User-Agent", fmt.Sprint(agent[:i%1000+29_000], i))
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Equal(t, n, s.Viewers()["booth"]["hls"])
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(100*n), "100 bytes a viewer")
}

// Parts are byte ranges of their segment: what is there is answered at once, what is still to come as
// it comes, and the whole is the same bytes.
func TestRangesOfGrowingSegments(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 200)
	c := &counter{kinds: map[string]int{}}
	s := New(Options{Origin: o, Meter: c})
	p, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	e := p.Entries[len(p.Entries)-1]
	require.True(t, e.Open)
	require.Len(t, p.Hints, 1)
	hint := p.Hints[0]
	var size int64
	for i, part := range e.Parts {
		assert.Equal(t, e.Parts[0].URI, part.URI, "one file for the whole segment")
		assert.Equal(t, size, part.Offset)
		size += part.Length
		a := ask(s, "/booth/audio/"+part.URI, "Range", fmt.Sprintf("bytes=%d-%d", part.Offset, part.Offset+part.Length-1))
		assert.Equal(t, 206, a.Code)
		assert.Equal(t, fmt.Sprintf("bytes %d-%d/*", part.Offset, part.Offset+part.Length-1), a.Header().Get("Content-Range"))
		assert.Equal(t, immutable, a.Header().Get("Cache-Control"))
		assert.EqualValues(t, part.Length, a.Body.Len())
		assert.Equal(t, ask(s, fmt.Sprintf("/booth/audio/%d.%d.m4s", e.MSN, i)).Body.Bytes(), a.Body.Bytes(), "the part's own address stays")
	}
	assert.Equal(t, []any{e.Parts[0].URI, size}, []any{hint.URI, hint.Offset}, "the hint is where the next part begins")
	ranges := []string{
		fmt.Sprintf("bytes=%d-", size), fmt.Sprintf("bytes=%d-%d", size, int64(unbounded)), fmt.Sprintf("bytes=%d-", size-3), fmt.Sprintf("bytes=%d-%d", size-1, size+99), "bytes=0-", "",
	}
	answers := make([]*httptest.ResponseRecorder, len(ranges))
	var all sync.WaitGroup
	for i, r := range ranges {
		all.Add(1)
		go func() {
			defer all.Done()
			if r == "" {
				answers[i] = ask(s, "/booth/audio/"+hint.URI)
			} else {
				answers[i] = ask(s, "/booth/audio/"+hint.URI, "Range", r)
			}
		}()
	}
	require.Eventually(t, func() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.waiting == len(ranges) }, 5*time.Second, time.Millisecond)
	for n := int64(200); n < 320; n += 10 {
		frames(f, n, n+10)
	}
	all.Wait()
	whole := ask(s, "/booth/audio/"+hint.URI).Body.Bytes()
	require.Greater(t, int64(len(whole)), size)
	for i, from := range []int64{size, size, size - 3} {
		assert.Equal(t, 206, answers[i].Code, ranges[i])
		assert.Equal(t, fmt.Sprintf("bytes %d-%d/*", from, int64(unbounded)), answers[i].Header().Get("Content-Range"))
		assert.Equal(t, whole[from:], answers[i].Body.Bytes(), ranges[i])
	}
	assert.Equal(t, whole[size-1:size+100], answers[3].Body.Bytes())
	assert.Equal(t, whole, answers[4].Body.Bytes())
	assert.Equal(t, whole, answers[5].Body.Bytes())
	assert.Equal(t, 416, ask(s, "/booth/audio/"+hint.URI, "Range", fmt.Sprintf("bytes=%d-", len(whole))).Code, "a segment that has ended")
	assert.Zero(t, c.waiting)
}

// Bytes of another run never have an address that this run uses.
func TestAddressesOfAnotherIncarnation(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 300)
	s := New(Options{Origin: o})
	first, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	was := first.Entries[1]
	body := ask(s, "/booth/audio/"+was.URI).Body.Bytes()
	require.NotEmpty(t, body)
	mpd := ask(s, "/booth/index.mpd").Body.String()
	assert.Contains(t, mpd, "$RepresentationID$/"+strings.TrimSuffix(was.URI, fmt.Sprintf("%d.m4s", was.MSN))+"$Number$.m4s")
	require.NoError(t, o.Remove("booth"))
	_, err = o.Add(settings.Settings{Slug: "booth", Packaging: settings.Packaging{SegmentMillis: 1000}}, time.Now(), publish.Position{})
	require.NoError(t, err)
	f, err = o.Open(contribution.Sender{Channel: "booth", Key: "key", Protocol: "test", Remote: "here"})
	require.NoError(t, err)
	c := aac.Config{ObjectType: 2, SampleRate: 48000, OutputRate: 48000, Channels: 2}
	f.Track(c.Track(c.Marshal()))
	frames(f, 0, 300)
	again, err := hls.ReadMedia(ask(s, "/booth/audio/index.m3u8").Body.Bytes())
	require.NoError(t, err)
	for _, e := range again.Entries {
		assert.NotEqual(t, was.URI, e.URI)
	}
	a := ask(s, "/booth/audio/"+was.URI)
	assert.Equal(t, 410, a.Code)
	assert.NotContains(t, a.Header().Get("Cache-Control"), "immutable")
	r := httptest.NewRecorder()
	s.ServeHTTP(r, httptest.NewRequest("GET", fmt.Sprintf("/booth/audio/%d.m4s?x=1", again.Entries[1].MSN), nil))
	assert.Equal(t, []any{307, again.Entries[1].URI + "?x=1", "no-store"}, []any{r.Code, r.Header().Get("Location"), r.Header().Get("Cache-Control")})
}

func TestOtherWrappingsAreMadeOfTheSameMedia(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Outputs: settings.Outputs{TS: true}, Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 300)
	s := New(Options{Origin: o})
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
	o, f := newOrigin(t, settings.Settings{})
	frames(f, 0, 600)
	s := New(Options{Origin: o})
	for path, want := range map[string]int{"/": 404, "/booth": 404, "/nowhere/index.m3u8": 404, "/booth/other.m3u8": 404, "/booth/audio/a/b": 404, "/booth/audio/x": 404, "/booth/video/1.m4s": 404, "/booth/audio/1.x.m4s": 404, "/booth/audio/0.99.m4s": 404, "/booth/audio/0.key.m4s": 404, "/booth/time": 200} {
		assert.Equal(t, want, ask(s, path).Code, path)
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("POST", "/booth/index.m3u8", nil))
	assert.Equal(t, http.StatusMethodNotAllowed, w.Code)
}

// onlyBooth lets everybody watch one channel.
type onlyBooth struct{}

func (onlyBooth) Watch(_ *http.Request, t Target) error {
	if t.Channel != "booth" {
		return errors.New("this channel is for ticket holders")
	}
	return nil
}

// refusesItems lets nobody watch items.
type refusesItems struct{}

func (refusesItems) Watch(_ *http.Request, t Target) error {
	if t.Item != "" {
		return fmt.Errorf("the item %s is for ticket holders", t.Item)
	}
	return nil
}

// TestItemsTakeTheSameWay: the same authority, the same meter and the same headers as channels.
func TestItemsTakeTheSameWay(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{})
	frames(f, 0, 200)
	c := &counter{kinds: map[string]int{}}
	s := New(Options{Origin: o, Authority: refusesItems{}, Meter: c})
	get := func(s *Server, path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		s.Items().ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w
	}
	for _, path := range []string{"/race-3/index.m3u8", "/race-3/file", "/race-3/video/1.m4s"} {
		w := get(s, path)
		assert.Equal(t, http.StatusForbidden, w.Code, path)
		assert.Contains(t, w.Body.String(), "the item race-3 is for ticket holders")
		assert.Equal(t, "*", w.Header().Get("Access-Control-Allow-Origin"))
	}
	assert.Equal(t, 3, c.kinds["other 403"])
	assert.Equal(t, http.StatusOK, ask(s, "/booth/index.m3u8").Code)
	open := New(Options{Origin: o})
	for _, path := range []string{"/", "/race-3", "/booth/index.m3u8", "/race-3/video/a/b"} {
		assert.Equal(t, http.StatusNotFound, get(open, path).Code, path)
	}
}

func TestTheAuthorityStandsInFrontOfEverything(t *testing.T) {
	o, f := newOrigin(t, settings.Settings{Packaging: settings.Packaging{SegmentMillis: 1000}})
	frames(f, 0, 200)
	s := New(Options{Origin: o, Authority: onlyBooth{}})
	for path, want := range map[string]int{"/booth/index.m3u8": 200, "/other/index.m3u8": 403, "/other/audio/1.m4s": 403, "/other/time": 403} {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		assert.Equal(t, want, w.Code, path)
		if want == 403 {
			assert.Contains(t, w.Body.String(), "ticket holders")
			assert.Equal(t, "no-store", w.Header().Get("Cache-Control"))
		}
	}
}
