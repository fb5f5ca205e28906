// Package mpega reads the frame headers of MPEG audio, layers I to III (ISO/IEC 11172-3, 2.4.1.3;
// ISO/IEC 13818-3, 2.4.1.3).
package mpega

import (
	"fmt"

	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/media"
)

// Header is what a frame's header tells.
type Header struct {
	Layer      int // 1 to 3
	Low        bool
	SampleRate int   // samples per second
	Channels   int   // 1 or 2
	Samples    int64 // of one channel in the frame
	Bitrate    int   // bits per second, 0 when the frame does not say (free format)
	Size       int   // bytes of the frame, 0 in free format
}

// kilobits are the bitrates by their index: of layers I to III at the full rates, and of layer I and of
// layers II and III at the low ones (table 2.4.2.3).
var kilobits = [5][15]int{
	{0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},
	{0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
	{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320},
	{0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},
	{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
}

var rates = [3]int{44100, 48000, 32000}

// Versions of the header; 0 stands for the quarter rates that decoders know beside the standard.
const (
	versionQuarter = 0
	versionLow     = 2
	versionFull    = 3
)

func broken(found, want string) error {
	return &media.FormatError{Format: "MPEG audio frame", Found: found, Want: want}
}

// Parse reads the header of a frame:
//
//	sync(11) version(2) layer(2) protection(1) bitrate(4) rate(2) padding(1) private(1) mode(2) …
func Parse(b []byte) (h Header, err error) {
	r := bits.NewReader(b)
	if sync := r.U(11); sync != 0x7ff {
		return h, broken(fmt.Sprintf("the sync word %03x", sync), "7ff")
	}
	version, layer := r.U(2), r.U(2)
	r.U(1)
	bitrate, rate, padding := r.U(4), r.U(2), r.U(1)
	r.U(1)
	mode := r.U(2)
	switch {
	case r.Err() != nil:
		return h, broken(fmt.Sprintf("%d bytes", len(b)), "at least 4")
	case version == 1 || layer == 0:
		return h, broken(fmt.Sprintf("version %d and layer code %d", version, layer), "ones that are not reserved")
	case bitrate == 15 || rate == 3:
		return h, broken(fmt.Sprintf("bitrate %d and rate %d", bitrate, rate), "ones that are not reserved")
	}
	h.Layer, h.Low = 4-int(layer), version != versionFull
	h.SampleRate = rates[rate]
	switch version {
	case versionLow:
		h.SampleRate /= 2
	case versionQuarter:
		h.SampleRate /= 4
	}
	h.Channels = 2
	if mode == 3 {
		h.Channels = 1
	}
	table := h.Layer - 1
	if h.Low {
		table = 3 + min(h.Layer-1, 1)
	}
	h.Bitrate = kilobits[table][bitrate] * 1000
	h.Samples = 1152
	switch {
	case h.Layer == 1:
		h.Samples = 384
	case h.Layer == 3 && h.Low:
		h.Samples = 576
	}
	if h.Layer == 1 {
		h.Size = (12*h.Bitrate/h.SampleRate + int(padding)) * 4
	} else {
		h.Size = int(h.Samples)/8*h.Bitrate/h.SampleRate + int(padding)
	}
	if h.Bitrate == 0 {
		h.Size = 0
	}
	return h, nil
}

// Track makes a track of a frame's header.
func (h *Header) Track() media.Track {
	t := media.Track{
		Kind: media.Audio, Codec: media.MP3, Timescale: int64(h.SampleRate), CodecName: "mp4a.6B", SampleRate: h.SampleRate,
		Channels: h.Channels, FrameSamples: h.Samples,
	}
	if h.Low {
		t.CodecName = "mp4a.69"
	}
	if h.Layer < 3 {
		t.Codec = media.MP2
	}
	return t
}

// Complete replaces a track by what its first frame tells.
func Complete(t *media.Track, frame []byte) error {
	h, err := Parse(frame)
	if err != nil {
		return err
	}
	own := h.Track()
	own.ID, own.Language, own.Role, own.Name = t.ID, t.Language, t.Role, t.Name
	*t = own
	return nil
}
