package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
	"metaplasis/internal/store"
)

// kept is what the service knows of what is kept.
type kept struct {
	store *store.Store // nil: nothing is kept
	place string       // its identity

	mu   sync.Mutex
	list []records.Recording // the newest first
	// unstored are bundles that the journal had no room for.
	unstored map[string]store.Bundle
	// since is from when on all of a channel is to be recorded though no recording says so yet, by channel.
	since map[string]time.Time
	full  bool // there are as many recordings as there may be
}

// Kinds of recordings.
const (
	kindHand   = "hand"
	kindAlways = "always"
)

const (
	//limit:recordings | all | no further one is begun: 422, a problem and an event; those that run go on
	maxRecordings = 20_000
	recordEach    = 5 * time.Second
	defaultHours  = 24
	//limit:characters of a title | each recording | 422
	maxTitle = 200
	//limit:how far ahead a recording may be planned | each recording | 422
	maxAheadOfTime = 366 * 24 * time.Hour
)

// SetStore gives the service what keeps media, and the identity of its place. It is called before Attach.
func (s *Service) SetStore(st *store.Store, place string) { s.kept.store, s.kept.place = st, place }

// Bundles lists those of a place that are remembered, by its identity. address is what places were told apart by before.
func (s *Service) Bundles(ctx context.Context, place, address string) (out []store.Bundle, err error) {
	if err := s.db.RenamePlace(ctx, address, place); err != nil {
		return nil, err
	}
	err = s.db.EachBundle(ctx, place, func(b *records.Bundle) {
		out = append(out, store.Bundle{Channel: b.Channel, Rendition: b.Rendition, Path: b.Path, Sound: b.Sound, Prefix: b.Prefix, Header: b.Header,
			Begin: b.Begun, End: b.Ended, FirstMSN: b.FirstMSN, LastMSN: b.LastMSN, Ordinal: b.Ordinal, Breaks: b.Breaks, Bytes: b.Bytes, Removing: b.Removing})
	})
	return out, err
}

// Ledger remembers the bundles of a place.
func (s *Service) Ledger(place string) store.Ledger { return &ledger{s, place} }

type ledger struct {
	s     *Service
	place string
}

// Closed implements store.Ledger.
func (l *ledger) Closed(b store.Bundle) {
	r := records.Bundle{Path: b.Path, Place: l.place, Channel: b.Channel, Rendition: b.Rendition, Sound: b.Sound, Prefix: b.Prefix, Header: b.Header,
		Begun: b.Begin.UTC(), Ended: b.End.UTC(), FirstMSN: b.FirstMSN, LastMSN: b.LastMSN, Ordinal: b.Ordinal, Breaks: b.Breaks, Bytes: b.Bytes}
	const cost = 400
	if l.s.journal.Put(records.Write{Size: cost, Do: func(ctx context.Context, db *records.DB) error { return db.PutBundle(ctx, r) }}) {
		return
	}
	k := &l.s.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.unstored == nil {
		k.unstored = map[string]store.Bundle{}
	}
	k.unstored[b.Path] = b
}

// Removing implements store.Ledger.
func (l *ledger) Removing(path string) {
	l.forget(path)
	l.s.journal.Put(records.Write{Size: len(path), Do: func(ctx context.Context, db *records.DB) error { return db.BundleRemoving(ctx, l.place, path) }})
}

func (l *ledger) forget(path string) {
	k := &l.s.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.unstored, path)
}

// Removed implements store.Ledger.
func (l *ledger) Removed(path string) {
	l.forget(path)
	l.s.journal.Put(records.Write{Size: len(path), Do: func(ctx context.Context, db *records.DB) error { return db.RemoveBundle(ctx, l.place, path) }})
}

func (s *Service) loadRecordings(ctx context.Context) error {
	list, err := s.db.Recordings(ctx)
	if err != nil {
		return fmt.Errorf("reading the recordings: %w", err)
	}
	s.kept.mu.Lock()
	s.kept.list = list
	s.kept.mu.Unlock()
	channels := map[string]bool{}
	for _, r := range list {
		channels[r.Channel] = true
	}
	for slug := range channels {
		s.keep(slug)
	}
	return nil
}

