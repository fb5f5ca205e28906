package control

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/settings"
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

// Who may sign in as one user cannot guess another's password for ever.
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

func TestAddresses(t *testing.T) {
	s := &Service{ports: Ports{RTMP: 1935, RTMPS: 1936}}
	a := s.Addresses("https://origin.example:8443", &settings.Settings{Slug: "start-line"})
	assert.Equal(t, "https://origin.example:8443/watch/start-line", a.Watch)
	assert.Equal(t, "rtmp://origin.example:1935/in/start-line", a.Server)
	assert.Equal(t, "rtmps://origin.example:1936/in/start-line", a.Secure)
	a = (&Service{}).Addresses("http://[::1]:8780", &settings.Settings{Slug: "x"})
	assert.Empty(t, a.Server, "RTMP is off")
	a = (&Service{ports: Ports{RTMP: 1935}}).Addresses("http://[::1]:8780", &settings.Settings{Slug: "x"})
	assert.Equal(t, "rtmp://[::1]:1935/in/x", a.Server)
}

func TestDocumentResolvesAllItsReferences(t *testing.T) {
	b, err := json.Marshal((&Service{}).Document())
	require.NoError(t, err)
	var doc map[string]any
	require.NoError(t, json.Unmarshal(b, &doc))
	schemas := doc["components"].(map[string]any)["schemas"].(map[string]any)
	assert.Contains(t, schemas, "LadderRung")
	var walk func(any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if ref, ok := v["$ref"].(string); ok {
				name := strings.TrimPrefix(ref, "#/components/schemas/")
				assert.Contains(t, schemas, name)
			}
			for _, x := range v {
				walk(x)
			}
		case []any:
			for _, x := range v {
				walk(x)
			}
		}
	}
	walk(doc)
	rung := schemas["LadderRung"].(map[string]any)
	assert.ElementsMatch(t, []any{"name", "on"}, rung["required"])
}
