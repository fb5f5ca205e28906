// Package coding is the one table of codecs: what each is called, how it lies in containers, how long its
// frames are and where decoding may start. Containers, protocols and status ask here and know no codec
// by name. To add a codec, write a package for its syntax on the floor below and a row here.
package coding

import (
	"fmt"

	"metaplasis/internal/core/ac3"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/mjpeg"
	"metaplasis/internal/core/mpega"
	"metaplasis/internal/core/mpegv"
	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/pcm"
	"metaplasis/internal/core/rawvideo"
	"metaplasis/internal/core/vp8"
	"metaplasis/internal/core/vp9"
)

// Codec is a row of the table.
//
//large:one row of the table of codecs: what there is to know of each
type Codec struct {
	ID     media.Codec
	Kind   media.Kind
	Label  string // for people
	FLV    uint8  // number in the first form of FLV (annex E.4.2.1 and E.4.3.1); 0 when it has none
	FourCC string // of FLV and RTMP in their enhanced form (version 2, "Defining additional codecs")

	// In ISO media files: the sample entry, the box in it that holds the configuration, and the version of
	// that box; without one it is a plain box.
	Entry, Box string
	BoxVersion int

	// In transport streams: stream_type of ISO/IEC 13818-1, table 2-34; 0 when we write none.
	StreamType uint8
	// The configuration lies in an elementary stream descriptor of this objectTypeIndication (ISO/IEC
	// 14496-1, 7.2.6.6, table 5); 0: it does not.
	ObjectType byte
	// Bytes of decode-to-presentation time stand in front of the data in enhanced FLV.
	Composition bool
	// Most browsers play it.
	Web bool
	// In segments, most browsers take it as its own frames alone, not in ISO media files.
	Packed bool
	// The workers have a decoder of it, an encoder.
	Decoded, Encoded bool
	// Profiles and levels that an encoder can be held to; sizes of levels are counted in blocks of so many samples a side.
	Profiles   []string
	Levels     []Level
	LevelBlock int
	// FixedRate is the only rate of sound, samples per second; 0 for any.
	FixedRate int
	// Cost is what an encoder takes at efforts 1 to 9, in nanoseconds of a 2.5 GHz processor a sample of luma.
	Cost [9]int
	// Tags of the first form of FLV have a byte before the data that tells a configuration from frames.
	FLVPacket bool
	// The first access unit may begin a track without any configuration before it.
	SelfDescribing bool

	track        func(config []byte) (media.Track, error)              // of what a sender announces
	complete     func(t *media.Track, unit []byte) error               // adds what only an access unit tells; nil when the configuration is enough
	unit         func(data []byte, lengthSize int) (Unit, error)       // one access unit as the container brings it
	length       func(config []byte) (size int)                        // bytes before each NAL unit
	uncompressed bool                                                  // the container describes it: see BareSound
	bare         func(config []byte) []byte                            // what its box holds of the configuration; nil: all
	renew        func(t *media.Track, unit []byte) (media.Track, bool) // what a random access point changes
	look         func(data []byte) Picture
	leading      func(data []byte) bool               // whether an access unit needs what lies before its random access point
	first        func(nal []byte) (slice, first bool) // whether a NAL unit is a slice, and the first of its picture
	captions     func(data []byte) [][]byte
	caption      func(data []byte, list [][]byte) []byte // puts captions into a unit
	// The header that a frame of so many bytes has outside of ISO media files.
	frameHeader func(config []byte) (func(size int) []byte, error)
	// Writes units as transport streams hold them.
	transport func(config []byte) func(dst, unit []byte, key bool) []byte
	config    func(record, unit []byte) []byte // puts the configuration in front of a unit
	// Reads elementary streams, from a configuration that was told apart from the stream, nil for none.
	elementary func(config []byte) cutter
	syncByte   byte // that frames of sound begin with, 0: any

	// How transport streams name it, beside StreamType: stream types, the format_identifier of a registration
	// descriptor (ISO/IEC 13818-1, 2.6.8), and descriptors of private streams (ETSI EN 300 468, 6.1; from 0x100
	// on those behind an extension descriptor).
	streamTypes   []uint8
	registrations []string
	descriptors   []uint16
	// In transport streams for lines: the stream type, 0 when it is not carried, and what writes its units where that
	// is neither transport nor frameHeader.
	line      uint8
	lineWrite func(config []byte) func(dst, unit []byte, key bool) []byte
	sets      func(config []byte) [][]byte
	rtpConfig func(RTPFormat) []byte // of what a session description says
	// RTP is the encoding name of its payload format (RFC 4855), "" when none is read.
	RTP string
}

