package origin

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/events"
	"metaplasis/internal/network"
	"metaplasis/internal/settings"
)

// Open admits a sender to a channel. The errors are ErrUnknownChannel, ErrNotAllowed, ErrBadKey, ErrEnded, ErrNoInput and
// ErrTaken, each with what to do.
func (o *Origin) Open(s contribution.Sender) (*Feed, error) {
	c, grant, err := o.check(s)
	if err != nil {
		return nil, err
	}
	if err := o.Gate.AskAdmission(s); err != nil {
		return nil, o.refuse(s, ErrNotAllowed, s.Channel, fmt.Sprintf("a program that is asked refused it: %s.", err), "Ask whoever runs that program.")
	}
	f := o.newFeed(c, settings.Input{}, s.Protocol, s.Remote)
	f.air.Silence = cmp.Or(s.Silence, f.air.Silence)
	f.key, f.air.Expires = grant.Key, grant.Expires
	if err := c.outlast(grant.Input, func() error { return c.admitSender(f, grant.Input) }); err != nil {
		return nil, o.notAdmitted(s, grant, err)
	}
	return f, nil
}

// May reports whether Open would admit a sender now, without admitting it. The errors are those of Open.
func (o *Origin) May(s contribution.Sender) error {
	c, grant, err := o.check(s)
	if err != nil {
		return err
	}
	if err := c.outlast(grant.Input, func() error { return c.wouldAdmit(grant.Input) }); err != nil {
		return o.notAdmitted(s, grant, err)
	}
	return nil
}

func (o *Origin) refuse(s contribution.Sender, err error, channel, text, do string) error {
	o.event(events.Event{At: o.Now(), Channel: channel, Level: events.Warning, Kind: "feed-refused",
		Text: fmt.Sprintf("%s from %s: %s", s.Protocol, s.Remote, text), Do: do, Like: network.Of(s.Remote) + text})
	return fmt.Errorf("%s %w", do, err)
}

// check looks at everything that does not depend on who else is there.
func (o *Origin) check(s contribution.Sender) (*Channel, Grant, error) {
	c := o.Channel(s.Channel)
	if c == nil {
		return nil, Grant{}, o.refuse(s, ErrUnknownChannel, "", fmt.Sprintf("there is no channel %q.", settings.Clip(s.Channel)),
			"Create the channel, or correct its name in the encoder's server address.")
	}
	if set := c.Settings(); !set.Admits(s.Remote) {
		return nil, Grant{}, o.refuse(s, ErrNotAllowed, s.Channel, "its address is not among those from which senders are let in.",
			"Add its network to the channel's sender networks, or send from one of them.")
	}
	grant, err := o.Gate.Admit(s)
	switch {
	case errors.Is(err, ErrManyKeys):
		err = o.refuse(s, ErrManyKeys, s.Channel, "too many keys that nobody knows come at a time; it was not checked.",
			"Try again in a second. Senders that were on air before are let in at once.")
	case errors.Is(err, ErrUnchecked):
		err = o.refuse(s, ErrUnchecked, s.Channel, "the contribution key cannot be checked now, since the database does not answer.",
			"Try again in a while; senders that were on air before may come back at once.")
	case err != nil:
		err = o.refuse(s, ErrBadKey, s.Channel, "the contribution key is wrong.",
			"Copy the key from the channel's sender settings again, or make a new one.")
	case !grant.Expires.IsZero() && o.Now().After(grant.Expires):
		err = o.refuse(s, ErrBadKey, s.Channel, "the contribution key has expired.", "Make a new key.")
	case grant.Protocol != "" && !strings.EqualFold(strings.TrimSuffix(s.Protocol, "S"), strings.TrimSuffix(grant.Protocol, "S")):
		err = o.refuse(s, ErrBadKey, s.Channel, fmt.Sprintf("the contribution key is for %s alone.", grant.Protocol),
			"Send over that, or make a key for this protocol.")
	}
	return c, grant, err
}

