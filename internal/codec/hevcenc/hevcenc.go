// Package hevcenc encodes HEVC with libx265: one picture in, one out.
package hevcenc

/*
#cgo pkg-config: x265
#include <stdlib.h>
#include <string.h>
#include <x265.h>

static x265_encoder *mp_open(int width, int height, int rate_num, int rate_den, int kbits) {
	x265_param *p = x265_param_alloc();
	if (!p) return NULL;
	if (x265_param_default_preset(p, "ultrafast", "zerolatency") < 0) { x265_param_free(p); return NULL; }
	p->logLevel = X265_LOG_NONE;
	p->sourceWidth = width;
	p->sourceHeight = height;
	p->internalCsp = X265_CSP_I420;
	p->fpsNum = rate_num;
	p->fpsDenom = rate_den;
	p->keyframeMax = -1;
	p->bOpenGOP = 0;
	p->bRepeatHeaders = 0;
	p->bAnnexB = 0;
	p->bEmitInfoSEI = 0;
	p->frameNumThreads = 1;
	x265_param_parse(p, "pools", "none");
	p->rc.rateControlMode = X265_RC_ABR;
	p->rc.bitrate = kbits;
	x265_encoder *x = x265_encoder_open(p);
	x265_param_free(p);
	return x;
}

// mp_headers copies the parameter sets, each behind its length in four bytes.
static int mp_headers(x265_encoder *x, unsigned char *out, int room) {
	x265_nal *nal;
	uint32_t n;
	int used = 0;
	if (x265_encoder_headers(x, &nal, &n) < 0) return -1;
	for (uint32_t i = 0; i < n; i++) {
		if (used + (int)nal[i].sizeBytes > room) return -1;
		memcpy(out + used, nal[i].payload, nal[i].sizeBytes);
		used += nal[i].sizeBytes;
	}
	return used;
}

static int mp_encode(x265_encoder *x, unsigned char *y, unsigned char *u, unsigned char *v, int sy, int sc, long long pts, int key, unsigned char **data, int *size) {
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
	if (x265_encoder_encode(x, &nal, &n, &in, &out) < 0) return -1;
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

	"metaplasis/internal/core/hevc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Encoder encodes one rendition. Keyframes come only where they are asked for.
type Encoder struct {
	x      *C.x265_encoder
	Record []byte // HEVCDecoderConfigurationRecord
}

// New opens an encoder. Bitrate is bits a second.
func New(width, height int, rate media.Rational, bitrate int64) (*Encoder, error) {
	x := C.mp_open(C.int(width), C.int(height), C.int(rate.Num), C.int(rate.Den), C.int(bitrate/1000))
	if x == nil {
		return nil, fmt.Errorf("the HEVC encoder refused %dx%d at %d bit/s", width, height, bitrate)
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

// Encode takes the next picture and returns the coded one. Times are in ticks of media.VideoTimescale.
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
		C.x265_encoder_close(e.x)
		e.x = nil
	}
}
