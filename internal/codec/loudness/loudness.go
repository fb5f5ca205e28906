// Package loudness measures how loud sound is (EBU R 128, ITU-R BS.1770-4) with libebur128.
package loudness

/*
#cgo LDFLAGS: -lebur128
#include <ebur128.h>

static ebur128_state *mp_open(unsigned channels, unsigned long rate) {
	return ebur128_init(channels, rate, EBUR128_MODE_M | EBUR128_MODE_S | EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK | EBUR128_MODE_HISTOGRAM);
}

static void mp_close(ebur128_state *s) { ebur128_destroy(&s); }

// mp_peak is the true peak since the last call, of all channels.
static double mp_peak(ebur128_state *s, unsigned channels) {
	double most = 0, one;
	for (unsigned c = 0; c < channels; c++)
		if (ebur128_prev_true_peak(s, c, &one) == EBUR128_SUCCESS && one > most) most = one;
	return most;
}
*/
import "C"

import (
	"fmt"
	"math"
)

// Silence is the loudness of nothing, and of what is softer, in LUFS.
const Silence = -70.0

// Values are how loud sound is, in LUFS: over 0.4 s, over 3 s, and since the meter began. Peak is the highest true
// peak since it was asked for last, in decibels of full scale.
type Values struct{ Momentary, ShortTerm, Integrated, Peak float64 }

// Meter measures one stream of sound.
type Meter struct {
	s        *C.ebur128_state
	channels int
	peak     float64
}

// New makes a meter of interleaved samples of 16 bits.
func New(rate, channels int) (*Meter, error) {
	s := C.mp_open(C.uint(channels), C.ulong(rate))
	if s == nil {
		return nil, fmt.Errorf("the loudness meter refused %d channels at %d Hz", channels, rate)
	}
	return &Meter{s: s, channels: channels}, nil
}

// Add takes samples.
func (m *Meter) Add(pcm []int16) {
	if len(pcm) < m.channels {
		return
	}
	C.ebur128_add_frames_short(m.s, (*C.short)(&pcm[0]), C.size_t(len(pcm)/m.channels))
	m.peak = max(m.peak, float64(C.mp_peak(m.s, C.uint(m.channels))))
}

// Read returns the values now.
func (m *Meter) Read() (v Values) {
	var out C.double
	C.ebur128_loudness_momentary(m.s, &out)
	v.Momentary = audible(float64(out))
	C.ebur128_loudness_shortterm(m.s, &out)
	v.ShortTerm = audible(float64(out))
	C.ebur128_loudness_global(m.s, &out)
	v.Integrated = audible(float64(out))
	v.Peak = audible(20 * math.Log10(m.peak))
	m.peak = 0
	return v
}

func audible(v float64) float64 {
	if math.IsNaN(v) || v < Silence {
		return Silence
	}
	return v
}

// Close frees the meter.
func (m *Meter) Close() {
	if m.s != nil {
		C.mp_close(m.s)
		m.s = nil
	}
}
