package item

import (
	"errors"
	"io"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// counting tells where a reader stands.
type counting struct {
	r  io.Reader
	at int64
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.at += int64(n)
	return n, err
}

// flvTrack tells the tracks of a file apart.
type flvTrack struct {
	tag   uint8
	track uint8
	codec media.Codec
}

const tagTail = 4 // bytes behind a tag: its size

// readFLV reads FLV files.
func readFLV(src Source, progress func(int64)) (*contents, error) {
	in := &counting{r: io.NewSectionReader(src, 0, src.Size())}
	r, err := flv.NewReader(in)
	if err != nil {
		return nil, err
	}
	c := &contents{}
	tracks := map[flvTrack]*source{}
	total := 0
	for {
		tag, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			if c.truncated = errors.Is(err, io.ErrUnexpectedEOF); c.truncated {
				break
			}
			return nil, err
		}
		progress(in.at)
		if tag.Type == flv.TagScript {
			continue
		}
		body := in.at - tagTail - int64(len(tag.Body))
		if flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			if b.End || b.Codec == "" {
				return nil
			}
			id := flvTrack{tag.Type, b.Track, b.Codec}
			s := tracks[id]
			if s == nil {
				if len(tracks) >= maxTracks {
					return nil
				}
				s = &source{kind: media.Video, codec: coding.Find(b.Codec), called: string(b.Codec), scale: 1000, coarse: true, config: b.Bare}
				if tag.Type == flv.TagAudio {
					s.kind = media.Audio
				}
				tracks[id] = s
				c.tracks = append(c.tracks, s)
			}
			switch {
			case b.Config && s.config == nil:
				s.config = append([]byte(nil), b.Data...)
			case !b.Config && len(b.Data) > 0 && total < maxSamples:
				total++
				at := body + int64(cap(tag.Body)-cap(b.Data)) // where it lies in the tag
				s.samples = append(s.samples, bmff.Sample{Offset: at, Size: uint32(len(b.Data)), PTS: int64(tag.Timestamp) + int64(b.Composition), Key: b.Key || s.kind == media.Audio})
			}
			return nil
		}) != nil {
			continue // a tag of something else
		}
	}
	return c, nil
}
