// Package layout decides what is made of a source: which renditions a ladder comes to, which of them pass through, what the
// worker has to encode for the others, and which rungs are refused and why. The source, the ladder and what failed so far come
// in; a Layout comes out. It is pure. The run calls it when it begins and whenever the ladder or the source changes.
package layout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/settings"
)

// Source is what a run has to work with.
type Source struct {
	Settings  settings.Settings
	Rungs     []ladder.Rung // of the ladder, as the governor leaves it
	Video     *media.Track  // the main picture, nil for none
	Layers    []*Layer      // smaller pictures that the sender makes itself
	Sounds    []*Sound      // the first is the main one, which the ladder encodes
	Varies    bool          // the frame rate varies
	Longest   int64         // the longest that a picture lasted, ticks of media.VideoTimescale
	Suspended bool          // the rung that passes through waits for IDR pictures
	Failed    map[string]Failure
	Pair      Pair                            // what real-time viewers need beside the ladder
	Images    func(name string) (Image, bool) // that may be drawn upon pictures
	IDs       TrackIDs
}

// Layer is a smaller picture of the sender that may become a ready-made rung.
type Layer struct {
	Track *media.Track
	Unfit bool // its rung is encoded here instead
}

// Sound is one of a source's audio tracks.
type Sound struct {
	Track *media.Track
	Name  string // of the rendition that passes it through
}

// Failure is why a rung is not made.
type Failure struct {
	Rung ladder.Rung // as it was then: another one is tried again
	Text string
}

// Pair says what is encoded for viewers in real time whom no rung suits.
type Pair struct {
	Video, Sound bool
	Broken       bool // it cannot be made in this run
}

// Image is a picture file for logos and slates.
type Image struct {
	Digest string // of the file
	File   []byte // PNG
}

// FirstRendition is the first track of a channel that is a rendition: tracks of feeds have lower ids.
const FirstRendition media.TrackID = 1 << 20

// TrackIDs are the tracks in the channel's hub of what the worker makes, by rendition. They stay the same.
type TrackIDs map[string]media.TrackID

// Of returns the track of a rendition, which is new when it has none yet.
func (t TrackIDs) Of(name string) media.TrackID {
	id, known := t[name]
	if !known {
		id = FirstRendition + media.TrackID(len(t))
		t[name] = id
	}
	return id
}

// Name returns the rendition of a track, "" when there is none.
func (t TrackIDs) Name(id media.TrackID) string {
	for name, of := range t {
		if of == id {
			return name
		}
	}
	return ""
}

// NameSounds gives each audio track the rendition that passes it through: the main one is called as the ladder calls it,
// others by their language or their number.
func NameSounds(tracks []*media.Track) (out []*Sound) {
	taken := map[string]bool{}
	for i, t := range tracks {
		name := ladder.SourceAudio
		if i > 0 {
			base := name + "-" + cmp.Or(letters(t.Language), "track")
			name = base
			for n := i + 1; taken[name] || name == base && t.Language == ""; n++ {
				name = fmt.Sprintf("%s-%d", base, n)
			}
		}
		taken[name] = true
		out = append(out, &Sound{Track: t, Name: name})
	}
	return out
}

// letters keeps what may stand in an address.
func letters(language string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return -1
	}, language)
}

// Main returns the main audio track, nil when there is none.
func (s *Source) Main() *media.Track {
	if len(s.Sounds) == 0 {
		return nil
	}
	return s.Sounds[0].Track
}

// soundOf is the audio track of a rung, nil when there is none.
func (s *Source) soundOf(r *ladder.Rung) *Sound {
	if i := max(r.AudioTrack-1, 0); i < len(s.Sounds) {
		return s.Sounds[i]
	}
	return nil
}

// SoundName is the audio rendition of a rung, "" for none: what cannot be decoded passes through.
func (s *Source) SoundName(r *ladder.Rung) string {
	a := s.soundOf(r)
	switch {
	case a == nil:
		return ""
	case a.Track.Undecodable != "" || r.AudioBitrate == 0:
		return a.Name
	}
	return r.AudioName()
}

// SourceTrack returns the track that a rendition passes through.
func (s *Source) SourceTrack(rendition string) *media.Track {
	for _, a := range s.Sounds {
		if a.Name == rendition {
			return a.Track
		}
	}
	return s.Video
}

// LayerTracks are the tracks of all layers, unfit ones too: the rungs stay as they are then.
func (s *Source) LayerTracks() (out []*media.Track) {
	for _, l := range s.Layers {
		out = append(out, l.Track)
	}
	return out
}

// LayerTrack is the track of a layer as viewers are told of it.
func (s *Source) LayerTrack(l *Layer) media.Track {
	t := *l.Track
	if !t.FrameRate.Valid() {
		t.FrameRate = s.Video.FrameRate
	}
	return t
}

