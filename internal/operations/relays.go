package operations

import (
	"context"
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
)

// Relays carry channels onward to other machines.
type Relays struct {
	channels *Channels
	runner   *relay.Runner
}

// NewRelays looks after the relays of channels, which a runner keeps up.
func NewRelays(channels *Channels, runner *relay.Runner) *Relays { return &Relays{channels, runner} }

// progress lists how those of a channel are doing.
func (x *Relays) progress(slug string, curves bool) []relay.Progress {
	list := x.runner.Progress(slug)
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

// AddTo puts the relays into a channel's status; one that fails is a problem.
func (x *Relays) AddTo(st *status.Status) {
	st.Relays = x.progress(st.Slug, false)
	for _, r := range st.Relays {
		if r.State == relay.Retrying {
			st.Problems = append(st.Problems, ladder.Problem{Field: "relay", Text: fmt.Sprintf("The relay %s: %s.", r.Name, r.Text)})
		}
	}
}

// List is what is set and how it is doing.
func (x *Relays) List(c *origin.Channel) []api.ChannelRelay {
	now := time.Now()
	progress := x.progress(c.Slug(), true)
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

// change applies settings with other relays.
func (x *Relays) change(ctx context.Context, slug, by string, change func(list []settings.Relay) ([]settings.Relay, error)) ([]api.ChannelRelay, error) {
	x.channels.setup.Lock()
	defer x.channels.setup.Unlock()
	c, err := x.channels.Find(slug)
	if err != nil {
		return nil, err
	}
	set := c.Settings()
	if set.Relays, err = change(slices.Clone(set.Relays)); err != nil {
		return nil, err
	}
	if err := x.channels.apply(ctx, c, set, by); err != nil {
		return nil, err
	}
	return x.List(c), nil
}

// Put adds a relay, or changes the one of its name.
func (x *Relays) Put(ctx context.Context, slug string, in settings.Relay, by string) ([]api.ChannelRelay, error) {
	return x.change(ctx, slug, by, func(list []settings.Relay) ([]settings.Relay, error) {
		at := indexOfRelay(list, in.Name)
		if at < 0 {
			return append(list, in), nil
		}
		if in.Secret == settings.KeptSecret && !list[at].LeadsTo(in.Address) {
			return nil, Refuse(Invalid, "the relay leads to another host now, which is not given the secret of the one before", "Give the secret too.")
		}
		if in.Secret == settings.KeptSecret || in.Secret == "" && in.Address == list[at].Address {
			in.Secret = list[at].Secret
		}
		list[at] = in
		return list, nil
	})
}

func indexOfRelay(list []settings.Relay, name string) int {
	return slices.IndexFunc(list, func(o settings.Relay) bool { return o.Name == name })
}

func noRelay(name string) error {
	return refuse(NotFound, "List them with relays list.", "there is no relay %q", name)
}

// Remove removes a relay.
func (x *Relays) Remove(ctx context.Context, slug, name, by string) ([]api.ChannelRelay, error) {
	return x.change(ctx, slug, by, func(list []settings.Relay) ([]settings.Relay, error) {
		at := indexOfRelay(list, name)
		if at < 0 {
			return nil, noRelay(name)
		}
		return slices.Delete(list, at, at+1), nil
	})
}

// Turn lets a relay send from now on, whatever its schedule says, or nothing more.
func (x *Relays) Turn(ctx context.Context, slug, name string, off bool, by string) ([]api.ChannelRelay, error) {
	return x.change(ctx, slug, by, func(list []settings.Relay) ([]settings.Relay, error) {
		at := indexOfRelay(list, name)
		if at < 0 {
			return nil, noRelay(name)
		}
		list[at].Off = off
		if now := time.Now(); !off && !list[at].On(now) {
			list[at].From, list[at].Until = time.Time{}, time.Time{}
		}
		return list, nil
	})
}

// Test tries the far end of a relay for a moment.
func (x *Relays) Test(ctx context.Context, slug, name string) (api.RelayTest, error) {
	c, err := x.channels.Find(slug)
	if err != nil {
		return api.RelayTest{}, err
	}
	set := c.Settings()
	at := indexOfRelay(set.Relays, name)
	if at < 0 {
		return api.RelayTest{}, noRelay(name)
	}
	running := x.progress(slug, false)
	if i := slices.IndexFunc(running, func(p relay.Progress) bool { return p.Name == name }); i >= 0 {
		p := running[i]
		text := p.Text
		if p.State != relay.Sending && p.Error != "" {
			text = p.Error
		}
		return api.RelayTest{Takes: p.State == relay.Sending, Text: "It is on: " + text}, nil
	}
	text, err := x.runner.Test(ctx, relay.PlanOf(&set, &set.Relays[at]))
	if err != nil {
		return api.RelayTest{Text: err.Error()}, nil
	}
	return api.RelayTest{Takes: true, Text: text}, nil
}
