package hooks

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"time"
)

// Headers of a signed call (RFC 9530, 2; RFC 9421, 4).
const (
	DigestHeader    = "Content-Digest"
	InputHeader     = "Signature-Input"
	SignatureHeader = "Signature"
)

// signatureLabel names the signature among others that a message may have.
const signatureLabel = "metaplasis"

// signRequest signs a call by the secret of a hook (RFC 9421, 3.3.3, HMAC using SHA-256): its method, its address, the digest of
// its body (RFC 9530) and its type, with the time at which it was signed.
func signRequest(r *http.Request, body []byte, hook int64, secret string, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	parameters := fmt.Sprintf(`("@method" "@target-uri" "content-digest" "content-type");created=%d;keyid="hook-%d";alg="hmac-sha256"`, at.Unix(), hook)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"content-type\": %s\n\"@signature-params\": %s",
		r.Method, r.URL.Scheme+"://"+r.URL.Host+r.URL.RequestURI(), digest, r.Header.Get("Content-Type"), parameters)
	m := hmac.New(sha256.New, []byte(secret))
	m.Write([]byte(base))
	r.Header.Set(DigestHeader, digest)
	r.Header.Set(InputHeader, signatureLabel+"="+parameters)
	r.Header.Set(SignatureHeader, signatureLabel+"=:"+base64.StdEncoding.EncodeToString(m.Sum(nil))+":")
}
