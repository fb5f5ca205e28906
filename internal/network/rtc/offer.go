package rtc

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/pion/sdp/v3"
)

// digests are the hash functions of certificate fingerprints, and how many bytes each has (RFC 8122, 5).
var digests = map[string]int{"sha-1": 20, "sha-224": 28, "sha-256": 32, "sha-384": 48, "sha-512": 64}

// Lengths of what ICE exchanges, in characters (RFC 8839, 5.4).
const (
	leastUfrag    = 4
	leastPassword = 22
)

// check says what is wrong with an offer of video and audio that go in one of some directions; nil when nothing is.
func check(offer string, directions []string) error {
	var s sdp.SessionDescription
	if err := s.UnmarshalString(offer); err != nil {
		return fmt.Errorf("found no session description (RFC 8866): %w", err)
	}
	if len(s.MediaDescriptions) == 0 {
		return errors.New("found no media, expected a section for pictures or sound")
	}
	ofSession := func(m *sdp.MediaDescription, name string) string {
		if v, ok := m.Attribute(name); ok {
			return v
		}
		v, _ := s.Attribute(name)
		return v
	}
	mids := map[string]bool{}
	for _, m := range s.MediaDescriptions {
		kind := m.MediaName.Media
		if mid, ok := m.Attribute("mid"); ok {
			if mids[mid] {
				return fmt.Errorf("found two sections with the mid %.20q, expected one each (RFC 8843, 7.1)", mid)
			}
			mids[mid] = true
		}
		if ufrag := ofSession(m, "ice-ufrag"); len(ufrag) < leastUfrag {
			return fmt.Errorf("found an ice-ufrag of %d characters, expected %d at least (RFC 8839, 5.4)", len(ufrag), leastUfrag)
		}
		if password := ofSession(m, "ice-pwd"); len(password) < leastPassword {
			return fmt.Errorf("found an ice-pwd of %d characters, expected %d at least (RFC 8839, 5.4)", len(password), leastPassword)
		}
		if err := checkFingerprint(ofSession(m, "fingerprint")); err != nil {
			return err
		}
		if kind != "audio" && kind != "video" {
			continue
		}
		if d := directionOf(&s, m); !slices.Contains(directions, d) {
			return fmt.Errorf("found %s that is %s, expected %s", kind, d, strings.Join(directions, " or "))
		}
	}
	return nil
}

// directionOf is where the media of a section goes; without a word it goes both ways (RFC 8866, 6.7).
func directionOf(s *sdp.SessionDescription, m *sdp.MediaDescription) string {
	for _, has := range []func(string) (string, bool){m.Attribute, s.Attribute} {
		for _, d := range []string{"sendonly", "recvonly", "sendrecv", "inactive"} {
			if _, ok := has(d); ok {
				return d
			}
		}
	}
	return "sendrecv"
}

// checkFingerprint says what is wrong with the fingerprint of a certificate.
func checkFingerprint(v string) error {
	name, text, _ := strings.Cut(v, " ")
	size, known := digests[strings.ToLower(name)]
	if !known {
		return fmt.Errorf("found a fingerprint by %.20q, expected sha-256 or another of SHA (RFC 8122, 5)", name)
	}
	pairs := strings.Split(strings.TrimSpace(text), ":")
	for _, p := range pairs {
		if b, err := hex.DecodeString(p); err != nil || len(b) != 1 {
			return fmt.Errorf("found %.20q within a fingerprint, expected two hexadecimal digits (RFC 8122, 5)", p)
		}
	}
	if len(pairs) != size {
		return fmt.Errorf("found a fingerprint of %d bytes, expected the %d of %s (RFC 8122, 5)", len(pairs), size, name)
	}
	return nil
}
