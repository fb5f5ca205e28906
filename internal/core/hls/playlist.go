// Package hls writes playlists of HTTP Live Streaming (RFC 8216 and its successor draft,
// draft-pantos-hls-rfc8216bis) from the state of a window, and reads them back.
package hls

import (
	"bytes"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Media is what a media playlist is made of.
type Media struct {
	Segments       []*segment.Segment
	Discontinuity  uint64    // EXT-X-DISCONTINUITY-SEQUENCE
	TargetDuration int64     // whole seconds
	Epoch          time.Time // wall clock at media time 0
	Ended          bool      // EXT-X-ENDLIST
	// Segments from this number on belong to another rendition, which stands in for one that was
	// turned off. StandIn is its name, "" for none.
	StandIn     string
	StandInFrom uint64
}

// SegmentName is the address of a segment relative to its playlist.
func SegmentName(msn uint64) string { return strconv.FormatUint(msn, 10) + ".m4s" }

// Marshal writes the playlist (draft, 4.4).
func (m *Media) Marshal() []byte {
	b := bytes.NewBuffer(make([]byte, 0, 256+len(m.Segments)*128))
	fmt.Fprintf(b, "#EXTM3U\n#EXT-X-VERSION:8\n#EXT-X-TARGETDURATION:%d\n", m.TargetDuration)
	var first uint64
	if len(m.Segments) > 0 {
		first = m.Segments[0].MSN
	}
	fmt.Fprintf(b, "#EXT-X-MEDIA-SEQUENCE:%d\n#EXT-X-DISCONTINUITY-SEQUENCE:%d\n#EXT-X-INDEPENDENT-SEGMENTS\n", first, m.Discontinuity)
	header := ""
	for i, s := range m.Segments {
		if s.Discontinuity {
			b.WriteString("#EXT-X-DISCONTINUITY\n")
		}
		folder := ""
		if m.StandIn != "" && s.MSN >= m.StandInFrom {
			folder = "../" + m.StandIn + "/"
		}
		if folder+s.Header.Name != header {
			header = folder + s.Header.Name
			fmt.Fprintf(b, "#EXT-X-MAP:URI=%q\n", header)
		}
		if i == 0 || s.Discontinuity {
			at := m.Epoch.Add(time.Duration(media.Rescale(s.Start, media.VideoTimescale, int64(time.Second))))
			fmt.Fprintf(b, "#EXT-X-PROGRAM-DATE-TIME:%s\n", at.UTC().Format("2006-01-02T15:04:05.000Z07:00"))
		}
		if s.Gap {
			b.WriteString("#EXT-X-GAP\n")
		}
		fmt.Fprintf(b, "#EXTINF:%s,\n%s%s\n", seconds(s.Duration), folder, SegmentName(s.MSN))
	}
	if m.Ended {
		b.WriteString("#EXT-X-ENDLIST\n")
	}
	return b.Bytes()
}

// seconds writes ticks of media.VideoTimescale as decimal seconds, to a hundred-thousandth.
func seconds(ticks int64) string {
	v := media.Rescale(ticks, media.VideoTimescale, 100_000)
	return fmt.Sprintf("%d.%05d", v/100_000, v%100_000)
}

// TargetDuration returns the whole seconds that no segment may pass when rounded (draft, 4.4.3.1).
func TargetDuration(step int64, segments []*segment.Segment) int64 {
	target := (step + media.VideoTimescale - 1) / media.VideoTimescale
	for _, s := range segments {
		target = max(target, (s.Duration+media.VideoTimescale/2)/media.VideoTimescale)
	}
	return max(target, 1)
}

// Variant is one EXT-X-STREAM-INF and the playlist that it names.
type Variant struct {
	URI           string
	Peak, Average int64 // bits a second, video and audio together
	Codecs        []string
	Width, Height int // display size
	FrameRate     media.Rational
	AudioGroup    string // GROUP-ID, or "" without a group
	Name          string // STABLE-VARIANT-ID
}

// AudioRendition is one EXT-X-MEDIA.
type AudioRendition struct {
	Group, Name, URI string
	Channels         int
	Default          bool
}

// Multivariant is what a multivariant playlist is made of.
type Multivariant struct {
	Variants []Variant
	Audio    []AudioRendition
}

// Marshal writes the playlist (draft, 4.4.6), variants in the order given.
func (m *Multivariant) Marshal() []byte {
	var b bytes.Buffer
	b.WriteString("#EXTM3U\n#EXT-X-VERSION:8\n#EXT-X-INDEPENDENT-SEGMENTS\n")
	for _, a := range m.Audio {
		fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=%q,NAME=%q,DEFAULT=%s,AUTOSELECT=YES", a.Group, a.Name, yesNo(a.Default))
		if a.Channels > 0 {
			fmt.Fprintf(&b, ",CHANNELS=\"%d\"", a.Channels)
		}
		fmt.Fprintf(&b, ",URI=%q\n", a.URI)
	}
	for _, v := range m.Variants {
		fmt.Fprintf(&b, "#EXT-X-STREAM-INF:BANDWIDTH=%d,AVERAGE-BANDWIDTH=%d,CODECS=%q", max(v.Peak, 1), max(v.Average, 1), strings.Join(v.Codecs, ","))
		if v.Width > 0 {
			fmt.Fprintf(&b, ",RESOLUTION=%dx%d", v.Width, v.Height)
		}
		if v.FrameRate.Valid() {
			milli := v.FrameRate.Milli()
			fmt.Fprintf(&b, ",FRAME-RATE=%d.%03d", milli/1000, milli%1000)
		}
		if v.AudioGroup != "" {
			fmt.Fprintf(&b, ",AUDIO=%q", v.AudioGroup)
		}
		if v.Name != "" {
			fmt.Fprintf(&b, ",STABLE-VARIANT-ID=%q", v.Name)
		}
		fmt.Fprintf(&b, "\n%s\n", v.URI)
	}
	return b.Bytes()
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
