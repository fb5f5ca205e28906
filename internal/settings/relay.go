package settings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/address"

	"metaplasis/internal/core/ladder"
)

// Relay is an onward copy of a channel to another server or receiver.
type Relay struct {
	Name string `json:"name"` // within its channel
	// Address of the far end, of a scheme that package address has for relays.
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

// On reports whether the relay is to send at a time.
func (r Relay) On(now time.Time) bool {
	return !r.Off && (r.From.IsZero() || !now.Before(r.From)) && (r.Until.IsZero() || now.Before(r.Until))
}

// tidy takes what is secret out of the address.
func (r Relay) tidy() Relay {
	r.Address, r.Secret = address.HideTarget(r.Address, r.Secret)
	return r
}

// Full is the address with its secret.
func (r Relay) Full() string { return address.Target(r.Address, r.Secret) }

// scheme is that of the address, nil of one that nobody knows.
func (r *Relay) scheme() *address.Scheme {
	name, _, _ := strings.Cut(r.Address, ":")
	s, _ := address.Find(name)
	return s
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
		if text := address.Check(r.Address, address.Relay); text != "" {
			add(i, "address", "%s", text)
		}
		if p := ladder.CheckText("", r.Secret, maxAddress); p != nil {
			add(i, "secret", "%s", p.Text)
		}
		if r.Whole && (r.Rung != "" || r.Sound != "") {
			add(i, "whole", "found a rung or a sound beside the whole stream, expected one of the two")
		}
		if s := r.scheme(); r.Whole && s != nil && !s.Programmes {
			add(i, "whole", "found the scheme %s, expected one that carries a transport stream as it is, such as udp or srt", s.Name)
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
	if s := r.scheme(); len(r.Programmes) > 0 && s != nil && !s.Programmes {
		return fmt.Sprintf("found the scheme %s, expected one such as udp or srt: only a transport stream has several programmes", s.Name)
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
		at := slices.IndexFunc(before, func(o Relay) bool { return o.Name == out[i].Name && address.SameHost(o.Address, out[i].Address) })
		if at >= 0 {
			out[i].Secret = before[at].Secret
		}
	}
	return out
}

// LeadsTo reports whether an address is of the relay's host and scheme: its secret is for no other.
func (r Relay) LeadsTo(other string) bool { return address.SameHost(r.Address, other) }

// CarriedProgramme is one of several in a transport stream.
type CarriedProgramme struct {
	Channel string `json:"channel"`
	Rung    string `json:"rung,omitempty"` // "" is the source as it came
	Number  int    `json:"number"`
	Name    string `json:"name,omitempty"` // of the service; "" is the channel's title
}
