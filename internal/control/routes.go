package control

import (
	"net/http"
	"reflect"
	"sort"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"metaplasis/internal/control/api"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/inspect"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/events"
	"metaplasis/internal/hooks"
	"metaplasis/internal/library"
	"metaplasis/internal/origin"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/records"
	"metaplasis/internal/settings"
	"metaplasis/internal/store"
)

// route is one call of the API: what the router serves and what the document says of it.
type route struct {
	method, path string
	summary      string
	role         api.Role // that the caller needs; anyone needs none
	query        []string
	in, out      any // values of the bodies' types; nil for none
	handle       func(http.ResponseWriter, *http.Request) (any, error)
}

// anyone is no role: the call is for everybody.
const anyone api.Role = ""

func (s *Service) routes() []route {
	return []route{
		{"POST", "/sign-in", "Begin a console session; the answer sets its cookie.", anyone, nil, api.SignIn{}, api.Me{},
			s.signIn},
		{"POST", "/sign-out", "End the session or token that makes this call.", api.Watch, nil, nil, nil, s.signOut},
		{"GET", "/me", "Who is signed in.", api.Watch, nil, nil, api.Me{}, s.me},
		{"POST", "/password", "Change one's own password; this ends all console sessions.", api.Watch, nil, api.NewPassword{},
			nil, s.password},
		{"GET", "/tokens", "List the client tokens.", api.Watch, nil, nil, []api.Token{}, s.tokens},
		{"POST", "/tokens", "Make a client token; its secret is told once.", api.Watch, nil, api.NewToken{}, api.Token{},
			s.addToken},
		{"DELETE", "/tokens/{id}", "Revoke a client token.", api.Watch, nil, nil, nil, s.removeToken},
		{"GET", "/users", "List the users.", api.Administer, nil, nil, []api.User{}, s.listUsers},
		{"POST", "/users", "Add a user.", api.Administer, nil, api.NewUser{}, api.User{}, s.addUser},
		{"DELETE", "/users/{user}", "Remove a user with their sessions and tokens.", api.Administer, nil, nil, nil, s.removeUser},
		{"GET", "/channels", "List the channels with their state and addresses.", api.Watch, nil, nil, []api.Channel{},
			s.listChannels},
		{"POST", "/channels", "Create a channel; what is left out takes its default.", api.Operate, nil, settings.Settings{},
			api.Channel{}, s.addChannel},
		{"GET", "/channels/{channel}", "Show a channel.", api.Watch, nil, nil, api.Channel{}, s.showChannel},
		{"PATCH", "/channels/{channel}", "Change settings; they take effect at the next segment.", api.Operate, nil, api.Change{},
			api.Channel{}, s.changeChannel},
		{"DELETE", "/channels/{channel}", "Remove a channel and its keys; its sender is disconnected.", api.Operate, nil, nil,
			nil, s.removeChannel},
		{"GET", "/channels/{channel}/ladder", "Show the ladder in force.", api.Watch, nil, nil, api.NewLadder{}, s.showLadder},
		{"PUT", "/channels/{channel}/ladder", "Replace the ladder; the change takes effect at the next segment.", api.Operate,
			nil, api.NewLadder{}, api.NewLadder{}, s.setLadder},
		{"POST", "/channels/{channel}/ladder/forecast", "Say whether the machine is likely to keep up with a ladder, without applying it.", api.Watch, nil,
			api.NewLadder{}, govern.Outlook{}, s.forecastLadder},
		{"GET", "/channels/{channel}/ladder/plan", "Propose a ladder for the source that is connected, or for 1080p30.",
			api.Watch, nil, nil, ladder.Ladder{}, s.proposeLadder},
		{"GET", "/channels/{channel}/trial", "Show the newest trial of a channel, while it runs and after.", api.Watch, nil, nil, api.Trial{}, s.showTrial},
		{"POST", "/channels/{channel}/trial", "Code the last seconds of the feed in the background in many ways, to see quality against bitrate and processor time.", api.Operate, nil, api.NewTrial{}, api.Trial{}, s.beginTrial},
		{"DELETE", "/channels/{channel}/trial", "Stop the trial of a channel.", api.Operate, nil, nil, nil, s.stopTrial},
		{"GET", "/plans", "List the ladder plans, the newest version of each, with the channels that use them.", api.Watch, nil, nil, []api.PlanInUse{}, s.listPlans},
		{"GET", "/plans/{plan}", "Show a ladder plan: its newest version, or another one.", api.Watch, []string{"version"}, nil, api.PlanInUse{}, s.showPlan},
		{"PUT", "/plans/{plan}", "Store a ladder plan as its next version. Channels go on with the one that they use.", api.Operate, nil, ladder.Plan{}, api.PlanInUse{}, s.storePlan},
		{"DELETE", "/plans/{plan}", "Remove a ladder plan with all its versions. Channels that use it keep their rungs.", api.Operate, nil, nil, nil, s.removePlan},
		{"GET", "/images", "List the images for logos and slates.", api.Watch, nil, nil, []api.Image{}, s.listImages},
		{"GET", "/images/{image}", "Show the file of an image.", api.Watch, nil, nil, api.NewImage{}, s.showImage},
		{"PUT", "/images/{image}", "Add an image, or replace it: what uses it takes it from the next segment on.", api.Operate, nil, api.NewImage{}, api.Image{}, s.putImage},
		{"DELETE", "/images/{image}", "Remove an image that nothing uses.", api.Operate, nil, nil, nil, s.removeImage},
		{"GET", "/hooks", "List the programs that are told what happens.", api.Administer, nil, nil, []hooks.Hook{}, s.listHooks},
		{"POST", "/hooks", "Tell a program what happens; the secret that signs calls is told once.", api.Administer, nil, hooks.Hook{}, hooks.Hook{}, s.addHook},
		{"DELETE", "/hooks/{id}", "Tell a program nothing more.", api.Administer, nil, nil, nil, s.removeHook},
		{"POST", "/hooks/{id}/test", "Tell a program that somebody tries it.", api.Administer, nil, nil, hooks.Delivery{}, s.tryHook},
		{"GET", "/hooks/deliveries", "List what was told, or is to be, the newest first.", api.Administer, nil, nil, api.Deliveries{}, s.listDeliveries},
		{"GET", "/channels/{channel}/relays", "List the relays that carry a channel onward, and how they are doing.", api.Watch, nil, nil, []api.ChannelRelay{}, s.listRelays},
		{"PUT", "/channels/{channel}/relays/{relay}", "Add a relay, or change it.", api.Operate, nil, settings.Relay{}, []api.ChannelRelay{}, s.putRelay},
		{"DELETE", "/channels/{channel}/relays/{relay}", "Remove a relay.", api.Operate, nil, nil, []api.ChannelRelay{}, s.removeRelay},
		{"POST", "/channels/{channel}/relays/{relay}/start", "Let a relay send from now on.", api.Operate, nil, nil, []api.ChannelRelay{}, s.turnRelay(false)},
		{"POST", "/channels/{channel}/relays/{relay}/stop", "Let a relay send nothing more.", api.Operate, nil, nil, []api.ChannelRelay{}, s.turnRelay(true)},
		{"POST", "/channels/{channel}/relays/{relay}/test", "Try the far end of a relay for a moment.", api.Operate, nil, nil, api.RelayTest{}, s.testRelay},
		{"GET", "/recordings", "List the recordings, the newest first: all, or a page of limit behind the id after; Link names the next page.", api.Watch, []string{"channel", "limit", "after"}, nil, []api.Recording{}, s.listRecordings},
		{"POST", "/channels/{channel}/recordings", "Record a channel: from now or another time on, until it is stopped or another time.", api.Operate, nil, api.NewRecording{}, api.Recording{}, s.addRecording},
		{"GET", "/recordings/{id}", "Show a recording.", api.Watch, nil, nil, api.Recording{}, s.showRecording},
		{"PATCH", "/recordings/{id}", "Change the title of a recording, or how long it is kept.", api.Operate, nil, api.RecordingChange{}, api.Recording{}, s.changeRecording},
		{"POST", "/recordings/{id}/stop", "End a recording now.", api.Operate, nil, nil, api.Recording{}, s.stopRecording},
		{"POST", "/recordings/{id}/verify", "Read all that a recording holds, and compare it with its checksums.", api.Operate, nil, nil, store.Verification{}, s.verifyRecording},
		{"GET", "/store", "Show where what is kept lies, and what is there that nobody has decided about.", api.Watch, nil, nil, api.Store{}, s.showStore},
		{"POST", "/store/quarantine/{channel}/adopt", "Make a recording of what is in quarantine of a channel.", api.Operate, nil, nil, store.Quarantine{}, s.adoptQuarantined},
		{"DELETE", "/store/quarantine/{channel}", "Remove what is in quarantine of a channel for good.", api.Administer, nil, nil, store.Quarantine{}, s.removeQuarantined},
		{"DELETE", "/recordings/{id}", "Remove a recording; what nothing else keeps is deleted.", api.Operate, nil, nil, nil, s.removeRecording},
		{"GET", "/items", "List the files of the library, what they hold, and what keeps them from being played: all, or a page of limit behind the name after; Link names the next page.", api.Watch, []string{"limit", "after"}, nil, []library.Entry{}, s.listItems},
		{"GET", "/items/{item}", "Show a file of the library.", api.Watch, nil, nil, library.Entry{}, s.showItem},
		{"DELETE", "/items/{item}", "Remove an item: its files, and what was coded of them.", api.Operate, nil, nil, nil, s.removeItem},
		{"POST", "/items/{item}/coding", "Code an item into a ladder in the background, of the usual heights or of those named.", api.Operate, nil, api.NewCoding{}, library.Entry{}, s.startCoding},
		{"POST", "/items/{item}/coding/pause", "Let the coding of an item rest.", api.Operate, nil, nil, library.Entry{}, s.changeCoding((*library.Library).PauseCoding)},
		{"POST", "/items/{item}/coding/resume", "Go on with the coding of an item.", api.Operate, nil, nil, library.Entry{}, s.changeCoding((*library.Library).ResumeCoding)},
		{"DELETE", "/items/{item}/coding", "Stop the coding of an item, and remove what was made.", api.Operate, nil, nil, library.Entry{}, s.changeCoding((*library.Library).DropCoding)},
		{"GET", "/studio", "List the sources on the studio's network.", api.Watch, nil, nil, api.Studio{}, s.showStudio},
		{"PUT", "/channels/{channel}/input", "Put an input on air by hand, as soon as it has something; an empty kind leaves it to the order of the inputs.",
			api.Operate, nil, api.Chosen{}, nil, s.chooseInput},
		{"GET", "/channels/{channel}/markers", "List the markers that are remembered.", api.Watch, nil, nil, []publish.Marker{},
			s.listMarkers},
		{"POST", "/channels/{channel}/markers", "Set a marker: players see it as a date range or an event. Without a time it stands at now.", api.Operate, nil, api.NewMarker{}, publish.Marker{}, s.addMarker},
		{"GET", "/channels/{channel}/playing", "Show what the channel says is playing.", api.Watch, nil, nil,
			publish.NowPlaying{}, s.showPlaying},
		{"PUT", "/channels/{channel}/playing", "Change what the channel says is playing, from the next segment on.", api.Operate,
			nil, publish.NowPlaying{}, nil, s.setPlaying},
		{"GET", "/channels/{channel}/timeline", "Show the window of each rendition, segment by segment and part by part.",
			api.Watch, nil, nil, []publish.TimelineRow{}, s.timeline},
		{"POST", "/inspect", "Follow a stream for a while and tell what is wrong with it. The answer comes when that is over.", api.Operate, nil, api.Inspection{}, inspect.Report{}, s.inspect},
		{"GET", "/channels/{channel}/keys", "List the contribution keys.", api.Watch, nil, nil, []api.Key{}, s.listKeys},
		{"POST", "/channels/{channel}/keys", "Make a contribution key; its secret is told once.", api.Operate, nil,
			api.NewKey{}, api.Key{}, s.addKey},
		{"DELETE", "/channels/{channel}/keys/{id}", "Remove a contribution key.", api.Operate, nil, nil, nil, s.removeKey},
		{"GET", "/feeds", "List contribution connections, the newest first.", api.Watch, []string{"channel", "limit"}, nil,
			[]origin.FeedRecord{}, s.listFeeds},
		{"GET", "/events", "List events, the newest first.", api.Watch, []string{"channel", "limit"}, nil, []events.Event{},
			s.listEvents},
		{"GET", "/statistics", "Show what channels did, a row for each minute; older rows are longer. The last day when nobody says.", api.Watch, []string{"channel", "from", "to"}, nil,
			[]records.Statistic{}, s.listStatistics},
		{"GET", "/channels/{channel}/history", "Show bitrate, load and viewers of the last hour.", api.Watch, nil, nil,
			api.History{}, s.showHistory},
		{"GET", "/health", "What is wrong with the service itself: its database, its disk. Nothing when all is well.",
			api.Watch, nil, nil, api.Health{}, s.showHealth},
		{"GET", "/public", "What is on air of the channels that may be listed.", anyone, nil, nil, []api.Listed{}, s.publicList},
		{"GET", "/public/{channel}", "What a viewer's page may know of a channel.", anyone, nil, nil, api.Public{}, s.public},
	}
}

