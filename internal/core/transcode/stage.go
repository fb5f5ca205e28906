package transcode

import (
	"sync/atomic"
	"time"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/codec/settings"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/overlay"
	"metaplasis/internal/core/picture"
)

// job is one picture for an encoder.
type job struct {
	pic      *picture.Picture // nil: the one before again
	pts      int64
	at       time.Time // when it came
	key      bool
	must     bool // it opens a part, and pictures before it were left out
	duration int64
}

// stageQueue is how many pictures may wait before an encoder. Past it the decoder waits, its lag
// grows, and pictures are dropped for all renditions alike.
const stageQueue = 2

// stage is the encoder of one rung, on its own goroutine.
type stage struct {
	rung   Rung
	pool   *picture.Pool
	scaler scale.Scaler // used by the decoding goroutine
	jobs   chan job
	from   int64
	done   chan struct{}
	busy   atomic.Int64 // microseconds

	logo                                []byte // file of its logo
	scaling, coding, measuring, drawing work
	sampler                             sampler
	failed                              atomic.Bool // it was said that nothing will come any more
}

// fail says once that the rung cannot be made. Its pictures are taken and let go from then on, so that
// nothing waits for it.
func (s *stage) fail(sink Sink, err error) {
	if !s.failed.Swap(true) {
		sink.Failed(s.rung.ID, err)
	}
}

// newStage starts an encoder. When after is given, it waits for that first, so that the units of
// a rung's old and new encoder never mix. Pictures before from are not encoded.
func newStage(sink Sink, r Rung, rate media.Rational, pool *picture.Pool, after <-chan struct{}, from int64, logo []byte) *stage {
	s := &stage{rung: r, logo: logo, from: from, pool: pool, jobs: make(chan job, stageQueue), done: make(chan struct{})}
	go s.run(sink, rate, after)
	return s
}

// run takes pictures until the stage is closed.
//
//large:one loop, whose cases share its state
func (s *stage) run(sink Sink, rate media.Rational, after <-chan struct{}) {
	defer close(s.done)
	if after != nil {
		<-after
	}
	enc, track, err := s.open(sink, rate)
	if err != nil {
		s.fail(sink, err)
	} else {
		defer enc.Close()
	}
	over, err := s.overlay()
	if err != nil {
		s.fail(sink, err)
	}
	first, duration := true, int64(0)
	beat := beat{Cadence: s.rung.Cadence}
	var shown *picture.Picture // the one before, which may have to be repeated
	defer s.sampler.close()
	encode := func(p *picture.Picture, pts int64, key bool) {
		begin := time.Now()
		s.sampler.before(&track, p, pts, key, int64(s.rung.ID)%sampleSlots)
		beside := time.Since(begin)
		u, err := enc.Encode(p, pts, key)
		if err != nil {
			s.fail(sink, err)
		}
		if u != nil {
			begin := time.Now()
			s.sampler.after(u)
			beside += time.Since(begin)
		}
		s.measuring.add(beside)
		s.emit(sink, u, duration)
	}
	for j := range s.jobs {
		begin := time.Now()
		again := j.pic == nil
		if !s.failed.Load() && j.pts >= s.from && (!again || shown != nil) {
			at, repeat, taken := beat.schedule(j.pts, j.key || first, j.must)
			for i := repeat; i > 0 && shown != nil && !s.failed.Load(); i-- {
				encode(shown, beat.at(beat.index-i), false)
			}
			if taken && !s.failed.Load() {
				if beat.same() {
					duration = j.duration // else only the next one tells
				}
				pic := j.pic
				if again {
					pic = shown
				} else if over != nil {
					drawing := time.Now()
					over.Draw(j.pic, j.at, s.number(at, rate))
					s.drawing.add(time.Since(drawing))
				}
				encode(pic, at, j.key || first)
				first = false
				if !again {
					shown, j.pic = j.pic, shown
				}
			}
		}
		if j.pic != nil {
			s.pool.Put(j.pic)
		}
		s.busy.Add(time.Since(begin).Microseconds())
		s.coding.add(time.Since(begin))
	}
	for !s.failed.Load() && enc.Waiting() > 0 {
		u, _ := enc.Encode(nil, 0, false)
		if u == nil {
			break
		}
		s.emit(sink, u, duration) // no successor will tell
	}
}

// Settings are what the rung's encoder is told, for pictures of a rate.
func (r *Rung) Settings(rate media.Rational) settings.Pictures {
	return settings.Pictures{
		Width: r.Width, Height: r.Height, SAR: r.SAR, FrameRate: rate,
		Bitrate: r.Bitrate, Peak: r.Peak, Buffer: r.Buffer, Effort: r.Effort, Colour: r.Colour,
		Quality: r.Quality, Profile: r.Profile, Level: r.Level, BFrames: r.BFrames, Content: r.Content,
	}
}

// open opens the encoder and tells of its track.
func (s *stage) open(sink Sink, rate media.Rational) (codec.PictureEncoder, media.Track, error) {
	r := s.rung
	enc, err := codec.NewPictureEncoder(r.Codec, r.Settings(r.Cadence.Of(rate)))
	if err != nil {
		return nil, media.Track{}, err
	}
	t, err := enc.Track()
	if err != nil {
		enc.Close()
		return nil, t, err
	}
	t.FrameRate = r.Cadence.Of(rate)
	sink.Track(r.ID, t)
	return enc, t, nil
}

// overlay prepares what is drawn upon the rung's pictures, nil for nothing.
func (s *stage) overlay() (*overlay.Overlay, error) {
	if !s.rung.Picture.Draws() {
		return nil, nil
	}
	return overlay.New(s.rung.Width, s.rung.Height, s.rung.Picture, s.rung.Name, s.logo)
}

// number is the number of a picture: the same in all renditions.
func (s *stage) number(pts int64, rate media.Rational) int64 {
	if !rate.Valid() {
		rate = media.Rational{Num: 25, Den: 1}
	}
	return media.Rescale(pts, rate.Den*media.VideoTimescale, rate.Num)
}

func (s *stage) emit(sink Sink, u *media.AccessUnit, duration int64) {
	if u == nil {
		return
	}
	if u.DTS == u.PTS {
		u.Duration = duration
	}
	sink.Unit(s.rung.ID, *u)
}
