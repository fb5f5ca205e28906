package push

import (
	"metaplasis/internal/safely"

	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/cmaf"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network"
)

// Bounds.
const (
	//limit:senders that push | all | 503
	maxSessions = 256
	//limit:tracks | each sender that pushes | the track is refused
	maxTracks = 16
	//limit:requests that wait for the one before them | each track | 503
	maxWaiting = 8
	readSize   = 64 << 10
	stall      = 10 * time.Second // without a byte of a request
	replaced   = 2 * time.Second  // the same, while another one of its track waits
	betweenMax = 10 * time.Second // without any request of a sender
	silence    = 3 * time.Second  // without media, until others may take its place: segments come one by one
	lookEach   = time.Second
)

// Server takes what is pushed.
type Server struct {
	Receiver contribution.Receiver
	Streams  *demux.Streams // where transport streams of channels are found
	Logger   *slog.Logger

	mu       sync.Mutex
	sessions map[string]*session
	stop     chan struct{}
	stopped  bool
	all      sync.WaitGroup
}

// session is one sender of CMAF tracks, whatever requests it uses.
type session struct {
	opened   chan struct{} // closed when the sender was let in, or was not
	refused  error         // why it was not
	s        *Server
	key      string
	feed     contribution.Feed
	channel  string
	mu       sync.Mutex // of the tracks: requests of one sender take turns
	tracks   map[string]*track
	requests int
	heard    time.Time
	ended    bool
	why      string // it had to go
	gate     contribution.Opening
}

type track struct {
	reader *cmaf.Reader
	held   map[media.TrackID]*media.Track // told when the pictures come
	x      *session
	id     media.TrackID
	queue  chan struct{} // holds one: the request whose bytes are read. The others of the track wait in their order
	waits  atomic.Int32  // how many
	now    atomic.Pointer[http.ResponseController]
}

// Routes answers below /in.
func (s *Server) Routes() http.Handler {
	r := chi.NewRouter()
	for _, method := range []string{http.MethodPut, http.MethodPost} {
		r.Method(method, "/{channel}/*", http.HandlerFunc(s.receive))
	}
	r.Delete("/{channel}/*", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusOK) }) // windows are ours
	return r
}

// Close ends all sessions.
func (s *Server) Close() {
	s.mu.Lock()
	s.stopped = true
	if s.stop != nil {
		close(s.stop)
	}
	list := make([]*session, 0, len(s.sessions))
	for _, x := range s.sessions {
		list = append(list, x)
	}
	s.mu.Unlock()
	for _, x := range list {
		x.end("the service stopped")
	}
	s.all.Wait()
}

// keyOf is the contribution key of a request: bearer token, query, or password of any user.
func keyOf(r *http.Request) string {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if strings.EqualFold(scheme, "bearer") {
		return strings.TrimSpace(token)
	}
	_, password, _ := r.BasicAuth()
	return cmp.Or(r.URL.Query().Get("key"), password)
}

func (s *Server) receive(w http.ResponseWriter, r *http.Request) {
	channel, key := chi.URLParam(r, "channel"), keyOf(r)
	name := strings.Trim(chi.URLParam(r, "*"), "/")
	if key == "" {
		w.Header().Set("WWW-Authenticate", `Basic realm="contribution key as password"`)
		http.Error(w, "A contribution key is needed: as bearer token, as query ?key=, or as password.", http.StatusUnauthorized)
		return
	}
	sender := contribution.Sender{Channel: channel, Key: key, Protocol: "HTTP", Remote: r.RemoteAddr, Silence: silence}
	kind := path.Ext(strings.TrimSuffix(name, ")"))
	switch {
	case kind == ".ts" || strings.EqualFold(r.Header.Get("Content-Type"), "video/mp2t"):
		s.stream(w, r, sender)
	case kind == ".mpd" || kind == ".m3u8":
		if err := s.Receiver.May(sender); err != nil && !s.Receiver.IsTaken(err) {
			refuse(w, s.Receiver, err)
			return
		}
		_, _ = io.Copy(io.Discard, http.MaxBytesReader(w, r.Body, 1<<20)) // ours are made from the media
	default:
		s.tracks(w, r, sender, name)
	}
}

