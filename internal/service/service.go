// Package service puts the floors together: database, origin, ports and pages, started in order
// and stopped in reverse.
package service

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/api"
	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/control"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/delivery"
	"metaplasis/internal/library"
	"metaplasis/internal/network"
	"metaplasis/internal/network/rtc"
	"metaplasis/internal/onward"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/operations"
	"metaplasis/internal/origin"
	"metaplasis/internal/protocol/http/push"
	"metaplasis/internal/protocol/rtmp"
	"metaplasis/internal/protocol/rtsp"
	"metaplasis/internal/protocol/socket"
	"metaplasis/internal/protocol/srt"
	"metaplasis/internal/protocol/studio"
	"metaplasis/internal/protocol/webrtc"
	"metaplasis/internal/records"
	"metaplasis/internal/store"
	"metaplasis/internal/worker"
	"metaplasis/web"
)

// Config of a service. Addresses are host:port; "" turns a port off, port 0 takes a free one.
//
//large:what serve can be told
type Config struct {
	Data          string // folder of our own database and of the operator's token
	DSN           string // another MariaDB; "" starts our own
	HTTP          string
	RTMP          string
	RTMPS         string
	SRT           string // UDP
	RTSP          string
	RTSPS         string
	WebRTC        rtc.Config // its address is one for UDP and TCP
	RTSPMulticast string     // group, port and interface for who plays by multicast; "" for none
	WebRTCCodecs  []string   // of pictures that senders may use, in our order; none is all
	Store         string     // where what was on air is kept: a folder or s3://…; "" is a folder in Data, NoStore keeps nothing
	Library       string     // folder of files that are offered on demand; "" is one in Data
	SendFolder    string     // folder in which relays may make folders of a channel's files; "" is one in Data
	StoreLimit    int64      // bytes that it may take; 0 for no limit
	SpoolLimit    int64      // bytes that may wait in a local folder for an object store; 0 is store.DefaultSpool
	Studio        []string   // interfaces on which sources are looked for
	HTTPS         string
	// WebTransport is its address, UDP: "" is the HTTP port's number, NoWebTransport turns it off.
	WebTransport string
	HTTP3        bool   // also answer HTTP/3 on the HTTPS port's number, over UDP
	TLSCert      string // certificate file, PEM, for RTMPS and HTTPS; read again when it changes
	TLSKey       string
	Running      string // folder in which commands find the services of this user; "" leaves no note
	Metrics      string // address of its own for metrics; "" serves them on the HTTP ports to who has a token
	// Outbound are networks that inputs, relays and hooks may connect to beside those that are open to all, such as
	// 127.0.0.0/8: this machine's own addresses and those of its link are closed.
	Outbound []string
	// InspectPrivate lets the console's inspector connect to private, loopback and link-local addresses.
	InspectPrivate bool
	HookCommands   string // folder of programs that hooks may run; "" for none
	Worker         func() *exec.Cmd
	Forward        func(address string) *exec.Cmd // a process that sends what it reads to an address
	SRTHost        func() *exec.Cmd               // the process that runs SRT
	Logger         *slog.Logger
}

// Service is a running service.
//
//large:holds what was started, to stop it in reverse; the work is done elsewhere
type Service struct {
	HTTP, HTTPS, RTMP, RTMPS, Metrics, SRT, RTSP, RTSPS, WebRTC string // the addresses in use, "" when off
	Operator                                                    string // a client token for this machine's user
	FirstPassword                                               string // of the administrator, when this start created it

	conf     Config
	database *records.Server
	db       *records.DB
	desk     *operations.Desk
	control  *control.Service
	does     control.Operations // what the API offers
	webrtc   bool               // its port is open
	srtPort  int
	ledger   *operations.Ledger // nil: nothing is kept
	relays   *relay.Runner
	files    *library.Library // on demand
	store    *store.Store     // nil: nothing is kept
	origin   *origin.Origin
	delivery *delivery.Server
	metrics  *metrics
	failed   chan error
	ready    chan struct{}

	streams     demux.Streams // transport streams that feed channels
	studio      studio.Directory
	srt         *srt.Manager
	whip        *webrtc.WHIP // nil when WebRTC is off
	whep        *webrtc.WHEP // the same
	socket      *socket.Server
	groups      *rtsp.Groups
	audience    onward.Audience
	leaving     context.Context // ends when receivers have to leave
	leave       context.CancelFunc
	push        *push.Server
	descriptors uint64      // the limit
	certificate *tls.Config // nil when no port needs one
	limited     []*network.Listener
	stop        []func() // in the order of starting
}

