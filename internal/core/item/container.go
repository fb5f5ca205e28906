package item

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// contents is what a reader of a container finds in a file.
type contents struct {
	container string
	tracks    []*source
	truncated bool
	notes     []string // what of it is not done as it says, for people
}

// source is where the access units of a track lie.
type source struct {
	kind     media.Kind
	codec    *coding.Codec // nil when it is none that is known here
	called   string        // the codec, as the container has it
	config   []byte
	turned   int // degrees clockwise by which pictures are to be turned
	scale    int64
	language string
	title    string
	trouble  string // what keeps its frames from being read, whatever their codec
	samples  []bmff.Sample
	prefix   []byte // stands before each sample and is left out in the file
	// coarse says that times are those of a container, coarser than what they are of: frames follow each other without a gap as long
	// as the stamps allow it. Pictures have presentation times alone.
	coarse bool
	// frame is how long a picture is shown, ticks of scale, 0 when the file does not say.
	frame int64
	// units reads samples lo to hi, which are not one stretch of the file each; track is the track that they are of, they are access
	// units already.
	units func(lo, hi int) ([][]byte, error)
	track *media.Track
}

// reader reads the files of one container.
type reader struct {
	name string
	fits func(head []byte) bool
	read func(src Source, progress func(int64)) (*contents, error)
}

// readers are asked in their order; MPEG audio has the weakest signs.
var readers = []reader{
	{"MP4", func(b []byte) bool {
		return len(b) >= 8 && slices.Contains([]string{"ftyp", "moov", "moof", "styp", "mdat", "free", "skip", "wide", "pnot", "sidx", "emsg", "uuid"}, string(b[4:8]))
	}, readMP4},
	{"Matroska", func(b []byte) bool { return bytes.HasPrefix(b, []byte("\x1a\x45\xdf\xa3")) }, readMatroska},
	{"FLV", func(b []byte) bool { return bytes.HasPrefix(b, []byte("FLV\x01")) }, readFLV},
	{"WAV", func(b []byte) bool {
		return len(b) >= 12 && slices.Contains([]string{"RIFF", "RF64", "BW64"}, string(b[:4])) && string(b[8:12]) == "WAVE"
	}, readWAV},
	{"MPEG-TS", isTransport, readTransport},
	{"AAC", func(b []byte) bool { return isFrames(b, coding.ReadADTS) }, func(src Source, p func(int64)) (*contents, error) { return readFrames(src, coding.ReadADTS, p) }},
	{"MP3", func(b []byte) bool { return isFrames(b, coding.ReadMPEGAudio) }, func(src Source, p func(int64)) (*contents, error) { return readFrames(src, coding.ReadMPEGAudio, p) }},
}

// Containers lists what is read, for people.
const Containers = "MP4, MOV, Matroska, WebM, MPEG-TS, FLV, WAV, MP3 and AAC"

const headSize = 4096

// read reads a file of whatever container it is.
func read(src Source, progress func(int64)) (*contents, error) {
	if progress == nil {
		progress = func(int64) {}
	}
	head := make([]byte, min(src.Size(), headSize))
	if _, err := src.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if len(head) == 0 {
		return nil, &media.FormatError{Format: "file on demand", Found: "an empty file", Want: Containers}
	}
	start, err := tagged(src, head)
	if err != nil {
		return nil, err
	}
	if start > 0 { // tags stand before frames of sound
		n, err := src.ReadAt(head, start)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		head = head[:n]
	}
	for i := range readers {
		if r := &readers[i]; r.fits(head) {
			c, err := r.read(src, progress)
			if err != nil {
				return nil, err
			}
			c.container = cmp.Or(c.container, r.name)
			return c, nil
		}
	}
	if c, err := readLate(src, start, head, progress); c != nil || err != nil {
		return c, err
	}
	return nil, &media.FormatError{Format: "file on demand", Found: fmt.Sprintf("a file that begins with %q", head[:min(len(head), 8)]), Want: Containers}
}

// readLate reads frames of sound behind something else, as those have that were recorded from a stream: nil when there are none.
func readLate(src Source, start int64, head []byte, progress func(int64)) (*contents, error) {
	for _, f := range []struct {
		name  string
		parse reading
	}{{"AAC", coding.ReadADTS}, {"MP3", coding.ReadMPEGAudio}} {
		for at := 1; at+maxHeader < len(head); at++ {
			if inRow(head[at:], f.parse) {
				c, err := readFrames(src, f.parse, progress)
				if c != nil {
					c.container = f.name
					c.notes = append(c.notes, fmt.Sprintf("The file begins with %d bytes that are no sound; they are left out.", start+int64(at)))
				}
				return c, err
			}
		}
	}
	return nil, nil
}

