// Package hls writes playlists of HTTP Live Streaming (RFC 8216 and its successor draft,
// draft-pantos-hls-rfc8216bis, "the draft" below) from the state of a window, and reads them back.
package hls

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// Wrapping is a container that segments are offered in. All are made of the same CMAF segments.
type Wrapping uint8

// The wrappings.
const (
	CMAF   Wrapping = iota // fragmented MP4, with parts
	TS                     // MPEG-2 transport stream, video and audio together
	Packed                 // AAC frames behind an ID3 tag with their time (draft, 3.4)
	Keys                   // one keyframe a segment, for trick play (draft, 4.4.3.6)
	VTT                    // text (RFC 8216, 3.5)
)

var suffixes = [...]string{CMAF: ".m4s", TS: ".ts", Packed: ".aac", Keys: ".key.m4s", VTT: ".vtt"}

// SegmentName is the address of a segment relative to its playlist.
func (w Wrapping) SegmentName(s *segment.Segment) string { return s.Name() + suffixes[w] }

// partName is the address of a part of its own relative to its playlist.
func partName(s *segment.Segment, part int) string {
	return s.Name() + "." + strconv.Itoa(part) + suffixes[CMAF]
}

// Report is the newest part of another rendition (draft, 4.4.5.4).
type Report struct {
	URI  string
	MSN  uint64
	Part int // -1: the segment of MSN is whole and has no parts listed
}

// DateRange is a stretch of time with something to say of it (draft, 4.4.5.1).
type DateRange struct {
	ID, Class string
	Start     time.Time
	Duration  time.Duration     // negative: not known
	Planned   time.Duration     // negative: not known
	Text      map[string]string // client attributes, X-..., in the order of Names
	Names     []string
	SCTE35Out []byte // splice_info_section as it came
	SCTE35In  []byte
	SCTE35Cmd []byte
}

// Media is what a media playlist is made of.
//
//large:one field for each tag of a media playlist
type Media struct {
	Wrapping       Wrapping
	Whole          []*segment.Segment // the segments that are
	Open           *segment.Segment   // behind them, nil when none is open
	Discontinuity  uint64             // EXT-X-DISCONTINUITY-SEQUENCE
	TargetDuration int64              // whole seconds
	PartTarget     int64              // ticks of media.VideoTimescale; 0: no parts are shown
	StartOffset    int64              // EXT-X-START in milliseconds before the end, 0 for none
	Epoch          time.Time          // wall clock at media time 0
	Ended          bool               // EXT-X-ENDLIST
	Idle           bool               // no part is expected: there is nothing to hint at
	PartFiles      bool               // parts are files of their own; else byte ranges of their segment
	NextAt         int64              // where the open segment is expected to end, ticks of media.VideoTimescale; 0: nobody knows
	Sequence       uint64             // EXT-X-MEDIA-SEQUENCE where segments are counted otherwise than they are named; 0: they are not
	StartAt        int64              // EXT-X-START in ticks of media.VideoTimescale behind the beginning; 0 for none
	Undated        bool               // no wall clock is told
	Skippable      bool               // delta updates are offered though there are no parts
	Skip           bool               // leave out what a player has already, as far as it is allowed (delta update)
	Reports        []Report
	Ranges         []DateRange
	// Elsewhere names the renditions that segments belong to which are not this one's own: those that stood in for it
	// while it was turned off. StandIn is the one that does so now, "" for none.
	Suffix    string // of the addresses of headers and whole segments, such as a query
	Elsewhere map[uint64]string
	StandIn   string
}

// Numbers of the draft: parts are listed for so many target durations (4.4.4.9), a player of whole
// segments stays so many behind the end (4.4.3.8), one of parts so many part targets, and what is
// older than so many target durations may be skipped.
const (
	partsListed  = 3
	holdBack     = 3
	partHoldBack = 3
	skipUntil    = 6
)

// First returns the first segment, nil when there is none.
func (m *Media) First() *segment.Segment {
	if len(m.Whole) > 0 {
		return m.Whole[0]
	}
	return m.Open
}

// Newest returns the last segment, nil when there is none.
func (m *Media) Newest() *segment.Segment {
	if n := len(m.Whole); m.Open == nil && n > 0 {
		return m.Whole[n-1]
	}
	return m.Open
}

