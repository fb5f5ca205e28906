// Package events holds what the event log says: one line for each thing that an engineer should know of. An event goes from
// whoever notices it to the log, the live pages and the webhooks. It is a plain value; anybody may make one at any time.
package events

import (
	"time"
)

// Level says how bad an event is.
type Level string

// The levels of events.
const (
	Info    Level = "info"
	Warning Level = "warning"
	Failure Level = "failure"
)

// Event is one line of the event log.
type Event struct {
	ID      int64     `json:"id,omitempty"`
	At      time.Time `json:"at"`
	Channel string    `json:"channel,omitempty"`
	Level   Level     `json:"level"`
	Kind    string    `json:"kind"` // such as feed-refused
	Text    string    `json:"text"` // what happened
	Do      string    `json:"do,omitempty"`
	Count   int64     `json:"count,omitempty"` // how often, when more than once
	Last    time.Time `json:"last,omitzero"`   // the last of these times

	// Like names the events that are merged with this one, beside its channel and kind; "" merges
	// those with the same text.
	Like string `json:"-"`
}