// holdOf is what a recording holds.
func holdOf(r *records.Recording) store.Hold {
	h := store.Hold{From: r.Begun}
	if r.Ended != nil {
		h.To = *r.Ended
	}
	_ = json.Unmarshal([]byte(r.Renditions), &h.Renditions)
	return h
}

// keep tells the store what is kept of a channel. Of one that does not run nothing is decided: its recordings are held,
// and what else there is of it stays.
func (s *Service) keep(slug string) { s.decide(slug, false) }

func (s *Service) decide(slug string, removed bool) {
	if s.kept.store == nil {
		return
	}
	k := store.Keeping{Undecided: !removed}
	s.kept.mu.Lock()
	if c := s.o.Channel(slug); c != nil {
		set := c.Settings()
		k = store.Keeping{TimeShift: time.Duration(set.TimeShiftMinutes) * time.Minute, Bytes: set.TimeShiftMB * 1_000_000, Since: c.Created()}
		if set.Record { // also while no record of it can be made
			k.Holds = append(k.Holds, store.Hold{From: s.kept.recordingSince(slug)})
		} else {
			delete(s.kept.since, slug)
		}
	}
	for i := range s.kept.list {
		if s.kept.list[i].Channel == slug {
			k.Holds = append(k.Holds, holdOf(&s.kept.list[i]))
		}
	}
	s.kept.mu.Unlock()
	if k.TimeShift > 0 || len(k.Holds) > 0 || s.kept.store.Has(slug) {
		s.kept.store.Set(slug, k)
	}
}

func (k *kept) isFull() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.full
}

// recordingSince is from when on all of a channel is to be recorded, which stays the same until a recording holds it. The
// lock is held.
func (k *kept) recordingSince(slug string) time.Time {
	at, known := k.since[slug]
	if !known {
		at = time.Now().UTC().Truncate(time.Millisecond)
		if k.since == nil {
			k.since = map[string]time.Time{}
		}
		k.since[slug] = at
	}
	return at
}

// Recording returns what a recording of a channel holds, by its name, nil when there is none.
func (s *Service) Recording(slug, name string) *store.Hold {
	s.kept.mu.Lock()
	defer s.kept.mu.Unlock()
	for i := range s.kept.list {
		if r := &s.kept.list[i]; r.Name == name && r.Channel == slug {
			h := holdOf(r)
			return &h
		}
	}
	return nil
}

// addKept puts what is kept into a channel's status; what goes wrong is a problem.
func (s *Service) addKept(st *status.Status) {
	if s.kept.store == nil {
		return
	}
	k, known := s.kept.store.Status(st.Slug)
	if !known {
		return
	}
	st.Kept = &k
	add := func(text string, args ...any) {
		st.Problems = append(st.Problems, ladder.Problem{Field: "keeping", Text: fmt.Sprintf(text, args...)})
	}
	switch {
	case k.Error != "" && k.LostNow > 0:
		add("What is on air cannot be kept since %s: %s. What waits has no room in memory any more: %d segments are lost to the time-shift and recordings. Make room, or mend the store.", k.Since.UTC().Format(time.TimeOnly), k.Error, k.LostNow)
	case k.Error != "":
		add("What is on air cannot be kept since %s: %s. %d MB wait in memory; what is live is not touched.", k.Since.UTC().Format(time.TimeOnly), k.Error, k.Waiting>>20)
	case k.LostNow > 0:
		add("The store is too slow for what is on air: %d segments are lost to the time-shift and recordings.", k.LostNow)
	}
	if k.Away != "" {
		add("The object store takes nothing since %s: %s. What is kept waits in a local folder.", k.Since.UTC().Format(time.TimeOnly), k.Away)
	}
	if k.Missing > 0 {
		add("%d MB that are to be kept are not in the store any more, or are not as they were written. metaplasis recordings verify names the files.", max(k.Missing/1_000_000, 1))
	}
	if s.kept.isFull() {
		add("There are as many recordings as there may be (%d). Remove some, or keep those that are made by themselves for fewer days.", maxRecordings)
	}
	if k.Full != "" {
		add("The store is full: %s. Remove recordings, or raise the limit.", k.Full)
	}
}

