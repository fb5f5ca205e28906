// Package av1dec decodes AV1 with dav1d, on one thread. It touches bytes from outside in C and so runs in a
// worker process only.
package av1dec

/*
#cgo pkg-config: dav1d
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <dav1d/dav1d.h>

typedef struct {
	Dav1dContext *c;
	Dav1dPicture pic;
	int held;
} mp_dec;

static void mp_quiet(void *cookie, const char *format, va_list ap) {}

static mp_dec *mp_open(void) {
	mp_dec *d = calloc(1, sizeof *d);
	if (!d) return NULL;
	Dav1dSettings s;
	dav1d_default_settings(&s);
	s.n_threads = 1;
	s.max_frame_delay = 1;
	s.frame_size_limit = 8192 * 4320;
	s.logger.callback = mp_quiet;
	if (dav1d_open(&d->c, &s) < 0) { free(d); return NULL; }
	return d;
}

static void mp_drop(mp_dec *d) {
	if (d->held) dav1d_picture_unref(&d->pic);
	d->held = 0;
}

// mp_send copies a unit in; the context takes all of it, or refuses it.
static int mp_send(mp_dec *d, const unsigned char *data, size_t len, long long pts) {
	Dav1dData in;
	memset(&in, 0, sizeof in);
	unsigned char *to = dav1d_data_create(&in, len);
	if (!to) return -1;
	memcpy(to, data, len);
	in.m.timestamp = pts;
	int rc = dav1d_send_data(d->c, &in);
	if (in.sz > 0) dav1d_data_unref(&in);
	return rc;
}

// mp_take returns 1 with a picture in d->pic, 0 without, less on failure.
static int mp_take(mp_dec *d) {
	mp_drop(d);
	memset(&d->pic, 0, sizeof d->pic);
	int rc = dav1d_get_picture(d->c, &d->pic);
	if (rc == DAV1D_ERR(EAGAIN)) return 0;
	if (rc < 0) return rc;
	d->held = 1;
	return 1;
}

static void mp_close(mp_dec *d) { mp_drop(d); dav1d_close(&d->c); free(d); }
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
type Decoder struct{ d *C.mp_dec }

// New makes a decoder.
func New() (*Decoder, error) {
	d := C.mp_open()
	if d == nil {
		return nil, errors.New("the AV1 decoder did not start")
	}
	return &Decoder{d}, nil
}

// Decode takes one temporal unit and hands out its pictures; nil hands out what is left. A picture lies in the
// decoder's memory until each returns.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	if u != nil && len(u.Data) > 0 {
		if rc := C.mp_send(d.d, (*C.uchar)(unsafe.Pointer(&u.Data[0])), C.size_t(len(u.Data)), C.longlong(u.PTS)); rc < 0 {
			return fmt.Errorf("AV1 decoder: error %d in a unit of %d bytes", int(rc), len(u.Data))
		}
	}
	for {
		rc := C.mp_take(d.d)
		if rc < 0 {
			return fmt.Errorf("AV1 decoder: error %d", int(rc))
		}
		if rc == 0 {
			return nil
		}
		p := &d.d.pic
		f := &picture.Frame{Width: int(p.p.w), Height: int(p.p.h), StrideY: int(p.stride[0]), Stride: int(p.stride[1]),
			Depth: int(p.p.bpc), PTS: int64(p.m.timestamp)}
		switch p.p.layout {
		case C.DAV1D_PIXEL_LAYOUT_I400:
			f.Chroma = picture.Grey
		case C.DAV1D_PIXEL_LAYOUT_I422:
			f.Chroma = picture.Chroma422
		case C.DAV1D_PIXEL_LAYOUT_I444:
			f.Chroma = picture.Chroma444
		}
		for i := range f.Plane {
			f.Plane[i] = unsafe.Pointer(p.data[i])
		}
		each(f)
		C.mp_drop(d.d)
	}
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.d != nil {
		C.mp_close(d.d)
		d.d = nil
	}
}
