package flv

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Codecs and packet types of the first form (annex E.4.2 and E.4.3).
const (
	videoAVC     = 7
	audioAAC     = 10
	frameKey     = 1
	frameInter   = 2
	frameCommand = 5
	packetConfig = 0
	packetCoded  = 1
	packetEnd    = 2
)

// Packet types and bounds of the enhanced form (Enhanced RTMP, version 2, "Enhanced Video" and "Enhanced
// Audio").
const (
	enhancedVideo    = 0x80
	enhancedAudio    = 9
	enhancedStart    = 0
	enhancedCoded    = 1
	enhancedEnd      = 2
	enhancedCodedX   = 3 // video: encoded, and presented when it is decoded
	enhancedMeta     = 4 // colour metadata; for audio, the layout of channels
	multitrackAudio  = 5
	multitrackVideo  = 6
	enhancedModifier = 7
	modifierNanos    = 0 // of a modifier: nanoseconds beside the stamp
	fourCCSize       = 4
	multitrackOne    = 0
	multitrackCodecs = 2
	//limit:tracks | each message | the message is refused
	maxTracksInMessage = 32
	//limit:nanoseconds of a stamp beyond its millisecond | each message | the message is refused
	maxNanos = 1_000_000 // a millisecond of them
)

// Body is what a tag carries of one track.
type Body struct {
	Track       uint8 // number of the track in the enhanced form; 0 is the only one of the first form
	Codec       media.Codec
	Config      bool // Data is the codec's configuration
	End         bool // the end of a sequence: no data
	Key         bool // video: a keyframe, by the sender's word
	Composition int32
	Nanos       int32 // nanoseconds that the tag's stamp is short of, below a million; enhanced form only
	Data        []byte
	// Bare is the configuration of sound that has none of its own: what the tag's first byte says of it.
	Bare []byte
	// Colour and Light are what colour metadata says of the pictures; nil when the body has none.
	Colour *media.Colour
	Light  *media.Light
}

// what the codecs of the first form are called (tables of E.4.2.1 and E.4.3.1).
var (
	videoCodecs = map[byte]string{2: "Sorenson H.263", 3: "screen video", 4: "VP6", 5: "VP6 with alpha",
		6: "screen video 2"}
	audioCodecs = map[byte]string{0: "PCM", 1: "ADPCM", 2: "MP3", 3: "PCM", 4: "Nellymoser", 5: "Nellymoser",
		6: "Nellymoser", 7: "G.711", 8: "G.711", 11: "Speex", 14: "MP3"}
)

// Bodies reads a video or audio tag, in its first or its enhanced form, and hands out what it carries of
// each track; Data shares b. A body with neither Config, End nor Data carries nothing to decode.
func Bodies(tag uint8, b []byte, do func(*Body) error) error {
	switch {
	case len(b) == 0:
		return nil
	case tag == TagVideo && b[0]&enhancedVideo != 0:
		if b[0]>>4&7 == frameCommand && b[0]&15 != enhancedMeta {
			return nil
		}
		return enhanced("FLV video", b[1:], b[0]&15, multitrackVideo, func(t *Body, packet byte) error {
			t.Key = b[0]>>4&7 == frameKey
			return t.video(packet, do)
		})
	case tag == TagVideo:
		return firstVideo(b, do)
	case b[0]>>4 == enhancedAudio:
		return enhanced("FLV audio", b[1:], b[0]&15, multitrackAudio, func(t *Body, packet byte) error {
			return t.audio(packet, do)
		})
	}
	return firstAudio(b, do)
}

// firstVideo reads: frameType(4) codec(4) | packetType(8) compositionTime(24) | data.
func firstVideo(b []byte, do func(*Body) error) error {
	c := coding.ByFLV(media.Video, b[0]&15)
	if codec := b[0] & 15; c == nil {
		name := videoCodecs[codec]
		if name == "" {
			name = fmt.Sprintf("video codec %d", codec)
		}
		return unsupported(media.Video, name)
	}
	if b[0]>>4 == frameCommand {
		return nil
	}
	if len(b) < 5 {
		return &media.FormatError{Format: "FLV video", Found: fmt.Sprintf("%d bytes", len(b)), Want: "at least 5"}
	}
	v := Body{Codec: c.ID, Key: b[0]>>4 == frameKey, Composition: signed24(b[2:]), Data: b[5:]}
	switch b[1] {
	case packetConfig:
		v.Config = true
	case packetCoded:
	case packetEnd:
		v.End, v.Data = true, nil
	default:
		return &media.FormatError{Format: "FLV video", Found: fmt.Sprintf("AVC packet type %d", b[1]), Want: "0, 1 or 2"}
	}
	return do(&v)
}

