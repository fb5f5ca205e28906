package socket

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
)

// station is a channel of one rung and sound, whose units a test puts out.
type station struct {
	h            *hub.Hub
	video, sound media.Track
}

func newStation() *station {
	s := &station{h: hub.New(64<<20, 60*media.VideoTimescale)}
	s.video = media.Track{ID: 1, Kind: media.Video, Codec: media.VP8, CodecName: "vp08.00.41.08", Timescale: media.VideoTimescale, Width: 64, Height: 48, FrameRate: media.Rational{Num: 30, Den: 1}}
	s.sound = media.Track{ID: 2, Kind: media.Audio, Codec: media.Opus, CodecName: "opus", Timescale: 48000, SampleRate: 48000, Channels: 2, FrameSamples: 960, Config: []byte{1, 2, 1, 56, 0, 0, 187, 128, 0, 0, 0}}
	return s
}

// put puts out a second of pictures of a size, and of sound.
func (s *station) put(second int, size int) {
	for i := range 30 {
		at := int64(second*media.VideoTimescale + i*3000)
		s.h.Push(&s.video, &media.AccessUnit{DTS: at, PTS: at, Key: i == 0, Data: make([]byte, size)})
	}
	for i := range 50 {
		at := int64(second*48000 + i*960)
		s.h.Push(&s.sound, &media.AccessUnit{DTS: at, PTS: at, Key: true, Data: []byte{1, 2, 3}, Duration: 960})
	}
}

type stationTap struct {
	s *station
	r *hub.Reader
	o media.Kind
}

func (s *station) Tap(_ string, c onward.Choice) (onward.Tap, error) {
	id := s.video.ID
	if c.Only == media.Audio {
		id = s.sound.ID
	}
	return &stationTap{s, s.h.NewReader(hub.Newest, id), c.Only}, nil
}
func (s *station) Runs(slug string) (known, video, sound bool) { return slug == "pier", true, true }
func (s *station) Offers(string, *onward.Real) []onward.Offer {
	return []onward.Offer{{Rung: "source", Width: 64, Height: 48}, {Rung: "small", Width: 32, Height: 24}}
}
func (s *station) Has(_, rung string) bool {
	return rung == "" || rung == "source" || rung == "small" || rung == "audio"
}
func (s *station) Epoch(string) time.Time { return time.Unix(1_700_000_000, 0) }
func (s *station) Sounds(string) []onward.Sound {
	return []onward.Sound{{Name: "audio", Label: "English"}}
}
func (t *stationTap) Tracks() (video, sound *media.Track) { return &t.s.video, &t.s.sound }
func (t *stationTap) Close()                              {}
func (t *stationTap) Next(ctx context.Context, into []hub.Unit) (int, hub.Loss, error) {
	for {
		if n, lost := t.r.Read(into); n > 0 {
			return n, lost, nil
		}
		ready, _ := t.r.Wait()
		select {
		case <-ready:
		case <-ctx.Done():
			return 0, hub.Loss{}, ctx.Err()
		}
	}
}

func serve(t *testing.T, s *station) (url string) {
	server := New(s, func(r *http.Request, channel, _ string) (func(), error) {
		if r.URL.Query().Get("ticket") == "wrong" {
			return nil, errors.New("the ticket is wrong")
		}
		return func() {}, nil
	})
	web := httptest.NewServer(server.Routes())
	t.Cleanup(web.Close)
	return web.URL
}

// viewing is what a viewer was sent.
type viewing struct {
	texts  []Told
	heads  map[byte]int
	chunks map[byte][]bmff.Fragment
	random bool // the first chunk of pictures
}

// take reads until a condition holds.
func (v *viewing) take(t *testing.T, c *websocket.Conn, until func() bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for !until() {
		kind, b, err := c.Read(ctx)
		require.NoError(t, err)
		if kind == websocket.MessageText {
			var told Told
			require.NoError(t, json.Unmarshal(b, &told))
			v.texts = append(v.texts, told)
			continue
		}
		require.Greater(t, len(b), headSize)
		switch b[0] {
		case kindHeader:
			v.heads[b[1]]++
			_, err := bmff.ReadHeader(b[headSize:])
			require.NoError(t, err)
		case kindChunk:
			require.NotZero(t, v.heads[b[1]], "a header comes before")
			f, err := bmff.ReadFragments(b[headSize:])
			require.NoError(t, err)
			if b[1] == trackVideo && len(v.chunks[trackVideo]) == 0 {
				v.random = b[2]&flagRandom != 0
			}
			v.chunks[b[1]] = append(v.chunks[b[1]], f...)
		}
	}
}

