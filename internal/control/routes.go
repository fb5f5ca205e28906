package control

import (
	"reflect"
	"slices"

	"metaplasis/internal/api"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/library"
	"metaplasis/internal/operations"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// route is one call of the API: what the router serves and what the document says of it.
type route struct {
	method, path string
	role         api.Role // that the caller needs; anyone needs none
	summary      string
	query        []string
	in, out      any // values of the bodies' types; nil for none
	handle       func(*request) (any, error)
}

// anyone is no role: the call is for everybody.
const anyone api.Role = ""

// routes are all calls of the API. The table is long, since each call is described once, here.
func routes() []route {
	return slices.Concat(userRoutes(), channelRoutes(), planRoutes(), keptRoutes(), lookRoutes())
}

// Types lists the types of all bodies of the API.
func Types() (out []reflect.Type) {
	for _, r := range routes() {
		for _, v := range []any{r.in, r.out} {
			if v != nil {
				out = append(out, reflect.TypeOf(v))
			}
		}
	}
	return append(out, reflect.TypeFor[api.Error]())
}

// userRoutes are the calls about who may do what.
func userRoutes() []route {
	return []route{
		{
			method: "POST", path: "/sign-in", role: anyone,
			summary: "Start a console session; the response sets its cookie.",
			in:      api.SignIn{}, out: api.Me{},
			handle: with(signIn),
		},
		{
			method: "POST", path: "/sign-out", role: api.Watch,
			summary: "End the session or token that makes this call.",
			handle:  signOut,
		},
		{
			method: "GET", path: "/me", role: api.Watch,
			summary: "Who is signed in.",
			out:     api.Me{},
			handle:  func(q *request) (any, error) { return api.Me{User: q.by(), Role: operations.RoleOf(q.token())}, nil },
		},
		{
			method: "POST", path: "/password", role: api.Watch,
			summary: "Change one's own password; this ends all console sessions.",
			in:      api.NewPassword{},
			handle: with(func(q *request, in api.NewPassword) (any, error) {
				return nil, q.Users.ChangePassword(q.ctx(), q.r.RemoteAddr, q.token(), in)
			}),
		},
		{
			method: "GET", path: "/tokens", role: api.Watch,
			summary: "List the client tokens.",
			out:     []api.Token{},
			handle:  func(q *request) (any, error) { return q.Users.Tokens(q.ctx(), q.token()) },
		},
		{
			method: "POST", path: "/tokens", role: api.Watch,
			summary: "Create a client token; its secret is shown once.",
			in:      api.NewToken{}, out: api.Token{},
			handle: with(func(q *request, in api.NewToken) (any, error) { return q.Users.AddToken(q.ctx(), q.token(), in) }),
		},
		{
			method: "DELETE", path: "/tokens/{id}", role: api.Watch,
			summary: "Revoke a client token.",
			handle:  of(func(q *request, id int64) (any, error) { return nil, q.Users.RemoveToken(q.ctx(), q.token(), id) }),
		},
		{
			method: "GET", path: "/users", role: api.Administer,
			summary: "List the users.",
			out:     []api.User{},
			handle:  func(q *request) (any, error) { return q.Users.List(q.ctx()) },
		},
		{
			method: "POST", path: "/users", role: api.Administer,
			summary: "Add a user.",
			in:      api.NewUser{}, out: api.User{},
			handle: with(func(q *request, in api.NewUser) (any, error) { return q.Users.Add(q.ctx(), q.r.RemoteAddr, in) }),
		},
		{
			method: "DELETE", path: "/users/{user}", role: api.Administer,
			summary: "Remove a user with their sessions and tokens.",
			handle:  func(q *request) (any, error) { return nil, q.Users.Remove(q.ctx(), q.token(), q.param("user")) },
		},
	}
}

// channelRoutes are the calls about channels, and what belongs to one.
//
//large:a table
func channelRoutes() []route {
	return []route{
		{
			method: "GET", path: "/channels", role: api.Watch,
			summary: "List the channels with their state and addresses.",
			out:     []api.Channel{},
			handle:  listChannels,
		},
		{
			method: "POST", path: "/channels", role: api.Operate,
			summary: "Create a channel; what is left out takes its default.",
			in:      settings.Settings{}, out: api.Channel{},
			handle: with(addChannel),
		},
		{
			method: "GET", path: "/channels/{channel}", role: api.Watch,
			summary: "Show a channel.",
			out:     api.Channel{},
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return q.describe(c), nil }),
		},
		{
			method: "PATCH", path: "/channels/{channel}", role: api.Operate,
			summary: "Change settings; they take effect at the next segment.",
			in:      api.Change{}, out: api.Channel{},
			handle: with(changeChannel),
		},
		{
			method: "DELETE", path: "/channels/{channel}", role: api.Operate,
			summary: "Remove a channel and its keys; its sender is disconnected.",
			handle:  func(q *request) (any, error) { return nil, q.Channels.Remove(q.ctx(), q.param("channel"), q.by()) },
		},
		{
			method: "GET", path: "/channels/{channel}/ladder", role: api.Watch,
			summary: "Show the ladder in force.",
			out:     api.NewLadder{},
			handle:  func(q *request) (any, error) { return q.Channels.Ladder(q.param("channel")) },
		},
		{
			method: "PUT", path: "/channels/{channel}/ladder", role: api.Operate,
			summary: "Replace the ladder; the change takes effect at the next segment.",
			in:      api.NewLadder{}, out: api.NewLadder{},
			handle: with(setLadder),
		},
		{
			method: "POST", path: "/channels/{channel}/ladder/forecast", role: api.Watch,
			summary: "Predict whether the machine can keep up with a ladder, without applying it.",
			in:      api.NewLadder{}, out: govern.Outlook{},
			handle: with(func(q *request, in api.NewLadder) (any, error) {
				return q.Channels.Forecast(q.ctx(), q.param("channel"), in.Ladder)
			}),
		},
		{
			method: "GET", path: "/channels/{channel}/ladder/plan", role: api.Watch,
			summary: "Propose a ladder for the source that is connected, or for 1080p30.",
			out:     ladder.Ladder{},
			handle:  func(q *request) (any, error) { return q.Channels.ProposeLadder(q.param("channel")) },
		},
		{
			method: "GET", path: "/channels/{channel}/trial", role: api.Watch,
			summary: "Show the newest trial of a channel, while it runs and after.",
			out:     api.Trial{},
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return q.Trials.Show(c.Slug()) }),
		},
		{
			method: "POST", path: "/channels/{channel}/trial", role: api.Operate,
			summary: "Encode the last seconds of the feed in the background with various settings, to compare quality, bitrate and CPU time.",
			in:      api.NewTrial{}, out: api.Trial{},
			handle: onWith(func(q *request, c *origin.Channel, in api.NewTrial) (any, error) { return q.Trials.Begin(c, in) }),
		},
		{
			method: "DELETE", path: "/channels/{channel}/trial", role: api.Operate,
			summary: "Stop the trial of a channel.",
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return nil, q.Trials.Stop(c.Slug()) }),
		},
		{
			method: "GET", path: "/channels/{channel}/relays", role: api.Watch,
			summary: "List the relays of a channel and their state.",
			out:     []api.ChannelRelay{},
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return q.Relays.List(c), nil }),
		},
		{
			method: "PUT", path: "/channels/{channel}/relays/{relay}", role: api.Operate,
			summary: "Add a relay, or change it.",
			in:      settings.Relay{}, out: []api.ChannelRelay{},
			handle: with(func(q *request, in settings.Relay) (any, error) {
				in.Name = q.relay()
				return q.Relays.Put(q.ctx(), q.param("channel"), in, q.by())
			}),
		},
		{
			method: "DELETE", path: "/channels/{channel}/relays/{relay}", role: api.Operate,
			summary: "Remove a relay.",
			out:     []api.ChannelRelay{},
			handle:  func(q *request) (any, error) { return q.Relays.Remove(q.ctx(), q.param("channel"), q.relay(), q.by()) },
		},
		{
			method: "POST", path: "/channels/{channel}/relays/{relay}/start", role: api.Operate,
			summary: "Start a relay.",
			out:     []api.ChannelRelay{},
			handle:  turnRelay(false),
		},
		{
			method: "POST", path: "/channels/{channel}/relays/{relay}/stop", role: api.Operate,
			summary: "Stop a relay.",
			out:     []api.ChannelRelay{},
			handle:  turnRelay(true),
		},
		{
			method: "POST", path: "/channels/{channel}/relays/{relay}/test", role: api.Operate,
			summary: "Test the connection of a relay.",
			out:     api.RelayTest{},
			handle:  func(q *request) (any, error) { return q.Relays.Test(q.ctx(), q.param("channel"), q.relay()) },
		},
		{
			method: "PUT", path: "/channels/{channel}/input", role: api.Operate,
			summary: "Put an input on air by hand, as soon as it has something; an empty kind leaves it to the order of the inputs.",
			in:      api.Chosen{},
			handle: with(func(q *request, in api.Chosen) (any, error) {
				return nil, q.Channels.Choose(q.param("channel"), in.Input)
			}),
		},
		{
			method: "GET", path: "/channels/{channel}/markers", role: api.Watch,
			summary: "List the markers that are remembered.",
			out:     []publish.Marker{},
			handle:  on(func(_ *request, c *origin.Channel) (any, error) { return c.Markers(), nil }),
		},
		{
			method: "POST", path: "/channels/{channel}/markers", role: api.Operate,
			summary: "Set a marker: players see it as a date range or an event. Without a time it stands at now.",
			in:      api.NewMarker{}, out: publish.Marker{},
			handle: with(func(q *request, in api.NewMarker) (any, error) { return q.Channels.Mark(q.param("channel"), in) }),
		},
		{
			method: "GET", path: "/channels/{channel}/playing", role: api.Watch,
			summary: "Show the now-playing metadata.",
			out:     publish.NowPlaying{},
			handle:  on(func(_ *request, c *origin.Channel) (any, error) { return c.Playing(), nil }),
		},
		{
			method: "PUT", path: "/channels/{channel}/playing", role: api.Operate,
			summary: "Set the now-playing metadata, from the next segment on.",
			in:      publish.NowPlaying{},
			handle: with(func(q *request, in publish.NowPlaying) (any, error) {
				return nil, q.Channels.SetPlaying(q.param("channel"), in)
			}),
		},
		{
			method: "GET", path: "/channels/{channel}/timeline", role: api.Watch,
			summary: "Show the window of each rendition, segment by segment and part by part.",
			out:     []publish.TimelineRow{},
			handle:  on(func(_ *request, c *origin.Channel) (any, error) { return c.Timeline(), nil }),
		},
		{
			method: "GET", path: "/channels/{channel}/keys", role: api.Watch,
			summary: "List the contribution keys.",
			out:     []api.Key{},
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return q.Keys.List(q.ctx(), c.Slug()) }),
		},
		{
			method: "POST", path: "/channels/{channel}/keys", role: api.Operate,
			summary: "Create a contribution key; its secret is shown once.",
			in:      api.NewKey{}, out: api.Key{},
			handle: onWith(addKey),
		},
		{
			method: "DELETE", path: "/channels/{channel}/keys/{id}", role: api.Operate,
			summary: "Remove a contribution key.",
			handle: of(func(q *request, id int64) (any, error) {
				return nil, q.Keys.Remove(q.ctx(), q.param("channel"), id, q.by())
			}),
		},
		{
			method: "GET", path: "/channels/{channel}/history", role: api.Watch,
			summary: "Show bitrate, load and viewers of the last hour.",
			out:     api.History{},
			handle:  on(func(q *request, c *origin.Channel) (any, error) { return q.Watch.LastHour(c.Slug()), nil }),
		},
	}
}

