// Package control is the HTTP API of the service: channels, keys, ladders, feeds and events, with
// sign-in, live updates, and an OpenAPI document made from the same table as the routes.
package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/library"
	"metaplasis/internal/network"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// maxBody bounds what a request may send.
//
//limit:bytes of a request | each request | 413
const maxBody = 1 << 20

// Ports say where senders reach the service, for the addresses that it shows.
type Ports struct {
	RTMP, RTMPS, SRT, RTSP, RTSPS int // 0: off
	WebRTC                        bool
}

// Service answers the API.
type Service struct {
	o        *origin.Origin
	db       *records.DB
	logger   *slog.Logger
	ports    Ports
	throttle *throttle
	lookups  *network.Rate
	hashing  chan struct{} // room for password hashes
	hashers  network.Quota // requests that want one
	history  history
	minutes  minutes
	samples  samples
	decoy    string
	journal  *records.Journal
	ids      ids
	keys     knownKeys
	sealer   *sealer
	hooks    *hooks.Runner
	studio   Studio
	relays   atomic.Pointer[relay.Runner]
	kept     kept
	files    *library.Library // on demand; nil: there is none
	OnKeys   func()           // is told when contribution keys, or what goes with them, changed
	trusted  knownTokens
	log      eventLog
	trials   trials
	checks   Checks
	health   health

	unanswered atomic.Pointer[error] // why the database did not answer when it was asked last
	stop       chan struct{}

	lostBefore int64 // records whose loss was told
	board      *board
	setup      sync.Mutex // one change of channels at a time

	background sync.WaitGroup

	// Viewers counts the viewers of each channel by protocol; nil counts none.
	Viewers     func() map[string]map[string]int
	inspections chan struct{}
	slots       chan struct{} // for what inspections fetch
}

// New makes the service. Attach must follow before it is used, and Close at the end.
func New(db *records.DB, ports Ports, checks Checks, logger *slog.Logger) *Service {
	s := &Service{
		db: db, logger: logger, ports: ports, checks: checks, decoy: HashPassword(records.NewSecret()),
		inspections: make(chan struct{}, maxInspections), slots: make(chan struct{},
			fetchesAtATime), hashing: make(chan struct{}, maxHashing), hashers: network.Quota{Total: maxHashers, EachNetwork: maxHashersEach}, throttle: newThrottle(), lookups: newLookups(), journal: records.NewJournal(db, logger), stop: make(chan struct{}),
	}
	s.board = newBoard(s.snapshot)
	s.hooks = &hooks.Runner{Folder: checks.HookCommands, Logger: logger}
	if checks.Data != "" {
		s.hooks.Keep = filepath.Join(checks.Data, "hooks-waiting.json")
	}
	s.hooks.Start()
	s.look(time.Now())
	s.background.Add(1)
	go func() { defer s.background.Done(); s.tidy(s.stop) }()
	return s
}

// Close stores what still waits to be recorded, for as long as the context allows.
func (s *Service) Close(ctx context.Context) {
	close(s.stop)
	s.trials.stop("")
	s.background.Wait()
	s.hooks.Close()
	s.journal.Close(ctx)
}

// SetSRT says on which port senders over SRT are taken.
func (s *Service) SetSRT(port int) { s.ports.SRT = port }

// SetWebRTC says that senders over WebRTC are taken.
func (s *Service) SetWebRTC() { s.ports.WebRTC = true }

