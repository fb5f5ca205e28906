// Package inspect judges live and on-demand streams from outside. It is shown what a player would
// fetch (playlists, manifests, headers, segments and parts, each with the time when it came) and
// tells what breaks the standards (RFC 8216 and its successor draft, ISO/IEC 23009-1 with the
// DASH-IF guidelines, ISO/IEC 14496-12, ISO/IEC 23000-19, ISO/IEC 13818-1) or a player. It fetches
// nothing itself.
package inspect

import (
	"fmt"
	"sort"
	"time"
)

// Level says how bad a finding is.
type Level string

// The levels of findings.
const (
	Breaks Level = "breaks" // a rule that says MUST, or a player stops
	Risk   Level = "risk"   // a rule that says SHOULD, or some players suffer
	Note   Level = "note"   // worth knowing
)

// Finding is one thing that is wrong, however often it was seen.
type Finding struct {
	Level Level  `json:"level"`
	Rule  string `json:"rule"`  // a short name
	Where string `json:"where"` // the rendition, or "" for the whole
	Found string `json:"found"` // the first time
	Want  string `json:"want"`
	Ref   string `json:"ref"` // document and section
	Count int    `json:"count"`
}

// Stream is what was seen of one rendition. Times are milliseconds, nil when not known.
type Stream struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"` // video, audio, or "" before a header was seen
	Codec     string `json:"codec,omitempty"`
	Size      string `json:"size,omitempty"`
	Loads     int    `json:"loads"` // of its playlist
	Segments  int    `json:"segments"`
	Parts     int    `json:"parts"`
	Announced int64  `json:"announced"`        // bits per second
	Peak      int64  `json:"peak"`             // of whole segments
	Edge      *int64 `json:"edge,omitempty"`   // from the end of the playlist's media to the clock, median
	Fetch     *int64 `json:"fetch,omitempty"`  // from asking for a segment or part to its last byte, median
	Aim       int64  `json:"aim"`              // how far behind the end a player stays, 0 when nothing tells
	Behind    *int64 `json:"behind,omitempty"` // edge and aim together
}

// Report is the result.
type Report struct {
	Address  string    `json:"address"`
	Protocol string    `json:"protocol"` // "HLS", "low-latency HLS", "DASH", "low-latency DASH"
	Live     bool      `json:"live"`
	Seconds  int       `json:"seconds"` // how long it was followed
	Streams  []Stream  `json:"streams"`
	Findings []Finding `json:"findings"`
	Skew     int64     `json:"skew"` // largest distance of audio and video starts, milliseconds; -1 when not known
	Verdict  string    `json:"verdict"`
	Broken   int       `json:"broken"`
	Risks    int       `json:"risks"`
}

// maxFindings bounds a report.
//
//limit:findings | each report | further ones are counted
const maxFindings = 200

// finding books one.
func (i *Inspector) finding(level Level, rule, where, found, want, ref string) {
	for n := range i.findings {
		if f := &i.findings[n]; f.Rule == rule && f.Where == where {
			f.Count++
			return
		}
	}
	if len(i.findings) < maxFindings {
		i.findings = append(i.findings, Finding{level, rule, where, found, want, ref, 1})
	}
}

// rank orders levels.
var rank = map[Level]int{Breaks: 0, Risk: 1, Note: 2}

// Report sums up. lasted is how long the stream was followed.
func (i *Inspector) Report(lasted time.Duration) Report {
	i.finish()
	r := Report{Address: i.address, Protocol: i.protocol(), Live: i.live,
		Seconds: int(lasted.Round(time.Second) / time.Second), Findings: append([]Finding{},
			i.findings...), Streams: []Stream{}, Skew: i.skew}
	sort.SliceStable(r.Findings, func(a, b int) bool { return rank[r.Findings[a].Level] < rank[r.Findings[b].Level] })
	for _, name := range i.order {
		s := i.streams[name]
		out := s.Stream
		out.Edge, out.Fetch = median(s.edges), median(s.fetches)
		if out.Edge != nil && out.Aim > 0 {
			behind := *out.Edge + out.Aim
			out.Behind = &behind
		}
		r.Streams = append(r.Streams, out)
	}
	far := "" // not all of it was judged
	for _, f := range r.Findings {
		if f.Rule == ruleNotJudged {
			far = " Not all of it could be judged."
		}
		switch f.Level {
		case Breaks:
			r.Broken++
		case Risk:
			r.Risks++
		}
	}
	switch {
	case len(r.Streams) == 0 && r.Broken == 0:
		r.Broken++
		r.Verdict = "Nothing was seen that could be judged."
	case r.Broken > 0:
		r.Verdict = fmt.Sprintf("Broken: %s, %s."+far, count(r.Broken, "rule is violated", "rules are violated"),
			count(r.Risks, "risk", "risks"))
	case r.Risks > 0:
		r.Verdict = fmt.Sprintf("Playable: no rule is violated, %s."+far, count(r.Risks, "risk", "risks"))
	default:
		r.Verdict = "Clean: no rule is violated, and no risk was seen." + far
	}
	return r
}

func count(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

func median(v []int64) *int64 {
	if len(v) == 0 {
		return nil
	}
	s := append([]int64(nil), v...)
	sort.Slice(s, func(a, b int) bool { return s[a] < s[b] })
	return &s[len(s)/2]
}
