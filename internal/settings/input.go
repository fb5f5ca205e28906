package settings

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"metaplasis/internal/address"

	"metaplasis/internal/core/ladder"
)

// Input is one way in which a channel may be fed.
type Input struct {
	// Kind is "sender": an encoder that connects with a key; "address": what the service fetches or receives at an
	// address; "studio": a source on the studio's network; "programme": a programme of the transport stream that
	// another channel receives; "channel": another channel, or a rung of it; "file": a recording that repeats; "items":
	// items of the library one after the other, again and again; "slate": a picture.
	Kind string `json:"kind"`
	// Name tells several inputs for senders apart, such as backup; keys may lead to one of them. Of a source on the
	// studio's network it is its name, or its ID.
	Name string `json:"name,omitempty"`
	File string `json:"file,omitempty"` // of a file: its name in the service's folder of files; of items: their names with + between; of a slate: its image, none for the title
	// Address of the source, of a scheme that package address has for inputs.
	Address string `json:"address,omitempty"`
	Channel string `json:"channel,omitempty"` // of a programme: whose transport stream it is in; of a channel: its name
	// Programme of a transport stream, by its number or its name; none is the first. Of a channel, its rung; none is the
	// source as it came.
	Programme string `json:"programme,omitempty"`
	// Secret is the password or passphrase that the source asks for. It is never shown.
	Secret   string `json:"secret,omitempty"`
	OnDemand bool   `json:"onDemand,omitempty"` // fetched only while somebody watches
}

// The kinds of input. A slate shows the image that its file names, or the channel's title.
const (
	InputSender    = "sender"
	InputAddress   = "address"
	InputStudio    = "studio"
	InputProgramme = "programme"
	InputChannel   = "channel"
	InputFile      = "file"
	InputItems     = "items"
	InputSlate     = "slate"
)

const (
	//limit:inputs | each channel | 422
	maxInputs = 6
	//limit:items | each file input | 422
	maxPlaylist = 64 // items of an input
	onDemand    = "on-demand:"
	// KeptSecret stands for a secret that is not shown; in a change, for the one that was there.
	KeptSecret = "(kept)"
)

// String writes the input as the CLI reads it: sender, sender:backup, file:standby.flv, items:race-1+race-2, programme:truck#2, studio:Deck 2,
// udp://239.1.1.1:5000#2, on-demand:rtsp://camera/1. The secret is left out.
func (in Input) String() string {
	text := in.Kind
	switch in.Kind {
	case InputAddress:
		text = in.Address
	case InputProgramme, InputChannel:
		text += ":" + in.Channel
	default:
		if suffix := cmp.Or(in.Name, in.File); suffix != "" {
			text += ":" + suffix
		}
	}
	if in.Programme != "" {
		text += "#" + in.Programme
	}
	if in.OnDemand {
		text = onDemand + text
	}
	return text
}

// ParseInput reads what String writes, and a password or passphrase in the address.
func ParseInput(text string) (in Input) {
	text, in.OnDemand = strings.CutPrefix(strings.TrimSpace(text), onDemand)
	if name, ok := strings.CutPrefix(text, InputStudio+":"); ok {
		in.Kind, in.Name = InputStudio, strings.TrimSpace(name)
		return in
	}
	text, in.Programme, _ = strings.Cut(text, "#")
	if strings.Contains(text, "://") {
		in.Kind, in.Address = InputAddress, text
		return in.tidy()
	}
	kind, rest, _ := strings.Cut(text, ":")
	switch in.Kind = kind; kind {
	case InputSender:
		in.Name = rest
	case InputProgramme, InputChannel:
		in.Channel = rest
	default:
		in.File = rest
	}
	return in
}

// tidy takes the secret out of an address.
func (in Input) tidy() Input {
	u, err := url.Parse(in.Address)
	if in.Kind != InputAddress || err != nil {
		return in
	}
	if u.Fragment != "" {
		in.Programme, u.Fragment = cmp.Or(in.Programme, u.Fragment), ""
		in.Address = u.String()
	}
	if shown, secret := address.Hide(in.Address); secret != "" {
		in.Address, in.Secret = shown, secret
	}
	return in
}

// Same reports whether two inputs are one, whatever their secrets.
func (in Input) Same(o Input) bool {
	in.Secret, o.Secret = "", ""
	return in == o
}

// Plays reports whether the input plays by itself what lies here, without anybody who sends.
func (in Input) Plays() bool {
	return in.Kind == InputFile || in.Kind == InputItems || in.Kind == InputSlate
}

// Connects reports whether the service fetches or receives the input by itself.
func (in Input) Connects() bool {
	return in.Kind == InputAddress || in.Kind == InputStudio || in.Kind == InputProgramme || in.Kind == InputChannel
}

// Words is the input in a sentence.
func (in Input) Words() string {
	switch in.Kind {
	case InputAddress:
		return "source " + in.Address
	case InputStudio:
		return "source " + in.Name
	case InputProgramme:
		return "programme of " + in.Channel
	case InputChannel:
		return "channel " + in.Channel
	}
	if suffix := cmp.Or(in.Name, in.File); suffix != "" {
		return in.Kind + " " + suffix
	}
	return in.Kind
}

