package layout

import (
	"metaplasis/internal/core/segment"
	"metaplasis/internal/settings"
)

// What a rendition's bitrate is taken for when its memory is bounded. A source above it plays, but its segments leave memory
// early, which is a problem in the status.
const (
	//limit:bits per second that memory is planned for | each channel | the open segment is closed early
	SourceBitrate = 40_000_000
	//limit:bits per second of sound that memory is planned for | each channel | the open segment is closed early
	SoundBitrate = 512_000
)

// Budget is how many bytes a rendition's segments may take at a bitrate.
func Budget(s *settings.Settings, bitrate int64) int64 {
	const least = 4 << 20
	return bitrate/8*s.SegmentMillis/1000*int64(segment.Retained(s.Window))*9/8 + least
}

// OpenShare is how much of that the open segment may take beside.
func OpenShare(budget int64) int64 { return min(max(budget/3, 4<<20), segment.MaxSegmentBytes) }
