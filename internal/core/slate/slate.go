// Package slate makes what is on air while no feed is there: a short recording, an FLV file, of an image or of the
// channel's title on a dark ground, with silence for sound. A row of dots moves, so that people see that the channel
// lives.
package slate

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"

	"golang.org/x/image/draw"

	"metaplasis/internal/codec"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/overlay"
	"metaplasis/internal/core/picture"
)

// Request says how a slate is to be. What is zero takes a usual value.
type Request struct {
	Width      int            `json:"width"`
	Height     int            `json:"height"`
	FrameRate  media.Rational `json:"frameRate"`
	SampleRate int            `json:"sampleRate"`
	Channels   int            `json:"channels"`
	Title      string         `json:"title"`
	Image      []byte         `json:"image,omitempty"` // PNG; without one the title is drawn
}

// What a slate is without being told, and its bounds.
const (
	usualWidth   = 1280
	usualHeight  = 720
	usualSamples = 48_000
	//limit:samples of the standby picture's side | each channel | it is scaled down
	maxSide      = 1920 // what is larger is scaled down: nothing moves much
	seconds      = 4
	bitrate      = 400_000
	soundBitrate = 64_000
	dots         = 8
)

// withDefaults brings a request into bounds.
func (r Request) withDefaults() Request {
	if r.Width < 64 || r.Height < 64 {
		r.Width, r.Height = usualWidth, usualHeight
	}
	if most := max(r.Width, r.Height); most > maxSide {
		r.Width, r.Height = r.Width*maxSide/most, r.Height*maxSide/most
	}
	r.Width, r.Height = r.Width&^1, r.Height&^1
	if f := r.FrameRate; !f.Valid() || f.Num > 60*f.Den || f.Num < 5*f.Den {
		r.FrameRate = media.Rational{Num: 25, Den: 1}
	}
	if r.SampleRate < 16_000 || r.SampleRate > 48_000 {
		r.SampleRate = usualSamples
	}
	if r.Channels != 1 {
		r.Channels = 2
	}
	return r
}

// item is a tag that waits for its turn.
type item struct {
	ticks int64 // media.VideoTimescale
	tag   flv.Tag
}

// Make makes a recording.
func Make(r Request) ([]byte, error) {
	r = r.withDefaults()
	length := int64(seconds * media.VideoTimescale)
	video, head, err := r.pictures(length)
	if err != nil {
		return nil, err
	}
	sound, soundHead, err := r.silence(length)
	if err != nil {
		return nil, err
	}
	meta := amf.ECMAArray{
		{Name: "duration", Value: float64(seconds)}, {Name: "width", Value: float64(r.Width)}, {Name: "height", Value: float64(r.Height)},
		{Name: "framerate", Value: float64(r.FrameRate.Num) / float64(r.FrameRate.Den)},
	}
	out := flv.AppendHeader(nil)
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagScript, Body: amf.Append(nil, "onMetaData", meta)})
	out = flv.AppendTag(out, head)
	out = flv.AppendTag(out, soundHead)
	for len(video) > 0 || len(sound) > 0 {
		from := &video
		if len(video) == 0 || len(sound) > 0 && sound[0].ticks < video[0].ticks {
			from = &sound
		}
		out = flv.AppendTag(out, &(*from)[0].tag)
		*from = (*from)[1:]
	}
	return out, nil
}

func millis(ticks int64) uint32 { return uint32(media.RescaleDown(ticks, media.VideoTimescale, 1000)) }

