package operations

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPasswordsAreSaltedAndChecked(t *testing.T) {
	a, b := HashPassword("kestrel bay"), HashPassword("kestrel bay")
	assert.NotEqual(t, a, b)
	assert.True(t, strings.HasPrefix(a, "$argon2id$v=19$"))
	assert.True(t, checkPassword(a, "kestrel bay"))
	assert.False(t, checkPassword(a, "kestrel bat"))
	for _, broken := range []string{"", "$argon2id$", "$argon2id$v=19$m=x$a$b", "$argon2id$v=19$m=32768,t=2,p=1$!$!", "plain"} {
		assert.False(t, checkPassword(broken, ""), broken)
	}
}

func TestGuessingIsSlowedDown(t *testing.T) {
	th := newThrottle()
	for range maxAttempts {
		assert.True(t, th.try("a", "admin"))
	}
	assert.False(t, th.try("a", "admin"))
	assert.True(t, th.try("b", "admin"), "another network is not concerned")
}

// Who may sign in as one user cannot guess another's password forever.
func TestASuccessPaysForNoGuess(t *testing.T) {
	th := newThrottle()
	wrong := 0
	for range 200 {
		if !th.try("a", "viewer") {
			break
		}
		th.right("a", "viewer")
		if th.try("a", "admin") {
			wrong++
		}
	}
	assert.LessOrEqual(t, wrong, maxAttempts)
}

// A crowd of networks that guesses one password is stopped by the account, and its owner is not.
func TestACrowdOfNetworks(t *testing.T) {
	th := newThrottle()
	th.try("home", "admin")
	th.right("home", "admin")
	wrong := 0
	for n := range 3 * maxNetworks {
		if th.try(fmt.Sprint("network ", n), "admin") {
			wrong++
		}
	}
	assert.LessOrEqual(t, wrong, maxForAccount)
	assert.True(t, th.try("home", "admin"))
	assert.LessOrEqual(t, th.networks.Len(), maxNetworks)
}
