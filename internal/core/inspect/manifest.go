package inspect

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
)

const mpd = "ISO/IEC 23009-1, "

// mpdState is what the manifest before was.
type mpdState struct {
	last    *dash.MPD
	loaded  time.Time
	changed time.Time
	body    string
}

// Entry is a segment that a manifest tells of, or that follows from its numbers.
type Entry struct {
	Number    uint64
	Name      string // of the representation
	URI       string // relative to the manifest
	Header    string
	Start     int64 // ticks of Timescale, on the media's own time line
	Duration  time.Duration
	Timescale int64
	Available time.Time // the begin of its availability; zero for static manifests
	New       bool      // the first of its period
}

// Manifest judges an MPD that came at a time, and lists the segments that it offers then.
func (i *Inspector) Manifest(body []byte, at time.Time) (*dash.MPD, []Entry, error) {
	i.dash = true
	m := &dash.MPD{}
	if err := m.Unmarshal(body); err != nil {
		i.finding(Breaks, "mpd-unreadable", "", err.Error(), "an MPD", mpd+"5.3.1")
		return nil, nil, err
	}
	i.live = i.live || m.Type == "dynamic"
	i.attributes(m)
	i.periods(m)
	var out []Entry
	for n := range m.Periods {
		p := &m.Periods[n]
		for k := range p.Sets {
			i.set(m, p, &p.Sets[k])
			out = append(out, i.entries(m, p, &p.Sets[k], at)...)
		}
	}
	if i.mpd.last != nil {
		i.update(m, at, string(body) == i.mpd.body)
	}
	if string(body) != i.mpd.body {
		i.mpd.changed = at
	}
	i.mpd.last, i.mpd.loaded, i.mpd.body = m, at, string(body)
	return m, out, nil
}

func (i *Inspector) attributes(m *dash.MPD) {
	if m.Profiles == "" {
		i.finding(Breaks, "mpd-profiles", "", "no profiles", "at least one", mpd+"5.3.1.2")
	}
	if m.MinBufferTime == nil {
		i.finding(Breaks, "mpd-min-buffer", "", "no minBufferTime", "one", mpd+"5.3.1.2")
	}
	if m.Type != "dynamic" {
		if m.Duration == nil && m.Periods[len(m.Periods)-1].Duration == nil {
			i.finding(Breaks, "mpd-duration", "", "a static MPD without mediaPresentationDuration", "one", mpd+"5.3.1.2")
		}
		return
	}
	if m.AvailabilityStartTime == nil {
		i.finding(Breaks, "mpd-availability-start", "", "a dynamic MPD without availabilityStartTime", "one", mpd+"5.3.1.2")
	}
	if m.PublishTime == nil {
		i.finding(Breaks, "mpd-publish-time", "", "a dynamic MPD without publishTime", "one", mpd+"5.3.1.2")
	}
	if len(m.UTCTiming) == 0 {
		i.finding(Risk, "mpd-clock", "", "no UTCTiming", "a clock that players can ask", "DASH-IF IOP live, 4.7")
	}
	if m.ServiceDescription != nil && m.ServiceDescription.Latency != nil {
		l := m.ServiceDescription.Latency
		i.low = true
		if l.Min > 0 && l.Target < l.Min || l.Max > 0 && l.Target > l.Max {
			i.finding(Breaks, "mpd-latency", "", fmt.Sprintf("a latency target of %d ms between %d and %d", l.Target, l.Min, l.Max), "one within its bounds", mpd+"K.3.2")
		}
	}
}

