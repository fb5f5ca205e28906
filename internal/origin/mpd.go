package origin

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"hash/fnv"
	"strings"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// accessibility signals captions in a manifest (ANSI/SCTE 214-1, 7.2).
func (c *Channel) accessibility() (out []dash.Descriptor) {
	var old, new []string
	for _, name := range c.captions {
		language := or(c.captionLanguage(name), "und")
		if number, ok := strings.CutPrefix(name, "SERVICE"); ok {
			new = append(new, number+"=lang:"+language)
		} else {
			old = append(old, name+"="+language)
		}
	}
	if old != nil {
		out = append(out, dash.Descriptor{Scheme: captions608, Value: strings.Join(old, ";")})
	}
	if new != nil {
		out = append(out, dash.Descriptor{Scheme: captions708, Value: strings.Join(new, ";")})
	}
	return out
}

// Times of the manifest.
const (
	// An encoder's and the network's share of the delay that players aim at.
	latencyShare = 300 * time.Millisecond
	clockName    = "urn:mpeg:dash:utc:http-iso:2014"
	id3Scheme    = "https://aomedia.org/emsg/ID3"
	spliceScheme = "urn:scte:scte35:2014:xml+bin"
	markerScheme = "urn:metaplasis:marker:2026"
	captions608  = "urn:scte:dash:cc:cea-608:2015"
	captions708  = "urn:scte:dash:cc:cea-708:2015"
	channelNames = "urn:mpeg:dash:23003:3:audio_channel_configuration:2011"
)

// manifest describes the window to DASH players. A numbered one counts segments of even length; low is
// the one for players that stay as near to the live edge as parts allow.
func (c *Channel) manifest(list []offer, numbered, low bool) *dash.MPD {
	step, part := ticks(c.settings.step()), ticks(c.partTarget)
	periods := c.periods
	if numbered {
		periods = c.counted
	}
	target := 2*part + latencyShare
	m := &dash.MPD{
		Profiles:              "urn:mpeg:dash:profile:isoff-live:2011,urn:mpeg:dash:profile:cmaf:2019",
		Type:                  "dynamic",
		AvailabilityStartTime: dash.NewDate(c.epoch), PublishTime: dash.NewDate(c.o.Now()),
		MinimumUpdatePeriod: dash.NewDuration(step), MinBufferTime: dash.NewDuration(step),
		TimeShiftBufferDepth: dash.NewDuration(step * time.Duration(c.settings.Window)),
		SuggestedDelay:       dash.NewDuration(3 * step), MaxSegmentDuration: dash.NewDuration(c.longest(list, step)),
		UTCTiming: []dash.Descriptor{{Scheme: clockName, Value: "/media/" + c.slug + "/time"}},
	}
	if low {
		// What the guidelines for low latency ask for (DASH-IF IOP part 4, low latency modes of DASH): players
		// that follow them find their place by themselves.
		m.Profiles += ",http://www.dashif.org/guidelines/low-latency-live-v5"
		m.SuggestedDelay, m.MinBufferTime = dash.NewDuration(target), dash.NewDuration(2*part)
		m.ServiceDescription = &dash.ServiceDescription{
			Latency: &dash.Latency{Target: int(target.Milliseconds()), Min: int(part.Milliseconds()),
				Max: int((3 * step).Milliseconds())},
			PlaybackRate: &dash.PlaybackRate{Min: 0.96, Max: 1.1},
		}
	}
	if c.settings.Closed && (c.session == nil || c.session.ended) {
		m.Type, m.MinimumUpdatePeriod, m.TimeShiftBufferDepth, m.SuggestedDelay, m.ServiceDescription, m.UTCTiming = "static", nil, nil, nil, nil, nil
		m.AvailabilityStartTime = nil
	}
	for i, p := range periods {
		out := dash.Period{ID: fmt.Sprintf("p%d", p.msn), Start: dash.NewDuration(ticks(p.start))}
		last := i == len(periods)-1
		if p.end > 0 {
			out.Duration = dash.NewDuration(ticks(p.end - p.start))
		}
		until := uint64(1<<64 - 1)
		if !last {
			until = periods[i+1].msn
		}
		d := describer{c: c, p: p, until: until, live: last && p.end == 0, numbered: numbered, low: low,
			step: ticks(p.length()), part: part}
		out.Sets = d.sets(list)
		out.Events = c.eventsOf(p)
		if len(out.Sets) > 0 {
			m.Periods = append(m.Periods, out)
		}
	}
	if n := len(m.Periods); m.Type == "static" && n > 0 {
		c.fixTimes(m)
	}
	return m
}

