package status

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/settings"
)

// Snapshot is all that is known of a channel at one time.
//
//large:all that the judgement looks at, gathered once
type Snapshot struct {
	Now      time.Time
	Settings settings.Settings
	Rungs    []ladder.Rung // in force, nil before the first run

	Feed     *Feed     // on air, nil for none
	LastFeed *LastFeed // nil when there was none
	Run      *Run      // that goes on, nil for none
	Load     Load
	Inputs   []InputStatus
	Advice   map[string]int
	Governor *GovernorStatus

	Renditions  []Rendition
	Started     bool  // a segment of the run has come out
	Playable    bool  // there is something to play
	PartTarget  int64 // ticks of media.VideoTimescale
	PictureAt   time.Time
	MemoryBound int64

	Fault    string        // what is wrong with what the feed shows, "" for nothing
	Squeezed time.Time     // when the channel reached its bound last
	BadCue   time.Time     // when a cue message came last that could not be read
	Unsaved  bool          // the numbering is not safe after a crash
	Burst    time.Duration // how far a feed may run ahead of the clock
}

// Feed is the feed on air.
type Feed struct {
	Protocol, Remote string
	Begun            time.Time
	Tracks           []media.Track
	Meter            Meter
	Heard            time.Time // when the newest unit came
	Pictured         time.Time // when the newest picture came
	HasVideo         bool
	Silent           bool // so long that others may take its place
	Line             *contribution.Line
	Slowed           time.Time // when it was slowed down last, since it ran ahead of the clock
}

// Run is the run that goes on.
type Run struct {
	DriftPPM        int64
	DriftKnown      bool
	KeyMillis       int64  // how far the newest two keyframes lie apart
	KeyProblem      string // what is wrong with the source's keyframes
	ApartMillis     int64  // by how much the newest picture is later than the newest sound
	NotMade         []layout.NotMade
	UndecodedSound  string // the codec of sound that no decoder here reads, though the ladder would have it encoded
	EncodesPictures bool
	Worker          *Worker // nil for none
}

// Worker is the worker of a run.
type Worker struct {
	PID  int
	Lost int64 // units that it did not take
}

// After so long something is, or was, a problem.
const (
	pictureless   = 2 * time.Second
	trackless     = 2500 * time.Millisecond // what is needed to find the tracks out is less
	tracksFailed  = 5 * time.Second
	mediaFailed   = 15 * time.Second
	squeezeShown  = 10 * time.Second
	cueShown      = time.Minute
	replacedShown = 30 * time.Second
	paceShown     = 5 * time.Second
	lagShown      = time.Second
	// unreadable is which share of the access units, in thousandths, may be unreadable.
	unreadable = 20
)

// Of tells how a channel is.
func Of(s *Snapshot) Status {
	st := Status{Slug: s.Settings.Slug, Title: s.Settings.Title, State: Waiting, Problems: []ladder.Problem{}, Renditions: []RenditionStatus{},
		Rungs: s.Rungs, Inputs: s.Inputs, Advice: s.Advice, Governor: s.Governor, MemoryBound: s.MemoryBound,
		PartTarget: media.Duration(s.PartTarget, media.VideoTimescale).Milliseconds()}
	if st.Rungs == nil {
		st.Rungs = s.Settings.Ladder.Rungs
	}
	if st.Rungs == nil {
		st.Rungs = []ladder.Rung{}
	}
	if !s.PictureAt.IsZero() {
		st.PictureAt = s.PictureAt.UnixMilli()
	}
	s.renditions(&st)
	if s.Feed == nil {
		st.LastFeed = s.LastFeed
		return st
	}
	f := s.Feed
	st.Feed = &FeedStatus{Protocol: f.Protocol, Remote: f.Remote, Begun: f.Begun, Bitrate: f.Meter.Bitrate, FrameRate: f.Meter.FrameRate,
		GapMillis: f.Meter.Gap.Milliseconds(), Tracks: f.Tracks}
	if r := s.Run; r != nil {
		st.Feed.DriftPPM, st.Feed.DriftKnown, st.Feed.KeyMillis, st.Feed.ApartMillis = r.DriftPPM, r.DriftKnown, r.KeyMillis, r.ApartMillis
	}
	j := judge{s, &st}
	j.all()
	return st
}

// judge finds what is wrong with a channel that has a feed.
type judge struct {
	*Snapshot
	st *Status
}

// problem adds one, with what to do about it.
func (j *judge) problem(field, text string, args ...any) {
	j.st.Problems = append(j.st.Problems, ladder.Problem{Field: field, Text: fmt.Sprintf(text, args...)})
	j.st.State = Degraded
}

func (j *judge) seconds(since time.Time) int { return int(j.Now.Sub(since).Seconds()) }

func (j *judge) recent(at time.Time, within time.Duration) bool {
	return !at.IsZero() && j.Now.Sub(at) < within
}

