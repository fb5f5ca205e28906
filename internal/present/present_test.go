package present

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

type noRuns struct{}

func (noRuns) Before(uint64) uint64 { return 0 }
func (noRuns) Begins(uint64) bool   { return false }

// rung is a rendition whose segments are made up.
type rung struct {
	offer  Offer
	window *segment.Window
	header *segment.Header
}

const (
	step  = 2 * media.VideoTimescale
	parts = 10
)

func newRung(name string, codec media.Codec, height, window int) *rung {
	t := media.Track{Kind: media.Video, Codec: codec, CodecName: string(codec), Timescale: media.VideoTimescale, Width: height * 16 / 9, Height: height,
		FrameRate: media.Rational{Num: 30, Den: 1}}
	return &rung{offer: Offer{Name: name, Rung: ladder.Rung{Name: name, On: true, Height: height}, VideoTrack: t},
		window: segment.NewWindow(window, noRuns{}), header: &segment.Header{Name: "header-" + name + ".mp4", Track: t}}
}

// part publishes the state of a segment with so many parts, and makes the view of it.
func (r *rung) part(msn uint64, n int) *View {
	s := &segment.Segment{MSN: msn, Prefix: "a-", Open: n < parts, Start: int64(msn) * step, Duration: int64(n) * step / parts, Header: r.header,
		FirstPTS: int64(msn) * step, TrackDuration: int64(n) * step / parts, Size: int64(n) * 1000}
	for i := range n {
		s.Parts = append(s.Parts, &segment.Part{Start: s.Start, Duration: step / parts, Bytes: make([]byte, 1000), Independent: i == 0})
	}
	r.window.Publish(s, step)
	snap := r.window.Snapshot()
	v := NewView(hls.Media{Whole: snap.Listed, Open: snap.Open, Discontinuity: snap.Discontinuity, TargetDuration: 2, PartTarget: step / parts},
		snap, func() []hls.Report { return nil })
	v.Peak, v.Average, v.KeyPeak = r.window.Rates()
	r.offer.Video = v
	return v
}

func (r *rung) fill(segments int) {
	for msn := range uint64(segments) {
		r.part(msn, parts)
	}
}

func look(rungs ...*rung) *Look {
	l := &Look{Known: true, Even: func(*segment.Segment) (int64, int64) { return step, media.VideoTimescale }}
	for _, r := range rungs {
		l.Offers = append(l.Offers, r.offer)
	}
	return l
}

// TestAnHourCostsNoMoreThanAMoment: what a part allocates, from its publication to the delta update that
// players of parts ask for, is the same with 1,800 segments in the window as with six.
func TestAnHourCostsNoMoreThanAMoment(t *testing.T) {
	cost := func(window int) (part, whole uint64) {
		r := newRung("720p", media.H264, 720, window)
		r.fill(2*window + 3)
		var periods Periods
		periods.Note(look(r))
		bytes := func(turns int, do func(i int)) uint64 {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			for i := range turns {
				do(i)
			}
			runtime.ReadMemStats(&after)
			return (after.TotalAlloc - before.TotalAlloc) / uint64(turns)
		}
		msn := uint64(2*window + 3)
		part = bytes(100*parts, func(i int) {
			r.part(msn+uint64(i/parts), i%parts+1).Playlist(hls.CMAF, true).Bytes()
		})
		msn += 100
		whole = bytes(200, func(i int) {
			r.part(msn+uint64(i), parts)
			periods.Note(look(r))
		})
		require.Len(t, periods.Listed, 1)
		require.Equal(t, msn+200, periods.Scanned())
		return part, whole
	}
	partShort, wholeShort := cost(6)
	partLong, wholeLong := cost(1800)
	t.Logf("bytes allocated a part: %d with 6 segments, %d with 1,800; a segment: %d and %d", partShort, partLong, wholeShort, wholeLong)
	assert.InEpsilon(t, partShort, partLong, 0.2)
	assert.InEpsilon(t, wholeShort, wholeLong, 0.2)
}

