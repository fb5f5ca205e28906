package origin

import (
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/timeline"
	"metaplasis/internal/events"
	"metaplasis/internal/settings"
)

type quiet struct{}

func (quiet) Reserve(_ string, _ Position, stored func()) { go stored() }
func (quiet) Settle(string, Position)                     {}
func (quiet) Marked(string, Marker)                       {}
func (quiet) Event(events.Event)                          {}
func (quiet) NewFeed() int64                              { return 1 }
func (quiet) Feed(FeedRecord)                             {}
func (quiet) Admit(contribution.Sender) (Grant, error)    { return Grant{Key: 1}, nil }

// packer is a channel whose renditions are fed directly, without a worker.
type packer struct {
	c      *Channel
	s      *session
	video  media.Track
	sound  media.Track
	frames int64
	key    int64 // pictures from one keyframe to the next
}

func newPacker(t testing.TB, set settings.Settings, renditions int) *packer {
	o := New(Options{Keeper: quiet{}, Gate: quiet{}, Worker: func() *exec.Cmd { return exec.Command("false") }})
	t.Cleanup(o.Close)
	set.Slug = "start-line"
	c, err := o.Add(set, time.Now(), Position{})
	require.NoError(t, err)
	p := &packer{c: c, key: 60,
		video: media.Track{Kind: media.Video, Codec: media.H264, Timescale: 90000, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1}, CodecName: "avc1.64001f", Config: []byte{1}},
		sound: media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, CodecName: "mp4a.40.2", FrameSamples: 1024, Config: []byte{0x11, 0x90}},
	}
	p.s = &session{shared: c.shared, settings: c.settings, hub: c.hub, tracks: &c.tracks, numbers: c.numbers, notes: c.notes, out: c.out, texts: c.texts, employ: c.employ,
		video: &p.video, sounds: nameSounds([]*media.Track{&p.sound}), outputs: map[string]*output{}, failed: map[string]failure{}, vtime: timeline.NewVideo(p.video.FrameRate), feed: timeline.NewFeed(0), clock: segment.NewClock(0, c.settings.SegmentTicks())}
	p.s.clock.Begin(0, false)
	c.session = p.s
	c.out.begin(p.s.clock)
	for n := range renditions {
		name := string(rune('a' + n))
		out := &output{direct: true, id: c.tracks.of(name), r: c.out.rendition(name)}
		p.s.outputs[name] = out
		p.s.setTrack(out, p.video)
		c.rungs = append(c.rungs, ladder.Rung{Name: name, On: true, Source: true})
	}
	out := &output{direct: true, id: c.tracks.of("audio"), r: c.out.rendition("audio")}
	p.s.outputs["audio"] = out
	p.s.setTrack(out, p.sound)
	p.s.rungs = c.rungs
	c.out.offer(p.s.offering(), p.s.partTarget)
	return p
}

// picture sends one picture to every rendition of video, and the sound that goes with it.
func (p *packer) picture(size int) {
	p.c.mu.Lock()
	defer p.c.mu.Unlock()
	at := p.frames * 3000
	u := media.AccessUnit{DTS: at, PTS: at, Duration: 3000, Key: p.frames%p.key == 0, Data: make([]byte, size)}
	p.s.clock.Offer(&u)
	for name, o := range p.s.outputs {
		if name != "audio" {
			p.s.cut(o, u)
		}
	}
	for n := (p.frames*1600 + 1023) / 1024; n*1024 < (p.frames+1)*1600; n++ {
		p.s.cut(p.s.outputs["audio"], media.AccessUnit{DTS: n * 1024, PTS: n * 1024, Duration: 1024, Key: true, Data: make([]byte, 340)})
	}
	p.frames++
}

// BenchmarkPackaging packages one second of media a turn: four renditions of 12 Mbit/s together and
// sound, in parts of 200 ms. Every state's playlist is rendered and compressed, as if somebody
// watched every rendition.
func BenchmarkPackaging(b *testing.B) {
	p := newPacker(b, settings.Settings{}, 4)
	for b.Loop() {
		for range 30 {
			p.picture(12_000_000 / 8 / 4 / 30)
			for _, o := range p.s.outputs {
				if v := o.r.View(); v != nil {
					v.Playlist(hls.CMAF, false).Gzip()
				}
			}
		}
	}
}

func TestMemoryStaysWithinItsBound(t *testing.T) {
	p := newPacker(t, settings.Settings{Packaging: settings.Packaging{Window: 4, SegmentMillis: 1000}}, 1)
	for range 40 * 30 {
		p.picture(5_000_000 / 8 / 30)
	}
	st := p.c.Status()
	bound := MemoryBound(&p.c.settings, p.c.rungs, 0)
	require.Positive(t, st.Memory)
	require.Less(t, st.Memory, bound)
	for _, r := range *p.c.out.renditions.Load() {
		require.LessOrEqual(t, len(r.View().Snapshot.All()), segment.Retained(4)+1)
	}
}

func (quiet) AskAdmission(contribution.Sender) error { return nil }
