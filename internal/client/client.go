// Package client is the Go client of the control API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/library"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// Client calls one service.
//
//large:a method for each call of the API
type Client struct {
	Server string // such as http://127.0.0.1:8780
	Token  string
	HTTP   *http.Client // nil: one with a timeout
}

// Error is an answer that refuses.
type Error struct {
	Status int
	Body   api.Error
}

func (e *Error) Error() string {
	s := e.Body.Text
	for _, p := range e.Body.Problems {
		s += "\n  " + p.String()
	}
	if e.Body.Do != "" {
		s += "\n" + e.Body.Do
	}
	return s
}

var defaultHTTP = &http.Client{Timeout: 30 * time.Second}

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Request, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.Server, "/")+api.Prefix+path, body)
	if err != nil {
		return nil, fmt.Errorf("address of the service: %w", err)
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	return req, nil
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	req, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	h := c.HTTP
	if h == nil {
		h = defaultHTTP
	}
	res, err := h.Do(req)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.Server, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 400 {
		return refusal(res)
	}
	if out == nil {
		return nil
	}
	if file, ok := out.(*file); ok {
		*file, err = io.ReadAll(io.LimitReader(res.Body, maxFile))
		return err
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s could not be read: %w", c.Server, err)
	}
	return nil
}

// file is an answer that is no JSON.
type file []byte

//limit:bytes of a file that the CLI sends in one piece | each command | the command fails
const maxFile = 8 << 20

func refusal(res *http.Response) error {
	e := &Error{Status: res.StatusCode}
	if json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&e.Body) != nil || e.Body.Text == "" {
		e.Body.Text = "the service answered " + res.Status
	}
	return e
}

func call[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	return out, c.do(ctx, method, path, in, &out)
}

func seg(s string) string { return url.PathEscape(s) }

