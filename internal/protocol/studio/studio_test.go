package studio

import (
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/sap"
)

const sender = "192.0.2.7"

func description(name string, session, version int, media ...string) []byte {
	return fmt.Appendf(nil, "v=0\r\no=- %d %d IN IP4 %s\r\ns=%s\r\nc=IN IP4 239.20.1.1/16\r\nt=0 0\r\n%s", session, version, sender, name, strings.Join(media, ""))
}

const (
	raw   = "m=video 5004 RTP/AVP 96\r\na=rtpmap:96 raw/90000\r\na=fmtp:96 sampling=YCbCr-4:2:2; width=1280; height=720; depth=10; exactframerate=30; colorimetry=BT709\r\na=source-filter: incl IN IP4 239.20.1.1 192.0.2.7\r\na=mediaclk:direct=17\r\n"
	sound = "m=audio 5006 RTP/AVP 97\r\nc=IN IP4 239.20.1.2/16\r\na=rtpmap:97 L24/48000/2\r\n"
	rgb   = "m=video 5004 RTP/AVP 96\r\na=rtpmap:96 raw/90000\r\na=fmtp:96 sampling=RGB; width=1280; height=720; depth=8\r\n"
)

func announce(d *Directory, deleted bool, text []byte, from string) {
	a := sap.Announcement{Deleted: deleted, Sender: netip.MustParseAddr(sender), Description: text}
	d.announced("lo", a.Marshal(), netip.MustParseAddr(from))
}

func newDirectory() *Directory {
	return &Directory{Interfaces: []string{"lo"}, Logger: slog.New(slog.DiscardHandler), sources: map[string]*entry{}}
}

func TestWhatIsAnnounced(t *testing.T) {
	d := newDirectory()
	announce(d, false, description("Deck camera", 1, 1, raw, sound), sender)
	announce(d, false, description("Wall", 2, 1, rgb), sender)
	list, wrong := d.List()
	require.Len(t, list, 2)
	assert.Empty(t, wrong)
	assert.Equal(t, []any{"Deck camera", "SAP", sender, "", false}, []any{list[0].Name, list[0].Via, list[0].From, list[0].Problem, list[0].Quiet})
	assert.Equal(t, []string{"raw video, 1280x720, 30/s, 10 bits", "PCM, 48000 Hz, 2 channels"}, []string{list[0].Tracks[0].Text, list[0].Tracks[1].Text})
	assert.EqualValues(t, 1280*720*20*30+48000*2*24, list[0].Bitrate)
	assert.Contains(t, list[1].Problem, "RGB")

	e, err := d.find("Deck camera")
	require.NoError(t, err)
	assert.Equal(t, []any{"239.20.1.1", 5004, 5005, sender}, []any{e.streams[0].group, e.streams[0].port, e.streams[0].rtcp, e.streams[0].source})
	assert.Equal(t, []any{"239.20.1.2", 5006, "", true, uint32(17)}, []any{e.streams[1].group, e.streams[1].port, e.streams[1].source, e.streams[0].m.Direct, e.streams[0].m.Offset})
	byID, err := d.find(e.ID)
	require.NoError(t, err)
	assert.Same(t, e, byID)

	announce(d, false, description("Deck camera", 1, 2, raw), sender) // without sound, from now on
	other, err := d.find("Deck camera")
	require.NoError(t, err)
	assert.Equal(t, e.ID, other.ID)
	assert.True(t, (&Receiver{Directory: d}).changed(e))

	announce(d, false, description("Deck camera", 1, 9, sound), "192.0.2.66") // says that it is another one
	still, err := d.find("Deck camera")
	require.NoError(t, err)
	assert.EqualValues(t, 2, still.version)
	announce(d, true, description("Deck camera", 1, 9), "192.0.2.66")
	_, err = d.find("Deck camera")
	require.NoError(t, err, "who did not announce a source cannot take it back")

	announce(d, false, description("Deck camera", 3, 1, raw), sender)
	_, err = d.find("Deck camera")
	assert.ErrorContains(t, err, "several sources")
	announce(d, true, description("", 3, 1), sender)
	_, err = d.find("Deck camera")
	assert.NoError(t, err)
	_, err = d.find("Mast")
	assert.ErrorContains(t, err, `called "Mast"; 2 others`)
	_, err = (&Directory{}).find("Mast")
	assert.ErrorContains(t, err, "--studio")
}

// TestStreamsThatAreSentTwice: the second path of a stream (RFC 7104) is left out, and ports of reports are where the
// description says.
func TestStreamsThatAreSentTwice(t *testing.T) {
	text := string(description("Deck camera", 1, 1, raw+"a=mid:A\r\na=rtcp:6001\r\n", strings.Replace(raw, "5004", "5104", 1)+"a=mid:B\r\n", sound))
	e, err := describe([]byte(strings.Replace(text, "t=0 0\r\n", "t=0 0\r\na=group:DUP A B\r\n", 1)), "lo")
	require.NoError(t, err)
	require.Len(t, e.streams, 2)
	assert.Equal(t, []any{5004, 6001, 5006}, []any{e.streams[0].port, e.streams[0].rtcp, e.streams[1].port})
}

// TestAFloodOfAnnouncements: what strangers make the service keep is bounded, and said to be, and others find room.
func TestAFloodOfAnnouncements(t *testing.T) {
	d := newDirectory()
	for n := range 5000 {
		announce(d, false, description(fmt.Sprint("n", n), n+1, 1, raw), "192.0.2.66")
	}
	for n := range 5000 {
		announce(d, false, description(fmt.Sprint("m", n), 200000+n, 1, raw), fmt.Sprintf("192.0.2.%d", 100+n%10))
	}
	announce(d, false, description("Deck camera", 99999, 1, raw), sender)
	for n := range 5000 {
		announce(d, false, description(fmt.Sprint("o", n), 300000+n, 1, raw), fmt.Sprintf("192.0.2.%d", 100+n%10))
	}
	d.announced("lo", []byte("nonsense"), netip.MustParseAddr(sender))
	d.announced("lo", (&sap.Announcement{Sender: netip.MustParseAddr(sender), Description: []byte("v=0\r\nnonsense")}).Marshal(), netip.MustParseAddr(sender))
	list, wrong := d.List()
	assert.Len(t, list, maxSources)
	require.Len(t, wrong, 1)
	assert.Contains(t, wrong[0], "found no room")
	_, err := d.find("Deck camera")
	assert.NoError(t, err)
}

func TestSourcesThatAreQuiet(t *testing.T) {
	d := newDirectory()
	now := time.Now()
	put := func(age time.Duration, interval time.Duration, id string) {
		d.sources[id] = &entry{Source: Source{ID: id, Name: id, Heard: now.Add(-age)}, interval: interval}
	}
	put(time.Second, 5*time.Second, "here")
	put(time.Minute, 5*time.Second, "quiet")
	put(time.Minute, 30*time.Second, "seldom")
	put(6*time.Minute, 5*time.Second, "gone")
	list, _ := d.List()
	require.Len(t, list, 3)
	assert.Equal(t, []bool{false, true, false}, []bool{list[0].Quiet, list[1].Quiet, list[2].Quiet})
}

func FuzzDescribe(f *testing.F) {
	f.Add(description("Deck camera", 1, 1, raw, sound))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = describe(b, "lo") })
}
