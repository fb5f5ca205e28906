package control

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"metaplasis/internal/control/api"
	"metaplasis/internal/network"
	"metaplasis/internal/records"
)

const (
	cookieName  = "metaplasis_session"
	sessionLife = 14 * 24 * time.Hour
	minPassword = 10
	//limit:bytes of a password | each sign-in | refused before it is hashed
	maxPassword = 256

	// Password hashes take 32 MB each: so many at a time, and so many requests that wait for one, of all networks and
	// of one.
	//limit:passwords that are hashed at a time, at 32 MB each | all | others wait
	maxHashing = 2
	//limit:requests that wait for that | all | 503
	maxHashers = 16
	//limit:requests that wait for that | each network | 503
	maxHashersEach = 4
)

// Parameters of Argon2id (RFC 9106, 4, second recommendation scaled to one core).
const (
	argonTime, argonMemory, argonThreads = 2, 32 * 1024, 1
	argonSalt, argonKey                  = 16, 32
)

// HashPassword makes a salted hash in the usual text form.
func HashPassword(password string) string {
	salt := make([]byte, argonSalt)
	_, _ = rand.Read(salt) // never fails
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonThreads,
		enc.EncodeToString(salt), enc.EncodeToString(key))
}

func checkPassword(hash, password string) bool {
	var m, t uint32
	var p uint8
	part := strings.Split(hash, "$")
	if len(part) != 6 || part[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(part[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(part[4])
	want, err2 := base64.RawStdEncoding.DecodeString(part[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))) == 1
}

type (
	userKey   struct{}
	secretKey struct{}
)

// stillSignedIn reports whether the secret of a request that requireUser let through is valid yet, for what goes on.
func (s *Service) stillSignedIn(r *http.Request) bool {
	secret, _ := r.Context().Value(secretKey{}).(string)
	_, err := s.token(r.Context(), secret, r.RemoteAddr)
	return !errors.Is(err, records.ErrNotFound)
}

// errManyLookups says that a network presents too many secrets that nobody knows.
var errManyLookups = errors.New("too many unknown tokens and keys come from this network")

// who returns the token of a request that requireUser let through.
func who(r *http.Request) *records.Token {
	t, _ := r.Context().Value(userKey{}).(*records.Token)
	return t
}

// RequireUser lets requests of others through that carry a session or a client's token.
func (s *Service) RequireUser(next http.Handler) http.Handler { return s.requireUser(next) }

// requireUser lets requests through that carry a session cookie or a client's token.
func (s *Service) requireUser(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		secret := ""
		if c, err := r.Cookie(cookieName); err == nil {
			secret = c.Value
		}
		if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			secret = bearer
		}
		if secret == "" {
			s.refuse(w, http.StatusUnauthorized, "not signed in",
				"Sign in at the console, or send a token in the header Authorization: Bearer TOKEN.")
			return
		}
		t, err := s.token(r.Context(), secret, r.RemoteAddr)
		if errors.Is(err, errManyLookups) {
			w.Header().Set("Retry-After", "1")
			s.refuse(w, http.StatusTooManyRequests, errManyLookups.Error(), "Try again in a second.")
			return
		}
		if errors.Is(err, records.ErrNotFound) {
			s.refuse(w, http.StatusUnauthorized, "the session or token is not valid any more", "Sign in again.")
			return
		}
		if err != nil {
			s.broken(w, err)
			return
		}
		ctx := context.WithValue(r.Context(), secretKey{}, secret)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, userKey{}, t)))
	})
}

