package operations

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/trial"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// Bounds of trials. One runs at a time, for all channels together.
const (
	trialBytes  = 24 << 20
	widestTrial = 1280 // of the screen at which pictures are compared
	//limit:channels whose newest ladder trial is remembered | all | another one is forgotten
	keptTrials = 64
)

// Trials try ways to encode the last seconds of a feed, to see quality against bitrate and processor time. The newest of each channel is
// remembered.
type Trials struct {
	desk   *Desk
	origin *origin.Origin
	all    sync.WaitGroup

	mu      sync.Mutex
	by      map[string]*api.Trial
	running string // channel, "" for none
	cancel  context.CancelFunc
}

// get returns a copy of a channel's newest trial.
func (t *Trials) get(channel string) (api.Trial, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	v := t.by[channel]
	if v == nil {
		return api.Trial{}, false
	}
	out := *v
	out.Points = slices.Clone(v.Points)
	return out, true
}

// begin takes the only place there is.
func (t *Trials) begin(channel string, v *api.Trial, cancel context.CancelFunc) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.running != "" {
		return refuse(Conflict, "Wait for it, or stop it.", "a trial of %s is running; one runs at a time", t.running)
	}
	if t.by == nil {
		t.by = map[string]*api.Trial{}
	}
	if len(t.by) >= keptTrials && t.by[channel] == nil {
		for other := range t.by {
			delete(t.by, other)
			break
		}
	}
	t.by[channel], t.running, t.cancel = v, channel, cancel
	return nil
}

// change alters a trial that runs.
func (t *Trials) change(v *api.Trial, how func(*api.Trial)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	how(v)
	if v.State != api.TrialRunning {
		t.running, t.cancel = "", nil
	}
}

// stop ends the trial of a channel; of all for "".
func (t *Trials) stop(channel string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.running == "" || channel != "" && t.running != channel {
		return false
	}
	t.cancel()
	return true
}

// NewTrials tries with the workers of an origin.
func NewTrials(d *Desk, o *origin.Origin) *Trials { return &Trials{desk: d, origin: o} }

// Close stops the trial that runs.
func (t *Trials) Close() {
	t.stop("")
	t.all.Wait()
}

// Show returns the newest trial of a channel.
func (t *Trials) Show(slug string) (api.Trial, error) {
	v, ok := t.get(slug)
	if !ok {
		return v, Refuse(NotFound, "no trial of this channel was made since the service began", "Begin one.")
	}
	return v, nil
}

// Stop stops the trial of a channel.
func (t *Trials) Stop(slug string) error {
	if !t.stop(slug) {
		return Refuse(Conflict, "no trial of this channel is running", "Nothing is to be done.")
	}
	return nil
}

// Begin encodes the last seconds of the feed in the background: a rung at other efforts and bitrates, or, when none is named, several
// sizes, for a ladder that fits the content.
func (t *Trials) Begin(c *origin.Channel, in api.NewTrial) (api.Trial, error) {
	track, units := c.Recent(trialBytes)
	if track == nil {
		return api.Trial{}, Refuse(Conflict, "there is no video on air to try anything with", "Connect a sender first.")
	}
	if track.Undecodable != "" {
		return api.Trial{}, Refuse(Conflict, "no decoder here reads "+track.Undecodable, "Set the sender to a codec that can be decoded.")
	}
	if len(units) > 0 {
		units[0].Data = coding.WithConfig(track, units[0].Data)
	}
	asked, problems := candidates(&in, c, track)
	if len(problems) > 0 {
		return api.Trial{}, &settings.InvalidError{Problems: problems}
	}
	v := &api.Trial{Rung: in.Rung, State: api.TrialRunning, Of: len(asked), Begun: time.Now().UTC(), Points: []trial.Point{}}
	ctx, cancel := context.WithCancel(context.Background())
	if err := t.begin(c.Slug(), v, cancel); err != nil {
		cancel()
		return api.Trial{}, err
	}
	w, h := ladder.Display(track)
	if w > widestTrial {
		w, h = widestTrial, h*widestTrial/w
	}
	req := trial.Request{Video: track, Screen: [2]int{max(w&^1, 16), max(h&^1, 16)}}
	for i, rung := range c.Coded(asked) {
		if in.Rung != "" {
			req.Screen = [2]int{rung.Width, rung.Height} // against what goes into the encoder
		}
		req.Candidates = append(req.Candidates, trial.Candidate{Rung: rung, Asked: asked[i].Bitrate})
	}
	t.all.Go(func() {
		defer cancel()
		t.try(ctx, c, v, req, units)
	})
	out, _ := t.get(c.Slug())
	return out, nil
}

