package rawvideo

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

func parameters() map[string]string {
	return map[string]string{"sampling": "YCbCr-4:2:2", "width": "1280", "height": "720", "depth": "10", "exactframerate": "30000/1001", "colorimetry": "BT709", "tcs": "SDR"}
}

func TestDescriptions(t *testing.T) {
	f, err := Parse(parameters())
	require.NoError(t, err)
	assert.Equal(t, Format{Width: 1280, Height: 720, Depth: 10, Rate: media.Rational{Num: 30000, Den: 1001}, Colour: media.Colour{Primaries: 1, Matrix: 1, Transfer: 1}}, f)
	assert.Equal(t, 3200, f.LineBytes())
	assert.EqualValues(t, int64(3200*720*8)*30000/1001, f.Bitrate())
	var back Format
	require.NoError(t, back.Unmarshal(f.Marshal()))
	assert.Equal(t, f, back)
	track, err := Track(f.Marshal())
	require.NoError(t, err)
	assert.Equal(t, []any{1280, 720, f.Rate, false}, []any{track.Width, track.Height, track.FrameRate, track.Interlaced})

	for _, fields := range []map[string]string{{"interlace": ""}, {"interlace": "", "segmented": ""}} {
		p := parameters()
		for k, v := range fields {
			p[k] = v
		}
		f, err := Parse(p)
		require.NoError(t, err)
		assert.Equal(t, []bool{true, len(fields) == 1}, []bool{f.Fields, f.Interlaced})
		require.NoError(t, back.Unmarshal(f.Marshal()))
		assert.Equal(t, f, back)
	}
	for name, change := range map[string][2]string{"sampling": {"sampling", "RGB"}, "8 or 10 bits": {"depth", "16f"}, "even width": {"width", "1281"}, "pictures of 0x": {"width", ""},
		"at most": {"height", "2304"}, "pictures per second": {"exactframerate", "5000"}} {
		p := parameters()
		if p[change[0]] = change[1]; name == "at most" {
			p["width"] = "4096"
		}
		_, err := Parse(p)
		assert.ErrorContains(t, err, name)
	}
	assert.Error(t, back.Unmarshal([]byte{1, 2}))
}

func TestSamples(t *testing.T) {
	p := picture.New(64, 36)
	for y := range 36 {
		for x := range 64 {
			p.Y[y*p.StrideY+x], p.U[y/2*p.Stride+x/2], p.V[y/2*p.Stride+x/2] = byte(3*x+y), byte(40+x/2), byte(200-y/2)
		}
	}
	for _, depth := range []int{8, 10} {
		f := Format{Width: 64, Height: 36, Depth: depth}
		b := f.Append(nil, p)
		require.Len(t, b, f.PictureBytes())
		for _, width := range []int{64, 16} {
			every := 64 / width
			small := f.Small(b, width)
			require.Equal(t, []int{width, 36 / every}, []int{small.Rect.Dx(), small.Rect.Dy()})
			for y := range 36 / every {
				for x := range width {
					i := y*small.YStride + x
					assert.Equal(t, []byte{byte(3*x*every + y*every), byte(40 + x*every/2), byte(200 - y*every/2)}, []byte{small.Y[i], small.Cb[i], small.Cr[i]})
				}
			}
		}
	}
}

func FuzzUnmarshal(f *testing.F) {
	of, _ := Parse(parameters())
	f.Add(of.Marshal())
	f.Fuzz(func(t *testing.T, b []byte) {
		var f Format
		if f.Unmarshal(b) == nil {
			assert.LessOrEqual(t, f.PictureBytes(), MaxPicture)
		}
	})
}
