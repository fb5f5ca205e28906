package operations

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime"
	"strings"

	"golang.org/x/crypto/argon2"

	"metaplasis/internal/network"
)

const (
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

// passwords hashes passwords, so many at a time.
type passwords struct {
	hashing chan struct{} // room for password hashes
	hashers network.Quota // requests that want one
}

func newPasswords() *passwords {
	return &passwords{hashing: make(chan struct{}, maxHashing), hashers: network.Quota{Total: maxHashers, EachNetwork: maxHashersEach}}
}

// do does work that hashes a password for somebody at an address, once there is room for it.
func (p *passwords) do(ctx context.Context, remote string, work func()) error {
	const again = "Try again in a few seconds."
	release, ok := p.hashers.Take(remote)
	if !ok {
		return Refuse(Unavailable, "too many passwords are being checked now", again)
	}
	defer release()
	select {
	case p.hashing <- struct{}{}:
	case <-ctx.Done():
		return Refuse(Unavailable, "too many passwords are being checked now", again)
	}
	defer func() { <-p.hashing }()
	work()
	runtime.GC() // else the memory of several hashes lies about, and the heap grows for good
	return nil
}

func (p *passwords) is(ctx context.Context, remote, hash, password string) (right bool, err error) {
	err = p.do(ctx, remote, func() { right = checkPassword(hash, password) })
	return right, err
}

func (p *passwords) hash(ctx context.Context, remote, password string) (hash string, err error) {
	err = p.do(ctx, remote, func() { hash = HashPassword(password) })
	return hash, err
}

// newPassword says what is wrong with a password to be, nil when nothing is.
func newPassword(text string) error {
	if len(text) < minPassword || len(text) > maxPassword {
		return refuse(Malformed, "Choose another password.", "found %d characters, expected %d to %d", len(text), minPassword, maxPassword)
	}
	return nil
}
