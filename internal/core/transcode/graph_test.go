package transcode

import (
	"math"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/codec/aacdec"
	"metaplasis/internal/codec/aacenc"
	"metaplasis/internal/codec/h264dec"
	"metaplasis/internal/codec/h264enc"
	"metaplasis/internal/codec/opusdec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/segment"
)

// Tracks that come out.
const (
	large media.TrackID = iota + 1
	small
	rungR
	stays
	changes
	comes
	rungA
	rungB
	other
	quiet
)

const frame = media.VideoTimescale / 30

// collected is a sink that keeps everything.
type collected struct {
	mu       sync.Mutex
	tracks   map[media.TrackID][]media.Track
	units    map[media.TrackID][]media.AccessUnit
	pictures int
	failed   []error
}

func newCollected() *collected {
	return &collected{tracks: map[media.TrackID][]media.Track{}, units: map[media.TrackID][]media.AccessUnit{}}
}

func (c *collected) Track(n media.TrackID, t media.Track) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.tracks[n] = append(c.tracks[n], t)
}

func (c *collected) Unit(n media.TrackID, u media.AccessUnit) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.units[n] = append(c.units[n], u)
}

func (c *collected) Picture([]byte) { c.pictures++ }
func (c *collected) Failed(_ media.TrackID, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.failed = append(c.failed, err)
}

// film encodes numbered pictures, with keyframes every two seconds.
func film(t testing.TB, w, h, effort, n int, sar media.Rational) (*media.Track, []media.AccessUnit) {
	enc, err := h264enc.New(h264enc.Settings{Width: w, Height: h, SAR: sar, FrameRate: media.Rational{Num: 30, Den: 1}, Bitrate: 600_000, Effort: effort})
	require.NoError(t, err)
	defer enc.Close()
	track, err := enc.Config.Track()
	require.NoError(t, err)
	var out []media.AccessUnit
	pic := picture.New(w, h)
	take := func(p *picture.Picture, i int) {
		u, err := enc.Encode(p, int64(i+10)*frame, i%60 == 0)
		require.NoError(t, err)
		if u != nil {
			out = append(out, *u)
		}
	}
	for i := range n {
		draw(pic, i)
		take(pic, i)
	}
	for enc.Waiting() > 0 {
		take(nil, 0)
	}
	return &track, out
}

// draw paints a number's block code on grey.
func draw(p *picture.Picture, n int) {
	for i := range p.Y {
		p.Y[i] = 90
	}
	for i := range p.U {
		p.U[i], p.V[i] = 128, 128
	}
	for i, white := range picture.EncodeNumber(n) {
		x, y, side := picture.CodeCell(p.Width, p.Height, i)
		level := byte(20)
		if white {
			level = 230
		}
		for dy := range side {
			for dx := range side {
				p.Y[(y+dy)*p.StrideY+x+dx] = level
			}
		}
	}
}

// numbers decodes a rendition and reads the number and size of every picture by its time.
func numbers(t *testing.T, track media.Track, units []media.AccessUnit) (map[int64]int, [2]int) {
	var conf avc.Config
	require.NoError(t, conf.Unmarshal(track.Config))
	var sets []byte
	for _, n := range append(conf.SPS, conf.PPS...) {
		sets = append(append(sets, 0, 0, 0, 1), n...)
	}
	d, err := h264dec.New()
	require.NoError(t, err)
	defer d.Close()
	out := map[int64]int{}
	size := [2]int{}
	var pic *picture.Picture
	read := func(f *picture.Frame) {
		if pic == nil {
			pic = picture.New(f.Width, f.Height)
		}
		size = [2]int{f.Width, f.Height}
		require.NoError(t, new(scale.Scaler).FromFrame(pic, f))
		n, ok := picture.DecodeNumber(pic.Y, pic.StrideY, f.Width, f.Height)
		require.True(t, ok, "picture at %d", f.PTS)
		out[f.PTS] = n
	}
	for _, u := range units {
		b := []byte{}
		if u.Key {
			b = append(b, sets...)
		}
		f, err := d.DecodeStream(avc.AppendAnnexB(b, u.Data), u.PTS)
		require.NoError(t, err)
		if f != nil {
			read(f)
		}
	}
	return out, size
}

