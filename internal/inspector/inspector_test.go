package inspector

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path"
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

// file is one recording of three segments behind its header, as others keep it.
func file() (b []byte, header, index int, sizes []int) {
	b = bmff.Header(track())
	header = len(b)
	var refs, media []byte
	for n := range int64(3) {
		s := segment(n)
		sizes = append(sizes, len(s))
		refs = binary.BigEndian.AppendUint32(refs, uint32(len(s)))
		refs = binary.BigEndian.AppendUint32(refs, 47*1024)
		refs = binary.BigEndian.AppendUint32(refs, 1<<31|1<<28)
		media = append(media, s...)
	}
	x := binary.BigEndian.AppendUint32(nil, uint32(32+len(refs)))
	x = append(x, "sidx"...)
	for _, v := range []uint32{0, 1, 48000, 0, 0, 3} {
		x = binary.BigEndian.AppendUint32(x, v)
	}
	x = append(x, refs...)
	return append(append(b, x...), media...), header, len(x), sizes
}

// keep serves whole files, with ranges.
func keep(t *testing.T, files map[string]string) (base string) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, ok := files[r.URL.Path]
		if !ok {
			http.NotFound(w, r)
			return
		}
		if r.URL.Query().Has("whole") { // a server that knows no ranges
			r.Header.Del("Range")
		}
		w.Header().Set("Content-Type", map[string]string{".m3u8": "application/vnd.apple.mpegurl", ".mpd": "application/dash+xml"}[path.Ext(r.URL.Path)])
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// sealed encrypts as HLS does, with the number as IV.
func sealed(t *testing.T, key, b []byte, msn uint64) string {
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	n := aes.BlockSize - len(b)%aes.BlockSize
	b = append(b, bytes.Repeat([]byte{byte(n)}, n)...)
	cipher.NewCBCEncrypter(block, binary.BigEndian.AppendUint64(make([]byte, 8), msn)).CryptBlocks(b, b)
	return string(b)
}

