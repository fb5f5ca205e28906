package operations

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/inspector"
	"metaplasis/internal/network"
)

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

// may says whether the service may connect to an address for somebody at the console: to
// any public one and to its own ports; to private, loopback and link-local ones only when the
// administrator allowed that, since what listens there may trust this machine.
func (x *Inspections) may(to netip.AddrPort) error {
	ip := network.Carried(to.Addr())
	nowhere, _ := network.NewOutbound(nil)
	public := ip.IsGlobalUnicast() && !ip.IsPrivate() && !sharedSpace.Contains(ip) && !benchmarking.Contains(ip) && nowhere.Allows(ip)
	if public || x.Private || x.Own != nil && x.Own(to) {
		return nil
	}
	return fmt.Errorf("%w: %s is not a public address, and this service is not allowed to look at others; its own addresses are allowed, and serve --inspect-private allows all", inspector.ErrAddress, ip)
}

// Ranges that net/netip takes for public but that reach into somebody's own network (RFC 6598, RFC 2544).
var (
	sharedSpace  = netip.MustParsePrefix("100.64.0.0/10")
	benchmarking = netip.MustParsePrefix("198.18.0.0/15")
)

// Inspections follow streams for somebody at the console, so many at a time.
type Inspections struct {
	Own     func(netip.AddrPort) bool // whether an address is one of this service's ports
	Private bool                      // private addresses may be inspected

	room  chan struct{}
	slots chan struct{} // for what is fetched
}

// NewInspections lets streams be inspected.
func NewInspections(own func(netip.AddrPort) bool, private bool) *Inspections {
	return &Inspections{Own: own, Private: private, room: make(chan struct{}, maxInspections), slots: make(chan struct{}, fetchesAtATime)}
}

// LongestInspection bounds how long an inspection may take.
const LongestInspection = longestInspection*time.Second + inspectionGrace

// Inspect follows a stream for a while and tells what is wrong with it.
func (x *Inspections) Inspect(ctx context.Context, in api.Inspection) (report inspect.Report, err error) {
	if in.Seconds == 0 {
		in.Seconds = usualInspection
	}
	if in.Seconds < 1 || in.Seconds > longestInspection {
		return report, refuse(Malformed, "For a longer look use the command: metaplasis inspect ADDRESS --for 5m.", "found %d seconds, expected 1 to %d", in.Seconds, longestInspection)
	}
	select {
	case x.room <- struct{}{}:
		defer func() { <-x.room }()
	default:
		return report, refuse(Unavailable, "Wait until one is over.", "%d inspections run already", maxInspections)
	}
	follow := time.Duration(in.Seconds) * time.Second
	report, err = inspector.Run(ctx, inspector.Options{Address: in.Address, Follow: follow, Limit: follow + inspectionGrace, Allow: x.may, Slots: x.slots})
	if errors.Is(err, inspector.ErrAddress) {
		return report, Refuse(Malformed, err.Error(), "Check that the address opens in a browser.")
	}
	return report, err
}
