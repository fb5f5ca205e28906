package control

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"time"

	"metaplasis/internal/control/api"
	"metaplasis/internal/inspector"
	"metaplasis/internal/network"
	"metaplasis/internal/origin/publish"
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
	m, err := c.Mark(publish.Marker{Class: in.Class, Text: in.Text, At: in.At, DurationMillis: in.DurationMillis})
	if errors.Is(err, publish.ErrBadMarker) {
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
	var in publish.NowPlaying
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if err := c.SetPlaying(in); errors.Is(err, publish.ErrBadPlaying) {
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
	usualInspection = 10
	//limit:length of an inspection | each inspection | 422
	longestInspection = 40
	//limit:inspections | all | 503
	maxInspections  = 4
	inspectionGrace = 4 * time.Second // for what was asked for and is still coming
	//limit:segments that inspections fetch at a time | all | others wait
	fetchesAtATime = 3 // of all inspections together, each held whole in memory
)

// mayInspect says whether the service may connect to an address for somebody at the console: to
// any public one and to its own ports; to private, loopback and link-local ones only when the
// administrator allowed that, since what listens there may trust this machine.
func (s *Service) mayInspect(to netip.AddrPort) error {
	ip := network.Carried(to.Addr())
	nowhere, _ := network.NewOutbound(nil)
	public := ip.IsGlobalUnicast() && !ip.IsPrivate() && !sharedSpace.Contains(ip) && !benchmarking.Contains(ip) && nowhere.Allows(ip)
	if public || s.checks.InspectPrivate || s.checks.Own != nil && s.checks.Own(to) {
		return nil
	}
	return fmt.Errorf("%w: %s is not a public address, and this service is not allowed to look at others; its own addresses are allowed, and serve --inspect-private allows all", inspector.ErrAddress, ip)
}

// Ranges that net/netip takes for public but that reach into somebody's own network (RFC 6598, RFC 2544).
var (
	sharedSpace  = netip.MustParsePrefix("100.64.0.0/10")
	benchmarking = netip.MustParsePrefix("198.18.0.0/15")
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
		return nil, fail(http.StatusBadRequest, fmt.Sprintf("found %d seconds, expected 1 to %d", in.Seconds,
			longestInspection), "For a longer look use the command: metaplasis inspect ADDRESS --for 5m.")
	}
	select {
	case s.inspections <- struct{}{}:
		defer func() { <-s.inspections }()
	default:
		return nil, fail(http.StatusServiceUnavailable, fmt.Sprintf("%d inspections run already", maxInspections),
			"Wait until one is over.")
	}
	follow := time.Duration(in.Seconds) * time.Second
	report, err := inspector.Run(r.Context(), inspector.Options{Address: in.Address, Follow: follow,
		Limit: follow + inspectionGrace, Allow: s.mayInspect, Slots: s.slots})
	if errors.Is(err, inspector.ErrAddress) {
		return nil, fail(http.StatusBadRequest, err.Error(), "Check that the address opens in a browser.")
	}
	return report, err
}
