// Package h264dec decodes H.264 with OpenH264. It touches bytes from outside in C and so runs
// in a worker process only.
package h264dec

/*
#cgo pkg-config: openh264
#include <stdlib.h>
#include <string.h>
#include <wels/codec_api.h>

typedef struct {
	unsigned char *plane[3];
	int stride[2];
	int width, height;
	unsigned long long pts;
	int ready;
} mp_frame;

static ISVCDecoder *mp_open(void) {
	ISVCDecoder *d = NULL;
	if (WelsCreateDecoder(&d) != 0 || d == NULL) return NULL;
	SDecodingParam p;
	memset(&p, 0, sizeof p);
	p.sVideoProperty.size = sizeof p.sVideoProperty;
	p.uiTargetDqLayer = 0xff;
	p.eEcActiveIdc = ERROR_CON_SLICE_MV_COPY_CROSS_IDR_FREEZE_RES_CHANGE;
	p.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
	if ((*d)->Initialize(d, &p) != 0) { WelsDestroyDecoder(d); return NULL; }
	int level = WELS_LOG_QUIET;
	(*d)->SetOption(d, DECODER_OPTION_TRACE_LEVEL, &level);
	return d;
}

static void mp_take(mp_frame *f, SBufferInfo *info) {
	f->ready = info->iBufferStatus == 1;
	if (!f->ready) return;
	for (int i = 0; i < 3; i++) f->plane[i] = info->pDst[i];
	f->stride[0] = info->UsrData.sSystemBuffer.iStride[0];
	f->stride[1] = info->UsrData.sSystemBuffer.iStride[1];
	f->width = info->UsrData.sSystemBuffer.iWidth;
	f->height = info->UsrData.sSystemBuffer.iHeight;
	f->pts = info->uiOutYuvTimeStamp;
	if (f->plane[0] == NULL) f->ready = 0;
}

static int mp_decode(ISVCDecoder *d, const unsigned char *data, int len, unsigned long long pts, mp_frame *f) {
	unsigned char *dst[3] = {0, 0, 0};
	SBufferInfo info;
	memset(&info, 0, sizeof info);
	info.uiInBsTimeStamp = pts;
	int rc = (*d)->DecodeFrameNoDelay(d, data, len, dst, &info);
	mp_take(f, &info);
	return rc;
}

static int mp_flush(ISVCDecoder *d, mp_frame *f) {
	int left = 0;
	(*d)->GetOption(d, DECODER_OPTION_NUM_OF_FRAMES_REMAINING_IN_BUFFER, &left);
	f->ready = 0;
	if (left <= 0) return 0;
	unsigned char *dst[3] = {0, 0, 0};
	SBufferInfo info;
	memset(&info, 0, sizeof info);
	(*d)->FlushFrame(d, dst, &info);
	mp_take(f, &info);
	return left;
}

static void mp_close(ISVCDecoder *d) {
	(*d)->Uninitialize(d);
	WelsDestroyDecoder(d);
}
*/
import "C"

import (
	"errors"
	"fmt"
	"unsafe"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// Decoder decodes one stream.
type Decoder struct {
	d      *C.ISVCDecoder
	f      C.mp_frame
	sets   []byte // parameter sets as a byte stream, in front of every keyframe
	annexB []byte
}

// Open makes a decoder for an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3).
func Open(config []byte) (*Decoder, error) {
	var c avc.Config
	if err := c.Unmarshal(config); err != nil {
		return nil, err
	}
	d, err := New()
	if err != nil {
		return nil, err
	}
	for _, n := range append(append([][]byte(nil), c.SPS...), c.PPS...) {
		d.sets = append(append(d.sets, 0, 0, 0, 1), n...)
	}
	return d, nil
}

// New makes a decoder.
func New() (*Decoder, error) {
	d := C.mp_open()
	if d == nil {
		return nil, errors.New("the H.264 decoder did not start")
	}
	return &Decoder{d: d}, nil
}

// Decode takes one access unit and hands out its picture, as DecodeStream does. Nothing waits in the decoder: nil
// does nothing.
func (d *Decoder) Decode(u *media.AccessUnit, each func(*picture.Frame)) error {
	if u == nil {
		return nil
	}
	d.annexB = d.annexB[:0]
	if u.Key {
		d.annexB = append(d.annexB, d.sets...)
	}
	d.annexB = avc.AppendAnnexB(d.annexB, u.Data)
	f, err := d.DecodeStream(d.annexB, u.PTS)
	if f != nil {
		each(f)
	}
	return err
}

// DecodeStream takes one access unit as a byte stream and returns its picture, in decode order: the
// library's own reordering may hand out a picture whose memory already holds a later one, so it
// is emptied after every unit, and who wants presentation order sorts by time. The picture is nil
// when the unit held none. An error concerns this unit; the decoder goes on with the next.
func (d *Decoder) DecodeStream(annexB []byte, pts int64) (*picture.Frame, error) {
	if len(annexB) == 0 {
		return nil, nil
	}
	var out *picture.Frame
	rc := C.mp_decode(d.d, (*C.uchar)(unsafe.Pointer(&annexB[0])), C.int(len(annexB)), C.ulonglong(pts), &d.f)
	for more := true; more; more = C.mp_flush(d.d, &d.f) > 0 {
		if d.f.ready != 0 {
			out = d.frame()
		}
	}
	if out == nil && rc != 0 {
		return nil, fmt.Errorf("H.264 decoder: state %#x in an access unit of %d bytes", int(rc), len(annexB))
	}
	return out, nil
}

func (d *Decoder) frame() *picture.Frame {
	f := &picture.Frame{
		Width: int(d.f.width), Height: int(d.f.height),
		StrideY: int(d.f.stride[0]), Stride: int(d.f.stride[1]), PTS: int64(d.f.pts),
	}
	for i := range f.Plane {
		f.Plane[i] = unsafe.Pointer(d.f.plane[i])
	}
	return f
}

// Close frees the decoder.
func (d *Decoder) Close() {
	if d.d != nil {
		C.mp_close(d.d)
		d.d = nil
	}
}
