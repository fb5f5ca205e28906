package layout

import (
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
)

// The pair is one rung of pictures and one of sound that are encoded once for all viewers in real time whom the ladder does not
// suit: a WebRTC viewer needs pictures in the order in which they are shown, and a codec that it decodes.

// The pair's tracks in the hub, by name. No rung is called so.
const (
	PairVideo = "real time"
	PairSound = "real-time sound"
)

// How the pair is encoded.
const (
	pairEffort    = 2
	pairSoundBits = 96_000 // bits per second
	pairHeight    = 720    // at most
)

// addPair has the worker make the pair too.
func (l *Layout) addPair(s *Source) {
	if s.MakesPairVideo() {
		r := PairRung(s.Video)
		l.Config.Rungs = append(l.Config.Rungs, s.encodedRung(&r, &l.Config))
	}
	if s.MakesPairSound() {
		l.Config.Sound = append(l.Config.Sound, transcode.AudioRung{ID: s.IDs.Of(PairSound), Name: PairSound,
			Codec: coding.RealTime(media.Audio), Bitrate: pairSoundBits})
	}
}

// MakesPairVideo reports whether the pair's pictures are made.
func (s *Source) MakesPairVideo() bool {
	return s.Pair.Video && !s.Pair.Broken && decodable(s.Video) != nil
}

// MakesPairSound reports whether the pair's sound is made.
func (s *Source) MakesPairSound() bool {
	return s.Pair.Sound && !s.Pair.Broken && decodable(s.Main()) != nil
}

// PairRung is the pair's rung of pictures: none refers to a later one.
func PairRung(video *media.Track) ladder.Rung {
	r := ladder.Small(video, pairHeight)
	r.Name, r.Effort, r.BFrames, r.Codec = PairVideo, pairEffort, -1, coding.RealTime(media.Video)
	return r
}
