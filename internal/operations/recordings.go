package operations

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/recording"
	"metaplasis/internal/records"
	"metaplasis/internal/store"
)

// Recordings are stretches of channels that are retained. Without a store nothing is.
//
//large:a method for each action on recordings and on the store
type Recordings struct {
	desk   *Desk
	origin *origin.Origin
	store  *store.Store // nil: nothing is kept
	ledger *Ledger

	mu   sync.Mutex
	list []recording.Recording // the newest first
	// since is from when on all of a channel is to be recorded though no recording says so yet, by channel.
	since map[string]time.Time
	full  bool // there are as many recordings as there may be
}

const (
	//limit:recordings | all | no further one is begun: 422, a problem and an event; those that run go on
	maxRecordings = 20_000
	recordEach    = 5 * time.Second
	defaultHours  = 24
	//limit:characters of a title | each recording | 422
	maxTitle = 200
	//limit:how far ahead a recording may be planned | each recording | 422
	maxAheadOfTime = 366 * 24 * time.Hour
)

// NewRecordings reads the stored recordings and tells the store what they hold. st and l may be nil.
func NewRecordings(ctx context.Context, d *Desk, o *origin.Origin, st *store.Store, l *Ledger) (*Recordings, error) {
	list, err := d.DB.Recordings(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the recordings: %w", err)
	}
	x := &Recordings{desk: d, origin: o, store: st, ledger: l, list: list, since: map[string]time.Time{}}
	channels := map[string]bool{}
	for _, r := range list {
		channels[r.Channel] = true
	}
	for slug := range channels {
		x.updateRetention(slug)
	}
	return x, nil
}

// Settled says that all stored channels were started: of what is kept of others, nothing else decides.
func (x *Recordings) Settled() {
	if x.store != nil {
		x.store.Settled()
	}
}

// holdOf is what a recording holds.
func holdOf(r *recording.Recording) store.Hold {
	return store.Hold{From: r.Begun, To: r.Ended, Renditions: r.Renditions}
}

// updateRetention tells the store what is kept of a channel. Of one that does not run nothing is decided: its recordings are held,
// and what else there is of it stays.
func (x *Recordings) updateRetention(slug string) { x.decide(slug, false) }

func (x *Recordings) decide(slug string, removed bool) {
	if x.store == nil {
		return
	}
	k := store.Keeping{Undecided: !removed}
	x.mu.Lock()
	if c := x.origin.Channel(slug); c != nil {
		set := c.Settings()
		k = store.Keeping{TimeShift: time.Duration(set.TimeShiftMinutes) * time.Minute, Bytes: set.TimeShiftMB * 1_000_000, Since: c.Created()}
		if set.Record { // also while no record of it can be made
			k.Holds = append(k.Holds, store.Hold{From: x.recordingSince(slug)})
		} else {
			delete(x.since, slug)
		}
	}
	for i := range x.list {
		if x.list[i].Channel == slug {
			k.Holds = append(k.Holds, holdOf(&x.list[i]))
		}
	}
	x.mu.Unlock()
	if k.TimeShift > 0 || len(k.Holds) > 0 || x.store.Has(slug) {
		x.store.Set(slug, k)
	}
}

func (x *Recordings) isFull() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.full
}

// recordingSince is from when on all of a channel is to be recorded, which stays the same until a recording holds it. The
// lock is held.
func (x *Recordings) recordingSince(slug string) time.Time {
	at, known := x.since[slug]
	if !known {
		at = time.Now().UTC().Truncate(time.Millisecond)
		x.since[slug] = at
	}
	return at
}

// Named returns a recording of a channel by its name in addresses, nil when there is none.
func (x *Recordings) Named(slug, name string) *recording.Recording {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i := range x.list {
		if r := x.list[i]; r.Name == name && r.Channel == slug {
			return &r
		}
	}
	return nil
}

