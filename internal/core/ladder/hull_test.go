package ladder

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// film is how a made-up film looks: a size can show no more than its samples, and needs bits for each of them.
func film(width, height int, bitrate int64) Measured {
	samples := float64(width * height)
	most := 30 + 4*math.Log2(samples/40_000)
	return Measured{width, height, bitrate, int64(100 * (most - 6*math.Exp(-float64(bitrate)/(samples*1.2))*4))}
}

func TestHullHoldsWhatIsWorthItsBits(t *testing.T) {
	var all []Measured
	for _, size := range [][2]int{{1280, 720}, {854, 480}, {640, 360}, {426, 240}} {
		for bits := int64(150_000); bits < 6_000_000; bits = bits * 3 / 2 {
			all = append(all, film(size[0], size[1], bits))
		}
	}
	hull := Hull(all)
	require.Greater(t, len(hull), 4)
	for i := range hull {
		if i > 0 {
			assert.Greater(t, hull[i].Bitrate, hull[i-1].Bitrate)
			assert.Greater(t, hull[i].Quality, hull[i-1].Quality)
		}
		if i > 1 {
			assert.LessOrEqual(t, gain(hull[i-1], hull[i]), gain(hull[i-2], hull[i-1])+1, "it bends one way")
		}
	}
	for _, m := range all {
		at := 0
		for at+1 < len(hull) && hull[at+1].Bitrate <= m.Bitrate {
			at++
		}
		if hull[at].Bitrate == m.Bitrate {
			assert.LessOrEqual(t, m.Quality, hull[at].Quality)
		}
	}
	rungs := Propose(all, 3)
	require.GreaterOrEqual(t, len(rungs), 4)
	assert.True(t, rungs[0].Source)
	assert.Empty(t, Check(rungs))
	for i := 2; i < len(rungs); i++ {
		assert.InDelta(t, 1.8, float64(rungs[i-1].Bitrate)/float64(rungs[i].Bitrate), 0.1)
		assert.LessOrEqual(t, rungs[i].Height, rungs[i-1].Height)
		assert.Equal(t, 3, rungs[i].Effort)
	}
	assert.Less(t, rungs[len(rungs)-1].Height, rungs[1].Height, "fewer bits, smaller pictures")
	for _, r := range rungs[1:] { // no other size looks better at that bitrate
		own := film(r.Width, r.Height, r.Bitrate).Quality
		for _, size := range [][2]int{{1280, 720}, {854, 480}, {640, 360}, {426, 240}} {
			assert.LessOrEqual(t, film(size[0], size[1], r.Bitrate).Quality, own+25, "%s against %v", r.Name, size)
		}
	}
	assert.Nil(t, Propose(nil, 1))
	assert.Len(t, Propose(all[:1], 1), 2)
}

func TestPlansAreUsedWithRungsOfOnesOwn(t *testing.T) {
	for _, p := range BuiltIn() {
		assert.Empty(t, p.Check(), p.Name)
		assert.True(t, p.BuiltIn)
	}
	general := BuiltIn()[0]
	changed := general.Rungs[2]
	changed.Bitrate = 900_000
	l := general.With([]Rung{general.Rungs[1], changed, {Name: "radio", On: true, AudioBitrate: 64_000}})
	assert.Equal(t, []string{"480p", "radio"}, l.Plan.Own, "what is as in the plan is the plan's")
	assert.Len(t, l.Rungs, len(general.Rungs)+1)
	assert.Equal(t, int64(900_000), l.Rungs[2].Bitrate)
	assert.Equal(t, int64(1_300_000), general.Rungs[2].Bitrate, "the plan stays as it is")
	assert.Equal(t, []Rung{l.Rungs[2], l.Rungs[4]}, l.Own())

	fit := Fit(general.Rungs, source(854, 480, square))
	on := map[string]bool{}
	for _, r := range fit {
		on[r.Name] = r.On
	}
	assert.Equal(t, map[string]bool{"source": true, "720p": false, "480p": false, "360p": true}, on)
	fit = Fit([]Rung{{Name: "a", On: true, Height: 1080, Bitrate: 1_000_000}}, source(320, 180, square))
	assert.True(t, fit[0].On, "one is left")
}

