package inspect

import (
	"fmt"
	"strings"
	"time"

	"metaplasis/internal/core/hls"
)

// tolerance is how far written durations may stray from one another by rounding.
const tolerance = 50 * time.Millisecond

// Playlist judges a media playlist that came at a time, alone and against the one before.
func (i *Inspector) Playlist(name string, body []byte, at time.Time) (*hls.Playlist, error) {
	s := i.stream(name)
	p, err := hls.ReadMedia(body)
	if err != nil {
		i.finding(Breaks, "playlist-unreadable", name, err.Error(), "a media playlist", draft+"4")
		return nil, err
	}
	s.Loads++
	s.independent = p.Independent || p.Skipped > 0 && s.independent
	if !p.Ended {
		i.live = true
	}
	if p.PartTarget > 0 {
		i.low = true
	}
	if p.Skipped == 0 {
		i.alone(s, p)
	} else if p.Version < 9 {
		i.finding(Breaks, "version", name, fmt.Sprintf("version %d with EXT-X-SKIP", p.Version), "9", draft+"8")
	}
	if s.last != nil && p.Skipped == 0 {
		i.reload(s, p, at, string(body) == s.body)
	}
	if p.Skipped == 0 {
		if string(body) != s.body {
			s.changed = at
		}
		s.last, s.body, s.loaded = p, string(body), at
		i.times(s, p, at)
	}
	return p, nil
}

// alone judges what one playlist shows.
func (i *Inspector) alone(s *stream, p *hls.Playlist) {
	i.tags(s, p)
	i.control(s, p)
	var total time.Duration
	for n := range p.Entries {
		e := &p.Entries[n]
		if !e.Open {
			total += e.Duration
			if e.Duration.Round(time.Second) > p.TargetDuration {
				i.finding(Breaks, "target-duration", s.Name, fmt.Sprintf("segment %d lasts %v", e.MSN, e.Duration),
					fmt.Sprintf("%v at most, rounded", p.TargetDuration), draft+"4.4.3.1")
			}
		}
		if e.Gap {
			i.finding(Risk, "gap", s.Name, fmt.Sprintf("segment %d is a gap", e.MSN), "media", draft+"4.4.4.7")
		}
		if isFragmented(e.URI) && e.Header == "" {
			i.finding(Breaks, "map-missing", s.Name, fmt.Sprintf("segment %d without EXT-X-MAP", e.MSN),
				"a header for fragmented MP4", draft+"3.1.2")
		}
		i.partsOf(s, p, e)
	}
	if !p.Ended && total < 3*p.TargetDuration && p.MediaSequence > 0 {
		i.finding(Breaks, "window-short", s.Name, fmt.Sprintf("%v of media", total),
			fmt.Sprintf("three target durations, %v", 3*p.TargetDuration), draft+"6.2.2")
	}
	i.hints(s, p)
	i.dates(s, p)
	i.ranges(s, p)
}

func isFragmented(uri string) bool {
	uri, _, _ = strings.Cut(uri, "?")
	return strings.HasSuffix(uri, ".m4s") || strings.HasSuffix(uri, ".mp4") || strings.HasSuffix(uri, ".cmfv") ||
		strings.HasSuffix(uri, ".cmfa")
}

// single are the tags that may stand once.
var single = []string{"#EXT-X-VERSION", "#EXT-X-TARGETDURATION", "#EXT-X-MEDIA-SEQUENCE", "#EXT-X-DISCONTINUITY-SEQUENCE",
	"#EXT-X-PLAYLIST-TYPE", "#EXT-X-PART-INF", "#EXT-X-SERVER-CONTROL", "#EXT-X-START", "#EXT-X-SKIP"}