// maxHeader is what a frame's header takes at most.
//
//limit:bytes of a frame's header | each frame | it is none
const maxHeader = 16

// inRow reports whether frames in a row begin somewhere: one alone may be chance.
func inRow(b []byte, parse reading) bool {
	const enough = 3
	for range enough {
		f, err := parse(b)
		if err != nil || f.Size <= 0 || f.Size >= len(b)-maxHeader {
			return false
		}
		b = b[f.Size:]
	}
	return true
}

// extents reads samples that lie as they are in the file.
func (s *source) extents(src Source, lo, hi int) ([][]byte, error) {
	part := s.samples[lo:hi]
	// Samples of a track lie beside each other, or among those of others: what lies within a stretch is read at once.
	first, last, size := part[0].Offset, part[0].Offset, int64(0)
	for i := range part {
		first, last, size = min(first, part[i].Offset), max(last, part[i].Offset+int64(part[i].Size)), size+int64(part[i].Size)
	}
	var all []byte
	if last-first <= 4*size+1<<20 {
		all = make([]byte, last-first)
		if _, err := src.ReadAt(all, first); err != nil {
			return nil, fmt.Errorf("bytes %d to %d of the file: %w", first, last, err)
		}
	}
	out := make([][]byte, len(part))
	for i := range part {
		p := &part[i]
		if all != nil {
			at := p.Offset - first
			out[i] = all[at : at+int64(p.Size) : at+int64(p.Size)]
		} else {
			out[i] = make([]byte, p.Size)
			if _, err := src.ReadAt(out[i], p.Offset); err != nil {
				return nil, fmt.Errorf("the sample at byte %d: %w", p.Offset, err)
			}
		}
		if len(s.prefix) > 0 {
			out[i] = slices.Concat(s.prefix, out[i])
		}
	}
	return out, nil
}

// open begins to read a track's units.
func (s *source) open() (*coding.Stream, error) {
	config := s.config
	if s.codec.SelfDescribing && !s.codec.Bare() {
		config = nil
	}
	return coding.Open(s.codec, config)
}

// data reads samples as access units.
func (s *source) data(src Source, lo, hi int) ([][]byte, error) {
	if s.units != nil {
		return s.units(lo, hi)
	}
	stream, err := s.open()
	if err != nil {
		return nil, err
	}
	list, err := s.extents(src, lo, hi)
	if err != nil {
		return nil, err
	}
	for i := range list {
		u, err := stream.Unit(list[i])
		if err != nil {
			return nil, fmt.Errorf("the sample at byte %d: %w", s.samples[lo+i].Offset, err)
		}
		list[i] = u.Data
	}
	return list, nil
}

// startCode reports whether bytes begin as NAL units of an elementary stream do (ISO/IEC 14496-10, annex B).
func startCode(b []byte) bool {
	return len(b) > 4 && b[0] == 0 && b[1] == 0 && (b[2] == 1 || b[2] == 0 && b[3] == 1)
}

// unitsOf takes what an elementary stream holds.
type unitsOf struct {
	track *media.Track
	list  [][]byte
}

// Track implements coding.ElementarySink.
func (u *unitsOf) Track(t media.Track) {
	if u.track == nil {
		u.track = &t
	}
}

// Unit implements coding.ElementarySink.
func (u *unitsOf) Unit(_, _ int64, _ bool, data []byte) { u.list = append(u.list, data) }

// elementary reads a track whose samples are access units of an elementary stream, with their configuration among them.
func (s *source) elementary(src Source) (t media.Track, trouble string) {
	read := func(lo, hi int) (*unitsOf, error) {
		list, err := s.extents(src, lo, hi)
		if err != nil {
			return nil, err
		}
		out := &unitsOf{}
		e, err := coding.OpenElementary(s.codec, nil, out)
		if err != nil {
			return nil, err
		}
		for i, b := range list {
			if err := e.Feed(0, 0, b); err != nil {
				return nil, fmt.Errorf("the sample at byte %d: %w", s.samples[lo+i].Offset, err)
			}
			if len(out.list) != i+1 {
				return nil, &media.FormatError{Format: "elementary stream", Found: fmt.Sprintf("%d access units in the sample at byte %d", len(out.list)-i, s.samples[lo+i].Offset), Want: "one"}
			}
		}
		return out, nil
	}
	first, err := read(0, 1)
	switch {
	case err != nil:
		return t, err.Error()
	case first.track == nil:
		return t, "its first sample does not tell what it is"
	}
	s.track = first.track
	s.units = func(lo, hi int) ([][]byte, error) {
		out, err := read(lo, hi)
		if err != nil {
			return nil, err
		}
		return out.list, nil
	}
	return *s.track, ""
}