func TestPictureWorkIsChecked(t *testing.T) {
	fields := func(r Rung) (out []string) {
		r.Name, r.On = "a", true
		for _, p := range Check([]Rung{r}) {
			out = append(out, p.Field[len("rungs[0]."):])
		}
		return out
	}
	good := Rung{Width: 640, Height: 360, Bitrate: 800_000}
	with := func(change func(*Rung)) Rung {
		r := good
		change(&r)
		return r
	}
	assert.Empty(t, fields(with(func(r *Rung) {
		r.Picture = Picture{Crop: Crop{Left: 2}, Rotate: 270, Filter: BoxFilter, Pad: true, Label: true, Clock: ClockTop, Logo: Logo{Image: "burgee", Place: Centre, Opacity: 50, Width: 20}}
		r.Quality, r.Profile, r.Level, r.BFrames, r.Content = 60, "main", "4", 2, Screen
	})))
	assert.Equal(t, []string{"picture.crop.left", "picture.rotate", "picture.filter", "picture.clock", "picture.logo.image"}, fields(with(func(r *Rung) {
		r.Picture = Picture{Crop: Crop{Left: 3}, Rotate: 45, Filter: "sharp", Clock: "left", Logo: Logo{Opacity: 10}}
	})))
	assert.Equal(t, []string{"picture.logo.image", "picture.logo.place", "picture.logo.opacity", "picture.logo.width"}, fields(with(func(r *Rung) {
		r.Picture.Logo = Logo{Image: "../x", Place: "left", Opacity: 101, Width: -1}
	})))
	assert.Equal(t, []string{"picture.pad"}, fields(Rung{Height: 360, Bitrate: 800_000, Picture: Picture{Pad: true}}))
	assert.Equal(t, []string{"picture"}, fields(Rung{Source: true, Picture: Picture{Label: true}}))
	assert.Equal(t, []string{"profile", "level", "quality", "content", "bFrames"}, fields(with(func(r *Rung) {
		r.Profile, r.Level, r.Quality, r.Content, r.BFrames = "best", "9", 200, "news", 7
	})))
	assert.Equal(t, []string{"bFrames"}, fields(with(func(r *Rung) { r.Profile, r.BFrames = "baseline", 2 })))
	assert.Equal(t, []string{"level"}, fields(with(func(r *Rung) { r.Level = "1.1" })))
	assert.Equal(t, []string{"profile"}, fields(with(func(r *Rung) { r.Codec, r.Profile = "vp9", "main" })))
	assert.Equal(t, []string{"audioRate", "loudness"}, fields(Rung{AudioBitrate: 64_000, AudioRate: 12_345, Loudness: 3}))
	assert.Equal(t, []string{"audioBitrate"}, fields(with(func(r *Rung) { r.Loudness = -23 })))
	assert.Empty(t, fields(Rung{AudioBitrate: 64_000, AudioRate: 32_000, Loudness: -23}), "a rung of audio only")
	assert.Empty(t, fields(with(func(r *Rung) { r.Content = "camera" })))
	assert.Equal(t, Camera, Rung{Height: 90, Bitrate: 1, Content: "camera"}.WithDefaults().Content)
	twice := Check([]Rung{{Name: "a", On: true, Height: 90, Bitrate: 100_000}, {Name: "b", On: true, Source: true}, {Name: "c", On: true, Source: true}})
	assert.Contains(t, twice[0].Text, `"b" does already`)
	var all []string
	for _, p := range (Ladder{Governor: "x", Priority: 12, Interlaced: "y"}).Check() {
		all = append(all, p.Field)
	}
	assert.Equal(t, []string{"governor", "priority", "interlaced"}, all)
}

func TestLevelsAreHeldAgainstTheSource(t *testing.T) {
	r := Rung{Height: 720, Bitrate: 3_000_000, Level: "3.1"}
	assert.Empty(t, r.LevelProblem(1280, 720, source(1, 1, square).FrameRate))
	fast := source(1, 1, square).FrameRate
	fast.Num = 60
	assert.Contains(t, r.LevelProblem(1280, 720, fast), "its pictures come too fast; level 3.2 takes it")
	r.Peak = 60_000_000
	assert.Contains(t, r.LevelProblem(1280, 720, source(1, 1, square).FrameRate), "its peak is too high; level 4.1 takes it")
	r = Rung{Codec: "hevc", Level: "4", Bitrate: 3_000_000}
	assert.Empty(t, r.LevelProblem(1920, 1080, source(1, 1, square).FrameRate))
	assert.Contains(t, r.LevelProblem(3840, 2160, fast), "its pictures are too large")
}

func TestShapesFollowFromThePictureWork(t *testing.T) {
	hd := source(1280, 720, square)
	upright := Rung{Height: 640, Picture: Picture{Crop: Crop{Left: 438, Right: 438}}}
	w, h := upright.Size(hd)
	assert.Equal(t, [2]int{360, 640}, [2]int{w, h})
	assert.Equal(t, square, upright.SAR(hd))
	turned := Rung{Width: 360, Picture: Picture{Rotate: 90}}
	w, h = turned.Size(hd)
	assert.Equal(t, [2]int{360, 640}, [2]int{w, h})
	padded := Rung{Width: 480, Height: 480, Picture: Picture{Pad: true}}
	w, h = padded.Size(hd)
	assert.Equal(t, [2]int{480, 480}, [2]int{w, h})
	assert.Equal(t, [2]int{480, 270}, padded.Inner(hd))
	assert.Equal(t, [2]int{270, 480}, padded.Inner(source(720, 1280, square)))
	assert.Equal(t, square, padded.SAR(hd))
}
