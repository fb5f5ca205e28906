package inspect

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/aac"
	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bits"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// recording is what an inspector is shown: a sound stream, recorded from our own writers, into
// which each case plants one fault.
type recording struct {
	multi         string
	first, second string // states of the picture's playlist, two seconds apart
	sound         string
	header        []byte
	soundHeader   []byte
	segments      map[uint64][]byte
	soundSegments map[uint64][]byte
	parts         [][]byte // of the open segment, which is number 14
	mpd, mpd2     string
	transport     [][]byte
	packed        []byte
	wait          time.Duration // between the two states
}

// sps is Baseline, level 3, 640x360.
var sps = func() []byte {
	var w bits.Writer
	w.U(8, 66)
	w.U(8, 0xc0)
	w.U(8, 30)
	for _, v := range []uint32{0, 0, 2, 1} {
		w.UE(v)
	}
	w.U(1, 0)
	w.UE(39)
	w.UE(22)
	w.U(3, 7) // progressive, direct 8x8, cropped
	for _, v := range []uint32{0, 0, 0, 4} {
		w.UE(v)
	}
	w.U(2, 1) // no VUI; stop bit
	return append([]byte{0x67}, w.Bytes()...)
}()

var pps = []byte{0x68, 0xce, 0x3c, 0x80}

func picture(t *testing.T) *media.Track {
	c := avc.Config{SPS: [][]byte{sps}, PPS: [][]byte{pps}, LengthSize: 4}
	track, err := c.Track()
	require.NoError(t, err)
	return &track
}

func soundTrack() *media.Track {
	c := aac.Config{ObjectType: 2, SampleRate: 48000, OutputRate: 48000, Channels: 2}
	track := c.Track(c.Marshal())
	return &track
}

const frame = 3000

// pictures makes a run of encoded pictures; number 0 is an IDR.
func pictures(from, count int64) (out []media.AccessUnit) {
	for n := range count {
		nal := []byte{0x41, byte(n), 1, 2, 3}
		if n == 0 {
			nal[0] = 0x65
		}
		at := (from + n) * frame
		out = append(out, media.AccessUnit{DTS: at, PTS: at, Duration: frame, Key: n == 0, Data: avc.AppendNAL(nil, nal)})
	}
	return out
}

// segment makes segment number msn: ten parts of six pictures.
func segment(t *media.Track, msn uint64, change func([]media.AccessUnit)) []byte {
	u := pictures(int64(msn)*60, 60)
	if change != nil {
		change(u)
	}
	var out []byte
	for n := range 10 {
		out = append(out, bmff.Chunk(t, bmff.ChunkOptions{Sequence: uint32(msn)<<6 + uint32(n), First: n == 0}, u[n*6:n*6+6])...)
	}
	return out
}

func frames(msn uint64) (out []media.AccessUnit) {
	for n := int64(msn) * 2 * 48000 / 1024; n*1024 < int64(msn+1)*2*48000; n++ {
		out = append(out, media.AccessUnit{DTS: n * 1024, PTS: n * 1024, Duration: 1024, Key: true, Data: []byte{1, 2, 3}})
	}
	if msn > 0 && out[0].PTS < int64(msn)*2*48000 {
		out = out[1:]
	}
	return out
}

