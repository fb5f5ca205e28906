package file

import (
	"bytes"
	"errors"
	"io"
	"time"

	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// flvFile is an FLV recording.
type flvFile struct {
	metadata amf.Object
	tags     []flv.Tag
	turn     uint32 // its length, milliseconds
	set      *tracks.Set
}

func parseFLV(b []byte) (*flvFile, error) {
	r, err := flv.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	c := &flvFile{}
	for {
		t, err := r.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break // a recording that was cut off plays as far as it goes
		}
		if err != nil {
			return nil, err
		}
		if t.Type != flv.TagScript {
			c.tags = append(c.tags, *t)
			continue
		}
		if values, err := amf.DecodeAll(t.Body); err == nil && len(values) > 1 && c.metadata == nil {
			c.metadata, _ = values[1].(amf.Object)
		}
	}
	n := len(c.tags)
	if n < 2 || c.tags[n-1].Timestamp == c.tags[0].Timestamp {
		return nil, errors.New("found no media, expected video or sound")
	}
	first := c.tags[0].Timestamp
	for i := range c.tags {
		c.tags[i].Timestamp -= first
	}
	// A turn is as long as the metadata says, if that can be.
	last := c.tags[n-1].Timestamp
	c.turn = last + 40
	if d, ok := c.metadata.Number("duration"); ok && d*1000 >= float64(last) && d*1000 < float64(last)+1000 {
		c.turn = uint32(d*1000 + 0.5)
	}
	return c, nil
}

func (c *flvFile) start(feed Feed) {
	c.set = tracks.New(feed)
	c.set.Metadata(c.metadata)
}

func (c *flvFile) count() int { return len(c.tags) }

func (c *flvFile) length() time.Duration { return time.Duration(c.turn) * time.Millisecond }

func (c *flvFile) due(i int) time.Duration {
	return time.Duration(c.tags[i].Timestamp) * time.Millisecond
}

// send gives the same bytes out in each turn: nobody changes them.
func (c *flvFile) send(i int, turn int64) error {
	t := &c.tags[i]
	kind := media.Video
	if t.Type == flv.TagAudio {
		kind = media.Audio
	}
	stamp := uint32(turn*int64(c.turn)) + t.Timestamp // it wraps as a sender's does
	return flv.Bodies(t.Type, t.Body, func(b *flv.Body) error { return c.set.Body(kind, stamp, b) })
}
