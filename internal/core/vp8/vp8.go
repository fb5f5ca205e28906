// Package vp8 reads the frame header of VP8 (RFC 6386, 9.1).
package vp8

import (
	"fmt"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/vp9"
)

// Frame is what a frame's header tells. The size is known of a key frame alone.
type Frame struct {
	Key           bool
	Width, Height int
}

// ParseFrame reads: size(19) show(1) version(3) key(1), little-endian, and of a key frame
// startCode(24) width(14) scale(2) height(14) scale(2).
func ParseFrame(b []byte) (f Frame, err error) {
	const head, keyHead = 3, 10
	if len(b) < head {
		return f, &media.FormatError{Format: "VP8 frame", Found: fmt.Sprintf("%d bytes", len(b)), Want: "at least 3"}
	}
	if f.Key = b[0]&1 == 0; !f.Key {
		return f, nil
	}
	if len(b) < keyHead || b[3] != 0x9d || b[4] != 0x01 || b[5] != 0x2a {
		return f, &media.FormatError{Format: "VP8 key frame", Found: fmt.Sprintf("%x", b[head:min(len(b), 6)]), Want: "the start code 9d012a and a size"}
	}
	f.Width, f.Height = int(b[6])|int(b[7]&0x3f)<<8, int(b[8])|int(b[9]&0x3f)<<8
	if f.Width == 0 || f.Height == 0 {
		return f, &media.FormatError{Format: "VP8 key frame", Found: fmt.Sprintf("a picture of %dx%d", f.Width, f.Height), Want: "one with samples"}
	}
	return f, nil
}

// Track makes a video track of the configuration record of the VP Codec ISO Media File Format Binding,
// which is the same for VP8 and VP9; of one that is left out, with the only values that VP8 has.
func Track(config []byte) (media.Track, error) {
	c := vp9.Config{Depth: 8}
	if len(config) > 0 {
		if err := c.Unmarshal(config); err != nil {
			return media.Track{}, err
		}
	}
	t := c.Track()
	t.Codec, t.CodecName = media.VP8, "vp08"+c.Name()[len("vp09"):]
	return t, nil
}

// Complete adds to a track what its first key frame tells.
func Complete(t *media.Track, sample []byte) error {
	f, err := ParseFrame(sample)
	if err == nil && f.Key {
		t.Width, t.Height = f.Width, f.Height
	}
	return err
}