// planRoutes are the calls about what channels use.
//
//large:a table
func planRoutes() []route {
	return []route{
		{
			method: "GET", path: "/plans", role: api.Watch,
			summary: "List the ladder plans, the newest version of each, with the channels that use them.",
			out:     []api.PlanInUse{},
			handle:  func(q *request) (any, error) { return q.Plans.List(q.ctx()) },
		},
		{
			method: "GET", path: "/plans/{plan}", role: api.Watch,
			summary: "Show a ladder plan: its newest version, or another one.",
			query:   []string{"version"}, out: api.PlanInUse{},
			handle: showPlan,
		},
		{
			method: "PUT", path: "/plans/{plan}", role: api.Operate,
			summary: "Store a ladder plan as its next version. Channels go on with the one that they use.",
			in:      ladder.Plan{}, out: api.PlanInUse{},
			handle: with(func(q *request, in ladder.Plan) (any, error) {
				return q.Plans.Store(q.ctx(), q.param("plan"), in, q.by())
			}),
		},
		{
			method: "DELETE", path: "/plans/{plan}", role: api.Operate,
			summary: "Remove a ladder plan with all its versions. Channels that use it keep their rungs.",
			handle:  func(q *request) (any, error) { return nil, q.Plans.Remove(q.ctx(), q.param("plan")) },
		},
		{
			method: "GET", path: "/images", role: api.Watch,
			summary: "List the images for logos and slates.",
			out:     []api.Image{},
			handle:  func(q *request) (any, error) { return q.Images.List(), nil },
		},
		{
			method: "GET", path: "/images/{image}", role: api.Watch,
			summary: "Show the file of an image.",
			out:     api.NewImage{},
			handle: func(q *request) (any, error) {
				file, err := q.Images.File(q.param("image"))
				return api.NewImage{File: file}, err
			},
		},
		{
			method: "PUT", path: "/images/{image}", role: api.Operate,
			summary: "Add an image, or replace it: what uses it takes it from the next segment on.",
			in:      api.NewImage{}, out: api.Image{},
			handle: with(func(q *request, in api.NewImage) (any, error) {
				return q.Images.Put(q.ctx(), q.param("image"), in.File)
			}),
		},
		{
			method: "DELETE", path: "/images/{image}", role: api.Operate,
			summary: "Remove an image that nothing uses.",
			handle:  func(q *request) (any, error) { return nil, q.Images.Remove(q.ctx(), q.param("image")) },
		},
		{
			method: "GET", path: "/hooks", role: api.Administer,
			summary: "List the webhooks.",
			out:     []hooks.Hook{},
			handle:  func(q *request) (any, error) { return q.Hooks.List(q.ctx()) },
		},
		{
			method: "POST", path: "/hooks", role: api.Administer,
			summary: "Add a webhook; the secret that signs its requests is shown once.",
			in:      hooks.Hook{}, out: hooks.Hook{},
			handle: with(func(q *request, in hooks.Hook) (any, error) { return q.Hooks.Add(q.ctx(), in) }),
		},
		{
			method: "DELETE", path: "/hooks/{id}", role: api.Administer,
			summary: "Remove a webhook.",
			handle:  of(func(q *request, id int64) (any, error) { return nil, q.Hooks.Remove(q.ctx(), id) }),
		},
		{
			method: "POST", path: "/hooks/{id}/test", role: api.Administer,
			summary: "Send a test request to a webhook.",
			out:     hooks.Delivery{},
			handle:  of(func(q *request, id int64) (any, error) { return q.Hooks.Try(q.ctx(), id) }),
		},
		{
			method: "GET", path: "/hooks/deliveries", role: api.Administer,
			summary: "List webhook deliveries, newest first.",
			out:     api.Deliveries{},
			handle:  func(q *request) (any, error) { return q.Hooks.Deliveries(), nil },
		},
		{
			method: "GET", path: "/studio", role: api.Watch,
			summary: "List the sources on the studio's network.",
			out:     api.Studio{},
			handle:  showStudio,
		},
	}
}

