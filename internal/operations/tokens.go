package operations

import (
	"context"
	"sync"
	"time"

	"metaplasis/internal/records"
)

// Tokens that were valid are known in memory: for a while at any time, and for longer while the
// database does not answer.
const (
	tokenKnown   = 15 * time.Second
	tokenTrusted = 24 * time.Hour
	//limit:tokens that are known without asking the database | all | all are asked for again
	maxTokens = 1024
	anyToken  = -1
)

type knownToken struct {
	token records.Token
	at    time.Time
}

type knownTokens struct {
	mu    sync.Mutex
	known map[string]knownToken // by digest
}

func (k *knownTokens) find(digest string, now time.Time, within time.Duration) *records.Token {
	k.mu.Lock()
	defer k.mu.Unlock()
	t, ok := k.known[digest]
	if !ok || now.Sub(t.at) > within || t.token.Expires != nil && now.After(*t.token.Expires) {
		return nil
	}
	return &t.token
}

func (k *knownTokens) note(digest string, t *records.Token, now time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.known == nil || len(k.known) >= maxTokens {
		k.known = map[string]knownToken{}
	}
	k.known[digest] = knownToken{*t, now}
}

// forget has a token be asked for again, all of them with anyToken. Strangers who make up tokens do not keep one out that
// was known.
func (k *knownTokens) forget(id int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for digest, t := range k.known {
		if t.token.ID == id || id == anyToken {
			t.at = time.Time{}
			k.known[digest] = t
		}
	}
}

// met reports whether a token was right before.
func (k *knownTokens) met(digest string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	_, ok := k.known[digest]
	return ok
}

// drop forgets a token that is right no more.
func (k *knownTokens) drop(digest string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.known, digest)
}

// Token checks a session's or client's secret, of who is at an address.
func (u *Users) Token(ctx context.Context, secret, remote string) (*records.Token, error) {
	digest, now := string(records.Digest(secret)), time.Now()
	if t := u.trusted.find(digest, now, tokenKnown); t != nil {
		return t, nil
	}
	if u.desk.Journal.State().Err != nil {
		if t := u.trusted.find(digest, now, tokenTrusted); t != nil {
			return t, nil
		}
	}
	if !u.trusted.met(digest) && !u.desk.lookups.Allow(remote, now) {
		return nil, ErrManyLookups
	}
	ctx, cancel := context.WithTimeout(ctx, checkTimeout)
	defer cancel()
	t, err := u.desk.DB.TokenBySecret(ctx, secret)
	if err == nil {
		u.trusted.note(digest, t, now)
	} else if records.Unreachable(err) {
		if t := u.trusted.find(digest, now, tokenTrusted); t != nil {
			return t, nil
		}
	} else {
		u.trusted.drop(digest)
	}
	return t, err
}
