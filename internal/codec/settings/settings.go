// Package settings holds what encoders of live pictures are told, whatever their codec.
package settings

import (
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// Pictures say how pictures are to be encoded. Bitrates are bits per second.
type Pictures struct {
	Width, Height int
	SAR           media.Rational
	FrameRate     media.Rational // for rate control only; times are free
	Bitrate, Peak int64
	Buffer        int // milliseconds of Peak
	Effort        int // 1 to 9
	// Quality is 1 (least) to 100 (best) at whatever rate it takes, below Peak; 0 keeps to Bitrate.
	Quality int
	Profile string // of the codec, in lower case; "" is its best
	Level   string // such as 4.1; "" is the lowest that fits
	// BFrames are so many pictures between two others that refer to later ones; 0 is as the effort says, -1 none.
	BFrames int
	Content ladder.Content
	Colour  media.Colour
}

// Quantizer brings a quality to a codec's scale, from the worst quantizer to the best one.
func (s Pictures) Quantizer(worst, best int) int {
	return worst + (best-worst)*min(max(s.Quality, 1), 100)/100
}

// LevelTenths is the level times ten, 0 for none.
func (s Pictures) LevelTenths() (n int) {
	for _, c := range s.Level {
		if c >= '0' && c <= '9' {
			n = n*10 + int(c-'0')
		}
	}
	if len(s.Level) == 1 {
		n *= 10
	}
	return n
}