// plainBox is BoxVersion of a box without a version.
const plainBox = -1

// Unit is an access unit in the form in which the origin holds it.
type Unit struct {
	Data []byte
	Key  bool
}

// Picture is what an access unit of video tells of where decoding may start.
type Picture struct {
	Random   bool // here, with nothing of before
	Recovery bool // here, and pictures are right After frames later (H.264: a recovery point)
	After    int
	Intra    bool // it refers to no other picture
	// No other picture refers to it: a decoder may leave it out.
	Disposable bool
	// It follows a random access point in decode order and refers to what lies before that: who begins there leaves it out
	// (of HEVC, RASL).
	Leading bool
}

// The table. Rows are in the order in which people look for them.
var table = [...]Codec{
	{
		ID: media.H264, Kind: media.Video, Web: true, Label: "H.264", Decoded: true, FLV: 7, FourCC: "avc1", Entry: "avc1", Box: "avcC", BoxVersion: plainBox,
		first: avcFirst, StreamType: 0x1b, Composition: true, Encoded: true, Profiles: []string{"baseline", "main", "high"}, Levels: avcLevels, LevelBlock: 16, Cost: [9]int{4, 9, 13, 20, 31, 36, 55, 80, 137}, track: avcTrack, unit: avcUnit, length: avcLength, renew: avcRenew, look: avcLook,
		captions: avc.Captions, caption: avcCaption, config: avc.WithSets, transport: avcTransport,
		elementary: avcElementary, RTP: "H264", line: 0x1b, rtpConfig: avcRTPConfig, sets: avcSets,
	},
	{
		ID: media.HEVC, Kind: media.Video, Web: true, Label: "HEVC", Decoded: true, Encoded: true, FourCC: "hvc1", Entry: "hvc1", Box: "hvcC", BoxVersion: plainBox,
		Composition: true, Profiles: []string{"main"}, Levels: hevcLevels, LevelBlock: 1, Cost: [9]int{51, 56, 71, 77, 82, 106, 106, 280, 1760}, track: hevcTrack, unit: hevcUnit, length: hevcLength,
		look: func(b []byte) Picture { return Picture{Random: hevc.HasIRAP(b), Leading: hevc.HasSkipped(b)} }, first: hevcFirst, leading: hevc.HasSkipped,
		elementary: hevcElementary, streamTypes: []uint8{0x24}, registrations: []string{"HEVC"}, RTP: "H265", line: 0x24, lineWrite: hevcLine, rtpConfig: hevcRTPConfig, sets: hevcSets,
	},
	{
		ID: media.VP9, Kind: media.Video, Web: true, Label: "VP9", Decoded: true, FourCC: "vp09", Entry: "vp09", Box: "vpcC", BoxVersion: 1, Encoded: true, Cost: [9]int{15, 15, 15, 16, 17, 20, 25, 25, 32},
		track: vp9Track, complete: vp9.Complete, unit: vp9Unit, renew: renewBy(vp9.Complete), look: vp9Look,
		elementary: vp9Elementary, RTP: "VP9",
	},
	{
		ID: media.VP8, Kind: media.Video, Label: "VP8", Decoded: true, FourCC: "vp08", Entry: "vp08", Box: "vpcC", BoxVersion: 1, SelfDescribing: true,
		track: vp8.Track, complete: vp8.Complete, unit: vp8Unit, renew: renewBy(vp8.Complete), look: vp8Look,
		elementary: wholeUnits, RTP: "VP8",
	},
	{
		ID: media.AV1, Kind: media.Video, Web: true, Label: "AV1", Decoded: true, Encoded: true, FourCC: "av01", Entry: "av01", Box: "av1C", BoxVersion: plainBox, Cost: [9]int{46, 51, 54, 62, 125, 190, 190, 190, 190},
		track: av1Track, complete: av1.Complete, unit: av1Unit, renew: renewBy(av1.Complete), look: av1Look,
		elementary: av1Elementary, registrations: []string{"AV01"}, RTP: "AV1",
	},
	{
		ID: media.MPEG2, Kind: media.Video, Label: "MPEG-2 video", Decoded: true, Entry: "mp4v", Box: "esds", ObjectType: 0x61, StreamType: 0x02,
		SelfDescribing: true, track: bareTrack(media.Video, media.MPEG2), complete: mpegv.Complete, unit: mpegvUnit, renew: renewBy(mpegv.Complete), look: mpegvLook,
		elementary: mpegvElementary, streamTypes: []uint8{0x01}, RTP: "MPV", line: 0x02,
	},
	{
		ID: media.JPEG, Kind: media.Video, Label: "JPEG", Decoded: true, SelfDescribing: true, track: mjpeg.Track, complete: mjpeg.Complete, unit: stillUnit,
		renew: renewBy(mjpeg.Complete), look: func([]byte) Picture { return Picture{Random: true} }, elementary: wholeUnits, RTP: "JPEG",
	},
	{
		ID: media.RawVideo, Kind: media.Video, Label: "raw video", Decoded: true, track: rawvideo.Track, unit: stillUnit,
		look: func([]byte) Picture { return Picture{Random: true} }, elementary: wholeUnits, RTP: "RAW", rtpConfig: rawRTPConfig,
	},
	{
		ID: media.AAC, Kind: media.Audio, Web: true, Label: "AAC", Decoded: true, FLV: 10, FLVPacket: true, FourCC: "mp4a", Entry: "mp4a", Box: "esds", ObjectType: 0x40, StreamType: 0x0f, Encoded: true, frameHeader: aacHeader,
		track: aacTrack, unit: frameUnit,
		elementary: aacElementary, syncByte: 0xff, RTP: "MPEG4-GENERIC", line: 0x0f, rtpConfig: aacRTPConfig,
	},
	{
		ID: media.Opus, Kind: media.Audio, Web: true, Label: "Opus", Decoded: true, Encoded: true, FourCC: "Opus", Entry: "Opus", Box: "dOps", BoxVersion: plainBox,
		FixedRate: opus.SampleRate, track: opusTrack, complete: opus.Complete, unit: frameUnit,
		elementary: opusElementary, syncByte: 0x7f, registrations: []string{"Opus"}, descriptors: []uint16{0x180}, RTP: "OPUS", line: 0x06, lineWrite: opusLine, rtpConfig: opusRTPConfig,
	},
	{
		ID: media.MP3, Kind: media.Audio, Web: true, Packed: true, Label: "MP3", Decoded: true, FLV: 2, FourCC: ".mp3", Entry: "mp4a", Box: "esds", ObjectType: 0x6b, StreamType: 0x03,
		SelfDescribing: true, track: bareTrack(media.Audio, media.MP3), complete: mpega.Complete, unit: frameUnit,
		elementary: mpegaElementary, streamTypes: []uint8{0x04}, syncByte: 0xff, RTP: "MPA", line: 0x03,
	},
	{
		ID: media.MP2, Kind: media.Audio, Label: "MP2", Decoded: true, Entry: "mp4a", Box: "esds", ObjectType: 0x6b, StreamType: 0x03,
		SelfDescribing: true, track: bareTrack(media.Audio, media.MP2), complete: mpega.Complete, unit: frameUnit,
		elementary: mpegaElementary, syncByte: 0xff, line: 0x03,
	},
	{
		ID: media.AC3, Kind: media.Audio, Label: "AC-3", Decoded: true, FourCC: "ac-3", Entry: "ac-3", Box: "dac3", BoxVersion: plainBox,
		SelfDescribing: true, track: bareTrack(media.Audio, media.AC3), complete: ac3.Complete, unit: frameUnit,
		elementary: ac3Elementary, syncByte: 0x0b, streamTypes: []uint8{0x81}, registrations: []string{"AC-3"}, descriptors: []uint16{0x6a}, RTP: "AC3", line: 0x81,
	},
	{
		ID: media.EAC3, Kind: media.Audio, Label: "E-AC-3", FourCC: "ec-3", Entry: "ec-3", Box: "dec3", BoxVersion: plainBox,
		SelfDescribing: true, track: bareTrack(media.Audio, media.EAC3), complete: ac3.Complete, unit: frameUnit,
		elementary: ac3Elementary, syncByte: 0x0b, streamTypes: []uint8{0x87}, registrations: []string{"EAC3"}, descriptors: []uint16{0x7a}, RTP: "EAC3", line: 0x87,
	},
	{
		ID: media.ALaw, Kind: media.Audio, Label: "G.711 A-law", Decoded: true, FLV: 7, Entry: "alaw", SelfDescribing: true,
		uncompressed: true, track: pcmTrack(media.ALaw), complete: pcm.Complete, unit: frameUnit,
		elementary: wholeUnits, RTP: "PCMA", rtpConfig: pcmRTPConfig(media.ALaw),
	},
	{
		ID: media.ULaw, Kind: media.Audio, Label: "G.711 \u00b5-law", Decoded: true, FLV: 8, Entry: "ulaw", SelfDescribing: true,
		uncompressed: true, track: pcmTrack(media.ULaw), complete: pcm.Complete, unit: frameUnit,
		elementary: wholeUnits, RTP: "PCMU", rtpConfig: pcmRTPConfig(media.ULaw),
	},
	{
		ID: media.PCM, Kind: media.Audio, Label: "PCM", Decoded: true, FLV: 3, Entry: "ipcm", Box: "pcmC", SelfDescribing: true,
		uncompressed: true, track: pcmTrack(media.PCM), complete: pcm.Complete, unit: frameUnit, bare: pcm.Box,
		elementary: wholeUnits, RTP: "L16", rtpConfig: pcmRTPConfig(media.PCM),
	},
	{ID: media.ID3, Kind: media.Data, Label: "ID3", StreamType: 0x15},
	{ID: media.SCTE35, Kind: media.Data, Label: "SCTE 35", StreamType: 0x86},
	{ID: media.Captions, Kind: media.Data, Label: "captions"},
	{ID: media.WebVTT, Kind: media.Data, Label: "WebVTT", Entry: "wvtt", Box: "vttC", BoxVersion: plainBox,
		track: func([]byte) (media.Track, error) { return texts("", ""), nil }, unit: frameUnit},
	{ID: media.Teletext, Kind: media.Data, Label: "teletext", StreamType: 0x06, descriptors: []uint16{0x56}},
	{ID: media.Subtitles, Kind: media.Data, Label: "DVB subtitles", StreamType: 0x06, descriptors: []uint16{0x59}},
}

