package run

import (
	"cmp"
	"slices"

	"metaplasis/internal/core/captions"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
)

// sourceCaptions are the captions of the source that encoded renditions may still need,
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
	// MaxCaptionBytes bounds the captions that wait for encoded pictures: a minute of them and more.
	//limit:bytes of captions that wait for encoded pictures | each channel | the oldest are dropped
	MaxCaptionBytes = 256 << 10
	// reordered is how many pictures may come before one that is shown earlier (H.264, A.3.1).
	reordered = 16
)

// captionWait is how late captions beside the pictures may come, against the pictures.
const captionWait = media.VideoTimescale

// noteCaptions keeps the captions of a picture and passes on what they say.
func (r *Run) noteCaptions(u *media.AccessUnit) {
	known := u.PTS - captionWait
	if data := coding.Captions(r.Video.Codec, u.Data); data != nil {
		services, settled, any := r.captions.note(u.PTS, data, func(t captions.Text) {
			r.make(Caption{At: t.At, Service: t.Service, Text: t.Text, Top: t.Top})
		})
		if any {
			known = max(known, settled)
		}
		if len(services) > 0 {
			r.make(Captions{services})
		}
	}
	r.make(CaptionsKnown{known})
}

// note keeps the captions of a picture. It returns the services that were not seen before, and up to when all that is said is
// known, if anything is.
func (s *sourceCaptions) note(pts int64, data [][]byte, say func(captions.Text)) (services []string, known int64, any bool) {
	at, _ := slices.BinarySearchFunc(s.list, pts, func(c captioned, pts int64) int { return cmp.Compare(c.pts, pts) })
	s.list = slices.Insert(s.list, at, captioned{pts, data})
	s.bytes += s.list[at].size()
	if n := len(s.list); n > reordered {
		look := &s.list[n-1-reordered]
		for _, d := range look.data {
			services = append(services, s.scan.See(d)...)
			s.text.See(look.pts, d, say)
		}
		known, any = look.pts, true
	}
	for s.bytes > MaxCaptionBytes {
		s.bytes -= s.list[0].size()
		s.list = slices.Delete(s.list, 0, 1)
	}
	return services, known, any
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

// addCaptions puts the captions of all source pictures up to an encoded one into it, so that a
// picture that was dropped takes none along.
func (r *Run) addCaptions(o *output, u *media.AccessUnit) {
	list := r.captions.between(o.captioned, u.PTS)
	o.captioned = max(o.captioned, u.PTS)
	u.Data = coding.AddCaptions(o.cutter.Header().Track.Codec, u.Data, list)
}
