package ladder

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// codecOf is the row of a rung's codec of pictures, an empty one when there is none.
func (r Rung) codecOf() *coding.Codec {
	if c := coding.Find(cmp.Or(r.Codec, coding.Usual(media.Video))); c != nil {
		return c
	}
	return &coding.Codec{}
}

// load is what a rung asks of a decoder, for pictures of a size and rate.
func (r Rung) load(width, height int, rate media.Rational) coding.Level {
	block := max(r.codecOf().LevelBlock, 1)
	blocks := func(n int) int64 { return int64((n + block - 1) / block) }
	size := blocks(width) * blocks(height)
	return coding.Level{Rate: (size*rate.Num + rate.Den - 1) / rate.Den, Size: size, Bitrate: r.WithDefaults().Peak}
}

// fits names the lowest level that takes a load.
func fits(levels []coding.Level, l coding.Level, profile string) string {
	for _, most := range levels {
		if l.Exceeds(most, profile) == "" {
			return "; level " + most.Name + " takes it"
		}
	}
	return ""
}

// LevelProblem says why a rung's level does not take pictures of a size and rate, "" when it does or none is named.
func (r Rung) LevelProblem(width, height int, rate media.Rational) string {
	levels := r.codecOf().Levels
	at := slices.IndexFunc(levels, func(l coding.Level) bool { return l.Name == r.Level })
	if at < 0 {
		return ""
	}
	if !rate.Valid() {
		rate = media.Rational{Num: 25, Den: 1}
	}
	l := r.load(width, height, rate)
	if why := l.Exceeds(levels[at], r.Profile); why != "" {
		return fmt.Sprintf("level %s does not take %dx%d at %d pictures in %d s and %d bit/s at most: %s%s", r.Level, width, height,
			rate.Num, rate.Den, l.Bitrate, why, fits(levels, l, r.Profile))
	}
	return ""
}

// checkLevel says what is wrong with profile and level, as far as it can be known without a source.
func (r Rung) checkLevel(add func(field, text string, args ...any)) {
	c := r.codecOf()
	if r.Profile != "" && !slices.Contains(c.Profiles, r.Profile) {
		if len(c.Profiles) == 0 {
			add("profile", "found %.40q, expected nothing: the profile of this codec is not chosen", r.Profile)
		} else {
			add("profile", "found %.40q, expected %s, or nothing for the best one", r.Profile, strings.Join(c.Profiles, ", "))
		}
	}
	if r.Level == "" {
		return
	}
	if !slices.ContainsFunc(c.Levels, func(l coding.Level) bool { return l.Name == r.Level }) {
		var names []string
		for _, l := range c.Levels {
			names = append(names, l.Name)
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
