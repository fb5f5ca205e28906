// Package status tells how a channel is: one Snapshot comes in, a Status comes out, with its state, its problems and what to do about
// them, and figures. Of is pure; the channel calls it with a snapshot that it took under its lock. Meter and Load are the two
// measurements that a snapshot holds; they need the channel's lock.
package status

import (
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// State says how a channel is, in one word.
type State string

// The states of a channel.
const (
	Waiting  State = "waiting"  // no sender
	Starting State = "starting" // a sender, but no segment yet
	Live     State = "live"
	Degraded State = "degraded" // live, with a problem that viewers may notice
	Failed   State = "failed"   // a sender, and nothing comes out
)

// Status is a channel at a glance.
type Status struct {
	Slug        string            `json:"slug"`
	Title       string            `json:"title"`
	State       State             `json:"state"`
	Problems    []ladder.Problem  `json:"problems"`
	Inputs      []InputStatus     `json:"inputs"` // the preferred one first
	Feed        *FeedStatus       `json:"feed,omitempty"`
	LastFeed    *LastFeed         `json:"lastFeed,omitempty"` // how the one before ended, while there is none
	Renditions  []RenditionStatus `json:"renditions"`
	Rungs       []ladder.Rung     `json:"rungs"` // in force
	Worker      *WorkerStatus     `json:"worker,omitempty"`
	Governor    *GovernorStatus   `json:"governor,omitempty"` // nil of a ladder that is left as it is
	Advice      map[string]int    `json:"advice,omitempty"`   // the effort that there is room for, by rung; none while it is not known
	Viewers     map[string]int    `json:"viewers,omitempty"`  // by protocol
	Relays      []relay.Progress  `json:"relays,omitempty"`   // that are on
	Kept        *store.Stock      `json:"kept,omitempty"`     // what is kept; nil of a channel that keeps nothing
	PartTarget  int64             `json:"partTarget"`         // milliseconds, 0 before the first feed
	Memory      int64             `json:"memory"`             // bytes of segments held
	MemoryBound int64             `json:"memoryBound"`        // bytes that the settings allow
	PictureAt   int64             `json:"pictureAt"`          // milliseconds since 1970, 0 without one
}

// FeedStatus is the sender's side.
type FeedStatus struct {
	Protocol  string        `json:"protocol"`
	Remote    string        `json:"remote"`
	Begun     time.Time     `json:"begun"`
	Tracks    []media.Track `json:"tracks"`
	Bitrate   int64         `json:"bitrate"`   // bits per second, over the last seconds
	FrameRate int64         `json:"frameRate"` // thousandths, over the last seconds
	// DriftPPM is by how many millionths the sender's clock runs fast, less than 0 slow. Media time follows it.
	DriftPPM   int64 `json:"driftPPM"`
	DriftKnown bool  `json:"driftKnown"` // it takes some minutes to tell
	// KeyMillis is how far the newest two keyframes lie apart, 0 while there are none.
	KeyMillis int64 `json:"keyMillis,omitempty"`
	// ApartMillis is by how much the newest picture is later than the newest sound, in media time.
	ApartMillis int64 `json:"apartMillis,omitempty"`
	GapMillis   int64 `json:"gapMillis,omitempty"` // the longest that nothing came, over the last seconds
}

// RenditionStatus is one rendition.
//
//large:a row of the console's table
type RenditionStatus struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Codec     string `json:"codec"`
	Width     int    `json:"width,omitempty"`
	Height    int    `json:"height,omitempty"`
	FrameRate int64  `json:"frameRate,omitempty"` // thousandths
	Peak      int64  `json:"peak"`
	Average   int64  `json:"average"`
	Segments  int    `json:"segments"`
	First     uint64 `json:"first"`
	Last      uint64 `json:"last"`
	Asked     int64  `json:"asked,omitempty"`     // bits per second that the rung asks for on average; 0 of what passes through
	AskedPeak int64  `json:"askedPeak,omitempty"` // and at most
	Second    int64  `json:"second"`              // bits of the last second of media
	Segment   int64  `json:"segment"`             // bits per second of the newest whole segment
	Buffer    int64  `json:"buffer,omitempty"`    // bits per second over the last media of the rung's buffer's length; 0 of what passes through
	PSNR      int64  `json:"psnr,omitempty"`      // hundredths of a decibel, in the newest sample; 0 before there is one
	SSIM      int64  `json:"ssim,omitempty"`      // ten-thousandths, in the same
	Lost      uint64 `json:"lost"`                // access units without a place
	Retired   bool   `json:"retired,omitempty"`
	Ready     bool   `json:"ready,omitempty"` // the sender makes it, and it is not encoded here
	// CodingMillis is how long a picture takes on average from its arrival until it comes back encoded.
	CodingMillis int64 `json:"codingMillis,omitempty"`
}

// WorkerStatus is the load of a channel's worker.
type WorkerStatus struct {
	PID       int   `json:"pid"`
	Load      int64 `json:"load"` // thousandths of real time that the busiest stage takes; above 1000 it does not keep up
	CPU       int64 `json:"cpu"`  // thousandths of one core
	LagMillis int64 `json:"lag"`
	Dropped   int64 `json:"dropped"`  // pictures left out since the feed began
	Dropping  int64 `json:"dropping"` // thousandths of all pictures, over the last seconds
	Skipped   int64 `json:"skipped"`
	Replaced  int64 `json:"replaced"`
	Lost      int64 `json:"lost"` // units that the worker did not take
	// Nodes are the parts of the graph, in the order in which media goes through them.
	Nodes []NodeStatus `json:"nodes"`
	// Loudness is that of the source's sound, nil while none is decoded.
	Loudness *transcode.Loudness `json:"loudness,omitempty"`
	// Levels are those of renditions that are brought to a loudness.
	Levels []transcode.Leveled `json:"levels,omitempty"`
}

// NodeStatus is what one part of a worker's graph takes, over the last seconds.
type NodeStatus struct {
	Kind      transcode.NodeKind `json:"kind"`
	Rendition string             `json:"rendition,omitempty"` // that it works for alone
	Micros    int64              `json:"micros"`              // microseconds a picture, or a frame of sound
	Load      int64              `json:"load"`                // thousandths of real time
}

// InputStatus is an input at a glance.
type InputStatus struct {
	settings.Input
	OnAir   bool   `json:"onAir"`
	Chosen  bool   `json:"chosen,omitempty"`  // by hand
	Standby int    `json:"standby,omitempty"` // senders that are connected and not on air
	Problem string `json:"problem,omitempty"`
	// Of the feed that the input has, on air or standing by.
	Protocol string             `json:"protocol,omitempty"`
	Remote   string             `json:"remote,omitempty"`
	Line     *contribution.Line `json:"line,omitempty"` // nil of protocols that measure nothing
}

// LastFeed is how the newest feed of a channel ended.
type LastFeed struct {
	Remote string    `json:"remote"`
	Ended  time.Time `json:"ended"`
	Reason string    `json:"reason"`
}

// GovernorStatus is what the governor has changed of a channel's ladder.
type GovernorStatus struct {
	Mode  ladder.Governor `json:"mode"`
	Steps []govern.Step   `json:"steps"` // in force, in the order in which they were taken
}