func refuse(w http.ResponseWriter, r contribution.Receiver, err error) {
	status := http.StatusForbidden
	if r.IsTaken(err) {
		status = http.StatusConflict
	}
	http.Error(w, err.Error(), status)
}

// stream takes a transport stream.
func (s *Server) stream(w http.ResponseWriter, r *http.Request, sender contribution.Sender) {
	feed, err := s.Receiver.Open(sender)
	if err != nil {
		refuse(w, s.Receiver, err)
		return
	}
	stream := demux.NewStream(time.Now)
	defer s.Streams.Publish(sender.Channel, stream)()
	over, stop := stream.Take("", func() (contribution.Feed, error) { return feed, nil })
	stream.Expect(feed)
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	go func() {
		select {
		case <-over:
			cancel()
			_ = http.NewResponseController(w).SetReadDeadline(time.Now())
		case <-ctx.Done():
		}
	}()
	err = safely.Run(s.Logger, func() error { return s.read(ctx, w, r, stream) })
	stop(err.Error())
	stream.Close(err)
	feed.End(err.Error())
	if !errors.Is(err, errWhole) {
		http.Error(w, "The stream was ended: "+err.Error(), http.StatusBadRequest)
	}
}

var errWhole = errors.New("it ended its stream")

func (s *Server) read(ctx context.Context, w http.ResponseWriter, r *http.Request, stream *demux.Stream) error {
	control := http.NewResponseController(w)
	buf := make([]byte, readSize)
	for {
		_ = control.SetReadDeadline(time.Now().Add(stall))
		_ = control.SetWriteDeadline(time.Now().Add(2 * stall))
		n, err := r.Body.Read(buf)
		stream.Write(buf[:n])
		switch {
		case errors.Is(err, io.EOF):
			return errWhole
		case ctx.Err() != nil:
			return errors.New("it had to go")
		case err != nil:
			return fmt.Errorf("the connection was lost, or nothing came for %d s", int(stall.Seconds()))
		}
		for wait := stream.Pace(); wait > 0; wait = stream.Pace() {
			select {
			case <-ctx.Done():
				return errors.New("it had to go")
			case <-time.After(wait):
			}
		}
	}
}

// tracks takes a track of CMAF, or a segment of one.
func (s *Server) tracks(w http.ResponseWriter, r *http.Request, sender contribution.Sender, name string) {
	if r.ContentLength == 0 { // a sender tries the address (DASH-IF live ingest, 5.3)
		if err := s.Receiver.May(sender); err != nil && !s.Receiver.IsTaken(err) {
			refuse(w, s.Receiver, err)
		}
		return
	}
	x, err := s.join(sender)
	if err != nil {
		refuse(w, s.Receiver, err)
		return
	}
	defer x.leave()
	t, err := x.track(trackName(name))
	if err == nil {
		err = safely.Run(s.Logger, func() error { return x.read(w, r, t) })
	}
	switch {
	case media.IsFormat(err):
		s.Receiver.Report(sender.Channel, network.Of(sender.Remote), "feed-broken", fmt.Sprintf("A request of %s over HTTP was ended: %v.", sender.Remote, err),
			"Send CMAF track files, one track in each, or a transport stream.")
		http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
	case errors.Is(err, errNoHeader): // the sender sends it again (DASH-IF live ingest, 5.3)
		http.Error(w, err.Error(), http.StatusPreconditionFailed)
	case errors.Is(err, errCrowded):
		w.Header().Set("Retry-After", "1")
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
	case err != nil:
		http.Error(w, err.Error(), http.StatusConflict)
	}
}

