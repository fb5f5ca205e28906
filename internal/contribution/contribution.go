// Package contribution holds what every way in has in common: how a sender asks to be let in, and what it
// then hands over. A package below it is one protocol: sockets and deadlines around an engine.
package contribution

import (
	"time"

	"metaplasis/internal/contribution/tracks"
	"metaplasis/internal/core/media"
)

// Sender is who asks to contribute.
type Sender struct {
	Channel  string
	Key      string
	Protocol string // for people, such as RTMPS
	Remote   string // address and port
	// Silence is for how long nothing may come of a sender that is connected before others may take its
	// place: what a line of this protocol may take to recover. 0 leaves it to the channel.
	Silence time.Duration
}

// Feed takes the media of one sender. Its methods are called from one goroutine.
type Feed interface {
	tracks.Sink
	// Anchor says that a stamp of a track that was announced is a time on the sender's own wall clock, as RTP
	// sender reports and stamps of a wall clock tell. It sets tracks that count from anywhere beside each other.
	Anchor(id media.TrackID, stamp int64, at time.Time)
	// Extras takes what the sender says of itself for pages that know what it means.
	Extras(list map[string]string)
	// Splice takes a splice_info_section (ANSI/SCTE 35) that takes effect at a stamp of a clock.
	Splice(clock media.Clock, stamp int64, section []byte)
	// Pace returns how long to read nothing more, since the media runs ahead of the wall clock.
	Pace() time.Duration
	End(reason string)
	Kicked() <-chan string
}

// Receiver admits senders.
type Receiver interface {
	// Open returns the feed, or why not. A refusal that IsTaken says so with its own error code.
	Open(Sender) (Feed, error)
	IsTaken(err error) bool
	// Report books what went wrong with a connection of a network that has no feed yet, or no more.
	Report(channel, network, kind, text, do string)
}
