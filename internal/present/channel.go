package present

import (
	"cmp"
	"slices"
	"time"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// Offer is a rung that viewers can play now: its video, its sound, or both.
type Offer struct {
	Name         string
	Rung         ladder.Rung
	Video, Sound *View
	VideoTrack   media.Track
	SoundTrack   media.Track
	SoundName    string
}

// views lists the offer's views that there are.
func (o *Offer) views() []*View {
	return slices.DeleteFunc([]*View{o.Video, o.Sound}, func(v *View) bool { return v == nil })
}

// Alternate is an audio track beside the main one.
type Alternate struct {
	Name  string
	View  *View
	Track media.Track
}

// Text is a rendition of captions or subtitles.
type Text struct {
	Name     string
	View     *View
	Track    media.Track
	Impaired bool // also what is to be heard beside speech
}

// Marker is a timed event of the channel.
type Marker struct {
	ID, Class, Text string
	At              time.Time
	DurationMillis  int64
	Splice          []byte // splice_info_section (ANSI/SCTE 35, 9.6), or nil
}

// Channel is an immutable picture of what a channel offers: all that its documents are made of.
//
//large:all that documents say of a channel
type Channel struct {
	Slug        string
	Epoch       time.Time // wall clock at media time 0
	Now         time.Time // when the picture was taken
	Step        int64     // the segments' nominal length, ticks of media.VideoTimescale
	Longest     int64     // that a segment lasts, ticks of media.VideoTimescale
	PartTarget  int64     // of all renditions, ticks of media.VideoTimescale
	Dependent   bool      // segments follow the source's keyframes, and may need others where one is missing
	Window      int       // segments that are shown
	StartOffset int64     // milliseconds before the end, 0 for none
	Numbered    bool      // the manifest counts segments of even length
	Over        bool      // nothing will follow for good
	Language    string    // of the main sound and the captions when nobody says
	SoundName   string
	Suffix      string   // of the addresses of headers and segments, such as a query
	Captions    []string // the caption services that the video carries
	Titled      bool     // timed metadata was set
	Offers      []Offer
	Alternates  []Alternate
	Texts       []Text
	Markers     []Marker
	Periods     []Period // of the manifest that lists segments
	Counted     []Period // of the manifest that counts them
}

// Choose returns the picture with some of its rungs, in the order named; with audio only when names is
// nil.
func (c *Channel) Choose(names []string) *Channel {
	out := *c
	out.Offers = nil
	if names == nil {
		sounds := map[string]bool{}
		for _, o := range c.Offers {
			if o.Sound != nil && !sounds[o.SoundName] {
				sounds[o.SoundName] = true
				o.Video = nil
				out.Offers = append(out.Offers, o)
			}
		}
		return &out
	}
	for _, o := range c.Offers {
		for _, name := range names {
			if name == o.Name {
				out.Offers = append(out.Offers, o)
			}
		}
	}
	return &out
}

// Transportable returns the picture with what transport streams can hold.
func (c *Channel) Transportable() *Channel {
	out := *c
	out.Offers = nil
	for _, o := range c.Offers {
		if o.Video != nil && !coding.Transportable(&o.VideoTrack) {
			continue
		}
		if o.Sound != nil && !coding.Transportable(&o.SoundTrack) {
			if o.Video == nil {
				continue
			}
			o.Sound = nil
		}
		out.Offers = append(out.Offers, o)
	}
	return &out
}

// ShowsWhole reports whether there is enough to begin with for players of whole segments.
func (c *Channel) ShowsWhole() bool {
	for i := range c.Offers {
		for _, v := range c.Offers[i].views() {
			if !v.ShowsWhole() {
				return false
			}
		}
	}
	return true
}

// videoCodecs lists the codecs of the pictures, in the order of the table of codecs: what most players
// read comes first.
func (c *Channel) videoCodecs() (out []media.Codec) {
	for i := range c.Offers {
		if o := &c.Offers[i]; o.Video != nil && !slices.Contains(out, o.VideoTrack.Codec) {
			out = append(out, o.VideoTrack.Codec)
		}
	}
	slices.SortFunc(out, func(a, b media.Codec) int { return cmp.Compare(coding.Order(a), coding.Order(b)) })
	return out
}

// peak is the highest bitrate to announce: what the rung may take, or what was measured with
// some room, since the source is not ours.
func (o *Offer) peak() int64 {
	if o.Rung.Source {
		return o.Video.Peak * 11 / 10
	}
	return max(o.Video.Peak, o.Rung.Peak)
}
