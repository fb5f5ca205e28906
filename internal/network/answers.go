package network

import (
	"errors"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"unicode"
)

// maxAnswer is how much of a server's own words is told, bytes.
//
//limit:bytes of a server's own words that are told | each error | the rest is left out
const maxAnswer = 300

// Answer words what a server answered that did not do what was asked: the status, and the first of what it says in plain
// text. It reads the body's beginning.
func Answer(res *http.Response) string {
	kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
	if kind != "text/plain" {
		return res.Status
	}
	b, _ := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	text := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(string(b), ""))
	if text = strings.TrimSpace(text); text == "" {
		return res.Status
	}
	return res.Status + ": " + text
}

// WithoutSecrets is the error of an HTTP request with neither user nor query in the address that it tells: keys and tokens
// travel in both.
func WithoutSecrets(err error) error {
	var told *url.Error
	if !errors.As(err, &told) {
		return err
	}
	out := *told
	u, wrong := url.Parse(told.URL)
	if wrong != nil {
		return told.Err
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	out.URL = u.String()
	return &out
}