// Marshal writes the playlist (draft, 4.4). A delta update costs the same however long the list is.
func (m *Media) Marshal() []byte {
	skipped := m.skipped()
	rest := m.Whole
	if m.Skip {
		rest = rest[skipped:]
	}
	b := bytes.NewBuffer(make([]byte, 0, 2048+len(rest)*80))
	version := 8
	if m.Skip && skipped > 0 {
		version = 9
	}
	fmt.Fprintf(b, "#EXTM3U\n#EXT-X-VERSION:%d\n#EXT-X-TARGETDURATION:%d\n", version, m.TargetDuration)
	m.control(b)
	var first uint64
	if s := m.First(); s != nil {
		first = s.MSN
	}
	if m.Sequence > 0 {
		first = m.Sequence
	}
	fmt.Fprintf(b, "#EXT-X-MEDIA-SEQUENCE:%d\n#EXT-X-DISCONTINUITY-SEQUENCE:%d\n", first, m.Discontinuity)
	if m.Independent() {
		b.WriteString("#EXT-X-INDEPENDENT-SEGMENTS\n")
	}
	if m.Wrapping == Keys {
		b.WriteString("#EXT-X-I-FRAMES-ONLY\n")
	}
	if m.StartOffset > 0 {
		fmt.Fprintf(b, "#EXT-X-START:TIME-OFFSET=-%d.%03d\n", m.StartOffset/1000, m.StartOffset%1000)
	}
	if m.StartAt > 0 {
		fmt.Fprintf(b, "#EXT-X-START:TIME-OFFSET=%s,PRECISE=YES\n", decimalSeconds(m.StartAt))
	}
	for i := range m.Ranges {
		m.Ranges[i].append(b)
	}
	if m.Skip && skipped > 0 {
		fmt.Fprintf(b, "#EXT-X-SKIP:SKIPPED-SEGMENTS=%d\n", skipped)
	}
	m.list(b, rest)
	m.end(b)
	return b.Bytes()
}

// control writes what the server can do (draft, 4.4.3.7 and 4.4.3.8).
func (m *Media) control(b *bytes.Buffer) {
	if m.PartTarget == 0 {
		if m.Skippable {
			fmt.Fprintf(b, "#EXT-X-SERVER-CONTROL:CAN-SKIP-UNTIL=%d.0\n", skipUntil*m.TargetDuration)
		}
		return
	}
	fmt.Fprintf(b, "#EXT-X-PART-INF:PART-TARGET=%s\n", decimalSeconds(m.PartTarget))
	fmt.Fprintf(b, "#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=%s,HOLD-BACK=%d.0,CAN-SKIP-UNTIL=%d.0\n",
		decimalSeconds(partHoldBack*m.PartTarget), holdBack*m.TargetDuration, skipUntil*m.TargetDuration)
}

// skipped returns how many segments a delta update may leave out: those that end before the skip
// boundary (draft, 4.4.5.2).
func (m *Media) skipped() int {
	var after int64
	for i := len(m.Whole) - 1; i >= 0; i-- {
		if after >= skipUntil*m.TargetDuration*media.VideoTimescale {
			return i + 1
		}
		after += m.Whole[i].Duration
	}
	return 0
}

// list writes segments that are whole, and the open one.
func (m *Media) list(b *bytes.Buffer, list []*segment.Segment) {
	withParts := m.partsFrom(list)
	header := ""
	for i, s := range list {
		folder := m.folder(s)
		header = m.head(b, s, folder, header, i == 0)
		// Of a whole segment all parts are listed, or none.
		if i >= withParts && (s.Open || !slices.ContainsFunc(s.Parts, m.tooLong)) {
			m.parts(b, s, folder)
		}
		if s.Gap {
			b.WriteString("#EXT-X-GAP\n")
		}
		b.WriteString("#EXTINF:")
		b.WriteString(decimalSeconds(s.Duration))
		b.WriteString(",\n")
		b.WriteString(folder)
		b.WriteString(m.Wrapping.SegmentName(s))
		b.WriteString(m.Suffix)
		b.WriteByte('\n')
	}
	if s := m.Open; s != nil {
		folder := m.folder(s)
		m.head(b, s, folder, header, len(list) == 0)
		if m.PartTarget > 0 {
			m.parts(b, s, folder)
		}
	}
}

