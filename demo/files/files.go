// Package files makes files of every kind that people bring: containers, codecs, structures, and what is broken about them. They are
// drawn and encoded here, in seconds. Every picture carries its number as a block code.
package files

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"metaplasis/demo/feeds"
	"metaplasis/internal/codec"
	"metaplasis/internal/codec/mpegaenc"
	"metaplasis/internal/codec/opusenc"
	"metaplasis/internal/codec/vp9enc"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/clip"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/ts"
)

// File is a file that somebody brings.
type File struct {
	Name      string
	Bytes     []byte
	Container string
	Pictures  int    // 0 is audio only, or nothing
	Frames    int    // of sound; 0: any number
	Says      string // what is said of it when it does not play, or not all of it
	Plays     bool   // browsers play it as it is
	Notes     string // what is said of it beside
	// Shapes: a browser cannot read its numbers.
	Unread bool
}

// track is a track with its units.
type track struct {
	media.Track
	units []media.AccessUnit
}

// header makes the CMAF header of a track.
func header(t media.Track) *segment.Header {
	b := bmff.Header(&t)
	return &segment.Header{Name: "header.mp4", Bytes: b, Track: t}
}

// Memory is a file in memory.
type Memory []byte

// Size implements item.Source.
func (m Memory) Size() int64 { return int64(len(m)) }

