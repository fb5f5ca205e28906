package inspect

import (
	"fmt"
	"slices"
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

// Manifest judges an MPD that came at a time, and lists the segments that it offers then.
func (i *Inspector) Manifest(body []byte, at time.Time) (*dash.MPD, []Entry, error) {
	i.dash = true
	m := &dash.MPD{}
	if err := m.Unmarshal(body); err != nil {
		i.finding(Breaks, "mpd-unreadable", "", err.Error(), "an MPD", mpd+"5.3.1")
		return nil, nil, err
	}
	i.live = i.live || m.Type == "dynamic"
	for n := range m.Periods { // small pictures are no media: they have rules of their own
		p := &m.Periods[n]
		for k := range p.Sets {
			if isImage(&p.Sets[k]) {
				i.tiles(&p.Sets[k])
			}
		}
		p.Sets = slices.DeleteFunc(p.Sets, func(s dash.AdaptationSet) bool { return isImage(&s) })
	}
	i.attributes(m)
	i.periods(m)
	var out []Entry
	for n := range m.Periods {
		p := &m.Periods[n]
		for k := range p.Sets {
			i.set(m, p, &p.Sets[k])
			out = append(out, i.entries(m, n, &p.Sets[k], at)...)
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
			i.finding(Breaks, "mpd-latency", "", fmt.Sprintf("a latency target of %d ms between %d and %d", l.Target, l.Min,
				l.Max), "one within its bounds", mpd+"K.3.2")
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
			i.finding(Breaks, "period-twice", "", fmt.Sprintf("the period %q twice", p.ID), "an id of its own",
				mpd+"5.3.2.2")
		}
		ids[p.ID] = true
		if p.Start == nil {
			continue
		}
		if n > 0 && m.Periods[n-1].Start != nil && p.Start.D() <= m.Periods[n-1].Start.D() {
			i.finding(Breaks, "period-order", "", fmt.Sprintf("period %q at %v after one at %v", p.ID, p.Start.D(),
				m.Periods[n-1].Start.D()), "periods by their start", mpd+"5.3.2.1")
		}
		if end >= 0 && p.Start.D() < end-100*time.Millisecond {
			i.finding(Breaks, "period-overlap", "", fmt.Sprintf("period %q at %v before the end of the one before at %v",
				p.ID, p.Start.D(), end), "periods one behind the other", mpd+"5.3.2.1")
		}
		if end = -1; p.Duration != nil {
			end = p.Start.D() + p.Duration.D()
		}
	}
}

// templateOf merges the templates of period, set and representation (5.3.9.1).
func templateOf(p *dash.Period, set *dash.AdaptationSet, r *dash.Representation) *dash.SegmentTemplate {
	var t dash.SegmentTemplate
	for _, o := range []*dash.SegmentTemplate{p.Template, set.Template, r.Template} {
		if o == nil {
			continue
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
		if o.EndNumber != nil {
			t.EndNumber = o.EndNumber
		}
		if o.Offset != 0 {
			t.Offset = o.Offset
		}
		if o.TimeOffset != 0 {
			t.TimeOffset = o.TimeOffset
		}
		if o.TimeComplete != nil {
			t.TimeComplete = o.TimeComplete
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
	}
	return &t
}

// told returns the nearest of what representation, set and period tell, nil when none does.
func told[T any](r, set, p *T) *T {
	for _, v := range []*T{r, set} {
		if v != nil {
			return v
		}
	}
	return p
}

func (i *Inspector) set(m *dash.MPD, p *dash.Period, set *dash.AdaptationSet) {
	ids := map[string]bool{}
	for n := range set.Representations {
		r := &set.Representations[n]
		if r.ID == "" || ids[r.ID] {
			i.finding(Breaks, "representation-id", r.ID, fmt.Sprintf("the representation id %q missing or twice", r.ID),
				"an id of its own", mpd+"5.3.5.2")
		}
		ids[r.ID] = true
		if r.Bandwidth <= 0 {
			i.finding(Breaks, "bandwidth-missing", r.ID, "no bandwidth", "bits per second", mpd+"5.3.5.2")
		}
		if r.Codecs == "" {
			i.finding(Risk, "codecs-missing", r.ID, "no codecs", "the format", mpd+"5.3.7.2")
		}
		if r.MimeType == "" && set.MimeType == "" {
			i.finding(Breaks, "mime-type", r.ID, "no mimeType", "one", mpd+"5.3.7.2")
		}
		switch t := templateOf(p, set, r); {
		case t.Media != "":
			i.template(m, r, t)
		case told(r.List, set.List, p.List) == nil && told(r.Base, set.Base, p.Base) == nil && len(r.BaseURL) == 0:
			i.finding(Breaks, "template-media", r.ID, "no address of segments",
				"SegmentTemplate@media, a SegmentList, or a file of its own", mpd+"5.3.9")
			continue
		}
		s := i.stream(r.ID)
		s.Announced, s.codecs = max(s.Announced, r.Bandwidth), r.Codecs
		s.independent = set.StartWithSAP == 1 || set.StartWithSAP == 2
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

// isImage reports whether a set is of small pictures.
func isImage(s *dash.AdaptationSet) bool {
	return s.ContentType == "image" || strings.HasPrefix(s.MimeType, "image/")
}

const tileRule = "DASH-IF IOP, part 3, thumbnail tiles"

// tiles judges a set of small pictures, many in one.
func (i *Inspector) tiles(set *dash.AdaptationSet) {
	for n := range set.Representations {
		r := &set.Representations[n]
		columns, rows := 0, 0
		for _, e := range r.Essential {
			if strings.HasSuffix(e.Scheme, "/thumbnail_tile") {
				if _, err := fmt.Sscanf(e.Value, "%dx%d", &columns, &rows); err != nil {
					columns = 0
				}
			}
		}
		switch {
		case columns < 1 || rows < 1:
			i.finding(Breaks, "tile-layout", r.ID, "no columns and rows", "an EssentialProperty such as 5x5", tileRule)
		case r.Width == 0 || r.Height == 0 || r.Width%columns != 0 || r.Height%rows != 0:
			i.finding(Breaks, "tile-size", r.ID, fmt.Sprintf("pictures of %dx%d in %d columns and %d rows", r.Width, r.Height, columns, rows), "a multiple", tileRule)
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
		i.finding(Breaks, "template-media", r.ID, fmt.Sprintf("the address %q", t.Media), "$Number$ or $Time$ in it",
			mpd+"5.3.9.4.4")
	}
	if t.TimeOffset > 0 {
		i.low = true
		if t.Duration > 0 && int64(t.TimeOffset*float64(scale)) > t.Duration {
			i.finding(Breaks, "time-offset", r.ID, fmt.Sprintf("segments that are available %.3f s early", t.TimeOffset),
				"no more than they last", mpd+"5.3.9.5.3")
		}
		if t.TimeComplete == nil || *t.TimeComplete {
			i.finding(Breaks, "time-complete", r.ID, "availabilityTimeOffset without availabilityTimeComplete=\"false\"",
				"both, for segments that are sent while they are made", mpd+"5.3.9.5.3")
		}
	}
	if t.Timeline == nil {
		return
	}
	var end int64 = -1
	for _, s := range t.Timeline.S {
		if s.D <= 0 {
			i.finding(Breaks, "timeline-duration", r.ID, fmt.Sprintf("a segment of duration %d", s.D), "one above 0",
				mpd+"5.3.9.6")
			return
		}
		if s.T != nil {
			if end >= 0 && *s.T < end {
				i.finding(Breaks, "timeline-overlap", r.ID, fmt.Sprintf("a segment at %d where the one before ends at %d",
					*s.T, end), "segments one behind the other", mpd+"5.3.9.6")
			} else if end >= 0 && *s.T > end+scale/100 {
				i.finding(Risk, "timeline-gap", r.ID, fmt.Sprintf("a hole of %d ms", media.RescaleDown(*s.T-end, scale, 1000)), "none",
					mpd+"5.3.9.6")
			}
			end = *s.T
		}
		if end < 0 {
			end = 0
		}
		end += s.D * (min(max(s.Repeat, 0), 100_000) + 1)
		if most := m.MaxSegmentDuration.D(); most > 0 &&
			media.Duration(s.D, scale) > most+most/10+tolerance {
			i.finding(Breaks, "max-segment", r.ID, fmt.Sprintf("a segment of %d ms", media.RescaleDown(s.D, scale, 1000)),
				fmt.Sprintf("maxSegmentDuration, %v, at most", most), mpd+"5.3.1.2")
		}
	}
}
