// Package bmff writes and reads the ISO base media file format (ISO/IEC 14496-12) as the
// Common Media Application Format profiles it (ISO/IEC 23000-19): one track a file, a header
// that holds no samples, then segments of one movie fragment and its data.
package bmff

import (
	"cmp"
	"encoding/binary"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// trackID is the only track of every file that we write.
const trackID = 1

// box appends a box of the given type around what body appends.
func box(dst []byte, kind string, body func([]byte) []byte) []byte {
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0)
	dst = append(dst, kind...)
	dst = body(dst)
	binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at))
	return dst
}

// fullBox is a box with a version and flags.
func fullBox(dst []byte, kind string, version byte, flags uint32, body func([]byte) []byte) []byte {
	return box(dst, kind, func(b []byte) []byte {
		return body(u32(b, uint32(version)<<24|flags))
	})
}

func u16(b []byte, v uint16) []byte { return binary.BigEndian.AppendUint16(b, v) }
func u32(b []byte, v uint32) []byte { return binary.BigEndian.AppendUint32(b, v) }
func u64(b []byte, v uint64) []byte { return binary.BigEndian.AppendUint64(b, v) }
func zeros(b []byte, n int) []byte  { return append(b, make([]byte, n)...) }

// matrix is the unity matrix of the movie and track headers.
func matrix(b []byte) []byte {
	for _, v := range [9]uint32{0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000} {
		b = u32(b, v)
	}
	return b
}

// turnedMatrix is the one that turns pictures of a size clockwise (8.2.2 and 8.3.2).
func turnedMatrix(b []byte, degrees, width, height int) []byte {
	const one, minus = 1 << 16, 0xffff0000
	x, y := uint32(width)<<16, uint32(height)<<16
	v := [9]uint32{one, 0, 0, 0, one, 0, 0, 0, 0x40000000}
	switch degrees {
	case 90:
		v = [9]uint32{0, one, 0, minus, 0, 0, y, 0, 0x40000000}
	case 180:
		v = [9]uint32{minus, 0, 0, 0, minus, 0, x, y, 0x40000000}
	case 270:
		v = [9]uint32{0, minus, 0, one, 0, 0, 0, x, 0x40000000}
	}
	for _, u := range v {
		b = u32(b, u)
	}
	return b
}

// Header writes a CMAF header (7.3.1): ftyp and moov.
func Header(t *media.Track) []byte {
	return header("iso6cmfcmp41", [][]media.Track{{*t}})
}

// MovieHeader writes the header of a fragmented file with several tracks: the first has the id 1. Each has one description or several,
// which chunks choose by ChunkOptions.
func MovieHeader(tracks [][]media.Track) []byte { return header("iso6mp41", tracks) }

func header(brands string, tracks [][]media.Track) []byte {
	out := box(nil, "ftyp", func(b []byte) []byte {
		b = append(b, "iso6"...)
		b = u32(b, 0)
		return append(b, brands...)
	})
	return box(out, "moov", func(b []byte) []byte {
		b = fullBox(b, "mvhd", 0, 0, func(b []byte) []byte {
			b = zeros(b, 8)
			b = u32(b, uint32(tracks[0][0].Timescale))
			b = u32(b, 0)       // duration
			b = u32(b, 0x10000) // rate 1.0
			b = u16(b, 0x100)   // volume 1.0
			b = matrix(zeros(b, 10))
			b = zeros(b, 24)
			return u32(b, uint32(len(tracks)+1))
		})
		for i, t := range tracks {
			b = box(b, "trak", func(b []byte) []byte { return trak(b, uint32(i+1), t) })
		}
		return box(b, "mvex", func(b []byte) []byte {
			for i := range tracks {
				b = fullBox(b, "trex", 0, 0, func(b []byte) []byte {
					b = u32(b, uint32(i+1))
					b = u32(b, 1) // sample description
					return zeros(b, 12)
				})
			}
			return b
		})
	})
}

