package bmff

import (
	"encoding/binary"
	"errors"
	"slices"

	"metaplasis/internal/core/media"
)

// Movie collects the samples of a file that any tool opens (ISO/IEC 14496-12): ftyp, moov with the tables of all samples, and one
// mdat. The tables stand first, so that a player begins before it has all; the samples' bytes are written by the caller in the order
// in which they were added.
//
//	ftyp | moov: mvhd, trak (tkhd, edts, mdia), trak … | mdat: chunk, chunk, …
//
// A chunk is what was added by one call. What starts over has another sample description where its configuration differs.
type Movie struct {
	Tracks []*MovieTrack
	// From and To are times between which the movie is shown, ticks of media.VideoTimescale; 0 is the beginning, and the end. What lies
	// outside is in the file and is not shown (8.6.6).
	From, To int64
	data     int64 // bytes of all samples
}

// MovieTrack is a track of a movie.
type MovieTrack struct {
	movie        *Movie
	scale        int64
	descriptions []media.Track
	sizes        []uint32
	durations    []runOf // stts
	offsets      []runOf // ctts
	composed     bool
	syncs        []uint32 // 1-based
	chunks       []movieChunk
	first        int64 // presentation time of the first sample, ticks of media.VideoTimescale
	firstDecode  int64 // its decode time, ticks of the track
	next         int64 // decode time behind the last sample, ticks of the track
	last         int64 // decode time of the last
	begun        bool
	kind         media.Kind
}

// runOf is a value that so many samples have.
type runOf struct {
	count uint32
	value int64
}

type movieChunk struct {
	offset      int64
	samples     uint32
	description uint32
}

// Bounds of a movie: what its tables take is held in memory.
const (
	//limit:samples of a movie that is made | each download | the download is refused
	maxMovieSamples = 12_000_000
	//limit:changes of a track's configuration within a movie that is made | each download | the download is refused
	maxMovieDescriptions = 256
)

// ErrMovieEmpty says that no sample was added.
var ErrMovieEmpty = errors.New("the movie has no sample")

// ErrMovieTooLong says that a movie has more samples than a file with one table can have here.
var ErrMovieTooLong = errors.New("there is too much for one table")

// Track adds a track.
func (m *Movie) Track(kind media.Kind) *MovieTrack {
	t := &MovieTrack{movie: m, kind: kind}
	m.Tracks = append(m.Tracks, t)
	return t
}

// Add adds samples in decode order, behind all that were added to the movie. shift is added to their times, in ticks of
// media.VideoTimescale. The bytes of the samples are not kept.
func (t *MovieTrack) Add(track *media.Track, units []media.AccessUnit, shift int64) error {
	if len(units) == 0 {
		return nil
	}
	if len(t.sizes)+len(units) > maxMovieSamples {
		return ErrMovieTooLong
	}
	if t.scale == 0 {
		t.scale = track.Timescale
	}
	number := slices.IndexFunc(t.descriptions, func(o media.Track) bool { return sameDescription(&o, track) })
	if number < 0 {
		if number = len(t.descriptions); number >= maxMovieDescriptions {
			return ErrMovieTooLong
		}
		t.descriptions = append(t.descriptions, *track)
	}
	own := media.Rescale(shift, media.VideoTimescale, t.scale)
	at := func(v int64) int64 { return media.Rescale(v, track.Timescale, t.scale) + own }
	chunk := movieChunk{offset: t.movie.data, description: uint32(number + 1)}
	for i := range units {
		u := &units[i]
		dts := at(u.DTS)
		if !t.begun {
			t.begun, t.firstDecode = true, dts
			t.first = media.Rescale(u.PTS, track.Timescale, media.VideoTimescale) + shift
		} else {
			dts = max(dts, t.last+1)
			t.lasted(dts - t.last)
		}
		t.last, t.next = dts, dts+max(media.Rescale(u.Duration, track.Timescale, t.scale), 1)
		offset := at(u.PTS) - dts
		t.composed = t.composed || offset != 0
		t.offsets = appendRun(t.offsets, offset)
		t.sizes = append(t.sizes, uint32(len(u.Data)))
		if u.Key && t.kind == media.Video {
			t.syncs = append(t.syncs, uint32(len(t.sizes)))
		}
		chunk.samples++
		t.movie.data += int64(len(u.Data))
	}
	t.chunks = append(t.chunks, chunk)
	return nil
}