// Administrator is the user that the first start creates.
const Administrator = "admin"

const stopTimeout = 10 * time.Second

// receiver lets the ports for senders reach the origin.
type receiver struct{ o *origin.Origin }

func (r receiver) Open(s contribution.Sender) (contribution.Feed, error) {
	f, err := r.o.Open(s)
	if err != nil {
		return nil, err
	}
	return f, nil
}
func (r receiver) May(s contribution.Sender) error { return r.o.May(s) }
func (r receiver) IsTaken(err error) bool          { return errors.Is(err, origin.ErrTaken) }
func (r receiver) Report(channel, network, kind, text, do string) {
	r.o.Report(channel, network, kind, text, do)
}

// Start starts a service. On an error everything that had started is stopped again.
func Start(ctx context.Context, c Config) (_ *Service, err error) {
	s := &Service{conf: c, failed: make(chan error, 8), ready: make(chan struct{})}
	s.leaving, s.leave = context.WithCancel(context.Background())
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	policy, err := network.NewOutbound(c.Outbound)
	if err != nil {
		return nil, err
	}
	network.SetOutbound(policy)
	s.descriptors = network.RaiseDescriptors()
	if err := s.openRecords(ctx); err != nil {
		return nil, err
	}
	// Ports first, so that a taken one is told before anything else happens.
	ports, err := s.listenAll()
	if err != nil {
		return nil, err
	}
	if s.desk, err = operations.NewDesk(operations.DeskOptions{DB: s.db, Data: c.Data, HookCommands: c.HookCommands, Logger: c.Logger}); err != nil {
		return nil, err
	}
	s.stop = append(s.stop, func() {
		ctx, cancel := context.WithTimeout(context.Background(), stopTimeout)
		defer cancel()
		s.desk.Close(ctx)
	})
	if err := s.firstUser(ctx); err != nil {
		return nil, err
	}
	if err := s.openStore(ctx); err != nil {
		return nil, err
	}
	options := origin.Options{Keeper: s.desk, Gate: s.desk, Worker: c.Worker, Logger: c.Logger}
	if s.store != nil {
		options.Archive = s.store
	}
	s.origin = origin.New(options)
	s.metrics = newMetrics(s.origin)
	s.stop = append(s.stop, s.origin.Close)
	if err := s.startChannels(ctx); err != nil {
		return nil, err
	}
	if err := s.receive(ctx, ports); err != nil {
		return nil, err
	}
	s.carryOnward()
	s.watchAll(ports)
	if err := s.serve(ports); err != nil {
		return nil, err
	}
	s.announce()
	close(s.ready)
	return s, nil
}

// startChannels starts the stored channels, and what is done with them.
func (s *Service) startChannels(ctx context.Context) (err error) {
	d, does := s.desk, &s.does
	if does.Hooks, err = operations.NewHooks(ctx, d); err != nil {
		return err
	}
	if does.Images, err = operations.NewImages(ctx, s.db, s.origin); err != nil {
		return err
	}
	if does.Recordings, err = operations.NewRecordings(ctx, d, s.origin, s.store, s.ledger); err != nil {
		return err
	}
	does.Trials = operations.NewTrials(d, s.origin)
	s.stop = append(s.stop, does.Trials.Close)
	does.Plans = operations.NewPlans(s.db, s.origin, does.Images)
	does.Channels = operations.NewChannels(d, s.origin, does.Plans, does.Images, does.Recordings, does.Trials)
	if err := does.Channels.Start(ctx); err != nil {
		return err
	}
	does.Recordings.Settled()
	does.Keys, does.Users, does.History, does.Log = operations.NewKeys(d, s.origin), operations.NewUsers(d), operations.NewHistory(d), d.Log
	does.Inspections = operations.NewInspections(s.isOwn, s.conf.InspectPrivate)
	return nil
}