// layerFor returns the layer that a rung takes its pictures from, nil when it is to be encoded.
func (s *Source) layerFor(r *ladder.Rung) *Layer {
	if !r.Ready || s.Suspended {
		return nil
	}
	for _, l := range s.Layers {
		if !l.Unfit && r.Makes(l.Track) {
			return l
		}
	}
	return nil
}

// Refused says why a rung of the ladder cannot be made of this source, "" when it can.
func (s *Source) Refused(r ladder.Rung) string {
	switch f, failed := s.Failed[r.Name]; {
	case r.Source && s.Suspended:
		return "it waits for the sender's IDR pictures"
	case !r.Source && !r.SoundOnly() && s.Video != nil && s.Video.Undecodable != "":
		return fmt.Sprintf("the source cannot be re-encoded, since no decoder here reads %s; it can only pass through",
			s.Video.Undecodable)
	case failed && f.Rung.Equal(r):
		return f.Text
	case r.SoundOnly() && s.soundOf(&r) == nil:
		return "the source has no such audio track"
	case !r.Source && !r.SoundOnly() && s.Video != nil:
		w, h := r.Size(s.Video)
		cadence := s.cadence(&r)
		return r.LevelProblem(w, h, cadence.Of(s.encodedRate()))
	}
	return ""
}

// Made lists the rungs that are on and can be made.
func (s *Source) Made() (out []ladder.Rung) {
	for _, r := range s.Rungs {
		if r.On && s.Refused(r) == "" {
			out = append(out, r)
		}
	}
	return out
}

// NotMade is a reason and the rungs that are not made for it.
type NotMade struct {
	Why   string
	Rungs []string
}

// NotMade lists the rungs of the ladder that are on and not made, each reason once. A rung that passes through and is suspended
// is not among them.
func (s *Source) NotMade() (out []NotMade) {
	for _, r := range s.Rungs {
		why := s.Refused(r)
		if why == "" || !r.On || r.Source && s.Suspended {
			continue
		}
		i := slices.IndexFunc(out, func(n NotMade) bool { return n.Why == why })
		if i < 0 {
			i, out = len(out), append(out, NotMade{Why: why})
		}
		out[i].Rungs = append(out[i].Rungs, r.Name)
	}
	return out
}

// PassesThrough reports whether a rung that passes the source through is on.
func PassesThrough(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return r.Source && r.On })
}

// SourceLeads reports whether segments begin with keyframes of the source, since it passes through or has ready-made rungs.
func SourceLeads(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return r.On && (r.Source || r.Ready) })
}

// Encodes reports whether a rung is on whose pictures are encoded here.
func Encodes(rungs []ladder.Rung) bool {
	return slices.ContainsFunc(rungs, func(r ladder.Rung) bool { return !r.Source && !r.SoundOnly() && r.On })
}

// Offering is what a run makes of the ladder: what viewers may be offered once it has segments.
type Offering struct {
	Rungs      []OfferedRung
	Alternates []string // audio renditions beside the main one
}

// OfferedRung is a rung of an Offering.
type OfferedRung struct {
	ladder.Rung
	Video bool
	Sound string // the audio rendition that goes with it, "" for none
}

// Offering says what viewers may be offered of the rungs.
func (s *Source) Offering() (o Offering) {
	for _, r := range s.Made() {
		o.Rungs = append(o.Rungs, OfferedRung{Rung: r, Video: s.Video != nil && !r.SoundOnly(), Sound: s.SoundName(&r)})
	}
	for i, a := range s.Sounds {
		if i > 0 {
			o.Alternates = append(o.Alternates, a.Name)
		}
	}
	return o
}

// Layout is what a ladder makes of a source: the renditions in their order, which of them pass through, and what the worker has
// to do for the others.
type Layout struct {
	Names     []string
	From      map[string]Origins
	Languages map[string]string // of encoded audio, by rendition, where the ladder says it
	Config    transcode.Config
	Mode      segment.Mode
}

// Origins is where the units of a rendition come from.
type Origins struct {
	Direct bool   // from the source
	Layer  *Layer // which one of its pictures, nil for the main one
}

// add takes a rendition in. It reports whether it is new.
func (l *Layout) add(name string, from Origins) bool {
	if _, known := l.From[name]; known {
		return false
	}
	l.Names, l.From[name] = append(l.Names, name), from
	return true
}

