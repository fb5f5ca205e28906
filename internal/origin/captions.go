package origin

import (
	"cmp"
	"slices"

	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// sourceCaptions are the captions of the source that renditions which are coded anew may still need,
// in order of presentation. They are bounded in bytes.
type sourceCaptions struct {
	list  []captioned
	bytes int
	scan  captions.Scan
	text  captions.Decoder
}

// captioned are the captions of one picture of the source.
type captioned struct {
	pts  int64
	data [][]byte
}

func (c *captioned) size() (n int) {
	for _, d := range c.data {
		n += len(d)
	}
	return n + unitCost
}

const (
	// maxCaptionBytes bounds the captions that wait for encoded pictures: a minute of them and more.
	//limit:bytes of captions that wait for encoded pictures | each channel | the oldest are dropped
	maxCaptionBytes = 256 << 10
	// reordered is how many pictures may come before one that is shown earlier (H.264, A.3.1).
	reordered = 16
)

// note keeps the captions of a picture, and returns the services that were not seen before. What they say goes to texts.
func (s *sourceCaptions) note(codec media.Codec, u *media.AccessUnit, to *texts) (services []string) {
	data := coding.Captions(codec, u.Data)
	defer func() { to.settle(u.PTS - textWait) }()
	if data == nil {
		return nil
	}
	at, _ := slices.BinarySearchFunc(s.list, u.PTS, func(c captioned, pts int64) int { return cmp.Compare(c.pts, pts) })
	s.list = slices.Insert(s.list, at, captioned{u.PTS, data})
	s.bytes += s.list[at].size()
	if n := len(s.list); n > reordered {
		look := &s.list[n-1-reordered]
		for _, d := range look.data {
			services = append(services, s.scan.See(d)...)
			s.text.See(look.pts, d, func(t captions.Text) { to.say(t.At, said{service: t.Service, text: t.Text, top: t.Top}) })
		}
		to.settle(look.pts)
	}
	for s.bytes > maxCaptionBytes {
		s.bytes -= s.list[0].size()
		s.list = slices.Delete(s.list, 0, 1)
	}
	return services
}

// between returns the captions of the source's pictures behind one presentation time, up to another.
func (s *sourceCaptions) between(after, upTo int64) (list [][]byte) {
	for _, c := range s.list {
		if c.pts > after && c.pts <= upTo {
			list = append(list, c.data...)
		}
	}
	return list
}

// addCaptions puts the captions of all source pictures up to a coded one into it, so that a
// picture that was dropped takes none along.
func (s *session) addCaptions(o *output, u *media.AccessUnit) {
	list := s.captions.between(o.captioned, u.PTS)
	o.captioned = max(o.captioned, u.PTS)
	u.Data = coding.AddCaptions(o.cutter.Header().Track.Codec, u.Data, list)
}