// watchAll looks at everything from now on, and makes the API.
func (s *Service) watchAll(p ports) {
	does := &s.does
	o := operations.WatchOptions{Data: s.conf.Data, Viewers: s.viewers}
	if s.database != nil {
		o.Database = func() error { _, down := s.database.Down(); return down }
	}
	does.Relays = operations.NewRelays(does.Channels, s.relays)
	does.Items = operations.NewItems(s.files)
	does.Studio = &s.studio
	does.Watch = operations.NewWatch(o, s.desk, s.origin, does.Hooks, does.Recordings, does.Relays)
	s.control = control.New(s.does, control.Ports{RTMP: port(p.rtmp), RTMPS: port(p.rtmps), RTSP: port(p.rtsp), RTSPS: port(p.rtsps),
		SRT: s.srtPort, WebRTC: s.webrtc}, s.conf.Logger)
	s.delivery = delivery.New(delivery.Options{Origin: s.origin, Meter: s.metrics, Store: s.store, Recordings: does.Recordings, Library: s.files,
		Recode: s.recode, Continuous: s.continuous})
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	s.stop = append(s.stop, func() { cancel(); all.Wait() })
	all.Go(func() { does.Watch.Run(ctx) })
	all.Go(func() { does.Recordings.Run(ctx) })
}

// ports are those over TCP, nil where one is off.
type ports struct{ http, https, rtmp, rtmps, rtsp, rtsps, metrics net.Listener }

// listenAll opens the ports that are on, and notes their addresses.
func (s *Service) listenAll() (p ports, err error) {
	c := &s.conf
	for _, one := range []struct {
		name, at string
		limits   network.Limits
		listener *net.Listener
		address  *string
	}{
		{"HTTP", c.HTTP, viewerLimits, &p.http, &s.HTTP},
		{"HTTPS", c.HTTPS, viewerLimits, &p.https, &s.HTTPS},
		{"RTMP", c.RTMP, rtmp.Limits, &p.rtmp, &s.RTMP},
		{"RTMPS", c.RTMPS, rtmp.Limits, &p.rtmps, &s.RTMPS},
		{"RTSP", c.RTSP, rtsp.Limits, &p.rtsp, &s.RTSP},
		{"RTSPS", c.RTSPS, rtsp.Limits, &p.rtsps, &s.RTSPS},
		{"metrics", c.Metrics, metricsLimits, &p.metrics, &s.Metrics},
	} {
		if one.at == "" {
			continue
		}
		if *one.listener, err = s.listen(one.name, one.at, s.within(one.limits)); err != nil {
			return p, err
		}
		*one.address = (*one.listener).Addr().String()
	}
	return p, nil
}

// receive lets senders in, and receivers of the same protocols.
func (s *Service) receive(ctx context.Context, p ports) (err error) {
	if p.rtmps != nil || p.https != nil || p.rtsps != nil {
		if s.certificate, err = certificate(s.conf.TLSCert, s.conf.TLSKey, s.conf.Logger); err != nil {
			return err
		}
	}
	s.serveRTMP(p.rtmp, nil)
	s.serveRTMP(p.rtmps, s.certificate)
	if s.conf.RTSPMulticast != "" {
		if s.groups, err = rtsp.NewGroups(s.conf.RTSPMulticast); err != nil {
			return err
		}
	}
	s.serveRTSP(p.rtsp, nil)
	s.serveRTSP(p.rtsps, s.certificate)
	s.files = library.New(cmp.Or(s.conf.Library, filepath.Join(s.conf.Data, "library")), segment.NewHeader, s.conf.Worker, s.conf.Logger)
	s.stop = append(s.stop, s.files.Close)
	if err := s.playFiles(); err != nil {
		return err
	}
	if err := s.receiveSRT(ctx); err != nil {
		return err
	}
	s.receiveSources()
	return s.receiveWebRTC()
}

// serve opens the pages, the control API and what viewers fetch.
func (s *Service) serve(p ports) (err error) {
	pages := s.pages(p.metrics)
	if err := s.serveWebTransport(); err != nil {
		return err
	}
	s.serveHTTP(p.http, pages, nil)
	if p.https == nil {
		if s.conf.HTTP3 {
			return errors.New("HTTP/3 needs the HTTPS port: give its address and a certificate")
		}
		return nil
	}
	if s.conf.HTTP3 {
		if pages, err = s.serveHTTP3(p.https.Addr(), pages, s.certificate); err != nil {
			return err
		}
	}
	s.serveHTTP(p.https, pages, s.certificate)
	return nil
}