func find(fits func(*Codec) bool) *Codec {
	for i := range table {
		if fits(&table[i]) {
			return &table[i]
		}
	}
	return nil
}

// Find returns the row of a codec, nil when there is none.
func Find(id media.Codec) *Codec { return find(func(c *Codec) bool { return c.ID == id }) }

// ByFourCC returns the row of a FourCC of enhanced FLV, nil when there is none.
func ByFourCC(code string) *Codec {
	return find(func(c *Codec) bool { return c.FourCC == code && code != "" })
}

// ByEntry returns the row of a sample entry of ISO media files, and of the objectTypeIndication in its
// descriptor where it has one (0 when that is not known); nil when there is none.
func ByEntry(entry string, objectType byte) *Codec {
	switch objectType {
	case 0x69: // the low rates of MPEG audio
		objectType = 0x6b
	case 0x60, 0x62, 0x63, 0x64, 0x65, 0x6a: // profiles of MPEG-2 video, and MPEG-1 video
		objectType = 0x61
	}
	switch entry { // entries whose parameter sets may also stand among the media (ISO/IEC 14496-15, 5.3.3 and 8.3.3)
	case "avc3":
		entry = "avc1"
	case "hev1":
		entry = "hvc1"
	}
	return find(func(c *Codec) bool { return c.Entry == entry && (objectType == 0 || c.ObjectType == objectType) })
}