// keptRoutes are the calls about what is kept, and files on demand.
//
//large:a table
func keptRoutes() []route {
	return []route{
		{
			method: "GET", path: "/recordings", role: api.Watch,
			summary: "List the recordings, the newest first: all, or a page of limit behind the id after; Link names the next page.",
			query:   []string{"channel", "limit", "after"}, out: []api.Recording{},
			handle: listRecordings,
		},
		{
			method: "POST", path: "/channels/{channel}/recordings", role: api.Operate,
			summary: "Record a channel: from now or another time on, until it is stopped or another time.",
			in:      api.NewRecording{}, out: api.Recording{},
			handle: onWith(func(q *request, c *origin.Channel, in api.NewRecording) (any, error) {
				return q.addressed(q.Recordings.Add(q.ctx(), c, in, q.by()))
			}),
		},
		{
			method: "GET", path: "/recordings/{id}", role: api.Watch,
			summary: "Show a recording.",
			out:     api.Recording{},
			handle:  of(func(q *request, id int64) (any, error) { return q.addressed(q.Recordings.Show(id)) }),
		},
		{
			method: "PATCH", path: "/recordings/{id}", role: api.Operate,
			summary: "Change the title of a recording, or how long it is kept.",
			in:      api.RecordingChange{}, out: api.Recording{},
			handle: of(func(q *request, id int64) (any, error) {
				return with(func(q *request, in api.RecordingChange) (any, error) {
					return q.addressed(q.Recordings.Change(q.ctx(), id, in))
				})(q)
			}),
		},
		{
			method: "POST", path: "/recordings/{id}/stop", role: api.Operate,
			summary: "End a recording now.",
			out:     api.Recording{},
			handle:  of(func(q *request, id int64) (any, error) { return q.addressed(q.Recordings.Stop(q.ctx(), id, q.by())) }),
		},
		{
			method: "POST", path: "/recordings/{id}/verify", role: api.Operate,
			summary: "Verify the checksums of a recording.",
			out:     store.Verification{},
			handle:  of(verifyRecording),
		},
		{
			method: "GET", path: "/store", role: api.Watch,
			summary: "Show the store, and what is in quarantine.",
			out:     api.Store{},
			handle:  func(q *request) (any, error) { return q.Recordings.Store() },
		},
		{
			method: "POST", path: "/store/quarantine/{channel}/adopt", role: api.Operate,
			summary: "Make a recording of what is in quarantine of a channel.",
			out:     store.Quarantine{},
			handle: func(q *request) (any, error) {
				return q.Recordings.AdoptQuarantined(q.ctx(), q.param("channel"), q.by())
			},
		},
		{
			method: "DELETE", path: "/store/quarantine/{channel}", role: api.Administer,
			summary: "Remove what is in quarantine of a channel for good.",
			out:     store.Quarantine{},
			handle:  func(q *request) (any, error) { return q.Recordings.RemoveQuarantined(q.param("channel"), q.by()) },
		},
		{
			method: "DELETE", path: "/recordings/{id}", role: api.Operate,
			summary: "Remove a recording; what nothing else keeps is deleted.",
			handle:  of(func(q *request, id int64) (any, error) { return nil, q.Recordings.Remove(q.ctx(), id, q.by()) }),
		},
		{
			method: "GET", path: "/items", role: api.Watch,
			summary: "List the files of the library, what they hold, and what keeps them from being played: all, or a page of limit behind the name after; Link names the next page.",
			query:   []string{"limit", "after"}, out: []library.Entry{},
			handle: listItems,
		},
		{
			method: "GET", path: "/items/{item}", role: api.Watch,
			summary: "Show a file of the library.",
			out:     library.Entry{},
			handle:  func(q *request) (any, error) { return q.afterwards(nil) },
		},
		{
			method: "DELETE", path: "/items/{item}", role: api.Operate,
			summary: "Remove an item: its files, and what was encoded of them.",
			handle:  func(q *request) (any, error) { return nil, q.Items.Remove(q.param("item")) },
		},
		{
			method: "POST", path: "/items/{item}/coding", role: api.Operate,
			summary: "Encode an item into a ladder in the background, at the standard heights or the given ones.",
			in:      api.NewCoding{}, out: library.Entry{},
			handle: with(func(q *request, in api.NewCoding) (any, error) {
				return q.afterwards(q.Items.Encode(q.param("item"), in.Heights))
			}),
		},
		{
			method: "POST", path: "/items/{item}/coding/pause", role: api.Operate,
			summary: "Pause the encoding of an item.",
			out:     library.Entry{},
			handle:  func(q *request) (any, error) { return q.afterwards(q.Items.Pause(q.param("item"))) },
		},
		{
			method: "POST", path: "/items/{item}/coding/resume", role: api.Operate,
			summary: "Resume the encoding of an item.",
			out:     library.Entry{},
			handle:  func(q *request) (any, error) { return q.afterwards(q.Items.Resume(q.param("item"))) },
		},
		{
			method: "DELETE", path: "/items/{item}/coding", role: api.Operate,
			summary: "Cancel the encoding of an item, and remove its output.",
			out:     library.Entry{},
			handle:  func(q *request) (any, error) { return q.afterwards(q.Items.Drop(q.param("item"))) },
		},
	}
}