func sameDescription(a, b *media.Track) bool {
	return a.Codec == b.Codec && a.Timescale == b.Timescale && a.Width == b.Width && a.Height == b.Height && a.SampleRate == b.SampleRate &&
		a.Channels == b.Channels && string(a.Config) == string(b.Config)
}

// lasted says how long the sample before the newest lasts.
func (t *MovieTrack) lasted(d int64) { t.durations = appendRun(t.durations, d) }

func appendRun(list []runOf, v int64) []runOf {
	if n := len(list); n > 0 && list[n-1].value == v {
		list[n-1].count++
		return list
	}
	return append(list, runOf{1, v})
}

// Size returns how many bytes of samples there are.
func (m *Movie) Size() int64 { return m.data }

// Header writes all that stands in front of the samples. Nothing may be added behind it.
func (m *Movie) Header() ([]byte, error) {
	var tracks []*MovieTrack
	for _, t := range m.Tracks {
		if t.begun {
			t.lasted(t.next - t.last)
			tracks = append(tracks, t)
		}
	}
	if len(tracks) == 0 {
		return nil, ErrMovieEmpty
	}
	out := m.header(tracks, 0)
	return m.header(tracks, int64(len(out))), nil
}

// header writes the header for samples that begin at a byte of the file.
func (m *Movie) header(tracks []*MovieTrack, begin int64) []byte {
	const scale = media.VideoTimescale
	// The presentation begins with the first picture, or the first sound when there is none.
	start := tracks[0].first
	for _, t := range tracks {
		if t.kind == media.Video {
			start = t.first
			break
		}
		start = min(start, t.first)
	}
	start = max(start, m.From)
	var total int64
	for _, t := range tracks {
		total = max(total, t.span(start))
	}
	out := box(nil, "ftyp", func(b []byte) []byte {
		b = u32(append(b, "isom"...), 0x200)
		return append(b, "isomiso2mp41"...)
	})
	out = box(out, "moov", func(b []byte) []byte {
		b = fullBox(b, "mvhd", 1, 0, func(b []byte) []byte {
			b = u32(zeros(b, 16), scale)
			b = u64(b, uint64(total))
			b = u16(u32(b, 0x10000), 0x100)
			b = zeros(matrix(zeros(b, 10)), 24)
			return u32(b, uint32(len(tracks)+1))
		})
		for i, t := range tracks {
			b = box(b, "trak", func(b []byte) []byte { return t.box(b, uint32(i+1), start, begin) })
		}
		return b
	})
	out = u32(out, 1)
	out = append(out, "mdat"...)
	return u64(out, uint64(m.data+16))
}

// span is how long the track is shown, in ticks of media.VideoTimescale, from a time on.
func (t *MovieTrack) span(start int64) int64 {
	d := media.Rescale(t.next-t.firstDecode, t.scale, media.VideoTimescale) + t.first - start
	if t.movie.To > 0 {
		d = min(d, t.movie.To-start)
	}
	return max(d, 0)
}

