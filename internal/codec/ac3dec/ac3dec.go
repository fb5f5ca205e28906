// Package ac3dec decodes AC-3 with liba52. More than two channels are mixed down to two, as ATSC A/52, 7.8, has
// it. It touches bytes from outside in C and so runs in a worker process only.
package ac3dec

/*
#cgo LDFLAGS: -la52 -lm
#include <inttypes.h>
#include <a52dec/a52.h>

enum { mp_blocks = 6, mp_samples = 256 };

// mp_decode writes interleaved samples and returns how many channels they have, less than 0 on failure.
static int mp_decode(a52_state_t *s, unsigned char *data, int len, short *out, int *rate) {
	int flags, bits;
	int size = a52_syncinfo(data, &flags, rate, &bits);
	if (size == 0 || size > len) return -1;
	int want = A52_STEREO;
	if ((flags & A52_CHANNEL_MASK) == A52_MONO) want = A52_MONO;
	want |= A52_ADJUST_LEVEL;
	sample_t level = 32767;
	if (a52_frame(s, data, &want, &level, 0)) return -2;
	int channels = (want & A52_CHANNEL_MASK) == A52_MONO ? 1 : 2;
	for (int b = 0; b < mp_blocks; b++) {
		if (a52_block(s)) return -3;
		sample_t *p = a52_samples(s);
		for (int i = 0; i < mp_samples; i++)
			for (int c = 0; c < channels; c++) {
				sample_t v = p[c * mp_samples + i];
				*out++ = v > 32767 ? 32767 : v < -32768 ? -32768 : (short)(v < 0 ? v - 0.5f : v + 0.5f);
			}
	}
	return channels;
}
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"
)

const frameSamples = 6 * 256

// Decoder decodes one stream to interleaved samples of 16 bits.
type Decoder struct {
	s              *C.a52_state_t
	rate, channels int
	in             []byte
	out            [frameSamples * 2]int16
}

// New makes a decoder.
func New() (*Decoder, error) {
	s := C.a52_init(0)
	if s == nil {
		return nil, errors.New("the AC-3 decoder did not start")
	}
	return &Decoder{s: s, rate: 48000, channels: 2}, nil
}

// readAhead is how far behind a frame's end the decoder may look.
const readAhead = 64

// Decode decodes one syncframe. The samples are the caller's.
func (d *Decoder) Decode(frame []byte) ([]int16, error) {
	const header = 7 // that the decoder reads without being told how much there is
	if len(frame) < header {
		return nil, nil
	}
	d.in = append(append(d.in[:0], frame...), make([]byte, readAhead)...)
	var rate C.int
	n := C.mp_decode(d.s, (*C.uchar)(unsafe.Pointer(&d.in[0])), C.int(len(frame)), (*C.short)(&d.out[0]), &rate)
	if n < 0 {
		return nil, fmt.Errorf("AC-3 decoder: error %d in a frame of %d bytes", int(n), len(frame))
	}
	d.rate, d.channels = int(rate), int(n)
	return append([]int16(nil), d.out[:frameSamples*int(n)]...), nil
}

// Format returns the rate, samples per second, and the channels of what was decoded last.
func (d *Decoder) Format() (rate, channels int) { return d.rate, d.channels }

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.s != nil {
		C.a52_free(d.s)
		d.s = nil
	}
}