// ByBox returns the row whose configuration lies in a box of ISO media files, nil when there is none.
func ByBox(kind string) *Codec {
	return find(func(c *Codec) bool { return c.Box == kind && kind != "" })
}

// ByFLV returns the row of a number of the first form of FLV, nil when there is none.
func ByFLV(kind media.Kind, number uint8) *Codec {
	return find(func(c *Codec) bool { return c.Kind == kind && c.FLV == number && number != 0 })
}

// FourCCs lists the codecs of a kind, as RTMP announces them.
func FourCCs(k media.Kind) (out []string) {
	for i := range table {
		if table[i].Kind == k && table[i].FourCC != "" {
			out = append(out, table[i].FourCC)
		}
	}
	return out
}

// BareSound returns the configuration of sound that its container describes, nil of a codec that describes
// itself: samples per second, bits of a sample, channels. Codecs of one byte a sample have a rate of their own.
func BareSound(id media.Codec, rate, bits, channels int) []byte {
	if c := Find(id); c == nil || !c.uncompressed {
		return nil
	}
	f := pcm.Format{Codec: id, Rate: rate, Channels: channels, Bits: bits, LittleEndian: true}
	if id != media.PCM {
		f.Rate, f.Bits, f.LittleEndian = 8000, 8, false
	}
	return f.Marshal()
}

