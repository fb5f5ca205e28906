package clip

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Recode re-encodes pictures: those of units that are presented from a time on up to another, ticks of media.VideoTimescale. What comes
// back has times of media.VideoTimescale, and no picture that is presented in another order than it is decoded.
type Recode func(ctx context.Context, t *media.Track, units []media.AccessUnit, from, to int64) (media.Track, []media.AccessUnit, error)

// ErrEdges says that the edges of a clip could not be re-encoded.
var ErrEdges = errors.New("the edges of the clip could not be re-encoded")

// Exact lets the file begin with the first picture from From on, and end with the last one before To, without anything beside that is
// not shown: of the segments that these times lie in, the pictures that belong to the clip are re-encoded, everything between stays as
// it is. newHeader makes the header of what is encoded.
func (s *Source) Exact(ctx context.Context, recode Recode, newHeader func(media.Track) *segment.Header) error {
	if len(s.Video) == 0 {
		return nil
	}
	list := slices.Clone(s.Video)
	for i, seg := range list {
		end := seg.Start + seg.Duration
		if seg.Gap || end <= s.From || s.To > 0 && seg.Start >= s.To {
			continue
		}
		from, to := max(s.From, seg.Start), end
		if s.To > 0 {
			to = min(to, s.To)
		}
		if from-seg.Start < edgeSlack && end-to < edgeSlack {
			continue // all of it belongs to the clip
		}
		done := func() {}
		if s.Turn != nil {
			var err error
			if done, err = s.Turn(); err != nil {
				return err
			}
		}
		out, err := edge(ctx, seg, from, to, recode, newHeader)
		done()
		if err != nil {
			return fmt.Errorf("%w: %w", ErrEdges, err)
		}
		list[i] = out
	}
	s.Video, s.exact = list, true
	return nil
}

// edgeSlack is what a time may lie beside a segment's begin or end and be taken for it.
const edgeSlack = media.VideoTimescale / 200

// edge encodes what a clip has of a segment.
func edge(ctx context.Context, seg *segment.Segment, from, to int64, recode Recode, newHeader func(media.Track) *segment.Header) (*segment.Segment, error) {
	units, err := (&Source{}).units(seg)
	if err != nil {
		return nil, err
	}
	if len(units) == 0 {
		return nil, fmt.Errorf("segment %d is empty", seg.MSN)
	}
	scale := seg.Header.Track.Timescale
	delay := media.Rescale(units[0].PTS-units[0].DTS, scale, media.VideoTimescale)
	t, coded, err := recode(ctx, &seg.Header.Track, units, from, to)
	if err != nil {
		return nil, err
	}
	out := *seg
	out.Parts, out.Made = nil, &segment.Made{}
	if len(coded) == 0 { // no picture is presented between
		out.Gap, out.Blob, out.Size = true, nil, 0
		return &out, nil
	}
	for i := range coded {
		u := &coded[i]
		if u.Duration = to - u.PTS; i+1 < len(coded) {
			u.Duration = coded[i+1].PTS - u.PTS
		}
		u.DTS = u.PTS - delay // decoded as late as what lies beside it
	}
	t.Timescale = media.VideoTimescale
	b := bmff.Chunk(&t, bmff.ChunkOptions{First: true}, coded)
	out.Header, out.Blob, out.Size, out.Units = newHeader(t), segment.Memory{b}, int64(len(b)), len(coded)
	out.Start, out.Duration = coded[0].PTS, to-coded[0].PTS
	out.FirstPTS, out.TrackDuration = out.Start, out.Duration
	return &out, nil
}