var (
	itemsForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,79}(\+[a-z0-9][a-z0-9-]*)*$`)
	fileForm  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}\.(flv|mp4|ts)$`)
	nameForm  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$`)
)

const (
	//limit:characters of an address | each input | 422
	maxAddress = 500
	//limit:characters of a secret | each input | 422
	maxSecret = 128
	//limit:characters of a programme's name | each input | 422
	maxProgramme = 80
	//limit:characters of a source's name | each input | 422
	maxSource = 100 // the name of a source on the studio's network
)

func (s Settings) checkInputs() (out []ladder.Problem) {
	add := func(i int, text string, args ...any) {
		out = append(out, ladder.Problem{Field: fmt.Sprintf("inputs.%d", i), Text: fmt.Sprintf(text, args...)})
	}
	if len(s.Inputs) > maxInputs {
		add(maxInputs, "found %d inputs, expected %d at most", len(s.Inputs), maxInputs)
	}
	for i, in := range s.Inputs {
		if slices.ContainsFunc(s.Inputs[:i], in.Same) {
			add(i, "found the input %s twice; give inputs for senders names, such as sender:backup", in)
			continue
		}
		if text := in.check(s.Slug); text != "" {
			add(i, "%s", text)
		}
	}
	return out
}

// check says what is wrong with the input of a channel, "" when nothing is.
func (in Input) check(slug string) string {
	for _, text := range []struct {
		of, text string
		most     int
	}{{"a programme", in.Programme, maxProgramme}, {"a secret", in.Secret, maxSecret}} {
		if p := ladder.CheckText("", text.text, text.most); p != nil {
			return fmt.Sprintf("%s: %s", text.of, p.Text)
		}
	}
	if in.OnDemand && in.Kind != InputAddress && in.Kind != InputStudio {
		return fmt.Sprintf("found on-demand for the input %s, expected it for an address or a source on the studio's network", in.Kind)
	}
	switch in.Kind {
	case InputSender:
		if in.Name != "" && !nameForm.MatchString(in.Name) {
			return fmt.Sprintf("found the name %q, expected letters, digits, dots and hyphens, such as backup", Clip(in.Name))
		}
	case InputSlate:
		if in.File != "" {
			return ladder.CheckImageName(in.File)
		}
	case InputFile:
		if !fileForm.MatchString(in.File) {
			return fmt.Sprintf("found file %q, expected the name of an FLV, CMAF or TS file in the folder of files, such as standby.flv, standby.mp4 or standby.ts", Clip(in.File))
		}
	case InputItems:
		if len(in.File) > maxAddress || strings.Count(in.File, "+") >= maxPlaylist || !itemsForm.MatchString(in.File) {
			return fmt.Sprintf("found the items %q, expected their names in the library with + between, such as race-1+race-2", Clip(in.File))
		}
	case InputAddress:
		return address.Check(in.Address, address.Input)
	case InputStudio:
		if p := ladder.CheckText("", in.Name, maxSource); p != nil || in.Name == "" {
			return fmt.Sprintf("found the name %q, expected that of a source on the studio's network, or its ID", Clip(in.Name))
		}
	case InputProgramme:
		if !slugForm.MatchString(in.Channel) || in.Channel == slug {
			return fmt.Sprintf("found channel %q, expected the name of another channel whose transport stream has the programme", Clip(in.Channel))
		}
	case InputChannel:
		if !slugForm.MatchString(in.Channel) || in.Channel == slug {
			return fmt.Sprintf("found channel %q, expected the name of another channel", Clip(in.Channel))
		}
	default:
		return fmt.Sprintf("found kind %q, expected %s, %s, %s, %s, %s, %s or an address such as udp://239.1.1.1:5000", Clip(in.Kind), InputSender, InputFile, InputSlate, InputStudio, InputProgramme, InputChannel)
	}
	return ""
}

// tidyInputs takes secrets out of addresses.
func tidyInputs(list []Input) []Input {
	out := slices.Clone(list)
	for i := range out {
		out[i] = out[i].tidy()
	}
	return out
}

// Shown are the settings as anybody may see them: without secrets.
func (s Settings) Shown() Settings {
	s.Inputs = slices.Clone(s.Inputs)
	for i := range s.Inputs {
		if s.Inputs[i].Secret != "" {
			s.Inputs[i].Secret = KeptSecret
		}
	}
	if s.Passphrase != "" {
		s.Passphrase = KeptSecret
	}
	s.Relays = shownRelays(s.Relays)
	return s
}

// KeepSecrets puts the secrets of the settings before in place of what stands for them.
func (s Settings) KeepSecrets(before Settings) Settings {
	s.Inputs = slices.Clone(s.Inputs)
	for i := range s.Inputs {
		in := &s.Inputs[i]
		if in.Secret != KeptSecret && (in.Secret != "" || in.Kind != InputAddress) {
			continue
		}
		asked := in.Secret
		if in.Secret = ""; asked == KeptSecret {
			if at := slices.IndexFunc(before.Inputs, in.Same); at >= 0 {
				in.Secret = before.Inputs[at].Secret
			}
		}
	}
	if s.Passphrase == KeptSecret {
		s.Passphrase = before.Passphrase
	}
	s.Relays = keepRelays(s.Relays, before.Relays)
	return s
}

// Rank is the place of an input among those of the channel, the preferred one first; -1 when it is none.
func (s *Settings) Rank(in Input) int { return slices.Index(s.Inputs, in) }

// Reveal returns the address of an input with all that belongs into it, and the password or passphrase beside it.
func (in Input) Reveal() (text, beside string) { return address.Open(in.Address, in.Secret) }
