package hls

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/media"
)

// PartEntry is one EXT-X-PART that was read.
type PartEntry struct {
	URI         string
	Duration    time.Duration
	Independent bool
	Gap         bool
	Offset      int64 // of its bytes in the resource; -1 without a byte range
	Length      int64
	Line        int
}

// Entry is one segment of a playlist that was read.
type Entry struct {
	MSN           uint64
	URI           string
	Header        string // URI of the EXT-X-MAP in force
	HeaderOffset  int64  // of a byte range of it; -1 without one
	HeaderLength  int64
	Key           *Key // of an encrypted segment, nil for none
	Duration      time.Duration
	Discontinuity bool
	Gap           bool
	DateTime      time.Time // zero when the entry carries none
	Offset        int64     // of a byte range; -1 without one
	Length        int64
	Parts         []PartEntry
	Line          int // of its address, or of its last part when it is not whole
	Open          bool
}

// Key is an EXT-X-KEY that was read.
type Key struct {
	Method, URI, Format string
	IV                  []byte // nil: the media sequence number
}

// Hint is one EXT-X-PRELOAD-HINT that was read.
type Hint struct {
	Type, URI string
	Offset    int64 // BYTERANGE-START, 0 without one
}

// Range is one EXT-X-DATERANGE that was read.
type Range struct {
	ID         string
	Start      time.Time
	Attributes map[string]string
	Line       int
}

// Playlist is a media playlist that was read.
type Playlist struct {
	Version               int
	TargetDuration        time.Duration
	MediaSequence         uint64
	DiscontinuitySequence uint64
	Independent, Ended    bool
	KeysOnly              bool   // EXT-X-I-FRAMES-ONLY
	Type                  string // EXT-X-PLAYLIST-TYPE
	PartTarget            time.Duration
	CanBlock              bool
	HoldBack              time.Duration // 0: not given
	PartHoldBack          time.Duration
	SkipUntil             time.Duration
	Skipped               int // segments left out by EXT-X-SKIP
	Start                 string
	Entries               []Entry // the last may be Open: parts without a segment
	Hints                 []Hint
	Reports               []Report
	Ranges                []Range
	Counts                map[string]int // how often each tag stands there
}

// Whole returns the segments that are whole.
func (p *Playlist) Whole() []Entry {
	n := len(p.Entries)
	if n > 0 && p.Entries[n-1].Open {
		n--
	}
	return p.Entries[:n]
}

// maxEntries bounds what a playlist from outside may hold.
//
//limit:entries of a playlist from outside | each playlist | it is refused
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

// reader is the state of reading a media playlist.
type reader struct {
	p      *Playlist
	e      Entry // what is known of the segment to come
	header Entry // its header is in force
	key    *Key
	line   int
	err    error
}

// ReadMedia reads a media playlist.
func ReadMedia(b []byte) (*Playlist, error) {
	all, err := lines(b)
	if err != nil {
		return nil, err
	}
	r := &reader{p: &Playlist{Counts: map[string]int{}}, e: Entry{Offset: -1}, header: Entry{HeaderOffset: -1}}
	for i, l := range all[1:] {
		r.line = i + 2
		switch {
		case l == "":
		case strings.HasPrefix(l, "#EXT"):
			tag, value, _ := strings.Cut(l, ":")
			r.p.Counts[tag]++
			r.tag(tag, value)
		case l[0] != '#':
			r.address(l)
		}
		if r.err != nil {
			return nil, r.err
		}
	}
	if len(r.e.Parts) > 0 {
		r.e.Open = true
		r.add("")
	}
	if r.p.TargetDuration == 0 {
		return nil, broken(len(all), "no EXT-X-TARGETDURATION", "one")
	}
	return r.p, nil
}

func (r *reader) fail(found, want string) {
	if r.err == nil {
		r.err = broken(r.line, strconv.Quote(clip(found)), want)
	}
}

func (r *reader) whole(s string) uint64 {
	v, err := strconv.ParseUint(s, 10, 63)
	if err != nil {
		r.fail(s, "a whole number")
	}
	return v
}

// maxSeconds bounds a duration: a day.
//
//limit:seconds of a duration | each entry | the playlist is refused
const maxSeconds = 86400

