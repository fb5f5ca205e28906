// Package mpegaenc encodes MP2 with twolame and MP3 with lame, for loops and tests.
package mpegaenc

/*
#cgo LDFLAGS: -ltwolame -lmp3lame
#include <stdlib.h>
#include <lame/lame.h>
#include <twolame.h>

static twolame_options *mp_open2(int rate, int channels, int kbits) {
	twolame_options *o = twolame_init();
	if (!o) return NULL;
	twolame_set_num_channels(o, channels);
	twolame_set_mode(o, channels == 1 ? TWOLAME_MONO : TWOLAME_STEREO);
	twolame_set_in_samplerate(o, rate);
	twolame_set_out_samplerate(o, rate);
	twolame_set_bitrate(o, kbits);
	twolame_set_verbosity(o, 0);
	if (twolame_init_params(o) != 0) { twolame_close(&o); return NULL; }
	return o;
}

static lame_t mp_open3(int rate, int channels, int kbits) {
	lame_t l = lame_init();
	if (!l) return NULL;
	lame_set_num_channels(l, channels);
	lame_set_mode(l, channels == 1 ? MONO : STEREO);
	lame_set_in_samplerate(l, rate);
	lame_set_out_samplerate(l, rate);
	lame_set_brate(l, kbits);
	lame_set_bWriteVbrTag(l, 0);
	lame_set_disable_reservoir(l, 1);
	if (lame_init_params(l) < 0) { lame_close(l); return NULL; }
	return l;
}

static int mp_encode3(lame_t l, short *pcm, int samples, int channels, unsigned char *out, int room) {
	if (channels == 1) return lame_encode_buffer(l, pcm, pcm, samples, out, room);
	return lame_encode_buffer_interleaved(l, pcm, samples, out, room);
}
*/
import "C"

import (
	"fmt"

	"metaplasis/internal/core/media"
)

// FrameSamples is how many samples of each channel a frame holds, at 32 kHz and above.
const FrameSamples = 1152

// Encode encodes interleaved samples as media.MP2 or media.MP3 and returns the bytes of all frames. Bitrate is
// bits per second.
func Encode(c media.Codec, pcm []int16, rate, channels int, bitrate int64) ([]byte, error) {
	refused := fmt.Errorf("the encoder of MPEG audio refused %d Hz, %d channels, %d bit/s", rate, channels, bitrate)
	samples := len(pcm) / channels
	out := make([]byte, samples*2+1<<16)
	if c == media.MP2 {
		o := C.mp_open2(C.int(rate), C.int(channels), C.int(bitrate/1000))
		if o == nil {
			return nil, refused
		}
		defer C.twolame_close(&o)
		n := C.twolame_encode_buffer_interleaved(o, (*C.short)(&pcm[0]), C.int(samples), (*C.uchar)(&out[0]), C.int(len(out)))
		return out[:max(n, 0)], nil
	}
	l := C.mp_open3(C.int(rate), C.int(channels), C.int(bitrate/1000))
	if l == nil {
		return nil, refused
	}
	defer C.lame_close(l)
	n := C.mp_encode3(l, (*C.short)(&pcm[0]), C.int(samples), C.int(channels), (*C.uchar)(&out[0]), C.int(len(out)))
	return out[:max(n, 0)], nil
}
