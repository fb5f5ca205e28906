// Package clip writes stretches of a channel's renditions as files: an MP4 that any tool opens, a fragmented MP4, a transport stream.
// Nothing is re-encoded. Where the programme was interrupted or starts over the file goes on without a hole; video and audio
// keep their places to each other.
package clip

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/ts"
)

// Source is what a file is made of: a rendition of pictures, one of sound, or both, as lists of segments that may have gaps.
type Source struct {
	Video, Sound []*segment.Segment
	// From and To are media times, ticks of media.VideoTimescale, between which the file is shown. An MP4 holds to them exactly: what
	// lies before From, back to the keyframe that it needs, is in the file and is not shown. 0 is the beginning, and the end.
	From, To int64
	// Turn is called before each segment is looked into, and what it returns behind that; an error ends the writing.
	// nil: nothing is called.
	Turn func() (done func(), err error)

	exact bool // pictures begin and end with the clip
	// sets: keyframes carry their parameter sets. The file has several descriptions of its pictures, and there are players that
	// heed the first alone.
	sets bool
}

// changes reports whether the pictures are not all of one description.
func (s *Source) changes() bool {
	var first *segment.Header
	for _, seg := range s.Video {
		if seg.Gap {
			continue
		}
		if first == nil {
			first = seg.Header
		}
		if seg.Header.Name != first.Name {
			return true
		}
	}
	return false
}

// ErrNothing says that there is nothing to write.
var ErrNothing = errors.New("nothing of that time is kept")

// alignedSegments is a segment of pictures and the one of sound that goes with it; either may be nil.
type alignedSegments struct {
	video, sound *segment.Segment
	shift        int64 // what their times lie earlier in the file, ticks of media.VideoTimescale
}

// slack is what may lie between two segments that follow each other.
const slack = media.VideoTimescale / 20

