package webvtt

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"metaplasis/internal/core/media"
)

// Bounds of a file of subtitles.
const (
	//limit:bytes of a file | each file | it is refused
	maxFile = 8 << 20
	//limit:cues | each file | it is refused
	maxCues = 100_000
	//limit:bytes of a cue | each cue | it is refused
	maxText = 4 << 10 // bytes of a cue
	//limit:lines of a cue | each cue | it is refused
	maxLines = 16
)

// Parse reads a file of subtitles: WebVTT, SRT, or TTML (W3C Timed Text Markup Language 2, and its profile IMSC of text).
func Parse(b []byte) ([]Cue, error) {
	if len(b) > maxFile {
		return nil, &media.FormatError{Format: "subtitles", Found: fmt.Sprintf("%d MB", len(b)>>20), Want: fmt.Sprintf("%d MB at most", maxFile>>20)}
	}
	text := decode(b)
	var cues []Cue
	var err error
	switch head := strings.TrimSpace(text[:min(len(text), 512)]); {
	case strings.HasPrefix(head, "WEBVTT"):
		cues, err = blocks(text)
	case strings.HasPrefix(head, "<"):
		cues, err = ttml(text)
	default:
		cues, err = blocks(text)
	}
	if err != nil {
		return nil, err
	}
	if len(cues) == 0 {
		return nil, &media.FormatError{Format: "subtitles", Found: "no text with its times", Want: "WebVTT, SRT or TTML"}
	}
	slices.SortStableFunc(cues, func(a, b Cue) int { return cmp.Compare(a.Start, b.Start) })
	return cues, nil
}

// decode makes text of the bytes of a file: UTF-8, UTF-16 with a mark, or else Latin-1 (ISO/IEC 8859-1), as old files have it.
func decode(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte("\xef\xbb\xbf")):
		b = b[3:]
	case len(b) >= 2 && (b[0] == 0xff && b[1] == 0xfe || b[0] == 0xfe && b[1] == 0xff):
		units := make([]uint16, 0, len(b)/2)
		for i := 2; i+1 < len(b); i += 2 {
			v := uint16(b[i]) | uint16(b[i+1])<<8
			if b[0] == 0xfe {
				v = v>>8 | v<<8
			}
			units = append(units, v)
		}
		return newlines(string(utf16.Decode(units)))
	}
	if text := string(b); strings.ToValidUTF8(text, "") == text {
		return newlines(text)
	}
	runes := make([]rune, len(b))
	for i, x := range b {
		runes[i] = rune(x)
	}
	return newlines(string(runes))
}

func newlines(s string) string {
	return strings.NewReplacer("\r\n", "\n", "\r", "\n", "\x00", "").Replace(s)
}

var (
	timing = regexp.MustCompile(`^\s*((?:\d+:)?\d{1,2}:\d{2}[.,]\d{1,3})\s*-->\s*((?:\d+:)?\d{1,2}:\d{2}[.,]\d{1,3})(.*)$`)
	markup = regexp.MustCompile(`<[^<>]{0,200}>|\{\\[^{}]{0,100}\}`)
	line   = regexp.MustCompile(`(?:^|\s)line:(-?\d+(?:\.\d+)?)(%?)`)
)

// blocks reads WebVTT and SRT: blocks of lines with an empty one between, a line of times in each (WebVTT, 4.1).
func blocks(text string) (cues []Cue, err error) {
	for block := range strings.SplitSeq(text, "\n\n") {
		lines := strings.Split(strings.Trim(block, "\n"), "\n")
		for i, l := range lines[:min(len(lines), 3)] {
			m := timing.FindStringSubmatch(l)
			if m == nil {
				continue
			}
			c := Cue{}
			var bad1, bad2 error
			c.Start, bad1 = stamp(m[1])
			c.End, bad2 = stamp(m[2])
			if err := errors.Join(bad1, bad2); err != nil {
				return nil, err
			}
			if p := line.FindStringSubmatch(m[3]); p != nil {
				v, _ := strconv.ParseFloat(p[1], 64)
				c.Top = v >= 0 && (p[2] == "%" && v < 50 || p[2] == "" && v < 6)
			}
			rest := lines[i+1:]
			if strings.Contains(strings.Join(rest[:min(len(rest), maxLines)], "\n"), `{\an8}`) {
				c.Top = true
			}
			c.Text = plain(strings.Join(rest[:min(len(rest), maxLines)], "\n"))
			if c.End > c.Start && c.Text != "" {
				cues = append(cues, c)
			}
			break
		}
		if len(cues) > maxCues {
			return nil, tooMany()
		}
	}
	return cues, nil
}

func tooMany() error {
	return &media.FormatError{Format: "subtitles", Found: fmt.Sprintf("more than %d cues", maxCues), Want: "less"}
}

// plain is text without its markup.
func plain(s string) string {
	s = strings.TrimSpace(html.UnescapeString(markup.ReplaceAllString(s, "")))
	s = strings.ToValidUTF8(s, "?")
	if len(s) > maxText {
		s = strings.ToValidUTF8(s[:maxText], "")
	}
	return s
}

