package rtmp

import (
	"math"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// Sender sends access units over a connection: in the first form of FLV where that has a number for the codec, else in the
// enhanced form. It implements onward.Sender.
type Sender struct {
	*Conn
	tracks map[media.TrackID]*media.Track
	told   bool // what the stream is
	rate   int64
	err    error
}

// NewSender makes a sender of a connection.
func NewSender(c *Conn) *Sender { return &Sender{Conn: c, tracks: map[media.TrackID]*media.Track{}} }

// FrameRate implements onward.Sender.
func (s *Sender) FrameRate(milli int64) { s.rate = milli }

// Track implements onward.Sender.
func (s *Sender) Track(t media.Track) {
	c := coding.Find(t.Codec)
	if c == nil || c.FLV == 0 && c.FourCC == "" {
		s.err = &media.UnsupportedError{Format: "RTMP", What: coding.Label(t.Codec), Do: "send it over another protocol"}
		return
	}
	_, known := s.tracks[t.ID]
	s.tracks[t.ID] = &t
	if known {
		s.configure(&t, 0)
	}
}

// stamp is a time in the milliseconds of RTMP, which wrap.
func stamp(t *media.Track, at int64) uint32 {
	return uint32(media.Rescale(at, t.Stamps().Scale, 1000) & math.MaxUint32)
}

// configure sends what a decoder needs.
func (s *Sender) configure(t *media.Track, at uint32) {
	if len(t.Config) > 0 && !coding.Find(t.Codec).SelfDescribing {
		s.send(t, at, &flv.Body{Codec: t.Codec, Config: true, Key: true, Data: t.Config})
	}
}

func (s *Sender) send(t *media.Track, at uint32, b *flv.Body) {
	kind := uint8(flv.TagVideo)
	if t.Kind == media.Audio {
		kind = flv.TagAudio
		b.Bare = t.Config
	}
	s.mu.Lock()
	s.client.Media(kind, at, b.Marshal())
	s.mu.Unlock()
}

// metadata tells what the stream is, for who reads it.
func (s *Sender) metadata() {
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
	s.mu.Lock()
	s.client.Metadata(m)
	s.mu.Unlock()
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

// Unit implements onward.Sender.
func (s *Sender) Unit(id media.TrackID, at, composition int64, key bool, data []byte) {
	t := s.tracks[id]
	if t == nil || s.err != nil {
		return
	}
	ms := stamp(t, at)
	if !s.told {
		s.told = true
		s.metadata()
		for _, t := range s.tracks {
			s.configure(t, ms)
		}
	}
	s.send(t, ms, &flv.Body{Codec: t.Codec, Key: key, Composition: int32(int64(stamp(t, at+composition)) - int64(ms)), Data: data})
}

// Cue implements onward.Sender.
func (s *Sender) Cue(int64, []byte) {}

// Flush implements onward.Sender.
func (s *Sender) Flush() error {
	if s.err != nil {
		return s.err
	}
	return s.Conn.Flush()
}