var epoch = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// playlist writes one state: whole segments from first to before open, then parts of that.
func playlist(first, open uint64, parts int, name string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "#EXTM3U\n#EXT-X-VERSION:8\n#EXT-X-TARGETDURATION:2\n#EXT-X-PART-INF:PART-TARGET=0.20000\n")
	fmt.Fprintf(&b, "#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=0.60000,HOLD-BACK=6.0,CAN-SKIP-UNTIL=12.0\n")
	fmt.Fprintf(&b, "#EXT-X-MEDIA-SEQUENCE:%d\n#EXT-X-DISCONTINUITY-SEQUENCE:0\n#EXT-X-INDEPENDENT-SEGMENTS\n", first)
	fmt.Fprintf(&b, "#EXT-X-DATERANGE:ID=\"m1\",CLASS=\"start\",START-DATE=\"2026-06-01T12:00:20.000Z\",DURATION=3.000\n")
	fmt.Fprintf(&b, "#EXT-X-MAP:URI=\"header.mp4\"\n")
	for msn := first; msn <= open; msn++ {
		if msn%2 == 0 || msn == first {
			fmt.Fprintf(&b, "#EXT-X-PROGRAM-DATE-TIME:%s\n", epoch.Add(time.Duration(msn)*2*time.Second).Format("2006-01-02T15:04:05.000Z"))
		}
		count := 10
		if msn == open {
			count = parts
		}
		if msn+3 > open {
			for n := range count {
				independent := ""
				if n == 0 || name == "audio" {
					independent = ",INDEPENDENT=YES"
				}
				fmt.Fprintf(&b, "#EXT-X-PART:DURATION=0.20000,URI=\"%d.%d.m4s\"%s\n", msn, n, independent)
			}
		}
		if msn < open {
			fmt.Fprintf(&b, "#EXTINF:2.00000,\n%d.m4s\n", msn)
		}
	}
	fmt.Fprintf(&b, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"%d.%d.m4s\"\n", open, parts)
	return b.String()
}

const multivariant = `#EXTM3U
#EXT-X-VERSION:8
#EXT-X-INDEPENDENT-SEGMENTS
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="audio",NAME="Sound",DEFAULT=YES,AUTOSELECT=YES,URI="audio/index.m3u8"
#EXT-X-MEDIA:TYPE=CLOSED-CAPTIONS,GROUP-ID="captions",NAME="Captions",INSTREAM-ID="CC1"
#EXT-X-STREAM-INF:BANDWIDTH=90000,AVERAGE-BANDWIDTH=80000,CODECS="avc1.42c01e,mp4a.40.2",RESOLUTION=WIDTHxHEIGHT,FRAME-RATE=30.000,AUDIO="audio",CLOSED-CAPTIONS="captions"
480p/index.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=40000,AVERAGE-BANDWIDTH=30000,CODECS="avc1.42c01e,mp4a.40.2",RESOLUTION=WIDTHxHEIGHT,FRAME-RATE=30.000,AUDIO="audio",CLOSED-CAPTIONS="captions"
240p/index.m3u8
`

// manifest writes an MPD whose newest segment is the one of a number.
func manifest(newest int, published int) string {
	return fmt.Sprintf(`<?xml version="1.0"?>
<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" profiles="urn:mpeg:dash:profile:isoff-live:2011" type="dynamic" availabilityStartTime="2026-06-01T12:00:00Z" publishTime="2026-06-01T12:00:%02dZ" minimumUpdatePeriod="PT2S" minBufferTime="PT2S" timeShiftBufferDepth="PT12S" maxSegmentDuration="PT2S">
 <ServiceDescription id="0"><Latency referenceId="0" target="900" min="200" max="6000"/></ServiceDescription>
 <Period id="p0" start="PT0S">
  <AdaptationSet id="1" contentType="video" mimeType="video/mp4" segmentAlignment="true">
   <SegmentTemplate timescale="90000" startNumber="%d" media="$RepresentationID$/$Number$.m4s">
    <SegmentTimeline><S t="%d" d="180000" r="4"/><S d="180000"/></SegmentTimeline>
   </SegmentTemplate>
   <Representation id="480p" codecs="avc1.42c01e" bandwidth="90000"><SegmentTemplate initialization="480p/header.mp4"/></Representation>
  </AdaptationSet>
  <AdaptationSet id="2" contentType="video" mimeType="video/mp4">
   <SegmentTemplate timescale="90000" startNumber="0" duration="180000" availabilityTimeOffset="1.8" availabilityTimeComplete="false" media="$RepresentationID$/$Number%%05d$.m4s"/>
   <Representation id="240p" codecs="avc1.42c01e" bandwidth="40000"><SegmentTemplate initialization="240p/header.mp4"/></Representation>
  </AdaptationSet>
 </Period>
 <UTCTiming schemeIdUri="urn:mpeg:dash:utc:http-iso:2014" value="/time"/>
</MPD>`, published, newest-5, (newest-5)*180000)
}

