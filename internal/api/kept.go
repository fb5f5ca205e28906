package api

import (
	"time"

	"metaplasis/internal/store"
)

// RecordingState says how a recording is.
type RecordingState string

// The states of a recording.
const (
	Planned  RecordingState = "planned"
	Running  RecordingState = "recording"
	Complete RecordingState = "complete"
	Empty    RecordingState = "empty"   // nothing of its time was on air, or kept
	Damaged  RecordingState = "damaged" // some of its files are not in the store any more, or not as they were written
)

// Recording is a stretch of a channel that is kept.
type Recording struct {
	ID         int64          `json:"id"`
	Name       string         `json:"name"` // what stands for it in addresses, and cannot be guessed
	Channel    string         `json:"channel"`
	Title      string         `json:"title"`
	Kind       string         `json:"kind"` // by hand, or always
	State      RecordingState `json:"state"`
	Renditions []string       `json:"renditions"` // none: all
	Kept       []string       `json:"kept"`       // the renditions that there are
	Begun      time.Time      `json:"begun"`
	Ended      time.Time      `json:"ended,omitzero"`   // it goes on while this is not there
	Expires    time.Time      `json:"expires,omitzero"` // it is kept for ever when this is not there
	Author     string         `json:"author,omitempty"`
	Missing    int64          `json:"missing,omitempty"` // bytes of it that are not in the store any more, or not as they were written
	Bytes      int64          `json:"bytes"`
	HLS        string         `json:"hls"`
	DASH       string         `json:"dash"`
	MP4        string         `json:"mp4,omitempty"` // of the best rendition, as one file
	Best       string         `json:"-"`             // the best rendition that is kept, "" for none
}

// NewRecording asks for a recording. Times are RFC 3339, "20 minutes ago", "marker" or "marker:ID".
type NewRecording struct {
	Title      string   `json:"title,omitempty"`
	From       string   `json:"from,omitempty"` // empty: now
	To         string   `json:"to,omitempty"`   // empty: until it is stopped
	Renditions []string `json:"renditions,omitempty"`
	Days       int64    `json:"days,omitempty"` // that it is kept; 0 for ever
}

// RecordingChange changes what is said of a recording; what is left out stays.
type RecordingChange struct {
	Title *string `json:"title,omitempty"`
	Days  *int64  `json:"days,omitempty"` // from now on; 0 for ever
}

// NewCoding asks for a ladder of an item.
type NewCoding struct {
	Heights []int `json:"heights,omitempty"` // of the rungs; empty: the usual ones
}

// Store says where what is kept lies, and what is there that nobody has decided about.
type Store struct {
	Place      string             `json:"place"`      // without secrets
	Quarantine []store.Quarantine `json:"quarantine"` // what stays until somebody removes or adopts it
	Deletions  int                `json:"deletions"`  // files that wait to be removed
	// DeletionError is why they cannot be removed now.
	DeletionError string `json:"deletionError,omitempty"`
}
