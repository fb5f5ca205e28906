// Package mpegvdec decodes MPEG-1 and MPEG-2 video with libmpeg2. Pictures come in presentation order, each once the
// unit behind it has begun: the library looks for the next start code.
package mpegvdec

/*
#cgo pkg-config: libmpeg2
#include <inttypes.h>
#include <mpeg2dec/mpeg2.h>

typedef struct {
	uint8_t *plane[3];
	int width, height, stride, chroma_width, chroma_height, progressive, top_first;
	uint32_t tag, tag2;
} mp_out;

// mp_next returns 1 with a picture, 0 when it needs more bytes, -1 for what cannot be read.
static int mp_next(mpeg2dec_t *d, mp_out *o) {
	for (;;) {
		mpeg2_state_t s = mpeg2_parse(d);
		const mpeg2_info_t *i = mpeg2_info(d);
		switch (s) {
		case STATE_BUFFER: return 0;
		case STATE_INVALID: return -1;
		case STATE_SLICE: case STATE_END: case STATE_INVALID_END:
			if (!i->display_fbuf || !i->display_picture || !i->sequence) break;
			for (int p = 0; p < 3; p++) o->plane[p] = i->display_fbuf->buf[p];
			o->width = i->sequence->picture_width;
			o->height = i->sequence->picture_height;
			o->stride = i->sequence->width;
			o->chroma_width = i->sequence->chroma_width;
			o->chroma_height = i->sequence->chroma_height;
			o->progressive = (i->display_picture->flags & PIC_FLAG_PROGRESSIVE_FRAME) != 0 || (i->sequence->flags & SEQ_FLAG_PROGRESSIVE_SEQUENCE) != 0;
			o->top_first = (i->display_picture->flags & PIC_FLAG_TOP_FIELD_FIRST) != 0;
			o->tag = i->display_picture->tag;
			o->tag2 = i->display_picture->tag2;
			return 1;
		default: break;
		}
	}
}

static void mp_feed(mpeg2dec_t *d, uint8_t *from, int size) { mpeg2_buffer(d, from, from + size); }
*/
import "C"

import (
	"errors"
	"unsafe"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Decoder decodes one track.
type Decoder struct {
	d   *C.mpeg2dec_t
	buf unsafe.Pointer // in C memory: the library reads it until the next call
	cap int
}

// New opens a decoder.
func New() (*Decoder, error) {
	d := C.mpeg2_init()
	if d == nil {
		return nil, errors.New("the MPEG-2 decoder did not open")
	}
	return &Decoder{d: d}, nil
}

// sequenceEnd makes the library put out what it holds (ISO/IEC 13818-2, 6.2.1).
var sequenceEnd = []byte{0, 0, 1, 0xb7}

// Decode takes an access unit and hands out the pictures that are ready; nil hands out what is left.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	data := sequenceEnd
	if u != nil {
		data = u.Data
		C.mpeg2_tag_picture(d.d, C.uint32_t(uint64(u.PTS)), C.uint32_t(uint64(u.PTS)>>32))
	}
	if len(data) == 0 {
		return nil
	}
	if len(data) > d.cap {
		C.mpeg2_free(d.buf)
		d.cap = len(data) * 3 / 2
		if d.buf = C.mpeg2_malloc(C.uint(d.cap), C.MPEG2_ALLOC_CHUNK); d.buf == nil {
			d.cap = 0
			return errors.New("MPEG-2 video: there is no memory for a unit")
		}
	}
	copy(unsafe.Slice((*byte)(d.buf), len(data)), data)
	C.mp_feed(d.d, (*C.uint8_t)(d.buf), C.int(len(data)))
	var bad error
	for {
		var o C.mp_out
		switch C.mp_next(d.d, &o) {
		case 0:
			return bad
		case -1:
			bad = errors.New("MPEG-2 video: the unit could not be read")
			continue
		}
		each(&picture.Frame{
			Width: int(o.width), Height: int(o.height), StrideY: int(o.stride), Stride: int(o.chroma_width),
			Plane:      [3]unsafe.Pointer{unsafe.Pointer(o.plane[0]), unsafe.Pointer(o.plane[1]), unsafe.Pointer(o.plane[2])},
			PTS:        int64(uint64(o.tag) | uint64(o.tag2)<<32),
			Chroma:     picture.ChromaOf(bool2int(o.chroma_width < o.stride), bool2int(o.chroma_height < (o.height+15)&^15)),
			Interlaced: o.progressive == 0, TopFirst: o.top_first != 0,
		})
	}
}

func bool2int(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.d != nil {
		C.mpeg2_close(d.d)
		C.mpeg2_free(d.buf)
		d.d, d.buf = nil, nil
	}
}
