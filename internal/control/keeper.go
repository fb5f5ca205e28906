package control

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/records"
)

// checkTimeout bounds how long a sender waits until its key is checked.
//
//limit:how long a sender waits until its key is checked | each sender | it is refused
const checkTimeout = 3 * time.Second

// The service is the origin's keeper and its gate.
var (
	_ origin.Keeper = (*Service)(nil)
	_ origin.Gate   = (*Service)(nil)
)

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
func (s *Service) Reserve(channel string, p publish.Position, stored func()) {
	s.journal.Put(records.Write{Key: "position " + channel, Done: stored,
		Do: func(ctx context.Context, db *records.DB) error {
			return db.Reserve(ctx, channel, p.NextMSN, p.Discontinuities)
		}})
}

// Settle implements origin.Keeper.
func (s *Service) Settle(channel string, p publish.Position) {
	s.journal.Put(records.Write{Key: "position " + channel, Do: func(ctx context.Context, db *records.DB) error {
		return db.Settle(ctx, channel, p.NextMSN, p.Discontinuities)
	}})
}

// NewFeed implements origin.Keeper.
func (s *Service) NewFeed() int64 { return s.ids.next(time.Now()) }

// Feed implements origin.Keeper.
func (s *Service) Feed(f origin.FeedRecord) {
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
	s.journal.Put(records.Write{Key: "feed " + itoa(f.ID), Size: len(text) + len(f.Reason),
		Do: func(ctx context.Context, db *records.DB) error {
			return db.PutFeed(ctx, r)
		}})
}

// Marked implements origin.Keeper.
func (s *Service) Marked(channel string, m publish.Marker) {
	text, err := json.Marshal(m)
	if err != nil {
		return
	}
	s.journal.Put(records.Write{Key: "marker " + channel + " " + m.ID, Size: len(text), Do: func(ctx context.Context, db *records.DB) error {
		return db.PutMarker(ctx, records.Marker{Channel: channel, ID: m.ID, At: m.At.UnixMilli(), Content: string(text)}, publish.MaxMarkers)
	}})
}

// recallMarkers gives a channel the markers that were stored.
func (s *Service) recallMarkers(ctx context.Context, slug string) {
	list, err := s.db.Markers(ctx, slug)
	if err != nil {
		s.logger.Warn("the markers of a channel could not be read", "channel", slug, "error", err)
		return
	}
	var out []publish.Marker
	for _, r := range list {
		var m publish.Marker
		if json.Unmarshal([]byte(r.Content), &m) == nil {
			out = append(out, m)
		}
	}
	s.o.Channel(slug).RecallMarkers(out)
}

// Admit implements origin.Gate. A key that was right before is known in memory, so that senders who
// were on air come back while the database is away.
func (s *Service) Admit(sender contribution.Sender) (origin.Grant, error) {
	channel, key := sender.Channel, sender.Key
	digest := string(records.Digest(key))
	ctx, cancel := context.WithTimeout(context.Background(), checkTimeout)
	defer cancel()
	grant, known := s.keys.find(channel, digest)
	if !known && !s.keys.exists(digest) && !s.lookups.Allow(sender.Remote, time.Now()) {
		return grant, origin.ErrManyKeys
	}
	if !known || s.journal.State().Err == nil {
		found, err := s.db.FindKey(ctx, channel, key)
		switch {
		case errors.Is(err, records.ErrNotFound) || err == nil && found.Receives: // a key for receivers lets nobody send
			s.keys.forget(channel, grant.Key)
			return grant, origin.ErrBadKey
		case err == nil:
			grant = origin.Grant{Key: found.ID, Input: found.Input, Protocol: found.Protocol}
			if found.Expires != nil {
				grant.Expires = *found.Expires
			}
			s.keys.note(channel, digest, grant)
		case !known:
			s.logger.Warn("a contribution key cannot be checked now", "channel", channel, "error", err)
			return grant, origin.ErrUnchecked
		}
	}
	at := time.Now()
	s.journal.Put(records.Write{Key: "key " + itoa(grant.Key), Do: func(ctx context.Context,
		db *records.DB) error {
		return db.UseKey(ctx, grant.Key, at)
	}})
	return grant, nil
}

// maxKnownKeys bounds the keys that are known in memory.
//
//limit:keys that are known without asking the database | all | all are asked for anew
const maxKnownKeys = 4096

// knownKeys are the contribution keys that were right since the service started, and the digests of all that there are:
// strangers who make up keys keep none of those out.
type knownKeys struct {
	learning sync.Mutex // one reading after the other, so that none is overtaken

	mu    sync.Mutex
	known map[[2]string]origin.Grant // by channel and digest
	all   map[string]bool            // by digest
}

// learnKeys reads the digests of all keys. Without an answer those of before stay.
func (s *Service) learnKeys(ctx context.Context) {
	s.keys.learning.Lock()
	defer s.keys.learning.Unlock()
	list, err := s.db.AllKeyDigests(ctx)
	if err != nil {
		s.logger.Warn("the contribution keys cannot be read now; those of before stay", "error", err)
		return
	}
	all := make(map[string]bool, len(list))
	for _, d := range list {
		all[string(d)] = true
	}
	s.keys.mu.Lock()
	defer s.keys.mu.Unlock()
	s.keys.all = all
}

// exists reports whether there is a key with a digest.
func (k *knownKeys) exists(digest string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all[digest]
}

func (k *knownKeys) find(channel, digest string) (origin.Grant, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	g, ok := k.known[[2]string{channel, digest}]
	return g, ok
}

func (k *knownKeys) note(channel, digest string, g origin.Grant) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.known == nil || len(k.known) >= maxKnownKeys {
		k.known = map[[2]string]origin.Grant{}
	}
	k.known[[2]string{channel, digest}] = g
}

// forget drops a key; all of the channel's with id 0 below.
func (k *knownKeys) forget(channel string, id int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for at, known := range k.known {
		if at[0] == channel && (known.Key == id || id == allKeys) {
			delete(k.known, at)
		}
	}
}

const allKeys = -1