// announce lets commands of this machine's user find the service.
func (s *Service) announce() {
	c := &s.conf
	if c.Running == "" {
		return
	}
	data, err := filepath.Abs(c.Data)
	if err != nil {
		data = c.Data
	}
	for _, folder := range []string{c.Running, NotesIn(data)} {
		withdraw, err := announce(folder, Running{PID: os.Getpid(), HTTP: s.HTTP, Data: data, Started: time.Now().UTC()})
		if err != nil {
			c.Logger.Warn("commands will not find this service by themselves", "error", err)
			continue
		}
		s.stop = append(s.stop, withdraw)
	}
}

// NoStore as Config.Store keeps nothing.
const NoStore = "off"

// openStore opens what keeps media.
func (s *Service) openStore(ctx context.Context) error {
	c := &s.conf
	if c.Store == NoStore {
		return nil
	}
	at := c.Store
	if at == "" {
		at = filepath.Join(c.Data, "store")
	}
	place, limits, err := store.Parse(at)
	if err != nil {
		return err
	}
	id, err := store.Identity(place)
	if err != nil {
		return err
	}
	if remote, ok := place.(store.Remote); ok {
		if place, err = store.NewSpool(store.Folder(filepath.Join(c.Data, "spool", id)), remote, c.SpoolLimit, c.Logger); err != nil {
			return err
		}
	}
	limits.Bytes = c.StoreLimit
	s.ledger = operations.NewLedger(s.desk, id)
	s.store = store.Start(store.Options{Place: place, Ledger: s.ledger, Limits: limits, Logger: c.Logger},
		func() ([]store.Bundle, error) {
			return s.ledger.Bundles(context.WithoutCancel(ctx), s.db, place.String())
		})
	s.stop = append(s.stop, s.store.Close)
	return nil
}

func (s *Service) openRecords(ctx context.Context) error {
	dsn := s.conf.DSN
	if dsn == "" {
		server, err := records.StartServer(ctx, filepath.Join(s.conf.Data, "records"), s.conf.Logger)
		if err != nil {
			return err
		}
		s.database, dsn = server, server.DSN
		s.stop = append(s.stop, func() {
			if err := server.Stop(); err != nil {
				s.conf.Logger.Error("stopping the database", "error", err)
			}
		})
	}
	db, err := records.Open(ctx, dsn)
	if err != nil {
		return err
	}
	s.db = db
	s.stop = append(s.stop, func() { _ = db.Close() })
	return nil
}

// Limits of the HTTP ports. A request under way counts as of use, so that viewers who wait for a part
// are not closed for others; the fewer descriptors there are, the fewer connections.
var (
	//limit:connections of viewers over HTTP, and fewer where the system gives fewer descriptors | all; each network | who waited longest without doing anything is closed; then new ones are
	viewerLimits = network.Limits{Total: 100_000, EachNetwork: 50_000, Idle: 50_000, IdleNetwork: 10_000}
	//limit:connections for metrics | all; each network | who waited longest without doing anything is closed; then new ones are
	metricsLimits = network.Limits{Total: 64, EachNetwork: 32, Idle: 32, IdleNetwork: 16}
)

// within takes limits down so that no port can take more than a third of the descriptors.
func (s *Service) within(l network.Limits) network.Limits {
	most := int(min(s.descriptors, 1<<30)) / 3
	return network.Limits{
		Total: min(l.Total, most), EachNetwork: min(l.EachNetwork, most*3/4), Idle: min(l.Idle,
			most/2), IdleNetwork: min(l.IdleNetwork, most/4),
	}
}

// isOwn reports whether an address is one of this service's HTTP ports on this machine.
func (s *Service) isOwn(to netip.AddrPort) bool {
	for _, l := range s.limited {
		at, err := netip.ParseAddrPort(l.Addr().String())
		if err != nil || at.Port() != to.Port() {
			continue
		}
		if at.Addr().Unmap() == to.Addr().Unmap() || at.Addr().IsUnspecified() && isLocal(to.Addr().Unmap()) {
			return true
		}
	}
	return false
}

// isLocal reports whether an address is one of this machine's.
func isLocal(ip netip.Addr) bool {
	if ip.IsLoopback() {
		return true
	}
	list, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	for _, a := range list {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Unmap() == ip {
			return true
		}
	}
	return false
}

