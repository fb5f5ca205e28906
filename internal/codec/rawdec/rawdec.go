// Package rawdec sets pictures that are not compressed out in planes.
package rawdec

/*
#cgo LDFLAGS: -lyuv
#include <stdint.h>
#include <libyuv/convert.h>

static void mp_planes8(const uint8_t *from, int stride, uint8_t *y, uint8_t *u, uint8_t *v, int w, int h) {
	UYVYToI422(from, stride, y, w, u, w / 2, v, w / 2, w, h);
}
*/
import "C"

import (
	"fmt"
	"unsafe"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/rawvideo"
)

// Decoder decodes one stream.
type Decoder struct {
	f      rawvideo.Format
	planes []byte // Y, Cb, Cr; of two bytes a sample where they have more than 8 bits
}

// New makes a decoder of a configuration.
func New(config []byte) (*Decoder, error) {
	d := &Decoder{}
	if err := d.f.Unmarshal(config); err != nil {
		return nil, err
	}
	d.planes = make([]byte, 2*d.f.Width*d.f.Height*d.sampleBytes())
	return d, nil
}

func (d *Decoder) sampleBytes() int { return (d.f.Depth + 7) / 8 }

// Decode implements codec.PictureDecoder.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	if u == nil {
		return nil
	}
	if len(u.Data) != d.f.PictureBytes() {
		return &media.FormatError{Format: "raw video", Found: fmt.Sprintf("%d bytes", len(u.Data)), Want: fmt.Sprint(d.f.PictureBytes())}
	}
	w, h, size := d.f.Width, d.f.Height, d.sampleBytes()
	y, cb, cr := d.planes[:w*h*size], d.planes[w*h*size:][:w/2*h*size], d.planes[(w+w/2)*h*size:][:w/2*h*size]
	if size == 1 {
		C.mp_planes8((*C.uint8_t)(&u.Data[0]), C.int(2*w), (*C.uint8_t)(&y[0]), (*C.uint8_t)(&cb[0]), (*C.uint8_t)(&cr[0]), C.int(w), C.int(h))
	} else {
		planes10(u.Data, y, cb, cr)
	}
	each(&picture.Frame{Width: w, Height: h, Depth: d.f.Depth, Chroma: picture.Chroma422, StrideY: w * size, Stride: w / 2 * size, PTS: u.PTS,
		Plane: [3]unsafe.Pointer{unsafe.Pointer(&y[0]), unsafe.Pointer(&cb[0]), unsafe.Pointer(&cr[0])}})
	return nil
}

// planes10 takes groups of four samples of 10 bits apart, each in 5 bytes: Cb, Y, Cr, Y.
func planes10(b, y, cb, cr []byte) {
	for i := 0; (i+1)*5 <= len(b); i++ {
		g := b[i*5 : i*5+5 : i*5+5]
		luma, blue, red := y[i*4:i*4+4:i*4+4], cb[i*2:i*2+2:i*2+2], cr[i*2:i*2+2:i*2+2]
		v := uint16(g[0])<<2 | uint16(g[1]>>6)
		blue[0], blue[1] = byte(v), byte(v>>8)
		v = uint16(g[1]&0x3f)<<4 | uint16(g[2]>>4)
		luma[0], luma[1] = byte(v), byte(v>>8)
		v = uint16(g[2]&0x0f)<<6 | uint16(g[3]>>2)
		red[0], red[1] = byte(v), byte(v>>8)
		v = uint16(g[3]&3)<<8 | uint16(g[4])
		luma[2], luma[3] = byte(v), byte(v>>8)
	}
}

// Close implements codec.PictureDecoder.
func (d *Decoder) Close() {}