// Of lays out the rungs that can be made, from a segment on.
func Of(s *Source, at uint64) *Layout {
	l := &Layout{From: map[string]Origins{}, Languages: map[string]string{}, Mode: segment.Grid,
		Config: transcode.Config{At: at, Video: decodable(s.Video), Audio: decodable(s.Main()),
			Interlaced: s.Settings.Ladder.Interlaced, Nice: s.Settings.Ladder.Nice()}}
	for i, a := range s.Sounds {
		if t := decodable(a.Track); i > 0 && t != nil {
			l.Config.Others = append(l.Config.Others, t)
		}
	}
	if s.Video != nil {
		l.Config.Part = s.Parts(s.Video).Video.Step
	}
	for _, r := range s.Rungs {
		if !r.On {
			continue
		}
		r = r.WithDefaults()
		if s.Refused(r) != "" {
			continue
		}
		switch layer := s.layerFor(&r); {
		case s.Video == nil, r.SoundOnly():
		case r.Source:
			l.Mode = segment.Lead
			l.add(r.Name, Origins{Direct: true})
		case layer != nil:
			l.Mode = segment.Lead
			l.add(r.Name, Origins{true, layer})
		default:
			l.Config.Rungs = append(l.Config.Rungs, s.encodedRung(&r, &l.Config))
			l.add(r.Name, Origins{})
		}
		l.addSounds(s, &r)
	}
	l.addPair(s)
	return l
}

// addSounds takes the audio renditions of a rung in.
func (l *Layout) addSounds(s *Source, r *ladder.Rung) {
	for i, a := range s.Sounds {
		if i > 0 {
			l.add(a.Name, Origins{Direct: true})
			continue
		}
		name, own := s.SoundName(r), s.soundOf(r)
		if name == "" {
			continue
		}
		passes := name == own.Name
		if !l.add(name, Origins{Direct: passes}) || passes {
			continue
		}
		track := own.Track.ID
		if own == s.Sounds[0] {
			track = 0
		}
		l.Languages[name] = r.AudioLanguage
		l.Config.Sound = append(l.Config.Sound, transcode.AudioRung{ID: s.IDs.Of(name), Name: name, Track: track,
			Codec: cmp.Or(r.AudioCodec, coding.Usual(media.Audio)), Bitrate: r.AudioBitrate, Channels: r.AudioChannels,
			Rate: r.AudioRate, Loudness: r.Loudness})
	}
}

// decodable returns a track that a decoder here reads, else nil: there is nothing to do for the worker.
func decodable(t *media.Track) *media.Track {
	if t == nil || t.Undecodable != "" {
		return nil
	}
	return t
}

// encodedRung is what the worker makes for a rung of pictures; its logo goes into the configuration.
func (s *Source) encodedRung(r *ladder.Rung, conf *transcode.Config) transcode.Rung {
	out := s.Encoded(r)
	out.ID = s.IDs.Of(r.Name)
	if img, ok := s.image(r.Picture.Logo.Image); ok {
		out.Logo = img.Digest
		if conf.Images == nil {
			conf.Images = map[string][]byte{}
		}
		conf.Images[img.Digest] = img.File
	}
	return out
}

func (s *Source) image(name string) (Image, bool) {
	if s.Images == nil {
		return Image{}, false
	}
	return s.Images(name)
}

// Encoded is how a rung's pictures are encoded.
func (s *Source) Encoded(r *ladder.Rung) transcode.Rung {
	w, h := r.Size(s.Video)
	limits := r.Limits(s.Settings.SegmentMillis)
	return transcode.Rung{
		Name: r.Name, Codec: cmp.Or(r.Codec, coding.Usual(media.Video)),
		Width: w, Height: h, SAR: r.SAR(s.Video),
		Bitrate: limits.Bitrate, Peak: limits.Rate, Buffer: limits.Buffer, Effort: r.Effort, Colour: transcode.Flattened(s.Video.Colour),
		Quality: r.Quality, Profile: r.Profile, Level: r.Level, BFrames: r.BFrames, Content: r.Content,
		Cadence: s.cadence(r), Picture: r.Picture, Inner: r.Inner(s.Video),
	}
}

// encodedRate is the rate of the pictures that can be encoded: a picture of each field, where the source is interlaced.
func (s *Source) encodedRate() media.Rational {
	rate := s.Video.FrameRate
	if s.Video.Interlaced && transcode.Fields(s.Settings.Ladder.Interlaced) {
		rate.Num *= 2
	}
	return rate
}

// cadence is how a rung's pictures are taken from the source's.
func (s *Source) cadence(r *ladder.Rung) (c transcode.Cadence) {
	rate, err := ladder.ParseRate(r.FrameRate)
	if err != nil || r.Source || !rate.Other(s.encodedRate()) {
		return c
	}
	if rate.Half {
		return transcode.Cadence{Every: 2}
	}
	return transcode.Cadence{Rate: rate.Number}
}
