// Package item makes on-demand media of files: it looks into them, says what they hold, and cuts it into CMAF segments that are
// made when somebody asks for them, from the samples as they lie in the file. Nothing is re-encoded.
package item

import (
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strings"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/webvtt"
)

// Item is what plays as one: the tracks of one file or of several.
type Item struct {
	Tracks    []Track
	Duration  int64 // ticks of media.VideoTimescale
	Truncated bool  // a file ends early: what there is of it plays
	Container string
	// Packed: it is sound that browsers take as its own frames alone.
	Packed bool
	// Notes say what of the files is not done as they say, for people.
	Notes []string
}

// Cost is about how much memory an item takes, in bytes.
func (it *Item) Cost() (n int64) {
	const sample, perSegment, cue = 40, 600, 100
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if n += int64(len(t.Segments)*perSegment + len(t.Cues)*cue); t.source != nil {
			if n += int64(len(t.source.samples)) * sample; t.source.units != nil {
				n += int64(len(t.source.samples)) * 4
			}
		}
	}
	return n
}

// Track is a track of a file.
type Track struct {
	media.Track
	File int // which of the item's
	// Trouble says why the track cannot be played as it is, "" when it can.
	Trouble string
	// Codable: coding it again would help.
	Codable bool
	// KeyMillis is how far keyframes lie apart at most.
	KeyMillis int64
	Bitrate   int64 // bits per second
	Segments  []*segment.Segment
	Header    *segment.Header
	Cues      []webvtt.Cue // of text

	src    Source
	source *source
	shift  int64 // that is added to the samples' times, ticks of the track
}

// segmentLeast is how long a segment is at least: it ends with the first keyframe behind that.
const segmentLeast = 4 * media.VideoTimescale

// Source is where a file's bytes are read.
type Source interface {
	io.ReaderAt
	Size() int64
}

// Text is a file of subtitles.
type Text struct {
	Language, Name string
	Cues           []webvtt.Cue
}

// Options are what an item is made of.
type Options struct {
	Files     []Source // one, or several whose pictures are rungs of one ladder
	Languages []string // of the sound in each file, where the file does not say; may be shorter
	Texts     []Text
	NewHeader func(media.Track) *segment.Header // makes the CMAF header of a track
	Progress  func(bytes int64)                 // is told how far a file was read; may be nil
	Prefix    string                            // of the names of segments: it names the files as they are
}

// Open looks into the files.
func Open(o Options) (*Item, error) {
	it := &Item{}
	for n, src := range o.Files {
		c, err := read(src, o.Progress)
		if err != nil {
			return nil, err
		}
		it.Truncated = it.Truncated || c.truncated
		it.Notes = append(it.Notes, c.notes...)
		if n == 0 {
			it.Container = c.container
		}
		for _, s := range c.tracks {
			if s.kind == media.Audio && s.language == "" && n < len(o.Languages) {
				s.language = o.Languages[n]
			}
			if len(s.samples) > 0 {
				t := it.examine(src, s, o.NewHeader)
				t.File = n
				it.Tracks = append(it.Tracks, t)
			}
		}
	}
	if len(it.Tracks) == 0 {
		return nil, &media.FormatError{Format: "file on demand", Found: "neither pictures nor sound", Want: "one of them at least"}
	}
	it.alone()
	for i := range o.Texts {
		x := &o.Texts[i]
		t := Track{Track: coding.Texts(x.Name, x.Language), Cues: webvtt.Flatten(x.Cues)}
		t.Header = o.NewHeader(t.Track)
		it.Tracks = append(it.Tracks, t)
	}
	it.cut()
	for i := range it.Tracks {
		for _, s := range it.Tracks[i].Segments {
			s.Prefix = o.Prefix
			s.ETag = `"` + o.Prefix + strings.TrimPrefix(s.ETag, `"`)
		}
	}
	return it, nil
}

// alone finds out whether sound that browsers take as its own frames alone stands by itself; beside anything else it has to be encoded.
func (it *Item) alone() {
	others := slices.ContainsFunc(it.Tracks, func(t Track) bool { return t.plays() && !t.source.codec.Packed })
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if !t.plays() || !t.source.codec.Packed {
			continue
		}
		if it.Packed = !others; others {
			t.Trouble = t.Label + " has to be re-encoded to play beside the rest"
		}
	}
}

