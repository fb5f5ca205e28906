// Package transcode is the graph of one channel. It decodes a feed once, scales each picture down step
// by step, and encodes every rung on its own goroutine. It runs inside a worker process, with a graph
// for pictures and one for sound, each on a goroutine of its own: sound never waits behind pictures. In
// come access units and boundaries in decode order; out go the access units of each rendition, through a
// Sink. What decodes and encodes is found by codec and known by an interface alone.
package transcode

import (
	"bytes"
	"image/jpeg"
	"math"
	"slices"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"metaplasis/internal/codec"
	"metaplasis/internal/codec/scale"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/picture"
	"metaplasis/internal/core/segment"
)

// Rung is what an encoded video rendition needs to know.
type Rung struct {
	ID            media.TrackID  `json:"id"` // of the track that comes out
	Name          string         `json:"name"`
	Codec         media.Codec    `json:"codec"`
	Width, Height int            `json:",omitempty"`
	SAR           media.Rational `json:"sar"`
	Bitrate       int64          `json:"bitrate"`
	Peak          int64          `json:"peak"`
	Buffer        int            `json:"buffer"` // milliseconds
	Effort        int            `json:"effort"`
	Quality       int            `json:"quality,omitempty"`
	Profile       string         `json:"profile,omitempty"`
	Level         string         `json:"level,omitempty"`
	BFrames       int            `json:"bFrames,omitempty"`
	Content       ladder.Content `json:"content,omitempty"`
	Colour        media.Colour   `json:"colour,omitzero"`
	Cadence       Cadence        `json:"cadence,omitzero"`
	Picture       ladder.Picture `json:"picture,omitzero"`
	Inner         [2]int         `json:"inner,omitzero"` // size within black bars, 0 without any
	Logo          string         `json:"logo,omitempty"` // digest of its logo's image: another one is another rung
}

// Shape is what is done to the source's pictures beside scaling.
func (r *Rung) Shape() scale.Shape {
	c := r.Picture.Crop
	sh := scale.Shape{Left: c.Left, Top: c.Top, Right: c.Right, Bottom: c.Bottom, Turn: r.Picture.Rotate, Inner: r.Inner}
	switch r.Picture.Filter {
	case ladder.NearestFilter:
		sh.Filter = scale.Nearest
	case ladder.BilinearFilter:
		sh.Filter = scale.Bilinear
	case ladder.BoxFilter:
		sh.Filter = scale.Box
	}
	return sh
}

// AudioRung is an encoded audio rendition.
type AudioRung struct {
	ID      media.TrackID `json:"id"` // of the track that comes out
	Name    string        `json:"name"`
	Codec   media.Codec   `json:"codec"`
	Bitrate int64         `json:"bitrate"`
	// Channels are 1 or 2; 0 is as many as the source has.
	Channels int           `json:"channels,omitempty"`
	Track    media.TrackID `json:"track,omitempty"`    // that it is encoded of; 0 is the main one
	Rate     int           `json:"rate,omitempty"`     // samples per second; 0 is the source's
	Loudness int           `json:"loudness,omitempty"` // LUFS that it is brought to; 0 leaves it
}

// Config is what the graph makes. It takes effect at a boundary.
type Config struct {
	At    uint64       `json:"at"` // the first segment made this way
	Video *media.Track `json:"video,omitempty"`
	Audio *media.Track `json:"audio,omitempty"`
	// Others are further audio tracks, of which renditions may be encoded too.
	Others []*media.Track `json:"others,omitempty"`
	Rungs  []Rung         `json:"rungs"`
	Sound  []AudioRung    `json:"sound"`
	// Interlaced says what becomes of interlaced pictures.
	Interlaced ladder.Interlaced `json:"interlaced,omitempty"`
	// Nice is how far the worker stands back from other processes, 0 to 19.
	Nice int `json:"nice,omitempty"`
	// Images are the files of the images that rungs lay upon their pictures, by digest.
	Images map[string][]byte `json:"images,omitempty"`
	// Part is how far apart the parts of a segment begin, 0 without parts. The first picture of a part
	// is never dropped, so that no part becomes longer than it may.
	Part int64 `json:"part"`
	// Keep: no picture before this presentation time is dropped to save time, since it is a
	// repetition for a worker that was replaced.
	Keep int64 `json:"keep"`
	// Resume: of a rendition, nothing before this presentation time is encoded again, since it is
	// published already. The picture there becomes a keyframe.
	Resume map[media.TrackID]int64 `json:"resume,omitempty"`
}

