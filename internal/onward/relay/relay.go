// Package relay carries channels onward to other machines: each relay is tried again with growing pauses for as long as it
// is on, falls to the next keyframe when the far end is slow, and says in words how it is doing.
package relay

import (
	"metaplasis/internal/retry"

	"metaplasis/internal/safely"

	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/onward"
	"metaplasis/internal/settings"
)

// Plan is a relay as it is set. It can be compared.
type Plan struct {
	Channel string
	Name    string
	Address string // as people may see it
	Full    string // with what is secret in it
	Title   string // of the channel
	Rung    string // "": the source as it came
	Sound   string // "": that of the rung
	Whole   bool   // the sender's transport stream, untouched
	// Programmes are further ones of the transport stream, as JSON of a list of CarriedProgramme; "" for none.
	Programmes string
	Number     int // of the channel's own programme, 0 is 1
}

// PlanOf is what is to be done for a relay of a channel.
func PlanOf(s *settings.Settings, r *settings.Relay) Plan {
	programmes := ""
	if len(r.Programmes) > 0 {
		b, _ := json.Marshal(r.Programmes) // of plain values
		programmes = string(b)
	}
	return Plan{Programmes: programmes, Number: r.Number, Channel: s.Slug, Name: r.Name, Address: r.Address, Full: r.Full(), Title: s.Title, Rung: r.Rung, Sound: r.Sound, Whole: r.Whole}
}

// State is how a relay is doing.
type State string

// The states.
const (
	Waiting    State = "waiting"    // nothing is on air
	Connecting State = "connecting" // the far end is called
	Sending    State = "sending"
	Retrying   State = "retrying" // it failed, and is tried again
)

// Progress is what is known of a relay that is on.
type Progress struct {
	Channel  string    `json:"-"`
	Name     string    `json:"name"`
	State    State     `json:"state"`
	Text     string    `json:"text"`            // the state in words
	Since    time.Time `json:"since"`           // of the state
	Attempts int64     `json:"attempts"`        // since it was turned on
	Bytes    int64     `json:"bytes"`           // sent
	Units    int64     `json:"units"`           // pictures and frames of sound that were sent
	Lost     int64     `json:"lost"`            // that were left out since the far end was slow
	Bitrate  int64     `json:"bitrate"`         // bits in the newest second
	Error    string    `json:"error,omitempty"` // the newest failure
	Failed   time.Time `json:"failed,omitzero"`
	// BehindMillis is by how much what is sent is late, since the far end takes it too slowly, or not at all; 0: it keeps up.
	BehindMillis int64     `json:"behindMillis,omitempty"`
	BehindSince  time.Time `json:"behindSince,omitzero"`
	Curve        []int64   `json:"curve,omitempty"` // bits in each of the last seconds, five minutes at most
}

// Dialer opens the way to an address for a plan.
type Dialer func(ctx context.Context, u *url.URL, p *Plan) (Line, error)

// Line is an open way.
type Line struct {
	onward.Sender
	// Fixed: its tracks cannot become others; it is opened again for them.
	Fixed bool
	// Programme adds a programme to the stream; nil of what is no transport stream.
	Programme func(number int, name string) onward.Sender
	// Told: the far end says whether it takes the stream.
	Told bool
}

// Scheme is what is known of a kind of address.
type Scheme struct {
	Dial Dialer
	// Copy writes the channel's files instead, until the context ends or it fails. up is called when the far end has the first list.
	Copy func(ctx context.Context, p *Plan, up func(), sent func(bytes int, lost int64), tell func(text string)) error
	// Real: only what fits viewers in real time can be carried.
	Real *onward.Real
}

// Runner keeps all relays up.
type Runner struct {
	Channels onward.Channels
	Plans    func() []Plan // that are on now
	Schemes  map[string]Scheme
	// Whole hands over the transport stream that feeds a channel, until the context ends.
	Whole  func(ctx context.Context, channel string, write func([]byte) error) error
	Event  func(channel string, bad bool, kind, text, do string)
	Logger *slog.Logger

	mu      sync.Mutex
	running map[Plan]*relay
	all     sync.WaitGroup
}

// Pauses between attempts, and other times.
const (
	lookEach   = 200 * time.Millisecond
	firstPause = time.Second
	//limit:pause before the next try | each relay | it does not grow further
	maxPause = 30 * time.Second
	// What is written as files leaves the window while the far end is away: it is looked for more often.
	//
	//limit:pause before the next try to write files | each relay | it does not grow further
	maxFilesPause = 2 * time.Second
	steady        = 20 * time.Second
	// idle is for how long a way stays open while nothing is on air.
	idle      = 8 * time.Second
	curveSpan = 300
)

// Run keeps the relays up until the context ends.
func (r *Runner) Run(ctx context.Context) {
	r.running = map[Plan]*relay{}
	defer r.all.Wait()
	look := time.NewTicker(lookEach)
	defer look.Stop()
	count := 0
	for {
		wanted := map[Plan]bool{}
		for _, p := range r.Plans() {
			wanted[p] = true
		}
		count++
		r.mu.Lock()
		for p, x := range r.running {
			if !wanted[p] && !x.stopping {
				x.stopping = true
				x.stop()
			}
			if x.stopping {
				select {
				case <-x.over:
					delete(r.running, p)
				default:
				}
			} else if count%int(time.Second/lookEach) == 0 {
				x.second()
			}
		}
		for p := range wanted {
			if r.running[p] != nil {
				continue
			}
			if ctx.Err() == nil && !r.busy(p) {
				own, stop := context.WithCancel(ctx)
				x := &relay{r: r, p: p, stop: stop, over: make(chan struct{})}
				x.set(Connecting, "it begins")
				r.running[p] = x
				r.all.Go(func() { defer close(x.over); x.maintain(own) })
			}
		}
		r.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
	}
}

