// Package api holds the bodies of the control API, shared by the service and its Go client.
package api

import (
	"slices"
	"time"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/trial"
	"metaplasis/internal/hooks"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/settings"
)

// Prefix is where the API lives.
const Prefix = "/api/v1"

// Error is the body of every answer with a status of 400 and above.
type Error struct {
	Text     string           `json:"error"`
	Do       string           `json:"do,omitempty"`       // what to do next
	Problems []ladder.Problem `json:"problems,omitempty"` // of settings that were refused whole
}

// SignIn asks for a session.
type SignIn struct {
	User     string `json:"user"`
	Password string `json:"password"`
}

// Role is what a user or a token may do. Each may do what the ones before may.
type Role string

// The roles.
const (
	Watch      Role = "watch"      // see everything but secrets
	Operate    Role = "operate"    // change channels, ladders and keys
	Administer Role = "administer" // change users, and tokens of others
)

// Roles lists them, from the least.
func Roles() []Role { return []Role{Watch, Operate, Administer} }

// May reports whether the role includes another one.
func (r Role) May(needed Role) bool {
	return slices.Index(Roles(), r) >= slices.Index(Roles(), needed)
}

// Me says who is signed in.
type Me struct {
	User string `json:"user"`
	Role Role   `json:"role"`
}

// NewUser is a user to make.
type NewUser struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Role     Role   `json:"role"`
}

// User is somebody who may sign in.
type User struct {
	Name    string    `json:"name"`
	Role    Role      `json:"role"`
	Created time.Time `json:"created"`
}

