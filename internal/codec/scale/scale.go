// Package scale resizes 4:2:0 pictures with libyuv.
package scale

/*
#cgo LDFLAGS: -lyuv
#include <stdint.h>
#include <libyuv/scale.h>
#include <libyuv/convert.h>
#include <libyuv/planar_functions.h>

// mp_narrow makes bytes of samples of two bytes. Strides are in bytes.
static void mp_narrow(const uint8_t *from, int sf, uint8_t *to, int st, int w, int h, int depth) {
	Convert16To8Plane((const uint16_t *)from, sf / 2, to, st, 1 << (24 - depth), w, h);
}

// mp_plain makes 4:2:0 of another kind of chroma: 1 is 4:2:2, 2 is 4:4:4, 3 is none.
static int mp_plain(const uint8_t *y, const uint8_t *u, const uint8_t *v, int sy, int sc,
		uint8_t *dy, uint8_t *du, uint8_t *dv, int dsy, int dsc, int w, int h, int chroma) {
	switch (chroma) {
	case 1: return I422ToI420(y, sy, u, sc, v, sc, dy, dsy, du, dsc, dv, dsc, w, h);
	case 2: return I444ToI420(y, sy, u, sc, v, sc, dy, dsy, du, dsc, dv, dsc, w, h);
	case 3: return I400ToI420(y, sy, dy, dsy, du, dsc, dv, dsc, w, h);
	}
	return I420Copy(y, sy, u, sc, v, sc, dy, dsy, du, dsc, dv, dsc, w, h);
}

static int mp_scale(const uint8_t *y, const uint8_t *u, const uint8_t *v, int sy, int sc, int w, int h,
		uint8_t *dy, uint8_t *du, uint8_t *dv, int dsy, int dsc, int dw, int dh, int filter) {
	if (w == dw && h == dh) return I420Copy(y, sy, u, sc, v, sc, dy, dsy, du, dsc, dv, dsc, w, h);
	return I420Scale(y, sy, u, sc, v, sc, w, h, dy, dsy, du, dsc, dv, dsc, dw, dh, filter);
}
*/
import "C"

import (
	"fmt"
	"unsafe"

	"metaplasis/internal/core/picture"
)

// Filters of libyuv. Its box filter is fast only at exactly two to one; at other ratios it costs
// eight times as much as the bilinear filter, which in turn skips samples beyond two to one. So
// a picture is halved while that is possible, and interpolated for the rest.
const (
	bilinear = 2
	box      = 3
)

// Scaler scales pictures of one source size to one other size. It keeps the halved pictures in
// between. The zero value is ready; it is not safe for concurrent use.
type Scaler struct {
	halves []*picture.Picture
	plain  *picture.Picture // of frames whose samples are of another kind
	bytes  [3][]byte        // of frames whose samples are of two bytes, one plane each
}

// FromFrame scales a decoded frame into dst, or copies it when the sizes agree.
func (s *Scaler) FromFrame(dst *picture.Picture, f *picture.Frame) error {
	if !f.Plain() {
		if err := s.convert(f); err != nil {
			return err
		}
		return s.run(dst, viewOf(s.plain))
	}
	return s.run(dst, &view{f.Plane, f.StrideY, f.Stride, f.Width, f.Height})
}

// Picture scales src into dst, or copies it when the sizes agree.
func (s *Scaler) Picture(dst, src *picture.Picture) error { return s.run(dst, viewOf(src)) }

// convert makes a plain picture of a frame.
func (s *Scaler) convert(f *picture.Frame) error {
	if s.plain == nil || s.plain.Width != f.Width || s.plain.Height != f.Height {
		s.plain = picture.New(f.Width, f.Height)
	}
	plane, strideY, stride := f.Plane, f.StrideY, f.Stride
	if f.Depth > 8 {
		if f.Depth > 16 {
			return fmt.Errorf("found samples of %d bits, expected 16 at most", f.Depth)
		}
		strideY, stride = f.Width, (f.Width+1)/2
		height := (f.Height + 1) / 2
		switch f.Chroma {
		case picture.Chroma422:
			height = f.Height
		case picture.Chroma444:
			stride, height = f.Width, f.Height
		}
		for i := range plane {
			w, h, from := strideY, f.Height, f.StrideY
			if i > 0 {
				if f.Chroma == picture.Grey {
					break
				}
				w, h, from = stride, height, f.Stride
			}
			if len(s.bytes[i]) != w*h {
				s.bytes[i] = make([]byte, w*h)
			}
			C.mp_narrow((*C.uint8_t)(f.Plane[i]), C.int(from), (*C.uint8_t)(&s.bytes[i][0]), C.int(w), C.int(w), C.int(h), C.int(f.Depth))
			plane[i] = unsafe.Pointer(&s.bytes[i][0])
		}
	}
	p := s.plain
	if C.mp_plain((*C.uint8_t)(plane[0]), (*C.uint8_t)(plane[1]), (*C.uint8_t)(plane[2]), C.int(strideY), C.int(stride),
		(*C.uint8_t)(&p.Y[0]), (*C.uint8_t)(&p.U[0]), (*C.uint8_t)(&p.V[0]), C.int(p.StrideY), C.int(p.Stride), C.int(p.Width), C.int(p.Height),
		C.int(f.Chroma)) != 0 {
		return fmt.Errorf("a picture of %dx%d in another kind of chroma could not be converted", f.Width, f.Height)
	}
	return nil
}

// view is a picture wherever its planes lie.
type view struct {
	plane           [3]unsafe.Pointer
	strideY, stride int
	width, height   int
}

func viewOf(p *picture.Picture) *view {
	return &view{[3]unsafe.Pointer{unsafe.Pointer(&p.Y[0]), unsafe.Pointer(&p.U[0]), unsafe.Pointer(&p.V[0])}, p.StrideY, p.Stride, p.Width, p.Height}
}

func (s *Scaler) run(dst *picture.Picture, from *view) error {
	for i := 0; from.width >= 2*dst.Width && from.height >= 2*dst.Height && from.width%4 == 0 && from.height%4 == 0; i++ {
		if from.width == 2*dst.Width && from.height == 2*dst.Height {
			return step(dst, from, box)
		}
		if i == len(s.halves) {
			s.halves = append(s.halves, nil)
		}
		if h := s.halves[i]; h == nil || h.Width != from.width/2 || h.Height != from.height/2 {
			s.halves[i] = picture.New(from.width/2, from.height/2)
		}
		if err := step(s.halves[i], from, box); err != nil {
			return err
		}
		from = viewOf(s.halves[i])
	}
	return step(dst, from, bilinear)
}

func step(dst *picture.Picture, f *view, filter C.int) error {
	rc := C.mp_scale((*C.uint8_t)(f.plane[0]), (*C.uint8_t)(f.plane[1]), (*C.uint8_t)(f.plane[2]), C.int(f.strideY), C.int(f.stride), C.int(f.width), C.int(f.height),
		(*C.uint8_t)(&dst.Y[0]), (*C.uint8_t)(&dst.U[0]), (*C.uint8_t)(&dst.V[0]), C.int(dst.StrideY), C.int(dst.Stride),
		C.int(dst.Width), C.int(dst.Height), filter)
	if rc != 0 {
		return fmt.Errorf("scaling %dx%d to %dx%d failed", f.width, f.height, dst.Width, dst.Height)
	}
	return nil
}
