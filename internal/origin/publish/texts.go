package publish

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/webvtt"
	"metaplasis/internal/core/wrap"
	"metaplasis/internal/origin/run"
)

// Texts makes renditions of text of what captions and subtitles say. Their segments are those of the pictures, and come
// once all is known that was said in their time: an address never has two contents. It is guarded by the channel's lock.
type Texts struct {
	out     *Publisher
	list    []*textTrack
	lead    []leadSegment // whole segments of pictures whose text is not out yet
	newest  uint64        // the number of the newest of them
	any     bool
	settled int64 // all that is said up to here is known, ticks of media.VideoTimescale
}

// leadSegment is a segment of pictures.
type leadSegment struct {
	msn           uint64
	prefix        string
	discontinuity bool
	start, end    int64
	begun         time.Time
}

// textTrack is one rendition.
type textTrack struct {
	service string
	header  *segment.Header
	r       *Rendition
	now     webvtt.Cue   // what is shown; its end is not known
	cues    []webvtt.Cue // what was shown before, for segments that are not out
}

// Bounds of text.
const (
	//limit:renditions of subtitles | each channel | further ones are left out
	MaxTexts = 8
	//limit:bytes of a cue | each cue | the cue is left out
	maxTextBytes = 2 << 10 // of a cue
	//limit:cues that wait for their segments | each rendition | further ones are left out
	maxCues = 512 // of a rendition, that wait for their segments
	//limit:segments that may still get cues | each channel | the oldest are forgotten
	maxLead = 64
	//limit:ticks by which a cue may be ahead of its segment | each rendition | the cue is left out
	maxAhead  = 60 * media.VideoTimescale
	TextBytes = 16 << 10 // of a segment, on average
)

// Say takes what a service shows from a time on.
func (x *Texts) Say(s run.Caption) {
	at := s.At
	t := x.track(s)
	if t == nil {
		return
	}
	if at > x.settled+maxAhead {
		return // no time of this run
	}
	at = max(at, x.settled, t.now.Start+1)
	if t.now.Text != "" && len(t.cues) < maxCues {
		t.now.End = at
		t.cues = append(t.cues, t.now)
	}
	text := strings.ToValidUTF8(s.Text, "?")
	t.now = webvtt.Cue{Start: at, Text: text[:min(len(text), maxTextBytes)], Top: s.Top}
}

// track finds the rendition of a service, or makes it once it says something; nil when there is none.
func (x *Texts) track(s run.Caption) *textTrack {
	if i := slices.IndexFunc(x.list, func(t *textTrack) bool { return t.service == s.Service }); i >= 0 {
		return x.list[i]
	}
	old, newer := strings.HasPrefix(s.Service, "CC"), strings.HasPrefix(s.Service, "SERVICE")
	for _, t := range x.list { // captions in both forms say the same
		if newer && strings.HasPrefix(t.service, "CC") {
			return nil
		}
		if old && strings.HasPrefix(t.service, "SERVICE") && strings.TrimPrefix(t.service, "SERVICE") == strings.TrimPrefix(s.Service, "CC") {
			return nil
		}
	}
	if s.Text == "" || len(x.list) >= MaxTexts {
		return nil
	}
	name := s.Service
	if number, ok := strings.CutPrefix(name, "TT"); ok {
		name = "Subtitles " + number
	}
	t := &textTrack{service: s.Service, header: segment.NewHeader(coding.Texts(name, s.Language)), r: x.out.MakeRendition("text-" + strings.ToLower(s.Service)), now: webvtt.Cue{Start: x.settled - 1}}
	t.r.text, t.r.impaired = true, s.Impaired
	t.r.window.SetBudget(TextBytes * int64(segment.Retained(x.out.settings.Window)))
	x.list = append(x.list, t)
	return t
}

// segment notes a whole segment of pictures.
func (x *Texts) segment(s *segment.Segment) {
	if s.Open || x.any && s.MSN <= x.newest {
		return
	}
	x.newest, x.any = s.MSN, true
	if len(x.lead) >= maxLead {
		x.lead = x.lead[1:]
	}
	x.lead = append(x.lead, leadSegment{s.MSN, s.Prefix, s.Discontinuity, s.Start, s.Start + s.Duration, s.Begun})
	x.release()
}

// Settle says that all is known that was said up to a time.
func (x *Texts) Settle(at int64) {
	if at > x.settled {
		x.settled = at
		x.release()
	}
}

// Begin says that a run begins, at a time: nothing is shown.
func (x *Texts) Begin(at int64) {
	x.Settle(at)
	for _, t := range x.list {
		x.Say(run.Caption{At: at, Service: t.service})
	}
}

// Reset forgets all, since the channel starts over with another clock.
func (x *Texts) Reset() { *x = Texts{out: x.out} }

func (x *Texts) release() {
	for len(x.lead) > 0 && x.lead[0].end <= x.settled {
		l := x.lead[0]
		x.lead = x.lead[1:]
		for _, t := range x.list {
			x.out.Publish(t.r, t.segment(&l, x.out.now()))
		}
	}
}

// segment makes one of what was shown in its time.
func (t *textTrack) segment(l *leadSegment, now time.Time) *segment.Segment {
	var within []webvtt.Cue
	take := func(c webvtt.Cue) {
		if c.Start, c.End = max(c.Start, l.start), min(c.End, l.end); c.Start < c.End && c.Text != "" {
			within = append(within, c)
		}
	}
	rest := t.cues[:0]
	for _, c := range t.cues {
		take(c)
		if c.End > l.end {
			rest = append(rest, c)
		}
	}
	t.cues = rest
	current := t.now
	current.End = l.end
	take(current)
	units := webvtt.Samples(l.start, l.end, within)
	b := bmff.Chunk(&t.header.Track, bmff.ChunkOptions{Sequence: uint32(l.msn)}, units)
	tag := fmt.Sprintf(`"%d-%s"`, l.msn, t.header.Name)
	s := &segment.Segment{MSN: l.msn, Prefix: l.prefix, Discontinuity: l.discontinuity, Start: l.start, Duration: l.end - l.start, Header: t.header, ETag: tag,
		Size: int64(len(b)), Blob: segment.Memory{b}, Units: len(units), Begun: l.begun, Arrived: now, Made: &segment.Made{}, FirstPTS: l.start, TrackDuration: l.end - l.start}
	s.Parts = []*segment.Part{{Start: s.Start, Duration: s.Duration, Independent: true, Bytes: b, ETag: tag, Units: len(units), Arrived: now}}
	_, _ = s.Made.Get(wrap.TextName, func() ([]byte, error) { return webvtt.File(l.start, within), nil })
	return s
}

// NewTexts publishes texts through a publisher.
func NewTexts(out *Publisher) *Texts { return &Texts{out: out} }
