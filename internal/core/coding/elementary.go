package coding

import (
	"bytes"
	"fmt"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/media"
)

// An elementary stream is what transport streams and RTP carry of a track: frames with headers of their own, or
// NAL units behind start codes, with their configuration among them (ISO/IEC 13818-1, 2.14 and 2.16).

// ElementarySink takes what an elementary stream holds.
type ElementarySink interface {
	// Track announces the track, or what has become of it.
	Track(media.Track)
	// Unit takes an access unit. stamp is its decode time in ticks of media.VideoTimescale.
	Unit(stamp, composition int64, key bool, data []byte)
}

// cut is what was cut off the front of an elementary stream.
type cut struct {
	data   []byte   // as Stream.Unit takes it, nil when there is no access unit in it
	more   [][]byte // further ones
	config []byte   // that holds for it; nil: the one before, or none for a codec that describes itself
	size   int      // bytes that it took; 0: b ends before the access unit does
	// Of pictures whose heads are read: their place in the order of output, on a line of its own; whether the line began
	// again with this one; and the field that it is, nil of a whole frame.
	order          int64
	ordered, fresh bool
	field          *avc.Slice
	alone          bool // the stretch ends behind the field
}

// cutter cuts the first access unit off b. Of pictures b ends with the end of one, of sound it may go on. An error
// means that b does not begin with one.
type cutter func(b []byte) (cut, error)

// Elementary turns an elementary stream into access units.
type Elementary struct {
	sink    ElementarySink
	codec   *Codec
	cut     cutter
	stream  *Stream
	config  []byte
	pending []byte // the begin of a frame of sound whose end comes with the next call
	astray  bool   // where frames of sound begin is looked for: two in a row show it
	next    int64  // when the next unit is decoded, if it comes when it should
	half    *half  // the first field of a frame, whose second one comes with the next call
	times   pictureTimes
	told    bool        // the track was announced
	track   media.Track // as it was announced

	Broken int64 // bytes that belonged to no unit, and units that could not be read
}

// half is a field that waits for the other one of its frame.
type half struct {
	cut
	composition int64
	at          int64
	stamped     bool
}

// maxPending bounds what waits for the end of a frame of sound, in bytes.
//
//limit:bytes of a frame of sound | each track | the sound is refused
const maxPending = 64 << 10