var errNoHeader = errors.New("the header of the track has not come: send it first")

// trackName is what the requests of one track have in common: Streams(NAME), or all before the last number and the
// extension of a segment's name. A header is named like its segments, or lies in the same folder.
func trackName(name string) string {
	if inner, ok := strings.CutPrefix(name, "Streams("); ok {
		return strings.TrimSuffix(inner, ")")
	}
	folder, file := path.Split(name)
	if folder != "" && strings.Contains(strings.ToLower(file), "init") {
		return folder
	}
	stem := strings.TrimSuffix(file, path.Ext(file))
	short := strings.TrimRight(stem, "0123456789")
	if short == stem { // it goes on in one request, or all requests have one name
		return name
	}
	if folder != "" {
		return folder
	}
	return strings.TrimRight(short, "-_.")
}

// join finds the sender's session, or begins one.
func (s *Server) join(sender contribution.Sender) (*session, error) {
	key := sender.Channel + "\x00" + sender.Key + "\x00" + network.Of(sender.Remote)
	x, fresh, err := s.place(key, sender.Channel)
	if err != nil {
		return nil, err
	}
	if !fresh {
		<-x.opened
		return x, x.refused
	}
	defer close(x.opened)
	// The admission asks others. Nobody else waits for it.
	if x.feed, x.refused = s.Receiver.Open(sender); x.refused != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.sessions, key)
		return nil, x.refused
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		x.refused = errStops
		x.feed.End(errStops.Error())
		return nil, x.refused
	}
	s.all.Add(1)
	go safely.Do(s.Logger, x.watch, func(err error) { x.end(err.Error()) })
	return x, nil
}

var errStops = errors.New("the service stops")

// place finds the session of a key, or makes room for one whose feed is still to be opened.
func (s *Server) place(key, channel string) (x *session, fresh bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		return nil, false, errStops
	}
	if x := s.sessions[key]; x != nil {
		x.requests++
		x.heard = time.Now()
		return x, false, nil
	}
	if len(s.sessions) >= maxSessions {
		return nil, false, errors.New("too many senders push over HTTP")
	}
	x = &session{s: s, key: key, channel: channel, tracks: map[string]*track{}, requests: 1, heard: time.Now(), opened: make(chan struct{})}
	x.gate = contribution.Opening{Pictures: true, Begun: time.Now()}
	if s.sessions == nil {
		s.sessions, s.stop = map[string]*session{}, make(chan struct{})
	}
	s.sessions[key] = x
	return x, true, nil
}

// watch ends a session that has to go, or of which nothing comes any more.
func (x *session) watch() {
	defer x.s.all.Done()
	look := time.NewTicker(lookEach)
	defer look.Stop()
	for {
		select {
		case why := <-x.feed.Kicked():
			x.end(why)
			return
		case <-x.s.stop:
			x.end("the service stopped")
			return
		case now := <-look.C:
			x.s.mu.Lock()
			idle := x.requests == 0 && now.Sub(x.heard) > betweenMax
			x.s.mu.Unlock()
			if idle {
				x.end(fmt.Sprintf("no request came for %d s", int(betweenMax.Seconds())))
				return
			}
		}
	}
}

func (x *session) leave() {
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	x.requests--
	x.heard = time.Now()
}

func (x *session) end(why string) {
	x.s.mu.Lock()
	delete(x.s.sessions, x.key)
	x.s.mu.Unlock()
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.ended {
		x.ended, x.why = true, why
		if x.feed != nil {
			x.feed.End(why)
		}
	}
}

// track finds a track, or begins one.
func (x *session) track(name string) (*track, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if t := x.tracks[name]; t != nil {
		return t, nil
	}
	if len(x.tracks) >= maxTracks {
		return nil, fmt.Errorf("found a further track %.60q, expected %d at most", name, maxTracks)
	}
	t := &track{x: x, id: idOf(name, len(x.tracks)), queue: make(chan struct{}, 1), held: map[media.TrackID]*media.Track{}}
	t.reader = cmaf.NewReader(t.id, "", t)
	x.tracks[name] = t
	return t, nil
}

