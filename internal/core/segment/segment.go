package segment

import (
	"fmt"
	"io"
	"strconv"
	"sync"
	"time"

	"metaplasis/internal/core/media"
)

// Header is the CMAF header of a run of segments, shared by all of them.
type Header struct {
	Name  string // file name, made of its contents, so that equal bytes have one name
	Bytes []byte
	Track media.Track
}

// Part is a piece of a segment that is published before the segment is whole: one CMAF chunk.
// It is immutable.
type Part struct {
	Start       int64 // first presentation time, ticks of media.VideoTimescale
	Duration    int64 // ticks of media.VideoTimescale
	Independent bool  // it begins with a picture that needs no other, or holds sound
	Bytes       []byte
	ETag        string    // entity tag: it names the bytes
	Units       int       // access units
	Arrived     time.Time // when the last unit came in
}

// Segment is a CMAF segment, or what there is of it while Open. It is immutable: an open segment
// is replaced by its next state, which shares the parts.
//
//large:what playlists, manifests and wrappings say of a segment
type Segment struct {
	MSN           uint64
	Prefix        string // of its file names: it tells apart the bytes that different runs made for one number
	Discontinuity bool
	Gap           bool  // nothing was encoded for this stretch: it has a length but no bytes
	Open          bool  // parts are still to come
	Start         int64 // first presentation time, ticks of media.VideoTimescale
	Duration      int64 // ticks of media.VideoTimescale; of the parts so far while Open
	Header        *Header
	ETag          string // entity tag
	Parts         []*Part
	Size          int64     // bytes of all parts
	Blob          Blob      // the same bytes, of a gap nil
	Units         int       // access units
	Begun         time.Time // when the first unit came in
	Arrived       time.Time // when the last unit came in
	Made          *Made     // other wrappings of the same media

	FirstPTS      int64 // presentation time of the first unit, track ticks
	TrackDuration int64 // track ticks; of the parts so far while Open
	KeySize       int   // bytes of the first unit, when it is a keyframe of video
	// It cannot be decoded alone: it begins without a keyframe, or with one behind which pictures refer to what lies before.
	Dependent bool

	first int64 // decode time of the first unit, track ticks
}

// Name is what the segment's file names begin with.
func (s *Segment) Name() string { return s.Prefix + strconv.FormatUint(s.MSN, 10) }

// Tag is the entity tag of a segment: it names the bytes.
func Tag(msn uint64, h *Header) string { return fmt.Sprintf(`"%d-%s"`, msn, h.Name) }

// Bytes returns the segment's bytes, of whole chunks each piece.
func (s *Segment) Bytes() ([][]byte, error) {
	if s.Blob == nil {
		return nil, nil
	}
	if p := s.Blob.Pieces(); p != nil {
		return p, nil
	}
	r, err := s.Blob.Open()
	if err != nil {
		return nil, fmt.Errorf("segment %d: %w", s.MSN, err)
	}
	defer func() { _ = r.Close() }()
	b, err := io.ReadAll(io.LimitReader(r, s.Size))
	if err == nil && int64(len(b)) < s.Size {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return nil, fmt.Errorf("segment %d: %w", s.MSN, err)
	}
	return [][]byte{b}, nil
}

// Bitrate returns bits per second.
func (s *Segment) Bitrate() int64 {
	if s.Duration <= 0 {
		return 0
	}
	return media.PerSecond(s.Size*8, s.Duration, media.VideoTimescale)
}

// keyOverhead is what stands around a keyframe that is sent alone, in bytes.
const keyOverhead = 256

// keyRate is the bitrate of the segment's keyframe alone, bits per second.
func (s *Segment) keyRate() int64 {
	if s.Duration <= 0 {
		return 0
	}
	return media.PerSecond(int64(s.KeySize+keyOverhead)*8, s.Duration, media.VideoTimescale)
}

// Made keeps what was made of a finished segment for receivers of other containers: each
// wrapping is made once, at its first request, and goes when the segment does.
type Made struct {
	mu   sync.Mutex
	made map[string][]byte
	size int64
}

