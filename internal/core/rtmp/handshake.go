// Package rtmp is the protocol engine of the published RTMP specification (1.0): handshake,
// chunk streams, and the messages of a publishing session on either side. It takes bytes and
// returns bytes and events; sockets and clocks stay with its callers.
package rtmp

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"

	"metaplasis/internal/core/media"
)

const (
	version       = 3
	handshakeSize = 1536
	digestSize    = sha256.Size
)

// The two constant keys of the digest form. The first bytes of each sign a peer's first packet,
// the whole key derives the key that signs the answer.
var (
	keyTail = []byte{
		0xf0, 0xee, 0xc2, 0x4a, 0x80, 0x68, 0xbe, 0xe8, 0x2e, 0x00, 0xd0, 0xd1, 0x02, 0x9e, 0x7e, 0x57,
		0x6e, 0xec, 0x5d, 0x2d, 0x29, 0x80, 0x6f, 0xab, 0x93, 0xb8, 0xe6, 0x36, 0xcf, 0xeb, 0x31, 0xae,
	}
	serverKey = append([]byte{
		0x47, 0x65, 0x6e, 0x75, 0x69, 0x6e, 0x65, 0x20, 0x41, 0x64, 0x6f, 0x62, 0x65, 0x20, 0x46, 0x6c, 0x61, 0x73,
		0x68, 0x20, 0x4d, 0x65, 0x64, 0x69, 0x61, 0x20, 0x53, 0x65, 0x72, 0x76, 0x65, 0x72, 0x20, 0x30, 0x30, 0x31,
	}, keyTail...)
	clientKey = append([]byte{
		0x47, 0x65, 0x6e, 0x75, 0x69, 0x6e, 0x65, 0x20, 0x41, 0x64, 0x6f, 0x62, 0x65, 0x20, 0x46, 0x6c, 0x61, 0x73,
		0x68, 0x20, 0x50, 0x6c, 0x61, 0x79, 0x65, 0x72, 0x20, 0x30, 0x30, 0x31,
	}, keyTail...)
	serverPrefix = serverKey[:36]
	clientPrefix = clientKey[:30]
)

// answerC1 makes S0, S1 and S2 for a client's C1. When C1 carries a valid digest the answer
// does too; else it is the simple form of section 5.2, where S2 echoes C1.
func answerC1(c1 []byte, random io.Reader) ([]byte, error) {
	out := make([]byte, 1+2*handshakeSize)
	out[0] = version
	s1, s2 := out[1:1+handshakeSize], out[1+handshakeSize:]
	if _, err := io.ReadFull(random, s1[8:]); err != nil {
		return nil, fmt.Errorf("random bytes for the handshake: %w", err)
	}
	digest, schema := findDigest(c1, clientPrefix)
	if digest == nil {
		copy(s2, c1)
		return out, nil
	}
	copy(s1[4:], []byte{4, 5, 0, 1}) // a version that asks for digests
	sign(s1, digestOffset(s1, schema), serverPrefix)
	if _, err := io.ReadFull(random, s2); err != nil {
		return nil, fmt.Errorf("random bytes for the handshake: %w", err)
	}
	key := sum(serverKey, digest)
	copy(s2[handshakeSize-digestSize:], sum(key, s2[:handshakeSize-digestSize]))
	return out, nil
}

// makeC1 writes C0 and C1, with a digest when asked.
func makeC1(random io.Reader, withDigest bool) ([]byte, error) {
	out := make([]byte, 1+handshakeSize)
	out[0] = version
	c1 := out[1:]
	if _, err := io.ReadFull(random, c1[8:]); err != nil {
		return nil, fmt.Errorf("random bytes for the handshake: %w", err)
	}
	if withDigest {
		copy(c1[4:], []byte{9, 0, 124, 2})
		sign(c1, digestOffset(c1, 0), clientPrefix)
	}
	return out, nil
}

// digestOffset finds the digest in a packet. In schema 0 the digest block begins at byte 8 and
// in schema 1 at byte 772; its first four bytes, summed, place the digest behind them.
func digestOffset(p []byte, schema int) int {
	base := 8
	if schema == 1 {
		base = 772
	}
	n := int(p[base]) + int(p[base+1]) + int(p[base+2]) + int(p[base+3])
	return base + 4 + n%728
}

func findDigest(p, key []byte) ([]byte, int) {
	if binary.BigEndian.Uint32(p[4:]) == 0 {
		return nil, 0
	}
	for schema := range 2 {
		at := digestOffset(p, schema)
		if hmac.Equal(p[at:at+digestSize], sumWithout(p, at, key)) {
			return p[at : at+digestSize], schema
		}
	}
	return nil, 0
}

func sign(p []byte, at int, key []byte) { copy(p[at:], sumWithout(p, at, key)) }

func sumWithout(p []byte, at int, key []byte) []byte {
	return sum(key, p[:at], p[at+digestSize:])
}

func sum(key []byte, parts ...[]byte) []byte {
	h := hmac.New(sha256.New, key)
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}

// checkS2 verifies a server's answer to our C1: an echo, or a signature over our digest.
func checkS2(c1, s2 []byte) error {
	if bytes.Equal(s2[8:], c1[8:]) {
		return nil
	}
	if digest, _ := findDigest(c1, clientPrefix); digest != nil {
		key := sum(serverKey, digest)
		if hmac.Equal(sum(key, s2[:handshakeSize-digestSize]), s2[handshakeSize-digestSize:]) {
			return nil
		}
	}
	return &media.FormatError{Format: "RTMP handshake", Found: "an S2 that neither echoes nor signs C1",
		Want: "one that does"}
}