// each hands out the segments in order.
func (s *Source) each(ctx context.Context, do func(alignedSegments) error) error {
	sounds := map[uint64]*segment.Segment{}
	lead := s.Video
	if len(lead) == 0 {
		lead = s.Sound
	} else {
		for _, a := range s.Sound {
			if !a.Gap {
				sounds[a.MSN] = a
			}
		}
	}
	shift, end, any := int64(0), int64(0), false
	for _, l := range lead {
		if l.Gap || l.Start+l.Duration <= s.From || s.To > 0 && l.Start >= s.To {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if away := l.Start - end; any && (away > slack || away < -slack) {
			shift += away
		}
		any, end = true, l.Start+l.Duration
		p := alignedSegments{shift: shift}
		if len(s.Video) > 0 {
			p.video, p.sound = l, sounds[l.MSN]
		} else {
			p.sound = l
		}
		if err := do(p); err != nil {
			return err
		}
	}
	if !any {
		return ErrNothing
	}
	return nil
}

// units reads the access units of a segment that begin before the end.
func (s *Source) units(seg *segment.Segment) ([]media.AccessUnit, error) {
	if seg == nil {
		return nil, nil
	}
	if s.Turn != nil {
		done, err := s.Turn()
		if err != nil {
			return nil, err
		}
		defer done()
	}
	b, err := seg.Bytes()
	if err != nil {
		return nil, err
	}
	var out []media.AccessUnit
	for _, piece := range b {
		f, err := bmff.ReadFragments(piece)
		if err != nil {
			return nil, fmt.Errorf("segment %d: %w", seg.MSN, err)
		}
		for i := range f {
			out = append(out, f[i].Units...)
		}
	}
	t := &seg.Header.Track
	for i := range out {
		if s.sets && out[i].Key && t.Kind == media.Video {
			out[i].Data = coding.WithConfig(t, out[i].Data)
		}
	}
	scale := t.Timescale
	if s.exact && seg.Header.Track.Kind == media.Audio { // nothing before the first picture
		for len(out) > 0 && media.Rescale(out[0].PTS+out[0].Duration, scale, media.VideoTimescale) <= s.From {
			out = out[1:]
		}
	}
	if s.To > 0 {
		// Pictures that are shown later may be needed by those before: the end is cut off where none is.
		for n := len(out); n > 0; n-- {
			if u := &out[n-1]; media.Rescale(u.PTS, scale, media.VideoTimescale) < s.To {
				return out[:n], nil
			}
		}
		return nil, nil
	}
	return out, nil
}

// Movie is an MP4 file, of which all is known but the samples' bytes.
type Movie struct {
	Size   int64 // of the file, bytes
	source *Source
	header []byte
}

// Movie reads a source once for the tables of an MP4 file.
func (s *Source) Movie(ctx context.Context) (*Movie, error) {
	s.sets = s.changes()
	m := &bmff.Movie{}
	var video, sound *bmff.MovieTrack
	if len(s.Video) > 0 {
		video = m.Track(media.Video)
	}
	if len(s.Sound) > 0 {
		sound = m.Track(media.Audio)
	}
	last := int64(0)
	err := s.each(ctx, func(p alignedSegments) error {
		last = p.shift
		for _, one := range []struct {
			seg *segment.Segment
			to  *bmff.MovieTrack
		}{{p.video, video}, {p.sound, sound}} {
			units, err := s.units(one.seg)
			if err != nil {
				return err
			}
			if len(units) == 0 {
				continue
			}
			if err := one.to.Add(&one.seg.Header.Track, units, -p.shift); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	m.From = s.From
	if s.To > 0 {
		m.To = s.To - last
	}
	header, err := m.Header()
	if errors.Is(err, bmff.ErrMovieEmpty) {
		err = ErrNothing
	}
	if err != nil {
		return nil, err
	}
	return &Movie{Size: int64(len(header)) + m.Size(), source: s, header: header}, nil
}

// Write writes the file.
func (m *Movie) Write(ctx context.Context, w io.Writer) error {
	if _, err := w.Write(m.header); err != nil {
		return err
	}
	return m.source.each(ctx, func(p alignedSegments) error {
		for _, seg := range []*segment.Segment{p.video, p.sound} {
			units, err := m.source.units(seg)
			if err != nil {
				return err
			}
			for i := range units {
				if _, err := w.Write(units[i].Data); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Transport writes a transport stream.
func (s *Source) Transport(ctx context.Context, w io.Writer, title string) error {
	mux := ts.NewMux()
	programme := mux.Programme(1, title)
	tracks := map[bool]*ts.MuxTrack{} // of pictures, and of sound
	header := map[bool]string{}
	return s.each(ctx, func(p alignedSegments) error {
		type ready struct {
			of *segment.Segment
			u  []media.AccessUnit
		}
		var both []ready
		for _, seg := range []*segment.Segment{p.video, p.sound} {
			units, err := s.units(seg)
			if err != nil {
				return err
			}
			if len(units) == 0 {
				continue
			}
			t := &seg.Header.Track
			pictures := t.Kind == media.Video
			switch {
			case tracks[pictures] == nil:
				if tracks[pictures], err = programme.Track(t); err != nil {
					return err
				}
			case header[pictures] != seg.Header.Name:
				tracks[pictures].Update(t)
			}
			header[pictures] = seg.Header.Name
			both = append(both, ready{seg, units})
		}
		for {
			next := -1
			var at int64
			for i := range both {
				if len(both[i].u) == 0 {
					continue
				}
				if d := media.Rescale(both[i].u[0].DTS, both[i].of.Header.Track.Timescale, media.VideoTimescale); next < 0 || d < at {
					next, at = i, d
				}
			}
			if next < 0 {
				break
			}
			t, u := &both[next].of.Header.Track, &both[next].u[0]
			pts := media.Rescale(u.PTS, t.Timescale, media.VideoTimescale)
			tracks[t.Kind == media.Video].Unit(at-p.shift, pts-p.shift, u.Key, u.Data)
			both[next].u = both[next].u[1:]
		}
		_, err := w.Write(mux.Take())
		return err
	})
}

// Fragmented writes a fragmented MP4: a header, and a fragment of pictures and one of sound for each segment. Its times begin with 0.
func (s *Source) Fragmented(ctx context.Context, w io.Writer) error {
	s.sets = s.changes()
	var tracks [][]media.Track
	var kinds []media.Kind
	number := map[*segment.Header]uint32{} // of descriptions in their track
	for _, list := range [][]*segment.Segment{s.Video, s.Sound} {
		var descriptions []media.Track
		byName := map[string]uint32{}
		for _, seg := range list {
			if seg.Gap || number[seg.Header] > 0 {
				continue
			}
			n := byName[seg.Header.Name]
			if n == 0 {
				descriptions = append(descriptions, seg.Header.Track)
				n = uint32(len(descriptions))
				byName[seg.Header.Name] = n
			}
			number[seg.Header] = n
		}
		if len(descriptions) > 0 {
			for i := range descriptions { // one timescale a track
				descriptions[i].Timescale = descriptions[0].Timescale
			}
			tracks, kinds = append(tracks, descriptions), append(kinds, descriptions[0].Kind)
		}
	}
	if len(tracks) == 0 {
		return ErrNothing
	}
	if _, err := w.Write(bmff.MovieHeader(tracks)); err != nil {
		return err
	}
	sequence, begin, begun := uint32(0), int64(0), false
	return s.each(ctx, func(p alignedSegments) error {
		for _, seg := range []*segment.Segment{p.video, p.sound} {
			units, err := s.units(seg)
			if err != nil {
				return err
			}
			if len(units) == 0 {
				continue
			}
			at := slices.Index(kinds, seg.Header.Track.Kind)
			track := tracks[at][number[seg.Header]-1]
			own := seg.Header.Track.Timescale
			if !begun { // the first unit is decoded at 0
				begun, begin = true, media.Rescale(units[0].DTS, own, media.VideoTimescale)
			}
			away := media.Rescale(p.shift+begin, media.VideoTimescale, track.Timescale)
			for i := range units {
				u := &units[i]
				u.DTS = media.Rescale(u.DTS, own, track.Timescale) - away
				u.PTS = media.Rescale(u.PTS, own, track.Timescale) - away
				u.Duration = media.Rescale(u.Duration, own, track.Timescale)
			}
			for len(units) > 0 && units[0].DTS < 0 { // sound from before the first picture
				units = units[1:]
			}
			if len(units) == 0 {
				continue
			}
			sequence++
			if _, err := w.Write(bmff.Chunk(&track, bmff.ChunkOptions{Sequence: sequence, Track: uint32(at + 1), Description: number[seg.Header]}, units)); err != nil {
				return err
			}
		}
		return nil
	})
}