func (r *reader) seconds(s string) time.Duration {
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || !(v >= 0) || v > maxSeconds {
		r.fail(s, "a duration in seconds")
		return 0
	}
	return time.Duration(v*1e9 + 0.5)
}

// byteRange reads length@offset.
func (r *reader) byteRange(s string, after int64) (length, offset int64) {
	n, o, given := strings.Cut(s, "@")
	length = int64(r.whole(n))
	if !given {
		return length, max(after, 0)
	}
	return length, int64(r.whole(o))
}

func (r *reader) add(uri string) {
	r.e.MSN, r.e.URI, r.e.Line = r.p.MediaSequence+uint64(r.p.Skipped)+uint64(len(r.p.Entries)), uri, r.line
	r.e.Header, r.e.HeaderOffset, r.e.HeaderLength, r.e.Key = r.header.Header, r.header.HeaderOffset, r.header.HeaderLength, r.key
	r.p.Entries = append(r.p.Entries, r.e)
	r.e = Entry{Offset: -1}
}

func (r *reader) address(l string) {
	if r.e.Duration == 0 && r.p.Counts["#EXTINF"] <= len(r.p.Entries) {
		r.fail(l, "EXTINF before an address")
		return
	}
	r.add(l)
}

func (r *reader) tag(tag, value string) {
	p := r.p
	switch tag {
	case "#EXT-X-VERSION":
		p.Version = int(min(r.whole(value), 1000))
	case "#EXT-X-TARGETDURATION":
		p.TargetDuration = time.Duration(min(r.whole(value), maxSeconds)) * time.Second
	case "#EXT-X-MEDIA-SEQUENCE":
		p.MediaSequence = r.whole(value)
	case "#EXT-X-DISCONTINUITY-SEQUENCE":
		p.DiscontinuitySequence = r.whole(value)
	case "#EXT-X-INDEPENDENT-SEGMENTS":
		p.Independent = true
	case "#EXT-X-I-FRAMES-ONLY":
		p.KeysOnly = true
	case "#EXT-X-PLAYLIST-TYPE":
		p.Type = value
	case "#EXT-X-ENDLIST":
		p.Ended = true
	case "#EXT-X-START":
		p.Start = value
	case "#EXT-X-DISCONTINUITY":
		r.e.Discontinuity = true
	case "#EXT-X-GAP":
		r.e.Gap = true
	case "#EXT-X-MAP":
		a := readAttributes(value)
		r.header = Entry{Header: a["URI"], HeaderOffset: -1}
		if a["URI"] == "" {
			r.fail(value, "a URI")
		}
		if a["BYTERANGE"] != "" {
			r.header.HeaderLength, r.header.HeaderOffset = r.byteRange(a["BYTERANGE"], 0)
		}
	case "#EXT-X-KEY":
		r.keyed(readAttributes(value))
	case "#EXT-X-BYTERANGE":
		after := int64(0)
		if n := len(p.Entries); n > 0 {
			after = p.Entries[n-1].Offset + p.Entries[n-1].Length
		}
		r.e.Length, r.e.Offset = r.byteRange(value, after)
	case "#EXT-X-PROGRAM-DATE-TIME":
		at, err := readDate(value)
		if err != nil {
			r.fail(value, "a date and time of ISO 8601")
		}
		r.e.DateTime = at
	case "#EXTINF":
		text, _, _ := strings.Cut(value, ",")
		r.e.Duration = r.seconds(strings.TrimSpace(text))
	default:
		r.lowLatency(tag, value)
	}
}

// keyed reads EXT-X-KEY (RFC 8216, 4.3.2.4). Of several for one segment the first stays.
func (r *reader) keyed(a map[string]string) {
	if a["METHOD"] == "NONE" {
		r.key = nil
		return
	}
	k := &Key{Method: a["METHOD"], URI: a["URI"], Format: a["KEYFORMAT"]}
	if iv := a["IV"]; iv != "" {
		var err error
		if k.IV, err = hex.DecodeString(strings.TrimPrefix(strings.ToLower(iv), "0x")); err != nil || len(k.IV) != 16 {
			r.fail(iv, "an IV of 128 bits, such as 0x00112233445566778899aabbccddeeff")
		}
	}
	n := len(r.p.Entries)
	if r.key == nil || n > 0 && r.p.Entries[n-1].Key == r.key {
		r.key = k
	}
}