// fixTimes lets a finished presentation begin at 0.
func (c *Channel) fixTimes(m *dash.MPD) {
	first := m.Periods[0].Start.D()
	for i := range m.Periods {
		m.Periods[i].Start = dash.NewDuration(m.Periods[i].Start.D() - first)
	}
	last := &m.Periods[len(m.Periods)-1]
	m.Duration = dash.NewDuration(last.Start.D() + last.Duration.D())
}

func (c *Channel) longest(list []offer, step time.Duration) time.Duration {
	for _, o := range list {
		for _, v := range []*View{o.video, o.sound} {
			if v != nil {
				step = max(step, v.TargetDuration())
			}
		}
	}
	return step
}

// describer writes the adaptation sets of one period.
type describer struct {
	c        *Channel
	p        period
	until    uint64
	live     bool
	numbered bool
	low      bool
	step     time.Duration
	part     time.Duration
}

// set is an adaptation set with the views that its template describes.
type set struct {
	dash.AdaptationSet
	views []*View
}

func (d *describer) sets(list []offer) (out []dash.AdaptationSet) {
	role := func(name string) []dash.Descriptor {
		return []dash.Descriptor{{Scheme: "urn:mpeg:dash:role:2011", Value: name}}
	}
	video := &set{AdaptationSet: dash.AdaptationSet{ID: 1, ContentType: "video", MimeType: "video/mp4", Alignment: true,
		StartWithSAP: 1, Role: role("main")}}
	sound := &set{AdaptationSet: dash.AdaptationSet{ID: 2, ContentType: "audio", MimeType: "audio/mp4", Alignment: true,
		StartWithSAP: 1, Lang: d.c.settings.Language, Label: d.c.settings.SoundName, Role: role("main")}}
	video.Accessibility = d.c.accessibility()
	if d.c.titled { // events lie in the video, or in the sound where there is none
		events := []dash.Descriptor{{Scheme: id3Scheme, Value: ""}}
		if list[0].video != nil {
			video.Inband = events
		} else {
			sound.Inband = events
		}
	}
	seen := map[string]bool{}
	for i := range list {
		o := &list[i]
		if o.video != nil {
			if h := d.header(o.video); h != nil {
				video.Representations = append(video.Representations, d.video(o, h))
				video.views = append(video.views, o.video)
			}
		}
		if o.sound != nil && !seen[o.soundName] {
			seen[o.soundName] = true
			if h := d.header(o.sound); h != nil {
				sound.Lang, sound.Label = cmp.Or(h.Track.Language, sound.Lang), cmp.Or(h.Track.Name, sound.Label)
				sound.Representations = append(sound.Representations, d.sound(o.soundName, o.sound, h))
				sound.views = append(sound.views, o.sound)
			}
		}
	}
	all := []*set{video, sound}
	if len(sound.views) > 0 {
		for i := range d.c.alternates {
			a := &d.c.alternates[i]
			if h := d.header(a.view); h != nil {
				all = append(all, &set{AdaptationSet: dash.AdaptationSet{
					ID: 3 + i, ContentType: "audio", MimeType: "audio/mp4", Alignment: true, StartWithSAP: 1, Lang: a.track.Language, Label: soundTitle(&a.track, list[0].soundTrack.Codec),
					Role: role(string(cmp.Or(a.track.Role,
						media.RoleAlternate))), Representations: []dash.Representation{d.sound(a.name, a.view, h)},
				}, views: []*View{a.view}})
			}
		}
	}
	for _, s := range all {
		if len(s.views) == 0 {
			continue
		}
		if s.Template = d.template(s.views); s.Template == nil {
			continue
		}
		if d.live && d.low {
			s.Resync = &dash.Resync{DT: media.Rescale(d.c.partTarget, media.VideoTimescale, s.Template.Timescale)}
			s.Producer = &dash.Producer{
				Inband: true, Type: "encoder", WallClockTime: dash.NewDate(hls.WallClock(d.c.epoch,
					d.p.start)), PresentationTime: s.Template.Offset,
				UTCTiming: &dash.Descriptor{Scheme: clockName, Value: "/media/" + d.c.slug + "/time"},
			}
		}
		out = append(out, s.AdaptationSet)
	}
	return out
}