func trak(b []byte, id uint32, descriptions []media.Track) []byte {
	t := &descriptions[0]
	width, height := displaySize(t)
	b = fullBox(b, "tkhd", 0, 7, func(b []byte) []byte {
		b = zeros(b, 8)
		b = u32(b, id)
		b = zeros(b, 16)
		if t.Kind == media.Audio {
			b = u32(zeros(b, 4), 0x01000000) // group 1, volume 1.0
			binary.BigEndian.PutUint16(b[len(b)-6:], 1)
		} else {
			b = zeros(b, 8)
		}
		b = turnedMatrix(b, t.Turned, width, height)
		b = u32(b, uint32(width)<<16)
		return u32(b, uint32(height)<<16)
	})
	return box(b, "mdia", func(b []byte) []byte {
		b = fullBox(b, "mdhd", 0, 0, func(b []byte) []byte {
			b = zeros(b, 8)
			b = u32(b, uint32(t.Timescale))
			b = u32(b, 0)
			b = u16(b, 0x55c4) // "und"
			return u16(b, 0)
		})
		b = handler(b, t.Kind)
		return box(b, "minf", func(b []byte) []byte {
			b = mediaInfo(b, t.Kind)
			return box(b, "stbl", func(b []byte) []byte {
				b = fullBox(b, "stsd", 0, 0, func(b []byte) []byte {
					b = u32(b, uint32(len(descriptions)))
					for i := range descriptions {
						b = sampleEntry(b, &descriptions[i])
					}
					return b
				})
				for _, empty := range []string{"stts", "stsc", "stco"} {
					b = fullBox(b, empty, 0, 0, func(b []byte) []byte { return u32(b, 0) })
				}
				return fullBox(b, "stsz", 0, 0, func(b []byte) []byte { return zeros(b, 8) })
			})
		})
	})
}

// handler writes the box that tells what a track is (8.4.3).
func handler(b []byte, kind media.Kind) []byte {
	handler, name := "vide", "video"
	switch kind {
	case media.Audio:
		handler, name = "soun", "audio"
	case media.Data:
		handler, name = "text", "text"
	}
	return fullBox(b, "hdlr", 0, 0, func(b []byte) []byte {
		b = append(zeros(b, 4), handler...)
		b = append(zeros(b, 12), name...)
		return append(b, 0)
	})
}

// mediaInfo writes the header of a kind of media (12.1.2, 12.2.2), and that its data lies in the file.
func mediaInfo(b []byte, kind media.Kind) []byte {
	switch kind {
	case media.Audio:
		b = fullBox(b, "smhd", 0, 0, func(b []byte) []byte { return zeros(b, 4) })
	case media.Data:
		b = fullBox(b, "nmhd", 0, 0, func(b []byte) []byte { return b })
	default:
		b = fullBox(b, "vmhd", 0, 1, func(b []byte) []byte { return zeros(b, 8) })
	}
	return box(b, "dinf", func(b []byte) []byte {
		return fullBox(b, "dref", 0, 0, func(b []byte) []byte {
			return fullBox(u32(b, 1), "url ", 0, 1, func(b []byte) []byte { return b })
		})
	})
}

// sampleEntry writes the description of a track's samples (8.5.2).
func sampleEntry(b []byte, t *media.Track) []byte {
	switch t.Kind {
	case media.Audio:
		return audioEntry(b, t)
	case media.Data:
		return textEntry(b, t)
	}
	return videoEntry(b, t)
}

// displaySize is the encoded size widened by the sample aspect ratio.
func displaySize(t *media.Track) (int, int) {
	if t.SAR.Valid() {
		return int(media.Rescale(int64(t.Width), t.SAR.Den, t.SAR.Num)), t.Height
	}
	return t.Width, t.Height
}

// configBox writes the box that holds a codec's configuration.
func configBox(b []byte, c *coding.Codec, config []byte) []byte {
	switch {
	case c.Box == "":
		return b
	case c.ObjectType != 0:
		config = descriptor(c, config)
	default:
		config = c.BoxConfig(config)
	}
	body := func(b []byte) []byte { return append(b, config...) }
	if c.BoxVersion < 0 {
		return box(b, c.Box, body)
	}
	return fullBox(b, c.Box, byte(c.BoxVersion), 0, body)
}

// videoEntry is a visual sample entry (12.1.3) with its aspect ratio and colour.
func videoEntry(b []byte, t *media.Track) []byte {
	codec := coding.Find(t.Codec)
	return box(b, codec.Entry, func(b []byte) []byte {
		b = u16(zeros(b, 6), 1)
		b = zeros(b, 16)
		b = u16(b, uint16(t.Width))
		b = u16(b, uint16(t.Height))
		b = u32(b, 0x480000) // 72 dots an inch
		b = u32(b, 0x480000)
		b = u16(zeros(b, 4), 1)
		b = zeros(b, 32)
		b = u16(b, 0x18)
		b = u16(b, 0xffff)
		b = configBox(b, codec, t.Config)
		if t.SAR.Valid() && t.SAR.Num != t.SAR.Den {
			b = box(b, "pasp", func(b []byte) []byte {
				return u32(u32(b, uint32(t.SAR.Num)), uint32(t.SAR.Den))
			})
		}
		if c := t.Colour; c != (media.Colour{}) {
			b = box(b, "colr", func(b []byte) []byte { // ISO/IEC 14496-12, 12.1.5
				b = append(b, "nclx"...)
				for _, v := range []uint8{c.Primaries, c.Transfer, c.Matrix} {
					b = u16(b, uint16(cmp.Or(v, 2)))
				}
				full := byte(0)
				if c.FullRange {
					full = 0x80
				}
				return append(b, full)
			})
		}
		return lightBoxes(b, t.Light)
	})
}

