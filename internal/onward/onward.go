// Package onward holds what all ways out have in common. A package below it is one protocol.
package onward

import (
	"metaplasis/internal/core/media"
)

// Sender carries tracks and access units to another machine. Its methods are called from one goroutine; what goes
// wrong is told by Flush.
type Sender interface {
	media.Sink
	// Cue sends a splice_info_section (ANSI/SCTE 35) at a time of the tracks' clock, in milliseconds.
	Cue(at int64, section []byte)
	// Flush sends what was given since the last call.
	Flush() error
	// Failed delivers the reason when the other side ends it.
	Failed() <-chan error
	// Close ends the stream in good order.
	Close() error
}
