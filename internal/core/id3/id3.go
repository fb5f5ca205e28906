// Package id3 writes and reads ID3 tags, version 2.4, as far as timed metadata in a stream needs
// them: a title, an artist, a picture, and the time stamp of packed audio
// (draft-pantos-hls-rfc8216bis, 3.4).
//
//	tag:   'I' 'D' '3' 4 0 flags(8) size(28, seven bits a byte) { frame }
//	frame: id(32) size(28, seven bits a byte) flags(16) body
package id3

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"metaplasis/internal/core/media"
)

// timestampOwner names the private frame with the time of packed audio.
const timestampOwner = "com.apple.streaming.transportStreamTimestamp"

// Tag is what a tag says. Empty fields are left out.
type Tag struct {
	Title, Artist string
	Picture       []byte
	PictureType   string // media type of the picture
	Timestamp     int64  // 90 kHz, 33 bits; -1 for none
}

func size(n int) []byte {
	return []byte{byte(n >> 21 & 0x7f), byte(n >> 14 & 0x7f), byte(n >> 7 & 0x7f), byte(n & 0x7f)}
}

func frame(dst []byte, id string, body []byte) []byte {
	dst = append(append(dst, id...), size(len(body))...)
	return append(append(dst, 0, 0), body...)
}

// Marshal writes the tag.
func (t *Tag) Marshal() []byte {
	var b []byte
	if t.Timestamp >= 0 {
		body := append([]byte(timestampOwner), 0)
		b = frame(b, "PRIV", binary.BigEndian.AppendUint64(body, uint64(t.Timestamp)&(1<<33-1)))
	}
	const utf8 = 3
	if t.Title != "" {
		b = frame(b, "TIT2", append([]byte{utf8}, t.Title...))
	}
	if t.Artist != "" {
		b = frame(b, "TPE1", append([]byte{utf8}, t.Artist...))
	}
	if len(t.Picture) > 0 {
		body := append([]byte{utf8}, t.PictureType...)
		body = append(body, 0, 3, 0) // front cover, without a description
		b = frame(b, "APIC", append(body, t.Picture...))
	}
	out := append([]byte("ID3\x04\x00\x00"), size(len(b))...)
	return append(out, b...)
}

// maxTag bounds a tag from outside.
//
//limit:bytes of a tag | each tag | it is refused
const maxTag = 16 << 20

func broken(found, want string) error {
	return &media.FormatError{Format: "ID3", Found: found, Want: want}
}

func readSize(b []byte) int {
	return int(b[0]&0x7f)<<21 | int(b[1]&0x7f)<<14 | int(b[2]&0x7f)<<7 | int(b[3]&0x7f)
}

// Unmarshal reads a tag at the begin of b and returns what follows it.
func (t *Tag) Unmarshal(b []byte) (rest []byte, err error) {
	*t = Tag{Timestamp: -1}
	if len(b) < 10 || string(b[:3]) != "ID3" {
		return nil, broken(fmt.Sprintf("%d bytes that begin %q", len(b), b[:min(len(b), 3)]), `"ID3"`)
	}
	n := readSize(b[6:])
	if n > len(b)-10 || n > maxTag {
		return nil, broken(fmt.Sprintf("a size of %d", n), fmt.Sprintf("%d at most", len(b)-10))
	}
	rest = b[10+n:]
	for f := b[10 : 10+n]; len(f) >= 10 && f[0] != 0; {
		n := readSize(f[4:])
		if n > len(f)-10 {
			return nil, broken(fmt.Sprintf("a frame of %d bytes", n), fmt.Sprintf("%d at most", len(f)-10))
		}
		t.frame(string(f[:4]), f[10:10+n])
		f = f[10+n:]
	}
	return rest, nil
}

func (t *Tag) frame(id string, body []byte) {
	switch id {
	case "PRIV":
		owner, data, ok := bytes.Cut(body, []byte{0})
		if ok && string(owner) == timestampOwner && len(data) == 8 {
			t.Timestamp = int64(binary.BigEndian.Uint64(data) & (1<<33 - 1))
		}
	case "TIT2":
		t.Title = text(body)
	case "TPE1":
		t.Artist = text(body)
	case "APIC":
		if len(body) < 1 {
			return
		}
		kind, rest, ok := bytes.Cut(body[1:], []byte{0})
		if !ok || len(rest) < 1 {
			return
		}
		if _, picture, ok := bytes.Cut(rest[1:], []byte{0}); ok {
			t.PictureType, t.Picture = string(kind), picture
		}
	}
}

// text reads a string of UTF-8 or Latin-1 that is ASCII.
func text(b []byte) string {
	if len(b) < 1 {
		return ""
	}
	return string(bytes.TrimRight(b[1:], "\x00"))
}

// Scheme is that of event messages with an ID3 tag.
const Scheme = "https://aomedia.org/emsg/ID3"
