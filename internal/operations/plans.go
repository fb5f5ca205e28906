package operations

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// builtIn are the plans that come with the program, by name.
var builtIn = func() map[string]ladder.Plan {
	out := map[string]ladder.Plan{}
	for _, p := range ladder.BuiltIn() {
		out[p.Name] = p
	}
	return out
}()

// Plans are ladders under a name, in versions.
type Plans struct {
	db     *records.DB
	origin *origin.Origin
	images *Images
}

// NewPlans looks after plans, whose rungs may use images.
func NewPlans(db *records.DB, o *origin.Origin, images *Images) *Plans { return &Plans{db, o, images} }

// Find finds a version of a plan, the newest for 0.
func (p *Plans) Find(ctx context.Context, name string, version int) (ladder.Plan, error) {
	if own, ok := builtIn[name]; ok && version <= own.Version {
		return own, nil
	}
	row, err := p.db.PlanByName(ctx, name, version)
	switch {
	case errors.Is(err, records.ErrNotFound) && version > 0:
		return ladder.Plan{}, Refuse(NotFound, fmt.Sprintf("there is no version %d of a plan %.40q", version, name), "metaplasis plans list names those there are.")
	case errors.Is(err, records.ErrNotFound):
		return ladder.Plan{}, Refuse(NotFound, fmt.Sprintf("there is no plan %.40q", name), "metaplasis plans list names those there are.")
	case err != nil:
		return ladder.Plan{}, err
	}
	return readPlan(row)
}

func readPlan(row *records.Plan) (p ladder.Plan, err error) {
	if err := json.Unmarshal([]byte(row.Body), &p); err != nil {
		return p, fmt.Errorf("the stored plan %s, version %d: %w", row.Name, row.Version, err)
	}
	p.Format, p.Name, p.Version, p.Author, p.Created, p.BuiltIn = ladder.PlanFormat, row.Name, row.Version, row.Author, row.Created.UTC(), false
	return p, nil
}

// List lists all plans, the newest version of each, with the channels that use them.
func (p *Plans) List(ctx context.Context) ([]api.PlanInUse, error) {
	rows, err := p.db.Plans(ctx)
	if err != nil {
		return nil, err
	}
	list := ladder.BuiltIn()
	for i := range rows {
		one, err := readPlan(&rows[i])
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	out := []api.PlanInUse{}
	for _, one := range list {
		out = append(out, p.InUse(one))
	}
	return out, nil
}

// InUse adds to a plan which channels use it.
func (p *Plans) InUse(of ladder.Plan) api.PlanInUse {
	out := api.PlanInUse{Plan: of, Channels: []api.PlanUse{}}
	for _, c := range p.origin.Channels() {
		if u := c.Settings().Ladder.Plan; u != nil && u.Name == of.Name {
			out.Channels = append(out.Channels, api.PlanUse{Channel: c.Slug(), Version: u.Version})
		}
	}
	return out
}

// Store stores a plan as the next version of its name.
func (p *Plans) Store(ctx context.Context, name string, in ladder.Plan, by string) (api.PlanInUse, error) {
	if in.Name == "" {
		in.Name = name
	}
	if in.Name != name {
		return api.PlanInUse{}, refuse(Malformed, "Make the two the same.", "found a plan named %.40q at the address of %.40q", in.Name, name)
	}
	if _, ok := builtIn[name]; ok {
		return api.PlanInUse{}, refuse(Conflict, "Store it under another name.", "%s comes with the program and does not change", name)
	}
	in.Format, in.BuiltIn = ladder.PlanFormat, false
	if problems := append(in.Check(), p.images.problems(in.Rungs, nil)...); len(problems) > 0 {
		return api.PlanInUse{}, &settings.InvalidError{Problems: problems}
	}
	in.Author, in.Created = by, time.Now().UTC().Truncate(time.Millisecond)
	_, err := p.db.AddPlan(ctx, name, in.Author, func(version int) (string, error) {
		in.Version = version
		text, err := json.Marshal(in)
		return string(text), err
	})
	if err != nil {
		return api.PlanInUse{}, err
	}
	return p.InUse(in), nil
}

// Remove removes a plan with all its versions.
func (p *Plans) Remove(ctx context.Context, name string) error {
	if _, ok := builtIn[name]; ok {
		return refuse(Conflict, "Remove your own plans.", "%s comes with the program and cannot be removed", name)
	}
	return p.db.RemovePlan(ctx, name)
}

// use makes the ladder that a change asks for: of a plan, with the rungs that the channel has otherwise.
func (p *Plans) use(ctx context.Context, in ladder.Ladder) (ladder.Ladder, error) {
	if in.Plan == nil {
		return in, nil
	}
	plan, err := p.Find(ctx, in.Plan.Name, in.Plan.Version)
	if err != nil {
		return in, err
	}
	l := plan.With(in.Rungs)
	if in.Governor != ladder.Ungoverned {
		l.Governor = in.Governor
	}
	if in.Interlaced != "" {
		l.Interlaced = in.Interlaced
	}
	l.Priority = in.Priority
	return l, nil
}
