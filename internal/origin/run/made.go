package run

import (
	"metaplasis/internal/core/segment"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/layout"
)

// Made is one thing that a run made or has to tell: one of the types below.
type Made interface{ made() }

// Rendition is made by the run from now on, or may hold another number of bytes.
type Rendition struct {
	Name  string
	Bytes int64
}

// Offer is what viewers may be offered from now on.
type Offer struct {
	layout.Offering
	PartTarget int64 // of all renditions, ticks of media.VideoTimescale
}

// Begun says that the first unit came, which the segment of a number begins with.
type Begun struct{ MSN uint64 }

// Boundary says that a segment begins in all renditions.
type Boundary struct{ segment.Boundary }

// Segment is a segment of a rendition, or the next state of an open one.
type Segment struct {
	Rendition string
	*segment.Segment
}

// Retired says that a rendition is not made any more from a segment on.
type Retired struct {
	Rendition string
	MSN       uint64
}

// Captions are caption services that were not seen before.
type Captions struct{ Services []string }

// Caption is what a service shows from a media time on, "" for nothing.
type Caption struct {
	At                      int64 // ticks of media.VideoTimescale
	Service, Language, Text string
	Impaired                bool // also what is to be heard beside speech
	Top                     bool // in the upper half of the picture
}

// CaptionsKnown says that all captions are known up to a media time, in ticks of media.VideoTimescale.
type CaptionsKnown struct{ At int64 }

// Event is for the event log; its time and channel are still to be set.
type Event struct{ events.Event }

// TracksChanged says that what can be read from the hub is another choice of tracks.
type TracksChanged struct{}

func (Rendition) made()     {}
func (Offer) made()         {}
func (Begun) made()         {}
func (Boundary) made()      {}
func (Segment) made()       {}
func (Retired) made()       {}
func (Captions) made()      {}
func (Caption) made()       {}
func (CaptionsKnown) made() {}
func (Event) made()         {}
func (TracksChanged) made() {}

// make adds to what the channel takes.
func (r *Run) make(m Made) { r.out = append(r.out, m) }

// Take returns what was made since the last call, in order. It is valid until the next call of any method.
func (r *Run) Take() []Made {
	out := r.out
	r.out = r.spare[:0]
	r.spare = out
	return out
}

func (r *Run) event(level events.Level, kind, text, do string) {
	r.make(Event{events.Event{Level: level, Kind: kind, Text: text, Do: do}})
}