func record(t *testing.T) *recording {
	p, s := picture(t), soundTrack()
	r := &recording{
		multi: strings.ReplaceAll(multivariant, "WIDTHxHEIGHT", fmt.Sprintf("%dx%d", p.Width, p.Height)),
		first: playlist(8, 14, 3, "480p"), second: playlist(9, 15, 3, "480p"), sound: playlist(8, 14, 3, "audio"),
		header: bmff.Header(p), soundHeader: bmff.Header(s), segments: map[uint64][]byte{}, soundSegments: map[uint64][]byte{},
		mpd: manifest(13, 28), mpd2: manifest(14, 30), wait: 2 * time.Second,
	}
	c := aac.Config{ObjectType: 2, SampleRate: 48000, OutputRate: 48000, Channels: 2}
	for msn := uint64(12); msn <= 14; msn++ {
		r.segments[msn] = segment(p, msn, nil)
		u := frames(msn)
		r.soundSegments[msn] = bmff.Chunk(s, bmff.ChunkOptions{Sequence: uint32(msn) << 6, First: true}, u)
		r.transport = append(r.transport, ts.Segment(&ts.Input{Video: p, VideoUnits: pictures(int64(msn)*60, 60), Audio: s, AudioUnits: u, FrameHeader: c.ADTS}))
	}
	u := pictures(14*60, 18)
	for n := range 3 {
		r.parts = append(r.parts, bmff.Chunk(p, bmff.ChunkOptions{Sequence: 14<<6 + uint32(n), First: n == 0}, u[n*6:n*6+6]))
	}
	tag := id3.Tag{Timestamp: 90_000}
	r.packed = tag.Marshal()
	for range 10 {
		r.packed = append(append(r.packed, c.ADTS(3)...), 1, 2, 3)
	}
	return r
}

// show lets an inspector see the recording.
func (r *recording) show() Report {
	i := New("http://origin.example/index.m3u8")
	now := epoch.Add(28*time.Second + 700*time.Millisecond)
	i.Multivariant([]byte(r.multi))
	for n, state := range []string{r.first, r.second} {
		at := now.Add(time.Duration(n) * r.wait)
		p, err := i.Playlist("480p", []byte(state), at)
		if err != nil {
			continue
		}
		if n == 0 {
			_, _ = i.Playlist("audio", []byte(r.sound), at)
			i.Aligned()
			i.Header("480p", "header.mp4", r.header)
			i.Header("audio", "header.mp4", r.soundHeader)
			for k, b := range r.parts {
				i.Segment("480p", &Piece{MSN: 14, Part: k, Body: b, Independent: k == 0, Start: -1})
			}
		}
		for _, e := range p.Whole() {
			if b := r.segments[e.MSN]; b != nil && (n == 0) == (e.MSN < 14) {
				i.Segment("480p", &Piece{MSN: e.MSN, Part: -1, Header: "header.mp4", Body: b, Duration: e.Duration, Took: 30 * time.Millisecond, Start: -1})
				i.Segment("audio", &Piece{MSN: e.MSN, Part: -1, Header: "header.mp4", Body: r.soundSegments[e.MSN], Start: -1})
			}
		}
	}
	return i.Report(4 * time.Second)
}

// showMPD lets an inspector see the recording's manifests.
func (r *recording) showMPD() Report {
	i := New("http://origin.example/index.mpd")
	now := epoch.Add(28 * time.Second)
	for n, doc := range []string{r.mpd, r.mpd2} {
		_, list, err := i.Manifest([]byte(doc), now.Add(time.Duration(n)*r.wait))
		if err != nil {
			break
		}
		for _, e := range list {
			i.Header(e.Name, e.Header.URI, r.header)
			if b := r.segments[e.Number]; b != nil && (n == 0) == (e.Number < 14) {
				i.Segment(e.Name, &Piece{MSN: e.Number, Part: -1, Header: e.Header.URI, Body: b, Duration: e.Duration, Start: e.Start, Timescale: e.Timescale})
			}
		}
	}
	return i.Report(4 * time.Second)
}

// showOthers lets an inspector see transport streams and packed audio.
func (r *recording) showOthers() Report {
	i := New("http://origin.example/ts.m3u8")
	i.Multivariant([]byte(r.multi))
	for n, b := range r.transport {
		i.Segment("480p", &Piece{MSN: uint64(12 + n), Part: -1, Body: b, Start: -1})
	}
	i.Segment("packed", &Piece{MSN: 1, Part: -1, Body: r.packed, Start: -1})
	return i.Report(time.Second)
}