// Attach gives the service its origin and starts the stored channels.
func (s *Service) Attach(ctx context.Context, o *origin.Origin) error {
	s.o = o
	var err error
	if s.sealer, err = openSealer(s.checks.Data); err != nil {
		return err
	}
	if err := s.loadHooks(ctx); err != nil {
		return err
	}
	if err := s.db.EndOpenFeeds(ctx, "the service was not stopped in good order"); err != nil {
		return err
	}
	if err := s.loadImages(ctx); err != nil {
		return err
	}
	if err := s.loadRecordings(ctx); err != nil {
		return err
	}
	s.learnKeys(ctx)
	list, err := s.db.Channels(ctx)
	if err != nil {
		return fmt.Errorf("reading the channels: %w", err)
	}
	for _, c := range list {
		var set settings.Settings
		if err := json.Unmarshal([]byte(c.Settings), &set); err != nil {
			return fmt.Errorf("settings of channel %s: %w", c.Slug, err)
		}
		set, err := s.sealer.unsealed(set)
		if err != nil {
			s.Event(events.Event{At: time.Now(), Channel: c.Slug, Level: events.Failure, Kind: "secret-lost", Text: "A secret of the stored channel was lost: " + err.Error() + ".", Do: "Give the channel's inputs and its passphrase their secrets again."})
		}
		if _, err := o.Add(set, c.Created, publish.Position{NextMSN: c.NextMSN,
			Discontinuities: c.Discontinuities}); err != nil {
			s.Event(events.Event{At: time.Now(), Channel: c.Slug, Level: events.Failure, Kind: "channel-refused",
				Text: "The stored channel could not be started: " + err.Error(), Do: "Change its settings."})
			continue
		}
		s.keep(c.Slug)
		s.history.begin(c.Slug, c.Revision, set)
		s.recallFeed(ctx, c.Slug)
		s.recallMarkers(ctx, c.Slug)
	}
	if s.kept.store != nil {
		s.kept.store.Settled()
	}
	s.background.Add(3)
	go func() { defer s.background.Done(); s.record(s.stop) }()
	go func() { defer s.background.Done(); s.watch(s.stop) }()
	go func() { defer s.background.Done(); s.ping(s.stop) }()
	return nil
}

// recallFeed tells a channel how its last feed ended.
func (s *Service) recallFeed(ctx context.Context, slug string) {
	list, err := s.db.Feeds(ctx, slug, 1)
	if err == nil && len(list) == 1 && list[0].Ended != nil {
		s.o.Channel(slug).SetLastFeed(status.LastFeed{Remote: list[0].Remote, Ended: *list[0].Ended,
			Reason: list[0].Reason})
	}
}

// removalLease is how many numbers a channel may use while it is being removed.
const removalLease = 16

// failure is an answer other than 200.
type failure struct {
	status int
	body   api.Error
}

func (f *failure) Error() string { return f.body.Text }

func fail(status int, text, do string) error { return &failure{status, api.Error{Text: text, Do: do}} }

// read takes a JSON body whole, and refuses fields that it does not know.
func read(r *http.Request, into any) error {
	const do = "Send one JSON value as " + api.Prefix + "/openapi.json describes it."
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, maxBody))
	d.DisallowUnknownFields()
	d.UseNumber() // an integer stays one
	err := d.Decode(into)
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		return fail(http.StatusRequestEntityTooLarge, fmt.Sprintf("found a body of more than %d bytes", maxBody),
			"Send less.")
	}
	if err != nil {
		return fail(http.StatusBadRequest, "the body could not be read: "+err.Error(), do)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return fail(http.StatusBadRequest, "found something behind the JSON value, expected the end of the body", do)
	}
	return nil
}

// checkLabel says what is wrong with a label, nil when nothing is.
func checkLabel(label string) error {
	if p := ladder.CheckText("label", label, maxLabel); p != nil {
		return &failure{http.StatusUnprocessableEntity, api.Error{Text: "nothing was made",
			Problems: []ladder.Problem{*p}, Do: "Choose another label."}}
	}
	return nil
}

//limit:characters of a name for people | each record | 422
const maxLabel = 120

