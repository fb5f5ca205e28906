package library

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"time"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/item"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/worker"
)

// part is a piece of work: sound in one, pictures in several.
type part struct {
	track  *item.Track
	lo, hi int
	sound  bool
}

// ladderOf are the tracks of an item that are encoded, and the rungs that pictures are encoded to.
func ladderOf(it *item.Item, heights []int) (tracks []*item.Track, rungs []ladder.Rung, err error) {
	var video *item.Track
	for i := range it.Tracks {
		t := &it.Tracks[i]
		if t.Count() == 0 || !t.Codable && t.Trouble != "" || t.Codec == "" {
			continue
		}
		switch {
		case t.Kind == media.Video && video == nil:
			video = t
			tracks = append(tracks, t)
		case t.Kind == media.Audio:
			tracks = append(tracks, t)
		}
	}
	if len(tracks) == 0 {
		return nil, nil, ErrCannot
	}
	if video == nil {
		return tracks, nil, nil
	}
	source := video.Track
	if !source.FrameRate.Valid() {
		source.FrameRate = rateOf(video)
	}
	if len(heights) > 0 {
		_, h := ladder.Display(&source)
		for _, side := range heights {
			if side < 64 || side > 4320 {
				return nil, nil, fmt.Errorf("found a height of %d, expected 64 to 4320", side)
			}
			r := ladder.Small(&source, min(side, h))
			r.Name = fmt.Sprintf("%dp", min(side, h))
			if !slices.ContainsFunc(rungs, func(o ladder.Rung) bool { return o.Name == r.Name }) {
				rungs = append(rungs, r)
			}
		}
	} else {
		rungs = ladder.Default(&source, nil)
		w, h := ladder.Display(&source)
		rungs[0] = ladder.Small(&source, min(w, h))
		rungs[0].Name = fmt.Sprintf("%dp", min(w, h))
	}
	for i := range rungs {
		rungs[i] = rungs[i].WithDefaults()
		rungs[i].Effort = codedEffort
	}
	return tracks, rungs, nil
}

// rateOf measures the rate of pictures.
func rateOf(t *item.Track) media.Rational {
	n := t.Count()
	if n < 2 {
		return media.Rational{Num: 25, Den: 1}
	}
	ticks := t.At(n-1) - t.At(0)
	if ticks <= 0 {
		return media.Rational{Num: 25, Den: 1}
	}
	exact := media.Rational{Num: int64(n-1) * t.Timescale, Den: ticks}
	for _, r := range []media.Rational{{Num: 24000, Den: 1001}, {Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1}} {
		if d := exact.Milli() - r.Milli(); d < 8 && d > -8 {
			return r
		}
	}
	return exact.Reduce()
}

// make encodes what is missing, and puts it together.
func (c *coder) make(ctx context.Context, name string, it *item.Item, f *codingFile) error {
	tracks, rungs, err := ladderOf(it, f.Heights)
	if err != nil {
		return err
	}
	var parts []part
	var names []string
	for _, t := range tracks {
		if t.Kind != media.Video {
			parts = append(parts, part{track: t, hi: t.Count(), sound: true})
			names = append(names, soundName(it, t))
			continue
		}
		for _, s := range t.Stretches(stretchLeast) {
			parts = append(parts, part{track: t, lo: s[0], hi: s[1]})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return cmp.Compare(soundFirst(&b), soundFirst(&a)) })
	var pictures []string
	for _, r := range rungs {
		pictures = append(pictures, r.Name)
	}
	c.mu.Lock()
	f.Rungs, f.Of = append(pictures, names...), len(parts)
	c.mu.Unlock()
	for n := f.Done; n < len(parts); n++ {
		p := &parts[n]
		begin := time.Now()
		base := n * 100 / len(parts)
		progress := func(share int) {
			c.mu.Lock()
			c.percent = base + share/len(parts)
			c.mu.Unlock()
		}
		if p.sound {
			err = c.sound(ctx, name, soundName(it, p.track), p.track, progress)
		} else {
			err = c.pictures(ctx, name, n, p, rungs, progress)
		}
		if err != nil {
			return err
		}
		took := time.Since(begin)
		lasted := media.Rescale(p.track.At(p.hi-1)-p.track.At(p.lo), p.track.Timescale, 1000)
		c.mu.Lock()
		f.Done = n + 1
		c.speed = int(lasted * 100 / max(took.Milliseconds(), 1))
		c.left = int64(took.Seconds() * float64(len(parts)-n-1))
		err := c.save(name, f)
		c.mu.Unlock()
		if err != nil {
			return err
		}
	}
	for _, r := range pictures {
		if err := c.join(name, r, parts); err != nil {
			return err
		}
	}
	c.mu.Lock()
	f.Whole = true
	c.mu.Unlock()
	if root, err := os.OpenRoot(c.l.folder); err == nil {
		_ = root.RemoveAll(path.Join(codedFolder, name, "parts"))
		_ = root.Close()
	}
	return nil
}

