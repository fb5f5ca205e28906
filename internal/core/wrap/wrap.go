// Package wrap puts a segment into another container: a transport stream (ISO/IEC 13818-1), packed audio (RFC 8216, 3.4), its
// keyframe alone, or a WebVTT file. A whole CMAF segment comes in, bytes come out. They depend on nothing but the segment's
// own bytes, so they are the same whenever they are made. All of it is pure; anybody may call it at any time.
package wrap

import (
	"errors"
	"fmt"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/ts"
	"metaplasis/internal/core/webvtt"
)

// TextName is the wrapping of a segment of text as a file.
const TextName = "vtt"

// ErrNotOffered says that a segment is not offered in a container.
var ErrNotOffered = errors.New("this container is not offered for this rendition")

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

// Keyframe is a segment's first picture, shown for all of its time.
func Keyframe(s *segment.Segment) ([]byte, error) {
	list, _, err := units(s)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || !list[0].Key {
		return nil, fmt.Errorf("segment %d does not begin with a keyframe: %w", s.MSN, ErrNotOffered)
	}
	key := list[0]
	key.Duration = s.TrackDuration
	return bmff.Chunk(&s.Header.Track, bmff.ChunkOptions{Sequence: uint32(s.MSN), First: true},
		[]media.AccessUnit{key}), nil
}

// Text is a segment of text as a WebVTT file.
func Text(s *segment.Segment) ([]byte, error) {
	list, _, err := units(s)
	if err != nil {
		return nil, err
	}
	if !coding.IsText(&s.Header.Track) {
		return nil, ErrNotOffered
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

// PackedAudio is a segment of sound as ADTS frames behind the time of the first.
func PackedAudio(s *segment.Segment, later int64) ([]byte, error) {
	list, messages, err := units(s)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, ErrNotOffered
	}
	t := &s.Header.Track
	header, err := coding.FrameHeader(t)
	if err != nil {
		return nil, err
	}
	tag := id3.Tag{Timestamp: stamp90(t, list[0].PTS) + later}
	out := tag.Marshal()
	for _, m := range messages {
		if m.Scheme == id3.Scheme {
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

// TransportStream is a segment of video and its sound as a transport stream.
func TransportStream(video, sound *segment.Segment, later int64) ([]byte, error) {
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
		if m.Scheme == id3.Scheme {
			in.Meta = append(in.Meta, ts.Meta{PTS: stamp90(in.Video, int64(m.Time)) + later, Tag: m.Data})
		}
	}
	shift(in.Video, in.VideoUnits, later)
	shift(in.Audio, in.AudioUnits, later)
	return ts.Segment(in), nil
}
