package origin

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/present"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
	"metaplasis/internal/worker"
)

// State says how a channel is, in one word.
type State string

// The states of a channel.
const (
	Waiting  State = "waiting"  // no sender
	Starting State = "starting" // a sender, but no segment yet
	Live     State = "live"
	Degraded State = "degraded" // live, with a problem that viewers may notice
	Failed   State = "failed"   // a sender, and nothing comes out
)

// Status is a channel at a glance.
type Status struct {
	Slug        string            `json:"slug"`
	Title       string            `json:"title"`
	State       State             `json:"state"`
	Problems    []ladder.Problem  `json:"problems"`
	Inputs      []InputStatus     `json:"inputs"` // the preferred one first
	Feed        *FeedStatus       `json:"feed,omitempty"`
	LastFeed    *LastFeed         `json:"lastFeed,omitempty"` // how the one before ended, while there is none
	Renditions  []RenditionStatus `json:"renditions"`
	Rungs       []ladder.Rung     `json:"rungs"` // in force
	Worker      *WorkerStatus     `json:"worker,omitempty"`
	Governor    *GovernorStatus   `json:"governor,omitempty"` // nil of a ladder that is left as it is
	Advice      map[string]int    `json:"advice,omitempty"`   // the effort that there is room for, by rung; none while it is not known
	Viewers     map[string]int    `json:"viewers,omitempty"`  // by protocol
	Relays      []relay.Progress  `json:"relays,omitempty"`   // that are on
	Kept        *store.Stock      `json:"kept,omitempty"`     // what is kept; nil of a channel that keeps nothing
	PartTarget  int64             `json:"partTarget"`         // milliseconds, 0 before the first feed
	Memory      int64             `json:"memory"`             // bytes of segments held
	MemoryBound int64             `json:"memoryBound"`        // bytes that the settings allow
	PictureAt   int64             `json:"pictureAt"`          // milliseconds since 1970, 0 without one
}

// FeedStatus is the sender's side.
type FeedStatus struct {
	Protocol  string        `json:"protocol"`
	Remote    string        `json:"remote"`
	Begun     time.Time     `json:"begun"`
	Tracks    []media.Track `json:"tracks"`
	Bitrate   int64         `json:"bitrate"`   // bits a second, over the last seconds
	FrameRate int64         `json:"frameRate"` // thousandths, over the last seconds
	// DriftPPM is by how many millionths the sender's clock runs fast, less than 0 slow. Media time follows it.
	DriftPPM   int64 `json:"driftPPM"`
	DriftKnown bool  `json:"driftKnown"` // it takes some minutes to tell
	// KeyMillis is how far the newest two keyframes lie apart, 0 while there are none.
	KeyMillis int64 `json:"keyMillis,omitempty"`
	// ApartMillis is by how much the newest picture is later than the newest sound, in media time.
	ApartMillis int64 `json:"apartMillis,omitempty"`
	GapMillis   int64 `json:"gapMillis,omitempty"` // the longest that nothing came, over the last seconds
}

// RenditionStatus is one rendition.
type RenditionStatus struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Codec     string `json:"codec"`
	Width     int    `json:"width,omitempty"`
	Height    int    `json:"height,omitempty"`
	FrameRate int64  `json:"frameRate,omitempty"` // thousandths
	Peak      int64  `json:"peak"`
	Average   int64  `json:"average"`
	Segments  int    `json:"segments"`
	First     uint64 `json:"first"`
	Last      uint64 `json:"last"`
	Asked     int64  `json:"asked,omitempty"`     // bits a second that the rung asks for on average; 0 of what passes through
	AskedPeak int64  `json:"askedPeak,omitempty"` // and at most
	Second    int64  `json:"second"`              // bits of the last second of media
	Segment   int64  `json:"segment"`             // bits a second of the newest whole segment
	Buffer    int64  `json:"buffer,omitempty"`    // bits a second over the last media of the rung's buffer's length; 0 of what passes through
	PSNR      int64  `json:"psnr,omitempty"`      // hundredths of a decibel, in the newest sample; 0 before there is one
	SSIM      int64  `json:"ssim,omitempty"`      // ten-thousandths, in the same
	Lost      uint64 `json:"lost"`                // access units without a place
	Retired   bool   `json:"retired,omitempty"`
	Ready     bool   `json:"ready,omitempty"` // the sender makes it, and it is not coded here
	// CodingMillis is how long a picture takes on average from its arrival until it comes back coded.
	CodingMillis int64 `json:"codingMillis,omitempty"`
}

