// Package demux takes transport streams apart for the channels that they feed, whatever protocol carries them: bytes go into a
// Stream, and each of its programmes may feed a channel of its own. Streams finds the one that feeds a channel.
package demux

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/language"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/core/ts"
)

// Stream is one transport stream that is received, and who takes its programmes. Write is called from one goroutine,
// the rest from any.
type Stream struct {
	mu      sync.Mutex
	demux   *ts.Demuxer
	now     func() time.Time
	begun   time.Time
	looked  time.Time
	takers  []*taker
	line    contribution.Line // what the protocol below measures
	health  ts.StreamHealth
	found   []ts.Programme
	foundAt time.Time
	came    bool  // anything
	wrong   error // what keeps a feed from beginning, the newest
	copies  []*Copying
	over    bool
}

// Timing.
const (
	lookEach = time.Second
	// tablesWait is how long a stream may be without tables, until it is told.
	tablesWait = 5 * time.Second
)

// NewStream begins a stream; now is the wall clock.
func NewStream(now func() time.Time) *Stream {
	s := &Stream{now: now, begun: now()}
	s.demux = ts.NewDemuxer(s)
	return s
}

// taker takes one programme.
type taker struct {
	s         *Stream
	want      string // number or name; "" for the first
	open      func() (contribution.Feed, error)
	feed      contribution.Feed
	programme int // 0 while it is not there
	tracks    map[int]*track
	over      chan error
	ended     bool
	gone      chan struct{} // closed when it ended
	opening   contribution.Opening
}

// track is an elementary stream on its way into a feed.
type track struct {
	*coding.Elementary
	of   *taker
	id   media.TrackID // in the feed
	info ts.StreamTrack
	last int64 // the newest decode time
	cues bool  // it carries splice information
	text *captions.Teletext
	held bool // until the programme's pictures come
	told *media.Track
}

// Take hands a programme, by number or name, to the feed that open returns once something of it comes. What comes
// from the channel, when the feed is over, is why: the stream went on without it, or not. stop ends it.
func (s *Stream) Take(want string, open func() (contribution.Feed, error)) (over <-chan error, stop func(reason string)) {
	t := &taker{s: s, want: want, open: open, over: make(chan error, 1), gone: make(chan struct{})}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.takers = append(s.takers, t)
	t.choose(s.found)
	return t.over, func(reason string) {
		s.mu.Lock()
		defer s.mu.Unlock()
		t.end(errors.New(reason))
	}
}

// Close ends all feeds.
func (s *Stream) Close(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.over = true
	for _, t := range slices.Clone(s.takers) {
		t.end(err)
	}
	for _, c := range s.copies {
		close(c.done)
	}
	s.copies = nil
}

// Expect gives the first who takes a programme its feed before anything of it comes, so that a sender that was let in
// can be sent away.
func (s *Stream) Expect(feed contribution.Feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.takers[0]; t.feed == nil {
		t.feed = feed
		go t.watch(feed)
	}
}

// Copying hands all packets of a stream on, untouched.
type Copying struct {
	s    *Stream
	take func([]byte)
	done chan struct{}
}

// Done is closed when the stream is over.
func (c *Copying) Done() <-chan struct{} {
	if c == nil {
		return nil
	}
	return c.done
}

// Stop ends it.
func (c *Copying) Stop() {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	c.s.copies = slices.DeleteFunc(slices.Clone(c.s.copies), func(o *Copying) bool { return o == c })
}

// copy hands the stream's bytes to take as they come. It must not wait.
func (s *Stream) copy(take func([]byte)) (*Copying, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over {
		return nil, false
	}
	c := &Copying{s: s, take: take, done: make(chan struct{})}
	s.copies = append(s.copies, c)
	return c, true
}

// Write takes bytes of the stream.
func (s *Stream) Write(b []byte) {
	now := s.now()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.copies {
		c.take(b)
	}
	s.came = s.came || len(b) > 0
	s.demux.Write(b, now.Sub(s.begun))
	s.watchTracks(now)
}

