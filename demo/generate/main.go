// Command generate draws and encodes the demo loops: eight seconds each, since after eight
// seconds 240 pictures at 30 a second and 375 AAC frames at 48 kHz end together.
package main

import (
	"fmt"
	"log"
	"os"
	"path/filepath"

	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

const (
	seconds = 8
	rate    = 30
	frames  = seconds * rate
	samples = 48000
)

type loop struct {
	file          string
	width, height int
	bitrate       int64
	effort        int // from 5 on with B-frames
	scene         func(*canvas, int)
	sound         func(n int) float64
}

func main() {
	dir := "."
	if _, err := os.Stat("demo"); err == nil {
		dir = "demo"
	}
	for _, l := range []loop{
		{"start-line.flv", 1280, 720, 1_800_000, 5, startLine, harbourSound},
		{"chase-boat.flv", 1920, 1080, 3_200_000, 1, chaseBoat, engineSound},
	} {
		b, err := l.render()
		if err != nil {
			log.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, l.file), b, 0o644); err != nil {
			log.Fatal(err)
		}
		fmt.Printf("%s: %dx%d, %d bytes\n", l.file, l.width, l.height, len(b))
	}
}

// unit is one tag in waiting, to be put in the order of time.
type unit struct {
	ticks int64 // decode time, 90 kHz
	tag   flv.Tag
}

func (l *loop) render() ([]byte, error) {
	video, record, err := l.video()
	if err != nil {
		return nil, err
	}
	audio, config, err := l.audio()
	if err != nil {
		return nil, err
	}
	out := flv.AppendHeader(nil)
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagScript, Body: amf.Append(nil, "onMetaData", amf.ECMAArray{
		{Name: "duration", Value: float64(seconds)}, {Name: "width", Value: float64(l.width)}, {Name: "height", Value: float64(l.height)},
		{Name: "framerate", Value: float64(rate)}, {Name: "videocodecid", Value: 7.0}, {Name: "audiocodecid", Value: 10.0},
		{Name: "audiosamplerate", Value: float64(samples)}, {Name: "stereo", Value: true},
	})})
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagVideo, Body: (&flv.VideoBody{Config: true, Data: record}).Marshal()})
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagAudio, Body: (&flv.AudioBody{Config: true, Data: config}).Marshal()})
	for len(video)+len(audio) > 0 {
		from := &video
		if len(video) == 0 || len(audio) > 0 && audio[0].ticks < video[0].ticks {
			from = &audio
		}
		out = flv.AppendTag(out, &(*from)[0].tag)
		*from = (*from)[1:]
	}
	return out, nil
}

func millis(ticks int64) uint32 { return uint32(media.Rescale(ticks, media.VideoTimescale, 1000)) }

func (l *loop) video() ([]unit, []byte, error) {
	enc, err := h264enc.New(h264enc.Settings{
		Width: l.width, Height: l.height, FrameRate: media.Rational{Num: rate, Den: 1},
		Bitrate: l.bitrate, Peak: l.bitrate * 3 / 2, Buffer: 1000, Effort: l.effort,
	})
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	var coded []*media.AccessUnit
	c := newCanvas(l.width, l.height)
	take := func(p *picture.Picture, n int) error {
		u, err := enc.Encode(p, int64(n)*media.VideoTimescale/rate, n%(2*rate) == 0)
		if u != nil {
			coded = append(coded, u)
		}
		return err
	}
	for n := range frames {
		l.scene(c, n)
		c.number(n)
		if err := take(c.yuv(), n); err != nil {
			return nil, nil, err
		}
	}
	for enc.Waiting() > 0 {
		if err := take(nil, 0); err != nil {
			return nil, nil, err
		}
	}
	var out []unit
	base := coded[0].DTS // below 0 with B-frames
	for _, u := range coded {
		dts := u.DTS - base
		body := flv.VideoBody{Key: u.Key, Composition: int32(millis(u.PTS-base)) - int32(millis(dts)), Data: u.Data}
		out = append(out, unit{dts, flv.Tag{Type: flv.TagVideo, Timestamp: millis(dts), Body: body.Marshal()}})
	}
	return out, enc.Config.Marshal(), nil
}

func (l *loop) audio() ([]unit, []byte, error) {
	enc, err := aacenc.New(samples, 2, 96_000)
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	var out []unit
	pcm := make([]int16, 2*aac.FrameSamples)
	for f := range seconds * samples / aac.FrameSamples {
		for i := range aac.FrameSamples {
			v := int16(max(-1, min(1, l.sound(f*aac.FrameSamples+i))) * 20000)
			pcm[2*i], pcm[2*i+1] = v, v
		}
		frame, err := enc.Encode(pcm)
		if err != nil {
			return nil, nil, err
		}
		ticks := int64(f) * aac.FrameSamples * media.VideoTimescale / samples
		body := flv.AudioBody{Data: frame}
		out = append(out, unit{ticks, flv.Tag{Type: flv.TagAudio, Timestamp: millis(ticks), Body: body.Marshal()}})
	}
	return out, enc.Config.Marshal(), nil
}
