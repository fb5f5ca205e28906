// Package rtpmedia turns access units into packets of RTP, and describes their streams.
package rtpmedia

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/pion/rtcp"
	"github.com/pion/rtp"
	"github.com/pion/rtp/codecs"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// Stream is one track as RTP carries it.
type Stream struct {
	Track       media.Track
	Name        string // encoding name
	Clock       int64
	PayloadType uint8
	SSRC        uint32

	payloader rtp.Payloader
	write     func(dst, unit []byte, key bool) []byte
	sequence  uint16
	offset    uint32
	begun     time.Time // wall clock at time 0
	newest    uint32
	packets   uint32
	octets    uint32
	reported  time.Time
	reports   int
}

// mtu is how many bytes a packet has, at most.
const mtu = 1200

// reportEach is how often a sender tells of its clock; the first reports follow faster, since who receives waits for them.
const (
	reportEach   = time.Second
	reportFirst  = 200 * time.Millisecond
	firstReports = 4
)

// New makes the stream of a track, of a payload type; begun is the wall clock at its time 0.
func New(t media.Track, payloadType uint8, begun time.Time) (*Stream, error) {
	c := coding.Find(t.Codec)
	s := &Stream{Track: t, PayloadType: payloadType, SSRC: rand.Uint32(), sequence: uint16(rand.Uint32()), offset: rand.Uint32(), begun: begun, Clock: media.VideoTimescale}
	if c == nil || c.RTP == "" {
		return nil, &media.UnsupportedError{Format: "RTP", What: coding.Label(t.Codec), Do: "send it over another protocol"}
	}
	s.Name = c.RTP
	if l, ok := coding.ForLine(&t); ok && t.Kind == media.Video {
		s.write = l.Write
	}
	switch c.RTP {
	case "H264":
		s.payloader = &codecs.H264Payloader{}
	case "H265":
		s.payloader = &codecs.H265Payloader{}
	case "VP8":
		s.payloader, s.write = &codecs.VP8Payloader{EnablePictureID: true}, nil
	case "VP9":
		s.payloader, s.write = &codecs.VP9Payloader{}, nil
	case "AV1":
		s.payloader, s.write = &codecs.AV1Payloader{}, nil
	case "OPUS":
		s.payloader, s.Clock = &codecs.OpusPayloader{}, 48000
	case "JPEG":
		s.payloader = jpegPayloader{}
	case "PCMU", "PCMA":
		s.payloader, s.Clock = &codecs.G711Payloader{}, int64(t.SampleRate)
	case "MPEG4-GENERIC":
		s.payloader, s.Clock = generic{}, t.Timescale
	default:
		return nil, &media.UnsupportedError{Format: "RTP", What: coding.Label(t.Codec) + " of ours", Do: "send it over another protocol"}
	}
	return s, nil
}

// generic writes frames of AAC (RFC 3640, mode AAC-hbr), one in a packet.
type generic struct{}

// Payload implements rtp.Payloader.
func (generic) Payload(_ uint16, frame []byte) [][]byte {
	if len(frame) >= 1<<13 {
		return nil
	}
	return [][]byte{append([]byte{0, 16, byte(len(frame) >> 5), byte(len(frame) << 3)}, frame...)}
}

// Payloads returns those of the packets of an access unit, for who writes the headers.
func (s *Stream) Payloads(key bool, data []byte) [][]byte {
	if s.write != nil {
		data = s.write(nil, data, key)
	}
	return s.payloader.Payload(mtu-12, data)
}

// Packets returns those of an access unit that is shown at a time in ticks of media.VideoTimescale.
func (s *Stream) Packets(pts int64, key bool, data []byte) []*rtp.Packet {
	s.newest = s.stamp(pts)
	parts := s.Payloads(key, data)
	out := make([]*rtp.Packet, len(parts))
	for i, part := range parts {
		s.sequence++
		last := i == len(parts)-1
		out[i] = &rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: s.PayloadType, SequenceNumber: s.sequence, Timestamp: s.newest, SSRC: s.SSRC,
			Marker: last && (s.Track.Kind == media.Video || s.Name == "MPEG4-GENERIC")}, Payload: part}
		s.packets++
		s.octets += uint32(len(part))
	}
	return out
}

// Next is the sequence number of the next packet.
func (s *Stream) Next() uint16 { return s.sequence + 1 }

// Stamp is the timestamp of a time in ticks of media.VideoTimescale.
func (s *Stream) Stamp(pts int64) uint32 { return s.stamp(pts) }

func (s *Stream) stamp(pts int64) uint32 {
	return s.offset + uint32(media.Rescale(pts, media.VideoTimescale, s.Clock))
}

// Report returns what the sender says of its clock (RFC 3550, 6.4.1), nil while that is not due. pts is a time of the
// stream.
func (s *Stream) Report(pts int64, now time.Time) []byte {
	each := reportEach
	if s.reports < firstReports {
		each = reportFirst
	}
	if now.Sub(s.reported) < each {
		return nil
	}
	s.reported = now
	s.reports++
	at := s.begun.Add(media.Duration(pts, media.VideoTimescale))
	const since1900 = 2208988800
	ntp := uint64(at.Unix()+since1900)<<32 | uint64(at.Nanosecond())<<32/1_000_000_000
	r := &rtcp.SenderReport{SSRC: s.SSRC, NTPTime: ntp, RTPTime: s.stamp(pts), PacketCount: s.packets, OctetCount: s.octets}
	b, err := r.Marshal()
	if err != nil {
		return nil
	}
	return b
}

// Description is the stream's part of a session description (RFC 8866).
func (s *Stream) Description(control string) string {
	kind := "audio"
	if s.Track.Kind == media.Video {
		kind = "video"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "m=%s 0 RTP/AVP %d\r\na=rtpmap:%d %s/%d", kind, s.PayloadType, s.PayloadType, s.Name, s.Clock)
	if s.Track.Kind == media.Audio {
		channels := s.Track.Channels
		if s.Name == "OPUS" {
			channels = 2 // RFC 7587, 7
		}
		fmt.Fprintf(&b, "/%d", channels)
	}
	b.WriteString("\r\n")
	if p := s.Parameters(); p != "" {
		fmt.Fprintf(&b, "a=fmtp:%d %s\r\n", s.PayloadType, p)
	}
	if control != "" {
		fmt.Fprintf(&b, "a=control:%s\r\n", control)
	}
	return b.String()
}

// Parameters are those of the format.
func (s *Stream) Parameters() string {
	sets := func(list [][]byte) string {
		var out []string
		for _, n := range list {
			out = append(out, base64.StdEncoding.EncodeToString(n))
		}
		return strings.Join(out, ",")
	}
	switch s.Name {
	case "H264":
		if list := coding.ParameterSets(&s.Track); len(list) > 0 && len(list[0]) > 3 {
			return fmt.Sprintf("packetization-mode=1;profile-level-id=%s;sprop-parameter-sets=%s", hex.EncodeToString(list[0][1:4]), sets(list))
		}
	case "H265":
		if list := coding.ParameterSets(&s.Track); len(list) >= 3 {
			return fmt.Sprintf("sprop-vps=%s;sprop-sps=%s;sprop-pps=%s", sets(list[:1]), sets(list[1:2]), sets(list[2:]))
		}
	case "MPEG4-GENERIC":
		return "streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength=13;indexlength=3;indexdeltalength=3;config=" + hex.EncodeToString(s.Track.Config)
	case "OPUS":
		return "sprop-stereo=1"
	}
	return ""
}
