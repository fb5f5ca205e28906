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

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
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
	maxTagSize    = 1<<24 - 1

	videoAVC      = 7
	audioAAC      = 10
	frameKey      = 1
	frameInter    = 2
	frameCommand  = 5
	packetConfig  = 0
	packetCoded   = 1
	packetEnd     = 2
	extendedVideo = 0x80
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
		return nil, &media.FormatError{Format: "FLV header", Found: fmt.Sprintf("%q version %d", h[:3], h[3]), Want: `"FLV" version 1`}
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

// VideoBody is the body of a video tag with H.264 (annex E.4.3):
//
//	frameType(4) codec(4) | packetType(8) compositionTime(24) | data
type VideoBody struct {
	Key         bool
	Config      bool  // Data is an AVCDecoderConfigurationRecord
	End         bool  // the end of a sequence: no data
	Composition int32 // milliseconds from decode to presentation
	Data        []byte
}

// videoCodecs names what else a sender may try (table of E.4.3.1).
var videoCodecs = map[byte]string{2: "Sorenson H.263", 3: "screen video", 4: "VP6", 5: "VP6 with alpha", 6: "screen video 2"}

// Unmarshal reads a body; Data shares b. A nil error with neither Config nor Data means that
// the tag carries nothing to decode.
func (v *VideoBody) Unmarshal(b []byte) error {
	*v = VideoBody{}
	if len(b) == 0 {
		return nil
	}
	if b[0]&extendedVideo != 0 {
		name := "an extended video codec"
		if len(b) >= 5 {
			name = fmt.Sprintf("video codec %q", b[1:5])
		}
		return &media.UnsupportedError{Format: "FLV video", What: name, Do: "set the encoder to H.264"}
	}
	if codec := b[0] & 15; codec != videoAVC {
		name := videoCodecs[codec]
		if name == "" {
			name = fmt.Sprintf("video codec %d", codec)
		}
		return &media.UnsupportedError{Format: "FLV video", What: name, Do: "set the encoder to H.264"}
	}
	if b[0]>>4 == frameCommand {
		return nil
	}
	if len(b) < 5 {
		return &media.FormatError{Format: "FLV video", Found: fmt.Sprintf("%d bytes", len(b)), Want: "at least 5"}
	}
	v.Key = b[0]>>4 == frameKey
	v.Composition = int32(uint32(b[2])<<24|uint32(b[3])<<16|uint32(b[4])<<8) >> 8
	v.Data = b[5:]
	switch b[1] {
	case packetConfig:
		v.Config = true
	case packetCoded:
	case packetEnd:
		v.End, v.Data = true, nil
	default:
		return &media.FormatError{Format: "FLV video", Found: fmt.Sprintf("AVC packet type %d", b[1]), Want: "0, 1 or 2"}
	}
	return nil
}

// Marshal writes a body.
func (v *VideoBody) Marshal() []byte {
	b := make([]byte, 5, 5+len(v.Data))
	b[0] = frameInter<<4 | videoAVC
	if v.Key || v.Config {
		b[0] = frameKey<<4 | videoAVC
	}
	b[1] = packetCoded
	switch {
	case v.Config:
		b[1] = packetConfig
	case v.End:
		b[1] = packetEnd
	}
	c := uint32(v.Composition)
	b[2], b[3], b[4] = byte(c>>16), byte(c>>8), byte(c)
	return append(b, v.Data...)
}

// AudioBody is the body of an audio tag with AAC (annex E.4.2):
//
//	format(4) rate(2) size(1) type(1) | packetType(8) | data
type AudioBody struct {
	Config bool // Data is an AudioSpecificConfig
	Data   []byte
}

var audioCodecs = map[byte]string{0: "PCM", 1: "ADPCM", 2: "MP3", 3: "PCM", 4: "Nellymoser", 5: "Nellymoser", 6: "Nellymoser", 7: "G.711", 8: "G.711", 9: "an extended audio codec", 11: "Speex", 14: "MP3"}

// Unmarshal reads a body; Data shares b.
func (a *AudioBody) Unmarshal(b []byte) error {
	*a = AudioBody{}
	if len(b) == 0 {
		return nil
	}
	if codec := b[0] >> 4; codec != audioAAC {
		name := audioCodecs[codec]
		if name == "" {
			name = fmt.Sprintf("audio codec %d", codec)
		}
		return &media.UnsupportedError{Format: "FLV audio", What: name, Do: "set the encoder to AAC"}
	}
	if len(b) < 2 {
		return &media.FormatError{Format: "FLV audio", Found: "1 byte", Want: "at least 2"}
	}
	a.Config, a.Data = b[1] == packetConfig, b[2:]
	return nil
}

// Marshal writes a body. The rate and type bits are fixed for AAC.
func (a *AudioBody) Marshal() []byte {
	packet := byte(packetCoded)
	if a.Config {
		packet = packetConfig
	}
	return append([]byte{audioAAC<<4 | 0x0f, packet}, a.Data...)
}

// VideoTrack reads the configuration record of a video tag.
func VideoTrack(record []byte) (media.Track, int, error) {
	var c avc.Config
	if err := c.Unmarshal(record); err != nil {
		return media.Track{}, 0, err
	}
	t, err := c.Track()
	return t, c.LengthSize, err
}

// AudioTrack reads the configuration of an audio tag.
func AudioTrack(config []byte) (media.Track, error) {
	var c aac.Config
	if err := c.Unmarshal(config); err != nil {
		return media.Track{}, err
	}
	return c.Track(config), nil
}

// AccessUnitData checks the NAL units of a coded video body and returns them behind four-byte
// lengths, with whether they hold an IDR picture. With four-byte lengths on the wire, nothing is copied.
func AccessUnitData(body []byte, lengthSize int) (data []byte, idr bool, err error) {
	nals, err := avc.Split(body, lengthSize)
	if err != nil {
		return nil, false, err
	}
	idr = avc.HasIDR(nals)
	if lengthSize == 4 {
		return body, idr, nil
	}
	for _, n := range nals {
		data = avc.AppendNAL(data, n)
	}
	return data, idr, nil
}
