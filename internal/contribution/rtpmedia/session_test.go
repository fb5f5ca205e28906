package rtpmedia

import (
	"testing"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/rtp"
	"github.com/pion/sdp/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/media"
)

// anchored notes where tracks were set, as the time of their stamp 0.
type anchored struct {
	contribution.Feed
	at    map[media.TrackID]time.Time
	set   int
	units int
}

func (a *anchored) Track(media.Track)                              {}
func (a *anchored) Unit(media.TrackID, int64, int64, bool, []byte) { a.units++ }
func (a *anchored) Anchor(id media.TrackID, stamp int64, at time.Time) {
	a.at[id] = at.Add(-time.Duration(stamp) * time.Second / media.VideoTimescale)
	a.set++
}

func description(t *testing.T, rtpmap, fmtp string) *Media {
	m, err := Describe(&sdp.MediaDescription{MediaName: sdp.MediaName{Formats: []string{"96"}},
		Attributes: []sdp.Attribute{{Key: "rtpmap", Value: "96 " + rtpmap}, {Key: "fmtp", Value: "96 " + fmtp}}})
	require.NoError(t, err)
	return m
}

// two is a session of two streams of sound whose senders' clock is a day before ours. The second one is sent 150 ms
// later than what belongs to it.
type two struct {
	*Session
	tracks [2]*Track
	feed   *anchored
	begun  time.Time
	n      uint16
}

func newTwo(t *testing.T) *two {
	w := &two{feed: &anchored{at: map[media.TrackID]time.Time{}}, begun: time.Now()}
	w.Session = NewSession(func() (contribution.Feed, error) { return w.feed, nil })
	for i := range w.tracks {
		var err error
		w.tracks[i], err = w.Add(description(t, "OPUS/48000/2", ""), 100*time.Millisecond)
		require.NoError(t, err)
	}
	return w
}

// late is how much later the streams come than what they hold was heard.
var late = [2]time.Duration{20 * time.Millisecond, 170 * time.Millisecond}

// send sends what was heard between two times, in frames of 20 ms.
func (w *two) send(from, to time.Duration) {
	for at := from; at < to; at += 20 * time.Millisecond {
		for i, t := range w.tracks {
			t.RTP(&rtp.Packet{Header: rtp.Header{PayloadType: 96, SSRC: uint32(7 + i), SequenceNumber: w.n, Timestamp: stampOf(i, at)}, Payload: []byte{0xf8, 0xff, 0xfe}}, w.begun.Add(at+late[i]))
		}
		w.n++
	}
}

// stampOf: each stream counts from a number of its own, the second one past the turn of 32 bits.
func stampOf(i int, at time.Duration) uint32 {
	return uint32(int64(at)*48000/int64(time.Second)) + []uint32{1000, 0xffffff00}[i]
}

func (w *two) report(i int, at time.Duration) {
	t := w.begun.Add(at - 24*time.Hour)
	const since1900 = 2208988800
	w.Report(&rtcp.SenderReport{SSRC: uint32(7 + i), RTPTime: stampOf(i, at), NTPTime: uint64(t.Unix()+since1900)<<32 | uint64(t.Nanosecond())<<32/1_000_000_000})
}

// apart is by how much the second stream lies behind the first, of what was heard at one time.
func (w *two) apart() time.Duration {
	of := func(i int) time.Duration {
		return w.feed.at[w.tracks[i].id].Add(time.Duration(media.Rescale(int64(w.tracks[i].whole), 48000, int64(time.Second)))).Sub(w.begun)
	}
	return (of(1) - of(0)).Round(time.Millisecond)
}

