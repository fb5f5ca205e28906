package origin

import (
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/publish"
)

// FeedRecord is what is kept of one contribution connection.
type FeedRecord struct {
	ID       int64         `json:"id"`
	Channel  string        `json:"channel"`
	Protocol string        `json:"protocol"`
	Remote   string        `json:"remote"`
	Begun    time.Time     `json:"begun"`
	Ended    time.Time     `json:"ended,omitzero"`
	Reason   string        `json:"reason,omitempty"`
	Tracks   []media.Track `json:"tracks"`
}

// Keeper stores what must outlive the process, beside the media: its methods never wait.
type Keeper interface {
	publish.Reserver
	// Settle stores the exact numbering of a channel that was closed in good order.
	Settle(channel string, p publish.Position)
	Event(events.Event)
	// NewFeed returns an id for a feed, greater than all before.
	NewFeed() int64
	// Feed stores a feed as it is now: begun, with its tracks, or ended.
	Feed(FeedRecord)
	// Marked stores a marker of a channel, or what was learnt of it since.
	Marked(channel string, m publish.Marker)
}

// Grant is what a contribution key allows.
type Grant struct {
	Key      int64     // its id
	Input    string    // the name of the input for senders that it leads to; "" for any
	Protocol string    // the only protocol that it is for, such as SRT; "" for any
	Expires  time.Time // zero for never
}

// Gate decides whether a sender may contribute to a channel.
type Gate interface {
	// Admit returns what the contribution key allows when it opens the channel, ErrBadKey when it does
	// not, ErrManyKeys when it is not looked at, and ErrUnchecked when nobody can tell now.
	Admit(contribution.Sender) (Grant, error)
	// AskAdmission returns why a sender with the right key is not to come in all the same, nil to let it in. It is asked
	// beside the media.
	AskAdmission(contribution.Sender) error
}