// stamp reads [hours:]minutes:seconds.milliseconds.
func stamp(s string) (int64, error) {
	parts := strings.Split(strings.ReplaceAll(s, ",", "."), ":")
	total := int64(0)
	for _, p := range parts[:len(parts)-1] {
		n, err := strconv.ParseInt(p, 10, 32)
		if err != nil || n > 10_000 {
			return 0, &media.FormatError{Format: "subtitles", Found: fmt.Sprintf("the time %.20q", s), Want: "hours:minutes:seconds.milliseconds"}
		}
		total = total*60 + n
	}
	whole, part, _ := strings.Cut(parts[len(parts)-1], ".")
	sec, _ := strconv.ParseInt(whole, 10, 32)
	ms, _ := strconv.ParseInt((part + "000")[:3], 10, 32)
	return ((total*60+sec)*1000 + ms) * (media.VideoTimescale / 1000), nil
}

// ttml reads the paragraphs of a document with their times (TTML2, 8.1.5 and 12.3).
//
//large:one loop over the tokens of a document
func ttml(text string) (cues []Cue, err error) {
	wrong := func(found string) error {
		return &media.FormatError{Format: "TTML", Found: found, Want: "a document with paragraphs that have times"}
	}
	d := xml.NewDecoder(strings.NewReader(text))
	d.Strict = true
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is text by now
	type frame struct{ begin, end int64 }
	var stack []frame
	units := clockUnits{frames: 30, subframes: 1, ticks: 1}
	tops := map[string]bool{} // regions in the upper half
	var open *Cue
	var buf strings.Builder
	depth := 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, wrong(err.Error())
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if depth++; depth > 64 {
				return nil, wrong("elements in elements, 64 deep")
			}
			switch t.Name.Local {
			case "tt":
				units.read(t.Attr)
			case "region":
				origin := attr(t.Attr, "origin")
				if f := strings.Fields(origin); len(f) == 2 {
					v, _ := strconv.ParseFloat(strings.TrimSuffix(f[1], "%"), 64)
					tops[attr(t.Attr, "id")] = strings.HasSuffix(f[1], "%") && v < 50
				}
			case "br":
				buf.WriteByte('\n')
			}
			up := frame{0, -1}
			if n := len(stack); n > 0 {
				up = stack[n-1]
			}
			f, err := units.span(t.Attr, up.begin, up.end)
			if err != nil {
				return nil, err
			}
			stack = append(stack, frame(f))
			if t.Name.Local == "p" && f.end > f.begin {
				open = &Cue{Start: f.begin, End: f.end, Top: tops[attr(t.Attr, "region")]}
				buf.Reset()
			}
		case xml.EndElement:
			depth--
			if n := len(stack); n > 0 {
				stack = stack[:n-1]
			}
			if t.Name.Local == "p" && open != nil {
				var lines []string
				for l := range strings.SplitSeq(buf.String(), "\n") {
					if l = strings.Join(strings.Fields(l), " "); l != "" {
						lines = append(lines, l)
					}
				}
				if open.Text = plain(strings.Join(lines[:min(len(lines), maxLines)], "\n")); open.Text != "" {
					cues = append(cues, *open)
				}
				if open = nil; len(cues) > maxCues {
					return nil, tooMany()
				}
			}
		case xml.CharData:
			if open != nil && buf.Len() < 2*maxText {
				buf.WriteString(strings.ReplaceAll(string(t), "\n", " "))
			}
		}
	}
	return cues, nil
}

