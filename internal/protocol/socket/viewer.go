package socket

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/fan"
)

// Request is what a viewer says.
type Request struct {
	Do    string `json:"do"`              // rung, sound, pause, play
	Rung  string `json:"rung,omitempty"`  // of rung: its name, or "" for the line's choice
	Sound string `json:"sound,omitempty"` // of sound: a rendition
}

// Told is what a viewer is told.
type Told struct {
	Type   string         `json:"type"` // channel, track, state or end
	Rungs  []onward.Offer `json:"rungs,omitempty"`
	Tracks []int          `json:"tracks,omitempty"` // that will come
	Sounds []onward.Sound `json:"sounds,omitempty"` // that can be chosen
	Track  int            `json:"track,omitempty"`
	Codec  string         `json:"codec,omitempty"` // RFC 6381
	Kind   string         `json:"kind,omitempty"`  // video or audio
	Rung   string         `json:"rung,omitempty"`
	Width  int            `json:"width,omitempty"`
	Height int            `json:"height,omitempty"`
	// State is told each second.
	Bitrate int64  `json:"bitrate,omitempty"` // of the pictures, bits per second
	Behind  int64  `json:"behind"`            // milliseconds of media that wait for the line
	LeftOut int64  `json:"leftOut,omitempty"` // times that the viewer was too slow and pictures were left out
	ByHand  bool   `json:"byHand,omitempty"`
	Now     int64  `json:"now,omitempty"`   // the service's clock, milliseconds since 1970
	Epoch   int64  `json:"epoch,omitempty"` // the same at media time 0
	Why     string `json:"why,omitempty"`   // of end
}

// viewer is one viewer.
type viewer struct {
	s       *Server
	line    Line
	channel string
	changed chan struct{}

	mu     sync.Mutex
	rung   string // that it wants; "" leaves it to the line
	sound  string
	paused bool
	wrong  error // with what the viewer sent

	video, audio *feed
	batch        []message // that go out together
	offers       []onward.Offer
	steps        fan.Steps
	blocked      time.Duration // that the line took to send, since the newest look
	looked       time.Time
}

// feed is a track on its way to a viewer.
type feed struct {
	reader *fan.Reader
	packer *fan.Packer // whose head was sent
	units  [16]fan.Unit
}

const (
	sendWithin = 10 * time.Second // that a line may take nothing
	lookEach   = time.Second
	firstBack  = 8 * time.Second // before a better rung is tried; a socket tells less of its line than RTP's reports do
	//limit:ticks of media that wait for the line | each viewer | the viewer is moved to less
	mostBehind = 1 * media.VideoTimescale // that waits for the line before the viewer is moved to less
	jumpBehind = 2 * media.VideoTimescale // and before pictures are left out
)

// Play plays a channel over a line until one of them ends. way is how it is counted.
func (s *Server) Play(ctx context.Context, line Line, channel, rung, sound string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	v := &viewer{s: s, line: line, channel: channel, rung: rung, sound: sound, changed: make(chan struct{}, 1), looked: time.Now()}
	v.steps.Begin(v.looked, firstBack)
	go v.listen(ctx, cancel)
	err := v.run(ctx)
	why := "the channel is over"
	if err != nil {
		why = err.Error()
	}
	if wrong := v.broken(); wrong != nil {
		line.Fail(wrong)
		return
	}
	line.Close(why)
}

// broken is what was wrong with what the viewer sent, nil when nothing was.
func (v *viewer) broken() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.wrong
}

// listen takes what the viewer says.
func (v *viewer) listen(ctx context.Context, cancel context.CancelFunc) {
	defer cancel()
	for {
		b, err := v.line.Read(ctx)
		var wrong *ProtocolError
		if errors.As(err, &wrong) {
			v.mu.Lock()
			v.wrong = wrong
			v.mu.Unlock()
		}
		if err != nil {
			return
		}
		var r Request
		if json.Unmarshal(b, &r) != nil {
			continue // another version's
		}
		v.mu.Lock()
		switch r.Do {
		case "rung":
			v.rung = r.Rung
		case "sound":
			v.sound = r.Sound
		case "pause":
			v.paused = true
		case "play":
			v.paused = false
		}
		v.mu.Unlock()
		select {
		case v.changed <- struct{}{}:
		default:
		}
	}
}

func (v *viewer) tell(ctx context.Context, t *Told) error {
	b, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return v.line.Text(ctx, b)
}

// want is what the viewer asks for now.
func (v *viewer) want() (rung, sound string, paused bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.rung, v.sound, v.paused
}

func (v *viewer) run(ctx context.Context) error {
	_, video, audio := v.s.Channels.Runs(v.channel)
	rung, sound, _ := v.want()
	v.offers = v.s.pool.About(v.channel, "").Offers
	var tracks []int
	if video {
		tracks = append(tracks, trackVideo)
	}
	if audio {
		tracks = append(tracks, trackSound)
	}
	if err := v.tell(ctx, &Told{Type: "channel", Rungs: v.offers, Sounds: v.s.Channels.Sounds(v.channel), Tracks: tracks}); err != nil {
		return err
	}
	if rung == "" && len(v.offers) > 0 {
		rung = v.offers[0].Rung
	}
	if video || !audio {
		v.video = &feed{reader: v.s.pool.NewReader(fan.Name{Channel: v.channel, Kind: media.Video, Rung: rung})}
		defer v.video.reader.Close()
	}
	v.audio = &feed{reader: v.s.pool.NewReader(fan.Name{Channel: v.channel, Kind: media.Audio, Rung: rung, Sound: sound})}
	defer func() { v.audio.reader.Close() }()
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		_, _, paused := v.want()
		var ready [2]<-chan struct{}
		for i, f := range []*feed{v.video, v.audio} {
			if f == nil || paused {
				continue
			}
			wait := f.reader.Wait
			if f == v.audio && v.video != nil {
				wait = f.reader.Later // sound goes out with the pictures
			}
			var over bool
			if ready[i], over = wait(); over {
				return nil
			}
		}
		var err error
		select {
		case <-ctx.Done():
			return nil
		case <-ready[0]:
			err = v.send(ctx)
		case <-ready[1]:
			err = v.send(ctx)
		case <-v.changed:
			v.obey()
		case now := <-look.C:
			err = v.adapt(ctx, now)
		}
		if err != nil {
			return err
		}
	}
}