func TestSoundStreamsPass(t *testing.T) {
	r := record(t)
	for name, report := range map[string]Report{"HLS": r.show(), "DASH": r.showMPD(), "others": r.showOthers()} {
		assert.Empty(t, report.Findings, name)
		assert.Contains(t, report.Verdict, "Clean", name)
	}
	report := r.show()
	assert.Equal(t, "low-latency HLS", report.Protocol)
	assert.EqualValues(t, 100, *report.Streams[0].Edge)
	assert.EqualValues(t, 700, *report.Streams[0].Behind)
	assert.LessOrEqual(t, report.Skew, int64(22))
}

// replace plants a fault by changing text in one of a recording's documents.
func replace(in func(*recording) *string, old, with string) func(*testing.T, *recording) {
	return func(t *testing.T, r *recording) {
		s := in(r)
		require.Contains(t, *s, old)
		*s = strings.Replace(*s, old, with, 1)
	}
}

func first(r *recording) *string  { return &r.first }
func second(r *recording) *string { return &r.second }
func multi(r *recording) *string  { return &r.multi }
func mpd1(r *recording) *string   { return &r.mpd }
func mpd2(r *recording) *string   { return &r.mpd2 }
func sound(r *recording) *string  { return &r.sound }

// box returns the body of the first box of a kind, at any depth, to be spoiled in place.
func box(b []byte, kind string) []byte {
	at := bytes.Index(b, []byte(kind))
	return b[at+4:]
}

func spoil(msn uint64, change func(b []byte)) func(*testing.T, *recording) {
	return func(_ *testing.T, r *recording) {
		r.segments[msn] = slices.Clone(r.segments[msn])
		change(r.segments[msn])
	}
}

func remake(change func([]media.AccessUnit)) func(*testing.T, *recording) {
	return func(t *testing.T, r *recording) { r.segments[13] = segment(picture(t), 13, change) }
}