// Break says that what comes next does not go on where the stream was: what is open is handed over, and nothing counts
// as lost.
func (s *Stream) Break() {
	now := s.now()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.demux.Flush(now.Sub(s.begun))
	s.demux.Restart()
	for _, t := range s.takers {
		for _, tr := range t.tracks {
			if tr.Elementary != nil {
				tr.Elementary.Lost()
			}
		}
	}
}

// Look is to be called now and then while nothing comes.
func (s *Stream) Look() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.watchTracks(s.now())
}

// Measured takes what the protocol below measures.
func (s *Stream) Measured(set func(*contribution.Line)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	set(&s.line)
}

// Pace returns how long to read nothing more, since the media runs ahead of the wall clock. It is for lines that can
// be read more slowly.
func (s *Stream) Pace() (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.takers {
		if t.feed != nil {
			wait = max(wait, t.feed.Pace())
		}
	}
	return wait
}

// Problem says what keeps the stream from feeding anybody, nil when nothing does.
func (s *Stream) Problem() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := &s.health
	switch age := s.now().Sub(s.begun); {
	case age < tablesWait:
		return nil
	case !s.came:
		return errors.New("nothing has come yet: look whether the sender sends, and to this address")
	case h.Bitrate == 0 && len(h.PIDs) == 0:
		return errors.New("what comes is not a transport stream: no packets of 188, 192 or 204 bytes were found")
	case len(s.found) == 0:
		return errors.New("the transport stream has no programme association (PAT): look at the multiplexer")
	}
	for _, t := range s.takers {
		switch {
		case t.programme == 0:
			return fmt.Errorf("the transport stream has no programme %q; it has %s", t.want, names(s.found))
		case t.feed == nil && s.scrambled(t.programme):
			return fmt.Errorf("programme %d is scrambled: take it behind a descrambler", t.programme)
		case t.feed == nil && s.wrong != nil:
			return s.wrong
		}
	}
	return nil
}

func (s *Stream) scrambled(number int) bool {
	for _, p := range s.found {
		if p.Number != number {
			continue
		}
		return slices.ContainsFunc(p.Tracks, func(t ts.StreamTrack) bool { return s.demux.Scrambled(t.PID) })
	}
	return false
}

func names(list []ts.Programme) string {
	var out []string
	for _, p := range list[:min(len(list), 20)] {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%d %s", p.Number, p.Name)))
	}
	return strings.Join(out, ", ")
}

// watchTracks measures, and tells the feeds.
func (s *Stream) watchTracks(now time.Time) {
	if now.Sub(s.looked) < lookEach {
		return
	}
	s.looked = now
	s.health = s.demux.Look(now.Sub(s.begun))
	s.tell()
}

// tell hands the newest figures to all feeds.
func (s *Stream) tell() {
	health := s.health
	shown := slices.Clone(s.found)
	for i := range shown {
		shown[i].Scrambled = s.scrambled(shown[i].Number)
	}
	for _, t := range s.takers {
		if t.feed == nil {
			continue
		}
		line := s.line
		line.TS, line.Programmes, line.Programme = &health, shown, t.programme
		t.feed.Line(line)
	}
}

// Found lists the programmes.
func (s *Stream) Found() []ts.Programme {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.found
}

// Programmes implements ts.Handler.
func (s *Stream) Programmes(list []ts.Programme) {
	s.found, s.foundAt = list, s.now()
	for _, t := range s.takers {
		t.choose(list)
	}
	s.follow()
	s.tell()
}

// follow tells the demuxer which tracks are wanted.
func (s *Stream) follow() {
	wanted := map[int]ts.StreamTrack{}
	for _, t := range s.takers {
		for pid, tr := range t.tracks {
			wanted[pid] = tr.info
		}
	}
	for _, p := range s.found {
		for _, tr := range p.Tracks {
			if _, ok := wanted[tr.PID]; !ok {
				s.demux.Forget(tr.PID)
			}
		}
	}
	for _, tr := range wanted {
		s.demux.Follow(&tr)
	}
}

