package operations

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
)

// Free space of the data folder below which records and database are in danger.
const (
	leastFree   = 64 << 20
	healthEvery = time.Second
	pingEvery   = 2 * time.Second
)

// WatchOptions are what is watched.
type WatchOptions struct {
	Data     string                           // folder whose disk must not be full; "" is not looked at
	Database func() error                     // why our own database server does not run now; nil for none
	Viewers  func() map[string]map[string]int // of each channel by protocol; nil counts none
}

// Watch looks at everything once a second: how the channels are, and what is wrong with the service itself.
type Watch struct {
	WatchOptions
	desk       *Desk
	origin     *origin.Origin
	hooks      *Hooks
	recordings *Recordings
	relays     *Relays
	samples    samples
	minutes    minutes

	unanswered atomic.Pointer[error] // why the database did not answer when it was asked last
	lostBefore int64                 // records whose loss was told

	mu       sync.Mutex
	problems []api.ServiceProblem // that were found at the last look
	since    map[string]time.Time
}

// NewWatch looks once, and then while Run runs.
func NewWatch(o WatchOptions, d *Desk, or *origin.Origin, h *Hooks, recordings *Recordings, relays *Relays) *Watch {
	w := &Watch{WatchOptions: o, desk: d, origin: or, hooks: h, recordings: recordings, relays: relays}
	w.check(time.Now())
	return w
}

// Status is a channel at a glance, with its viewers, its relays and what is kept of it.
func (w *Watch) Status(c *origin.Channel) status.Status { return w.status(c, w.viewers()) }

func (w *Watch) status(c *origin.Channel, viewers map[string]map[string]int) status.Status {
	st := c.Status()
	st.Viewers = viewers[st.Slug]
	w.relays.AddTo(&st)
	w.recordings.AddTo(&st)
	return st
}

func (w *Watch) viewers() map[string]map[string]int {
	if w.Viewers == nil {
		return nil
	}
	return w.Viewers()
}

// Statuses are all channels at a glance.
func (w *Watch) Statuses() []status.Status {
	out, viewers := []status.Status{}, w.viewers()
	for _, c := range w.origin.Channels() {
		out = append(out, w.status(c, viewers))
	}
	return out
}

// LastHour shows bitrate, load and viewers of a channel's last hour.
func (w *Watch) LastHour(slug string) api.History { return w.samples.of(slug) }

// Health returns what is wrong with the service itself, nothing when all is well.
func (w *Watch) Health() []api.ServiceProblem {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.problems
}

// check finds what is wrong now.
func (w *Watch) check(now time.Time) {
	found := []api.ServiceProblem{}
	add := func(what, do, text string, args ...any) {
		found = append(found, api.ServiceProblem{What: what, Text: fmt.Sprintf(text, args...), Do: do})
	}
	st := w.desk.Journal.State()
	var down error
	if w.Database != nil {
		down = w.Database()
	}
	const goesOn = "Media, viewers and senders are not affected."
	switch {
	case down != nil:
		add("database", "It is being started again; its log is mariadbd.log in the data folder. "+goesOn,
			"The database is down: %v; %d records are queued.", down, st.Waiting)
	case st.Err == nil && w.unanswered.Load() != nil:
		add("database", "Look at the database server and its disk. "+goesOn, "The database does not answer: %v.",
			*w.unanswered.Load())
	case st.Err != nil:
		add("database", "Look at the database server and its disk. "+goesOn,
			"The database does not accept records: %v; %d have been queued since %s.", st.Err, st.Waiting, st.Since.UTC().Format(time.TimeOnly))
	}
	if lost := st.Lost - w.lostBefore; lost > 0 && st.Err == nil {
		// It is over: say once what was lost.
		w.lostBefore = st.Lost
		w.recordsLost(lost)
	} else if lost > 0 {
		add("records", "Mend the database.", "%d records were lost since too many waited.", lost)
	}
	if w.Data != "" {
		if free, err := freeSpace(w.Data); err == nil && free < leastFree {
			add("disk", "Make room on that disk. "+goesOn, "The disk of the data folder is full: %d MB are left.", free>>20)
		}
	}
	if st := w.recordings.store; st != nil {
		for _, q := range st.Quarantined() {
			add("quarantine "+q.Channel, "It stays until somebody decides: metaplasis store adopt "+q.Channel+" makes a recording of it, metaplasis store remove "+q.Channel+" removes it.",
				"The store has %d MB of %s, of %s to %s, that are in quarantine: %s.", q.Bytes>>20, q.Channel, q.Oldest.UTC().Format(time.DateTime), q.Newest.UTC().Format(time.DateTime), q.Why)
		}
		if n, err := st.Deletions(); err != nil {
			add("deletions", "Check the store's permissions and disk. It is retried automatically.", "%d files that are not kept any more cannot be removed: %v.", 2*n, err)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	before := w.since
	w.since = map[string]time.Time{}
	for i := range found {
		at, known := before[found[i].What]
		if !known {
			at = now
		}
		found[i].Since = at.UTC()
		w.since[found[i].What] = at
	}
	w.problems = found
}

// Run looks until the context ends.
func (w *Watch) Run(ctx context.Context) {
	var pinging sync.WaitGroup
	pinging.Go(func() { w.ping(ctx) })
	defer pinging.Wait()
	tick := time.NewTicker(healthEvery)
	defer tick.Stop()
	told := map[string]bool{}
	seen := map[string]conditions{}
	var taken time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			w.check(now)
			all := w.Statuses()
			if now.Sub(taken) > sampleEvery-healthEvery/2 {
				taken = now
				w.storeMinutes(w.samples.record(now, all, &w.minutes))
			}
			told = w.tellHealth(now, told)
			seen = w.hooks.tellConditions(all, seen)
		}
	}
}

// storeMinutes hands whole minutes to the records.
func (w *Watch) storeMinutes(over []records.Statistic) {
	if len(over) > 0 {
		w.desk.Journal.Put(records.Write{Size: len(over) * 100, Do: func(ctx context.Context, db *records.DB) error { return db.PutStatistics(ctx, over) }})
	}
}

// ping asks the database every so often whether it answers.
func (w *Watch) ping(ctx context.Context) {
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			within, cancel := context.WithTimeout(ctx, pingEvery)
			err := w.desk.DB.Ping(within)
			cancel()
			if err == nil {
				w.unanswered.Store(nil)
			} else if ctx.Err() == nil {
				w.unanswered.Store(&err)
			}
		}
	}
}

func freeSpace(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// tellHealth records what has come up and what is over, and returns what is told of now.
func (w *Watch) tellHealth(now time.Time, before map[string]bool) map[string]bool {
	told := map[string]bool{}
	for _, p := range w.Health() {
		told[p.What] = true
		if !before[p.What] {
			w.desk.Event(events.Event{At: now, Level: events.Failure, Kind: p.What + "-failing", Text: p.Text, Do: p.Do,
				Like: p.What})
		}
	}
	for what := range before {
		if !told[what] {
			w.desk.Event(events.Event{At: now, Level: events.Info, Kind: what + "-recovered",
				Text: "The trouble with the service's " + what + " is over."})
		}
	}
	return told
}

func (w *Watch) recordsLost(n int64) {
	w.desk.Event(events.Event{At: time.Now(), Level: events.Warning, Kind: "records-lost",
		Text: fmt.Sprintf("%d records of feeds and events were lost while the database did not answer.", n)})
}