// WorkerStatus is the load of a channel's worker.
type WorkerStatus struct {
	PID       int   `json:"pid"`
	Load      int64 `json:"load"` // thousandths of real time that the busiest stage takes; above 1000 it does not keep up
	CPU       int64 `json:"cpu"`  // thousandths of one core
	LagMillis int64 `json:"lag"`
	Dropped   int64 `json:"dropped"`  // pictures left out since the feed began
	Dropping  int64 `json:"dropping"` // thousandths of all pictures, over the last seconds
	Skipped   int64 `json:"skipped"`
	Replaced  int64 `json:"replaced"`
	Lost      int64 `json:"lost"` // units that the worker did not take
	// Nodes are the parts of the graph, in the order in which media goes through them.
	Nodes []NodeStatus `json:"nodes"`
	// Loudness is that of the source's sound, nil while none is decoded.
	Loudness *transcode.Loudness `json:"loudness,omitempty"`
	// Levels are those of renditions that are brought to a loudness.
	Levels []transcode.Leveled `json:"levels,omitempty"`
}

// NodeStatus is what one part of a worker's graph takes, over the last seconds.
type NodeStatus struct {
	Kind      transcode.NodeKind `json:"kind"`
	Rendition string             `json:"rendition,omitempty"` // that it works for alone
	Micros    int64              `json:"micros"`              // microseconds a picture, or a frame of sound
	Load      int64              `json:"load"`                // thousandths of real time
}

// meter measures what comes in. Rates are over a few seconds, so that they do not flicker.
type meter struct {
	bytes, frames int64
	since         time.Time
	bitrate, rate int64
	heard         time.Time
	gap, longest  time.Duration // between two units, so far and over the last span
}

func (m *meter) reset(now time.Time) { *m = meter{since: now} }

func (m *meter) add(n int, now time.Time, picture bool) {
	if !m.heard.IsZero() {
		m.gap = max(m.gap, now.Sub(m.heard))
	}
	m.heard = now
	m.bytes += int64(n)
	if picture {
		m.frames++
	}
}

const meterSpan = 2 * time.Second

// unreadable is which share of the access units, in thousandths, may be unreadable before it is a problem.
const unreadable = 20

// squeezeShown is for how long it is a problem that a channel reached its bound.
const squeezeShown = 10 * time.Second

// cueShown is for how long a cue message that could not be read is a problem of the channel.
const cueShown = time.Minute

func (m *meter) measure(now time.Time) {
	d := now.Sub(m.since)
	if d < meterSpan {
		return
	}
	m.bitrate = media.PerSecond(m.bytes*8, int64(d), int64(time.Second))
	m.rate = media.PerSecond(m.frames*1000, int64(d), int64(time.Second))
	if !m.heard.IsZero() {
		m.gap = max(m.gap, now.Sub(m.heard))
	}
	m.longest = m.gap
	m.bytes, m.frames, m.gap, m.since = 0, 0, 0, now
}

// load measures a worker against real time. It has a lock of its own.
type load struct {
	mu sync.Mutex
	loadNow
}

// loadNow is what a load knows.
type loadNow struct {
	now, before         worker.Stats
	at                  time.Time
	known               bool
	busy, cpu, dropping int64
	nodes               []NodeStatus
	replaced            int64
	droppedBase         int64
	errors              int64     // thousandths of the access units that the decoder refused, over the last seconds
	why                 string    // the worker before was lost
	replacedAt          time.Time // when
}

func (l *load) reset() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.loadNow = loadNow{}
}

func (l *load) idle() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known, l.busy, l.cpu, l.dropping = false, 0, 0, 0
}

// read returns what is known now.
func (l *load) read() loadNow {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.loadNow
}

// replace notes that a worker was replaced.
func (l *load) replace(why string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.replaced++
	l.why, l.replacedAt = why, now
}