// play sends a film through a graph, with boundaries every so many pictures.
func play(g *Graph, units []media.AccessUnit, every int64) {
	next := int64(10 * frame)
	msn := uint64(0)
	for i := range units {
		for units[i].PTS >= next {
			g.Boundary(segment.Boundary{MSN: msn, Start: next})
			msn++
			next += every * frame
		}
		g.Video(&units[i])
	}
}

func TestEverySyntaxIsTranscodedPictureByPicture(t *testing.T) {
	// Effort 1 writes CAVLC without B-frames, 4 CABAC, 7 B-frames and several references.
	for _, effort := range []int{1, 4, 7} {
		track, units := film(t, 640, 360, effort, 100, media.Rational{})
		sink := newCollected()
		g := New(sink)
		g.Configure(Config{Video: track, Rungs: []Rung{
			{ID: large, Name: "large", Codec: media.H264, Width: 640, Height: 360, Bitrate: 500_000, Effort: 1},
			{ID: small, Name: "small", Codec: media.H264, Width: 320, Height: 180, Bitrate: 200_000, Effort: 5},
		}})
		play(g, units, 25)
		g.Drain()
		require.Empty(t, sink.failed)
		assert.Positive(t, sink.pictures)
		for _, name := range []media.TrackID{large, small} {
			got, _ := numbers(t, sink.tracks[name][0], sink.units[name])
			require.Len(t, got, 100, "%d at effort %d", name, effort)
			for pts, n := range got {
				assert.EqualValues(t, pts/frame-10, n)
			}
			for _, u := range sink.units[name] {
				assert.Equal(t, (u.PTS/frame-10)%25 == 0, u.Key, "keyframes stand on the boundaries and nowhere else: %d", u.PTS)
			}
		}
	}
}

func TestShapesComeOutRight(t *testing.T) {
	for name, c := range map[string]struct {
		w, h    int
		sar     media.Rational
		rung    Rung
		wantSAR media.Rational
	}{
		"portrait":              {360, 640, media.Rational{}, Rung{ID: rungR, Name: "r", Codec: media.H264, Width: 180, Height: 320}, media.Rational{Num: 1, Den: 1}},
		"odd and cropped":       {426, 238, media.Rational{}, Rung{ID: rungR, Name: "r", Codec: media.H264, Width: 300, Height: 168}, media.Rational{Num: 1, Den: 1}},
		"samples are stretched": {360, 288, media.Rational{Num: 16, Den: 11}, Rung{ID: rungR, Name: "r", Codec: media.H264, Width: 320, Height: 240, SAR: media.Rational{Num: 15, Den: 11}}, media.Rational{Num: 15, Den: 11}},
	} {
		track, units := film(t, c.w, c.h, 2, 12, c.sar)
		sink := newCollected()
		g := New(sink)
		c.rung.Bitrate, c.rung.Effort = 400_000, 3
		g.Configure(Config{Video: track, Rungs: []Rung{c.rung}})
		play(g, units, 30)
		g.Drain()
		got, size := numbers(t, sink.tracks[rungR][0], sink.units[rungR])
		assert.Len(t, got, 12, name)
		assert.Equal(t, [2]int{c.rung.Width, c.rung.Height}, size, name)
		assert.Equal(t, c.wantSAR, sink.tracks[rungR][0].SAR, name)
	}
}

func TestConfigurationsChangeAtTheirBoundary(t *testing.T) {
	track, units := film(t, 320, 180, 1, 90, media.Rational{})
	sink := newCollected()
	g := New(sink)
	keeps := Rung{ID: stays, Name: "stays", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}
	before := Rung{ID: changes, Name: "changes", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}
	g.Configure(Config{Video: track, Rungs: []Rung{keeps, before}})
	next := before
	next.Width, next.Height = 160, 90
	g.Configure(Config{At: 1, Video: track, Rungs: []Rung{keeps, next}})
	g.Configure(Config{At: 2, Video: track, Rungs: []Rung{keeps, {ID: comes, Name: "comes", Codec: media.H264, Width: 160, Height: 90, Bitrate: 200_000, Effort: 1}}})
	play(g, units, 30)
	g.Drain()
	assert.Len(t, sink.tracks[stays], 1, "an encoder that is not changed goes on")
	assert.Len(t, sink.units[stays], 90)
	require.Len(t, sink.tracks[changes], 2)
	assert.Equal(t, 160, sink.tracks[changes][1].Width)
	assert.Len(t, sink.units[changes], 60)
	require.Len(t, sink.units[comes], 30)
	assert.EqualValues(t, 70*frame, sink.units[comes][0].PTS)
}

