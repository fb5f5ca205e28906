package origin

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/core/webvtt"
	"metaplasis/internal/present"
)

// ErrNoWrapping says that a segment is not offered in a container.
var ErrNoWrapping = errors.New("the channel does not offer this container for this rendition")

// soundWait is how long a transport segment waits for its sound, which may be made a little later
// than its video.
const soundWait = 2 * time.Second

// Wrap returns a whole segment in another container: "ts", "aac" or "key.m4s". What comes out
// depends on nothing but the segments' own bytes, so it is the same whenever it is made.
func (c *Channel) Wrap(ctx context.Context, r *Rendition, s *segment.Segment, kind string) ([]byte, error) {
	track := &s.Header.Track
	switch {
	case kind == vttName: // made with the segment, of text alone
		return s.Made.Get(kind, func() ([]byte, error) { return nil, ErrNoWrapping })
	case kind == "key.m4s" && track.Kind == media.Video:
		return s.Made.Get(kind, func() ([]byte, error) { return KeyFragment(s) })
	case !coding.Transportable(track) && (kind == "aac" || kind == "ts"):
		return nil, ErrNoWrapping
	case kind == "aac" && track.Kind == media.Audio && c.Transport():
		return s.Made.Get(kind, func() ([]byte, error) { return Packed(s, 0) })
	case kind == "ts" && track.Kind == media.Video && c.Transport():
		sound, err := c.soundFor(ctx, r, s)
		if err != nil {
			return nil, err
		}
		return s.Made.Get(kind, func() ([]byte, error) { return Transport(s, sound, 0) })
	}
	return nil, ErrNoWrapping
}

// soundFor returns the segment of sound that goes with one of video, nil when there is no sound.
func (c *Channel) soundFor(ctx context.Context, r *Rendition, s *segment.Segment) (*segment.Segment, error) {
	names := c.out.sounds.Load()
	if names == nil || (*names)[r.Name] == "" {
		return nil, nil
	}
	rend := c.Rendition((*names)[r.Name])
	if rend == nil {
		return nil, nil
	}
	late := time.NewTimer(soundWait)
	defer late.Stop()
	for {
		if again := c.Rendition(rend.Name); again != nil {
			rend = again
		}
		v := rend.View()
		if v == nil {
			return nil, nil
		}
		other, gone := v.Snapshot.Find(s.MSN)
		switch {
		case gone || other != nil && other.Gap:
			return nil, nil
		case other != nil && !other.Open:
			return other, nil
		}
		select {
		case <-v.Next():
		case <-late.C:
			return nil, fmt.Errorf("the sound of segment %d did not come in time", s.MSN)
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// units reads a segment's access units back.
func units(s *segment.Segment) (list []media.AccessUnit, messages []bmff.Message, err error) {
	b, err := s.Bytes()
	if err != nil {
		return nil, nil, err
	}
	for _, piece := range b {
		f, err := bmff.ReadFragments(piece)
		if err != nil {
			return nil, nil, fmt.Errorf("segment %d: %w", s.MSN, err)
		}
		for i := range f {
			list = append(list, f[i].Units...)
			messages = append(messages, f[i].Messages...)
		}
	}
	return list, messages, nil
}

// KeyFragment is a segment's first picture, shown for all of its time.
func KeyFragment(s *segment.Segment) ([]byte, error) {
	list, _, err := units(s)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || !list[0].Key {
		return nil, fmt.Errorf("segment %d does not begin with a keyframe: %w", s.MSN, ErrNoWrapping)
	}
	key := list[0]
	key.Duration = s.TrackDuration
	return bmff.Chunk(&s.Header.Track, bmff.ChunkOptions{Sequence: uint32(s.MSN), First: true},
		[]media.AccessUnit{key}), nil
}

// isText reports whether a track is text in time.
func isText(t *media.Track) bool {
	c := coding.Find(t.Codec)
	return t.Kind == media.Data && c != nil && c.Entry != ""
}

// TextFile is a segment of text as a WebVTT file.
func TextFile(s *segment.Segment) ([]byte, error) {
	list, _, err := units(s)
	if err != nil {
		return nil, err
	}
	if !isText(&s.Header.Track) {
		return nil, ErrNoWrapping
	}
	return webvtt.File(s.Start, webvtt.ReadSamples(list)), nil
}

// shift moves the times of units by so many ticks of media.VideoTimescale.
func shift(t *media.Track, list []media.AccessUnit, later int64) {
	for i := range list {
		d := media.Rescale(later, media.VideoTimescale, t.Timescale)
		list[i].DTS, list[i].PTS = list[i].DTS+d, list[i].PTS+d
	}
}

func stamp90(t *media.Track, pts int64) int64 {
	return media.Rescale(pts, t.Timescale, media.VideoTimescale)
}

// Packed is a segment of sound as ADTS frames behind the time of the first.
func Packed(s *segment.Segment, later int64) ([]byte, error) {
	list, messages, err := units(s)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, ErrNoWrapping
	}
	t := &s.Header.Track
	header, err := coding.FrameHeader(t)
	if err != nil {
		return nil, err
	}
	tag := id3.Tag{Timestamp: stamp90(t, list[0].PTS) + later}
	out := tag.Marshal()
	for _, m := range messages {
		if m.Scheme == present.ID3Scheme {
			out = append(out, m.Data...)
		}
	}
	for i := range list {
		if header != nil {
			out = append(out, header(len(list[i].Data))...)
		}
		out = append(out, list[i].Data...)
	}
	return out, nil
}

// Transport is a segment of video and its sound as a transport stream.
func Transport(video, sound *segment.Segment, later int64) ([]byte, error) {
	in := &ts.Input{Video: &video.Header.Track}
	var messages []bmff.Message
	var err error
	if in.VideoUnits, messages, err = units(video); err != nil {
		return nil, err
	}
	if sound != nil && coding.Transportable(&sound.Header.Track) {
		in.Audio = &sound.Header.Track
		if in.AudioUnits, _, err = units(sound); err != nil {
			return nil, err
		}
		if in.FrameHeader, err = coding.FrameHeader(in.Audio); err != nil {
			return nil, err
		}
	}
	for _, m := range messages {
		if m.Scheme == present.ID3Scheme {
			in.Meta = append(in.Meta, ts.Meta{PTS: stamp90(in.Video, int64(m.Time)) + later, Tag: m.Data})
		}
	}
	shift(in.Video, in.VideoUnits, later)
	shift(in.Audio, in.AudioUnits, later)
	return ts.Segment(in), nil
}