// Stats counts what the graph has done since it was made.
type Stats struct {
	Decoded      int64 `json:"decoded"`           // pictures
	Dropped      int64 `json:"dropped"`           // pictures left out of all renditions alike to keep up
	Skipped      int64 `json:"skipped"`           // access units not decoded: before a keyframe, or too far behind
	Errors       int64 `json:"errors"`            // access units that the decoder refused
	LagMillis    int64 `json:"lag"`               // media time received but not yet worked on
	Busy         int64 `json:"busy"`              // microseconds that the busiest stage has worked
	MediaTime    int64 `json:"mediaTime"`         // microseconds of media worked on
	DropLevel    int   `json:"dropLevel"`         // 0: every picture is encoded; n: one of n+1
	FrozenMillis int64 `json:"frozen,omitempty"`  // for how long the source's picture has not changed
	BlackMillis  int64 `json:"black,omitempty"`   // for how long it has been black
	Keyless      bool  `json:"keyless,omitempty"` // the pictures that come cannot be decoded before a keyframe comes
	// Nodes are the parts of the graph, in the order in which media goes through them.
	Nodes   []Node    `json:"nodes"`
	Quality []Quality `json:"quality"` // of the renditions that have been sampled
	// Loudness is that of the source's sound, nil while none is decoded.
	Loudness *Loudness `json:"loudness,omitempty"`
	// Levels are those of renditions that are brought to a loudness.
	Levels []Leveled `json:"levels,omitempty"`
}

// Loudness is how loud sound is (EBU R 128), in hundredths of LUFS: over 0.4 s, over 3 s, and since the sound began. Peak
// is the highest true peak of the last second, in hundredths of a decibel of full scale.
type Loudness struct {
	Momentary  int64 `json:"momentary"`
	ShortTerm  int64 `json:"shortTerm"`
	Integrated int64 `json:"integrated"`
	Peak       int64 `json:"peak"`
}

// Node counts what one part of a graph has done since it was made.
type Node struct {
	Kind      NodeKind `json:"kind"`
	Rendition string   `json:"rendition,omitempty"` // that it works for alone
	Units     int64    `json:"units"`               // pictures, or frames of sound
	Busy      int64    `json:"busy"`                // microseconds
}

// NodeKind says what a node does.
type NodeKind string

// The kinds of node.
const (
	DecodePictures NodeKind = "decode"
	WholePictures  NodeKind = "deinterlace"
	TonePictures   NodeKind = "tone"
	ScalePictures  NodeKind = "scale"
	DrawPictures   NodeKind = "draw" // part of the time of encoding
	EncodePictures NodeKind = "encode"
	MeasureQuality NodeKind = "measure" // of samples; it is part of the time of encoding
	DecodeSound    NodeKind = "decode-sound"
	EncodeSound    NodeKind = "encode-sound"
	MeasureSound   NodeKind = "measure-sound"
)

// work counts the units and the time of a node.
type work struct{ units, busy atomic.Int64 }

func (w *work) add(d time.Duration) {
	w.units.Add(1)
	w.busy.Add(d.Microseconds())
}

func (w *work) node(k NodeKind, rendition string) Node {
	return Node{k, rendition, w.units.Load(), w.busy.Load()}
}