// firstAudio reads: format(4) rate(2) size(1) type(1) | packetType(8) | data.
func firstAudio(b []byte, do func(*Body) error) error {
	c := coding.ByFLV(media.Audio, b[0]>>4)
	if codec := b[0] >> 4; c == nil {
		name := audioCodecs[codec]
		if name == "" {
			name = fmt.Sprintf("audio codec %d", codec)
		}
		return unsupported(media.Audio, name)
	}
	if !c.FLVPacket {
		return do(&Body{Codec: c.ID, Data: b[1:], Bare: bare(c.ID, b[0])})
	}
	if len(b) < 2 {
		return &media.FormatError{Format: "FLV audio", Found: "1 byte", Want: "at least 2"}
	}
	return do(&Body{Codec: c.ID, Config: b[1] == packetConfig, Data: b[2:]})
}

// soundBits are what a tag's first byte says of sound: 44.1 kHz, 16 bits and two channels where nobody knows.
func soundBits(bare []byte) byte {
	const known, usual = 7, 0x0f
	if len(bare) != known {
		return usual
	}
	rate := slices.Index(soundRates[:], int(binary.BigEndian.Uint32(bare[2:])))
	return byte(max(rate, 0))<<2 | (bare[1]/8-1)<<1 | (bare[6] - 1)
}

// soundRates are the rates by their number (E.4.2.1), samples per second.
var soundRates = [...]int{5512, 11025, 22050, 44100}

// bare is what a tag's first byte says of sound: format(4) rate(2) size(1) type(1). The rate of logarithmic
// samples, by a table of one byte each, is always 8000 Hz.
func bare(c media.Codec, first byte) []byte {
	return coding.BareSound(c, soundRates[first>>2&3], 8+8*int(first>>1&1), 1+int(first&1))
}

func signed24(b []byte) int32 {
	return int32(uint32(b[0])<<24|uint32(b[1])<<16|uint32(b[2])<<8) >> 8
}

func unsupported(kind media.Kind, what string) error {
	labels := coding.Labels(kind)
	n := len(labels) - 1
	return &media.UnsupportedError{Format: "FLV " + kind.String(), What: what,
		Do: "set the encoder to " + strings.Join(labels[:n], ", ") + " or " + labels[n]}
}

