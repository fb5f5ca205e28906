package operations

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"sync"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
)

// Channels creates, changes and removes channels.
type Channels struct {
	desk       *Desk
	origin     *origin.Origin
	plans      *Plans
	images     *Images
	recordings *Recordings
	trials     *Trials
	history    history
	setup      *sync.Mutex // one change of channels and of what they use at a time
}

// NewChannels looks after the channels of an origin. Start starts those that are stored.
func NewChannels(d *Desk, o *origin.Origin, plans *Plans, images *Images, recordings *Recordings, trials *Trials) *Channels {
	return &Channels{desk: d, origin: o, plans: plans, images: images, recordings: recordings, trials: trials, setup: &images.setup}
}

// Start starts the stored channels.
func (c *Channels) Start(ctx context.Context) error {
	if err := c.desk.DB.EndOpenFeeds(ctx, "the service was not stopped in good order"); err != nil {
		return err
	}
	c.desk.learn(ctx)
	list, err := c.desk.DB.Channels(ctx)
	if err != nil {
		return fmt.Errorf("reading the channels: %w", err)
	}
	for _, stored := range list {
		var set settings.Settings
		if err := json.Unmarshal([]byte(stored.Settings), &set); err != nil {
			return fmt.Errorf("settings of channel %s: %w", stored.Slug, err)
		}
		set, err := c.desk.Sealer.unsealed(set)
		if err != nil {
			c.tell(stored.Slug, events.Failure, "secret-lost", "A secret of the stored channel was lost: "+err.Error()+".", "Give the channel's inputs and its passphrase their secrets again.")
		}
		if _, err := c.origin.Add(set, stored.Created, publish.Position{NextMSN: stored.NextMSN, Discontinuities: stored.Discontinuities}); err != nil {
			c.tell(stored.Slug, events.Failure, "channel-refused", "The stored channel could not be started: "+err.Error(), "Change its settings.")
			continue
		}
		c.recordings.updateRetention(stored.Slug)
		c.history.begin(stored.Slug, stored.Revision, set)
		c.recallFeed(ctx, stored.Slug)
		c.recallMarkers(ctx, stored.Slug)
	}
	return nil
}

func (c *Channels) tell(slug string, level events.Level, kind, text, do string) {
	c.desk.Event(events.Event{At: time.Now(), Channel: slug, Level: level, Kind: kind, Text: text, Do: do})
}

// recallFeed tells a channel how its last feed ended.
func (c *Channels) recallFeed(ctx context.Context, slug string) {
	list, err := c.desk.DB.Feeds(ctx, slug, 1)
	if err == nil && len(list) == 1 && list[0].Ended != nil {
		c.origin.Channel(slug).SetLastFeed(status.LastFeed{Remote: list[0].Remote, Ended: *list[0].Ended, Reason: list[0].Reason})
	}
}

// recallMarkers gives a channel the markers that were stored.
func (c *Channels) recallMarkers(ctx context.Context, slug string) {
	list, err := c.desk.DB.Markers(ctx, slug)
	if err != nil {
		c.desk.Logger.Warn("the markers of a channel could not be read", "channel", slug, "error", err)
		return
	}
	var out []publish.Marker
	for _, r := range list {
		var m publish.Marker
		if json.Unmarshal([]byte(r.Content), &m) == nil {
			out = append(out, m)
		}
	}
	c.origin.Channel(slug).RecallMarkers(out)
}

// Find returns a running channel.
func (c *Channels) Find(slug string) (*origin.Channel, error) {
	if found := c.origin.Channel(slug); found != nil {
		return found, nil
	}
	return nil, refuse(NotFound, "metaplasis channels list names those there are.", "there is no channel %q", slug)
}

// All are the running channels, by slug.
func (c *Channels) All() []*origin.Channel { return c.origin.Channels() }

// Revision is that of a channel's settings.
func (c *Channels) Revision(slug string) uint64 { return c.history.revision(slug) }

