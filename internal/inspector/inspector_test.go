package inspector

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/media"
)

func track() *media.Track {
	c := aac.Config{ObjectType: 2, SampleRate: 48000, OutputRate: 48000, Channels: 2}
	t := c.Track(c.Marshal())
	return &t
}

// segment makes a second of sound, near enough: 47 frames.
func segment(n int64) []byte {
	var u []media.AccessUnit
	for k := n * 47; k < (n+1)*47; k++ {
		u = append(u, media.AccessUnit{DTS: k * 1024, PTS: k * 1024, Duration: 1024, Key: true, Data: []byte{1, 2}})
	}
	return bmff.Chunk(track(), bmff.ChunkOptions{Sequence: uint32(n + 1), First: true}, u)
}

const length = 47 * 1024.0 / 48000

// stream serves what a map holds; a missing address is 404.
func stream(t *testing.T, files map[string]string) (base string, asked *atomic.Int64) {
	asked = &atomic.Int64{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		text, ok := files[r.URL.Path]
		switch {
		case strings.HasSuffix(r.URL.Path, ".m4s"):
			var n int64
			if _, err := fmt.Sscanf(r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:], "%d.m4s", &n); err != nil || n > 90 {
				http.NotFound(w, r)
				return
			}
			_, _ = w.Write(segment(n))
		case strings.HasSuffix(r.URL.Path, ".mp4"):
			_, _ = w.Write(bmff.Header(track()))
		case !ok:
			http.NotFound(w, r)
		default:
			w.Header().Set("Content-Type", map[bool]string{true: "application/vnd.apple.mpegurl", false: "application/dash+xml"}[strings.Contains(r.URL.Path, "m3u8")])
			_, _ = w.Write([]byte(text))
		}
	}))
	t.Cleanup(s.Close)
	return s.URL, asked
}

func recorded(numbers ...int) string {
	out := fmt.Sprintf("#EXTM3U\n#EXT-X-VERSION:6\n#EXT-X-TARGETDURATION:1\n#EXT-X-MEDIA-SEQUENCE:%d\n#EXT-X-PLAYLIST-TYPE:VOD\n#EXT-X-MAP:URI=\"header.mp4\"\n", numbers[0])
	for _, n := range numbers {
		out += fmt.Sprintf("#EXTINF:%.5f,\n%d.m4s\n", length, n)
	}
	return out + "#EXT-X-ENDLIST\n"
}

const master = "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=9000,CODECS=\"mp4a.40.2\"\naudio/index.m3u8\n"

func rules(r inspect.Report) (out []string) {
	for _, f := range r.Findings {
		out = append(out, f.Rule)
	}
	return out
}

func run(t *testing.T, address string) inspect.Report {
	r, err := Run(context.Background(), Options{Address: address, Follow: time.Second})
	require.NoError(t, err)
	return r
}

func TestRecordedStreamsAreSampled(t *testing.T) {
	base, asked := stream(t, map[string]string{"/index.m3u8": master, "/audio/index.m3u8": recorded(0, 1, 2, 3, 4, 5, 6, 7, 8, 9)})
	r := run(t, base+"/index.m3u8")
	assert.Empty(t, rules(r))
	assert.False(t, r.Live)
	assert.Equal(t, "HLS", r.Protocol)
	assert.Equal(t, 4, r.Streams[0].Segments, "the begin and the end")
	assert.EqualValues(t, 7, asked.Load(), "nothing is fetched twice")
	alone := run(t, base+"/audio/index.m3u8")
	assert.Empty(t, rules(alone), "a media playlist by itself")
}

func TestWhatIsMissingIsTold(t *testing.T) {
	base, _ := stream(t, map[string]string{
		"/index.m3u8": master + "#EXT-X-STREAM-INF:BANDWIDTH=1,CODECS=\"x\"\nnowhere/index.m3u8\n", "/audio/index.m3u8": recorded(0, 99),
		"/keys.m3u8": master + "#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=1,URI=\"none.m3u8\"\n",
	})
	r := run(t, base+"/index.m3u8")
	assert.Equal(t, []string{"unreachable", "unreachable"}, rules(r))
	assert.Contains(t, r.Findings[0].Found+r.Findings[1].Found, "segment 1: status 404")
	assert.Contains(t, rules(run(t, base+"/keys.m3u8")), "unreachable")
	for _, address := range []string{"", "ftp://x/y", "/etc/passwd", base + "/nothing.m3u8", "http://127.0.0.1:1/x.m3u8"} {
		_, err := Run(context.Background(), Options{Address: address, Follow: time.Second})
		assert.ErrorIs(t, err, ErrAddress, address)
	}
}

func TestRecordedManifests(t *testing.T) {
	mpd := func(last int) string {
		return fmt.Sprintf(`<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" profiles="urn:mpeg:dash:profile:isoff-live:2011" type="static" minBufferTime="PT1S" mediaPresentationDuration="PT%fS"><Period id="a" start="PT0S"><AdaptationSet contentType="audio" mimeType="audio/mp4"><SegmentTemplate timescale="48000" startNumber="%d" media="$RepresentationID$/$Number$.m4s" initialization="$RepresentationID$/header.mp4"><SegmentTimeline><S t="%d" d="48128" r="1"/></SegmentTimeline></SegmentTemplate><Representation id="audio" codecs="mp4a.40.2" bandwidth="9000"/></AdaptationSet></Period></MPD>`, 2*length, last-1, (last-1)*48128)
	}
	base, _ := stream(t, map[string]string{"/good.mpd": mpd(1), "/bad.mpd": mpd(91)})
	r := run(t, base+"/good.mpd")
	assert.Empty(t, rules(r))
	assert.Equal(t, "DASH", r.Protocol)
	assert.Equal(t, 2, r.Streams[0].Segments)
	assert.Equal(t, []string{"segment-late"}, rules(run(t, base+"/bad.mpd")))
}

func TestALiveListThatStandsStillIsStale(t *testing.T) {
	live := strings.NewReplacer("#EXT-X-ENDLIST\n", "", "#EXT-X-PLAYLIST-TYPE:VOD\n", "").Replace(recorded(4, 5, 6, 7))
	base, _ := stream(t, map[string]string{"/audio/index.m3u8": live})
	r, err := Run(context.Background(), Options{Address: base + "/audio/index.m3u8", Follow: 2500 * time.Millisecond})
	require.NoError(t, err)
	assert.True(t, r.Live)
	assert.Equal(t, []string{"stale"}, rules(r))
}