// TestFraming: a viewer is told what comes, and begins with the newest keyframe; each chunk is one picture or frame.
func TestFraming(t *testing.T) {
	s := newStation()
	s.put(0, 500)
	s.put(1, 500)
	url := serve(t, s)
	c, res, err := websocket.Dial(context.Background(), url+"/pier", &websocket.DialOptions{Subprotocols: []string{subprotocol}})
	require.NoError(t, err)
	defer func() { _ = c.CloseNow() }()
	assert.Equal(t, subprotocol, res.Header.Get("Sec-Websocket-Protocol"))
	c.SetReadLimit(1 << 20)
	v := &viewing{heads: map[byte]int{}, chunks: map[byte][]bmff.Fragment{}}
	v.take(t, c, func() bool { return len(v.chunks[trackVideo]) >= 30 && len(v.chunks[trackSound]) >= 1 })
	assert.Equal(t, []int{1, 2}, v.texts[0].Tracks)
	assert.Len(t, v.texts[0].Rungs, 2)
	assert.True(t, v.random, "a decoder can start with the first picture")
	assert.EqualValues(t, media.VideoTimescale, v.chunks[trackVideo][0].Units[0].DTS, "the newest keyframe is the first")
	for _, f := range v.chunks[trackVideo] {
		assert.Len(t, f.Units, 1)
	}
	require.NoError(t, c.Write(context.Background(), websocket.MessageText, []byte(`{"do":"pause"}`)))
	require.NoError(t, c.Write(context.Background(), websocket.MessageText, []byte(`nonsense`)))
	require.NoError(t, c.Write(context.Background(), websocket.MessageText, []byte(`{"do":"play"}`)))
	s.put(2, 500)
	// It begins with the newest keyframe that there is when it plays on, which may be the one before, and goes on to the end.
	v.take(t, c, func() bool {
		list := v.chunks[trackVideo]
		return len(list) >= 60 && list[len(list)-1].Units[0].DTS >= 3*media.VideoTimescale-media.VideoTimescale/30
	})
}

// TestWhoIsRefused hears why.
func TestWhoIsRefused(t *testing.T) {
	url := serve(t, newStation())
	for at, status := range map[string]int{"/nobody": 404, "/pier?ticket=wrong": 403, "/pier?rung=nope": 404, "/pier?sound=nope": 404} {
		_, res, err := websocket.Dial(context.Background(), url+at, nil)
		require.Error(t, err)
		assert.Equal(t, status, res.StatusCode, at)
	}
	res, err := http.Get(url + "/pier")
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, http.StatusUpgradeRequired, res.StatusCode)
}

// TestASlowViewerIsNotWaitedFor: one that reads nothing for long goes on at a newer keyframe, and what is held for it is
// bounded.
func TestASlowViewerIsNotWaitedFor(t *testing.T) {
	s := newStation()
	s.put(0, 20_000)
	url := serve(t, s)
	c, _, err := websocket.Dial(context.Background(), url+"/pier", nil)
	require.NoError(t, err)
	defer func() { _ = c.CloseNow() }()
	c.SetReadLimit(1 << 20)
	v := &viewing{heads: map[byte]int{}, chunks: map[byte][]bmff.Fragment{}}
	v.take(t, c, func() bool { return len(v.chunks[trackVideo]) >= 30 })
	for second := 1; second < 60; second++ { // 36 MB, which no socket takes
		s.put(second, 20_000)
	}
	v.take(t, c, func() bool {
		list := v.chunks[trackVideo]
		return list[len(list)-1].Units[0].DTS >= 59*media.VideoTimescale
	})
	assert.Less(t, len(v.chunks[trackVideo]), 59*30, "pictures were left out")
	v.take(t, c, func() bool { return v.texts[len(v.texts)-1].LeftOut > 0 })
}

// TestCertificatesAreRenewed long before they end, and last less than two weeks, as browsers ask.
func TestCertificatesAreRenewed(t *testing.T) {
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	c := &ownCertificate{now: func() time.Time { return now }}
	first, err := c.current()
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(first.Certificate[0])
	require.NoError(t, err)
	assert.LessOrEqual(t, leaf.NotAfter.Sub(leaf.NotBefore), 14*24*time.Hour)
	assert.Equal(t, x509.ECDSA, leaf.PublicKeyAlgorithm)
	hash, err := c.hash()
	require.NoError(t, err)
	sum := sha256.Sum256(first.Certificate[0])
	assert.Equal(t, sum[:], hash)
	now = now.Add(5 * 24 * time.Hour)
	again, err := c.current()
	require.NoError(t, err)
	assert.Same(t, first, again)
	now = now.Add(2 * 24 * time.Hour)
	another, err := c.current()
	require.NoError(t, err)
	assert.NotSame(t, first, another)
	assert.True(t, leaf.NotAfter.After(now), "who has the one before can still use it")
	assert.False(t, strings.Contains(leaf.Subject.CommonName, " "))
}

// A frame that is not masked breaks the rules, and is answered so (RFC 6455, 5.1 and 7.4.1).
func TestAFrameWithoutAMask(t *testing.T) {
	s := newStation()
	url := serve(t, s)
	s.put(0, 100)
	host, path := strings.TrimPrefix(url, "http://"), "pier"
	c, err := net.Dial("tcp", host)
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	_, err = fmt.Fprintf(c, "GET /%s HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Protocol: %s\r\n\r\n", path, host, subprotocol)
	require.NoError(t, err)
	r := bufio.NewReader(c)
	res, err := http.ReadResponse(r, nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusSwitchingProtocols, res.StatusCode)
	_, err = c.Write([]byte{0x81, 2, '{', '}'})
	require.NoError(t, err)
	for {
		var head [2]byte
		_, err := io.ReadFull(r, head[:])
		require.NoError(t, err)
		n := int(head[1])
		if n == 126 {
			var long [2]byte
			_, err = io.ReadFull(r, long[:])
			require.NoError(t, err)
			n = int(long[0])<<8 | int(long[1])
		}
		body := make([]byte, n)
		_, err = io.ReadFull(r, body)
		require.NoError(t, err)
		if head[0]&15 == 8 { // close
			assert.Equal(t, int(websocket.StatusProtocolError), int(body[0])<<8|int(body[1]))
			return
		}
	}
}