func TestPicturesAreDroppedEvenlyWhenItFallsBehind(t *testing.T) {
	track, units := film(t, 320, 180, 1, 300, media.Rational{})
	sink := newCollected()
	g := New(sink)
	g.Configure(Config{Video: track, Rungs: []Rung{
		{ID: rungA, Name: "a", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}, {ID: rungB, Name: "b", Codec: media.H264, Width: 160, Height: 90, Bitrate: 150_000, Effort: 1},
	}, Keep: units[59].PTS, Part: 6 * frame})
	next := int64(10 * frame)
	for i := range units {
		for msn := uint64(0); units[i].PTS >= next; msn++ {
			g.Boundary(segment.Boundary{MSN: uint64(next / frame), Start: next})
			next += 30 * frame
		}
		g.Received(units[i].DTS + media.VideoTimescale) // a second behind, all the time
		g.Video(&units[i])
	}
	g.Drain()
	st := g.Stats()
	assert.Positive(t, st.Dropped)
	assert.Positive(t, st.DropLevel)
	assert.EqualValues(t, 300-st.Dropped, len(sink.units[rungA]))
	var times [2][]int64
	for i, name := range []media.TrackID{rungA, rungB} {
		for _, u := range sink.units[name] {
			times[i] = append(times[i], u.PTS)
		}
	}
	assert.Equal(t, times[0], times[1], "the same pictures in every rendition")
	for at := int64(10 * frame); at < 309*frame; at += 6 * frame {
		assert.Contains(t, times[0], at, "every part has its first picture, and so its length")
	}
	for i := range 60 {
		assert.EqualValues(t, int64(10+i)*frame, times[0][i], "what is repeated for a new worker is kept whole")
	}
	keys := 0
	for _, u := range sink.units[rungA] {
		if u.Key {
			keys++
		}
	}
	assert.Equal(t, 10, keys, "no boundary loses its keyframe")
}

// TestWhatIsNotDecodedIsShownAgain: where nothing is decoded up to the next keyframe, each segment still begins with a keyframe
// and each part with a picture, which is the last one that there was.
func TestWhatIsNotDecodedIsShownAgain(t *testing.T) {
	track, units := film(t, 320, 180, 1, 240, media.Rational{})
	sink := newCollected()
	g := New(sink)
	g.Configure(Config{Video: track, Part: 6 * frame, Rungs: []Rung{
		{ID: rungA, Name: "a", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1},
		{ID: rungB, Name: "b", Codec: media.H264, Width: 160, Height: 90, Bitrate: 150_000, Effort: 1, Cadence: Cadence{Rate: media.Rational{Num: 15, Den: 1}}},
		{ID: rungR, Name: "r", Codec: media.H264, Width: 160, Height: 90, Bitrate: 150_000, Effort: 1, Cadence: Cadence{Every: 2}},
	}})
	next := int64(10 * frame)
	for i := range units {
		for ; units[i].PTS >= next; next += 30 * frame { // segments of a second, the source's keyframes two apart
			g.Boundary(segment.Boundary{MSN: uint64(next / frame / 30), Start: next})
		}
		if i == 65 {
			g.Received(units[i].DTS + 2*lagSkip)
		} else {
			g.Received(units[i].DTS)
		}
		g.Video(&units[i])
	}
	g.Drain()
	require.EqualValues(t, 55, g.Stats().Skipped)
	shown, _ := numbers(t, sink.tracks[rungA][0], sink.units[rungA])
	for n := 0; n < 240; n += 6 {
		want := n
		if n > 64 && n < 120 {
			want = 64
		}
		assert.Equal(t, want, shown[int64(10+n)*frame], "what is shown in the place of picture %d", n)
	}
	for name, list := range sink.units {
		keys := 0
		times := map[int64]bool{}
		for _, u := range list {
			times[u.PTS] = true
			if u.Key {
				assert.Zero(t, (u.PTS-10*frame)%(30*frame))
				keys++
			}
		}
		assert.Equal(t, 8, keys, "no boundary of %v loses its keyframe", name)
		for n := int64(0); n < 240; n += 6 {
			assert.True(t, times[(10+n)*frame], "the part of %v at picture %d has its first picture", name, n)
		}
	}
}