func (t *MovieTrack) box(b []byte, id uint32, start, begin int64) []byte {
	first := &t.descriptions[0]
	width, height := displaySize(first)
	span := t.span(start)
	b = fullBox(b, "tkhd", 1, 7, func(b []byte) []byte {
		b = zeros(u32(zeros(b, 16), id), 4)
		b = zeros(u64(b, uint64(span)), 8)
		if t.kind == media.Audio {
			b = u16(u16(u16(u16(b, 0), 1), 0x100), 0)
		} else {
			b = zeros(b, 8)
		}
		b = matrix(b)
		if t.kind == media.Audio {
			return zeros(b, 8)
		}
		return u32(u32(b, uint32(width)<<16), uint32(height)<<16)
	})
	b = box(b, "edts", func(b []byte) []byte {
		// Where the track begins in the presentation (8.6.6).
		lead := t.first - start // it begins later
		from := int64(0)        // or something of it is not shown
		if t.composed {
			from = t.offsets[0].value
		}
		count := uint32(1)
		if lead > 0 {
			count = 2
		} else {
			from += media.Rescale(-lead, media.VideoTimescale, t.scale)
		}
		return fullBox(b, "elst", 1, 0, func(b []byte) []byte {
			b = u32(b, count)
			if lead > 0 {
				b = u32(u64(u64(b, uint64(lead)), 1<<64-1), 0x10000)
			}
			return u32(u64(u64(b, uint64(span-max(lead, 0))), uint64(from)), 0x10000)
		})
	})
	return box(b, "mdia", func(b []byte) []byte {
		b = fullBox(b, "mdhd", 1, 0, func(b []byte) []byte {
			b = u32(zeros(b, 16), uint32(t.scale))
			b = u64(b, uint64(t.next-t.firstDecode))
			return u16(u16(b, languageCode(first.Language)), 0)
		})
		b = handler(b, t.kind)
		return box(b, "minf", func(b []byte) []byte {
			b = mediaInfo(b, t.kind)
			return box(b, "stbl", func(b []byte) []byte { return t.tables(b, begin) })
		})
	})
}

// languageCode packs a language of three letters (8.4.2.3); others are undetermined.
func languageCode(language string) uint16 {
	if len(language) != 3 {
		language = "und"
	}
	v := uint16(0)
	for _, c := range []byte(language) {
		v = v<<5 | uint16(c-0x60)&0x1f
	}
	return v
}

func (t *MovieTrack) tables(b []byte, begin int64) []byte {
	b = fullBox(b, "stsd", 0, 0, func(b []byte) []byte {
		b = u32(b, uint32(len(t.descriptions)))
		for i := range t.descriptions {
			b = sampleEntry(b, &t.descriptions[i])
		}
		return b
	})
	b = fullBox(b, "stts", 0, 0, func(b []byte) []byte {
		b = u32(b, uint32(len(t.durations)))
		for _, r := range t.durations {
			b = u32(u32(b, r.count), uint32(r.value))
		}
		return b
	})
	if t.composed {
		b = fullBox(b, "ctts", 1, 0, func(b []byte) []byte {
			b = u32(b, uint32(len(t.offsets)))
			for _, r := range t.offsets {
				b = u32(u32(b, r.count), uint32(int32(r.value)))
			}
			return b
		})
	}
	if t.kind == media.Video {
		b = fullBox(b, "stss", 0, 0, func(b []byte) []byte {
			b = u32(b, uint32(len(t.syncs)))
			for _, n := range t.syncs {
				b = u32(b, n)
			}
			return b
		})
	}
	b = fullBox(b, "stsz", 0, 0, func(b []byte) []byte {
		b = u32(u32(b, 0), uint32(len(t.sizes)))
		for _, n := range t.sizes {
			b = u32(b, n)
		}
		return b
	})
	b = fullBox(b, "stsc", 0, 0, func(b []byte) []byte {
		at := len(b)
		b = u32(b, 0)
		n := uint32(0)
		for i, c := range t.chunks {
			if i > 0 && t.chunks[i-1].samples == c.samples && t.chunks[i-1].description == c.description {
				continue
			}
			n++
			b = u32(u32(u32(b, uint32(i+1)), c.samples), c.description)
		}
		binary.BigEndian.PutUint32(b[at:], n)
		return b
	})
	return fullBox(b, "co64", 0, 0, func(b []byte) []byte {
		b = u32(b, uint32(len(t.chunks)))
		for _, c := range t.chunks {
			b = u64(b, uint64(begin+c.offset))
		}
		return b
	})
}