// Get returns a wrapping by its name, making it when it is new.
func (m *Made) Get(name string, do func() ([]byte, error)) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if b, ok := m.made[name]; ok {
		return b, nil
	}
	b, err := do()
	if err != nil {
		return nil, err
	}
	if m.made == nil {
		m.made = map[string][]byte{}
	}
	m.made[name] = b
	m.size += int64(len(b))
	return b, nil
}

// Size returns the bytes kept.
func (m *Made) Size() int64 {
	if m == nil {
		return 0
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.size
}

// Parting says how segments are cut into parts.
type Parting struct {
	Step   int64 // a line every so many ticks of media.VideoTimescale, from the segment's start; 0: whole segments
	Frames int   // instead: a part every so many units
	Least  int64 // instead: a part ends as soon as it is this long, ticks of media.VideoTimescale
}

// Parts is the plan of a channel's parts, one Target for all renditions.
type Parts struct {
	Video, Audio Parting
	Target       int64 // the part target duration, ticks of media.VideoTimescale: no part is longer
}

// share85 is what a part must have of the part target duration, unless it is the last of its
// segment (draft-pantos-hls-rfc8216bis, 4.4.4.9).
const share85 = 85

// PlanParts fits parts of a nominal length to the frames of a channel: rate is the video's frame
// rate, invalid when it varies or there is none; longest is the longest that a picture of a varying
// rate lasts, in ticks of media.VideoTimescale; samples and sampleRate give the length of an audio
// frame, 0 without sound. No part is longer than the target that comes out, and none, but the last of
// a segment, is shorter than 85 % of it. Where frames are long, parts are a few frames longer than
// asked for, so that both can hold.
func PlanParts(nominal int64, rate media.Rational, longest, samples, sampleRate int64) Parts {
	const tries = 12
	if !rate.Valid() && longest > 0 {
		// A part is over with the picture that makes it long enough: it is longer by less than a picture.
		least := max(nominal, (longest*share85+100-share85-1)/(100-share85))
		p, _ := fitSound(least, least+longest, samples, sampleRate)
		p.Video = Parting{Step: least, Least: least}
		if samples > 0 && sampleRate > 0 { // as many frames as make sound long enough too
			frames := media.RescaleUp(least, samples*media.VideoTimescale, sampleRate)
			p.Audio.Frames = int(frames)
			p.Target = max(p.Target, media.RescaleUp(frames*samples, sampleRate, media.VideoTimescale))
		}
		return p
	}
	if !rate.Valid() {
		p, _ := fitSound(nominal, nominal, samples, sampleRate)
		return p
	}
	ticks := func(frames int64) int64 { return media.RescaleUp(frames, rate.Num, media.VideoTimescale*rate.Den) }
	frames := max(media.Rescale(nominal, media.VideoTimescale*rate.Den, rate.Num), 1)
	for n := frames; n < frames+tries; n++ {
		if p, ok := fitSound(ticks(n), ticks(n), samples, sampleRate); ok {
			return p
		}
	}
	p, _ := fitSound(ticks(frames), ticks(frames), samples, sampleRate)
	return p
}

// fitSound plans parts whose video is step long. It reports whether all rules hold.
func fitSound(step, target, samples, sampleRate int64) (Parts, bool) {
	p := Parts{Video: Parting{Step: step}, Audio: Parting{Step: step}, Target: target}
	if samples <= 0 || sampleRate <= 0 {
		return p, true
	}
	ticks := func(frames int64) int64 {
		return media.RescaleUp(frames*samples, sampleRate, media.VideoTimescale)
	}
	enough := func(d, target int64) bool { return d*100 >= target*share85 }
	long := media.RescaleUp(step, samples*media.VideoTimescale, sampleRate) // frames, rounded up
	if t := max(target, ticks(long)); enough(ticks(long-1), t) && enough(step, t) {
		p.Target = t // parts of sound end with the frame that crosses the line
		return p, true
	}
	even := max(media.Rescale(step, samples*media.VideoTimescale, sampleRate), 1)
	p.Audio.Frames = int(even)
	p.Target = max(target, ticks(even))
	return p, enough(step, p.Target) && enough(ticks(even)-1, p.Target)
}
