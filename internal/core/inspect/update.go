package inspect

import (
	"fmt"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
)

// edge notes how late the end of a timeline is.
func (i *Inspector) edge(name string, m *dash.MPD, p *dash.Period, t *dash.SegmentTemplate, end int64, at time.Time) {
	s := i.stream(name)
	if m.Type != "dynamic" || m.AvailabilityStartTime == nil || p.Duration != nil || len(s.edges) >= maxSamples {
		return
	}
	wall := m.AvailabilityStartTime.Add(p.Start.D()).Add(time.Duration(media.Rescale(end-t.Offset, max(t.Timescale, 1),
		int64(time.Second))))
	s.edges = append(s.edges, at.Sub(wall).Milliseconds())
}

// update judges a manifest against the one before (5.4).
func (i *Inspector) update(m *dash.MPD, at time.Time, same bool) {
	old := i.mpd.last
	if old.PublishTime != nil && m.PublishTime != nil && m.PublishTime.Before(old.PublishTime.Time) {
		i.finding(Breaks, "publish-time-back", "", fmt.Sprintf("published at %s, before at %s",
			m.PublishTime.Format(time.RFC3339), old.PublishTime.Format(time.RFC3339)), "a time that does not fall", mpd+"5.4.1")
	}
	if old.AvailabilityStartTime != nil && m.AvailabilityStartTime != nil &&
		!m.AvailabilityStartTime.Equal(old.AvailabilityStartTime.Time) {
		i.finding(Breaks, "availability-start-changed", "", "another availabilityStartTime", "one that never changes",
			mpd+"5.4.1")
	}
	starts := map[string]time.Duration{}
	for n := range old.Periods {
		starts[old.Periods[n].ID] = old.Periods[n].Start.D()
	}
	for n := range m.Periods {
		p := &m.Periods[n]
		if was, ok := starts[p.ID]; ok && (p.Start.D()-was).Abs() > time.Millisecond {
			i.finding(Breaks, "period-moved", "", fmt.Sprintf("period %q at %v, before at %v", p.ID, p.Start.D(), was),
				"the same start", mpd+"5.4.1")
		}
	}
	if m.Periods[len(m.Periods)-1].Start.D() < old.Periods[len(old.Periods)-1].Start.D() {
		i.finding(Breaks, "period-removed", "", "the newest period is gone", "periods that are added at the end",
			mpd+"5.4.1")
	}
	i.sameTimes(old, m)
	every := m.MinimumUpdatePeriod.D()
	if m.Type == "dynamic" && same && every > 0 && listsTimes(m) &&
		at.Sub(i.mpd.changed) > 2*every+m.MaxSegmentDuration.D()+500*time.Millisecond {
		i.finding(Breaks, "stale", "", fmt.Sprintf("no change for %v", at.Sub(i.mpd.changed).Round(100*time.Millisecond)),
			fmt.Sprintf("news within the update period of %v", every), mpd+"5.4.1")
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
				i.finding(Breaks, "timeline-changed", "", fmt.Sprintf("segment %d at %d, before at %d", number, at, was),
					"the same time under the same number", mpd+"5.4.1")
				return
			}
		}
	}
}

// Clock judges the time that a manifest's clock tells against this machine's.
func (i *Inspector) Clock(told, here time.Time) {
	if d := told.Sub(here); d.Abs() > 500*time.Millisecond {
		i.finding(Risk, "clock", "", fmt.Sprintf("the stream's clock is %v beside this machine's",
			d.Round(time.Millisecond)), "the same time, within half a second", "DASH-IF IOP live, 4.7")
	}
}

// Late books a segment that was not there when its manifest said so.
func (i *Inspector) Late(name string, number uint64, status int) {
	i.finding(Breaks, "segment-late", name, fmt.Sprintf("segment %d answered with %d though it should be available", number,
		status), "the segment, from the begin of its availability", mpd+"5.3.9.5.3")
}
