package h264dec_test

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/codec/h264dec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

type unit struct {
	annexB []byte
	pts    int64
}

// load returns a demo loop's video as byte streams.
func load(t testing.TB, loop int) []unit {
	r, err := flv.NewReader(bytes.NewReader(demo.Loops[loop].FLV))
	require.NoError(t, err)
	var sets []byte
	var out []unit
	for {
		tag, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		if tag.Type != flv.TagVideo {
			continue
		}
		var v flv.VideoBody
		require.NoError(t, v.Unmarshal(tag.Body))
		if v.Config {
			var c avc.Config
			require.NoError(t, c.Unmarshal(v.Data))
			for _, n := range append(c.SPS, c.PPS...) {
				sets = append(append(sets, 0, 0, 0, 1), n...)
			}
			continue
		}
		b := []byte{}
		if v.Key {
			b = append(b, sets...)
		}
		pts := (int64(tag.Timestamp) + int64(v.Composition)) * media.VideoTimescale / 1000
		out = append(out, unit{avc.AppendAnnexB(b, v.Data), pts})
	}
}

func TestEveryUnitGivesItsPictureAtOnce(t *testing.T) {
	for loop, l := range demo.Loops {
		units := load(t, loop)
		d, err := h264dec.New()
		require.NoError(t, err)
		var pic *picture.Picture
		for i, u := range units {
			f, err := d.DecodeStream(u.annexB, u.pts)
			require.NoError(t, err)
			require.NotNil(t, f, "%s: unit %d", l.Name, i)
			require.Equal(t, u.pts, f.PTS)
			if pic == nil {
				pic = picture.New(f.Width, f.Height)
			}
			require.NoError(t, new(scale.Scaler).FromFrame(pic, f))
			n, ok := picture.DecodeNumber(pic.Y, pic.StrideY, f.Width, f.Height)
			require.True(t, ok)
			first := units[0].pts // not 0 with B-frames
			require.EqualValues(t, (u.pts-first+media.VideoTimescale/60)*30/media.VideoTimescale, n, "%s: unit %d", l.Name, i)
		}
		d.Close()
	}
}

func BenchmarkDecode1080(b *testing.B) {
	units := load(b, 1)
	d, _ := h264dec.New()
	defer d.Close()
	for b.Loop() {
		for _, u := range units {
			_, _ = d.DecodeStream(u.annexB, u.pts)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N*len(units)), "ms/picture")
}