// AddTo puts what is kept into a channel's status; what goes wrong is a problem.
func (x *Recordings) AddTo(st *status.Status) {
	if x.store == nil {
		return
	}
	k, known := x.store.Status(st.Slug)
	if !known {
		return
	}
	st.Kept = &k
	add := func(text string, args ...any) {
		st.Problems = append(st.Problems, ladder.Problem{Field: "keeping", Text: fmt.Sprintf(text, args...)})
	}
	switch {
	case k.Error != "" && k.LostNow > 0:
		add("The store has not accepted media since %s: %s. The queue in memory is full: %d segments are missing from the time-shift and recordings. Free some space, or repair the store.", k.Since.UTC().Format(time.TimeOnly), k.Error, k.LostNow)
	case k.Error != "":
		add("The store has not accepted media since %s: %s. %d MB are queued in memory; live playback is not affected.", k.Since.UTC().Format(time.TimeOnly), k.Error, k.Waiting>>20)
	case k.LostNow > 0:
		add("The store is too slow for the channels on air: %d segments are missing from the time-shift and recordings.", k.LostNow)
	}
	if k.Away != "" {
		add("The object store has not accepted uploads since %s: %s. They are queued in a local folder.", k.Since.UTC().Format(time.TimeOnly), k.Away)
	}
	if k.Missing > 0 {
		add("%d MB that are to be kept are not in the store any more, or are not as they were written. metaplasis recordings verify names the files.", max(k.Missing/1_000_000, 1))
	}
	if x.isFull() {
		add("The limit of %d recordings is reached. Remove some, or shorten the retention of automatic recordings.", maxRecordings)
	}
	if k.Full != "" {
		add("The store is full: %s. Remove recordings, or raise the limit.", k.Full)
	}
}

// describe is a recording as it is shown. Its addresses depend on how the caller reached the service: see Best.
func (x *Recordings) describe(rec *recording.Recording) api.Recording {
	h := holdOf(rec)
	out := api.Recording{Recording: *rec, Kept: []string{}}
	if out.Renditions == nil {
		out.Renditions = []string{}
	}
	now := time.Now()
	if x.store != nil {
		out.Bytes, out.Kept, out.Best = x.store.Held(rec.Channel, h)
		_, out.Missing = x.store.Lost(rec.Channel, h)
		out.Kept = slices.DeleteFunc(out.Kept, func(name string) bool { return name == publish.Stills })
	}
	switch {
	case rec.Begun.After(now):
		out.State = api.Planned
	case !rec.EndedBefore(now):
		out.State = api.Running
	case out.Missing > 0:
		out.State = api.Damaged
	case len(out.Kept) == 0:
		out.State = api.Empty
	default:
		out.State = api.Complete
	}
	return out
}

// List lists the recordings, the newest first: those of a channel, or all for "".
func (x *Recordings) List(slug string) []api.Recording {
	x.mu.Lock()
	list := slices.Clone(x.list)
	x.mu.Unlock()
	out := []api.Recording{}
	for i := range list {
		if slug == "" || list[i].Channel == slug {
			out = append(out, x.describe(&list[i]))
		}
	}
	return out
}

func (x *Recordings) find(id int64) (recording.Recording, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, rec := range x.list {
		if rec.ID == id {
			return rec, nil
		}
	}
	return recording.Recording{}, refuse(NotFound, "metaplasis recordings list names those there are.", "there is no recording %d", id)
}

// Show returns a recording.
func (x *Recordings) Show(id int64) (api.Recording, error) {
	rec, err := x.find(id)
	if err != nil {
		return api.Recording{}, err
	}
	return x.describe(&rec), nil
}

// keepsNothing is the refusal when there is no store.
func keepsNothing() error {
	return Refuse(Conflict, "the service keeps nothing", "Start it with a folder for --store.")
}