func (l *load) take(st worker.Stats, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.known || st.PID != l.before.PID {
		if l.known {
			l.droppedBase += l.now.Dropped
		}
		l.before, l.at, l.known = st, now, true
	}
	l.now = st
	wall := now.Sub(l.at).Microseconds()
	if wall < meterSpan.Microseconds() {
		return
	}
	l.busy = max(0, st.Busy-l.before.Busy) * 1000 / wall
	l.cpu = max(0, st.CPU-l.before.CPU) * 1000 / wall
	l.dropping = 0
	skipped := st.Skipped - l.before.Skipped // they never were decoded
	if all := st.Decoded - l.before.Decoded + skipped; all > 0 {
		l.dropping = min(1000, (st.Dropped-l.before.Dropped+skipped)*1000/all)
	}
	l.errors = 0
	if all := st.Decoded - l.before.Decoded + st.Errors - l.before.Errors; all > 0 {
		l.errors = (st.Errors - l.before.Errors) * 1000 / all
	}
	l.nodes = measureNodes(l.before.Nodes, st.Nodes, wall)
	l.before, l.at = st, now
}

// measureNodes compares what nodes have done by two times, so many microseconds apart.
func measureNodes(before, now []transcode.Node, wall int64) []NodeStatus {
	out := make([]NodeStatus, 0, len(now))
	for _, n := range now {
		s := NodeStatus{Kind: n.Kind, Rendition: n.Rendition}
		i := slices.IndexFunc(before, func(b transcode.Node) bool { return b.Kind == n.Kind && b.Rendition == n.Rendition })
		if i >= 0 && n.Units >= before[i].Units { // else its count began anew
			n.Units, n.Busy = n.Units-before[i].Units, n.Busy-before[i].Busy
		}
		if n.Units > 0 {
			s.Micros = n.Busy / n.Units
		}
		s.Load = n.Busy * 1000 / wall
		out = append(out, s)
	}
	return out
}

// Watch looks whether another feed is to be on air. The origin does it once a second.
func (c *Channel) Watch() {
	now := c.now()
	c.dismissSenders("its contribution key has expired", func(f *Feed) bool { return !f.expires.IsZero() && now.After(f.expires) })
	c.mu.Lock()
	defer c.mu.Unlock()
	c.avoidFaults()
	c.promote(false)
}

func (c *Channel) measure(idle int64, turn govern.Turn) {
	c.Watch()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.govern(idle, turn)
	c.in.measure(c.now())
	for _, r := range *c.out.renditions.Load() {
		r.nudge(time.Now())
	}
	var cut int64
	for _, r := range *c.out.renditions.Load() {
		cut += r.window.Cut
	}
	if s := c.session; s != nil {
		for _, o := range s.outputs {
			cut += int64(o.cutter.Overflows)
		}
	}
	if cut > c.cut {
		c.squeezed = c.now()
	}
	c.cut = cut
}

// Status returns the channel at a glance.
func (c *Channel) Status() Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	st := Status{Slug: c.slug, Title: c.settings.Title, State: Waiting, Problems: []ladder.Problem{},
		Renditions: []RenditionStatus{}, Rungs: c.rungs}
	if st.Rungs == nil {
		st.Rungs = c.settings.Ladder.Rungs
	}
	if st.Rungs == nil {
		st.Rungs = []ladder.Rung{}
	}
	for name, r := range *c.out.renditions.Load() {
		v := r.View()
		if v == nil {
			continue
		}
		st.Memory += v.Snapshot.Bytes
		for _, s := range v.Snapshot.Held {
			st.Memory += s.Made.Size()
		}
		if rs, ok := c.renditionStatus(name, v); ok {
			st.Renditions = append(st.Renditions, rs)
		}
	}
	sort.Slice(st.Renditions, func(i, j int) bool {
		a, b := st.Renditions[i], st.Renditions[j]
		if a.Kind != b.Kind {
			return slices.Index(kindOrder, a.Kind) < slices.Index(kindOrder, b.Kind)
		}
		return a.Width*a.Height > b.Width*b.Height || a.Width*a.Height == b.Width*b.Height && a.Name < b.Name
	})
	st.PartTarget = ticks(c.out.partTarget).Milliseconds()
	if p := c.picture.Load(); p != nil {
		st.PictureAt = p.At.UnixMilli()
	}
	others := 0
	if c.session != nil {
		others = max(0, len(c.session.sounds)-1)
	}
	st.Inputs = c.inputs()
	st.Advice = c.advice()
	if mode := c.settings.Ladder.Governor; mode != ladder.Ungoverned {
		st.Governor = &GovernorStatus{Mode: mode, Steps: append([]govern.Step{}, c.governor.Steps()...)}
	}
	st.MemoryBound = MemoryBound(&c.settings, st.Rungs, others)
	if f := c.air.feed; f != nil {
		st.Feed = &FeedStatus{Protocol: f.protocol, Remote: f.remote, Begun: f.begun, Bitrate: c.in.bitrate,
			FrameRate: c.in.rate, GapMillis: c.in.longest.Milliseconds(), Tracks: f.tracks()}
		if c.session != nil {
			st.Feed.DriftPPM, st.Feed.DriftKnown = c.session.feed.Drift()
			st.Feed.KeyMillis, st.Feed.ApartMillis = c.session.source.distance/90, c.session.apart()
		}
		c.judge(&st)
	} else if !c.air.last.Ended.IsZero() {
		last := c.air.last
		st.LastFeed = &last
	}
	return st
}

