// Package aacenc encodes AAC-LC with libvo-aacenc, mono or stereo.
package aacenc

/*
#cgo LDFLAGS: -lvo-aacenc
#include <stdlib.h>
#include <string.h>
#include <vo-aacenc/voAAC.h>
#include <vo-aacenc/cmnMemory.h>

typedef struct {
	VO_AUDIO_CODECAPI api;
	VO_HANDLE h;
	VO_MEM_OPERATOR mem;
	VO_CODEC_INIT_USERDATA user;
} mp_enc;

static mp_enc *mp_open(int rate, int channels, int bitrate) {
	mp_enc *e = calloc(1, sizeof *e);
	if (!e) return NULL;
	voGetAACEncAPI(&e->api);
	e->mem.Alloc = cmnMemAlloc;
	e->mem.Copy = cmnMemCopy;
	e->mem.Free = cmnMemFree;
	e->mem.Set = cmnMemSet;
	e->mem.Check = cmnMemCheck;
	e->user.memflag = VO_IMF_USERMEMOPERATOR;
	e->user.memData = &e->mem;
	if (e->api.Init(&e->h, VO_AUDIO_CodingAAC, &e->user) != VO_ERR_NONE) { free(e); return NULL; }
	AACENC_PARAM p = {rate, bitrate, channels, 0};
	if (e->api.SetParam(e->h, VO_PID_AAC_ENCPARAM, &p) != VO_ERR_NONE) { e->api.Uninit(e->h); free(e); return NULL; }
	return e;
}

static int mp_encode(mp_enc *e, short *pcm, int bytes, unsigned char *out, int room) {
	VO_CODECBUFFER in, o;
	VO_AUDIO_OUTPUTINFO info;
	memset(&in, 0, sizeof in);
	memset(&o, 0, sizeof o);
	in.Buffer = (VO_PBYTE)pcm;
	in.Length = bytes;
	o.Buffer = out;
	o.Length = room;
	if (e->api.SetInputData(e->h, &in) != VO_ERR_NONE) return -1;
	if (e->api.GetOutputData(e->h, &o, &info) != VO_ERR_NONE) return -1;
	return o.Length;
}

static void mp_close(mp_enc *e) { e->api.Uninit(e->h); free(e); }
*/
import "C"

import (
	"fmt"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/media"
)

// Delay is how many samples late the encoder's output is.
const Delay = 1600

// Encoder encodes frames of 1024 samples a channel.
type Encoder struct {
	e        *C.mp_enc
	Config   aac.Config
	channels int
	out      [8192]byte
}

// New opens an encoder. Bitrate is bits per second.
func New(rate, channels int, bitrate int64) (*Encoder, error) {
	const mostBits = 6 // of a sample: the encoder refuses more (ISO/IEC 14496-3, 4.5.3.3, has 6144 bits a frame)
	bitrate = min(bitrate, int64(mostBits*rate*channels))
	e := C.mp_open(C.int(rate), C.int(channels), C.int(bitrate))
	if e == nil {
		return nil, fmt.Errorf("the AAC encoder refused %d Hz, %d channels, %d bit/s: it takes 8000 to 96000 Hz, mono or stereo", rate, channels, bitrate)
	}
	return &Encoder{e: e, channels: channels, Config: aac.Config{ObjectType: aac.TypeLC, SampleRate: rate, OutputRate: rate, Channels: channels}}, nil
}

// Encode takes 1024 samples of each channel, interleaved, and returns one frame.
func (e *Encoder) Encode(pcm []int16) ([]byte, error) {
	if len(pcm) != aac.FrameSamples*e.channels {
		return nil, fmt.Errorf("AAC encoder: found %d samples, expected %d", len(pcm), aac.FrameSamples*e.channels)
	}
	n := C.mp_encode(e.e, (*C.short)(&pcm[0]), C.int(2*len(pcm)), (*C.uchar)(&e.out[0]), C.int(len(e.out)))
	if n < 0 {
		return nil, fmt.Errorf("AAC encoder: failed on %d samples", len(pcm))
	}
	return append([]byte(nil), e.out[:n]...), nil
}

// Track describes what comes out.
func (e *Encoder) Track() media.Track { return e.Config.Track(e.Config.Marshal()) }

// Frame returns how many samples a channel a frame holds, and how many samples late it comes out.
func (e *Encoder) Frame() (samples, delay int64) { return aac.FrameSamples, Delay }

// Close frees the encoder.
func (e *Encoder) Close() {
	if e.e != nil {
		C.mp_close(e.e)
		e.e = nil
	}
}
