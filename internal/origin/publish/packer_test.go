package publish

import (
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/scte35"

	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/origin/run"
	"metaplasis/internal/settings"
)

// safe is a Reserver that stores at once.
type safe struct{}

func (safe) Reserve(_ string, _ Position, stored func()) { stored() }

// packer cuts made-up media for a publisher, as a run does.
type packer struct {
	*Publisher
	t       testing.TB
	texts   *Texts
	outlet  *Outlet
	clock   *segment.Clock
	cutters map[string]*segment.Cutter
	rungs   []ladder.Rung
	parts   segment.Parts
	frames  int64
	key     int64 // pictures from one keyframe to the next
}

func newPacker(t testing.TB, set settings.Settings, renditions int) *packer {
	set.Slug = "start-line"
	set = set.WithDefaults()
	notes := &Annotations{}
	notes.SetCover(set.CoverEvery)
	numbers := NewNumbering(set.Slug, safe{}, Position{})
	numbers.Reincarnate(false)
	p := &packer{t: t, key: 60, clock: segment.NewClock(0, set.SegmentTicks()), cutters: map[string]*segment.Cutter{}}
	p.Publisher = New(Options{Slug: set.Slug, Now: time.Now, Picture: &atomic.Pointer[Picture]{}}, numbers, notes, set, time.Now())
	p.texts = NewTexts(p.Publisher)
	p.outlet = p.Outlet(p.texts, func(name string) bool { return p.cutters[name] != nil })
	p.clock.Begin(0, false)
	p.Begin(p.clock)
	video := media.Track{Kind: media.Video, Codec: media.H264, Timescale: 90000, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1}, CodecName: "avc1.64001f", Config: []byte{1}}
	sound := media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, CodecName: "mp4a.40.2", FrameSamples: 1024, Config: []byte{0x11, 0x90}}
	p.parts = segment.PlanParts(set.PartTicks(), video.FrameRate, 0, sound.FrameSamples, sound.Timescale)
	offer := run.Offer{PartTarget: p.parts.Target}
	for n := range renditions {
		r := ladder.Rung{Name: string(rune('a' + n)), On: true, Source: true}
		p.add(r.Name, video, p.parts.Video)
		p.rungs = append(p.rungs, r)
		offer.Rungs = append(offer.Rungs, layout.OfferedRung{Rung: r, Video: true, Sound: "audio"})
	}
	p.add("audio", sound, p.parts.Audio)
	p.outlet.Take(offer)
	return p
}

// add makes a rendition.
func (p *packer) add(name string, t media.Track, parting segment.Parting) {
	c := &segment.Cutter{Prefix: p.numbers.Incarnation, Messages: p.notes.Messages, Fragments: segment.FragmentNumbers(p.settings.SegmentTicks(), p.settings.PartTicks())}
	c.SetHeader(segment.NewHeader(t))
	c.SetParting(parting)
	p.cutters[name] = c
	bitrate := int64(layout.SourceBitrate)
	if t.Kind == media.Audio {
		bitrate = layout.SoundBitrate
	}
	budget := layout.Budget(&p.settings, bitrate)
	c.MaxBytes = int(layout.OpenShare(budget))
	p.outlet.Take(run.Rendition{Name: name, Bytes: budget})
}

// cut gives a unit to a rendition's cutter and publishes what that finishes.
func (p *packer) cut(name string, u media.AccessUnit) {
	c := p.cutters[name]
	b, due, ok := p.clock.Lookup(media.Rescale(u.PTS, c.Header().Track.Timescale, media.VideoTimescale))
	if !ok {
		return
	}
	for _, seg := range c.Push(u, b, due, time.Now()) {
		p.outlet.Take(run.Segment{Rendition: name, Segment: seg})
	}
}

// picture sends one picture to every rendition of video, and the sound that goes with it.
func (p *packer) picture(size int) {
	at := p.frames * 3000
	u := media.AccessUnit{DTS: at, PTS: at, Duration: 3000, Key: p.frames%p.key == 0, Data: make([]byte, size)}
	p.clock.Offer(&u)
	for name := range p.cutters {
		if name != "audio" {
			p.cut(name, u)
		}
	}
	for n := (p.frames*1600 + 1023) / 1024; n*1024 < (p.frames+1)*1600; n++ {
		p.cut("audio", media.AccessUnit{DTS: n * 1024, PTS: n * 1024, Duration: 1024, Key: true, Data: make([]byte, 340)})
	}
	p.frames++
}