func (i *Inspector) tags(s *stream, p *hls.Playlist) {
	for _, t := range single {
		if p.Counts[t] > 1 {
			i.finding(Breaks, "tag-twice", s.Name, fmt.Sprintf("%s %d times", t, p.Counts[t]), "once", draft+"4.4.3")
		}
	}
	need, why := 1, ""
	for tag, v := range map[string]int{"#EXT-X-GAP": 8, "#EXT-X-MAP": 6, "#EXT-X-I-FRAMES-ONLY": 4, "#EXT-X-BYTERANGE": 4,
		"#EXT-X-SKIP": 9} {
		if p.Counts[tag] > 0 && v > need {
			need, why = v, tag
		}
	}
	if max(p.Version, 1) < need {
		i.finding(Breaks, "version", s.Name, fmt.Sprintf("version %d with %s", max(p.Version, 1), why), fmt.Sprint(need),
			draft+"8")
	}
	if p.Type == "VOD" && !p.Ended {
		i.finding(Breaks, "type-without-end", s.Name, "type VOD without EXT-X-ENDLIST", "both", draft+"4.4.3.5")
	}
}

// control judges server control and part information.
func (i *Inspector) control(s *stream, p *hls.Playlist) {
	parts := p.Counts["#EXT-X-PART"]
	switch {
	case parts > 0 && p.PartTarget == 0:
		i.finding(Breaks, "part-inf-missing", s.Name, "EXT-X-PART without EXT-X-PART-INF", "a part target duration",
			draft+"4.4.3.7")
	case p.PartTarget > 0 && p.PartHoldBack == 0 && !p.Ended:
		i.finding(Breaks, "part-hold-back-missing", s.Name, "no PART-HOLD-BACK", fmt.Sprintf("at least %v", 2*p.PartTarget),
			draft+"4.4.3.8")
	case p.PartTarget > 0 && p.PartHoldBack > 0 && p.PartHoldBack < 2*p.PartTarget:
		i.finding(Breaks, "part-hold-back", s.Name, p.PartHoldBack.String(),
			fmt.Sprintf("at least twice the part target, %v", 2*p.PartTarget), draft+"4.4.3.8")
	case p.PartTarget > 0 && p.PartHoldBack > 0 && p.PartHoldBack+time.Millisecond < 3*p.PartTarget:
		i.finding(Risk, "part-hold-back", s.Name, p.PartHoldBack.String(),
			fmt.Sprintf("three times the part target, %v", 3*p.PartTarget), draft+"4.4.3.8")
	}
	if p.PartTarget > 0 && !p.CanBlock && !p.Ended {
		i.finding(Breaks, "no-blocking", s.Name, "parts without CAN-BLOCK-RELOAD=YES", "blocking playlist reload",
			draft+"B.1")
	}
	if p.HoldBack > 0 && p.HoldBack < 3*p.TargetDuration {
		i.finding(Breaks, "hold-back", s.Name, p.HoldBack.String(),
			fmt.Sprintf("at least three target durations, %v", 3*p.TargetDuration), draft+"4.4.3.8")
	}
	if p.SkipUntil > 0 && p.SkipUntil < 6*p.TargetDuration {
		i.finding(Breaks, "skip-until", s.Name, p.SkipUntil.String(),
			fmt.Sprintf("at least six target durations, %v", 6*p.TargetDuration), draft+"4.4.3.8")
	}
	switch {
	case p.PartTarget > 0 && p.PartHoldBack > 0:
		s.Aim = p.PartHoldBack.Milliseconds()
	case p.HoldBack > 0:
		s.Aim = p.HoldBack.Milliseconds()
	default:
		s.Aim = (3 * p.TargetDuration).Milliseconds()
	}
}