// SignIn checks a password and makes a client token with the session that this begins.
func (c *Client) SignIn(ctx context.Context, user, password, label string) (api.Token, error) {
	req, err := c.request(ctx, "POST", "/sign-in", api.SignIn{User: user, Password: password})
	if err != nil {
		return api.Token{}, err
	}
	res, err := defaultHTTP.Do(req)
	if err != nil {
		return api.Token{}, fmt.Errorf("the service at %s does not answer: %w", c.Server, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 400 {
		return api.Token{}, refusal(res)
	}
	session := *c
	for _, k := range res.Cookies() {
		session.Token = k.Value
	}
	t, err := call[api.Token](ctx, &session, "POST", "/tokens", api.NewLabel{Label: label})
	if err != nil {
		return api.Token{}, err
	}
	return t, session.do(ctx, "POST", "/sign-out", nil, nil)
}

// Channels lists the channels.
func (c *Client) Channels(ctx context.Context) ([]api.Channel, error) {
	return call[[]api.Channel](ctx, c, "GET", "/channels", nil)
}

// Channel shows one.
func (c *Client) Channel(ctx context.Context, slug string) (api.Channel, error) {
	return call[api.Channel](ctx, c, "GET", "/channels/"+seg(slug), nil)
}

// CreateChannel creates one.
func (c *Client) CreateChannel(ctx context.Context, s settings.Settings) (api.Channel, error) {
	return call[api.Channel](ctx, c, "POST", "/channels", s)
}

// ChangeChannel changes one. The change holds what becomes another, in the shape of api.Change: a map, since
// a structure would name every setting.
func (c *Client) ChangeChannel(ctx context.Context, slug string, ch map[string]any) (api.Channel, error) {
	return call[api.Channel](ctx, c, "PATCH", "/channels/"+seg(slug), ch)
}

// RemoveChannel removes one.
func (c *Client) RemoveChannel(ctx context.Context, slug string) error {
	return c.do(ctx, "DELETE", "/channels/"+seg(slug), nil, nil)
}

// Markers lists a channel's markers.
func (c *Client) Markers(ctx context.Context, slug string) ([]publish.Marker, error) {
	return call[[]publish.Marker](ctx, c, "GET", "/channels/"+seg(slug)+"/markers", nil)
}

// Mark sets a marker.
func (c *Client) Mark(ctx context.Context, slug string, m api.NewMarker) (publish.Marker, error) {
	return call[publish.Marker](ctx, c, "POST", "/channels/"+seg(slug)+"/markers", m)
}

// SetPlaying changes what a channel says is playing.
func (c *Client) SetPlaying(ctx context.Context, slug string, p publish.NowPlaying) error {
	return c.do(ctx, "PUT", "/channels/"+seg(slug)+"/playing", p, nil)
}

// Timeline shows a channel's windows.
func (c *Client) Timeline(ctx context.Context, slug string) ([]publish.TimelineRow, error) {
	return call[[]publish.TimelineRow](ctx, c, "GET", "/channels/"+seg(slug)+"/timeline", nil)
}

// Items lists the files of the library.
func (c *Client) Items(ctx context.Context) ([]library.Entry, error) {
	return call[[]library.Entry](ctx, c, "GET", "/items", nil)
}

// Item shows one.
func (c *Client) Item(ctx context.Context, name string) (library.Entry, error) {
	return call[library.Entry](ctx, c, "GET", "/items/"+seg(name), nil)
}

// Code asks for a ladder of an item, of the usual heights or of those named.
func (c *Client) Code(ctx context.Context, name string, heights []int) (library.Entry, error) {
	return call[library.Entry](ctx, c, "POST", "/items/"+seg(name)+"/coding", api.NewCoding{Heights: heights})
}

// Coding lets the coding of an item "pause" or "resume"; "" removes it.
func (c *Client) Coding(ctx context.Context, name, what string) (library.Entry, error) {
	if what == "" {
		return call[library.Entry](ctx, c, "DELETE", "/items/"+seg(name)+"/coding", nil)
	}
	return call[library.Entry](ctx, c, "POST", "/items/"+seg(name)+"/coding/"+what, nil)
}

// RemoveItem removes an item with its files.
func (c *Client) RemoveItem(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/items/"+seg(name), nil, nil)
}

// VerifyRecording reads all that a recording holds.
func (c *Client) VerifyRecording(ctx context.Context, id int64) (store.Verification, error) {
	return call[store.Verification](ctx, c.withoutTimeout(), "POST", fmt.Sprintf("/recordings/%d/verify", id), nil)
}

// Store shows where what is kept lies.
func (c *Client) Store(ctx context.Context) (api.Store, error) {
	return call[api.Store](ctx, c, "GET", "/store", nil)
}

// AdoptQuarantined makes a recording of what is in quarantine of a channel.
func (c *Client) AdoptQuarantined(ctx context.Context, slug string) (store.Quarantine, error) {
	return call[store.Quarantine](ctx, c, "POST", "/store/quarantine/"+seg(slug)+"/adopt", nil)
}

// RemoveQuarantined removes it for good.
func (c *Client) RemoveQuarantined(ctx context.Context, slug string) (store.Quarantine, error) {
	return call[store.Quarantine](ctx, c, "DELETE", "/store/quarantine/"+seg(slug), nil)
}

// Recordings lists the recordings, the newest first; of one channel unless it is "".
func (c *Client) Recordings(ctx context.Context, slug string) ([]api.Recording, error) {
	return call[[]api.Recording](ctx, c, "GET", "/recordings?channel="+url.QueryEscape(slug), nil)
}

// Recording shows one.
func (c *Client) Recording(ctx context.Context, id int64) (api.Recording, error) {
	return call[api.Recording](ctx, c, "GET", fmt.Sprintf("/recordings/%d", id), nil)
}

// AddRecording records a channel.
func (c *Client) AddRecording(ctx context.Context, slug string, r api.NewRecording) (api.Recording, error) {
	return call[api.Recording](ctx, c, "POST", "/channels/"+seg(slug)+"/recordings", r)
}

// ChangeRecording changes what is said of a recording.
func (c *Client) ChangeRecording(ctx context.Context, id int64, r api.RecordingChange) (api.Recording, error) {
	return call[api.Recording](ctx, c, "PATCH", fmt.Sprintf("/recordings/%d", id), r)
}

// StopRecording ends one now.
func (c *Client) StopRecording(ctx context.Context, id int64) (api.Recording, error) {
	return call[api.Recording](ctx, c, "POST", fmt.Sprintf("/recordings/%d/stop", id), nil)
}

// RemoveRecording removes one.
func (c *Client) RemoveRecording(ctx context.Context, id int64) error {
	return c.do(ctx, "DELETE", fmt.Sprintf("/recordings/%d", id), nil, nil)
}

// Ladder shows a channel's ladder.
func (c *Client) Ladder(ctx context.Context, slug string) (ladder.Ladder, error) {
	return call[ladder.Ladder](ctx, c, "GET", "/channels/"+seg(slug)+"/ladder", nil)
}

// SetLadder replaces it.
func (c *Client) SetLadder(ctx context.Context, slug string, l ladder.Ladder) (ladder.Ladder, error) {
	return call[ladder.Ladder](ctx, c, "PUT", "/channels/"+seg(slug)+"/ladder", l)
}

// Plans lists the ladder plans.
func (c *Client) Plans(ctx context.Context) ([]api.PlanInUse, error) {
	return call[[]api.PlanInUse](ctx, c, "GET", "/plans", nil)
}

// Plan shows a version of a plan, the newest for 0.
func (c *Client) Plan(ctx context.Context, name string, version int) (api.PlanInUse, error) {
	path := "/plans/" + seg(name)
	if version > 0 {
		path += fmt.Sprintf("?version=%d", version)
	}
	return call[api.PlanInUse](ctx, c, "GET", path, nil)
}

// StorePlan stores a plan as its next version.
func (c *Client) StorePlan(ctx context.Context, p ladder.Plan) (api.PlanInUse, error) {
	return call[api.PlanInUse](ctx, c, "PUT", "/plans/"+seg(p.Name), p)
}

// RemovePlan removes a plan.
func (c *Client) RemovePlan(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/plans/"+seg(name), nil, nil)
}

// Images lists the images for logos and slates.
func (c *Client) Images(ctx context.Context) ([]api.Image, error) {
	return call[[]api.Image](ctx, c, "GET", "/images", nil)
}

// PutImage adds an image, or replaces it.
func (c *Client) PutImage(ctx context.Context, name string, file []byte) (api.Image, error) {
	return call[api.Image](ctx, c, "PUT", "/images/"+seg(name), api.NewImage{File: file})
}

// RemoveImage removes an image.
func (c *Client) RemoveImage(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/images/"+seg(name), nil, nil)
}

// Forecast says whether the machine is likely to keep up with a ladder.
func (c *Client) Forecast(ctx context.Context, slug string, l ladder.Ladder) (govern.Outlook, error) {
	return call[govern.Outlook](ctx, c, "POST", "/channels/"+seg(slug)+"/ladder/forecast", l)
}

// BeginTrial begins a trial.
func (c *Client) BeginTrial(ctx context.Context, slug string, t api.NewTrial) (api.Trial, error) {
	return call[api.Trial](ctx, c, "POST", "/channels/"+seg(slug)+"/trial", t)
}

// Trial shows the newest trial of a channel.
func (c *Client) Trial(ctx context.Context, slug string) (api.Trial, error) {
	return call[api.Trial](ctx, c, "GET", "/channels/"+seg(slug)+"/trial", nil)
}

// StopTrial stops the trial of a channel.
func (c *Client) StopTrial(ctx context.Context, slug string) error {
	return c.do(ctx, "DELETE", "/channels/"+seg(slug)+"/trial", nil, nil)
}

// Users lists the users.
func (c *Client) Users(ctx context.Context) ([]api.User, error) {
	return call[[]api.User](ctx, c, "GET", "/users", nil)
}

// AddUser makes a user.
func (c *Client) AddUser(ctx context.Context, u api.NewUser) (api.User, error) {
	return call[api.User](ctx, c, "POST", "/users", u)
}

// RemoveUser removes a user with their sessions and tokens.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/users/"+seg(name), nil, nil)
}

// PlanLadder proposes one.
func (c *Client) PlanLadder(ctx context.Context, slug string) (ladder.Ladder, error) {
	return call[ladder.Ladder](ctx, c, "GET", "/channels/"+seg(slug)+"/ladder/plan", nil)
}

// ChooseInput puts an input on air by hand, or leaves it to the order of the inputs with the zero value.
func (c *Client) ChooseInput(ctx context.Context, slug string, in settings.Input) error {
	return c.do(ctx, "PUT", "/channels/"+seg(slug)+"/input", api.Chosen{Input: in}, nil)
}

// Keys lists a channel's contribution keys.
func (c *Client) Keys(ctx context.Context, slug string) ([]api.Key, error) {
	return call[[]api.Key](ctx, c, "GET", "/channels/"+seg(slug)+"/keys", nil)
}

// Hooks lists the programs that are told what happens.
func (c *Client) Hooks(ctx context.Context) ([]hooks.Hook, error) {
	return call[[]hooks.Hook](ctx, c, "GET", "/hooks", nil)
}

// Studio lists the sources on the studio's network.
func (c *Client) Studio(ctx context.Context) (api.Studio, error) {
	return call[api.Studio](ctx, c, "GET", "/studio", nil)
}

// StudioPicture is a small picture of a source, JPEG.
func (c *Client) StudioPicture(ctx context.Context, source string) ([]byte, error) {
	return call[file](ctx, c, "GET", "/studio/"+seg(source)+"/picture", nil)
}

// AddHook adds one.
func (c *Client) AddHook(ctx context.Context, h hooks.Hook) (hooks.Hook, error) {
	return call[hooks.Hook](ctx, c, "POST", "/hooks", h)
}

// RemoveHook removes one.
func (c *Client) RemoveHook(ctx context.Context, id int64) error {
	return c.do(ctx, "DELETE", fmt.Sprintf("/hooks/%d", id), nil, nil)
}

// TryHook tells one something, and returns how that went.
func (c *Client) TryHook(ctx context.Context, id int64) (hooks.Delivery, error) {
	return call[hooks.Delivery](ctx, c, "POST", fmt.Sprintf("/hooks/%d/test", id), nil)
}

// Deliveries lists what hooks were told.
func (c *Client) Deliveries(ctx context.Context) (api.Deliveries, error) {
	return call[api.Deliveries](ctx, c, "GET", "/hooks/deliveries", nil)
}

// CreateKey makes one.
func (c *Client) CreateKey(ctx context.Context, slug string, k api.NewKey) (api.Key, error) {
	return call[api.Key](ctx, c, "POST", "/channels/"+seg(slug)+"/keys", k)
}

// RemoveKey removes one.
func (c *Client) RemoveKey(ctx context.Context, slug string, id int64) error {
	return c.do(ctx, "DELETE", fmt.Sprintf("/channels/%s/keys/%d", seg(slug), id), nil, nil)
}

// Feeds lists contribution connections, of all channels when channel is "".
func (c *Client) Feeds(ctx context.Context, channel string, limit int) ([]origin.FeedRecord, error) {
	return call[[]origin.FeedRecord](ctx, c, "GET", fmt.Sprintf("/feeds?channel=%s&limit=%d", url.QueryEscape(channel),
		limit), nil)
}

// Events lists events, of all channels when channel is "".
func (c *Client) Events(ctx context.Context, channel string, limit int) ([]events.Event, error) {
	return call[[]events.Event](ctx, c, "GET", fmt.Sprintf("/events?channel=%s&limit=%d", url.QueryEscape(channel), limit),
		nil)
}

// Live calls handle for each live update until the context ends or handle returns an error.
// Exactly one of its arguments is set.
func (c *Client) Live(ctx context.Context, handle func([]status.Status, *events.Event) error) error {
	req, err := c.request(ctx, "GET", "/live", nil)
	if err != nil {
		return err
	}
	res, err := (&http.Client{}).Do(req)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.Server, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 400 {
		return refusal(res)
	}
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 8<<20)
	kind := ""
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch name {
		case "event":
			kind = value
		case "data":
			var st []status.Status
			var ev *events.Event
			if kind == "status" {
				err = json.Unmarshal([]byte(value), &st)
			} else {
				ev = &events.Event{}
				err = json.Unmarshal([]byte(value), ev)
			}
			if err == nil {
				err = handle(st, ev)
			}
			if err != nil {
				return err
			}
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("the live connection to %s ended", c.Server)
}

// Health says what is wrong with the service itself.
func (c *Client) Health(ctx context.Context) (api.Health, error) {
	return call[api.Health](ctx, c, "GET", "/health", nil)
}

// Relays lists the relays of a channel.
func (c *Client) Relays(ctx context.Context, slug string) ([]api.ChannelRelay, error) {
	return call[[]api.ChannelRelay](ctx, c, "GET", "/channels/"+seg(slug)+"/relays", nil)
}

func relayPath(slug, name string) string { return "/channels/" + seg(slug) + "/relays/" + seg(name) }

// PutRelay adds a relay, or changes it.
func (c *Client) PutRelay(ctx context.Context, slug string, r settings.Relay) ([]api.ChannelRelay, error) {
	return call[[]api.ChannelRelay](ctx, c, "PUT", relayPath(slug, r.Name), r)
}

// RemoveRelay removes a relay.
func (c *Client) RemoveRelay(ctx context.Context, slug, name string) error {
	return c.do(ctx, "DELETE", relayPath(slug, name), nil, nil)
}

// TurnRelay lets a relay send from now on, or nothing more.
func (c *Client) TurnRelay(ctx context.Context, slug, name string, on bool) error {
	way := "/stop"
	if on {
		way = "/start"
	}
	return c.do(ctx, "POST", relayPath(slug, name)+way, nil, nil)
}

// TestRelay tries the far end of a relay.
func (c *Client) TestRelay(ctx context.Context, slug, name string) (api.RelayTest, error) {
	return call[api.RelayTest](ctx, c, "POST", relayPath(slug, name)+"/test", nil)
}

// Export writes records as a table: statistics, events or feeds.
func (c *Client) Export(ctx context.Context, what, channel, from, to string, w io.Writer) error {
	q := url.Values{}
	for name, v := range map[string]string{"channel": channel, "from": from, "to": to} {
		if v != "" {
			q.Set(name, v)
		}
	}
	req, err := c.request(ctx, http.MethodGet, "/export/"+seg(what)+".csv?"+q.Encode(), nil)
	if err != nil {
		return err
	}
	res, err := defaultHTTP.Do(req)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.Server, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		e := &Error{Status: res.StatusCode}
		_ = json.NewDecoder(io.LimitReader(res.Body, 1<<16)).Decode(&e.Body) // the status says it too
		return e
	}
	_, err = io.Copy(w, res.Body)
	return err
}
