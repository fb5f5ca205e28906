package control

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"metaplasis/internal/control/api"
	"metaplasis/internal/events"
)

// Free space of the data folder below which records and database are in danger.
const (
	leastFree   = 64 << 20
	healthEvery = time.Second
)

// Checks are what the service's health depends on, beside what control knows itself.
type Checks struct {
	Data     string       // folder whose disk must not be full; "" is not looked at
	Database func() error // why our own database server does not run now; nil for none

	Own            func(netip.AddrPort) bool // whether an address is one of this service's ports
	InspectPrivate bool                      // private addresses may be inspected from the console
	HookCommands   string                    // folder of programs that hooks may run; "" for none
}

// health is what was found at the last look.
type health struct {
	mu       sync.Mutex
	problems []api.ServiceProblem
	since    map[string]time.Time
}

// Health returns what is wrong with the service itself, nothing when all is well.
func (s *Service) Health() []api.ServiceProblem {
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	return s.health.problems
}

// look finds what is wrong now.
func (s *Service) look(now time.Time) {
	found := []api.ServiceProblem{}
	add := func(what, do, text string, args ...any) {
		found = append(found, api.ServiceProblem{What: what, Text: fmt.Sprintf(text, args...), Do: do})
	}
	st := s.journal.State()
	var down error
	if s.checks.Database != nil {
		down = s.checks.Database()
	}
	const goesOn = "Media, viewers and senders go on meanwhile."
	switch {
	case down != nil:
		add("database", "It is being started again; its log is mariadbd.log in the data folder. "+goesOn,
			"The database does not run: %v; %d records wait.", down, st.Waiting)
	case st.Err == nil && s.unanswered.Load() != nil:
		add("database", "Look at the database server and its disk. "+goesOn, "The database does not answer: %v.",
			*s.unanswered.Load())
	case st.Err != nil:
		add("database", "Look at the database server and its disk. "+goesOn,
			"The database does not take records: %v; %d wait since %s.", st.Err, st.Waiting, st.Since.UTC().Format(time.TimeOnly))
	}
	if lost := st.Lost - s.lostBefore; lost > 0 && st.Err == nil {
		// It is over: say once what was lost.
		s.lostBefore = st.Lost
		s.recordsLost(lost)
	} else if lost > 0 {
		add("records", "Mend the database.", "%d records were lost since too many waited.", lost)
	}
	if s.checks.Data != "" {
		if free, err := freeSpace(s.checks.Data); err == nil && free < leastFree {
			add("disk", "Make room on that disk. "+goesOn, "The disk of the data folder is full: %d MB are left.", free>>20)
		}
	}
	if st := s.kept.store; st != nil {
		for _, q := range st.Quarantined() {
			add("quarantine "+q.Channel, "It stays until somebody decides: metaplasis store adopt "+q.Channel+" makes a recording of it, metaplasis store remove "+q.Channel+" removes it.",
				"The store has %d MB of %s, of %s to %s, that are in quarantine: %s.", q.Bytes>>20, q.Channel, q.Oldest.UTC().Format(time.DateTime), q.Newest.UTC().Format(time.DateTime), q.Why)
		}
		if n, err := st.Deletions(); err != nil {
			add("deletions", "Look at the store's permissions and its disk. It is tried again.", "%d files that are not kept any more cannot be removed: %v.", 2*n, err)
		}
	}
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	before := s.health.since
	s.health.since = map[string]time.Time{}
	for i := range found {
		at, known := before[found[i].What]
		if !known {
			at = now
		}
		found[i].Since = at.UTC()
		s.health.since[found[i].What] = at
	}
	s.health.problems = found
}

// ping asks the database every so often whether it answers, until stop is closed.
func (s *Service) ping(stop <-chan struct{}) {
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-tick.C:
			ctx, cancel := context.WithTimeout(context.Background(), pingEvery)
			err := s.db.Ping(ctx)
			cancel()
			if err == nil {
				s.unanswered.Store(nil)
			} else {
				s.unanswered.Store(&err)
			}
		}
	}
}

const pingEvery = 2 * time.Second

// watch looks until stop is closed.
func (s *Service) watch(stop <-chan struct{}) {
	tick := time.NewTicker(healthEvery)
	defer tick.Stop()
	told := map[string]bool{}
	seen := map[string]conditions{}
	var taken time.Time
	for {
		select {
		case <-stop:
			return
		case now := <-tick.C:
			s.look(now)
			if now.Sub(taken) > sampleEvery-healthEvery/2 {
				taken = now
				s.take(now)
			}
			told = s.tellHealth(now, told)
			seen = s.tellConditions(seen)
		}
	}
}

func freeSpace(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// tellHealth records what has come up and what is over, and returns what is told of now.
func (s *Service) tellHealth(now time.Time, before map[string]bool) map[string]bool {
	told := map[string]bool{}
	for _, p := range s.Health() {
		told[p.What] = true
		if !before[p.What] {
			s.Event(events.Event{At: now, Level: events.Failure, Kind: p.What + "-failing", Text: p.Text, Do: p.Do,
				Like: p.What})
		}
	}
	for what := range before {
		if !told[what] {
			s.Event(events.Event{At: now, Level: events.Info, Kind: what + "-recovered",
				Text: "The trouble with the service's " + what + " is over."})
		}
	}
	return told
}

func (s *Service) recordsLost(n int64) {
	s.Event(events.Event{At: time.Now(), Level: events.Warning, Kind: "records-lost",
		Text: fmt.Sprintf("%d records of feeds and events were lost while the database did not answer.", n)})
}

func (s *Service) showHealth(http.ResponseWriter, *http.Request) (any, error) {
	return api.Health{Problems: append([]api.ServiceProblem{}, s.Health()...)}, nil
}

// Records returns how many records wait for the database, and how many were lost.
func (s *Service) Records() (waiting int, lost int64) {
	st := s.journal.State()
	return st.Waiting, st.Lost
}