// Types lists the types of all bodies of the API.
func Types() (out []reflect.Type) {
	for _, r := range (&Service{}).routes() {
		for _, v := range []any{r.in, r.out} {
			if v != nil {
				out = append(out, reflect.TypeOf(v))
			}
		}
	}
	return append(out, reflect.TypeFor[api.Error]())
}

// Handler serves the API below api.Prefix.
func (s *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(http.NewCrossOriginProtection().Handler, private)
	protected := r.With(s.requireUser)
	for _, rt := range s.routes() {
		to := protected.With(s.requireRole(rt.role))
		if rt.role == anyone {
			to = r
		}
		to.Method(rt.method, rt.path, s.answer(rt.handle))
	}
	protected.Get("/live", s.live)
	protected.With(s.requireRole(api.Watch)).Get("/export/{what}", s.export)
	s.uploadRoutes(protected.With(s.requireRole(api.Operate)))
	protected.With(s.requireRole(api.Watch)).Get("/studio/{source}/picture", s.studioPicture)
	document := s.Document()
	r.Get("/openapi.json", func(w http.ResponseWriter, _ *http.Request) { write(w, http.StatusOK, document) })
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		s.refuse(w, http.StatusNotFound, "there is no such call", "See "+api.Prefix+"/openapi.json.")
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		s.refuse(w, http.StatusMethodNotAllowed, r.Method+" is not a method of this call",
			"See "+api.Prefix+"/openapi.json.")
	})
	return r
}

