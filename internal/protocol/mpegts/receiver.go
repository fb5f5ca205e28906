package mpegts

import (
	"metaplasis/internal/safely"

	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/network"
)

// Receiver holds the transport streams that are received now, each once.
type Receiver struct {
	Streams *demux.Streams // where those of channels are found
	Logger  *slog.Logger

	mu     sync.Mutex
	shared map[string]*reception // by address and secret
}

// reception is a stream that is received while somebody takes it.
type reception struct {
	r      *Receiver
	lets   []func(remote string) bool // of the channels that share it
	stream *demux.Stream
	users  int
	stop   context.CancelFunc
	done   chan struct{}
}

// silence is for how long nothing may come of a transport stream until others may take its place: what comes over UDP
// comes evenly.
const silence = 1500 * time.Millisecond

// Receive implements source.Protocol for udp, rtp, http and https, and for programmes of other channels.
func (r *Receiver) Receive(ctx context.Context, l *source.Line) error {
	if l.Address == "" {
		return r.programme(ctx, l)
	}
	s := r.join(l)
	defer r.leave(l, s)
	defer r.Streams.Publish(l.Channel, s.stream)()
	protocol := strings.ToUpper(l.URL.Scheme)
	return r.feedChannel(ctx, l, s.stream, protocol, l.URL.Host)
}

// feedChannel lets a stream feed the channel.
func (r *Receiver) feedChannel(ctx context.Context, l *source.Line, s *demux.Stream, protocol, remote string) error {
	over, stop := s.Take(l.Programme, func() (contribution.Feed, error) { return l.Open(protocol, remote, silence) })
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			stop("its input was removed, or nobody watches")
			return ctx.Err()
		case err := <-over:
			return err
		case <-tick.C:
			if err := s.Problem(); err != nil {
				l.Problem(err.Error())
			}
		}
	}
}

// programme takes a programme of the stream that feeds another channel.
func (r *Receiver) programme(ctx context.Context, l *source.Line) error {
	const lookEach = 200 * time.Millisecond
	tick := time.NewTicker(lookEach)
	defer tick.Stop()
	for waited := 0; ; waited++ {
		if s := r.Streams.Of(l.From); s != nil {
			return r.feedChannel(ctx, l, s, "TS programme", l.From)
		}
		if waited == 5 {
			l.Problem(fmt.Sprintf("the channel %s receives no transport stream now", l.From))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

func key(l *source.Line) string { return l.Address + "\x00" + l.Secret }

// join begins to receive an address, or joins who does.
func (r *Receiver) join(l *source.Line) *reception {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.shared == nil {
		r.shared = map[string]*reception{}
	}
	k := key(l)
	s := r.shared[k]
	if s == nil {
		ctx, cancel := context.WithCancel(context.Background())
		s = &reception{r: r, stream: demux.NewStream(time.Now), stop: cancel, done: make(chan struct{})}
		r.shared[k] = s
		u, secret := l.URL, l.Secret
		go func() {
			defer close(s.done)
			err := safely.Run(r.Logger, func() error { return receivers[u.Scheme](ctx, u, secret, s) })
			r.mu.Lock()
			if r.shared[k] == s {
				delete(r.shared, k)
			}
			r.mu.Unlock()
			s.stream.Close(err)
		}()
	}
	s.users++
	if l.Lets != nil {
		s.lets = append(s.lets, l.Lets)
	}
	return s
}

// may reports whether somebody at an address may feed one of the channels that share it.
func (r *Receiver) may(s *reception, remote string) bool {
	r.mu.Lock()
	list := s.lets
	r.mu.Unlock()
	return len(list) == 0 || slices.ContainsFunc(list, func(lets func(string) bool) bool { return lets(remote) })
}

func (r *Receiver) leave(l *source.Line, s *reception) {
	r.mu.Lock()
	s.users--
	last := s.users == 0
	if last && r.shared[key(l)] == s {
		delete(r.shared, key(l))
	}
	r.mu.Unlock()
	if last {
		s.stop()
		<-s.done
	}
}

// receivers read a stream until it ends, by the scheme of its address.
var receivers = map[string]func(ctx context.Context, u *url.URL, secret string, s *reception) error{
	"udp": receiveUDP, "rtp": receiveUDP, "tcp": receiveTCP, "http": receiveHTTP, "https": receiveHTTP,
}

// Bounds of what is fetched over HTTP.
const (
	connectTimeout = 10 * time.Second
)

// receiveHTTP reads a body that goes on.
func receiveHTTP(ctx context.Context, u *url.URL, secret string, s *reception) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stall := time.AfterFunc(connectTimeout, cancel)
	defer stall.Stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return err
	}
	if user := u.User.Username(); user != "" || secret != "" {
		req.SetBasicAuth(user, secret)
	}
	client := &http.Client{Transport: &http.Transport{DialContext: network.Dialer(connectTimeout).DialContext, DisableCompression: true}}
	defer client.CloseIdleConnections()
	res, err := client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return errors.New("the source did not answer")
		}
		return network.WithoutSecrets(err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("the source answered %s", network.Answer(res))
	}
	return demux.Read(ctx, res.Body, s.stream, stall)
}
