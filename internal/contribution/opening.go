package contribution

import (
	"fmt"
	"log/slog"
	"runtime/debug"
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

// Guard runs what touches bytes from outside, in a goroutine of its own. A fault of it ends that alone, which end is
// told; nil for nobody.
func Guard(l *slog.Logger, run func(), end func(error)) {
	if l == nil {
		l = slog.Default()
	}
	err := Safely(l, func() error {
		run()
		return nil
	})
	if err != nil && end != nil {
		end(err)
	}
}

// Safely ends what runs for one sender, not the service, should its bytes meet a fault of ours.
func Safely(l *slog.Logger, run func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			l.Error("a fault of this program ended a connection; please report it", "fault", v, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault of the service: %v", v)
		}
	}()
	return run()
}