// OpenElementary begins with the configuration that came apart from the stream, nil for none.
func OpenElementary(c *Codec, config []byte, sink ElementarySink) (*Elementary, error) {
	if c.elementary == nil {
		return nil, &media.UnsupportedError{Format: "elementary stream", What: c.Label}
	}
	e := &Elementary{sink: sink, codec: c, cut: c.elementary(config)}
	if len(config) > 0 {
		if err := e.open(config); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// HasElementary reports whether the codec is read as an elementary stream.
func (c *Codec) HasElementary() bool { return c.elementary != nil }

func (e *Elementary) open(config []byte) error {
	s, err := Open(e.codec, config)
	if err != nil {
		return err
	}
	e.stream, e.config, e.told = s, bytes.Clone(config), false
	return nil
}

// Lost says that bytes are missing before those that come next.
func (e *Elementary) Lost() {
	e.pending = nil
	_ = e.single()
}

// Flush hands over what waits for more that does not come.
func (e *Elementary) Flush() error { return e.single() }

// single hands over a field that stayed alone.
func (e *Elementary) single() error {
	h := e.half
	if e.half = nil; h == nil {
		return nil
	}
	return e.unit(h.at, h.composition, h.stamped, h.cut)
}

// fieldPair takes a frame of two fields, of which each came in a stretch of its own: a picture has one access unit, as files
// and players hold it. It reports whether the unit waits, or was used.
func (e *Elementary) fieldPair(at, composition int64, stamped bool, c *cut) (taken bool, err error) {
	if h := e.half; h != nil {
		if e.half = nil; c.field != nil && c.data != nil && c.field.Pairs(h.field) {
			h.data = append(h.data[:len(h.data):len(h.data)], c.data...)
			if h.config = c.config; c.config == nil {
				h.config = h.cut.config
			}
			return true, e.unit(h.at, h.composition, h.stamped, h.cut)
		}
		err = e.unit(h.at, h.composition, h.stamped, h.cut)
	}
	if c.field == nil || c.data == nil || !c.alone {
		return false, err
	}
	e.half = &half{*c, composition, at, stamped}
	return true, err
}

// Feed takes a stretch that begins with an access unit, or goes on with one of sound: the payload of a PES packet,
// or what RTP put together. stamp is when the first unit that begins in it is decoded, -1 when nobody says; of
// pictures, composition is how much later they are presented. The data is the sink's from now on.
func (e *Elementary) Feed(stamp, composition int64, data []byte) error {
	begin := len(e.pending) // units from here on began in this stretch
	if begin > 0 {
		data = append(e.pending, data...)
		e.pending = nil
	}
	var wrong error
	waits := stamp >= 0
	for at := 0; at < len(data); {
		stamped := waits && at >= begin // the time is that of the first unit that begins here
		if stamped && e.half == nil {
			e.next = stamp
		}
		c, err := e.cut(data[at:])
		switch {
		case err != nil: // look for the next begin
			wrong = err
			n := 1 + e.codec.sync(data[at+1:])
			e.Broken += int64(n)
			at += n
			e.astray = true
			continue
		case c.size == 0 || c.size > len(data)-at:
			if len(data)-at < maxPending {
				e.pending = bytes.Clone(data[at:])
			}
			return wrong
		case e.astray && e.codec.syncByte != 0 && (at+c.size < len(data) || stamp < 0): // packets with times end with a frame
			follows, enough := another(data[at:], c.size)
			if !enough {
				e.pending = bytes.Clone(data[at:])
				return wrong
			}
			if !follows { // what looked like a frame was none
				n := 1 + e.codec.sync(data[at+1:])
				e.Broken += int64(n)
				at += n
				continue
			}
		}
		e.astray = false
		at += c.size
		if stamped {
			waits = false
		}
		taken, err := e.fieldPair(e.begin(stamp, stamped), composition, stamped, &c)
		if err != nil {
			wrong = err
			e.Broken++
		}
		for i := -1; i < len(c.more) && !taken; i++ {
			if i >= 0 {
				c.data = c.more[i]
			}
			if err := e.unit(e.begin(stamp, stamped && i < 0), composition, stamped && i < 0, c); err != nil {
				wrong = err
				e.Broken++
			}
		}
	}
	return wrong
}

// begin is when a unit is decoded.
func (e *Elementary) begin(stamp int64, stamped bool) int64 {
	if stamped {
		return stamp
	}
	return e.next
}

// another reports whether behind a frame of a size there is one that begins as it does; enough is false when b ends too early to tell.
func another(b []byte, size int) (follows, enough bool) {
	if size+1 >= len(b) {
		return false, false
	}
	const version = 0xe0 // the bits of the second byte that belong to every sync word
	return b[size] == b[0] && (b[size+1]^b[1])&version == 0, true
}

// sync returns how many bytes lie before what may be the begin of a unit.
func (c *Codec) sync(b []byte) int {
	if c.Kind == media.Video || c.syncByte == 0 {
		return len(b)
	}
	if i := bytes.IndexByte(b, c.syncByte); i >= 0 {
		return i
	}
	return len(b)
}

func (e *Elementary) unit(at, composition int64, stamped bool, c cut) error {
	if c.config != nil && !bytes.Equal(c.config, e.config) || e.stream == nil && e.codec.SelfDescribing && c.data != nil {
		if err := e.open(c.config); err != nil {
			return err
		}
	}
	if e.stream == nil || c.data == nil {
		return nil // the configuration comes later
	}
	u, err := e.stream.Unit(c.data)
	if err != nil {
		return err
	}
	t, known := e.stream.Track()
	if !known {
		return nil // a keyframe comes later
	}
	if t.Codec != e.codec.ID { // of those that look alike, such as MP2 and MP3, a frame tells
		if other := Find(t.Codec); other != nil {
			t = other.judge(t)
		}
	}
	if !e.told || t.Kind == media.Audio && !t.SamePicture(&e.track) {
		e.told, e.track = true, t
		t.Clock = media.Clock{Scale: media.VideoTimescale, Turn: 1 << 33}
		e.sink.Track(t)
	}
	if t.Kind == media.Video {
		composition = e.times.composition(at, composition, stamped, &c, &t)
	}
	e.sink.Unit(at, composition, u.Key, u.Data)
	switch {
	case t.Kind == media.Audio && t.Timescale > 0:
		e.next = at + media.RescaleDown(t.FrameSamples, t.Timescale, media.VideoTimescale)
	case t.Kind == media.Video:
		e.next = at + e.times.period
	default:
		e.next = at
	}
	e.next &= 1<<33 - 1
	return nil
}

// pictureTimes tells the times of pictures that come without a stamp, several in one stretch (ISO/IEC 13818-1, 2.4.3.7): they
// are decoded one after the other, and presented as their place in the order of output says.
type pictureTimes struct {
	period int64 // ticks from picture to picture, 0 while nobody knows
	step   int64 // by which the order counts from picture to picture
	begun  bool
	at     int64 // decode time of the newest picture with a stamp
	since  int64 // pictures from it on
	shown  int64 // presentation time of the picture that the others are counted from
	order  int64 // its place
	delay  int64 // from decode to presentation of the newest keyframe
}

// composition is how much later than it is decoded a picture is presented, in ticks; told is what its stamps say, if it has any.
func (p *pictureTimes) composition(at, told int64, stamped bool, c *cut, t *media.Track) int64 {
	if p.step == 0 {
		p.step = 1
		if t.Codec == media.H264 { // which counts fields
			p.step = 2
		}
	}
	if c.order&1 == 1 && c.field == nil { // a whole frame at an odd place: this encoder counts frames
		p.step = 1
	}
	switch {
	case t.FrameRate.Valid():
		p.period = t.FrameRate.Period(media.VideoTimescale)
	case stamped && p.begun && p.since > 0:
		if d := (at - p.at) & (1<<33 - 1); d < longestPeriod*p.since {
			p.period = d / p.since
		}
	}
	if stamped {
		p.begun, p.at, p.since = true, at, 0
		p.shown, p.order = at+told, c.order
		if c.fresh {
			p.delay = told
		}
	}
	p.since++
	switch {
	case stamped:
		return told
	case !c.ordered: // what is not reordered; of others nobody can tell
		return 0
	case c.fresh:
		p.shown, p.order = at+p.delay, c.order
		return p.delay
	}
	d := (p.shown + (c.order-p.order)/p.step*p.period - at) & (1<<33 - 1)
	if d >= 1<<32 {
		d -= 1 << 33
	}
	return d
}

// longestPeriod is how far apart, in ticks, pictures may be that come without stamps: two seconds.
const longestPeriod = 180_000

// fits says what is wrong with a frame that says it is so long, nil when nothing is.
func fits(what string, size int) error {
	if size < 1 || size > maxPending {
		return &media.FormatError{Format: what, Found: fmt.Sprintf("a frame of %d bytes", size), Want: fmt.Sprintf("1 to %d", maxPending)}
	}
	return nil
}
