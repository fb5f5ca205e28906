package control

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/control/api"
	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
)

// loadHooks reads the stored hooks.
func (s *Service) loadHooks(ctx context.Context) error {
	list, err := s.storedHooks(ctx)
	if err == nil {
		s.hooks.Set(list)
	}
	return err
}

func (s *Service) storedHooks(ctx context.Context) ([]hooks.Hook, error) {
	list, err := s.db.Hooks(ctx)
	out := []hooks.Hook{}
	for _, h := range list {
		var one hooks.Hook
		if err := json.Unmarshal([]byte(h.Body), &one); err != nil {
			return nil, fmt.Errorf("stored hook %d: %w", h.ID, err)
		}
		one.ID = h.ID
		if one.Secret, err = s.sealer.unseal(one.Secret); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, err
}

func (s *Service) listHooks(_ http.ResponseWriter, r *http.Request) (any, error) {
	list, err := s.storedHooks(r.Context())
	for i := range list {
		list[i].Secret = ""
	}
	return list, err
}

//limit:characters of an address | each hook | 422
const maxURL = 500

func (s *Service) addHook(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in hooks.Hook
	if err := read(r, &in); err != nil {
		return nil, err
	}
	in.ID = 0
	if err := checkLabel(in.Label); err != nil {
		return nil, err
	}
	if err := s.checkHook(&in); err != nil {
		return nil, err
	}
	list, err := s.storedHooks(r.Context())
	if err != nil {
		return nil, err
	}
	if len(list) >= hooks.MaxHooks {
		return nil, fail(http.StatusConflict, fmt.Sprintf("there are %d hooks already", len(list)), "Remove one first.")
	}
	if in.Secret == "" {
		in.Secret = records.NewSecret()
	}
	stored := in
	stored.Secret = s.sealer.seal(in.Secret)
	text, err := json.Marshal(stored)
	if err != nil {
		return nil, err
	}
	if in.ID, err = s.db.AddHook(r.Context(), string(text)); err != nil {
		return nil, err
	}
	return in, s.loadHooks(r.Context())
}

func (s *Service) checkHook(in *hooks.Hook) error {
	if (in.URL == "") == (in.Command == "") {
		return fail(http.StatusBadRequest, "expected a URL to call, or a command to run", "Give one of them.")
	}
	if in.Command != "" {
		if text := s.hooks.CheckCommand(in.Command); text != "" {
			return fail(http.StatusBadRequest, text, "")
		}
	} else if u, err := url.Parse(in.URL); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || len(in.URL) > maxURL {
		return fail(http.StatusBadRequest, fmt.Sprintf("found the URL %.70q, expected http://… or https://…", in.URL), "")
	}
	for _, e := range in.Events {
		if !slices.Contains(hooks.Happenings(), e) {
			return fail(http.StatusBadRequest, fmt.Sprintf("found the event %.40q, expected one of %s", e, strings.Join(hooks.Happenings(), ", ")), "")
		}
	}
	return nil
}

func (s *Service) removeHook(_ http.ResponseWriter, r *http.Request) (any, error) {
	id, err := number(r, "id")
	if err != nil {
		return nil, err
	}
	if err := s.db.RemoveHook(r.Context(), id); err != nil {
		return nil, err
	}
	return nil, s.loadHooks(r.Context())
}

// tryHook tells a hook that somebody tries it, and how that went.
func (s *Service) tryHook(_ http.ResponseWriter, r *http.Request) (any, error) {
	id, err := number(r, "id")
	if err != nil {
		return nil, err
	}
	list, err := s.storedHooks(r.Context())
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(h hooks.Hook) bool { return h.ID == id })
	if i < 0 {
		return nil, records.ErrNotFound
	}
	return s.hooks.Try(r.Context(), list[i]), nil
}

func (s *Service) listDeliveries(_ http.ResponseWriter, _ *http.Request) (any, error) {
	list, lost := s.hooks.Deliveries(0)
	return api.Deliveries{List: append([]hooks.Delivery{}, list...), Lost: lost}, nil
}

// hookEvents are the events of the log that hooks are told of.
var hookEvents = []string{hooks.FeedBegun, hooks.FeedRefused, hooks.FeedEnded}

// tellHooks tells what the event log gets.
func (s *Service) tellHooks(e *events.Event) {
	if slices.Contains(hookEvents, e.Kind) {
		s.hooks.Fire(hooks.Happening{Event: e.Kind, At: e.At.UTC(), Channel: e.Channel, Text: e.Text, Do: e.Do})
	}
}

// conditions is what was known of a channel at the last look.
type conditions struct {
	onAir    bool
	problems map[string]string // by what they concern
}

// tellConditions tells what has begun and ended since the last look.
func (s *Service) tellConditions(before map[string]conditions) map[string]conditions {
	next := map[string]conditions{}
	now := time.Now().UTC()
	for _, st := range s.statuses() {
		c := conditions{onAir: st.State == status.Live || st.State == status.Degraded, problems: map[string]string{}}
		for _, p := range st.Problems {
			c.problems[p.Field] = p.Text
		}
		next[st.Slug] = c
		old, known := before[st.Slug]
		if !known && !c.onAir && len(c.problems) == 0 {
			continue
		}
		tell := func(event, text string) {
			s.hooks.Fire(hooks.Happening{Event: event, At: now, Channel: st.Slug, Text: text})
		}
		switch {
		case c.onAir && !old.onAir:
			tell(hooks.OnAir, fmt.Sprintf("%s is on air.", st.Title))
		case !c.onAir && old.onAir:
			tell(hooks.OffAir, fmt.Sprintf("%s is off air.", st.Title))
		}
		for field, text := range c.problems {
			if old.problems[field] == "" {
				tell(hooks.ProblemBegun, text)
			}
		}
		for field, text := range old.problems {
			if c.problems[field] == "" {
				tell(hooks.ProblemEnded, text)
			}
		}
	}
	return next
}

// AskAdmission asks the hooks whether a sender may come in.
func (s *Service) AskAdmission(sender contribution.Sender) error {
	return s.hooks.Admit(context.Background(), hooks.Happening{Channel: sender.Channel, Protocol: sender.Protocol, Remote: sender.Remote})
}
