package settings

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/core/ladder"
)

// Relay is an onward copy of a channel to another server or receiver.
type Relay struct {
	Name string `json:"name"` // within its channel
	// Address of the far end: rtmp, rtmps, srt, rtsp, rtsps, http or https (WHIP), udp, rtp, or studio; and for the channel's playlists,
	// manifests and segments as files folder, put+http, put+https, s3, ftp, ftps or sftp.
	Address string `json:"address"`
	// Secret is what the far end asks for: the stream's name of RTMP, the password of RTSP, the passphrase of SRT, the token of
	// WHIP, or parameters of the address as in passphrase=…&streamid=…. It is never shown.
	Secret string `json:"secret,omitempty"`
	Rung   string `json:"rung,omitempty"`  // "" is the source as it came
	Sound  string `json:"sound,omitempty"` // a rendition of sound, "" is that of the rung
	Whole  bool   `json:"whole,omitempty"` // the sender's whole transport stream, untouched
	// Programmes are those of other channels that go in the same transport stream, over udp, rtp and srt; Number is that of the
	// channel's own, 0 is 1.
	Programmes []CarriedProgramme `json:"programmes,omitempty"`
	Number     int                `json:"number,omitempty"`
	Off        bool               `json:"off,omitempty"` // it is not to send
	// From and Until are when it sends, if it does; the zero time is no bound.
	From  time.Time `json:"from,omitzero"`
	Until time.Time `json:"until,omitzero"`
}

// maxRelays bounds those of a channel.
//
//limit:relays | each channel | 422
const maxRelays = 32

// relaySchemes are those of addresses that relays send to.
var relaySchemes = []string{"rtmp", "rtmps", "srt", "rtsp", "rtsps", "http", "https", "udp", "rtp", "studio", "folder", "put+http", "put+https", "s3", "ftp", "ftps", "sftp"}

// braced puts back what stands for the channel and the date, which an address has escaped.
var braced = strings.NewReplacer("%7B", "{", "%7D", "}")

// withPassword are those whose secret is the password beside a user in the address.
var withPassword = []string{"rtsp", "rtsps", "s3", "ftp", "ftps", "sftp", "put+http", "put+https"}

// secretParameters are those of addresses that are taken for secrets.
var secretParameters = []string{"passphrase", "streamid", "key", "token", "password", "secret"}

// On reports whether the relay is to send at a time.
func (r Relay) On(now time.Time) bool {
	return !r.Off && (r.From.IsZero() || !now.Before(r.From)) && (r.Until.IsZero() || now.Before(r.Until))
}

// tidy takes what is secret out of the address.
func (r Relay) tidy() Relay {
	u, err := url.Parse(strings.TrimSpace(r.Address))
	if err != nil {
		return r
	}
	r.Address = strings.TrimSpace(r.Address)
	switch u.Scheme {
	case "rtmp", "rtmps":
		path := strings.Trim(u.Path, "/")
		if at := strings.LastIndexByte(path, '/'); at > 0 && r.Secret == "" { // of an application's path, the last part is the stream's name
			r.Secret = path[at+1:]
			if u.RawQuery != "" {
				r.Secret += "?" + u.RawQuery
			}
			u.Path, u.RawQuery = "/"+path[:at], ""
			r.Address = braced.Replace(u.String())
		}
	default:
		if shown, secret := hideSecrets(r.Address); secret != "" {
			r.Address, r.Secret = shown, secret
		}
	}
	return r
}

// Full is the address with its secret.
func (r Relay) Full() string {
	u, err := url.Parse(r.Address)
	if err != nil || r.Secret == "" {
		return r.Address
	}
	switch u.Scheme {
	case "rtmp", "rtmps":
		name, query, _ := strings.Cut(r.Secret, "?")
		u.Path = strings.TrimRight(u.Path, "/") + "/" + name
		u.RawQuery = query
	default:
		switch {
		case strings.HasPrefix(r.Secret, "?"):
			address, _ := revealSecrets(r.Address, r.Secret)
			return address
		case isQuery(r.Secret):
			address, _ := revealSecrets(r.Address, "?"+r.Secret)
			return address
		case slices.Contains(withPassword, u.Scheme) && u.User != nil:
			u.User = url.UserPassword(u.User.Username(), r.Secret)
		default:
			q := u.Query()
			q.Set(map[bool]string{true: "passphrase", false: "key"}[u.Scheme == "srt"], r.Secret)
			u.RawQuery = q.Encode()
		}
	}
	return u.String()
}

func (s Settings) checkRelays() (out []ladder.Problem) {
	add := func(i int, field, text string, args ...any) {
		out = append(out, ladder.Problem{Field: fmt.Sprintf("relays.%d.%s", i, field), Text: fmt.Sprintf(text, args...)})
	}
	if len(s.Relays) > maxRelays {
		add(maxRelays, "name", "found %d relays, expected %d at most", len(s.Relays), maxRelays)
	}
	for i, r := range s.Relays {
		switch {
		case !nameForm.MatchString(r.Name):
			add(i, "name", "found the name %q, expected letters, digits, dots and hyphens, such as platform", Clip(r.Name))
		case slices.ContainsFunc(s.Relays[:i], func(o Relay) bool { return o.Name == r.Name }):
			add(i, "name", "found the name %q twice", r.Name)
		}
		if text := checkFarEnd(r.Address); text != "" {
			add(i, "address", "%s", text)
		}
		if p := ladder.CheckText("", r.Secret, maxAddress); p != nil {
			add(i, "secret", "%s", p.Text)
		}
		if r.Whole && (r.Rung != "" || r.Sound != "") {
			add(i, "whole", "found a rung or a sound beside the whole stream, expected one of the two")
		}
		u, _ := url.Parse(r.Address)
		if r.Whole && u != nil && !slices.Contains([]string{"udp", "rtp", "srt"}, u.Scheme) {
			add(i, "whole", "found the scheme %s, expected udp, rtp or srt, which carry a transport stream as it is", Clip(u.Scheme))
		}
		if text := r.checkProgrammes(); text != "" {
			add(i, "programmes", "%s", text)
		}
		if r.Rung != "" && !s.Ladder.Planned && !slices.ContainsFunc(s.Ladder.Rungs, func(l ladder.Rung) bool { return l.Name == r.Rung }) && !ladder.IsAudioName(r.Rung) {
			add(i, "rung", "the ladder has no rung %q", Clip(r.Rung))
		}
		if !r.Until.IsZero() && !r.Until.After(r.From) {
			add(i, "until", "found an end that is not behind the beginning")
		}
	}
	return out
}

