package records

import (
	"metaplasis/internal/retry"

	"context"
	"log/slog"
	"sync"
	"time"
)

// Bounds of a journal.
const (
	//limit:bytes that wait for the database | all | what can be spared is dropped and counted
	journalBytes = 8 << 20
	journalPause = 100 * time.Millisecond // before the first retry; each further one waits twice as long
	journalRest  = 5 * time.Second        // the longest of these pauses
	writeTimeout = 5 * time.Second
	writeCost    = 256 // bytes that a waiting write takes beside its size
)

// Write is one record that is to be stored.
type Write struct {
	// Key names what the write is about. A write that waits is replaced by the next one of its key;
	// "" never is.
	Key  string
	Size int // bytes that it holds, about
	Do   func(context.Context, *DB) error
	Done func() // called when it is stored; nil for none
}

// Journal stores records beside the media: who hands one over never waits. Writes happen in order.
// While the database does not answer they wait, bounded in bytes, and are tried again; what comes
// when the bound is reached is lost and counted.
type Journal struct {
	db     *DB
	logger *slog.Logger

	mu      sync.Mutex
	queue   []*Write
	byKey   map[string]*Write // of those in queue
	bytes   int
	lost    int64
	failing error
	since   time.Time
	wake    chan struct{}
	stop    chan struct{}
	done    chan struct{}
}

// JournalState says how a journal is.
type JournalState struct {
	Waiting int       // writes
	Lost    int64     // since the start
	Err     error     // why the newest attempt failed, nil when it did not
	Since   time.Time // when the failing began
}

// NewJournal starts a journal.
func NewJournal(db *DB, logger *slog.Logger) *Journal {
	j := &Journal{db: db, logger: logger, byKey: map[string]*Write{}, wake: make(chan struct{}, 1),
		stop: make(chan struct{}), done: make(chan struct{})}
	go j.run()
	return j
}

// Put hands a record over and reports whether there was room for it.
func (j *Journal) Put(w Write) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if old := j.byKey[w.Key]; w.Key != "" && old != nil {
		j.bytes += w.Size - old.Size
		*old = w
		return true
	}
	if j.bytes+w.Size+writeCost > journalBytes {
		j.lost++
		return false
	}
	j.bytes += w.Size + writeCost
	j.queue = append(j.queue, &w)
	if w.Key != "" {
		j.byKey[w.Key] = j.queue[len(j.queue)-1]
	}
	select {
	case j.wake <- struct{}{}:
	default:
	}
	return true
}

// State returns how the journal is.
func (j *Journal) State() JournalState {
	j.mu.Lock()
	defer j.mu.Unlock()
	return JournalState{Waiting: len(j.queue), Lost: j.lost, Err: j.failing, Since: j.since}
}

// Close stores what still waits, for as long as the context allows.
func (j *Journal) Close(ctx context.Context) {
	close(j.stop)
	select {
	case <-j.done:
	case <-ctx.Done():
		if n := j.State().Waiting; n > 0 {
			j.logger.Error("records were not stored before the end", "records", n)
		}
	}
}

// next returns the oldest write. From here on it is not replaced any more.
func (j *Journal) next() *Write {
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.queue) == 0 {
		return nil
	}
	w := j.queue[0]
	delete(j.byKey, w.Key)
	return w
}

// drop forgets the write that was taken.
func (j *Journal) drop(w *Write) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.queue[0] = nil
	j.queue = j.queue[1:]
	j.bytes -= w.Size + writeCost
	j.failing = nil
}

// maxSlow is how often a write is tried while the database answers others.
//
//limit:tries of a write that does not come through while the database answers others | each write | it is given up and counted
const maxSlow = 5

// answers reports whether the database answers at all.
func (j *Journal) answers() bool {
	ctx, cancel := context.WithTimeout(context.Background(), writeTimeout)
	defer cancel()
	return j.db.Ping(ctx) == nil
}

// refuse counts a write that the database does not take.
func (j *Journal) refuse() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.lost++
}

func (j *Journal) note(err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.failing == nil {
		j.since = time.Now()
		j.logger.Error("records cannot be stored now; they wait", "error", err)
	}
	j.failing = err
}

func (j *Journal) run() {
	defer close(j.done)
	pause := retry.New(journalPause, journalRest)
	for {
		w := j.next()
		if w == nil {
			select {
			case <-j.wake:
				continue
			case <-j.stop:
				if j.State().Waiting == 0 {
					return
				}
				continue
			}
		}
		for slow := 0; ; {
			ctx, cancel := context.WithTimeout(context.Background(), writeTimeout)
			err := w.Do(ctx, j.db)
			cancel()
			if err != nil && Unreachable(err) && j.answers() {
				slow++ // the database is there: this write alone does not come through
			}
			if err == nil || !Unreachable(err) || slow >= maxSlow {
				if err != nil { // no retry would help
					j.logger.Error("a record was refused by the database", "about", w.Key, "error", err)
					j.refuse()
				} else if w.Done != nil {
					w.Done()
				}
				j.drop(w)
				pause.Reset()
				break
			}
			j.note(err)
			if !pause.Until(j.stop) {
				time.Sleep(journalPause) // not for long: Close has a limit
			}
		}
	}
}
