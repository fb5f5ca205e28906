// Package tags turns access units into the bodies of FLV tags, as RTMP carries them: in the first form where that has a
// number for the codec, else in the enhanced form.
package tags

import (
	"math"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// Line takes what RTMP carries.
type Line interface {
	Metadata(values amf.ECMAArray)
	Media(kind uint8, timestamp uint32, body []byte)
}

// Writer writes access units to a line. It implements tracks.Sink.
type Writer struct {
	to     Line
	tracks map[media.TrackID]*track
	told   bool // what the stream is
	rate   int64
	err    error
	// Takes reports whether who receives the tags reads a codec of the enhanced form, by its FourCC; nil: all of them.
	Takes func(fourCC string) bool
}

type track struct {
	media.Track
	configured bool // what a decoder needs has been sent
}

// New writes to a line.
func New(to Line) *Writer { return &Writer{to: to, tracks: map[media.TrackID]*track{}} }

// Err is why a track could not be sent, nil when all could.
func (s *Writer) Err() error { return s.err }

// FrameRate implements tracks.Sink.
func (s *Writer) FrameRate(milli int64) { s.rate = milli }

// Track implements tracks.Sink.
func (s *Writer) Track(t media.Track) {
	c := coding.Find(t.Codec)
	if c == nil || c.FLV == 0 && c.FourCC == "" {
		s.err = &media.UnsupportedError{Format: "RTMP", What: coding.Label(t.Codec), Do: "send it over another protocol"}
		return
	}
	if c.FLV == 0 && s.Takes != nil && !s.Takes(c.FourCC) {
		s.err = &media.UnsupportedError{Format: "RTMP", What: coding.Label(t.Codec) + " at a server that did not announce it", Do: "relay a rung of H.264 with AAC"}
		return
	}
	s.tracks[t.ID] = &track{Track: t} // with the next unit its configuration goes out
}

// stamp is a time in the milliseconds of RTMP, which wrap.
func stamp(t *media.Track, at int64) uint32 {
	return uint32(media.Rescale(at, t.Stamps().Scale, 1000) & math.MaxUint32)
}

// configure sends what a decoder needs.
func (s *Writer) configure(t *track, at uint32) {
	t.configured = true
	if len(t.Config) > 0 && !coding.Find(t.Codec).SelfDescribing {
		s.send(t, at, &flv.Body{Codec: t.Codec, Config: true, Key: true, Data: t.Config})
	}
}

func (s *Writer) send(t *track, at uint32, b *flv.Body) {
	kind := uint8(flv.TagVideo)
	if t.Kind == media.Audio {
		kind = flv.TagAudio
		b.Bare = t.Config
	}
	s.to.Media(kind, at, b.Marshal())
}

// metadata tells what the stream is, for who reads it.
func (s *Writer) metadata() {
	var m amf.ECMAArray
	add := func(name string, v float64) {
		if v > 0 {
			m = append(m, amf.Property{Name: name, Value: v})
		}
	}
	for _, t := range s.tracks {
		c := coding.Find(t.Codec)
		if t.Kind == media.Video {
			add("width", float64(t.Width))
			add("height", float64(t.Height))
			add("framerate", float64(max(s.rate, t.FrameRate.Milli()))/1000)
			add("videocodecid", number(c))
			continue
		}
		add("audiosamplerate", float64(t.SampleRate))
		add("audiochannels", float64(t.Channels))
		add("audiocodecid", number(c))
	}
	s.to.Metadata(m)
}

// number is what metadata calls a codec: its number in the first form, or its four characters in the enhanced one.
func number(c *coding.Codec) float64 {
	if c.FLV != 0 {
		return float64(c.FLV)
	}
	var n uint32
	for _, b := range []byte(c.FourCC) {
		n = n<<8 | uint32(b)
	}
	return float64(n)
}

// Unit implements tracks.Sink.
func (s *Writer) Unit(id media.TrackID, at, composition int64, key bool, data []byte) {
	t := s.tracks[id]
	if t == nil || s.err != nil {
		return
	}
	ms := stamp(&t.Track, at)
	if !s.told {
		s.told = true
		s.metadata()
		for _, t := range s.tracks {
			s.configure(t, ms)
		}
	} else if !t.configured { // it came later, or is another now
		s.configure(t, ms)
	}
	s.send(t, ms, &flv.Body{Codec: t.Codec, Key: key, Composition: int32(int64(stamp(&t.Track, at+composition)) - int64(ms)), Data: data})
}