func soundFirst(p *part) int {
	if p.sound {
		return 1
	}
	return 0
}

// soundName names the file of an audio track.
func soundName(it *item.Item, t *item.Track) string {
	n := 0
	for i := range it.Tracks {
		if it.Tracks[i].Kind == media.Audio {
			n++
		}
		if &it.Tracks[i] == t {
			break
		}
	}
	return fmt.Sprintf("audio-%d", n)
}

// collecting makes fragments of what is encoded.
type collecting struct {
	header func(media.Track) *segment.Header
	tracks map[media.TrackID]*media.Track
	units  map[media.TrackID][]media.AccessUnit
	bytes  int
}

// maxCollected bounds what is held of a stretch, in bytes.
//
//limit:bytes of a stretch that is converted | each conversion | the conversion fails
const maxCollected = 1 << 30

func (o *collecting) Track(id media.TrackID, t media.Track) { o.tracks[id] = &t }

func (o *collecting) Unit(id media.TrackID, u media.AccessUnit) {
	if o.bytes += len(u.Data); o.bytes < maxCollected {
		o.units[id] = append(o.units[id], u)
	}
}

// fragments are the units of a track, a fragment from keyframe to keyframe, or of so much sound.
func (o *collecting) fragments(id media.TrackID, number *uint32) (pieces [][]byte) {
	t := o.tracks[id]
	units := o.units[id]
	for i := range units {
		if i+1 < len(units) {
			units[i].Duration = max(units[i+1].DTS-units[i].DTS, 0)
		} else if units[i].Duration == 0 && i > 0 {
			units[i].Duration = units[i-1].Duration
		}
	}
	for len(units) > 0 {
		n := 1
		for n < len(units) && (t.Kind == media.Video && !units[n].Key || t.Kind == media.Audio && units[n].DTS-units[0].DTS < 4*t.Timescale) {
			n++
		}
		*number++
		pieces = append(pieces, bmff.Chunk(t, bmff.ChunkOptions{Sequence: *number, First: true}, units[:n]))
		units = units[n:]
	}
	return pieces
}

// sound makes the file of an audio track: re-encoded where browsers do not play it, else as it is.
func (c *coder) sound(ctx context.Context, name, file string, t *item.Track, progress func(int)) error {
	out := &collecting{header: c.l.newHeader, tracks: map[media.TrackID]*media.Track{}, units: map[media.TrackID][]media.AccessUnit{}}
	const id, bitrate = 1, 128_000
	if t.Trouble == "" {
		track := t.Track
		out.tracks[id] = &track
	}
	each := func(do func(u *media.AccessUnit) error) error {
		const batch = 256
		for lo := 0; lo < t.Count(); lo += batch {
			if err := ctx.Err(); err != nil {
				return err
			}
			list, err := t.Units(lo, min(lo+batch, t.Count()))
			if err != nil {
				return err
			}
			for i := range list {
				if err := do(&list[i]); err != nil {
					return err
				}
			}
			progress(lo * 100 / t.Count())
		}
		return nil
	}
	var err error
	if t.Trouble == "" {
		err = each(func(u *media.AccessUnit) error {
			out.Unit(id, *u)
			return nil
		})
	} else {
		source := t.Track
		source.ID = 2
		conf := transcode.Config{Audio: &source, Sound: []transcode.AudioRung{{ID: id, Name: file, Codec: coding.Usual(media.Audio), Bitrate: bitrate}}}
		if source.Channels > 2 {
			conf.Sound[0].Channels = 2
		}
		err = worker.Recode(ctx, c.code, conf, func(f worker.Feeding) error {
			if err := f.Boundary(segment.Boundary{Start: media.Rescale(t.At(0), t.Timescale, media.VideoTimescale)}); err != nil {
				return err
			}
			return each(func(u *media.AccessUnit) error { return f.Unit(source.ID, u) })
		}, out)
	}
	if err != nil {
		return err
	}
	if out.tracks[id] == nil || len(out.units[id]) == 0 {
		return errors.New("nothing of the sound could be decoded")
	}
	out.tracks[id].Language = t.Language
	number := uint32(0)
	least := min(out.units[id][0].DTS, 0)
	for i := range out.units[id] { // an encoder begins a little before 0
		out.units[id][i].DTS -= least
		out.units[id][i].PTS -= least
	}
	pieces := out.fragments(id, &number)
	return c.write(path.Join(codedFolder, name, file+".mp4"), append([][]byte{c.l.newHeader(*out.tracks[id]).Bytes}, pieces...)...)
}

