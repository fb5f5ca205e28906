package inspect

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
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
	Resource         // relative to the manifest
	Header    Resource
	Index     bool  // it is the index of a file: Index tells the segments from its bytes
	Start     int64 // ticks of Timescale, on the media's own time line
	Duration  time.Duration
	Timescale int64
	Available time.Time // the begin of its availability; zero for static manifests
	New       bool      // the first of its period
}

// Resource is what one request fetches.
type Resource struct {
	URI    string
	Offset int64 // of a byte range; -1 without one
	Length int64
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
		switch t := templateOf(p, set, r); {
		case t.Media != "":
			i.template(m, r, t)
		case told(r.List, set.List, p.List) == nil && told(r.Base, set.Base, p.Base) == nil && len(r.BaseURL) == 0:
			i.finding(Breaks, "template-media", r.ID, "no address of segments", "SegmentTemplate@media, a SegmentList, or a file of its own", mpd+"5.3.9")
			continue
		}
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

// stretch returns when a period begins and how long it lasts, 0 while that is open (5.3.2.1).
func stretch(m *dash.MPD, n int) (begin, length time.Duration) {
	for k := range m.Periods[:n+1] {
		p := &m.Periods[k]
		if begin += length; p.Start != nil {
			begin = p.Start.D()
		}
		switch length = p.Duration.D(); {
		case length > 0:
		case k+1 < len(m.Periods) && m.Periods[k+1].Start != nil:
			length = m.Periods[k+1].Start.D() - begin
		case k+1 == len(m.Periods) && m.Duration != nil:
			length = m.Duration.D() - begin
		}
	}
	return begin, length
}

// lister lists the segments of one representation.
type lister struct {
	m             *dash.MPD
	p             *dash.Period
	set           *dash.AdaptationSet
	r             *dash.Representation
	begin, length time.Duration // of the period
	at            time.Time
	out           []Entry
}

// entries lists a set's segments: those that are told one by one, or whose numbers are available now.
func (i *Inspector) entries(m *dash.MPD, n int, set *dash.AdaptationSet, at time.Time) (out []Entry) {
	p := &m.Periods[n]
	begin, length := stretch(m, n)
	for k := range set.Representations {
		l := lister{m: m, p: p, set: set, r: &set.Representations[k], begin: begin, length: length, at: at}
		t := templateOf(p, set, l.r)
		list, base := told(l.r.List, set.List, p.List), told(l.r.Base, set.Base, p.Base)
		var err error
		switch {
		case t.Media != "" && t.Timeline != nil:
			i.edge(l.r.ID, m, p, t, l.timeline(t), at)
		case t.Media != "":
			l.counted(t)
		case list != nil:
			err = l.listed(list)
		case base != nil && base.IndexRange != "":
			err = l.indexed(base)
		}
		if err != nil {
			i.finding(Breaks, "byte-range", l.r.ID, err.Error(), "first and last byte", mpd+"5.3.9.2")
		}
		out = append(out, l.out...)
	}
	return out
}

func ticks(v, scale int64) time.Duration {
	return time.Duration(media.Rescale(v, scale, int64(time.Second)))
}

// add appends the segment that a template makes.
func (l *lister) add(t *dash.SegmentTemplate, number uint64, start, d int64, first bool) {
	if t.EndNumber != nil && number > *t.EndNumber || len(l.out) > maxEntries {
		return
	}
	scale := max(t.Timescale, 1)
	e := Entry{Number: number, Name: l.r.ID, Start: start, Duration: ticks(d, scale), Timescale: scale, New: first}
	e.Resource = Resource{URI: l.resolve(expand(t.Media, l.r, number, start)), Offset: -1}
	if t.Header != "" {
		e.Header = Resource{URI: l.resolve(expand(t.Header, l.r, 0, 0)), Offset: -1}
	}
	if l.m.AvailabilityStartTime != nil && l.m.Type == "dynamic" {
		e.Available = l.m.AvailabilityStartTime.Add(l.begin).Add(ticks(start+d-t.Offset, scale)).Add(-time.Duration(t.TimeOffset * float64(time.Second)))
	}
	l.out = append(l.out, e)
}

func startNumber(n *uint64) uint64 {
	if n == nil {
		return 1
	}
	return *n
}

// passed is how much of the period there is by now.
func (l *lister) passed() time.Duration {
	passed := l.length
	if l.m.Type == "dynamic" && l.m.AvailabilityStartTime != nil {
		if now := l.at.Sub(l.m.AvailabilityStartTime.Time) - l.begin; passed == 0 || now < passed {
			passed = now
		}
	}
	return passed
}

// timeline lists the segments of a SegmentTimeline and returns where it ends.
func (l *lister) timeline(t *dash.SegmentTemplate) (next int64) {
	number, first := startNumber(t.StartNumber), true
	for n, s := range t.Timeline.S {
		if s.T != nil {
			next = *s.T
		}
		repeat := s.Repeat
		if repeat < 0 && s.D > 0 { // up to the next entry, or to the end (5.3.9.6)
			end := t.Offset + media.Rescale(int64(l.passed()), int64(time.Second), max(t.Timescale, 1))
			if n+1 < len(t.Timeline.S) && t.Timeline.S[n+1].T != nil {
				end = *t.Timeline.S[n+1].T
			}
			repeat = (end-next+s.D-1)/s.D - 1
		}
		for range min(max(repeat, 0), maxEntries) + 1 {
			if len(l.out) > maxEntries || s.D <= 0 {
				break
			}
			l.add(t, number, next, s.D, first)
			number, next, first = number+1, next+s.D, false
		}
	}
	return next
}

// counted lists numbers: the newest whose segment is available and those of the window before it,
// or all of a period that is over.
func (l *lister) counted(t *dash.SegmentTemplate) {
	scale := max(t.Timescale, 1)
	step := ticks(t.Duration, scale)
	if step <= 0 {
		return
	}
	passed := l.passed()
	if l.m.Type != "dynamic" {
		passed += step - 1 // the last may be shorter
	} else if passed += time.Duration(t.TimeOffset * float64(time.Second)); l.length > 0 {
		passed = min(passed, l.length)
	}
	newest := int64(passed/step) - 1
	oldest := int64(0)
	if l.m.Type == "dynamic" {
		oldest = max(0, newest-min(int64(l.m.TimeShiftBufferDepth.D()/step)+1, 100))
	}
	for k := oldest; k <= min(newest, oldest+maxEntries); k++ {
		l.add(t, startNumber(t.StartNumber)+uint64(k), t.Offset+k*t.Duration, t.Duration, k == 0)
	}
	if n := len(l.out); n > 0 && l.length > 0 {
		e := &l.out[n-1]
		e.Duration = min(e.Duration, l.length-ticks(e.Start-t.Offset, scale))
	}
}

// resource resolves an address and a range that stand in a manifest.
func (l *lister) resource(uri, bytes string) (Resource, error) {
	offset, length, err := dash.ByteRange(bytes)
	return Resource{l.resolve(uri), offset, length}, err
}

// header is where an Initialization element tells.
func (l *lister) header(h *dash.Initialization) (Resource, error) {
	if h == nil {
		return Resource{}, nil
	}
	return l.resource(h.SourceURL, h.Range)
}

// listed lists the segments of a SegmentList. What lasts differently than the others is not told.
func (l *lister) listed(list *dash.SegmentList) error {
	header, err := l.header(list.Header)
	if err != nil {
		return err
	}
	scale := max(list.Timescale, 1)
	for n, u := range list.URLs[:min(len(list.URLs), maxEntries)] {
		e := Entry{Number: startNumber(list.StartNumber) + uint64(n), Name: l.r.ID, Header: header, Start: -1, Timescale: scale, New: n == 0}
		if list.Timeline == nil && n+1 < len(list.URLs) {
			e.Start, e.Duration = list.Offset+int64(n)*list.Duration, ticks(list.Duration, scale)
		}
		if e.Resource, err = l.resource(u.Media, u.Range); err != nil {
			return err
		}
		l.out = append(l.out, e)
	}
	return nil
}

// indexed names the index of a file.
func (l *lister) indexed(base *dash.SegmentBase) error {
	e := Entry{Name: l.r.ID, Index: true, New: true}
	var err error
	if e.Resource, err = l.resource("", base.IndexRange); err != nil {
		return err
	}
	if e.Header, err = l.header(base.Header); err != nil || base.Header != nil {
		l.out = append(l.out, e)
		return err
	}
	e.Header = Resource{e.URI, 0, e.Offset} // all before the index
	l.out = append(l.out, e)
	return nil
}

// Index lists the segments that an index tells of (ISO/IEC 14496-12, 8.16.3).
func (i *Inspector) Index(e Entry, body []byte) (out []Entry) {
	x, taken, err := bmff.ReadIndex(body)
	if err != nil {
		i.finding(Breaks, "index-unreadable", e.Name, err.Error(), "a segment index", isobmff+"8.16.3")
		return nil
	}
	start := x.Earliest
	for n, p := range x.Pieces {
		out = append(out, Entry{
			Number: uint64(n + 1), Name: e.Name, Header: e.Header, Resource: Resource{e.URI, e.Offset + taken + p.Offset, p.Size},
			Start: start, Duration: ticks(p.Duration, x.Timescale), Timescale: x.Timescale, New: n == 0,
		})
		start += p.Duration
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

// resolve puts an address behind those of representation, set, period and manifest (5.6.4).
func (l *lister) resolve(uri string) string {
	for _, b := range [][]string{l.r.BaseURL, l.set.BaseURL, l.p.BaseURL, l.m.BaseURL} {
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
