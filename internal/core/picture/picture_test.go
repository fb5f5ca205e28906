package picture

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPicturesHaveRoomForOddSizes(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {853, 479}, {1920, 1080}} {
		p := New(size[0], size[1])
		assert.GreaterOrEqual(t, p.StrideY, size[0])
		assert.GreaterOrEqual(t, p.Stride, (size[0]+1)/2)
		assert.Len(t, p.Y, p.StrideY*size[1])
		assert.Len(t, p.U, p.Stride*((size[1]+1)/2))
		assert.Len(t, p.V, len(p.U))
	}
}

func TestPoolLendsWhatItGotBack(t *testing.T) {
	pool := NewPool(16, 16)
	a := pool.Get()
	pool.Put(a)
	assert.Same(t, a, pool.Get())
	assert.NotSame(t, a, pool.Get())
	for range 2 * maxIdle {
		pool.Put(New(16, 16))
	}
	assert.Len(t, pool.idle, maxIdle, "what it keeps is bounded")
}

func TestEveryNumberReadsBackAndDamageIsSeen(t *testing.T) {
	const w, h = 320, 180
	p := New(w, h)
	paint := func(cells [CodeCells]bool) {
		for i, white := range cells {
			x, y, side := CodeCell(w, h, i)
			for dy := range side {
				for dx := range side {
					p.Y[(y+dy)*p.StrideY+x+dx] = map[bool]byte{true: 200, false: 40}[white]
				}
			}
		}
	}
	for n := 0; n < CodeNumbers; n += 37 {
		cells := EncodeNumber(n)
		paint(cells)
		got, ok := DecodeNumber(p.Y, p.StrideY, w, h)
		assert.True(t, ok)
		assert.Equal(t, n, got)
		cells[2+n%12] = !cells[2+n%12]
		paint(cells)
		_, ok = DecodeNumber(p.Y, p.StrideY, w, h)
		assert.False(t, ok, "one wrong square breaks the parity of %d", n)
	}
}