// Encoded lists the codecs of a kind that the workers encode, the usual one first.
func Encoded(k media.Kind) (out []media.Codec) {
	for i := range table {
		if table[i].Kind == k && table[i].Encoded {
			out = append(out, table[i].ID)
		}
	}
	return out
}

// OverRTP lists the codecs of a kind that have a payload format of RTP.
func OverRTP(k media.Kind) (out []*Codec) {
	for i := range table {
		if table[i].Kind == k && table[i].RTP != "" {
			out = append(out, &table[i])
		}
	}
	return out
}

// Usual is the codec in which a rendition of a kind is encoded when nobody says.
func Usual(k media.Kind) media.Codec { return Encoded(k)[0] }

// RealTimes lists the codecs of a kind that WebRTC carries as a rule (RFC 7742; RFC 7874; and the payload formats of VP9
// and AV1).
func RealTimes(k media.Kind) []media.Codec {
	if k == media.Audio {
		return []media.Codec{media.Opus}
	}
	return []media.Codec{media.H264, media.VP8, media.VP9, media.AV1}
}

// RealTime is the codec in which a kind is encoded for viewers over WebRTC: one that all browsers take (RFC 7742, 5; RFC
// 7874, 3).
func RealTime(k media.Kind) media.Codec {
	if k == media.Audio {
		return media.Opus
	}
	return media.H264
}

// Labels lists the codecs of a kind that FLV and RTMP carry, for people.
func Labels(k media.Kind) (out []string) {
	for i := range table {
		if c := &table[i]; c.Kind == k && (c.FLV != 0 || c.FourCC != "") {
			out = append(out, c.Label)
		}
	}
	return out
}

// Transportable reports whether transport streams and packed audio as we write them hold a track.
func Transportable(t *media.Track) bool {
	c := Find(t.Codec)
	if c == nil || c.StreamType == 0 || c.Kind == media.Data {
		return false
	}
	_, err := FrameHeader(t)
	return err == nil
}

// Bare reports whether the codec's sound is described by its container alone, whose sample entry tells all.
func (c *Codec) Bare() bool { return c.uncompressed }

// BoxConfig returns what the box of a codec holds of its configuration.
func (c *Codec) BoxConfig(config []byte) []byte {
	if c.bare != nil {
		return c.bare(config)
	}
	return config
}

// Order is where a codec stands in the table, behind all others when it has no row.
func Order(id media.Codec) int {
	for i := range table {
		if table[i].ID == id {
			return i
		}
	}
	return len(table)
}

// Label is what people call a codec.
func Label(id media.Codec) string {
	if c := Find(id); c != nil {
		return c.Label
	}
	return string(id)
}

// Data describes a track of timed data.
func Data(id media.Codec, name string) media.Track {
	return media.Track{Kind: media.Data, Codec: id, Label: Label(id), Name: name}
}

// Look tells where decoding may start. Of a codec that has no row, nothing is known.
func Look(id media.Codec, data []byte) Picture {
	if c := Find(id); c != nil && c.look != nil {
		return c.look(data)
	}
	return Picture{}
}

// Leading reports whether a picture needs what lies before the random access point that it follows: Picture.Leading.
func Leading(id media.Codec, data []byte) bool {
	c := Find(id)
	return c != nil && c.leading != nil && c.leading(data)
}

// Renew returns the track as it is from an access unit on at which decoding may start, and whether that
// differs from what it was: parameter sets may come along with the media.
func Renew(t *media.Track, data []byte) (media.Track, bool) {
	if c := Find(t.Codec); c != nil && c.renew != nil {
		out, other := c.renew(t, data)
		return c.judge(out), other
	}
	return *t, false
}

// Captions returns the closed captions (ANSI/CTA-708, cc_data) that an access unit carries.
func Captions(id media.Codec, data []byte) [][]byte {
	if c := Find(id); c != nil && c.captions != nil {
		return c.captions(data)
	}
	return nil
}

// AddCaptions puts captions into an access unit; of a codec that cannot carry them it comes back as it is.
func AddCaptions(id media.Codec, data []byte, list [][]byte) []byte {
	if c := Find(id); c != nil && c.caption != nil && len(list) > 0 {
		return c.caption(data, list)
	}
	return data
}

