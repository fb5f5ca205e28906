package api

import (
	"metaplasis/internal/recording"
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

// Recording is a recording, what there is of it, and where it is played.
type Recording struct {
	recording.Recording

	State   RecordingState `json:"state"`
	Kept    []string       `json:"kept"`              // the renditions that there are
	Missing int64          `json:"missing,omitempty"` // bytes of it that are not in the store any more, or not as they were written
	Bytes   int64          `json:"bytes"`
	HLS     string         `json:"hls"`
	DASH    string         `json:"dash"`
	MP4     string         `json:"mp4,omitempty"` // of the best rendition, as one file
	Best    string         `json:"-"`             // the best rendition that is kept, "" for none
}

// NewRecording asks for a recording. Times are RFC 3339, "20 minutes ago", "marker" or "marker:ID".
type NewRecording struct {
	Title      string   `json:"title,omitempty"`
	From       string   `json:"from,omitempty"` // empty: now
	To         string   `json:"to,omitempty"`   // empty: until it is stopped
	Renditions []string `json:"renditions,omitempty"`
	Days       int64    `json:"days,omitempty"` // that it is kept; 0 forever
}

// RecordingChange changes what is said of a recording; what is left out stays.
type RecordingChange struct {
	Title *string `json:"title,omitempty"`
	Days  *int64  `json:"days,omitempty"` // from now on; 0 forever
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
