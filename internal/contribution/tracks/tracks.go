// Package tracks is the way from the bodies of FLV tags, as RTMP and files carry them, to tracks and
// access units.
package tracks

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"metaplasis/internal/core/amf"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/flv"
	"metaplasis/internal/core/media"
)

// Set holds the tracks of one sender.
type Set struct {
	sink    media.Sink
	streams map[media.TrackID]*stream
	about   map[media.TrackID]about
}

// New begins with no track.
func New(sink media.Sink) *Set {
	return &Set{sink: sink, streams: map[media.TrackID]*stream{}, about: map[media.TrackID]about{}}
}

// stream is one track of a sender.
type stream struct {
	*coding.Stream
	codec     media.Codec
	announced bool
	nanos     bool // its stamps come with nanoseconds
}

// maxTracks bounds the tracks of one sender.
//
//limit:tracks | each sender | further ones are left out and told
const maxTracks = 32

// about is what a sender says of a track for people.
type about struct {
	language, name string
	role           media.Role
	colour         media.Colour
	light          *media.Light
}

// Bounds of what is said.
const (
	//limit:bytes of a language tag | each track | the tag is left out
	maxLanguage = 35 // RFC 5646, 4.4.1
	//limit:bytes of a track's name | each track | the name is left out
	maxName = 60
)

var roles = []media.Role{media.RoleMain, media.RoleAlternate, media.RoleCommentary, media.RoleDescription}

// describe reads what the metadata says of tracks by their numbers (Enhanced RTMP, version 2, "Enhancing
// onMetaData").
func (all *Set) describe(kind media.Kind, m amf.Object, field string) {
	for _, p := range m.Object(field) {
		n, err := strconv.ParseUint(p.Name, 10, 8)
		info, ok := p.Value.(amf.Object)
		if err != nil || !ok {
			continue
		}
		a := about{language: info.String("language"), name: info.String("name"), role: media.Role(info.String("role"))}
		if len(a.language) > maxLanguage || strings.ContainsFunc(a.language,
			func(r rune) bool { return r != '-' && !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			a.language = ""
		}
		if len(a.name) > maxName || strings.ContainsFunc(a.name, unicode.IsControl) {
			a.name = ""
		}
		if !slices.Contains(roles, a.role) {
			a.role = ""
		}
		before := all.about[trackID(kind, uint8(n))]
		a.colour, a.light = before.colour, before.light
		all.about[trackID(kind, uint8(n))] = a
	}
}

// Metadata reads what a sender says of its stream.
func (all *Set) Metadata(m amf.Object) {
	all.describe(media.Video, m, "videoTrackIdInfoMap")
	all.describe(media.Audio, m, "audioTrackIdInfoMap")
	for _, name := range []string{"framerate", "videoframerate"} {
		if rate, ok := m.Number(name); ok && rate > 0 && rate < 1000 {
			all.sink.FrameRate(int64(rate*1000 + 0.5))
			return
		}
	}
}

// trackID numbers the tracks of a sender: its kinds number theirs apart.
func trackID(kind media.Kind, number uint8) media.TrackID {
	return media.TrackID(kind)<<8 | media.TrackID(number)
}

// Body takes what a message carries of one track.
func (all *Set) Body(kind media.Kind, stamp uint32, b *flv.Body) error {
	id := trackID(kind, b.Track)
	s := all.streams[id]
	codec := coding.Find(b.Codec)
	if b.Config || (s == nil || s.codec != b.Codec) && codec.SelfDescribing && len(b.Data) > 0 {
		config := b.Data
		if !b.Config {
			config = b.Bare
		}
		opened, err := coding.Open(codec, config)
		if err != nil {
			return err
		}
		if s == nil && len(all.streams) >= maxTracks {
			return &media.UnsupportedError{Format: "feed", What: fmt.Sprintf("more than %d tracks", maxTracks),
				Do: "send fewer tracks"}
		}
		s = &stream{Stream: opened, codec: b.Codec, nanos: s != nil && s.nanos}
		all.streams[id] = s
		all.announce(id, s)
	}
	if b.Colour != nil || b.Light != nil {
		all.shade(id, b)
	}
	if b.Config || len(b.Data) == 0 || s == nil || s.codec != b.Codec {
		return nil
	}
	u, err := s.Unit(b.Data)
	if err != nil {
		return err
	}
	if b.Nanos > 0 && !s.nanos {
		s.nanos, s.announced = true, false // from here on by the finer clock
	}
	if all.announce(id, s); s.announced {
		at, composition := int64(stamp), int64(b.Composition)
		if s.nanos {
			at, composition = at*nanosEachMilli+int64(b.Nanos), composition*nanosEachMilli
		}
		all.sink.Unit(id, at, composition, u.Key, u.Data)
	}
	return nil
}

const nanosEachMilli = 1_000_000

// shade takes what a sender says of its pictures' colours, beside what their own bits say.
func (all *Set) shade(id media.TrackID, b *flv.Body) {
	a := all.about[id]
	if b.Colour != nil {
		a.colour = *b.Colour
	}
	if b.Light != nil {
		a.light = b.Light
	}
	all.about[id] = a
	if s := all.streams[id]; s != nil && s.announced {
		s.announced = false
		all.announce(id, s)
	}
}

// announce tells of a track once all of it is known.
func (all *Set) announce(id media.TrackID, s *stream) {
	if s.announced {
		return
	}
	if t, known := s.Track(); known {
		t.ID = id
		about := all.about[id]
		t.Language, t.Name, t.Role, t.Light = about.language, about.name, about.role, about.light
		if t.Colour == (media.Colour{}) {
			t.Colour = about.colour
		}
		if s.nanos {
			t.Clock = media.Nanoseconds
		}
		s.announced = true
		all.sink.Track(t)
	}
}
