package control

import (
	"net/http"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/settings"
)

func (s *Service) showLadder(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	set := c.Settings()
	l := set.Ladder
	if l.Planned {
		l.Rungs = c.Status().Rungs
	}
	return api.NewLadder{Ladder: l, Revision: s.history.revision(c.Slug())}, nil
}

func (s *Service) setLadder(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var change api.NewLadder
	if err := read(r, &change); err != nil {
		return nil, err
	}
	in := change.Ladder
	if in.Planned {
		in.Rungs, in.Plan = nil, nil
	} else if len(in.Rungs) == 0 && in.Plan == nil {
		return nil, &settings.InvalidError{Problems: []ladder.Problem{{Field: "rungs",
			Text: "found none, expected at least one, or planned set to true for the default ladder"}}}
	}
	s.setup.Lock()
	defer s.setup.Unlock()
	if err := s.history.check(c.Slug(), change.Revision, c.Settings()); err != nil {
		return nil, err
	}
	set := c.Settings()
	var err2 error
	if set.Ladder, err2 = s.useLadder(r.Context(), in); err2 != nil {
		return nil, err2
	}
	if _, err := s.applySettings(r, c, set); err != nil {
		return nil, err
	}
	return s.showLadder(nil, r)
}

// forecastLadder says whether a ladder is likely to keep up, and what is wrong with it.
func (s *Service) forecastLadder(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in api.NewLadder
	if err := read(r, &in); err != nil {
		return nil, err
	}
	l, err := s.useLadder(r.Context(), in.Ladder)
	if err != nil {
		return nil, err
	}
	if p := append(l.Check(), s.imageProblems(l.Rungs, nil)...); len(p) > 0 {
		return nil, &settings.InvalidError{Problems: p}
	}
	return c.Forecast(l), nil
}

func (s *Service) proposeLadder(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var video, sound *media.Track
	if f := c.Status().Feed; f != nil {
		for i := range f.Tracks {
			switch t := &f.Tracks[i]; {
			case t.Kind == media.Video:
				video = t
			case t.Kind == media.Audio && sound == nil:
				sound = t
			}
		}
	}
	if video == nil {
		video = &media.Track{Width: 1920, Height: 1080, FrameRate: media.Rational{Num: 30, Den: 1}}
	}
	return ladder.Ladder{Planned: true, Rungs: ladder.Default(video, sound)}, nil
}