// maxProgrammes is how many programmes a transport stream of a relay may have beside the channel's own.
//
//limit:further programmes in a relay's transport stream | each relay | 422
const maxProgrammes = 12

// checkProgrammes says what is wrong with the programmes beside the channel's own, "" when nothing is.
func (r *Relay) checkProgrammes() string {
	numbers := map[int]bool{max(r.Number, 1): true}
	if u, err := url.Parse(r.Address); err == nil && len(r.Programmes) > 0 && !slices.Contains([]string{"udp", "rtp", "srt"}, u.Scheme) {
		return fmt.Sprintf("found the scheme %s, expected udp, rtp or srt: only a transport stream has several programmes", Clip(u.Scheme))
	}
	if len(r.Programmes) > maxProgrammes {
		return fmt.Sprintf("found %d programmes, expected %d at most", len(r.Programmes), maxProgrammes)
	}
	if r.Number < 0 || r.Number > 0xffff {
		return fmt.Sprintf("found the number %d, expected 1 to 65535", r.Number)
	}
	for _, p := range r.Programmes {
		switch {
		case !slugForm.MatchString(p.Channel):
			return fmt.Sprintf("found the channel %q, expected the name of one", Clip(p.Channel))
		case p.Number < 1 || p.Number > 0xffff:
			return fmt.Sprintf("found the number %d of the programme of %s, expected 1 to 65535", p.Number, p.Channel)
		case numbers[p.Number]:
			return fmt.Sprintf("found the programme number %d twice", p.Number)
		}
		if wrong := ladder.CheckText("", p.Name, maxProgramme); wrong != nil {
			return wrong.Text
		}
		numbers[p.Number] = true
	}
	return ""
}

// checkFarEnd says what is wrong with the address of a relay, "" when nothing is.
func checkFarEnd(address string) string {
	u, err := url.Parse(address)
	switch {
	case err != nil || address == "" || len(address) > maxAddress:
		return fmt.Sprintf("found the address %q, expected one such as rtmp://192.0.2.7/live/KEY", Clip(address))
	case !slices.Contains(relaySchemes, u.Scheme):
		return fmt.Sprintf("found the address scheme %q, expected one of %s", Clip(u.Scheme), strings.Join(relaySchemes, ", "))
	case u.Host == "":
		return fmt.Sprintf("found no host in the address %q, expected %s://HOST:PORT", Clip(address), u.Scheme)
	}
	if needsPort := slices.Contains([]string{"udp", "rtp", "srt", "studio"}, u.Scheme); needsPort || u.Port() != "" {
		if n, err := strconv.Atoi(u.Port()); err != nil || n < 1 || n > 65535 {
			return fmt.Sprintf("found port %q in the address, expected 1 to 65535", Clip(u.Port()))
		}
	}
	if strings.HasPrefix(u.Scheme, "rtmp") && strings.Trim(u.Path, "/") == "" {
		return "found no path in the address, expected rtmp://HOST/APPLICATION/KEY"
	}
	return ""
}

// tidyRelays takes secrets out of addresses.
func tidyRelays(list []Relay) []Relay {
	out := slices.Clone(list)
	for i := range out {
		out[i] = out[i].tidy()
	}
	return out
}

// shownRelays are those that anybody may see.
func shownRelays(list []Relay) []Relay {
	out := slices.Clone(list)
	for i := range out {
		if out[i].Secret != "" {
			out[i].Secret = KeptSecret
		}
	}
	return out
}

// keepRelays puts the secrets of before in place of what stands for them: of the relay of that name, while its address
// leads to the same host.
func keepRelays(list, before []Relay) []Relay {
	out := slices.Clone(list)
	for i := range out {
		if out[i].Secret != KeptSecret {
			continue
		}
		out[i].Secret = ""
		at := slices.IndexFunc(before, func(o Relay) bool { return o.Name == out[i].Name && sameHost(o.Address, out[i].Address) })
		if at >= 0 {
			out[i].Secret = before[at].Secret
		}
	}
	return out
}

// LeadsTo reports whether an address is of the relay's host and scheme: its secret is for no other.
func (r Relay) LeadsTo(address string) bool { return sameHost(r.Address, address) }

func sameHost(a, b string) bool {
	u, err := url.Parse(a)
	v, wrong := url.Parse(b)
	return cmp.Or(err, wrong) == nil && u.Host == v.Host && u.Scheme == v.Scheme
}

// CarriedProgramme is one of several in a transport stream.
type CarriedProgramme struct {
	Channel string `json:"channel"`
	Rung    string `json:"rung,omitempty"` // "" is the source as it came
	Number  int    `json:"number"`
	Name    string `json:"name,omitempty"` // of the service; "" is the channel's title
}
