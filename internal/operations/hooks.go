package operations

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/hooks"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/records"
)

// Hooks are the programs that are told what happens.
type Hooks struct{ desk *Desk }

// NewHooks starts to tell the stored hooks.
func NewHooks(ctx context.Context, d *Desk) (*Hooks, error) {
	x := &Hooks{d}
	return x, x.load(ctx)
}

// load reads the stored hooks.
func (x *Hooks) load(ctx context.Context) error {
	list, err := x.stored(ctx)
	if err == nil {
		x.desk.Runner.Set(list)
	}
	return err
}

func (x *Hooks) stored(ctx context.Context) ([]hooks.Hook, error) {
	list, err := x.desk.DB.Hooks(ctx)
	out := []hooks.Hook{}
	for _, h := range list {
		var one hooks.Hook
		if err := json.Unmarshal([]byte(h.Body), &one); err != nil {
			return nil, fmt.Errorf("stored hook %d: %w", h.ID, err)
		}
		one.ID = h.ID
		if one.Secret, err = x.desk.Sealer.unseal(one.Secret); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, err
}

// List lists the hooks, without their secrets.
func (x *Hooks) List(ctx context.Context) ([]hooks.Hook, error) {
	list, err := x.stored(ctx)
	for i := range list {
		list[i].Secret = ""
	}
	return list, err
}

//limit:characters of an address | each hook | 422
const maxURL = 500

// Add tells a program what happens from now on; the secret that signs calls is told once.
func (x *Hooks) Add(ctx context.Context, in hooks.Hook) (hooks.Hook, error) {
	in.ID = 0
	if err := checkLabel(in.Label); err != nil {
		return in, err
	}
	if err := x.check(&in); err != nil {
		return in, err
	}
	list, err := x.stored(ctx)
	if err != nil {
		return in, err
	}
	if len(list) >= hooks.MaxHooks {
		return in, refuse(Conflict, "Remove one first.", "there are %d hooks already", len(list))
	}
	if in.Secret == "" {
		in.Secret = records.NewSecret()
	}
	sealed := in
	sealed.Secret = x.desk.Sealer.seal(in.Secret)
	text, err := json.Marshal(sealed)
	if err != nil {
		return in, err
	}
	if in.ID, err = x.desk.DB.AddHook(ctx, string(text)); err != nil {
		return in, err
	}
	return in, x.load(ctx)
}

func (x *Hooks) check(in *hooks.Hook) error {
	if (in.URL == "") == (in.Command == "") {
		return Refuse(Malformed, "expected a URL to call, or a command to run", "Give one of them.")
	}
	if in.Command != "" {
		if text := x.desk.Runner.CheckCommand(in.Command); text != "" {
			return Refuse(Malformed, text, "")
		}
	} else if u, err := url.Parse(in.URL); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || len(in.URL) > maxURL {
		return Refuse(Malformed, fmt.Sprintf("found the URL %.70q, expected http://… or https://…", in.URL), "")
	}
	for _, e := range in.Events {
		if !slices.Contains(hooks.Happenings(), e) {
			return Refuse(Malformed, fmt.Sprintf("found the event %.40q, expected one of %s", e, strings.Join(hooks.Happenings(), ", ")), "")
		}
	}
	return nil
}

// Remove tells a program nothing more.
func (x *Hooks) Remove(ctx context.Context, id int64) error {
	if err := x.desk.DB.RemoveHook(ctx, id); err != nil {
		return err
	}
	return x.load(ctx)
}

// Try tells a hook that somebody tries it, and how that went.
func (x *Hooks) Try(ctx context.Context, id int64) (hooks.Delivery, error) {
	list, err := x.stored(ctx)
	if err != nil {
		return hooks.Delivery{}, err
	}
	i := slices.IndexFunc(list, func(h hooks.Hook) bool { return h.ID == id })
	if i < 0 {
		return hooks.Delivery{}, records.ErrNotFound
	}
	return x.desk.Runner.Try(ctx, list[i]), nil
}

// Deliveries lists what was told, or is to be, the newest first.
func (x *Hooks) Deliveries() api.Deliveries {
	list, lost := x.desk.Runner.Deliveries(0)
	return api.Deliveries{List: append([]hooks.Delivery{}, list...), Lost: lost}
}

// conditions is what was known of a channel at the last look.
type conditions struct {
	onAir    bool
	problems map[string]string // by what they concern
}

// tellConditions tells what has begun and ended since the last look.
func (x *Hooks) tellConditions(all []status.Status, before map[string]conditions) map[string]conditions {
	next := map[string]conditions{}
	now := time.Now().UTC()
	for _, st := range all {
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
			x.desk.Runner.Fire(hooks.Happening{Event: event, At: now, Channel: st.Slug, Text: text})
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