// Sink takes what the graph makes. Its methods are called from several goroutines.
type Sink interface {
	Track(id media.TrackID, t media.Track)
	Unit(id media.TrackID, u media.AccessUnit)
	Picture(jpeg []byte)
	// Failed says that a rendition cannot be made, or with 0 that all of the graph is concerned.
	Failed(id media.TrackID, err error)
}

// Limits of the effort to catch up, in ticks of media.VideoTimescale.
const (
	lagHigh = media.VideoTimescale * 6 / 10 // from here on pictures are dropped
	lagLow  = media.VideoTimescale * 2 / 10 // below this, fewer are
	lagSkip = media.VideoTimescale * 5      // from here on nothing is decoded until a keyframe
	// The same from a level on: then it is decoding that does not keep up.
	lagDecoding  = media.VideoTimescale * 3 / 2
	decodingFrom = 4
	//limit:steps by which a worker that is behind lets pictures out | each worker | it stays at the last one
	maxDrop = 7

	// From this level on, pictures that no other one refers to are not even decoded.
	skipFrom = 2

	pictureEvery = 2 * media.VideoTimescale
	pictureWidth = 320
)

// Graph makes the pictures of one channel's renditions. Its methods are called from one goroutine;
// Received and Stats may be called from any.
//
//large:the stages of one worker, with the lines between them
type Graph struct {
	still   still // of the source
	sink    Sink
	pending []Config
	current Config

	dec     codec.PictureDecoder
	synced  bool // the decoder has seen a keyframe
	started bool // a boundary was crossed with the decoder in step

	broken   bool // the decoder does not open, which was said
	decoding work
	whole    preparation
	beside   time.Duration // that was spent within the decoder's call on what is not decoding

	boundaries []segment.Boundary
	eras       []*era     // by start; the first is the one on air, the others have pictures that wait
	held       []held     // scaled pictures that wait for their turn in presentation order
	mu         sync.Mutex // guards stages against Stats
	stages     []*stage   // of the newest era
	pool       map[[2]int]*picture.Pool
	nextShot   int64
	shot       scale.Scaler
	step       int64 // ticks a picture at constant rate, else 0

	sinceDrop  int
	opened     int64 // where the newest segment began
	level      int
	levelSince int64
	lagThen    int64 // how far behind it was at levelSince
	// How long the decoder waited for encoders since a time, and whether that was much before.
	blocked      time.Duration
	judged       time.Time
	encodersWait bool

	received atomic.Int64 // newest decode time that the worker has, ticks
	stats    struct {
		decoded, dropped, skipped, errors, lag, busy, media, level atomic.Int64
		keyless                                                    atomic.Bool
	}
	firstPTS int64
}

// era is a stretch of presentation time with one set of encoders.
type era struct {
	start  int64
	stages []*stage // by falling size
}

// held is a picture on its way to the encoders, one scaled picture for each stage of its era.
type held struct {
	pts      int64
	at       time.Time // when it came
	duration int64
	must     bool // it opens a part, and pictures before it were left out
	era      *era
	pics     []*picture.Picture // nil: the picture before is shown again
}

// maxHeld is how many pictures may wait for one that is presented earlier: H.264 allows 16.
//
//limit:decoded pictures that wait for one that is presented earlier | each worker | the first goes on
const maxHeld = 17

// New makes an empty graph.
func New(sink Sink) *Graph {
	return &Graph{sink: sink, pool: map[[2]int]*picture.Pool{}, firstPTS: -1}
}

// Received notes the newest decode time that has come in, so that the graph knows how far behind
// it is.
func (g *Graph) Received(dts int64) { g.received.Store(dts) }

// Stats returns the counters.
func (g *Graph) Stats() Stats {
	s := Stats{
		Decoded: g.stats.decoded.Load(), Dropped: g.stats.dropped.Load(), Skipped: g.stats.skipped.Load(),
		Errors: g.stats.errors.Load(), LagMillis: media.RescaleDown(g.stats.lag.Load(), media.VideoTimescale, 1000),
		Busy: g.busiest(), Nodes: g.nodes(), Quality: g.quality(), FrozenMillis: g.still.frozen.Load(), BlackMillis: g.still.black.Load(), MediaTime: media.RescaleDown(g.stats.media.Load(), media.VideoTimescale, 1_000_000), DropLevel: int(g.stats.level.Load()),
		Keyless: g.stats.keyless.Load(),
	}
	return s
}