// Add creates a channel. by is the user who does.
func (c *Channels) Add(ctx context.Context, in settings.Settings, by string) (*origin.Channel, error) {
	in = in.WithDefaults().KeepSecrets(settings.Settings{})
	var err error
	if in.Ladder, err = c.plans.use(ctx, in.Ladder); err != nil {
		return nil, err
	}
	if p := c.problems(&in); len(p) > 0 {
		return nil, &settings.InvalidError{Problems: p}
	}
	c.setup.Lock()
	defer c.setup.Unlock()
	created := time.Now().UTC().Truncate(time.Millisecond)
	text, err := json.Marshal(c.desk.Sealer.sealed(in))
	if err != nil {
		return nil, err
	}
	next, breaks, err := c.desk.DB.AddChannel(ctx, in.Slug, string(text), created)
	if err != nil {
		return nil, err
	}
	added, err := c.origin.Add(in, created, publish.Position{NextMSN: next, Discontinuities: breaks})
	if err != nil {
		return nil, err
	}
	c.recordings.updateRetention(in.Slug)
	c.history.begin(in.Slug, 1, in)
	c.desk.changed()
	c.tell(in.Slug, events.Info, "channel-created", "The channel was created by "+by+".", "")
	return added, nil
}

// problems lists what is wrong with settings, also with what they refer to.
func (c *Channels) problems(set *settings.Settings) []ladder.Problem {
	return append(append(set.Check(), c.images.problems(set.Ladder.Rungs, set.Inputs)...), c.circles(*set)...)
}

// Change puts a change, as JSON fields, over a channel's settings.
func (c *Channels) Change(ctx context.Context, slug string, in map[string]any, by string) (*origin.Channel, error) {
	found, err := c.Find(slug)
	if err != nil {
		return nil, err
	}
	c.setup.Lock()
	defer c.setup.Unlock()
	change, err := merge(found.Settings().Shown(), in)
	if err != nil {
		return nil, err
	}
	if err := c.history.check(slug, change.Revision, found.Settings()); err != nil {
		return nil, err
	}
	if in["ladder"] != nil {
		if change.Ladder, err = c.plans.use(ctx, change.Ladder); err != nil {
			return nil, err
		}
	}
	return found, c.apply(ctx, found, change.Settings, by)
}

// groups are the names of the groups of settings.
var groups = func() (out map[string]bool) {
	out = map[string]bool{}
	for f := range reflect.TypeFor[settings.Settings]().Fields() {
		if f.Anonymous {
			out[f.Tag.Get("json")] = true
		}
	}
	return out
}()

// merge puts a change over settings. Within a group each setting is for itself.
func merge(set settings.Settings, in map[string]any) (change api.Change, err error) {
	const do = "Send one JSON value as " + api.Prefix + "/openapi.json describes it."
	all := asFields(set)
	for name, v := range in {
		group, _ := all[name].(map[string]any)
		if !groups[name] || v == nil || group == nil {
			all[name] = v
			continue
		}
		some, ok := v.(map[string]any)
		if !ok {
			return change, Refuse(Malformed, fmt.Sprintf("found %s of another type, expected an object with the settings to change", name), do)
		}
		maps.Copy(group, some)
	}
	text, err := json.Marshal(all)
	if err != nil {
		return change, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&change); err != nil {
		return change, Refuse(Malformed, "the change could not be read: "+err.Error(), do)
	}
	if change.Slug != set.Slug {
		return change, Refuse(Malformed, fmt.Sprintf("found the slug %.70q, expected %s: it stays for good", change.Slug, set.Slug), "Leave it out.")
	}
	return change, nil
}

// apply checks, stores and applies settings, in this order: what runs is what is stored. It needs the lock of changes.
func (c *Channels) apply(ctx context.Context, to *origin.Channel, set settings.Settings, by string) error {
	set = set.WithDefaults().KeepSecrets(to.Settings())
	if p := c.problems(&set); len(p) > 0 {
		return &settings.InvalidError{Problems: p}
	}
	text, err := json.Marshal(c.desk.Sealer.sealed(set))
	if err != nil {
		return err
	}
	slug := to.Slug()
	revision := c.history.revision(slug) + 1
	if err := c.desk.DB.SetChannel(ctx, slug, string(text), revision); err != nil {
		return err
	}
	if err := to.Apply(set); err != nil {
		return err
	}
	c.recordings.updateRetention(slug)
	c.history.add(slug, revision, set)
	c.desk.changed()
	c.tell(slug, events.Info, "channel-changed", "The settings were changed by "+by+"; they take effect at the next segment.", "")
	return nil
}

// removalLease is how many numbers a channel may use while it is being removed.
const removalLease = 16

// Remove removes a channel with its keys. What is recorded of it stays.
func (c *Channels) Remove(ctx context.Context, slug, by string) error {
	c.setup.Lock()
	defer c.setup.Unlock()
	found, err := c.Find(slug)
	if err != nil {
		return err
	}
	// Numbers in use while the records are changed are within what is kept.
	at := found.Position()
	if err := c.desk.DB.RemoveChannel(ctx, slug, at.NextMSN+removalLease, at.Discontinuities+removalLease); err != nil {
		return err
	}
	if err := c.origin.Remove(slug); err != nil && !errors.Is(err, origin.ErrUnknownChannel) {
		return err
	}
	c.recordings.decide(slug, true)
	c.desk.keys.forget(slug, allKeys)
	c.desk.changed()
	c.history.forget(slug)
	c.trials.stop(slug)
	c.tell(slug, events.Info, "channel-removed", "The channel was removed by "+by+".", "")
	return nil
}

