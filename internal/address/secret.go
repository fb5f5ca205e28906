package address

import (
	"net/url"
	"strings"
)

// Secrets of an address are kept apart from it, so that the rest can be shown, logged and stored. Where there is one of the usual kind,
// a password or a passphrase, it stands for itself; else all of them stand behind a question mark, as a query of which each parameter
// is a part of the address.

// Parts of an address in such a query beside the parameters of its own.
const (
	userPassword = "@"
	streamName   = "/" // the last part of the path
	passphrase   = "passphrase"
)

// braced puts back what stands for the channel and the date, which an address has escaped.
var braced = strings.NewReplacer("%7B", "{", "%7D", "}")

// isSecret reports whether a parameter may be a secret.
func (s *Scheme) isSecret(name string) bool {
	if s != nil {
		if p := s.parameter(name); p != nil {
			return p.Secret
		}
	}
	return !plain[name]
}

// Hide takes what may be secret out of an address.
func Hide(text string) (shown, secret string) {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil {
		return text, ""
	}
	s, _ := Find(u.Scheme)
	parts := url.Values{}
	if password, ok := u.User.Password(); ok {
		parts.Set(userPassword, password)
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	all := len(q)
	for name, values := range q {
		if s.isSecret(name) {
			parts[name] = values
			q.Del(name)
		}
	}
	if len(parts) == 0 {
		return text, ""
	}
	if len(q) < all {
		u.RawQuery = q.Encode()
	}
	shown = braced.Replace(u.String())
	if len(parts) == 1 {
		for _, usual := range []string{userPassword, passphrase} {
			if v := parts[usual]; len(v) == 1 && v[0] != "" && v[0][0] != '?' && (usual == userPassword || s != nil && s.parameter(passphrase) != nil) {
				return shown, v[0]
			}
		}
	}
	return shown, "?" + parts.Encode()
}

// reveal puts the secrets of an address back. What is left is a password or a passphrase that stood for itself.
func reveal(shown, secret string) (text, left string) {
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

// Open returns the address of what is fetched with all that belongs into it, and the password or passphrase beside it.
func Open(shown, secret string) (text, beside string) {
	text, secret = reveal(shown, secret)
	u, err := url.Parse(text)
	if err != nil || secret != "" {
		return text, secret
	}
	if password, ok := u.User.Password(); ok {
		secret, u.User = password, url.User(u.User.Username())
		text = u.String()
	}
	if s, known := Find(u.Scheme); known && s.parameter(passphrase) != nil && u.Query().Has(passphrase) {
		q := u.Query()
		secret = q.Get(passphrase)
		q.Del(passphrase)
		u.RawQuery = q.Encode()
		text = u.String()
	}
	return text, secret
}

// HideTarget takes what may be secret out of the address of a far end: where that is the stream's name, the last part of the path.
// secret is what was there already; a stream's name is taken out only without one.
func HideTarget(text, secret string) (shown, hidden string) {
	text = strings.TrimSpace(text)
	u, err := url.Parse(text)
	if err != nil {
		return text, secret
	}
	if s, known := Find(u.Scheme); !known || !s.StreamName {
		if shown, hidden := Hide(text); hidden != "" {
			return shown, hidden
		}
		return text, secret
	}
	path := strings.Trim(u.Path, "/")
	at := strings.LastIndexByte(path, '/')
	if at <= 0 || secret != "" {
		return text, secret
	}
	secret = path[at+1:]
	if u.RawQuery != "" {
		secret += "?" + u.RawQuery
	}
	u.Path, u.RawQuery = "/"+path[:at], ""
	return braced.Replace(u.String()), secret
}

// Target is the address of a far end with its secret.
func Target(shown, secret string) string {
	u, err := url.Parse(shown)
	if err != nil || secret == "" {
		return shown
	}
	s, _ := Find(u.Scheme)
	switch {
	case s != nil && s.StreamName:
		name, query, _ := strings.Cut(secret, "?")
		u.Path = strings.TrimRight(u.Path, "/") + "/" + name
		u.RawQuery = query
	case strings.HasPrefix(secret, "?"):
		text, _ := reveal(shown, secret)
		return text
	case isQuery(secret):
		text, _ := reveal(shown, "?"+secret)
		return text
	case s != nil && s.Password && u.User != nil:
		u.User = url.UserPassword(u.User.Username(), secret)
	default:
		q := u.Query()
		q.Set(s.usual(), secret)
		u.RawQuery = q.Encode()
	}
	return u.String()
}

// usual is the parameter of a secret that stands for itself.
func (s *Scheme) usual() string {
	if s != nil && s.parameter(passphrase) != nil {
		return passphrase
	}
	return "key"
}

// isQuery reports whether a secret that an earlier version stored is a query: it had no mark then.
func isQuery(secret string) bool {
	v, err := url.ParseQuery(secret)
	if err != nil || !strings.Contains(secret, "=") {
		return false
	}
	for name := range v {
		switch name {
		case passphrase, "streamid", "key", "token", "password", "secret":
		default:
			return false
		}
	}
	return true
}

// SameHost reports whether two addresses lead to one host by one scheme: a secret is for no other.
func SameHost(a, b string) bool {
	u, err := url.Parse(a)
	v, wrong := url.Parse(b)
	return err == nil && wrong == nil && u.Host == v.Host && u.Scheme == v.Scheme
}
