package file

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// cmafFile is a recording of CMAF track files (ISO/IEC 23000-19, 7.3.3.1): NAME.mp4, and beside it
// NAME.LANGUAGE.mp4 with other tracks of the same presentation.
type cmafFile struct {
	tracks []media.Track
	units  []cmafUnit // by the time when they are decoded
	turn   int64      // ticks of media.VideoTimescale
	feed   Feed
}

type cmafUnit struct {
	track int
	at    int64 // decode time from the begin of the recording, ticks of the track
	due   int64 // the same in ticks of media.VideoTimescale
	media.AccessUnit
}

// maxFiles is how many track files a recording may have.
//
//limit:track files of a recording | each file input | the input is refused
const maxFiles = 8

var languageForm = regexp.MustCompile(`^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$`)

func loadCMAF(path string, first []byte) (*cmafFile, error) {
	c := &cmafFile{}
	if err := c.add(first, ""); err != nil {
		return nil, err
	}
	stem := strings.TrimSuffix(path, ".mp4")
	more, err := filepath.Glob(stem + ".*.mp4") // the name has no characters that Glob would read otherwise
	if err != nil {
		return nil, err
	}
	slices.Sort(more)
	total := len(first)
	for _, name := range more[:min(len(more), maxFiles-1)] {
		b, err := read(name)
		if err != nil {
			return nil, err
		}
		if total += len(b); total > maxBytes {
			return nil, fmt.Errorf("found more than %d MB in its files, expected a shorter recording", maxBytes>>20)
		}
		language := strings.TrimSuffix(strings.TrimPrefix(name, stem+"."), ".mp4")
		if !languageForm.MatchString(language) {
			language = ""
		}
		if err := c.add(b, language); err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Base(name), err)
		}
	}
	if c.turn <= 0 {
		return nil, errors.New("found no media, expected video or sound")
	}
	begin := c.units[0].due
	for i := range c.units {
		begin = min(begin, c.units[i].due)
	}
	for i := range c.units {
		u := &c.units[i]
		u.due -= begin
		u.at -= media.Rescale(begin, media.VideoTimescale, c.tracks[u.track].Clock.Scale)
	}
	c.turn -= begin
	slices.SortStableFunc(c.units, func(a, b cmafUnit) int { return cmp.Compare(a.due, b.due) })
	return c, nil
}

// add reads one track file.
func (c *cmafFile) add(b []byte, language string) error {
	h, err := bmff.ReadHeader(b)
	if err != nil {
		return err
	}
	codec := coding.ByEntry(h.SampleEntry, h.ObjectType)
	switch {
	case h.Tracks != 1:
		return fmt.Errorf("found %d tracks, expected one in each file", h.Tracks)
	case h.Protected:
		return errors.New("found encrypted media, expected it in the clear")
	case codec == nil || codec.Bare():
		return fmt.Errorf("found the sample entry %q, expected that of a codec that passes through here", h.SampleEntry)
	}
	fragments, err := h.ReadFragments(b)
	if err != nil {
		return err
	}
	config := h.Config
	if codec.SelfDescribing {
		config = nil
	}
	stream, err := coding.Open(codec, config)
	if err != nil {
		return err
	}
	number := len(c.tracks)
	for i := range fragments {
		for _, u := range fragments[i].Units {
			unit, err := stream.Unit(u.Data)
			if err != nil {
				return err
			}
			due := media.Rescale(u.DTS, h.Timescale, media.VideoTimescale)
			c.turn = max(c.turn, media.Rescale(u.DTS+u.Duration, h.Timescale, media.VideoTimescale))
			u.Data, u.Key = unit.Data, unit.Key
			c.units = append(c.units, cmafUnit{track: number, at: u.DTS, due: due, AccessUnit: u})
		}
	}
	t, known := stream.Track()
	if !known || len(c.units) == 0 {
		return errors.New("found no media that tells what it is, expected a keyframe or a frame of sound")
	}
	t.ID = media.TrackID(number + 1)
	t.Language = language
	t.Clock = media.Clock{Scale: h.Timescale}
	if t.Kind == media.Audio && language != "" {
		t.Role = media.RoleAlternate
	}
	c.tracks = append(c.tracks, t)
	return nil
}

func (c *cmafFile) start(feed Feed) {
	c.feed = feed
	for _, t := range c.tracks {
		feed.Track(t)
	}
}

func (c *cmafFile) count() int { return len(c.units) }

func (c *cmafFile) length() time.Duration { return ticks(c.turn) }

func (c *cmafFile) due(i int) time.Duration { return ticks(c.units[i].due) }

func (c *cmafFile) send(i int, turn int64) error {
	u := &c.units[i]
	t := &c.tracks[u.track]
	begin := media.Rescale(turn*c.turn, media.VideoTimescale, t.Clock.Scale)
	c.feed.Unit(t.ID, begin+u.at, u.PTS-u.DTS, u.Key, u.Data)
	return nil
}

func ticks(t int64) time.Duration { return media.Duration(t, media.VideoTimescale) }