// idOf orders the tracks of a sender: by the last number in their names, since their requests begin in any order, and
// those without one behind, as they came.
func idOf(name string, before int) media.TrackID {
	const unnumbered = 1 << 20
	digits := func(r rune) bool { return r >= '0' && r <= '9' }
	stem := strings.TrimRightFunc(strings.TrimSuffix(name, path.Ext(name)), func(r rune) bool { return !digits(r) })
	n, err := strconv.ParseUint(stem[strings.LastIndexFunc(stem, func(r rune) bool { return !digits(r) })+1:], 10, 32)
	if err != nil || n > unnumbered {
		n = unnumbered
	}
	return media.TrackID(n)*maxTracks + media.TrackID(before) + 1
}

// Track implements cmaf.Sink.
func (t *track) Track(m media.Track) {
	if delete(t.held, m.ID); t.x.gate.Holds(m.Kind, time.Now()) {
		t.held[m.ID] = &m
		return
	}
	t.x.feed.Track(m)
}

// Unit implements cmaf.Sink.
func (t *track) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	if m := t.held[id]; m != nil {
		if t.x.gate.Holds(m.Kind, time.Now()) {
			return
		}
		delete(t.held, id)
		t.x.feed.Track(*m)
	}
	t.x.feed.Unit(id, stamp, composition, key, data)
}

var errCrowded = fmt.Errorf("found more than %d requests of one track at a time: send the next one when one before has ended", maxWaiting)

// turn waits until the requests of the track before this one have ended: their bytes go on one behind the other. One of
// which nothing comes any more gives way.
func (t *track) turn(ctx context.Context, control *http.ResponseController) (leave func(), err error) {
	if t.waits.Add(1) > maxWaiting {
		t.waits.Add(-1)
		return nil, errCrowded
	}
	defer t.waits.Add(-1)
	if before := t.now.Load(); before != nil {
		_ = before.SetReadDeadline(time.Now().Add(replaced))
	}
	select {
	case t.queue <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	t.now.Store(control)
	return func() {
		t.now.Store(nil)
		<-t.queue
	}, nil
}

// patience is for how long nothing may come of the request that is read.
func (t *track) patience() time.Duration {
	if t.waits.Load() > 0 {
		return replaced
	}
	return stall
}

// write takes bytes of a track. The lock is given back whatever becomes of them.
func (x *session) write(t *track, b []byte) (known, ended bool, wait time.Duration, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.ended {
		return false, false, 0, &contribution.SentAway{Why: x.why}
	}
	err = t.reader.Write(b)
	return t.reader.Known(), t.reader.Ended, x.feed.Pace(), err
}

// read takes the body of a request.
func (x *session) read(w http.ResponseWriter, r *http.Request, t *track) error {
	control := http.NewResponseController(w)
	leave, err := t.turn(r.Context(), control)
	if err != nil {
		return err
	}
	defer leave()
	buf := make([]byte, readSize)
	x.mu.Lock()
	t.reader.Reset()
	x.mu.Unlock()
	for {
		_ = control.SetReadDeadline(time.Now().Add(t.patience()))
		_ = control.SetWriteDeadline(time.Now().Add(2 * stall))
		n, err := r.Body.Read(buf)
		known, ended, wait, wrong := x.write(t, buf[:n])
		switch {
		case wrong != nil:
			return wrong
		case errors.Is(err, io.EOF) && !known:
			return errNoHeader
		case errors.Is(err, io.EOF):
			if ended {
				go x.end(errWhole.Error())
			}
			return nil
		case err != nil:
			return fmt.Errorf("the request broke off, or nothing came for %d s", int(t.patience().Seconds()))
		}
		if wait > 0 {
			time.Sleep(wait)
		}
	}
}