// Add records a channel: from now or another time on, until it is stopped or another time.
func (x *Recordings) Add(ctx context.Context, c *origin.Channel, in api.NewRecording, by string) (api.Recording, error) {
	if x.store == nil {
		return api.Recording{}, keepsNothing()
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	rec := recording.Recording{Channel: c.Slug(), Title: strings.TrimSpace(in.Title), Kind: recording.ByHand, Begun: now, Author: by}
	var problems []ladder.Problem
	at := func(field, text string) (at time.Time) {
		if text == "" {
			return at
		}
		at, _, err := origin.ParseTime(text, now, c)
		if err != nil {
			problems = append(problems, ladder.Problem{Field: field, Text: fmt.Sprintf("found %.60q: %v", text, err)})
		} else if at.After(now.Add(maxAheadOfTime)) {
			problems = append(problems, ladder.Problem{Field: field, Text: "found a time more than a year ahead, expected one within it"})
		}
		return at.UTC().Truncate(time.Millisecond)
	}
	if from := at("from", in.From); !from.IsZero() {
		rec.Begun = from
	}
	if to := at("to", in.To); !to.IsZero() {
		rec.Ended = to
		if !to.After(rec.Begun) && problems == nil {
			problems = append(problems, ladder.Problem{Field: "to", Text: "found a time that does not lie behind the beginning"})
		}
	}
	if p := ladder.CheckText("title", rec.Title, maxTitle); rec.Title != "" && p != nil {
		problems = append(problems, *p)
	}
	if rec.Title == "" {
		rec.Title = c.Settings().Title + ", " + rec.Begun.Format("2 January 2006 15:04") + " UTC"
	}
	if in.Days < 0 || in.Days > maxRecordDaysAsked {
		problems = append(problems, ladder.Problem{Field: "days", Text: fmt.Sprintf("found %d, expected 0 to %d", in.Days, maxRecordDaysAsked)})
	}
	if len(in.Renditions) > 64 {
		problems = append(problems, ladder.Problem{Field: "renditions", Text: "found more than 64, expected fewer"})
	}
	if problems != nil {
		return api.Recording{}, refuseAll("nothing is recorded", problems)
	}
	rec.Expires = expiry(now, in.Days)
	rec.Renditions = in.Renditions
	if err := x.add(ctx, &rec); err != nil {
		return api.Recording{}, err
	}
	x.desk.Event(events.Event{At: now, Channel: rec.Channel, Level: events.Info, Kind: "recording-begun", Text: fmt.Sprintf("The recording %q was started by %s.", rec.Title, rec.Author)})
	return x.describe(&rec), nil
}

//limit:days for which a recording is kept | each recording | 422
const maxRecordDaysAsked = 3660

// expiry is when something that is kept for so many days goes, the zero time for never.
func expiry(from time.Time, days int64) time.Time {
	if days == 0 {
		return time.Time{}
	}
	return from.Add(time.Duration(days) * 24 * time.Hour)
}

// add stores a new recording.
func (x *Recordings) add(ctx context.Context, rec *recording.Recording) (err error) {
	x.mu.Lock()
	n := len(x.list)
	x.mu.Unlock()
	if n >= maxRecordings {
		return records.ErrFull
	}
	rec.Name = records.NewSecret()
	if rec.ID, err = x.desk.DB.AddRecording(ctx, *rec); err != nil {
		return err
	}
	x.mu.Lock()
	x.list = append([]recording.Recording{*rec}, x.list...)
	slices.SortStableFunc(x.list, func(a, b recording.Recording) int { return b.Begun.Compare(a.Begun) })
	x.mu.Unlock()
	x.updateRetention(rec.Channel)
	return nil
}

// alter changes a recording in the records and in memory.
func (x *Recordings) alter(ctx context.Context, rec recording.Recording) error {
	if err := x.desk.DB.SetRecording(ctx, rec); err != nil {
		return err
	}
	x.mu.Lock()
	for i := range x.list {
		if x.list[i].ID == rec.ID {
			x.list[i] = rec
		}
	}
	x.mu.Unlock()
	x.updateRetention(rec.Channel)
	return nil
}

// Change changes the title of a recording, or how long it is kept.
func (x *Recordings) Change(ctx context.Context, id int64, in api.RecordingChange) (api.Recording, error) {
	rec, err := x.find(id)
	if err != nil {
		return api.Recording{}, err
	}
	var problems []ladder.Problem
	if in.Title != nil {
		rec.Title = strings.TrimSpace(*in.Title)
		if p := ladder.CheckText("title", rec.Title, maxTitle); p != nil {
			problems = append(problems, *p)
		}
	}
	if in.Days != nil {
		if *in.Days < 0 || *in.Days > maxRecordDaysAsked {
			problems = append(problems, ladder.Problem{Field: "days", Text: fmt.Sprintf("found %d, expected 0 to %d", *in.Days, maxRecordDaysAsked)})
		}
		rec.Expires = expiry(time.Now().UTC().Truncate(time.Millisecond), *in.Days)
	}
	if problems != nil {
		return api.Recording{}, refuseAll("nothing was changed", problems)
	}
	if err := x.alter(ctx, rec); err != nil {
		return api.Recording{}, err
	}
	return x.describe(&rec), nil
}

// Stop ends a recording now.
func (x *Recordings) Stop(ctx context.Context, id int64, by string) (api.Recording, error) {
	rec, err := x.find(id)
	if err != nil {
		return api.Recording{}, err
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	if rec.EndedBefore(now) {
		return api.Recording{}, Refuse(Conflict, "the recording has ended already", "")
	}
	if !rec.Begun.Before(now) {
		return api.Recording{}, Refuse(Conflict, "the recording has not begun yet", "Remove it instead.")
	}
	if c := x.origin.Channel(rec.Channel); rec.Kind == recording.Continuous && c != nil && c.Settings().Record {
		return api.Recording{}, Refuse(Conflict, "the channel records all that is on air", "Turn that off in what the channel keeps: metaplasis channels change "+rec.Channel+" --record=false.")
	}
	rec.Ended = now
	if err := x.alter(ctx, rec); err != nil {
		return api.Recording{}, err
	}
	x.desk.Event(events.Event{At: now, Channel: rec.Channel, Level: events.Info, Kind: "recording-ended", Text: fmt.Sprintf("The recording %q was ended by %s.", rec.Title, by)})
	return x.describe(&rec), nil
}

// Remove removes a recording; what nothing else keeps is deleted.
func (x *Recordings) Remove(ctx context.Context, id int64, by string) error {
	rec, err := x.find(id)
	if err != nil {
		return err
	}
	if err := x.drop(ctx, rec); err != nil {
		return err
	}
	x.desk.Event(events.Event{At: time.Now(), Channel: rec.Channel, Level: events.Info, Kind: "recording-removed", Text: fmt.Sprintf("The recording %q was removed by %s.", rec.Title, by)})
	return nil
}

func (x *Recordings) drop(ctx context.Context, rec recording.Recording) error {
	if err := x.desk.DB.RemoveRecording(ctx, rec.ID); err != nil {
		return err
	}
	defer func() {
		if x.store != nil {
			x.store.Release(rec.Channel, holdOf(&rec))
		}
	}()
	x.mu.Lock()
	x.list = slices.DeleteFunc(slices.Clone(x.list), func(r recording.Recording) bool { return r.ID == rec.ID })
	x.mu.Unlock()
	x.updateRetention(rec.Channel)
	return nil
}

// Past is how far back viewers of a channel may go now, the zero time when they may not.
func (x *Recordings) Past(c *origin.Channel) time.Time {
	set := c.Settings()
	if x.store == nil || set.TimeShiftMinutes == 0 {
		return time.Time{}
	}
	k, known := x.store.Status(c.Slug())
	if !known || k.Oldest.IsZero() {
		return time.Time{}
	}
	oldest := time.Now().Add(-time.Duration(set.TimeShiftMinutes) * time.Minute)
	if k.Oldest.After(oldest) {
		oldest = k.Oldest
	}
	return oldest
}
