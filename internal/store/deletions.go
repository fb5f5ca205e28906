package store

import (
	"metaplasis/internal/retry"

	"errors"
	"time"
)

// deletions are the files of bundles that are to go. The ledger remembers them until they are gone, so that none is
// forgotten when the place fails or the service stops.
type deletions struct {
	queue []string // paths of bundles
	wake  chan struct{}
	err   error // why the first of them cannot be removed now
}

// delete queues the files of a bundle. The store's lock is held.
func (d *deletions) add(path string) {
	d.queue = append(d.queue, path)
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// deleteFiles removes what is queued until the store is closed: the index first, so that nothing is listed that is not
// there.
func (s *Store) deleteFiles() {
	defer s.deleted.Done()
	pause := retry.New(retryFirst, retryLongest)
	for {
		path := s.nextDeletion()
		if path == "" {
			select {
			case <-s.stop:
				return
			case <-s.deletions.wake:
			}
			continue
		}
		err := s.place.Remove(path + indexEnding)
		if err == nil {
			err = s.place.Remove(path + mediaEnding)
		}
		s.deletionEnded(path, err)
		if err == nil {
			s.ledger.Removed(path)
			pause.Reset()
			select {
			case <-s.stop:
				return
			default:
			}
			continue
		}
		if !pause.Until(s.stop) {
			return
		}
	}
}

// retryLongest is the longest pause between two attempts to remove something.
const retryLongest = time.Minute

func (s *Store) nextDeletion() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.deletions.queue) == 0 {
		return ""
	}
	return s.deletions.queue[0]
}

// deletionEnded books an attempt. What failed goes to the end of the queue, so that one file does not hold up others.
func (s *Store) deletionEnded(path string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d := &s.deletions
	if d.queue = d.queue[1:]; err != nil {
		if d.err == nil {
			s.logger.Error("what is not kept any more cannot be removed; it is tried again", "path", path, "error", err)
		}
		d.queue, d.err = append(d.queue, path), err
	} else {
		d.err = nil
	}
	if len(d.queue) == 0 {
		d.queue = nil
	}
}

// Deletions returns how many bundles wait to be removed, and why they cannot be now.
func (s *Store) Deletions() (waiting int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.deletions.queue), s.deletions.err
}

// errStopped says that the store is being closed.
var errStopped = errors.New("the store is being closed")
