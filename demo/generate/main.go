// Command generate draws and encodes the demo loops: eight seconds each, since after eight
// seconds 240 pictures at 30 a second and 375 AAC frames at 48 kHz end together.
package main

import (
	"encoding/binary"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/av1enc"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/coding"
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

// A loop is one recording: its picture, and one or several audio tracks.
type loop struct {
	file          string
	codec         media.Codec
	width, height int
	bitrate       int64
	effort        int // of H.264 from 5 on with B-frames
	scene         func(*canvas, int)
	sounds        []sound
}

// A sound is one audio track.
type sound struct {
	codec          media.Codec
	bitrate        int64
	language, name string
	wave           func(n int) float64
}

func main() {
	dir := "."
	if _, err := os.Stat("demo"); err == nil {
		dir = "demo"
	}
	only := func(codec media.Codec, wave func(int) float64) []sound {
		return []sound{{codec: codec, bitrate: 96_000, wave: wave}}
	}
	for _, l := range []loop{
		{"start-line.flv", media.H264, 1280, 720, 1_800_000, 5, startLine, only(media.AAC, harbourSound)},
		{"chase-boat.flv", media.H264, 1920, 1080, 3_200_000, 1, chaseBoat, only(media.AAC, engineSound)},
		{"harbour.flv", media.VP9, 640, 360, 300_000, 3, startLine, only(media.Opus, harbourSound)},
		{"marks.flv", media.AV1, 640, 360, 300_000, 3, startLine, only(media.Opus, harbourSound)},
		{"committee.flv", media.H264, 640, 360, 400_000, 3, chaseBoat, []sound{
			{media.AAC, 64_000, "en", "English", harbourSound},
			{media.AAC, 64_000, "fr", "Français", engineSound},
			{media.Opus, 64_000, "de", "Deutsch", harbourSound},
		}},
	} {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], l.file) {
			continue
		}
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

// encoded is one track, ready to be written.
type coded struct {
	config []byte // body of its configuration's tag
	units  []unit
}

func (l *loop) render() ([]byte, error) {
	video, err := l.video()
	if err != nil {
		return nil, err
	}
	meta := amf.ECMAArray{
		{Name: "duration", Value: float64(seconds)}, {Name: "width", Value: float64(l.width)}, {Name: "height", Value: float64(l.height)},
		{Name: "framerate", Value: float64(rate)}, {Name: "videocodecid", Value: codecID(l.codec)}, {Name: "audiocodecid", Value: codecID(l.sounds[0].codec)},
		{Name: "audiosamplerate", Value: float64(samples)}, {Name: "stereo", Value: true},
	}
	tracks := []coded{video}
	var info amf.Object
	for i := range l.sounds {
		a := &l.sounds[i]
		t, err := a.encode(uint8(i))
		if err != nil {
			return nil, err
		}
		tracks = append(tracks, t)
		if a.language != "" {
			info = append(info, amf.Property{Name: strconv.Itoa(i), Value: amf.Object{{Name: "language", Value: a.language}, {Name: "name", Value: a.name}}})
		}
	}
	if info != nil {
		meta = append(meta, amf.Property{Name: "audioTrackIdInfoMap", Value: info})
	}
	out := flv.AppendHeader(nil)
	out = flv.AppendTag(out, &flv.Tag{Type: flv.TagScript, Body: amf.Append(nil, "onMetaData", meta)})
	for i, t := range tracks {
		kind := uint8(flv.TagAudio)
		if i == 0 {
			kind = flv.TagVideo
		}
		out = flv.AppendTag(out, &flv.Tag{Type: kind, Body: t.config})
	}
	for {
		next := -1
		for i := range tracks {
			if u := tracks[i].units; len(u) > 0 && (next < 0 || u[0].ticks < tracks[next].units[0].ticks) {
				next = i
			}
		}
		if next < 0 {
			return out, nil
		}
		out = flv.AppendTag(out, &tracks[next].units[0].tag)
		tracks[next].units = tracks[next].units[1:]
	}
}

// codecID is the number or the FourCC of a codec in the metadata.
func codecID(id media.Codec) float64 {
	c := coding.Find(id)
	if c.FLV != 0 {
		return float64(c.FLV)
	}
	return float64(binary.BigEndian.Uint32([]byte(c.FourCC)))
}

func millis(ticks int64) uint32 { return uint32(media.Rescale(ticks, media.VideoTimescale, 1000)) }

func (l *loop) video() (coded, error) {
	list, config, err := l.pictures()
	if err != nil {
		return coded{}, err
	}
	out := coded{config: (&flv.Body{Codec: l.codec, Config: true, Key: true, Data: config}).Marshal()}
	base := list[0].DTS // below 0 with B-frames
	for _, u := range list {
		dts := u.DTS - base
		b := (&flv.Body{Codec: l.codec, Key: u.Key, Composition: int32(millis(u.PTS-base)) - int32(millis(dts)), Data: u.Data}).Marshal()
		out.units = append(out.units, unit{dts, flv.Tag{Type: flv.TagVideo, Timestamp: millis(dts), Body: b}})
	}
	return out, nil
}

// pictures draws and encodes. Key frames are two seconds apart.
func (l *loop) pictures() (list []*media.AccessUnit, config []byte, err error) {
	const keys = 2 * rate
	c := newCanvas(l.width, l.height)
	draw := func(n int) *picture.Picture {
		l.scene(c, n)
		c.number(n)
		return c.yuv()
	}
	at := func(n int) int64 { return int64(n) * media.VideoTimescale / rate }
	add := func(u *media.AccessUnit, err error) error {
		if u != nil {
			list = append(list, u)
		}
		return err
	}
	switch l.codec {
	case media.VP9:
		enc, err := vp9enc.New(l.width, l.height, l.bitrate, l.effort)
		if err != nil {
			return nil, nil, err
		}
		defer enc.Close()
		for n := range frames {
			if err := add(enc.Encode(draw(n), at(n), at(1), n%keys == 0)); err != nil {
				return nil, nil, err
			}
		}
		return list, enc.Config.Marshal(), nil
	case media.AV1:
		return l.av1(keys, draw, at, add, &list)
	}
	enc, err := h264enc.New(h264enc.Settings{
		Width: l.width, Height: l.height, FrameRate: media.Rational{Num: rate, Den: 1},
		Bitrate: l.bitrate, Peak: l.bitrate * 3 / 2, Buffer: 1000, Effort: l.effort,
	})
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	for n := range frames {
		if err := add(enc.Encode(draw(n), at(n), n%keys == 0)); err != nil {
			return nil, nil, err
		}
	}
	for enc.Waiting() > 0 {
		if err := add(enc.Encode(nil, 0, false)); err != nil {
			return nil, nil, err
		}
	}
	return list, enc.Config.Marshal(), nil
}

func (l *loop) av1(keys int, draw func(int) *picture.Picture, at func(int) int64, add func(*media.AccessUnit, error) error, list *[]*media.AccessUnit) ([]*media.AccessUnit, []byte, error) {
	enc, err := av1enc.New(l.width, l.height, media.Rational{Num: rate, Den: 1}, l.bitrate, l.effort, keys)
	if err != nil {
		return nil, nil, err
	}
	defer enc.Close()
	for n := range frames {
		if err := enc.Send(draw(n), at(n)); err != nil {
			return nil, nil, err
		}
		if err := add(enc.Take(false)); err != nil {
			return nil, nil, err
		}
	}
	if err := enc.Send(nil, 0); err != nil {
		return nil, nil, err
	}
	for len(*list) < frames {
		before := len(*list)
		if err := add(enc.Take(true)); err != nil {
			return nil, nil, err
		}
		if len(*list) == before {
			return nil, nil, fmt.Errorf("the AV1 encoder gave %d pictures of %d", before, frames)
		}
	}
	u, err := av1.ParseUnit((*list)[0].Data)
	if err != nil || u.Sequence == nil {
		return nil, nil, fmt.Errorf("the AV1 encoder's first unit has no sequence header: %w", err)
	}
	return *list, av1.NewConfig(u.Sequence), nil
}

// encoder is what encodes one frame of sound after the other.
type encoder interface {
	Encode(pcm []int16) ([]byte, error)
	Close()
}

func (a *sound) encode(track uint8) (coded, error) {
	var enc encoder
	var config []byte
	frame := aac.FrameSamples
	if a.codec == media.Opus {
		e, err := opusenc.New(2, a.bitrate)
		if err != nil {
			return coded{}, err
		}
		enc, config, frame = e, e.Config.MarshalHead(), opusenc.FrameSamples
	} else {
		e, err := aacenc.New(samples, 2, a.bitrate)
		if err != nil {
			return coded{}, err
		}
		enc, config = e, e.Config.Marshal()
	}
	defer enc.Close()
	out := coded{config: (&flv.Body{Track: track, Codec: a.codec, Config: true, Data: config}).Marshal()}
	pcm := make([]int16, 2*frame)
	for f := range seconds * samples / frame {
		for i := range frame {
			v := int16(max(-1, min(1, a.wave(f*frame+i))) * 20000)
			pcm[2*i], pcm[2*i+1] = v, v
		}
		data, err := enc.Encode(pcm)
		if err != nil {
			return coded{}, err
		}
		ticks := int64(f) * int64(frame) * media.VideoTimescale / samples
		b := (&flv.Body{Track: track, Codec: a.codec, Data: data}).Marshal()
		out.units = append(out.units, unit{ticks, flv.Tag{Type: flv.TagAudio, Timestamp: millis(ticks), Body: b}})
	}
	return out, nil
}
