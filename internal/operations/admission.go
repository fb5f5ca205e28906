package operations

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/hooks"
	"metaplasis/internal/network"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
)

// checkTimeout bounds how long a sender waits until its key is checked.
//
//limit:how long a sender waits until its key is checked | each sender | it is refused
const checkTimeout = 3 * time.Second

// Admission decides whether senders may come in, by their keys and by the programs that are asked.
type Admission struct {
	db      *records.DB
	journal *records.Journal
	hooks   *hooks.Runner
	logger  *slog.Logger
	lookups *network.Rate
	keys    knownKeys

	learning sync.Mutex // one reading after the other, so that none is overtaken

	mu        sync.Mutex
	listeners []func()
}

func newAdmission(db *records.DB, journal *records.Journal, h *hooks.Runner, logger *slog.Logger) *Admission {
	return &Admission{db: db, journal: journal, hooks: h, logger: logger, lookups: newLookups()}
}

// OnChange lets a function know whenever keys, or what goes with them, have changed.
func (a *Admission) OnChange(tell func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.listeners = append(a.listeners, tell)
}

// changed tells those who hold a copy of the keys.
func (a *Admission) changed() {
	ctx, cancel := context.WithTimeout(context.Background(), checkTimeout)
	defer cancel()
	a.learn(ctx)
	a.mu.Lock()
	list := a.listeners
	a.mu.Unlock()
	for _, tell := range list {
		tell()
	}
}

// learn reads the digests of all keys. Without an answer those of before stay.
func (a *Admission) learn(ctx context.Context) {
	a.learning.Lock()
	defer a.learning.Unlock()
	list, err := a.db.AllKeyDigests(ctx)
	if err != nil {
		a.logger.Warn("the contribution keys cannot be read now; those of before stay", "error", err)
		return
	}
	all := make(map[string]bool, len(list))
	for _, d := range list {
		all[string(d)] = true
	}
	a.keys.mu.Lock()
	defer a.keys.mu.Unlock()
	a.keys.all = all
}

// AskAdmission asks the hooks whether a sender may come in.
func (a *Admission) AskAdmission(sender contribution.Sender) error {
	return a.hooks.Admit(context.Background(), hooks.Happening{Channel: sender.Channel, Protocol: sender.Protocol, Remote: sender.Remote})
}

// Admit implements origin.Gate. A key that was right before is known in memory, so that senders who
// were on air come back while the database is away.
func (a *Admission) Admit(sender contribution.Sender) (origin.Grant, error) {
	channel, key := sender.Channel, sender.Key
	digest := string(records.Digest(key))
	ctx, cancel := context.WithTimeout(context.Background(), checkTimeout)
	defer cancel()
	grant, known := a.keys.find(channel, digest)
	if !known && !a.keys.exists(digest) && !a.lookups.Allow(sender.Remote, time.Now()) {
		return grant, origin.ErrManyKeys
	}
	if !known || a.journal.State().Err == nil {
		found, err := a.db.FindKey(ctx, channel, key)
		switch {
		case errors.Is(err, records.ErrNotFound) || err == nil && found.Receives: // a key for receivers lets nobody send
			a.keys.forget(channel, grant.Key)
			return grant, origin.ErrBadKey
		case err == nil:
			grant = origin.Grant{Key: found.ID, Input: found.Input, Protocol: found.Protocol}
			if found.Expires != nil {
				grant.Expires = *found.Expires
			}
			a.keys.note(channel, digest, grant)
		case !known:
			a.logger.Warn("a contribution key cannot be checked now", "channel", channel, "error", err)
			return grant, origin.ErrUnchecked
		}
	}
	at := time.Now()
	a.journal.Put(records.Write{Key: "key " + itoa(grant.Key), Do: func(ctx context.Context,
		db *records.DB) error {
		return db.UseKey(ctx, grant.Key, at)
	}})
	return grant, nil
}

// maxKnownKeys bounds the keys that are known in memory.
//
//limit:keys that are known without asking the database | all | all are asked for again
const maxKnownKeys = 4096

// knownKeys are the contribution keys that were right since the service started, and the digests of all that there are:
// strangers who make up keys keep none of those out.
type knownKeys struct {
	mu    sync.Mutex
	known map[[2]string]origin.Grant // by channel and digest
	all   map[string]bool            // by digest
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