// choose picks the programme, and keeps the tracks that stay as they are.
func (t *taker) choose(list []ts.Programme) {
	i := slices.IndexFunc(list, func(p ts.Programme) bool {
		return t.want == strconv.Itoa(p.Number) || t.want != "" && strings.EqualFold(t.want, p.Name)
	})
	if t.want == "" && len(list) > 0 {
		// The first that has pictures or sound. Until all maps came it may be another one; it stays then.
		i = slices.IndexFunc(list, func(p ts.Programme) bool { return p.Number == t.programme })
		if i < 0 {
			i = slices.IndexFunc(list, func(p ts.Programme) bool { return len(p.Tracks) > 0 })
		}
	}
	if i < 0 {
		return // it may come back
	}
	p := &list[i]
	before := t.tracks
	t.opening.Pictures = slices.ContainsFunc(p.Tracks, func(tr ts.StreamTrack) bool {
		return tr.Kind == media.Video && coding.Find(tr.Codec).HasElementary()
	})
	if t.opening.Begun.IsZero() {
		t.opening.Begun = t.s.now()
	}
	t.programme, t.tracks = p.Number, map[int]*track{}
	for _, info := range p.Tracks {
		if old := before[info.PID]; old != nil && old.info.Codec == info.Codec && old.info.Language == info.Language {
			t.tracks[info.PID] = old
		}
	}
	for _, info := range p.Tracks {
		if t.tracks[info.PID] != nil {
			continue
		}
		c := coding.Find(info.Codec)
		tr := &track{of: t, id: t.place(before, p.Tracks, &info), info: info, last: -1}
		switch {
		case c == nil:
			continue
		case c.Kind == media.Data:
			tr.cues = info.Codec == media.SCTE35
			if len(info.Pages) > 0 {
				tr.text = captions.NewTeletext(info.Pages)
			} else if !tr.cues {
				continue
			}
		case !c.HasElementary():
			continue
		default:
			e, err := coding.OpenElementary(c, nil, tr)
			if err != nil {
				continue
			}
			tr.Elementary = e
		}
		t.tracks[info.PID] = tr
	}
	t.s.follow()
}

// place returns what a track is in the feed: one that was there goes on under another PID, or as another codec, in its place (2.4.4.8: a
// new map takes the place of the one before).
func (t *taker) place(before map[int]*track, list []ts.StreamTrack, info *ts.StreamTrack) media.TrackID {
	taken := func(id media.TrackID) bool {
		for _, tr := range t.tracks {
			if tr.id == id {
				return true
			}
		}
		return false
	}
	if old := before[info.PID]; old != nil && old.info.Kind == info.Kind && !taken(old.id) {
		return old.id
	}
	var left *track // of its kind, in its language rather than in another one, and then the lowest
	for _, old := range before {
		stays := slices.ContainsFunc(list, func(other ts.StreamTrack) bool { return other.PID == old.info.PID && other.Kind == old.info.Kind })
		if stays || old.info.Kind != info.Kind || info.Kind == media.Data || taken(old.id) {
			continue
		}
		same, better := old.info.Language == info.Language, left != nil && left.info.Language == info.Language
		if left == nil || same && !better || same == better && old.info.PID < left.info.PID {
			left = old
		}
	}
	if left != nil {
		return left.id
	}
	id := media.TrackID(info.PID)
	for ; taken(id); id += 1 << 13 { // somebody moved away from that PID, and goes on under it here
	}
	return id
}

// ready returns the feed, which it opens when there is none yet.
func (t *taker) ready() contribution.Feed {
	if t.feed != nil || t.ended {
		return t.feed
	}
	feed, err := t.open()
	if err != nil {
		t.end(err)
		return nil
	}
	t.feed = feed
	go t.watch(feed)
	return feed
}

// watch ends a feed that the origin wants to go.
func (t *taker) watch(feed contribution.Feed) {
	select {
	case why := <-feed.Kicked():
		t.s.mu.Lock()
		defer t.s.mu.Unlock()
		t.end(&contribution.SentAway{Why: why})
	case <-t.gone:
	}
}

