// Package feeds makes small feeds of every kind that encoders really send: rates, structures,
// timestamps, headers and interleavings. They are drawn and encoded here, in a second or less each,
// and sent in real time over RTMP. Every picture carries its number as a block code.
package feeds

/*
#cgo pkg-config: x264
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <x264.h>

typedef struct {
	uint8_t *data;
	int size, key;
	int64_t pts, dts;
} feed_packet;

static void feed_silent(void *p, int level, const char *format, va_list args) {}

static x264_param_t *feed_params(int width, int height, int num, int den) {
	x264_param_t *p = calloc(1, sizeof *p);
	x264_param_default_preset(p, "superfast", NULL);
	p->pf_log = feed_silent;
	p->i_threads = 1;
	p->i_lookahead_threads = 1;
	p->i_sync_lookahead = 0;
	p->i_csp = X264_CSP_I420;
	p->i_width = width;
	p->i_height = height;
	p->i_fps_num = num;
	p->i_fps_den = den;
	p->i_timebase_num = 1;
	p->i_timebase_den = 90000;
	p->b_vfr_input = 1;
	p->i_scenecut_threshold = 0;
	p->b_repeat_headers = 0;
	p->b_annexb = 0;
	p->rc.i_rc_method = X264_RC_CRF;
	p->rc.f_rf_constant = 26;
	return p;
}

static x264_t *feed_open(x264_param_t *p, const char *profile) {
	if (profile[0] && x264_param_apply_profile(p, profile) != 0) return NULL;
	return x264_encoder_open(p);
}

static int feed_headers(x264_t *x, uint8_t *sps, int *sps_len, uint8_t *pps, int *pps_len) {
	x264_nal_t *nal;
	int n;
	if (x264_encoder_headers(x, &nal, &n) < 0) return -1;
	for (int i = 0; i < n; i++) {
		int len = nal[i].i_payload - 4;
		if (len <= 0 || len > 1024) continue;
		if (nal[i].i_type == NAL_SPS) { memcpy(sps, nal[i].p_payload + 4, len); *sps_len = len; }
		if (nal[i].i_type == NAL_PPS) { memcpy(pps, nal[i].p_payload + 4, len); *pps_len = len; }
	}
	return 0;
}

static int feed_encode(x264_t *x, uint8_t *y, uint8_t *u, uint8_t *v, int sy, int sc, int64_t pts, feed_packet *out) {
	x264_picture_t in, done;
	x264_nal_t *nal;
	int n;
	if (y) {
		x264_picture_init(&in);
		in.img.i_csp = X264_CSP_I420;
		in.img.i_plane = 3;
		in.img.plane[0] = y; in.img.plane[1] = u; in.img.plane[2] = v;
		in.img.i_stride[0] = sy; in.img.i_stride[1] = sc; in.img.i_stride[2] = sc;
		in.i_pts = pts;
	}
	int size = x264_encoder_encode(x, &nal, &n, y ? &in : NULL, &done);
	out->size = 0;
	if (size < 0) return -1;
	if (size > 0) {
		out->data = nal[0].p_payload;
		out->size = size;
		out->key = done.b_keyframe;
		out->pts = done.i_pts;
		out->dts = done.i_dts;
	}
	return 0;
}
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// encoded is a picture as it was encoded; times in ticks of media.VideoTimescale.
type coded struct {
	pts, dts int64
	data     []byte
}

// encode draws pictures shown at the given times and encodes them. options are the encoder library's.
func encode(width, height int, rate media.Rational, times []int64, profile string, options [][2]string) (list []coded, record avc.Config, err error) {
	p := C.feed_params(C.int(width), C.int(height), C.int(rate.Num), C.int(rate.Den))
	defer C.free(unsafe.Pointer(p))
	for _, o := range options {
		name, value := C.CString(o[0]), C.CString(o[1])
		rc := C.x264_param_parse(p, name, value)
		C.free(unsafe.Pointer(name))
		C.free(unsafe.Pointer(value))
		if rc != 0 {
			return nil, record, fmt.Errorf("the encoder does not take %s=%s", o[0], o[1])
		}
	}
	cp := C.CString(profile)
	defer C.free(unsafe.Pointer(cp))
	x := C.feed_open(p, cp)
	if x == nil {
		return nil, record, errors.New("the encoder did not start")
	}
	defer C.x264_encoder_close(x)
	var sps, pps [1024]byte
	var nSPS, nPPS C.int
	if C.feed_headers(x, (*C.uint8_t)(&sps[0]), &nSPS, (*C.uint8_t)(&pps[0]), &nPPS) != 0 {
		return nil, record, errors.New("the encoder wrote no parameter sets")
	}
	record = avc.Config{LengthSize: 4, SPS: [][]byte{append([]byte(nil), sps[:nSPS]...)}, PPS: [][]byte{append([]byte(nil), pps[:nPPS]...)}}
	pic := picture.New(width, height)
	take := func(n int) error {
		var out C.feed_packet
		var rc C.int
		if n < len(times) {
			Draw(pic, n)
			rc = C.feed_encode(x, (*C.uint8_t)(&pic.Y[0]), (*C.uint8_t)(&pic.U[0]), (*C.uint8_t)(&pic.V[0]), C.int(pic.StrideY), C.int(pic.Stride), C.int64_t(times[n]), &out)
		} else {
			rc = C.feed_encode(x, nil, nil, nil, 0, 0, 0, &out)
		}
		if rc != 0 {
			return fmt.Errorf("picture %d was not encoded", n)
		}
		if out.size > 0 {
			list = append(list, coded{int64(out.pts), int64(out.dts), C.GoBytes(unsafe.Pointer(out.data), out.size)})
		}
		return nil
	}
	for n := range times {
		if err := take(n); err != nil {
			return nil, record, err
		}
	}
	for C.x264_encoder_delayed_frames(x) > 0 {
		if err := take(len(times)); err != nil {
			return nil, record, err
		}
	}
	return list, record, nil
}

// draw paints water, a buoy that drifts by, and the picture's number.
func Draw(p *picture.Picture, n int) {
	for y := range p.Height {
		row := p.Y[y*p.StrideY : y*p.StrideY+p.Width]
		for x := range row {
			row[x] = byte(70 + (x+y+3*n)%64)
		}
	}
	for i := range p.U {
		p.U[i], p.V[i] = 150, 110
	}
	side := p.Height / 5
	left, top := (n*3)%max(p.Width-side, 1), p.Height/4
	for y := top; y < top+side; y++ {
		for x := left; x < left+side; x++ {
			p.Y[y*p.StrideY+x] = 200
			p.U[y/2*p.Stride+x/2], p.V[y/2*p.Stride+x/2] = 90, 200
		}
	}
	for cell, white := range picture.EncodeNumber(n % picture.CodeNumbers) {
		x0, y0, side := picture.CodeCell(p.Width, p.Height, cell)
		level := byte(20)
		if white {
			level = 230
		}
		for y := y0; y < y0+side; y++ {
			for x := x0; x < x0+side; x++ {
				p.Y[y*p.StrideY+x] = level
				p.U[y/2*p.Stride+x/2], p.V[y/2*p.Stride+x/2] = 128, 128
			}
		}
	}
}