// NewToken is a token to make. Without a role it has that of who makes it.
type NewToken struct {
	Label string `json:"label"`
	Role  Role   `json:"role,omitempty"`
	Days  int64  `json:"days,omitempty"` // that it is valid; 0 is a year
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Channel is a channel with its settings, how it is, and where it plays.
type Channel struct {
	Settings  settings.Settings `json:"settings"`
	Revision  uint64            `json:"revision"` // of the settings; a change that names it is refused when they have changed since
	Created   time.Time         `json:"created"`
	Status    status.Status     `json:"status"`
	Addresses Addresses         `json:"addresses"`
}

// Addresses are the full addresses of a channel.
type Addresses struct {
	Console string `json:"console"`
	Watch   string `json:"watch"`
	Embed   string `json:"embed"`
	HLS     string `json:"hls"`
	DASH    string `json:"dash"`
	LowDASH string `json:"lowDash"`
	TS      string `json:"ts,omitempty"`     // HLS with transport streams
	WebRTC  string `json:"webrtc,omitempty"` // WHEP
	Socket  string `json:"socket"`           // WebSocket
	// Selections are the addresses of the named selections of rungs.
	Selections []SelectionAddresses `json:"selections"`
	Picture    string               `json:"picture"`
	Code       string               `json:"code"`             // markup that embeds the player in a page
	Server     string               `json:"server"`           // RTMP server for an encoder; the key is its stream name
	Secure     string               `json:"secure,omitempty"` // the same over TLS
	Senders    []SenderAddress      `json:"senders"`          // how senders reach the channel, protocol by protocol
	Receivers  []ReceiverAddress    `json:"receivers"`        // how receivers fetch it
}

// Listed is a channel in the public list.
type Listed struct {
	Channel string       `json:"channel"`
	Title   string       `json:"title"`
	State   status.State `json:"state"`
	Watch   string       `json:"watch"`
	Picture string       `json:"picture"`
}

// ChannelRelay is an onward copy of a channel: how it is set, and how it is doing.
type ChannelRelay struct {
	settings.Relay
	Words    string          `json:"words"`              // the state
	Progress *relay.Progress `json:"progress,omitempty"` // nil of one that is not on
}

// RelayTest is what a far end says when it is tried.
type RelayTest struct {
	Takes bool   `json:"takes"`
	Text  string `json:"text"`
}

// Deliveries is what hooks were told, or are to be.
type Deliveries struct {
	List []hooks.Delivery `json:"list"`
	Lost int64            `json:"lost"` // that there was no room for
}

// SenderAddress is what an encoder of a protocol asks for in its fields.
type SenderAddress struct {
	Protocol string `json:"protocol"`
	Server   string `json:"server"`
	Key      string `json:"key"` // or stream name, or stream id
	URL      string `json:"url"` // for encoders with one field
	Hint     string `json:"hint"`
}

// ReceiverAddress is where a receiver of a protocol fetches a channel.
type ReceiverAddress struct {
	Protocol string `json:"protocol"`
	Way      string `json:"way"`    // as viewers are counted by
	URL      string `json:"url"`    // in which {rung} stands for a rung's name
	Source   string `json:"source"` // what stands there for the source as it came
	Hint     string `json:"hint"`
}

// SelectionAddresses are where a named selection of rungs plays.
type SelectionAddresses struct {
	Name    string `json:"name"`
	HLS     string `json:"hls"`
	DASH    string `json:"dash"`
	LowDASH string `json:"lowDash"`
}

// Change alters settings: what is left out stays as it is, and what is null takes its default. Within a
// group each setting is for itself; lists and the ladder are replaced whole.
type Change struct {
	Revision uint64 `json:"revision,omitempty"` // that the change is based on; 0 for any
	settings.Settings
}

// NewLadder replaces a ladder.
type NewLadder struct {
	ladder.Ladder
	Revision uint64 `json:"revision,omitempty"` // of the settings that the change is based on; 0 for any
}

// PlanInUse is a ladder plan and the channels that use it.
type PlanInUse struct {
	ladder.Plan
	Channels []PlanUse `json:"channels"`
}

// PlanUse is a channel that uses a version of a plan.
type PlanUse struct {
	Channel string `json:"channel"`
	Version int    `json:"version"`
}

// NewImage is the file of an image: a PNG, of half a megabyte at most.
type NewImage struct {
	File []byte `json:"file"`
}

// Image is an image for logos and slates.
type Image struct {
	Name     string   `json:"name"`
	Digest   string   `json:"digest"`
	Bytes    int      `json:"bytes"`
	Channels []string `json:"channels"` // that use it
}

// NewTrial asks for a trial: the last seconds of the feed are encoded in the background. With a rung it is tried at other
// efforts and bitrates; without one, several sizes are, for a ladder that fits the content.
type NewTrial struct {
	Rung     string  `json:"rung,omitempty"`
	Efforts  []int   `json:"efforts,omitempty"`  // none are 1, 3, 5 and 7 of a rung, 2 of a ladder
	Bitrates []int64 `json:"bitrates,omitempty"` // bits per second; none are four around the rung's own
}

// TrialState says how a trial is.
type TrialState string

// The states of a trial.
const (
	TrialRunning TrialState = "running"
	TrialDone    TrialState = "done"
	TrialStopped TrialState = "stopped"
	TrialFailed  TrialState = "failed"
)

// Trial is what came of a trial so far.
type Trial struct {
	Rung     string            `json:"rung,omitempty"` // that it is of; "" is the whole ladder
	State    TrialState        `json:"state"`
	Text     string            `json:"text,omitempty"` // why it failed
	Begun    time.Time         `json:"begun"`
	Done     int               `json:"done"`
	Of       int               `json:"of"`
	Points   []trial.Point     `json:"points"`
	Hull     []ladder.Measured `json:"hull,omitempty"`     // what is worth its bits
	Proposed []ladder.Rung     `json:"proposed,omitempty"` // a ladder along the hull
}

// Inspection asks for a stream to be inspected.
type Inspection struct {
	Address string `json:"address"`
	Seconds int    `json:"seconds,omitempty"` // 0 is 10; 40 at most
}

// Chosen is the input that is on air by hand; an empty kind leaves it to the order of the inputs.
type Chosen struct {
	settings.Input
}

// NewMarker is a marker to set.
type NewMarker struct {
	Class          string    `json:"class,omitempty"`
	Text           string    `json:"text"`
	At             time.Time `json:"at,omitzero"`
	DurationMillis int64     `json:"durationMillis,omitempty"`
}

// NewLabel names what is made.
type NewLabel struct {
	Label string `json:"label"`
}

// NewKey is a contribution key to be.
type NewKey struct {
	Label    string     `json:"label"`
	Input    string     `json:"input,omitempty"`    // the name of the input for senders that it leads to; none for any
	Protocol string     `json:"protocol,omitempty"` // the only one that it is for, such as SRT; none for any
	Expires  *time.Time `json:"expires,omitempty"`  // a sender is cut off then
	Receives bool       `json:"receives,omitempty"` // it is for a receiver over SRT, and lets nobody send
}

// Key is a contribution key. Its secret is told once, when it is made.
type Key struct {
	ID       int64           `json:"id"`
	Label    string          `json:"label"`
	Created  time.Time       `json:"created"`
	Used     *time.Time      `json:"used,omitempty"`
	Input    string          `json:"input,omitempty"`
	Protocol string          `json:"protocol,omitempty"`
	Expires  *time.Time      `json:"expires,omitempty"`
	Receives bool            `json:"receives,omitempty"`
	Secret   string          `json:"secret,omitempty"`
	Senders  []SenderAddress `json:"senders,omitempty"` // the key in the fields of encoders
	Server   string          `json:"server,omitempty"`  // for encoders with two fields: this, and the secret
	URL      string          `json:"url,omitempty"`     // for encoders with one field
}

// Token is a client's token. Its secret is told once, when it is made.
type Token struct {
	ID      int64      `json:"id"`
	Label   string     `json:"label"`
	User    string     `json:"user"`
	Role    Role       `json:"role"`
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires,omitempty"`
	Secret  string     `json:"secret,omitempty"`
}

// ServiceProblem is something wrong with the service itself.
type ServiceProblem struct {
	What  string    `json:"what"` // database, records or disk
	Text  string    `json:"text"`
	Do    string    `json:"do"`
	Since time.Time `json:"since"`
}

// Health is how the service itself is.
type Health struct {
	Problems []ServiceProblem `json:"problems"`
}

// History is what a channel did over the last hour, the oldest measurement first.
type History struct {
	EveryMillis int64   `json:"every"` // between two measurements
	Until       int64   `json:"until"` // when the last was taken, milliseconds since 1970; 0 without any
	Bitrate     []int64 `json:"bitrate"`
	Load        []int64 `json:"load"` // thousandths of real time that the worker's busiest stage takes
	Viewers     []int64 `json:"viewers"`
	// Arrival is what is measured of the feed on air, by name: gap and keyframes and apart in milliseconds, jitter and rtt in
	// microseconds, lost in packets since the measurement before. Those that the protocol does not measure are missing.
	Arrival map[string][]int64 `json:"arrival"`
	// Quality is the PSNR of the newest sample of each encoded rendition, hundredths of a decibel; 0 while there is none. Its
	// last value is as old as those of the others; it may have fewer.
	Quality map[string][]int64 `json:"quality"`
}

// Studio is what is on the studio's network.
type Studio struct {
	On      bool            `json:"on"` // the service looks at it
	Sources []studio.Source `json:"sources"`
	Wrong   []string        `json:"wrong"` // what keeps it from being heard
}

// Public is what a viewer's page may know of a channel.
type Public struct {
	Title string       `json:"title"`
	State status.State `json:"state"`
	Rungs []string     `json:"rungs,omitempty"` // that can be chosen now
	// Ended is when the last sender left, while there is none.
	Ended *time.Time `json:"ended,omitempty"`
	// Starts says in words when a channel that has nothing to play yet is likely to begin.
	Starts string `json:"starts,omitempty"`
	// Extras is what the sender says of itself, as it came: texts that pages of its maker understand.
	Extras map[string]string `json:"extras,omitempty"`
	// Oldest is how far back viewers may go; nil of a channel without a time-shift.
	Oldest *time.Time `json:"oldest,omitempty"`
	// Markers are those of the time-shift, the oldest first.
	Markers []PublicMarker `json:"markers,omitempty"`
}

// PublicMarker is a moment of a channel with something to say of it.
type PublicMarker struct {
	ID   string    `json:"id"`
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}
