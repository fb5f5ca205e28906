// Package av1enc encodes AV1 with SVT-AV1, every picture from those before it, on one thread.
package av1enc

/*
#cgo pkg-config: SvtAv1Enc
#include <stdlib.h>
#include <string.h>
#include <svt-av1/EbSvtAv1Enc.h>

typedef struct {
	EbComponentType *h;
	EbSvtAv1EncConfiguration c;
	int width, height;
} mp_enc;

static mp_enc *mp_open(int width, int height, int rate_num, int rate_den, int kbits, int preset, int keys) {
	setenv("SVT_LOG", "1", 0); // errors alone: it writes a page to standard error otherwise
	mp_enc *e = calloc(1, sizeof *e);
	if (!e) return NULL;
	if (svt_av1_enc_init_handle(&e->h, NULL, &e->c) != EB_ErrorNone) { free(e); return NULL; }
	e->width = width;
	e->height = height;
	e->c.source_width = width;
	e->c.source_height = height;
	e->c.frame_rate_numerator = rate_num;
	e->c.frame_rate_denominator = rate_den;
	e->c.encoder_bit_depth = 8;
	e->c.encoder_color_format = EB_YUV420;
	e->c.enc_mode = preset;
	e->c.pred_structure = 1; // low delay
	e->c.intra_period_length = keys - 1;
	e->c.intra_refresh_type = 2; // key frames
	e->c.rate_control_mode = 2;  // constant bitrate
	e->c.target_bit_rate = kbits * 1000;
	e->c.logical_processors = 1;
	if (svt_av1_enc_set_parameter(e->h, &e->c) != EB_ErrorNone || svt_av1_enc_init(e->h) != EB_ErrorNone) {
		svt_av1_enc_deinit_handle(e->h);
		free(e);
		return NULL;
	}
	return e;
}

static int mp_send(mp_enc *e, unsigned char *y, unsigned char *u, unsigned char *v, int sy, int sc, long long pts) {
	EbSvtIOFormat f;
	EbBufferHeaderType b;
	memset(&f, 0, sizeof f);
	memset(&b, 0, sizeof b);
	b.size = sizeof b;
	b.pic_type = EB_AV1_INVALID_PICTURE;
	if (y) {
		f.luma = y; f.cb = u; f.cr = v;
		f.y_stride = sy; f.cb_stride = f.cr_stride = sc;
		f.width = e->width; f.height = e->height;
		f.color_fmt = EB_YUV420;
		b.p_buffer = (uint8_t *)&f;
		b.n_filled_len = sy * e->height + sc * e->height;
		b.pts = pts;
	} else {
		b.flags = EB_BUFFERFLAG_EOS;
	}
	return svt_av1_enc_send_picture(e->h, &b) == EB_ErrorNone ? 0 : -1;
}

// mp_take returns 1 with a packet, 0 without, 2 at the end, -1 on failure.
static int mp_take(mp_enc *e, int wait, EbBufferHeaderType **out) {
	EbErrorType err = svt_av1_enc_get_packet(e->h, out, wait);
	if (err == EB_NoErrorEmptyQueue) return 0;
	if (err != EB_ErrorNone) return -1;
	if ((*out)->flags & EB_BUFFERFLAG_EOS && (*out)->n_filled_len == 0) { svt_av1_enc_release_out_buffer(out); return 2; }
	return 1;
}

static void mp_release(EbBufferHeaderType *b) { svt_av1_enc_release_out_buffer(&b); }

static void mp_close(mp_enc *e) {
	svt_av1_enc_deinit(e->h);
	svt_av1_enc_deinit_handle(e->h);
	free(e);
}
*/
import "C"

import (
	"fmt"
	"unsafe"

	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Encoder encodes one rendition, with a key frame every so many pictures.
type Encoder struct {
	e *C.mp_enc
}

// New opens an encoder. Bitrate is bits per second; effort is 1 to 9; keys is the distance of key frames.
func New(width, height int, rate media.Rational, bitrate int64, effort, keys int) (*Encoder, error) {
	e := C.mp_open(C.int(width), C.int(height), C.int(rate.Num), C.int(rate.Den), C.int(bitrate/1000), C.int(12-effort), C.int(keys))
	if e == nil {
		return nil, fmt.Errorf("the AV1 encoder refused %dx%d at %d bit/s", width, height, bitrate)
	}
	return &Encoder{e}, nil
}

// Send takes the next picture, nil behind the last. The time is in ticks of media.VideoTimescale.
func (e *Encoder) Send(p *picture.Picture, pts int64) error {
	rc := C.int(0)
	if p == nil {
		rc = C.mp_send(e.e, nil, nil, nil, 0, 0, 0)
	} else {
		rc = C.mp_send(e.e, (*C.uchar)(&p.Y[0]), (*C.uchar)(&p.U[0]), (*C.uchar)(&p.V[0]), C.int(p.StrideY), C.int(p.Stride), C.longlong(pts))
	}
	if rc != 0 {
		return fmt.Errorf("AV1 encoder: refused the picture at time %d", pts)
	}
	return nil
}

// Take returns the next temporal unit, nil when none is ready; with wait, nil at the end.
func (e *Encoder) Take(wait bool) (*media.AccessUnit, error) {
	var out *C.EbBufferHeaderType
	w := C.int(0)
	if wait {
		w = 1
	}
	switch C.mp_take(e.e, w, &out) {
	case 0, 2:
		return nil, nil
	case -1:
		return nil, fmt.Errorf("AV1 encoder: failed")
	}
	defer C.mp_release(out)
	u, err := av1.ParseUnit(C.GoBytes(unsafe.Pointer(out.p_buffer), C.int(out.n_filled_len)))
	if err != nil {
		return nil, err
	}
	return &media.AccessUnit{DTS: int64(out.pts), PTS: int64(out.pts), Key: u.Key, Data: u.Data}, nil
}

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.e != nil {
		C.mp_close(e.e)
		e.e = nil
	}
}