// TestWhoIsFarBehindNeedsAKeyframe, and says so until one comes.
func TestWhoIsFarBehindNeedsAKeyframe(t *testing.T) {
	track, units := film(t, 320, 180, 1, 60, media.Rational{})
	g := New(newCollected())
	g.Configure(Config{Video: track, Rungs: []Rung{{ID: rungA, Name: "a", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}}})
	give := func(u media.AccessUnit, key bool, lag int64) {
		u.Key = key
		g.Received(u.DTS + lag)
		g.Video(&u)
	}
	for i := range 10 {
		give(units[i], i == 0, 0)
	}
	assert.False(t, g.Stats().Keyless)
	give(units[10], false, 2*lagSkip)
	assert.True(t, g.Stats().Keyless)
	for i := 11; i < 20; i++ {
		give(units[i], false, 0)
	}
	assert.True(t, g.Stats().Keyless)
	assert.EqualValues(t, 10, g.Stats().Skipped)
	give(units[20], true, 0)
	assert.False(t, g.Stats().Keyless)
	g.Drain()
}

func TestBrokenAccessUnitsAreCounted(t *testing.T) {
	track, units := film(t, 320, 180, 1, 60, media.Rational{})
	sink := newCollected()
	g := New(sink)
	g.Configure(Config{Video: track, Rungs: []Rung{{ID: rungA, Name: "a", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}}})
	for i := 20; i < 25; i++ {
		for j := 8; j < len(units[i].Data); j++ {
			units[i].Data[j] ^= byte(j)
		}
	}
	play(g, units, 30)
	g.Drain()
	assert.Greater(t, len(sink.units[rungA]), 40, "the rest goes on")
}

func TestEncodedSoundKeepsItsTime(t *testing.T) {
	for _, missing := range []int{0, 5} {
		encodedSoundKeepsItsTime(t, missing)
	}
}

// encodedSoundKeepsItsTime encodes sound of which some frames are missing: silence stands in for them.
func encodedSoundKeepsItsTime(t *testing.T, missing int) {
	const rate = 48000
	enc, err := aacenc.New(rate, 2, 128_000)
	require.NoError(t, err)
	defer enc.Close()
	track := enc.Config.Track(enc.Config.Marshal())
	sink := newCollected()
	g := newSound(sink)
	g.Configure(Config{Audio: &track, Sound: []AudioRung{{ID: quiet, Name: "audio-64k", Codec: media.AAC, Bitrate: 64_000}}})
	g.Boundary(segment.Boundary{MSN: 0, Start: 0})
	const beep = rate // a tone begins after a second
	pcm := make([]int16, 2048)
	for f := range 100 {
		for i := range 1024 {
			n := f*1024 + i
			v := int16(0)
			if n >= beep {
				v = int16(12000 * math.Sin(2*math.Pi*1000*float64(n)/rate))
			}
			pcm[2*i], pcm[2*i+1] = v, v
		}
		data, err := enc.Encode(pcm)
		require.NoError(t, err)
		at := int64(f*1024 - aacenc.Delay)
		if len(data) > 0 && at >= 0 && (f < 30 || f >= 30+missing) {
			g.Audio(&media.AccessUnit{DTS: at, PTS: at, Duration: 1024, Key: true, Data: data})
		}
	}
	g.Drain()
	require.Empty(t, sink.failed)
	units := sink.units[quiet]
	require.Greater(t, len(units), 80)
	dec, err := aacdec.New(sink.tracks[quiet][0].Config)
	require.NoError(t, err)
	defer dec.Close()
	onset := int64(-1)
	for i, u := range units {
		if i > 0 {
			assert.InDelta(t, 1024, u.PTS-units[i-1].PTS, 1)
		}
		out, err := dec.Decode(u.Data)
		require.NoError(t, err)
		for j := 0; j < len(out) && onset < 0; j += 2 {
			if out[j] > 6000 {
				onset = u.PTS + int64(j/2)
			}
		}
	}
	assert.InDelta(t, beep, onset, rate/100, "within 10 ms")
}

func BenchmarkGraph(b *testing.B) {
	track, units := film(b, 640, 360, 1, 120, media.Rational{})
	for b.Loop() {
		g := New(newCollected())
		g.Configure(Config{Video: track, Keep: math.MaxInt64, Rungs: []Rung{{ID: rungA, Name: "a", Codec: media.H264, Width: 320, Height: 180, Bitrate: 300_000, Effort: 1}}})
		play(g, units, 60)
		g.Drain()
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*len(units)), "µs/picture")
}

