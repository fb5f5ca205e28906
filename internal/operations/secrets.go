package operations

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"metaplasis/internal/settings"
)

// Secrets of settings, which the service itself has to use, are encrypted in the records with a key that lies
// beside them in a file of this machine's user: whoever reads a copy of the database does not have them.

const (
	secretsFile = "secrets.key"
	sealedMark  = "sealed:"
)

// Sealer encrypts secrets (AES-256-GCM).
type Sealer struct{ aead cipher.AEAD }

// openSealer reads the key of the data folder, or makes one; without a folder it is not kept.
func openSealer(folder string) (*Sealer, error) {
	path := filepath.Join(folder, secretsFile)
	key := make([]byte, 32)
	_, _ = rand.Read(key) // it never fails
	var err error
	if folder != "" {
		var stored []byte
		if stored, err = os.ReadFile(path); err == nil {
			key = stored
		} else if errors.Is(err, fs.ErrNotExist) {
			err = os.WriteFile(path, key, 0o600)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("key of stored secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("key of stored secrets in %s: found %d bytes, expected 32: %w", path, len(key), err)
	}
	aead, err := cipher.NewGCM(block)
	return &Sealer{aead}, err
}

func (s *Sealer) seal(text string) string {
	if text == "" || strings.HasPrefix(text, sealedMark) {
		return text
	}
	nonce := make([]byte, s.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return sealedMark + base64.RawStdEncoding.EncodeToString(s.aead.Seal(nonce, nonce, []byte(text), nil))
}

func (s *Sealer) unseal(text string) (string, error) {
	body, sealed := strings.CutPrefix(text, sealedMark)
	if !sealed {
		return text, nil
	}
	b, err := base64.RawStdEncoding.DecodeString(body)
	if err != nil || len(b) < s.aead.NonceSize() {
		return "", errors.New("a stored secret is damaged")
	}
	out, err := s.aead.Open(nil, b[:s.aead.NonceSize()], b[s.aead.NonceSize():], nil)
	if err != nil {
		return "", fmt.Errorf("a stored secret cannot be read with the key in %s", secretsFile)
	}
	return string(out), nil
}

// sealed are the settings as they are stored.
func (s *Sealer) sealed(set settings.Settings) settings.Settings {
	set.Inputs = slices.Clone(set.Inputs)
	for i := range set.Inputs {
		set.Inputs[i].Secret = s.seal(set.Inputs[i].Secret)
	}
	set.Passphrase = s.seal(set.Passphrase)
	set.Relays = slices.Clone(set.Relays)
	for i := range set.Relays {
		set.Relays[i].Secret = s.seal(set.Relays[i].Secret)
	}
	return set
}

// unsealed are the settings as they are used. What cannot be read is left out, and told.
func (s *Sealer) unsealed(set settings.Settings) (settings.Settings, error) {
	var wrong error
	set.Inputs = slices.Clone(set.Inputs)
	for i := range set.Inputs {
		text, err := s.unseal(set.Inputs[i].Secret)
		set.Inputs[i].Secret, wrong = text, errors.Join(wrong, err)
	}
	set.Relays = slices.Clone(set.Relays)
	for i := range set.Relays {
		text, err := s.unseal(set.Relays[i].Secret)
		set.Relays[i].Secret, wrong = text, errors.Join(wrong, err)
	}
	text, err := s.unseal(set.Passphrase)
	set.Passphrase = text
	return set, errors.Join(wrong, err)
}
