package transcode

import (
	"sync"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/quality"
)

// Quality is how far a rendition's pictures are from what went into its encoder, in the newest sample.
type Quality struct {
	Rendition string `json:"rendition"`
	PSNR      int64  `json:"psnr"`     // of luma, hundredths of a decibel, the mean of the pictures
	SSIM      int64  `json:"ssim"`     // of luma, ten-thousandths, the mean of the pictures
	Pictures  int64  `json:"pictures"` // that were compared
	At        int64  `json:"at"`       // media time behind the sample, ticks of media.VideoTimescale
}

// How often quality is sampled: one segment of each rendition each minute, the first after a while, each some time
// behind the other; of its pictures every Nth.
const (
	sampleEach  = 60 * media.VideoTimescale
	sampleFirst = 20 * media.VideoTimescale
	sampleApart = 3 * media.VideoTimescale
	sampleStep  = 4
	sampleSlots = 8
	// maxSampled bounds the pictures that wait for their encoded form.
	//limit:pictures that wait to be compared | each rung | pictures are not compared
	maxSampled = 32
)

// sampler decodes a segment of what an encoder put out, now and then, and compares it with what went in.
// It is used by the encoder's goroutine; result may be called from any.
type sampler struct {
	next    int64 // when the next sample is due
	first   bool
	start   int64 // of the sample
	taking  bool  // its pictures are on their way into the encoder
	synced  bool  // they come out
	dec     codec.PictureDecoder
	scaler  scale.Scaler
	waiting map[int64]*picture.Picture // by presentation time
	idle    []*picture.Picture
	decoded *picture.Picture
	count   int
	psnr    float64
	ssim    float64
	n       int64

	mu     sync.Mutex
	newest Quality
}

// result returns the newest sample, and whether there is one.
func (s *sampler) result() (Quality, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.newest, s.newest.Pictures > 0
}

// before sees a picture on its way into the encoder of a track. slot is the place of the rung among the others.
func (s *sampler) before(t *media.Track, p *picture.Picture, pts int64, key bool, slot int64) {
	if !s.first {
		s.first, s.next = true, pts+sampleFirst+slot*sampleApart
	}
	if key {
		s.taking = false
	}
	if key && s.dec == nil && pts >= s.next {
		s.start, s.taking = pts, true
		s.next = pts + sampleEach
		var err error
		if s.dec, err = codec.NewPictureDecoder(t); err != nil {
			s.dec = nil // it is not measured
			return
		}
		s.waiting, s.count, s.psnr, s.ssim, s.n = map[int64]*picture.Picture{}, 0, 0, 0, 0
		if s.decoded == nil {
			s.decoded = picture.New(p.Width, p.Height)
		}
	}
	if s.dec == nil || !s.taking {
		return
	}
	if s.count++; s.count%sampleStep != 1 || len(s.waiting) >= maxSampled {
		return
	}
	var keep *picture.Picture
	if n := len(s.idle); n > 0 {
		keep, s.idle = s.idle[n-1], s.idle[:n-1]
	} else {
		keep = picture.New(p.Width, p.Height)
	}
	copy(keep.Y, p.Y) // luma is all that is compared
	s.waiting[pts] = keep
}

// after sees what came out of the encoder.
func (s *sampler) after(u *media.AccessUnit) {
	switch {
	case s.dec == nil:
		return
	case u.PTS == s.start:
		s.synced = true
	case s.synced && u.Key:
		s.end(u.PTS)
	}
	if !s.synced {
		return
	}
	_ = s.dec.Decode(u, func(f *picture.Frame) { // a picture that is missing is not compared
		before := s.waiting[f.PTS]
		if before == nil {
			return
		}
		delete(s.waiting, f.PTS)
		if f.Width == before.Width && f.Height == before.Height && s.scaler.FromFrame(s.decoded, f) == nil {
			s.psnr, s.ssim, s.n = s.psnr+quality.PSNR(before, s.decoded), s.ssim+quality.SSIM(before, s.decoded), s.n+1
		}
		s.idle = append(s.idle, before)
	})
}

// end ends a sample.
func (s *sampler) end(at int64) {
	s.close()
	for _, p := range s.waiting {
		s.idle = append(s.idle, p)
	}
	s.waiting = nil
	if s.n > 0 {
		n := float64(s.n)
		s.mu.Lock()
		s.newest = Quality{PSNR: int64(s.psnr/n*100 + 0.5), SSIM: int64(s.ssim/n*10_000 + 0.5), Pictures: s.n, At: at}
		s.mu.Unlock()
	}
}

func (s *sampler) close() {
	if s.dec != nil {
		s.dec.Close()
		s.dec, s.synced, s.taking = nil, false, false
	}
}
