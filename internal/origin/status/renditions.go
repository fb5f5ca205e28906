package status

import (
	"slices"
	"time"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/present"
)

// Rendition is a rendition that has or had segments.
type Rendition struct {
	Name     string
	View     *present.View
	Dropped  uint64        // access units without a place
	Ready    bool          // the sender makes it, and it is not encoded here
	Encoding time.Duration // how long a picture takes on average
}

// renditions fills in what is known of all renditions.
func (s *Snapshot) renditions(st *Status) {
	for i := range s.Renditions {
		r := &s.Renditions[i]
		st.Memory += r.View.Snapshot.Bytes
		for _, seg := range r.View.Snapshot.Held {
			st.Memory += seg.Made.Size()
		}
		if one, ok := s.rendition(r); ok {
			st.Renditions = append(st.Renditions, one)
		}
	}
	slices.SortFunc(st.Renditions, compare)
}

func (s *Snapshot) rendition(r *Rendition) (RenditionStatus, bool) {
	v := r.View
	t, known := v.Track()
	if !known {
		return RenditionStatus{}, false
	}
	out := RenditionStatus{
		Name: r.Name, Kind: t.Kind.String(), Codec: t.CodecName, Peak: v.Peak, Average: v.Average,
		Segments: len(v.Snapshot.Advertised()), First: v.Snapshot.Oldest().MSN, Last: v.Snapshot.Newest().MSN, Retired: v.Retired, FrameRate: t.FrameRate.Milli(),
		Lost: r.Dropped, Ready: r.Ready, CodingMillis: r.Encoding.Milliseconds(),
	}
	if t.Kind == media.Video {
		out.Width, out.Height = ladder.Display(&t)
	}
	out.Second = measured(v.Snapshot, media.VideoTimescale)
	if w := v.Snapshot.NewestWhole(); w != nil && !w.Gap && w.Duration > 0 {
		out.Segment = media.PerSecond(w.Size*8, w.Duration, media.VideoTimescale)
	}
	for _, q := range s.Load.Now.Quality {
		if q.Rendition == r.Name {
			out.PSNR, out.SSIM = q.PSNR, q.SSIM
		}
	}
	for _, rung := range s.Rungs {
		if rung = rung.WithDefaults(); rung.Name == r.Name && !rung.Source {
			out.Asked, out.AskedPeak = rung.Bitrate, rung.Peak
			out.Buffer = measured(v.Snapshot, media.Rescale(int64(rung.Buffer), 1000, media.VideoTimescale))
		} else if rung.AudioBitrate > 0 && rung.AudioName() == r.Name {
			out.Asked = rung.AudioBitrate
		}
	}
	return out, true
}

// measured returns the bitrate of the last media of a length in ticks of media.VideoTimescale, as far as parts tell.
func measured(s *segment.Snapshot, span int64) int64 {
	var bytes, long int64
	add := func(seg *segment.Segment) {
		for i := len(seg.Parts) - 1; i >= 0 && long < span; i-- {
			bytes, long = bytes+int64(len(seg.Parts[i].Bytes)), long+seg.Parts[i].Duration
		}
	}
	if s.Open != nil {
		add(s.Open)
	}
	for i := len(s.Held) - 1; i >= 0 && long < span && !s.Held[i].Gap; i-- {
		add(s.Held[i])
	}
	if long == 0 {
		return 0
	}
	return media.PerSecond(bytes*8, long, media.VideoTimescale)
}