// busiest returns the time that the busiest stage has worked: decoding and scaling are one stage,
// each encoder another.
func (g *Graph) busiest() int64 {
	busiest := g.stats.busy.Load()
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.stages {
		busiest = max(busiest, s.busy.Load())
	}
	return busiest
}

// quality lists the newest samples.
func (g *Graph) quality() (out []Quality) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.stages {
		if q, known := s.sampler.result(); known {
			q.Rendition = s.rung.Name
			out = append(out, q)
		}
	}
	return out
}

// nodes lists the nodes of the newest era.
func (g *Graph) nodes() []Node {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := []Node{g.decoding.node(DecodePictures, "")}
	if n := g.whole.toning.node(TonePictures, ""); n.Units > 0 {
		out = append(out, n)
	}
	if n := g.whole.deinterlacing.node(WholePictures, ""); n.Units > 0 {
		out = append(out, n)
	}
	for _, s := range g.stages {
		out = append(out, s.scaling.node(ScalePictures, s.rung.Name), s.coding.node(EncodePictures, s.rung.Name), s.measuring.node(MeasureQuality, s.rung.Name))
		if n := s.drawing.node(DrawPictures, s.rung.Name); n.Units > 0 {
			out = append(out, n)
		}
	}
	return out
}

// Configure queues a configuration for the boundary that it names.
func (g *Graph) Configure(c Config) {
	g.pending = append(g.pending, c)
	if g.current.Video == nil {
		g.current.Video, g.current.Keep, g.current.Resume = c.Video, c.Keep, c.Resume
		g.whole.configure(c.Video, c.Interlaced)
		if t := c.Video; t != nil && t.FrameRate.Valid() {
			g.step = media.Rescale(media.VideoTimescale, t.FrameRate.Num, t.FrameRate.Den)
		}
	}
}

// Boundary announces where a segment begins. It must come before any unit behind it.
func (g *Graph) Boundary(b segment.Boundary) {
	g.boundaries = append(g.boundaries, b)
	for len(g.pending) > 0 && g.pending[0].At <= b.MSN {
		g.apply(g.pending[0], b.Start)
		g.pending = g.pending[1:]
	}
	if !g.wantsPictures() {
		g.boundaries = g.boundaries[:0] // no encoder will ask
	}
}

// wantsPictures reports whether every picture is needed, not just keyframes for the preview.
func (g *Graph) wantsPictures() bool {
	if len(g.current.Rungs) > 0 {
		return true
	}
	for _, c := range g.pending {
		if len(c.Rungs) > 0 {
			return true
		}
	}
	return false
}

// Video takes one access unit of the source.
func (g *Graph) Video(u *media.AccessUnit) {
	if g.broken {
		g.stats.skipped.Add(1)
		return
	}
	begin := time.Now()
	defer func() { g.noteBusy(time.Since(begin)) }()
	lag := max(0, g.received.Load()-u.DTS)
	g.stats.lag.Store(lag)
	if (lag > lagSkip || lag > lagDecoding && g.level >= decodingFrom) && u.PTS > g.current.Keep {
		g.synced = u.Key
	}
	if u.Key {
		g.synced = true
	}
	g.stats.keyless.Store(!g.synced && g.wantsPictures())
	if !g.synced || !u.Key && !g.wantsPictures() {
		if g.wantsPictures() { // else nobody misses them
			g.stats.skipped.Add(1)
		}
		g.synced = g.synced && g.wantsPictures()
		g.repeat(u)
		return
	}
	if g.level >= skipFrom && u.PTS > g.current.Keep && coding.Look(g.current.Video.Codec, u.Data).Disposable && !g.opens(u.PTS) {
		g.stats.decoded.Add(1)
		g.stats.dropped.Add(1)
		return
	}
	if g.dec == nil {
		var err error
		if g.dec, err = codec.NewPictureDecoder(g.current.Video); err != nil {
			g.broken = true
			g.sink.Failed(0, err)
			return
		}
	}
	g.beside = 0
	decoding := time.Now()
	err := g.dec.Decode(u, g.frame)
	g.decoding.add(time.Since(decoding) - g.beside)
	if err != nil {
		g.stats.errors.Add(1)
	}
	// Whatever is still to come is presented after it is decoded.
	g.emit(u.DTS + max(g.step, 1))
	if !g.wantsPictures() {
		g.synced = false
	}
}