func attr(list []xml.Attr, name string) string {
	for _, a := range list {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// clockUnits are those that times of a document count in (TTML2, 7.2).
type clockUnits struct{ frames, subframes, ticks float64 }

func (u *clockUnits) read(list []xml.Attr) {
	number := func(name string, to *float64) {
		if v, err := strconv.ParseFloat(attr(list, name), 64); err == nil && v > 0 && v < 1e9 {
			*to = v
		}
	}
	number("frameRate", &u.frames)
	if f := strings.Fields(attr(list, "frameRateMultiplier")); len(f) == 2 {
		a, err1 := strconv.ParseFloat(f[0], 64)
		b, err2 := strconv.ParseFloat(f[1], 64)
		if err1 == nil && err2 == nil && a > 0 && b > 0 {
			u.frames *= a / b
		}
	}
	u.ticks = u.frames
	number("tickRate", &u.ticks)
}

// span reads when an element is shown, within the one around it; end is -1 while nobody says.
func (u *clockUnits) span(list []xml.Attr, begin, end int64) (out struct{ begin, end int64 }, err error) {
	out.begin, out.end = begin, end
	if v := attr(list, "begin"); v != "" {
		at, err := u.time(v)
		if err != nil {
			return out, err
		}
		out.begin = begin + at
	}
	if v := attr(list, "end"); v != "" {
		at, err := u.time(v)
		if err != nil {
			return out, err
		}
		out.end = begin + at
	} else if v := attr(list, "dur"); v != "" {
		at, err := u.time(v)
		if err != nil {
			return out, err
		}
		out.end = out.begin + at
	}
	if end >= 0 && (out.end < 0 || out.end > end) {
		out.end = end
	}
	return out, nil
}

var (
	clockTime  = regexp.MustCompile(`^(\d{2,5}):(\d{2}):(\d{2})(?:(\.\d+)|:(\d{2,4})(?:\.\d+)?)?$`)
	offsetTime = regexp.MustCompile(`^(\d{1,9}(?:\.\d{1,9})?)(h|ms|m|s|f|t)$`)
)

func (u *clockUnits) time(s string) (int64, error) {
	float := func(s string) float64 { v, _ := strconv.ParseFloat(s, 64); return v } // the form was checked
	s = strings.TrimSpace(s)
	if m := clockTime.FindStringSubmatch(s); m != nil {
		v := float(m[1])*3600 + float(m[2])*60 + float(m[3])
		switch {
		case m[4] != "":
			v += float("0" + m[4])
		case m[5] != "":
			v += float(m[5]) / u.frames
		}
		return int64(v*media.VideoTimescale + 0.5), nil
	}
	if m := offsetTime.FindStringSubmatch(s); m != nil {
		v := float(m[1])
		switch m[2] {
		case "h":
			v *= 3600
		case "m":
			v *= 60
		case "ms":
			v /= 1000
		case "f":
			v /= u.frames
		case "t":
			v /= u.ticks
		}
		return int64(v*media.VideoTimescale + 0.5), nil
	}
	return 0, &media.FormatError{Format: "TTML", Found: fmt.Sprintf("the time %.20q", s), Want: "hours:minutes:seconds, or a number with its unit"}
}

// Flatten makes of cues, sorted by their begin, those that follow each other: where several are shown at once, their texts stand one
// below the other in one.
func Flatten(cues []Cue) (out []Cue) {
	var edges []int64
	for i := range cues {
		edges = append(edges, cues[i].Start, cues[i].End)
	}
	slices.Sort(edges)
	edges = slices.Compact(edges)
	var shown []*Cue
	next := 0
	for i := 0; i+1 < len(edges); i++ {
		at := edges[i]
		shown = slices.DeleteFunc(shown, func(c *Cue) bool { return c.End <= at })
		for next < len(cues) && cues[next].Start <= at {
			shown = append(shown, &cues[next])
			next++
		}
		if len(shown) == 0 {
			continue
		}
		c := Cue{Start: at, End: edges[i+1], Top: shown[0].Top}
		var texts []string
		for _, s := range shown[:min(len(shown), 4)] {
			texts = append(texts, s.Text)
		}
		c.Text = strings.Join(texts, "\n")
		if n := len(out); n > 0 && out[n-1].End == at && out[n-1].Text == c.Text && out[n-1].Top == c.Top {
			out[n-1].End = c.End
			continue
		}
		out = append(out, c)
	}
	return out
}

// Within returns what is shown of cues, which follow each other, from a time on up to another.
func Within(cues []Cue, from, to int64) (out []Cue) {
	i, _ := slices.BinarySearchFunc(cues, from, func(c Cue, at int64) int { return cmp.Compare(c.End, at+1) })
	for ; i < len(cues) && cues[i].Start < to; i++ {
		c := cues[i]
		c.Start, c.End = max(c.Start, from), min(c.End, to)
		out = append(out, c)
	}
	return out
}

// Whole writes cues as a file of its own.
func Whole(cues []Cue) []byte {
	var b strings.Builder
	b.WriteString("WEBVTT\n")
	for i := range cues {
		c := &cues[i]
		fmt.Fprintf(&b, "\n%s --> %s", clock(c.Start), clock(c.End))
		if s := c.settings(); s != "" {
			b.WriteString(" " + s)
		}
		b.WriteString("\n" + c.escaped() + "\n")
	}
	return []byte(b.String())
}

// ReadSamples reads cues back from access units as Samples writes them.
func ReadSamples(units []media.AccessUnit) (out []Cue) {
	for i := range units {
		u := &units[i]
		boxes(u.Data, func(kind string, body []byte) {
			if kind != "vttc" {
				return
			}
			c := Cue{Start: u.PTS, End: u.PTS + u.Duration}
			boxes(body, func(kind string, body []byte) {
				switch kind {
				case "payl":
					c.Text = html.UnescapeString(string(body))
				case "sttg":
					c.Top = string(body) == (&Cue{Top: true}).settings()
				}
			})
			if c.Text != "" {
				out = append(out, c)
			}
		})
	}
	return out
}

// boxes hands out the boxes of ISO media files that stand in a row.
func boxes(b []byte, each func(kind string, body []byte)) {
	for len(b) >= 8 {
		n := int(b[0])<<24 | int(b[1])<<16 | int(b[2])<<8 | int(b[3])
		if n < 8 || n > len(b) {
			return
		}
		each(string(b[4:8]), b[8:n])
		b = b[n:]
	}
}
