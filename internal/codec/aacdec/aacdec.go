// Package aacdec decodes AAC with libfaad. It touches bytes from outside in C and so runs in a
// worker process only.
package aacdec

/*
#cgo LDFLAGS: -lfaad
#include <neaacdec.h>
#include <string.h>

typedef struct { void *pcm; int samples, channels, rate, error; } mp_pcm;

static NeAACDecHandle mp_open(unsigned char *config, unsigned long n, unsigned long *rate, unsigned char *channels) {
	NeAACDecHandle h = NeAACDecOpen();
	if (!h) return NULL;
	NeAACDecConfigurationPtr c = NeAACDecGetCurrentConfiguration(h);
	c->outputFormat = FAAD_FMT_16BIT;
	c->downMatrix = 1;
	c->dontUpSampleImplicitSBR = 1;
	NeAACDecSetConfiguration(h, c);
	if (NeAACDecInit2(h, config, n, rate, channels) != 0) { NeAACDecClose(h); return NULL; }
	return h;
}

static void mp_decode(NeAACDecHandle h, unsigned char *data, unsigned long n, mp_pcm *out) {
	NeAACDecFrameInfo info;
	memset(&info, 0, sizeof info);
	out->pcm = NeAACDecDecode(h, &info, data, n);
	out->samples = info.samples;
	out->channels = info.channels;
	out->rate = info.samplerate;
	out->error = info.error;
}
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"
)

// Decoder decodes one stream to interleaved 16-bit samples.
type Decoder struct {
	h        C.NeAACDecHandle
	Rate     int // samples per second
	Channels int
}

// New opens a decoder for an AudioSpecificConfig.
func New(config []byte) (*Decoder, error) {
	if len(config) == 0 {
		return nil, errors.New("AAC decoder: no AudioSpecificConfig")
	}
	var rate C.ulong
	var channels C.uchar
	h := C.mp_open((*C.uchar)(&config[0]), C.ulong(len(config)), &rate, &channels)
	if h == nil {
		return nil, fmt.Errorf("the AAC decoder refused the config %x", config)
	}
	return &Decoder{h: h, Rate: int(rate), Channels: int(channels)}, nil
}

// Decode decodes one frame. The first may come back empty. The samples are the caller's.
func (d *Decoder) Decode(frame []byte) ([]int16, error) {
	if len(frame) == 0 {
		return nil, nil
	}
	var out C.mp_pcm
	C.mp_decode(d.h, (*C.uchar)(&frame[0]), C.ulong(len(frame)), &out)
	if out.error != 0 {
		return nil, fmt.Errorf("AAC decoder: error %d in a frame of %d bytes", int(out.error), len(frame))
	}
	if out.samples == 0 || out.pcm == nil {
		return nil, nil
	}
	d.Rate, d.Channels = int(out.rate), int(out.channels)
	return append([]int16(nil), unsafe.Slice((*int16)(out.pcm), int(out.samples))...), nil
}

// Format returns the rate, samples per second, and the channels of what was decoded last.
func (d *Decoder) Format() (rate, channels int) { return d.Rate, d.Channels }

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.h != nil {
		C.NeAACDecClose(d.h)
		d.h = nil
	}
}
