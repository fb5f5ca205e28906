package service

import (
	"net/http"

	"metaplasis/internal/onward"
	"metaplasis/internal/origin"
)

// taps are an origin's channels for what carries them onward.
type taps struct{ o *origin.Origin }

// Tap implements onward.Channels.
func (t taps) Tap(slug string, choice onward.Choice) (onward.Tap, error) {
	c := t.o.Channel(slug)
	if c == nil {
		return nil, onward.ErrNoChannel
	}
	return c.Tap(choice), nil
}

// Runs implements onward.Channels.
func (t taps) Runs(slug string) (known, video, sound bool) {
	c := t.o.Channel(slug)
	if c == nil {
		return false, false, false
	}
	c.Watched()
	video, sound = c.Runs()
	return true, video, sound
}

// Offers implements onward.Channels.
func (t taps) Offers(slug string, real *onward.Real) []onward.Offer {
	if c := t.o.Channel(slug); c != nil {
		return c.Offers(real)
	}
	return nil
}

// mayWatch asks the authority that stands in front of all viewers.
func (s *Service) mayWatch(r *http.Request, channel string) error {
	return s.delivery.Authority.Watch(r, channel)
}

// viewers counts them by channel and by the way in which they watch.
func (s *Service) viewers() map[string]map[string]int {
	out := s.delivery.Viewers()
	add := func(way string, of map[string]int) {
		for channel, n := range of {
			if out[channel] == nil {
				out[channel] = map[string]int{}
			}
			out[channel][way] += n
		}
	}
	if s.whep != nil {
		add("webrtc", s.whep.Viewers())
	}
	return out
}
