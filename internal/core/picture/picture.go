// Package picture holds decoded pictures, 8-bit 4:2:0, and what is drawn on them: text, shapes
// and the block code by which a test reads a frame's number back from a screen.
package picture

import "sync"

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

// Pool lends pictures of one size.
type Pool struct {
	width, height int
	pool          sync.Pool
}

// NewPool makes a pool for a size.
func NewPool(width, height int) *Pool { return &Pool{width: width, height: height} }

// Get borrows a picture with undefined contents.
func (p *Pool) Get() *Picture {
	if v, ok := p.pool.Get().(*Picture); ok {
		return v
	}
	return New(p.width, p.height)
}

// Put gives one back.
func (p *Pool) Put(pic *Picture) { p.pool.Put(pic) }

// Size returns the size of the pool's pictures.
func (p *Pool) Size() (width, height int) { return p.width, p.height }