// TestAGraphResumesBehindWhatIsPublished: a new worker that repeats a segment does not code again
// what viewers have, and begins with a keyframe where they are.
func TestAGraphResumesBehindWhatIsPublished(t *testing.T) {
	track, units := film(t, 320, 180, 1, 60, media.Rational{})
	sink := newCollected()
	g := New(sink)
	const from = (10 + 37) * frame
	g.Configure(Config{Video: track, Resume: map[media.TrackID]int64{small: from}, Rungs: []Rung{
		{ID: small, Name: "small", Codec: media.H264, Width: 160, Height: 90, Bitrate: 100_000, Effort: 1},
		{ID: other, Name: "other", Codec: media.H264, Width: 128, Height: 72, Bitrate: 100_000, Effort: 1},
	}})
	play(g, units, 25)
	g.Drain()
	require.Empty(t, sink.failed)
	got, _ := numbers(t, sink.tracks[small][0], sink.units[small])
	require.Len(t, got, 60-37, "nothing before, everything behind")
	assert.True(t, sink.units[small][0].Key)
	assert.EqualValues(t, from, sink.units[small][0].PTS)
	assert.Len(t, sink.units[other], 60, "a rendition without a place begins with its segment")
}

// TestARungThatFailsIsRetired: the others, in whatever codec, go on without it.
func TestARungThatFailsIsRetired(t *testing.T) {
	track, units := film(t, 320, 180, 1, 60, media.Rational{})
	sink := newCollected()
	g := New(sink)
	g.Configure(Config{Video: track, Rungs: []Rung{
		{ID: large, Name: "large", Codec: media.VP9, Width: 320, Height: 180, Bitrate: 200_000, Peak: 240_000, Buffer: 1000, Effort: 1},
		{ID: small, Name: "small", Codec: media.H264, Width: 160, Height: 90, Bitrate: 100_000, Effort: 1},
		{ID: other, Name: "other", Codec: media.VP8, Width: 160, Height: 90, Bitrate: 100_000, Effort: 1},
	}})
	play(g, units, 25)
	g.Drain()
	require.Len(t, sink.failed, 1)
	assert.EqualError(t, sink.failed[0], "there is no encoder of VP8 here")
	assert.Len(t, sink.units[large], 60)
	assert.Len(t, sink.units[small], 60)
	for i, u := range sink.units[large] {
		assert.Equal(t, sink.units[small][i].PTS, u.PTS)
		assert.Equal(t, sink.units[small][i].Key, u.Key, "keyframes of all codecs stand at the same times")
	}
}

// TestRungsHaveRatesOfTheirOwn: half and a number of pictures per second beside all of them, keyframes at the same
// times, and the nodes tell what each took.
func TestRungsHaveRatesOfTheirOwn(t *testing.T) {
	track, units := film(t, 320, 180, 1, 120, media.Rational{})
	track.FrameRate = media.Rational{Num: 30, Den: 1}
	sink := newCollected()
	g := New(sink)
	rung := func(id media.TrackID, name string, c Cadence) Rung {
		return Rung{ID: id, Name: name, Codec: media.H264, Width: 160, Height: 90, Bitrate: 150_000, Effort: 1, Cadence: c}
	}
	g.Configure(Config{Video: track, Rungs: []Rung{
		rung(large, "all", Cadence{}), rung(small, "half", Cadence{Every: 2}), rung(other, "24", Cadence{Rate: media.Rational{Num: 24, Den: 1}})}})
	play(g, units, 60)
	nodes := g.Stats().Nodes
	g.Drain()
	require.Empty(t, sink.failed)
	require.Len(t, sink.units[large], 120)
	assert.Len(t, sink.units[small], 60)
	assert.Len(t, sink.units[other], 96)
	keys := func(id media.TrackID) (out []int64) {
		for _, u := range sink.units[id] {
			if u.Key {
				out = append(out, u.PTS)
			}
		}
		return out
	}
	assert.Equal(t, keys(large), keys(small))
	assert.Equal(t, keys(large), keys(other))
	assert.Equal(t, media.Rational{Num: 15, Den: 1}, sink.tracks[small][0].FrameRate)
	assert.Equal(t, media.Rational{Num: 24, Den: 1}, sink.tracks[other][0].FrameRate)
	for i, u := range sink.units[other][:48] {
		assert.EqualValues(t, sink.units[other][0].PTS+int64(i)*3750, u.PTS)
	}
	require.Len(t, nodes, 1+3*3)
	for _, n := range nodes {
		assert.Greater(t, n.Units, int64(50), n.Kind)
	}
}