// lightBoxes writes what is known of a high dynamic range (12.1.6 and 12.1.7).
func lightBoxes(b []byte, l *media.Light) []byte {
	if l == nil {
		return b
	}
	if l.Display != [8]int{} {
		b = box(b, "mdcv", func(b []byte) []byte {
			for _, i := range []int{2, 3, 4, 5, 0, 1, 6, 7} { // green, blue, red, white
				b = u16(b, uint16(l.Display[i]))
			}
			return u32(u32(b, uint32(l.Brightest)), uint32(l.Darkest))
		})
	}
	if l.MaxContent+l.MaxAverage > 0 {
		b = box(b, "clli", func(b []byte) []byte { return u16(u16(b, uint16(l.MaxContent)), uint16(l.MaxAverage)) })
	}
	return b
}

// audioEntry is an audio sample entry (12.2.3). MPEG-4 audio describes itself by an elementary stream
// descriptor (ISO/IEC 14496-14, 5.6.1; ISO/IEC 14496-1, 7.2.6).
func audioEntry(b []byte, t *media.Track) []byte {
	codec := coding.Find(t.Codec)
	return box(b, codec.Entry, func(b []byte) []byte {
		b = u16(zeros(b, 6), 1)
		b = zeros(b, 8)
		b = u16(b, uint16(t.Channels))
		b = u16(b, 16)
		b = u32(zeros(b, 4), uint32(min(t.SampleRate, 65535))<<16)
		return configBox(b, codec, t.Config)
	})
}

// textEntry is a sample entry of text (ISO/IEC 14496-30, 6.5).
func textEntry(b []byte, t *media.Track) []byte {
	codec := coding.Find(t.Codec)
	return box(b, codec.Entry, func(b []byte) []byte { return configBox(u16(zeros(b, 6), 1), codec, t.Config) })
}

// descriptor wraps a configuration (ISO/IEC 14496-1, 7.2.6.5 and 7.2.6.6).
func descriptor(c *coding.Codec, config []byte) []byte {
	const visual, audio = 0x11, 0x15 // streamType, and a bit that is always 1
	kind := byte(audio)
	if c.Kind == media.Video {
		kind = visual
	}
	var info []byte
	if len(config) > 0 {
		info = tagged(5, config)
	}
	decoder := zeros([]byte{c.ObjectType, kind, 0, 0, 0}, 8)                  // rates: not known
	stream := append([]byte{0, 0, 0}, tagged(4, append(decoder, info...))...) // id 0
	return tagged(3, append(stream, 6, 1, 2))
}

// tagged writes a descriptor with its length in groups of seven bits (ISO/IEC 14496-1, 8.3.3).
func tagged(tag byte, body []byte) []byte {
	n := len(body)
	out := []byte{tag}
	for shift := 21; shift > 0; shift -= 7 {
		if n>>shift > 0 {
			out = append(out, byte(n>>shift)|0x80)
		}
	}
	return append(append(out, byte(n&0x7f)), body...)
}

// Sample flags (ISO/IEC 14496-12, 8.8.3.1).
const (
	flagsSync    = 0x02000000 // depends on no other
	flagsNonSync = 0x01010000 // depends on others, is no sync sample
)

// Message is an event for the player (ISO/IEC 23009-1, 5.10.3.3), carried in the media.
type Message struct {
	Scheme, Value string
	Time          uint64 // presentation time, ticks of the track
	Duration      uint32 // ticks of the track; 0xffffffff is not known
	ID            uint32
	Data          []byte
}

// ChunkOptions say what stands around the fragment of a chunk.
type ChunkOptions struct {
	Sequence uint32
	First    bool      // the chunk begins a segment: styp comes first
	Produced time.Time // when the first unit came to us: a prft box tells it; zero for none
	Messages []Message
	// Track is the id of the track, and Description the number of the samples' description in it; 0 is 1.
	Track, Description uint32
}

// ntpEpoch is where NTP time begins, 1900, in Unix seconds.
const ntpEpoch = 2208988800