func (s *Service) signIn(w http.ResponseWriter, r *http.Request) (any, error) {
	var in api.SignIn
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if len(in.Password) > maxPassword {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found a password of %d bytes, expected %d at most",
			len(in.Password), maxPassword), "")
	}
	host := network.Of(r.RemoteAddr)
	if !s.throttle.try(host, in.User) {
		return nil, fail(http.StatusTooManyRequests, "too many wrong attempts from this network, or for this user",
			"Wait five minutes, then try again.")
	}
	u, err := s.db.UserByName(r.Context(), in.User)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	if u == nil {
		u = &records.User{Password: s.decoy} // the same work, so that names cannot be told by time
	}
	right, err := s.passwordIs(r, u.Password, in.Password)
	if err != nil {
		return nil, err
	}
	if !right || u.ID == 0 {
		return nil, fail(http.StatusUnauthorized, "the user name or the password is wrong",
			"The first start printed them; metaplasis password sets a new one on the server.")
	}
	s.throttle.right(host, in.User)
	secret := records.NewSecret()
	expires := time.Now().Add(sessionLife).UTC()
	if _, err := s.db.AddToken(r.Context(), u.ID, "console", "console", u.Role, secret, &expires); err != nil {
		return nil, err
	}
	http.SetCookie(w, &http.Cookie{
		Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https",
	})
	return api.Me{User: u.Name, Role: api.Role(u.Role)}, nil
}

func (s *Service) signOut(w http.ResponseWriter, r *http.Request) (any, error) {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteStrictMode})
	s.trusted.forget(who(r).ID)
	return nil, s.db.RemoveToken(r.Context(), who(r).ID)
}

func (s *Service) me(_ http.ResponseWriter, r *http.Request) (any, error) {
	return api.Me{User: who(r).User, Role: roleOf(who(r))}, nil
}

func (s *Service) password(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in api.NewPassword
	if err := read(r, &in); err != nil {
		return nil, err
	}
	u, err := s.db.UserByName(r.Context(), who(r).User)
	if err != nil {
		return nil, err
	}
	right, err := s.passwordIs(r, u.Password, in.Old)
	if err != nil {
		return nil, err
	}
	if !right {
		return nil, fail(http.StatusForbidden, "the old password is wrong", "")
	}
	if err := newPassword(in.New); err != nil {
		return nil, err
	}
	hash := ""
	if err := s.hashes(r, func() { hash = HashPassword(in.New) }); err != nil {
		return nil, err
	}
	s.trusted.forget(anyToken)
	return nil, s.db.SetPassword(r.Context(), u.ID, hash)
}

// hashes does work that hashes a password, once there is room for it.
func (s *Service) hashes(r *http.Request, work func()) error {
	release, ok := s.hashers.Take(r.RemoteAddr)
	if !ok {
		return fail(http.StatusServiceUnavailable, "too many passwords are being checked now",
			"Try again in a few seconds.")
	}
	defer release()
	select {
	case s.hashing <- struct{}{}:
	case <-r.Context().Done():
		return fail(http.StatusServiceUnavailable, "too many passwords are being checked now",
			"Try again in a few seconds.")
	}
	defer func() { <-s.hashing }()
	work()
	runtime.GC() // else the memory of several hashes lies about, and the heap grows for good
	return nil
}

func (s *Service) passwordIs(r *http.Request, hash, password string) (right bool, err error) {
	err = s.hashes(r, func() { right = checkPassword(hash, password) })
	return right, err
}

// Tokens that were valid are known in memory: for a while at any time, and for longer while the
// database does not answer.
const (
	tokenKnown   = 15 * time.Second
	tokenTrusted = 24 * time.Hour
	//limit:tokens that are known without asking the database | all | all are asked for anew
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

// forget has a token be asked for anew, all of them with anyToken. Strangers who make up tokens do not keep one out that
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

// token checks a session's or client's secret, of who is at an address.
func (s *Service) token(ctx context.Context, secret, remote string) (*records.Token, error) {
	digest, now := string(records.Digest(secret)), time.Now()
	if t := s.trusted.find(digest, now, tokenKnown); t != nil {
		return t, nil
	}
	if s.journal.State().Err != nil {
		if t := s.trusted.find(digest, now, tokenTrusted); t != nil {
			return t, nil
		}
	}
	if !s.trusted.met(digest) && !s.lookups.Allow(remote, now) {
		return nil, errManyLookups
	}
	ctx, cancel := context.WithTimeout(ctx, checkTimeout)
	defer cancel()
	t, err := s.db.TokenBySecret(ctx, secret)
	if err == nil {
		s.trusted.note(digest, t, now)
	} else if records.Unreachable(err) {
		if t := s.trusted.find(digest, now, tokenTrusted); t != nil {
			return t, nil
		}
	} else {
		s.trusted.drop(digest)
	}
	return t, err
}
