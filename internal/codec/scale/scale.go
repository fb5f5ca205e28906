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

	"metaplasis/internal/codec/h264dec"
	"metaplasis/internal/core/picture"
)

// filterBox averages when it shrinks, and interpolates otherwise: libyuv's kFilterBox.
const filterBox = 3

// FromFrame scales a decoded frame into dst, or copies it when the sizes agree.
func FromFrame(dst *picture.Picture, f *h264dec.Frame) error {
	return run(dst, f.Plane[0], f.Plane[1], f.Plane[2], f.StrideY, f.Stride, f.Width, f.Height)
}

// Picture scales src into dst, or copies it when the sizes agree.
func Picture(dst, src *picture.Picture) error {
	return run(dst, unsafe.Pointer(&src.Y[0]), unsafe.Pointer(&src.U[0]), unsafe.Pointer(&src.V[0]), src.StrideY, src.Stride, src.Width, src.Height)
}

func run(dst *picture.Picture, y, u, v unsafe.Pointer, sy, sc, w, h int) error {
	rc := C.mp_scale((*C.uint8_t)(y), (*C.uint8_t)(u), (*C.uint8_t)(v), C.int(sy), C.int(sc), C.int(w), C.int(h),
		(*C.uint8_t)(&dst.Y[0]), (*C.uint8_t)(&dst.U[0]), (*C.uint8_t)(&dst.V[0]), C.int(dst.StrideY), C.int(dst.Stride),
		C.int(dst.Width), C.int(dst.Height), filterBox)
	if rc != 0 {
		return fmt.Errorf("scaling %dx%d to %dx%d failed", w, h, dst.Width, dst.Height)
	}
	return nil
}
