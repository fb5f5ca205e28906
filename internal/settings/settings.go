// Package settings holds what an engineer sets of a channel, as plain values: how it is fed, its ladder, its packaging, who may
// use it, what is kept of it, and where it is relayed. Values go in as they were written or stored; they come out with
// defaults, with their secrets apart from what may be shown, and with a list of all that is wrong. It knows no running
// channel; anybody may call it at any time.
package settings

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// Settings are what the engineer says about a channel, in groups. Each setting is declared here alone: the
// API's document, the console's types and the CLI's flags are made from it. A flag of the CLI is named by its
// tag, with a help text for it.
type Settings struct {
	Slug      string        `json:"slug"`
	Title     string        `json:"title" flag:"title" help:"title shown to viewers"`
	Inputs    []Input       `json:"inputs,omitempty" flag:"inputs" help:"inputs in order of preference, such as sender,sender:backup,file:standby.flv,slate or rtsp://192.0.2.7/stream1"` // none is a sender alone
	Ladder    ladder.Ladder `json:"ladder"`
	Packaging `json:"packaging"`
	Outputs   `json:"outputs"`
	Access    `json:"access"`
	Switching `json:"switching"`
	Keeping   `json:"keeping"`
	// Relays carry the channel onward to other servers and receivers.
	Relays []Relay `json:"relays,omitempty"`
}

// Switching is when another live input takes over though something comes of the one on air. 0 is never: it is only told.
type Switching struct {
	FrozenSeconds int64 `json:"frozenSeconds,omitempty" flag:"switch-frozen" unit:"s" help:"switch to another live input when the picture has been frozen this long, such as 10s; 0: never"`
	BlackSeconds  int64 `json:"blackSeconds,omitempty" flag:"switch-black" unit:"s" help:"switch to another live input when the picture has been black this long, such as 10s; 0: never"`
	LossySeconds  int64 `json:"lossySeconds,omitempty" flag:"switch-lossy" unit:"s" help:"switch to another live input when packets have been lost repeatedly for this long, such as 10s; 0: never"`
	SilentSeconds int64 `json:"silentSeconds,omitempty" flag:"switch-silent" unit:"s" help:"switch to another live input when the audio has been silent this long, such as 10s; 0: never"`
}

// Keeping is what is kept of a channel after it left the window.
type Keeping struct {
	// TimeShiftMinutes is how far back viewers may go.
	TimeShiftMinutes int64 `json:"timeShiftMinutes,omitempty" flag:"time-shift" unit:"min" help:"how far back viewers can seek, such as 2h; 0: no further than the playlist"`
	TimeShiftMB      int64 `json:"timeShiftMB,omitempty" flag:"time-shift-size" was:"time-shift-mb" unit:"MB" help:"storage limit of the time-shift, such as 4GB; the oldest media is deleted first; 0: no limit of its own"`
	// Record keeps all that is on air, in recordings of RecordHours each, for RecordDays.
	Record      bool  `json:"record,omitempty" flag:"record" help:"record everything that is on air"`
	RecordHours int64 `json:"recordHours,omitempty" flag:"record-every" was:"record-hours" unit:"h" help:"start a new recording after this long, such as 6h; 0: 24h"`
	RecordDays  int64 `json:"recordDays,omitempty" flag:"record-retention" was:"record-days" unit:"d" help:"delete automatic recordings after this long, such as 30d; 0: never"`
}

// Bounds of what is kept.
const (
	//limit:minutes of time-shift | each channel | 422
	maxTimeShiftMinutes = 31 * 24 * 60
	//limit:days for which recordings are kept | each channel | 422
	maxRecordDays = 3660
)

func (s Settings) checkKeeping() (out []ladder.Problem) {
	for _, f := range []struct {
		name    string
		v, most int64
		unit    string
	}{
		{"timeShiftMinutes", s.TimeShiftMinutes, maxTimeShiftMinutes, "minutes"}, {"timeShiftMB", s.TimeShiftMB, 1 << 40, "millions of bytes"},
		{"recordHours", s.RecordHours, 24 * 31, "hours"}, {"recordDays", s.RecordDays, maxRecordDays, "days"},
	} {
		if f.v < 0 || f.v > f.most {
			out = append(out, ladder.Problem{Field: "keeping." + f.name, Text: fmt.Sprintf("found %d, expected 0 to %d %s", f.v, f.most, f.unit)})
		}
	}
	return out
}

