// Package opusenc encodes Opus with libopus.
package opusenc

/*
#cgo pkg-config: opus
#include <opus.h>

static int mp_set(OpusEncoder *e, int bitrate) { return opus_encoder_ctl(e, OPUS_SET_BITRATE(bitrate)); }
static int mp_lookahead(OpusEncoder *e) { opus_int32 n = 0; opus_encoder_ctl(e, OPUS_GET_LOOKAHEAD(&n)); return n; }
*/
import "C"

import (
	"fmt"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/opus"
)

// FrameSamples is how many samples of each channel a packet holds: 20 ms.
const FrameSamples = 960

// Encoder encodes packets of 20 ms at 48 kHz.
type Encoder struct {
	e        *C.OpusEncoder
	channels int
	Config   opus.Config
	out      [4000]byte
}

// New opens an encoder. Bitrate is bits per second.
func New(channels int, bitrate int64) (*Encoder, error) {
	var rc C.int
	e := C.opus_encoder_create(opus.SampleRate, C.int(channels), C.OPUS_APPLICATION_AUDIO, &rc)
	if e == nil || rc != C.OPUS_OK || C.mp_set(e, C.int(bitrate)) != C.OPUS_OK {
		return nil, fmt.Errorf("the Opus encoder refused %d channels at %d bit/s", channels, bitrate)
	}
	return &Encoder{e: e, channels: channels, Config: opus.Config{Channels: uint8(channels), PreSkip: uint16(C.mp_lookahead(e)), InputRate: opus.SampleRate}}, nil
}

// Open opens an encoder of a rendition: of sound at 48 kHz.
func Open(rate, channels int, bitrate int64) (*Rendition, error) {
	if rate != opus.SampleRate {
		return nil, fmt.Errorf("the Opus encoder found %d Hz, expected %d", rate, opus.SampleRate)
	}
	e, err := New(channels, bitrate)
	if err != nil {
		return nil, err
	}
	return &Rendition{e}, nil
}

// Rendition encodes one rendition of a live channel.
type Rendition struct{ *Encoder }

// Track describes what comes out.
func (r *Rendition) Track() media.Track { return r.Config.Track() }

// Frame returns how many samples a channel a frame holds, and how many samples late it comes out.
func (r *Rendition) Frame() (samples, delay int64) { return FrameSamples, int64(r.Config.PreSkip) }

// Encode takes FrameSamples samples of each channel, interleaved, and returns one packet.
func (e *Encoder) Encode(pcm []int16) ([]byte, error) {
	if len(pcm) != FrameSamples*e.channels {
		return nil, fmt.Errorf("the Opus encoder found %d samples, expected %d", len(pcm), FrameSamples*e.channels)
	}
	n := C.opus_encode(e.e, (*C.opus_int16)(&pcm[0]), FrameSamples, (*C.uchar)(&e.out[0]), C.opus_int32(len(e.out)))
	if n < 0 {
		return nil, fmt.Errorf("the Opus encoder failed with %d", int(n))
	}
	return append([]byte(nil), e.out[:n]...), nil
}

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.e != nil {
		C.opus_encoder_destroy(e.e)
		e.e = nil
	}
}
