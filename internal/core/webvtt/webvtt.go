// Package webvtt writes and reads text in time: as WebVTT files (W3C WebVTT: The Web Video Text Tracks Format) and as samples of ISO
// media files (ISO/IEC 14496-30, 6).
package webvtt

import (
	"encoding/binary"
	"fmt"
	"strings"

	"metaplasis/internal/core/media"
)

// Cue is a text from a time on up to another, ticks of media.VideoTimescale.
type Cue struct {
	Start, End int64
	Text       string // lines
	Top        bool   // it stands in the upper half of the picture
}

// settings are where the cue stands (4.4).
func (c *Cue) settings() string {
	if c.Top {
		return "line:10%"
	}
	return ""
}

// escaped is the text as a cue's payload may hold it (4.2.1): no markup, and no empty line.
func (c *Cue) escaped() string {
	text := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "").Replace(c.Text)
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		if strings.TrimSpace(line) != "" {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

// File writes a segment that begins at a time, whose cues lie within it, as RFC 8216, 3.5, has it.
func File(start int64, cues []Cue) []byte {
	const turn = 1 << 33
	var b strings.Builder
	fmt.Fprintf(&b, "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:%d,LOCAL:00:00:00.000\n", ((start%turn)+turn)%turn)
	for i := range cues {
		c := &cues[i]
		fmt.Fprintf(&b, "\n%s --> %s", clock(c.Start-start), clock(c.End-start))
		if s := c.settings(); s != "" {
			b.WriteString(" " + s)
		}
		b.WriteString("\n" + c.escaped() + "\n")
	}
	return []byte(b.String())
}

func clock(ticks int64) string {
	ms := media.Rescale(max(ticks, 0), media.VideoTimescale, 1000)
	return fmt.Sprintf("%02d:%02d:%02d.%03d", ms/3_600_000, ms/60_000%60, ms/1000%60, ms%1000)
}

// Samples are the access units of a segment from a time on up to another: one for each cue, and empty ones between.
// Cues follow one another and lie within the segment.
func Samples(start, end int64, cues []Cue) (out []media.AccessUnit) {
	add := func(from, to int64, data []byte) {
		if to > from {
			out = append(out, media.AccessUnit{DTS: from, PTS: from, Duration: to - from, Key: true, Data: data})
		}
	}
	empty := box("vtte", nil)
	at := start
	for i := range cues {
		c := &cues[i]
		add(at, c.Start, empty)
		var body []byte
		if s := c.settings(); s != "" {
			body = box("sttg", []byte(s))
		}
		add(c.Start, c.End, box("vttc", append(body, box("payl", []byte(c.escaped()))...)))
		at = c.End
	}
	add(at, end, empty)
	return out
}

func box(kind string, body []byte) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(8+len(body)))
	return append(append(b, kind...), body...)
}
