// Package delivery serves viewers: playlists, manifests, headers, segments and parts, straight
// from the windows that the origin publishes. A request takes no lock of the origin and copies no
// payload.
//
// Addresses, below the mount point:
//
//	{channel}/index.m3u8                  multivariant playlist of all rungs
//	{channel}/{selection}.m3u8            of a named selection of them
//	{channel}/ts.m3u8                     of transport streams and packed audio
//	{channel}/{rung}.ts                   a transport stream that goes on, for receivers
//	{channel}/index.mpd, {selection}.mpd  DASH manifests
//	{channel}/index.m3u8?from=TIME        of what is kept from a time on, also index.mpd; &to=TIME ends it
//	{channel}/index.m3u8?recording=N      of a recording
//	{channel}/{rendition}.mp4?from=…&to=… a stretch as one file; .ts, and .m4s for a fragmented one
//	{channel}/time                        the server's clock, for DASH
//	{channel}/picture.jpg                 preview; ?time=TIME of what is kept
//	{channel}/{rendition}/index.m3u8      media playlist; ts, aac and keys are its other wrappings
//	{channel}/{rendition}/header-*.mp4    CMAF header
//	{channel}/{rendition}/{name}.m4s      CMAF segment, while it is being made too
//	{channel}/{rendition}/{name}.{n}.m4s         part of it
//	{channel}/{rendition}/{name}.key.m4s         its first picture
//	{channel}/{rendition}/{name}.ts, .aac        the same media in other wrappings
//
// of items:
//
//	{item}/index.m3u8, ts.m3u8, index.mpd, file
//	{item}/{track}/index.m3u8, ts.m3u8, aac.m3u8, keys.m3u8, text.vtt
//	{item}/{track}/header-*.mp4, {n}.m4s, {n}.ts, {n}.aac, {n}.key.m4s
//
// where a name is the channel's incarnation, a hyphen and the segment's number, or the number alone
// where two origins make the same segments. A bare number elsewhere leads to the name that it has now.
package delivery

import (
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"metaplasis/internal/core/clip"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/library"
	"metaplasis/internal/lru"
	"metaplasis/internal/network"
	"metaplasis/internal/origin"
	"metaplasis/internal/present"
	"metaplasis/internal/recording"
	"metaplasis/internal/store"
)

// Content types (RFC 8216, 4; RFC 4337; ISO/IEC 23009-1, annex C; RFC 3555).
const (
	typePlaylist  = "application/vnd.apple.mpegurl"
	typeManifest  = "application/dash+xml"
	typeVideo     = "video/mp4"
	typeAudio     = "audio/mp4"
	typeTransport = "video/mp2t"
	typePacked    = "audio/aac"
)

// immutable is the cache life of bytes that never change under their address.
const immutable = "public, max-age=31536000, immutable"

// How many requests may wait for media that is still to come: of all networks, and of one.
const (
	//limit:requests that wait for a part, a playlist or a segment that is not made yet | all | 503
	maxWaiting = 50_000
	//limit:requests that wait for one | each network | 503
	maxWaitingEach = 10_000
)

// Meter is told of each answer: what kind of thing was asked for, the status, the bytes, and how
// long the first of them took; and of how many requests wait.
type Meter interface {
	Answered(kind string, status int, bytes int64, first time.Duration)
	Waiting(by int)
}

type noMeter struct{}

func (noMeter) Answered(string, int, int64, time.Duration) {}
func (noMeter) Waiting(int)                                {}

// family is what kind of thing an address is of.
type family uint8

const (
	ofChannel family = iota
	ofItem
)

// Target is what a request wants to read.
type Target struct {
	Channel string // its slug, "" for an item
	Item    string // its name, "" for a channel
}

// Authority decides who may watch. It is asked before anything of a channel or an item is looked at, on the hot path: it
// answers from memory.
type Authority interface {
	// Watch returns nil when the request may read the media of the target, else why not, for people.
	Watch(r *http.Request, t Target) error
}

// everybody may watch.
type everybody struct{}

func (everybody) Watch(*http.Request, Target) error { return nil }

// Recordings are those that have an address.
type Recordings interface {
	// Named returns a recording of a channel by its name in addresses, nil when there is none.
	Named(channel, name string) *recording.Recording
}

// Options are what a server serves. Everything but Origin may be left out.
type Options struct {
	Origin     *origin.Origin
	Authority  Authority        // nil: everybody may watch
	Meter      Meter            // nil: nobody is told
	Store      *store.Store     // what was retained of channels; nil: nothing
	Recordings Recordings       // nil: there are none
	Library    *library.Library // nil: there are no items
	Recode     clip.Recode      // encodes the edges of clips; nil when nobody can
	// Continuous answers {channel}/{rung}.ts: a transport stream that goes on; nil answers nothing there.
	Continuous func(w http.ResponseWriter, r *http.Request, c *origin.Channel, rung string)
}

