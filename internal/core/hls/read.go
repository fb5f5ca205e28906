package hls

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
)

// Entry is one segment of a playlist that was read.
type Entry struct {
	MSN           uint64
	URI           string
	Header        string // URI of the EXT-X-MAP in force
	Duration      time.Duration
	Discontinuity bool
	Gap           bool
	DateTime      time.Time // zero when the entry carries none
}

// Playlist is a media playlist that was read.
type Playlist struct {
	Version               int
	TargetDuration        time.Duration
	MediaSequence         uint64
	DiscontinuitySequence uint64
	Independent, Ended    bool
	Entries               []Entry
}

// maxEntries bounds what a playlist from outside may hold.
const maxEntries = 100_000

func broken(line int, found, want string) error {
	return &media.FormatError{Format: fmt.Sprintf("playlist line %d", line), Found: found, Want: want}
}

// lines splits a playlist and checks its first line.
func lines(b []byte) ([]string, error) {
	all := strings.Split(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n")
	if all[0] != "#EXTM3U" {
		return nil, broken(1, strconv.Quote(clip(all[0])), "#EXTM3U")
	}
	if len(all) > maxEntries {
		return nil, broken(len(all), "one line more", fmt.Sprintf("%d at most", maxEntries))
	}
	return all, nil
}

func clip(s string) string { return s[:min(len(s), 60)] }

// ReadMedia reads a media playlist.
func ReadMedia(b []byte) (*Playlist, error) {
	all, err := lines(b)
	if err != nil {
		return nil, err
	}
	p := &Playlist{}
	var e Entry
	header := ""
	for i, l := range all[1:] {
		n := i + 2
		tag, value, _ := strings.Cut(l, ":")
		whole := func() uint64 {
			v, perr := strconv.ParseUint(value, 10, 64)
			if perr != nil && err == nil {
				err = broken(n, strconv.Quote(clip(l)), "a whole number")
			}
			return v
		}
		switch tag {
		case "#EXT-X-VERSION":
			p.Version = int(whole())
		case "#EXT-X-TARGETDURATION":
			p.TargetDuration = time.Duration(min(whole(), 1<<20)) * time.Second
		case "#EXT-X-MEDIA-SEQUENCE":
			p.MediaSequence = whole()
		case "#EXT-X-DISCONTINUITY-SEQUENCE":
			p.DiscontinuitySequence = whole()
		case "#EXT-X-INDEPENDENT-SEGMENTS":
			p.Independent = true
		case "#EXT-X-ENDLIST":
			p.Ended = true
		case "#EXT-X-DISCONTINUITY":
			e.Discontinuity = true
		case "#EXT-X-GAP":
			e.Gap = true
		case "#EXT-X-MAP":
			header = ReadAttributes(value)["URI"]
		case "#EXT-X-PROGRAM-DATE-TIME":
			if e.DateTime, err = time.Parse(time.RFC3339Nano, value); err != nil {
				return nil, broken(n, strconv.Quote(clip(value)), "a date and time of ISO 8601")
			}
		case "#EXTINF":
			text, _, _ := strings.Cut(value, ",")
			d, perr := time.ParseDuration(text + "s")
			if perr != nil || d < 0 {
				return nil, broken(n, strconv.Quote(clip(l)), "a duration in seconds")
			}
			e.Duration = d
		default:
			if l == "" || l[0] == '#' {
				continue
			}
			e.MSN, e.URI, e.Header = p.MediaSequence+uint64(len(p.Entries)), l, header
			p.Entries = append(p.Entries, e)
			e = Entry{}
		}
		if err != nil {
			return nil, err
		}
	}
	if p.TargetDuration == 0 {
		return nil, broken(len(all), "no EXT-X-TARGETDURATION", "one")
	}
	return p, nil
}

// VariantEntry is one variant of a multivariant playlist that was read.
type VariantEntry struct {
	URI        string
	Attributes map[string]string
}

// ReadMultivariant reads a multivariant playlist: its variants and its EXT-X-MEDIA tags.
func ReadMultivariant(b []byte) (variants []VariantEntry, renditions []map[string]string, err error) {
	all, err := lines(b)
	if err != nil {
		return nil, nil, err
	}
	var pending map[string]string
	for i, l := range all[1:] {
		tag, value, _ := strings.Cut(l, ":")
		switch {
		case tag == "#EXT-X-STREAM-INF":
			pending = ReadAttributes(value)
		case tag == "#EXT-X-MEDIA":
			renditions = append(renditions, ReadAttributes(value))
		case l == "" || l[0] == '#':
		case pending == nil:
			return nil, nil, broken(i+2, strconv.Quote(clip(l)), "EXT-X-STREAM-INF before an address")
		default:
			variants = append(variants, VariantEntry{URI: l, Attributes: pending})
			pending = nil
		}
	}
	return variants, renditions, nil
}

// ReadAttributes reads an attribute list (draft, 4.2): NAME=value,NAME="quoted".
func ReadAttributes(s string) map[string]string {
	out := map[string]string{}
	for s != "" {
		name, rest, ok := strings.Cut(s, "=")
		if !ok {
			break
		}
		var value string
		if strings.HasPrefix(rest, `"`) {
			value, rest, _ = strings.Cut(rest[1:], `"`)
			_, rest, _ = strings.Cut(rest, ",")
		} else {
			value, rest, _ = strings.Cut(rest, ",")
		}
		out[strings.TrimSpace(name)] = value
		s = rest
	}
	return out
}
