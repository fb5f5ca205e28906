package network

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strings"
)

// VerifyParameter is the parameter of an address that says which certificate of the other side is taken: 1, one that the
// system's authorities vouch for; 0, any; or the SHA-256 fingerprint of the only one, in hexadecimal digits with or without
// colons.
const VerifyParameter = "verify"

// Trust reads it. usual is what holds where the address says nothing.
func Trust(u *url.URL, usual bool) (*tls.Config, error) {
	c := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	said := strings.TrimSpace(u.Query().Get(VerifyParameter))
	switch strings.ToLower(said) {
	case "":
		c.InsecureSkipVerify = !usual
		return c, nil
	case "1", "yes", "true":
		return c, nil
	case "0", "no", "false":
		c.InsecureSkipVerify = true
		return c, nil
	}
	want, err := hex.DecodeString(strings.ReplaceAll(said, ":", ""))
	if err != nil || len(want) != sha256.Size {
		return nil, fmt.Errorf("found %s=%.80s, expected 1, 0, or the SHA-256 fingerprint of a certificate in 64 hexadecimal digits", VerifyParameter, said)
	}
	c.InsecureSkipVerify = true // the certificate itself is known
	c.VerifyConnection = func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 {
			return errors.New("the other side shows no certificate")
		}
		got := sha256.Sum256(s.PeerCertificates[0].Raw)
		if !bytes.Equal(got[:], want) {
			return fmt.Errorf("the other side's certificate has the fingerprint %x, expected %x: it is another one", got, want)
		}
		return nil
	}
	return c, nil
}

// WithoutTrust returns the query of an address without what is for us alone.
func WithoutTrust(u *url.URL) string {
	q := u.Query()
	if !q.Has(VerifyParameter) {
		return u.RawQuery
	}
	q.Del(VerifyParameter)
	return q.Encode()
}
