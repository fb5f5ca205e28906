package pcm

import (
	"fmt"

	"metaplasis/internal/core/media"
)

// Decoder turns samples of a format into interleaved samples of 16 bits, of two channels at most.
type Decoder struct{ f Format }

// NewDecoder makes a decoder of a configuration.
func NewDecoder(c media.Codec, config []byte) (*Decoder, error) {
	var d Decoder
	return &d, d.f.Unmarshal(c, config)
}

// Format returns the rate, samples per second, and the channels that come out.
func (d *Decoder) Format() (rate, channels int) { return d.f.Rate, min(d.f.Channels, 2) }

// Close does nothing.
func (d *Decoder) Close() {}

// Decode decodes the samples of one unit.
func (d *Decoder) Decode(unit []byte) ([]int16, error) {
	size := d.f.Bits / 8
	if len(unit)%(size*d.f.Channels) != 0 {
		return nil, &media.FormatError{Format: "PCM", Found: fmt.Sprintf("%d bytes", len(unit)), Want: fmt.Sprintf("a multiple of %d", size*d.f.Channels)}
	}
	out := make([]int16, len(unit)/size)
	for i := range out {
		switch b := unit[i*size:]; {
		case d.f.Codec == media.ALaw:
			out[i] = aLaw(b[0])
		case d.f.Codec == media.ULaw:
			out[i] = uLaw(b[0])
		case size == 1: // without a sign
			out[i] = (int16(b[0]) - 128) << 8
		case d.f.LittleEndian: // the upper bytes come last
			out[i] = int16(b[size-1])<<8 | int16(b[size-2])
		default:
			out[i] = int16(b[0])<<8 | int16(b[1])
		}
	}
	return Downmix(out, d.f.Channels, waveOrder(d.f.Channels)), nil
}

// aLaw and uLaw expand a byte (ITU-T G.711, tables 1a and 2a).
func aLaw(b byte) int16 {
	b ^= 0x55
	v := int16(b&15)<<4 + 8
	if e := b >> 4 & 7; e > 0 {
		v = (v + 0x100) << (e - 1)
	}
	if b&0x80 == 0 {
		return -v
	}
	return v
}

func uLaw(b byte) int16 {
	const bias = 0x84
	b = ^b
	v := (int16(b&15)<<3+bias)<<(b>>4&7) - bias
	if b&0x80 != 0 {
		return -v
	}
	return v
}

// Place is where a channel is heard.
type Place uint8

// The places.
const (
	Left Place = iota
	Right
	Centre
	LeftBehind
	RightBehind
	Low // effects, which two channels do without
)

// waveOrder is the usual order of so many channels: of one file format and of the interface of most cards.
func waveOrder(channels int) []Place {
	switch channels {
	case 1:
		return []Place{Centre}
	case 3:
		return []Place{Left, Right, Centre}
	case 4:
		return []Place{Left, Right, LeftBehind, RightBehind}
	}
	out := []Place{Left, Right, Centre, Low, LeftBehind, RightBehind, LeftBehind, RightBehind}
	return out[:min(channels, len(out))]
}

// Downmix mixes more than two channels down to two, as ITU-R BS.775-4, annex 4, has it: what is in the middle and
// behind by 3 dB less on its side, and all of it by as much less as keeps it from clipping. Channels that have no
// place are left out. One or two channels come back as they are.
func Downmix(pcm []int16, channels int, places []Place) []int16 {
	if channels <= 2 {
		return pcm
	}
	const one, less = 1 << 14, 11585 // 1 and 1/sqrt(2)
	gain := make([][2]int64, channels)
	var sum [2]int64
	for i := range gain {
		if i >= len(places) {
			continue
		}
		switch places[i] {
		case Left:
			gain[i] = [2]int64{one, 0}
		case Right:
			gain[i] = [2]int64{0, one}
		case Centre:
			gain[i] = [2]int64{less, less}
		case LeftBehind:
			gain[i] = [2]int64{less, 0}
		case RightBehind:
			gain[i] = [2]int64{0, less}
		}
		sum[0], sum[1] = sum[0]+gain[i][0], sum[1]+gain[i][1]
	}
	whole := max(sum[0], sum[1], 1)
	out := make([]int16, 0, len(pcm)/channels*2)
	for at := 0; at+channels <= len(pcm); at += channels {
		var left, right int64
		for i, g := range gain {
			left, right = left+g[0]*int64(pcm[at+i]), right+g[1]*int64(pcm[at+i])
		}
		out = append(out, int16(left/whole), int16(right/whole))
	}
	return out
}