// partsOf judges the parts of one segment, each once.
func (i *Inspector) partsOf(s *stream, p *hls.Playlist, e *hls.Entry) {
	if e.MSN != s.judged.msn {
		if e.MSN < s.judged.msn {
			return
		}
		s.judged.msn, s.judged.parts = e.MSN, 0
	}
	if s.judged.parts == len(e.Parts) && !e.Open {
		return
	}
	var sum time.Duration
	for n, part := range e.Parts {
		sum += part.Duration
		if n < s.judged.parts {
			continue
		}
		if p.PartTarget > 0 && part.Duration > p.PartTarget+100*time.Microsecond {
			i.finding(Breaks, "part-target", s.Name, fmt.Sprintf("part %d of segment %d lasts %v", n, e.MSN, part.Duration),
				fmt.Sprintf("%v at most", p.PartTarget), draft+"4.4.4.9")
		}
		if n == 0 && p.Independent && !part.Independent {
			i.finding(Breaks, "part-independent", s.Name,
				fmt.Sprintf("the first part of segment %d without INDEPENDENT=YES",
					e.MSN), "INDEPENDENT=YES, since segments are said to be independent", draft+"4.4.4.9")
		}
		last := n == len(e.Parts)-1
		if last && e.Open {
			return // it may be the last of its segment, which may be short
		}
		s.judged.parts = n + 1
		if !last && part.Duration*100 < p.PartTarget*85 {
			i.finding(Breaks, "part-short", s.Name, fmt.Sprintf("part %d of segment %d lasts %v", n, e.MSN, part.Duration),
				fmt.Sprintf("85 %% of the part target, %v, but for the last of a segment",
					p.PartTarget*85/100), draft+"4.4.4.9")
		}
	}
	if len(e.Parts) > 0 && !e.Open {
		if d := sum - e.Duration; d.Abs() > tolerance {
			i.finding(Breaks, "part-sum", s.Name, fmt.Sprintf("the parts of segment %d last %v together, the segment %v",
				e.MSN, sum, e.Duration), "the same", draft+"4.4.4.9")
		}
	}
}

// hints judges preload hints and what is listed for how long.
func (i *Inspector) hints(s *stream, p *hls.Playlist) {
	if p.Ended && (len(p.Hints) > 0 || len(p.Reports) > 0) {
		i.finding(Breaks, "hint-after-end", s.Name, "a hint or report in a playlist that has ended", "none",
			draft+"4.4.5.3")
	}
	kinds := map[string]int{}
	for _, h := range p.Hints {
		if kinds[h.Type]++; kinds[h.Type] == 2 {
			i.finding(Breaks, "hint-twice", s.Name, "two hints of type "+h.Type, "one", draft+"4.4.5.3")
		}
		if h.URI == "" || h.Type != "PART" && h.Type != "MAP" {
			i.finding(Breaks, "hint-attributes", s.Name, fmt.Sprintf("a hint of type %q for %q", h.Type, h.URI),
				"PART or MAP, and a URI", draft+"4.4.5.3")
		}
	}
	for _, r := range p.Reports {
		switch {
		case r.URI == "":
			i.finding(Breaks, "report-address", s.Name, "a rendition report without URI", "one", draft+"4.4.5.4")
		case r.Part < 0 && p.PartTarget > 0:
			i.finding(Risk, "report-part", s.Name, fmt.Sprintf("a report of %q without LAST-PART", r.URI),
				"the number of its last part, if it has parts", draft+"4.4.5.4")
		}
	}
	var behind time.Duration
	for n := len(p.Entries) - 1; n >= 0; n-- {
		e := &p.Entries[n]
		if len(e.Parts) > 0 && behind > 3*p.TargetDuration+p.TargetDuration {
			i.finding(Risk, "parts-old", s.Name, fmt.Sprintf("parts of segment %d, %v before the end", e.MSN, behind),
				"none older than three target durations", draft+"4.4.4.9")
		}
		behind += e.Duration
	}
}