// busy reports whether a relay of the same name is still ending.
func (r *Runner) busy(p Plan) bool {
	for q := range r.running {
		if q.Channel == p.Channel && q.Name == p.Name {
			return true
		}
	}
	return false
}

// Progress lists the relays of a channel that are on.
func (r *Runner) Progress(channel string) (out []Progress) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for p, x := range r.running {
		if p.Channel == channel && !x.stopping {
			out = append(out, x.status())
		}
	}
	return out
}

// relay is one that is on.
type relay struct {
	r    *Runner
	p    Plan
	stop context.CancelFunc
	over chan struct{}
	// stopping: it is on no more, and is ending. The runner's lock guards it.
	stopping bool

	mu    sync.Mutex
	st    Progress
	last  int64                // bytes at the newest second
	moved time.Time            // when something was sent last
	lag   func() time.Duration // of what is sent; nil: nothing is
}

// slow is how late a relay may be and keep up.
const slow = 1500 * time.Millisecond

// behind notes whether the far end keeps up. What is sent comes evenly: a pause of it is the far end's, unless nothing is on air.
func (x *relay) behind(now time.Time) {
	if x.st.State != Sending || x.lag == nil {
		x.st.BehindMillis, x.st.BehindSince = 0, time.Time{}
		return
	}
	late := x.lag()
	if rest := now.Sub(x.moved); rest > slow && x.onAir() {
		late += rest
	}
	if late <= slow {
		x.st.BehindMillis, x.st.BehindSince = 0, time.Time{}
		return
	}
	if x.st.BehindSince.IsZero() {
		x.st.BehindSince = now
	}
	x.st.BehindMillis = late.Milliseconds()
}

// onAir reports whether there is something to send.
func (x *relay) onAir() bool {
	_, video, sound := x.r.Channels.Runs(x.p.Channel)
	return video || sound
}

func (x *relay) set(state State, text string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.st.State != state {
		x.st.Since = time.Now()
	}
	x.st.State, x.st.Text = state, text
}

func (x *relay) status() Progress {
	x.mu.Lock()
	defer x.mu.Unlock()
	st := x.st
	st.Channel, st.Name = x.p.Channel, x.p.Name
	st.Curve = append([]int64(nil), st.Curve...)
	if st.BehindMillis > 0 {
		st.Text += fmt.Sprintf(", %.1f s behind since %s UTC: the far end takes it too slowly, or not at all", float64(st.BehindMillis)/1000, st.BehindSince.UTC().Format("15:04:05"))
	}
	return st
}

// second books what was sent in a second.
func (x *relay) second() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.behind(time.Now())
	x.st.Bitrate = (x.st.Bytes - x.last) * 8
	x.last = x.st.Bytes
	x.st.Curve = append(x.st.Curve, x.st.Bitrate)
	if n := len(x.st.Curve); n > curveSpan {
		x.st.Curve = append([]int64(nil), x.st.Curve[n-curveSpan:]...)
	}
}

func (x *relay) sent(bytes int, lost int64) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.moved = time.Now()
	x.st.Bytes += int64(bytes)
	x.st.Units++
	x.st.Lost += lost
}

// maintain tries again and again.
func (x *relay) maintain(ctx context.Context) {
	most := maxPause
	if u, err := url.Parse(x.p.Full); err == nil && x.r.Schemes[u.Scheme].Copy != nil {
		most = maxFilesPause
	}
	pause := retry.New(firstPause, most)
	failing := false
	for ctx.Err() == nil {
		begun := time.Now()
		x.mu.Lock()
		x.st.Attempts++
		x.mu.Unlock()
		err := safely.Run(x.r.Logger, func() error {
			return x.attempt(ctx, func() {
				if failing {
					x.r.Event(x.p.Channel, false, "relay-resumed", fmt.Sprintf("The relay %s sends again.", x.p.Name), "")
				}
				failing = false
			})
		})
		if ctx.Err() != nil {
			return
		}
		if errors.Is(err, onward.ErrIdle) || errors.Is(err, onward.ErrChanged) {
			pause.Reset()
			continue
		}
		if time.Since(begun) > steady {
			pause.Reset()
		}
		x.mu.Lock()
		x.st.Error, x.st.Failed = err.Error(), time.Now()
		x.mu.Unlock()
		if !failing {
			x.r.Event(x.p.Channel, true, "relay-failed", fmt.Sprintf("The relay %s to %s failed: %v.", x.p.Name, Shown(x.p.Address), err),
				"It is retried automatically. Check the address, the key and the far end.")
		}
		failing = true
		x.set(Retrying, fmt.Sprintf("%v; it is tried again in %v", err, pause.Next()))
		if !pause.Wait(ctx) {
			return
		}
	}
}

// Shown is an address without what may be secret in it.
func Shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address"
	}
	u.User, u.RawQuery = nil, ""
	return strings.NewReplacer("%7B", "{", "%7D", "}").Replace(u.String()) // what stands for the channel and the date, as it was typed
}
