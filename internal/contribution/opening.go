package contribution

import (
	"time"

	"metaplasis/internal/core/media"
)

// Opening holds the sound of a sender back until its pictures are known, where they are to come: who joins a stream in
// its midst gets a keyframe only later. The zero value waits for nothing.
type Opening struct {
	Pictures bool // are to come
	Begun    time.Time

	shown bool
}

// picturesWait is for how long sound waits for pictures that are announced.
const picturesWait = 12 * time.Second

// Holds reports whether what comes of a kind is not to be handed on yet.
func (o *Opening) Holds(kind media.Kind, now time.Time) bool {
	if kind == media.Video {
		o.shown = true
	}
	return o.Pictures && !o.shown && now.Sub(o.Begun) < picturesWait
}
