// Package vp9enc encodes VP9 with libvpx: one picture in, one frame out, on one thread.
package vp9enc

/*
#cgo pkg-config: vpx
#include <stdlib.h>
#include <string.h>
#include <vpx/vp8cx.h>
#include <vpx/vpx_encoder.h>

static vpx_codec_ctx_t *mp_open(int vp8, int width, int height, int kbits, int speed, int live, int peak, int buffer, int cq, int content) {
	vpx_codec_iface_t *kind = vp8 ? vpx_codec_vp8_cx() : vpx_codec_vp9_cx();
	vpx_codec_enc_cfg_t c;
	if (vpx_codec_enc_config_default(kind, &c, 0) != VPX_CODEC_OK) return NULL;
	c.g_w = width;
	c.g_h = height;
	c.g_timebase.num = 1;
	c.g_timebase.den = 90000;
	c.g_threads = 1;
	c.g_lag_in_frames = 0;
	c.rc_end_usage = VPX_VBR;
	c.rc_target_bitrate = kbits;
	c.kf_mode = VPX_KF_DISABLED;
	if (live) {
		c.rc_end_usage = VPX_CBR;
		c.rc_overshoot_pct = peak;
		c.rc_buf_sz = buffer;
		c.rc_buf_initial_sz = c.rc_buf_optimal_sz = buffer * 3 / 4;
		c.rc_min_quantizer = 4;
		c.rc_max_quantizer = 63;
		if (cq) c.rc_min_quantizer = cq; // no better than asked for, and no more than the rate
	}
	vpx_codec_ctx_t *x = calloc(1, sizeof *x);
	if (!x) return NULL;
	if (vpx_codec_enc_init(x, kind, &c, 0) != VPX_CODEC_OK) { free(x); return NULL; }
	vpx_codec_control(x, VP8E_SET_CPUUSED, speed);
	if (live) {
		vpx_codec_control(x, VP9E_SET_AQ_MODE, 3);
		if (content) vpx_codec_control(x, VP9E_SET_TUNE_CONTENT, content);
		vpx_codec_control(x, VP8E_SET_MAX_INTRA_BITRATE_PCT, 300);
	}
	return x;
}

static int mp_encode(vpx_codec_ctx_t *x, int width, int height, unsigned char *y, unsigned char *u, unsigned char *v, int sy, int sc,
		long long pts, long long duration, int key, const void **data, int *size) {
	vpx_image_t img;
	memset(&img, 0, sizeof img);
	img.fmt = VPX_IMG_FMT_I420;
	img.w = img.d_w = width;
	img.h = img.d_h = height;
	img.x_chroma_shift = img.y_chroma_shift = 1;
	img.bps = 12;
	img.bit_depth = 8;
	img.planes[0] = y; img.planes[1] = u; img.planes[2] = v;
	img.stride[0] = sy; img.stride[1] = img.stride[2] = sc;
	*size = 0;
	if (vpx_codec_encode(x, &img, pts, duration, key ? VPX_EFLAG_FORCE_KF : 0, VPX_DL_REALTIME) != VPX_CODEC_OK) return -1;
	vpx_codec_iter_t it = NULL;
	const vpx_codec_cx_pkt_t *p;
	while ((p = vpx_codec_get_cx_data(x, &it)))
		if (p->kind == VPX_CODEC_CX_FRAME_PKT) { *data = p->data.frame.buf; *size = p->data.frame.sz; }
	return 0;
}

static void mp_close(vpx_codec_ctx_t *x) { vpx_codec_destroy(x); free(x); }
*/
import "C"

import (
	"fmt"
	"unsafe"

	"metaplasis/internal/codec/settings"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/vp9"
)

// Encoder encodes one rendition. Keyframes come only where they are asked for.
type Encoder struct {
	x      *C.vpx_codec_ctx_t
	Config vp9.Config
}

// Settings of an encoder of live pictures.
type Settings = settings.Pictures

