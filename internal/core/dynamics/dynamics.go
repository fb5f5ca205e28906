// Package dynamics brings sound to a loudness and keeps its true peaks below a ceiling. What is measured comes from
// elsewhere; here are the gain that follows from it, and the limiter (ITU-R BS.1770, annex 2, for what a true peak is).
package dynamics

import "math"

// Ceiling is what true peaks are kept below, in decibels of full scale (EBU R 128 asks for -1).
const Ceiling = -1.0

// margin is for what the interpolation here misses of a peak, and for what coding adds, in decibels.
const margin = 0.5

// How the gain moves.
const (
	//limit:decibels of gain, either way | each track | it does not grow further
	mostGain  = 20.0  // decibels, either way
	gainSpeed = 1.5   // decibels a second: slow enough that nobody hears it move
	silence   = -60.0 // LUFS: what is below is no sound to level
)

// Leveller changes the gain of interleaved samples of 16 bits. What comes out lies Delay behind what goes in.
type Leveller struct {
	target         float64
	rate, channels int
	gain, wanted   float64 // decibels
	begun          bool

	// The limiter: samples wait for as long as it looks ahead.
	ahead   int       // sample frames
	held    []float64 // ring of ahead×channels samples
	window  []float64 // ring of the attenuations that were wanted, at most 1, whose mean is in force
	hold    int       // sample frames until it may rise again
	at      int       // sample frames so far
	sum     float64
	release float64
	current float64
	history [][]float64 // the newest samples of each channel, for interpolation
	out     []int16
}

// New makes a leveller for a target in LUFS.
func New(target float64, rate, channels int) *Leveller {
	ahead := max(rate/200, 2*taps) // 5 ms
	l := &Leveller{target: target, rate: rate, channels: channels, ahead: ahead, current: 1,
		held: make([]float64, ahead*channels), window: make([]float64, ahead-taps),
		release: 1 - math.Exp(-1/(0.2*float64(rate))), sum: float64(ahead - taps)}
	for i := range l.window {
		l.window[i] = 1
	}
	for range channels {
		l.history = append(l.history, make([]float64, taps))
	}
	return l
}

// Delay is how many sample frames what comes out lies behind.
func (l *Leveller) Delay() int64 { return int64(l.ahead) }

// Gain is what is in force, in decibels.
func (l *Leveller) Gain() float64 { return l.gain }

// Measured tells how loud the source is, in LUFS. The first time, the gain is set at once.
func (l *Leveller) Measured(lufs float64) {
	if lufs < silence {
		return // a pause: it stays as it is
	}
	l.wanted = min(max(l.target-lufs, -mostGain), mostGain)
	if !l.begun {
		l.begun, l.gain = true, l.wanted
	}
}

// taps is how many samples interpolation looks at; a peak lies between the two in the middle.
const taps = 12

// phases are the interpolation filters for a quarter, a half and three quarters between two samples: a sinc under a
// Hann window.
var phases = func() (out [3][taps]float64) {
	for p := range out {
		sum := 0.0
		for i := range taps {
			x := float64(i-taps/2+1) - float64(p+1)/4
			out[p][i] = math.Sin(math.Pi*x) / (math.Pi * x) * (0.5 + 0.5*math.Cos(math.Pi*x/(taps/2+0.5)))
			sum += out[p][i]
		}
		for i := range taps {
			out[p][i] /= sum
		}
	}
	return out
}()

// truePeak is the highest of a sample and what lies between it and the next one.
func truePeak(h []float64) (peak float64) {
	peak = max(math.Abs(h[taps/2-1]), math.Abs(h[taps/2]))
	for p := range phases {
		v := 0.0
		for i, c := range phases[p] {
			v += c * h[i]
		}
		peak = max(peak, math.Abs(v))
	}
	return peak
}

// Process takes samples and returns as many, valid until the next call.
func (l *Leveller) Process(pcm []int16) []int16 {
	l.out = l.out[:0]
	ceiling := 32768 * math.Pow(10, (Ceiling-margin)/20)
	frames := len(pcm) / l.channels
	speed := gainSpeed / float64(l.rate)
	for f := range frames {
		if d := l.wanted - l.gain; d > speed {
			l.gain += speed
		} else if d < -speed {
			l.gain -= speed
		}
		if f%32 == 0 {
			l.current = math.Pow(10, l.gain/20)
		}
		// What a sample needs is known once those behind it have come, half the filter later: within what it waits.
		need := 1.0
		slot := l.at % l.ahead
		for c := range l.channels {
			v := float64(pcm[f*l.channels+c]) * l.current
			h := l.history[c]
			copy(h, h[1:])
			h[taps-1] = v
			if p := truePeak(h); p > ceiling {
				need = min(need, ceiling/p)
			}
			out := l.held[slot*l.channels+c] * l.smoothed()
			l.out = append(l.out, int16(min(max(math.Round(out), -32768), 32767)))
			l.held[slot*l.channels+c] = v
		}
		l.step(need)
		l.at++
	}
	return l.out
}

// smoothed is the attenuation in force: a mean over nearly what it looks ahead, so that it never jumps.
func (l *Leveller) smoothed() float64 { return min(l.sum/float64(len(l.window)), 1) }

// step takes the need of the newest sample frame. What is wanted falls at once to the least need, stays there until the
// sample is out, and rises slowly; its mean has reached the need when the sample comes out.
func (l *Leveller) step(need float64) {
	n := len(l.window)
	slot := l.at % n
	now := l.window[(slot+n-1)%n]
	switch {
	case need <= now:
		now, l.hold = need, l.ahead+taps
	case l.hold > 0:
		l.hold--
	default:
		now = min(now+(1-now)*l.release, 1)
	}
	l.sum += now - l.window[slot]
	l.window[slot] = now
}