func or(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// within lists the period's segments that are whole, and with low latency the open one.
func (d *describer) within(v *View) (out []*segment.Segment) {
	list := v.whole()
	if d.low {
		list = v.list.Segments
	}
	for _, s := range list {
		if s.MSN >= d.p.msn && s.MSN < d.until && !s.Gap {
			out = append(out, s)
		}
	}
	return out
}

func (d *describer) header(v *View) *segment.Header {
	if list := d.within(v); len(list) > 0 {
		return list[len(list)-1].Header
	}
	return nil
}

func (d *describer) video(o *offer, h *segment.Header) dash.Representation {
	t := &h.Track
	r := dash.Representation{
		ID: o.name, Codecs: t.CodecName, Bandwidth: max(o.peak(), 1), Width: t.Width, Height: t.Height,
		Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Header: o.name + "/" + h.Name}},
	}
	if t.FrameRate.Valid() {
		f := t.FrameRate.Reduce()
		if r.FrameRate = fmt.Sprint(f.Num); f.Den != 1 {
			r.FrameRate = fmt.Sprintf("%d/%d", f.Num, f.Den)
		}
	}
	if t.SAR.Valid() {
		r.SAR = fmt.Sprintf("%d:%d", t.SAR.Num, t.SAR.Den)
	}
	return r
}

func (d *describer) sound(name string, v *View, h *segment.Header) dash.Representation {
	t := &h.Track
	return dash.Representation{
		ID: name, Codecs: t.CodecName, Bandwidth: max(v.Peak*11/10, 1), Sampling: t.SampleRate,
		Channels:   &dash.Descriptor{Scheme: channelNames, Value: fmt.Sprint(t.Channels)},
		Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Header: name + "/" + h.Name}},
	}
}

// template describes the segments that all renditions of a set have.
func (d *describer) template(views []*View) *dash.SegmentTemplate {
	list := d.within(views[0])
	for _, v := range views[1:] {
		if other := d.within(v); len(other) > 0 && len(list) > 0 {
			newest := other[len(other)-1].MSN
			for len(list) > 0 && list[len(list)-1].MSN > newest {
				list = list[:len(list)-1]
			}
		}
	}
	if len(list) == 0 {
		return nil
	}
	scale := list[0].Header.Track.Timescale
	if d.numbered {
		scale = d.p.scale
	}
	t := &dash.SegmentTemplate{Timescale: scale, Media: "$RepresentationID$/" + list[0].Prefix + "$Number$.m4s",
		Offset: media.Rescale(d.p.start, media.VideoTimescale, scale)}
	if d.live && d.low {
		complete := false
		t.TimeOffset, t.TimeComplete = float64((d.step-d.part).Milliseconds())/1000, &complete
	}
	if d.numbered {
		first := d.p.msn
		t.StartNumber = &first
		t.Duration = d.p.step
		return t
	}
	first := list[0].MSN
	t.StartNumber = &first
	t.Timeline = &dash.Timeline{}
	for i, s := range list {
		duration := s.TrackDuration
		if i+1 < len(list) && list[i+1].MSN == s.MSN+1 {
			duration = list[i+1].FirstPTS - s.FirstPTS
		}
		t.Timeline.Add(s.FirstPTS, duration)
	}
	return t
}

// eventsOf lists the markers of a period.
func (c *Channel) eventsOf(p period) (out []dash.EventStream) {
	const scale = 1000
	splices := dash.EventStream{Scheme: spliceScheme, Timescale: scale}
	markers := dash.EventStream{Scheme: markerScheme, Timescale: scale}
	begin := hls.WallClock(c.epoch, p.start)
	for _, m := range c.markers {
		at := m.At.Sub(begin).Milliseconds()
		if at < 0 || p.end > 0 && at >= (p.end-p.start)*scale/media.VideoTimescale {
			continue
		}
		h := fnv.New32a()
		_, _ = h.Write([]byte(m.ID))
		e := dash.Event{Time: at, Duration: m.DurationMillis, ID: h.Sum32()}
		if m.Splice != nil {
			e.Signal = &dash.Signal{Binary: base64.StdEncoding.EncodeToString(m.Splice)}
			splices.Events = append(splices.Events, e)
			continue
		}
		e.Text = strings.TrimSpace(m.Class + ": " + m.Text)
		markers.Events = append(markers.Events, e)
	}
	for _, s := range []dash.EventStream{splices, markers} {
		if len(s.Events) > 0 {
			out = append(out, s)
		}
	}
	return out
}