// Open opens an encoder of live pictures: the buffer and the peak hold.
func Open(s Settings) (*Live, error) {
	if s.Effort < 1 || s.Effort > 9 || s.Width < 2 || s.Height < 2 || s.Bitrate < 1000 {
		return nil, fmt.Errorf("VP9 encoder: effort %d at %dx%d and %d bit/s, expected 1 to 9 and a picture", s.Effort, s.Width,
			s.Height, s.Bitrate)
	}
	over := (max(s.Peak, s.Bitrate) - s.Bitrate) * 100 / s.Bitrate
	const slack = 95 // per cent: the library misses its target by as much as it lacks
	quantizer, content := C.int(0), C.int(C.VP9E_CONTENT_DEFAULT)
	if s.Quality > 0 {
		quantizer = C.int(s.Quantizer(60, 5))
	}
	if s.Content != ladder.Camera {
		content = C.VP9E_CONTENT_SCREEN
	}
	x := C.mp_open(0, C.int(s.Width), C.int(s.Height), C.int(s.Bitrate*slack/100_000), C.int(9-(s.Effort-1)/2), 1, C.int(min(over, 100)),
		C.int(max(s.Buffer, 100)), quantizer, content)
	if x == nil {
		return nil, fmt.Errorf("the VP9 encoder refused %dx%d at %d bit/s", s.Width, s.Height, s.Bitrate)
	}
	l := &Live{settings: s, e: Encoder{x: x, Config: vp9.Config{Level: level(s.Width * s.Height), Depth: 8, Chroma: 1,
		Colour: s.Colour}}}
	l.step = media.VideoTimescale / 30
	if s.FrameRate.Valid() {
		l.step = s.FrameRate.Period(media.VideoTimescale)
	}
	return l, nil
}

// Live encodes one rendition of a live channel: a picture in, a frame out.
type Live struct {
	e        Encoder
	settings Settings
	step     int64 // of a picture for rate control, ticks of media.VideoTimescale
}

// Track describes what comes out.
func (l *Live) Track() (media.Track, error) {
	t := l.e.Config.Track()
	t.Width, t.Height, t.FrameRate = l.settings.Width, l.settings.Height, l.settings.FrameRate
	if l.settings.SAR.Valid() {
		t.SAR = l.settings.SAR
	}
	return t, nil
}

// Encode takes the next picture and returns its frame; nil of no picture.
func (l *Live) Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	if p == nil {
		return nil, nil
	}
	u, err := l.e.Encode(p, pts, l.step, key)
	if u != nil {
		u.Duration = 0 // when the next one comes is not known here
	}
	return u, err
}

// Waiting returns 0: a frame comes out with its picture.
func (l *Live) Waiting() int { return 0 }

// Close frees the encoder.
func (l *Live) Close() { l.e.Close() }

// New opens an encoder. Bitrate is bits per second; effort is 1 to 9.
func New(width, height int, bitrate int64, effort int) (*Encoder, error) {
	x := C.mp_open(0, C.int(width), C.int(height), C.int(bitrate/1000), C.int(9-effort), 0, 0, 0, 0, 0)
	if x == nil {
		return nil, fmt.Errorf("the VP9 encoder refused %dx%d at %d bit/s", width, height, bitrate)
	}
	return &Encoder{x: x, Config: vp9.Config{Level: level(width * height), Depth: 8, Chroma: 1}}, nil
}

// NewVP8 opens an encoder of VP8, for loops and tests: its Config is none.
func NewVP8(width, height int, bitrate int64, effort int) (*Encoder, error) {
	x := C.mp_open(1, C.int(width), C.int(height), C.int(bitrate/1000), C.int(9-effort), 0, 0, 0, 0, 0)
	if x == nil {
		return nil, fmt.Errorf("the VP8 encoder refused %dx%d at %d bit/s", width, height, bitrate)
	}
	return &Encoder{x: x}, nil
}

// level is the lowest that a picture's size allows ("VP9 Levels": luma picture sizes).
func level(samples int) uint8 {
	for _, l := range []struct {
		level   uint8
		samples int
	}{{10, 36_864}, {11, 73_728}, {20, 122_880}, {21, 245_760}, {30, 552_960}, {31, 983_040}, {40, 2_228_224}, {50, 8_912_896}} {
		if samples <= l.samples {
			return l.level
		}
	}
	return 60
}

// Encode takes the next picture and returns its frame. Times are in ticks of media.VideoTimescale.
func (e *Encoder) Encode(p *picture.Picture, pts, duration int64, key bool) (*media.AccessUnit, error) {
	var data unsafe.Pointer
	var size, k C.int
	if key {
		k = 1
	}
	if C.mp_encode(e.x, C.int(p.Width), C.int(p.Height), (*C.uchar)(&p.Y[0]), (*C.uchar)(&p.U[0]), (*C.uchar)(&p.V[0]), C.int(p.StrideY), C.int(p.Stride),
		C.longlong(pts), C.longlong(duration), k, &data, &size) != 0 || size == 0 {
		return nil, fmt.Errorf("VP9 encoder: failed at time %d", pts)
	}
	return &media.AccessUnit{DTS: pts, PTS: pts, Duration: duration, Key: key, Data: C.GoBytes(data, size)}, nil
}

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.x != nil {
		C.mp_close(e.x)
		e.x = nil
	}
}