func (s *Service) listen(what, addr string, limits network.Limits) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s port %s is taken by another program: stop that, or choose another port", what, addr)
	}
	if err != nil {
		return nil, fmt.Errorf("%s port %s: %w", what, addr, err)
	}
	s.stop = append(s.stop, func() { _ = l.Close() })
	limited := network.Listen(l, limits, s.conf.Logger)
	s.limited = append(s.limited, limited)
	return limited, nil
}

func port(l net.Listener) int {
	if l == nil {
		return 0
	}
	return l.Addr().(*net.TCPAddr).Port
}

func (s *Service) serveRTMP(l net.Listener, conf *tls.Config) {
	if l == nil {
		return
	}
	server := &rtmp.Server{Receiver: receiver{s.origin}, Logger: s.conf.Logger, TLS: conf, Channels: taps{s.origin}, Join: s.join}
	s.stop = append(s.stop, func() {
		_ = l.Close()
		ctx, cancel := context.WithTimeout(context.Background(), stopTimeout)
		defer cancel()
		_ = server.Shutdown(ctx)
	})
	go func() {
		if err := server.Serve(l); err != nil {
			s.failed <- err
		}
	}()
}

// firstUser creates the administrator, and this machine's operator token.
func (s *Service) firstUser(ctx context.Context) error {
	any, err := s.db.AnyUser(ctx)
	if err != nil {
		return err
	}
	if !any {
		s.FirstPassword = records.NewSecret()[:16]
		if _, err := s.db.AddUser(ctx, Administrator, string(api.Administer), operations.HashPassword(s.FirstPassword)); err != nil {
			return err
		}
	}
	path := TokenFile(s.conf.Data)
	if b, err := os.ReadFile(path); err == nil {
		secret := strings.TrimSpace(string(b))
		if _, err := s.db.TokenBySecret(ctx, secret); err == nil {
			s.Operator = secret
			return nil
		}
	}
	u, err := s.db.UserByName(ctx, Administrator)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	s.Operator = records.NewSecret()
	if _, err := s.db.AddToken(ctx, u.ID, "machine", "operator on this machine", string(api.Administer), s.Operator, nil); err != nil {
		return err
	}
	if err := os.WriteFile(path, []byte(s.Operator+"\n"), 0o600); err != nil {
		return fmt.Errorf("operator's token: %w", err)
	}
	return nil
}

// TokenFile is where a service leaves a token for the commands of this machine's user.
func TokenFile(data string) string { return filepath.Join(data, "operator-token") }

// SetPassword changes a user's password in the service's own records.
func (s *Service) SetPassword(ctx context.Context, user, password string) error {
	u, err := s.db.UserByName(ctx, user)
	if err != nil {
		return fmt.Errorf("user %s: %w", user, err)
	}
	return s.db.SetPassword(ctx, u.ID, operations.HashPassword(password))
}

// recode implements clip.Recode in a worker of its own.
func (s *Service) recode(ctx context.Context, t *media.Track, units []media.AccessUnit, from, to int64) (media.Track, []media.AccessUnit, error) {
	return worker.Edge(ctx, s.conf.Worker, t, units, from, to)
}

