package control

import (
	"errors"
	"net/http"

	"metaplasis/internal/control/api"
	"metaplasis/internal/origin"
)

func (s *Service) listMarkers(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	return c.Markers(), nil
}

func (s *Service) addMarker(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in api.NewMarker
	if err := read(r, &in); err != nil {
		return nil, err
	}
	m, err := c.Mark(origin.Marker{Class: in.Class, Text: in.Text, At: in.At, DurationMillis: in.DurationMillis})
	if errors.Is(err, origin.ErrBadMarker) {
		return nil, fail(http.StatusBadRequest, err.Error(), "Correct it and send it again.")
	}
	return m, err
}

func (s *Service) showPlaying(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	return c.Playing(), nil
}

func (s *Service) setPlaying(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	var in origin.NowPlaying
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if err := c.SetPlaying(in); errors.Is(err, origin.ErrBadPlaying) {
		return nil, fail(http.StatusBadRequest, err.Error(), "Correct it and send it again.")
	} else if err != nil {
		return nil, err
	}
	return nil, nil
}

func (s *Service) timeline(_ http.ResponseWriter, r *http.Request) (any, error) {
	c, err := s.running(r)
	if err != nil {
		return nil, err
	}
	return c.Timeline(), nil
}
