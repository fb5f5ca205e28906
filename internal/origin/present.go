package origin

import (
	"encoding/base64"
	"fmt"
	"hash/fnv"
	"strings"
	"time"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// offer is a rung that viewers can play now: its video, its sound, or both.
type offer struct {
	name         string
	rung         ladder.Rung
	video, sound *View
	videoTrack   media.Track
	soundTrack   media.Track
	soundName    string
}

// offers lists the rungs that can be played, and whether one is missing that should be there.
func (c *Channel) offers() (out []offer, missing bool) {
	rends := *c.renditions.Load()
	for _, r := range c.onAir {
		if !r.On {
			continue
		}
		o := offer{name: r.Name, rung: r.WithDefaults()}
		if c.session.audio != nil {
			o.soundName = ladder.AudioName(r.AudioBitrate)
			if o.sound, o.soundTrack = c.viewOf(rends, o.soundName); o.sound == nil {
				missing = true
				continue
			}
		}
		if c.session.video != nil {
			if o.video, o.videoTrack = c.viewOf(rends, r.Name); o.video == nil {
				missing = true
				continue
			}
		}
		if o.video != nil || o.sound != nil {
			out = append(out, o)
		}
	}
	return out, missing
}

// choose returns the offers of a selection; of all rungs with nil.
func choose(all []offer, s *Selection) (out []offer) {
	sounds := map[string]bool{}
	for _, o := range all {
		switch {
		case s == nil:
			out = append(out, o)
		case s.SoundOnly:
			if o.sound != nil && !sounds[o.soundName] {
				sounds[o.soundName] = true
				o.video = nil
				out = append(out, o)
			}
		default:
			for _, name := range s.Rungs {
				if name == o.name {
					out = append(out, o)
				}
			}
		}
	}
	return out
}

// listVariants renders what names renditions: multivariant playlists and manifests. A rung
// appears with its first segments. At the start of a channel they wait for all rungs, but not for
// long, so that no viewer is given half a ladder.
func (c *Channel) listVariants() {
	if c.session == nil {
		return
	}
	all, missing := c.offers()
	late := !c.firstMedia.IsZero() && c.o.Now().Sub(c.firstMedia) > allowance
	if len(all) == 0 || missing && c.documents.Load() == nil && !late {
		return
	}
	sounds := map[string]string{}
	for _, o := range all {
		sounds[o.name] = o.soundName
		if o.video == nil {
			sounds[o.soundName] = o.soundName
		}
	}
	c.sounds.Store(&sounds)
	c.shown = all
	c.describe()
}

// describe makes the documents anew from what is shown.
func (c *Channel) describe() {
	if len(c.shown) == 0 {
		return
	}
	c.notePeriods(c.shown)
	docs := map[string]*Doc{}
	add := func(name string, s *Selection) {
		list := choose(c.shown, s)
		if len(list) == 0 {
			return
		}
		docs[name+".m3u8"] = NewDoc(c.multivariant(list, hls.CMAF).Marshal)
		docs[name+".mpd"] = NewDoc(c.manifest(list, c.settings.Numbered).Marshal)
		docs[lowName(name)] = NewDoc(c.manifest(list, true).Marshal)
	}
	add("index", nil)
	for i := range c.settings.Selections {
		add(c.settings.Selections[i].Name, &c.settings.Selections[i])
	}
	if c.settings.TS {
		docs["ts.m3u8"] = NewDoc(c.multivariant(c.shown, hls.TS).Marshal)
	}
	c.documents.Store(&docs)
}

// Document returns a playlist or manifest of the channel by its file name, nil while there is
// nothing to play, and whether the channel has one of that name.
func (c *Channel) Document(file string) (d *Doc, known bool) {
	if m := c.documents.Load(); m != nil {
		if d = (*m)[file]; d != nil {
			return d, true
		}
	}
	return nil, (*c.names.Load())[file]
}

// lowName is the file of the low-latency manifest beside a manifest. It counts segments, since a
// player that stays a second behind cannot wait for a list to be fetched anew.
func lowName(name string) string {
	if name == "index" {
		return "low.mpd"
	}
	return name + "-low.mpd"
}

// names lists the files that settings promise.
func (s *Settings) names() map[string]bool {
	out := map[string]bool{"index.m3u8": true, "index.mpd": true, lowName("index"): true}
	for _, sel := range s.Selections {
		out[sel.Name+".m3u8"], out[sel.Name+".mpd"], out[lowName(sel.Name)] = true, true, true
	}
	if s.TS {
		out["ts.m3u8"] = true
	}
	return out
}

// Transport reports whether the channel offers transport streams and packed audio.
func (c *Channel) Transport() bool { return (*c.names.Load())["ts.m3u8"] }

const captionGroup = "captions"

func (c *Channel) multivariant(list []offer, w hls.Wrapping) *hls.Multivariant {
	m := &hls.Multivariant{StartOffset: c.settings.StartOffsetMillis}
	file := map[hls.Wrapping]string{hls.CMAF: "/index.m3u8", hls.TS: "/ts.m3u8"}[w]
	groups := map[string]bool{}
	for _, o := range list {
		v := hls.Variant{Name: o.name}
		if o.sound != nil {
			v.Peak, v.Average, v.Codecs = o.sound.Peak, o.sound.Average, []string{o.soundTrack.CodecName}
		}
		switch {
		case o.video == nil:
			v.URI = o.soundName + file
			if w == hls.TS {
				v.URI = o.soundName + "/aac.m3u8"
			}
		case o.sound != nil && w == hls.CMAF:
			v.AudioGroup = o.soundName
			if !groups[o.soundName] {
				groups[o.soundName] = true
				m.Audio = append(m.Audio, hls.AudioRendition{
					Group: o.soundName, Name: c.settings.SoundName, Language: c.settings.Language,
					URI: o.soundName + file, Channels: o.soundTrack.Channels, Default: true,
				})
			}
		}
		if o.video != nil {
			v.URI = o.name + file
			v.Peak += o.peak()
			v.Average += o.video.Average
			v.Codecs = append([]string{o.videoTrack.CodecName}, v.Codecs...)
			v.Width, v.Height = ladder.Display(&o.videoTrack)
			v.FrameRate = o.videoTrack.FrameRate
			if c.captions != nil {
				v.Captions = captionGroup
			}
			if w == hls.CMAF {
				m.Keys = append(m.Keys, hls.KeyVariant{
					URI: o.name + "/keys.m3u8", Peak: keyRate(o.video), Codec: o.videoTrack.CodecName, Width: v.Width, Height: v.Height,
				})
			}
		}
		if w == hls.TS {
			// Packets and stuffing: 4 of 188 bytes, tables, and the spreading at the end of a segment.
			v.Peak, v.Average = v.Peak*106/100+100_000, v.Average*106/100+60_000
		}
		m.Variants = append(m.Variants, v)
	}
	if list[0].video != nil {
		for _, name := range c.captions {
			t := hls.Captions{Group: captionGroup, Name: "Captions", Channel: name}
			if len(m.Captions) > 0 {
				t.Name = "Captions " + name
			}
			t.Language = c.captionLanguage(name)
			m.Captions = append(m.Captions, t)
		}
	}
	hls.OrderForStart(m.Variants, startBelow)
	if w == hls.TS && len(m.Variants) > 0 && m.Variants[0].Width > 0 && list[0].sound != nil {
		// A receiver on a poor line goes on with the sound alone.
		o := list[0]
		m.Variants = append(m.Variants, hls.Variant{URI: o.soundName + "/aac.m3u8", Name: o.soundName, Peak: o.sound.Peak*11/10 + 10_000, Average: o.sound.Average, Codecs: []string{o.soundTrack.CodecName}})
	}
	return m
}

// captionLanguage returns the language of the first service of each kind; what others speak is not told.
func (c *Channel) captionLanguage(service string) string {
	if service == "CC1" || service == "SERVICE1" {
		return c.settings.Language
	}
	return ""
}

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

// peak is the highest bitrate to announce: what the rung may take, or what was measured with
// some room, since the source is not ours.
func (o *offer) peak() int64 {
	if o.rung.Source {
		return o.video.Peak * 11 / 10
	}
	return max(o.video.Peak, o.rung.Peak)
}

// keyRate is the highest bitrate of a rendition's keyframes alone.
func keyRate(v *View) (peak int64) {
	for _, s := range v.Snapshot.Whole() {
		if s.Duration > 0 {
			peak = max(peak, int64(s.KeySize+keyOverhead)*8*media.VideoTimescale/s.Duration)
		}
	}
	return peak
}

// keyOverhead is what stands around a keyframe that is sent alone.
const keyOverhead = 256

// period is a stretch of the channel in which no encoding changes.
type period struct {
	msn   uint64
	start int64 // ticks of media.VideoTimescale
	end   int64 // 0 while it goes on
	key   uint64
	step  int64 // length of its segments
}

// where returns where a segment lies by its number, if all of the period's are equally long.
func (p *period) where(msn uint64) int64 { return p.start + int64(msn-p.msn)*p.step }

// notePeriods finds where encodings changed among the segments that came since the last look. A
// period begins at a discontinuity and wherever a header changes.
func (c *Channel) notePeriods(list []offer) {
	lead := list[0].video
	if lead == nil {
		lead = list[0].sound
	}
	for _, s := range lead.Snapshot.All {
		if s.Gap || s.Open || s.MSN < c.scanned {
			continue
		}
		h := fnv.New64a()
		for _, o := range list {
			for _, v := range []*View{o.video, o.sound} {
				if v == nil {
					continue
				}
				if other, _ := v.Snapshot.Find(s.MSN); other != nil {
					_, _ = h.Write([]byte(other.Header.Name))
				}
			}
		}
		if !c.wholeEverywhere(list, s.MSN) {
			break // its other renditions are still being made
		}
		next := period{msn: s.MSN, start: s.Start, key: h.Sum64(), step: s.Duration}
		c.periods = extend(c.periods, next, s.Discontinuity)
		// Where segments are counted, a period also begins where one lies beside its place: the
		// source's keyframes rule, not our wish.
		moved := false
		if n := len(c.counted); n > 0 {
			last := &c.counted[n-1]
			d := s.Start - last.where(s.MSN)
			moved = d > last.step/4 || -d > last.step/4
		}
		c.counted = extend(c.counted, next, s.Discontinuity || moved)
		c.scanned = s.MSN + 1
	}
	if len(lead.Snapshot.All) == 0 {
		return
	}
	first := lead.Snapshot.Advertised[0].MSN
	c.periods, c.counted = forget(c.periods, first), forget(c.counted, first)
}

// extend begins a period when it must, or when its encodings differ from those before.
func extend(list []period, next period, begins bool) []period {
	n := len(list)
	if n > 0 && !begins && list[n-1].key == next.key {
		return list
	}
	if n > 0 && list[n-1].end == 0 {
		list[n-1].end = next.start
	}
	return append(list, next)
}

// forget drops periods that ended before a segment.
func forget(list []period, first uint64) []period {
	for len(list) > 1 && list[1].msn <= first {
		list = list[1:]
	}
	return list
}

func (c *Channel) wholeEverywhere(list []offer, msn uint64) bool {
	for _, o := range list {
		for _, v := range []*View{o.video, o.sound} {
			if v == nil {
				continue
			}
			all := v.Snapshot.All
			if n := len(all); n == 0 || all[n-1].MSN < msn || all[n-1].MSN == msn && all[n-1].Open {
				return false
			}
		}
	}
	return true
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

func ticks(t int64) time.Duration {
	return time.Duration(t/media.VideoTimescale)*time.Second + time.Duration(t%media.VideoTimescale)*time.Second/media.VideoTimescale
}

// manifest describes the window to DASH players.
func (c *Channel) manifest(list []offer, numbered bool) *dash.MPD {
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
	if numbered {
		m.ServiceDescription = &dash.ServiceDescription{
			Latency:      &dash.Latency{Target: int(target.Milliseconds()), Min: int(part.Milliseconds()), Max: int((3 * step).Milliseconds())},
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
		d := describer{c: c, p: p, until: until, live: last && p.end == 0, numbered: numbered, step: ticks(p.step), part: part}
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
	step     time.Duration
	part     time.Duration
}

func (d *describer) sets(list []offer) (out []dash.AdaptationSet) {
	video := dash.AdaptationSet{ID: 1, ContentType: "video", MimeType: "video/mp4", Alignment: true, StartWithSAP: 1, Role: []dash.Descriptor{{Scheme: "urn:mpeg:dash:role:2011", Value: "main"}}}
	sound := dash.AdaptationSet{ID: 2, ContentType: "audio", MimeType: "audio/mp4", Alignment: true, StartWithSAP: 1, Lang: d.c.settings.Language, Label: d.c.settings.SoundName, Role: video.Role}
	video.Accessibility = d.c.accessibility()
	if d.c.titled {
		video.Inband = []dash.Descriptor{{Scheme: id3Scheme, Value: ""}}
	}
	var videoViews, soundViews []*View
	seen := map[string]bool{}
	for i := range list {
		o := &list[i]
		if o.video != nil {
			if h := d.header(o.video); h != nil {
				video.Representations = append(video.Representations, d.video(o, h))
				videoViews = append(videoViews, o.video)
			}
		}
		if o.sound != nil && !seen[o.soundName] {
			seen[o.soundName] = true
			if h := d.header(o.sound); h != nil {
				sound.Representations = append(sound.Representations, d.sound(o, h))
				soundViews = append(soundViews, o.sound)
			}
		}
	}
	for _, s := range []struct {
		set   *dash.AdaptationSet
		views []*View
	}{{&video, videoViews}, {&sound, soundViews}} {
		if len(s.views) == 0 {
			continue
		}
		if s.set.Template = d.template(s.views); s.set.Template == nil {
			continue
		}
		if d.live && d.numbered {
			s.set.Producer = &dash.Producer{
				Inband: true, Type: "encoder", WallClockTime: dash.NewDate(hls.WallClock(d.c.epoch, d.p.start)), PresentationTime: s.set.Template.Offset,
				UTCTiming: &dash.Descriptor{Scheme: clockName, Value: "/media/" + d.c.slug + "/time"},
			}
		}
		out = append(out, *s.set)
	}
	return out
}

func or(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// within lists the period's segments that are whole.
func (d *describer) within(v *View) (out []*segment.Segment) {
	for _, s := range v.whole() {
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

func (d *describer) sound(o *offer, h *segment.Header) dash.Representation {
	t := &h.Track
	return dash.Representation{
		ID: o.soundName, Codecs: t.CodecName, Bandwidth: max(o.sound.Peak*11/10, 1), Sampling: t.SampleRate,
		Channels:   &dash.Descriptor{Scheme: channelNames, Value: fmt.Sprint(t.Channels)},
		Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Header: o.soundName + "/" + h.Name}},
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
	t := &dash.SegmentTemplate{Timescale: scale, Media: "$RepresentationID$/$Number$.m4s", Offset: media.Rescale(d.p.start, media.VideoTimescale, scale)}
	if d.live && d.numbered {
		complete := false
		t.TimeOffset, t.TimeComplete = float64((d.step-d.part).Milliseconds())/1000, &complete
	}
	if d.numbered {
		first := d.p.msn
		t.StartNumber = &first
		t.Duration = media.Rescale(d.p.step, media.VideoTimescale, scale)
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