// dates judges the wall clock within a playlist.
func (i *Inspector) dates(s *stream, p *hls.Playlist) {
	var at time.Time
	for n := range p.Entries {
		e := &p.Entries[n]
		if e.Discontinuity {
			at = time.Time{}
		}
		if !e.DateTime.IsZero() {
			if !at.IsZero() && e.DateTime.Sub(at).Abs() > tolerance+p.TargetDuration/20 {
				i.finding(Risk, "date-time", s.Name,
					fmt.Sprintf("segment %d begins %v beside its place by the durations before it", e.MSN,
						e.DateTime.Sub(at)), "a wall clock that runs with the media", draft+"4.4.4.6")
			}
			at = e.DateTime
		}
		if !at.IsZero() {
			at = at.Add(e.Duration)
		}
	}
	if len(p.Ranges) > 0 && p.Counts["#EXT-X-PROGRAM-DATE-TIME"] == 0 {
		i.finding(Breaks, "date-time-missing", s.Name, "EXT-X-DATERANGE without EXT-X-PROGRAM-DATE-TIME", "both",
			draft+"4.4.5.1")
	}
}

func (i *Inspector) ranges(s *stream, p *hls.Playlist) {
	for _, r := range p.Ranges {
		switch {
		case r.ID == "":
			i.finding(Breaks, "daterange-id", s.Name, fmt.Sprintf("line %d: a date range without ID", r.Line), "one",
				draft+"4.4.5.1")
			continue
		case r.Start.IsZero() && s.dates[r.ID] == "":
			i.finding(Breaks, "daterange-start", s.Name, fmt.Sprintf("date range %q without START-DATE", r.ID), "one",
				draft+"4.4.5.1")
		}
		for _, d := range []string{"DURATION", "PLANNED-DURATION"} {
			if strings.HasPrefix(r.Attributes[d], "-") {
				i.finding(Breaks, "daterange-duration", s.Name, fmt.Sprintf("date range %q with %s=%s", r.ID, d,
					r.Attributes[d]), "none below 0", draft+"4.4.5.1")
			}
		}
		if was := s.dates[r.ID]; was != "" && r.Attributes["START-DATE"] != "" && was != r.Attributes["START-DATE"] {
			i.finding(Breaks, "daterange-changed", s.Name, fmt.Sprintf("date range %q moved from %s to %s", r.ID, was,
				r.Attributes["START-DATE"]), "the same start", draft+"4.4.5.1")
		}
		if len(s.dates) < maxSamples && r.Attributes["START-DATE"] != "" {
			s.dates[r.ID] = r.Attributes["START-DATE"]
		}
	}
}

// reload judges a playlist against the one before (draft, 6.2.1 and 6.2.2).
func (i *Inspector) reload(s *stream, p *hls.Playlist, at time.Time, same bool) {
	old := s.last
	if p.TargetDuration != old.TargetDuration {
		i.finding(Breaks, "target-changed", s.Name, fmt.Sprintf("%v, before %v", p.TargetDuration, old.TargetDuration),
			"one that never changes", draft+"4.4.3.1")
	}
	if p.Type != old.Type {
		i.finding(Breaks, "type-changed", s.Name, fmt.Sprintf("%q, before %q", p.Type, old.Type), "one that never changes",
			draft+"4.4.3.5")
	}
	if p.MediaSequence < old.MediaSequence {
		i.finding(Breaks, "sequence-back", s.Name, fmt.Sprintf("media sequence number %d, before %d", p.MediaSequence,
			old.MediaSequence), "one that does not fall", draft+"4.4.3.2")
		return
	}
	if p.DiscontinuitySequence < old.DiscontinuitySequence {
		i.finding(Breaks, "discontinuity-back", s.Name, fmt.Sprintf("discontinuity sequence number %d, before %d",
			p.DiscontinuitySequence, old.DiscontinuitySequence), "one that does not fall", draft+"4.4.3.3")
	}
	if old.Ended && !same {
		i.finding(Breaks, "changed-after-end", s.Name, "a playlist that changed behind EXT-X-ENDLIST", "none",
			draft+"4.4.3.4")
	}
	gone := uint64(0)
	for n := range old.Entries {
		if e := &old.Entries[n]; e.MSN < p.MediaSequence && e.Discontinuity {
			gone++
		}
	}
	if want := old.DiscontinuitySequence + gone; p.MediaSequence <= old.MediaSequence+uint64(len(old.Entries)) &&
		p.DiscontinuitySequence != want {
		i.finding(Breaks, "discontinuity-sequence", s.Name,
			fmt.Sprintf("discontinuity sequence number %d after %d discontinuities left a playlist of %d",
				p.DiscontinuitySequence, gone, old.DiscontinuitySequence), fmt.Sprint(want), draft+"6.2.2")
	}
	i.compare(s, old, p)
	i.hinted(s, old, p)
	newest := func(p *hls.Playlist) uint64 { return p.MediaSequence + uint64(len(p.Entries)) }
	if newest(p) < newest(old) && !(len(old.Entries) > 0 && old.Entries[len(old.Entries)-1].Open) {
		i.finding(Breaks, "end-removed", s.Name, fmt.Sprintf("the newest segment is %d, before %d", newest(p)-1,
			newest(old)-1), "segments that are added at the end", draft+"6.2.1")
	}
	if same && !p.Ended && at.Sub(s.changed) > 3*p.TargetDuration/2+500*time.Millisecond {
		i.finding(Breaks, "stale", s.Name, fmt.Sprintf("no change for %v", at.Sub(s.changed).Round(100*time.Millisecond)),
			fmt.Sprintf("a new segment within 1.5 target durations, %v", 3*p.TargetDuration/2), draft+"6.2.1")
	}
}

