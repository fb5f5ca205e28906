package inspect

import (
	"fmt"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
)

// Inspector collects what is shown to it. It is not safe for concurrent use.
//
//large:a method for each rule
type Inspector struct {
	address  string
	findings []Finding
	streams  map[string]*stream
	order    []string
	live     bool
	dash     bool
	low      bool
	skew     int64
	groups   map[string][]string // audio renditions of a group
	mpd      mpdState
}

// bounds of what is remembered of each stream.
const (
	//limit:measurements of one kind that are kept | each inspection | further ones are not measured
	maxSamples = 4096
	//limit:streams | each inspection | further ones are left out
	maxStreams = 64
)

// stream is one rendition as it was seen.
//
//large:what the rules remember of a stream
type stream struct {
	Stream
	last *hls.Playlist
	// Each segment is said to be decodable without others.
	independent bool
	loaded      time.Time // when last was loaded
	changed     time.Time // when it last differed from the one before
	body        string
	edges       []int64
	fetches     []int64
	codecs      string // as announced
	announced   string // RESOLUTION as announced
	headers     map[string]*header
	starts      map[uint64]int64 // of segments by number, microseconds on the stream's own time line
	lengths     map[uint64]int64 // microseconds
	walls       map[uint64]int64 // where the playlist says that they begin, microseconds since 1970
	broken      map[uint64]bool  // segments that carry a discontinuity
	next        int64            // decode time where the next segment should begin, track ticks; -1 when not known
	nextMSN     uint64
	sequence    uint32
	dates       map[string]string // date ranges by ID: their start
	parts       map[uint64][][]byte
	counters    map[int]byte
	judged      struct { // the newest segment whose parts were judged, and how many of them
		msn   uint64
		parts int
	}
}

// New inspects the stream at an address.
func New(address string) *Inspector {
	return &Inspector{address: address, streams: map[string]*stream{}, skew: -1, groups: map[string][]string{}}
}

func (i *Inspector) stream(name string) *stream {
	s := i.streams[name]
	if s == nil {
		s = &stream{
			Stream: Stream{Name: name}, headers: map[string]*header{}, starts: map[uint64]int64{}, lengths: map[uint64]int64{}, walls: map[uint64]int64{},
			broken: map[uint64]bool{}, next: -1, dates: map[string]string{}, parts: map[uint64][][]byte{}, counters: map[int]byte{},
		}
		if len(i.order) < maxStreams {
			i.streams[name] = s
			i.order = append(i.order, name)
		}
	}
	return s
}

func (i *Inspector) protocol() string {
	switch {
	case i.dash && i.low:
		return "low-latency DASH"
	case i.dash:
		return "DASH"
	case i.low:
		return "low-latency HLS"
	}
	return "HLS"
}

// Live reports whether what was seen so far goes on.
func (i *Inspector) Live() bool { return i.live }

// Unreachable books that something could not be fetched. level says whether a player needs it.
func (i *Inspector) Unreachable(level Level, where, what string, err error) {
	i.finding(level, "unreachable", where, fmt.Sprintf("%s: %v", what, err), "an answer with status 200", "RFC 8216, 6.2.1")
}

// ContentType judges the media type of a playlist.
func (i *Inspector) ContentType(where, found string) {
	kind, _, _ := strings.Cut(strings.ToLower(found), ";")
	switch strings.TrimSpace(kind) {
	case "application/vnd.apple.mpegurl", "audio/mpegurl", "application/dash+xml":
	default:
		i.finding(Risk, "content-type", where, fmt.Sprintf("%q", found),
			"application/vnd.apple.mpegurl, or application/dash+xml for an MPD", "RFC 8216, 4")
	}
}

const draft = "draft-pantos-hls-rfc8216bis, "

