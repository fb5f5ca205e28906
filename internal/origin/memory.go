package origin

import (
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/intake"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/run"
	"metaplasis/internal/settings"
)

// memoryBound is the most that a channel with these settings can take in memory, in bytes, with every wrapping made, a
// cover of the largest size, and all its queues full. others is how many audio tracks there are beside
// the main one.
func memoryBound(s *settings.Settings, rungs []ladder.Rung, others int) int64 {
	var media int64
	add := func(bitrate int64) {
		b := layout.Budget(s, bitrate)
		media += b + layout.OpenShare(b)
	}
	sounds := map[string]bool{}
	for _, r := range rungs {
		r = r.WithDefaults()
		if r.Source {
			add(layout.SourceBitrate)
		} else {
			add(r.Peak * 3 / 2)
		}
		if name := r.AudioName(); !sounds[name] {
			sounds[name] = true
			add(layout.SoundBitrate)
		}
	}
	for range others {
		add(layout.SoundBitrate)
	}
	total := media + media*3/10 // keyframes alone, once somebody has asked for them
	if s.TS {
		total += media * 6 / 5 // the same in transport streams and packed audio
	}
	covers := int64(segment.Retained(s.Window)/max(s.CoverEvery, 1) + 1)
	text := int64(publish.MaxTexts) * publish.TextBytes * int64(segment.Retained(s.Window))
	queues := int64(intake.MaxEarlyBytes + run.MaxHeldBytes + run.MaxCaptionBytes + hubBytes)
	return total + covers*publish.MaxCover*int64(len(rungs)) + queues + text
}

// hubBytes bounds what a channel's hub holds, beside its span of media time.
//
//limit:bytes that are held for workers and relays | each channel | the oldest are dropped; who still wanted them goes on at a keyframe
const hubBytes = 48 << 20

// hubSpan is how much media time a channel's hub holds, in ticks of media.VideoTimescale: what a worker
// that is replaced has to repeat, which is as much as two segments that are not finished, and the
// keyframe before them.
func hubSpan(s *settings.Settings) int64 { return 4*s.SegmentTicks() + 4*media.VideoTimescale }
