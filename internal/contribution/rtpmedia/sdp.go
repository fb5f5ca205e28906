package rtpmedia

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"github.com/pion/sdp/v3"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rawvideo"
	"metaplasis/internal/core/rtpmap"
)

// Media is a stream as a session description has it (RFC 8866).
type Media struct {
	Codec       *coding.Codec
	Format      rtpmap.Format
	PayloadType int // -1 for any
	Config      []byte
	Language    string
	Control     string // address for RTSP (RFC 2326, C.1.1)
	// Direct: stamps are those of the clock that the sender's streams have in common, plus Offset (RFC 7273, 5.2).
	Direct bool
	Offset uint32
}

// attributes reads what says more of a stream than its format.
func (m *Media) attributes(list []sdp.Attribute) {
	for _, a := range list {
		switch a.Key {
		case "control":
			m.Control = a.Value
		case "lang":
			m.Language = a.Value
		case "mediaclk":
			if value, ok := strings.CutPrefix(a.Value, "direct="); ok {
				value, _, _ = strings.Cut(value, " ")
				n, err := strconv.ParseUint(value, 10, 32)
				m.Direct, m.Offset = err == nil, uint32(n)
			}
		}
	}
}

// Bitrate is that of a stream without compression, bits per second; 0 of others, which do not say.
func (m *Media) Bitrate() int64 {
	switch m.Format.Name {
	case "L16", "L24":
		return m.Format.Clock * int64(max(m.Format.Channels, 1)*bitsOf(m.Format.Name))
	case "RAW":
		f, _ := rawvideo.Parse(m.Format.Parameters)
		return f.Bitrate()
	}
	return 0
}

// static are the payload types that need no description (RFC 3551, 6).
var static = map[int]rtpmap.Format{
	0: {Name: "PCMU", Clock: 8000, Channels: 1}, 8: {Name: "PCMA", Clock: 8000, Channels: 1}, 10: {Name: "L16", Clock: 44100, Channels: 2},
	11: {Name: "L16", Clock: 44100, Channels: 1}, 14: {Name: "MPA", Clock: 90000}, 26: {Name: "JPEG", Clock: 90000}, 32: {Name: "MPV", Clock: 90000},
}

// Describe reads one stream of a description: of its payload types the first that is received here. An error says which
// there are.
func Describe(d *sdp.MediaDescription) (*Media, error) {
	var found []string
	var wrong error
	for _, text := range d.MediaName.Formats {
		n, err := strconv.Atoi(text)
		if err != nil {
			continue
		}
		f, known := static[n]
		parameters := map[string]string{}
		for _, a := range d.Attributes {
			of, value, _ := strings.Cut(a.Value, " ")
			if of != text {
				continue
			}
			switch a.Key {
			case "rtpmap":
				f, known = readMap(value), true
			case "fmtp":
				parameters = readParameters(value)
			}
		}
		if !known || f.Clock <= 0 {
			continue
		}
		f.Parameters = parameters
		m := &Media{Format: f, PayloadType: n}
		if err := m.describe(); err != nil {
			wrong = err
			found = append(found, f.Name)
			continue
		}
		m.attributes(d.Attributes)
		return m, nil
	}
	if len(found) == 1 && wrong != nil {
		return nil, wrong
	}
	if len(found) == 0 {
		found = d.MediaName.Formats
	}
	return nil, &media.UnsupportedError{Format: "RTP", What: fmt.Sprintf("%s of %s", d.MediaName.Media, strings.Join(found, ", ")),
		Do: "set the sender to H.264 with AAC or Opus"}
}

// readMap reads NAME/CLOCK[/CHANNELS].
func readMap(text string) (f rtpmap.Format) {
	parts := strings.Split(strings.TrimSpace(text), "/")
	f.Name = strings.ToUpper(parts[0])
	if len(parts) > 1 {
		f.Clock, _ = strconv.ParseInt(parts[1], 10, 32)
	}
	f.Channels = 1
	if len(parts) > 2 {
		f.Channels, _ = strconv.Atoi(parts[2])
	}
	return f
}

// readParameters reads name=value;name=value.
func readParameters(text string) map[string]string {
	out := map[string]string{}
	for one := range strings.SplitSeq(text, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
		if name != "" {
			out[strings.ToLower(name)] = value
		}
	}
	return out
}

// describe finds the codec and its configuration. The error says why it is not received here.
func (m *Media) describe() error {
	name := m.Format.Name
	if name == "MP4A-LATM" {
		name = "MPEG4-GENERIC"
	}
	if name == "L24" {
		name = "L16"
	}
	if _, err := rtpmap.New(&m.Format); err != nil {
		return err
	}
	if m.Codec = coding.ByRTP(name); m.Codec == nil || !m.Codec.HasElementary() {
		return &media.UnsupportedError{Format: "RTP", What: fmt.Sprintf("the encoding %.30q", m.Format.Name), Do: "set the sender to H.264 with AAC or Opus"}
	}
	m.Config = coding.RTPConfig(m.Codec, coding.RTPFormat{
		Rate: int(m.Format.Clock), Channels: m.Format.Channels, Bits: bitsOf(m.Format.Name), Config: hexOf(m.Format.Parameters["config"]),
		Sets: setsOf(m.Format.Parameters), Loas: m.Format.Name == "MP4A-LATM", Parameters: m.Format.Parameters,
	})
	return nil
}

func bitsOf(name string) int {
	if name == "L24" {
		return 24
	}
	return 16
}

func hexOf(text string) []byte {
	b, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil {
		return nil
	}
	return b
}

// setsOf reads parameter sets (RFC 6184, 8.1; RFC 7798, 7.1).
func setsOf(p map[string]string) (out [][]byte) {
	for _, name := range []string{"sprop-parameter-sets", "sprop-vps", "sprop-sps", "sprop-pps"} {
		for one := range strings.SplitSeq(p[name], ",") {
			b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(one))
			if err == nil && len(b) > 0 {
				out = append(out, b)
			}
		}
	}
	return out
}
