package control

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
)

// storeTimeout bounds every wait of the media path's helpers for the database.
const storeTimeout = 3 * time.Second

func brief() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), storeTimeout)
}

// The service is the origin's keeper and its gate.
var (
	_ origin.Keeper = (*Service)(nil)
	_ origin.Gate   = (*Service)(nil)
)

// Reserve implements origin.Keeper.
func (s *Service) Reserve(channel string, p origin.Position) error {
	ctx, cancel := brief()
	defer cancel()
	return s.db.Reserve(ctx, channel, p.NextMSN, p.Discontinuities)
}

// Settle stores a channel's exact numbering.
func (s *Service) Settle(channel string, p origin.Position) error {
	ctx, cancel := brief()
	defer cancel()
	return s.db.Settle(ctx, channel, p.NextMSN, p.Discontinuities)
}

// Event implements origin.Keeper.
func (s *Service) Event(e origin.Event) {
	ctx, cancel := brief()
	defer cancel()
	id, err := s.db.AddEvent(ctx, records.Event{At: e.At.UTC(), Channel: e.Channel, Level: string(e.Level), Kind: e.Kind, Text: e.Text, Remedy: e.Do})
	if err != nil {
		s.logger.Error("an event could not be stored", "event", e.Text, "error", err)
	}
	e.ID = id
	s.hub.event(e)
}

// FeedBegun implements origin.Keeper.
func (s *Service) FeedBegun(f origin.FeedRecord) int64 {
	ctx, cancel := brief()
	defer cancel()
	id, err := s.db.AddFeed(ctx, records.Feed{Channel: f.Channel, Protocol: f.Protocol, Remote: f.Remote, Begun: f.Begun.UTC(), Tracks: "[]"})
	if err != nil {
		s.logger.Error("a feed could not be stored", "channel", f.Channel, "error", err)
	}
	return id
}

// FeedTracks implements origin.Keeper.
func (s *Service) FeedTracks(id int64, tracks []media.Track) {
	ctx, cancel := brief()
	defer cancel()
	text, err := json.Marshal(tracks)
	if err == nil {
		err = s.db.SetFeedTracks(ctx, id, string(text))
	}
	if err != nil {
		s.logger.Error("a feed's tracks could not be stored", "error", err)
	}
}

// FeedEnded implements origin.Keeper.
func (s *Service) FeedEnded(id int64, at time.Time, reason string) {
	ctx, cancel := brief()
	defer cancel()
	if err := s.db.EndFeed(ctx, id, at.UTC(), reason); err != nil {
		s.logger.Error("a feed's end could not be stored", "error", err)
	}
}

// Admit implements origin.Gate.
func (s *Service) Admit(channel, key string) error {
	ctx, cancel := brief()
	defer cancel()
	err := s.db.UseKey(ctx, channel, key)
	if errors.Is(err, records.ErrNotFound) {
		return origin.ErrBadKey
	}
	return err
}