// hinted holds the first part that is new against the hint at it.
func (i *Inspector) hinted(s *stream, old, p *hls.Playlist) {
	var hint hls.Hint
	for _, h := range old.Hints {
		if h.Type == "PART" {
			hint = h
		}
	}
	if hint.URI == "" || len(old.Entries) == 0 {
		return
	}
	last := &old.Entries[len(old.Entries)-1]
	msn, part := last.MSN+1, 0
	if last.Open {
		msn, part = last.MSN, len(last.Parts)
	}
	for n := range p.Entries {
		e := &p.Entries[n]
		if e.MSN < msn || e.MSN == msn && len(e.Parts) <= part {
			continue
		}
		k := 0
		if e.MSN == msn {
			k = part
		}
		if k >= len(e.Parts) {
			return
		}
		if next := &e.Parts[k]; next.URI != hint.URI || max(next.Offset, 0) != hint.Offset {
			i.finding(Risk, "hint-wrong", s.Name, fmt.Sprintf("the hint was at %q from byte %d on, the next part is %q from %d on", hint.URI, hint.Offset, next.URI, max(next.Offset, 0)), "the part that comes next", draft+"4.4.5.3")
		}
		return
	}
}

// compare holds segments and parts that both playlists show against one another.
func (i *Inspector) compare(s *stream, old, p *hls.Playlist) {
	for n := range old.Entries {
		was := &old.Entries[n]
		if was.MSN < p.MediaSequence || was.MSN-p.MediaSequence >= uint64(len(p.Entries)) {
			continue
		}
		is := &p.Entries[was.MSN-p.MediaSequence]
		if !was.Open && is.Open {
			i.finding(Breaks, "end-removed", s.Name, fmt.Sprintf("segment %d was whole and is not any more", was.MSN),
				"segments that are added at the end", draft+"6.2.1")
			continue
		}
		if !was.Open && (is.URI != was.URI || (is.Duration-was.Duration).Abs() > time.Millisecond) {
			i.finding(Breaks, "segment-changed", s.Name, fmt.Sprintf("segment %d is %q of %v, before %q of %v", was.MSN,
				is.URI, is.Duration, was.URI, was.Duration), "the same segment under the same number", draft+"6.2.1")
		}
		if is.Discontinuity != was.Discontinuity && n > 0 {
			i.finding(Breaks, "discontinuity-changed", s.Name, fmt.Sprintf("the discontinuity at segment %d came or went",
				was.MSN), "one that stays", draft+"6.2.1")
		}
		if !is.DateTime.IsZero() && !was.DateTime.IsZero() && is.DateTime.Sub(was.DateTime).Abs() > tolerance {
			i.finding(Breaks, "date-time-changed", s.Name, fmt.Sprintf("segment %d moved by %v on the wall clock", was.MSN,
				is.DateTime.Sub(was.DateTime)), "the same time", draft+"6.2.1")
		}
		for k := range min(len(was.Parts), len(is.Parts)) {
			if was.Parts[k].URI != is.Parts[k].URI || was.Parts[k].Duration != is.Parts[k].Duration {
				i.finding(Breaks, "part-changed", s.Name, fmt.Sprintf("part %d of segment %d is %q, before %q", k, was.MSN,
					is.Parts[k].URI, was.Parts[k].URI), "the same part", draft+"6.2.1")
			}
		}
		if was.Open && len(is.Parts) > 0 && len(is.Parts) < len(was.Parts) {
			i.finding(Breaks, "part-removed", s.Name, fmt.Sprintf("segment %d has %d parts, before %d", was.MSN,
				len(is.Parts), len(was.Parts)), "parts that are added at the end", draft+"6.2.1")
		}
	}
}