// find says what the track is; trouble, in words, why it cannot be told.
func (s *source) find(src Source) (t media.Track, trouble string) {
	if s.track != nil {
		return *s.track, ""
	}
	first, err := s.extents(src, 0, 1)
	if err != nil {
		return t, err.Error()
	}
	if len(s.config) == 0 && !s.codec.SelfDescribing {
		if startCode(first[0]) && s.codec.HasElementary() {
			return s.elementary(src)
		}
		s.config = s.codec.ConfigOf(first[0])
	}
	stream, err := s.open()
	if err == nil {
		_, err = stream.Unit(first[0])
	}
	if err != nil {
		return t, err.Error()
	}
	t, known := stream.Track()
	if !known {
		return t, "its first sample does not tell what it is"
	}
	return t, ""
}

// Times.

// steady makes the times of sound even: in ticks of its samples, each frame behind the one before.
func (s *source) steady(t *media.Track) {
	scale, frame := t.Timescale, t.FrameSamples
	slack := scale / 200 // 5 ms: what stamps of a millisecond are wrong by, and more
	at := int64(0)
	for i := range s.samples {
		p := &s.samples[i]
		stamp := media.Rescale(p.PTS, s.scale, scale)
		if d := stamp - at; i == 0 || p.PTS >= 0 && (d > slack || d < -slack) {
			if i > 0 && d < 0 {
				stamp = at // it does not go back
			}
			at = stamp
		}
		p.DTS, p.PTS, p.Key = at, at, true
		p.Duration = uint32(frame)
		if i > 0 {
			s.samples[i-1].Duration = uint32(min(max(at-s.samples[i-1].DTS, 1), 1<<31))
		}
		at += frame
	}
	s.scale = scale
}

// order gives pictures that have presentation times alone their decode times: they are decoded in the order in which they lie, each as
// long as the pictures are shown in theirs. Stamps of an even rate are made even.
func (s *source) order() {
	n := len(s.samples)
	shown := make([]int, n) // by presentation time
	for i := range shown {
		shown[i] = i
		s.samples[i].PTS = media.Rescale(s.samples[i].PTS, s.scale, media.VideoTimescale)
	}
	slices.SortStableFunc(shown, func(a, b int) int { return cmp.Compare(s.samples[a].PTS, s.samples[b].PTS) })
	first, last := s.samples[shown[0]].PTS, s.samples[shown[n-1]].PTS
	if num, den, ok := even(n-1, last-first, media.Rescale(s.frame, s.scale, media.VideoTimescale)); ok {
		fits := true
		at := func(k int) int64 { return first + (int64(k)*num*2+den)/(den*2) }
		const slack = media.VideoTimescale / 400
		for k, i := range shown {
			d := s.samples[i].PTS - at(k)
			fits = fits && d < slack && d > -slack
		}
		if fits {
			for k, i := range shown {
				s.samples[i].PTS = at(k)
			}
		}
	}
	delay := int64(0)
	times := make([]int64, n)
	for k, i := range shown {
		times[k] = s.samples[i].PTS
	}
	for i := range s.samples {
		delay = max(delay, times[i]-s.samples[i].PTS)
	}
	for i := range s.samples {
		s.samples[i].DTS = times[i] - delay
	}
	s.scale = media.VideoTimescale
	s.durations()
}

// even finds a usual rate of which so many pictures last so long: the ticks of a picture as a fraction.
func even(pictures int, ticks, frame int64) (num, den int64, ok bool) {
	if pictures < 2 || ticks <= 0 {
		return 0, 0, false
	}
	for _, r := range [...]media.Rational{{Num: 24000, Den: 1001}, {Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1}, {Num: 15, Den: 1}, {Num: 12, Den: 1}, {Num: 10, Den: 1}, {Num: 20, Den: 1}} {
		num, den = media.VideoTimescale*r.Den, r.Num
		want := int64(pictures) * num / den
		if d := ticks - want; d < 180 && d > -180 { // 2 ms
			return num, den, true
		}
	}
	if want := int64(pictures) * frame; frame > 0 && ticks-want < 180 && want-ticks < 180 {
		return frame, 1, true
	}
	return 0, 0, false
}

// durations lets each picture last until the next is decoded.
func (s *source) durations() {
	n := len(s.samples)
	for i := range n - 1 {
		s.samples[i].Duration = uint32(min(max(s.samples[i+1].DTS-s.samples[i].DTS, 0), 1<<31))
	}
	if n > 1 {
		s.samples[n-1].Duration = s.samples[n-2].Duration
	} else if n == 1 {
		s.samples[0].Duration = uint32(s.scale / 25)
	}
}