func (i *Inspector) periods(m *dash.MPD) {
	ids := map[string]bool{}
	end := time.Duration(-1)
	for n := range m.Periods {
		p := &m.Periods[n]
		switch {
		case p.ID == "" && m.Type == "dynamic":
			i.finding(Breaks, "period-id", "", "a period without id", "one that stays, in a dynamic MPD", mpd+"5.3.2.2")
		case ids[p.ID] && p.ID != "":
			i.finding(Breaks, "period-twice", "", fmt.Sprintf("the period %q twice", p.ID), "an id of its own", mpd+"5.3.2.2")
		}
		ids[p.ID] = true
		if p.Start == nil {
			continue
		}
		if n > 0 && m.Periods[n-1].Start != nil && p.Start.D() <= m.Periods[n-1].Start.D() {
			i.finding(Breaks, "period-order", "", fmt.Sprintf("period %q at %v after one at %v", p.ID, p.Start.D(), m.Periods[n-1].Start.D()), "periods by their start", mpd+"5.3.2.1")
		}
		if end >= 0 && p.Start.D() < end-100*time.Millisecond {
			i.finding(Breaks, "period-overlap", "", fmt.Sprintf("period %q at %v before the end of the one before at %v", p.ID, p.Start.D(), end), "periods one behind the other", mpd+"5.3.2.1")
		}
		if end = -1; p.Duration != nil {
			end = p.Start.D() + p.Duration.D()
		}
	}
}

// templateOf merges a representation's template with that of its set (5.3.9.1).
func templateOf(set *dash.AdaptationSet, r *dash.Representation) *dash.SegmentTemplate {
	var t dash.SegmentTemplate
	if set.Template != nil {
		t = *set.Template
	}
	o := r.Template
	if o == nil {
		return &t
	}
	if o.Timescale != 0 {
		t.Timescale = o.Timescale
	}
	if o.Duration != 0 {
		t.Duration = o.Duration
	}
	if o.StartNumber != nil {
		t.StartNumber = o.StartNumber
	}
	if o.Offset != 0 {
		t.Offset = o.Offset
	}
	if o.TimeOffset != 0 {
		t.TimeOffset = o.TimeOffset
	}
	if o.Media != "" {
		t.Media = o.Media
	}
	if o.Header != "" {
		t.Header = o.Header
	}
	if o.Timeline != nil {
		t.Timeline = o.Timeline
	}
	return &t
}

// expand puts the identifiers into a template (5.3.9.4.4).
func expand(pattern string, r *dash.Representation, number uint64, at int64) string {
	parts := strings.Split(pattern, "$")
	for n := 1; n < len(parts); n += 2 {
		name, width, _ := strings.Cut(parts[n], "%")
		var v string
		switch name {
		case "":
			v = "$"
		case "RepresentationID":
			v = r.ID
		case "Number":
			v = strconv.FormatUint(number, 10)
		case "Time":
			v = strconv.FormatInt(at, 10)
		case "Bandwidth":
			v = strconv.FormatInt(r.Bandwidth, 10)
		}
		if digits, err := strconv.Atoi(strings.Trim(width, "0d")); err == nil && digits < 20 {
			v = strings.Repeat("0", max(0, digits-len(v))) + v
		}
		parts[n] = v
	}
	return strings.Join(parts, "")
}

