package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metaplasis/demo"
	"metaplasis/internal/address"
	"metaplasis/internal/api"
	"metaplasis/internal/camera"
	"metaplasis/internal/client"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/protocol/srt"
	"metaplasis/internal/records"
	"metaplasis/internal/service"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
	"metaplasis/internal/worker"
)

const workerName = "worker"

// workerCommand is the child process of a channel; people have no use for it.
func (a *app) workerCommand() *cobra.Command {
	return &cobra.Command{Use: workerName, Hidden: true, Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		return worker.Run()
	}}
}

// Variables of the environment that hold secrets. Processes that touch media do not have them.
const (
	dsnVariable   = "METAPLASIS_DSN"
	iceVariable   = "METAPLASIS_WEBRTC_ICE"
	storeVariable = "METAPLASIS_STORE"
)

var secretVariables = map[string]bool{dsnVariable: true, iceVariable: true, "METAPLASIS_TOKEN": true, store.AccessKeyVariable: true, store.SecretKeyVariable: true, storeVariable: true}

// workerProcess makes the command line of a worker: this very binary. It dies with the service.
func workerProcess() *exec.Cmd { return ownProcess(workerName) }

func ownProcess(command ...string) *exec.Cmd {
	exe, err := os.Executable()
	if err != nil {
		exe = os.Args[0]
	}
	cmd := exec.Command(exe, command...)
	cmd.Stderr = os.Stderr
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return secretVariables[name]
	})
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // an interrupt at the terminal is the service's to handle
	return cmd
}

const forwardName = "forward"

// forwardCommand is the process that sends a relay which has to be decoded first; people have no use for it.
func (a *app) forwardCommand() *cobra.Command {
	return &cobra.Command{Use: forwardName, Hidden: true, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return camera.Forward(c.Context(), os.Stdin, os.Getenv(forwardVariable))
	}}
}

// forwardVariable tells that process where to send: addresses hold secrets, and arguments are seen by all users.
const forwardVariable = "METAPLASIS_FORWARD"

func forwardProcess(address string) *exec.Cmd {
	cmd := ownProcess(forwardName)
	cmd.Env = append(cmd.Env, forwardVariable+"="+address)
	return cmd
}

const srtHostName = "srt-host"

// srtHostCommand is the process that runs SRT; people have no use for it.
func (a *app) srtHostCommand() *cobra.Command {
	return &cobra.Command{Use: srtHostName, Hidden: true, Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		return srt.Run()
	}}
}

type serveFlags struct {
	conf     service.Config
	logLevel string
}

