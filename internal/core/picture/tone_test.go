package picture

import (
	"encoding/binary"
	"math"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// grey10 is a frame of 10 bits whose samples are all the same.
func grey10(y, b, r uint16) (*Frame, []byte) {
	const w, h = 16, 4
	plane := func(n int, v uint16) []byte {
		out := make([]byte, 2*n)
		for i := range n {
			binary.LittleEndian.PutUint16(out[2*i:], v)
		}
		return out
	}
	luma, blue, red := plane(w*h, y), plane(w*h/4, b), plane(w*h/4, r)
	return &Frame{Width: w, Height: h, StrideY: 2 * w, Stride: w, Depth: 10,
		Plane: [3]unsafe.Pointer{unsafe.Pointer(&luma[0]), unsafe.Pointer(&blue[0]), unsafe.Pointer(&red[0])}}, luma
}

// sampleOf is the 10-bit sample of a light in narrow range (BT.2100, table 9).
func sampleOf(light float64) uint16 { return uint16(64 + 876*pqSample(light) + 0.5) }

// TestTonesAreMapped: black is black, the reference white is bright and not clipped, highlights keep an order, and a
// light of a colour keeps its hue.
func TestTonesAreMapped(t *testing.T) {
	assert.InDelta(t, 203, pqLight(0.5807), 1, "BT.2408, table 1: 58 % is the reference white")
	assert.InDelta(t, 0.7518, pqSample(1000), 0.0005, "BT.2100, table 4")
	hlg := hlgLight([3]float64{0.75, 0.75, 0.75})
	assert.InDelta(t, 203, hlg[0], 3, "BT.2408, table 1: 75 % is the reference white")
	m, err := NewToneMap(PQ, false, 1000)
	require.NoError(t, err)
	to := New(16, 4)
	luma := func(light float64) int {
		f, _ := grey10(sampleOf(light), 512, 512)
		require.NoError(t, m.Apply(to, f))
		assert.InDelta(t, 128, to.U[3], 1)
		assert.InDelta(t, 128, to.V[3], 1)
		return int(to.Y[5])
	}
	assert.InDelta(t, 16, luma(0), 1)
	// Below the knee light stays as it is: 50 cd/m² of a white of 203 (BT.1886).
	assert.InDelta(t, 16+219*math.Pow(50.0/203, 1/2.4), luma(50), 2)
	white := luma(203)
	assert.InDelta(t, 16+219*0.88, white, 8)
	assert.Greater(t, luma(600), white+5)
	assert.Greater(t, luma(1000), luma(600))
	assert.InDelta(t, 235, luma(1000), 2)

	red, _ := grey10(sampleOf(60), 480, 700)
	require.NoError(t, m.Apply(to, red))
	assert.Greater(t, int(to.V[3]), 150)
	assert.Less(t, int(to.U[3]), 128)

	_, err = NewToneMap(1, false, 0)
	assert.ErrorContains(t, err, "expected 16 or 18")
	assert.Error(t, m.Apply(New(8, 8), red))
}

// TestToneTableIsNearTheFormula: what is interpolated differs little from what is computed.
func TestToneTableIsNearTheFormula(t *testing.T) {
	m, err := NewToneMap(HLG, false, 0)
	require.NoError(t, err)
	curve := rollOff(DefaultPeak, ReferenceWhite)
	to := New(16, 4)
	for y := uint16(80); y < 900; y += 37 {
		for b := uint16(460); b < 560; b += 21 {
			f, _ := grey10(y, b, 530)
			require.NoError(t, m.Apply(to, f))
			wy, wb, wr := mapped(HLG, false, int(y), int(b), 530, curve)
			assert.InDelta(t, float64(wy)/256, to.Y[0], 4, "%d %d", y, b)
			assert.InDelta(t, float64(wb)/256, to.U[0], 3, "%d %d", y, b)
			assert.InDelta(t, float64(wr)/256, to.V[0], 3, "%d %d", y, b)
		}
	}
}

func BenchmarkToneMap(b *testing.B) {
	m, _ := NewToneMap(PQ, false, 0)
	const w, h = 1920, 1080
	luma, chroma := make([]byte, 2*w*h), make([]byte, w*h)
	for i := range w * h { // a slow ramp, as skies are
		luma[2*i], luma[2*i+1] = byte(i/64), byte(i/16384%4)
	}
	for i := range w * h / 2 {
		chroma[2*i], chroma[2*i+1] = byte(i/512), 2
	}
	f := &Frame{Width: w, Height: h, StrideY: 2 * w, Stride: w, Depth: 10, Plane: [3]unsafe.Pointer{unsafe.Pointer(&luma[0]), unsafe.Pointer(&chroma[0]), unsafe.Pointer(&chroma[w*h/2])}}
	to := New(w, h)
	b.ReportAllocs()
	b.SetBytes(w * h)
	for b.Loop() {
		_ = m.Apply(to, f)
	}
}