func TestPlantedFaultsAreFound(t *testing.T) {
	hls, mpd, others := (*recording).show, (*recording).showMPD, (*recording).showOthers
	cases := []struct {
		rule  string
		plant func(*testing.T, *recording)
		see   func(*recording) Report
	}{
		// Multivariant playlists.
		{"multivariant-unreadable", replace(multi, "#EXTM3U", "#EXTM3"), hls},
		{"no-variant", func(_ *testing.T, r *recording) { r.multi = "#EXTM3U\n" }, hls},
		{"group-attributes", replace(multi, `GROUP-ID="audio",NAME`, `NAME`), hls},
		{"group-name-twice", replace(multi, "#EXT-X-MEDIA:TYPE=CLOSED", "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"audio\",NAME=\"Sound\"\n#EXT-X-MEDIA:TYPE=CLOSED"), hls},
		{"group-defaults", replace(multi, "#EXT-X-MEDIA:TYPE=CLOSED", "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"audio\",NAME=\"Other\",DEFAULT=YES\n#EXT-X-MEDIA:TYPE=CLOSED"), hls},
		{"captions-channel", replace(multi, `,INSTREAM-ID="CC1"`, ""), hls},
		{"captions-uri", replace(multi, `,INSTREAM-ID="CC1"`, `,INSTREAM-ID="CC1",URI="cc.m3u8"`), hls},
		{"captions-mixed", replace(multi, `CLOSED-CAPTIONS="captions"`, "CLOSED-CAPTIONS=NONE"), hls},
		{"bandwidth-missing", replace(multi, "BANDWIDTH=90000", "BANDWIDTH=0"), hls},
		{"bandwidth-order", replace(multi, "AVERAGE-BANDWIDTH=80000", "AVERAGE-BANDWIDTH=95000"), hls},
		{"bandwidth-exceeded", replace(multi, "BANDWIDTH=90000,AVERAGE-BANDWIDTH=80000", "BANDWIDTH=5000,AVERAGE-BANDWIDTH=4000"), hls},
		{"codecs-missing", replace(multi, `CODECS="avc1.42c01e,mp4a.40.2",`, ""), hls},
		{"codecs-wrong", replace(multi, "avc1.42c01e", "avc1.640028"), hls},
		{"resolution-missing", replace(multi, "RESOLUTION=", "X-RESOLUTION="), hls},
		{"resolution-wrong", replace(multi, "RESOLUTION=", "RESOLUTION=1x1,X="), hls},
		{"group-missing", replace(multi, `AUDIO="audio"`, `AUDIO="music"`), hls},
		// One media playlist.
		{"playlist-unreadable", replace(first, "#EXTINF:2.00000", "#EXTINF:two"), hls},
		{"target-duration", replace(first, "#EXTINF:2.00000", "#EXTINF:2.60000"), hls},
		{"gap", replace(first, "#EXTINF", "#EXT-X-GAP\n#EXTINF"), hls},
		{"map-missing", replace(first, "#EXT-X-MAP:URI=\"header.mp4\"\n", ""), hls},
		{"window-short", func(_ *testing.T, r *recording) { r.first = playlist(12, 14, 3, "480p") }, hls},
		{"tag-twice", replace(first, "#EXT-X-VERSION:8", "#EXT-X-VERSION:8\n#EXT-X-VERSION:8"), hls},
		{"version", replace(first, "#EXT-X-VERSION:8", "#EXT-X-VERSION:5"), hls},
		{"type-without-end", replace(first, "#EXT-X-VERSION:8", "#EXT-X-VERSION:8\n#EXT-X-PLAYLIST-TYPE:VOD"), hls},
		{"part-inf-missing", replace(first, "#EXT-X-PART-INF:PART-TARGET=0.20000\n", ""), hls},
		{"part-hold-back-missing", replace(first, "PART-HOLD-BACK=0.60000,", ""), hls},
		{"part-hold-back", replace(first, "PART-HOLD-BACK=0.60000", "PART-HOLD-BACK=0.39000"), hls},
		{"part-hold-back", replace(first, "PART-HOLD-BACK=0.60000", "PART-HOLD-BACK=0.50000"), hls},
		{"no-blocking", replace(first, "CAN-BLOCK-RELOAD=YES,", ""), hls},
		{"hold-back", replace(first, ",HOLD-BACK=6.0", ",HOLD-BACK=5.9"), hls},
		{"skip-until", replace(first, "CAN-SKIP-UNTIL=12.0", "CAN-SKIP-UNTIL=11.0"), hls},
		{"part-target", replace(first, "DURATION=0.20000,URI=\"13.4", "DURATION=0.21000,URI=\"13.4"), hls},
		{"part-short", replace(first, "DURATION=0.20000,URI=\"13.4", "DURATION=0.16000,URI=\"13.4"), hls},
		{"part-independent", replace(first, "URI=\"13.0.m4s\",INDEPENDENT=YES", "URI=\"13.0.m4s\""), hls},
		{"part-sum", replace(first, "#EXT-X-PART:DURATION=0.20000,URI=\"13.5.m4s\"\n", ""), hls},
		{"hint-after-end", replace(first, "#EXT-X-PRELOAD", "#EXT-X-ENDLIST\n#EXT-X-PRELOAD"), hls},
		{"hint-twice", replace(first, "#EXT-X-PRELOAD", "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"x\"\n#EXT-X-PRELOAD"), hls},
		{"hint-attributes", replace(first, "TYPE=PART,", ""), hls},
		{"report-address", replace(first, "#EXT-X-PRELOAD", "#EXT-X-RENDITION-REPORT:LAST-MSN=14,LAST-PART=1\n#EXT-X-PRELOAD"), hls},
		{"report-part", replace(first, "#EXT-X-PRELOAD", "#EXT-X-RENDITION-REPORT:URI=\"../b/index.m3u8\",LAST-MSN=14\n#EXT-X-PRELOAD"), hls},
		{"parts-old", replace(first, "#EXTINF:2.00000,\n8.m4s", "#EXT-X-PART:DURATION=2.00000,URI=\"8.0.m4s\",INDEPENDENT=YES\n#EXTINF:2.00000,\n8.m4s"), hls},
		{"date-time", replace(first, "12:00:24.000Z", "12:00:24.700Z"), hls},
		{"date-time-missing", func(_ *testing.T, r *recording) {
			r.first = strings.ReplaceAll(r.first, "#EXT-X-PROGRAM-DATE-TIME:", "#EXT-X-WALL:")
		}, hls},
		{"daterange-id", replace(first, "ID=\"m1\",", ""), hls},
		{"daterange-start", replace(first, ",START-DATE=\"2026-06-01T12:00:20.000Z\"", ""), hls},
		{"daterange-duration", replace(first, "DURATION=3.000", "DURATION=-3.000"), hls},
		// A playlist against the one before.
		{"target-changed", replace(second, "TARGETDURATION:2", "TARGETDURATION:3"), hls},
		{"type-changed", replace(second, "#EXT-X-VERSION:8", "#EXT-X-VERSION:8\n#EXT-X-PLAYLIST-TYPE:EVENT"), hls},
		{"sequence-back", replace(second, "MEDIA-SEQUENCE:9", "MEDIA-SEQUENCE:7"), hls},
		{"discontinuity-back", func(_ *testing.T, r *recording) {
			r.first = strings.Replace(r.first, "DISCONTINUITY-SEQUENCE:0", "DISCONTINUITY-SEQUENCE:4", 1)
		}, hls},
		{"discontinuity-sequence", replace(first, "#EXTINF:2.00000,\n8.m4s", "#EXT-X-DISCONTINUITY\n#EXTINF:2.00000,\n8.m4s"), hls},
		{"discontinuity-changed", replace(second, "#EXTINF:2.00000,\n11.m4s", "#EXT-X-DISCONTINUITY\n#EXTINF:2.00000,\n11.m4s"), hls},
		{"changed-after-end", replace(first, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"14.3.m4s\"", "#EXT-X-ENDLIST"), hls},
		{"segment-changed", replace(second, "\n12.m4s", "\n12b.m4s"), hls},
		{"segment-changed", replace(second, "MEDIA-SEQUENCE:9", "MEDIA-SEQUENCE:10"), hls},
		{"part-changed", replace(second, "13.4.m4s", "13.4b.m4s"), hls},
		{"end-removed", func(_ *testing.T, r *recording) {
			r.first = strings.ReplaceAll(playlist(8, 16, 3, "480p"), "#EXT-X-PART:DURATION=0.20000,URI=\"16.", "#X:\"")
		}, hls},
		{"date-time-changed", replace(second, "12:00:20.000Z\n", "12:00:20.080Z\n"), hls},
		{"daterange-changed", replace(second, "START-DATE=\"2026-06-01T12:00:20.000Z\"", "START-DATE=\"2026-06-01T12:00:21.000Z\""), hls},
		{"hint-wrong", replace(first, "URI=\"14.3.m4s\"", "URI=\"14.9.m4s\""), hls},
		{"stale", func(_ *testing.T, r *recording) { r.second, r.wait = r.first, 6*time.Second }, hls},
		// Renditions against one another.
		{"target-differs", replace(sound, "TARGETDURATION:2", "TARGETDURATION:3"), hls},
		{"discontinuity-differs", replace(sound, "DISCONTINUITY-SEQUENCE:0", "DISCONTINUITY-SEQUENCE:1"), hls},
		{"edge-differs", func(_ *testing.T, r *recording) { r.sound = playlist(4, 10, 3, "audio") }, hls},
		{"boundaries-differ", func(_ *testing.T, r *recording) { r.sound = strings.ReplaceAll(r.sound, ".000Z", ".900Z") }, hls},
		{"skew", func(_ *testing.T, r *recording) {
			r.soundSegments[13] = bmff.Chunk(soundTrack(), bmff.ChunkOptions{Sequence: 13 << 6, First: true}, frames(14))
		}, hls},
		// Bytes.
		{"header-unreadable", func(_ *testing.T, r *recording) { r.header = r.header[:60] }, hls},
		{"header-config", func(_ *testing.T, r *recording) { box(r.header, "avcC")[0] = 9 }, hls},
		{"header-size", func(_ *testing.T, r *recording) { binary.BigEndian.PutUint16(box(r.header, "avc1")[24:], 8) }, hls},
		{"segment-empty", func(_ *testing.T, r *recording) { r.segments[13] = []byte{} }, hls},
		{"segment-unreadable", spoil(13, func(b []byte) { binary.BigEndian.PutUint32(b, 7) }), hls},
		{"sample-sizes", spoil(13, func(b []byte) { box(b, "trun")[19]-- }), hls},
		{"segment-unreadable", spoil(13, func(b []byte) { box(b, "trun")[17] = 0xff }), hls},
		{"sample-duration", spoil(13, func(b []byte) { binary.BigEndian.PutUint32(box(b, "trun")[12:], 0) }), hls},
		{"decode-time", spoil(13, func(b []byte) { box(b, "tfdt")[10] += 8 }), hls},
		{"fragment-sequence", spoil(13, func(b []byte) { binary.BigEndian.PutUint32(box(b, "mfhd")[4:], 1) }), hls},
		{"keyframe-first", remake(func(u []media.AccessUnit) { u[0].Data = slices.Clone(u[1].Data) }), hls},
		{"sync-flag", remake(func(u []media.AccessUnit) { u[0].Key = false }), hls},
		{"sample-syntax", remake(func(u []media.AccessUnit) { u[0].Data = []byte{0, 0, 0, 9, 0x65} }), hls},
		{"duration-wrong", remake(func(u []media.AccessUnit) { u[59].Duration = 20_000 }), hls},
		{"part-unreadable", func(_ *testing.T, r *recording) { r.parts[1] = r.parts[1][:40] }, hls},
		{"part-bytes", func(_ *testing.T, r *recording) {
			r.parts[1] = slices.Clone(r.parts[1])
			r.parts[1][len(r.parts[1])-1] ^= 1
		}, hls},
		{"independent-wrong", func(t *testing.T, r *recording) {
			r.parts[0] = bmff.Chunk(picture(t), bmff.ChunkOptions{First: true}, pictures(14*60, 6)[1:])
		}, hls},
		// Transport streams and packed audio.
		{"ts-syntax", func(_ *testing.T, r *recording) { r.transport[1][3*188+3] ^= 3 }, others},
		{"ts-clock", func(t *testing.T, r *recording) {
			clocks := 0
			for p := r.transport[1]; len(p) > 0; p = p[188:] {
				if p[3]&0x20 == 0 || p[4] < 7 || p[5]&0x10 == 0 {
					continue
				}
				if clocks++; clocks == 5 {
					p[8] += 0x80 // the clock jumps by 0.7 s
				}
			}
		}, others},
		{"ts-counter", func(_ *testing.T, r *recording) { r.transport[1] = r.transport[1][:len(r.transport[1])-188*2] }, others},
		{"segment-unreadable", func(_ *testing.T, r *recording) { r.transport[1][188] = 0 }, others},
		{"packed-timestamp", func(_ *testing.T, r *recording) { r.packed = (&id3.Tag{Title: "x", Timestamp: -1}).Marshal() }, others},
		{"segment-unreadable", func(_ *testing.T, r *recording) { r.packed = r.packed[:len(r.packed)-1] }, others},
		// Manifests.
		{"mpd-unreadable", replace(mpd1, "<Period ", "<Epoch "), mpd},
		{"mpd-profiles", replace(mpd1, "profiles=", "x="), mpd},
		{"mpd-min-buffer", replace(mpd1, "minBufferTime=", "x="), mpd},
		{"mpd-duration", replace(mpd1, `type="dynamic"`, `type="static"`), mpd},
		{"mpd-availability-start", replace(mpd1, "availabilityStartTime=", "x="), mpd},
		{"mpd-publish-time", replace(mpd1, "publishTime=", "x="), mpd},
		{"mpd-clock", replace(mpd1, "UTCTiming", "X"), mpd},
		{"mpd-latency", replace(mpd1, `target="900"`, `target="100"`), mpd},
		{"period-id", replace(mpd1, `id="p0"`, `id=""`), mpd},
		{"period-twice", replace(mpd1, "<Period id", `<Period id="p0"/><Period id`), mpd},
		{"period-order", replace(mpd1, "<Period id", `<Period id="a" start="PT9S"/><Period id`), mpd},
		{"period-overlap", replace(mpd1, `<Period id="p0" start="PT0S">`, `<Period id="a" start="PT0S" duration="PT5S"/><Period id="p0" start="PT1S">`), mpd},
		{"representation-id", replace(mpd1, `Representation id="480p"`, `Representation id=""`), mpd},
		{"bandwidth-missing", replace(mpd1, `bandwidth="90000"`, `bandwidth="0"`), mpd},
		{"codecs-wrong", replace(mpd1, "avc1.42c01e", "avc1.640028"), mpd},
		{"mime-type", replace(mpd1, `mimeType="video/mp4"`, ""), mpd},
		{"template-media", replace(mpd1, "$RepresentationID$/$Number$.m4s", "all.m4s"), mpd},
		{"template-duration", replace(mpd1, `duration="180000"`, ""), mpd},
		{"time-offset", replace(mpd1, `availabilityTimeOffset="1.8"`, `availabilityTimeOffset="2.5"`), mpd},
		{"time-complete", replace(mpd1, `availabilityTimeComplete="false"`, ""), mpd},
		{"timeline-duration", replace(mpd1, `<S d="180000"/>`, `<S d="0"/>`), mpd},
		{"timeline-overlap", replace(mpd1, `<S d="180000"/>`, `<S t="1" d="180000"/>`), mpd},
		{"timeline-gap", replace(mpd1, `<S d="180000"/>`, `<S t="9000000" d="180000"/>`), mpd},
		{"timeline-wrong", func(_ *testing.T, r *recording) {
			r.mpd = strings.ReplaceAll(r.mpd, `<S t="1440000"`, `<S t="1460000"`)
		}, mpd},
		{"timeline-changed", replace(mpd2, `<S t="1620000"`, `<S t="1620500"`), mpd},
		{"max-segment", replace(mpd1, `<S d="180000"/>`, `<S d="240000"/>`), mpd},
		{"publish-time-back", replace(mpd2, "12:00:30Z", "12:00:10Z"), mpd},
		{"availability-start-changed", replace(mpd2, `availabilityStartTime="2026-06-01T12:00:00Z"`, `availabilityStartTime="2026-06-01T12:00:01Z"`), mpd},
		{"period-moved", replace(mpd2, `start="PT0S"`, `start="PT1S"`), mpd},
		{"period-removed", replace(mpd1, "<UTCTiming", `<Period id="p9" start="PT99S"/><UTCTiming`), mpd},
		{"stale", func(_ *testing.T, r *recording) { r.mpd2, r.wait = r.mpd, 9*time.Second }, mpd},
	}
	require.GreaterOrEqual(t, len(cases), 40)
	for n, c := range cases {
		t.Run(fmt.Sprintf("%d %s", n, c.rule), func(t *testing.T) {
			r := record(t)
			c.plant(t, r)
			report := c.see(r)
			var rules []string
			for _, f := range report.Findings {
				rules = append(rules, f.Rule)
				assert.NotEmpty(t, f.Want)
				assert.NotEmpty(t, f.Ref)
			}
			assert.Contains(t, rules, c.rule)
			assert.NotContains(t, report.Verdict, "Clean")
		})
	}
}

