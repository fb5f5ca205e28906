package coding

import (
	"slices"

	"golang.org/x/text/language"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
)

// Line is how a transport stream for a line carries a track. It takes more codecs than those of segments do.
type Line struct {
	StreamType uint8
	StreamID   uint8  // of its PES packets (ISO/IEC 13818-1, table 2-22)
	Info       []byte // descriptors of its row in the programme map
	// Write appends an access unit as the stream holds it.
	Write func(dst, unit []byte, key bool) []byte
}

// Identifiers of PES packets.
const (
	videoStream   = 0xe0
	audioStream   = 0xc0
	privateStream = 0xbd
)

// ForLine says how a transport stream carries a track; ok is false when it does not.
func ForLine(t *media.Track) (l Line, ok bool) {
	c := Find(t.Codec)
	if c == nil || c.line == 0 {
		return l, false
	}
	l = Line{StreamType: c.line, StreamID: videoStream}
	if c.Kind == media.Audio {
		l.StreamID = audioStream
	}
	if c.line == privateStreamType || c.line >= 0x80 {
		l.StreamID = privateStream
	}
	for _, r := range c.registrations {
		l.Info = append(append(l.Info, 0x05, 4), r...)
	}
	for _, d := range c.descriptors {
		if d >= 0x100 {
			l.Info = append(l.Info, 0x7f, 2, byte(d), byte(t.Channels))
		}
	}
	if b, err := language.ParseBase(t.Language); err == nil && c.Kind == media.Audio {
		l.Info = append(append(l.Info, 0x0a, 4), b.ISO3()...)
		l.Info = append(l.Info, 0)
	}
	l.Write = func(dst, unit []byte, _ bool) []byte { return append(dst, unit...) }
	switch {
	case c.lineWrite != nil:
		l.Write = c.lineWrite(t.Config)
	case c.transport != nil:
		l.Write = c.transport(t.Config)
	case c.frameHeader != nil:
		header, err := c.frameHeader(t.Config)
		if err != nil {
			return l, false
		}
		l.Write = func(dst, unit []byte, _ bool) []byte { return append(append(dst, header(len(unit))...), unit...) }
	}
	return l, true
}

const privateStreamType = 0x06

// hevcLine writes NAL units behind start codes, a delimiter first, and the parameter sets before each keyframe.
func hevcLine(config []byte) func(dst, unit []byte, key bool) []byte {
	var sets []byte
	var c hevc.Config
	if c.Unmarshal(config) == nil {
		for _, n := range slices.Concat(c.VPS, c.SPS, c.PPS) {
			sets = append(append(sets, 0, 0, 0, 1), n...)
		}
	}
	return func(dst, unit []byte, key bool) []byte {
		dst = append(dst, 0, 0, 0, 1, hevc.TypeAUD<<1, 1, 0x50)
		if key {
			dst = append(dst, sets...)
		}
		return avc.AppendAnnexB(dst, unit)
	}
}

// opusLine writes packets behind control headers: see opusElementary.
func opusLine([]byte) func(dst, unit []byte, key bool) []byte {
	return func(dst, unit []byte, _ bool) []byte {
		dst = append(dst, 0x7f, 0xe0)
		n := len(unit)
		for ; n >= 255; n -= 255 {
			dst = append(dst, 255)
		}
		return append(append(dst, byte(n)), unit...)
	}
}
