// Package address is the one table of URL schemes: which there are, in which direction media goes, which parameters an address may
// have, and which of them are secret. Inputs, relays, the camera, the commands, the console and the tables in the docs are made from
// it. An address goes in as text; it comes out checked, or in two pieces of which one may be shown. All of it is pure.
package address

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Direction is which way media goes.
type Direction uint8

// The directions. The camera is the stand-in device, which sends to the service, or is fetched from.
const (
	Input Direction = 1 << iota
	Relay
	Camera
)

// Parameter is a parameter in the query of an address.
type Parameter struct {
	Name    string   `json:"name"`
	Default string   `json:"default,omitempty"` // what holds without it
	Values  []string `json:"values,omitempty"`  // that it may have; none for any
	// Least and Most are the bounds of a number; both 0 of what is no number.
	Least  int       `json:"least,omitempty"`
	Most   int       `json:"most,omitempty"`
	Secret bool      `json:"secret,omitempty"`
	Of     Direction `json:"-"` // in which it counts; 0 in all
	Help   string    `json:"help"`
}

// Scheme is a kind of address.
type Scheme struct {
	Name   string `json:"name"`
	Family string `json:"family"` // the package below internal/protocol that speaks it
	Of     Direction
	Text   map[Direction]Text // what it is in each direction

	Port bool // it needs a port
	Path bool // it needs a path
	// Password and StreamName say what is secret beside parameters: the password of a user, and the last part of the path.
	Password   bool
	StreamName bool
	// Programmes says that it carries a transport stream as it is, and several programmes in one.
	Programmes bool
	Files      bool // it takes a channel's files
	OneWay     bool // nothing comes back: whether anybody receives what is sent cannot be known
	// Strict says that a parameter that is not in the table is an error; else it is the far end's, and taken for a secret.
	Strict     bool
	Parameters []Parameter
}

// Text is what an address is, for people.
type Text struct{ Example, Help string }

// Find returns a scheme.
func Find(name string) (*Scheme, bool) {
	i := slices.IndexFunc(schemes, func(s Scheme) bool { return s.Name == name })
	if i < 0 {
		return nil, false
	}
	return &schemes[i], true
}

// In returns the schemes of a direction, in the order of the table.
func In(d Direction) (out []Scheme) {
	for _, s := range schemes {
		if s.Of&d != 0 {
			out = append(out, s)
		}
	}
	return out
}

// Names are the names of the schemes of a direction.
func Names(d Direction) (out []string) {
	for _, s := range In(d) {
		out = append(out, s.Name)
	}
	return out
}

// parameter returns a parameter of a scheme, nil when it is none of the table.
func (s *Scheme) parameter(name string) *Parameter {
	if i := slices.IndexFunc(s.Parameters, func(p Parameter) bool { return p.Name == name }); i >= 0 {
		return &s.Parameters[i]
	}
	return nil
}

// In reports whether a parameter counts in a direction.
func (p *Parameter) In(d Direction) bool { return p.Of == 0 || p.Of&d != 0 }

// most is how many characters an address may have.
//
//limit:characters of an address | each input and relay | 422
const maxAddress = 500

// clip is the beginning of what somebody wrote, for a message about it.
func clip(s string) string { return s[:min(len(s), 80)] }

// Check says what is wrong with an address in a direction, "" when nothing is.
func Check(text string, d Direction) string {
	u, err := url.Parse(text)
	if err != nil || text == "" || len(text) > maxAddress {
		return fmt.Sprintf("found the address %q, expected one such as %s", clip(text), In(d)[0].Text[d].Example)
	}
	s, known := Find(u.Scheme)
	switch {
	case !known || s.Of&d == 0:
		return fmt.Sprintf("found the address scheme %q, expected one of %s", clip(u.Scheme), strings.Join(Names(d), ", "))
	case u.Host == "":
		return fmt.Sprintf("found no host in the address %q, expected %s://HOST:PORT", clip(text), u.Scheme)
	}
	if s.Port || u.Port() != "" {
		if n, err := strconv.Atoi(u.Port()); err != nil || n < 1 || n > 65535 {
			return fmt.Sprintf("found port %q in the address, expected 1 to 65535", clip(u.Port()))
		}
	}
	if s.Path && d == Relay && strings.Trim(u.Path, "/") == "" {
		return fmt.Sprintf("found no path in the address, expected one such as %s", s.Text[d].Example)
	}
	return s.CheckQuery(u, d)
}

// CheckQuery says what is wrong with the parameters of an address in a direction, "" when nothing is.
func (s *Scheme) CheckQuery(u *url.URL, d Direction) string {
	for name, values := range u.Query() {
		p := s.parameter(name)
		if p == nil || !p.In(d) {
			if s.Strict {
				return fmt.Sprintf("found the parameter %q, expected some of %s", clip(name), strings.Join(s.names(d), ", "))
			}
			continue
		}
		for _, v := range values {
			if wrong := p.check(v); wrong != "" {
				return wrong
			}
		}
	}
	return ""
}

// names are the parameters of a direction.
func (s *Scheme) names(d Direction) (out []string) {
	for i := range s.Parameters {
		if p := &s.Parameters[i]; p.In(d) {
			out = append(out, p.Name)
		}
	}
	return out
}

// check says what is wrong with a value, "" when nothing is.
func (p *Parameter) check(v string) string {
	switch {
	case v == "":
		return ""
	case p.Values != nil && !slices.Contains(p.Values, v):
		return fmt.Sprintf("found %s=%s, expected %s", p.Name, clip(v), strings.Join(p.Values, ", "))
	case p.Most > 0:
		if n, err := strconv.Atoi(v); err != nil || n < p.Least || n > p.Most {
			return fmt.Sprintf("found %s=%s, expected %d to %d", p.Name, clip(v), p.Least, p.Most)
		}
	}
	return ""
}

// Number is the value of a parameter that is a number, 0 without it or when it is none.
func Number(u *url.URL, name string) int {
	n, _ := strconv.Atoi(u.Query().Get(name))
	return n
}
