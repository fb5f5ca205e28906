package settings

import (
	"net/url"
	"slices"
	"strings"
)

// Secrets of an address are kept apart from it, so that the rest can be shown, logged and stored. Where there is one of
// the usual kind, a password or a passphrase, it stands for itself; else all of them stand behind a question mark, as
// a query of which each parameter is a part of the address.

// Parts of an address in such a query beside the parameters of its own.
const (
	userPassword = "@"
	streamName   = "/" // the last part of the path, of RTMP
)

// plainParameters are those of addresses that tell no secret. All others may.
var plainParameters = map[string]bool{
	"mode": true, "latency": true, "pbkeylen": true, "overhead": true, "tlpktdrop": true, "local": true, "interface": true, "source": true, "ttl": true,
	"rate": true, "transport": true, "region": true, "tls": true, "version": true, "type": true, "channel": true, "subtype": true, "profile": true, "verify": true,
	"announce": true, "format": true, "hostkey": true, "name": true, "path": true, "rung": true, "sound": true, "group": true,
}

// hideSecrets takes what may be secret out of an address.
func hideSecrets(address string) (shown, secret string) {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil {
		return address, ""
	}
	parts := url.Values{}
	if password, ok := u.User.Password(); ok {
		parts.Set(userPassword, password)
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	plain := len(q)
	for name, values := range q {
		if !plainParameters[name] {
			parts[name] = values
			q.Del(name)
		}
	}
	if len(parts) == 0 {
		return address, ""
	}
	if len(q) < plain {
		u.RawQuery = q.Encode()
	}
	shown = braced.Replace(u.String())
	if len(parts) == 1 {
		for _, plain := range []string{userPassword, "passphrase"} {
			if v := parts[plain]; len(v) == 1 && v[0] != "" && v[0][0] != '?' && (plain == userPassword || u.Scheme == "srt") {
				return shown, v[0]
			}
		}
	}
	return shown, "?" + parts.Encode()
}

// revealSecrets puts the secrets of an address back. What is left is a password or a passphrase that stood for itself.
func revealSecrets(shown, secret string) (address, left string) {
	query, several := strings.CutPrefix(secret, "?")
	if !several {
		return shown, secret
	}
	u, err := url.Parse(shown)
	parts, wrong := url.ParseQuery(query)
	if err != nil || wrong != nil {
		return shown, secret
	}
	if parts.Has(userPassword) {
		u.User = url.UserPassword(u.User.Username(), parts.Get(userPassword))
		parts.Del(userPassword)
	}
	if parts.Has(streamName) {
		u.Path = strings.TrimRight(u.Path, "/") + "/" + parts.Get(streamName)
		parts.Del(streamName)
	}
	q := u.Query()
	for name, values := range parts {
		q[name] = values
	}
	u.RawQuery = q.Encode()
	return u.String(), ""
}

// Reveal returns the address of an input with all that belongs into it, and the password or passphrase beside it.
func (in Input) Reveal() (address, secret string) {
	address, secret = revealSecrets(in.Address, in.Secret)
	u, err := url.Parse(address)
	if err != nil || secret != "" {
		return address, secret
	}
	if password, ok := u.User.Password(); ok {
		secret, u.User = password, url.User(u.User.Username())
		address = u.String()
	}
	if q := u.Query(); u.Scheme == "srt" && q.Has("passphrase") {
		secret = q.Get("passphrase")
		q.Del("passphrase")
		u.RawQuery = q.Encode()
		address = u.String()
	}
	return address, secret
}

// isQuery reports whether the secret of a relay that an earlier version stored is a query: it had no mark then.
func isQuery(secret string) bool {
	v, err := url.ParseQuery(secret)
	if err != nil || !strings.Contains(secret, "=") {
		return false
	}
	for name := range v {
		if !slices.Contains(secretParameters, name) {
			return false
		}
	}
	return true
}
