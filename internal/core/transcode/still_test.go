package transcode

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

func TestFrozenAndBlackPicturesAreNoticed(t *testing.T) {
	var s still
	p := picture.New(640, 360)
	at := int64(0)
	show := func(seconds int, y func(n int) byte) {
		for n := range seconds * 25 {
			p.Fill(y(n), 128, 128)
			p.Y[n%len(p.Y)] ^= 3 // coding noise
			s.see(p.Frame(at))
			at += media.VideoTimescale / 25
		}
	}
	moving := func(n int) byte { return byte(60 + n%100) }
	show(3, moving)
	assert.Zero(t, s.frozen.Load())
	show(4, func(int) byte { return 90 })
	assert.InDelta(t, 4000, s.frozen.Load(), 300)
	assert.Zero(t, s.black.Load())
	show(5, func(int) byte { return 17 })
	assert.InDelta(t, 5000, s.black.Load(), 300)
	show(1, moving)
	assert.Zero(t, s.frozen.Load()+s.black.Load())
	at = 0 // the line started over
	show(1, func(int) byte { return 17 })
	assert.LessOrEqual(t, s.black.Load(), int64(1000))
}

func BenchmarkStill(b *testing.B) {
	var s still
	p := picture.New(1920, 1080)
	for n := int64(0); b.Loop(); n++ {
		s.see(p.Frame(n * lookStill))
	}
}
