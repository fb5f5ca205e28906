package transcode

import (
	"sync/atomic"
	"time"

	"metaplasis/internal/codec/h264enc"
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
	r := s.rung
	enc, err := h264enc.New(h264enc.Settings{
		Width: r.Width, Height: r.Height, SAR: r.SAR, FrameRate: rate,
		Bitrate: r.Bitrate, Peak: r.Peak, Buffer: r.Buffer, Effort: r.Effort, Colour: r.Colour,
	})
	if err == nil {
		defer enc.Close()
		var t media.Track
		if t, err = enc.Config.Track(); err == nil {
			t.FrameRate = rate
			sink.Track(r.Name, t)
		}
	}
	if err != nil {
		sink.Failed(r.Name, err)
	}
	first, duration := true, int64(0)
	for j := range s.jobs {
		begin := time.Now()
		if err == nil && j.pts >= s.from {
			var u *media.AccessUnit
			key := j.key || first
			if u, err = enc.Encode(j.pic, j.pts, key); err != nil {
				sink.Failed(r.Name, err)
			}
			first, duration = false, j.duration
			s.emit(sink, u, duration)
		}
		s.pool.Put(j.pic)
		s.busy.Add(time.Since(begin).Microseconds())
	}
	for err == nil && enc.Waiting() > 0 {
		var u *media.AccessUnit
		if u, err = enc.Encode(nil, 0, false); u == nil {
			break
		}
		s.emit(sink, u, duration) // no successor will tell
	}
}

func (s *stage) emit(sink Sink, u *media.AccessUnit, duration int64) {
	if u == nil {
		return
	}
	if u.DTS == u.PTS {
		u.Duration = duration
	}
	sink.Unit(s.rung.Name, *u)
}
