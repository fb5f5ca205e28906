package rawvideo

import (
	"image"

	"metaplasis/internal/core/picture"
)

// Append writes a picture of 4:2:0 with 8 bits, of the format's size, as the format has it, each line of colour twice.
func (f *Format) Append(dst []byte, p *picture.Picture) []byte {
	for line := range f.Height {
		y, u, v := p.Y[line*p.StrideY:][:f.Width], p.U[line/2*p.Stride:][:f.Width/2], p.V[line/2*p.Stride:][:f.Width/2]
		if f.Depth == 8 {
			for x := range u {
				dst = append(dst, u[x], y[2*x], v[x], y[2*x+1])
			}
			continue
		}
		for x := range u {
			word := uint64(u[x])<<32 | uint64(y[2*x])<<22 | uint64(v[x])<<12 | uint64(y[2*x+1])<<2
			dst = append(dst, byte(word>>32), byte(word>>24), byte(word>>16), byte(word>>8), byte(word))
		}
	}
	return dst
}

// Small makes a small picture of up to so many samples a line, by leaving samples out.
func (f *Format) Small(b []byte, width int) *image.YCbCr {
	every := max((f.Width+width-1)/width, 1)
	w, h := f.Width/every, f.Height/every
	out := image.NewYCbCr(image.Rect(0, 0, w, h), image.YCbCrSubsampleRatio444)
	size := f.GroupBytes()
	sample := func(group []byte, n int) uint8 { // the upper 8 bits
		if f.Depth == 8 {
			return group[n]
		}
		return group[n]<<(2*n) | group[n+1]>>(8-2*n)
	}
	for y := range h {
		line := b[y*every*f.LineBytes():][:f.LineBytes()]
		for x := range w {
			at := x * every
			group := line[at/2*size:][:size]
			i := y*out.YStride + x
			out.Y[i], out.Cb[i], out.Cr[i] = sample(group, 1+at%2*2), sample(group, 0), sample(group, 2)
		}
	}
	return out
}
