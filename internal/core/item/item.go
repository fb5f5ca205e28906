// Package item makes on-demand media of files: it looks into a file, says what it holds, and cuts it into CMAF segments that are
// made when somebody asks for them, from the samples as they lie in the file. Nothing is coded anew.
package item

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Item is a file that can be played.
type Item struct {
	Tracks    []Track
	Duration  int64 // ticks of media.VideoTimescale
	Truncated bool  // the file ends early: what there is of it plays
	Container string
}

// Track is a track of a file.
type Track struct {
	media.Track
	// Trouble says why the track cannot be played as it is, "" when it can.
	Trouble string
	// KeyMillis is how far keyframes lie apart at most.
	KeyMillis int64
	Bitrate   int64 // bits a second
	Segments  []*segment.Segment
	Header    *segment.Header

	file *bmff.FileTrack
}

// segmentLeast is how long a segment is at least: it ends with the first keyframe behind that.
const segmentLeast = 4 * media.VideoTimescale

// Source is where a file's bytes are read.
type Source interface {
	io.ReaderAt
	Size() int64
}

// Open looks into a file. newHeader makes the CMAF header of a track.
func Open(src Source, newHeader func(media.Track) *segment.Header) (*Item, error) {
	var head [12]byte
	n, err := src.ReadAt(head[:], 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if what := foreign(head[:n]); what != "" {
		return nil, &media.UnsupportedError{Format: "file on demand", What: what, Do: "put the same media into an MP4 file"}
	}
	f, err := bmff.ReadFile(src, src.Size())
	if err != nil {
		return nil, err
	}
	it := &Item{Truncated: f.Truncated, Container: "MP4"}
	if f.Fragmented {
		it.Container = "fragmented MP4"
	}
	for i := range f.Tracks {
		t := &f.Tracks[i]
		if len(t.Samples) > 0 && (t.Handler == "vide" || t.Handler == "soun") {
			it.Tracks = append(it.Tracks, it.look(src, t, newHeader))
		}
	}
	if len(it.Tracks) == 0 {
		return nil, &media.FormatError{Format: "file on demand", Found: "neither pictures nor sound", Want: "one of them at least"}
	}
	it.cut(src)
	return it, nil
}

// foreign names a container that is known and not read here, "" for another.
func foreign(b []byte) string {
	for _, k := range []struct {
		magic string
		name  string
	}{{"\x1a\x45\xdf\xa3", "a WebM or Matroska file"}, {"FLV", "an FLV file"}, {"RIFF", "a WAV or AVI file"}, {"ID3", "an MP3 or AAC file"}, {"G", "a transport stream"}, {"OggS", "an Ogg file"}} {
		if bytes.HasPrefix(b, []byte(k.magic)) && !(k.magic == "G" && len(b) > 8 && string(b[4:8]) == "ftyp") {
			return k.name
		}
	}
	return ""
}

// look finds out what a track is.
func (it *Item) look(src Source, t *bmff.FileTrack, newHeader func(media.Track) *segment.Header) (out Track) {
	out.file = t
	out.Kind = media.Video
	if t.Handler == "soun" {
		out.Kind = media.Audio
	}
	var bytes int64
	last := int64(-1)
	end := int64(0)
	for i := range t.Samples {
		s := &t.Samples[i]
		bytes += int64(s.Size)
		if s.Key && out.Kind == media.Video {
			if last >= 0 {
				out.KeyMillis = max(out.KeyMillis, media.Rescale(s.DTS-last, t.Timescale, 1000))
			}
			last = s.DTS
		}
		end = max(end, s.PTS+int64(s.Duration))
	}
	if d := media.Rescale(end-t.Samples[0].PTS, t.Timescale, media.VideoTimescale); d > 0 {
		out.Bitrate = bytes * 8 * media.VideoTimescale / d
	}
	it.Duration = max(it.Duration, media.Rescale(end, t.Timescale, media.VideoTimescale))
	codec := coding.ByEntry(t.SampleEntry, t.ObjectType)
	switch {
	case t.Protected:
		out.Trouble = "its media is encrypted"
	case codec == nil || codec.Bare():
		out.Trouble = fmt.Sprintf("its codec, %q, is none that browsers play", t.SampleEntry)
	case !codec.Web:
		out.Label, out.Trouble = codec.Label, codec.Label+" has to be coded anew for browsers"
	case !t.Samples[0].Key:
		out.Label, out.Trouble = codec.Label, "it does not begin with a keyframe"
	}
	if out.Trouble != "" {
		return out
	}
	stream, err := open(codec, t)
	if err == nil {
		var data []byte
		if data, err = read(src, &t.Samples[0]); err == nil {
			_, err = stream.Unit(data)
		}
	}
	if err != nil {
		out.Label, out.Trouble = codec.Label, err.Error()
		return out
	}
	known := false
	if out.Track, known = stream.Track(); !known || out.OnlyCoded {
		out.Trouble = "its first sample does not tell what it is"
		return out
	}
	out.Timescale, out.Language = t.Timescale, t.Language
	if out.Kind == media.Audio && len(t.Samples) > 0 {
		out.FrameSamples = int64(t.Samples[0].Duration)
	}
	out.Header = newHeader(out.Track)
	return out
}

func open(codec *coding.Codec, t *bmff.FileTrack) (*coding.Stream, error) {
	config := t.Config
	if codec.SelfDescribing {
		config = nil
	}
	return coding.Open(codec, config)
}

func read(src io.ReaderAt, s *bmff.Sample) ([]byte, error) {
	b := make([]byte, s.Size)
	if _, err := src.ReadAt(b, s.Offset); err != nil {
		return nil, fmt.Errorf("the sample at byte %d: %w", s.Offset, err)
	}
	return b, nil
}

// cut divides the tracks into segments: at keyframes of the first track of pictures that plays, or at even lengths of sound.
func (it *Item) cut(src Source) {
	var lead *Track
	for i := range it.Tracks {
		if t := &it.Tracks[i]; t.Trouble == "" && (lead == nil || t.Kind == media.Video && lead.Kind != media.Video) {
			lead = t
		}
	}
	if lead == nil {
		return
	}
	// Times in the files that are made are not below 0.
	least := int64(0)
	for i := range it.Tracks {
		t := it.Tracks[i].file
		for k := range min(len(t.Samples), 32) {
			least = min(least, media.Rescale(t.Samples[k].DTS, t.Timescale, media.VideoTimescale), media.Rescale(t.Samples[k].PTS, t.Timescale, media.VideoTimescale))
		}
	}
	var lines []int64 // where segments begin, ticks of media.VideoTimescale
	for i := range lead.file.Samples {
		s := &lead.file.Samples[i]
		at := media.Rescale(s.PTS, lead.file.Timescale, media.VideoTimescale)
		if s.Key && (len(lines) == 0 || at-lines[len(lines)-1] >= segmentLeast) {
			lines = append(lines, at)
		}
	}
	for i := range it.Tracks {
		if t := &it.Tracks[i]; t.Trouble == "" {
			t.cut(src, lines, -least)
		}
	}
}

// cut makes the segments of a track between lines.
func (t *Track) cut(src Source, lines []int64, shift int64) {
	scale := t.file.Timescale
	samples := t.file.Samples
	move := media.Rescale(shift, media.VideoTimescale, scale)
	begin := 0
	for n := range lines {
		end := len(samples)
		if n+1 < len(lines) {
			end = begin + 1
			for end < len(samples) {
				s := &samples[end]
				if at := media.Rescale(s.PTS, scale, media.VideoTimescale); (s.Key || t.Kind == media.Audio) && at >= lines[n+1]-media.VideoTimescale/1000 {
					break
				}
				end++
			}
		}
		if begin >= end {
			continue
		}
		part := samples[begin:end]
		first, last := part[0].PTS, part[0].PTS
		var size int64
		for i := range part {
			first, last = min(first, part[i].PTS), max(last, part[i].PTS+int64(part[i].Duration))
			size += int64(part[i].Size)
		}
		s := &segment.Segment{
			MSN: uint64(n), Start: media.Rescale(first+move, scale, media.VideoTimescale), Header: t.Header, ETag: segment.Tag(uint64(n), t.Header), Size: size,
			Units: len(part), Made: &segment.Made{}, FirstPTS: first + move, TrackDuration: last - first, KeySize: int(part[0].Size),
		}
		s.Size += overhead + perSample*int64(len(part)) // what stands around the samples, at most
		s.Duration = media.Rescale(last+move, scale, media.VideoTimescale) - s.Start
		s.Blob = &made{src: src, t: t, part: part, move: move, number: uint32(n + 1)}
		t.Segments = append(t.Segments, s)
		begin = end
	}
}

// What a segment takes beside its samples' bytes, at most.
const (
	overhead  = 256
	perSample = 16
)

// made is a segment that is made when it is read.
type made struct {
	src    Source
	t      *Track
	part   []bmff.Sample
	move   int64
	number uint32
}

// Size implements segment.Blob: about, before it is made.
func (m *made) Size() (n int64) {
	for i := range m.part {
		n += int64(m.part[i].Size)
	}
	return n
}

// Pieces implements segment.Blob.
func (m *made) Pieces() [][]byte { return nil }

// maxSegment bounds a segment that is made in memory.
const maxSegment = 256 << 20

// Make makes the segment.
func (m *made) Make() ([]byte, error) {
	if n := m.Size(); n > maxSegment {
		return nil, &media.UnsupportedError{Format: "file on demand", What: fmt.Sprintf("a segment of %d MB", n>>20), Do: "put keyframes nearer to each other"}
	}
	codec := coding.ByEntry(m.t.file.SampleEntry, m.t.file.ObjectType)
	stream, err := open(codec, m.t.file)
	if err != nil {
		return nil, err
	}
	// Samples of a track lie beside each other, or among those of others: what lies within a stretch is read at once.
	lo, hi := m.part[0].Offset, m.part[0].Offset+int64(m.part[0].Size)
	for i := range m.part {
		lo, hi = min(lo, m.part[i].Offset), max(hi, m.part[i].Offset+int64(m.part[i].Size))
	}
	var all []byte
	if hi-lo <= 4*m.Size()+1<<20 {
		all = make([]byte, hi-lo)
		if _, err := m.src.ReadAt(all, lo); err != nil {
			return nil, fmt.Errorf("bytes %d to %d of the file: %w", lo, hi, err)
		}
	}
	units := make([]media.AccessUnit, len(m.part))
	for i := range m.part {
		s := &m.part[i]
		data := []byte(nil)
		if all != nil {
			data = all[s.Offset-lo : s.Offset-lo+int64(s.Size)]
		} else if data, err = read(m.src, s); err != nil {
			return nil, err
		}
		u, err := stream.Unit(data)
		if err != nil {
			return nil, fmt.Errorf("the sample at byte %d: %w", s.Offset, err)
		}
		units[i] = media.AccessUnit{DTS: s.DTS + m.move, PTS: s.PTS + m.move, Duration: int64(s.Duration), Key: s.Key, Data: u.Data}
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