func TestJudgementsOfTheFollower(t *testing.T) {
	i := New("x")
	i.ContentType("480p", "text/plain")
	i.Clock(epoch, epoch.Add(time.Second))
	i.Late("480p", 7, 404)
	i.Nonsense("480p", nil)
	i.Unreachable(Breaks, "480p", "segment 7", assert.AnError)
	r := i.Report(0)
	assert.Equal(t, "Broken: 3 rules are violated, 2 risks.", r.Verdict)
	assert.Equal(t, "Nothing was seen that could be judged.", New("x").Report(0).Verdict)
}

func FuzzInspector(f *testing.F) {
	bits.CatchRunaways()
	f.Add([]byte(playlist(8, 14, 3, "480p")), []byte(manifest(13, 1)), []byte("G"))
	f.Fuzz(func(_ *testing.T, list, doc, segment []byte) {
		i := New("x")
		now := epoch
		i.Multivariant(list)
		for range 2 {
			_, _ = i.Playlist("a", list, now)
			_, _, _ = i.Manifest(doc, now)
			i.Header("a", "h", segment)
			i.Segment("a", &Piece{MSN: 1, Part: -1, Header: "h", Body: segment, Start: -1})
			i.Segment("a", &Piece{MSN: 1, Part: 0, Body: segment, Start: -1})
		}
		i.Aligned()
		i.Report(0)
	})
}
