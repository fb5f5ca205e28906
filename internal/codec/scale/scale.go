// Package scale resizes 4:2:0 pictures with libyuv.
package scale

/*
#cgo LDFLAGS: -lyuv
#include <stdint.h>
#include <libyuv/scale.h>
#include <libyuv/planar_functions.h>

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
type Scaler struct{ halves []*picture.Picture }

// FromFrame scales a decoded frame into dst, or copies it when the sizes agree.
func (s *Scaler) FromFrame(dst *picture.Picture, f *picture.Frame) error {
	return s.run(dst, &view{f.Plane, f.StrideY, f.Stride, f.Width, f.Height})
}

// Picture scales src into dst, or copies it when the sizes agree.
func (s *Scaler) Picture(dst, src *picture.Picture) error { return s.run(dst, viewOf(src)) }

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
