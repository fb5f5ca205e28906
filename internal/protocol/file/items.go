package file

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/item"
	"metaplasis/internal/core/media"
)

// playlist is a recording of items of the library, one after the other, which are read as they are played.
type playlist struct {
	items  []*played
	units  []playedUnit
	turn   int64 // ticks of media.VideoTimescale
	feed   Feed
	showed *played // whose tracks were announced
}

// played is an item of a playlist: one track of pictures, one of sound, or one of both.
type played struct {
	name   string
	tracks [2]*item.Track // pictures, sound
	begin  int64          // in the turn, ticks of media.VideoTimescale
	ahead  [2][]media.AccessUnit
	from   [2]int // the unit that ahead begins with
}

type playedUnit struct {
	of    *played
	due   int64 // from the begin of the turn, ticks of media.VideoTimescale
	track uint8
	unit  int32
}

// Bounds of a playlist.
const (
	//limit:pictures and frames of sound of a playlist | each file input | the input is refused
	maxPlayed    = 4_000_000 // units
	playedAtOnce = 32        // units that are read at a time
)

// Named is an item by its name.
type Named struct {
	Name string
	Item *item.Item
}

// Playlist makes a recording of items.
func Playlist(list []Named) (Recording, error) {
	p := &playlist{}
	for _, n := range list {
		it := &played{name: n.Name, begin: p.turn}
		end := int64(0)
		for i := range n.Item.Tracks {
			t := &n.Item.Tracks[i]
			k := 0
			if t.Kind == media.Audio {
				k = 1
			}
			if t.Count() == 0 || t.Codec == "" || it.tracks[k] != nil || t.Trouble != "" && !t.Codable {
				continue
			}
			it.tracks[k] = t
			if len(p.units)+t.Count() > maxPlayed {
				return nil, fmt.Errorf("found more than %d pictures and frames of sound in the items, expected a shorter playlist", maxPlayed)
			}
			for u := range t.Count() {
				at := media.Rescale(t.At(u), t.Timescale, media.VideoTimescale)
				end = max(end, at)
				p.units = append(p.units, playedUnit{it, it.begin + at, uint8(k), int32(u)})
			}
		}
		if it.tracks == [2]*item.Track{} {
			return nil, fmt.Errorf("nothing of the item %s can be played", n.Name)
		}
		p.items = append(p.items, it)
		p.turn += max(n.Item.Duration, end+media.VideoTimescale/50)
	}
	if len(p.units) == 0 {
		return nil, errors.New("found no item, expected one at least")
	}
	slices.SortStableFunc(p.units, func(a, b playedUnit) int { return cmp.Compare(a.due, b.due) })
	return p, nil
}

func (p *playlist) start(feed Feed) { p.feed = feed }

func (p *playlist) count() int { return len(p.units) }

func (p *playlist) length() time.Duration { return ticks(p.turn) }

func (p *playlist) due(i int) time.Duration { return ticks(p.units[i].due) }

// announce tells what an item holds.
func (p *playlist) announce(it *played) {
	p.showed = it
	for k, t := range it.tracks {
		if t != nil {
			track := t.Track
			track.ID, track.Clock = media.TrackID(k+1), media.Clock{Scale: media.VideoTimescale}
			p.feed.Track(track)
		}
	}
}

func (p *playlist) send(i int, turn int64) error {
	u := &p.units[i]
	it, k, n := u.of, u.track, int(u.unit)
	if it != p.showed {
		if p.showed != nil { // what was read of it goes
			p.showed.ahead = [2][]media.AccessUnit{}
		}
		p.announce(it)
	}
	t := it.tracks[k]
	if ahead := it.ahead[k]; n < it.from[k] || n >= it.from[k]+len(ahead) {
		list, err := t.Units(n, min(n+playedAtOnce, t.Count()))
		if err != nil {
			return fmt.Errorf("%s: %w", it.name, err)
		}
		it.ahead[k], it.from[k] = list, n
	}
	a := &it.ahead[k][n-it.from[k]]
	base := turn*p.turn + it.begin
	dts := media.Rescale(a.DTS, t.Timescale, media.VideoTimescale)
	pts := media.Rescale(a.PTS, t.Timescale, media.VideoTimescale)
	p.feed.Unit(media.TrackID(k+1), base+dts, pts-dts, a.Key, a.Data)
	return nil
}
