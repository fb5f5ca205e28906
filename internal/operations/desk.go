package operations

import (
	"context"
	"encoding/json"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"metaplasis/internal/hooks"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/records"
)

// DeskOptions are what a desk needs.
type DeskOptions struct {
	DB           *records.DB
	Data         string // the data folder; "" keeps neither secrets nor calls that wait
	HookCommands string // folder of programs that hooks may run; "" for none
	Logger       *slog.Logger
}

// Desk is what the origin needs of the service: it implements origin.Keeper and origin.Gate. What it stores it stores beside the
// media, and never waits for the database.
type Desk struct {
	*Log
	*Admission
	DB      *records.DB
	Journal *records.Journal
	Sealer  *Sealer
	Runner  *hooks.Runner // calls other programs
	Logger  *slog.Logger

	stop       chan struct{}
	background sync.WaitGroup
}

var (
	_ origin.Keeper = (*Desk)(nil)
	_ origin.Gate   = (*Desk)(nil)
)

// NewDesk opens a desk, which is to be closed.
func NewDesk(o DeskOptions) (*Desk, error) {
	sealer, err := openSealer(o.Data)
	if err != nil {
		return nil, err
	}
	d := &Desk{DB: o.DB, Logger: o.Logger, Sealer: sealer, Journal: records.NewJournal(o.DB, o.Logger), stop: make(chan struct{})}
	d.Runner = &hooks.Runner{Folder: o.HookCommands, Logger: o.Logger}
	if o.Data != "" {
		d.Runner.Keep = filepath.Join(o.Data, "hooks-waiting.json")
	}
	d.Runner.Start()
	d.Log = &Log{journal: d.Journal, hooks: d.Runner, logger: o.Logger}
	d.Admission = newAdmission(o.DB, d.Journal, d.Runner, o.Logger)
	d.background.Go(d.tidy)
	return d, nil
}

// Close stores what still waits to be recorded, for as long as the context allows.
func (d *Desk) Close(ctx context.Context) {
	close(d.stop)
	d.background.Wait()
	d.Runner.Close()
	d.Journal.Close(ctx)
}

// ids gives out numbers that grow, also over restarts: milliseconds since 1970 and a count.
type ids struct {
	mu   sync.Mutex
	last int64
}

const idsEachMilli = 1 << 10 // so that a number stays below 2^53, what JSON readers take exactly

func (i *ids) next(now time.Time) int64 {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.last = max(i.last+1, now.UnixMilli()*idsEachMilli)
	return i.last
}

// Reserve implements origin.Keeper.
func (d *Desk) Reserve(channel string, p publish.Position, stored func()) {
	d.Journal.Put(records.Write{Key: "position " + channel, Done: stored,
		Do: func(ctx context.Context, db *records.DB) error {
			return db.Reserve(ctx, channel, p.NextMSN, p.Discontinuities)
		}})
}

// Settle implements origin.Keeper.
func (d *Desk) Settle(channel string, p publish.Position) {
	d.Journal.Put(records.Write{Key: "position " + channel, Do: func(ctx context.Context, db *records.DB) error {
		return db.Settle(ctx, channel, p.NextMSN, p.Discontinuities)
	}})
}

// NewFeed implements origin.Keeper.
func (d *Desk) NewFeed() int64 { return d.ids.next(time.Now()) }

// Feed implements origin.Keeper.
func (d *Desk) Feed(f origin.FeedRecord) {
	text, err := json.Marshal(f.Tracks)
	if err != nil {
		text = []byte("[]")
	}
	r := records.Feed{ID: f.ID, Channel: f.Channel, Protocol: f.Protocol, Remote: f.Remote, Begun: f.Begun,
		Reason: f.Reason, Tracks: string(text)}
	if !f.Ended.IsZero() {
		at := f.Ended.UTC()
		r.Ended = &at
	}
	d.Journal.Put(records.Write{Key: "feed " + itoa(f.ID), Size: len(text) + len(f.Reason),
		Do: func(ctx context.Context, db *records.DB) error {
			return db.PutFeed(ctx, r)
		}})
}

// Marked implements origin.Keeper.
func (d *Desk) Marked(channel string, m publish.Marker) {
	text, err := json.Marshal(m)
	if err != nil {
		return
	}
	d.Journal.Put(records.Write{Key: "marker " + channel + " " + m.ID, Size: len(text), Do: func(ctx context.Context, db *records.DB) error {
		return db.PutMarker(ctx, records.Marker{Channel: channel, ID: m.ID, At: m.At.UnixMilli(), Content: string(text)}, publish.MaxMarkers)
	}})
}

// pruneEvery is how often what is old is forgotten.
const pruneEvery = time.Hour

// tidy stores and shows the counts of merged events, and lets the records be pruned, until the desk is closed.
func (d *Desk) tidy() {
	tick := time.NewTicker(mergeEvery)
	defer tick.Stop()
	var pruned time.Time
	for {
		select {
		case <-d.stop:
			d.storeCounts(time.Now())
			return
		case now := <-tick.C:
			d.storeCounts(now)
			if now.Sub(pruned) > pruneEvery {
				pruned = now
				d.background.Go(d.prune)
			}
		}
	}
}

// pruneWithin bounds one pruning: what is left over is the next one's.
const pruneWithin = 10 * time.Minute

// prune forgets what is old, beside everything else.
func (d *Desk) prune() {
	ctx, cancel := context.WithTimeout(context.Background(), pruneWithin)
	defer cancel()
	go func() {
		select {
		case <-d.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	if err := d.DB.Prune(ctx); err != nil && ctx.Err() == nil {
		d.Logger.Warn("what is old could not be forgotten; it is tried again in an hour", "error", err)
	}
}

// Records returns how many records wait for the database, and how many were lost.
func (d *Desk) Records() (waiting int, lost int64) {
	st := d.Journal.State()
	return st.Waiting, st.Lost
}