// notAdmitted tells why a sender with the right key is not let in.
func (o *Origin) notAdmitted(s contribution.Sender, grant Grant, err error) error {
	switch {
	case errors.Is(err, ErrUnknownChannel):
		return o.refuse(s, err, "", "the channel is being removed.", "Send to another channel.")
	case errors.Is(err, errEnded):
		return o.refuse(s, err, s.Channel, "the channel is closed.", "Open the channel again in its settings, then connect.")
	case errors.Is(err, ErrNoInput) && grant.Input != "":
		return o.refuse(s, err, s.Channel, fmt.Sprintf("the channel has no input for senders with the name %q, to which the key leads.", grant.Input),
			"Add it to the channel's inputs, or use another key.")
	case errors.Is(err, ErrNoInput):
		return o.refuse(s, err, s.Channel, "the channel takes no senders.", "Add a sender to the channel's inputs, then connect.")
	}
	return o.refuse(s, err, s.Channel, "another sender is on the channel.",
		"Stop the other sender first, or give this one a channel of its own, or a further input for senders.")
}

// OpenPlayer puts an input of a channel on air that plays by itself. The errors are ErrUnknownChannel, ErrEnded, ErrNoInput
// and ErrTaken.
func (o *Origin) OpenPlayer(slug string, in settings.Input) (*Feed, error) {
	c := o.Channel(slug)
	if c == nil {
		return nil, ErrUnknownChannel
	}
	f := o.newFeed(c, in, in.Kind, cmp.Or(in.File, in.Kind))
	if err := c.admit(f); err != nil {
		return nil, err
	}
	return f, nil
}

// OpenSource puts an input of a channel on air, or lets it stand by, that the service fetches or receives. The errors
// are those of OpenPlayer.
func (o *Origin) OpenSource(slug string, in settings.Input, protocol, remote string, silence time.Duration) (*Feed, error) {
	c := o.Channel(slug)
	if c == nil {
		return nil, ErrUnknownChannel
	}
	f := o.newFeed(c, in, protocol, remote)
	f.air.Silence = cmp.Or(silence, f.air.Silence)
	if err := c.admit(f); err != nil {
		return nil, err
	}
	return f, nil
}

// admitSender lets a sender in by one of the channel's inputs for senders: the one of a name, or the best one that nobody uses.
func (c *Channel) admitSender(f *Feed, name string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	f.air.Input = c.air.SenderInput(name, c.now())
	return c.admitNow(f)
}

// admit lets a feed in by its input.
func (c *Channel) admit(f *Feed) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.admitNow(f)
}

// admitNow is admit with the channel's lock held.
func (c *Channel) admitNow(f *Feed) error {
	c.feeds[f.air] = f
	list, err := c.air.Admit(f.air, c.now())
	c.decide(list)
	if err != nil {
		delete(c.feeds, f.air)
	}
	return err
}

// wouldAdmit reports whether a sender would be let in now.
func (c *Channel) wouldAdmit(name string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.now()
	return c.air.WouldAdmit(c.air.SenderInput(name, now), now)
}

// outlastFor is how long a sender waits for one that may be dead.
//
//limit:how long a sender waits for another one that is silent | each sender | it is refused
const outlastFor = 3 * time.Second

// outlast lets a sender in that comes while another one is there of which nothing comes: one whose connection died without a word
// and who is back at once. It waits until the other one has been silent for long enough, or is heard.
func (c *Channel) outlast(name string, admit func() error) error {
	const look = 250 * time.Millisecond
	heard := c.lastHeard(name)
	err := admit()
	for begun := time.Now(); errors.Is(err, ErrTaken) && time.Since(begun) < outlastFor; err = admit() {
		time.Sleep(look)
		if c.lastHeard(name) != heard {
			return err
		}
	}
	return err
}

// lastHeard is when something came of who uses an input for senders.
func (c *Channel) lastHeard(name string) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if u := c.air.User(c.air.SenderInput(name, c.now())); u != nil {
		return u.Heard()
	}
	return time.Time{}
}