// Packaging is how a channel's media is cut and described.
type Packaging struct {
	SegmentMillis int64 `json:"segmentMillis" flag:"segment" unit:"ms" help:"segment duration, such as 2s"`                             // nominal
	PartMillis    int64 `json:"partMillis" flag:"part" unit:"ms" help:"part duration, 100ms to 1s: the shorter, the lower the latency"` // nominal
	Window        int   `json:"window" flag:"window" help:"number of segments in a live playlist"`
	// StartOffsetMillis tells players where to begin, so long before the end; 0 leaves it to them.
	StartOffsetMillis int64 `json:"startOffsetMillis,omitempty" flag:"start-offset" unit:"ms" help:"where players start, counted back from the live edge, such as 6s; 0: the player decides"`
	// Aligned cuts at even steps of the wall clock and numbers segments by it, so that two origins
	// with the same source make the same segments. It takes effect with the next feed.
	Aligned bool `json:"aligned,omitempty" flag:"aligned" help:"cut and number segments by the wall clock, for two origins with the same source; from the next feed on"`
	// PartFiles gives each part an address of its own. Without it parts are byte ranges of their segment:
	// one object for all protocols in every cache.
	PartFiles bool `json:"partFiles,omitempty" flag:"part-files" help:"give each part its own URL instead of a byte range of its segment"`
	// Numbered makes the manifest count segments of even length instead of listing their times.
	Numbered  bool   `json:"numbered,omitempty" flag:"dash-numbers" was:"numbered" help:"use segment numbers ($Number$) in the DASH manifest instead of a timeline"`
	SoundName string `json:"soundName,omitempty" flag:"audio-name" was:"sound-name" help:"name of the audio in player menus"` // of the audio, for menus
	Language  string `json:"language,omitempty" flag:"language" help:"language of audio and captions, such as en"`            // RFC 5646
	// Unpackaged makes nothing of the feed: it is only handed on as it came.
	Unpackaged bool `json:"unpackaged,omitempty" flag:"relay-only" was:"unpackaged" help:"do not package the feed, only pass it on to receivers and relays"`
	// CoverEvery puts the cover picture into every Nth segment; 0 is 5.
	CoverEvery int `json:"coverEvery,omitempty" flag:"cover-every" help:"insert the cover picture every N segments"`
}

// Outputs is what a channel offers beside its usual addresses.
type Outputs struct {
	// TS offers segments in MPEG-2 transport streams too, and sound in packed audio.
	TS         bool        `json:"ts,omitempty" flag:"transport-streams" was:"ts" help:"also offer MPEG transport streams and packed audio, for legacy receivers"`
	Selections []Selection `json:"selections,omitempty" flag:"selections" help:"named selections of rungs with their own URLs, such as phones=360p+240p,radio=sound"`
}

// Access is who may use a channel.
type Access struct {
	// Closed ends the playlists for good, until it is taken back.
	Closed bool `json:"closed,omitempty" flag:"end-stream" was:"closed" help:"end the playlists and refuse senders until this is turned off again"`
	// Passphrase encrypts what senders send over SRT; without one it need not be encrypted. It is never shown.
	Passphrase string `json:"passphrase,omitempty" flag:"srt-passphrase" was:"passphrase" help:"passphrase for SRT senders, 10 to 79 characters; empty: none"`
	// Receivers may fetch the sender's transport stream over SRT as it came, with a key.
	Receivers bool `json:"receivers,omitempty" flag:"srt-receivers" was:"receivers" help:"let receivers with a key pull the sender's original transport stream over SRT"`
	// Listed shows the channel in the public list while it is on air.
	Listed bool `json:"listed,omitempty" flag:"listed" help:"show the channel in the public list while it is on air"`
	// SenderNetworks are those from which senders are let in; none is everywhere.
	SenderNetworks string `json:"senderNetworks,omitempty" flag:"sender-networks" help:"networks from which senders are accepted, such as 192.0.2.0/24,2001:db8::/32; empty: all"`
}

