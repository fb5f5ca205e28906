// Package recording is what one recording is, from its row in the records to its address. It holds plain values; anybody may
// import it.
package recording

import (
	"net/url"
	"time"
)

// Kinds of recordings.
const (
	ByHand     = "hand"   // a user asked for it
	Continuous = "always" // the channel records whatever is on air
)

// Recording is a stretch of a channel that is retained under a name of its own.
type Recording struct {
	ID         int64     `json:"id"`
	Name       string    `json:"name"` // in addresses; it cannot be guessed
	Channel    string    `json:"channel"`
	Title      string    `json:"title"`
	Kind       string    `json:"kind"`       // ByHand or Continuous
	Renditions []string  `json:"renditions"` // none: all
	Begun      time.Time `json:"begun"`
	Ended      time.Time `json:"ended,omitzero"`   // it goes on while this is not there
	Expires    time.Time `json:"expires,omitzero"` // it is retained forever when this is not there
	Author     string    `json:"author,omitempty"`
}

// EndedBefore reports whether the recording was over at a time.
func (r *Recording) EndedBefore(at time.Time) bool { return !r.Ended.IsZero() && !r.Ended.After(at) }

// Query is the query that leads to the recording below its channel's address, without the question mark.
func (r *Recording) Query() string { return Parameter + "=" + url.QueryEscape(r.Name) }

// Parameter is the one that names a recording in a query.
const Parameter = "recording"