func number(r *http.Request, name string) (int64, error) {
	n, err := strconv.ParseInt(chi.URLParam(r, name), 10, 64)
	if err != nil {
		return 0, fail(http.StatusBadRequest, fmt.Sprintf("found %q, expected a number", chi.URLParam(r, name)), "")
	}
	return n, nil
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Cache-Control", "no-store")
	if body == nil {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (s *Service) refuse(w http.ResponseWriter, status int, text, do string) {
	write(w, status, api.Error{Text: text, Do: do})
}

func (s *Service) broken(w http.ResponseWriter, err error) {
	s.logger.Error("request failed", "error", err)
	s.refuse(w, http.StatusInternalServerError, "the service could not answer", "Look at the service's log.")
}

// longestAnswer bounds how long a request may wait for the database, or for an inspection.
const longestAnswer = longestInspection*time.Second + 15*time.Second

// answer turns what a handler returns into a response.
func (s *Service) answer(h func(http.ResponseWriter, *http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), longestAnswer)
		defer cancel()
		body, err := h(w, r.WithContext(ctx))
		var f *failure
		var invalid *settings.InvalidError
		switch {
		case err == nil:
			write(w, http.StatusOK, body)
		case errors.As(err, &f):
			write(w, f.status, f.body)
		case errors.As(err, &invalid):
			write(w, http.StatusUnprocessableEntity, api.Error{Text: "the settings were not applied",
				Problems: invalid.Problems, Do: "Correct what is listed, and send them again."})
		case errors.Is(err, records.ErrNotFound), errors.Is(err, origin.ErrUnknownChannel):
			s.refuse(w, http.StatusNotFound, "there is nothing of this name", "List what there is.")
		case errors.Is(err, records.ErrFull):
			s.refuse(w, http.StatusConflict, "there is no room for more of these", "Remove one that is not used.")
		case errors.Is(err, records.ErrExists), errors.Is(err, origin.ErrExists):
			s.refuse(w, http.StatusConflict, "the name is taken", "Choose another.")
		case records.Unreachable(err):
			w.Header().Set("Retry-After", "5")
			s.refuse(w, http.StatusServiceUnavailable, "the database does not answer now, so this cannot be done",
				"Try again in a while. Media, viewers and senders go on meanwhile.")
		default:
			s.broken(w, err)
		}
	}
}

func (s *Service) running(r *http.Request) (*origin.Channel, error) {
	c := s.o.Channel(chi.URLParam(r, "channel"))
	if c == nil {
		return nil, fail(http.StatusNotFound, fmt.Sprintf("there is no channel %q", chi.URLParam(r, "channel")),
			"metaplasis channels list names those there are.")
	}
	return c, nil
}

// describe is a channel as the API shows it.
func (s *Service) describe(r *http.Request, c *origin.Channel) api.Channel {
	set := c.Settings()
	return api.Channel{Settings: set.Shown(), Revision: s.history.revision(c.Slug()), Created: c.Created(), Status: s.status(c),
		Addresses: s.Addresses(base(r), &set)}
}

// base is how the caller reached us, such as http://host:8780.
func base(r *http.Request) string {
	scheme := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + r.Host
}

// Addresses makes a channel's addresses below a base such as http://host:8780.
func (s *Service) Addresses(base string, set *settings.Settings) api.Addresses {
	slug := set.Slug
	host := hostOf(base)
	a := api.Addresses{
		Console: base + "/#/channels/" + slug, Watch: base + "/watch/" + slug, Embed: base + "/embed/" + slug,
		HLS: base + "/media/" + slug + "/index.m3u8", DASH: base + "/media/" + slug + "/index.mpd", LowDASH: base + "/media/" + slug + "/low.mpd", Selections: []api.SelectionAddresses{}, Picture: base + "/media/" + slug + "/picture.jpg",
	}
	a.Code = fmt.Sprintf(`<iframe src="%s" width="960" height="540" style="border:0" allow="autoplay; fullscreen" title="%s"></iframe>`, a.Embed, slug)
	if set.TS {
		a.TS = base + "/media/" + slug + "/ts.m3u8"
	}
	a.Socket = "ws" + strings.TrimPrefix(base, "http") + "/socket/" + slug
	if s.ports.WebRTC {
		a.WebRTC = base + "/whep/" + slug
	}
	for _, sel := range set.Selections {
		at := base + "/media/" + slug + "/" + sel.Name
		a.Selections = append(a.Selections, api.SelectionAddresses{Name: sel.Name, HLS: at + ".m3u8", DASH: at + ".mpd",
			LowDASH: at + "-low.mpd"})
	}
	if s.ports.RTMP > 0 {
		a.Server = fmt.Sprintf("rtmp://%s/in/%s", net.JoinHostPort(host, strconv.Itoa(s.ports.RTMP)), slug)
	}
	if s.ports.RTMPS > 0 {
		a.Secure = fmt.Sprintf("rtmps://%s/in/%s", net.JoinHostPort(host, strconv.Itoa(s.ports.RTMPS)), slug)
	}
	a.Receivers = s.receivers(base, host, slug)
	a.Senders = s.senders(base, slug, "", set.Passphrase != "")
	return a
}