// Selection is a choice of rungs with addresses of its own.
type Selection struct {
	Name      string   `json:"name"`            // part of its addresses
	Rungs     []string `json:"rungs,omitempty"` // by name; none with SoundOnly
	SoundOnly bool     `json:"soundOnly,omitempty"`
}

// Defaults of a channel.
const (
	DefaultPartMillis    = 200
	DefaultCoverEvery    = 5
	DefaultSegmentMillis = 2000
	DefaultWindow        = 6
)

var slugForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// WithDefaults fills in what was left out.
func (s Settings) WithDefaults() Settings {
	if s.SegmentMillis == 0 {
		s.SegmentMillis = DefaultSegmentMillis
	}
	if s.Window == 0 {
		s.Window = DefaultWindow
	}
	if s.PartMillis == 0 {
		s.PartMillis = DefaultPartMillis
	}
	if s.CoverEvery == 0 {
		s.CoverEvery = DefaultCoverEvery
	}
	if s.SoundName == "" {
		s.SoundName = "Sound"
	}
	if s.Title == "" {
		s.Title = s.Slug
	}
	if len(s.Inputs) == 0 {
		s.Inputs = []Input{{Kind: InputSender}}
	}
	s.Inputs = tidyInputs(s.Inputs)
	s.Relays = tidyRelays(s.Relays)
	if len(s.Ladder.Rungs) == 0 {
		s.Ladder.Planned = true
	}
	return s
}

// Check lists everything that is wrong with the settings.
func (s Settings) Check() []ladder.Problem {
	var out []ladder.Problem
	if !slugForm.MatchString(s.Slug) {
		out = append(out, ladder.Problem{Field: "slug",
			Text: fmt.Sprintf("found %q, expected lower-case letters, digits and hyphens, 63 at most, such as start-line",
				s.Slug)})
	}
	for _, text := range []struct {
		field, text string
		most        int
	}{{"title", s.Title, 120}, {"packaging.soundName", s.SoundName, 60}} {
		if p := ladder.CheckText(text.field, text.text, text.most); p != nil {
			out = append(out, *p)
		}
	}
	if s.SegmentMillis < 500 || s.SegmentMillis > 10_000 {
		out = append(out, ladder.Problem{Field: "packaging.segmentMillis",
			Text: fmt.Sprintf("found %d, expected 500 to 10000", s.SegmentMillis)})
	}
	if s.Window < 3 || s.Window > 60 {
		out = append(out, ladder.Problem{Field: "packaging.window",
			Text: fmt.Sprintf("found %d segments, expected 3 to 60", s.Window)})
	}
	out = append(out, s.checkInputs()...)
	out = append(out, s.checkAccess()...)
	out = append(out, s.checkRelays()...)
	out = append(out, s.checkKeeping()...)
	for _, f := range []struct {
		name string
		v    int64
	}{{"frozenSeconds", s.FrozenSeconds}, {"blackSeconds", s.BlackSeconds}, {"lossySeconds", s.LossySeconds}, {"silentSeconds", s.SilentSeconds}} {
		if f.v < 0 || f.v > 0 && f.v < 2 || f.v > 3600 {
			out = append(out, ladder.Problem{Field: "switching." + f.name, Text: fmt.Sprintf("found %d, expected 2 to 3600 seconds, or 0 for never", f.v)})
		}
	}
	out = append(out, s.checkPackaging()...)
	return append(out, s.Ladder.Check()...)
}

// Lengths of a passphrase (draft-sharabayko-srt, 6.1.1 and the library's bound).
const (
	minPassphrase = 10
	//limit:bytes of an SRT passphrase | each channel | 422
	maxPassphrase = 79
)

func (s Settings) checkAccess() (out []ladder.Problem) {
	if n := len(s.Passphrase); n > 0 && (n < minPassphrase || n > maxPassphrase) {
		out = append(out, ladder.Problem{Field: "access.passphrase", Text: fmt.Sprintf("found %d characters, expected %d to %d", n, minPassphrase, maxPassphrase)})
	}
	if _, err := parseNetworks(s.SenderNetworks); err != nil {
		out = append(out, ladder.Problem{Field: "access.senderNetworks", Text: err.Error()})
	}
	return out
}