// ReadAt implements item.Source.
func (m Memory) ReadAt(p []byte, at int64) (int, error) {
	if at < 0 || at >= int64(len(m)) {
		return 0, io.EOF
	}
	n := copy(p, m[at:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// commandFeed makes an FLV file of a feed.
func commandFeed(k feeds.Kind) ([]byte, *feeds.Feed, error) {
	f, err := feeds.Make(k)
	if err != nil {
		return nil, nil, err
	}
	b := flv.AppendHeader(nil)
	for _, list := range [][]feeds.Message{f.Configs, f.Media} {
		for i := range list {
			b = flv.AppendTag(b, &flv.Tag{Type: list[i].Type, Timestamp: uint32(list[i].Stamp), Body: list[i].Body})
		}
	}
	return b, f, nil
}

// tracksOf reads the tracks of a file that is known to be right.
func tracksOf(b []byte) (video, sound *track, err error) {
	it, err := item.Open(item.Options{Files: []item.Source{Memory(b)}, NewHeader: header})
	if err != nil {
		return nil, nil, err
	}
	for i := range it.Tracks {
		t := &it.Tracks[i]
		units, err := t.Units(0, t.Count())
		if err != nil {
			return nil, nil, err
		}
		if out := (&track{t.Track, units}); t.Kind == media.Video {
			video = out
		} else {
			sound = out
		}
	}
	return video, sound, nil
}

// segments are those of a track, whole: of pictures from keyframe to keyframe, of sound as those of pictures.
func (t *track) segments(pictures []*segment.Segment) (out []*segment.Segment) {
	h := header(t.Track)
	for lo := 0; lo < len(t.units); {
		hi := lo + 1
		next := int64(math.MaxInt64)
		if n := len(out) + 1; n < len(pictures) {
			next = pictures[n].Start
		}
		for hi < len(t.units) && (t.Kind == media.Video && !t.units[hi].Key || t.Kind == media.Audio && media.Rescale(t.units[hi].PTS, t.Timescale, media.VideoTimescale) < next) {
			hi++
		}
		b := bmff.Chunk(&t.Track, bmff.ChunkOptions{Sequence: uint32(len(out) + 1), First: true}, t.units[lo:hi])
		first, last := t.units[lo].PTS, int64(0)
		for _, u := range t.units[lo:hi] {
			first, last = min(first, u.PTS), max(last, u.PTS+u.Duration)
		}
		s := &segment.Segment{MSN: uint64(len(out)), Header: h, Blob: segment.Memory{b}, Size: int64(len(b)), FirstPTS: first, TrackDuration: last - first, Units: hi - lo}
		s.Start = media.Rescale(first, t.Timescale, media.VideoTimescale)
		s.Duration = media.Rescale(last, t.Timescale, media.VideoTimescale) - s.Start
		out = append(out, s)
		lo = hi
	}
	return out
}

// movie is an MP4 file of tracks, fragmented one in fragments.
func movie(video, sound *track) ([]byte, error) {
	s := &clip.Source{}
	if video != nil {
		s.Video = video.segments(nil)
	}
	if sound != nil {
		s.Sound = sound.segments(s.Video)
	}
	m, err := s.Movie(background)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	err = m.Write(background, &b)
	return []byte(b.String()), err
}

func fragments(video, sound *track) ([]byte, error) {
	v := video.segments(nil)
	s := &clip.Source{Video: v, Sound: sound.segments(v)}
	var b strings.Builder
	err := s.Fragmented(background, &b)
	return []byte(b.String()), err
}

// transport is a transport stream that begins at a time, of 33 bits.
func transport(begin int64, tracks ...*track) ([]byte, error) {
	m := ts.NewMux()
	p := m.Programme(1, "Kestrel Bay Regatta")
	type due struct {
		at int64
		to *ts.MuxTrack
		u  *media.AccessUnit
		t  *track
	}
	var list []due
	for _, t := range tracks {
		to, err := p.Track(&t.Track)
		if err != nil {
			return nil, err
		}
		for i := range t.units {
			list = append(list, due{media.Rescale(t.units[i].DTS, t.Timescale, media.VideoTimescale), to, &t.units[i], t})
		}
	}
	slices.SortStableFunc(list, func(a, b due) int { return int(a.at - b.at) })
	var out []byte
	for _, d := range list {
		pts := media.Rescale(d.u.PTS, d.t.Timescale, media.VideoTimescale)
		d.to.Unit(begin+d.at, begin+pts, d.u.Key, d.u.Data)
		out = append(out, m.Take()...)
	}
	return out, nil
}

// stamped puts four bytes before each packet, as recorders of discs do.
func stamped(b []byte) (out []byte) {
	for i := 0; i+ts.PacketSize <= len(b); i += ts.PacketSize {
		out = binary.BigEndian.AppendUint32(out, uint32(i)&0x3fffffff)
		out = append(out, b[i:i+ts.PacketSize]...)
	}
	return out
}

// tone is sound: interleaved samples.
func tone(seconds, rate, channels int) []int16 {
	out := make([]int16, seconds*rate*channels)
	for i := range out {
		out[i] = int16(4000 * math.Sin(2*math.Pi*330*float64(i/channels)/float64(rate)))
	}
	return out
}

// wav is a WAV file.
func wav(pcm []int16, rate, channels int) []byte {
	size := len(pcm) * 2
	b := append([]byte("RIFF"), le32(36+size)...)
	b = append(b, "WAVEfmt \x10\x00\x00\x00\x01\x00"...)
	b = append(b, byte(channels), 0)
	b = append(b, le32(rate)...)
	b = append(b, le32(rate*channels*2)...)
	b = append(b, byte(channels*2), 0, 16, 0)
	b = append(append(b, "data"...), le32(size)...)
	for _, v := range pcm {
		b = binary.LittleEndian.AppendUint16(b, uint16(v))
	}
	return b
}

func le32(v int) []byte { return binary.LittleEndian.AppendUint32(nil, uint32(v)) }

// draw encodes pictures of a codec.
func draw(c media.Codec, pictures, key int) (*track, error) {
	const width, height = 320, 180
	rate := media.Rational{Num: 25, Den: 1}
	enc, err := codec.NewPictureEncoder(c, codec.PictureSettings{Width: width, Height: height, FrameRate: rate, Bitrate: 500_000, Peak: 1_000_000, Buffer: 2000, Effort: 1})
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	p := picture.NewPool(width, height).Get()
	var out []media.AccessUnit
	take := func(u *media.AccessUnit, err error) error {
		if u != nil {
			u.Data = slices.Clone(u.Data)
			out = append(out, *u)
		}
		return err
	}
	const step = media.VideoTimescale / 25
	for n := range pictures {
		feeds.Draw(p, n)
		if err := take(enc.Encode(p, int64(n)*step, n%key == 0)); err != nil {
			return nil, err
		}
	}
	for enc.Waiting() > 0 {
		if err := take(enc.Encode(nil, 0, false)); err != nil {
			return nil, err
		}
	}
	t, err := enc.Track()
	if err != nil {
		return nil, err
	}
	for i := range out {
		out[i].Duration = step
	}
	t.Timescale = media.VideoTimescale
	return &track{t, out}, nil
}

// drawVP8 encodes pictures in VP8.
func drawVP8(pictures, key int) (*track, error) {
	const width, height, step = 320, 180, media.VideoTimescale / 25
	enc, err := vp9enc.NewVP8(width, height, 500_000, 2)
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	p := picture.NewPool(width, height).Get()
	t := &track{Track: media.Track{Kind: media.Video, Codec: media.VP8, Timescale: media.VideoTimescale, Width: width, Height: height}}
	for n := range pictures {
		feeds.Draw(p, n)
		u, err := enc.Encode(p, int64(n)*step, step, n%key == 0)
		if err != nil {
			return nil, err
		}
		u.Data, u.DTS, u.PTS, u.Duration, u.Key = slices.Clone(u.Data), int64(n)*step, int64(n)*step, step, n%key == 0
		t.units = append(t.units, *u)
	}
	return t, nil
}

// opus encodes sound in Opus.
func words(seconds int) (*track, error) {
	enc, err := opusenc.New(2, 96_000)
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	t := &track{Track: enc.Config.Track()}
	for n, pcm := 0, tone(seconds, 48000, 2); len(pcm) >= 2*opusenc.FrameSamples; n++ {
		b, err := enc.Encode(pcm[:2*opusenc.FrameSamples])
		if err != nil {
			return nil, err
		}
		at := int64(n) * opusenc.FrameSamples
		t.units = append(t.units, media.AccessUnit{DTS: at, PTS: at, Duration: opusenc.FrameSamples, Key: true, Data: slices.Clone(b)})
		pcm = pcm[2*opusenc.FrameSamples:]
	}
	return t, nil
}

// frames are those of a track with headers of their own.
func frames(t *track) ([]byte, error) {
	head, err := coding.FrameHeader(&t.Track)
	if err != nil {
		return nil, err
	}
	var b []byte
	for i := range t.units {
		b = append(append(b, head(len(t.units[i].Data))...), t.units[i].Data...)
	}
	return b, nil
}

// tag is an ID3 tag of so many bytes.
func tag(size int) []byte {
	b := append([]byte("ID3\x04\x00\x00"), byte(size>>21&127), byte(size>>14&127), byte(size>>7&127), byte(size&127))
	return append(b, make([]byte, size)...)
}

// maker collects files and the first thing that goes wrong.
type maker struct {
	list []File
	err  error
}

func (m *maker) add(f File, b []byte, err error) {
	if err != nil && m.err == nil {
		m.err = fmt.Errorf("%s: %w", f.Name, err)
	}
	f.Bytes = b
	m.list = append(m.list, f)
}

// Make makes all files.
//
//large:one list of the files, in the order in which they are written
func Make() ([]File, error) {
	m := &maker{}
	usual := media.Rational{Num: 30, Den: 1}
	bframes := [][2]string{{"bframes", "2"}, {"b-adapt", "0"}}
	plain, feed, err := commandFeed(feeds.Kind{Name: "usual", Rate: usual, Profile: "main", Options: bframes})
	if err != nil {
		return nil, err
	}
	video, sound, err := tracksOf(plain)
	if err != nil {
		return nil, err
	}
	n, k := len(video.units), len(sound.units)
	if n != feed.Pictures {
		return nil, fmt.Errorf("found %d pictures in the first file, expected %d", n, feed.Pictures)
	}
	m.add(File{Name: "race.flv", Container: "FLV", Pictures: n, Frames: k, Plays: true}, plain, nil)
	b, err := movie(video, sound)
	m.add(File{Name: "race-plain.mp4", Container: "MP4", Pictures: n, Frames: k, Plays: true}, b, err)
	whole := b
	m.add(File{Name: "camera.mov", Container: "MP4", Pictures: n, Frames: k, Plays: true}, quickTime(b), err)
	m.add(File{Name: "recorder.mov", Container: "MP4", Pictures: n, Plays: true, Says: "PCM has to be re-encoded"}, uncompressed(whole, tone(8, 48000, 2), 2), err)
	b, err = fragments(video, sound)
	m.add(File{Name: "fragments.mp4", Container: "fragmented MP4", Pictures: n, Plays: true}, b, err)
	stream, err := transport(900_000, video, sound)
	m.add(File{Name: "stream.ts", Container: "MPEG-TS", Pictures: n, Frames: k, Plays: true}, stream, err)
	m.add(File{Name: "disc.m2ts", Container: "MPEG-TS", Pictures: n, Frames: k, Plays: true}, stamped(stream), err)
	b, err = transport(1<<33-4*media.VideoTimescale, video, sound)
	m.add(File{Name: "wraps.ts", Container: "MPEG-TS", Pictures: n, Frames: k, Plays: true}, b, err)
	m.add(File{Name: "race.mkv", Container: "Matroska", Pictures: n, Frames: k, Plays: true}, matroska("matroska", MatroskaOptions{}, video, sound), nil)
	m.add(File{Name: "live.mkv", Container: "Matroska", Pictures: n, Frames: k, Plays: true}, matroska("matroska", MatroskaOptions{Unknown: true, Groups: true}, video, sound), nil)
	for i, l := range []string{"xiph", "fixed", "ebml"} {
		m.add(File{Name: "laced-" + l + ".mkv", Container: "Matroska", Pictures: n, Frames: k, Plays: true}, matroska("matroska", MatroskaOptions{Lacing: i + 1, Strip: i == 0}, video, sound), nil)
	}
	b, err = frames(sound)
	m.add(File{Name: "booth.aac", Container: "AAC", Frames: k, Plays: true}, append(tag(200), b...), err)
	b, err = mpegaenc.Encode(media.MP3, tone(8, 44100, 2), 44100, 2, 128_000)
	m.add(File{Name: "booth.mp3", Container: "MP3", Plays: true}, append(tag(3000), b...), err)
	m.add(File{Name: "booth.wav", Container: "WAV", Says: "has to be re-encoded"}, wav(tone(8, 48000, 2), 48000, 2), nil)
	b, err = movie(nil, sound)
	m.add(File{Name: "booth.m4a", Container: "MP4", Frames: k, Plays: true}, b, err)
	speech, err := words(8)
	if err != nil {
		return nil, err
	}
	for _, c := range []struct {
		codec media.Codec
		name  string
	}{{media.VP9, "phone.webm"}, {media.AV1, "drone.webm"}} {
		t, err := draw(c.codec, 200, 50)
		if err != nil {
			return nil, err
		}
		m.add(File{Name: c.name, Container: "WebM", Pictures: 200, Frames: len(speech.units), Plays: true}, matroska("webm", MatroskaOptions{}, t, speech), nil)
	}
	old, err := drawVP8(200, 50)
	if err != nil {
		return nil, err
	}
	m.add(File{Name: "old.webm", Container: "WebM", Frames: len(speech.units), Plays: true, Says: "VP8 has to be re-encoded", Unread: true}, matroska("webm", MatroskaOptions{}, old, speech), nil)
	// Structures.
	for _, f := range []struct {
		name string
		kind feeds.Kind
	}{
		{"far-keyframes.mp4", feeds.Kind{Name: "keyframes 10 s apart", Rate: media.Rational{Num: 25, Den: 1}, Seconds: 24, Key: 250}},
		{"film.mp4", feeds.Kind{Name: "23.976", Rate: media.Rational{Num: 24000, Den: 1001}}},
		{"phone.mp4", feeds.Kind{Name: "rate of a phone", Rate: usual, Durations: []int64{33, 34, 31, 36, 33, 30, 37, 33}, Key: 60}},
		{"pyramid.mp4", feeds.Kind{Name: "pyramid", Rate: usual, Profile: "high", Options: [][2]string{{"bframes", "3"}, {"b-adapt", "0"}, {"b-pyramid", "normal"}}}},
		{"silent.mp4", feeds.Kind{Name: "no sound", Rate: usual, SampleRate: -1}},
	} {
		b, made, err := commandFeed(f.kind)
		if err != nil {
			return nil, err
		}
		v, s, err := tracksOf(b)
		if err != nil {
			return nil, err
		}
		count := 0
		if s != nil {
			count = len(s.units)
		}
		b, err = movie(v, s)
		m.add(File{Name: f.name, Container: "MP4", Pictures: made.Pictures, Frames: count, Plays: true}, b, err)
	}
	// What a player is told to do with them.
	second := int64(video.Timescale)
	rate := int64(sound.Timescale)
	m.add(File{Name: "turned.mp4", Container: "MP4", Pictures: n, Frames: k, Plays: true, Unread: true, Notes: "turn its pictures by 90 degrees"}, turned(whole), nil)
	m.add(File{Name: "trimmed.mp4", Container: "MP4", Pictures: n - 60, Plays: true, Unread: true}, edited(whole, []Edit{{0, 2*second + video.units[0].PTS - video.units[0].DTS}}, []Edit{{0, 2 * rate}}), nil)
	m.add(File{Name: "cuts.mp4", Container: "MP4", Pictures: n, Plays: true, Unread: true, Notes: "2 cuts"}, edited(whole, []Edit{{2000, 0}, {2000, 4 * second}}, []Edit{{2000, 0}, {2000, 4 * rate}}), nil)
	m.add(File{Name: "descriptions.mp4", Container: "MP4", Frames: k, Plays: true, Unread: true, Says: "2 descriptions"}, sampleDescriptions(whole), nil)
	short := *video
	short.units = video.units[:60]
	b, err = movie(&short, sound)
	m.add(File{Name: "late-sound.mp4", Container: "MP4", Pictures: 60, Frames: k, Plays: true, Unread: true}, b, err)
	b, err = frames(sound)
	m.add(File{Name: "recorded.aac", Container: "AAC", Frames: k, Plays: true, Notes: "are no sound"}, append([]byte("\x01\x02 a torn frame \xff\xf1\x00 and noise "), b...), err)
	unfinished := wav(tone(8, 48000, 2), 48000, 2)
	clear(unfinished[40:44]) // who wrote it did not go back
	m.add(File{Name: "unfinished.wav", Container: "WAV", Says: "has to be re-encoded"}, unfinished, nil)
	// What is broken.
	m.add(File{Name: "cut-off.mp4", Container: "MP4", Says: "ends early", Plays: true, Unread: true}, whole[:len(whole)*2/3], nil)
	m.add(File{Name: "cut-off.ts", Container: "MPEG-TS", Plays: true, Unread: true}, stream[:len(stream)*2/3+100], nil)
	mkv := matroska("matroska", MatroskaOptions{}, video, sound)
	m.add(File{Name: "cut-off.mkv", Container: "Matroska", Says: "ends early", Plays: true, Unread: true}, mkv[:len(mkv)*2/3], nil)
	m.add(File{Name: "broken.mp4", Says: "the rest is missing"}, whole[:300], nil)
	m.add(File{Name: "empty.mp4", Says: "an empty file"}, nil, nil)
	m.add(File{Name: "letter.mp4", Says: "a file that begins with"}, []byte("Dear crew, the race begins at ten.\n"+strings.Repeat("Bring water. ", 40)), nil)
	return m.list, m.err
}

// Long makes an MP4 file of an FLV loop that is repeated until it is so long.
func Long(loop []byte, lasts time.Duration) ([]byte, error) {
	video, sound, err := tracksOf(loop)
	if err != nil {
		return nil, err
	}
	repeat := func(t *track) *track {
		out := &track{Track: t.Track}
		n := len(t.units)
		turn := t.units[n-1].DTS + t.units[n-1].Duration - t.units[0].DTS
		for at := int64(0); at < int64(lasts.Seconds())*t.Timescale; at += turn {
			for _, u := range t.units {
				u.DTS, u.PTS = u.DTS+at, u.PTS+at
				out.units = append(out.units, u)
			}
		}
		return out
	}
	return movie(repeat(video), repeat(sound))
}
