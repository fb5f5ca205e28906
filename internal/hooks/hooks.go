// Package hooks tells other programs what happens: by a signed HTTP call, or by a command of this machine. It also asks
// a program whether a sender may come in.
package hooks

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"metaplasis/internal/network"
)

// Names of what happens.
const (
	FeedBegun    = "feed-begun"
	FeedRefused  = "feed-refused"
	FeedEnded    = "feed-ended"
	OnAir        = "channel-on-air"
	OffAir       = "channel-off-air"
	ProblemBegun = "problem-begun"
	ProblemEnded = "problem-ended"
	// Admission asks whether a sender may come in, and waits for the answer.
	Admission = "admission"
	// Test is what a hook gets when somebody tries it.
	Test = "test"
)

// Happenings are those that a hook can ask for.
func Happenings() []string {
	return []string{FeedBegun, FeedRefused, FeedEnded, OnAir, OffAir, ProblemBegun, ProblemEnded, Admission}
}

// Hook is one program that is told.
type Hook struct {
	ID      int64    `json:"id,omitempty"`
	Label   string   `json:"label,omitempty"`
	URL     string   `json:"url,omitempty"`     // http or https; or
	Command string   `json:"command,omitempty"` // a program in the service's folder of hooks
	Events  []string `json:"events,omitempty"`  // none is all but admission
	Channel string   `json:"channel,omitempty"` // "" is all
	// Secret signs calls: see Sign. It is told once, when the hook is made.
	Secret string `json:"secret,omitempty"`
	// Strict refuses senders when the program does not answer an admission; without it they are let in.
	Strict bool `json:"strict,omitempty"`
}

// Happening is what a hook is told. Its JSON is the body of a call, and the standard input of a command.
type Happening struct {
	ID       int64     `json:"id"`
	Event    string    `json:"event"`
	At       time.Time `json:"at"`
	Channel  string    `json:"channel,omitempty"`
	Text     string    `json:"text,omitempty"`
	Do       string    `json:"do,omitempty"`
	Protocol string    `json:"protocol,omitempty"` // of an admission
	Remote   string    `json:"remote,omitempty"`   // of an admission
}

// Delivery is one try to tell a hook, or all tries of one happening.
type Delivery struct {
	Hook     int64     `json:"hook"`
	Event    string    `json:"event"`
	Channel  string    `json:"channel,omitempty"`
	At       time.Time `json:"at"` // of the newest try
	Tries    int       `json:"tries"`
	Done     bool      `json:"done"` // it was taken
	GivenUp  bool      `json:"givenUp,omitempty"`
	Status   string    `json:"status"` // of the newest try, for people
	Millis   int64     `json:"millis"` // that it took
	happened Happening
	due      time.Time
}

// Bounds.
const (
	//limit:hooks | all | 422
	MaxHooks = 64
	//limit:deliveries that wait | each hook | the newest are dropped and counted
	maxQueue = 200 // deliveries of one hook that wait
	//limit:deliveries that are listed | all | the oldest are forgotten
	keptLog = 300
	workers = 4
	//limit:how long a call may take | each delivery | it is repeated later
	callTimeout = 5 * time.Second
	//limit:how long a program may think about a sender | each hook | the sender comes in, or not if the hook is strict
	admitTimeout = 2 * time.Second
	//limit:bytes of an answer, or of what a command says | each delivery | the rest is not read
	maxOutput = 4 << 10
)

// pauses are those before the further tries.
var pauses = []time.Duration{time.Second, 5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute}

// Runner tells hooks.
type Runner struct {
	Folder string // of commands; "" runs none
	// Keep is the file in which what was not told yet waits for the next start; "" keeps nothing.
	Keep   string
	Logger *slog.Logger

	mu    sync.Mutex
	hooks []Hook
	set   bool // the hooks are known: what a process before kept can be told
	queue []*Delivery
	log   []*Delivery
	lost  int64
	last  int64
	busy  map[int64]bool // hooks that are being told something: one thing at a time
	wake  chan struct{}
	stop  chan struct{}
	all   sync.WaitGroup
}

// Start begins to tell.
func (r *Runner) Start() {
	r.wake, r.stop = make(chan struct{}, 1), make(chan struct{})
	r.restore()
	for range workers {
		r.all.Add(1)
		go r.work()
	}
}

// Close stops. What was not told yet is kept for the next start.
func (r *Runner) Close() {
	close(r.stop)
	r.all.Wait()
	r.save()
}

// waiting is a delivery as it is kept over a restart.
type waiting struct {
	Hook     int64     `json:"hook"`
	Tries    int       `json:"tries"`
	Due      time.Time `json:"due"`
	Happened Happening `json:"happened"`
}

// save keeps what waits.
func (r *Runner) save() {
	if r.Keep == "" {
		return
	}
	r.mu.Lock()
	list := []waiting{}
	for _, d := range r.queue {
		list = append(list, waiting{d.Hook, d.Tries, d.due, d.happened})
	}
	r.mu.Unlock()
	b, err := json.Marshal(list)
	if err == nil {
		err = os.WriteFile(r.Keep, b, 0o600)
	}
	if err != nil && len(list) > 0 {
		r.Logger.Error("what hooks were not told yet could not be kept", "deliveries", len(list), "error", err)
	}
}