// pictures encodes a stretch of pictures to all rungs.
func (c *coder) pictures(ctx context.Context, name string, n int, p *part, rungs []ladder.Rung, progress func(int)) error {
	source := p.track.Track
	if !source.FrameRate.Valid() {
		source.FrameRate = rateOf(p.track)
	}
	scale := source.Timescale
	source.ID, source.Timescale = media.TrackID(len(rungs)+1), media.VideoTimescale
	conf := transcode.Config{Video: &source}
	for i := range rungs {
		r := &rungs[i]
		w, h := r.Size(&source)
		limits := r.Limits(media.Rescale(codedSegment, media.VideoTimescale, 1000))
		conf.Rungs = append(conf.Rungs, transcode.Rung{ID: media.TrackID(i + 1), Name: r.Name, Codec: cmp.Or(r.Codec, coding.Usual(media.Video)), Width: w, Height: h, SAR: r.SAR(&source),
			Bitrate: limits.Bitrate, Peak: limits.Rate, Buffer: limits.Buffer, Effort: r.Effort, Colour: transcode.Flattened(source.Colour), BFrames: 2, Picture: r.Picture, Inner: r.Inner(&source)})
	}
	out := &collecting{header: c.l.newHeader, tracks: map[media.TrackID]*media.Track{}, units: map[media.TrackID][]media.AccessUnit{}}
	err := worker.Recode(ctx, c.code, conf, func(f worker.Feeding) error {
		const batch = 32
		next, msn := int64(-1), uint64(0)
		for lo := p.lo; lo < p.hi; lo += batch {
			list, err := p.track.Units(lo, min(lo+batch, p.hi))
			if err != nil {
				return err
			}
			for i := range list {
				u := &list[i]
				u.DTS, u.PTS, u.Duration = media.Rescale(u.DTS, scale, media.VideoTimescale), media.Rescale(u.PTS, scale, media.VideoTimescale), 0
				if next < 0 {
					next = u.PTS
					u.Data = coding.WithConfig(&source, u.Data)
				}
				for u.DTS+media.VideoTimescale >= next { // before the units behind it
					if err := f.Boundary(segment.Boundary{MSN: msn, Start: next}); err != nil {
						return err
					}
					next += codedSegment
					msn++
				}
				if err := f.Unit(source.ID, u); err != nil {
					return err
				}
			}
			progress((lo - p.lo) * 100 / (p.hi - p.lo))
		}
		return nil
	}, out)
	if err != nil {
		return err
	}
	for i := range rungs {
		id := media.TrackID(i + 1)
		if out.tracks[id] == nil || len(out.units[id]) == 0 {
			return fmt.Errorf("nothing of the pictures from %d s on could be encoded to %s", media.Rescale(p.track.At(p.lo), scale, 1), rungs[i].Name)
		}
		number := uint32(n) << 12
		pieces := out.fragments(id, &number)
		if err := c.write(partFile(name, n, rungs[i].Name), append([][]byte{c.l.newHeader(*out.tracks[id]).Bytes}, pieces...)...); err != nil {
			return err
		}
	}
	return nil
}

func partFile(name string, n int, rung string) string {
	return path.Join(codedFolder, name, "parts", fmt.Sprintf("%05d-%s.mp4", n, rung))
}

// join puts the stretches of a rung into one file.
func (c *coder) join(name, rung string, parts []part) error {
	return c.put(path.Join(codedFolder, name, rung+".mp4"), func(root *os.Root, w io.Writer) error {
		var header []byte
		for n := range parts {
			if parts[n].sound {
				continue
			}
			b, err := root.ReadFile(partFile(name, n, rung))
			if err != nil {
				return err
			}
			head := bmff.HeaderSize(b)
			if header == nil {
				header = b[:head]
				if _, err := w.Write(header); err != nil {
					return err
				}
			} else if !slices.Equal(header, b[:head]) {
				return fmt.Errorf("the stretches of %s have different headers", rung)
			}
			if _, err := w.Write(b[head:]); err != nil {
				return err
			}
		}
		return nil
	})
}