// FrameHeader returns what writes the header that frames of a track have outside of ISO media files, nil
// when they have none.
func FrameHeader(t *media.Track) (func(size int) []byte, error) {
	if c := Find(t.Codec); c != nil && c.frameHeader != nil {
		return c.frameHeader(t.Config)
	}
	return nil, nil
}

// Transport returns what writes access units of a track as transport streams hold them, nil when they
// are held as they are.
func Transport(t *media.Track) func(dst, unit []byte, key bool) []byte {
	if c := Find(t.Codec); c != nil && c.transport != nil {
		return c.transport(t.Config)
	}
	return nil
}

// WithConfig returns an access unit behind its track's parameter sets, for a decoder that has others.
func WithConfig(t *media.Track, data []byte) []byte {
	if c := Find(t.Codec); c != nil && c.config != nil {
		return c.config(t.Config, data)
	}
	return data
}

// Stream turns what a container carries of one track into access units.
type Stream struct {
	codec      *Codec
	lengthSize int
	track      media.Track
	known      bool
	other      media.Track // what the newest frames of sound say that the track is, where that is another one
	others     int         // how many of them in a row
}

// Open begins a stream with what its sender announced: the configuration as the container carries it,
// nil for a codec that describes itself.
func Open(c *Codec, config []byte) (*Stream, error) {
	if c.track == nil {
		return nil, fmt.Errorf("%s has no row of its own", c.Label)
	}
	t, err := c.track(config)
	if err != nil {
		return nil, err
	}
	s := &Stream{codec: c, track: t, known: c.complete == nil}
	if c.length != nil {
		s.lengthSize = c.length(config)
	}
	return s, nil
}

// Track returns the track, and whether all of it is known: of some codecs only an access unit tells.
func (s *Stream) Track() (t media.Track, known bool) {
	return s.codec.judge(s.track), s.known
}

// judge says what the codec is called, and whether it is read here at all.
func (c *Codec) judge(t media.Track) media.Track {
	t.OnlyCoded = c.Kind == media.Video && c.Entry == ""
	if t.Label = c.Label; !c.Decoded && t.Undecodable == "" {
		t.Undecodable = c.Label
	}
	return t
}

// Decoded lists the codecs of a kind that the workers decode.
func Decoded(k media.Kind) (out []media.Codec) {
	for i := range table {
		if table[i].Kind == k && table[i].Decoded {
			out = append(out, table[i].ID)
		}
	}
	return out
}

// Unit checks an access unit and returns it as the origin holds it. Its data shares data where nothing
// has to be changed.
func (s *Stream) Unit(data []byte) (Unit, error) {
	u, err := s.codec.unit(data, s.lengthSize)
	if err != nil {
		return Unit{}, err
	}
	if !s.known && u.Key {
		if err := s.codec.complete(&s.track, u.Data); err != nil {
			return Unit{}, err
		}
		s.known = s.track.Kind != media.Video || s.track.Width > 0
	} else if s.known && s.track.Kind == media.Audio && s.codec.SelfDescribing && s.codec.complete != nil {
		s.hear(u.Data)
	}
	return u, nil
}

// framesOfOther is how many frames of sound in a row say that their track is another one, until it is: one alone may be damaged.
const framesOfOther = 3

// hear looks whether frames of sound that describe themselves say that their track has become another one.
func (s *Stream) hear(frame []byte) {
	t := s.track
	if s.codec.complete(&t, frame) != nil || t.SamePicture(&s.track) {
		s.others = 0
		return
	}
	if s.others > 0 && !t.SamePicture(&s.other) {
		s.others = 0
	}
	s.other = t
	if s.others++; s.others >= framesOfOther {
		s.track, s.others = t, 0
	}
}

// Texts is a track of text in time.
func Texts(name, language string) media.Track { return texts(name, language) }

func texts(name, language string) media.Track {
	return media.Track{Kind: media.Data, Codec: media.WebVTT, CodecName: "wvtt", Label: "WebVTT", Name: name, Language: language,
		Timescale: media.VideoTimescale, Config: []byte("WEBVTT")}
}

// Still is a track of JPEG pictures of a size.
func Still(width, height int) media.Track {
	t, _ := mjpeg.Track(nil)
	t.Width, t.Height = width, height
	return t
}

// Announced is the track that a configuration tells of; false when the stream itself tells.
func Announced(c *Codec, config []byte) (media.Track, bool) {
	if len(config) == 0 {
		return media.Track{}, false
	}
	s, err := Open(c, config)
	if err != nil {
		return media.Track{}, false
	}
	t, _ := s.Track()
	return t, true
}
