package aac

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Frame is one frame of a stream whose frames have headers of their own.
type Frame struct {
	Config []byte // AudioSpecificConfig
	Data   []byte // raw_data_block
	Size   int    // bytes of header and data together
}

const adtsHeader = 7

// ParseADTS reads the frame that b begins with (ISO/IEC 14496-3, 1.A.2.2):
//
//	sync(12) id(1) layer(2) protectionAbsent(1) profile(2) rate(4) private(1) channels(3) … length(13)
//	fullness(11) blocks(2) [crc(16)]
//
// Data is nil when b ends before the frame does; Size tells how much is wanted.
func ParseADTS(b []byte) (f Frame, err error) {
	if len(b) < adtsHeader || b[0] != 0xff || b[1]&0xf6 != 0xf0 {
		return f, &media.FormatError{Format: "ADTS frame", Found: fmt.Sprintf("% x", b[:min(len(b), 2)]), Want: "the sync word fff"}
	}
	header := adtsHeader
	if b[1]&1 == 0 {
		header += 2
	}
	f.Size = int(b[3]&3)<<11 | int(b[4])<<3 | int(b[5]>>5)
	index, channels := b[2]>>2&15, b[2]&1<<2|b[3]>>6
	switch {
	case f.Size <= header:
		return f, &media.FormatError{Format: "ADTS frame", Found: fmt.Sprintf("%d bytes", f.Size), Want: "more than its header"}
	case int(index) >= len(sampleRates):
		return f, &media.FormatError{Format: "ADTS frame", Found: fmt.Sprintf("sampling frequency index %d", index), Want: "12 at most"}
	case b[6]&3 != 0:
		return f, &media.UnsupportedError{Format: "ADTS frame", What: "more than one block in a frame", Do: "send one block in each frame"}
	case channels == 0:
		return f, &media.UnsupportedError{Format: "ADTS frame", What: "a channel configuration inside the frame", Do: "send mono or stereo"}
	}
	var w bits.Writer
	w.U(5, uint32(b[2]>>6)+1)
	w.U(4, uint32(index))
	w.U(4, uint32(channels))
	w.U(3, 0)
	f.Config = w.Bytes()
	if len(b) >= f.Size {
		f.Data = b[header:f.Size]
	}
	return f, nil
}

// LATM reads AudioMuxElements (ISO/IEC 14496-3, 1.7.3) with one programme of one layer, as broadcasts and
// RTP (RFC 6416) carry them. It keeps the configuration, which not every element repeats.
type LATM struct {
	config      []byte
	lengthType  uint32
	frameLength int // bits, of lengthType 1
	frames      int // in an element
}

const loasHeader = 3

// ParseLOAS reads the element of an AudioSyncStream that b begins with (1.7.2): sync(11) length(13) element.
// Its frames are nil when b ends before it; size tells how much is wanted.
func (l *LATM) ParseLOAS(b []byte) (frames [][]byte, size int, err error) {
	if len(b) < loasHeader || b[0] != 0x56 || b[1]>>5 != 7 {
		return nil, 0, &media.FormatError{Format: "LOAS", Found: fmt.Sprintf("% x", b[:min(len(b), 2)]), Want: "the sync word 2b7"}
	}
	size = loasHeader + (int(b[1]&0x1f)<<8 | int(b[2]))
	if len(b) < size {
		return nil, size, nil
	}
	frames, err = l.Element(b[loasHeader:size], true)
	return frames, size, err
}

// Config is the AudioSpecificConfig of the newest element, nil before one.
func (l *LATM) Config() []byte { return l.config }

// SetConfig takes a StreamMuxConfig that was told apart from the stream, as SDP does (RFC 6416, 7.3).
func (l *LATM) SetConfig(b []byte) error { return l.mux(bits.NewReader(b), b) }

// Element reads an AudioMuxElement; muxed says that it may bring a StreamMuxConfig.
func (l *LATM) Element(b []byte, muxed bool) (frames [][]byte, err error) {
	r := bits.NewReader(b)
	if muxed && !r.Flag() { // useSameStreamMux
		if err := l.mux(r, b); err != nil {
			return nil, err
		}
	}
	if l.config == nil {
		return nil, nil // the configuration comes with a later element
	}
	for range max(l.frames, 1) {
		n := l.frameLength
		if l.lengthType == 0 {
			for {
				v := int(r.U(8))
				n += v * 8
				if v != 255 || r.Err() != nil {
					break
				}
			}
		}
		data := readBytes(r, n)
		if r.Err() != nil {
			return nil, &media.FormatError{Format: "LATM", Found: fmt.Sprintf("a frame of %d bytes in %d", n/8, len(b)), Want: "all of it"}
		}
		frames = append(frames, data)
	}
	return frames, nil
}

// readBytes copies bits that need not begin at a byte.
func readBytes(r *bits.Reader, n int) []byte {
	if n > r.Left() {
		r.Skip(n)
		return nil
	}
	out := make([]byte, 0, (n+7)/8)
	for ; n >= 8; n -= 8 {
		out = append(out, byte(r.U(8)))
	}
	if n > 0 {
		out = append(out, byte(r.U(n)<<(8-n)))
	}
	return out
}

// mux reads a StreamMuxConfig (1.7.3.1).
func (l *LATM) mux(r *bits.Reader, b []byte) error {
	unsupported := func(what string) error {
		return &media.UnsupportedError{Format: "LATM", What: what, Do: "send one programme with one layer, or ADTS"}
	}
	version := r.U(1)
	if version == 1 && r.U(1) != 0 {
		return unsupported("audioMuxVersionA 1")
	}
	if version == 1 {
		latmValue(r) // taraBufferFullness
	}
	r.U(1) // allStreamsSameTimeFraming
	l.frames = int(r.U(6)) + 1
	if programmes := r.U(4); programmes != 0 {
		return unsupported("more than one programme")
	}
	if layers := r.U(3); layers != 0 {
		return unsupported("more than one layer")
	}
	length := 0
	if version == 1 {
		length = int(latmValue(r))
	}
	start := len(b)*8 - r.Left()
	var c Config
	probe := bits.NewReader(b)
	probe.Skip(start)
	if length == 0 {
		if err := c.read(probe, false); err != nil {
			return err
		}
		length = r.Left() - probe.Left()
	}
	config := readBytes(r, length)
	if r.Err() != nil {
		return &media.FormatError{Format: "LATM", Found: fmt.Sprintf("a configuration of %d bits", length), Want: "all of it"}
	}
	l.lengthType, l.frameLength = r.U(3), 0
	switch l.lengthType {
	case 0:
		r.U(8) // latmBufferFullness
	case 1:
		l.frameLength = (int(r.U(9)) + 20) * 8
	default:
		return unsupported(fmt.Sprintf("frameLengthType %d", l.lengthType))
	}
	if r.Flag() { // otherDataPresent
		return unsupported("other data")
	}
	if r.Flag() { // crcCheckPresent
		r.U(8)
	}
	if r.Err() != nil {
		return &media.FormatError{Format: "LATM", Found: "its end", Want: "a whole StreamMuxConfig"}
	}
	l.config = config
	return nil
}

// latmValue reads a LatmGetValue: a count of bytes, less one, and the bytes.
func latmValue(r *bits.Reader) (v uint32) {
	for range r.U(2) + 1 {
		v = v<<8 | r.U(8)
	}
	return v
}
