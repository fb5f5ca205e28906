package network

import (
	"errors"
	"net/url"
)

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
