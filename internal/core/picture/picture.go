// Package picture holds decoded pictures, 8-bit 4:2:0, and what is drawn on them: text, shapes
// and the block code by which a test reads a frame's number back from a screen.
package picture

import "unsafe"

// Picture is a planar 4:2:0 picture. Chroma planes have half the sides, rounded up.
type Picture struct {
	Width, Height   int
	Y, U, V         []byte
	StrideY, Stride int // bytes a line of luma, and of either chroma plane
}

// New makes a picture. Its lines are padded to 32 bytes, which the scalers like.
func New(width, height int) *Picture {
	const pad = 31
	sy, sc := (width+pad)&^pad, ((width+1)/2+pad)&^pad
	ch := (height + 1) / 2
	buf := make([]byte, sy*height+2*sc*ch)
	return &Picture{
		Width: width, Height: height, StrideY: sy, Stride: sc,
		Y: buf[:sy*height], U: buf[sy*height : sy*height+sc*ch], V: buf[sy*height+sc*ch:],
	}
}

// Fill gives all samples the same values.
func (p *Picture) Fill(y, u, v byte) {
	fill := func(plane []byte, value byte) {
		for i := range plane {
			plane[i] = value
		}
	}
	fill(p.Y, y)
	fill(p.U, u)
	fill(p.V, v)
}

// Frame is a decoded picture in its decoder's own memory: it is valid until the decoder's next call.
type Frame struct {
	Width, Height   int
	Plane           [3]unsafe.Pointer
	StrideY, Stride int   // bytes a line of luma, and of either chroma plane
	PTS             int64 // as it was given with the access unit
	Depth           int   // bits of a sample; above 8 each takes two bytes, the lower one first. 0 is 8
	Chroma          Chroma
	// Interlaced: the even and the odd lines are of two times, half a frame apart.
	Interlaced bool
	TopFirst   bool // the even lines are the earlier ones
}

// Frame returns the picture as a frame, whose memory is the picture's.
func (p *Picture) Frame(pts int64) *Frame {
	return &Frame{
		Width: p.Width, Height: p.Height, StrideY: p.StrideY, Stride: p.Stride, PTS: pts,
		Plane: [3]unsafe.Pointer{unsafe.Pointer(&p.Y[0]), unsafe.Pointer(&p.U[0]), unsafe.Pointer(&p.V[0])},
	}
}

// Chroma is how many samples of colour a picture has.
type Chroma uint8

// The kinds of chroma.
const (
	Chroma420 Chroma = iota // half of either side
	Chroma422               // half the width
	Chroma444
	Grey // none
)

// ChromaOf returns the kind of chroma whose planes are smaller by so many powers of two.
func ChromaOf(shiftX, shiftY int) Chroma {
	switch {
	case shiftX == 0:
		return Chroma444
	case shiftY == 0:
		return Chroma422
	}
	return Chroma420
}

// Plain reports whether the frame's samples lie as those of a Picture do.
func (f *Frame) Plain() bool { return f.Depth <= 8 && f.Chroma == Chroma420 }

// Pool lends pictures of one size. It keeps what it gets back: a garbage collector that took idle
// pictures away would have their memory cleared again for the next ones, at every collection.
type Pool struct {
	width, height int
	idle          chan *Picture
}

// maxIdle is how many pictures a pool keeps.
//
//limit:pictures of a pool that nobody uses | each worker | further ones are freed
const maxIdle = 32

// NewPool makes a pool for a size.
func NewPool(width, height int) *Pool {
	return &Pool{width: width, height: height, idle: make(chan *Picture, maxIdle)}
}

// Get borrows a picture with undefined contents.
func (p *Pool) Get() *Picture {
	select {
	case pic := <-p.idle:
		return pic
	default:
		return New(p.width, p.height)
	}
}

// Put gives one back.
func (p *Pool) Put(pic *Picture) {
	select {
	case p.idle <- pic:
	default:
	}
}