// examine finds out what a track is.
func (it *Item) examine(src Source, s *source, newHeader func(media.Track) *segment.Header) (out Track) {
	out.src, out.source, out.Kind = src, s, s.kind
	out.Language, out.Name = s.language, s.title
	switch {
	case s.trouble != "":
		out.Trouble = s.trouble
	case s.codec == nil:
		out.Trouble = fmt.Sprintf("its codec, %q, is none that is known here", s.called)
	}
	if out.Trouble == "" {
		track, trouble := s.find(src)
		if out.Trouble = trouble; trouble == "" {
			track.Language, track.Name, track.Turned = s.language, s.title, s.turned
			out.Track = track
			out.time()
		} else {
			out.Label = s.codec.Label
		}
	}
	if out.Trouble != "" {
		s.steadyAs(s.scale)
	}
	it.Duration = max(it.Duration, out.measure())
	if out.Trouble != "" {
		return out
	}
	out.Timescale = s.scale
	out.Codable = s.codec.Decoded && out.Undecodable == ""
	switch {
	case s.codec.Bare() || out.OnlyCoded || !s.codec.Web:
		out.Trouble = s.codec.Label + " has to be re-encoded for browsers"
		return out
	case !s.samples[0].Key:
		if n := slices.IndexFunc(s.samples, func(p bmff.Sample) bool { return p.Key }); n > 0 { // what comes before shows nothing
			s.drop(n)
			break
		}
		out.Trouble = "it has no keyframe"
		return out
	}
	if out.Kind == media.Audio {
		out.FrameSamples = int64(s.samples[0].Duration)
	}
	out.Header = newHeader(out.Track)
	return out
}

// steadyAs gives a track whose frames are not known its times.
func (s *source) steadyAs(scale int64) {
	for i := range s.samples {
		if s.coarse {
			s.samples[i].DTS = s.samples[i].PTS
		}
	}
	s.scale = scale
}

// drop leaves samples at the begin out.
func (s *source) drop(n int) {
	s.samples = s.samples[n:]
	if units := s.units; units != nil {
		s.units = func(lo, hi int) ([][]byte, error) { return units(lo+n, hi+n) }
	}
}

// time makes the times of a track those of its codec.
func (t *Track) time() {
	s := t.source
	switch {
	case !s.coarse:
	case s.kind == media.Video:
		s.order()
	case t.Timescale > 0 && t.FrameSamples > 0:
		s.steady(&t.Track)
	}
}

// measure finds bitrate and the distance of keyframes, and returns when the track ends, ticks of media.VideoTimescale.
func (t *Track) measure() int64 {
	s := t.source
	var bytes int64
	last, end := int64(0), int64(0)
	any := false
	for i := range s.samples {
		p := &s.samples[i]
		bytes += int64(p.Size)
		if p.Key && s.kind == media.Video {
			if any {
				t.KeyMillis = max(t.KeyMillis, media.Rescale(p.DTS-last, s.scale, 1000))
			}
			last, any = p.DTS, true
		}
		end = max(end, p.PTS+int64(p.Duration))
	}
	begin := s.samples[0].PTS
	if d := media.Rescale(end-begin, s.scale, media.VideoTimescale); d > 0 {
		t.Bitrate = media.PerSecond(bytes*8, d, media.VideoTimescale)
	}
	return media.Rescale(end, s.scale, media.VideoTimescale) - min(media.Rescale(begin, s.scale, media.VideoTimescale), 0)
}

func (t *Track) plays() bool { return t.Trouble == "" }

// ticks is a sample's presentation time in ticks of media.VideoTimescale.
func (s *source) ticks(i int) int64 {
	return media.Rescale(s.samples[i].PTS, s.scale, media.VideoTimescale)
}

// cut divides the tracks into segments: at keyframes that all pictures share, or at even lengths of sound.
func (it *Item) cut() {
	var lead *Track
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t.plays() && t.source != nil && (lead == nil || t.Kind == media.Video && lead.Kind != media.Video) {
			lead = t
		}
	}
	if lead == nil {
		return
	}
	it.begin()
	lines := it.lines(lead)
	for i := range it.Tracks {
		if t := &it.Tracks[i]; t.plays() {
			if t.source == nil {
				t.cutText(lines, it.Duration)
			} else {
				t.cut(lines)
			}
		}
	}
}