func (t *taker) end(err error) {
	if t.ended {
		return
	}
	t.ended = true
	close(t.gone)
	t.s.takers = slices.DeleteFunc(slices.Clone(t.s.takers), func(o *taker) bool { return o == t })
	t.tracks = nil
	t.s.follow()
	if t.feed != nil {
		t.feed.End(err.Error())
	}
	t.over <- err
}

// PES implements ts.Handler.
func (s *Stream) PES(pid int, p ts.PES) {
	for _, t := range s.takers {
		tr := t.tracks[pid]
		if tr != nil && tr.text != nil {
			tr.subtitles(p)
			continue
		}
		if tr == nil || tr.Elementary == nil {
			continue
		}
		composition := int64(0)
		if p.PTS >= 0 {
			composition = ts.Stamps.Between(p.DTS, p.PTS)
			tr.last = p.DTS
		}
		if err := tr.Feed(p.DTS, composition, p.Data); err != nil {
			s.wrong = err
		}
	}
}

// subtitles reads a packet of teletext.
func (tr *track) subtitles(p ts.PES) {
	at := p.PTS
	if at < 0 { // without a time it is for now
		at = tr.of.newest()
	}
	tr.text.See(at, p.Data, func(t captions.Text) {
		i := slices.IndexFunc(tr.info.Pages, func(page captions.Page) bool { return page.Service() == t.Service })
		if feed := tr.of.feed; feed != nil && i >= 0 {
			page := tr.info.Pages[i]
			feed.Caption(contribution.Caption{Service: t.Service, Language: shortLanguage(page.Language), Impaired: page.Impaired, Clock: ts.Stamps, Stamp: t.At, Text: t.Text, Top: t.Top})
		}
	})
}

// Section implements ts.Handler.
func (s *Stream) Section(pid int, section []byte) {
	for _, t := range s.takers {
		tr := t.tracks[pid]
		if tr == nil || !tr.cues || t.feed == nil {
			continue
		}
		at := t.newest()
		var cue scte35.Section
		if cue.Unmarshal(section) == nil && cue.PTS >= 0 && !cue.Immediate {
			at = cue.PTS
		}
		t.feed.Splice(ts.Stamps, at, slices.Clone(section))
	}
}

// newest is the newest decode time of the programme's tracks.
func (t *taker) newest() int64 {
	at := int64(-1)
	for _, tr := range t.tracks {
		if tr.last >= 0 && (at < 0 || ts.Stamps.Between(at, tr.last) > 0) {
			at = tr.last
		}
	}
	return max(at, 0)
}

// Lost implements ts.Handler.
func (s *Stream) Lost(pid int) {
	for _, t := range s.takers {
		if tr := t.tracks[pid]; tr != nil && tr.Elementary != nil {
			tr.Elementary.Lost()
		}
	}
}

// Track implements coding.ElementarySink.
func (tr *track) Track(m media.Track) {
	if tr.held = tr.of.opening.Holds(m.Kind, tr.of.s.now()); tr.held {
		tr.told = &m
		return
	}
	tr.told = nil
	m.ID = tr.id
	m.Language, m.Role = shortLanguage(tr.info.Language), tr.info.Role
	if feed := tr.of.ready(); feed != nil {
		feed.Track(m)
	}
}

// shortLanguage is a code of three letters (ISO 639-2) as RFC 5646 writes it.
func shortLanguage(code string) string {
	b, err := language.ParseBase(code)
	if err != nil {
		return ""
	}
	return b.String()
}

// Unit implements coding.ElementarySink.
func (tr *track) Unit(stamp, composition int64, key bool, data []byte) {
	if tr.held {
		if tr.held = tr.of.opening.Holds(media.Audio, tr.of.s.now()); tr.held {
			return
		}
		tr.Track(*tr.told)
	}
	if tr.of.feed != nil {
		tr.of.feed.Unit(tr.id, stamp, composition, key, data)
	}
}