// repeat stands in for an access unit that is not decoded: where it would open a segment or a part, the picture before is
// shown again, which costs next to nothing. So all segments and parts come, and are as long as they were announced.
func (g *Graph) repeat(u *media.AccessUnit) {
	if !g.started || !g.wantsPictures() {
		return
	}
	if g.opens(u.PTS) {
		if e := g.eraOf(u.PTS); e != nil && len(e.stages) > 0 {
			g.hold(held{pts: u.PTS, at: time.Now(), era: e, must: true})
		}
	}
	g.emit(u.DTS + max(g.step, 1))
}

// hold lets pictures wait in the order in which they are presented.
func (g *Graph) hold(h held) {
	at := sort.Search(len(g.held), func(i int) bool { return g.held[i].pts > h.pts })
	g.held = slices.Insert(g.held, at, h)
}

// noteBusy books the time of the decoding stage, less what it waited for others.
func (g *Graph) noteBusy(d time.Duration) {
	g.stats.busy.Add(d.Microseconds())
}

// frame takes a picture as it is decoded. What is interlaced becomes whole, and a high range the standard one.
func (g *Graph) frame(f *picture.Frame) {
	begin := time.Now()
	defer func() { g.beside += time.Since(begin) }()
	step := int64(0)
	if t := g.current.Video; t != nil && t.FrameRate.Valid() {
		step = t.FrameRate.Period(media.VideoTimescale)
	}
	if f.Interlaced && step > 0 && Fields(g.current.Interlaced) {
		g.step = step / 2
	}
	g.whole.prepare(f, step, g.picture)
}

// picture takes a whole picture in decode order: it is scaled for the encoders of its era, and waits for its turn.
func (g *Graph) picture(f *picture.Frame) {
	g.stats.decoded.Add(1)
	if g.firstPTS < 0 {
		g.firstPTS = f.PTS
	}
	g.stats.media.Store(max(f.PTS-g.firstPTS, 0))
	g.still.see(f)
	if f.PTS >= g.nextShot {
		g.nextShot = f.PTS + pictureEvery
		g.preview(f)
	}
	e := g.eraOf(f.PTS)
	if e == nil || len(e.stages) == 0 {
		return
	}
	opens := g.opens(f.PTS)
	if opens {
		g.sinceDrop = 0 // the rhythm starts over
	} else if g.drop(f.PTS) {
		g.stats.dropped.Add(1)
		return
	}
	h := held{pts: f.PTS, at: time.Now(), duration: g.step, era: e}
	if g.level > 0 {
		h.duration, h.must = 0, opens
	}
	// Each picture is scaled from the one above it, the first from the frame.
	var above *picture.Picture
	var shape scale.Shape // of the one above
	for _, s := range e.stages {
		begin := time.Now()
		pic := s.pool.Get()
		var err error
		own := s.rung.Shape()
		if above == nil || pic.Width > above.Width || pic.Height > above.Height || own != shape || own.Inner != [2]int{} || own.Filter != scale.Usual {
			err = s.scaler.Shaped(pic, f, own)
		} else {
			err = s.scaler.Picture(pic, above)
		}
		if err != nil { // the sizes do not go together; the others do without
			s.fail(g.sink, err)
		} else {
			above, shape = pic, own
		}
		s.scaling.add(time.Since(begin))
		h.pics = append(h.pics, pic)
	}
	g.hold(h)
}

