package layout

import (
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
)

// Parts fits the channel's parts to its video and to one of its audio renditions, or to its video alone.
func (s *Source) Parts(t *media.Track) segment.Parts {
	sound := s.Main()
	if t.Kind == media.Audio {
		sound = t
	}
	var rate media.Rational
	var longest int64
	switch {
	case s.Video != nil:
		rate, longest = s.pictures()
	case sound != nil:
		rate = media.Rational{Num: sound.Timescale, Den: sound.FrameSamples}
	}
	if sound == nil {
		return segment.PlanParts(s.Settings.PartTicks(), rate, longest, 0, 0)
	}
	return segment.PlanParts(s.Settings.PartTicks(), rate, longest, sound.FrameSamples, sound.Timescale)
}

const (
	// slowestCommon is how often, in thousandths a second, the pictures of all renditions must stand at one time so that parts
	// begin there.
	slowestCommon = 2500
	// usualPicture is how long the pictures of a varying rate last when nothing better is known: 24 a second.
	usualPicture = media.VideoTimescale / 24
)

// pictures is how the pictures of all renditions lie: at a rate, of which each rendition's is a multiple, so that all of them
// have one where a part begins; or where there is none, how long they last at most, in ticks of media.VideoTimescale.
func (s *Source) pictures() (rate media.Rational, longest int64) {
	rate = s.Video.FrameRate
	if s.Varies || !rate.Valid() {
		rate, longest = media.Rational{}, max(s.Longest, usualPicture)
	}
	for _, r := range s.Made() {
		if r.Source || r.SoundOnly() {
			continue
		}
		c := s.cadence(&r)
		switch own := c.Of(s.encodedRate()); {
		case c == (transcode.Cadence{}):
		case rate.Valid():
			if common := rate.Common(own); common.Milli() >= slowestCommon {
				rate = common
				continue
			}
			longest = max(longest, rate.Period(media.VideoTimescale)+1)
			rate = media.Rational{}
			fallthrough
		case own.Valid():
			longest = max(longest, own.Period(media.VideoTimescale)+1)
		default:
			longest = max(longest, 2*max(s.Longest, usualPicture))
		}
	}
	return rate, longest
}

// Bitrate is what a rendition's bitrate is taken for when its memory is bounded, bits per second.
func (s *Source) Bitrate(rendition string) int64 {
	bitrate := int64(SourceBitrate)
	for _, r := range s.Rungs {
		if r.Name == rendition && !r.Source {
			bitrate = r.Most() * 3 / 2
		}
	}
	if ladder.IsAudioName(rendition) {
		bitrate = SoundBitrate
	}
	return bitrate
}