// pictures draws and encodes the pictures, with a keyframe each second.
func (r Request) pictures(length int64) (list []item, head *flv.Tag, err error) {
	ground, err := r.draw()
	if err != nil {
		return nil, nil, err
	}
	id := coding.Usual(media.Video)
	enc, err := codec.NewPictureEncoder(id, codec.PictureSettings{Width: r.Width, Height: r.Height, SAR: media.Rational{Num: 1, Den: 1}, FrameRate: r.FrameRate,
		Bitrate: bitrate, Peak: 2 * bitrate, Buffer: 2000, Effort: 3, BFrames: -1, Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}})
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	track, err := enc.Track()
	if err != nil {
		return nil, nil, err
	}
	head = &flv.Tag{Type: flv.TagVideo, Body: (&flv.Body{Codec: id, Config: true, Key: true, Data: track.Config}).Marshal()}
	add := func(u *media.AccessUnit) {
		if u != nil {
			list = append(list, item{u.DTS, flv.Tag{Type: flv.TagVideo, Timestamp: millis(u.DTS), Body: (&flv.Body{Codec: id, Key: u.Key, Data: u.Data}).Marshal()}})
		}
	}
	pic := picture.New(r.Width, r.Height)
	second := int64(-1)
	for n := int64(0); ; n++ {
		pts := media.RescaleDown(n, r.FrameRate.Num, media.VideoTimescale*r.FrameRate.Den)
		if pts >= length {
			break
		}
		copy(pic.Y, ground.Y)
		copy(pic.U, ground.U)
		copy(pic.V, ground.V)
		r.dot(pic, int(pts*dots/length))
		u, err := enc.Encode(pic, pts, pts/media.VideoTimescale != second)
		if err != nil {
			return nil, nil, err
		}
		second = pts / media.VideoTimescale
		add(u)
	}
	for enc.Waiting() > 0 {
		u, err := enc.Encode(nil, 0, false)
		if err != nil || u == nil {
			break
		}
		add(u)
	}
	return list, head, nil
}

// draw draws what stands still.
func (r Request) draw() (*picture.Picture, error) {
	img := image.NewNRGBA(image.Rect(0, 0, r.Width, r.Height))
	if r.Image == nil {
		for y := range r.Height {
			v := uint8(20 + 24*y/r.Height)
			draw.Draw(img, image.Rect(0, y, r.Width, y+1), image.NewUniform(color.NRGBA{v / 2, v, v + v/2, 255}), image.Point{}, draw.Src)
		}
		return overlay.Titled(img, r.Title)
	}
	draw.Draw(img, img.Bounds(), image.NewUniform(color.NRGBA{0, 0, 0, 255}), image.Point{}, draw.Src)
	src, err := png.Decode(bytes.NewReader(r.Image))
	if err != nil {
		return nil, fmt.Errorf("the slate's image: %w", err)
	}
	w, h := r.Width, r.Width*src.Bounds().Dy()/max(src.Bounds().Dx(), 1)
	if h > r.Height {
		w, h = r.Height*src.Bounds().Dx()/max(src.Bounds().Dy(), 1), r.Height
	}
	at := image.Rect((r.Width-w)/2, (r.Height-h)/2, (r.Width-w)/2+w, (r.Height-h)/2+h)
	draw.CatmullRom.Scale(img, at, src, src.Bounds(), draw.Over, nil)
	return overlay.Titled(img, "")
}

// dot draws a row of dots of which one is bright.
func (r Request) dot(p *picture.Picture, bright int) {
	side := max(r.Height/80, 2)
	x0, y := (r.Width-side*2*dots)/2, r.Height-4*side
	for i := range dots {
		v := byte(90)
		if i == bright {
			v = 220
		}
		for dy := range side {
			for dx := range side {
				p.Y[(y+dy)*p.StrideY+x0+2*i*side+dx] = v
			}
		}
	}
}

// silence codes frames of silence.
func (r Request) silence(length int64) (list []item, head *flv.Tag, err error) {
	id := coding.Usual(media.Audio)
	enc, err := codec.NewSoundEncoder(id, r.SampleRate, r.Channels, soundBitrate)
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	head = &flv.Tag{Type: flv.TagAudio, Body: (&flv.Body{Codec: id, Config: true, Data: enc.Track().Config}).Marshal()}
	samples, _ := enc.Frame()
	pcm := make([]int16, int(samples)*r.Channels)
	for n := int64(0); ; n++ {
		ticks := media.Rescale(n*samples, int64(r.SampleRate), media.VideoTimescale)
		if ticks >= length {
			return list, head, nil
		}
		frame, err := enc.Encode(pcm)
		if err != nil {
			return nil, nil, err
		}
		if len(frame) > 0 {
			list = append(list, item{ticks, flv.Tag{Type: flv.TagAudio, Timestamp: millis(ticks), Body: (&flv.Body{Codec: id, Data: frame}).Marshal()}})
		}
	}
}