// Server serves the media of an origin: live, time-shifted and recorded below ServeHTTP, files on demand below Items.
// Whatever is asked for takes the same path: one authority, one meter, one cache of documents, and one queue for what is made
// of stored media.
type Server struct {
	o          *origin.Origin
	authority  Authority
	meter      Meter
	store      *store.Store
	recordings Recordings
	files      *library.Library
	recode     clip.Recode
	continuous func(w http.ResponseWriter, r *http.Request, c *origin.Channel, rung string)

	viewers   viewers
	documents *documents
	turns     *turns
	exports   network.Quota
	waiting   network.Quota // requests for media that is still to come
	stopping  atomic.Bool
	now       func() time.Time
}

// New makes a server.
func New(o Options) *Server {
	s := &Server{o: o.Origin, authority: o.Authority, meter: o.Meter, store: o.Store, recordings: o.Recordings, files: o.Library, recode: o.Recode, continuous: o.Continuous,
		viewers: newViewers(o.Origin.Now()), documents: lru.New[documentKey, *present.Doc](maxDocumentBytes), turns: newTurns(),
		exports: network.Quota{Total: maxExports, EachNetwork: maxExportsEach}, waiting: network.Quota{Total: maxWaiting, EachNetwork: maxWaitingEach}, now: o.Origin.Now}
	if s.meter == nil {
		s.meter = noMeter{}
	}
	if s.authority == nil {
		s.authority = everybody{}
	}
	return s
}

// MayWatch asks the authority, for those who read media by other protocols.
func (s *Server) MayWatch(r *http.Request, t Target) error { return s.authority.Watch(r, t) }

// Values of headers that never change: one slice each, for all answers.
var (
	anyOrigin   = []string{"*"}
	exposed     = []string{"Content-Length, Content-Range, Date, ETag"}
	byteRanges  = []string{"bytes"}
	varyCoding  = []string{"Accept-Encoding"}
	codingGzip  = []string{"gzip"}
	cacheAlways = []string{immutable}
)

// ServeHTTP answers for channels, below the mount point, which is stripped already.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.serve(w, r, ofChannel) }

// Items answers for files on demand, below the mount point, which is stripped already.
func (s *Server) Items() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { s.serve(w, r, ofItem) })
}

// serve is the way of every request. The few addresses are told apart by hand: this is the hot path.
func (s *Server) serve(w http.ResponseWriter, r *http.Request, of family) {
	h := w.Header()
	// Pages of any origin may play (Fetch standard, 3.2).
	h["Access-Control-Allow-Origin"] = anyOrigin
	q := request{s: s, w: w, r: r, begun: s.now(), kind: "other", family: of}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodOptions:
		preflight(w)
		return
	default:
		h.Set("Allow", "GET, HEAD, OPTIONS")
		q.fail(http.StatusMethodNotAllowed, "Media is read with GET or HEAD.")
		return
	}
	var rest string
	q.name, rest, _ = strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	var nested bool
	q.rendition, q.file, nested = strings.Cut(rest, "/")
	if !nested {
		q.rendition, q.file = "", rest
	}
	if !strings.HasSuffix(q.file, ".m3u8") { // players of segments look at their headers
		h["Access-Control-Expose-Headers"] = exposed
	}
	if err := s.authority.Watch(r, q.target()); err != nil {
		q.fail(http.StatusForbidden, err.Error())
		return
	}
	switch {
	case rest == "" || strings.Contains(q.file, "/"):
		q.fail(http.StatusNotFound, "There is nothing at this address. A playlist is NAME/index.m3u8.")
	case of == ofItem:
		q.item()
	case nested:
		s.renditionFile(&q)
	default:
		s.channelFile(&q)
	}
}

// preflight answers what a browser asks before a page of another origin may read media.
func preflight(w http.ResponseWriter) {
	h := w.Header()
	// Ranges are spelled out, since they are not always safelisted; the headers of CMCD
	// (CTA-5004) never are.
	h.Set("Access-Control-Allow-Methods", "GET, HEAD, OPTIONS")
	h.Set("Access-Control-Allow-Headers", "Range, If-None-Match, CMCD-Object, CMCD-Request, CMCD-Session, CMCD-Status")
	h.Set("Access-Control-Max-Age", "86400")
	w.WriteHeader(http.StatusNoContent)
}

// Stop lets no request wait any longer, so that the HTTP server can stop.
func (s *Server) Stop() { s.stopping.Store(true) }