// shown is a recording as the API shows it.
func (s *Service) shown(r *http.Request, rec records.Recording) api.Recording {
	h := holdOf(&rec)
	at := base(r) + "/media/" + rec.Channel
	out := api.Recording{ID: rec.ID, Channel: rec.Channel, Title: rec.Title, Kind: rec.Kind, Renditions: h.Renditions, Kept: []string{}, Begun: rec.Begun, Author: rec.Author,
		Name: rec.Name, HLS: fmt.Sprintf("%s/index.m3u8?recording=%s", at, rec.Name), DASH: fmt.Sprintf("%s/index.mpd?recording=%s", at, rec.Name)}
	if out.Renditions == nil {
		out.Renditions = []string{}
	}
	now := time.Now()
	if rec.Ended != nil {
		out.Ended = *rec.Ended
	}
	if rec.Expires != nil {
		out.Expires = *rec.Expires
	}
	best := ""
	if s.kept.store != nil {
		out.Bytes, out.Kept, best = s.kept.store.Held(rec.Channel, h)
		_, out.Missing = s.kept.store.Lost(rec.Channel, h)
		out.Kept = slices.DeleteFunc(out.Kept, func(name string) bool { return name == publish.Stills })
	}
	switch {
	case rec.Begun.After(now):
		out.State = api.Planned
	case rec.Ended == nil || rec.Ended.After(now):
		out.State = api.Running
	case out.Missing > 0:
		out.State = api.Damaged
	case len(out.Kept) == 0:
		out.State = api.Empty
	default:
		out.State = api.Complete
	}
	if best != "" {
		out.MP4 = fmt.Sprintf("%s/%s.mp4?recording=%s", at, url.PathEscape(best), rec.Name)
	}
	return out
}

func (s *Service) listRecordings(w http.ResponseWriter, r *http.Request) (any, error) {
	slug := r.URL.Query().Get("channel")
	s.kept.mu.Lock()
	list := slices.Clone(s.kept.list)
	s.kept.mu.Unlock()
	if slug != "" {
		list = slices.DeleteFunc(list, func(rec records.Recording) bool { return rec.Channel != slug })
	}
	list, err := page(w, r, list, func(rec *records.Recording) string { return itoa(rec.ID) })
	if err != nil {
		return nil, err
	}
	out := []api.Recording{}
	for _, rec := range list {
		out = append(out, s.shown(r, rec))
	}
	return out, nil
}

func (s *Service) recordingOf(r *http.Request) (records.Recording, error) {
	id, err := number(r, "id")
	if err != nil {
		return records.Recording{}, err
	}
	s.kept.mu.Lock()
	defer s.kept.mu.Unlock()
	for _, rec := range s.kept.list {
		if rec.ID == id {
			return rec, nil
		}
	}
	return records.Recording{}, fail(http.StatusNotFound, fmt.Sprintf("there is no recording %d", id), "metaplasis recordings list names those there are.")
}

func (s *Service) showRecording(_ http.ResponseWriter, r *http.Request) (any, error) {
	rec, err := s.recordingOf(r)
	if err != nil {
		return nil, err
	}
	return s.shown(r, rec), nil
}