func (a *app) serveFlags(c *cobra.Command, s *serveFlags) {
	f := c.Flags()
	f.StringVar(&s.conf.HTTP, "http", ":8780", "address for the console, the API and viewers")
	f.StringVar(&s.conf.HTTPS, "https", "", "address for the same over TLS with HTTP/2; needs a certificate")
	f.BoolVar(&s.conf.HTTP3, "http3", false, "also serve HTTP/3, at the HTTPS port number")
	f.StringVar(&s.conf.WebTransport, "webtransport", "", `address for WebTransport, UDP; the HTTP port's number without it; "off" turns it off`)
	f.StringVar(&s.conf.RTMP, "rtmp", ":1935", `address for RTMP senders; "" turns it off`)
	f.StringVar(&s.conf.RTMPS, "rtmps", "", "address for RTMPS senders; needs a certificate")
	f.StringVar(&s.conf.SRT, "srt", ":7710", `address for SRT senders and receivers, UDP; "" turns it off`)
	f.StringVar(&s.conf.RTSP, "rtsp", ":8554", `address for RTSP senders; "" turns it off`)
	f.StringVar(&s.conf.RTSPS, "rtsps", "", "address for RTSP senders over TLS; needs a certificate")
	f.StringVar(&s.conf.RTSPMulticast, "rtsp-multicast", "", "multicast group for RTSP players that ask for one, such as 239.192.7.1:30000?interface=eth0&ttl=4; none without it")
	f.StringVar(&s.conf.WebRTC.Address, "webrtc", ":8790", `address for WebRTC, UDP and TCP; "" turns it off`)
	f.StringSliceVar(&s.conf.WebRTC.Announced, "webrtc-announce", nil, "addresses that WebRTC announces instead of this machine's, such as its public address")
	f.StringArrayVar(&s.conf.WebRTC.ICE, "webrtc-ice", nil, "ICE server that senders and viewers are told of, stun:HOST:PORT or turn:HOST:PORT,USER,PASSWORD; again for more (environment METAPLASIS_WEBRTC_ICE, with spaces between, which other users of the machine do not see)")
	f.StringSliceVar(&s.conf.WebRTCCodecs, "webrtc-codecs", nil, "video codecs that WebRTC accepts, in order of preference, such as h264,vp8 (default: all, in the sender's order)")
	f.StringSliceVar(&s.conf.Studio, "studio", nil, "network interfaces on which to discover sources, such as eth0 (default: none)")
	f.StringVar(&s.conf.TLSCert, "tls-cert", "", "certificate for HTTPS and RTMPS, PEM; reloaded when it changes")
	f.StringVar(&s.conf.TLSKey, "tls-key", "", "private key of the certificate, PEM")
	f.StringVar(&s.conf.DSN, "dsn", "",
		"another MariaDB, user:password@tcp(host:port)/database (environment METAPLASIS_DSN); without it the service runs its own")
	f.StringVar(&s.conf.Metrics, "metrics", "", "address for metrics alone, such as 127.0.0.1:9780; without it /metrics needs a client token")
	f.StringSliceVar(&s.conf.Outbound, "outbound", nil, "networks that inputs, relays and hooks may connect to though they are closed otherwise: this machine's own addresses and those of its link, such as 127.0.0.0/8,::1")
	f.BoolVar(&s.conf.InspectPrivate, "inspect-private", false,
		"let the console's inspector connect to private, loopback and link-local addresses")
	f.StringVar(&s.conf.Store, "store", "",
		`where what was on air is kept: a folder, or s3://HOST/BUCKET/PREFIX with its credentials in METAPLASIS_S3_ACCESS_KEY and METAPLASIS_S3_SECRET_KEY (environment METAPLASIS_STORE); a folder beside the other data without it; "off" keeps nothing`)
	f.StringVar(&s.conf.Library, "library", "", "folder of files on demand (default: in the data folder)")
	f.StringVar(&s.conf.SendFolder, "send-folder", "", "folder for relays with addresses such as folder://site/live (default: in the data folder)")
	f.Var(gigabytes{&s.conf.SpoolLimit}, "spool-limit", "most that may wait in the data folder for an object store that is slow or away, in GB; 0 for 64")
	f.Var(gigabytes{&s.conf.StoreLimit}, "store-limit", "most that the store may take, in GB: the oldest goes first, and never what a recording holds; 0 for no limit")
	f.StringVar(&s.conf.HookCommands, "hook-commands", "", "folder of commands that hooks may run (default: none)")
	f.StringVar(&s.logLevel, "log", "info", "log level: debug, info, warn, error")
}

func (a *app) start(ctx context.Context, s *serveFlags) (*service.Service, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(s.logLevel)); err != nil {
		return nil, usageError{fmt.Errorf("found log level %q, expected debug, info, warn or error", s.logLevel)}
	}
	// What is in the environment is no default of a flag: the help would print it.
	s.conf.DSN = cmp.Or(s.conf.DSN, os.Getenv(dsnVariable))
	s.conf.Store = cmp.Or(s.conf.Store, os.Getenv(storeVariable))
	s.conf.WebRTC.ICE = append(s.conf.WebRTC.ICE, strings.Fields(os.Getenv(iceVariable))...)
	s.conf.Data = a.data
	s.conf.Worker = workerProcess
	s.conf.SRTHost = func() *exec.Cmd { return ownProcess(srtHostName) }
	s.conf.Forward = forwardProcess
	s.conf.Running = runningFolder()
	if data, err := filepath.Abs(a.data); err == nil {
		s.conf.Data = data
	}
	s.conf.Logger = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	return service.Start(ctx, s.conf)
}

// local is an address that a browser on this machine can open.
func local(addr string) string {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return addr
	}
	if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	return net.JoinHostPort(host, port)
}

