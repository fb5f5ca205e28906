package item

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Bounds of what is read of a file.
const (
	//limit:tracks | each file | further ones are left out
	maxTracks = 32
	//limit:units | each file | the file is refused
	maxSamples = 8_000_000
	//limit:bytes of a frame of sound with a header of its own | each frame | it is passed over
	maxFrame = 16 << 10 // bytes of a frame of sound with a header of its own
	//limit:bytes between frames that are none | each file | the file ends there
	maxJunk = 1 << 20 // bytes between frames that are none
)

// reading reads the frame that b begins with.
type reading func(b []byte) (coding.Frame, error)

// isFrames reports whether two frames in a row begin a file, or its only one.
func isFrames(b []byte, parse reading) bool {
	f, err := parse(b)
	if err != nil {
		return false
	}
	if f.Size == 0 || f.Size >= len(b) {
		return true
	}
	_, err = parse(b[f.Size:])
	return err == nil
}

// tagged returns where a file begins behind ID3 tags (ID3v2, 3.1: a size of four times seven bits behind the head).
func tagged(src Source, head []byte) (at int64, err error) {
	for n := 0; n < 4 && len(head) >= 10 && bytes.HasPrefix(head, []byte("ID3")); n++ {
		at += 10 + int64(head[6]&127)<<21 + int64(head[7]&127)<<14 + int64(head[8]&127)<<7 + int64(head[9]&127)
		if head[5]&0x10 != 0 { // a footer
			at += 10
		}
		if at >= src.Size() {
			return 0, &media.FormatError{Format: "ID3 tag", Found: "a tag that is longer than the file", Want: "sound behind it"}
		}
		head = make([]byte, 10)
		if k, err := src.ReadAt(head, at); err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		} else {
			head = head[:k]
		}
	}
	return at, nil
}

// readFrames reads a file of frames with headers of their own.
func readFrames(src Source, parse reading, progress func(int64)) (*contents, error) {
	var head [10]byte
	n, err := src.ReadAt(head[:], 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	at, err := tagged(src, head[:n])
	if err != nil {
		return nil, err
	}
	r := bufio.NewReaderSize(io.NewSectionReader(src, at, src.Size()-at), 256<<10)
	var s *source
	c := &contents{}
	junk, now := 0, int64(0)
	for len(samplesOf(s)) < maxSamples {
		b, err := r.Peek(maxFrame)
		if len(b) < 4 {
			if err != nil && !errors.Is(err, io.EOF) {
				return nil, err
			}
			break
		}
		f, err := parse(b)
		if err == nil && s != nil && f.Codec != s.codec {
			err = errors.New("another codec")
		}
		if err != nil || f.Size > maxFrame {
			if junk++; junk > maxJunk {
				return nil, &media.FormatError{Format: "file of sound", Found: fmt.Sprintf("more than %d bytes that are no frame before byte %d", maxJunk, at), Want: "frames one behind the other"}
			}
			_, _ = r.Discard(1)
			at++
			continue
		}
		if f.Size == 0 || f.Size > len(b) {
			c.truncated = true
			break
		}
		if s == nil {
			s = &source{kind: media.Audio, codec: f.Codec, called: f.Codec.Label, config: f.Config, scale: int64(f.Rate)}
			c.tracks = append(c.tracks, s)
		}
		if !f.Info || len(s.samples) > 0 {
			s.samples = append(s.samples, bmff.Sample{Offset: at + int64(f.Skip), Size: uint32(f.Size - f.Skip), DTS: now, PTS: now, Duration: uint32(f.Samples), Key: true})
			now += f.Samples
		}
		at += int64(f.Size)
		_, _ = r.Discard(f.Size)
		progress(at)
	}
	if s == nil || len(s.samples) == 0 {
		return nil, &media.FormatError{Format: "file of sound", Found: "no frame", Want: "AAC or MPEG audio"}
	}
	return c, nil
}

func samplesOf(s *source) []bmff.Sample {
	if s == nil {
		return nil
	}
	return s.samples
}

// wavBlock is how many samples of a WAV file make an access unit.
const wavBlock = 1024

// readWAV reads WAV files, and those with sizes of 64 bits (EBU Tech 3306; ITU-R BS.2088).
//
//large:follows the chunks of the format
func readWAV(src Source, _ func(int64)) (*contents, error) {
	wrong := func(found, want string) error {
		return &media.FormatError{Format: "WAV file", Found: found, Want: want}
	}
	const (
		integer    = 1
		aLaw       = 6
		uLaw       = 7
		extensible = 0xfffe
		undefined  = 1<<32 - 1
	)
	c := &contents{}
	var s *source
	frame, long := int64(0), int64(-1)
	for at := int64(12); at+8 <= src.Size(); {
		var head [8]byte
		if _, err := src.ReadAt(head[:], at); err != nil {
			return nil, err
		}
		kind, size := string(head[:4]), int64(binary.LittleEndian.Uint32(head[4:]))
		at += 8
		switch kind {
		case "ds64":
			var b [16]byte
			if _, err := src.ReadAt(b[:], at); err != nil {
				return nil, wrong("a file that ends within its sizes", "a whole file")
			}
			long = int64(binary.LittleEndian.Uint64(b[8:]) & (1<<62 - 1))
		case "fmt ":
			b := make([]byte, min(size, 40))
			if _, err := src.ReadAt(b, at); err != nil || len(b) < 16 {
				return nil, wrong(fmt.Sprintf("a format of %d bytes", size), "16 at least")
			}
			tag := binary.LittleEndian.Uint16(b)
			if tag == extensible && len(b) >= 26 {
				tag = binary.LittleEndian.Uint16(b[24:])
			}
			f := coding.Sampled{Channels: int(binary.LittleEndian.Uint16(b[2:])), Rate: int(binary.LittleEndian.Uint32(b[4:])), Bits: int(binary.LittleEndian.Uint16(b[14:]))}
			s = &source{kind: media.Audio, called: "PCM", scale: int64(f.Rate)}
			switch tag {
			case integer:
			case aLaw:
				f.Law = 'A'
			case uLaw:
				f.Law = 'u'
			default:
				s.trouble = fmt.Sprintf("its samples are of format %d, which is none that is read here: integers are", tag)
			}
			if f.Rate < 1 || f.Channels < 1 {
				return nil, wrong(fmt.Sprintf("%d channels of %d samples per second", f.Channels, f.Rate), "at least one of each")
			}
			codec, config, err := f.Describe()
			if err != nil && s.trouble == "" {
				return nil, err
			}
			s.codec, s.config = codec, config
			frame = max(int64(f.Channels)*int64(f.Bits)/8, 1)
		case "data":
			if s == nil {
				return nil, wrong("samples before their format", "the format first")
			}
			if size == undefined && long >= 0 {
				size = long
			}
			if size == 0 && long < 0 { // who wrote it could not go back
				size = undefined
			}
			if size > src.Size()-at {
				c.truncated = size != undefined
				size = src.Size() - at
			}
			for n := int64(0); n*frame < size && len(s.samples) < maxSamples; n += wavBlock {
				count := min(wavBlock, size/frame-n)
				if count <= 0 {
					break
				}
				s.samples = append(s.samples, bmff.Sample{Offset: at + n*frame, Size: uint32(count * frame), DTS: n, PTS: n, Duration: uint32(count), Key: true})
			}
			c.tracks = append(c.tracks, s)
			return c, nil
		}
		at += size + size&1
	}
	return nil, wrong("no samples", "a chunk of data")
}
