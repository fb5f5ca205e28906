// Package aomenc encodes AV1 for live renditions with libaom, which takes keyframes wherever they are asked for: one
// picture in, one temporal unit out, on one thread.
package aomenc

/*
#cgo pkg-config: aom
#include <stdlib.h>
#include <string.h>
#include <aom/aomcx.h>
#include <aom/aom_encoder.h>

typedef struct {
	int width, height, kbits, buffer, overshoot, speed, quantizer, screen;
	int primaries, transfer, matrix, full;
} mp_settings;

typedef struct {
	aom_codec_ctx_t x;
	aom_codec_enc_cfg_t c;
} mp_encoder;

static mp_encoder *mp_open(const mp_settings *s) {
	aom_codec_enc_cfg_t c;
	if (aom_codec_enc_config_default(aom_codec_av1_cx(), &c, AOM_USAGE_REALTIME) != AOM_CODEC_OK) return NULL;
	c.g_w = s->width;
	c.g_h = s->height;
	c.g_timebase.num = 1;
	c.g_timebase.den = 90000;
	c.g_threads = 1;
	c.g_lag_in_frames = 0;
	c.rc_end_usage = AOM_CBR;
	c.rc_target_bitrate = s->kbits;
	c.rc_buf_sz = s->buffer;
	c.rc_buf_initial_sz = c.rc_buf_optimal_sz = s->buffer * 3 / 4;
	c.rc_overshoot_pct = s->overshoot;
	c.rc_min_quantizer = s->quantizer;
	c.rc_max_quantizer = 63;
	c.kf_mode = AOM_KF_DISABLED;
	mp_encoder *e = calloc(1, sizeof *e);
	if (!e) return NULL;
	e->c = c;
	aom_codec_ctx_t *x = &e->x;
	if (aom_codec_enc_init(x, aom_codec_av1_cx(), &c, 0) != AOM_CODEC_OK) { free(e); return NULL; }
	aom_codec_control(x, AOME_SET_CPUUSED, s->speed);
	aom_codec_control(x, AV1E_SET_AQ_MODE, 3);
	aom_codec_control(x, AV1E_SET_ENABLE_OBMC, 0);
	aom_codec_control(x, AV1E_SET_ENABLE_GLOBAL_MOTION, 0);
	aom_codec_control(x, AV1E_SET_ENABLE_WARPED_MOTION, 0);
	aom_codec_control(x, AOME_SET_MAX_INTRA_BITRATE_PCT, 300);
	aom_codec_control(x, AV1E_SET_MAX_INTER_BITRATE_PCT, 200);
	aom_codec_control(x, AV1E_SET_COLOR_PRIMARIES, s->primaries);
	aom_codec_control(x, AV1E_SET_TRANSFER_CHARACTERISTICS, s->transfer);
	aom_codec_control(x, AV1E_SET_MATRIX_COEFFICIENTS, s->matrix);
	aom_codec_control(x, AV1E_SET_COLOR_RANGE, s->full);
	if (s->screen) aom_codec_control(x, AV1E_SET_TUNE_CONTENT, AOM_CONTENT_SCREEN);
	return e;
}

static void mp_quantizer(mp_encoder *e, int q) {
	e->c.rc_min_quantizer = q;
	aom_codec_enc_config_set(&e->x, &e->c);
}

static int mp_encode(mp_encoder *e, int width, int height, unsigned char *y, unsigned char *u, unsigned char *v, int sy, int sc,
		long long pts, long long duration, int key, const void **data, int *size) {
	aom_codec_ctx_t *x = &e->x;
	aom_image_t img;
	memset(&img, 0, sizeof img);
	img.fmt = AOM_IMG_FMT_I420;
	img.w = img.d_w = width;
	img.h = img.d_h = height;
	img.x_chroma_shift = img.y_chroma_shift = 1;
	img.bps = 12;
	img.bit_depth = 8;
	img.planes[0] = y; img.planes[1] = u; img.planes[2] = v;
	img.stride[0] = sy; img.stride[1] = img.stride[2] = sc;
	*size = 0;
	if (aom_codec_encode(x, &img, pts, duration, key ? AOM_EFLAG_FORCE_KF : 0) != AOM_CODEC_OK) return -1;
	aom_codec_iter_t it = NULL;
	const aom_codec_cx_pkt_t *p;
	while ((p = aom_codec_get_cx_data(x, &it)))
		if (p->kind == AOM_CODEC_CX_FRAME_PKT) { *data = p->data.frame.buf; *size = p->data.frame.sz; }
	return 0;
}

static void mp_close(mp_encoder *e) { aom_codec_destroy(&e->x); free(e); }
*/
import "C"