// begin moves the times of each file so that it begins at 0: a stream may begin anywhere.
func (it *Item) begin() {
	first := map[int]int64{}
	far := map[int]bool{}
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t.source == nil {
			continue
		}
		least := int64(math.MaxInt64)
		for k := range min(len(t.source.samples), 32) {
			p := &t.source.samples[k]
			least = min(least, media.Rescale(min(p.DTS, p.PTS), t.source.scale, media.VideoTimescale))
		}
		if at, known := first[t.File]; !known || least < at {
			first[t.File] = least
		}
		far[t.File] = far[t.File] || t.source.units != nil
	}
	longest := int64(0)
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t.source == nil {
			continue
		}
		move := -min(first[t.File], 0) // times in what is made are not below 0
		const late = media.VideoTimescale
		if first[t.File] > late || far[t.File] {
			move = -first[t.File]
		}
		t.shift = media.Rescale(move, media.VideoTimescale, t.source.scale)
		n := len(t.source.samples)
		for k := max(n-32, 0); k < n; k++ {
			longest = max(longest, t.source.ticks(k)+move+media.Rescale(int64(t.source.samples[k].Duration), t.source.scale, media.VideoTimescale))
		}
	}
	it.Duration = longest
}

// lines are where segments begin, ticks of media.VideoTimescale.
func (it *Item) lines(lead *Track) (lines []int64) {
	keys := lead.keys()
	// Pictures of other tracks have to start over there too: what does so too rarely is no rung of it.
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t == lead || !t.plays() || t.Kind != media.Video {
			continue
		}
		var shared []int64
		own := t.keys()
		for _, at := range keys {
			k := sort.Search(len(own), func(k int) bool { return own[k] >= at-keySlack })
			if k < len(own) && own[k] <= at+keySlack {
				shared = append(shared, at)
			}
		}
		if len(shared) == 0 || shared[0] != keys[0] || it.Duration/int64(len(shared)) > max(rungLongest, 2*it.Duration/int64(len(keys))) {
			t.Trouble = "its keyframes do not lie where those of the first file lie: it is no rung of one ladder"
			t.Codable = true
			continue
		}
		keys = shared
	}
	least := max(segmentLeast, it.Duration/maxSegments)
	for _, at := range keys {
		if len(lines) == 0 || at-lines[len(lines)-1] >= least {
			lines = append(lines, at)
		}
	}
	if lead.Kind == media.Video { // sound that goes on behind the last picture has segments of its own
		for at := lead.until() + keySlack; len(lines) > 0 && it.Duration-at > least/2; at += least {
			lines = append(lines, at)
		}
	}
	return lines
}

const (
	keySlack    = media.VideoTimescale / 200
	rungLongest = 12 * media.VideoTimescale
	//limit:segments | each item | segments are longer instead
	maxSegments = 20_000 // of an item: longer ones have longer segments
)

// keys are the times of keyframes in what is made.
func (t *Track) keys() (out []int64) {
	for i := range t.source.samples {
		if p := &t.source.samples[i]; p.Key {
			out = append(out, media.Rescale(p.PTS+t.shift, t.source.scale, media.VideoTimescale))
		}
	}
	slices.Sort(out)
	return out
}

// until is when the track's last sample is over in what is made, ticks of media.VideoTimescale.
func (t *Track) until() (end int64) {
	s := t.source
	for k := max(len(s.samples)-32, 0); k < len(s.samples); k++ {
		end = max(end, media.Rescale(s.samples[k].PTS+t.shift+int64(s.samples[k].Duration), s.scale, media.VideoTimescale))
	}
	return end
}

// cut makes the segments of a track between lines.
func (t *Track) cut(lines []int64) {
	scale, samples := t.source.scale, t.source.samples
	begin := 0
	for n := range lines {
		end := len(samples)
		if n+1 < len(lines) {
			end = begin
			if n == 0 || t.Kind == media.Video {
				end++
			}
			for end < len(samples) {
				s := &samples[end]
				if at := media.Rescale(s.PTS+t.shift, scale, media.VideoTimescale); (s.Key || t.Kind == media.Audio) && at >= lines[n+1]-media.VideoTimescale/1000 {
					break
				}
				end++
			}
		}
		end = min(end, len(samples))
		if begin >= end {
			continue
		}
		t.Segments = append(t.Segments, t.segment(n, begin, end))
		begin = end
	}
}