// TestSoundIsMixedAndResampled: stereo at 44.1 kHz comes out as Opus, at 48 kHz and in mono, in time.
func TestSoundIsMixedAndResampled(t *testing.T) {
	const rate = 44_100
	enc, err := aacenc.New(rate, 2, 128_000)
	require.NoError(t, err)
	defer enc.Close()
	track := enc.Config.Track(enc.Config.Marshal())
	sink := newCollected()
	g := newSound(sink)
	g.Configure(Config{Audio: &track, Sound: []AudioRung{{ID: quiet, Name: "audio-opus-64k-mono", Codec: media.Opus, Bitrate: 64_000, Channels: 1}}})
	g.Boundary(segment.Boundary{})
	const beep = rate
	pcm := make([]int16, 2048)
	for f := range 100 {
		for i := range 1024 {
			n := f*1024 + i
			v := int16(0)
			if n >= beep {
				v = int16(12000 * math.Sin(2*math.Pi*1000*float64(n)/rate))
			}
			pcm[2*i], pcm[2*i+1] = v, v
		}
		data, err := enc.Encode(pcm)
		require.NoError(t, err)
		if at := int64(f*1024 - aacenc.Delay); len(data) > 0 && at >= 0 {
			g.Audio(&media.AccessUnit{DTS: at, PTS: at, Duration: 1024, Key: true, Data: data})
		}
	}
	assert.Len(t, g.Nodes(), 3)
	require.NotNil(t, g.Loudness())
	assert.InDelta(t, -870, g.Loudness().Momentary, 40, "a tone of -8.7 dBFS")
	assert.InDelta(t, -870, g.Loudness().Peak, 40)
	g.Drain()
	require.Empty(t, sink.failed)
	got := sink.tracks[quiet][0]
	assert.Equal(t, []any{media.Opus, 48_000, 1}, []any{got.Codec, got.SampleRate, got.Channels})
	dec, err := opusdec.Open(got.Config)
	require.NoError(t, err)
	defer dec.Close()
	onset := int64(-1)
	for i, u := range sink.units[quiet] {
		if i > 0 {
			assert.EqualValues(t, 960, u.PTS-sink.units[quiet][i-1].PTS)
		}
		out, err := dec.Decode(u.Data)
		require.NoError(t, err)
		for j := 0; j < len(out) && onset < 0; j++ {
			if out[j] > 6000 {
				onset = u.PTS + int64(j)
			}
		}
	}
	assert.InDelta(t, 48_000, onset, 480, "within 10 ms")
}

// TestADecoderThatDoesNotOpenIsToldOnce: what cannot be decoded at all fails with a sentence, and nothing else.
func TestADecoderThatDoesNotOpenIsToldOnce(t *testing.T) {
	_, units := film(t, 320, 180, 1, 20, media.Rational{})
	for _, c := range []media.Codec{media.H264, media.HEVC} {
		sink := newCollected()
		g := New(sink)
		g.Configure(Config{Video: &media.Track{Kind: media.Video, Codec: c, Timescale: media.VideoTimescale, Config: []byte{1}},
			Rungs: []Rung{{ID: small, Name: "small", Codec: media.H264, Width: 160, Height: 90, Bitrate: 100_000, Effort: 1}}})
		play(g, units, 25)
		g.Drain()
		assert.Len(t, sink.failed, 1, c)
		assert.Empty(t, sink.units[small], c)
	}
	for _, c := range []media.Codec{media.AAC, media.Opus, media.EAC3, media.PCM} {
		sink := newCollected()
		g := newSound(sink)
		g.Configure(Config{Audio: &media.Track{Kind: media.Audio, Codec: c, Timescale: 48_000}, Sound: []AudioRung{{ID: quiet, Name: "audio-64k", Codec: media.AAC, Bitrate: 64_000}}})
		g.Boundary(segment.Boundary{})
		for i := range int64(5) {
			g.Audio(&media.AccessUnit{DTS: i * 1024, PTS: i * 1024, Key: true, Data: []byte{1, 2, 3}})
		}
		g.Drain()
		assert.Len(t, sink.failed, 1, c)
	}
}