import (
	"fmt"
	"unsafe"

	"metaplasis/internal/codec/settings"
	"metaplasis/internal/core/av1"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Encoder encodes one rendition of a live channel. Keyframes come only where they are asked for.
type Encoder struct {
	x        *C.mp_encoder
	settings settings.Pictures
	step     int64 // of a picture for rate control, ticks of media.VideoTimescale
	base     int64 // time of the first picture: the library counts from there
	begun    bool
	// The decoder's buffer, which the library takes lightly: bits that are in it, and the time of the picture before.
	level     int64
	before    int64
	quantizer int // the best that is allowed now
	track     media.Track
}

// fastest is the library's speed at effort 1; each effort is one slower, down to slowest.
const (
	fastest = 10
	slowest = 5
)

// Open opens an encoder: the buffer and the peak hold.
func Open(s settings.Pictures) (*Encoder, error) {
	if s.Effort < 1 || s.Effort > 9 || s.Width < 16 || s.Height < 16 || s.Bitrate < 1000 {
		return nil, fmt.Errorf("AV1 encoder: effort %d at %dx%d and %d bit/s, expected 1 to 9 and a picture", s.Effort, s.Width, s.Height, s.Bitrate)
	}
	e := &Encoder{settings: s, quantizer: bestQuantizer, step: media.VideoTimescale / 30}
	if s.FrameRate.Valid() {
		e.step = s.FrameRate.Period(media.VideoTimescale)
	}
	if s.Quality > 0 {
		e.quantizer = s.Quantizer(60, bestQuantizer)
	}
	e.level = e.capacity()
	// The head of the stream, which the track needs, comes with a first picture: an encoder of its own makes it.
	if err := e.open(); err != nil {
		return nil, err
	}
	u, err := e.encode(picture.New(s.Width, s.Height), 0, true)
	if err == nil {
		e.track = media.Track{Kind: media.Video, Codec: media.AV1, Timescale: media.VideoTimescale, SAR: media.Rational{Num: 1, Den: 1}}
		err = av1.Complete(&e.track, u.Data)
	}
	e.Close()
	if err != nil {
		return nil, err
	}
	if s.SAR.Valid() {
		e.track.SAR = s.SAR
	}
	e.track.FrameRate = s.FrameRate
	return e, e.open()
}

func (e *Encoder) open() error {
	s := e.settings
	c := C.mp_settings{
		width: C.int(s.Width), height: C.int(s.Height), kbits: C.int(s.Bitrate / 1000), buffer: C.int(max(s.Buffer, 100)),
		overshoot: C.int(min((max(s.Peak, s.Bitrate)-s.Bitrate)*100/s.Bitrate, 100)), speed: C.int(max(fastest-(s.Effort-1), slowest)),
		primaries: point(s.Colour.Primaries), transfer: point(s.Colour.Transfer), matrix: point(s.Colour.Matrix),
	}
	c.quantizer = C.int(e.quantizer)
	if s.Content != ladder.Camera {
		c.screen = 1
	}
	if s.Colour.FullRange {
		c.full = 1
	}
	if e.x = C.mp_open(&c); e.x == nil {
		return fmt.Errorf("the AV1 encoder refused %dx%d at %d bit/s", s.Width, s.Height, s.Bitrate)
	}
	return nil
}

// point is a code point of ITU-T H.273, 2 where none is told.
func point(v uint8) C.int {
	if v == 0 {
		return 2
	}
	return C.int(v)
}

// Track describes what comes out.
func (e *Encoder) Track() (media.Track, error) { return e.track, nil }

// Encode takes the next picture and returns its temporal unit; nil of no picture.
func (e *Encoder) Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	if p == nil {
		return nil, nil
	}
	if !e.begun {
		e.begun, e.base, e.before = true, pts, pts
	}
	e.level = min(e.level+media.RescaleDown(pts-e.before, media.VideoTimescale, max(e.settings.Peak, e.settings.Bitrate)), e.capacity())
	e.before = pts
	u, err := e.encode(p, pts, key)
	// A keyframe refers to nothing: one that is too large is encoded again, by an encoder that may do no better.
	asked := e.quantizer
	for err == nil && key && int64(len(u.Data))*8 > e.level*3/4 && e.quantizer < worstQuantizer {
		e.quantizer = min(e.quantizer+18, worstQuantizer)
		e.Close()
		if err = e.open(); err == nil {
			e.base = pts
			u, err = e.encode(p, pts, key)
		}
	}
	if err != nil {
		return nil, err
	}
	e.level -= int64(len(u.Data)) * 8
	if e.quantizer = asked; e.level < e.capacity()/3 {
		C.mp_quantizer(e.x, C.int(worstQuantizer)) // until there is room again
	} else {
		C.mp_quantizer(e.x, C.int(asked))
	}
	return u, nil
}

// The range of the library's quantizers that is used.
const (
	bestQuantizer  = 8
	worstQuantizer = 63
)

// capacity is what the decoder's buffer holds, in bits.
func (e *Encoder) capacity() int64 {
	return max(e.settings.Peak, e.settings.Bitrate) * int64(max(e.settings.Buffer, 100)) / 1000
}

func (e *Encoder) encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	var data unsafe.Pointer
	var size, k C.int
	if key {
		k = 1
	}
	if C.mp_encode(e.x, C.int(p.Width), C.int(p.Height), (*C.uchar)(&p.Y[0]), (*C.uchar)(&p.U[0]), (*C.uchar)(&p.V[0]), C.int(p.StrideY), C.int(p.Stride),
		C.longlong(pts-e.base), C.longlong(e.step), k, &data, &size) != 0 || size == 0 {
		return nil, fmt.Errorf("AV1 encoder: failed at time %d", pts)
	}
	u, err := av1.ParseUnit(C.GoBytes(data, size))
	if err != nil {
		return nil, err
	}
	return &media.AccessUnit{DTS: pts, PTS: pts, Key: key, Data: u.Data}, nil
}

// Waiting returns 0: a unit comes out with its picture.
func (e *Encoder) Waiting() int { return 0 }

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.x != nil {
		C.mp_close(e.x)
		e.x = nil
	}
}