// Independent reports whether each segment that is listed can be decoded alone.
func (m *Media) Independent() bool {
	dependent := func(s *segment.Segment) bool { return s.Dependent }
	return !slices.ContainsFunc(m.Whole, dependent) && (m.Open == nil || !m.Open.Dependent)
}

// folder is where the addresses of a segment lie.
func (m *Media) folder(s *segment.Segment) string {
	if name := m.Elsewhere[s.MSN]; name != "" {
		return "../" + name + "/"
	}
	return ""
}

// partsFrom returns from which segment of a list on parts are shown (draft, 4.4.4.9).
func (m *Media) partsFrom(list []*segment.Segment) int {
	if m.PartTarget == 0 {
		return len(list)
	}
	left := partsListed * m.TargetDuration * media.VideoTimescale
	if m.Open != nil {
		left -= m.Open.Duration
	}
	i := len(list)
	for i > 0 && list[i-1].Duration <= left {
		i--
		left -= list[i].Duration
	}
	return i
}

// head writes what changes with a segment, and returns the header now in force.
func (m *Media) head(b *bytes.Buffer, s *segment.Segment, folder, header string, first bool) string {
	if s.Discontinuity {
		b.WriteString("#EXT-X-DISCONTINUITY\n")
	}
	if (m.Wrapping == CMAF || m.Wrapping == Keys) && folder+s.Header.Name != header {
		header = folder + s.Header.Name
		fmt.Fprintf(b, "#EXT-X-MAP:URI=%q\n", header+m.Suffix)
	}
	if (first || s.Discontinuity) && !m.Undated {
		at := m.At(s.Start)
		if s.Header.Track.Kind == media.Video {
			// Players lay sound beside pictures by these dates. A date holds milliseconds: pictures are
			// rounded up and sound down, so that sound is never taken to lie later than it does, for
			// the reason given at Seconds.
			at = at.Add(time.Millisecond - 1)
		}
		fmt.Fprintf(b, "#EXT-X-PROGRAM-DATE-TIME:%s\n", date(at))
	}
	return header
}

// parts writes the parts of a segment.
func (m *Media) parts(b *bytes.Buffer, s *segment.Segment, folder string) {
	at := int64(0)
	for n, p := range s.Parts {
		if m.tooLong(p) { // what follows it in the segment comes with the whole
			return
		}
		if m.PartFiles {
			fmt.Fprintf(b, "#EXT-X-PART:DURATION=%s,URI=\"%s%s\"", decimalSeconds(p.Duration), folder, partName(s, n))
		} else {
			fmt.Fprintf(b, "#EXT-X-PART:DURATION=%s,URI=\"%s%s\",BYTERANGE=\"%d@%d\"", decimalSeconds(p.Duration), folder,
				CMAF.SegmentName(s), len(p.Bytes), at)
		}
		at += int64(len(p.Bytes))
		if p.Independent {
			b.WriteString(",INDEPENDENT=YES")
		}
		b.WriteByte('\n')
	}
}

// tooLong reports whether a part is longer than all were told to be, which does not change for it: a picture lasted that long. It is
// not listed as one.
func (m *Media) tooLong(p *segment.Part) bool { return p.Duration > m.PartTarget+partSlack }

// partSlack is what rounding may add to a part, in ticks of media.VideoTimescale: half a millisecond.
const partSlack = media.VideoTimescale / 2000

// end writes what follows the segments: the hint at the next part, reports, and the end.
func (m *Media) end(b *bytes.Buffer) {
	if last := m.Newest(); m.PartTarget > 0 && !m.Ended && !m.Idle && last != nil {
		folder := ""
		if m.StandIn != "" {
			folder = "../" + m.StandIn + "/"
		}
		m.hint(b, folder, last)
	}
	if m.PartTarget > 0 && !m.Ended {
		for _, r := range m.Reports {
			fmt.Fprintf(b, "#EXT-X-RENDITION-REPORT:URI=%q,LAST-MSN=%d", r.URI, r.MSN)
			if r.Part >= 0 {
				fmt.Fprintf(b, ",LAST-PART=%d", r.Part)
			}
			b.WriteByte('\n')
		}
	}
	if m.Ended {
		b.WriteString("#EXT-X-ENDLIST\n")
	}
}

