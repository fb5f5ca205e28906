// Package vpxdec decodes VP8 and VP9 with libvpx. It touches bytes from outside in C and so runs in a worker
// process only.
package vpxdec

/*
#cgo pkg-config: vpx
#include <stdlib.h>
#include <string.h>
#include <vpx/vp8dx.h>
#include <vpx/vpx_decoder.h>

typedef struct {
	unsigned char *plane[3];
	int stride[3];
	int width, height, depth, shift_x, shift_y, got;
} mp_frame;

static vpx_codec_ctx_t *mp_open(int vp9) {
	vpx_codec_ctx_t *x = calloc(1, sizeof *x);
	if (!x) return NULL;
	vpx_codec_dec_cfg_t c = {1, 0, 0};
	if (vpx_codec_dec_init(x, vp9 ? vpx_codec_vp9_dx() : vpx_codec_vp8_dx(), &c, 0) != VPX_CODEC_OK) { free(x); return NULL; }
	return x;
}

// mp_decode leaves the last picture of the unit in f: the one that is shown.
static int mp_decode(vpx_codec_ctx_t *x, const unsigned char *data, unsigned int len, mp_frame *f) {
	f->got = 0;
	int rc = vpx_codec_decode(x, data, len, NULL, 0);
	vpx_codec_iter_t it = NULL;
	vpx_image_t *img;
	while ((img = vpx_codec_get_frame(x, &it))) {
		for (int i = 0; i < 3; i++) { f->plane[i] = img->planes[i]; f->stride[i] = img->stride[i]; }
		f->width = img->d_w;
		f->height = img->d_h;
		f->depth = img->fmt & VPX_IMG_FMT_HIGHBITDEPTH ? img->bit_depth : 8;
		f->shift_x = img->x_chroma_shift;
		f->shift_y = img->y_chroma_shift;
		f->got = 1;
	}
	return rc;
}

static void mp_close(vpx_codec_ctx_t *x) { vpx_codec_destroy(x); free(x); }
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Decoder decodes one stream.
type Decoder struct {
	x *C.vpx_codec_ctx_t
	f C.mp_frame
}

// New makes a decoder of media.VP8 or media.VP9.
func New(c media.Codec) (*Decoder, error) {
	vp9 := C.int(0)
	if c == media.VP9 {
		vp9 = 1
	}
	x := C.mp_open(vp9)
	if x == nil {
		return nil, errors.New("the VP8 and VP9 decoder did not start")
	}
	return &Decoder{x: x}, nil
}

// Decode takes one unit and hands out its picture, if it shows one. Nothing waits in the decoder: nil does
// nothing. The picture lies in the decoder's memory.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	if u == nil || len(u.Data) == 0 {
		return nil
	}
	rc := C.mp_decode(d.x, (*C.uchar)(unsafe.Pointer(&u.Data[0])), C.uint(len(u.Data)), &d.f)
	if d.f.got != 0 {
		f := &picture.Frame{Width: int(d.f.width), Height: int(d.f.height), StrideY: int(d.f.stride[0]), Stride: int(d.f.stride[1]),
			Depth: int(d.f.depth), Chroma: picture.ChromaOf(int(d.f.shift_x), int(d.f.shift_y)), PTS: u.PTS}
		for i := range f.Plane {
			f.Plane[i] = unsafe.Pointer(d.f.plane[i])
		}
		each(f)
	}
	if rc != C.VPX_CODEC_OK {
		return fmt.Errorf("VP8 and VP9 decoder: error %d in a unit of %d bytes", int(rc), len(u.Data))
	}
	return nil
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.x != nil {
		C.mp_close(d.x)
		d.x = nil
	}
}