func (s *Service) addRecording(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in api.NewRecording
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if s.kept.store == nil {
		return nil, fail(http.StatusConflict, "the service keeps nothing", "Start it with a folder for --store.")
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	rec := records.Recording{Channel: c.Slug(), Title: strings.TrimSpace(in.Title), Kind: kindHand, Begun: now, Author: who(r).User}
	var problems []ladder.Problem
	at := func(field, text string) (at time.Time) {
		if text == "" {
			return at
		}
		at, _, err := origin.ParseTime(text, now, c)
		if err != nil {
			problems = append(problems, ladder.Problem{Field: field, Text: fmt.Sprintf("found %.60q: %v", text, err)})
		} else if at.After(now.Add(maxAheadOfTime)) {
			problems = append(problems, ladder.Problem{Field: field, Text: "found a time more than a year ahead, expected one within it"})
		}
		return at.UTC().Truncate(time.Millisecond)
	}
	if from := at("from", in.From); !from.IsZero() {
		rec.Begun = from
	}
	if to := at("to", in.To); !to.IsZero() {
		rec.Ended = &to
		if !to.After(rec.Begun) && problems == nil {
			problems = append(problems, ladder.Problem{Field: "to", Text: "found a time that does not lie behind the beginning"})
		}
	}
	if p := ladder.CheckText("title", rec.Title, maxTitle); rec.Title != "" && p != nil {
		problems = append(problems, *p)
	}
	if rec.Title == "" {
		rec.Title = c.Settings().Title + ", " + rec.Begun.Format("2 January 2006 15:04") + " UTC"
	}
	if in.Days < 0 || in.Days > maxRecordDaysAsked {
		problems = append(problems, ladder.Problem{Field: "days", Text: fmt.Sprintf("found %d, expected 0 to %d", in.Days, maxRecordDaysAsked)})
	}
	if len(in.Renditions) > 64 {
		problems = append(problems, ladder.Problem{Field: "renditions", Text: "found more than 64, expected fewer"})
	}
	if problems != nil {
		return nil, &failure{http.StatusUnprocessableEntity, api.Error{Text: "nothing is recorded", Problems: problems, Do: "Correct what is listed, and ask again."}}
	}
	rec.Expires = expiry(now, in.Days)
	text, _ := json.Marshal(in.Renditions)
	rec.Renditions = string(text)
	if err := s.store(r.Context(), &rec); err != nil {
		return nil, err
	}
	s.Event(events.Event{At: now, Channel: rec.Channel, Level: events.Info, Kind: "recording-begun", Text: fmt.Sprintf("The recording %q was asked for by %s.", rec.Title, rec.Author)})
	return s.shown(r, rec), nil
}

//limit:days for which a recording is kept | each recording | 422
const maxRecordDaysAsked = 3660

// expiry is when something that is kept for so many days goes, nil for never.
func expiry(from time.Time, days int64) *time.Time {
	if days == 0 {
		return nil
	}
	at := from.Add(time.Duration(days) * 24 * time.Hour)
	return &at
}

// store stores a new recording.
func (s *Service) store(ctx context.Context, rec *records.Recording) (err error) {
	s.kept.mu.Lock()
	n := len(s.kept.list)
	s.kept.mu.Unlock()
	if n >= maxRecordings {
		return records.ErrFull
	}
	rec.Name = records.NewSecret()
	if rec.ID, err = s.db.AddRecording(ctx, *rec); err != nil {
		return err
	}
	s.kept.mu.Lock()
	s.kept.list = append([]records.Recording{*rec}, s.kept.list...)
	slices.SortStableFunc(s.kept.list, func(a, b records.Recording) int { return b.Begun.Compare(a.Begun) })
	s.kept.mu.Unlock()
	s.keep(rec.Channel)
	return nil
}

// alter changes a recording in the records and in memory.
func (s *Service) alter(ctx context.Context, rec records.Recording) error {
	if err := s.db.SetRecording(ctx, rec); err != nil {
		return err
	}
	s.kept.mu.Lock()
	for i := range s.kept.list {
		if s.kept.list[i].ID == rec.ID {
			s.kept.list[i] = rec
		}
	}
	s.kept.mu.Unlock()
	s.keep(rec.Channel)
	return nil
}

func (s *Service) changeRecording(_ http.ResponseWriter, r *http.Request) (any, error) {
	rec, err := s.recordingOf(r)
	if err != nil {
		return nil, err
	}
	var in api.RecordingChange
	if err := read(r, &in); err != nil {
		return nil, err
	}
	var problems []ladder.Problem
	if in.Title != nil {
		rec.Title = strings.TrimSpace(*in.Title)
		if p := ladder.CheckText("title", rec.Title, maxTitle); p != nil {
			problems = append(problems, *p)
		}
	}
	if in.Days != nil {
		if *in.Days < 0 || *in.Days > maxRecordDaysAsked {
			problems = append(problems, ladder.Problem{Field: "days", Text: fmt.Sprintf("found %d, expected 0 to %d", *in.Days, maxRecordDaysAsked)})
		}
		rec.Expires = expiry(time.Now().UTC().Truncate(time.Millisecond), *in.Days)
	}
	if problems != nil {
		return nil, &failure{http.StatusUnprocessableEntity, api.Error{Text: "nothing was changed", Problems: problems, Do: "Correct what is listed, and ask again."}}
	}
	if err := s.alter(r.Context(), rec); err != nil {
		return nil, err
	}
	return s.shown(r, rec), nil
}

func (s *Service) stopRecording(_ http.ResponseWriter, r *http.Request) (any, error) {
	rec, err := s.recordingOf(r)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	if rec.Ended != nil && !rec.Ended.After(now) {
		return nil, fail(http.StatusConflict, "the recording has ended already", "")
	}
	if !rec.Begun.Before(now) {
		return nil, fail(http.StatusConflict, "the recording has not begun yet", "Remove it instead.")
	}
	if c := s.o.Channel(rec.Channel); rec.Kind == kindAlways && c != nil && c.Settings().Record {
		return nil, fail(http.StatusConflict, "the channel records all that is on air", "Turn that off in what the channel keeps: metaplasis channels change "+rec.Channel+" --record=false.")
	}
	rec.Ended = &now
	if err := s.alter(r.Context(), rec); err != nil {
		return nil, err
	}
	s.Event(events.Event{At: now, Channel: rec.Channel, Level: events.Info, Kind: "recording-ended", Text: fmt.Sprintf("The recording %q was ended by %s.", rec.Title, who(r).User)})
	return s.shown(r, rec), nil
}

func (s *Service) removeRecording(_ http.ResponseWriter, r *http.Request) (any, error) {
	rec, err := s.recordingOf(r)
	if err != nil {
		return nil, err
	}
	if err := s.drop(r.Context(), rec); err != nil {
		return nil, err
	}
	s.Event(events.Event{At: time.Now(), Channel: rec.Channel, Level: events.Info, Kind: "recording-removed", Text: fmt.Sprintf("The recording %q was removed by %s.", rec.Title, who(r).User)})
	return nil, nil
}

func (s *Service) drop(ctx context.Context, rec records.Recording) error {
	if err := s.db.RemoveRecording(ctx, rec.ID); err != nil {
		return err
	}
	defer func() {
		if s.kept.store != nil {
			s.kept.store.Release(rec.Channel, holdOf(&rec))
		}
	}()
	s.kept.mu.Lock()
	s.kept.list = slices.DeleteFunc(slices.Clone(s.kept.list), func(r records.Recording) bool { return r.ID == rec.ID })
	s.kept.mu.Unlock()
	s.keep(rec.Channel)
	return nil
}

// record begins, ends and removes recordings by the clock, until it is told to stop.
func (s *Service) record(stop <-chan struct{}) {
	tick := time.NewTicker(recordEach)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case now := <-tick.C:
			if s.kept.store == nil {
				return
			}
			ctx, cancel := context.WithTimeout(context.Background(), recordEach)
			if err := s.recordings(ctx, now.UTC().Truncate(time.Millisecond)); err != nil {
				s.logger.Warn("recordings cannot be looked after now", "error", err)
			}
			cancel()
			s.putUnstored()
		}
	}
}