// restore takes what a process before kept.
func (r *Runner) restore() {
	var list []waiting
	b, err := os.ReadFile(r.Keep)
	if r.Keep == "" || err != nil || json.Unmarshal(b, &list) != nil {
		return
	}
	_ = os.Remove(r.Keep)
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range list[:min(len(list), maxQueue*MaxHooks)] {
		d := &Delivery{Hook: w.Hook, Event: w.Happened.Event, Channel: w.Happened.Channel, At: w.Happened.At, Tries: w.Tries, Status: "waits", happened: w.Happened, due: w.Due}
		r.last = max(r.last, w.Happened.ID)
		r.queue = append(r.queue, d)
		r.note(d)
	}
}

// Set replaces the hooks.
func (r *Runner) Set(list []Hook) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.hooks, r.set = slices.Clone(list), true
	r.deliverDue()
}

// deliverDue has a worker look for what is due.
func (r *Runner) deliverDue() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Fire tells all hooks that ask for it. It never waits.
func (r *Runner) Fire(h Happening) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, hook := range r.hooks {
		if hook.wants(&h) {
			r.put(hook, h)
		}
	}
}

// Try tells one hook, once, for somebody who watches.
func (r *Runner) Try(ctx context.Context, hook Hook) Delivery {
	h := Happening{Event: Test, At: time.Now().UTC(), Text: "Somebody tries this hook."}
	d := &Delivery{Hook: hook.ID, Event: Test, happened: h}
	r.try(ctx, d, &hook)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.note(d)
	return *d
}

// put queues a delivery. It needs the lock.
func (r *Runner) put(hook Hook, h Happening) {
	own := 0
	for _, d := range r.queue {
		if d.Hook == hook.ID {
			own++
		}
	}
	if own >= maxQueue {
		r.lost++
		return
	}
	r.last++
	h.ID = r.last
	d := &Delivery{Hook: hook.ID, Event: h.Event, Channel: h.Channel, At: h.At, Status: "waits", happened: h, due: time.Now()}
	r.queue = append(r.queue, d)
	r.note(d)
	r.deliverDue()
}

func (r *Runner) note(d *Delivery) {
	r.log = append(r.log, d)
	if n := len(r.log) - keptLog; n > 0 {
		r.log = slices.Delete(r.log, 0, n)
	}
}

func (k *Hook) wants(h *Happening) bool {
	if k.Channel != "" && k.Channel != h.Channel {
		return false
	}
	if len(k.Events) == 0 {
		return h.Event != Admission
	}
	return slices.Contains(k.Events, h.Event)
}

// Deliveries lists what was told, or is to be, the newest first; of one hook, or of all with 0. lost is how many there was
// no room for.
func (r *Runner) Deliveries(hook int64) (out []Delivery, lost int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range slices.Backward(r.log) {
		if hook == 0 || d.Hook == hook {
			out = append(out, *d)
		}
	}
	return out, r.lost
}

func (r *Runner) work() {
	defer r.all.Done()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-r.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	for {
		d, wait := r.next()
		if d == nil {
			t := time.NewTimer(wait)
			select {
			case <-r.stop:
				t.Stop()
				return
			case <-r.wake:
			case <-t.C:
			}
			t.Stop()
			continue
		}
		work := *d
		hook := r.find(d.Hook)
		if hook != nil {
			r.try(ctx, &work, hook)
		}
		r.mu.Lock()
		delete(r.busy, d.Hook)
		r.deliverDue()
		if hook == nil {
			d.GivenUp, d.Status = true, "the hook was removed"
			r.mu.Unlock()
			continue
		}
		d.Tries, d.Done, d.Status, d.Millis, d.At = work.Tries, work.Done, work.Status, work.Millis, work.At
		if !d.Done {
			if d.Tries > len(pauses) || !r.known(d.Hook) {
				d.GivenUp = true
			} else {
				d.due = time.Now().Add(pauses[d.Tries-1])
				r.queue = append(r.queue, d)
			}
		}
		r.mu.Unlock()
	}
}

// find returns a hook as it is now, nil when there is none.
func (r *Runner) find(id int64) *Hook {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range r.hooks {
		if r.hooks[i].ID == id {
			k := r.hooks[i]
			return &k
		}
	}
	return nil
}

func (r *Runner) known(id int64) bool {
	return slices.ContainsFunc(r.hooks, func(h Hook) bool { return h.ID == id })
}

// next takes a delivery that is due, or says how long there is none.
func (r *Runner) next() (*Delivery, time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now, wait := time.Now(), time.Minute
	if !r.set {
		return nil, wait
	}
	for i, d := range r.queue {
		if r.busy[d.Hook] { // one that is slow holds no other up; who ends with it wakes a worker
			continue
		}
		if !d.due.After(now) {
			r.queue = slices.Delete(r.queue, i, i+1)
			if r.busy == nil {
				r.busy = map[int64]bool{}
			}
			r.busy[d.Hook] = true
			return d, 0
		}
		wait = min(wait, d.due.Sub(now))
	}
	return nil, wait
}

