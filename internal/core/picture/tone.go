package picture

import (
	"fmt"
	"math"
	"unsafe"
)

// Transfer is how light becomes samples: a code point of ITU-T H.273, table 3.
type Transfer uint8

// Transfers of a high dynamic range.
const (
	PQ  Transfer = 16 // SMPTE ST 2084
	HLG Transfer = 18 // ARIB STD-B67
)

// ReferenceWhite is the light of a white sheet in pictures of a high dynamic range, cd/m² (ITU-R BT.2408, 2.1). It is
// also what the white of the pictures that come out stands for.
const ReferenceWhite = 203

// DefaultPeak is how bright pictures are taken to be that do not say it, cd/m².
const DefaultPeak = 1000

// ToneMap makes pictures of the standard range (ITU-R BT.709, 8 bits) of those of a high one (ITU-R BT.2020, BT.2100).
// Light up to about half of the reference white stays as it is; what is above is compressed as ITU-R BT.2390, 5.4.1,
// has it, by the brightest of the three colours, so that hues stay. The whole way of a sample is a table:
//
//	blue difference (65) × red difference (65) × luma (65) -> luma, blue difference, red difference
type ToneMap struct {
	luma, blue, red []uint16 // 256 times the sample
	rows            [4][]uint16
}

const (
	lumaNodes   = 65 // of 10-bit samples, 16 apart
	chromaNodes = 65 // as far apart
)

// NewToneMap makes the table for pictures of a transfer and range whose brightest light is peak, in cd/m²; 0 is not known.
func NewToneMap(t Transfer, fullRange bool, peak int) (*ToneMap, error) {
	if t != PQ && t != HLG {
		return nil, fmt.Errorf("tone mapping: found transfer %d, expected %d or %d", t, PQ, HLG)
	}
	if peak <= ReferenceWhite {
		peak = DefaultPeak
	}
	const n = chromaNodes * chromaNodes * lumaNodes
	m := &ToneMap{luma: make([]uint16, n), blue: make([]uint16, n), red: make([]uint16, n)}
	curve := rollOff(float64(peak), ReferenceWhite)
	for b := range chromaNodes {
		for r := range chromaNodes {
			for y := range lumaNodes {
				o := m.at(b, r) + y
				m.luma[o], m.blue[o], m.red[o] = mapped(t, fullRange, y*16, b*16, r*16, curve)
			}
		}
	}
	return m, nil
}

// at is the first entry of a column of the table.
func (m *ToneMap) at(blue, red int) int { return (blue*chromaNodes + red) * lumaNodes }

// mapped brings one sample of 10 bits to the standard range.
func mapped(t Transfer, full bool, y, b, r int, curve func(float64) float64) (ly, lb, lr uint16) {
	luma, blue, red := (float64(y)-64)/876, (float64(b)-512)/896, (float64(r)-512)/896
	if full {
		luma, blue, red = float64(y)/1023, (float64(b)-512)/1023, (float64(r)-512)/1023
	}
	// ITU-R BT.2020, table 4.
	coded := [3]float64{luma + 1.4746*red, luma - 0.16455*blue - 0.57135*red, luma + 1.8814*blue}
	light := coded // cd/m², in the end
	if t == PQ {
		for i, v := range light {
			light[i] = pqLight(v)
		}
	} else {
		light = hlgLight(light)
	}
	brightest := max(light[0], light[1], light[2], 1e-6)
	gain := curve(brightest) / brightest / ReferenceWhite
	// From the primaries of BT.2020 to those of BT.709 (ITU-R BT.2087).
	to709 := [3][3]float64{{1.6605, -0.5876, -0.0728}, {-0.1246, 1.1329, -0.0083}, {-0.0182, -0.1006, 1.1187}}
	var out [3]float64
	for i, row := range to709 {
		v := (row[0]*light[0] + row[1]*light[1] + row[2]*light[2]) * gain
		out[i] = math.Pow(min(max(v, 0), 1), 1/2.4) // ITU-R BT.1886
	}
	luma = 0.2126*out[0] + 0.7152*out[1] + 0.0722*out[2]
	fixed := func(v float64) uint16 { return uint16(min(max(v, 0), 255)*256 + 0.5) }
	return fixed(16 + 219*luma), fixed(128 + 224*(out[2]-luma)/1.8556), fixed(128 + 224*(out[0]-luma)/1.5748)
}

// The constants of SMPTE ST 2084.
const (
	pqM1, pqM2       = 2610.0 / 16384, 2523.0 / 4096 * 128
	pqC1, pqC2, pqC3 = 3424.0 / 4096, 2413.0 / 4096 * 32, 2392.0 / 4096 * 32
)

// pqLight is the light of a sample, 0 to 1, in cd/m².
func pqLight(v float64) float64 {
	p := math.Pow(min(max(v, 0), 1), 1/pqM2)
	return 10_000 * math.Pow(max(p-pqC1, 0)/(pqC2-pqC3*p), 1/pqM1)
}

// pqSample is the sample of a light.
func pqSample(light float64) float64 {
	p := math.Pow(max(light, 0)/10_000, pqM1)
	return math.Pow((pqC1+pqC2*p)/(1+pqC3*p), pqM2)
}

