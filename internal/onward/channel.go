package onward

import (
	"context"
	"errors"
	"time"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/media"
)

// Choice says which tracks of a channel a reader takes.
type Choice struct {
	Rung  string     // "": the source as it came, or of Real the best that fits
	Sound string     // a rendition of sound; "": that of the rung
	Real  *Real      // what a viewer in real time can take; nil: anything
	Only  media.Kind // of the tracks; 0: both
	// Oldest begins with the oldest keyframe that is held, Coming with the next one; else it is the newest.
	Oldest, Coming bool
	// Look tells which tracks there are without having anything encoded: for who has not connected yet.
	Look bool
}

// Real is what a viewer in real time can take. Pictures that come in another order than they are shown do not fit, and
// what does not fit is encoded for such viewers.
type Real struct {
	Video, Audio []media.Codec // none: it wants no such track
}

// Offer is a rung that can be chosen.
type Offer struct {
	Rung    string `json:"rung"`
	Bitrate int64  `json:"bitrate,omitempty"` // of pictures, bits per second, 0 when it is not known
	Width   int    `json:"width"`
	Height  int    `json:"height"`
}

// Sound is an audio track that can be chosen.
type Sound struct {
	Name  string `json:"name"`  // of its rendition, as a Choice has it
	Label string `json:"label"` // for people
}

// Tap reads what a channel puts out, as it comes: of one video track and one of sound. When the channel's runs or its
// ladder change, the tracks are others, and units go on with a keyframe of those. Times of one tap never go back.
type Tap interface {
	// Next waits for units. It returns what was lost before them too.
	Next(ctx context.Context, into []hub.Unit) (n int, lost hub.Loss, err error)
	// Tracks are what is read now, nil for none.
	Tracks() (video, sound *media.Track)
	// Close lets go what is encoded for the tap alone.
	Close()
}

// Errors of a tap.
var (
	ErrNoChannel = errors.New("there is no such channel")
	ErrNoRung    = errors.New("the channel has no such rung on")
	ErrOver      = errors.New("the channel is removed")
)

// Channels are those of an origin.
type Channels interface {
	// Tap begins to read a channel. What is not there yet comes later.
	Tap(slug string, c Choice) (Tap, error)
	// Runs reports what is on air on a channel: whether there is such a channel, and whether it has video and audio.
	Runs(slug string) (known, video, sound bool)
	// Has reports whether a channel that is on air has a rung, or a rendition of sound, of a name; "" is the source as it came.
	// What a channel that is not on air will have nobody knows: it may have all.
	Has(slug, rung string) bool
	// Epoch is the wall clock at media time 0.
	Epoch(slug string) time.Time
	// Sounds lists the audio tracks that can be chosen, the main one first.
	Sounds(slug string) []Sound
	// Offers lists the rungs that fit a viewer in real time, the best first; for nil, all that are on.
	Offers(slug string, r *Real) []Offer
}