// eraOf returns the newest era that a presentation time has reached.
func (g *Graph) eraOf(pts int64) *era {
	for i := len(g.eras) - 1; i >= 0; i-- {
		if g.eras[i].start <= pts {
			return g.eras[i]
		}
	}
	return nil
}

// opens reports whether a picture may be the first of a segment or part, which is never dropped.
func (g *Graph) opens(pts int64) bool {
	first := g.step // so long after a line there may be the first picture
	if first == 0 {
		first = media.VideoTimescale / 25
	}
	for _, b := range g.boundaries {
		if pts < b.Start {
			break
		}
		g.opened = b.Start
		if pts < b.Start+max(first, media.VideoTimescale/25) {
			return true
		}
	}
	const slack = media.VideoTimescale / 2000 // of times that were rounded
	return g.current.Part > 0 && pts >= g.opened && (pts-g.opened+slack)%g.current.Part < first
}

// emit hands the pictures presented before a time to the encoders, in order.
func (g *Graph) emit(before int64) {
	n := 0
	for n < len(g.held) && (g.held[n].pts < before || len(g.held)-n > maxHeld) {
		h := &g.held[n]
		n++
		crossed := false
		for len(g.boundaries) > 0 && g.boundaries[0].Start <= h.pts {
			// A picture far behind its boundary means that the first ones are missing: wait for the next.
			g.started = g.started || h.pts-g.boundaries[0].Start < media.VideoTimescale/5
			g.boundaries = g.boundaries[1:]
			crossed = true
		}
		for len(g.eras) > 1 && g.eras[0] != h.era {
			g.endEra()
		}
		for i, s := range h.era.stages {
			var pic *picture.Picture
			if h.pics != nil {
				pic = h.pics[i]
			}
			if !g.started {
				if pic != nil {
					s.pool.Put(pic)
				}
				continue
			}
			waited := time.Now()
			s.jobs <- job{pic: pic, pts: h.pts, at: h.at, key: crossed, must: h.must, duration: h.duration}
			d := time.Since(waited)
			g.blocked += d
			g.stats.busy.Add(-d.Microseconds())
		}
	}
	clear(g.held[:n])
	g.held = g.held[n:]
}

// endEra closes the encoders of the oldest era that the one behind it does not share.
func (g *Graph) endEra() {
	for _, s := range g.eras[0].stages {
		if !slices.Contains(g.eras[1].stages, s) {
			close(s.jobs)
		}
	}
	g.eras = g.eras[1:]
}

// drop decides whether a picture is left out, one rhythm for all renditions.
func (g *Graph) drop(pts int64) bool {
	lag := g.stats.lag.Load()
	if pts <= g.current.Keep {
		return false
	}
	if g.levelSince == 0 { // the first picture: how the lag goes shows with those behind it
		g.levelSince, g.lagThen = pts, lag
	}
	const step = media.VideoTimescale / 2
	if since := pts - g.levelSince; since > step || since > step/2 && lag > 2*lagHigh {
		switch {
		case lag < g.lagThen-since/4: // it is catching up by itself, as behind a worker that was lost: nothing is left out for that
			g.levelSince, g.lagThen = pts, lag
		case lag > lagHigh && g.level < maxDrop:
			g.level++
			g.levelSince, g.lagThen = pts, lag
		case lag < lagLow && g.level > 0:
			g.level--
			g.levelSince, g.lagThen = pts, lag
		}
		g.stats.level.Store(int64(g.level))
	}
	// Encoders that never let the decoder wait are not what is short: leaving out what is decoded already would win nothing.
	if now := time.Now(); now.Sub(g.judged) > time.Second {
		g.encodersWait = g.blocked*20 > now.Sub(g.judged)
		g.judged, g.blocked = now, 0
	}
	if g.level >= skipFrom && !g.encodersWait {
		return false
	}
	if g.sinceDrop < g.level {
		g.sinceDrop++
		return true
	}
	g.sinceDrop = 0
	return false
}

