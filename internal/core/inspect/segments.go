package inspect

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"

	"metaplasis/internal/core/avc"
	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/ts"
)

// header is a CMAF header that was read.
type header struct {
	info   *bmff.HeaderInfo
	codec  string         // RFC 6381 name of what it holds
	coding *coding.Stream // nil when its codec is not read here
}

const (
	cmaf     = "ISO/IEC 23000-19, "
	isobmff  = "ISO/IEC 14496-12, "
	mpegts   = "ISO/IEC 13818-1, "
	skewMost = 200_000 // microseconds by which sound may begin beside its video
)

// Header reads a rendition's initialization section and holds it against what was announced.
func (i *Inspector) Header(name, uri string, body []byte) {
	s := i.stream(name)
	if s.headers[uri] != nil {
		return
	}
	info, err := bmff.ReadHeader(body)
	if err != nil {
		i.finding(Breaks, "header-unreadable", name, err.Error(), "a moov with one track", isobmff+"8.2")
		return
	}
	h := &header{info: info}
	if info.Tracks > 1 {
		i.NotJudged(name, fmt.Sprintf("%d tracks in one file: only the first of video, or else the first", info.Tracks))
	}
	if info.Protected {
		i.NotJudged(name, "encrypted samples")
	}
	if c := coding.ByEntry(info.SampleEntry, info.ObjectType); c != nil {
		i.configuration(s, h, c)
	}
	if len(s.headers) < maxSamples {
		s.headers[uri] = h
	}
	s.Kind = map[string]string{"vide": "video", "soun": "audio"}[info.Handler]
	i.codec(s, h.codec)
}

// configuration reads the decoder configuration of a header.
func (i *Inspector) configuration(s *stream, h *header, c *coding.Codec) {
	if c.Bare() {
		h.codec = c.Entry
		return
	}
	opened, err := coding.Open(c, h.info.Config)
	var unsupported *media.UnsupportedError
	switch {
	case errors.As(err, &unsupported):
		i.NotJudged(s.Name, err.Error())
		return
	case err != nil:
		i.finding(Breaks, "header-config", s.Name, err.Error(), "a decoder configuration", isobmff+"12")
		return
	}
	t, _ := opened.Track()
	h.coding, h.codec = opened, t.CodecName
	if h.info.Handler != "vide" {
		return
	}
	if t.Width == 0 { // only the media tells
		t.Width, t.Height = h.info.Width, h.info.Height
	}
	i.picture(s, t.Width, t.Height, h.info.Width, h.info.Height)
}

const ruleNotJudged = "not-judged"

// NotJudged says that something of a rendition could not be looked into.
func (i *Inspector) NotJudged(name, what string) {
	i.finding(Note, ruleNotJudged, name, what, "media that the inspector reads: "+strings.Join(append(coding.Labels(media.Video), coding.Labels(media.Audio)...), ", ")+" in fragments, H.264 and AAC in transport streams or packed", "")
}

// picture holds the sizes that header, parameter set and playlist tell against one another.
func (i *Inspector) picture(s *stream, width, height, boxWidth, boxHeight int) {
	s.Size = fmt.Sprintf("%dx%d", width, height)
	if width != boxWidth || height != boxHeight {
		i.finding(Breaks, "header-size", s.Name, fmt.Sprintf("a sample entry of %dx%d for pictures of %dx%d", boxWidth,
			boxHeight, width, height), "the same", "ISO/IEC 14496-15, 5.4.2")
	}
	if s.announced != "" && !strings.HasSuffix(s.announced, fmt.Sprintf("x%d", height)) {
		i.finding(Breaks, "resolution-wrong", s.Name, fmt.Sprintf("%s announced, %s in the header", s.announced, s.Size),
			"the size of the pictures", draft+"4.4.6.2")
	}
}

func (i *Inspector) codec(s *stream, codec string) {
	if codec == "" {
		return
	}
	s.Codec = codec
	if s.codecs == "" {
		return
	}
	family, _, _ := strings.Cut(codec, ".")
	listed := false
	for c := range strings.SplitSeq(s.codecs, ",") {
		c = strings.TrimSpace(c)
		if strings.EqualFold(c, codec) {
			return
		}
		listed = listed || strings.HasPrefix(c, family)
	}
	want := "the codec of the bytes"
	if !listed {
		want = "a list that names it"
	}
	i.finding(Breaks, "codecs-wrong", s.Name, fmt.Sprintf("%q announced, %s in the bytes", s.codecs, codec), want,
		draft+"4.4.6.2")
}

