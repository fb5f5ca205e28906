package e2e

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/demo/feeds"
	"metaplasis/internal/codec/mpegvenc"
	"metaplasis/internal/core/ac3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mpegv"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/onward/mux"
	"metaplasis/internal/settings"
)

// broadcast serves numbered pictures in MPEG-2 with AC-3 as a transport stream over HTTP, in real time, as a tuner does.
func broadcast(t *testing.T) (address string, loop *demo.Loop) {
	const width, height, rate, frames = 320, 192, 25, 100
	enc, err := mpegvenc.New(width, height, media.Rational{Num: rate, Den: 1}, false)
	require.NoError(t, err)
	var units []media.AccessUnit
	pic := picture.New(width, height)
	for n := range frames {
		feeds.Draw(pic, n)
		units = append(units, enc.Encode(pic, int64(n)*media.VideoTimescale/rate))
	}
	video, sound := media.Track{ID: 1}, media.Track{ID: 2}
	require.NoError(t, mpegv.Complete(&video, units[0].Data))
	silence := append([]byte{0x0b, 0x77, 0, 0, 20, 0x40, 0x40}, make([]byte, 761)...) // 48 kHz, 192 kbit/s, stereo
	require.NoError(t, ac3.Complete(&sound, silence))
	video.Clock, sound.Clock = media.Clock{Scale: media.VideoTimescale}, media.Clock{Scale: media.VideoTimescale}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "video/mp2t")
		conn := mux.NewConn(func(b []byte) error {
			_, err := w.Write(b)
			w.(http.Flusher).Flush()
			return err
		}, func() error { return nil }, nil)
		p := conn.Programme(7, "Harbour")
		p.Track(video)
		p.Track(sound)
		tick := time.NewTicker(time.Second / rate)
		defer tick.Stop()
		for n, heard := 0, int64(0); ; n++ {
			at := int64(n) * media.VideoTimescale / rate
			p.Unit(1, at, 0, true, units[n%frames].Data)
			for ; heard*2880 < at+3600; heard++ { // 32 ms each
				p.Unit(2, heard*2880, 0, true, silence)
			}
			if p.Flush() != nil {
				return
			}
			select {
			case <-r.Context().Done():
				return
			case <-tick.C:
			}
		}
	}))
	t.Cleanup(func() { server.CloseClientConnections(); server.Close() })
	return server.URL + "/tuner/7", &demo.Loop{Name: "tuner", Frames: frames}
}

// TestATunerInABrowser: MPEG-2 and AC-3 become H.264 and AAC by themselves, and play in Chromium.
func TestATunerInABrowser(t *testing.T) {
	t.Parallel()
	s := start(t)
	address, loop := broadcast(t)
	s.channel(loop.Name, settings.Settings{Inputs: []settings.Input{settings.ParseInput(address)}})
	require.Eventually(t, func() bool { f := s.status(loop.Name).Feed; return f != nil && len(f.Tracks) == 2 }, 20*time.Second, 50*time.Millisecond)
	tracks := s.status(loop.Name).Feed.Tracks
	assert.Equal(t, []string{"MPEG-2 video", "AC-3"}, []string{tracks[0].Label, tracks[1].Label})
	eventually(t, "segments", func() bool { return s.newest(loop.Name, "audio-128k") >= 2 })
	_, b, _ := s.get("/media/" + loop.Name + "/index.m3u8")
	assert.Regexp(t, `CODECS="avc1\.\w+,mp4a\.40\.2"`, string(b))
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, loop, "ll-hls", "dash")
}