// nowhere takes what comes and keeps nothing.
type nowhere struct{}

func (nowhere) Track(media.TrackID, media.Track)     {}
func (nowhere) Unit(media.TrackID, media.AccessUnit) {}
func (nowhere) Picture([]byte)                       {}
func (nowhere) Failed(_ media.TrackID, err error)    { panic(err) }

// BenchmarkLadder is a picture through decoder, two scalers and two encoders. Pictures are pooled: what is allocated is
// the encoded units.
func BenchmarkLadder(b *testing.B) {
	track, units := film(b, 640, 360, 1, 240, media.Rational{})
	b.ReportAllocs()
	g := New(nowhere{})
	g.Configure(Config{Video: track, Rungs: []Rung{
		{ID: large, Name: "large", Codec: media.H264, Width: 640, Height: 360, Bitrate: 500_000, Effort: 1},
		{ID: small, Name: "small", Codec: media.H264, Width: 320, Height: 180, Bitrate: 200_000, Effort: 1},
	}})
	turn, n := int64(0), 0
	for b.Loop() {
		u := units[n%len(units)]
		u.DTS, u.PTS = u.DTS+turn, u.PTS+turn
		if n%60 == 0 {
			g.Boundary(segment.Boundary{MSN: uint64(n / 60), Start: u.PTS})
		}
		g.Video(&u)
		if n++; n%len(units) == 0 {
			turn += int64(len(units)) * frame
		}
	}
	g.Drain()
}

// TestSoundsOfSeveralTracks: each rendition is of the track that it names, and a track of which nothing is encoded is not
// decoded.
func TestSoundsOfSeveralTracks(t *testing.T) {
	encode := func(amplitude float64) (*media.Track, []media.AccessUnit) {
		enc, err := aacenc.New(48_000, 1, 64_000)
		require.NoError(t, err)
		defer enc.Close()
		track := enc.Track()
		var out []media.AccessUnit
		for i := range int64(80) {
			pcm := make([]int16, 1024)
			for j := range pcm {
				pcm[j] = int16(amplitude * math.Sin(2*math.Pi*440*float64(i*1024+int64(j))/48_000))
			}
			frame, err := enc.Encode(pcm)
			require.NoError(t, err)
			if len(frame) > 0 {
				out = append(out, media.AccessUnit{DTS: i * 1024, PTS: i * 1024, Duration: 1024, Key: true, Data: frame})
			}
		}
		return &track, out
	}
	loud, loudUnits := encode(12_000)
	soft, softUnits := encode(1_000)
	loud.ID, soft.ID = 2, 3
	idle := *soft
	idle.ID = 4
	sink := newCollected()
	g := NewSounds(sink)
	g.Configure(Config{Audio: loud, Others: []*media.Track{soft, &idle}, Sound: []AudioRung{
		{ID: large, Name: "audio-64k", Codec: media.AAC, Bitrate: 64_000}, {ID: small, Name: "audio-64k-track2", Codec: media.AAC, Bitrate: 64_000, Track: 3},
	}})
	g.Boundary(segment.Boundary{})
	for i := range min(len(loudUnits), len(softUnits)) {
		g.Audio(2, &loudUnits[i])
		g.Audio(3, &softUnits[i])
		g.Audio(4, &softUnits[i])
	}
	errors, nodes, measured, _ := g.Status()
	assert.Zero(t, errors)
	assert.NotNil(t, measured)
	decoders := 0
	for _, n := range nodes {
		if n.Kind == DecodeSound {
			decoders++
		}
	}
	assert.Equal(t, 2, decoders)
	g.Drain()
	peak := func(id media.TrackID) (most int16) {
		dec, err := aacdec.New(sink.tracks[id][0].Config)
		require.NoError(t, err)
		defer dec.Close()
		for _, u := range sink.units[id][10:] {
			pcm, err := dec.Decode(u.Data)
			require.NoError(t, err)
			for _, v := range pcm {
				most = max(most, v)
			}
		}
		return most
	}
	assert.InDelta(t, 12_000, peak(large), 1500)
	assert.InDelta(t, 1_000, peak(small), 200)
}