// times notes where segments lie, for the comparison of renditions, and how late the end is.
func (i *Inspector) times(s *stream, p *hls.Playlist, at time.Time) {
	var clock time.Time
	for n := range p.Entries {
		e := &p.Entries[n]
		if !e.DateTime.IsZero() {
			clock = e.DateTime
		} else if e.Discontinuity {
			clock = time.Time{}
		}
		if len(s.lengths) < maxSamples && !e.Open {
			s.lengths[e.MSN], s.broken[e.MSN] = e.Duration.Microseconds(), e.Discontinuity
			if !clock.IsZero() {
				s.walls[e.MSN] = clock.UnixMicro()
			}
		}
		if !clock.IsZero() {
			length := e.Duration
			if e.Open {
				for _, part := range e.Parts {
					length += part.Duration
				}
			}
			clock = clock.Add(length)
		}
	}
	if !clock.IsZero() && !p.Ended && len(s.edges) < maxSamples {
		s.edges = append(s.edges, at.Sub(clock).Milliseconds())
	}
}

// Aligned judges the renditions against one another. It is called when playlists of all of them
// were loaded at about the same time.
func (i *Inspector) Aligned() {
	var lead *stream
	for _, name := range i.order {
		s := i.streams[name]
		if s.last == nil || s.last.KeysOnly {
			continue
		}
		if lead == nil {
			lead = s
			continue
		}
		if s.last.TargetDuration != lead.last.TargetDuration {
			i.finding(Breaks, "target-differs", s.Name, fmt.Sprintf("a target duration of %v, %s has %v",
				s.last.TargetDuration, lead.Name, lead.last.TargetDuration), "one for all renditions", draft+"6.2.4")
		}
		if s.last.DiscontinuitySequence != lead.last.DiscontinuitySequence &&
			s.last.MediaSequence == lead.last.MediaSequence {
			i.finding(Breaks, "discontinuity-differs", s.Name, fmt.Sprintf("discontinuity sequence number %d, %s has %d",
				s.last.DiscontinuitySequence, lead.Name, lead.last.DiscontinuitySequence), "the same", draft+"6.2.4")
		}
		if d := s.loaded.Sub(lead.loaded).Abs(); d < lead.last.TargetDuration/2 && !s.last.Ended {
			a, b := newestOf(s.last), newestOf(lead.last)
			if a > b+2 || b > a+2 {
				i.finding(Risk, "edge-differs", s.Name, fmt.Sprintf("the newest segment is %d, that of %s %d", a, lead.Name,
					b), "the same within one segment", draft+"6.2.4")
			}
		}
	}
}

func newestOf(p *hls.Playlist) uint64 { return p.MediaSequence + uint64(len(p.Entries)) }

// Nonsense books a server that did not refuse a directive without sense.
func (i *Inspector) Nonsense(name string, err error) {
	found := "an answer"
	if err != nil {
		found = err.Error()
	}
	i.finding(Breaks, "directive", name, found+" to _HLS_part without _HLS_msn", "status 400", draft+"6.2.5.2")
}
