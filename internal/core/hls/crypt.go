package hls

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
)

// Opens reports whether Open decrypts what the key is for: whole segments that are encrypted with AES (RFC 8216, 4.3.2.4).
func (k *Key) Opens() bool {
	return k.Method == "AES-128" && (k.Format == "" || k.Format == "identity")
}

// Open decrypts a whole segment, by the 16 bytes that lie at the key's address (RFC 8216, 5.2).
func (k *Key) Open(secret, body []byte, msn uint64) ([]byte, error) {
	block, err := aes.NewCipher(secret)
	if err != nil || len(secret) != aes.BlockSize {
		return nil, fmt.Errorf("found a key of %d bytes, expected %d", len(secret), aes.BlockSize)
	}
	if len(body) == 0 || len(body)%aes.BlockSize != 0 {
		return nil, fmt.Errorf("found %d encrypted bytes, expected a multiple of %d", len(body), aes.BlockSize)
	}
	iv := k.IV
	if iv == nil {
		iv = binary.BigEndian.AppendUint64(make([]byte, 8), msn)
	}
	plain := make([]byte, len(body))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, body)
	padding := int(plain[len(plain)-1])
	if padding == 0 || padding > aes.BlockSize {
		return nil, fmt.Errorf("found a padding of %d bytes after decryption, expected 1 to %d: another key or IV", padding, aes.BlockSize)
	}
	return plain[:len(plain)-padding], nil
}
