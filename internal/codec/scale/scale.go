// Package scale resizes 4:2:0 pictures with libyuv.
package scale

/*
#cgo LDFLAGS: -lyuv
#include <stdint.h>
#include <libyuv/rotate.h>
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

static int mp_turn(const uint8_t *y, const uint8_t *u, const uint8_t *v, int sy, int sc, int w, int h,
		uint8_t *dy, uint8_t *du, uint8_t *dv, int dsy, int dsc, int degrees) {
	return I420Rotate(y, sy, u, sc, v, sc, dy, dsy, du, dsc, dv, dsc, w, h, (enum RotationMode)degrees);
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
	nearest  = 0
	bilinear = 2
	box      = 3
)

// Filter is how pictures are scaled.
type Filter uint8

// The filters. Usual halves while it can, and interpolates the rest.
const (
	Usual Filter = iota
	Nearest
	Bilinear
	Box
)

// Shape is what is done to a picture beside scaling, in this order: it is cropped, by even numbers of samples, turned
// clockwise, scaled to Inner, and set in the middle of black. The zero value only scales.
type Shape struct {
	Left, Top, Right, Bottom int
	Turn                     int    // degrees: 0, 90, 180, 270
	Inner                    [2]int // width and height within the picture; 0 fills it
	Filter                   Filter
}

// Scaler scales pictures of one source size to one other size. It keeps the halved pictures in
// between. The zero value is ready; it is not safe for concurrent use.
type Scaler struct {
	halves []*picture.Picture
	plain  *picture.Picture // of frames whose samples are of another kind
	turned *picture.Picture
	bytes  [3][]byte // of frames whose samples are of two bytes, one plane each
}

// FromFrame scales a decoded frame into dst, or copies it when the sizes agree.
func (s *Scaler) FromFrame(dst *picture.Picture, f *picture.Frame) error {
	return s.Shaped(dst, f, Shape{})
}

// Shaped crops, turns, scales and pads a frame into dst.
func (s *Scaler) Shaped(dst *picture.Picture, f *picture.Frame, sh Shape) error {
	from := &view{f.Plane, f.StrideY, f.Stride, f.Width, f.Height}
	if !f.Plain() {
		if err := s.convert(f); err != nil {
			return err
		}
		from = viewOf(s.plain)
	}
	if sh == (Shape{}) {
		return s.run(viewOf(dst), from, Usual)
	}
	if w, h := from.width-sh.Left-sh.Right, from.height-sh.Top-sh.Bottom; w < 2 || h < 2 {
		return fmt.Errorf("nothing is left of a picture of %dx%d that is cropped by %d, %d, %d and %d", from.width, from.height, sh.Left, sh.Top, sh.Right, sh.Bottom)
	}
	from = from.part(sh.Left, sh.Top, from.width-sh.Left-sh.Right, from.height-sh.Top-sh.Bottom)
	if sh.Turn != 0 {
		if err := s.turn(from, sh.Turn); err != nil {
			return err
		}
		from = viewOf(s.turned)
	}
	to := viewOf(dst)
	if w, h := sh.Inner[0], sh.Inner[1]; w > 0 && h > 0 && (w < dst.Width || h < dst.Height) {
		dst.Fill(16, 128, 128)
		to = to.part((dst.Width-w)/2&^1, (dst.Height-h)/2&^1, min(w, dst.Width), min(h, dst.Height))
	}
	return s.run(to, from, sh.Filter)
}

// turn turns a view clockwise.
func (s *Scaler) turn(f *view, degrees int) error {
	w, h := f.width, f.height
	if degrees%180 != 0 {
		w, h = h, w
	}
	if s.turned == nil || s.turned.Width != w || s.turned.Height != h {
		s.turned = picture.New(w, h)
	}
	t := s.turned
	if C.mp_turn((*C.uint8_t)(f.plane[0]), (*C.uint8_t)(f.plane[1]), (*C.uint8_t)(f.plane[2]), C.int(f.strideY), C.int(f.stride), C.int(f.width), C.int(f.height),
		(*C.uint8_t)(&t.Y[0]), (*C.uint8_t)(&t.U[0]), (*C.uint8_t)(&t.V[0]), C.int(t.StrideY), C.int(t.Stride), C.int(degrees)) != 0 {
		return fmt.Errorf("turning %dx%d by %d degrees failed", f.width, f.height, degrees)
	}
	return nil
}

// Picture scales src into dst, or copies it when the sizes agree.
func (s *Scaler) Picture(dst, src *picture.Picture) error {
	return s.run(viewOf(dst), viewOf(src), Usual)
}

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

// part is a rectangle of a view, at even coordinates.
func (v *view) part(x, y, w, h int) *view {
	return &view{[3]unsafe.Pointer{unsafe.Add(v.plane[0], y*v.strideY+x), unsafe.Add(v.plane[1], y/2*v.stride+x/2), unsafe.Add(v.plane[2], y/2*v.stride+x/2)},
		v.strideY, v.stride, w, h}
}

func (s *Scaler) run(dst, from *view, filter Filter) error {
	switch filter {
	case Nearest:
		return step(dst, from, nearest)
	case Bilinear:
		return step(dst, from, bilinear)
	case Box:
		return step(dst, from, box)
	}
	for i := 0; from.width >= 2*dst.width && from.height >= 2*dst.height && from.width%4 == 0 && from.height%4 == 0; i++ {
		if from.width == 2*dst.width && from.height == 2*dst.height {
			return step(dst, from, box)
		}
		if i == len(s.halves) {
			s.halves = append(s.halves, nil)
		}
		if h := s.halves[i]; h == nil || h.Width != from.width/2 || h.Height != from.height/2 {
			s.halves[i] = picture.New(from.width/2, from.height/2)
		}
		half := viewOf(s.halves[i])
		if err := step(half, from, box); err != nil {
			return err
		}
		from = half
	}
	return step(dst, from, bilinear)
}

func step(dst, f *view, filter C.int) error {
	rc := C.mp_scale((*C.uint8_t)(f.plane[0]), (*C.uint8_t)(f.plane[1]), (*C.uint8_t)(f.plane[2]), C.int(f.strideY), C.int(f.stride), C.int(f.width), C.int(f.height),
		(*C.uint8_t)(dst.plane[0]), (*C.uint8_t)(dst.plane[1]), (*C.uint8_t)(dst.plane[2]), C.int(dst.strideY), C.int(dst.stride),
		C.int(dst.width), C.int(dst.height), filter)
	if rc != 0 {
		return fmt.Errorf("scaling %dx%d to %dx%d failed", f.width, f.height, dst.width, dst.height)
	}
	return nil
}
