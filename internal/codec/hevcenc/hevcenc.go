// Package hevcenc encodes HEVC with libx265: one picture in, one out.
package hevcenc

/*
#cgo pkg-config: x265
#include <stdlib.h>
#include <string.h>
#include <x265.h>

typedef struct {
	int width, height, sar_num, sar_den, rate_num, rate_den;
	int kbits, peak, buffer; // kbit/s, kbit/s, kbit; 0 for no buffer
	int crf, level; // 0: keep to the bitrate; 0: the lowest that fits, else tenths
	int drawn, depth;
	int effort, full, primaries, transfer, matrix;
} mp_settings;

// The library's presets from the fastest on; the slowest ones take seconds a picture.
static const char *mp_presets[] = {"ultrafast", "ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower"};

// The library is built for each depth of samples; an interface of its own leads to each.
typedef struct {
	const x265_api *api;
	x265_encoder *x;
} mp_encoder;

static void mp_close(mp_encoder *e) {
	if (e->x) e->api->encoder_close(e->x);
	free(e);
}

static mp_encoder *mp_open(const mp_settings *s) {
	const x265_api *api = x265_api_get(s->depth);
	mp_encoder *e = calloc(1, sizeof *e);
	if (!api || !e) { free(e); return NULL; }
	e->api = api;
	x265_param *p = api->param_alloc();
	if (!p) { free(e); return NULL; }
	if (api->param_default_preset(p, mp_presets[s->effort - 1], "zerolatency") < 0) { api->param_free(p); free(e); return NULL; }
	p->vui.aspectRatioIdc = X265_EXTENDED_SAR;
	p->vui.sarWidth = s->sar_num;
	p->vui.sarHeight = s->sar_den;
	p->vui.bEnableVideoSignalTypePresentFlag = 1;
	p->vui.bEnableVideoFullRangeFlag = s->full;
	p->vui.bEnableColorDescriptionPresentFlag = 1;
	p->vui.colorPrimaries = s->primaries;
	p->vui.transferCharacteristics = s->transfer;
	p->vui.matrixCoeffs = s->matrix;
	p->rc.vbvMaxBitrate = s->peak;
	p->rc.vbvBufferSize = s->buffer;
	p->scenecutThreshold = 0;
	p->bframes = 0;
	p->logLevel = X265_LOG_NONE;
	p->sourceWidth = s->width;
	p->sourceHeight = s->height;
	p->internalCsp = X265_CSP_I420;
	p->fpsNum = s->rate_num;
	p->fpsDenom = s->rate_den;
	p->keyframeMax = -1;
	p->bOpenGOP = 0;
	p->bRepeatHeaders = 0;
	p->bAnnexB = 0;
	p->bEmitInfoSEI = 0;
	p->frameNumThreads = 1;
	api->param_parse(p, "pools", "none");
	p->rc.rateControlMode = X265_RC_ABR;
	p->rc.bitrate = s->kbits;
	if (s->crf) {
		p->rc.rateControlMode = X265_RC_CRF;
		p->rc.rfConstant = s->crf;
	}
	if (s->level) p->levelIdc = s->level;
	if (s->drawn) { // the library's tuning for drawings, without the pictures that refer to later ones
		p->rc.aqStrength = 0.4;
		p->psyRd = 0.4;
		p->deblockingFilterBetaOffset = p->deblockingFilterTCOffset = 1;
	}
	e->x = api->encoder_open(p);
	api->param_free(p);
	if (!e->x) { free(e); return NULL; }
	return e;
}

// mp_headers copies the parameter sets, each behind its length in four bytes.
static int mp_headers(mp_encoder *e, unsigned char *out, int room) {
	x265_nal *nal;
	uint32_t n;
	int used = 0;
	if (e->api->encoder_headers(e->x, &nal, &n) < 0) return -1;
	for (uint32_t i = 0; i < n; i++) {
		if (used + (int)nal[i].sizeBytes > room) return -1;
		memcpy(out + used, nal[i].payload, nal[i].sizeBytes);
		used += nal[i].sizeBytes;
	}
	return used;
}

static int mp_encode(mp_encoder *e, unsigned char *y, unsigned char *u, unsigned char *v, int sy, int sc, long long pts, int key, unsigned char **data, int *size) {
	x265_picture in, out;
	x265_nal *nal;
	uint32_t n = 0;
	memset(&in, 0, sizeof in);
	in.planes[0] = y; in.planes[1] = u; in.planes[2] = v;
	in.stride[0] = sy; in.stride[1] = in.stride[2] = sc;
	in.bitDepth = 8;
	in.colorSpace = X265_CSP_I420;
	in.pts = pts;
	in.sliceType = key ? X265_TYPE_IDR : X265_TYPE_AUTO;
	*size = 0;
	if (e->api->encoder_encode(e->x, &nal, &n, &in, &out) < 0) return -1;
	if (n > 0) *data = nal[0].payload;
	for (uint32_t i = 0; i < n; i++) *size += nal[i].sizeBytes;
	return 0;
}
*/
import "C"