func (a *app) serve() *cobra.Command {
	var s serveFlags
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Run the service until it is interrupted. Without a DSN it starts a MariaDB of its own
on loopback, with its data below the data folder, and stops it with itself.
The first start creates the user admin and prints a password.`,
		Example: `  metaplasis serve
  metaplasis serve --http :80 --data /var/lib/metaplasis
  metaplasis serve --https :8743 --http3 --tls-cert cert.pem --tls-key key.pem
  metaplasis serve --rtmps :1936 --tls-cert cert.pem --tls-key key.pem
  metaplasis serve --dsn 'metaplasis:secret@tcp(127.0.0.1:3306)/metaplasis'`,
		RunE: func(c *cobra.Command, _ []string) error {
			svc, err := a.start(c.Context(), &s)
			if err != nil {
				return err
			}
			defer svc.Stop()
			a.welcome(svc)
			select {
			case <-c.Context().Done():
				return nil
			case err := <-svc.Failed():
				return err
			}
		},
	}
	a.serveFlags(c, &s)
	return c
}

func (a *app) welcome(svc *service.Service) {
	a.printf("Console   http://%s/\n", local(svc.HTTP))
	if svc.HTTPS != "" {
		a.printf("HTTPS     https://%s/\n", local(svc.HTTPS))
	}
	if svc.RTMP != "" {
		a.printf("RTMP      rtmp://%s/in/CHANNEL with the key as stream name\n", local(svc.RTMP))
	}
	if svc.RTMPS != "" {
		a.printf("RTMPS     rtmps://%s/in/CHANNEL with the key as stream name\n", local(svc.RTMPS))
	}
	if svc.SRT != "" {
		a.printf("SRT       srt://%s with the stream id #!::r=CHANNEL,m=publish,u=KEY\n", local(svc.SRT))
	}
	if svc.RTSP != "" {
		a.printf("RTSP      rtsp://%s/in/CHANNEL?key=KEY\n", local(svc.RTSP))
	}
	if svc.RTSPS != "" {
		a.printf("RTSPS     rtsps://%s/in/CHANNEL?key=KEY\n", local(svc.RTSPS))
	}
	if svc.WebRTC != "" {
		a.printf("WebRTC    http://%s/whip/CHANNEL with the key as bearer token; media over %s\n", local(svc.HTTP), svc.WebRTC)
	}
	if svc.FirstPassword != "" {
		a.printf("\nThis is the first start. Sign in at the console as\n  user      %s\n  password  %s\nand change the password there. It is not shown again.\n", service.Administrator, svc.FirstPassword)
	}
	a.printf("\nCommands on this machine are signed in already; see metaplasis --help.\n")
}

// rehearsalLadders are the demo's ladders: they leave two of five parts of two cores to a browser.
var rehearsalLadders = map[string][]ladder.Rung{
	"start-line": {
		{Name: "source", On: true, Source: true},
		{Name: "480p", On: true, Height: 480, Bitrate: 1_200_000, Effort: 1},
		{Name: "240p", On: true, Height: 240, Bitrate: 350_000, Effort: 1},
	},
	"chase-boat": {
		{Name: "source", On: true, Source: true},
	},
}

// rehearsalCaptions are what is said at the start line.
var rehearsalCaptions = map[string][]string{
	"start-line": {"WELCOME TO KESTREL BAY", "RACE 3 STARTS IN FIVE MINUTES", "WIND 14 KNOTS FROM THE WEST"},
}

func (a *app) rehearse() *cobra.Command {
	var s serveFlags
	var only []string
	var plain, more bool
	c := &cobra.Command{
		Use: "rehearse", Short: "Run the demo: service, channels and cameras",
		Args: cobra.NoArgs,
		Long: `Start the database, the service, the channels of the Kestrel Bay Regatta and a camera
for each: two over RTMP, one of them with a ladder, an outside-broadcast truck whose transport stream has
two programmes, one each over SRT, RTSP, WebRTC and HTTP, one that is fetched while somebody
watches, and sources on a studio's network, which is loopback's. Print every address, and run
until interrupted. Nothing is left running then; the data stays in the data folder for the next time.`,
		Example: `  metaplasis rehearse
  metaplasis rehearse --http 127.0.0.1:9000 --rtmp 127.0.0.1:9001 --data /tmp/regatta`,
		RunE: func(c *cobra.Command, _ []string) error {
			if !c.Flags().Changed("data") {
				a.data = filepath.Join(filepath.Dir(a.data), "metaplasis-rehearsal")
			}
			var loops []*demo.Loop
			for i := range demo.Loops {
				if len(only) == 0 || slices.Contains(only, demo.Loops[i].Name) {
					loops = append(loops, &demo.Loops[i])
				}
			}
			if len(loops) == 0 {
				return usageError{fmt.Errorf("found --only %s, expected start-line or chase-boat", strings.Join(only, ","))}
			}
			ways := rehearsalWays
			if more {
				ways = slices.Concat(ways, rehearsalMore)
			}
			if len(only) > 0 || plain {
				ways = nil
			} else if !c.Flags().Changed("studio") {
				s.conf.Studio = []string{rehearsalStudio}
			}
			if !c.Flags().Changed("outbound") { // its far ends are all on this machine
				s.conf.Outbound = []string{"127.0.0.0/8", "::1"}
			}
			return a.runRehearsal(c.Context(), &s, loops, ways)
		},
	}
	a.serveFlags(c, &s)
	c.Flags().StringSliceVar(&only, "only", nil, "only these channels: start-line, chase-boat")
	c.Flags().BoolVar(&more, "more", false, "also raw pictures of 1280x720 (442 Mbit/s) and JPEG of 1920x1080 on the studio's network, on a machine with four cores and more")
	c.Flags().BoolVar(&plain, "plain", false, "only the channels that come over RTMP, on a machine that carries no more")
	c.Flags().Lookup("log").DefValue, s.logLevel = "warn", "warn"
	return c
}

func (a *app) runRehearsal(ctx context.Context, s *serveFlags, loops []*demo.Loop, ways []rehearsalWay) error {
	a.printf("Starting the database and the service …\n")
	svc, err := a.start(ctx, s)
	if err != nil {
		return err
	}
	defer svc.Stop()
	password := records.NewSecret()[:12]
	if err := svc.SetPassword(ctx, service.Administrator, password); err != nil {
		return err
	}
	base := "http://" + local(svc.HTTP)
	api := &client.Client{Server: base, Token: svc.Operator}
	a.printf("\nConsole\n  %s/\n  user %s, password %s\n", base, service.Administrator, password)
	cameras, stop := context.WithCancel(ctx)
	done := make(chan struct{}, len(loops)+len(ways))
	for _, l := range loops {
		if err := a.raise(cameras, api, svc, l, done); err != nil {
			stop()
			return err
		}
	}
	if err := stock(s.conf.Library, s.conf.Data); err != nil {
		a.printf("The library could not be filled: %v\n", err)
	}
	for i := range ways {
		if err := a.raiseWay(cameras, api, svc, &ways[i], done); err != nil {
			stop()
			return err
		}
	}
	a.printf("\nRunning. Interrupt (Ctrl-C) ends everything.\n")
	select {
	case <-ctx.Done():
		err = nil
	case err = <-svc.Failed():
	}
	a.printf("\nEnding the rehearsal …\n")
	stop()
	for range len(loops) + len(ways) {
		<-done
	}
	return err
}

// raise makes one demo channel, unless it is there, and starts its camera.
func (a *app) raise(ctx context.Context, c *client.Client, svc *service.Service, l *demo.Loop, done chan<- struct{}) error {
	ch, err := c.Channel(ctx, l.Name)
	var refused *client.Error
	if errors.As(err, &refused) && refused.Status == 404 {
		ch, err = c.CreateChannel(ctx, settings.Settings{Slug: l.Name, Title: l.Title, Keeping: settings.Keeping{TimeShiftMinutes: 60},
			Ladder: ladder.Ladder{Rungs: rehearsalLadders[l.Name]}})
	}
	if err != nil {
		return err
	}
	key, err := a.rehearsalKey(ctx, c, l.Name)
	if err != nil {
		return err
	}
	clip, err := camera.Load(l.FLV)
	if err != nil {
		return err
	}
	go func() {
		defer func() { done <- struct{}{} }()
		url := fmt.Sprintf("rtmp://%s/in/%s/%s", local(svc.RTMP), l.Name, key)
		err := camera.Run(ctx, clip, camera.Options{URL: url, Retry: time.Second, Captions: rehearsalCaptions[l.Name]})
		if err != nil && ctx.Err() == nil {
			_, _ = fmt.Fprintf(a.err, "camera of %s: %v\n", l.Name, err)
		}
	}()
	a.addresses(l.Title, ch.Addresses)
	return nil
}

// addresses prints a channel's addresses, full, one a line.
func (a *app) addresses(title string, d api.Addresses) {
	a.printf("\n%s\n  %s\n  %s\n  %s\n", title, d.Console, d.Watch, d.HLS)
}

func (a *app) camera() *cobra.Command {
	var to, file string
	var captions, chosen []string
	var splices time.Duration
	var loops int
	c := &cobra.Command{
		Use: "camera", Short: "Send a demo loop as a camera would", Args: cobra.NoArgs,
		Long: `Send a recorded loop to a channel, forever and with continuous timestamps, and reconnect when the connection is lost.
Several loops become the programmes of one transport stream. Addresses:

` + schemeList(address.Camera),
		Example: `  metaplasis camera --to rtmp://127.0.0.1:1935/in/start-line/KEY
  metaplasis camera --loop chase-boat --to rtmp://127.0.0.1:1935/in/chase-boat/KEY
  metaplasis camera --loop harbour --to rtmp://127.0.0.1:1935/in/harbour/KEY      # VP9 and Opus
  metaplasis camera --to udp://239.255.10.1:5000?interface=lo
  metaplasis camera --to "studio://239.20.7.1:5004?interface=lo&name=Deck+camera&format=raw"       # or raw10, jpeg
  metaplasis camera --to "rtsp://127.0.0.1:8555/deck?mode=listener&announce=lo&name=Deck"         # DNS-SD
  metaplasis camera --loop start-line,chase-boat --to udp://127.0.0.1:5000             # two programmes
  metaplasis camera --captions "GOOD MORNING,WIND 14 KNOTS" --to rtmp://127.0.0.1:1935/in/start-line/KEY
  metaplasis camera --file my-loop.flv --to rtmp://127.0.0.1:1935/in/start-line/KEY`,
		RunE: func(c *cobra.Command, _ []string) error {
			if to == "" {
				return usageError{errors.New("where to send is missing: give --to with the address that metaplasis keys create printed")}
			}
			programmes, err := loadLoops(chosen, file)
			if err != nil {
				return err
			}
			o := camera.Options{URL: to, Name: programmes[0].Name, Loops: loops, Captions: captions, Splices: splices,
				Retry: 2 * time.Second, OnChange: func(s string) { a.printf("camera: %s\n", s) }}
			if len(programmes) > 1 {
				err = camera.RunProgrammes(c.Context(), programmes, o)
			} else {
				err = camera.Run(c.Context(), programmes[0].Clip, o)
			}
			if c.Context().Err() != nil {
				return nil
			}
			return err
		},
	}
	c.Flags().StringVar(&to, "to", "", "address to send to, with the key")
	c.Flags().StringSliceVar(&chosen, "loop", []string{"start-line"}, "demo loop: start-line, chase-boat, harbour, marks or committee; several are programmes of a transport stream")
	c.Flags().StringVar(&file, "file", "", "send this FLV file (H.264, AAC) instead of a demo loop")
	c.Flags().StringSliceVar(&captions, "captions", nil, "lines of CEA-608 captions to put into the pictures")
	c.Flags().DurationVar(&splices, "splices", 0, "send an SCTE 35 break every so often, such as 60s")
	c.Flags().IntVar(&loops, "times", 0, "how often to send the loop; 0 is forever")
	return c
}

