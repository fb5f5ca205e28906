package control

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"metaplasis/internal/control/api"
	"metaplasis/internal/inspector"
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

// Bounds of inspections: how long one lasts, and how many run at a time.
const (
	usualInspection   = 10
	longestInspection = 40
	maxInspections    = 4
)

func (s *Service) inspect(_ http.ResponseWriter, r *http.Request) (any, error) {
	var in api.Inspection
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if in.Seconds == 0 {
		in.Seconds = usualInspection
	}
	if in.Seconds < 1 || in.Seconds > longestInspection {
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found %d seconds, expected 1 to %d", in.Seconds, longestInspection), "For a longer look use the command: metaplasis inspect ADDRESS --for 5m.")
	}
	select {
	case s.inspections <- struct{}{}:
		defer func() { <-s.inspections }()
	default:
		return nil, fail(http.StatusServiceUnavailable, fmt.Sprintf("%d inspections run already", maxInspections), "Wait until one is over.")
	}
	report, err := inspector.Run(r.Context(), inspector.Options{Address: in.Address, Follow: time.Duration(in.Seconds) * time.Second})
	if errors.Is(err, inspector.ErrAddress) {
		return nil, fail(http.StatusBadRequest, err.Error(), "Check that the address opens in a browser.")
	}
	return report, err
}
