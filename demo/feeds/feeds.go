package feeds

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/protocol/rtmp"
)

// Kind is one kind of feed.
type Kind struct {
	Name          string
	Width, Height int            // 0 is 320 and 180
	Rate          media.Rational // pictures per second; of a varying rate, about
	Durations     []int64        // of the pictures, one after the other, in milliseconds, where they vary
	Seconds       int            // how long a turn is; 0 is Seconds
	Key           int            // pictures between two keyframes; 0 is two seconds
	Profile       string         // of H.264
	Options       [][2]string    // of the encoder library
	SampleRate    int            // 0 is 48000; less than 0 is no sound
	Channels      int            // 0 is 2
	NoMetadata    bool
	Query         string      // behind the key
	Change        func(*Feed) // alters what is sent

	// What is expected of a player.
	Rung     string // that plays; "" is the one that passes through
	Silent   bool   // no browser here plays it; it is only inspected
	Unread   bool   // its shape does not let a page read its numbers
	MayBreak bool   // its own bits break what the inspector holds against a stream
	Expect   string // an event that must come, "" for none
}

// Seconds is how long a feed is; sent again it goes on where it ended.
const Seconds = 8

// Message is one RTMP message. Times are milliseconds.
type Message struct {
	Type  uint8
	Stamp int64 // may be less than 0, and wraps on the wire
	At    int64 // when it is sent, from the start
	Body  []byte
}

// Feed is what is sent.
type Feed struct {
	Kind     Kind
	Pictures int // of one turn
	Configs  []Message
	Media    []Message // of one turn, in the order of sending
	Record   avc.Config
	Length   int64 // of one turn, milliseconds
	Leap     int64 // how much further than that the stamps get in a turn, milliseconds
}

// Make draws and encodes a feed.
func Make(k Kind) (*Feed, error) {
	if k.Width == 0 {
		k.Width, k.Height = 320, 180
	}
	if k.Key == 0 {
		k.Key = int((2*k.Rate.Num + k.Rate.Den/2) / k.Rate.Den)
	}
	if k.Seconds == 0 {
		k.Seconds = Seconds
	}
	var times []int64
	at := int64(0)
	for n := 0; at < int64(k.Seconds)*media.VideoTimescale; n++ {
		times = append(times, at)
		if len(k.Durations) > 0 {
			at += k.Durations[n%len(k.Durations)] * media.VideoTimescale / 1000
		} else {
			at = int64(n+1) * media.VideoTimescale * k.Rate.Den / k.Rate.Num
		}
	}
	f := &Feed{Kind: k, Pictures: len(times), Length: at * 1000 / media.VideoTimescale}
	options := append([][2]string{{"keyint", fmt.Sprint(k.Key)}, {"min-keyint", fmt.Sprint(k.Key)}}, k.Options...)
	list, record, err := encode(k.Width, k.Height, k.Rate, times, k.Profile, options)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", k.Name, err)
	}
	f.Record = record
	f.Configs = append(f.Configs, Message{Type: flv.TagVideo, Body: (&flv.VideoBody{Config: true, Data: record.Marshal()}).Marshal()})
	base := list[0].dts
	milli := func(t int64) int64 { return int64(math.Floor(float64(t) * 1000 / media.VideoTimescale)) }
	for _, c := range list {
		dts, pts := milli(c.dts-base), milli(c.pts-base)
		nals, err := avc.Split(c.data, 4)
		if err != nil {
			return nil, err
		}
		body := flv.VideoBody{Key: avc.HasIDR(nals), Composition: int32(pts - dts), Data: c.data}
		f.Media = append(f.Media, Message{Type: flv.TagVideo, Stamp: dts, At: dts, Body: body.Marshal()})
	}
	if err := f.sound(); err != nil {
		return nil, fmt.Errorf("%s: %w", k.Name, err)
	}
	f.sort()
	if k.Change != nil {
		k.Change(f)
	}
	return f, nil
}

func (f *Feed) sort() {
	sort.SliceStable(f.Media, func(i, j int) bool { return f.Media[i].At < f.Media[j].At })
}

func (f *Feed) sound() error {
	if f.Kind.SampleRate < 0 {
		return nil
	}
	rate, channels := f.Kind.SampleRate, f.Kind.Channels
	if rate == 0 {
		rate = 48000
	}
	if channels == 0 {
		channels = 2
	}
	enc, err := aacenc.New(rate, channels, int64(channels)*32_000)
	if err != nil {
		return err
	}
	defer enc.Close()
	f.Configs = append(f.Configs, Message{Type: flv.TagAudio, Body: (&flv.AudioBody{Config: true, Data: enc.Config.Marshal()}).Marshal()})
	// Whole frames, so that the next turn goes on without a gap of more than one.
	frames := f.Length * int64(rate) / 1000 / aac.FrameSamples
	for n := range frames {
		pcm := make([]int16, aac.FrameSamples*channels)
		for i := range aac.FrameSamples {
			v := int16(3000 * math.Sin(2*math.Pi*330*float64(n*aac.FrameSamples+int64(i))/float64(rate)))
			for c := range channels {
				pcm[i*channels+c] = v
			}
		}
		frame, err := enc.Encode(pcm)
		if err != nil {
			return err
		}
		if len(frame) == 0 {
			continue
		}
		at := n * aac.FrameSamples * 1000 / int64(rate)
		f.Media = append(f.Media, Message{Type: flv.TagAudio, Stamp: at, At: at, Body: (&flv.AudioBody{Data: frame}).Marshal()})
	}
	return nil
}

// Send sends the feed in real time, so many turns or until the context ends, and closes the connection.
func (f *Feed) Send(ctx context.Context, url string, turns int) error {
	conn, err := rtmp.Dial(ctx, url+f.Kind.Query, rtmp.Options{})
	if err != nil {
		return err
	}
	if !f.Kind.NoMetadata {
		rate := float64(f.Kind.Rate.Num) / float64(f.Kind.Rate.Den)
		if err := conn.Metadata(amf.ECMAArray{{Name: "width", Value: float64(f.Kind.Width)}, {Name: "height", Value: float64(f.Kind.Height)}, {Name: "framerate", Value: rate}}); err != nil {
			return err
		}
	}
	for _, c := range f.Configs {
		if err := conn.Media(c.Type, uint32(c.Stamp), c.Body); err != nil {
			return err
		}
	}
	begin := time.Now()
	for turn := range turns {
		for i := range f.Media {
			m := &f.Media[i]
			shift := int64(turn) * f.Length
			timer := time.NewTimer(time.Until(begin.Add(time.Duration(m.At+shift) * time.Millisecond)))
			select {
			case <-ctx.Done():
				timer.Stop()
				return conn.Close()
			case err := <-conn.Failed():
				timer.Stop()
				return err
			case <-timer.C:
			}
			if err := conn.Media(m.Type, uint32(m.Stamp+shift+int64(turn)*f.Leap), m.Body); err != nil {
				return err
			}
		}
	}
	return conn.Close()
}

// video lists the indices of the pictures, in the order of sending.
func (f *Feed) video() (out []int) {
	for i := range f.Media {
		if f.Media[i].Type == flv.TagVideo {
			out = append(out, i)
		}
	}
	return out
}

// body reads a picture's body, and write puts it back.
func (f *Feed) body(i int) (v flv.VideoBody) {
	if err := v.Unmarshal(f.Media[i].Body); err != nil {
		panic(err) // we wrote it
	}
	return v
}

// insert puts messages behind one of the feed's.
func (f *Feed) insert(i int, m ...Message) { f.Media = slices.Insert(f.Media, i, m...) }
