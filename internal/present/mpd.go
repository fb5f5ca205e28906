package present

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// accessibility signals captions in a manifest (ANSI/SCTE 214-1, 7.2).
func (c *Channel) accessibility() (out []dash.Descriptor) {
	var old, new []string
	for _, name := range c.Captions {
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

	spliceScheme = "urn:scte:scte35:2014:xml+bin"
	markerScheme = "urn:metaplasis:marker:2026"
	captions608  = "urn:scte:dash:cc:cea-608:2015"
	captions708  = "urn:scte:dash:cc:cea-708:2015"
	channelNames = "urn:mpeg:dash:23003:3:audio_channel_configuration:2011"
)

// Manifest describes the window to DASH players. A numbered one counts segments of even length; low is
// the one for players that stay as near to the live edge as parts allow.
func (c *Channel) Manifest(numbered, low bool) *dash.MPD {
	list := c.Offers
	step, part := Ticks(c.Step), Ticks(c.PartTarget)
	periods := c.Periods
	if numbered {
		periods = c.Counted
	}
	target := 2*part + latencyShare
	length := max(Ticks(c.Longest), step) // segments follow the source's keyframes where it leads
	m := &dash.MPD{
		Profiles:              "urn:mpeg:dash:profile:isoff-live:2011,urn:mpeg:dash:profile:cmaf:2019",
		Type:                  "dynamic",
		AvailabilityStartTime: dash.NewDate(c.Epoch), PublishTime: dash.NewDate(c.Now),
		MinimumUpdatePeriod: dash.NewDuration(step), MinBufferTime: dash.NewDuration(length),
		TimeShiftBufferDepth: dash.NewDuration(length * time.Duration(c.Window)),
		SuggestedDelay:       dash.NewDuration(3 * length), MaxSegmentDuration: dash.NewDuration(length),
		UTCTiming: []dash.Descriptor{{Scheme: clockName, Value: "/media/" + c.Slug + "/time"}},
	}
	if low {
		// What the guidelines for low latency ask for (DASH-IF IOP part 4, low latency modes of DASH): players
		// that follow them find their place by themselves.
		m.Profiles += ",http://www.dashif.org/guidelines/low-latency-live-v5"
		m.SuggestedDelay, m.MinBufferTime = dash.NewDuration(target), dash.NewDuration(2*part)
		m.ServiceDescription = &dash.ServiceDescription{
			Latency: &dash.Latency{Target: int(target.Milliseconds()), Min: int(part.Milliseconds()),
				Max: int((3 * length).Milliseconds())},
			PlaybackRate: &dash.PlaybackRate{Min: 0.96, Max: 1.1},
		}
	}
	if c.Over {
		m.Type, m.MinimumUpdatePeriod, m.TimeShiftBufferDepth, m.SuggestedDelay, m.ServiceDescription, m.UTCTiming = "static", nil, nil, nil, nil, nil
		m.AvailabilityStartTime = nil
	}
	for i, p := range periods {
		out := dash.Period{ID: fmt.Sprintf("p%d", p.MSN), Start: dash.NewDuration(Ticks(p.Start))}
		last := i == len(periods)-1
		if p.End > 0 {
			out.Duration = dash.NewDuration(Ticks(p.End - p.Start))
		}
		until := uint64(1<<64 - 1)
		if !last {
			until = periods[i+1].MSN
		}
		d := describer{c: c, p: p, until: until, live: last && p.End == 0, numbered: numbered, low: low,
			step: Ticks(p.length()), part: part}
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

// describer writes the adaptation sets of one period.
type describer struct {
	c        *Channel
	p        Period
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

func (d *describer) sets(list []Offer) (out []dash.AdaptationSet) {
	role := func(name string) []dash.Descriptor {
		return []dash.Descriptor{{Scheme: "urn:mpeg:dash:role:2011", Value: name}}
	}
	sound := &set{AdaptationSet: dash.AdaptationSet{ID: 2, ContentType: "audio", MimeType: "audio/mp4", Alignment: true,
		StartWithSAP: 1, Lang: d.c.Language, Label: d.c.SoundName, Role: role("main")}}
	all := d.pictures(list, role("main"))
	if d.c.Titled && list[0].Video == nil { // events lie in the video, or in the sound where there is none
		sound.Inband = []dash.Descriptor{{Scheme: id3.Scheme, Value: ""}}
	}
	seen := map[string]bool{}
	for i := range list {
		o := &list[i]
		if o.Sound != nil && !seen[o.SoundName] {
			seen[o.SoundName] = true
			if h := d.header(o.Sound); h != nil {
				sound.Lang, sound.Label = cmp.Or(h.Track.Language, sound.Lang), cmp.Or(h.Track.Name, sound.Label)
				sound.Representations = append(sound.Representations, d.sound(o.SoundName, o.Sound, h))
				sound.views = append(sound.views, o.Sound)
			}
		}
	}
	all = append(all, sound)
	if len(sound.views) > 0 {
		for i := range d.c.Alternates {
			a := &d.c.Alternates[i]
			if h := d.header(a.View); h != nil {
				all = append(all, &set{AdaptationSet: dash.AdaptationSet{
					ID: 3 + i, ContentType: "audio", MimeType: "audio/mp4", Alignment: true, StartWithSAP: 1, Lang: a.Track.Language, Label: soundTitle(&a.Track, list[0].SoundTrack.Codec),
					Role: role(string(cmp.Or(a.Track.Role,
						media.RoleAlternate))), Representations: []dash.Representation{d.sound(a.Name, a.View, h)},
				}, views: []*View{a.View}})
			}
		}
	}
	for i := range d.c.Texts {
		if s := d.text(i); s != nil {
			all = append(all, s)
		}
	}
	for _, s := range all {
		if len(s.views) == 0 {
			continue
		}
		if s.Template = d.template(s.views); s.Template == nil {
			continue
		}
		if s.ContentType == "text" {
			s.Template.TimeOffset, s.Template.TimeComplete = 0, nil // it comes when its segment is whole
		} else if d.live && d.low {
			s.Resync = &dash.Resync{DT: media.Rescale(d.c.PartTarget, media.VideoTimescale, s.Template.Timescale)}
			s.Producer = &dash.Producer{
				Inband: true, Type: "encoder", WallClockTime: dash.NewDate(media.WallClock(d.c.Epoch,
					d.p.Start)), PresentationTime: s.Template.Offset,
				UTCTiming: &dash.Descriptor{Scheme: clockName, Value: "/media/" + d.c.Slug + "/time"},
			}
		}
		out = append(out, s.AdaptationSet)
	}
	return out
}

// firstText is the id of the first adaptation set of text.
const firstText = 200

// text is the adaptation set of a rendition of text, nil while it has nothing.
func (d *describer) text(i int) *set {
	t := &d.c.Texts[i]
	h := d.header(t.View)
	if h == nil {
		return nil
	}
	role := "subtitle"
	if t.Impaired {
		role = "caption"
	}
	return &set{AdaptationSet: dash.AdaptationSet{
		ID: firstText + i, ContentType: "text", MimeType: "application/mp4", Alignment: true, StartWithSAP: 1, Lang: cmp.Or(t.Track.Language, d.c.captionLanguage(t.Track.Name)),
		Label: t.Track.Name, Role: []dash.Descriptor{{Scheme: "urn:mpeg:dash:role:2011", Value: role}},
		Representations: []dash.Representation{{ID: t.Name, Codecs: h.Track.CodecName, Bandwidth: max(t.View.Peak*11/10, 1000),
			Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Header: t.Name + "/" + h.Name}}}},
	}, views: []*View{t.View}}
}

// startWithSAP is 1 where each segment that is listed begins with a random access point, else 0: nothing is said (5.3.7.2).
func (d *describer) startWithSAP(list []Offer) int {
	for i := range list {
		if list[i].Video != nil && !list[i].Video.List.Independent() {
			return 0
		}
	}
	return 1
}

// pictures makes an adaptation set of each codec of video, since a player may go over from one
// representation to another within a set alone (DASH-IF IOP part 3, adaptation sets); the sets name each
// other, so that one that can go over between them does.
func (d *describer) pictures(list []Offer, role []dash.Descriptor) (out []*set) {
	codecs := d.c.videoCodecs()
	for n, codec := range codecs {
		s := &set{AdaptationSet: dash.AdaptationSet{ID: pictureSet(n), ContentType: "video", MimeType: "video/mp4", Alignment: true,
			StartWithSAP: d.startWithSAP(list), Role: role, Accessibility: d.c.accessibility()}}
		if d.c.Titled {
			s.Inband = []dash.Descriptor{{Scheme: id3.Scheme, Value: ""}}
		}
		var others []string
		for k := range codecs {
			if k != n {
				others = append(others, strconv.Itoa(pictureSet(k)))
			}
		}
		if len(others) > 0 {
			s.Supplemental = []dash.Descriptor{{Scheme: setSwitching, Value: strings.Join(others, ",")}}
		}
		for i := range list {
			o := &list[i]
			if o.Video == nil || o.VideoTrack.Codec != codec {
				continue
			}
			if h := d.header(o.Video); h != nil {
				if len(s.Representations) == 0 && h.Track.Colour.Range() != "" {
					s.Supplemental = append(s.Supplemental, colourOf(h.Track.Colour)...)
				}
				s.Representations = append(s.Representations, d.video(o, h))
				s.views = append(s.views, o.Video)
			}
		}
		out = append(out, s)
	}
	return out
}

// colourOf says how samples of a high dynamic range are to be read (ISO/IEC 23091-2, by DASH-IF IOP part 6).
func colourOf(c media.Colour) (out []dash.Descriptor) {
	for _, p := range []struct {
		name string
		code uint8
	}{{"ColourPrimaries", c.Primaries}, {"TransferCharacteristics", c.Transfer}, {"MatrixCoefficients", c.Matrix}} {
		if p.code != 0 {
			out = append(out, dash.Descriptor{Scheme: "urn:mpeg:mpegB:cicp:" + p.name, Value: strconv.Itoa(int(p.code))})
		}
	}
	return out
}

// pictureSet is the id of the adaptation set of a codec of video: 1, and for further ones numbers behind
// those of sound.
func pictureSet(n int) int {
	if n == 0 {
		return 1
	}
	return 100 + n
}

// setSwitching says that a player may go over between adaptation sets (DASH-IF IOP part 3; ISO/IEC
// 23009-1, 5.3.3.5).
const setSwitching = "urn:mpeg:dash:adaptation-set-switching:2016"

func or(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// within lists the period's segments that are whole, and with low latency the open one.
func (d *describer) within(v *View) (out []*segment.Segment) {
	list := v.List.Whole
	from, _ := slices.BinarySearchFunc(list, d.p.MSN, func(s *segment.Segment, msn uint64) int { return cmp.Compare(s.MSN, msn) })
	for _, s := range list[from:] {
		if s.MSN >= d.until {
			return out
		}
		if v.List.Elsewhere[s.MSN] != "" {
			out = out[:0] // another rendition's: addresses are one pattern
			continue
		}
		if !s.Gap {
			out = append(out, s)
		}
	}
	if s := v.List.Open; d.low && s != nil && s.MSN >= d.p.MSN && s.MSN < d.until {
		out = append(out, s)
	}
	return out
}

// header is that of the period's newest segment, nil when it has none.
func (d *describer) header(v *View) *segment.Header {
	if s := v.List.Open; d.low && s != nil && s.MSN >= d.p.MSN && s.MSN < d.until {
		return s.Header
	}
	for i := len(v.List.Whole) - 1; i >= 0; i-- {
		if s := v.List.Whole[i]; s.MSN < d.until && !s.Gap {
			if s.MSN < d.p.MSN {
				break
			}
			return s.Header
		}
	}
	return nil
}

func (d *describer) video(o *Offer, h *segment.Header) dash.Representation {
	t := &h.Track
	r := dash.Representation{
		ID: o.Name, Codecs: t.CodecName, Bandwidth: max(o.peak(), 1), Width: t.Width, Height: t.Height,
		Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Header: o.Name + "/" + h.Name}},
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
		scale = d.p.Scale
	}
	t := &dash.SegmentTemplate{Timescale: scale, Media: "$RepresentationID$/" + list[0].Prefix + "$Number$.m4s" + d.c.Suffix,
		Offset: media.Rescale(d.p.Start, media.VideoTimescale, scale)}
	if d.live && d.low {
		complete := false
		t.TimeOffset, t.TimeComplete = float64((d.step-d.part).Milliseconds())/1000, &complete
	}
	if d.numbered {
		first := d.p.MSN
		t.StartNumber = &first
		t.Duration = d.p.Step
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
func (c *Channel) eventsOf(p Period) (out []dash.EventStream) {
	const scale = 1000
	splices := dash.EventStream{Scheme: spliceScheme, Timescale: scale}
	markers := dash.EventStream{Scheme: markerScheme, Timescale: scale}
	begin := media.WallClock(c.Epoch, p.Start)
	for i := range c.Markers {
		m := &c.Markers[i]
		at := m.At.Sub(begin).Milliseconds()
		if at < 0 || p.End > 0 && at >= media.RescaleDown(p.End-p.Start, media.VideoTimescale, scale) {
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
