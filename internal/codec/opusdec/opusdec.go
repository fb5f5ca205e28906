// Package opusdec decodes Opus with libopus, of two channels at most: more are mixed down. It touches bytes from outside in C and so runs in a worker process
// only.
package opusdec

/*
#cgo pkg-config: opus
#include <opus_multistream.h>
*/
import "C"

import (
	"fmt"

	"metaplasis/internal/core/opus"
	"metaplasis/internal/core/pcm"
)

// Decoder decodes one stream to interleaved samples of 16 bits at 48 kHz.
type Decoder struct {
	d        *C.OpusMSDecoder
	channels int
	places   []pcm.Place
	out      []int16
}

// longest is how many samples of each channel a packet may hold: 120 ms.
const longest = 5760

// Open makes a decoder for the content of a dOps box.
func Open(config []byte) (*Decoder, error) {
	var c opus.Config
	if err := c.UnmarshalBox(config); err != nil {
		return nil, err
	}
	streams, coupled, table := 1, int(c.Channels)-1, []byte{0, 1}
	if c.Family != 0 {
		streams, coupled, table = int(c.Mapping[0]), int(c.Mapping[1]), c.Mapping[2:]
	}
	var rc C.int
	d := C.opus_multistream_decoder_create(opus.SampleRate, C.int(c.Channels), C.int(streams), C.int(coupled), (*C.uchar)(&table[0]), &rc)
	if d == nil || rc != C.OPUS_OK {
		return nil, fmt.Errorf("the Opus decoder refused %d channels in %d streams", c.Channels, streams)
	}
	return &Decoder{d: d, channels: int(c.Channels), places: orders[int(c.Channels)], out: make([]int16, longest*int(c.Channels))}, nil
}

// Decode decodes one packet. The samples are the caller's.
func (d *Decoder) Decode(packet []byte) ([]int16, error) {
	if len(packet) == 0 {
		return nil, nil
	}
	n := C.opus_multistream_decode(d.d, (*C.uchar)(&packet[0]), C.opus_int32(len(packet)), (*C.opus_int16)(&d.out[0]), longest, 0)
	if n < 0 {
		return nil, fmt.Errorf("the Opus decoder: error %d in a packet of %d bytes", int(n), len(packet))
	}
	return pcm.Downmix(append([]int16(nil), d.out[:int(n)*d.channels]...), d.channels, d.places), nil
}

// Format returns the rate, samples per second, and the channels that come out.
func (d *Decoder) Format() (rate, channels int) { return opus.SampleRate, min(d.channels, 2) }

// orders are where the channels of so many are (RFC 7845, 5.1.1.2).
var orders = map[int][]pcm.Place{
	3: {pcm.Left, pcm.Centre, pcm.Right},
	4: {pcm.Left, pcm.Right, pcm.LeftBehind, pcm.RightBehind},
	5: {pcm.Left, pcm.Centre, pcm.Right, pcm.LeftBehind, pcm.RightBehind},
	6: {pcm.Left, pcm.Centre, pcm.Right, pcm.LeftBehind, pcm.RightBehind, pcm.Low},
	7: {pcm.Left, pcm.Centre, pcm.Right, pcm.LeftBehind, pcm.RightBehind, pcm.Centre, pcm.Low},
	8: {pcm.Left, pcm.Centre, pcm.Right, pcm.LeftBehind, pcm.RightBehind, pcm.LeftBehind, pcm.RightBehind, pcm.Low},
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.d != nil {
		C.opus_multistream_decoder_destroy(d.d)
		d.d = nil
	}
}