// request is one request on its way.
//
//large:a method for each kind of address
type request struct {
	s                     *Server
	w                     http.ResponseWriter
	r                     *http.Request
	begun                 time.Time
	family                family
	name, rendition, file string // the channel's slug, or the item's name; what of it; the last of the path
	kind                  string // what is asked for, for the meter
	channel               *origin.Channel
}

func (q *request) target() Target {
	if q.family == ofItem {
		return Target{Item: q.name}
	}
	return Target{Channel: q.name}
}

func (q *request) fail(status int, text string) {
	h := q.w.Header()
	h.Set("Cache-Control", "no-store")
	if status == http.StatusServiceUnavailable {
		h.Set("Retry-After", "1")
	}
	if status == http.StatusNotFound || status == http.StatusGone {
		h.Set("Cache-Control", "public, max-age=1")
	}
	http.Error(q.w, text, status)
	q.s.meter.Answered(q.kind, status, int64(len(text)), q.s.now().Sub(q.begun))
}

// send answers with bytes that never change under their tag. http.ServeContent does ranges,
// conditional requests and HEAD.
func (q *request) send(contentType, cache, etag string, modified time.Time, blob segment.Blob) {
	h := q.w.Header()
	h["Content-Type"] = []string{contentType}
	if cache == immutable {
		h["Cache-Control"] = cacheAlways
	} else {
		h["Cache-Control"] = []string{cache}
	}
	h["Etag"] = []string{etag}
	first := q.s.now().Sub(q.begun)
	c := &counted{ResponseWriter: q.w, status: http.StatusOK}
	if pieces := blob.Pieces(); pieces != nil && q.plain() {
		// The common case: the pieces as they lie in memory, without a copy.
		h["Content-Length"] = []string{strconv.FormatInt(blob.Size(), 10)}
		if contentType != typePlaylist {
			h["Accept-Ranges"] = byteRanges
		}
		for _, p := range pieces {
			if _, err := c.Write(p); err != nil {
				break
			}
		}
	} else {
		content, err := blob.Open()
		if err != nil {
			h.Del("Cache-Control")
			h.Del("Etag")
			q.fail(http.StatusServiceUnavailable, "What was asked for cannot be read now: "+err.Error())
			return
		}
		defer func() { _ = content.Close() }()
		if whole, ok := content.(io.WriterTo); ok && q.plain() {
			// From file to socket, where the system can.
			h["Content-Length"] = []string{strconv.FormatInt(blob.Size(), 10)}
			h["Accept-Ranges"] = byteRanges
			_, _ = whole.WriteTo(c) // who asked is gone, or sees that bytes are missing
		} else {
			http.ServeContent(c, q.r, "", modified, content)
		}
	}
	q.s.meter.Answered(q.kind, c.status, c.bytes, first)
}

// plain reports whether the whole is wanted, without conditions.
func (q *request) plain() bool {
	h := q.r.Header
	return q.r.Method == http.MethodGet && h["Range"] == nil && h["If-None-Match"] == nil &&
		h["If-Modified-Since"] == nil && h["If-Match"] == nil && h["If-Unmodified-Since"] == nil
}

// sendDoc answers with a text, compressed when the viewer takes that.
func (q *request) sendDoc(d *present.Doc, contentType, cache string, modified time.Time) {
	q.w.Header()["Vary"] = varyCoding
	if takesGzip(q.r.Header.Get("Accept-Encoding")) {
		b, etag := d.Gzip()
		q.w.Header()["Content-Encoding"] = codingGzip
		q.send(contentType, cache, etag, modified, segment.Memory{b})
		return
	}
	b, etag := d.Bytes()
	q.send(contentType, cache, etag, modified, segment.Memory{b})
}

// takesGzip reads Accept-Encoding (RFC 9110, 12.5.3).
func takesGzip(accept string) bool {
	for part := range strings.SplitSeq(accept, ",") {
		name, parameter, _ := strings.Cut(part, ";")
		if strings.TrimSpace(name) == "gzip" {
			return strings.ReplaceAll(parameter, " ", "") != "q=0"
		}
	}
	return false
}

// counted notes what was answered.
type counted struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *counted) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.bytes += int64(n)
	return n, err
}

// ReadFrom implements io.ReaderFrom.
func (c *counted) ReadFrom(r io.Reader) (int64, error) {
	n, err := io.Copy(c.ResponseWriter, r)
	c.bytes += n
	return n, err
}

