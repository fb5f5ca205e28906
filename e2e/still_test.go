package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/onward/rtsp"
	"metaplasis/internal/origin"
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
// is coded, and plays in Chromium in their order.
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
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		cam.Track(media.Track{ID: 1, Kind: media.Video, Codec: media.JPEG, Width: 640, Height: 360, Clock: media.Clock{Scale: 90000}})
		tick := time.NewTicker(time.Second / rate)
		defer tick.Stop()
		for n := int64(0); ; n++ {
			cam.Unit(1, n*90000/rate, 0, true, pictures[n%frames])
			_ = cam.Flush()
			select {
			case <-stop:
				return
			case <-tick.C:
			}
		}
	}()
	s.channel("door", origin.Settings{Inputs: []origin.Input{origin.ParseInput(u.String() + "/door")}}, sourceOnly)
	eventually(t, "on air", func() bool { return s.newest("door", "source") >= 3 })
	st := s.status("door")
	assert.Equal(t, "JPEG", st.Feed.Tracks[0].Label)
	require.NotEmpty(t, st.Renditions)
	assert.Contains(t, st.Renditions[0].Codec, "avc1")
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, &demo.Loop{Name: "door", Frames: frames}, "ll-hls", "dash")
}
