package origin

import (
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/settings"
)

// What a rendition's bitrate is taken for when its memory is bounded. A source above it plays, but its
// segments leave memory before their time, which is told.
const (
	//limit:bits a second that memory is planned for | each channel | the open segment is closed early
	maxSourceBitrate = 40_000_000
	//limit:bits a second of sound that memory is planned for | each channel | the open segment is closed early
	maxSoundBitrate = 512_000
)

// budget is how many bytes a rendition's segments may take at a bitrate.
func budget(s *settings.Settings, bitrate int64) int64 {
	const least = 4 << 20
	return bitrate/8*s.SegmentMillis/1000*int64(segment.Retained(s.Window))*9/8 + least
}

// openShare is how much of that the open segment may take beside.
func openShare(budget int64) int64 { return min(max(budget/3, 4<<20), segment.MaxSegmentBytes) }

// MemoryBound is the most that a channel with these settings can take in memory, in bytes, with every wrapping made, a
// cover of the largest size, and all its queues full. others is how many tracks of sound there are beside
// the main one.
func MemoryBound(s *settings.Settings, rungs []ladder.Rung, others int) int64 {
	var media int64
	add := func(bitrate int64) {
		b := budget(s, bitrate)
		media += b + openShare(b)
	}
	sounds := map[string]bool{}
	for _, r := range rungs {
		r = r.WithDefaults()
		if r.Source {
			add(maxSourceBitrate)
		} else {
			add(r.Peak * 3 / 2)
		}
		if name := r.AudioName(); !sounds[name] {
			sounds[name] = true
			add(maxSoundBitrate)
		}
	}
	for range others {
		add(maxSoundBitrate)
	}
	total := media + media*3/10 // keyframes alone, once somebody has asked for them
	if s.TS {
		total += media * 6 / 5 // the same in transport streams and packed audio
	}
	covers := int64(segment.Retained(s.Window)/max(s.CoverEvery, 1) + 1)
	text := int64(maxTexts) * textBytes * int64(segment.Retained(s.Window))
	queues := int64(maxEarlyBytes + maxHeldBytes + maxCaptionBytes + hubBytes)
	return total + covers*maxCover*int64(len(rungs)) + queues + text
}

// hubBytes bounds what a channel's hub holds, beside its span of media time.
//
//limit:bytes that are held for workers and relays | each channel | the oldest are dropped; who still wanted them goes on at a keyframe
const hubBytes = 48 << 20

// hubSpan is how much media time a channel's hub holds, in ticks of media.VideoTimescale: what a worker
// that is replaced has to repeat, which is as much as two segments that are not finished, and the
// keyframe before them.
func hubSpan(s *settings.Settings) int64 { return 4*s.SegmentTicks() + 4*media.VideoTimescale }
