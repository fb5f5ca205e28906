package operations

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
)

// Keys are the contribution keys of channels.
type Keys struct {
	desk   *Desk
	origin *origin.Origin
}

// NewKeys looks after the keys of an origin's channels.
func NewKeys(d *Desk, o *origin.Origin) *Keys { return &Keys{d, o} }

// keyProtocols are those that a key may be held to.
var keyProtocols = []string{"RTMP", "SRT", "RTSP", "WebRTC", "HTTP"}

// Add makes a key for a channel; its secret is told once.
func (k *Keys) Add(ctx context.Context, c *origin.Channel, in api.NewKey, by string) (api.Key, error) {
	if err := checkLabel(in.Label); err != nil {
		return api.Key{}, err
	}
	set, now := c.Settings(), time.Now().UTC()
	var err error
	switch {
	case in.Protocol != "" && !slices.Contains(keyProtocols, in.Protocol):
		err = refuse(Malformed, "", "found the protocol %.40q, expected one of %s", in.Protocol, strings.Join(keyProtocols, ", "))
	case in.Input != "" && !slices.ContainsFunc(set.Inputs, func(i settings.Input) bool { return i.Kind == settings.InputSender && i.Name == in.Input }):
		err = refuse(Malformed, "Add sender:NAME to its inputs first.", "the channel has no input for senders with the name %.40q", in.Input)
	case in.Receives && (in.Input != "" || in.Protocol != "" && in.Protocol != "SRT"):
		err = Refuse(Malformed, "found a key for receivers with an input or a protocol other than SRT", "Receivers need keys over SRT alone.")
	case in.Expires != nil && in.Expires.Before(now):
		err = Refuse(Malformed, "found a time of expiry that has passed", "Give one that lies ahead.")
	}
	if err != nil {
		return api.Key{}, err
	}
	secret := records.NewSecret()
	id, err := k.desk.DB.AddKey(ctx, c.Slug(), secret, records.Key{Label: in.Label, Input: in.Input, Protocol: in.Protocol, Expires: in.Expires, Receives: in.Receives})
	if err != nil {
		return api.Key{}, err
	}
	k.desk.Event(events.Event{At: time.Now(), Channel: c.Slug(), Level: events.Info, Kind: "key-created",
		Text: fmt.Sprintf("The contribution key %q was created by %s.", in.Label, by)})
	k.desk.changed()
	return api.Key{ID: id, Label: in.Label, Created: now, Input: in.Input, Protocol: in.Protocol, Expires: in.Expires, Receives: in.Receives, Secret: secret}, nil
}

// List lists the keys of a channel, without their secrets.
func (k *Keys) List(ctx context.Context, slug string) ([]api.Key, error) {
	list, err := k.desk.DB.Keys(ctx, slug)
	out := make([]api.Key, 0, len(list))
	for _, one := range list {
		out = append(out, api.Key{ID: one.ID, Label: one.Label, Created: one.Created, Used: one.Used, Input: one.Input, Protocol: one.Protocol, Expires: one.Expires, Receives: one.Receives})
	}
	return out, err
}

// Remove removes a key; senders that came with it are sent away.
func (k *Keys) Remove(ctx context.Context, slug string, id int64, by string) error {
	if err := k.desk.DB.RemoveKey(ctx, slug, id); err != nil {
		return err
	}
	k.desk.keys.forget(slug, id)
	k.origin.KeyRemoved(slug, id)
	k.desk.Event(events.Event{At: time.Now(), Channel: slug, Level: events.Info, Kind: "key-removed",
		Text: fmt.Sprintf("A contribution key was removed by %s.", by)})
	k.desk.changed()
	return nil
}
