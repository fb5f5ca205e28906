package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/overlay"
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

// plan finds a version of a plan, the newest for 0.
func (s *Service) plan(ctx context.Context, name string, version int) (ladder.Plan, error) {
	if p, ok := builtIn[name]; ok && version <= p.Version {
		return p, nil
	}
	row, err := s.db.PlanByName(ctx, name, version)
	switch {
	case errors.Is(err, records.ErrNotFound) && version > 0:
		return ladder.Plan{}, fail(http.StatusNotFound, fmt.Sprintf("there is no version %d of a plan %.40q", version, name), "metaplasis plans list names those there are.")
	case errors.Is(err, records.ErrNotFound):
		return ladder.Plan{}, fail(http.StatusNotFound, fmt.Sprintf("there is no plan %.40q", name), "metaplasis plans list names those there are.")
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

func (s *Service) listPlans(_ http.ResponseWriter, r *http.Request) (any, error) {
	rows, err := s.db.Plans(r.Context())
	if err != nil {
		return nil, err
	}
	list := ladder.BuiltIn()
	for i := range rows {
		p, err := readPlan(&rows[i])
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	out := []api.PlanInUse{}
	for _, p := range list {
		out = append(out, s.planned(p))
	}
	return out, nil
}

// planned adds to a plan which channels use it.
func (s *Service) planned(p ladder.Plan) api.PlanInUse {
	out := api.PlanInUse{Plan: p, Channels: []api.PlanUse{}}
	for _, c := range s.o.Channels() {
		if u := c.Settings().Ladder.Plan; u != nil && u.Name == p.Name {
			out.Channels = append(out.Channels, api.PlanUse{Channel: c.Slug(), Version: u.Version})
		}
	}
	return out
}

func (s *Service) showPlan(_ http.ResponseWriter, r *http.Request) (any, error) {
	version := 0
	if text := r.URL.Query().Get("version"); text != "" {
		var err error
		if version, err = strconv.Atoi(text); err != nil || version < 1 {
			return nil, fail(http.StatusBadRequest, fmt.Sprintf("found version %.20q, expected a number from 1", text), "Leave it out for the newest.")
		}
	}
	p, err := s.plan(r.Context(), chi.URLParam(r, "plan"), version)
	if err != nil {
		return nil, err
	}
	return s.planned(p), nil
}

func (s *Service) storePlan(_ http.ResponseWriter, r *http.Request) (any, error) {
	var p ladder.Plan
	if err := read(r, &p); err != nil {
		return nil, err
	}
	name := chi.URLParam(r, "plan")
	if p.Name == "" {
		p.Name = name
	}
	if p.Name != name {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found a plan named %.40q at the address of %.40q", p.Name, name), "Make the two the same.")
	}
	if _, ok := builtIn[name]; ok {
		return nil, fail(http.StatusConflict, fmt.Sprintf("%s comes with the program and does not change", name), "Store it under another name.")
	}
	p.Format, p.BuiltIn = ladder.PlanFormat, false
	if problems := append(p.Check(), s.imageProblems(p.Rungs, nil)...); len(problems) > 0 {
		return nil, &settings.InvalidError{Problems: problems}
	}
	p.Author, p.Created = who(r).User, time.Now().UTC().Truncate(time.Millisecond)
	_, err := s.db.AddPlan(r.Context(), name, p.Author, func(version int) (string, error) {
		p.Version = version
		text, err := json.Marshal(p)
		return string(text), err
	})
	if err != nil {
		return nil, err
	}
	return s.planned(p), nil
}

func (s *Service) removePlan(_ http.ResponseWriter, r *http.Request) (any, error) {
	name := chi.URLParam(r, "plan")
	if _, ok := builtIn[name]; ok {
		return nil, fail(http.StatusConflict, fmt.Sprintf("%s comes with the program and cannot be removed", name), "Remove your own plans.")
	}
	return nil, s.db.RemovePlan(r.Context(), name)
}

// loadImages gives the origin the stored images.
func (s *Service) loadImages(ctx context.Context) error {
	list, err := s.db.Images(ctx)
	if err != nil {
		return fmt.Errorf("reading the images: %w", err)
	}
	for _, img := range list {
		s.o.Images.Set(img.Name, img.File)
	}
	return nil
}

// imageProblems names the images of rungs and inputs that there are not.
func (s *Service) imageProblems(rungs []ladder.Rung, inputs []settings.Input) (out []ladder.Problem) {
	check := func(field, name string) {
		if _, ok := s.o.Images.Get(name); name != "" && !ok {
			out = append(out, ladder.Problem{Field: field, Text: fmt.Sprintf("found %.40q, expected the name of an image that was added, %v", name, s.o.Images.Names())})
		}
	}
	for i, r := range rungs {
		check(fmt.Sprintf("rungs[%d].picture.logo.image", i), r.Picture.Logo.Image)
	}
	for i, in := range inputs {
		if in.Kind == settings.InputSlate {
			check(fmt.Sprintf("inputs.%d", i), in.File)
		}
	}
	return out
}

func (s *Service) listImages(_ http.ResponseWriter, _ *http.Request) (any, error) {
	out := []api.Image{}
	for _, name := range s.o.Images.Names() {
		if img, ok := s.o.Images.Get(name); ok {
			out = append(out, api.Image{Name: name, Digest: img.Digest, Bytes: len(img.File), Channels: s.o.Users(name)})
		}
	}
	return out, nil
}

func (s *Service) showImage(_ http.ResponseWriter, r *http.Request) (any, error) {
	img, ok := s.o.Images.Get(chi.URLParam(r, "image"))
	if !ok {
		return nil, records.ErrNotFound
	}
	return api.NewImage{File: img.File}, nil
}

func (s *Service) putImage(_ http.ResponseWriter, r *http.Request) (any, error) {
	name := chi.URLParam(r, "image")
	if text := ladder.CheckImageName(name); text != "" {
		return nil, fail(http.StatusBadRequest, text, "Choose another name.")
	}
	var in api.NewImage
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if err := overlay.CheckImage(in.File); err != nil {
		return nil, fail(http.StatusUnprocessableEntity, "the image cannot be used: "+err.Error(), "Send a PNG file.")
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	if err := s.db.PutImage(r.Context(), name, in.File); err != nil {
		return nil, err
	}
	s.o.Images.Set(name, in.File)
	s.o.Refresh(name)
	img, _ := s.o.Images.Get(name)
	return api.Image{Name: name, Digest: img.Digest, Bytes: len(img.File), Channels: s.o.Users(name)}, nil
}

func (s *Service) removeImage(_ http.ResponseWriter, r *http.Request) (any, error) {
	name := chi.URLParam(r, "image")
	s.setup.Lock()
	defer s.setup.Unlock()
	if users := s.o.Users(name); len(users) > 0 {
		return nil, fail(http.StatusConflict, fmt.Sprintf("the image is used by %v", users), "Take it out of their ladders and inputs first.")
	}
	if err := s.db.RemoveImage(r.Context(), name); err != nil {
		return nil, err
	}
	s.o.Images.Remove(name)
	return nil, nil
}

// useLadder makes the ladder that a change asks for: of a plan, with the rungs that the channel has otherwise.
func (s *Service) useLadder(ctx context.Context, in ladder.Ladder) (ladder.Ladder, error) {
	if in.Plan == nil {
		return in, nil
	}
	p, err := s.plan(ctx, in.Plan.Name, in.Plan.Version)
	if err != nil {
		return in, err
	}
	l := p.With(in.Rungs)
	if in.Governor != ladder.Ungoverned {
		l.Governor = in.Governor
	}
	if in.Interlaced != "" {
		l.Interlaced = in.Interlaced
	}
	l.Priority = in.Priority
	return l, nil
}
