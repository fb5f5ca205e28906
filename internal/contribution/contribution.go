// Package contribution holds what every way in has in common: how a sender asks to be let in, and what it
// then hands over. A package below it is one protocol: sockets and deadlines around an engine.
package contribution

import (
	"strings"
	"time"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// Sender is who asks to contribute.
type Sender struct {
	Channel  string
	Key      string
	Protocol string // for people, such as RTMPS
	Remote   string // address and port
	// Silence is for how long nothing may come of a sender that is connected before others may take its
	// place: what a line of this protocol may take to recover. 0 leaves it to the channel.
	Silence time.Duration
}

// Line is what a protocol measures of a connection. Each part is nil where the protocol has none of it. What it points to
// is never changed.
type Line struct {
	Programmes []ts.Programme   `json:"programmes,omitempty"` // of the transport stream
	Programme  int              `json:"programme,omitempty"`  // the number of the one that feeds the channel
	TS         *ts.StreamHealth `json:"ts,omitempty"`
	RTP        *RTP             `json:"rtp,omitempty"`
	SRT        *SRT             `json:"srt,omitempty"`
	Socket     *Socket          `json:"socket,omitempty"`
}

// Socket is what comes over UDP.
type Socket struct {
	Packets  int64 `json:"packets"`
	Buffer   int64 `json:"buffer"`   // bytes that the system's buffer holds
	Overruns int64 `json:"overruns"` // packets that found it full
}

// RTP is what is counted of RTP (RFC 3550, 6.4.1).
type RTP struct {
	Packets   int64 `json:"packets"`
	Lost      int64 `json:"lost"`
	Late      int64 `json:"late"`      // came when they were given up
	Reordered int64 `json:"reordered"` // came in another order, and were put right
	Jitter    int64 `json:"jitter"`    // microseconds
	Other     int64 `json:"other"`     // packets of other streams, such as those of forward error correction
}

// SRT is what libsrt counts of a connection.
type SRT struct {
	RTT           int64  `json:"rtt"`      // microseconds
	Latency       int64  `json:"latency"`  // milliseconds that both ends agreed on
	Received      int64  `json:"received"` // packets
	Lost          int64  `json:"lost"`
	Retransmitted int64  `json:"retransmitted"`
	Dropped       int64  `json:"dropped"` // too late to be played
	Undecrypted   int64  `json:"undecrypted"`
	Buffer        int64  `json:"buffer"`    // milliseconds of media that wait for their time
	Bandwidth     int64  `json:"bandwidth"` // bits per second, what the line is taken for
	Bitrate       int64  `json:"bitrate"`   // bits per second
	Encrypted     bool   `json:"encrypted"`
	Version       string `json:"version,omitempty"` // of the other side
	Advice        string `json:"advice,omitempty"`  // on the latency
}

// Caption is what a service of captions or subtitles beside the pictures shows from a stamp on.
type Caption struct {
	Service  string // such as TT888
	Language string // RFC 5646, "" when nobody says
	Impaired bool   // also what is to be heard beside speech
	Clock    media.Clock
	Stamp    int64
	Text     string // lines, "" for nothing
	Top      bool   // in the upper half of the picture
}

// Feed takes the media of one sender. Its methods are called from one goroutine.
type Feed interface {
	media.Sink
	// Anchor says that a stamp of a track that was announced is a time on the sender's own wall clock, as RTP
	// sender reports and stamps of a wall clock tell. It sets tracks that count from anywhere beside each other.
	Anchor(id media.TrackID, stamp int64, at time.Time)
	// Line takes what the protocol measures of its connection, for people, whenever that is new.
	Line(Line)
	// Extras takes what the sender says of itself for pages that know what it means.
	Extras(list map[string]string)
	// Splice takes a splice_info_section (ANSI/SCTE 35) that takes effect at a stamp of a clock.
	Splice(clock media.Clock, stamp int64, section []byte)
	// Caption takes what a service of captions or subtitles shows from a stamp on.
	Caption(Caption)
	// Grid is how often a keyframe is wanted of a sender that makes them when it is asked; 0: never.
	Grid() time.Duration
	// Pace returns how long to read nothing more, since the media runs ahead of the wall clock.
	Pace() time.Duration
	End(reason string)
	Kicked() <-chan string
}

// Extras are what a sender says of itself beyond what is asked: texts whose names begin with x-.
type Extras map[string]string

// Bounds of extras.
const (
	extraPrefix = "x-"
	//limit:extra texts that a sender says of itself | each sender | further ones are left out
	maxExtras = 8
	//limit:bytes of one of them | each sender | it is left out
	maxExtra = 64 << 10
)

// Take takes one, if it is one and there is room.
func (e Extras) Take(name, text string) {
	if strings.HasPrefix(name, extraPrefix) && len(e) < maxExtras && len(name)+len(text) <= maxExtra {
		e[name] = text
	}
}

// ExtrasOf lists those in metadata.
func ExtrasOf(m amf.Object) Extras {
	out := Extras{}
	for _, p := range m {
		if text, ok := p.Value.(string); ok {
			out.Take(p.Name, text)
		}
	}
	return out
}

// Receiver admits senders.
type Receiver interface {
	// Open returns the feed, or why not. A refusal that IsTaken says so with its own error code.
	Open(Sender) (Feed, error)
	// May reports whether Open would admit the sender now.
	May(Sender) error
	IsTaken(err error) bool
	// Report books what went wrong with a connection of a network that has no feed yet, or no more.
	Report(channel, network, kind, text, do string)
}

// SentAway ends the connection of a feed that has to go.
type SentAway struct{ Why string }

func (e *SentAway) Error() string { return "sent away: " + e.Why }
