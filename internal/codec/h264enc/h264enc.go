// Package h264enc encodes H.264 with libx264. One encoder has one thread: a ladder's rungs run
// side by side.
package h264enc

/*
#cgo pkg-config: x264
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <x264.h>

typedef struct {
	int width, height, sar_num, sar_den;
	int rate_num, rate_den;
	int bitrate, peak, buffer; // kbit/s, kbit/s, kbit
	int effort;
	int crf; // 0: keep to the bitrate
	int level; // tenths, 0: the lowest that fits
	int b_frames; // -1: none, 0: as the effort says
	const char *profile, *tune;
	int primaries, transfer, matrix, full; // of ITU-T H.273; 2: not told
} mp_settings;

typedef struct {
	uint8_t *data;
	int size, key;
	int64_t pts, dts;
} mp_packet;

static const char *mp_presets[] = {"ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower", "veryslow"};

static void mp_silent(void *p, int level, const char *format, va_list args) {}

static x264_t *mp_open(const mp_settings *s) {
	x264_param_t p;
	if (x264_param_default_preset(&p, mp_presets[s->effort - 1], s->tune) != 0) return NULL;
	p.pf_log = mp_silent;
	p.i_threads = 1;
	p.i_lookahead_threads = 1;
	p.i_sync_lookahead = 0;
	p.b_sliced_threads = 0;
	p.b_deterministic = 1;
	p.i_csp = X264_CSP_I420;
	p.i_width = s->width;
	p.i_height = s->height;
	p.vui.i_sar_width = s->sar_num;
	p.vui.i_sar_height = s->sar_den;
	p.vui.b_fullrange = s->full;
	p.vui.i_colorprim = s->primaries;
	p.vui.i_transfer = s->transfer;
	p.vui.i_colmatrix = s->matrix;
	p.i_fps_num = s->rate_num;
	p.i_fps_den = s->rate_den;
	p.i_timebase_num = 1;
	p.i_timebase_den = 90000;
	p.b_vfr_input = 1;
	p.i_keyint_max = X264_KEYINT_MAX_INFINITE;
	p.i_scenecut_threshold = 0;
	p.b_open_gop = 0;
	p.b_repeat_headers = 0;
	p.b_annexb = 0;
	p.rc.i_rc_method = X264_RC_ABR;
	p.rc.i_bitrate = s->bitrate;
	if (s->crf) {
		p.rc.i_rc_method = X264_RC_CRF;
		p.rc.f_rf_constant = s->crf;
	}
	if (s->level) p.i_level_idc = s->level;
	p.rc.i_vbv_max_bitrate = s->peak;
	p.rc.i_vbv_buffer_size = s->buffer;
	if (s->effort <= 4) {
		p.i_bframe = 0;
		p.rc.i_lookahead = 0;
		p.rc.b_mb_tree = 0;
	} else {
		p.i_bframe = 2;
		p.i_bframe_pyramid = X264_B_PYRAMID_NONE;
		if (p.rc.i_lookahead > 20) p.rc.i_lookahead = 20;
	}
	if (s->b_frames < 0) {
		p.i_bframe = 0;
		p.rc.i_lookahead = 0;
		p.rc.b_mb_tree = 0;
	} else if (s->b_frames > 0) {
		p.i_bframe = s->b_frames;
		p.i_bframe_pyramid = X264_B_PYRAMID_NONE;
	}
	if (x264_param_apply_profile(&p, s->profile) != 0) return NULL;
	return x264_encoder_open(&p);
}

static int mp_headers(x264_t *x, uint8_t *sps, int *sps_len, uint8_t *pps, int *pps_len, int room) {
	x264_nal_t *nal;
	int n;
	*sps_len = *pps_len = 0;
	if (x264_encoder_headers(x, &nal, &n) < 0) return -1;
	for (int i = 0; i < n; i++) {
		int len = nal[i].i_payload - 4;
		if (len <= 0 || len > room) continue;
		if (nal[i].i_type == NAL_SPS) { memcpy(sps, nal[i].p_payload + 4, len); *sps_len = len; }
		if (nal[i].i_type == NAL_PPS) { memcpy(pps, nal[i].p_payload + 4, len); *pps_len = len; }
	}
	return *sps_len && *pps_len ? 0 : -1;
}

static int mp_encode(x264_t *x, uint8_t *y, uint8_t *u, uint8_t *v, int sy, int sc, int64_t pts, int key, mp_packet *out) {
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
		in.i_type = key ? X264_TYPE_IDR : X264_TYPE_AUTO;
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
	"cmp"
	"errors"
	"fmt"
	"unsafe"

	"metaplasis/internal/codec/settings"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Settings of an encoder of live pictures.
type Settings = settings.Pictures

// Encoder encodes one rendition. Keyframes come only where they are asked for.
type Encoder struct {
	x      *C.x264_t
	Config avc.Config
}

// New opens an encoder.
func New(s Settings) (*Encoder, error) {
	if s.Effort < 1 || s.Effort > 9 || s.Width < 2 || s.Height < 2 {
		return nil, fmt.Errorf("H.264 encoder: effort %d at %dx%d, expected 1 to 9 and a picture", s.Effort, s.Width, s.Height)
	}
	if !s.FrameRate.Valid() {
		s.FrameRate = media.Rational{Num: 30, Den: 1}
	}
	if !s.SAR.Valid() {
		s.SAR = media.Rational{Num: 1, Den: 1}
	}
	peak := max(s.Peak, s.Bitrate)
	cs := C.mp_settings{
		width: C.int(s.Width), height: C.int(s.Height), sar_num: C.int(s.SAR.Num), sar_den: C.int(s.SAR.Den),
		rate_num: C.int(s.FrameRate.Num), rate_den: C.int(s.FrameRate.Den),
		bitrate: C.int(s.Bitrate / 1000), peak: C.int(peak / 1000), buffer: C.int(peak / 1000 * int64(max(s.Buffer, 100)) / 1000),
		effort:    C.int(s.Effort),
		primaries: point(s.Colour.Primaries), transfer: point(s.Colour.Transfer), matrix: point(s.Colour.Matrix),
	}
	if s.Colour.FullRange {
		cs.full = 1
	}
	cs.level, cs.b_frames = C.int(s.LevelTenths()), C.int(s.BFrames)
	if s.Quality > 0 {
		cs.crf = C.int(s.Quantizer(45, 8))
	}
	cs.profile = C.CString(cmp.Or(s.Profile, "high"))
	defer C.free(unsafe.Pointer(cs.profile))
	if tune := tunes[s.Content]; tune != "" {
		cs.tune = C.CString(tune)
		defer C.free(unsafe.Pointer(cs.tune))
	}
	x := C.mp_open(&cs)
	if x == nil {
		return nil, fmt.Errorf("the H.264 encoder refused %dx%d at %d bit/s", s.Width, s.Height, s.Bitrate)
	}
	e := &Encoder{x: x}
	const room = 1024
	var sps, pps [room]byte
	var nSPS, nPPS C.int
	if C.mp_headers(x, (*C.uint8_t)(&sps[0]), &nSPS, (*C.uint8_t)(&pps[0]), &nPPS, room) != 0 {
		e.Close()
		return nil, errors.New("the H.264 encoder wrote no parameter sets")
	}
	e.Config = avc.Config{LengthSize: 4, SPS: [][]byte{append([]byte(nil), sps[:nSPS]...)}, PPS: [][]byte{append([]byte(nil), pps[:nPPS]...)}}
	return e, nil
}

// tunes are what the library calls kinds of content.
var tunes = map[ladder.Content]string{ladder.Screen: "stillimage", ladder.Drawn: "animation"}

// point is a code point of ITU-T H.273, 2 where none is told.
func point(v uint8) C.int {
	if v == 0 {
		return 2
	}
	return C.int(v)
}

// Encode takes the next picture in presentation order, or nil at the end, and returns the next
// encoded one, or nil while the encoder waits (at the end: when it is empty). Times are in ticks
// of media.VideoTimescale.
func (e *Encoder) Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	var out C.mp_packet
	var rc C.int
	if p == nil {
		rc = C.mp_encode(e.x, nil, nil, nil, 0, 0, 0, 0, &out)
	} else {
		k := C.int(0)
		if key {
			k = 1
		}
		rc = C.mp_encode(e.x, (*C.uint8_t)(&p.Y[0]), (*C.uint8_t)(&p.U[0]), (*C.uint8_t)(&p.V[0]),
			C.int(p.StrideY), C.int(p.Stride), C.int64_t(pts), k, &out)
	}
	if rc != 0 {
		return nil, fmt.Errorf("H.264 encoder: failed at time %d", pts)
	}
	if out.size == 0 {
		return nil, nil
	}
	return &media.AccessUnit{
		PTS: int64(out.pts), DTS: int64(out.dts), Key: out.key != 0,
		Data: C.GoBytes(unsafe.Pointer(out.data), out.size),
	}, nil
}

// Track describes what comes out.
func (e *Encoder) Track() (media.Track, error) { return e.Config.Track() }

// Waiting returns how many pictures the encoder holds.
func (e *Encoder) Waiting() int { return int(C.x264_encoder_delayed_frames(e.x)) }

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.x != nil {
		C.x264_encoder_close(e.x)
		e.x = nil
	}
}
