package operations

import (
	"slices"
	"sync"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
)

// An hour of what a channel did is kept, so that a page that is opened shows it at once.
const (
	sampleEvery = 5 * time.Second
	sampleSpan  = time.Hour
	//limit:samples for charts | each channel | the oldest are forgotten
	keptSamples = int(sampleSpan / sampleEvery)
)

// samples are the newest measurements of each channel, the oldest first.
type samples struct {
	mu sync.Mutex
	by map[string]*api.History
	// The packets that were lost so far, by channel: what is kept is what was lost since.
	lost map[string]int64
}

// arrival keeps what is measured of the feed on air, each list as long as the others.
func (s *samples) arrival(of map[string][]int64, st *status.Status, length int) map[string][]int64 {
	now := map[string]int64{}
	if f := st.Feed; f != nil {
		now["gap"], now["keyframes"], now["apart"] = f.GapMillis, f.KeyMillis, f.ApartMillis
	}
	lost, measured := int64(0), false
	for _, in := range st.Inputs {
		if l := in.Line; in.OnAir && l != nil {
			if l.RTP != nil {
				now["jitter"], lost, measured = l.RTP.Jitter, l.RTP.Lost, true
			}
			if l.SRT != nil {
				now["rtt"], lost, measured = l.SRT.RTT, l.SRT.Lost, true
			}
			if l.TS != nil {
				now["jitter"] = l.TS.Jitter
				if !measured {
					lost, measured = l.TS.Continuity, true
				}
			}
		}
	}
	if s.lost == nil {
		s.lost = map[string]int64{}
	}
	if measured {
		now["lost"] = max(0, lost-s.lost[st.Slug])
	}
	s.lost[st.Slug] = lost
	next := map[string][]int64{}
	for name, list := range of {
		next[name] = appendBounded(list, now[name])
	}
	for name, v := range now {
		if of[name] == nil {
			next[name] = append(make([]int64, max(0, length-1)), v)
		}
	}
	return next
}

// record measures channels.
func (s *samples) record(now time.Time, all []status.Status, minutes *minutes) (over []records.Statistic) {
	s.mu.Lock()
	defer s.mu.Unlock()
	next := make(map[string]*api.History, len(s.by))
	for _, st := range all {
		h := s.by[st.Slug]
		if h == nil {
			h = &api.History{EveryMillis: sampleEvery.Milliseconds()}
		}
		var bitrate, load int64
		if st.Feed != nil {
			bitrate = st.Feed.Bitrate
		}
		if st.Worker != nil {
			load = st.Worker.Load
		}
		viewers := int64(0)
		for _, n := range st.Viewers {
			viewers += int64(n)
		}
		over = append(over, minutes.add(now, st.Slug, st.Feed != nil, bitrate, load, viewers)...)
		h.Until = now.UnixMilli()
		h.Bitrate, h.Load, h.Viewers = appendBounded(h.Bitrate, bitrate), appendBounded(h.Load, load), appendBounded(h.Viewers, viewers)
		h.Quality = keepQuality(h.Quality, st.Renditions)
		h.Arrival = s.arrival(h.Arrival, &st, len(h.Bitrate))
		next[st.Slug] = h
	}
	s.by = next
	return over
}

// of is the last hour of a channel.
func (s *samples) of(slug string) api.History {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := api.History{EveryMillis: sampleEvery.Milliseconds(), Bitrate: []int64{}, Load: []int64{}, Viewers: []int64{}, Quality: map[string][]int64{}, Arrival: map[string][]int64{}}
	if h := s.by[slug]; h != nil {
		out.Until = h.Until
		out.Bitrate, out.Load, out.Viewers = append(out.Bitrate, h.Bitrate...), append(out.Load, h.Load...), append(out.Viewers, h.Viewers...)
		for name, list := range h.Quality {
			out.Quality[name] = slices.Clone(list)
		}
		for name, list := range h.Arrival {
			out.Arrival[name] = slices.Clone(list)
		}
	}
	return out
}

func appendBounded(list []int64, v int64) []int64 {
	list = append(list, v)
	if n := len(list); n > keptSamples {
		list = append(list[:0], list[n-keptSamples:]...)
	}
	return list
}

// keepQuality adds the newest samples of quality. Renditions that are gone are forgotten.
func keepQuality(of map[string][]int64, list []status.RenditionStatus) map[string][]int64 {
	next := map[string][]int64{}
	for _, r := range list {
		if r.PSNR > 0 || of[r.Name] != nil && !r.Retired {
			next[r.Name] = appendBounded(of[r.Name], r.PSNR)
		}
	}
	return next
}