// segment describes a segment of samples.
func (t *Track) segment(n, lo, hi int) *segment.Segment {
	scale, part := t.source.scale, t.source.samples[lo:hi]
	first, last := part[0].PTS, part[0].PTS
	var size int64
	for i := range part {
		first, last = min(first, part[i].PTS), max(last, part[i].PTS+int64(part[i].Duration))
		size += int64(part[i].Size)
	}
	s := &segment.Segment{
		MSN: uint64(n), Start: media.Rescale(first+t.shift, scale, media.VideoTimescale), Header: t.Header, ETag: segment.Tag(uint64(n), t.Header),
		Size:  size + overhead + (perSample+int64(len(t.source.prefix)))*int64(len(part)), // with what stands around the samples, at most
		Units: len(part), Made: &segment.Made{}, FirstPTS: first + t.shift, TrackDuration: last - first, KeySize: int(part[0].Size),
	}
	s.Duration = media.Rescale(last+t.shift, scale, media.VideoTimescale) - s.Start
	s.Blob = &made{t: t, lo: lo, hi: hi, number: uint32(n + 1)}
	return s
}

// What a segment takes beside its samples' bytes, at most.
const (
	overhead  = 256
	perSample = 16
)

// cutText makes the segments of a track of text between lines.
func (t *Track) cutText(lines []int64, end int64) {
	for n, from := range lines {
		to := end
		if n+1 < len(lines) {
			to = lines[n+1]
		}
		if n == 0 {
			from = 0
		}
		if to <= from {
			continue
		}
		units := webvtt.Samples(from, to, webvtt.Within(t.Cues, from, to))
		if len(units) == 0 {
			continue
		}
		b := bmff.Chunk(&t.Track, bmff.ChunkOptions{Sequence: uint32(n + 1), First: true}, units)
		t.Segments = append(t.Segments, &segment.Segment{
			MSN: uint64(n), Start: from, Duration: to - from, Header: t.Header, ETag: segment.Tag(uint64(n), t.Header), Size: int64(len(b)), Units: len(units),
			Made: &segment.Made{}, FirstPTS: from, TrackDuration: to - from, Blob: segment.Memory{b},
		})
	}
}

// made is a segment that is made when it is read.
type made struct {
	t      *Track
	lo, hi int
	number uint32
}

// Size implements segment.Blob: about, before it is made.
func (m *made) Size() (n int64) {
	for i := m.lo; i < m.hi; i++ {
		n += int64(m.t.source.samples[i].Size)
	}
	return n
}

// Pieces implements segment.Blob.
func (m *made) Pieces() [][]byte { return nil }

// maxSegment bounds a segment that is made in memory.
//
//limit:bytes of a segment that is made in memory | each request | the segment is refused
const maxSegment = 256 << 20

// Make makes the segment.
func (m *made) Make() ([]byte, error) {
	units, err := m.t.Units(m.lo, m.hi)
	if err != nil {
		return nil, err
	}
	return bmff.Chunk(&m.t.Track, bmff.ChunkOptions{Sequence: m.number, First: true}, units), nil
}

// Open implements segment.Blob.
func (m *made) Open() (io.ReadSeekCloser, error) {
	b, err := m.Make()
	if err != nil {
		return nil, err
	}
	return segment.Memory{b}.Open()
}

// Count is how many access units a track has.
func (t *Track) Count() int {
	if t.source == nil {
		return 0
	}
	return len(t.source.samples)
}

// At is when a unit is decoded, ticks of the track.
func (t *Track) At(i int) int64 { return t.source.samples[i].DTS + t.shift }

// Units reads access units, with times from the item's begin on.
func (t *Track) Units(lo, hi int) ([]media.AccessUnit, error) {
	size := int64(0)
	for i := lo; i < hi; i++ {
		if size += int64(t.source.samples[i].Size); size > maxSegment {
			return nil, &media.UnsupportedError{Format: "file on demand", What: fmt.Sprintf("a segment of more than %d MB", maxSegment>>20), Do: "put keyframes nearer to each other"}
		}
	}
	list, err := t.source.data(t.src, lo, hi)
	if err != nil {
		return nil, err
	}
	units := make([]media.AccessUnit, hi-lo)
	for i := range units {
		s := &t.source.samples[lo+i]
		units[i] = media.AccessUnit{DTS: s.DTS + t.shift, PTS: s.PTS + t.shift, Duration: int64(s.Duration), Key: s.Key, Data: list[i]}
	}
	return units, nil
}

// Stretches divides pictures at keyframes into stretches of units, each so long at least, ticks of media.VideoTimescale: from a
// unit up to another.
func (t *Track) Stretches(least int64) (out [][2]int) {
	s := t.source
	begin := 0
	for i := range s.samples {
		if s.samples[i].Key && i > begin && media.Rescale(s.samples[i].DTS-s.samples[begin].DTS, s.scale, media.VideoTimescale) >= least {
			out = append(out, [2]int{begin, i})
			begin = i
		}
	}
	return append(out, [2]int{begin, len(s.samples)})
}
