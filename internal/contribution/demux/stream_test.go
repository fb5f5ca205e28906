package demux

import (
	"bytes"
	"fmt"
	"math/bits"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/demo"
	"metaplasis/internal/contribution"
	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// listener is a feed that keeps what subtitles say.
type listener struct {
	contribution.Feed
	said []contribution.Caption
}

func (l *listener) Caption(c contribution.Caption) { l.said = append(l.said, c) }
func (l *listener) Kicked() <-chan string          { return nil }
func (l *listener) Line(contribution.Line)         {}
func (l *listener) End(string)                     {}

// teletext is a PES payload with page 888 and one row. The address and the header of the page are bytes as they are
// sent, protected by hamming codes.
func teletext(text string) []byte {
	unit := func(body ...byte) []byte {
		for len(body) < 42 {
			body = append(body, 0x04) // a space, lowest bit first
		}
		return append([]byte{3, 44, 0xe7, 0xe4}, body...)
	}
	sent := func(list ...byte) (out []byte) {
		for _, b := range list {
			out = append(out, bits.Reverse8(b))
		}
		return out
	}
	row := sent(0x15, 0xa1) // magazine 8, row 24
	for i := range len(text) {
		c := text[i]
		if bits.OnesCount8(c)%2 == 0 {
			c |= 0x80
		}
		row = append(row, bits.Reverse8(c))
	}
	out := append([]byte{0x10}, unit(sent(0x15, 0x15, 0xd0, 0xd0, 0x15, 0xd0, 0x15, 0x15, 0x15, 0x15)...)...) // row 0: page 88, erase
	return append(out, unit(row...)...)
}

func TestTeletextGoesToTheFeed(t *testing.T) {
	s := NewStream(time.Now)
	feed := &listener{}
	_, stop := s.Take("", func() (contribution.Feed, error) { return feed, nil })
	defer stop("over")
	s.Expect(feed)
	tracks := []ts.StreamTrack{
		{PID: 0x100, Type: 0x1b, Codec: media.H264, Kind: media.Video},
		{PID: 0x101, Type: 6, Codec: media.Teletext, Kind: media.Data, Language: "deu", Pages: []captions.Page{{Number: 888, Language: "deu", Impaired: true}}},
		{PID: 0x102, Type: 6, Codec: media.Teletext, Kind: media.Data, Language: "deu"}, // without subtitles
	}
	s.Programmes([]ts.Programme{{Number: 1, Tracks: tracks}})
	s.PES(0x101, ts.PES{PTS: 90000, DTS: 90000, Data: teletext("WIND 14")})
	s.PES(0x102, ts.PES{PTS: 90000, DTS: 90000, Data: teletext("NEWS")})
	s.PES(0x101, ts.PES{PTS: 180000, DTS: 180000, Data: []byte{0x10}})
	s.PES(0x101, ts.PES{PTS: 270000, DTS: 270000, Data: teletext("")})
	require.Len(t, feed.said, 2)
	assert.Equal(t, contribution.Caption{Service: "TT888", Language: "de", Impaired: true, Clock: ts.Stamps, Stamp: 90000, Text: "WIND 14"}, feed.said[0])
	assert.Equal(t, []any{int64(270000), ""}, []any{feed.said[1].Stamp, feed.said[1].Text})
}

// kept is a feed that keeps what it is told.
type kept struct {
	listener
	tracks map[media.TrackID][]media.Track
	units  map[media.TrackID][]string
}

func (k *kept) Track(t media.Track) { k.tracks[t.ID] = append(k.tracks[t.ID], t) }
func (k *kept) Unit(id media.TrackID, _, _ int64, _ bool, data []byte) {
	k.units[id] = append(k.units[id], fmt.Sprintf("%x", data[max(0, len(data)-8):]))
}
func (k *kept) FrameRate(int64) {}

// loop is a demo camera's video and audio.
type loop struct {
	video, sound media.Track
	tags         []*flv.Tag
}

func readLoop(t *testing.T) (l loop) {
	file, err := flv.NewReader(bytes.NewReader(demo.Others[2].FLV))
	require.NoError(t, err)
	for {
		tag, err := file.Next()
		if err != nil {
			return l
		}
		kind := map[uint8]media.Kind{flv.TagVideo: media.Video, flv.TagAudio: media.Audio}[tag.Type]
		if kind == 0 && tag.Type != flv.TagVideo {
			continue
		}
		require.NoError(t, flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			if !b.Config {
				l.tags = append(l.tags, tag)
				return nil
			}
			track, err := flv.Track(b.Codec, b.Data)
			track.ID = media.TrackID(track.Kind) + 1
			if track.Kind == media.Video {
				l.video = track
			} else {
				l.sound = track
			}
			return err
		}))
	}
}

// stream writes the loop from one of its tags to another as a transport stream, the sound's PID before that of the pictures or behind it.
func (l *loop) stream(t *testing.T, from, to int, soundFirst bool) (out []byte) {
	m := ts.NewMux()
	p := m.Programme(1, "Committee boat")
	order := []*media.Track{&l.video, &l.sound}
	if soundFirst {
		order[0], order[1] = order[1], order[0]
	}
	tracks := map[media.TrackID]*ts.MuxTrack{}
	for _, track := range order {
		tr, err := p.Track(track)
		require.NoError(t, err)
		tracks[track.ID] = tr
	}
	for _, tag := range l.tags[from:to] {
		require.NoError(t, flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			id := l.sound.ID
			if tag.Type == flv.TagVideo {
				id = l.video.ID
			}
			at := int64(tag.Timestamp)*90 + 900_000
			tracks[id].Unit(at, at+int64(b.Composition)*90, b.Key || id == l.sound.ID, b.Data)
			return nil
		}))
	}
	return m.Take()
}

// TestTracksThatMoveGoOnInTheirPlace: an encoder that starts over gives its pictures the PID of its sound, and its sound that of its
// pictures, under the same version of the map (ISO/IEC 13818-1, 2.4.4.8).
func TestTracksThatMoveGoOnInTheirPlace(t *testing.T) {
	l := readLoop(t)
	half := 0
	for i, tag := range l.tags { // at a keyframe
		_ = flv.Bodies(tag.Type, tag.Body, func(b *flv.Body) error {
			if tag.Type == flv.TagVideo && b.Key && i > len(l.tags)/3 && half == 0 {
				half = i
			}
			return nil
		})
	}
	require.Positive(t, half)
	feed := &kept{tracks: map[media.TrackID][]media.Track{}, units: map[media.TrackID][]string{}}
	s := NewStream(time.Now)
	_, stop := s.Take("", func() (contribution.Feed, error) { return feed, nil })
	defer stop("over")
	s.Write(l.stream(t, 0, half, false))
	s.Write(l.stream(t, half, len(l.tags), true))
	s.demux.Flush(0)
	require.Len(t, feed.tracks, 2, "no further track")
	counts := map[media.Kind]int{}
	for id, list := range feed.tracks {
		for _, track := range list {
			assert.Equal(t, list[0].Kind, track.Kind)
		}
		counts[list[0].Kind] = len(feed.units[id])
	}
	pictures := 0
	for _, tag := range l.tags {
		if tag.Type == flv.TagVideo {
			pictures++
		}
	}
	assert.InDelta(t, pictures, counts[media.Video], 3, "pictures go on")
	assert.InDelta(t, len(l.tags)-pictures, counts[media.Audio], 8, "and so does the sound")
}
