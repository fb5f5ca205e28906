// Package ac3 reads the frame headers of AC-3 and Enhanced AC-3 (ETSI TS 102 366) and writes what
// their boxes in ISO media files hold (annex F).
package ac3

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Frame is what a frame's header tells (4.3 and annex E.1.2).
type Frame struct {
	Enhanced   bool
	Size       int // bytes
	SampleRate int
	Samples    int64
	Channels   int

	rateCode, bsid, bsmod, acmod, lfe, sizeCode uint32
}

const (
	syncWord     = 0x0b77
	blockSamples = 256
	enhancedFrom = 11 // bsid of Enhanced AC-3
)

var (
	rates    = [3]int{48000, 44100, 32000}
	channels = [8]int{2, 1, 2, 3, 3, 4, 4, 5}
	kilobits = [19]int{32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640}
)

// Parse reads the header of the frame that b begins with.
func Parse(b []byte) (*Frame, error) {
	if len(b) < 8 || int(b[0])<<8|int(b[1]) != syncWord {
		return nil, &media.FormatError{Format: "AC-3 frame", Found: fmt.Sprintf("%d bytes that begin with % x", len(b),
			b[:min(len(b), 2)]), Want: "the sync word 0b 77"}
	}
	f := &Frame{bsid: uint32(b[5] >> 3)}
	if f.bsid >= enhancedFrom && f.bsid <= 16 {
		return f, f.enhanced(b)
	}
	if f.bsid > 10 {
		return nil, &media.FormatError{Format: "AC-3 frame", Found: fmt.Sprintf("bit stream identification %d", f.bsid),
			Want: "16 at most"}
	}
	r := bits.NewReader(b[4:])
	f.rateCode, f.sizeCode = r.U(2), r.U(6)
	if f.rateCode > 2 || int(f.sizeCode) >= 2*len(kilobits) {
		return nil, &media.FormatError{Format: "AC-3 frame", Found: fmt.Sprintf("rate %d and size %d", f.rateCode,
			f.sizeCode), Want: "a rate up to 2 and a size up to 37"}
	}
	r.U(5)
	f.bsmod, f.acmod = r.U(3), r.U(3)
	if f.acmod&1 != 0 && f.acmod != 1 {
		r.U(2)
	}
	if f.acmod&4 != 0 {
		r.U(2)
	}
	if f.acmod == 2 {
		r.U(2)
	}
	f.lfe = r.U(1)
	f.SampleRate, f.Samples = rates[f.rateCode], 6*blockSamples
	k := kilobits[f.sizeCode/2]
	switch f.rateCode { // words of 16 bits (table 4.13)
	case 0:
		f.Size = 2 * k * 2
	case 1:
		f.Size = 2 * (k*320/147 + int(f.sizeCode&1))
	default:
		f.Size = 2 * k * 3
	}
	f.Channels = channels[f.acmod] + int(f.lfe)
	return f, r.Err()
}

func (f *Frame) enhanced(b []byte) error {
	r := bits.NewReader(b[2:])
	f.Enhanced = true
	r.U(5) // stream type and number
	f.Size = 2 * (int(r.U(11)) + 1)
	blocks := int64(6)
	if f.rateCode = r.U(2); f.rateCode == 3 {
		half := r.U(2)
		if half > 2 {
			return &media.FormatError{Format: "E-AC-3 frame", Found: "sampling rate code 3", Want: "2 at most"}
		}
		f.SampleRate = rates[half] / 2
	} else {
		f.SampleRate = rates[f.rateCode]
		blocks = [4]int64{1, 2, 3, 6}[r.U(2)]
	}
	f.acmod, f.lfe = r.U(3), r.U(1)
	f.Samples = blocks * blockSamples
	f.Channels = channels[f.acmod] + int(f.lfe)
	return r.Err()
}

// Box returns the content of the frame's dac3 or dec3 box (F.4 and F.6).
func (f *Frame) Box() []byte {
	var w bits.Writer
	if !f.Enhanced {
		w.U(2, f.rateCode)
		w.U(5, f.bsid)
		w.U(3, f.bsmod)
		w.U(3, f.acmod)
		w.U(1, f.lfe)
		w.U(5, f.sizeCode/2)
		w.U(5, 0)
		return w.Bytes()
	}
	w.U(13, uint32(media.PerSecond(int64(f.Size)*8, f.Samples, int64(f.SampleRate))/1000))
	w.U(3, 0) // one independent substream
	w.U(2, f.rateCode)
	w.U(5, f.bsid)
	w.U(2, 0)
	w.U(3, f.bsmod)
	w.U(3, f.acmod)
	w.U(1, f.lfe)
	w.U(3, 0)
	w.U(4, 0) // no dependent substream
	w.U(1, 0)
	return w.Bytes()
}

// Track makes an audio track of a frame.
func (f *Frame) Track() media.Track {
	t := media.Track{
		Kind: media.Audio, Codec: media.AC3, Timescale: int64(f.SampleRate), Config: f.Box(), CodecName: "ac-3",
		SampleRate: f.SampleRate, Channels: f.Channels, FrameSamples: f.Samples,
	}
	if f.Enhanced {
		t.Codec, t.CodecName = media.EAC3, "ec-3"
	}
	return t
}

// Complete replaces a track by what its first frame tells.
func Complete(t *media.Track, frame []byte) error {
	f, err := Parse(frame)
	if err != nil {
		return err
	}
	own := f.Track()
	own.ID, own.Language, own.Role, own.Name = t.ID, t.Language, t.Role, t.Name
	*t = own
	return nil
}