// Ladder is a channel's ladder in force.
func (c *Channels) Ladder(slug string) (api.NewLadder, error) {
	found, err := c.Find(slug)
	if err != nil {
		return api.NewLadder{}, err
	}
	l := found.Settings().Ladder
	if l.Planned {
		l.Rungs = found.Status().Rungs
	}
	return api.NewLadder{Ladder: l, Revision: c.history.revision(slug)}, nil
}

// SetLadder replaces a channel's ladder.
func (c *Channels) SetLadder(ctx context.Context, slug string, change api.NewLadder, by string) error {
	found, err := c.Find(slug)
	if err != nil {
		return err
	}
	in := change.Ladder
	if in.Planned {
		in.Rungs, in.Plan = nil, nil
	} else if len(in.Rungs) == 0 && in.Plan == nil {
		return &settings.InvalidError{Problems: []ladder.Problem{{Field: "rungs",
			Text: "found none, expected at least one, or planned set to true for the default ladder"}}}
	}
	c.setup.Lock()
	defer c.setup.Unlock()
	if err := c.history.check(slug, change.Revision, found.Settings()); err != nil {
		return err
	}
	set := found.Settings()
	if set.Ladder, err = c.plans.use(ctx, in); err != nil {
		return err
	}
	return c.apply(ctx, found, set, by)
}

// Forecast says whether the machine is likely to keep up with a ladder.
func (c *Channels) Forecast(ctx context.Context, slug string, l ladder.Ladder) (govern.Outlook, error) {
	found, err := c.Find(slug)
	if err != nil {
		return govern.Outlook{}, err
	}
	if l, err = c.plans.use(ctx, l); err != nil {
		return govern.Outlook{}, err
	}
	if p := append(l.Check(), c.images.problems(l.Rungs, nil)...); len(p) > 0 {
		return govern.Outlook{}, &settings.InvalidError{Problems: p}
	}
	return found.Forecast(l), nil
}

// ProposeLadder proposes a ladder for the source that is connected, or for 1080p30.
func (c *Channels) ProposeLadder(slug string) (ladder.Ladder, error) {
	found, err := c.Find(slug)
	if err != nil {
		return ladder.Ladder{}, err
	}
	var video, sound *media.Track
	if f := found.Status().Feed; f != nil {
		for i := range f.Tracks {
			switch t := &f.Tracks[i]; {
			case t.Kind == media.Video:
				video = t
			case t.Kind == media.Audio && sound == nil:
				sound = t
			}
		}
	}
	if video == nil {
		video = &media.Track{Width: 1920, Height: 1080, FrameRate: media.Rational{Num: 30, Den: 1}}
	}
	return ladder.Ladder{Planned: true, Rungs: ladder.Default(video, sound)}, nil
}

// Choose puts an input on air by hand; the zero value leaves it to the order of the inputs.
func (c *Channels) Choose(slug string, in settings.Input) error {
	found, err := c.Find(slug)
	if err != nil {
		return err
	}
	if found.Choose(in) != nil {
		return refuse(Malformed, "Name one of its inputs, or none for their order.", "the channel has no input %q", in)
	}
	return nil
}

// Mark sets a marker.
func (c *Channels) Mark(slug string, in api.NewMarker) (publish.Marker, error) {
	found, err := c.Find(slug)
	if err != nil {
		return publish.Marker{}, err
	}
	m, err := found.Mark(publish.Marker{Class: in.Class, Text: in.Text, At: in.At, DurationMillis: in.DurationMillis})
	if errors.Is(err, publish.ErrBadMarker) {
		return m, Refuse(Malformed, err.Error(), "Correct it and send it again.")
	}
	return m, err
}

// SetPlaying changes what a channel says is playing.
func (c *Channels) SetPlaying(slug string, in publish.NowPlaying) error {
	found, err := c.Find(slug)
	if err != nil {
		return err
	}
	if err := found.SetPlaying(in); errors.Is(err, publish.ErrBadPlaying) {
		return Refuse(Malformed, err.Error(), "Correct it and send it again.")
	} else if err != nil {
		return err
	}
	return nil
}