// obey does what the viewer asked for.
func (v *viewer) obey() {
	rung, sound, paused := v.want()
	if paused {
		for _, f := range []*feed{v.video, v.audio} {
			if f != nil {
				f.reader.Restart() // it goes on at the newest keyframe
			}
		}
		return
	}
	if rung != "" && v.video != nil && rung != v.video.reader.Stream().Rung {
		v.change(rung)
	}
	if was := v.audio.reader.Stream(); sound != was.Sound {
		v.audio.reader.Close()
		v.audio = &feed{reader: v.s.pool.NewReader(fan.Name{Channel: v.channel, Kind: media.Audio, Rung: was.Rung, Sound: sound})}
	}
}

// change goes to another rung at its next keyframe.
func (v *viewer) change(rung string) {
	if rung != v.video.reader.Stream().Rung {
		v.steps.Changed(time.Now())
	}
	v.video.reader.Change(fan.Name{Channel: v.channel, Kind: media.Video, Rung: rung})
}

// send sends what has come.
func (v *viewer) send(ctx context.Context) error {
	for more := true; more; {
		more = false
		for _, f := range []*feed{v.audio, v.video} {
			if f == nil {
				continue
			}
			n, _ := f.reader.Read(f.units[:])
			for i := range f.units[:n] {
				if err := v.unit(ctx, f, &f.units[i]); err != nil {
					return err
				}
				f.units[i] = fan.Unit{}
			}
			more = more || n == len(f.units)
		}
		if err := v.flush(ctx); err != nil {
			return err
		}
		if v.video != nil {
			v.hurry(v.video)
		}
	}
	return nil
}

// flush sends the messages that are at hand.
func (v *viewer) flush(ctx context.Context) error {
	if len(v.batch) == 0 {
		return nil
	}
	begun := time.Now()
	err := v.line.Binary(ctx, v.batch)
	v.blocked += time.Since(begun)
	clear(v.batch)
	v.batch = v.batch[:0]
	return err
}

// unit sends a unit, behind what a decoder needs for it.
func (v *viewer) unit(ctx context.Context, f *feed, u *fan.Unit) error {
	if u.Packer != f.packer {
		f.packer = u.Packer
		if err := v.flush(ctx); err != nil {
			return err
		}
		t := u.Track
		if err := v.tell(ctx, &Told{Type: "track", Track: int(trackNumber(t.Kind)), Kind: t.Kind.String(), Codec: t.CodecName, Rung: f.reader.Stream().Rung, Width: t.Width, Height: t.Height}); err != nil {
			return err
		}
		v.batch = append(v.batch, u.Packer.Head)
	}
	v.batch = append(v.batch, u.Pieces[0])
	return nil
}

// hurry moves a viewer whose line is slow to a lower rung, then to the newest keyframe.
func (v *viewer) hurry(f *feed) {
	now := time.Now()
	behind := f.reader.Behind()
	if behind > jumpBehind {
		f.reader.Skip()
	}
	if behind <= mostBehind || f.reader.Changing() || !v.steps.Settled(now) {
		return
	}
	if rung, _, _ := v.want(); rung != "" {
		return // by hand
	}
	if at := v.at(); at >= 0 && at+1 < len(v.offers) {
		v.steps.Sink(now)
		v.change(v.offers[at+1].Rung)
	}
}

// at is the place of the rung among those that are offered, -1 when it is none.
func (v *viewer) at() int {
	return slices.IndexFunc(v.offers, func(o onward.Offer) bool { return o.Rung == v.video.reader.Stream().Rung })
}

// adapt tells the viewer how it is doing, and tries a better rung when the line has room.
func (v *viewer) adapt(ctx context.Context, now time.Time) error {
	about := v.s.pool.About(v.channel, "")
	offers := about.Offers
	if !slices.Equal(offers, v.offers) && len(offers) > 0 {
		v.offers = offers
		if err := v.tell(ctx, &Told{Type: "channel", Rungs: offers, Sounds: v.s.Channels.Sounds(v.channel)}); err != nil {
			return err
		}
	}
	t := &Told{Type: "state", Now: now.UnixMilli()}
	if !about.Epoch.IsZero() {
		t.Epoch = about.Epoch.UnixMilli()
	}
	if f := v.video; f != nil {
		rung, _, paused := v.want()
		if f.reader.Changing() { // what it is sent may have ended
			if err := v.send(ctx); err != nil {
				return err
			}
		}
		busy := v.blocked * 100 / max(now.Sub(v.looked), 1)
		at := v.at()
		switch {
		case rung != "" || paused || f.reader.Changing():
		case at < 0 && len(v.offers) > 0:
			v.change(v.offers[0].Rung)
		case at > 0 && v.steps.MayClimb(now) && busy < 25 && f.reader.Behind() < mostBehind/4:
			v.steps.Climb(now)
			v.change(v.offers[at-1].Rung)
		}
		s := f.reader.Stream()
		t.Rung, t.Bitrate, t.Behind, t.LeftOut, t.ByHand = s.Rung, s.Bitrate(), f.reader.Behind()/90, f.reader.Lost, rung != ""
	}
	v.blocked, v.looked = 0, now
	return v.tell(ctx, t)
}