// loadLoops reads the loops that a camera sends, numbered as programmes.
func loadLoops(chosen []string, file string) (out []camera.Programme, err error) {
	if file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("the loop: %w", err)
		}
		clip, err := camera.Load(b)
		return []camera.Programme{{Number: 1, Name: strings.TrimSuffix(filepath.Base(file), ".flv"), Clip: clip}}, err
	}
	var names []string
	all := map[string]*demo.Loop{}
	for _, l := range slices.Concat(demo.Loops, demo.Others) {
		names = append(names, l.Name)
		all[l.Name] = &l
	}
	for i, name := range chosen {
		l := all[name]
		if l == nil {
			return nil, usageError{fmt.Errorf("found loop %q, expected one of %s", name, strings.Join(names, ", "))}
		}
		clip, err := camera.Load(l.FLV)
		if err != nil {
			return nil, err
		}
		out = append(out, camera.Programme{Number: i + 1, Name: l.Title, Clip: clip})
	}
	if len(out) == 0 {
		return nil, usageError{fmt.Errorf("found no loop, expected one of %s", strings.Join(names, ", "))}
	}
	return out, nil
}

// ask reads a password from the terminal without showing it, or a line of what is piped in.
func (a *app) ask(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		_, _ = fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1024))
	line, _, _ := strings.Cut(string(b), "\n")
	return strings.TrimSpace(line), err
}

// gigabytes is a flag in GB of a value in bytes.
type gigabytes struct{ bytes *int64 }

func (g gigabytes) String() string {
	if g.bytes == nil {
		return "0"
	}
	return strconv.FormatFloat(float64(*g.bytes)/1e9, 'f', -1, 64)
}

func (g gigabytes) Set(text string) error {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || v < 0 || v > 1e9 {
		return fmt.Errorf("found %q, expected a number of GB", text)
	}
	*g.bytes = int64(v * 1e9)
	return nil
}

func (gigabytes) Type() string { return "GB" }