func (c *Channel) renditionStatus(name string, v *present.View) (RenditionStatus, bool) {
	t, known := v.Track()
	if !known {
		return RenditionStatus{}, false
	}
	rs := RenditionStatus{
		Name: name, Kind: t.Kind.String(), Codec: t.CodecName, Peak: v.Peak, Average: v.Average,
		Segments: len(v.Snapshot.Advertised()), First: v.Snapshot.Oldest().MSN, Last: v.Snapshot.Newest().MSN, Retired: v.Retired, FrameRate: t.FrameRate.Milli(),
	}
	if t.Kind == media.Video {
		rs.Width, rs.Height = ladder.Display(&t)
	}
	rs.Second = measured(v.Snapshot, media.VideoTimescale)
	if w := v.Snapshot.NewestWhole(); w != nil && !w.Gap && w.Duration > 0 {
		rs.Segment = media.PerSecond(w.Size*8, w.Duration, media.VideoTimescale)
	}
	for _, q := range c.load.read().now.Quality {
		if q.Rendition == name {
			rs.PSNR, rs.SSIM = q.PSNR, q.SSIM
		}
	}
	for _, r := range c.rungs {
		if r = r.WithDefaults(); r.Name == name && !r.Source {
			rs.Asked, rs.AskedPeak = r.Bitrate, r.Peak
			rs.Buffer = measured(v.Snapshot, media.Rescale(int64(r.Buffer), 1000, media.VideoTimescale))
		} else if r.AudioBitrate > 0 && r.AudioName() == name {
			rs.Asked = r.AudioBitrate
		}
	}
	if c.session != nil {
		if o := c.session.outputs[name]; o != nil {
			rs.Lost, rs.Ready = o.cutter.Dropped, o.layer != nil
			rs.CodingMillis = c.session.coding.by[name].Milliseconds()
		}
	}
	return rs, true
}

// measured returns the bitrate of the last media of a length in ticks of media.VideoTimescale, as far as parts tell.
func measured(s *segment.Snapshot, span int64) int64 {
	var bytes, long int64
	add := func(seg *segment.Segment) {
		for i := len(seg.Parts) - 1; i >= 0 && long < span; i-- {
			bytes, long = bytes+int64(len(seg.Parts[i].Bytes)), long+seg.Parts[i].Duration
		}
	}
	if s.Open != nil {
		add(s.Open)
	}
	for i := len(s.Held) - 1; i >= 0 && long < span && !s.Held[i].Gap; i-- {
		add(s.Held[i])
	}
	if long == 0 {
		return 0
	}
	return media.PerSecond(bytes*8, long, media.VideoTimescale)
}

// After so long without a picture, or without any track, a channel says so.
const (
	pictureless = 2 * time.Second
	trackless   = 2500 * time.Millisecond // what is needed to find the tracks out is less
)

