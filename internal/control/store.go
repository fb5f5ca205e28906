package control

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/events"
	"metaplasis/internal/records"
	"metaplasis/internal/store"
)

// keepsNothing is the answer when there is no store.
func keepsNothing() error {
	return fail(http.StatusConflict, "the service keeps nothing", "Start it with a folder for --store.")
}

func (s *Service) showStore(http.ResponseWriter, *http.Request) (any, error) {
	st := s.kept.store
	if st == nil {
		return nil, keepsNothing()
	}
	out := api.Store{Place: st.Place(), Quarantine: st.Quarantined()}
	waiting, err := st.Deletions()
	if out.Deletions = waiting; err != nil {
		out.DeletionError = err.Error()
	}
	return out, nil
}

func (s *Service) removeQuarantined(_ http.ResponseWriter, r *http.Request) (any, error) {
	return s.decideQuarantine(r, "removed", func(slug string) (store.Quarantine, error) { return s.kept.store.RemoveQuarantined(slug) })
}

// adoptQuarantined makes a recording of what is in quarantine, which holds it from then on.
func (s *Service) adoptQuarantined(_ http.ResponseWriter, r *http.Request) (any, error) {
	return s.decideQuarantine(r, "adopted as a recording", func(slug string) (q store.Quarantine, err error) {
		for _, q = range s.kept.store.Quarantined() {
			if q.Channel != slug {
				continue
			}
			ended := q.Newest.UTC().Add(time.Millisecond)
			rec := records.Recording{Channel: slug, Kind: kindHand, Begun: q.Oldest.UTC().Truncate(time.Millisecond), Ended: &ended, Renditions: "null", Author: who(r).User,
				Title: "Found in the store, " + q.Oldest.UTC().Format("2 January 2006 15:04") + " UTC"}
			if err := s.store(r.Context(), &rec); err != nil {
				return q, err
			}
			return s.kept.store.AdoptQuarantined(slug)
		}
		return q, fmt.Errorf("nothing of %s is in quarantine", slug)
	})
}

func (s *Service) decideQuarantine(r *http.Request, done string, do func(slug string) (store.Quarantine, error)) (any, error) {
	if s.kept.store == nil {
		return nil, keepsNothing()
	}
	slug := chi.URLParam(r, "channel")
	q, err := do(slug)
	if err != nil {
		return nil, fail(http.StatusNotFound, err.Error(), "metaplasis store show lists what is in quarantine.")
	}
	s.Event(events.Event{At: time.Now(), Channel: slug, Level: events.Info, Kind: "quarantine-decided",
		Text: fmt.Sprintf("What was in quarantine of %s (%d files, %d MB) was %s by %s.", slug, 2*q.Bundles, q.Bytes>>20, done, who(r).User)})
	return q, nil
}

// verifyWithin bounds one verification: of 200 GB at 100 MB a second.
const verifyWithin = 40 * time.Minute

func (s *Service) verifyRecording(w http.ResponseWriter, r *http.Request) (any, error) {
	rec, err := s.recordingOf(r)
	if err != nil {
		return nil, err
	}
	if s.kept.store == nil {
		return nil, keepsNothing()
	}
	ctx, cancel := context.WithTimeout(r.Context(), verifyWithin)
	defer cancel()
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(verifyWithin))
	report, err := s.kept.store.Verify(ctx, rec.Channel, holdOf(&rec))
	if err != nil {
		return nil, fail(http.StatusServiceUnavailable, "the recording could not be verified: "+err.Error(), "Try again in a while.")
	}
	if !report.Sound() {
		s.Event(events.Event{At: time.Now(), Channel: rec.Channel, Level: events.Failure, Kind: "recording-damaged",
			Text: fmt.Sprintf("The recording %q is not whole: %d of its files are missing, %d are damaged, %d cannot be read now.", rec.Title, len(report.Missing), len(report.Damaged), len(report.Unread)),
			Do:   "Bring the files back from a copy of the store. metaplasis recordings verify names them."})
	}
	return report, nil
}