// try tells a hook once.
func (r *Runner) try(ctx context.Context, d *Delivery, k *Hook) {
	begun := time.Now()
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	text, err := r.tell(ctx, k, &d.happened)
	d.Tries++
	d.At, d.Millis, d.Done, d.Status = begun.UTC(), time.Since(begun).Milliseconds(), err == nil, text
	if err != nil {
		d.Status = err.Error()
	}
}

var client = &http.Client{Transport: network.Transport(callTimeout), CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// RefusedError says that a hook answered no, and why.
type RefusedError struct{ Text string }

func (e *RefusedError) Error() string { return e.Text }

// tell calls, or runs, a hook.
func (r *Runner) tell(ctx context.Context, k *Hook, h *Happening) (text string, err error) {
	body, err := json.Marshal(h)
	if err != nil {
		return "", err
	}
	if k.Command != "" {
		return r.run(ctx, k.Command, body)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, k.URL, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Metaplasis")
	signRequest(req, body, k.ID, k.Secret, time.Now())
	res, err := client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return "", errors.New("no answer in time")
		}
		return "", network.WithoutSecrets(err)
	}
	defer func() { _ = res.Body.Close() }()
	answer, _ := io.ReadAll(io.LimitReader(res.Body, maxOutput))
	switch {
	case res.StatusCode == http.StatusForbidden:
		return "", &RefusedError{strings.TrimSpace(string(answer))}
	case h.Event == Admission && res.StatusCode >= 300 && res.StatusCode < 500: // a page to sign in at, or nothing there: no is meant
		return "", &RefusedError{fmt.Sprintf("the program that decides on senders answered %s", res.Status)}
	}
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return "", fmt.Errorf("it answered %s", res.Status)
	}
	return res.Status, nil
}

var commandForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// CheckCommand says what is wrong with the name of a command, "" when nothing is.
func (r *Runner) CheckCommand(name string) string {
	switch {
	case r.Folder == "":
		return "the service runs no commands: start it with --hook-commands FOLDER"
	case !commandForm.MatchString(name):
		return fmt.Sprintf("found the command %.70q, expected the name of a program in the folder of hooks", name)
	}
	return ""
}

// run starts a program of the folder. What it says on its standard output is kept, up to a bound. An exit code of 3 says no
// to an admission.
func (r *Runner) run(ctx context.Context, name string, in []byte) (string, error) {
	const refuses = 3
	if text := r.CheckCommand(name); text != "" {
		return "", errors.New(text)
	}
	cmd := exec.CommandContext(ctx, filepath.Join(r.Folder, name))
	cmd.Stdin = bytes.NewReader(in)
	cmd.Dir = r.Folder
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	var out limited
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", errors.New("it did not end in time, and was killed")
	case errors.As(err, &exit) && exit.ExitCode() == refuses:
		return "", &RefusedError{strings.TrimSpace(out.String())}
	case err != nil:
		return "", fmt.Errorf("%w: %s", err, strings.TrimSpace(out.String()))
	}
	return "it ended well", nil
}

// limited keeps the begin of what is written.
type limited struct{ bytes.Buffer }

func (l *limited) Write(b []byte) (int, error) {
	if room := maxOutput - l.Len(); room > 0 {
		l.Buffer.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

// Admit asks all hooks for admissions whether a sender may come in. A *RefusedError says no.
func (r *Runner) Admit(ctx context.Context, h Happening) error {
	h.Event, h.At = Admission, time.Now().UTC()
	r.mu.Lock()
	var asked []Hook
	for _, k := range r.hooks {
		if k.wants(&h) {
			asked = append(asked, k)
		}
	}
	r.mu.Unlock()
	answers := make([]error, len(asked))
	var all sync.WaitGroup
	for i := range asked {
		all.Go(func() { answers[i] = r.ask(ctx, &asked[i], h) }) // each has its own time
	}
	all.Wait()
	for _, err := range answers {
		if err != nil {
			return err
		}
	}
	return nil
}

// ask asks one hook. A *RefusedError says no.
func (r *Runner) ask(ctx context.Context, k *Hook, h Happening) error {
	ctx, cancel := context.WithTimeout(ctx, admitTimeout)
	defer cancel()
	begun := time.Now()
	text, err := r.tell(ctx, k, &h)
	d := &Delivery{Hook: k.ID, Event: h.Event, Channel: h.Channel, At: begun.UTC(), Tries: 1, Done: err == nil, Status: text, Millis: time.Since(begun).Milliseconds()}
	var no *RefusedError
	refused := errors.As(err, &no)
	if err != nil {
		d.Status = err.Error()
	}
	if refused {
		d.Done, d.Status = true, "refused: "+no.Text
	}
	r.mu.Lock()
	r.note(d)
	r.mu.Unlock()
	switch {
	case refused:
		return no
	case err != nil && k.Strict:
		return &RefusedError{"the program that decides on senders does not answer"}
	}
	return nil
}