func (s *Service) listChannels(_ http.ResponseWriter, r *http.Request) (any, error) {
	out := []api.Channel{}
	for _, c := range s.o.Channels() {
		out = append(out, s.describe(r, c))
	}
	return out, nil
}

func (s *Service) addChannel(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in settings.Settings
	if err := read(r, &in); err != nil {
		return nil, err
	}
	in = in.WithDefaults().KeepSecrets(settings.Settings{})
	var err error
	if in.Ladder, err = s.useLadder(r.Context(), in.Ladder); err != nil {
		return nil, err
	}
	if p := append(append(in.Check(), s.imageProblems(in.Ladder.Rungs, in.Inputs)...), s.circles(in)...); len(p) > 0 {
		return nil, &settings.InvalidError{Problems: p}
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	created := time.Now().UTC().Truncate(time.Millisecond)
	text, err := json.Marshal(s.sealer.sealed(in))
	if err != nil {
		return nil, err
	}
	next, breaks, err := s.db.AddChannel(r.Context(), in.Slug, string(text), created)
	if err != nil {
		return nil, err
	}
	c, err := s.o.Add(in, created, publish.Position{NextMSN: next, Discontinuities: breaks})
	if err != nil {
		return nil, err
	}
	s.keep(in.Slug)
	s.history.begin(in.Slug, 1, in)
	s.keysChanged()
	s.Event(events.Event{At: time.Now(), Channel: in.Slug, Level: events.Info, Kind: "channel-created",
		Text: "The channel was created by " + who(r).User + "."})
	return s.describe(r, c), nil
}

func (s *Service) showChannel(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	return s.describe(r, c), nil
}

func (s *Service) changeChannel(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in map[string]any
	if err := read(r, &in); err != nil {
		return nil, err
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	change, err := merge(c.Settings().Shown(), in)
	if err != nil {
		return nil, err
	}
	if err := s.history.check(c.Slug(), change.Revision, c.Settings()); err != nil {
		return nil, err
	}
	if in["ladder"] != nil {
		if change.Ladder, err = s.useLadder(r.Context(), change.Ladder); err != nil {
			return nil, err
		}
	}
	return s.applySettings(r, c, change.Settings)
}

// groups are the names of the groups of settings.
var groups = func() (out map[string]bool) {
	out = map[string]bool{}
	for f := range reflect.TypeFor[settings.Settings]().Fields() {
		if f.Anonymous {
			out[f.Tag.Get("json")] = true
		}
	}
	return out
}()

// merge puts a change over settings. Within a group each setting is for itself.
func merge(set settings.Settings, in map[string]any) (change api.Change, err error) {
	const do = "Send one JSON value as " + api.Prefix + "/openapi.json describes it."
	all := asFields(set)
	for name, v := range in {
		group, _ := all[name].(map[string]any)
		if !groups[name] || v == nil || group == nil {
			all[name] = v
			continue
		}
		some, ok := v.(map[string]any)
		if !ok {
			return change, fail(http.StatusBadRequest, fmt.Sprintf("found %s of another type, expected an object with the settings to change", name), do)
		}
		maps.Copy(group, some)
	}
	text, err := json.Marshal(all)
	if err != nil {
		return change, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&change); err != nil {
		return change, fail(http.StatusBadRequest, "the change could not be read: "+err.Error(), do)
	}
	if change.Slug != set.Slug {
		return change, fail(http.StatusBadRequest, fmt.Sprintf("found the slug %.70q, expected %s: it stays for good", change.Slug, set.Slug), "Leave it out.")
	}
	return change, nil
}

// applySettings checks, stores and applies settings, in this order: what runs is what is stored.
func (s *Service) applySettings(r *http.Request, c *origin.Channel, set settings.Settings) (any, error) {
	set = set.WithDefaults().KeepSecrets(c.Settings())
	if p := append(append(set.Check(), s.imageProblems(set.Ladder.Rungs, set.Inputs)...), s.circles(set)...); len(p) > 0 {
		return nil, &settings.InvalidError{Problems: p}
	}
	text, err := json.Marshal(s.sealer.sealed(set))
	if err != nil {
		return nil, err
	}
	revision := s.history.revision(c.Slug()) + 1
	if err := s.db.SetChannel(r.Context(), c.Slug(), string(text), revision); err != nil {
		return nil, err
	}
	if err := c.Apply(set); err != nil {
		return nil, err
	}
	s.keep(c.Slug())
	s.history.add(c.Slug(), revision, set)
	s.keysChanged()
	s.Event(events.Event{At: time.Now(), Channel: c.Slug(), Level: events.Info, Kind: "channel-changed",
		Text: "The settings were changed by " + who(r).User + "; they take effect at the next segment."})
	return s.describe(r, c), nil
}

func (s *Service) removeChannel(_ http.ResponseWriter, r *http.Request) (any, error) {
	slug := chi.URLParam(r, "channel")
	s.setup.Lock()
	defer s.setup.Unlock()
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	// Numbers in use while the records are changed are within what is kept.
	at := c.Position()
	if err := s.db.RemoveChannel(r.Context(), slug, at.NextMSN+removalLease, at.Discontinuities+removalLease); err != nil {
		return nil, err
	}
	if err := s.o.Remove(slug); err != nil && !errors.Is(err, origin.ErrUnknownChannel) {
		return nil, err
	}
	s.decide(slug, true)
	s.keys.forget(slug, allKeys)
	s.keysChanged()
	s.history.forget(slug)
	s.trials.stop(slug)
	s.Event(events.Event{At: time.Now(), Channel: slug, Level: events.Info, Kind: "channel-removed",
		Text: "The channel was removed by " + who(r).User + "."})
	return nil, nil
}

func limit(r *http.Request) int {
	n, err := strconv.Atoi(r.URL.Query().Get("limit"))
	if err != nil || n < 1 {
		return 100
	}
	return min(n, 1000)
}

func (s *Service) listFeeds(_ http.ResponseWriter, r *http.Request) (any, error) {
	list, err := s.db.Feeds(r.Context(), r.URL.Query().Get("channel"), limit(r))
	out := make([]origin.FeedRecord, 0, len(list))
	for _, f := range list {
		a := origin.FeedRecord{ID: f.ID, Channel: f.Channel, Protocol: f.Protocol, Remote: f.Remote, Begun: f.Begun,
			Reason: f.Reason, Tracks: []media.Track{}}
		if f.Ended != nil {
			a.Ended = *f.Ended
		}
		_ = json.Unmarshal([]byte(f.Tracks), &a.Tracks)
		out = append(out, a)
	}
	return out, err
}

func (s *Service) listEvents(_ http.ResponseWriter, r *http.Request) (any, error) {
	list, err := s.db.Events(r.Context(), r.URL.Query().Get("channel"), limit(r))
	out := make([]events.Event, 0, len(list))
	for _, e := range list {
		out = append(out, events.Event{ID: e.ID, At: e.At, Channel: e.Channel, Level: events.Level(e.Level), Kind: e.Kind,
			Text: e.Text, Do: e.Remedy})
		if e.Count > 1 && e.Last != nil {
			out[len(out)-1].Count, out[len(out)-1].Last = e.Count, *e.Last
		}
	}
	return out, err
}

func (s *Service) public(w http.ResponseWriter, r *http.Request) (any, error) {
	w.Header().Set("Access-Control-Allow-Origin", "*") // players stand in pages of others
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	st := c.Status()
	p := api.Public{Title: st.Title, State: st.State, Rungs: c.Offered(), Extras: c.Extras()}
	if st.LastFeed != nil {
		p.Ended = &st.LastFeed.Ended
	}
	if !c.Playable() {
		p.Starts = c.StartsIn()
	}
	s.addPast(&p, c)
	return p, nil
}

// publicList tells anybody of the channels that may be listed and are on air.
func (s *Service) publicList(w http.ResponseWriter, r *http.Request) (any, error) {
	w.Header().Set("Access-Control-Allow-Origin", "*")
	out := []api.Listed{}
	for _, c := range s.o.Channels() {
		set := c.Settings()
		if !set.Listed {
			continue
		}
		if state := c.Status().State; state == status.Live || state == status.Degraded {
			a := s.Addresses(base(r), &set)
			out = append(out, api.Listed{Channel: set.Slug, Title: set.Title, State: state, Watch: a.Watch, Picture: a.Picture})
		}
	}
	return out, nil
}
