package publish

import (
	"sort"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/present"
)

// TimelineRow is the window of one rendition, for a picture of it. Times are milliseconds since
// 1970 on the channel's wall clock.
type TimelineRow struct {
	Rendition string            `json:"rendition"`
	Kind      string            `json:"kind"`
	Segments  []TimelineSegment `json:"segments"`
}

// TimelineSegment is one segment with its parts.
type TimelineSegment struct {
	MSN           uint64  `json:"msn"`
	Start         int64   `json:"start"`
	Duration      int64   `json:"duration"` // milliseconds; of the parts so far while open
	Open          bool    `json:"open,omitempty"`
	Gap           bool    `json:"gap,omitempty"`
	Discontinuity bool    `json:"discontinuity,omitempty"`
	Bytes         int64   `json:"bytes"`
	Parts         []int64 `json:"parts"` // durations in milliseconds
}

// Timeline returns the window of every rendition that is on, as it is now. It may be called without the channel's lock.
func (p *Publisher) Timeline(epoch time.Time) []TimelineRow {
	out := []TimelineRow{}
	for name, r := range *p.renditions.Load() {
		v := r.View()
		if v == nil || v.Retired {
			continue
		}
		track, known := v.Track()
		if !known {
			continue
		}
		row := TimelineRow{Rendition: name, Kind: track.Kind.String()}
		for _, s := range v.Snapshot.Advertised() {
			start := media.WallClock(epoch, s.Start)
			t := TimelineSegment{MSN: s.MSN, Start: start.UnixMilli(), Duration: present.Ticks(s.Duration).Milliseconds(),
				Open: s.Open, Gap: s.Gap, Discontinuity: s.Discontinuity, Bytes: s.Size, Parts: []int64{}}
			for _, part := range s.Parts {
				t.Parts = append(t.Parts, media.RescaleDown(part.Duration, media.VideoTimescale, 1000))
			}
			row.Segments = append(row.Segments, t)
		}
		out = append(out, row)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Kind != out[j].Kind {
			return out[i].Kind > out[j].Kind
		}
		return out[i].Rendition < out[j].Rendition
	})
	return out
}
