package ladder

import (
	"fmt"
	"slices"
	"strings"

	"metaplasis/internal/core/media"
)

// level is what a decoder of one level takes.
type level struct {
	name    string
	rate    int64 // macroblocks, or luma samples, a second
	size    int64 // macroblocks, or luma samples, a picture
	bitrate int64 // bits a second, of the profiles with the lowest limit
}

// avcLevels are those of ITU-T H.264, table A-1: sizes in macroblocks, the bitrate of Baseline and Main.
var avcLevels = []level{
	{"1", 1485, 99, 64_000}, {"1.1", 3000, 396, 192_000}, {"1.2", 6000, 396, 384_000}, {"1.3", 11_880, 396, 768_000},
	{"2", 11_880, 396, 2_000_000}, {"2.1", 19_800, 792, 4_000_000}, {"2.2", 20_250, 1620, 4_000_000},
	{"3", 40_500, 1620, 10_000_000}, {"3.1", 108_000, 3600, 14_000_000}, {"3.2", 216_000, 5120, 20_000_000},
	{"4", 245_760, 8192, 20_000_000}, {"4.1", 245_760, 8192, 50_000_000}, {"4.2", 522_240, 8704, 50_000_000},
	{"5", 589_824, 22_080, 135_000_000}, {"5.1", 983_040, 36_864, 240_000_000}, {"5.2", 2_073_600, 36_864, 240_000_000},
}

// hevcLevels are those of ITU-T H.265, tables A.8 and A.9: sizes in luma samples, the bitrate of the main tier.
var hevcLevels = []level{
	{"1", 552_960, 36_864, 128_000}, {"2", 3_686_400, 122_880, 1_500_000}, {"2.1", 7_372_800, 245_760, 3_000_000},
	{"3", 16_588_800, 552_960, 6_000_000}, {"3.1", 33_177_600, 983_040, 10_000_000}, {"4", 66_846_720, 2_228_224, 12_000_000},
	{"4.1", 133_693_440, 2_228_224, 20_000_000}, {"5", 267_386_880, 8_912_896, 25_000_000},
	{"5.1", 534_773_760, 8_912_896, 40_000_000}, {"5.2", 1_069_547_520, 8_912_896, 60_000_000},
}

// scheme is what profiles and levels a codec has that can be asked for.
type scheme struct {
	profiles []string
	levels   []level
	block    int // side of what sizes are counted in
}

func schemeOf(c media.Codec) scheme {
	switch c {
	case "", media.H264:
		return scheme{[]string{"baseline", "main", "high"}, avcLevels, 16}
	case media.HEVC:
		return scheme{[]string{"main"}, hevcLevels, 1}
	}
	return scheme{}
}

// load is what a rung asks of a decoder, for pictures of a size and rate.
func (s scheme) load(r Rung, width, height int, rate media.Rational) level {
	blocks := func(n int) int64 { return int64((n + s.block - 1) / s.block) }
	size := blocks(width) * blocks(height)
	return level{rate: (size*rate.Num + rate.Den - 1) / rate.Den, size: size, bitrate: r.WithDefaults().Peak}
}

// exceeds says by what a load is more than a level takes, "" when it is not.
func (l level) exceeds(most level, profile string) string {
	bitrate := most.bitrate
	if profile == "" || profile == "high" {
		bitrate = bitrate * 5 / 4 // H.264, A.3.1: 1,250 bits for 1,000
	}
	switch {
	case l.size > most.size:
		return "its pictures are too large"
	case l.rate > most.rate:
		return "its pictures come too fast"
	case l.bitrate > bitrate:
		return "its peak is too high"
	}
	return ""
}

// fits names the lowest level that takes a load.
func (s scheme) fits(l level, profile string) string {
	for _, most := range s.levels {
		if l.exceeds(most, profile) == "" {
			return "; level " + most.name + " takes it"
		}
	}
	return ""
}

// LevelProblem says why a rung's level does not take pictures of a size and rate, "" when it does or none is named.
func (r Rung) LevelProblem(width, height int, rate media.Rational) string {
	s := schemeOf(r.Codec)
	at := slices.IndexFunc(s.levels, func(l level) bool { return l.name == r.Level })
	if at < 0 {
		return ""
	}
	if !rate.Valid() {
		rate = media.Rational{Num: 25, Den: 1}
	}
	l := s.load(r, width, height, rate)
	if why := l.exceeds(s.levels[at], r.Profile); why != "" {
		return fmt.Sprintf("level %s does not take %dx%d at %d pictures in %d s and %d bit/s at most: %s%s", r.Level, width, height,
			rate.Num, rate.Den, l.bitrate, why, s.fits(l, r.Profile))
	}
	return ""
}

// checkLevel says what is wrong with profile and level, as far as it can be known without a source.
func (r Rung) checkLevel(add func(field, text string, args ...any)) {
	s := schemeOf(r.Codec)
	if r.Profile != "" && !slices.Contains(s.profiles, r.Profile) {
		if len(s.profiles) == 0 {
			add("profile", "found %.40q, expected nothing: the profile of this codec is not chosen", r.Profile)
		} else {
			add("profile", "found %.40q, expected %s, or nothing for the best one", r.Profile, strings.Join(s.profiles, ", "))
		}
	}
	if r.Level == "" {
		return
	}
	if !slices.ContainsFunc(s.levels, func(l level) bool { return l.name == r.Level }) {
		var names []string
		for _, l := range s.levels {
			names = append(names, l.name)
		}
		add("level", "found %.40q, expected %s", r.Level, strings.Join(append(names, "nothing for the lowest that fits"), ", "))
		return
	}
	w, h := r.Width, r.Height
	if w == 0 {
		w = h
	}
	if h == 0 {
		h = w
	}
	rate, _ := ParseRate(r.FrameRate)
	slow := media.Rational{Num: 1, Den: 1} // what else the source has is not known yet
	if rate.Number.Valid() {
		slow = rate.Number
	}
	if text := r.LevelProblem(w, h, slow); text != "" {
		add("level", "%s", text)
	}
}