func (s *Service) pages(metricsPort net.Listener) http.Handler {
	m := s.metrics
	m.watch(s.viewers)
	m.registry.MustRegister(&serviceMetrics{s})
	r := chi.NewRouter()
	r.Mount("/media", http.StripPrefix("/media", s.delivery))
	s.push = &push.Server{Receiver: receiver{s.origin}, Streams: &s.streams, Logger: s.conf.Logger}
	s.stop = append(s.stop, s.push.Close)
	r.Mount("/items", http.StripPrefix("/items", s.delivery.Items()))
	r.Mount("/in", http.StripPrefix("/in", s.push.Routes()))
	if s.whip != nil {
		r.Mount("/whip", http.StripPrefix("/whip", s.whip.Routes()))
		r.Mount("/whep", http.StripPrefix("/whep", s.whep.Routes()))
	}
	s.socket = socket.New(taps{s.origin}, s.joinHTTP)
	s.stop = append(s.stop, s.socket.Wait)
	r.Mount("/socket", http.StripPrefix("/socket", s.socket.Routes()))
	r.Mount(api.Prefix, http.StripPrefix(api.Prefix, s.control.Handler()))
	if metricsPort != nil {
		own := chi.NewRouter()
		own.Method("GET", "/metrics", m.handler())
		s.serveHTTP(metricsPort, plainData(own), nil)
	} else {
		r.With(s.control.RequireUser).Method("GET", "/metrics", m.handler())
	}
	r.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("alive\n")) })
	r.Get("/readyz", s.readiness)
	files := web.Files()
	static := http.FileServerFS(files)
	file := func(cache string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
			if info, err := fs.Stat(files, name); err != nil || info.IsDir() || strings.HasSuffix(name, ".html") {
				http.Error(w, "There is nothing at this address. The console is at /.", http.StatusNotFound)
				return
			}
			if cache != "" {
				w.Header().Set("Cache-Control", cache)
			}
			if strings.HasSuffix(name, ".js") || strings.HasSuffix(name, ".css") { // the player is a module for pages of others too
				w.Header().Set("Access-Control-Allow-Origin", "*")
				w.Header().Set("Cross-Origin-Resource-Policy", "cross-origin")
			}
			static.ServeHTTP(w, r)
		}
	}
	r.Get("/assets/*", file("public, max-age=31536000, immutable")) // named by digest
	player := page(files, "watch.html", true)
	r.Get("/watch", player) // what is on air
	r.Get("/watch/{channel}", player)
	r.Get("/embed/{channel}", player)
	r.Get("/contribute/{channel}", page(files, "contribute.html", false))
	r.Get("/", page(files, "index.html", false))
	r.Get("/{file}", file(""))
	return plainData(r)
}

// plainData keeps browsers from guessing what an answer is, whatever it is (Fetch standard, 3.6), and
// from running what is not one of our pages, which set their own policy.
func plainData(next http.Handler) http.Handler {
	nosniff := []string{"nosniff"}
	policy := []string{"default-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h["X-Content-Type-Options"] = nosniff
		if !strings.HasPrefix(r.URL.Path, "/media/") {
			h["Content-Security-Policy"] = policy
		}
		next.ServeHTTP(w, r)
	})
}

// transportSource lets the pages of a service with HTTPS connect to its other ports: WebTransport has one of its own.
func transportSource(r *http.Request) string {
	host := r.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if r.TLS == nil || !hostForm.MatchString(host) {
		return ""
	}
	if strings.Contains(host, ":") {
		host = "[" + strings.Trim(host, "[]") + "]"
	}
	return " https://" + host + ":*"
}

// hostForm is what may stand in a policy.
var hostForm = regexp.MustCompile(`^[A-Za-z0-9.:\[\]-]+$`)

// page serves one built page. The player may be framed by any site, the console by none.
func page(files fs.FS, name string, framed bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		b, err := fs.ReadFile(files, name)
		if err != nil {
			http.Error(w, "The pages were not built into this binary. Build it with make build.", http.StatusNotFound)
			return
		}
		h := w.Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Cache-Control", "no-cache")
		h.Set("Referrer-Policy", "same-origin")
		policy := "default-src 'self'; img-src 'self' data: blob:; media-src 'self' blob: data:; worker-src 'self' blob:; style-src 'self' 'unsafe-inline'; connect-src 'self'" + transportSource(r) + "; " +
			"object-src 'none'; base-uri 'none'; form-action 'self'"
		if !framed {
			policy += "; frame-ancestors 'none'"
		}
		h.Set("Content-Security-Policy", policy)
		_, _ = w.Write(b)
	}
}

func (s *Service) readiness(w http.ResponseWriter, r *http.Request) {
	select {
	case <-s.ready:
	default:
		http.Error(w, "starting", http.StatusServiceUnavailable)
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	var wrong []string
	for _, p := range s.does.Watch.Health() { // what exactly is told to who is signed in
		wrong = append(wrong, "Not well: "+p.What+".")
	}
	if err := s.db.Ping(ctx); err != nil && len(wrong) == 0 {
		wrong = append(wrong, "The database does not answer. Media, viewers and senders are not affected.")
	}
	if len(wrong) > 0 {
		http.Error(w, strings.Join(wrong, "\n"), http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

// Failed delivers what ends the service against its will.
func (s *Service) Failed() <-chan error { return s.failed }

// Stop stops everything, the last started first.
func (s *Service) Stop() {
	for i := len(s.stop) - 1; i >= 0; i-- {
		s.stop[i]()
	}
	s.stop = nil
}
