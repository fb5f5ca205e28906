// Package resample changes the rate of sound with libsoxr.
package resample

/*
#cgo LDFLAGS: -lsoxr
#include <soxr.h>

static soxr_t mp_open(double from, double to, unsigned channels) {
	soxr_error_t err;
	soxr_io_spec_t io = soxr_io_spec(SOXR_INT16_I, SOXR_INT16_I);
	soxr_quality_spec_t q = soxr_quality_spec(SOXR_HQ, 0);
	soxr_runtime_spec_t r = soxr_runtime_spec(1);
	soxr_t s = soxr_create(from, to, channels, &err, &io, &q, &r);
	return err ? NULL : s;
}
*/
import "C"

import (
	"fmt"
	"unsafe"
)

// Resampler changes the rate of interleaved samples of 16 bits.
type Resampler struct {
	s        C.soxr_t
	from, to int
	channels int
	delay    int64
	out      []int16
}

// New makes a resampler. Rates are samples per second.
func New(from, to, channels int) (*Resampler, error) {
	s := C.mp_open(C.double(from), C.double(to), C.uint(channels))
	if s == nil {
		return nil, fmt.Errorf("the resampler refused %d channels from %d to %d Hz", channels, from, to)
	}
	return &Resampler{s: s, from: from, to: to, channels: channels}, nil
}

// Delay is how many samples of each channel, at the new rate, what comes out next lies behind what goes in next.
func (r *Resampler) Delay() int64 { return r.delay }

// Process takes samples and returns those that are ready, which are valid until the next call.
func (r *Resampler) Process(pcm []int16) ([]int16, error) {
	n := len(pcm) / r.channels
	room := n*r.to/r.from + r.to/10
	if len(r.out) < room*r.channels {
		r.out = make([]int16, room*r.channels)
	}
	var in unsafe.Pointer
	if n > 0 {
		in = unsafe.Pointer(&pcm[0])
	}
	var done C.size_t
	if err := C.soxr_process(r.s, C.soxr_in_t(in), C.size_t(n), nil, C.soxr_out_t(unsafe.Pointer(&r.out[0])), C.size_t(room), &done); err != nil {
		return nil, fmt.Errorf("resampler: %s", C.GoString((*C.char)(unsafe.Pointer(err))))
	}
	r.delay = int64(float64(C.soxr_delay(r.s)) + 0.5)
	return r.out[:int(done)*r.channels], nil
}

// Close frees the resampler.
func (r *Resampler) Close() {
	if r.s != nil {
		C.soxr_delete(r.s)
		r.s = nil
	}
}