func (o *ChunkOptions) append(b []byte, t *media.Track, dts int64) []byte {
	if o.First {
		b = box(b, "styp", func(b []byte) []byte {
			b = append(b, "msdh"...)
			b = u32(b, 0)
			return append(b, "msdhcmfscmfl"...)
		})
	}
	if !o.Produced.IsZero() {
		// ISO/IEC 14496-12, 8.16.5; the flags say that the time is that of the encoder's input.
		b = fullBox(b, "prft", 1, 0, func(b []byte) []byte {
			b = u32(b, trackID)
			fraction := uint64(o.Produced.Nanosecond()) << 32 / uint64(time.Second)
			b = u64(b, uint64(o.Produced.Unix()+ntpEpoch)<<32|fraction)
			return u64(b, uint64(dts))
		})
	}
	for _, m := range o.Messages {
		b = fullBox(b, "emsg", 1, 0, func(b []byte) []byte {
			b = u32(b, uint32(t.Timescale))
			b = u64(b, m.Time)
			b = u32(b, m.Duration)
			b = u32(b, m.ID)
			b = append(append(b, m.Scheme...), 0)
			b = append(append(b, m.Value...), 0)
			return append(b, m.Data...)
		})
	}
	return b
}

func (o *ChunkOptions) size() int {
	n := 64
	for _, m := range o.Messages {
		n += 40 + len(m.Scheme) + len(m.Value) + len(m.Data)
	}
	return n
}

// Chunk writes one CMAF chunk (ISO/IEC 23000-19, 7.3.2.3): what the options ask for, then moof and
// mdat. The access units must be in decode order, all with a duration.
// The whole is made in one allocation, and the media data is copied once.
func Chunk(t *media.Track, o ChunkOptions, units []media.AccessUnit) []byte {
	return AppendChunk(make([]byte, 0, ChunkSize(o, units)), t, o, units)
}

// ChunkSize returns how many bytes a chunk takes at most.
func ChunkSize(o ChunkOptions, units []media.AccessUnit) int {
	n := o.size() + 140 + 16*len(units)
	for i := range units {
		n += len(units[i].Data)
	}
	return n
}

// AppendChunk is Chunk behind other bytes.
func AppendChunk(out []byte, t *media.Track, o ChunkOptions, units []media.AccessUnit) []byte {
	data := 0
	composed := false
	for i := range units {
		data += len(units[i].Data)
		composed = composed || units[i].PTS != units[i].DTS
	}
	trun := uint32(0x000301) // data offset, duration, size
	if t.Kind == media.Video {
		trun |= 0x400
	}
	if composed {
		trun |= 0x800
	}
	out = o.append(out, t, units[0].DTS)
	start := len(out)
	offsetAt := 0
	out = box(out, "moof", func(b []byte) []byte {
		b = fullBox(b, "mfhd", 0, 0, func(b []byte) []byte { return u32(b, o.Sequence) })
		return box(b, "traf", func(b []byte) []byte {
			tfhd := uint32(0x020000) // default-base-is-moof
			if o.Description > 0 {
				tfhd |= 0x2
			}
			if t.Kind == media.Audio {
				tfhd |= 0x20
			}
			b = fullBox(b, "tfhd", 0, tfhd, func(b []byte) []byte {
				b = u32(b, max(o.Track, trackID))
				if o.Description > 0 {
					b = u32(b, o.Description)
				}
				if t.Kind == media.Audio {
					b = u32(b, flagsSync)
				}
				return b
			})
			b = fullBox(b, "tfdt", 1, 0, func(b []byte) []byte { return u64(b, uint64(units[0].DTS)) })
			return fullBox(b, "trun", 1, trun, func(b []byte) []byte {
				b = u32(b, uint32(len(units)))
				offsetAt = len(b)
				b = u32(b, 0)
				for i := range units {
					u := &units[i]
					b = u32(b, uint32(u.Duration))
					b = u32(b, uint32(len(u.Data)))
					if t.Kind == media.Video {
						if u.Key {
							b = u32(b, flagsSync)
						} else {
							b = u32(b, flagsNonSync)
						}
					}
					if composed {
						b = u32(b, uint32(int32(u.PTS-u.DTS)))
					}
				}
				return b
			})
		})
	})
	binary.BigEndian.PutUint32(out[offsetAt:], uint32(len(out)-start+8))
	out = u32(out, uint32(data+8))
	out = append(out, "mdat"...)
	for i := range units {
		out = append(out, units[i].Data...)
	}
	return out
}