// Multivariant judges a multivariant playlist.
//
//large:the checks of one document, in its order
func (i *Inspector) Multivariant(body []byte) (variants []hls.VariantEntry, renditions []map[string]string) {
	variants, renditions, err := hls.ReadMultivariant(body)
	if err != nil {
		i.finding(Breaks, "multivariant-unreadable", "", err.Error(), "a multivariant playlist", draft+"4")
		return nil, nil
	}
	if len(variants) == 0 {
		i.finding(Breaks, "no-variant", "", "no EXT-X-STREAM-INF", "at least one", draft+"4.4.6.2")
	}
	type group struct{ kind, id string }
	names, defaults, known := map[group]map[string]bool{}, map[group]int{}, map[group]bool{}
	for _, r := range renditions {
		g := group{r["TYPE"], r["GROUP-ID"]}
		if g.id == "" || r["NAME"] == "" {
			i.finding(Breaks, "group-attributes", "", fmt.Sprintf("EXT-X-MEDIA of type %s without GROUP-ID or NAME",
				g.kind), "both", draft+"4.4.6.1")
		}
		if names[g] == nil {
			names[g] = map[string]bool{}
		}
		if names[g][r["NAME"]] {
			i.finding(Breaks, "group-name-twice", "", fmt.Sprintf("the name %q twice in group %q", r["NAME"], g.id),
				"a name of its own for each rendition", draft+"4.4.6.1.1")
		}
		names[g][r["NAME"]], known[g] = true, true
		if r["DEFAULT"] == "YES" {
			if defaults[g]++; defaults[g] == 2 {
				i.finding(Breaks, "group-defaults", "", fmt.Sprintf("two renditions with DEFAULT=YES in group %q", g.id),
					"one at most", draft+"4.4.6.1.1")
			}
		}
		if g.kind == "CLOSED-CAPTIONS" && r["INSTREAM-ID"] == "" {
			i.finding(Breaks, "captions-channel", "", fmt.Sprintf("closed captions %q without INSTREAM-ID", r["NAME"]),
				"CC1 to CC4 or SERVICE1 to SERVICE63", draft+"4.4.6.1")
		}
		if g.kind == "CLOSED-CAPTIONS" && r["URI"] != "" {
			i.finding(Breaks, "captions-uri", "", "closed captions with a URI", "none: they travel in the video",
				draft+"4.4.6.1")
		}
	}
	none, some := 0, 0
	for _, v := range variants {
		a, where := v.Attributes, nameOf(v.URI)
		if number(a["BANDWIDTH"]) <= 0 {
			i.finding(Breaks, "bandwidth-missing", where, fmt.Sprintf("BANDWIDTH=%s", a["BANDWIDTH"]), "bits per second",
				draft+"4.4.6.2")
		}
		if average := number(a["AVERAGE-BANDWIDTH"]); average > number(a["BANDWIDTH"]) {
			i.finding(Breaks, "bandwidth-order", where, fmt.Sprintf("an average of %d above the peak of %s", average,
				a["BANDWIDTH"]), "one that is not higher", draft+"4.4.6.2")
		}
		if a["CODECS"] == "" {
			i.finding(Risk, "codecs-missing", where, "no CODECS", "every format of the variant", draft+"4.4.6.2")
		}
		if strings.Contains(a["CODECS"], "avc") && a["RESOLUTION"] == "" {
			i.finding(Risk, "resolution-missing", where, "video without RESOLUTION", "one", draft+"4.4.6.2")
		}
		for _, kind := range []string{"AUDIO", "VIDEO", "SUBTITLES"} {
			if id := a[kind]; id != "" && !known[group{kind, id}] {
				i.finding(Breaks, "group-missing", where, fmt.Sprintf("%s=%q", kind, id), "an EXT-X-MEDIA of that group",
					draft+"4.4.6.2")
			}
		}
		switch id := a["CLOSED-CAPTIONS"]; {
		case id == "NONE":
			none++
		case id != "":
			some++
			if !known[group{"CLOSED-CAPTIONS", id}] {
				i.finding(Breaks, "group-missing", where, fmt.Sprintf("CLOSED-CAPTIONS=%q", id),
					"an EXT-X-MEDIA of that group", draft+"4.4.6.2")
			}
		}
		s := i.stream(where)
		s.Announced, s.codecs, s.announced = number(a["BANDWIDTH"]), a["CODECS"], a["RESOLUTION"]
	}
	if none > 0 && some > 0 {
		i.finding(Breaks, "captions-mixed", "", "CLOSED-CAPTIONS=NONE on some variants only", "on all, or on none",
			draft+"4.4.6.2")
	}
	return variants, renditions
}

func number(s string) int64 {
	var n int64
	if _, err := fmt.Sscan(s, &n); err != nil {
		return 0
	}
	return n
}

// nameOf makes a short name of a playlist's address: its folder, or its file.
func nameOf(uri string) string {
	uri, _, _ = strings.Cut(uri, "?")
	parts := strings.Split(uri, "/")
	if len(parts) >= 2 {
		return parts[len(parts)-2]
	}
	return uri
}

// Name is how a report calls the rendition of a playlist's address.
func Name(uri string) string { return nameOf(uri) }