// hint names the part that comes next (draft, 4.4.5.3): of the open segment, or the first of the next
// one, when the open one has all that is expected of it.
func (m *Media) hint(b *bytes.Buffer, folder string, last *segment.Segment) {
	part, offset := len(last.Parts), last.Size
	if over := m.NextAt > 0 && last.Start+last.Duration+hintSlack >= m.NextAt; !last.Open || over || slices.ContainsFunc(last.Parts, m.tooLong) {
		last = &segment.Segment{MSN: last.MSN + 1, Prefix: last.Prefix}
		part, offset = 0, 0
	}
	if m.PartFiles {
		fmt.Fprintf(b, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"%s%s\"\n", folder, partName(last, part))
		return
	}
	fmt.Fprintf(b, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"%s%s\"", folder, CMAF.SegmentName(last))
	if offset > 0 {
		fmt.Fprintf(b, ",BYTERANGE-START=%d", offset)
	}
	b.WriteByte('\n')
}

// hintSlack is how near to its expected end a segment counts as complete: less than half a picture at 60 Hz.
const hintSlack = media.VideoTimescale / 150

// At returns the wall clock of a media time.
func (m *Media) At(ticks int64) time.Time { return media.WallClock(m.Epoch, ticks) }

func date(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z07:00") }

func (r *DateRange) append(b *bytes.Buffer) {
	fmt.Fprintf(b, "#EXT-X-DATERANGE:ID=\"%s\"", quotable(r.ID))
	if r.Class != "" {
		fmt.Fprintf(b, ",CLASS=\"%s\"", quotable(r.Class))
	}
	fmt.Fprintf(b, ",START-DATE=%q", date(r.Start))
	decimal := func(name string, d time.Duration) {
		if d >= 0 {
			fmt.Fprintf(b, ",%s=%d.%03d", name, d/time.Second, d%time.Second/time.Millisecond)
		}
	}
	decimal("DURATION", r.Duration)
	decimal("PLANNED-DURATION", r.Planned)
	for _, n := range r.Names {
		fmt.Fprintf(b, ",%s=\"%s\"", n, quotable(r.Text[n]))
	}
	for _, c := range []struct {
		name string
		b    []byte
	}{{"SCTE35-CMD", r.SCTE35Cmd}, {"SCTE35-OUT", r.SCTE35Out}, {"SCTE35-IN", r.SCTE35In}} {
		if c.b != nil {
			fmt.Fprintf(b, ",%s=0x%X", c.name, c.b)
		}
	}
	b.WriteByte('\n')
}

// quotable takes out what a quoted string may not hold (draft, 4.2).
func quotable(s string) string {
	out := make([]rune, 0, len(s))
	for _, r := range s {
		switch r {
		case '"':
			r = '\''
		case '\n', '\r':
			r = ' '
		}
		out = append(out, r)
	}
	return string(out)
}

// decimalSeconds writes ticks of media.VideoTimescale as decimal seconds, to a hundred-thousandth, rounded
// down. A player adds durations up to find what follows its buffer: were they a little too long, it
// would look within the segment that it has, and wait there.
func decimalSeconds(ticks int64) string {
	v := media.RescaleDown(ticks, media.VideoTimescale, 100_000)
	b := strconv.AppendInt(make([]byte, 0, 16), v/100_000, 10)
	b = append(b, '.')
	for unit := int64(10_000); unit > 0; unit /= 10 {
		b = append(b, byte('0'+v/unit%10))
	}
	return string(b)
}

// TargetDuration returns the whole seconds that no segment may pass when rounded (draft, 4.4.3.1): of
// segments of a step, and of one that is whole, or nil.
func TargetDuration(step int64, s *segment.Segment) int64 {
	target := (step + media.VideoTimescale - 1) / media.VideoTimescale
	if s != nil {
		target = max(target, (s.Duration+media.VideoTimescale/2)/media.VideoTimescale)
	}
	return max(target, 1)
}