func TestALongWindowIsDescribedWhole(t *testing.T) {
	r := newRung("720p", media.H264, 720, 1800)
	r.fill(4000)
	r.part(4000, 3)
	full, _ := r.offer.Video.Playlist(hls.CMAF, false).Bytes()
	list, err := hls.ReadMedia(full)
	require.NoError(t, err)
	assert.Len(t, list.Whole(), 1800)
	assert.EqualValues(t, 2200, list.MediaSequence)
	delta, _ := r.offer.Video.Playlist(hls.CMAF, true).Bytes()
	assert.Less(t, len(delta), 3000)
	var periods Periods
	periods.Note(look(r))
	c := &Channel{Slug: "line", Step: step, Window: 1800, Offers: look(r).Offers, Periods: periods.Listed, Counted: periods.Counted}
	m := c.Manifest(false, false)
	require.Len(t, m.Periods, 1)
	assert.EqualValues(t, 1799, m.Periods[0].Sets[0].Template.Timeline.S[0].Repeat)
	assert.Less(t, len(m.Marshal()), 3000, "even segments are one run")
	shown, gone := r.offer.Video.Snapshot.Find(2000)
	assert.True(t, shown != nil && !gone, "what the playlist does not show any more is still held")
	_, gone = r.offer.Video.Snapshot.Find(1)
	assert.True(t, gone)
}

// TestCodecsAreGrouped: variants of a codec stand together, the usual codec first and each group with the
// one to start with; an adaptation set has one codec, and names the others.
func TestCodecsAreGrouped(t *testing.T) {
	rungs := []*rung{newRung("small", media.VP9, 240, 6), newRung("large", media.H264, 720, 6), newRung("middle", media.VP9, 480, 6), newRung("low", media.H264, 360, 6)}
	for i, r := range rungs {
		r.offer.Rung.Peak = int64(i+1) * 400_000
		r.fill(9)
	}
	var periods Periods
	l := look(rungs...)
	periods.Note(l)
	c := &Channel{Slug: "line", Step: step, Window: 6, Offers: l.Offers, Periods: periods.Listed, Counted: periods.Counted}
	var names []string
	for _, v := range c.Multivariant(hls.CMAF).Variants {
		names = append(names, v.Name)
	}
	assert.Equal(t, "low large middle small", strings.Join(names, " "))
	sets := c.Manifest(false, false).Periods[0].Sets
	require.Len(t, sets, 2)
	for i, s := range sets {
		assert.Len(t, s.Representations, 2)
		assert.Equal(t, []string{"101", "1"}[i], s.Supplemental[0].Value)
		assert.Equal(t, s.Representations[0].Codecs, s.Representations[1].Codecs)
	}
	assert.Len(t, c.Transportable().Offers, 2, "transport streams hold one of them")
	assert.Len(t, c.Choose([]string{"small", "none"}).Offers, 1)
	assert.Empty(t, c.Choose(nil).Offers, "there is no sound")
}

// TestPeriodsFollowTheEncodings: a period begins where a header changes, and goes when the window has left it.
func TestPeriodsFollowTheEncodings(t *testing.T) {
	r := newRung("720p", media.H264, 720, 4)
	var periods Periods
	begins := func() (out []uint64) {
		for _, p := range periods.Listed {
			out = append(out, p.MSN)
		}
		return out
	}
	for msn := range uint64(20) {
		if msn == 7 || msn == 9 {
			r.header = &segment.Header{Name: fmt.Sprintf("header-%d.mp4", msn), Track: r.header.Track}
		}
		r.part(msn, 4)
		periods.Note(look(r))
		assert.Equal(t, msn, periods.Scanned(), "an open segment waits")
		r.part(msn, parts)
		periods.Note(look(r))
		assert.Equal(t, periods.Listed, periods.Counted)
		switch msn {
		case 6:
			assert.Equal(t, []uint64{0}, begins())
		case 9:
			assert.Equal(t, []uint64{0, 7, 9}, begins())
			assert.EqualValues(t, 9*step, periods.Listed[1].End)
		case 19:
			assert.Equal(t, []uint64{9}, begins())
		}
	}
	periods.Close(look(r).Offers)
	assert.EqualValues(t, 20*step, periods.Listed[0].End)
}

func TestViewsTellTheirState(t *testing.T) {
	r := newRung("720p", media.H264, 720, 6)
	v := r.part(0, 3)
	assert.False(t, v.Shows() || v.ShowsWhole() || v.HoldsBack())
	assert.True(t, r.part(0, 6).Shows(), "more than a second")
	r.part(0, parts)
	assert.False(t, r.part(1, 3).ShowsWhole())
	assert.True(t, r.part(1, 4).ShowsWhole(), "a segment and three quarters of a second")
	r.part(1, parts)
	v = r.part(2, parts)
	assert.True(t, v.HoldsBack())
	msn, part := v.Newest()
	assert.Equal(t, []any{uint64(2), -1}, []any{msn, part})
	assert.True(t, v.Has(2, -1) && v.Has(2, 9) && !v.Has(2, 10) && !v.Has(3, -1))
	again := v.Again()
	v.Replace()
	<-v.Next()
	select {
	case <-again.Next():
		t.Fatal("the next view has not come")
	default:
	}
	assert.True(t, again.Over().Ended() && !again.Ended() && again.Gone().Retired)
	assert.Equal(t, 2*time.Second, again.TargetDuration())
}