// hlgLight is the light of three samples on a display of 1,000 cd/m² (ITU-R BT.2100, table 5).
func hlgLight(v [3]float64) [3]float64 {
	const a, b, c = 0.17883277, 0.28466892, 0.55991073
	for i, s := range v {
		if s = max(s, 0); s <= 0.5 {
			v[i] = s * s / 3
		} else {
			v[i] = (math.Exp((s-c)/a) + b) / 12
		}
	}
	luma := 0.2627*v[0] + 0.678*v[1] + 0.0593*v[2]
	const gamma = 1.2
	gain := 1000 * math.Pow(max(luma, 1e-9), gamma-1)
	return [3]float64{v[0] * gain, v[1] * gain, v[2] * gain}
}

// rollOff compresses light up to a peak into what a darker display shows (ITU-R BT.2390, 5.4.1).
func rollOff(peak, most float64) func(float64) float64 {
	whole, top := pqSample(peak), pqSample(most)/pqSample(peak)
	knee := 1.5*top - 0.5
	return func(light float64) float64 {
		e := min(pqSample(light)/whole, 1)
		if e < knee {
			return light
		}
		t := (e - knee) / (1 - knee)
		p := (2*t*t*t-3*t*t+1)*knee + (t*t*t-2*t*t+t)*(1-knee) + (-2*t*t*t+3*t*t)*top
		return pqLight(p * whole)
	}
}

// Apply maps a frame into a picture of its size.
func (m *ToneMap) Apply(to *Picture, f *Frame) error {
	if to.Width != f.Width || to.Height != f.Height || f.Chroma == Grey || f.Depth > 16 {
		return fmt.Errorf("tone mapping: found %dx%d, %d bits, for a picture of %dx%d, expected the same size, colours, and 16 bits at most",
			f.Width, f.Height, f.Depth, to.Width, to.Height)
	}
	shiftX, shiftY := 1, 1
	switch f.Chroma {
	case Chroma422:
		shiftY = 0
	case Chroma444:
		shiftX, shiftY = 0, 0
	}
	cw := (f.Width + shiftX) >> shiftX
	for i, n := range []int{f.Width, f.Width, cw, cw} {
		if len(m.rows[i]) != n {
			m.rows[i] = make([]uint16, n)
		}
	}
	for y := 0; y < f.Height; y += 2 {
		below := min(y+1, f.Height-1)
		row(m.rows[0], f, 0, f.StrideY, y)
		row(m.rows[1], f, 0, f.StrideY, below)
		row(m.rows[2], f, 1, f.Stride, y>>shiftY)
		row(m.rows[3], f, 2, f.Stride, y>>shiftY)
		for x := 0; x < f.Width; x += 2 {
			m.block(to, x, y, x>>shiftX)
		}
	}
	return nil
}

// row reads a line of a plane as samples of 10 bits.
func row(to []uint16, f *Frame, plane, stride, y int) {
	if f.Depth > 8 {
		from := unsafe.Slice((*uint16)(unsafe.Add(f.Plane[plane], y*stride)), len(to))
		if shift := f.Depth - 10; shift >= 0 {
			for i, v := range from {
				to[i] = v >> shift & 1023
			}
			return
		}
		for i, v := range from {
			to[i] = v << (10 - f.Depth) & 1023
		}
		return
	}
	for i, v := range unsafe.Slice((*byte)(unsafe.Add(f.Plane[plane], y*stride)), len(to)) {
		to[i] = uint16(v) << 2
	}
}

// corners are the four columns of the table around a colour, and how much each counts, in 256ths.
type corners struct {
	at             [4]int
	w0, w1, w2, w3 uint32
}

// lookUp reads a table at a luma, rounded to a sample.
func (c *corners) lookUp(table []uint16, luma uint32) byte {
	at, f := int(luma>>4), luma&15
	p0, p1, p2, p3 := table[c.at[0]+at:][:2:2], table[c.at[1]+at:][:2:2], table[c.at[2]+at:][:2:2], table[c.at[3]+at:][:2:2]
	low := uint32(p0[0])*c.w0 + uint32(p1[0])*c.w1 + uint32(p2[0])*c.w2 + uint32(p3[0])*c.w3
	high := uint32(p0[1])*c.w0 + uint32(p1[1])*c.w1 + uint32(p2[1])*c.w2 + uint32(p3[1])*c.w3
	return byte((low*(16-f) + high*f + 1<<19) >> 20)
}

// block maps the samples of two lines and columns, which share their colour.
func (m *ToneMap) block(to *Picture, x, y, cx int) {
	b, r := uint32(m.rows[2][cx]), uint32(m.rows[3][cx])
	fb, fr := b&15, r&15
	base := m.at(int(b>>4), int(r>>4))
	const nextBlue, nextRed = chromaNodes * lumaNodes, lumaNodes
	c := corners{[4]int{base, base + nextRed, base + nextBlue, base + nextBlue + nextRed},
		(16 - fb) * (16 - fr), (16 - fb) * fr, fb * (16 - fr), fb * fr}
	right, below := min(x+1, to.Width-1), min(y+1, to.Height-1)
	l0, l1 := uint32(m.rows[0][x]), uint32(m.rows[0][right])
	l2, l3 := uint32(m.rows[1][x]), uint32(m.rows[1][right])
	to.Y[y*to.StrideY+x], to.Y[y*to.StrideY+right] = c.lookUp(m.luma, l0), c.lookUp(m.luma, l1)
	to.Y[below*to.StrideY+x], to.Y[below*to.StrideY+right] = c.lookUp(m.luma, l2), c.lookUp(m.luma, l3)
	mean := (l0 + l1 + l2 + l3) / 4
	at := y/2*to.Stride + x/2
	to.U[at], to.V[at] = c.lookUp(m.blue, mean), c.lookUp(m.red, mean)
}
