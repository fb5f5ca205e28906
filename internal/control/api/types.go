// Package api holds the bodies of the control API, shared by the service and its Go client.
package api

import (
	"time"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin"
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

// Me says who is signed in.
type Me struct {
	User string `json:"user"`
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Channel is a channel with its settings, how it is, and where it plays.
type Channel struct {
	Settings  origin.Settings `json:"settings"`
	Created   time.Time       `json:"created"`
	Status    origin.Status   `json:"status"`
	Addresses Addresses       `json:"addresses"`
}

// Addresses are the full addresses of a channel.
type Addresses struct {
	Console string `json:"console"`
	Watch   string `json:"watch"`
	Embed   string `json:"embed"`
	HLS     string `json:"hls"`
	DASH    string `json:"dash"`
	LowDASH string `json:"lowDash"`
	TS      string `json:"ts,omitempty"` // HLS with transport streams
	// Selections are the addresses of the named selections of rungs.
	Selections []SelectionAddresses `json:"selections"`
	Picture    string               `json:"picture"`
	Code       string               `json:"code"`             // markup that embeds the player in a page
	Server     string               `json:"server"`           // RTMP server for an encoder; the key is its stream name
	Secure     string               `json:"secure,omitempty"` // the same over TLS
}

// SelectionAddresses are where a named selection of rungs plays.
type SelectionAddresses struct {
	Name    string `json:"name"`
	HLS     string `json:"hls"`
	DASH    string `json:"dash"`
	LowDASH string `json:"lowDash"`
}

// Change alters settings. What is left out stays as it is.
type Change struct {
	Title             *string             `json:"title,omitempty"`
	SegmentMillis     *int64              `json:"segmentMillis,omitempty"`
	PartMillis        *int64              `json:"partMillis,omitempty"`
	Window            *int                `json:"window,omitempty"`
	StartOffsetMillis *int64              `json:"startOffsetMillis,omitempty"`
	Aligned           *bool               `json:"aligned,omitempty"`
	TS                *bool               `json:"ts,omitempty"`
	Numbered          *bool               `json:"numbered,omitempty"`
	Selections        *[]origin.Selection `json:"selections,omitempty"`
	SoundName         *string             `json:"soundName,omitempty"`
	Language          *string             `json:"language,omitempty"`
	CoverEvery        *int                `json:"coverEvery,omitempty"`
	Closed            *bool               `json:"closed,omitempty"`
	Ladder            *ladder.Ladder      `json:"ladder,omitempty"`
}

// Apply alters settings.
func (c *Change) Apply(s *origin.Settings) {
	set(&s.Title, c.Title)
	set(&s.SegmentMillis, c.SegmentMillis)
	set(&s.PartMillis, c.PartMillis)
	set(&s.Window, c.Window)
	set(&s.StartOffsetMillis, c.StartOffsetMillis)
	set(&s.Aligned, c.Aligned)
	set(&s.TS, c.TS)
	set(&s.Numbered, c.Numbered)
	set(&s.Selections, c.Selections)
	set(&s.SoundName, c.SoundName)
	set(&s.Language, c.Language)
	set(&s.CoverEvery, c.CoverEvery)
	set(&s.Closed, c.Closed)
	set(&s.Ladder, c.Ladder)
}

func set[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

// Inspection asks for a stream to be inspected.
type Inspection struct {
	Address string `json:"address"`
	Seconds int    `json:"seconds,omitempty"` // 0 is 10; 40 at most
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

// Key is a contribution key. Its secret is told once, when it is made.
type Key struct {
	ID      int64      `json:"id"`
	Label   string     `json:"label"`
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used,omitempty"`
	Secret  string     `json:"secret,omitempty"`
	Server  string     `json:"server,omitempty"` // for encoders with two fields: this, and the secret
	URL     string     `json:"url,omitempty"`    // for encoders with one field
}

// Token is a client's token. Its secret is told once, when it is made.
type Token struct {
	ID      int64      `json:"id"`
	Label   string     `json:"label"`
	User    string     `json:"user"`
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires,omitempty"`
	Secret  string     `json:"secret,omitempty"`
}

// Feed is a contribution connection, past or present.
type Feed struct {
	ID int64 `json:"id"`
	origin.FeedRecord
}

// Public is what a viewer's page may know of a channel.
type Public struct {
	Title string       `json:"title"`
	State origin.State `json:"state"`
	// Camera tells when a stand-in camera sends its pictures, so that a page can measure its delay.
	Camera *media.SendClock `json:"camera,omitempty"`
}