// apply begins an era at a boundary. Encoders that stay as they are go on in it; those that
// change wait for their predecessor to finish.
func (g *Graph) apply(c Config, start int64) {
	if len(c.Rungs) > 0 && len(g.stages) == 0 {
		g.started = false
	}
	rate := media.Rational{}
	if c.Video != nil {
		if rate = c.Video.FrameRate; c.Video.Interlaced && Fields(c.Interlaced) {
			rate.Num *= 2
		}
	}
	e := &era{start: start}
	for _, r := range c.Rungs {
		var after <-chan struct{}
		at := slices.IndexFunc(g.stages, func(s *stage) bool { return s.rung.ID == r.ID })
		if at >= 0 && g.stages[at].rung == r {
			e.stages = append(e.stages, g.stages[at])
			continue
		}
		if at >= 0 {
			after = g.stages[at].done
		}
		e.stages = append(e.stages, newStage(g.sink, r, rate, g.poolFor(r.Width, r.Height), after,
			g.current.Resume[r.ID], c.Images[r.Logo]))
	}
	sort.SliceStable(e.stages, func(i, j int) bool {
		a, b := e.stages[i].rung, e.stages[j].rung
		return a.Width*a.Height > b.Width*b.Height
	})
	g.eras = append(g.eras, e)
	g.setStages(e.stages)
	g.current.Rungs, g.current.Part, g.current.Interlaced = c.Rungs, c.Part, c.Interlaced
	g.whole.configure(c.Video, c.Interlaced)
	if len(g.held) == 0 && len(c.Rungs) == 0 {
		for len(g.eras) > 1 {
			g.endEra() // no picture will come to do it
		}
	}
}

func (g *Graph) setStages(s []*stage) {
	g.mu.Lock()
	g.stages = s
	g.mu.Unlock()
}

func (g *Graph) poolFor(w, h int) *picture.Pool {
	p := g.pool[[2]int{w, h}]
	if p == nil {
		p = picture.NewPool(w, h)
		g.pool[[2]int{w, h}] = p
	}
	return p
}

// colour is how the source's samples are to be read.
func (g *Graph) colour() media.Colour {
	if t := g.current.Video; t != nil {
		return t.Colour
	}
	return media.Colour{}
}

// preview sends a small JPEG of a picture.
func (g *Graph) preview(f *picture.Frame) {
	w, h := f.Width, f.Height
	if t := g.current.Video; t != nil && t.SAR.Valid() {
		w = int(media.Rescale(int64(w), t.SAR.Den, t.SAR.Num))
	}
	if w == 0 || h == 0 {
		return
	}
	pw, ph := pictureWidth, max(2, pictureWidth*h/w&^1)
	if h > w {
		pw, ph = max(2, pictureWidth*w/h&^1), pictureWidth
	}
	small := g.poolFor(pw, ph).Get()
	defer g.poolFor(pw, ph).Put(small)
	if err := g.shot.FromFrame(small, f); err != nil {
		return
	}
	img := asJPEG(small, g.colour())
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 80}); err == nil {
		g.sink.Picture(b.Bytes())
	}
}

// Drain codes everything that is still held and returns when it is out. The graph can go on
// after that with a keyframe.
func (g *Graph) Drain() {
	if g.dec != nil {
		if err := g.dec.Decode(nil, g.frame); err != nil {
			g.stats.errors.Add(1)
		}
	}
	g.emit(math.MaxInt64)
	for len(g.eras) > 1 {
		g.endEra()
	}
	for _, s := range g.stages {
		close(s.jobs)
	}
	for _, s := range g.stages {
		<-s.done
	}
	g.eras = nil
	g.setStages(nil)
	if g.dec != nil {
		g.dec.Close()
		g.dec = nil
	}
	g.synced, g.started, g.broken = false, false, false
}
