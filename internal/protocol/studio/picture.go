package studio

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/rawvideo"
)

// Small pictures of sources are made of what they send: a source is received until a picture is whole, one source at a
// time, when somebody asks, and the picture is kept for a while.
const (
	pictureWidth = 320
	pictureKept  = 5 * time.Second
	pictureWait  = 3 * time.Second
	//limit:samples of a picture for the console | each source | the picture is refused
	maxStill = 4096 * 2304 // samples of a JPEG picture
)

// shots are the pictures that were made.
type shots struct {
	mu   sync.Mutex
	made map[string]shot
	turn chan struct{} // has room for one who makes a picture
}

// begin waits for the turn to make a picture, unless the context ends before.
func (s *shots) begin(ctx context.Context) (end func(), ok bool) {
	s.mu.Lock()
	if s.turn == nil {
		s.turn = make(chan struct{}, 1)
	}
	turn := s.turn
	s.mu.Unlock()
	select {
	case turn <- struct{}{}:
		return func() { <-turn }, true
	case <-ctx.Done():
		return nil, false
	}
}

type shot struct {
	jpeg []byte
	at   time.Time
}

func (s *shots) get(id string) (shot, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out, ok := s.made[id]
	return out, ok && time.Since(out.at) < pictureKept
}

func (s *shots) set(id string, b []byte) shot {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made == nil {
		s.made = map[string]shot{}
	}
	for old, o := range s.made {
		if time.Since(o.at) > pictureKept {
			delete(s.made, old)
		}
	}
	s.made[id] = shot{b, time.Now()}
	return s.made[id]
}

// errNoPicture says that there is no source, or none of which pictures can be shown, and which.
var errNoPicture = errors.New("no picture")

// Picture is a small picture of a source, JPEG. The error is ErrNoPicture, with why.
func (d *Directory) Picture(ctx context.Context, id string) ([]byte, error) {
	e, err := d.find(id)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNoPicture, err)
	}
	if s, ok := d.shots.get(e.ID); ok {
		return s.jpeg, nil
	}
	end, ok := d.shots.begin(ctx)
	if !ok {
		return nil, fmt.Errorf("%w: others were asked for before it", errNoPicture)
	}
	defer end()
	if s, ok := d.shots.get(e.ID); ok { // another one asked for it
		return s.jpeg, nil
	}
	img, err := shoot(ctx, e)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNoPicture, err)
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 75}); err != nil {
		return nil, fmt.Errorf("%w: %w", errNoPicture, err)
	}
	return d.shots.set(e.ID, b.Bytes()).jpeg, nil
}

// shoot receives a source until a picture of it is whole.
func shoot(ctx context.Context, e *entry) (image.Image, error) {
	if e.address != "" {
		return nil, errors.New("it is fetched over RTSP: a channel shows its pictures")
	}
	ctx, cancel := context.WithTimeout(ctx, pictureWait)
	defer cancel()
	first := &firstPicture{got: make(chan struct{})}
	found := false
	in, err := open(e, func() (contribution.Feed, error) { return first, nil }, func(s *stream) bool {
		t, known := coding.Announced(s.m.Codec, s.m.Config)
		use := !found && s.m.Codec.Kind == media.Video && (known && t.OnlyCoded || !known && s.m.Format.Name == "JPEG")
		found = found || use
		return use
	})
	if err != nil {
		return nil, err
	}
	defer in.close()
	if !found {
		return nil, errors.New("it has no pictures, or encoded ones: a channel shows them")
	}
	select {
	case <-first.got:
		return first.image()
	case <-ctx.Done():
		return nil, errors.New("nothing came of it")
	}
}

// firstPicture is a feed that keeps the first picture alone.
type firstPicture struct {
	once  sync.Once
	got   chan struct{}
	track media.Track
	data  []byte
}

func (f *firstPicture) FrameRate(int64)                        {}
func (f *firstPicture) Anchor(media.TrackID, int64, time.Time) {}
func (f *firstPicture) Line(contribution.Line)                 {}
func (f *firstPicture) Extras(map[string]string)               {}
func (f *firstPicture) Caption(contribution.Caption)           {}
func (f *firstPicture) Splice(media.Clock, int64, []byte)      {}
func (f *firstPicture) Grid() time.Duration                    { return 0 }
func (f *firstPicture) Pace() time.Duration                    { return 0 }
func (f *firstPicture) End(string)                             {}
func (f *firstPicture) Kicked() <-chan string                  { return nil }
func (f *firstPicture) Track(t media.Track)                    { f.track = t }
func (f *firstPicture) Unit(_ media.TrackID, _, _ int64, _ bool, data []byte) {
	f.once.Do(func() {
		f.data = data
		close(f.got)
	})
}

func (f *firstPicture) image() (image.Image, error) {
	var raw rawvideo.Format
	if raw.Unmarshal(f.track.Config) == nil {
		if len(f.data) != raw.PictureBytes() {
			return nil, errors.New("its pictures are of another size than it says")
		}
		return raw.Small(f.data, pictureWidth), nil
	}
	conf, err := jpeg.DecodeConfig(bytes.NewReader(f.data))
	if err != nil || conf.Width*conf.Height > maxStill {
		return nil, errors.New("its pictures cannot be read")
	}
	img, err := jpeg.Decode(bytes.NewReader(f.data))
	if err != nil {
		return nil, errors.New("its pictures cannot be read")
	}
	return smaller(img), nil
}

// smaller leaves samples out.
func smaller(img image.Image) image.Image {
	b := img.Bounds()
	every := max((b.Dx()+pictureWidth-1)/pictureWidth, 1)
	out := image.NewRGBA(image.Rect(0, 0, b.Dx()/every, b.Dy()/every))
	for y := range out.Rect.Dy() {
		for x := range out.Rect.Dx() {
			out.Set(x, y, img.At(b.Min.X+x*every, b.Min.Y+y*every))
		}
	}
	return out
}