// all looks at everything. A problem that comes later is less likely to be the cause of the others.
func (j *judge) all() {
	j.st.State = Starting
	if j.Started && j.Playable {
		j.st.State = Live
	}
	if j.Settings.Unpackaged {
		j.st.State = Live
		if j.Feed.Silent {
			j.problem("feed", "Nothing has arrived from the sender for %d s, though it is connected. Check its connection and the encoder.", j.seconds(j.Feed.Heard))
		}
		return
	}
	j.worker()
	if j.Fault != "" {
		j.problem("picture", "%s", j.Fault)
	}
	j.ladder()
	if j.recent(j.Load.ReplacedAt, replacedShown) {
		j.problem("worker", "The worker was replaced %d s ago: %s. If it happens again, check the feed's encoder and the machine's memory.", j.seconds(j.Load.ReplacedAt), j.Load.Why)
	}
	if e := j.Load.Errors; e > unreadable {
		j.problem("worker", "The decoder cannot decode %d.%d %% of the feed. Check the connection for packet loss, and use a widely supported profile in the encoder: for H.264, Baseline, Main or High, progressive, 8-bit 4:2:0.", e/10, e%10)
	}
	if j.recent(j.Squeezed, squeezeShown) {
		j.problem("feed", "The sender sends more than the channel may hold, %d Mbit/s with this segment length: segments leave early, or pictures are left out. Lower its bitrate.", layout.SourceBitrate/1_000_000)
	}
	j.feed()
	if j.Unsaved {
		j.problem("records", "The database did not store the channel's numbering for long. Mend it: after a crash now, players would have to start over.")
	}
	if j.recent(j.BadCue, cueShown) {
		j.problem("feed", "The sender's cue messages cannot be read. Look at the encoder's SCTE 35 settings; the event log says what was found.")
	}
	j.start()
}

// worker looks at the worker's load.
func (j *judge) worker() {
	if j.Run == nil || j.Run.Worker == nil {
		return
	}
	l, w := &j.Load, j.Run.Worker
	j.st.Worker = &WorkerStatus{
		PID: w.PID, Load: l.Busy, CPU: l.CPU, LagMillis: l.Now.LagMillis,
		Dropped: l.Dropped(), Dropping: l.Dropping, Skipped: l.Now.Skipped, Replaced: l.Replaced, Lost: w.Lost,
		Nodes: append([]NodeStatus{}, l.Nodes...), Loudness: l.Now.Loudness, Levels: l.Now.Levels,
	}
	switch {
	case l.Now.Keyless && j.Run.EncodesPictures:
		j.problem("worker", "Nothing can be encoded before the sender's next keyframe. Let it make one every two seconds.")
	case l.Dropping > 0 && j.Run.EncodesPictures:
		j.problem("worker", "The CPU cannot keep up: %d.%d %% of the pictures are dropped. Turn a rung off, or lower the effort or size of one.", l.Dropping/10, l.Dropping%10)
	case l.Now.LagMillis > lagShown.Milliseconds():
		j.problem("worker", "The worker is %d ms behind the sender. If it stays, turn a rung off or lower its effort.", l.Now.LagMillis)
	}
}

// ladder looks at what is made of the source.
func (j *judge) ladder() {
	if j.Run == nil {
		return
	}
	if j.Run.KeyProblem != "" {
		j.problem("feed", "%s", j.Run.KeyProblem)
	}
	for _, not := range j.Run.NotMade {
		one, are := "rung", "is"
		if len(not.Rungs) > 1 {
			one, are = "rungs", "are"
		}
		j.problem("rungs."+not.Rungs[0], "The %s %s %s not made: %s.", one, strings.Join(not.Rungs, ", "), are, not.Why)
	}
	if codec := j.Run.UndecodedSound; codec != "" {
		j.problem("rungs", "The audio passes through: there is no decoder for %s, so it cannot be re-encoded. Set the encoder to AAC if the ladder needs it.", codec)
	}
}

// feed looks at what comes.
func (j *judge) feed() {
	f := j.Feed
	if j.Run != nil && f.Silent {
		j.problem("feed", "%s", j.nothing())
	} else if j.Run != nil && f.HasVideo && j.Now.Sub(f.Pictured) > pictureless {
		j.problem("feed", "No video has arrived from the sender for %d s, though other data does. Check the encoder's video, and the tracks that the input lists.", j.seconds(f.Pictured))
	}
	if j.recent(f.Slowed, paceShown) {
		j.problem("feed", "The sender sends faster than real time: its media is %d s ahead of the clock, so it is read more slowly. Set the encoder to real time.", j.Burst/time.Second)
	}
}

// nothing says that nothing usable has come of a feed for long.
func (j *judge) nothing() string {
	if line := j.Feed.Line; line != nil && line.TS != nil && line.TS.Bitrate > 0 {
		return fmt.Sprintf("The sender's packets (%d kbit/s) have contained no usable video or audio for %d s. Check the programme and its tracks in the encoder's multiplexer.", line.TS.Bitrate/1000, j.seconds(j.Feed.Heard))
	}
	return fmt.Sprintf("Nothing has arrived from the sender for %d s, though it is connected. Check its connection and the encoder.", j.seconds(j.Feed.Heard))
}

// start looks at feeds of which nothing has come out yet.
func (j *judge) start() {
	age := j.Now.Sub(j.Feed.Begun)
	if j.Run == nil && age > trackless {
		j.problem("feed", "The sender is connected, but no track has come. Start the encoder's output, and check that it sends one of %s, and for sound one of %s.",
			strings.Join(coding.Labels(media.Video), ", "), strings.Join(coding.Labels(media.Audio), ", "))
		if j.st.State = Starting; age > tracksFailed {
			j.st.State = Failed
		}
	}
	if j.Run != nil && !j.Started && age > mediaFailed {
		j.problem("feed", "Media arrives, but no segment could be made for %d s. Check that the encoder sends keyframes.", int(age.Seconds()))
		j.st.State = Failed
	}
}

// kindOrder is the order in which renditions are listed.
var kindOrder = []string{media.Video.String(), media.Audio.String(), media.Data.String()}

// compare orders renditions: by kind, the largest first.
func compare(a, b RenditionStatus) int {
	if a.Kind != b.Kind {
		return slices.Index(kindOrder, a.Kind) - slices.Index(kindOrder, b.Kind)
	}
	if d := b.Width*b.Height - a.Width*a.Height; d != 0 {
		return d
	}
	return strings.Compare(a.Name, b.Name)
}