func readDate(s string) (time.Time, error) {
	at, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		at, err = time.Parse("2006-01-02T15:04:05.999999999Z0700", s)
	}
	return at, err
}

func (r *reader) lowLatency(tag, value string) {
	p := r.p
	optional := func(s string) time.Duration {
		if s == "" {
			return 0
		}
		return r.seconds(s)
	}
	switch tag {
	case "#EXT-X-PART-INF":
		p.PartTarget = r.seconds(readAttributes(value)["PART-TARGET"])
	case "#EXT-X-SERVER-CONTROL":
		a := readAttributes(value)
		p.CanBlock = a["CAN-BLOCK-RELOAD"] == "YES"
		p.HoldBack, p.PartHoldBack, p.SkipUntil = optional(a["HOLD-BACK"]), optional(a["PART-HOLD-BACK"]), optional(a["CAN-SKIP-UNTIL"])
	case "#EXT-X-SKIP":
		p.Skipped = int(min(r.whole(readAttributes(value)["SKIPPED-SEGMENTS"]), maxEntries))
	case "#EXT-X-PART":
		a := readAttributes(value)
		e := PartEntry{URI: a["URI"], Duration: r.seconds(a["DURATION"]), Independent: a["INDEPENDENT"] == "YES",
			Gap: a["GAP"] == "YES", Offset: -1, Line: r.line}
		if e.URI == "" {
			r.fail(value, "a URI")
		}
		if a["BYTERANGE"] != "" {
			after := int64(0)
			if n := len(r.e.Parts); n > 0 {
				after = r.e.Parts[n-1].Offset + r.e.Parts[n-1].Length
			}
			e.Length, e.Offset = r.byteRange(a["BYTERANGE"], after)
		}
		r.e.Parts = append(r.e.Parts, e)
	case "#EXT-X-PRELOAD-HINT":
		a := readAttributes(value)
		h := Hint{Type: a["TYPE"], URI: a["URI"]}
		if a["BYTERANGE-START"] != "" {
			h.Offset = int64(min(r.whole(a["BYTERANGE-START"]), 1<<62))
		}
		p.Hints = append(p.Hints, h)
	case "#EXT-X-RENDITION-REPORT":
		a := readAttributes(value)
		rep := Report{URI: a["URI"], Part: -1}
		if a["LAST-MSN"] != "" {
			rep.MSN = r.whole(a["LAST-MSN"])
		}
		if a["LAST-PART"] != "" {
			rep.Part = int(min(r.whole(a["LAST-PART"]), maxEntries))
		}
		p.Reports = append(p.Reports, rep)
	case "#EXT-X-DATERANGE":
		a := readAttributes(value)
		at, err := readDate(a["START-DATE"])
		if err != nil && a["START-DATE"] != "" {
			r.fail(a["START-DATE"], "a date and time of ISO 8601")
		}
		p.Ranges = append(p.Ranges, Range{ID: a["ID"], Start: at, Attributes: a, Line: r.line})
	}
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
			pending = readAttributes(value)
		case tag == "#EXT-X-MEDIA":
			renditions = append(renditions, readAttributes(value))
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

// ReadKeyVariants reads the EXT-X-I-FRAME-STREAM-INF tags of a multivariant playlist.
func ReadKeyVariants(b []byte) []VariantEntry {
	var out []VariantEntry
	for l := range strings.Lines(string(b)) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(l), "#EXT-X-I-FRAME-STREAM-INF:"); ok {
			a := readAttributes(value)
			out = append(out, VariantEntry{URI: a["URI"], Attributes: a})
		}
	}
	return out
}

// IsMultivariant reports whether a playlist names others.
func IsMultivariant(b []byte) bool { return strings.Contains(string(b), "#EXT-X-STREAM-INF") }

// readAttributes reads an attribute list (draft, 4.2): NAME=value,NAME="quoted".
func readAttributes(s string) map[string]string {
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