// nothing says that nothing usable has come of a feed for long.
func (f *Feed) nothing(now time.Time) string {
	rest := int(now.Sub(f.heard).Seconds())
	if line := f.line.Load(); line != nil && line.TS != nil && line.TS.Bitrate > 0 {
		return fmt.Sprintf("Packets come from the sender, %d kbit/s, but for %d s neither pictures nor sound that can be used are in them. Look at the programme and its tracks in the encoder's multiplexer.", line.TS.Bitrate/1000, rest)
	}
	return fmt.Sprintf("Nothing has come from the sender for %d s, though it is connected. Look at its line, and at the encoder.", rest)
}

// judge names the state of a channel that has a sender, and its problems.
func (c *Channel) judge(st *Status) {
	problem := func(field, text string, args ...any) {
		st.Problems = append(st.Problems, ladder.Problem{Field: field, Text: fmt.Sprintf(text, args...)})
		st.State = Degraded
	}
	st.State = Starting
	if !c.out.firstMedia.IsZero() && c.out.documents.Load() != nil {
		st.State = Live
	}
	if c.settings.Unpackaged {
		if st.State = Live; c.air.feed.silent(c.now()) {
			problem("feed", "Nothing has come from the sender for %d s, though it is connected. Look at its line, and at the encoder.", int(c.now().Sub(c.air.feed.heard).Seconds()))
		}
		return
	}
	l := c.load.read()
	if c.session != nil && c.session.sup != nil {
		lost, _ := c.session.sup.Lost()
		st.Worker = &WorkerStatus{
			PID: c.session.sup.PID(), Load: l.busy, CPU: l.cpu, LagMillis: l.now.LagMillis,
			Dropped: l.droppedBase + l.now.Dropped, Dropping: l.dropping, Skipped: l.now.Skipped, Replaced: l.replaced, Lost: lost,
			Nodes: append([]NodeStatus{}, l.nodes...), Loudness: l.now.Loudness, Levels: l.now.Levels,
		}
		switch {
		case l.now.Keyless && c.needsPictures():
			problem("worker", "Nothing can be coded before the sender's next keyframe. Let it make one every two seconds.")
		case l.dropping > 0 && c.needsPictures():
			problem("worker", "The processor does not keep up: %d.%d %% of the pictures are left out. Turn a rung off, or lower the effort or size of one.", l.dropping/10, l.dropping%10)
		case l.now.LagMillis > 1000:
			problem("worker", "The worker is %d ms behind the sender. If it stays, turn a rung off or lower its effort.",
				l.now.LagMillis)
		}
	}
	if text := c.faulty(); text != "" {
		problem("picture", "%s", text)
	}
	if s := c.session; s != nil && s.video != nil && sourceIsOn(s.rungs) {
		if text := s.source.problem(s.newest, c.settings.SegmentTicks(), c.settings.SegmentMillis, s.video.FrameRate); text != "" {
			problem("feed", "%s", text)
		}
	}
	if s := c.session; s != nil {
		for _, not := range s.notMade() {
			one, are := "rung", "is"
			if len(not.rungs) > 1 {
				one, are = "rungs", "are"
			}
			problem("rungs."+not.rungs[0], "The %s %s %s not made: %s.", one, strings.Join(not.rungs, ", "), are, not.why)
		}
		if t := s.main(); t != nil && t.Undecodable != "" && slices.ContainsFunc(s.rungs,
			func(r ladder.Rung) bool { return r.On && r.AudioBitrate > 0 }) {
			problem("rungs", "The sound passes through as it comes: no decoder here reads %s, so it is not made at another bitrate. Set the encoder to AAC if the ladder needs it.", t.Undecodable)
		}
	}
	if !l.replacedAt.IsZero() && c.now().Sub(l.replacedAt) < replacedShown {
		problem("worker", "The worker was replaced %d s ago: %s. If it happens again, look at the feed's encoder and at the machine's memory.", int(c.now().Sub(l.replacedAt).Seconds()), l.why)
	}
	if l.errors > unreadable {
		problem("worker", "The decoder cannot read %d.%d %% of what the sender sends. Look for losses on the line, and set the encoder to what decoders of its codec are sure to read: of H.264, Baseline, Main or High profile, progressive, 8-bit 4:2:0.", l.errors/10, l.errors%10)
	}
	if c.now().Sub(c.squeezed) < squeezeShown {
		problem("feed", "The sender sends more than the channel may hold, %d Mbit/s with this segment length: segments leave early, or pictures are left out. Lower its bitrate.", maxSourceBitrate/1_000_000)
	}
	if f, now := c.air.feed, c.now(); c.session != nil && f.silent(now) {
		problem("feed", "%s", f.nothing(now))
	} else if c.session != nil && f.video != nil && now.Sub(f.pictured) > pictureless {
		problem("feed", "No picture has come from the sender for %d s, though other things do. Look at the encoder's video, and at the tracks that the input lists.", int(now.Sub(f.pictured).Seconds()))
	}
	if now := c.now(); now.Sub(c.air.feed.pace.slowed) < paceShown {
		problem("feed", "The sender sends faster than real time: its media is %d s ahead of the clock, so it is read more slowly. Set the encoder to real time.", c.o.Burst/time.Second)
	}
	if !c.numbers.stored(c.positionNow().NextMSN) {
		problem("records", "The database did not store the channel's numbering for long. Mend it: after a crash now, players would have to begin anew.")
	}
	if c.now().Sub(c.badCue) < cueShown {
		problem("feed", "The sender's cue messages cannot be read. Look at the encoder's SCTE 35 settings; the event log says what was found.")
	}
	if age := c.now().Sub(c.air.feed.begun); c.session == nil && age > trackless {
		problem("feed", "The sender is connected, but no track has come. Start the encoder's output, and check that it sends one of %s, and for sound one of %s.",
			strings.Join(coding.Labels(media.Video), ", "), strings.Join(coding.Labels(media.Audio), ", "))
		if st.State = Starting; age > 5*time.Second {
			st.State = Failed
		}
	}
	if age := c.now().Sub(c.air.feed.begun); c.out.firstMedia.IsZero() && c.session != nil && age > 15*time.Second {
		problem("feed", "Media arrives, but no segment could be made for %d s. Check that the encoder sends keyframes.",
			int(age.Seconds()))
		st.State = Failed
	}
}