// enhanced reads what follows the first byte: modifiers, then one track behind its FourCC, or several:
//
//	{ size-1(8) [size-1(16)] data type(4) packetType(4) }            modifiers; of type 0: nanoseconds(24)
//	fourCC(32) body                                                  one track
//	kind(4) packetType(4) [fourCC(32)] { [fourCC(32)] track(8) [size(24)] body }
//
//large:follows the syntax of the enhanced form, field by field
func enhanced(format string, b []byte, packet, multitrack byte, each func(t *Body, packet byte) error) error {
	short := func(want string) error {
		return &media.FormatError{Format: format, Found: fmt.Sprintf("%d bytes behind an enhanced header", len(b)),
			Want: want}
	}
	nanos := int32(0)
	for packet == enhancedModifier {
		if len(b) < 1 {
			return short("a modifier")
		}
		size, at := int(b[0])+1, 1
		if size == 256 {
			if len(b) < 3 {
				return short("a modifier")
			}
			size, at = int(b[1])<<8+int(b[2])+1, 3
		}
		if len(b) < at+size+1 {
			return short("a modifier and a packet type")
		}
		if kind := b[at+size] >> 4; kind == modifierNanos && size >= 3 {
			if nanos = int32(b[at])<<16 | int32(b[at+1])<<8 | int32(b[at+2]); nanos >= maxNanos {
				return &media.FormatError{Format: format, Found: fmt.Sprintf("%d nanoseconds beside the stamp", nanos),
					Want: fmt.Sprintf("less than %d", maxNanos)}
			}
		}
		packet, b = b[at+size]&15, b[at+size+1:]
	}
	fourCC := func() (string, error) {
		if len(b) < fourCCSize {
			return "", short("a FourCC")
		}
		code := string(b[:fourCCSize])
		b = b[fourCCSize:]
		return code, nil
	}
	if packet != multitrack {
		code, err := fourCC()
		if err != nil {
			return err
		}
		return one(format, code, &Body{Nanos: nanos, Data: b}, packet, each)
	}
	if len(b) < 1 {
		return short("the kind of its tracks")
	}
	kind, code := b[0]>>4, ""
	packet, b = b[0]&15, b[1:]
	var err error
	if kind != multitrackCodecs {
		if code, err = fourCC(); err != nil {
			return err
		}
	}
	for tracks := 0; len(b) > 0; tracks++ {
		if tracks == maxTracksInMessage {
			return &media.FormatError{Format: format, Found: "more tracks in one message",
				Want: fmt.Sprintf("%d at most", maxTracksInMessage)}
		}
		if kind == multitrackCodecs {
			if code, err = fourCC(); err != nil {
				return err
			}
		}
		if len(b) < 1 {
			return short("a track's number")
		}
		t := &Body{Track: b[0], Nanos: nanos}
		b = b[1:]
		size := len(b)
		if kind != multitrackOne {
			if len(b) < 3 {
				return short("a track's size")
			}
			if size = int(b[0])<<16 | int(b[1])<<8 | int(b[2]); size > len(b)-3 {
				return short(fmt.Sprintf("%d bytes of track %d", size, t.Track))
			}
			b = b[3:]
		}
		t.Data, b = b[:size], b[size:]
		if err := one(format, code, t, packet, each); err != nil {
			return err
		}
	}
	return nil
}

func one(format, code string, t *Body, packet byte, each func(*Body, byte) error) error {
	c := coding.ByFourCC(code)
	kind := media.Video
	if format == "FLV audio" {
		kind = media.Audio
	}
	if c == nil || c.Kind != kind {
		return unsupported(kind, fmt.Sprintf("%s codec %q", kind, code))
	}
	t.Codec = c.ID
	return each(t, packet)
}

func (t *Body) video(packet byte, do func(*Body) error) error {
	switch packet {
	case enhancedStart:
		t.Config = true
	case enhancedCoded:
		if coding.Find(t.Codec).Composition {
			if len(t.Data) < 3 {
				return &media.FormatError{Format: "FLV video", Found: fmt.Sprintf("%d bytes behind the FourCC",
					len(t.Data)), Want: "at least 3, the composition time"}
			}
			t.Composition, t.Data = signed24(t.Data), t.Data[3:]
		}
	case enhancedCodedX:
	case enhancedEnd:
		t.End, t.Data = true, nil
	case enhancedMeta:
		t.Colour, t.Light = colourInfo(t.Data)
		t.Data = nil
	default:
		return &media.UnsupportedError{Format: "FLV video", What: fmt.Sprintf("packet type %d of the enhanced form",
			packet), Do: "send sequence starts and encoded frames"}
	}
	return do(t)
}

func (t *Body) audio(packet byte, do func(*Body) error) error {
	switch packet {
	case enhancedStart:
		t.Config = true
	case enhancedCoded:
	case enhancedEnd:
		t.End, t.Data = true, nil
	case enhancedMeta:
		t.Data = nil
	default:
		return &media.UnsupportedError{Format: "FLV audio", What: fmt.Sprintf("packet type %d of the enhanced form",
			packet), Do: "send sequence starts and encoded frames"}
	}
	return do(t)
}