// maxNetworks is how many networks a list may have.
//
//limit:networks of a list | each channel | 422
const maxNetworks = 64

// parseNetworks reads addresses and networks with commas between them.
func parseNetworks(text string) (out []netip.Prefix, err error) {
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one == "" {
			continue
		}
		p, err := netip.ParsePrefix(one)
		if err != nil {
			a, bare := netip.ParseAddr(one)
			if bare != nil {
				return nil, fmt.Errorf("found %q, expected an address or a network such as 192.0.2.0/24", Clip(one))
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		if out = append(out, p.Masked()); len(out) > maxNetworks {
			return nil, fmt.Errorf("found more than %d networks, expected fewer", maxNetworks)
		}
	}
	return out, nil
}

// Admits reports whether senders from an address and port are let in.
func (s *Settings) Admits(remote string) bool {
	list, err := parseNetworks(s.SenderNetworks)
	if err != nil || len(list) == 0 {
		return true
	}
	at, err := netip.ParseAddrPort(remote)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(at.Addr().Unmap()) })
}

// reserved are the names that the channel's own playlists have.
var reserved = map[string]bool{"index": true, "ts": true, "low": true, "time": true, "picture": true}

var languageForm = regexp.MustCompile(`^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$`)

func (s Settings) checkPackaging() (out []ladder.Problem) {
	add := func(field, text string, args ...any) {
		out = append(out, ladder.Problem{Field: field, Text: fmt.Sprintf(text, args...)})
	}
	if s.PartMillis < 100 || s.PartMillis > 1000 || s.PartMillis > s.SegmentMillis {
		add("packaging.partMillis", "found %d, expected 100 to 1000, and no more than a segment", s.PartMillis)
	}
	if most := s.SegmentMillis * int64(s.Window); s.StartOffsetMillis < 0 || s.StartOffsetMillis > most {
		add("packaging.startOffsetMillis", "found %d, expected 0 to %d, the length of the playlist", s.StartOffsetMillis, most)
	}
	if s.CoverEvery < 1 || s.CoverEvery > 1000 {
		add("packaging.coverEvery", "found %d, expected 1 to 1000 segments", s.CoverEvery)
	}
	if s.Language != "" && !languageForm.MatchString(s.Language) {
		add("packaging.language", "found %q, expected a language tag such as en or de-CH", s.Language)
	}
	if len(s.Selections) > 8 {
		add("outputs.selections", "found %d, expected 8 at most", len(s.Selections))
	}
	names := map[string]bool{}
	for i, sel := range s.Selections {
		field := fmt.Sprintf("outputs.selections.%d.", i)
		switch {
		case !slugForm.MatchString(sel.Name):
			add(field+"name", "found %q, expected lower-case letters, digits and hyphens, such as phones", sel.Name)
		case reserved[sel.Name]:
			add(field+"name", "%q is the name of one of the channel's own addresses; choose another", sel.Name)
		case names[sel.Name]:
			add(field+"name", "%q stands twice", sel.Name)
		}
		names[sel.Name] = true
		if sel.SoundOnly == (len(sel.Rungs) > 0) {
			add(field+"rungs", "expected rungs by name, or sound only")
		}
		for _, r := range sel.Rungs {
			if !s.Ladder.Planned && !slices.ContainsFunc(s.Ladder.Rungs, func(l ladder.Rung) bool { return l.Name == r }) {
				add(field+"rungs", "the ladder has no rung %q", r)
			}
		}
	}
	return out
}

func (s Settings) PartTicks() int64 { return media.Rescale(s.PartMillis, 1000, media.VideoTimescale) }

func (s Settings) SegmentTicks() int64 {
	return media.Rescale(s.SegmentMillis, 1000, media.VideoTimescale)
}

// InvalidError carries the problems of settings that were refused. Nothing was changed.
type InvalidError struct{ Problems []ladder.Problem }

func (e *InvalidError) Error() string {
	s := "the settings were not applied"
	for _, p := range e.Problems {
		s += "; " + p.String()
	}
	return s
}

// Clip is the beginning of what somebody wrote, for a message about it.
func Clip(s string) string { return s[:min(len(s), 80)] }
