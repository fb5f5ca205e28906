package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/settings"
)

// still is a picture of JPEG with a number in its block code.
func still(t *testing.T, number, width, height int) []byte {
	img := image.NewYCbCr(image.Rect(0, 0, width, height), image.YCbCrSubsampleRatio420)
	for i := range img.Y {
		img.Y[i] = byte(60 + i%width*100/width)
	}
	for i := range img.Cb {
		img.Cb[i], img.Cr[i] = 140, 110
	}
	for cell, on := range picture.EncodeNumber(number) {
		x, y, side := picture.CodeCell(width, height, cell)
		v := byte(16)
		if on {
			v = 235
		}
		for row := y; row < y+side; row++ {
			for col := x; col < x+side; col++ {
				img.Y[row*img.YStride+col] = v
			}
		}
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 85}))
	return b.Bytes()
}

// TestStillsOfAnIPCamera fetches pictures of JPEG over RTSP. They cannot be packaged as they are: the rung of the source
// is encoded, and plays in Chromium in their order.
func TestStillsOfAnIPCamera(t *testing.T) {
	t.Parallel()
	s := start(t)
	const frames, rate = 240, 15
	u, err := url.Parse(fmt.Sprintf("rtsp://127.0.0.1:%d", freePort(t)))
	require.NoError(t, err)
	cam, err := rtsp.Listen(u)
	require.NoError(t, err)
	defer func() { _ = cam.Close() }()
	pictures := make([][]byte, frames)
	for n := range pictures {
		pictures[n] = still(t, n, 640, 360)
	}
	var frozen atomic.Bool
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		cam.Track(media.Track{ID: 1, Kind: media.Video, Codec: media.JPEG, Width: 640, Height: 360, Clock: media.Clock{Scale: 90000}})
		tick := time.NewTicker(time.Second / rate)
		defer tick.Stop()
		for n := int64(0); ; n++ {
			shown := n % frames
			if frozen.Load() {
				shown = 7
			}
			cam.Unit(1, n*90000/rate, 0, true, pictures[shown])
			_ = cam.Flush()
			select {
			case <-stop:
				return
			case <-tick.C:
			}
		}
	}()
	s.channel("door", settings.Settings{Inputs: []settings.Input{settings.ParseInput(u.String() + "/door"), {Kind: settings.InputSender}},
		Switching: settings.Switching{FrozenSeconds: 3}}, sourceOnly)
	eventually(t, "on air", func() bool { return s.newest("door", "source") >= 3 })
	st := s.status("door")
	assert.Equal(t, "JPEG", st.Feed.Tracks[0].Label)
	require.NotEmpty(t, st.Renditions)
	assert.Contains(t, st.Renditions[0].Codec, "avc1")
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, &demo.Loop{Name: "door", Frames: frames}, "ll-hls", "dash")

	// Its picture freezes, and the sender that stands by takes over.
	s.sendLoop(&demo.Others[2], camera.Options{URL: s.rtmp + "/in/door/" + s.key("door", api.NewKey{}).Secret})
	eventually(t, "the sender stands by", func() bool { return s.status("door").Inputs[1].Standby == 1 })
	frozen.Store(true)
	eventually(t, "the sender on air", func() bool { return s.status("door").Inputs[1].OnAir })
	eventually(t, "why", func() bool { return s.hasEvent("feed-faulty") })
	assert.Equal(t, 1, s.status("door").Inputs[0].Standby, "the camera is still connected")
}