// private keeps browsers from taking an answer for anything but data (Fetch standard, 3.6; Content
// Security Policy, level 3).
func private(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

type object = map[string]any

// Document describes the API in OpenAPI 3.1. It is made from the routes and the Go types, so
// that it cannot say anything else than what is served.
func (s *Service) Document() any {
	schemas := object{}
	whole, partial := &components{schemas, "", false}, &components{schemas, "Partial", true}
	paths := object{}
	at := func(path string) object {
		p, ok := paths[path].(object)
		if !ok {
			p = object{}
			paths[path] = p
		}
		return p
	}
	failed := object{"description": "What was wrong, and what to do.",
		"content": body(schema(reflect.TypeOf(api.Error{}), whole))}
	for _, rt := range s.routes() {
		op := object{"summary": rt.summary, "operationId": strings.Trim(strings.ToLower(rt.method)+strings.NewReplacer("/",
			"-", "{", "", "}", "").Replace(rt.path), "-")}
		var params []object
		for part := range strings.SplitSeq(rt.path, "/") {
			if name, ok := strings.CutPrefix(part, "{"); ok {
				params = append(params, object{"name": strings.TrimSuffix(name, "}"), "in": "path", "required": true,
					"schema": object{"type": "string"}})
			}
		}
		for _, q := range rt.query {
			params = append(params, object{"name": q, "in": "query", "schema": object{"type": "string"}})
		}
		if params != nil {
			op["parameters"] = params
		}
		if rt.in != nil {
			into := whole
			if partials[reflect.TypeOf(rt.in)] {
				into = partial
			}
			op["requestBody"] = object{"required": true, "content": body(schema(reflect.TypeOf(rt.in), into))}
		}
		responses := object{"default": failed}
		if rt.out != nil {
			responses["200"] = object{"description": "Done.", "content": body(schema(reflect.TypeOf(rt.out), whole))}
		} else {
			responses["204"] = object{"description": "Done."}
		}
		op["responses"] = responses
		if rt.role == anyone {
			op["security"] = []object{}
		} else {
			op["description"] = "For the role " + string(rt.role) + "."
		}
		at(api.Prefix + rt.path)[strings.ToLower(rt.method)] = op
	}
	at(api.Prefix + "/live")["get"] = object{
		"summary": "Live updates as server-sent events: status (all channels, once a second) and event.", "operationId": "get-live",
		"responses": object{"200": object{"description": "A stream.",
			"content": object{"text/event-stream": object{"schema": object{"type": "string"}}}}, "default": failed},
	}
	at(api.Prefix + "/studio/{source}/picture")["get"] = object{
		"summary": "Show a small picture of a source on the studio's network, by its ID or name.", "operationId": "get-studio-source-picture",
		"parameters": []object{{"name": "source", "in": "path", "required": true, "schema": object{"type": "string"}}},
		"responses": object{"200": object{"description": "A picture.",
			"content": object{"image/jpeg": object{"schema": object{"type": "string", "format": "binary"}}}}, "default": failed},
	}
	at(api.Prefix + "/export/{what}")["get"] = object{
		"summary": "Export records as a table: statistics.csv, events.csv or feeds.csv, of one channel, between two times.", "operationId": "get-export",
		"parameters": []object{{"name": "what", "in": "path", "required": true, "schema": object{"type": "string"}}, {"name": "channel", "in": "query", "schema": object{"type": "string"}},
			{"name": "from", "in": "query", "schema": object{"type": "string"}}, {"name": "to", "in": "query", "schema": object{"type": "string"}}},
		"responses": object{"200": object{"description": "A table.", "content": object{"text/csv": object{"schema": object{"type": "string"}}}}, "default": failed},
	}
	for _, c := range [][3]string{{"", "post", "Begin to upload a file to the library (tus 1.0.0: creation)."}, {"", "get", "List the uploads that are not complete."},
		{"/{upload}", "head", "Say how far an upload came."}, {"/{upload}", "patch", "Send a piece of an upload."}, {"/{upload}", "delete", "Remove an upload."}} {
		op := object{"summary": c[2], "operationId": c[1] + "-upload" + strings.Repeat("s", 1-len(c[0])/9), "responses": object{"default": failed}}
		if c[0] != "" {
			op["parameters"] = []object{{"name": "upload", "in": "path", "required": true, "schema": object{"type": "string"}}}
		}
		at(api.Prefix + uploadsPath + c[0])[c[1]] = op
	}
	return object{
		"openapi": "3.1.0",
		"info": object{"title": "Metaplasis control API", "version": "1",
			"description": "Times are RFC 3339; bitrates are bits a second; rates and loads named so are thousandths."},
		"paths":    paths,
		"security": []object{{"token": []string{}}, {"session": []string{}}},
		"components": object{"schemas": schemas, "securitySchemes": object{
			"token":   object{"type": "http", "scheme": "bearer"},
			"session": object{"type": "apiKey", "in": "cookie", "name": cookieName},
		}},
	}
}

func body(s object) object { return object{"application/json": object{"schema": s}} }

// partials are the bodies of which anything may be left out: it takes its default, or stays as it is.
var partials = map[reflect.Type]bool{reflect.TypeFor[settings.Settings](): true, reflect.TypeFor[api.Change](): true, reflect.TypeFor[ladder.Plan](): true, reflect.TypeFor[api.NewLadder](): true}

// components are where the schemas of named structures go: of the bodies of which anything may be left out under
// names of their own.
type components struct {
	all     object
	prefix  string
	partial bool
}

// schema describes a Go type in JSON Schema; named structures go to the components.
func schema(t reflect.Type, named *components) object {
	switch {
	case t == reflect.TypeOf(time.Time{}):
		return object{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Pointer:
		return schema(t.Elem(), named)
	}
	switch t.Kind() {
	case reflect.String:
		return object{"type": "string"}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return object{"type": "string", "contentEncoding": "base64"}
		}
		return object{"type": "array", "items": schema(t.Elem(), named)}
	case reflect.Map:
		return object{"type": "object", "additionalProperties": schema(t.Elem(), named)}
	case reflect.Struct:
		pkg := t.PkgPath()[strings.LastIndexByte(t.PkgPath(), '/')+1:]
		name := named.prefix + strings.ToUpper(pkg[:1]) + pkg[1:] + t.Name()
		if _, done := named.all[name]; !done {
			named.all[name] = object{} // stops recursion
			props, required := object{}, []string{}
			fields(t, named, props, &required)
			sort.Strings(required)
			described := object{"type": "object", "properties": props}
			if !named.partial {
				described["required"] = required
			}
			named.all[name] = described
		}
		return object{"$ref": "#/components/schemas/" + name}
	default:
		return object{"type": "integer"}
	}
}

func fields(t reflect.Type, named *components, props object, required *[]string) {
	for f := range t.Fields() {
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			fields(f.Type, named, props, required)
			continue
		}
		if name == "-" || !f.IsExported() {
			continue
		}
		if name == "" {
			name = f.Name
		}
		props[name] = schema(f.Type, named)
		if help := f.Tag.Get("help"); help != "" {
			props[name].(object)["description"] = help
		}
		if !strings.Contains(options, "omit") {
			*required = append(*required, name)
		}
	}
}