// TestClocksOfASender: streams are set beside each other by what the sender reports, before its packets or behind them;
// by their arrival when it reports nothing; and when it reports late, one line stays where it is, whatever the time of
// day is for the sender.
func TestClocksOfASender(t *testing.T) {
	early := newTwo(t)
	early.report(0, 0)
	early.report(1, 0)
	early.send(0, 200*time.Millisecond)
	assert.Equal(t, 19, early.feed.units, "once both are there")
	assert.Zero(t, early.apart())
	assert.Equal(t, -24*time.Hour, early.feed.at[early.tracks[0].id].Add(time.Duration(early.tracks[0].whole)*time.Second/48000).Sub(early.begun.Add(180*time.Millisecond)).Round(time.Millisecond), "on the sender's clock")

	none := newTwo(t)
	none.send(0, clocksWait-300*time.Millisecond)
	assert.Zero(t, none.feed.units, "reports are waited for")
	none.send(clocksWait-300*time.Millisecond, 2*time.Second)
	assert.Positive(t, none.feed.units)
	assert.Equal(t, late[1]-late[0], none.apart(), "as they came")

	none.report(0, 2*time.Second)
	before := none.feed.at[none.tracks[0].id]
	assert.Equal(t, 2, none.feed.set, "one report alone tells nothing")
	none.report(1, 2*time.Second)
	assert.Zero(t, none.apart())
	assert.Equal(t, before.Round(time.Millisecond), none.feed.at[none.tracks[0].id].Round(time.Millisecond), "one line stays")
	none.report(0, 3*time.Second)
	none.report(1, 3*time.Second)
	assert.Zero(t, none.apart())
	assert.Equal(t, before.Round(time.Millisecond), none.feed.at[none.tracks[0].id].Round(time.Millisecond))

	played := newTwo(t)
	for i, tr := range played.tracks {
		tr.Align(stampOf(i, 0), played.begun)
	}
	played.send(0, 200*time.Millisecond)
	assert.Equal(t, 20, played.feed.units, "the answer to PLAY is enough")
	assert.Zero(t, played.apart())
	played.report(0, time.Second)
	played.report(1, time.Second)
	assert.Zero(t, played.apart())
}

// A sender that takes another SSRC, with other numbers and stamps, goes on where it was: at once when it said that it left,
// else after a short silence. Nothing counts as lost, and the streams stay beside each other.
func TestAnotherSSRC(t *testing.T) {
	for name, said := range map[string]bool{"it says so": true, "it falls silent": false} {
		w := newTwo(t)
		w.report(0, 0)
		w.report(1, 0)
		w.send(0, time.Second)
		units := w.feed.units
		at := time.Second
		if said {
			w.Control(&rtcp.Goodbye{Sources: []uint32{7, 8}})
		} else {
			at += ssrcSilence + 20*time.Millisecond
		}
		from := at
		for ; at < from+time.Second; at += 20 * time.Millisecond {
			for i, tr := range w.tracks {
				tr.RTP(&rtp.Packet{Header: rtp.Header{PayloadType: 96, SSRC: uint32(107 + i), SequenceNumber: uint16(40000 + i*1000 + int((at-from)/(20*time.Millisecond))),
					Timestamp: stampOf(i, at) + 0x51234567}, Payload: []byte{0xf8, 0xff, 0xfe}}, w.begun.Add(at+late[i]))
			}
		}
		assert.Equal(t, units+100, w.feed.units, "%s: every packet of the new one", name)
		for i, tr := range w.tracks {
			assert.Zero(t, tr.queue.Lost, name)
			got := time.Duration(media.Rescale(tr.whole, 48000, int64(time.Second))) - time.Duration(media.Rescale(int64([]uint32{1000, 0xffffff00}[i]), 48000, int64(time.Second)))
			assert.InDelta(t, (at - 20*time.Millisecond).Milliseconds(), got.Milliseconds(), 1, "%s: its times go on", name)
		}
	}
}

// Another sender's packets beside the stream's are left out.
func TestTwoSendersAtOnce(t *testing.T) {
	w := newTwo(t)
	w.report(0, 0)
	w.report(1, 0)
	for at := time.Duration(0); at < time.Second; at += 20 * time.Millisecond {
		w.send(at, at+20*time.Millisecond)
		w.tracks[0].RTP(&rtp.Packet{Header: rtp.Header{PayloadType: 96, SSRC: 99, SequenceNumber: w.n, Timestamp: 1}, Payload: []byte{0xf8}}, w.begun.Add(at+25*time.Millisecond))
	}
	assert.EqualValues(t, 50, w.tracks[0].other)
	assert.Equal(t, 99, w.feed.units)
}