// find looks the channel up, or answers that there is none.
func (q *request) find() bool {
	q.channel = q.s.o.Channel(q.name)
	if q.channel != nil {
		q.channel.Watched()
	}
	if q.channel == nil {
		q.fail(http.StatusNotFound, "There is no such channel.")
		return false
	}
	return true
}

// channelFile answers for what belongs to the whole channel.
func (s *Server) channelFile(q *request) {
	switch {
	case q.file == "picture.jpg":
		q.kind = "picture"
		q.picture()
	case s.store != nil && strings.HasPrefix(q.file, present.TilePrefix):
		q.kind = "tile"
		q.tile()
	case q.wantsRetained() && isExport(q.file):
		q.kind = "export"
		q.export()
	case strings.HasSuffix(q.file, ".ts") && s.continuous != nil:
		q.kind = "stream"
		if q.find() {
			s.continuous(q.w, q.r, q.channel, strings.TrimSuffix(q.file, ".ts"))
		}
	case q.file == "time":
		q.kind = "time"
		q.clock()
	case q.wantsRetained() && (strings.HasSuffix(q.file, ".m3u8") || strings.HasSuffix(q.file, ".mpd")):
		q.kind = "past"
		q.retainedMaster()
	case strings.HasSuffix(q.file, ".m3u8"):
		q.kind = "master"
		q.master(typePlaylist)
	case strings.HasSuffix(q.file, ".mpd"):
		q.kind = "manifest"
		q.master(typeManifest)
	default:
		q.kind = "other"
		q.fail(http.StatusNotFound, "There is nothing at this address. The channel's playlist is index.m3u8, its manifest index.mpd.")
	}
}

// clock tells the time as DASH clients ask for it (ISO/IEC 23009-1, 5.8.4.11, http-iso).
func (q *request) clock() {
	if !q.find() {
		return
	}
	q.send("text/plain; charset=utf-8", "no-store", `""`, time.Time{},
		segment.Memory{[]byte(q.s.now().UTC().Format("2006-01-02T15:04:05.000Z"))})
}

func (q *request) master(contentType string) {
	if !q.find() {
		return
	}
	d, known := q.channel.Document(q.file)
	if known && d == nil && q.channel.Starts() { // fetched while somebody watches: the first who does waits for it
		if d = q.firstDocument(); d == nil {
			return
		}
	}
	switch {
	case !known:
		q.fail(http.StatusNotFound, "The channel has no such selection or wrapping.")
	case d == nil:
		q.fail(http.StatusServiceUnavailable, "The channel has nothing to play yet. "+q.channel.StartsIn())
	default:
		if contentType == typeManifest { // who reads a multivariant playlist is counted when a rendition follows
			q.here("dash", false)
		}
		q.sendDoc(d, contentType, halfLife(q.channel), time.Time{})
	}
}

// firstDocument waits for a channel's first list, for as long as players wait for an answer. Without one it answers that there is none
// yet, and returns nil.
func (q *request) firstDocument() *present.Doc {
	release, ok := q.s.waiting.Take(q.r.RemoteAddr)
	if !ok {
		q.fail(http.StatusServiceUnavailable, "Too many requests are waiting for this channel. Try again in a moment.")
		return nil
	}
	defer release()
	q.s.meter.Waiting(1)
	defer q.s.meter.Waiting(-1)
	late, look := time.NewTimer(holdAtStart), time.NewTicker(lookForFirst)
	defer late.Stop()
	defer look.Stop()
	for {
		select {
		case <-q.r.Context().Done():
			return nil
		case <-late.C:
			q.fail(http.StatusServiceUnavailable, "The channel has nothing to play yet. "+q.channel.StartsIn())
			return nil
		case <-look.C:
		}
		if q.s.stopping.Load() {
			q.fail(http.StatusServiceUnavailable, "The service is stopping.")
			return nil
		}
		if d, known := q.channel.Document(q.file); d != nil || !known {
			return d
		}
	}
}

// lookForFirst is how often a channel is looked at whose first list is waited for.
const lookForFirst = 20 * time.Millisecond

// halfLife is how long a cache may keep a list that changes with each segment.
func halfLife(c *origin.Channel) string {
	return fmt.Sprintf("public, max-age=%d", max(1, c.Life().Milliseconds()/2000))
}

func (q *request) picture() {
	if q.s.store != nil && strings.Contains(q.r.URL.RawQuery, "time=") {
		q.still()
		return
	}
	if !q.find() {
		return
	}
	p := q.channel.Picture()
	if p == nil {
		q.fail(http.StatusNotFound, "There is no picture yet.")
		return
	}
	q.send("image/jpeg", "public, max-age=1", fmt.Sprintf(`"%d"`, p.At.UnixNano()), p.At, segment.Memory{p.JPEG})
}
