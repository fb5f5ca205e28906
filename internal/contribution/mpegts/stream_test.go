package mpegts

import (
	"math/bits"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/captions"
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
