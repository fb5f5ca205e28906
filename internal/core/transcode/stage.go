package transcode

import (
	"sync/atomic"
	"time"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
)

// job is one picture for an encoder.
type job struct {
	pic      *picture.Picture
	pts      int64
	key      bool
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
	failed atomic.Bool  // it was said that nothing will come any more
}

// fail says once that the rung cannot be made. Its pictures are taken and let go from then on, so that
// nothing waits for it.
func (s *stage) fail(sink Sink, err error) {
	if !s.failed.Swap(true) {
		sink.Failed(s.rung.ID, err)
	}
}

// newStage starts an encoder. When after is given, it waits for that first, so that the units of
// a rung's old and new encoder never mix. Pictures before from are not coded.
func newStage(sink Sink, r Rung, rate media.Rational, pool *picture.Pool, after <-chan struct{}, from int64) *stage {
	s := &stage{rung: r, from: from, pool: pool, jobs: make(chan job, stageQueue), done: make(chan struct{})}
	go s.run(sink, rate, after)
	return s
}

func (s *stage) run(sink Sink, rate media.Rational, after <-chan struct{}) {
	defer close(s.done)
	if after != nil {
		<-after
	}
	enc, err := s.open(sink, rate)
	if err != nil {
		s.fail(sink, err)
	} else {
		defer enc.Close()
	}
	first, duration := true, int64(0)
	for j := range s.jobs {
		begin := time.Now()
		if !s.failed.Load() && j.pts >= s.from {
			u, err := enc.Encode(j.pic, j.pts, j.key || first)
			if err != nil {
				s.fail(sink, err)
			}
			first, duration = false, j.duration
			s.emit(sink, u, duration)
		}
		s.pool.Put(j.pic)
		s.busy.Add(time.Since(begin).Microseconds())
	}
	for !s.failed.Load() && enc.Waiting() > 0 {
		u, _ := enc.Encode(nil, 0, false)
		if u == nil {
			break
		}
		s.emit(sink, u, duration) // no successor will tell
	}
}

// open opens the encoder and tells of its track.
func (s *stage) open(sink Sink, rate media.Rational) (codec.PictureEncoder, error) {
	r := s.rung
	enc, err := codec.NewPictureEncoder(r.Codec, codec.PictureSettings{
		Width: r.Width, Height: r.Height, SAR: r.SAR, FrameRate: rate,
		Bitrate: r.Bitrate, Peak: r.Peak, Buffer: r.Buffer, Effort: r.Effort, Colour: r.Colour,
	})
	if err != nil {
		return nil, err
	}
	t, err := enc.Track()
	if err != nil {
		enc.Close()
		return nil, err
	}
	t.FrameRate = rate
	sink.Track(r.ID, t)
	return enc, nil
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
