package publish

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin/run"
	"metaplasis/internal/settings"
)

// file is a segment of text of a channel as a file, "" while it is not there.
func (p *packer) file(t *testing.T, name string, msn uint64) string {
	r := p.Rendition(name)
	if r == nil || r.View() == nil {
		return ""
	}
	s, _ := r.View().Snapshot.Find(msn)
	if s == nil {
		return ""
	}
	b, err := p.Wrap(t.Context(), r, s, "vtt")
	require.NoError(t, err)
	return string(b)
}

// TestTextStandsInSegmentsOfThePictures: what is said comes out in the segments of its time, in two parts where one ends
// meanwhile, once nothing more can be said in it.
func TestTextStandsInSegmentsOfThePictures(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	const second = media.VideoTimescale
	say := func(at int64, text string) {
		p.texts.Say(run.Caption{At: at, Service: "TT888", Language: "de", Text: text})
	}
	settle := func(at int64) {
		p.texts.Settle(at)
	}
	send := func(seconds int) {
		for range 30 * seconds {
			p.picture(100)
		}
	}
	send(5) // segments 0 and 1 are whole
	say(second, "")
	assert.Nil(t, p.Rendition("text-tt888"), "a service that says nothing")
	say(second, "BOATS AT")
	say(3*second, "THE GATE")
	assert.Empty(t, p.file(t, "text-tt888", 0), "more may be said of its time")
	settle(2*second - 1)
	assert.Empty(t, p.file(t, "text-tt888", 0))
	settle(2 * second)
	assert.Equal(t, "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:0,LOCAL:00:00:00.000\n\n00:00:01.000 --> 00:00:02.000\nBOATS AT\n", p.file(t, "text-tt888", 0))
	settle(5 * second)
	assert.Equal(t, "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:180000,LOCAL:00:00:00.000\n\n00:00:00.000 --> 00:00:01.000\nBOATS AT\n\n00:00:01.000 --> 00:00:02.000\nTHE GATE\n", p.file(t, "text-tt888", 1))
	first := p.file(t, "text-tt888", 1)
	say(2*second, "TOO LATE") // it is told that it was said in a time that is out
	assert.Equal(t, first, p.file(t, "text-tt888", 1), "an address has one content")
	send(2)
	settle(8 * second)
	assert.Contains(t, p.file(t, "text-tt888", 2), "00:00:00.000 --> 00:00:01.000\nTHE GATE\n\n00:00:01.000 --> 00:00:02.000\nTOO LATE")
	say(1<<50, "NEVER")
	say(8*second, strings.Repeat("long ", 10_000))
	send(4)
	settle(12 * second)
	assert.NotContains(t, p.file(t, "text-tt888", 4), "NEVER")
	assert.Less(t, len(p.file(t, "text-tt888", 4)), 3<<10)

	v := p.Rendition("text-tt888").View()
	assert.Equal(t, p.Rendition("a").View().List.First().MSN, v.List.First().MSN)
	body, _ := v.Playlist(0, false).Bytes()
	assert.Contains(t, string(body), ".vtt\n")
	assert.NotContains(t, string(body), "EXT-X-MAP")
	assert.NotContains(t, string(body), "EXT-X-PART")
	s, _ := v.Snapshot.Find(2)
	head, err := bmff.ReadHeader(s.Header.Bytes)
	require.NoError(t, err)
	assert.Equal(t, []any{"wvtt", "text", int64(90000)}, []any{head.SampleEntry, head.Handler, head.Timescale})
	b, err := s.Bytes()
	require.NoError(t, err)
	fragments, err := head.ReadFragments(b[0])
	require.NoError(t, err)
	var kinds []string
	for _, u := range fragments[0].Units {
		kinds = append(kinds, fmt.Sprint(u.PTS, string(u.Data[4:8])))
	}
	assert.Equal(t, []string{"360000vttc", "450000vttc"}, kinds)

	p.list()
	d, _ := p.Document("index.m3u8")
	require.NotNil(t, d)
	index, _ := d.Bytes()
	assert.Contains(t, string(index), `#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID="text",NAME="Subtitles 888",DEFAULT=NO,AUTOSELECT=YES,FORCED=NO,LANGUAGE="de",URI="text-tt888/index.m3u8"`)
	assert.Contains(t, string(index), `,SUBTITLES="text"`)
	d, _ = p.Document("index.mpd")
	require.NotNil(t, d)
	mpd, _ := d.Bytes()
	assert.Contains(t, string(mpd), `contentType="text" mimeType="application/mp4"`)
	assert.Contains(t, string(mpd), `codecs="wvtt"`)
}

// TestServicesOfCaptions: what captions say in both forms is one rendition, and how many there are is bounded.
func TestServicesOfCaptions(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	x := p.texts
	x.Say(run.Caption{At: 0, Service: "CC1", Text: "HELLO"})
	x.Say(run.Caption{At: 0, Service: "SERVICE1", Text: "Hello"})
	x.Say(run.Caption{At: 0, Service: "CC3", Text: "HOLA"})
	require.Len(t, x.list, 2)
	for n := range 50 {
		x.Say(run.Caption{At: 0, Service: fmt.Sprint("TT", 100+n), Text: "x"})
	}
	assert.Len(t, x.list, MaxTexts)
	for n := range int64(5 * maxCues) {
		x.Say(run.Caption{At: n * 3000, Service: "CC1", Text: fmt.Sprint(n)})
	}
	assert.LessOrEqual(t, len(x.list[0].cues), maxCues)
	x.Begin(10 * media.VideoTimescale * 60)
	assert.Empty(t, x.list[0].now.Text, "another run begins with nothing shown")
}