// TestStreamsOfOthers: what we do not write ourselves is followed too.
func TestStreamsOfOthers(t *testing.T) {
	all, header, index, sizes := file()
	key := []byte("sixteen bytes, k")
	vod := func(lines string) string {
		return "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:1\n#EXT-X-PLAYLIST-TYPE:VOD\n" + lines + "#EXT-X-ENDLIST\n"
	}
	ranges := func(name string) string {
		out := fmt.Sprintf("#EXT-X-MAP:URI=%q,BYTERANGE=\"%d@0\"\n", name, header)
		at := header + index
		for _, n := range sizes {
			out += fmt.Sprintf("#EXTINF:%.5f,\n#EXT-X-BYTERANGE:%d@%d\n%s\n", length, n, at, name)
			at += n
		}
		return vod(out)
	}
	ext := fmt.Sprintf("#EXTINF:%.5f,\n", length)
	mpd := func(attributes, addressing string) string {
		return fmt.Sprintf(`<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" profiles="urn:mpeg:dash:profile:isoff-on-demand:2011" type="static" minBufferTime="PT1S" mediaPresentationDuration="PT%fS"><BaseURL>dir/</BaseURL><Period%s><AdaptationSet contentType="audio" mimeType="audio/mp4"><Representation id="audio" codecs="mp4a.40.2" bandwidth="9000">%s</Representation></AdaptationSet></Period></MPD>`, 3*length, attributes, addressing)
	}
	last := header + index - 1
	files := map[string]string{
		"/all.mp4": string(all), "/dir/all.mp4": string(all), "/dir/header.mp4": string(all[:header]), "/key": string(key), "/short": "short",
		"/dir/1.m4s": string(segment(0)), "/dir/2.m4s": string(segment(1)), "/dir/3.m4s": string(segment(2)),
		"/0.bin": sealed(t, key, segment(0), 0), "/1.bin": sealed(t, key, segment(1), 1), "/a.ts": "G" + strings.Repeat("x", 187), "/a.vtt": "WEBVTT\n\n", "/a.mp3": "\xff\xfb\x90\x00",
		"/ranges.m3u8": ranges("all.mp4"), "/norange.m3u8": ranges("all.mp4?whole"), "/beyond.m3u8": strings.Replace(ranges("all.mp4"), fmt.Sprintf(":%d@%d", sizes[2], len(all)-sizes[2]), fmt.Sprintf(":%d@%d", sizes[2]+9, len(all)-sizes[2]), 1),
		"/aes.m3u8":      vod("#EXT-X-MAP:URI=\"dir/header.mp4\"\n#EXT-X-KEY:METHOD=AES-128,URI=\"key\"\n" + ext + "0.bin\n" + ext + "1.bin\n"),
		"/wrong.m3u8":    vod("#EXT-X-MAP:URI=\"dir/header.mp4\"\n#EXT-X-KEY:METHOD=AES-128,URI=\"short\"\n" + ext + "0.bin\n"),
		"/sample.m3u8":   vod("#EXT-X-KEY:METHOD=SAMPLE-AES,URI=\"key\"\n#EXTINF:1,\na.ts\n"),
		"/subtitle.m3u8": vod("#EXTINF:1,\na.vtt\n"), "/mp3.m3u8": vod("#EXTINF:1,\na.mp3\n"),
		"/base.mpd":     mpd("", fmt.Sprintf(`<BaseURL>all.mp4</BaseURL><SegmentBase indexRange="%d-%d"><Initialization range="0-%d"/></SegmentBase>`, header, last, header-1)),
		"/implicit.mpd": mpd("", fmt.Sprintf(`<BaseURL>all.mp4</BaseURL><SegmentBase indexRange="%d-%d"/>`, header, last)),
		"/noindex.mpd":  mpd("", fmt.Sprintf(`<BaseURL>all.mp4</BaseURL><SegmentBase indexRange="0-%d"><Initialization range="0-%d"/></SegmentBase>`, header-1, header-1)),
		"/nonsense.mpd": mpd("", `<BaseURL>all.mp4</BaseURL><SegmentBase indexRange="9-1"/>`),
		"/list.mpd":     mpd("", `<SegmentList timescale="48000" duration="48128"><Initialization sourceURL="header.mp4"/><SegmentURL media="1.m4s"/><SegmentURL media="2.m4s"/><SegmentURL media="3.m4s"/></SegmentList>`),
		"/counted.mpd":  mpd(fmt.Sprintf(` duration="PT%fS"`, 3*length), `<SegmentTemplate timescale="48000" duration="48128" media="$Number$.m4s" initialization="header.mp4"/>`),
		"/repeat.mpd":   mpd(` start="PT0S"`, `<SegmentTemplate timescale="48000" media="$Number$.m4s" initialization="header.mp4"><SegmentTimeline><S t="0" d="48128" r="-1"/></SegmentTimeline></SegmentTemplate>`),
	}
	base := keep(t, files)
	for file, want := range map[string]struct {
		segments int
		rules    []string
	}{
		"ranges.m3u8": {3, nil}, "norange.m3u8": {3, nil}, "aes.m3u8": {2, nil}, "subtitle.m3u8": {1, nil},
		"beyond.m3u8": {2, []string{"unreachable"}}, "wrong.m3u8": {0, []string{"unreachable"}},
		"sample.m3u8": {0, []string{"not-judged"}}, "mp3.m3u8": {1, []string{"not-judged"}},
		"base.mpd": {3, nil}, "implicit.mpd": {3, nil}, "list.mpd": {3, nil}, "counted.mpd": {3, nil}, "repeat.mpd": {3, nil},
		"noindex.mpd": {0, []string{"index-unreadable"}}, "nonsense.mpd": {0, []string{"byte-range"}},
	} {
		r := run(t, base+"/"+file)
		assert.Equal(t, want.rules, rules(r), "%s: %v", file, r.Findings)
		assert.Equal(t, want.rules == nil || want.rules[0] == "not-judged", r.Broken == 0, file)
		assert.Equal(t, len(want.rules) > 0 && want.rules[0] == "not-judged", strings.HasSuffix(r.Verdict, "could be judged."), r.Verdict)
		require.Len(t, r.Streams, 1, file)
		assert.Equal(t, want.segments, r.Streams[0].Segments, file)
	}
}

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