// try runs a trial to its end.
func (t *Trials) try(ctx context.Context, c *origin.Channel, v *api.Trial, req trial.Request, units []media.AccessUnit) {
	err := worker.Try(ctx, t.origin.Worker, req, units, func(_ int, p trial.Point) {
		t.change(v, func(v *api.Trial) { v.Points, v.Done = append(v.Points, p), v.Done+1 })
	})
	t.change(v, func(v *api.Trial) {
		switch {
		case errors.Is(err, context.Canceled):
			v.State, v.Text = api.TrialStopped, "it was stopped"
		case err != nil:
			v.State, v.Text = api.TrialFailed, err.Error()
		default:
			v.State = api.TrialDone
		}
		if v.Rung != "" || len(v.Points) == 0 {
			return
		}
		var measured []ladder.Measured
		for _, p := range v.Points {
			measured = append(measured, ladder.Measured{Width: p.Width, Height: p.Height, Bitrate: p.Bitrate, Quality: p.PSNR})
		}
		v.Hull = ladder.Hull(measured)
		if v.State == api.TrialDone {
			v.Proposed = ladder.Propose(measured, v.Points[0].Effort)
		}
	})
	if err != nil && !errors.Is(err, context.Canceled) {
		t.desk.Event(events.Event{At: time.Now(), Channel: c.Slug(), Level: events.Warning, Kind: "trial-failed", Text: "The trial failed: " + err.Error() + ".",
			Do: "Try again while the feed is on air."})
	}
}

// candidates are the rungs that a trial codes.
func candidates(in *api.NewTrial, c *origin.Channel, track *media.Track) (out []ladder.Rung, problems []ladder.Problem) {
	if len(in.Efforts) == 0 {
		if in.Efforts = []int{1, 3, 5, 7}; in.Rung == "" {
			in.Efforts = []int{2}
		}
	}
	add := func(field, text string, args ...any) {
		problems = append(problems, ladder.Problem{Field: field, Text: fmt.Sprintf(text, args...)})
	}
	for _, e := range in.Efforts {
		if e < 1 || e > 9 {
			add("efforts", "found %d, expected 1 to 9", e)
		}
	}
	var bases []ladder.Rung
	if in.Rung == "" {
		bases = sizes(track)
	} else {
		at := slices.IndexFunc(c.Status().Rungs, func(r ladder.Rung) bool { return r.Name == in.Rung && !r.Source && !r.SoundOnly() })
		if at < 0 {
			add("rung", "found %.40q, expected a rung of the channel that is coded", in.Rung)
			return nil, problems
		}
		bases = c.Status().Rungs[at : at+1]
	}
	factors := []int64{20, 40, 75, 140}
	if in.Rung != "" {
		factors = []int64{50, 75, 100, 150}
	}
	for _, base := range bases {
		bitrates := in.Bitrates
		if len(bitrates) == 0 {
			for _, f := range factors {
				bitrates = append(bitrates, max(base.Bitrate*f/100/10_000*10_000, 50_000))
			}
		}
		for _, e := range in.Efforts {
			for _, b := range bitrates {
				r := base
				r.Name, r.Effort, r.Bitrate, r.Peak, r.Quality = "trial", e, b, 0, 0
				out = append(out, r)
			}
		}
	}
	if len(out) > trial.MaxCandidates {
		add("efforts", "found %d ways of coding, expected %d at most: fewer efforts or bitrates", len(out), trial.MaxCandidates)
	}
	for _, r := range out {
		for _, p := range ladder.Check([]ladder.Rung{r}) {
			add(strings.TrimPrefix(p.Field, "rungs[0]."), "%s", p.Text)
		}
		if len(problems) > 0 {
			break
		}
	}
	return out, problems
}

// sizes are the sizes that are tried for a ladder that fits the content: the source's, and the usual ones below.
func sizes(track *media.Track) (out []ladder.Rung) {
	own := ladder.Rung{On: true, Height: track.Height &^ 1, Effort: 2}
	if track.Height > 1080 {
		own.Height = 1080
	}
	w, h := own.Size(track)
	own.Bitrate = ladder.Bitrate(w, h, track.FrameRate)
	out = append(out, own)
	for _, r := range ladder.Default(track, nil) {
		if !r.Source && r.Height != own.Height {
			out = append(out, r)
		}
	}
	return out
}