// Piece is a segment, or a part of one, as it was fetched.
type Piece struct {
	MSN           uint64
	Part          int    // -1: the whole segment
	Header        string // address of its header, as given to Header
	Body          []byte
	Duration      time.Duration // that the playlist or manifest tells
	Discontinuity bool
	Independent   bool // the playlist says that a part begins with a keyframe
	Took          time.Duration
	Start         int64 // presentation time that a manifest tells, ticks of Timescale; -1 when not told
	Timescale     int64
	Counted       bool // time and length follow from the number: segments may be up to half as long or as far off
}

// Segment judges the bytes of a segment or part.
func (i *Inspector) Segment(name string, p *Piece) {
	s := i.stream(name)
	if len(s.fetches) < maxSamples && p.Took > 0 {
		s.fetches = append(s.fetches, p.Took.Milliseconds())
	}
	if p.Part >= 0 {
		i.part(s, p)
		return
	}
	s.Segments++
	if p.Duration > 0 && !p.Counted { // where it is only about right, the media's own length counts
		rate := media.PerSecond(int64(len(p.Body))*8, int64(p.Duration), int64(time.Second))
		s.Peak = max(s.Peak, rate)
	}
	i.prefix(s, p)
	switch containerOf(p.Body) {
	case nothing:
		i.finding(Breaks, "segment-empty", name, fmt.Sprintf("segment %d of no bytes", p.MSN), "media", draft+"3")
	case transportStream:
		i.transport(s, p)
	case packedAudio:
		i.packed(s, p)
	case subtitles:
		s.Kind = "text"
	case otherAudio:
		s.Kind = "audio"
		i.NotJudged(name, "packed audio that is not AAC")
	default:
		i.fragments(s, p)
	}
}

// The containers of segments (draft, 3.1).
const (
	fragmented = iota
	nothing
	transportStream
	packedAudio // AAC
	otherAudio  // MPEG audio or AC-3
	subtitles   // WebVTT
)

