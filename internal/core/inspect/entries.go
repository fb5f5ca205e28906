package inspect

import (
	"net/url"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
)

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
	Period    string    // dash.MPD.PeriodID
	Counted   bool      // its place follows from its number and an even length
}

// Resource is what one request fetches.
type Resource struct {
	URI    string
	Offset int64 // of a byte range; -1 without one
	Length int64
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

// maxEntries bounds what one set may list.
//
//limit:segments that one set may list | each manifest | it is refused
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
		if len(out) > 4*maxEntries {
			break // of more representations there is no need to hear
		}
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
		for j := range l.out {
			l.out[j].Period = m.PeriodID(n)
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
		e.Available = l.m.AvailabilityStartTime.Add(l.begin).Add(ticks(start+d-t.Offset,
			scale)).Add(-time.Duration(t.TimeOffset * float64(time.Second)))
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
	before := len(l.out)
	defer func() {
		for i := range l.out[before:] {
			l.out[before+i].Counted = true
		}
	}()
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
		e := Entry{Number: startNumber(list.StartNumber) + uint64(n), Name: l.r.ID, Header: header, Start: -1,
			Timescale: scale, New: n == 0}
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
			Number: uint64(n + 1), Name: e.Name, Header: e.Header, Resource: Resource{e.URI, e.Offset + taken + p.Offset,
				p.Size},
			Start: start, Duration: ticks(p.Duration, x.Timescale), Timescale: x.Timescale, New: n == 0,
		})
		start += p.Duration
	}
	return out
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