func (i *Inspector) set(m *dash.MPD, p *dash.Period, set *dash.AdaptationSet) {
	ids := map[string]bool{}
	for n := range set.Representations {
		r := &set.Representations[n]
		if r.ID == "" || ids[r.ID] {
			i.finding(Breaks, "representation-id", r.ID, fmt.Sprintf("the representation id %q missing or twice", r.ID), "an id of its own", mpd+"5.3.5.2")
		}
		ids[r.ID] = true
		if r.Bandwidth <= 0 {
			i.finding(Breaks, "bandwidth-missing", r.ID, "no bandwidth", "bits a second", mpd+"5.3.5.2")
		}
		if r.Codecs == "" {
			i.finding(Risk, "codecs-missing", r.ID, "no codecs", "the format", mpd+"5.3.7.2")
		}
		if r.MimeType == "" && set.MimeType == "" {
			i.finding(Breaks, "mime-type", r.ID, "no mimeType", "one", mpd+"5.3.7.2")
		}
		t := templateOf(set, r)
		if t.Media == "" {
			i.finding(Breaks, "template-media", r.ID, "no address of segments", "SegmentTemplate@media", mpd+"5.3.9.4")
			continue
		}
		i.template(m, r, t)
		s := i.stream(r.ID)
		s.Announced, s.codecs = max(s.Announced, r.Bandwidth), r.Codecs
		s.Kind = strings.Split(or(set.ContentType, set.MimeType), "/")[0]
		if r.Width > 0 {
			s.announced = fmt.Sprintf("%dx%d", r.Width, r.Height)
		}
		switch {
		case m.ServiceDescription != nil && m.ServiceDescription.Latency != nil:
			s.Aim = int64(m.ServiceDescription.Latency.Target)
		case m.SuggestedDelay != nil:
			s.Aim = m.SuggestedDelay.D().Milliseconds()
		}
	}
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func (i *Inspector) template(m *dash.MPD, r *dash.Representation, t *dash.SegmentTemplate) {
	scale := max(t.Timescale, 1)
	if t.Timeline == nil && t.Duration <= 0 {
		i.finding(Breaks, "template-duration", r.ID, "neither SegmentTimeline nor duration", "one of them", mpd+"5.3.9.4")
		return
	}
	if !strings.Contains(t.Media, "$Number") && !strings.Contains(t.Media, "$Time") {
		i.finding(Breaks, "template-media", r.ID, fmt.Sprintf("the address %q", t.Media), "$Number$ or $Time$ in it", mpd+"5.3.9.4.4")
	}
	if t.TimeOffset > 0 {
		i.low = true
		if t.Duration > 0 && int64(t.TimeOffset*float64(scale)) > t.Duration {
			i.finding(Breaks, "time-offset", r.ID, fmt.Sprintf("segments that are available %.3f s early", t.TimeOffset), "no more than they last", mpd+"5.3.9.5.3")
		}
		if t.TimeComplete == nil || *t.TimeComplete {
			i.finding(Breaks, "time-complete", r.ID, "availabilityTimeOffset without availabilityTimeComplete=\"false\"", "both, for segments that are sent while they are made", mpd+"5.3.9.5.3")
		}
	}
	if t.Timeline == nil {
		return
	}
	var end int64 = -1
	for _, s := range t.Timeline.S {
		if s.D <= 0 {
			i.finding(Breaks, "timeline-duration", r.ID, fmt.Sprintf("a segment of duration %d", s.D), "one above 0", mpd+"5.3.9.6")
			return
		}
		if s.T != nil {
			if end >= 0 && *s.T < end {
				i.finding(Breaks, "timeline-overlap", r.ID, fmt.Sprintf("a segment at %d where the one before ends at %d", *s.T, end), "segments one behind the other", mpd+"5.3.9.6")
			} else if end >= 0 && *s.T > end+scale/100 {
				i.finding(Risk, "timeline-gap", r.ID, fmt.Sprintf("a hole of %d ms", (*s.T-end)*1000/scale), "none", mpd+"5.3.9.6")
			}
			end = *s.T
		}
		if end < 0 {
			end = 0
		}
		end += s.D * (min(max(s.Repeat, 0), 100_000) + 1)
		if most := m.MaxSegmentDuration.D(); most > 0 && time.Duration(s.D)*time.Second/time.Duration(scale) > most+most/10+tolerance {
			i.finding(Breaks, "max-segment", r.ID, fmt.Sprintf("a segment of %d ms", s.D*1000/scale), fmt.Sprintf("maxSegmentDuration, %v, at most", most), mpd+"5.3.1.2")
		}
	}
}

// maxEntries bounds what one set may list.
const maxEntries = 10_000

// entries lists a set's segments: those of a timeline, or the numbers that are available now.
func (i *Inspector) entries(m *dash.MPD, p *dash.Period, set *dash.AdaptationSet, at time.Time) (out []Entry) {
	for n := range set.Representations {
		r := &set.Representations[n]
		t := templateOf(set, r)
		if t.Media == "" {
			continue
		}
		scale := max(t.Timescale, 1)
		number := uint64(1)
		if t.StartNumber != nil {
			number = *t.StartNumber
		}
		ticks := func(v int64) time.Duration { return time.Duration(media.Rescale(v, scale, int64(time.Second))) }
		add := func(number uint64, start, d int64, first bool) {
			e := Entry{
				Number: number, Name: r.ID, URI: resolve(p, set, r, expand(t.Media, r, number, start)), Start: start, Duration: ticks(d), Timescale: scale, New: first,
			}
			if t.Header != "" {
				e.Header = resolve(p, set, r, expand(t.Header, r, 0, 0))
			}
			if m.AvailabilityStartTime != nil && m.Type == "dynamic" {
				e.Available = m.AvailabilityStartTime.Add(p.Start.D()).Add(ticks(start + d - t.Offset)).Add(-time.Duration(t.TimeOffset * float64(time.Second)))
			}
			out = append(out, e)
		}
		if t.Timeline != nil {
			var next int64
			first := true
			for _, s := range t.Timeline.S {
				if s.T != nil {
					next = *s.T
				}
				for range min(max(s.Repeat, 0), maxEntries) + 1 {
					if len(out) > maxEntries || s.D <= 0 {
						break
					}
					add(number, next, s.D, first)
					number, next, first = number+1, next+s.D, false
				}
			}
			i.edge(r.ID, m, p, t, next, at)
			continue
		}
		if ticks(t.Duration) <= 0 || m.AvailabilityStartTime == nil || p.Start == nil {
			continue
		}
		// The newest number whose segment is available, and those of the window before it.
		passed := at.Sub(m.AvailabilityStartTime.Time) - p.Start.D() + time.Duration(t.TimeOffset*float64(time.Second))
		if d := p.Duration.D(); d > 0 {
			passed = min(passed, d)
		}
		newest := int64(passed/ticks(t.Duration)) - 1
		depth := int64(m.TimeShiftBufferDepth.D()/ticks(t.Duration)) + 1
		for k := max(0, newest-min(depth, 100)); k <= newest; k++ {
			add(number+uint64(k), t.Offset+k*t.Duration, t.Duration, k == 0)
		}
	}
	return out
}

// edge notes how late the end of a timeline is.
func (i *Inspector) edge(name string, m *dash.MPD, p *dash.Period, t *dash.SegmentTemplate, end int64, at time.Time) {
	s := i.stream(name)
	if m.Type != "dynamic" || m.AvailabilityStartTime == nil || p.Duration != nil || len(s.edges) >= maxSamples {
		return
	}
	wall := m.AvailabilityStartTime.Add(p.Start.D()).Add(time.Duration(media.Rescale(end-t.Offset, max(t.Timescale, 1), int64(time.Second))))
	s.edges = append(s.edges, at.Sub(wall).Milliseconds())
}

func resolve(p *dash.Period, set *dash.AdaptationSet, r *dash.Representation, uri string) string {
	for _, b := range [][]string{r.BaseURL, set.BaseURL, p.BaseURL} {
		if len(b) > 0 {
			if base, err := url.Parse(strings.TrimSpace(b[0])); err == nil {
				if rel, err := base.Parse(uri); err == nil {
					uri = rel.String()
				}
			}
		}
	}
	return uri
}

// update judges a manifest against the one before (5.4).
func (i *Inspector) update(m *dash.MPD, at time.Time, same bool) {
	old := i.mpd.last
	if old.PublishTime != nil && m.PublishTime != nil && m.PublishTime.Before(old.PublishTime.Time) {
		i.finding(Breaks, "publish-time-back", "", fmt.Sprintf("published at %s, before at %s", m.PublishTime.Format(time.RFC3339), old.PublishTime.Format(time.RFC3339)), "a time that does not fall", mpd+"5.4.1")
	}
	if old.AvailabilityStartTime != nil && m.AvailabilityStartTime != nil && !m.AvailabilityStartTime.Equal(old.AvailabilityStartTime.Time) {
		i.finding(Breaks, "availability-start-changed", "", "another availabilityStartTime", "one that never changes", mpd+"5.4.1")
	}
	starts := map[string]time.Duration{}
	for n := range old.Periods {
		starts[old.Periods[n].ID] = old.Periods[n].Start.D()
	}
	for n := range m.Periods {
		p := &m.Periods[n]
		if was, ok := starts[p.ID]; ok && (p.Start.D()-was).Abs() > time.Millisecond {
			i.finding(Breaks, "period-moved", "", fmt.Sprintf("period %q at %v, before at %v", p.ID, p.Start.D(), was), "the same start", mpd+"5.4.1")
		}
	}
	if m.Periods[len(m.Periods)-1].Start.D() < old.Periods[len(old.Periods)-1].Start.D() {
		i.finding(Breaks, "period-removed", "", "the newest period is gone", "periods that are added at the end", mpd+"5.4.1")
	}
	i.sameTimes(old, m)
	every := m.MinimumUpdatePeriod.D()
	if m.Type == "dynamic" && same && every > 0 && listsTimes(m) && at.Sub(i.mpd.changed) > 2*every+m.MaxSegmentDuration.D()+500*time.Millisecond {
		i.finding(Breaks, "stale", "", fmt.Sprintf("no change for %v", at.Sub(i.mpd.changed).Round(100*time.Millisecond)), fmt.Sprintf("news within the update period of %v", every), mpd+"5.4.1")
	}
}

func listsTimes(m *dash.MPD) bool {
	for n := range m.Periods {
		for k := range m.Periods[n].Sets {
			if t := m.Periods[n].Sets[k].Template; t != nil && t.Timeline != nil {
				return true
			}
		}
	}
	return false
}

// sameTimes holds the numbers and times of two timelines against one another.
func (i *Inspector) sameTimes(old, m *dash.MPD) {
	type key struct {
		period string
		set    int
	}
	times := func(m *dash.MPD) map[key]map[uint64]int64 {
		out := map[key]map[uint64]int64{}
		for n := range m.Periods {
			for k := range m.Periods[n].Sets {
				t := m.Periods[n].Sets[k].Template
				if t == nil || t.Timeline == nil || t.StartNumber == nil {
					continue
				}
				list := map[uint64]int64{}
				number, next := *t.StartNumber, int64(0)
				for _, s := range t.Timeline.S {
					if s.T != nil {
						next = *s.T
					}
					for range min(max(s.Repeat, 0), maxEntries) + 1 {
						if len(list) > maxEntries {
							break
						}
						list[number] = next
						number, next = number+1, next+s.D
					}
				}
				out[key{m.Periods[n].ID, k}] = list
			}
		}
		return out
	}
	before := times(old)
	for k, list := range times(m) {
		for number, at := range list {
			if was, ok := before[k][number]; ok && was != at {
				i.finding(Breaks, "timeline-changed", "", fmt.Sprintf("segment %d at %d, before at %d", number, at, was), "the same time under the same number", mpd+"5.4.1")
				return
			}
		}
	}
}

// Clock judges the time that a manifest's clock tells against this machine's.
func (i *Inspector) Clock(told, here time.Time) {
	if d := told.Sub(here); d.Abs() > 500*time.Millisecond {
		i.finding(Risk, "clock", "", fmt.Sprintf("the stream's clock is %v beside this machine's", d.Round(time.Millisecond)), "the same time, within half a second", "DASH-IF IOP live, 4.7")
	}
}

// Late books a segment that was not there when its manifest said so.
func (i *Inspector) Late(name string, number uint64, status int) {
	i.finding(Breaks, "segment-late", name, fmt.Sprintf("segment %d answered with %d though it should be available", number, status), "the segment, from the begin of its availability", mpd+"5.3.9.5.3")
}
