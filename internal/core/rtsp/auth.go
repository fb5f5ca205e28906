package rtsp

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
)

// Credentials are those of a client.
type Credentials struct{ User, Password string }

// challenge is what a server asks for (RFC 2617; RFC 7616).
type challenge struct {
	digest    bool
	realm     string
	nonce     string
	opaque    string
	algorithm string
	quality   bool // qop=auth
	count     int
}

// readChallenges picks the best one of those that are understood.
func readChallenges(headers []string) (best *challenge) {
	for _, h := range headers {
		scheme, rest, _ := strings.Cut(h, " ")
		c := &challenge{digest: strings.EqualFold(scheme, "digest")}
		if !c.digest && !strings.EqualFold(scheme, "basic") {
			continue
		}
		for _, field := range splitQuoted(rest) {
			name, value, _ := strings.Cut(field, "=")
			value = strings.Trim(strings.TrimSpace(value), `"`)
			switch strings.ToLower(strings.TrimSpace(name)) {
			case "realm":
				c.realm = value
			case "nonce":
				c.nonce = value
			case "opaque":
				c.opaque = value
			case "algorithm":
				c.algorithm = value
			case "qop":
				for q := range strings.SplitSeq(value, ",") {
					c.quality = c.quality || strings.TrimSpace(q) == "auth"
				}
			}
		}
		if c.digest && c.hash() == nil {
			continue
		}
		if best == nil || c.digest && (!best.digest || strings.EqualFold(c.algorithm, "SHA-256")) {
			best = c
		}
	}
	return best
}

// splitQuoted splits at commas that stand outside of quotes.
func splitQuoted(s string) (out []string) {
	quoted, from := false, 0
	for i := range len(s) {
		switch s[i] {
		case '"':
			quoted = !quoted
		case ',':
			if !quoted {
				out, from = append(out, s[from:i]), i+1
			}
		}
	}
	return append(out, s[from:])
}

func (c *challenge) hash() func() hash.Hash {
	switch strings.ToUpper(c.algorithm) {
	case "", "MD5":
		return md5.New // the one that cameras know
	case "SHA-256":
		return sha256.New
	}
	return nil
}

// answer writes the Authorization header of a request.
func (c *challenge) answer(k Credentials, method, address, client string) string {
	if !c.digest {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(k.User+":"+k.Password))
	}
	sum := func(parts ...string) string {
		h := c.hash()()
		h.Write([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h.Sum(nil))
	}
	one, two := sum(k.User, c.realm, k.Password), sum(method, address)
	out := fmt.Sprintf(`Digest username="%s", realm="%s", nonce="%s", uri="%s"`, k.User, c.realm, c.nonce, address)
	if c.quality {
		c.count++
		n := fmt.Sprintf("%08x", c.count)
		out += fmt.Sprintf(`, qop=auth, nc=%s, cnonce="%s", response="%s"`, n, client, sum(one, c.nonce, n, client, "auth", two))
	} else {
		out += fmt.Sprintf(`, response="%s"`, sum(one, c.nonce, two))
	}
	if c.algorithm != "" {
		out += ", algorithm=" + c.algorithm
	}
	if c.opaque != "" {
		out += fmt.Sprintf(`, opaque="%s"`, c.opaque)
	}
	return out
}

// BasicPassword reads the password of a request that signs in by Basic, "" of any other.
func (m *Message) BasicPassword() string {
	scheme, text, _ := strings.Cut(m.Header.Get("Authorization"), " ")
	b, err := base64.StdEncoding.DecodeString(text)
	if err != nil || !strings.EqualFold(scheme, "basic") {
		return ""
	}
	_, password, _ := strings.Cut(string(b), ":")
	return password
}
