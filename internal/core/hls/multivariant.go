package hls

import (
	"bytes"
	"fmt"
	"sort"
	"strings"

	"metaplasis/internal/core/media"
)

// Variant is one EXT-X-STREAM-INF and the playlist that it names.
type Variant struct {
	URI           string
	Peak, Average int64 // bits per second, video and audio together
	Codecs        []string
	Width, Height int // display size
	FrameRate     media.Rational
	AudioGroup    string // GROUP-ID, or "" without a group
	Captions      string // GROUP-ID of closed captions, or ""
	Subtitles     string // GROUP-ID of subtitles, or ""
	Range         string // VIDEO-RANGE, "" for the standard one
	Name          string // STABLE-VARIANT-ID
}

// KeyVariant is one EXT-X-I-FRAME-STREAM-INF (draft, 4.4.6.3).
type KeyVariant struct {
	URI           string
	Peak          int64
	Codec         string
	Width, Height int
	Range         string // VIDEO-RANGE, "" for the standard one
}

// Captions is one EXT-X-MEDIA of closed captions, which travel inside the video.
type Captions struct {
	Group, Name, Language string
	Channel               string // INSTREAM-ID, such as CC1 or SERVICE1
}

// AudioRendition is one EXT-X-MEDIA.
type AudioRendition struct {
	Group, Name, URI string
	Language         string // RFC 5646, "" when not known
	Channels         int
	Default          bool
	Described        bool // describes video for people who do not see it
}

// Subtitles is one EXT-X-MEDIA of text with a playlist of its own.
type Subtitles struct {
	Group, Name, Language, URI string
	Impaired                   bool // also what is to be heard beside speech
}

// Multivariant is what a multivariant playlist is made of.
type Multivariant struct {
	Variants  []Variant
	Audio     []AudioRendition
	Keys      []KeyVariant
	Captions  []Captions
	Subtitles []Subtitles
	// StartOffset is EXT-X-START in milliseconds before the end, 0 for none.
	StartOffset int64
	// Dependent: some segments may need others, since the source's keyframes are not ours to place.
	Dependent bool
}

// Marshal writes the playlist (draft, 4.4.6), variants in the order given.
//
//large:writes the tags in the order that players expect
func (m *Multivariant) Marshal() []byte {
	var b bytes.Buffer
	b.WriteString("#EXTM3U\n#EXT-X-VERSION:8\n")
	if !m.Dependent {
		b.WriteString("#EXT-X-INDEPENDENT-SEGMENTS\n")
	}
	if m.StartOffset > 0 {
		fmt.Fprintf(&b, "#EXT-X-START:TIME-OFFSET=-%d.%03d\n", m.StartOffset/1000, m.StartOffset%1000)
	}
	for _, a := range m.Audio {
		fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=%q,NAME=\"%s\",DEFAULT=%s,AUTOSELECT=YES", a.Group,
			quotable(a.Name), yesNo(a.Default))
		if a.Language != "" {
			fmt.Fprintf(&b, ",LANGUAGE=%q", a.Language)
		}
		if a.Described {
			b.WriteString(",CHARACTERISTICS=\"public.accessibility.describes-video\"")
		}
		if a.Channels > 0 {
			fmt.Fprintf(&b, ",CHANNELS=\"%d\"", a.Channels)
		}
		fmt.Fprintf(&b, ",URI=%q\n", a.URI)
	}
	for _, c := range m.Captions {
		fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=CLOSED-CAPTIONS,GROUP-ID=%q,NAME=%q,DEFAULT=NO,AUTOSELECT=YES,INSTREAM-ID=%q",
			c.Group, c.Name, c.Channel)
		if c.Language != "" {
			fmt.Fprintf(&b, ",LANGUAGE=%q", c.Language)
		}
		b.WriteByte('\n')
	}
	for _, s := range m.Subtitles {
		fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=%q,NAME=\"%s\",DEFAULT=NO,AUTOSELECT=YES,FORCED=NO", s.Group, quotable(s.Name))
		if s.Language != "" {
			fmt.Fprintf(&b, ",LANGUAGE=%q", s.Language)
		}
		if s.Impaired {
			b.WriteString(",CHARACTERISTICS=\"public.accessibility.transcribes-spoken-dialog,public.accessibility.describes-music-and-sound\"")
		}
		fmt.Fprintf(&b, ",URI=%q\n", s.URI)
	}
	for _, v := range m.Variants {
		fmt.Fprintf(&b, "#EXT-X-STREAM-INF:BANDWIDTH=%d,AVERAGE-BANDWIDTH=%d", max(v.Peak, 1), max(v.Average, 1))
		if len(v.Codecs) > 0 {
			fmt.Fprintf(&b, ",CODECS=%q", strings.Join(v.Codecs, ","))
		}
		if v.Width > 0 {
			fmt.Fprintf(&b, ",RESOLUTION=%dx%d", v.Width, v.Height)
		}
		if v.FrameRate.Valid() {
			milli := v.FrameRate.Milli()
			fmt.Fprintf(&b, ",FRAME-RATE=%d.%03d", milli/1000, milli%1000)
		}
		b.WriteString(videoRange(v.Range))
		if v.AudioGroup != "" {
			fmt.Fprintf(&b, ",AUDIO=%q", v.AudioGroup)
		}
		if v.Subtitles != "" {
			fmt.Fprintf(&b, ",SUBTITLES=%q", v.Subtitles)
		}
		if v.Width > 0 || len(m.Captions) == 0 {
			if v.Captions != "" {
				fmt.Fprintf(&b, ",CLOSED-CAPTIONS=%q", v.Captions)
			} else if len(m.Captions) == 0 { // NONE is said of all variants or of none (RFC 8216, 4.3.4.2)
				b.WriteString(",CLOSED-CAPTIONS=NONE")
			}
		}
		if v.Name != "" {
			fmt.Fprintf(&b, ",STABLE-VARIANT-ID=%q", v.Name)
		}
		fmt.Fprintf(&b, "\n%s\n", v.URI)
	}
	for _, k := range m.Keys {
		fmt.Fprintf(&b, "#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=%d,CODECS=%q,RESOLUTION=%dx%d%s,URI=%q\n", max(k.Peak, 1),
			k.Codec, k.Width, k.Height, videoRange(k.Range), k.URI)
	}
	return b.Bytes()
}

// videoRange is said of a high dynamic range alone: without it, pictures have the standard one.
func videoRange(r string) string {
	if r == "" {
		return ""
	}
	return ",VIDEO-RANGE=" + r
}

// OrderForStart puts the variant first that suits a start: the one nearest below a middling
// connection, then the others from high to low. Players begin with the first (draft, 6.2.4).
func OrderForStart(v []Variant, startAt int64) {
	sort.SliceStable(v, func(i, j int) bool { return v[i].Peak > v[j].Peak })
	for i := range v {
		if v[i].Peak <= startAt || i == len(v)-1 {
			first := v[i]
			copy(v[1:i+1], v[:i])
			v[0] = first
			return
		}
	}
}

func yesNo(b bool) string {
	if b {
		return "YES"
	}
	return "NO"
}