// Marshal writes a body: in the first form what that has a number for, else in the enhanced form.
func (t *Body) Marshal() []byte {
	c := coding.Find(t.Codec)
	switch {
	case t.Track != 0 || t.Nanos > 0 || c.FLV == 0:
	case c.Kind == media.Audio && !c.FLVPacket:
		return append([]byte{c.FLV<<4 | soundBits(t.Bare)}, t.Data...)
	default:
		return t.first(c.FLV)
	}
	packet := byte(enhancedCoded)
	switch {
	case t.Config:
		packet = enhancedStart
	case t.End:
		packet = enhancedEnd
	}
	first := byte(enhancedAudio << 4)
	multitrack := byte(multitrackAudio)
	if c.Kind == media.Video {
		first, multitrack = enhancedVideo|frameInter<<4, multitrackVideo
		if t.Key || t.Config {
			first = enhancedVideo | frameKey<<4
		}
	}
	kind := packet
	if t.Track != 0 {
		kind = multitrack
	}
	b := []byte{first | kind}
	if t.Nanos > 0 {
		b = []byte{first | enhancedModifier, 3 - 1, byte(t.Nanos >> 16), byte(t.Nanos >> 8), byte(t.Nanos), modifierNanos<<4 | kind}
	}
	if t.Track != 0 {
		b = append(b, multitrackOne<<4|packet)
	}
	b = append(b, c.FourCC...)
	if t.Track != 0 {
		b = append(b, t.Track)
	}
	if c.Composition && packet == enhancedCoded {
		b = append(b, byte(t.Composition>>16), byte(t.Composition>>8), byte(t.Composition))
	}
	return append(b, t.Data...)
}

// first writes a body in the first form. The rate and type bits of sound are fixed there.
func (t *Body) first(codec uint8) []byte {
	packet := byte(packetCoded)
	switch {
	case t.Config:
		packet = packetConfig
	case t.End:
		packet = packetEnd
	}
	if codec == audioAAC {
		return append([]byte{codec<<4 | 0x0f, packet}, t.Data...)
	}
	frame := byte(frameInter)
	if t.Key || t.Config {
		frame = frameKey
	}
	b := make([]byte, 0, 5+len(t.Data))
	b = append(b, frame<<4|codec, packet, byte(t.Composition>>16), byte(t.Composition>>8), byte(t.Composition))
	return append(b, t.Data...)
}

// VideoBody is the body of a video tag in the first form.
type VideoBody struct {
	Key         bool
	Config      bool  // Data is an AVCDecoderConfigurationRecord
	End         bool  // the end of a sequence: no data
	Composition int32 // milliseconds from decode to presentation
	Data        []byte
}

// Unmarshal reads a body of the only track, of the first form's codec; Data shares b.
func (v *VideoBody) Unmarshal(b []byte) error {
	*v = VideoBody{}
	return Bodies(TagVideo, b, func(t *Body) error {
		if t.Track != 0 || coding.Find(t.Codec).FLV == 0 {
			return unsupported(media.Video, fmt.Sprintf("track %d of %s", t.Track, coding.Label(t.Codec)))
		}
		*v = VideoBody{Key: t.Key, Config: t.Config, End: t.End, Composition: t.Composition, Data: t.Data}
		return nil
	})
}

// Marshal writes a body.
func (v *VideoBody) Marshal() []byte {
	b := Body{Key: v.Key, Config: v.Config, End: v.End, Composition: v.Composition, Data: v.Data}
	return b.first(videoAVC)
}

// AudioBody is the body of an audio tag in the first form.
type AudioBody struct {
	Config bool // Data is an AudioSpecificConfig
	Data   []byte
}

// Unmarshal reads a body of the only track, of the first form's codec; Data shares b.
func (a *AudioBody) Unmarshal(b []byte) error {
	*a = AudioBody{}
	return Bodies(TagAudio, b, func(t *Body) error {
		if t.Track != 0 || !coding.Find(t.Codec).FLVPacket {
			return unsupported(media.Audio, fmt.Sprintf("track %d of %s", t.Track, coding.Label(t.Codec)))
		}
		*a = AudioBody{Config: t.Config, Data: t.Data}
		return nil
	})
}

// Marshal writes a body.
func (a *AudioBody) Marshal() []byte {
	b := Body{Config: a.Config, Data: a.Data}
	return b.first(audioAAC)
}

// Track reads the configuration of a codec of the first form.
func Track(codec media.Codec, config []byte) (media.Track, error) {
	s, err := coding.Open(coding.Find(codec), config)
	if err != nil {
		return media.Track{}, err
	}
	t, _ := s.Track()
	return t, nil
}