func TestHighDynamicRangeIsSignalled(t *testing.T) {
	r := newRung("2160p", media.HEVC, 2160, 6)
	r.offer.VideoTrack.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
	r.header.Track.Colour = r.offer.VideoTrack.Colour
	r.fill(9)
	var periods Periods
	l := look(r)
	periods.Note(l)
	c := &Channel{Slug: "line", Step: step, Window: 6, Offers: l.Offers, Periods: periods.Listed}
	list := string(c.Multivariant(hls.CMAF).Marshal())
	assert.Equal(t, 2, strings.Count(list, ",VIDEO-RANGE=PQ"), "of the variant and its keyframes: %s", list)
	assert.Contains(t, string(c.Manifest(false, false).Marshal()), `schemeIdUri="urn:mpeg:mpegB:cicp:TransferCharacteristics" value="16"`)
}

// Sounds of two codecs are two groups, and each picture has a variant for each of them: the codec that most players read comes first,
// and what exists only in the other one is found there.
func TestSoundsOfTwoCodecs(t *testing.T) {
	sound := func(name string, codec media.Codec, codecName, language string) Alternate {
		r := newRung(name, codec, 0, 6)
		r.header.Track = media.Track{Kind: media.Audio, Codec: codec, CodecName: codecName, Timescale: 48000, SampleRate: 48000, Channels: 2, Language: language}
		r.fill(9)
		return Alternate{name, r.offer.Video, r.header.Track}
	}
	for _, mainCodec := range []media.Codec{media.AAC, media.Opus} {
		main := sound("audio", mainCodec, map[media.Codec]string{media.AAC: "mp4a.40.2", media.Opus: "opus"}[mainCodec], "en")
		rungs := []*rung{newRung("low", media.H264, 360, 6), newRung("large", media.H264, 720, 6)}
		for _, r := range rungs {
			r.fill(9)
			r.offer.Sound, r.offer.SoundTrack, r.offer.SoundName = main.View, main.Track, main.Name
		}
		c := &Channel{Slug: "harbour", Step: step, Window: 6, Offers: look(rungs...).Offers,
			Alternates: []Alternate{main, sound("audio-fr", media.AAC, "mp4a.40.2", "fr"), sound("audio-gv", media.Opus, "opus", "gv")}}
		m := c.Multivariant(hls.CMAF)
		require.Len(t, m.Variants, 4)
		group := map[string]string{} // codec by group
		for i, v := range m.Variants {
			require.Len(t, v.Codecs, 2, "one of pictures, one of sound")
			assert.Equal(t, []string{"mp4a.40.2", "opus"}[i/2], v.Codecs[1])
			group[v.AudioGroup] = v.Codecs[1]
		}
		require.Len(t, group, 2)
		languages, defaults := map[string]string{}, 0
		for _, a := range m.Audio {
			languages[a.Language] = group[a.Group]
			if a.Default {
				defaults++
			}
		}
		assert.Equal(t, map[string]string{"en": main.Track.CodecName, "fr": "mp4a.40.2", "gv": "opus"}, languages)
		assert.Equal(t, 2, defaults, "one of each group")
	}
}

// What a manifest says of times follows the segments as they are, not as they were set.
func TestTimesOfAManifestFollowTheSegments(t *testing.T) {
	r := newRung("source", media.H264, 720, 6)
	r.fill(9)
	var periods Periods
	l := look(r)
	periods.Note(l)
	c := &Channel{Slug: "line", Step: step / 4, Longest: 5 * step, Window: 6, Offers: l.Offers, Periods: periods.Listed}
	m := c.Manifest(false, false)
	for got, want := range map[*dash.Duration]time.Duration{m.TimeShiftBufferDepth: 60 * time.Second, m.SuggestedDelay: 30 * time.Second, m.MinBufferTime: 10 * time.Second, m.MaxSegmentDuration: 10 * time.Second} {
		assert.Equal(t, want, got.D())
	}
}