import (
	"encoding/binary"
	"fmt"
	"unsafe"

	"metaplasis/internal/codec/settings"
	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Encoder encodes one rendition. Keyframes come only where they are asked for.
type Encoder struct {
	x      *C.mp_encoder
	Record []byte // HEVCDecoderConfigurationRecord
}

// New opens an encoder. Bitrate is bits per second.
func New(width, height int, rate media.Rational, bitrate int64) (*Encoder, error) {
	return open(Settings{Width: width, Height: height, FrameRate: rate, Bitrate: bitrate, Effort: 1})
}

// NewDeep opens an encoder of samples of 10 bits, for tests: it takes those of 8, four times as large.
func NewDeep(width, height int, rate media.Rational, bitrate int64, colour media.Colour) (*Encoder, error) {
	return openDepth(Settings{Width: width, Height: height, FrameRate: rate, Bitrate: bitrate, Effort: 1, Colour: colour}, 10)
}

// Settings of an encoder of live pictures.
type Settings = settings.Pictures

// Open opens an encoder of live pictures: the buffer and the peak hold.
func Open(s Settings) (*Live, error) {
	if s.Effort < 1 || s.Effort > 9 || s.Width < 16 || s.Height < 16 || s.Bitrate < 1000 {
		return nil, fmt.Errorf("HEVC encoder: effort %d at %dx%d and %d bit/s, expected 1 to 9 and a picture", s.Effort, s.Width, s.Height, s.Bitrate)
	}
	e, err := open(s)
	if err != nil {
		return nil, err
	}
	return &Live{e, s}, nil
}

// Live encodes one rendition of a live channel: a picture in, an access unit out.
type Live struct {
	e        *Encoder
	settings Settings
}

// Track describes what comes out.
func (l *Live) Track() (media.Track, error) {
	var c hevc.Config
	if err := c.Unmarshal(l.e.Record); err != nil {
		return media.Track{}, err
	}
	t, err := c.Track(l.e.Record)
	t.FrameRate, t.Reordered = l.settings.FrameRate, false
	return t, err
}

// Encode takes the next picture and returns its access unit; nil of no picture.
func (l *Live) Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	if p == nil {
		return nil, nil
	}
	return l.e.Encode(p, pts, key)
}

// Waiting returns 0: an access unit comes out with its picture.
func (l *Live) Waiting() int { return 0 }

// Close frees the encoder.
func (l *Live) Close() { l.e.Close() }

const unspecified = 2 // a code point of ITU-T H.273

func open(s Settings) (*Encoder, error) { return openDepth(s, 8) }

func openDepth(s Settings, depth C.int) (*Encoder, error) {
	code := func(v uint8) C.int {
		if v == 0 {
			return unspecified
		}
		return C.int(v)
	}
	c := C.mp_settings{width: C.int(s.Width), height: C.int(s.Height), sar_num: 1, sar_den: 1, rate_num: 30, rate_den: 1, kbits: C.int(s.Bitrate / 1000),
		effort: C.int(s.Effort), primaries: code(s.Colour.Primaries), transfer: code(s.Colour.Transfer), matrix: code(s.Colour.Matrix)}
	if s.Colour.FullRange {
		c.full = 1
	}
	c.depth, c.level = depth, C.int(s.LevelTenths())
	if s.Quality > 0 {
		c.crf = C.int(s.Quantizer(46, 10))
	}
	if s.Content != ladder.Camera {
		c.drawn = 1
	}
	if s.SAR.Valid() {
		c.sar_num, c.sar_den = C.int(s.SAR.Num), C.int(s.SAR.Den)
	}
	if s.FrameRate.Valid() {
		c.rate_num, c.rate_den = C.int(s.FrameRate.Num), C.int(s.FrameRate.Den)
	}
	if s.Peak > 0 {
		c.peak, c.buffer = C.int(s.Peak/1000), C.int(s.Peak/1000*int64(max(s.Buffer, 100))/1000)
	}
	x := C.mp_open(&c)
	if x == nil {
		return nil, fmt.Errorf("the HEVC encoder refused %dx%d at %d bit/s", s.Width, s.Height, s.Bitrate)
	}
	e := &Encoder{x: x}
	var sets [4096]byte
	n := int(C.mp_headers(x, (*C.uchar)(&sets[0]), C.int(len(sets))))
	var list [][]byte
	for b := sets[:max(n, 0)]; len(b) > 4; {
		size := int(binary.BigEndian.Uint32(b))
		if size > len(b)-4 {
			break
		}
		list = append(list, append([]byte(nil), b[4:4+size]...))
		b = b[4+size:]
	}
	var err error
	if e.Record, err = hevc.NewRecord(list); err != nil {
		e.Close()
		return nil, fmt.Errorf("HEVC encoder: %w", err)
	}
	return e, nil
}

// Encode takes the next picture and returns the encoded one. Times are in ticks of media.VideoTimescale.
func (e *Encoder) Encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	var data *C.uchar
	var size, k C.int
	if key {
		k = 1
	}
	if C.mp_encode(e.x, (*C.uchar)(&p.Y[0]), (*C.uchar)(&p.U[0]), (*C.uchar)(&p.V[0]), C.int(p.StrideY), C.int(p.Stride), C.longlong(pts), k, &data, &size) != 0 || size == 0 {
		return nil, fmt.Errorf("HEVC encoder: failed at time %d", pts)
	}
	return &media.AccessUnit{DTS: pts, PTS: pts, Key: key, Data: C.GoBytes(unsafe.Pointer(data), size)}, nil
}

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.x != nil {
		C.mp_close(e.x)
		e.x = nil
	}
}
