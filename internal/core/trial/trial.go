// Package trial encodes the last seconds of a feed in many ways, in the background, to see what each costs and how it
// looks. In come the encoded pictures of the source and a list of candidates; out comes a point for each: bits per second,
// quality, and processor time. Nothing of it is on air.
//
// Pictures are compared at one size for all candidates, as a viewer would see them on one screen: what is smaller is
// scaled up again, so that a small picture pays for what it leaves out.
package trial

import (
	"errors"
	"fmt"
	"syscall"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/quality"
	"metaplasis/internal/core/transcode"
)

// Candidate is one way of coding.
type Candidate struct {
	Rung transcode.Rung `json:"rung"`
	// Asked is the bitrate of the ladder's rung, which the encoder's own lies below so that segments keep to the peak.
	Asked int64 `json:"asked"`
}

// Request is what is to be tried.
type Request struct {
	Video      *media.Track `json:"video"`
	Candidates []Candidate  `json:"candidates"`
	// Screen is the size at which pictures are compared.
	Screen [2]int `json:"screen"`
}

// Point is what came of a candidate.
type Point struct {
	Codec   media.Codec `json:"codec"`
	Width   int         `json:"width"`
	Height  int         `json:"height"`
	Effort  int         `json:"effort"`
	Asked   int64       `json:"asked"`   // bits per second
	Bitrate int64       `json:"bitrate"` // that it took, bits per second
	PSNR    int64       `json:"psnr"`    // of luma, hundredths of a decibel
	SSIM    int64       `json:"ssim"`    // of luma, ten-thousandths
	Micros  int64       `json:"micros"`  // processor time of a picture
	Load    int64       `json:"load"`    // thousandths of a processor, at the source's rate
}

// Bounds of a request.
const (
	//limit:candidates | each trial | 422
	MaxCandidates = 48
	//limit:pictures | each trial | 422
	MaxPictures = 120
	// compareEach is which picture is compared, of all.
	compareEach = 5
)

// errNoPictures says that nothing could be decoded.
var errNoPictures = errors.New("found no pictures that can be decoded in the last seconds of the feed")

// run is the trial of one candidate.
type run struct {
	candidate Candidate
	enc       codec.PictureEncoder
	dec       codec.PictureDecoder
	scaler    scale.Scaler
	pic       *picture.Picture
	back      scale.Scaler
	shown     *picture.Picture
	waiting   map[int64]*picture.Picture // of the screen's size, by presentation time
	bytes     int64
	pictures  int64
	micros    int64
	psnr      float64
	ssim      float64
	compared  int64
}

// Run tries the candidates, one after the other over the same units, which begin at a random access point, and tells each
// point when it is known. It stops early when each returns false.
func Run(r Request, units []media.AccessUnit, each func(i int, p Point) bool) error {
	if len(r.Candidates) > MaxCandidates {
		return fmt.Errorf("found %d candidates, expected %d at most", len(r.Candidates), MaxCandidates)
	}
	for i, c := range r.Candidates {
		p, err := one(r, c, units)
		if err != nil {
			return fmt.Errorf("%dx%d at effort %d: %w", c.Rung.Width, c.Rung.Height, c.Rung.Effort, err)
		}
		if !each(i, p) {
			return nil
		}
	}
	return nil
}

func one(r Request, c Candidate, units []media.AccessUnit) (p Point, err error) {
	rate := r.Video.FrameRate
	if !rate.Valid() {
		rate = media.Rational{Num: 25, Den: 1}
	}
	k := c.Rung
	t := &run{candidate: c, waiting: map[int64]*picture.Picture{}, pic: picture.New(k.Width, k.Height), shown: picture.New(r.Screen[0], r.Screen[1])}
	if t.enc, err = codec.NewPictureEncoder(k.Codec, k.Settings(k.Cadence.Of(rate))); err != nil {
		return p, err
	}
	defer t.enc.Close()
	track, err := t.enc.Track()
	if err != nil {
		return p, err
	}
	if t.dec, err = codec.NewPictureDecoder(&track); err != nil {
		return p, err
	}
	defer t.dec.Close()
	source, err := codec.NewPictureDecoder(r.Video)
	if err != nil {
		return p, err
	}
	defer source.Close()
	if err := t.feed(source, r, units); err != nil {
		return p, err
	}
	if t.pictures == 0 || t.compared == 0 {
		return p, errNoPictures
	}
	n := float64(t.compared)
	p = Point{Codec: k.Codec, Width: k.Width, Height: k.Height, Effort: k.Effort, Asked: c.Asked,
		Bitrate: t.bytes * 8 * rate.Num / (rate.Den * t.pictures), PSNR: int64(t.psnr/n*100 + 0.5), SSIM: int64(t.ssim/n*10_000 + 0.5), Micros: t.micros / t.pictures}
	p.Load = p.Micros * rate.Num / (rate.Den * 1000)
	return p, nil
}

// feed takes the source's pictures in presentation order through the encoder and back.
func (t *run) feed(source codec.PictureDecoder, r Request, units []media.AccessUnit) error {
	var order transcode.Sorter
	var first error
	take := func(f *picture.Frame) {
		if first == nil {
			first = t.scoreFrame(f, r.Screen)
		}
	}
	for i := range units {
		if order.Count() >= MaxPictures {
			break
		}
		if err := source.Decode(&units[i], func(f *picture.Frame) { order.Add(f) }); err != nil {
			continue // what cannot be read is not compared
		}
		order.Take(units[i].DTS, take)
	}
	_ = source.Decode(nil, func(f *picture.Frame) { order.Add(f) })
	order.Take(1<<62, take)
	for first == nil && t.enc.Waiting() > 0 {
		if u, err := t.encode(nil, 0, false); err != nil || u == nil {
			return err
		}
	}
	_ = t.dec.Decode(nil, t.compare)
	return first
}

func (t *run) scoreFrame(f *picture.Frame, screen [2]int) error {
	k := &t.candidate.Rung
	if err := t.scaler.Shaped(t.pic, f, k.Shape()); err != nil {
		return err
	}
	if t.pictures%compareEach == 0 {
		full := picture.New(screen[0], screen[1])
		sh := k.Shape()
		sh.Inner, sh.Filter = [2]int{}, scale.Usual
		if err := t.back.Shaped(full, f, sh); err != nil {
			return err
		}
		t.waiting[f.PTS] = full
	}
	_, err := t.encode(t.pic, f.PTS, t.pictures == 0)
	t.pictures++
	return err
}

// encode encodes a picture, counts what it takes, and shows it again.
func (t *run) encode(p *picture.Picture, pts int64, key bool) (*media.AccessUnit, error) {
	begin := processTime()
	u, err := t.enc.Encode(p, pts, key)
	t.micros += processTime() - begin
	if u != nil {
		t.bytes += int64(len(u.Data))
		_ = t.dec.Decode(u, t.compare)
	}
	return u, err
}

// compare holds a decoded picture against what it was.
func (t *run) compare(f *picture.Frame) {
	before := t.waiting[f.PTS]
	if before == nil || t.back.FromFrame(t.shown, f) != nil {
		return
	}
	delete(t.waiting, f.PTS)
	t.psnr, t.ssim, t.compared = t.psnr+quality.PSNR(before, t.shown), t.ssim+quality.SSIM(before, t.shown), t.compared+1
}

// processTime is the processor time of this process, in microseconds: encoders may have threads of their own, and nothing
// else runs beside a trial.
func processTime() int64 {
	var ru syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &ru) != nil {
		return 0
	}
	return (ru.Utime.Nano() + ru.Stime.Nano()) / 1000
}
