package operations

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/settings"
)

func TestSecretsAreStoredEncrypted(t *testing.T) {
	dir := t.TempDir()
	s, err := openSealer(dir)
	require.NoError(t, err)
	set := settings.Settings{Slug: "pier", Inputs: []settings.Input{{Kind: settings.InputSender}, {Kind: settings.InputAddress, Address: "rtsp://ana@192.0.2.7/1", Secret: "lantern"}},
		Relays: []settings.Relay{{Name: "club", Secret: "KEY"}, {Name: "open"}}}
	set.Passphrase = "a long pass phrase"
	stored := s.sealed(set)
	for _, text := range []string{stored.Inputs[1].Secret, stored.Relays[0].Secret, stored.Passphrase} {
		assert.True(t, strings.HasPrefix(text, sealedMark), text)
	}
	assert.Empty(t, stored.Inputs[0].Secret, "what is empty stays so")
	assert.Empty(t, stored.Relays[1].Secret)
	assert.Equal(t, "lantern", set.Inputs[1].Secret, "the settings in use are not touched")
	assert.Equal(t, stored.Passphrase, s.seal(stored.Passphrase), "once is enough")
	assert.NotEqual(t, stored.Passphrase, s.seal(set.Passphrase), "the same text does not look the same")

	again, err := openSealer(dir)
	require.NoError(t, err, "the key is kept")
	used, err := again.unsealed(stored)
	require.NoError(t, err)
	assert.Equal(t, set, used)
	info, err := os.Stat(filepath.Join(dir, secretsFile))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	plain, err := s.unseal("from before secrets were encrypted")
	require.NoError(t, err)
	assert.Equal(t, "from before secrets were encrypted", plain)
}

// TestSecretsOfAnotherKey: a copy of the database without the key gives nothing out; what can be used goes on.
func TestSecretsOfAnotherKey(t *testing.T) {
	a, err := openSealer(t.TempDir())
	require.NoError(t, err)
	b, err := openSealer("")
	require.NoError(t, err)
	stored := a.sealed(settings.Settings{Slug: "pier", Relays: []settings.Relay{{Name: "club", Address: "srt://club.example:9000", Secret: "KEY"}}})
	stored.Passphrase = b.seal("a long pass phrase")
	used, err := b.unsealed(stored)
	assert.ErrorContains(t, err, secretsFile)
	assert.Empty(t, used.Relays[0].Secret)
	assert.Equal(t, "srt://club.example:9000", used.Relays[0].Address)
	assert.Equal(t, "a long pass phrase", used.Passphrase)
	for _, damaged := range []string{sealedMark, sealedMark + "!", sealedMark + "YWJj", stored.Relays[0].Secret[:len(stored.Relays[0].Secret)-4]} {
		_, err := a.unseal(damaged)
		assert.Error(t, err, damaged)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, secretsFile), []byte("short"), 0o600))
	_, err = openSealer(dir)
	assert.ErrorContains(t, err, "found 5 bytes, expected 32")
	_, err = openSealer(filepath.Join(dir, "none", "at", "all"))
	assert.Error(t, err)
}
