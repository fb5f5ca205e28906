// Package flv reads and writes FLV (the published File Format Specification, version 10.1):
// a header, then tags, each behind the size of the one before. RTMP carries the bodies of the
// same tags as its audio and video messages, so their syntax lives here too.
//
//	file: 'F' 'L' 'V' version flags offset(32) { previousTagSize(32) tag }
//	tag:  type(8) size(24) time(24) timeHigh(8) stream(24) body
package flv

import (
	"encoding/binary"
	"fmt"
	"io"

	"metaplasis/internal/core/media"
)

// Tag types (annex E.4.1).
const (
	TagAudio  = 8
	TagVideo  = 9
	TagScript = 18
)

const (
	tagHeaderSize = 11
)

// Tag is one tag. Timestamp is in milliseconds.
type Tag struct {
	Type      uint8
	Timestamp uint32
	Body      []byte
}

// Reader reads the tags of a file.
type Reader struct{ r io.Reader }

// NewReader checks the file's header.
func NewReader(r io.Reader) (*Reader, error) {
	var h [9]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return nil, fmt.Errorf("FLV header: %w", err)
	}
	if string(h[:3]) != "FLV" || h[3] != 1 {
		return nil, &media.FormatError{Format: "FLV header", Found: fmt.Sprintf("%q version %d", h[:3], h[3]),
			Want: `"FLV" version 1`}
	}
	skip := int64(binary.BigEndian.Uint32(h[5:])) - int64(len(h))
	if skip < 0 || skip > 1<<16 {
		return nil, &media.FormatError{Format: "FLV header", Found: fmt.Sprintf("an offset of %d", skip+9), Want: "9"}
	}
	if _, err := io.CopyN(io.Discard, r, skip+4); err != nil {
		return nil, fmt.Errorf("FLV header: %w", err)
	}
	return &Reader{r: r}, nil
}

// Next returns the next tag, or io.EOF behind the last whole one.
func (r *Reader) Next() (*Tag, error) {
	var h [tagHeaderSize]byte
	if _, err := io.ReadFull(r.r, h[:]); err != nil {
		return nil, err
	}
	n := int(h[1])<<16 | int(h[2])<<8 | int(h[3])
	t := &Tag{Type: h[0] & 31, Timestamp: uint32(h[4])<<16 | uint32(h[5])<<8 | uint32(h[6]) | uint32(h[7])<<24}
	body, err := io.ReadAll(io.LimitReader(r.r, int64(n)))
	if err == nil && len(body) < n {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return nil, fmt.Errorf("FLV tag of %d bytes: %w", n, err)
	}
	t.Body = body
	var size [4]byte
	if _, err := io.ReadFull(r.r, size[:]); err != nil {
		return nil, fmt.Errorf("FLV tag size: %w", err)
	}
	return t, nil
}

// AppendHeader starts a file with audio and video.
func AppendHeader(dst []byte) []byte {
	return append(dst, "FLV\x01\x05\x00\x00\x00\x09\x00\x00\x00\x00"...)
}

// AppendTag adds a tag and its size.
func AppendTag(dst []byte, t *Tag) []byte {
	n := len(t.Body)
	dst = append(dst, t.Type, byte(n>>16), byte(n>>8), byte(n),
		byte(t.Timestamp>>16), byte(t.Timestamp>>8), byte(t.Timestamp), byte(t.Timestamp>>24), 0, 0, 0)
	dst = append(dst, t.Body...)
	return binary.BigEndian.AppendUint32(dst, uint32(n+tagHeaderSize))
}
