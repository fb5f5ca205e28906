package operations

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/recording"
	"metaplasis/internal/store"
)

// Run begins, ends and removes recordings by the clock, until the context ends.
func (x *Recordings) Run(ctx context.Context) {
	if x.store == nil {
		return
	}
	tick := time.NewTicker(recordEach)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			within, cancel := context.WithTimeout(ctx, recordEach)
			if err := x.lookAfter(within, now.UTC().Truncate(time.Millisecond)); err != nil {
				x.desk.Logger.Warn("recordings cannot be looked after now", "error", err)
			}
			cancel()
			x.ledger.putUnstored()
		}
	}
}

// lookAfter looks after those that are made by themselves, and removes those that are past their time.
func (x *Recordings) lookAfter(ctx context.Context, now time.Time) error {
	x.mu.Lock()
	list := slices.Clone(x.list)
	x.mu.Unlock()
	running := map[string]*recording.Recording{}
	var errs []error
	for i := range list {
		r := &list[i]
		if !r.Expires.IsZero() && r.Expires.Before(now) && !r.Ended.IsZero() {
			if err := x.drop(ctx, *r); err != nil {
				errs = append(errs, err)
				continue
			}
			x.desk.Event(events.Event{At: now, Channel: r.Channel, Level: events.Info, Kind: "recording-expired", Text: fmt.Sprintf("The recording %q expired and was removed.", r.Title)})
			continue
		}
		if r.Kind == recording.Continuous && r.Ended.IsZero() {
			running[r.Channel] = r
		}
	}
	for _, c := range x.origin.Channels() {
		set := c.Settings()
		r := running[c.Slug()]
		delete(running, c.Slug())
		length := time.Duration(set.RecordHours) * time.Hour
		if length == 0 {
			length = defaultHours * time.Hour
		}
		if r != nil && set.Record && now.Sub(r.Begun) >= length && x.fullNow() {
			continue // it goes on: there is no room for another one
		}
		if r != nil && (!set.Record || now.Sub(r.Begun) >= length) {
			if err := x.endAlways(ctx, r, now, set.RecordDays); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", c.Slug(), err))
				continue
			}
			r = nil
		}
		if set.Record && r == nil {
			if err := x.beginAlways(ctx, c); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", c.Slug(), err))
			}
		}
	}
	for _, r := range running {
		if known, err := x.desk.DB.HasChannel(ctx, r.Channel); err != nil || known {
			continue // it does not run now
		}
		if err := x.endAlways(ctx, r, now, 0); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// fullNow reports whether there are as many recordings as there may be, and says so once.
func (x *Recordings) fullNow() bool {
	x.mu.Lock()
	full, before := len(x.list) >= maxRecordings, x.full
	x.full = full
	x.mu.Unlock()
	if full && !before {
		x.desk.Event(events.Event{At: time.Now(), Level: events.Failure, Kind: "recordings-full", Text: fmt.Sprintf("The limit of %d recordings is reached. Automatic recordings continue in the current one.", maxRecordings),
			Do: "Remove recordings, or shorten the retention of automatic ones."})
	}
	return full
}

func (x *Recordings) beginAlways(ctx context.Context, c *origin.Channel) error {
	x.mu.Lock()
	begun := x.recordingSince(c.Slug())
	x.mu.Unlock()
	rec := recording.Recording{Channel: c.Slug(), Kind: recording.Continuous, Begun: begun,
		Title: c.Settings().Title + ", " + begun.Format("2 January 2006 15:04") + " UTC"}
	return x.add(ctx, &rec)
}

// endAlways ends a recording that was made by itself. One that holds nothing is removed.
func (x *Recordings) endAlways(ctx context.Context, r *recording.Recording, now time.Time, days int64) error {
	r.Ended, r.Expires = now, expiry(now, days)
	x.mu.Lock()
	x.since[r.Channel] = now // the next one goes on here
	x.mu.Unlock()
	if bytes, _, _ := x.store.Held(r.Channel, holdOf(r)); bytes == 0 {
		return x.drop(ctx, *r)
	}
	return x.alter(ctx, *r)
}

// Store tells where what is kept lies, and what is there that nobody has decided about.
func (x *Recordings) Store() (api.Store, error) {
	if x.store == nil {
		return api.Store{}, keepsNothing()
	}
	out := api.Store{Place: x.store.Place(), Quarantine: x.store.Quarantined()}
	waiting, err := x.store.Deletions()
	if out.Deletions = waiting; err != nil {
		out.DeletionError = err.Error()
	}
	return out, nil
}

// RemoveQuarantined removes what is in quarantine of a channel for good.
func (x *Recordings) RemoveQuarantined(slug, by string) (store.Quarantine, error) {
	return x.decideQuarantine(slug, by, "removed", func() (store.Quarantine, error) { return x.store.RemoveQuarantined(slug) })
}

// AdoptQuarantined makes a recording of what is in quarantine, which holds it from then on.
func (x *Recordings) AdoptQuarantined(ctx context.Context, slug, by string) (store.Quarantine, error) {
	return x.decideQuarantine(slug, by, "adopted as a recording", func() (q store.Quarantine, err error) {
		for _, q = range x.store.Quarantined() {
			if q.Channel != slug {
				continue
			}
			ended := q.Newest.UTC().Add(time.Millisecond)
			rec := recording.Recording{Channel: slug, Kind: recording.ByHand, Begun: q.Oldest.UTC().Truncate(time.Millisecond), Ended: ended, Author: by,
				Title: "Found in the store, " + q.Oldest.UTC().Format("2 January 2006 15:04") + " UTC"}
			if err := x.add(ctx, &rec); err != nil {
				return q, err
			}
			return x.store.AdoptQuarantined(slug)
		}
		return q, fmt.Errorf("nothing of %s is in quarantine", slug)
	})
}

func (x *Recordings) decideQuarantine(slug, by, done string, do func() (store.Quarantine, error)) (store.Quarantine, error) {
	if x.store == nil {
		return store.Quarantine{}, keepsNothing()
	}
	q, err := do()
	if err != nil {
		return q, Refuse(NotFound, err.Error(), "metaplasis store show lists what is in quarantine.")
	}
	x.desk.Event(events.Event{At: time.Now(), Channel: slug, Level: events.Info, Kind: "quarantine-decided",
		Text: fmt.Sprintf("What was in quarantine of %s (%d files, %d MB) was %s by %s.", slug, 2*q.Bundles, q.Bytes>>20, done, by)})
	return q, nil
}

// Verify reads all that a recording holds, and compares it with its checksums.
func (x *Recordings) Verify(ctx context.Context, id int64) (*store.Verification, error) {
	rec, err := x.find(id)
	if err != nil {
		return nil, err
	}
	if x.store == nil {
		return nil, keepsNothing()
	}
	report, err := x.store.Verify(ctx, rec.Channel, holdOf(&rec))
	if err != nil {
		return nil, Refuse(Unavailable, "the recording could not be verified: "+err.Error(), "Try again in a while.")
	}
	if !report.Sound() {
		x.desk.Event(events.Event{At: time.Now(), Channel: rec.Channel, Level: events.Failure, Kind: "recording-damaged",
			Text: fmt.Sprintf("The recording %q is not whole: %d of its files are missing, %d are damaged, %d cannot be read now.", rec.Title, len(report.Missing), len(report.Damaged), len(report.Unread)),
			Do:   "Bring the files back from a copy of the store. metaplasis recordings verify names them."})
	}
	return report, nil
}
