package operations

import (
	"context"
	"sync"

	"metaplasis/internal/records"
	"metaplasis/internal/store"
)

// Ledger remembers the bundles of a place in the records. It implements store.Ledger.
type Ledger struct {
	journal *records.Journal
	place   string

	mu       sync.Mutex
	unstored map[string]store.Bundle // that the journal had no room for
}

// NewLedger remembers the bundles of a place, by its identity.
func NewLedger(d *Desk, place string) *Ledger { return &Ledger{journal: d.Journal, place: place} }

// Bundles lists those that are remembered. address is what places were told apart by before.
func (l *Ledger) Bundles(ctx context.Context, db *records.DB, address string) (out []store.Bundle, err error) {
	if err := db.RenamePlace(ctx, address, l.place); err != nil {
		return nil, err
	}
	err = db.EachBundle(ctx, l.place, func(b *records.Bundle) {
		out = append(out, store.Bundle{Channel: b.Channel, Rendition: b.Rendition, Path: b.Path, Sound: b.Sound, Prefix: b.Prefix, Header: b.Header,
			Begin: b.Begun, End: b.Ended, FirstMSN: b.FirstMSN, LastMSN: b.LastMSN, Ordinal: b.Ordinal, Breaks: b.Breaks, Bytes: b.Bytes, Removing: b.Removing})
	})
	return out, err
}

// Closed implements store.Ledger.
func (l *Ledger) Closed(b store.Bundle) {
	r := records.Bundle{Path: b.Path, Place: l.place, Channel: b.Channel, Rendition: b.Rendition, Sound: b.Sound, Prefix: b.Prefix, Header: b.Header,
		Begun: b.Begin.UTC(), Ended: b.End.UTC(), FirstMSN: b.FirstMSN, LastMSN: b.LastMSN, Ordinal: b.Ordinal, Breaks: b.Breaks, Bytes: b.Bytes}
	const cost = 400
	if l.journal.Put(records.Write{Size: cost, Do: func(ctx context.Context, db *records.DB) error { return db.PutBundle(ctx, r) }}) {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.unstored == nil {
		l.unstored = map[string]store.Bundle{}
	}
	l.unstored[b.Path] = b
}

// Removing implements store.Ledger.
func (l *Ledger) Removing(path string) {
	l.forget(path)
	l.journal.Put(records.Write{Size: len(path), Do: func(ctx context.Context, db *records.DB) error { return db.BundleRemoving(ctx, l.place, path) }})
}

func (l *Ledger) forget(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.unstored, path)
}

// Removed implements store.Ledger.
func (l *Ledger) Removed(path string) {
	l.forget(path)
	l.journal.Put(records.Write{Size: len(path), Do: func(ctx context.Context, db *records.DB) error { return db.RemoveBundle(ctx, l.place, path) }})
}

// putUnstored hands over bundles that the journal had no room for.
func (l *Ledger) putUnstored() {
	l.mu.Lock()
	list := l.unstored
	l.unstored = nil
	l.mu.Unlock()
	for _, b := range list {
		l.Closed(b)
	}
}