// putUnstored hands over bundles that the journal had no room for.
func (s *Service) putUnstored() {
	s.kept.mu.Lock()
	list := s.kept.unstored
	s.kept.unstored = nil
	s.kept.mu.Unlock()
	for _, b := range list {
		s.Ledger(s.kept.place).Closed(b)
	}
}

// recordings looks after those that are made by themselves, and removes those that are past their time.
func (s *Service) recordings(ctx context.Context, now time.Time) error {
	s.kept.mu.Lock()
	list := slices.Clone(s.kept.list)
	s.kept.mu.Unlock()
	running := map[string]*records.Recording{}
	var errs []error
	for i := range list {
		r := &list[i]
		if r.Expires != nil && r.Expires.Before(now) && r.Ended != nil {
			if err := s.drop(ctx, *r); err != nil {
				errs = append(errs, err)
				continue
			}
			s.Event(events.Event{At: now, Channel: r.Channel, Level: events.Info, Kind: "recording-expired", Text: fmt.Sprintf("The recording %q was past its time and was removed.", r.Title)})
			continue
		}
		if r.Kind == kindAlways && r.Ended == nil {
			running[r.Channel] = r
		}
	}
	for _, c := range s.o.Channels() {
		set := c.Settings()
		r := running[c.Slug()]
		delete(running, c.Slug())
		length := time.Duration(set.RecordHours) * time.Hour
		if length == 0 {
			length = defaultHours * time.Hour
		}
		if r != nil && set.Record && now.Sub(r.Begun) >= length && s.recordingsFull() {
			continue // it goes on: there is no room for another one
		}
		if r != nil && (!set.Record || now.Sub(r.Begun) >= length) {
			if err := s.endAlways(ctx, r, now, set.RecordDays); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", c.Slug(), err))
				continue
			}
			r = nil
		}
		if set.Record && r == nil {
			if err := s.beginAlways(ctx, c); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", c.Slug(), err))
			}
		}
	}
	for _, r := range running {
		if known, err := s.db.HasChannel(ctx, r.Channel); err != nil || known {
			continue // it does not run now
		}
		if err := s.endAlways(ctx, r, now, 0); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// recordingsFull reports whether there are as many recordings as there may be, and says so once.
func (s *Service) recordingsFull() bool {
	s.kept.mu.Lock()
	full, before := len(s.kept.list) >= maxRecordings, s.kept.full
	s.kept.full = full
	s.kept.mu.Unlock()
	if full && !before {
		s.Event(events.Event{At: time.Now(), Level: events.Failure, Kind: "recordings-full", Text: fmt.Sprintf("There are %d recordings, as many as there may be. What is recorded by itself goes on in the recording that it is in.", maxRecordings),
			Do: "Remove recordings, or let those that are made by themselves be kept for fewer days."})
	}
	return full
}

func (s *Service) beginAlways(ctx context.Context, c *origin.Channel) error {
	s.kept.mu.Lock()
	begun := s.kept.recordingSince(c.Slug())
	s.kept.mu.Unlock()
	rec := records.Recording{Channel: c.Slug(), Kind: kindAlways, Begun: begun, Renditions: "null",
		Title: c.Settings().Title + ", " + begun.Format("2 January 2006 15:04") + " UTC"}
	return s.store(ctx, &rec)
}

// endAlways ends a recording that was made by itself. One that holds nothing is removed.
func (s *Service) endAlways(ctx context.Context, r *records.Recording, now time.Time, days int64) error {
	r.Ended, r.Expires = &now, expiry(now, days)
	s.kept.mu.Lock()
	if s.kept.since == nil {
		s.kept.since = map[string]time.Time{}
	}
	s.kept.since[r.Channel] = now // the next one goes on here
	s.kept.mu.Unlock()
	if bytes, _, _ := s.kept.store.Held(r.Channel, holdOf(r)); bytes == 0 {
		return s.drop(ctx, *r)
	}
	return s.alter(ctx, *r)
}

// maxPublicMarkers is how many markers a viewer's page is told of.
//
//limit:markers that a viewer's page is told of | each channel | the newest are told
const maxPublicMarkers = 200

// addPast tells a viewer's page how far back it may go.
func (s *Service) addPast(p *api.Public, c *origin.Channel) {
	set := c.Settings()
	if s.kept.store == nil || set.TimeShiftMinutes == 0 {
		return
	}
	k, known := s.kept.store.Status(c.Slug())
	if !known || k.Oldest.IsZero() {
		return
	}
	oldest := time.Now().Add(-time.Duration(set.TimeShiftMinutes) * time.Minute)
	if k.Oldest.After(oldest) {
		oldest = k.Oldest
	}
	p.Oldest = &oldest
	list := c.Markers()
	for _, m := range list[max(len(list)-maxPublicMarkers, 0):] {
		if m.At.After(oldest) {
			p.Markers = append(p.Markers, api.PublicMarker{ID: m.ID, At: m.At, Text: strings.TrimSpace(m.Class + " " + m.Text)})
		}
	}
}
