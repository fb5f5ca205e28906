package e2e

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// seen are the pictures and the sound of a stretch, decoded.
type seen struct {
	at      map[time.Duration]int // number of the picture that is shown at a time
	samples []float64
	rate    int
	begin   time.Duration // of the sound
}

// decoded is one track in access units.
type decoded struct {
	track media.Track
	units []media.AccessUnit
}

func (d *decoded) time(v int64) time.Duration {
	return time.Duration(media.Rescale(v, d.track.Timescale, int64(time.Second)))
}

func look(t *testing.T, video, sound *decoded) *seen {
	out := &seen{at: map[time.Duration]int{}}
	pictures, err := codec.NewPictureDecoder(&video.track)
	require.NoError(t, err)
	defer pictures.Close()
	var scaler scale.Scaler
	var pic *picture.Picture
	shown := func(f *picture.Frame) {
		if pic == nil {
			pic = picture.New(f.Width, f.Height)
		}
		require.NoError(t, scaler.FromFrame(pic, f))
		if n, ok := picture.DecodeNumber(pic.Y, pic.StrideY, pic.Width, pic.Height); ok {
			out.at[video.time(f.PTS)] = n
		}
	}
	for i := range video.units {
		require.NoError(t, pictures.Decode(&video.units[i], shown))
	}
	require.NoError(t, pictures.Decode(nil, shown))
	samples, err := codec.NewSoundDecoder(&sound.track)
	require.NoError(t, err)
	defer samples.Close()
	out.begin = sound.time(sound.units[0].PTS)
	for _, u := range sound.units {
		pcm, err := samples.Decode(u.Data)
		require.NoError(t, err)
		rate, channels := samples.Format()
		out.rate = rate
		if len(pcm) == 0 { // the first one of some decoders
			out.samples = append(out.samples, make([]float64, sound.track.FrameSamples)...)
		}
		for at := 0; at+channels <= len(pcm); at += channels {
			out.samples = append(out.samples, float64(pcm[at]))
		}
	}
	return out
}

// beeps is by how much the loop's beeps, whose middle is 50 ms behind each second, come late against its pictures, on
// average; how many were heard.
func (s *seen) beeps() (late time.Duration, heard int) {
	const window = 5 * time.Millisecond
	energy := func(from time.Duration, pitch float64) float64 {
		at, n := int((from-s.begin).Seconds()*float64(s.rate)), int(window.Seconds()*2*float64(s.rate))
		if at < 0 || at+n > len(s.samples) {
			return -1
		}
		var re, im float64
		for i := range n {
			a := 2 * math.Pi * pitch * float64(i) / float64(s.rate)
			re, im = re+s.samples[at+i]*math.Cos(a), im+s.samples[at+i]*math.Sin(a)
		}
		return re*re + im*im
	}
	var sum time.Duration
	for at, number := range s.at {
		if number%30 != 0 {
			continue
		}
		pitch := 880.0
		if number == 0 {
			pitch = 1320
		}
		var weight, moment float64
		whole := true
		for off := -150 * time.Millisecond; off < 250*time.Millisecond; off += window {
			e := energy(at+off, pitch)
			whole = whole && e >= 0
			e *= e // so that what is not the beep counts little
			weight, moment = weight+e, moment+e*float64(off+window)
		}
		if whole && weight > 0 {
			sum += time.Duration(moment/weight) - 50*time.Millisecond
			heard++
		}
	}
	if heard == 0 {
		return 0, 0
	}
	return sum / time.Duration(heard), heard
}

// inStep measures how late the sound of a channel is against its pictures, beside how it is in the loop itself. Both
// are decoded.
func (s *service) inStep(slug, rung, sound string, loop *demo.Loop) (late time.Duration, beeps int) {
	s.t.Helper()
	l := loopTracks(s.t, loop)
	before, n := look(s.t, l[media.Video], l[media.Audio]).beeps()
	require.Positive(s.t, n, "beeps in the loop itself")
	read := func(rendition string, kind media.Kind) *decoded {
		d := &decoded{}
		for _, e := range s.playlist(slug, rendition).Whole() {
			_, head, _ := s.get("/media/" + slug + "/" + rendition + "/" + e.Header)
			h, err := bmff.ReadHeader(head)
			require.NoError(s.t, err)
			_, b, _ := s.get("/media/" + slug + "/" + rendition + "/" + e.URI)
			fragments, err := h.ReadFragments(b)
			require.NoError(s.t, err)
			d.track = trackOf(s.t, h, kind)
			for _, f := range fragments {
				for _, u := range f.Units {
					d.units = append(d.units, media.AccessUnit{DTS: u.DTS, PTS: u.PTS, Key: u.Key, Data: u.Data})
				}
			}
		}
		return d
	}
	after, heard := look(s.t, read(rung, media.Video), read(sound, media.Audio)).beeps()
	return after - before, heard
}

func trackOf(t *testing.T, h *bmff.HeaderInfo, kind media.Kind) media.Track {
	c := coding.ByEntry(h.SampleEntry, h.ObjectType)
	require.NotNil(t, c, h.SampleEntry)
	stream, err := coding.Open(c, h.Config)
	require.NoError(t, err)
	track, _ := stream.Track()
	require.Equal(t, kind, track.Kind)
	track.Timescale = h.Timescale
	return track
}

// sent collects the tracks of a loop, the first of each kind.
type sent map[media.Kind]*decoded

func (l sent) FrameRate(int64) {}

func (l sent) Track(t media.Track) {
	if l[t.Kind] == nil {
		l[t.Kind] = &decoded{track: t}
	}
}

func (l sent) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	for _, d := range l {
		if d.track.ID == id {
			c := d.track.Stamps()
			scale := func(v int64) int64 { return media.Rescale(v, c.Scale, d.track.Timescale) }
			d.units = append(d.units, media.AccessUnit{DTS: scale(stamp), PTS: scale(stamp + composition), Key: key, Data: data})
		}
	}
}

func loopTracks(t *testing.T, loop *demo.Loop) sent {
	l := sent{}
	readLoop(t, loop, l)
	return l
}
