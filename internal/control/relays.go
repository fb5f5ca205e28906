package control

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
)

// SetRelays gives the service what keeps relays up.
func (s *Service) SetRelays(r *relay.Runner) { s.relays.Store(r) }

// relaysOf lists how those of a channel are doing.
func (s *Service) relaysOf(slug string, curves bool) []relay.Progress {
	r := s.relays.Load()
	if r == nil {
		return nil
	}
	list := r.Progress(slug)
	slices.SortFunc(list, func(a, b relay.Progress) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	if !curves {
		for i := range list {
			list[i].Curve = nil
		}
	}
	return list
}

// addRelays puts the relays into a channel's status; one that fails is a problem.
func (s *Service) addRelays(st *status.Status) {
	st.Relays = s.relaysOf(st.Slug, false)
	for _, r := range st.Relays {
		if r.State == relay.Retrying {
			st.Problems = append(st.Problems, ladder.Problem{Field: "relay", Text: fmt.Sprintf("The relay %s: %s.", r.Name, r.Text)})
		}
	}
}

// relayList is what is set and how it is doing.
func (s *Service) relayList(c *origin.Channel) []api.ChannelRelay {
	now := time.Now()
	progress := s.relaysOf(c.Slug(), true)
	out := []api.ChannelRelay{}
	for _, r := range c.Settings().Shown().Relays {
		one := api.ChannelRelay{Relay: r, Words: "off"}
		switch {
		case r.Off:
		case r.On(now):
			one.Words = "it begins"
		case !r.From.IsZero() && now.Before(r.From):
			one.Words = "begins at " + r.From.Format(time.RFC3339)
		case !r.Until.IsZero() && !now.Before(r.Until):
			one.Words = "ended at " + r.Until.Format(time.RFC3339)
		}
		if i := slices.IndexFunc(progress, func(p relay.Progress) bool { return p.Name == r.Name }); i >= 0 {
			one.Progress, one.Words = &progress[i], progress[i].Text
		}
		out = append(out, one)
	}
	return out
}

func (s *Service) listRelays(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	return s.relayList(c), nil
}

// changeRelays applies settings with other relays.
func (s *Service) changeRelays(r *http.Request, change func(list []settings.Relay) ([]settings.Relay, error)) (any, error) {
	s.setup.Lock()
	defer s.setup.Unlock()
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	set := c.Settings()
	if set.Relays, err = change(slices.Clone(set.Relays)); err != nil {
		return nil, err
	}
	if _, err := s.applySettings(r, c, set); err != nil {
		return nil, err
	}
	return s.relayList(c), nil
}

func relayName(r *http.Request) string {
	name := chi.URLParam(r, "relay")
	if plain, err := url.PathUnescape(name); err == nil {
		return plain
	}
	return name
}

func (s *Service) putRelay(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in settings.Relay
	if err := read(r, &in); err != nil {
		return nil, err
	}
	in.Name = relayName(r)
	return s.changeRelays(r, func(list []settings.Relay) ([]settings.Relay, error) {
		if at := indexOfRelay(list, in.Name); at >= 0 {
			if in.Secret == settings.KeptSecret && !list[at].LeadsTo(in.Address) {
				return nil, fail(http.StatusUnprocessableEntity, "the relay leads to another host now, which is not given the secret of the one before", "Give the secret too.")
			}
			if in.Secret == settings.KeptSecret || in.Secret == "" && in.Address == list[at].Address {
				in.Secret = list[at].Secret
			}
			list[at] = in
			return list, nil
		}
		return append(list, in), nil
	})
}

func indexOfRelay(list []settings.Relay, name string) int {
	return slices.IndexFunc(list, func(o settings.Relay) bool { return o.Name == name })
}

func noRelay(name string) error {
	return fail(http.StatusNotFound, fmt.Sprintf("there is no relay %q", name), "List them with relays list.")
}

func (s *Service) removeRelay(_ http.ResponseWriter, r *http.Request) (any, error) {
	return s.changeRelays(r, func(list []settings.Relay) ([]settings.Relay, error) {
		at := indexOfRelay(list, relayName(r))
		if at < 0 {
			return nil, noRelay(relayName(r))
		}
		return slices.Delete(list, at, at+1), nil
	})
}

// turnRelay starts or stops one.
func (s *Service) turnRelay(off bool) func(http.ResponseWriter, *http.Request) (any, error) {
	return func(_ http.ResponseWriter, r *http.Request) (any, error) {
		return s.changeRelays(r, func(list []settings.Relay) ([]settings.Relay, error) {
			at := indexOfRelay(list, relayName(r))
			if at < 0 {
				return nil, noRelay(relayName(r))
			}
			list[at].Off = off
			if !off { // by hand, whatever the schedule said
				if now := time.Now(); !list[at].On(now) {
					list[at].From, list[at].Until = time.Time{}, time.Time{}
				}
			}
			return list, nil
		})
	}
}

// testRelay tries a relay for a moment: the one of a name, or with a body, one that is not stored.
func (s *Service) testRelay(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	runner := s.relays.Load()
	set := c.Settings()
	at := indexOfRelay(set.Relays, relayName(r))
	if at < 0 {
		return nil, noRelay(relayName(r))
	}
	plan := relay.PlanOf(&set, &set.Relays[at])
	if i := slices.IndexFunc(s.relaysOf(c.Slug(), false), func(p relay.Progress) bool { return p.Name == plan.Name }); i >= 0 {
		p := s.relaysOf(c.Slug(), false)[i]
		text := p.Text
		if p.State != relay.Sending && p.Error != "" {
			text = p.Error
		}
		return api.RelayTest{Takes: p.State == relay.Sending, Text: "It is on: " + text}, nil
	}
	text, err := runner.Test(r.Context(), plan)
	if err != nil {
		return api.RelayTest{Text: err.Error()}, nil
	}
	return api.RelayTest{Takes: true, Text: text}, nil
}
