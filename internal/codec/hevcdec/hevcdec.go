// Package hevcdec decodes HEVC with libde265, on the caller's thread. It touches bytes from outside in C and so
// runs in a worker process only.
package hevcdec

/*
#cgo pkg-config: libde265
#include <libde265/de265.h>

static int mp_ok(de265_error e) { return de265_isOK(e); }
static int mp_depth(const struct de265_image *p) { return de265_get_bits_per_pixel(p, 0); }
*/
import "C"

import (
	"errors"
	"fmt"
	"slices"
	"unsafe"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Decoder decodes one stream.
type Decoder struct {
	c    *C.de265_decoder_context
	sets [][]byte // parameter sets, in front of every random access point
}

// Open makes a decoder for a HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1).
func Open(config []byte) (*Decoder, error) {
	var c hevc.Config
	if err := c.Unmarshal(config); err != nil {
		return nil, err
	}
	d := &Decoder{c: (*C.de265_decoder_context)(C.de265_new_decoder())}
	if d.c == nil {
		return nil, errors.New("the HEVC decoder did not start")
	}
	d.sets = slices.Concat(c.VPS, c.SPS, c.PPS)
	return d, nil
}

// Decode takes one access unit and hands out the pictures whose turn it is to be shown; nil hands out what is
// left. A picture lies in the decoder's memory until each returns.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	ctx := unsafe.Pointer(d.c)
	var failed error
	if u == nil {
		C.de265_flush_data(ctx)
	} else {
		if u.Key {
			for _, n := range d.sets {
				d.push(n, u.PTS)
			}
		}
		nals, err := avc.Split(u.Data, 4)
		if err != nil {
			return err
		}
		for _, n := range nals {
			d.push(n, u.PTS)
		}
		C.de265_push_end_of_frame(ctx)
	}
	for more := C.int(1); more != 0; {
		more = 0
		switch err := C.de265_decode(ctx, &more); {
		case err == C.DE265_ERROR_WAITING_FOR_INPUT_DATA:
			more = 0
		case C.mp_ok(err) == 0:
			failed = fmt.Errorf("HEVC decoder: %s", C.GoString(C.de265_get_error_text(err)))
			more = 0
		}
		d.out(each)
	}
	for C.de265_get_warning(ctx) != C.DE265_OK { // they would fill its queue
	}
	return failed
}

func (d *Decoder) push(nal []byte, pts int64) {
	if len(nal) > 0 {
		C.de265_push_NAL(unsafe.Pointer(d.c), unsafe.Pointer(&nal[0]), C.int(len(nal)), C.de265_PTS(pts), nil)
	}
}

func (d *Decoder) out(each func(*picture.Frame)) {
	for {
		p := C.de265_get_next_picture(unsafe.Pointer(d.c))
		if p == nil {
			return
		}
		f := &picture.Frame{Width: int(C.de265_get_image_width(p, 0)), Height: int(C.de265_get_image_height(p, 0)),
			Depth: int(C.mp_depth(p)), PTS: int64(C.de265_get_image_PTS(p))}
		switch C.de265_get_chroma_format(p) {
		case C.de265_chroma_mono:
			f.Chroma = picture.Grey
		case C.de265_chroma_422:
			f.Chroma = picture.Chroma422
		case C.de265_chroma_444:
			f.Chroma = picture.Chroma444
		}
		for i := range f.Plane {
			var stride C.int
			f.Plane[i] = unsafe.Pointer(C.de265_get_image_plane(p, C.int(i), &stride))
			if i == 0 {
				f.StrideY = int(stride)
			} else {
				f.Stride = int(stride)
			}
		}
		each(f)
	}
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.c != nil {
		C.de265_free_decoder(unsafe.Pointer(d.c))
		d.c = nil
	}
}