// lookRoutes are the calls about what happens and happened.
func lookRoutes() []route {
	return []route{
		{
			method: "POST", path: "/inspect", role: api.Operate,
			summary: "Inspect a stream for a while. The response is sent when that is done.",
			in:      api.Inspection{}, out: inspect.Report{},
			handle: with(func(q *request, in api.Inspection) (any, error) { return q.Inspections.Inspect(q.ctx(), in) }),
		},
		{
			method: "GET", path: "/feeds", role: api.Watch,
			summary: "List contribution connections, the newest first.",
			query:   []string{"channel", "limit"}, out: []origin.FeedRecord{},
			handle: func(q *request) (any, error) { return q.History.Feeds(q.ctx(), q.query("channel"), q.limit()) },
		},
		{
			method: "GET", path: "/events", role: api.Watch,
			summary: "List events, the newest first.",
			query:   []string{"channel", "limit"}, out: []events.Event{},
			handle: func(q *request) (any, error) { return q.History.Events(q.ctx(), q.query("channel"), q.limit()) },
		},
		{
			method: "GET", path: "/statistics", role: api.Watch,
			summary: "Show statistics of channels, one row per minute; older rows cover more time. Default: the last day.",
			query:   []string{"channel", "from", "to"}, out: []records.Statistic{},
			handle: listStatistics,
		},
		{
			method: "GET", path: "/health", role: api.Watch,
			summary: "What is wrong with the service itself: its database, its disk. Nothing when all is well.",
			out:     api.Health{},
			handle: func(q *request) (any, error) {
				return api.Health{Problems: append([]api.ServiceProblem{}, q.Watch.Health()...)}, nil
			},
		},
		{
			method: "GET", path: "/public", role: anyone,
			summary: "What is on air of the channels that may be listed.",
			out:     []api.Listed{},
			handle:  forPages(publicList),
		},
		{
			method: "GET", path: "/public/{channel}", role: anyone,
			summary: "What a viewer's page may know of a channel.",
			out:     api.Public{},
			handle:  forPages(on(public)),
		},
	}
}
