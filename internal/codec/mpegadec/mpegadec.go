// Package mpegadec decodes the layers of MPEG audio, MP2 and MP3, with libmpg123. It touches bytes from outside
// in C and so runs in a worker process only.
package mpegadec

/*
#cgo pkg-config: libmpg123
#include <mpg123.h>

static mpg123_handle *mp_open(void) {
	mpg123_init(); // needed of old versions, harmless for new ones
	mpg123_handle *h = mpg123_new(NULL, NULL);
	if (!h) return NULL;
	mpg123_param(h, MPG123_FLAGS, MPG123_QUIET | MPG123_NO_READAHEAD, 0);
	mpg123_param(h, MPG123_REMOVE_FLAGS, MPG123_GAPLESS, 0);
	mpg123_format_none(h);
	static const long rates[] = {8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000};
	for (int i = 0; i < 9; i++) mpg123_format(h, rates[i], MPG123_MONO | MPG123_STEREO, MPG123_ENC_SIGNED_16);
	if (mpg123_open_feed(h) != MPG123_OK) { mpg123_delete(h); return NULL; }
	return h;
}

static void mp_close(mpg123_handle *h) { mpg123_close(h); mpg123_delete(h); }
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"
)

// Decoder decodes one stream to interleaved samples of 16 bits.
type Decoder struct {
	h              *C.mpg123_handle
	rate, channels int
	out            [8 * 1152 * 2]int16 // some frames
}

// New makes a decoder.
func New() (*Decoder, error) {
	h := C.mp_open()
	if h == nil {
		return nil, errors.New("the decoder of MPEG audio did not start")
	}
	return &Decoder{h: h}, nil
}

// Decode decodes one frame. The first may come back empty. The samples are the caller's.
func (d *Decoder) Decode(frame []byte) (pcm []int16, err error) {
	if len(frame) == 0 {
		return nil, nil
	}
	in, n := (*C.uchar)(unsafe.Pointer(&frame[0])), C.size_t(len(frame))
	for {
		var done C.size_t
		rc := C.mpg123_decode(d.h, in, n, unsafe.Pointer(&d.out[0]), C.size_t(len(d.out)*2), &done)
		in, n = nil, 0
		pcm = append(pcm, d.out[:done/2]...)
		switch rc {
		case C.MPG123_NEW_FORMAT:
			var rate C.long
			var channels, encoding C.int
			C.mpg123_getformat(d.h, &rate, &channels, &encoding)
			d.rate, d.channels = int(rate), int(channels)
		case C.MPG123_NEED_MORE:
			return pcm, nil
		case C.MPG123_OK:
			if done == 0 {
				return pcm, nil
			}
		default:
			return pcm, fmt.Errorf("decoder of MPEG audio: %s", C.GoString(C.mpg123_strerror(d.h)))
		}
	}
}

// Format returns the rate, samples per second, and the channels of what was decoded last.
func (d *Decoder) Format() (rate, channels int) { return d.rate, d.channels }

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.h != nil {
		C.mp_close(d.h)
		d.h = nil
	}
}