func (p *packer) seconds(n int) {
	for range n * 30 {
		p.picture(2000)
	}
}

// text is a document.
func (p *packer) text(file string) string {
	d, known := p.Document(file)
	require.True(p.t, known, file)
	require.NotNil(p.t, d, file)
	b, _ := d.Bytes()
	return string(b)
}

func (p *packer) mpd(file string) *dash.MPD {
	var m dash.MPD
	require.NoError(p.t, m.Unmarshal([]byte(p.text(file))))
	return &m
}

// splice takes a cue message.
func (p *packer) splice(at time.Time, section []byte) {
	var s scte35.Section
	if s.Unmarshal(section) != nil {
		return
	}
	if _, changed := p.notes.Splice(at, &s, section); changed {
		p.Describe()
	}
}

// BenchmarkPackaging packages one second of media a turn: four renditions of 12 Mbit/s together and sound, in parts of 200 ms. Every
// state's playlist is rendered and compressed, as if somebody watched every rendition.
func BenchmarkPackaging(b *testing.B) {
	p := newPacker(b, settings.Settings{}, 4)
	for b.Loop() {
		for range 30 {
			p.picture(12_000_000 / 8 / 4 / 30)
			for _, r := range p.Renditions() {
				if v := r.View(); v != nil {
					v.Playlist(hls.CMAF, false).Gzip()
				}
			}
		}
	}
}

func TestWindowsHoldWhatTheirPlaylistsNeed(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{Window: 4, SegmentMillis: 1000}}, 1)
	for range 40 * 30 {
		p.picture(5_000_000 / 8 / 30)
	}
	for _, r := range p.Renditions() {
		require.LessOrEqual(t, len(r.View().Snapshot.All()), segment.Retained(4)+1)
	}
}

// A rung that is retired leaves the documents; the others, and every format, go on.
func TestOneRungThatFailsStopsNoOther(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 2)
	p.seconds(7)
	before := len(p.mpd("index.mpd").Periods)
	delete(p.cutters, "b") // as at its last segment
	p.outlet.Take(run.Offer{Offering: layout.Offering{Rungs: []layout.OfferedRung{{Rung: p.rungs[0], Video: true, Sound: "audio"}}}, PartTarget: p.parts.Target})
	p.outlet.Take(run.Retired{Rendition: "b", MSN: p.clock.Next()})
	scanned := p.periods.Scanned()
	p.seconds(8)
	require.Greater(t, p.periods.Scanned(), scanned+2, "the manifest goes on")
	list, _, err := hls.ReadMultivariant([]byte(p.text("index.m3u8")))
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "a/index.m3u8", list[0].URI)
	require.GreaterOrEqual(t, len(p.mpd("index.mpd").Periods), before)
}

// The number of a splice event may be used again once the event is over.
func TestSpliceNumbersComeAgain(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(3)
	out := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, Out: true, Immediate: true, PTS: -1, Duration: 2 * 90_000}
	now := time.Now()
	p.splice(now, out.Marshal())
	p.splice(now.Add(spliceRepeats/2), out.Marshal())
	assert.Len(t, p.notes.Markers(), 1, "it came again")
	p.splice(now.Add(10*spliceRepeats), out.Marshal())
	markers := p.notes.Markers()
	require.Len(t, markers, 2)
	assert.NotEqual(t, markers[0].ID, markers[1].ID)
}

func TestSoundOnlyChannelsDeclareTheirEvents(t *testing.T) {
	p := newPacker(t, settings.Settings{Outputs: settings.Outputs{Selections: []settings.Selection{{Name: "radio", SoundOnly: true}}}}, 1)
	require.NoError(t, p.notes.SetPlaying(NowPlaying{Title: "Race 3"}))
	p.seconds(9)
	sets := p.mpd("radio.mpd").Periods[0].Sets
	require.Len(t, sets, 1)
	require.Len(t, sets[0].Inband, 1)
	assert.Equal(t, id3.Scheme, sets[0].Inband[0].Scheme)
}