// kindOrder is the order in which renditions are listed.
var kindOrder = []string{media.Video.String(), media.Audio.String(), media.Data.String()}

// InputStatus is an input at a glance.
type InputStatus struct {
	settings.Input
	OnAir   bool   `json:"onAir"`
	Chosen  bool   `json:"chosen,omitempty"`  // by hand
	Standby int    `json:"standby,omitempty"` // senders that are connected and not on air
	Problem string `json:"problem,omitempty"`
	// Of the feed that the input has, on air or standing by.
	Protocol string             `json:"protocol,omitempty"`
	Remote   string             `json:"remote,omitempty"`
	Line     *contribution.Line `json:"line,omitempty"` // nil of protocols that measure nothing
}

func (c *Channel) inputs() (out []InputStatus) {
	for _, in := range c.settings.Inputs {
		s := InputStatus{Input: in, OnAir: c.air.feed != nil && c.air.feed.input == in, Chosen: c.air.chosen == in}
		for _, f := range c.air.standby {
			if f.input == in {
				s.Standby++
			}
		}
		s.Problem, s.Secret = c.air.problems[in], ""
		if u := c.user(in); u != nil {
			s.Remote, s.Protocol, s.Line = u.remote, u.protocol, u.line.Load()
		}
		out = append(out, s)
	}
	return out
}

// notMade is a reason and the rungs that are not made for it.
type notMade struct {
	why   string
	rungs []string
}

// notMade lists the rungs of the ladder that are on and not made, each reason once.
func (s *session) notMade() (out []notMade) {
	for _, r := range s.rungs {
		why := s.refused(r)
		if why == "" || !r.On || r.Source && s.source.suspended {
			continue
		}
		i := slices.IndexFunc(out, func(n notMade) bool { return n.why == why })
		if i < 0 {
			i, out = len(out), append(out, notMade{why: why})
		}
		out[i].rungs = append(out[i].rungs, r.Name)
	}
	return out
}

func (c *Channel) needsPictures() bool { return c.session != nil && len(c.session.config.Rungs) > 0 }