// containerOf tells containers apart by their first bytes.
func containerOf(b []byte) int {
	switch {
	case len(b) == 0:
		return nothing
	case b[0] == 'G' && len(b)%ts.PacketSize == 0:
		return transportStream
	case bytes.HasPrefix(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")), []byte("WEBVTT")):
		return subtitles
	}
	frames := b
	for bytes.HasPrefix(frames, []byte("ID3")) {
		var tag id3.Tag
		rest, err := tag.Unmarshal(frames)
		if err != nil || len(rest) >= len(frames) {
			return packedAudio // which tells what is wrong with the tag
		}
		frames = rest
	}
	switch {
	case len(frames) > 1 && (frames[0] == 0xff && frames[1]&0xe0 == 0xe0 && frames[1]&0x06 != 0 || frames[0] == 0x0b && frames[1] == 0x77):
		return otherAudio
	case len(frames) < len(b) || b[0] == 0xff:
		return packedAudio
	}
	return fragmented
}

// maxPieces bounds the parts that are kept until their segment comes.
//
//limit:parts that wait for their segment | each stream | the oldest is dropped
const maxPieces = 8

// part judges one part, and keeps it until its segment comes.
func (i *Inspector) part(s *stream, p *Piece) {
	s.Parts++
	f, err := s.read(p)
	if err != nil || len(f) == 0 {
		i.finding(Breaks, "part-unreadable", s.Name, fmt.Sprintf("part %d of segment %d: %v", p.Part, p.MSN,
			orNothing(err)), "whole fragments", draft+"4.4.4.9")
		return
	}
	if p.Independent && s.Kind == "video" && !hasKey(f) {
		i.finding(Breaks, "independent-wrong", s.Name,
			fmt.Sprintf("part %d of segment %d says INDEPENDENT=YES and holds no keyframe", p.Part,
				p.MSN), "a keyframe", draft+"4.4.4.9")
	}
	if len(s.parts) > maxPieces {
		clear(s.parts)
	}
	if len(s.parts[p.MSN]) == p.Part {
		s.parts[p.MSN] = append(s.parts[p.MSN], p.Body)
	}
}

// read reads a piece's fragments with what its header tells.
func (s *stream) read(p *Piece) ([]bmff.Fragment, error) {
	if h := s.headers[p.Header]; h != nil {
		return h.info.ReadFragments(p.Body)
	}
	return bmff.ReadFragments(p.Body)
}

func orNothing(err error) string {
	if err == nil {
		return "no fragment"
	}
	return err.Error()
}

func hasKey(f []bmff.Fragment) bool {
	for _, one := range f {
		for n := range one.Units {
			if one.Units[n].Key {
				return true
			}
		}
	}
	return false
}

// prefix holds a segment against the parts that were fetched of it.
func (i *Inspector) prefix(s *stream, p *Piece) {
	parts := s.parts[p.MSN]
	if len(parts) == 0 {
		return
	}
	delete(s.parts, p.MSN)
	if !bytes.HasPrefix(p.Body, bytes.Join(parts, nil)) {
		i.finding(Breaks, "part-bytes", s.Name, fmt.Sprintf("segment %d does not begin with its parts", p.MSN),
			"the same media", draft+"4.4.4.9")
	}
}

// fragments judges a segment of CMAF.
func (i *Inspector) fragments(s *stream, p *Piece) {
	where := fmt.Sprintf("segment %d", p.MSN)
	f, err := s.read(p)
	if err != nil || len(f) == 0 {
		i.finding(Breaks, "segment-unreadable", s.Name, where+": "+orNothing(err), "fragments of one track", isobmff+"8.8")
		return
	}
	h := s.headers[p.Header]
	if h == nil || h.info.Timescale == 0 {
		return
	}
	first := &f[0]
	next := first.DTS
	var lowest int64
	for n := range f {
		one := &f[n]
		if s.sequence > 0 && one.Sequence <= s.sequence && !p.Discontinuity {
			i.finding(Risk, "fragment-sequence", s.Name, fmt.Sprintf("%s: fragment number %d after %d", where, one.Sequence,
				s.sequence), "numbers that rise", isobmff+"8.8.5")
		}
		s.sequence = one.Sequence
		if one.DTS != next {
			i.finding(Breaks, "decode-time", s.Name, fmt.Sprintf("%s: a fragment at %d where the one before ends at %d",
				where, one.DTS, next), "decode times without gap or overlap", cmaf+"7.3.2.3")
		}
		next = one.DTS
		total := 0
		for k := range one.Units {
			u := &one.Units[k]
			if n == 0 && k == 0 || u.PTS < lowest {
				lowest = u.PTS
			}
			if u.Duration <= 0 {
				i.finding(Breaks, "sample-duration", s.Name, fmt.Sprintf("%s: a sample of duration %d", where, u.Duration),
					"one above 0", isobmff+"8.8.8")
			}
			next += u.Duration
			total += len(u.Data)
		}
		if total != one.Data && h.info.Tracks == 1 {
			i.finding(Breaks, "sample-sizes", s.Name, fmt.Sprintf("%s: samples of %d bytes in a mdat of %d", where, total,
				one.Data), "the same", isobmff+"8.8.8")
		}
	}
	if h.info.Handler == "vide" && h.coding != nil && !h.info.Protected {
		i.opensWithKey(s, where, h.coding, first)
	}
	i.continuity(s, p, h, first.DTS, next, lowest)
}

// opensWithKey judges the first sample of a segment of video.
func (i *Inspector) opensWithKey(s *stream, where string, c *coding.Stream, f *bmff.Fragment) {
	if len(f.Units) == 0 {
		return
	}
	u, err := c.Unit(f.Units[0].Data)
	switch {
	case err != nil:
		i.finding(Breaks, "sample-syntax", s.Name, where+": "+err.Error(), "a sample as its codec writes it", cmaf+"7.3.2")
	case !u.Key && !s.independent: // nothing was promised; who joins there waits
		i.finding(Note, "keyframe-late", s.Name, where+" does not begin with a random access point", "one: who joins or changes there waits for the next", cmaf+"7.3.2.3")
	case !u.Key:
		i.finding(Breaks, "keyframe-first", s.Name,
			where+" does not begin with a random access point (of H.264, an IDR picture)", "one, since segments are independent", cmaf+"7.3.2.3")
	case !f.Units[0].Key:
		i.finding(Breaks, "sync-flag", s.Name, where+": a random access point that is not marked as a sync sample",
			"a sync sample", isobmff+"8.8.8")
	}
}

// continuity holds a segment's times against those of the one before and against what was told.
func (i *Inspector) continuity(s *stream, p *Piece, h *header, from, until, shown int64) {
	scale := h.info.Timescale
	where := fmt.Sprintf("segment %d", p.MSN)
	micros := func(t int64) int64 { return media.Rescale(t, scale, 1_000_000) }
	// A frame may be rounded at either end.
	if s.next >= 0 && p.MSN == s.nextMSN && !p.Discontinuity {
		if d := from - s.next; d > scale/500 || -d > scale/500 {
			i.finding(Breaks, "decode-time", s.Name, fmt.Sprintf("%s begins %d ms beside the end of the one before", where,
				media.RescaleDown(d, scale, 1000)), "decode times without gap or overlap", cmaf+"7.3.2.3")
		}
	}
	s.next, s.nextMSN = until, p.MSN+1
	// Segments that are counted may stray from their even length and place by half of it (5.3.9.5.3).
	allowed, beside := 2*tolerance, 100*time.Millisecond
	if p.Counted {
		allowed, beside = p.Duration/2, p.Duration/2
	}
	length := time.Duration(micros(until-from)) * time.Microsecond
	if p.Counted && length > 0 {
		s.Peak = max(s.Peak, media.PerSecond(int64(len(p.Body))*8, int64(length), int64(time.Second)))
	}
	if p.Duration > 0 && (length-p.Duration).Abs() > allowed {
		i.finding(Breaks, "duration-wrong", s.Name, fmt.Sprintf("%s lasts %v, %v is told", where, length, p.Duration),
			"the length of the media", draft+"4.4.4.1")
	}
	if p.Start >= 0 && p.Timescale > 0 {
		told := media.Rescale(p.Start, p.Timescale, 1_000_000)
		if d := micros(shown) - told; d > beside.Microseconds() || d < -beside.Microseconds() {
			i.finding(Breaks, "timeline-wrong", s.Name, fmt.Sprintf("%s begins %d ms beside its place in the timeline",
				where, d/1000), "the time that the manifest tells", mpd+"5.3.9.6")
		}
	}
	if len(s.starts) < maxSamples {
		s.starts[p.MSN] = micros(shown)
	}
}

// transport judges a segment in a transport stream.
func (i *Inspector) transport(s *stream, p *Piece) {
	where := fmt.Sprintf("segment %d", p.MSN)
	t, err := ts.Read(p.Body)
	if err != nil {
		i.finding(Breaks, "segment-unreadable", s.Name, where+": "+err.Error(), "a transport stream with its tables",
			mpegts+"2.4")
		return
	}
	for _, f := range t.Faults {
		i.finding(Breaks, "ts-syntax", s.Name, where+": "+f, "what the standard says", mpegts+"2.4.3")
	}
	for _, f := range t.ClockFaults() {
		i.finding(Breaks, "ts-clock", s.Name, where+": "+f, "the standard's bounds", mpegts+"2.7")
	}
	for pid, c := range t.Counters {
		if was, known := s.counters[pid]; known && p.MSN == s.nextMSN && !p.Discontinuity && c[0] != (was+1)&15 && pid > 0 {
			i.finding(Risk, "ts-counter", s.Name, fmt.Sprintf("%s: PID %d begins with counter %d after %d", where, pid,
				c[0], was), "counters that go on", mpegts+"2.4.3.3")
		}
		s.counters[pid] = c[1]
	}
	video, sound := t.First(ts.TypeH264), t.First(ts.TypeAAC)
	if video != nil && len(video.PES) > 0 {
		s.Kind = "video"
		first := &video.PES[0]
		nals := avc.SplitAnnexB(first.Data)
		if !avc.HasIDR(nals) {
			i.finding(Breaks, "keyframe-first", s.Name, where+" does not begin with an IDR picture", "one", draft+"3.1.1")
		}
		if len(nals) > 0 && avc.NALType(nals[0]) != avc.TypeAUD {
			i.finding(Breaks, "ts-delimiter", s.Name, where+": a picture without access unit delimiter", "one first",
				mpegts+"2.14.1")
		}
		for _, n := range nals {
			if avc.NALType(n) != avc.TypeSPS {
				continue
			}
			if sps, err := avc.ParseSPS(n); err == nil {
				i.codec(s, sps.CodecName())
				s.Size = fmt.Sprintf("%dx%d", sps.Width, sps.Height)
			}
			break
		}
		if sound != nil && len(sound.PES) > 0 && first.PTS >= 0 && sound.PES[0].PTS >= 0 {
			i.noteSkew(s, where, (ts.Wrap33(sound.PES[0].PTS, first.PTS)-first.PTS)*100/9)
		}
	}
	s.nextMSN = p.MSN + 1
}

// packed judges a segment of packed audio.
func (i *Inspector) packed(s *stream, p *Piece) {
	s.Kind = "audio"
	where := fmt.Sprintf("segment %d", p.MSN)
	var tag id3.Tag
	rest, err := tag.Unmarshal(p.Body)
	if err != nil || tag.Timestamp < 0 {
		i.finding(Breaks, "packed-timestamp", s.Name, where+" without the time of its first frame",
			"an ID3 tag with the transport stream's time", draft+"3.1.4")
		return
	}
	for bytes.HasPrefix(rest, []byte("ID3")) {
		var more id3.Tag
		if rest, err = more.Unmarshal(rest); err != nil {
			i.finding(Breaks, "segment-unreadable", s.Name, where+": "+err.Error(), "ADTS frames", draft+"3.1.4")
			return
		}
	}
	frames := 0
	for len(rest) > 0 {
		n := 0
		if len(rest) >= 7 && rest[0] == 0xff && rest[1]&0xf6 == 0xf0 {
			n = int(rest[3]&3)<<11 | int(rest[4])<<3 | int(rest[5]>>5)
		}
		if n < 7 || n > len(rest) {
			i.finding(Breaks, "segment-unreadable", s.Name, fmt.Sprintf("%s: no ADTS frame after %d of them", where,
				frames), "ADTS frames to the end", "ISO/IEC 14496-3, 1.A.2")
			return
		}
		rest = rest[n:]
		frames++
	}
	s.nextMSN = p.MSN + 1
}

func (i *Inspector) noteSkew(s *stream, where string, micros int64) {
	if micros < 0 {
		micros = -micros
	}
	i.skew = max(i.skew, micros/1000)
	if micros > skewMost {
		i.finding(Risk, "skew", s.Name, fmt.Sprintf("%s: sound begins %d ms beside its video", where, micros/1000),
			fmt.Sprintf("within %d ms", skewMost/1000), draft+"6.2.4")
	}
}

// finish compares what can only be compared at the end.
func (i *Inspector) finish() {
	var lead *stream
	for _, name := range i.order {
		s := i.streams[name]
		i.rates(s)
		if s.last != nil && s.last.KeysOnly {
			continue
		}
		if lead == nil && (len(s.starts) > 0 || len(s.walls) > 0) {
			lead = s
			continue
		}
		if lead != nil {
			i.comparePair(lead, s)
		}
	}
}

// comparePair holds two renditions' segments against one another.
func (i *Inspector) comparePair(a, b *stream) {
	for msn, at := range b.starts {
		if other, ok := a.starts[msn]; ok {
			d := at - other
			if a.Kind == b.Kind && (d > 20_000 || d < -20_000) {
				i.finding(Breaks, "boundaries-differ", b.Name, fmt.Sprintf("segment %d begins %d ms beside that of %s", msn,
					d/1000, a.Name), "the same media time in all renditions", draft+"6.2.4")
			} else if a.Kind != b.Kind {
				i.noteSkew(b, fmt.Sprintf("segment %d", msn), d)
			}
		}
	}
	for msn, at := range b.walls {
		if other, ok := a.walls[msn]; ok {
			if d := at - other; d > 250_000 || d < -250_000 {
				i.finding(Breaks, "boundaries-differ", b.Name,
					fmt.Sprintf("segment %d begins %d ms beside that of %s on the wall clock", msn, d/1000,
						a.Name), "the same time in all renditions", draft+"6.2.4")
			}
		}
		if broken, ok := a.broken[msn]; ok && broken != b.broken[msn] {
			i.finding(Breaks, "discontinuity-differs", b.Name,
				fmt.Sprintf("a discontinuity at segment %d that %s does not share", msn,
					a.Name), "the same in all renditions", draft+"6.2.4")
		}
	}
}

// rates holds the measured bitrate against the announced one, with a tenth of room.
func (i *Inspector) rates(s *stream) {
	if s.Announced > 0 && s.Peak > s.Announced*11/10 && s.Segments > 0 {
		i.finding(Breaks, "bandwidth-exceeded", s.Name, fmt.Sprintf("%d kbit/s in a segment, %d announced", s.Peak/1000,
			s.Announced/1000), "no more than is announced", draft+"4.4.6.2")
	}
}
