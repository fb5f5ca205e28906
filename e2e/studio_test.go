package e2e

import (
	"bytes"
	"fmt"
	"image/jpeg"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/camera"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/settings"
)

// onStudioNetwork lets a camera announce and send a loop on loopback's network.
func (s *service) onStudioNetwork(loop *demo.Loop, name, format string) (stop func()) {
	port := freePort(s.t)
	group := fmt.Sprintf("239.%d.%d.1:%d", 64+port>>8, port&0xff, port)
	return s.sendLoop(loop, camera.Options{Name: loop.Title, Retry: time.Second,
		URL: "studio://" + group + "?" + url.Values{"interface": {"lo"}, "name": {name}, "format": {format}}.Encode()})
}

func (s *service) sources() map[string]studio.Source {
	list, err := s.api.Studio(s.t.Context())
	require.NoError(s.t, err)
	assert.True(s.t, list.On)
	assert.Empty(s.t, list.Wrong)
	out := map[string]studio.Source{}
	for _, one := range list.Sources {
		out[one.Name] = one
	}
	return out
}

// oneRung is a ladder for sources that are re-encoded.
var oneRung = ladder.Rung{Name: "720p", On: true, Width: 1280, Height: 720, Bitrate: 2_400_000, Effort: 1, AudioBitrate: 128_000}

// TestStudioNetwork: sources announce themselves, are listed with a picture, and taken by name: raw pictures of 1280x720
// at 30 a second, 442 Mbit/s, are received while a rung is made of them, and come out in their order with their sound.
func TestStudioNetwork(t *testing.T) { // alone: half a gigabit a second
	s := start(t, "--studio", "lo")
	loop := &demo.Loops[0]
	name := "Start line, north camera"
	s.channel(loop.Name, settings.Settings{Inputs: []settings.Input{{Kind: settings.InputStudio, Name: name}}, Packaging: settings.Packaging{Window: 10}}, oneRung)
	eventually(t, "it says what is missing", func() bool {
		return strings.Contains(s.status(loop.Name).Inputs[0].Problem, "no source on the network is called")
	})
	stop := s.onStudioNetwork(loop, name, "raw")
	eventually(t, "announced", func() bool { return len(s.sources()[name].Tracks) == 2 })
	source := s.sources()[name]
	require.Len(t, source.Tracks, 2)
	assert.Equal(t, "raw video, 1280x720, 30/s, 8 bits", source.Tracks[0].Text)
	assert.EqualValues(t, 442_368_000, source.Tracks[0].Bitrate)
	b, err := s.api.StudioPicture(t.Context(), name)
	require.NoError(t, err)
	assertShowsTheLoop(t, b, loop)

	eventually(t, "on air", func() bool { return s.newest(loop.Name, "720p") >= 2 })
	figures := func() contribution.Line { return *s.status(loop.Name).Inputs[0].Line }
	before := figures()
	from := s.newest(loop.Name, "720p")
	eventually(t, "ten seconds of media", func() bool { return s.newest(loop.Name, "720p") >= from+5 })
	after := figures()
	lost, overruns := after.RTP.Lost-before.RTP.Lost, after.Socket.Overruns-before.Socket.Overruns
	t.Logf("%d packets came in five segments, %d were lost; %d did not fit the socket's %d MB", after.RTP.Packets-before.RTP.Packets, lost, overruns, after.Socket.Buffer>>20)
	assert.Greater(t, after.RTP.Packets-before.RTP.Packets, int64(300_000))
	late, beeps := s.inStep(loop.Name, "720p", "audio-128k", loop)
	t.Logf("the sound is %v beside the pictures, by %d beeps", late.Round(100*time.Microsecond), beeps)
	assert.Greater(t, beeps, 4)
	assert.Less(t, late.Abs(), 40*time.Millisecond)
	p := open(t)
	defer p.stop()
	s.playsInOrder(p, loop, "ll-hls", "dash")
	stop()
	eventually(t, "taken back", func() bool { return len(s.sources()) == 0 })
}

func assertShowsTheLoop(t *testing.T, b []byte, loop *demo.Loop) {
	t.Helper()
	img, err := jpeg.Decode(bytes.NewReader(b))
	require.NoError(t, err)
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	luma := make([]byte, w*h)
	for y := range h {
		for x := range w {
			r, g, b, _ := img.At(x, y).RGBA()
			luma[y*w+x] = byte((r + g + b) / 3 >> 8)
		}
	}
	n, ok := picture.DecodeNumber(luma, w, w, h)
	assert.True(t, ok && n < loop.Frames, "picture %d of the loop", n)
}

// TestStudioSourcesOfOtherKinds: pictures of 10 bits, JPEG, and what service discovery tells of, side by side.
func TestStudioSourcesOfOtherKinds(t *testing.T) { // alone, as above
	s := start(t, "--studio", "lo")
	camera1 := freePort(t)
	s.onStudioNetwork(&demo.Loops[0], "Start line", "raw10")
	s.onStudioNetwork(&demo.Others[0], "Harbour", "jpeg")
	s.sendLoop(&demo.Others[2], camera.Options{Name: "Committee boat", Retry: time.Second,
		URL: fmt.Sprintf("rtsp://127.0.0.1:%d/deck?mode=listener&announce=lo&name=Committee+2.0", camera1)})
	small := oneRung
	small.Name, small.Width, small.Height, small.Bitrate = "360p", 640, 360, 850_000
	for _, c := range []struct {
		loop *demo.Loop
		name string
		rung ladder.Rung
		text string
	}{
		{&demo.Loops[0], "Start line", small, "raw video, 1280x720, 30/s, 10 bits"},
		{&demo.Others[0], "Harbour", small, "JPEG"},
		{&demo.Others[2], "Committee 2.0", sourceOnly, "H.264, 640x360"},
	} {
		eventually(t, c.name+" is listed", func() bool { o, ok := s.sources()[c.name]; return ok && len(o.Tracks) > 0 })
		source := s.sources()[c.name]
		assert.Contains(t, source.Tracks[0].Text, c.text)
		s.channel(c.loop.Name, settings.Settings{Inputs: []settings.Input{{Kind: settings.InputStudio, Name: source.ID}}}, c.rung)
		eventually(t, c.name+" on air", func() bool { return s.newest(c.loop.Name, c.rung.Name) >= 2 })
		b, err := s.api.StudioPicture(t.Context(), source.ID)
		if c.rung.Source {
			assert.ErrorContains(t, err, "a channel shows its pictures")
		} else if assert.NoError(t, err) {
			assertShowsTheLoop(t, b, c.loop)
		}
		p := open(t)
		s.playsInOrder(p, c.loop, "ll-hls")
		p.stop()
		require.NoError(t, s.api.RemoveChannel(t.Context(), c.loop.Name))
	}
}
