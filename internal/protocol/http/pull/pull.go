// Package pull takes another server's live stream as an input: HLS and DASH, whose windows, discontinuities and best
// rendition it follows, and transport streams over HTTP.
package pull

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/contribution"
	"metaplasis/internal/contribution/cmaf"
	"metaplasis/internal/contribution/demux"
	"metaplasis/internal/contribution/source"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/media"
	"metaplasis/internal/network"
)

// Bounds.
const (
	requestTimeout = 15 * time.Second
	//limit:bytes of a playlist, a manifest or a caption segment | each request | the rest is not read, and the source fails
	maxText = 8 << 20
	//limit:bytes of a segment | each request | the source fails, and is opened again later
	maxSegment = 64 << 20
	//limit:renditions that are fetched at a time | each source | further ones are left out
	maxRenditions = 8
	//limit:keys of encrypted segments that are held | each source | all are fetched again
	maxSecrets = 16
	// fromEnd is how many whole segments from the end of the window the first one is that is fetched.
	fromEnd = 2
	// attempts is how often a segment is asked for that does not come.
	attempts = 3
	// silence is for how long nothing may come until others may take its place: segments come one by one.
	silence = 4 * time.Second
	// stallLimit is after what time without a new segment the source counts as gone, in target durations.
	stallLimit = 20 * time.Second
)

// Fetcher fetches.
type Fetcher struct {
	Streams source.Protocol
	Logger  *slog.Logger
	Now     func() time.Time // the wall clock, by which sources say what is available; nil is time.Now
	// Dial connects to a source; nil is that of the process.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// follower follows one source.
type follower struct {
	l      *source.Line
	client *http.Client
	logger *slog.Logger
	user   string
	secret string

	mu      sync.Mutex
	paced   *contribution.Paced
	streams []*demux.Stream // of segments that are transport streams
	over    <-chan struct{} // closed when following ends
	now     func() time.Time
	ahead   time.Duration // by how much the source's clock is ahead of this one, by its answers
	timed   bool          // by the clock that its manifest names
	kicked  chan string
	heard   time.Time
	err     error
	expect  int               // tracks, where the list tells
	secrets map[string][]byte // keys of encrypted segments, by their addresses
}

// Receive implements source.Protocol.
func (f *Fetcher) Receive(ctx context.Context, l *source.Line) error {
	x := &follower{now: f.Now, l: l, logger: f.Logger, user: l.URL.User.Username(), secret: l.Secret, heard: time.Now(), kicked: make(chan string, 1), secrets: map[string][]byte{},
		client: &http.Client{Transport: &http.Transport{DialContext: f.Dial, MaxConnsPerHost: 8}}}
	if x.now == nil {
		x.now = time.Now
	}
	if f.Dial == nil {
		x.client.Transport.(*http.Transport).DialContext = network.Dialer(requestTimeout).DialContext
	}
	defer x.client.CloseIdleConnections()
	at := *l.URL
	at.User = nil
	body, base, kind, err := x.peek(ctx, at.String())
	if err != nil {
		return err
	}
	if kind == "" {
		return f.Streams.Receive(ctx, l)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	x.over = ctx.Done()
	if kind == "hls" {
		err = x.hls(ctx, at.String(), base, body)
	} else {
		err = x.dash(ctx, at.String(), base, body)
	}
	x.mu.Lock()
	paced := x.paced
	x.mu.Unlock()
	if paced != nil && errors.Is(err, errEnded) { // its last seconds are still waiting for their time
		paced.Drain(ctx)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.paced != nil {
		x.paced.End(err.Error())
	}
	for _, s := range x.streams {
		s.Close(err)
	}
	x.streams = nil
	return err
}

// peek asks for an address, and tells what kind of list it is, "" when it is none. Addresses in it are relative to base.
func (x *follower) peek(ctx context.Context, address string) (body []byte, base, kind string, err error) {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	res, err := x.request(ctx, address, -1, 0)
	if err != nil {
		return nil, "", "", err
	}
	defer func() { _ = res.Body.Close() }()
	base = res.Request.URL.String()
	first := make([]byte, 512)
	n, _ := io.ReadAtLeast(res.Body, first, 7)
	first = first[:n]
	switch text := string(withoutMark(first)); {
	case strings.HasPrefix(text, "#EXTM3U"):
		kind = "hls"
	case strings.Contains(text, "<MPD") || strings.Contains(res.Header.Get("Content-Type"), "dash+xml"):
		kind = "dash"
	default:
		return nil, "", "", nil
	}
	rest, err := io.ReadAll(io.LimitReader(res.Body, maxText))
	return withoutMark(append(first, rest...)), base, kind, err
}

// withoutMark takes away the byte order mark that some servers put before a list.
func withoutMark(b []byte) []byte { return bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")) }

// list fetches a playlist or a manifest. Addresses in it are relative to base, where redirects led (RFC 3986, 5.1.3).
func (x *follower) list(ctx context.Context, address string) (body []byte, base string, err error) {
	b, base, err := x.fetch(ctx, address, -1, 0, maxText)
	return withoutMark(b), base, err
}

func (x *follower) request(ctx context.Context, address string, offset, length int64) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "Metaplasis")
	if offset >= 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", offset, offset+length-1))
	}
	if x.user != "" || x.secret != "" {
		if u, err := url.Parse(address); err == nil && u.Host == x.l.URL.Host { // nobody else is told
			req.SetBasicAuth(x.user, x.secret)
		}
	}
	res, err := x.client.Do(req)
	if err != nil {
		return nil, network.WithoutSecrets(err)
	}
	x.compare(res.Header.Get("Date"))
	if res.StatusCode != http.StatusOK && res.StatusCode != http.StatusPartialContent {
		defer func() { _ = res.Body.Close() }()
		err := fmt.Errorf("the source answered %s", network.Answer(res))
		if res.StatusCode == http.StatusUnauthorized {
			return nil, &source.Refused{Err: err}
		}
		return nil, err
	}
	return res, nil
}

// compare notes by how much the source's clock is ahead, as its answers tell to the second (RFC 9110, 6.6.1).
func (x *follower) compare(date string) {
	at, err := http.ParseTime(date)
	if err != nil {
		return
	}
	ahead := at.Sub(x.now())
	if ahead.Abs() < clockSlack {
		ahead = 0
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.timed {
		x.ahead = ahead
	}
}

// synchronise asks the clock that a manifest names (ISO/IEC 23009-1, 5.8.4.11), which is finer than answers' dates.
func (x *follower) synchronise(ctx context.Context, base string, clocks []dash.Descriptor) {
	for _, c := range clocks[:min(len(clocks), maxClocks)] {
		text := c.Value
		begin := x.now()
		scheme, known := strings.CutPrefix(c.Scheme, "urn:mpeg:dash:utc:")
		kind, _, _ := strings.Cut(scheme, ":")
		switch {
		case !known:
			continue
		case kind == "http-iso" || kind == "http-xsdate":
			address, _, _ := strings.Cut(strings.TrimSpace(c.Value), " ")
			b, err := x.get(ctx, resolve(base, address), -1, 0, maxClock)
			if err != nil {
				continue
			}
			text = string(b)
		case kind != "direct":
			continue
		}
		var told dash.Date
		if told.UnmarshalText([]byte(text)) != nil {
			continue
		}
		end := x.now()
		x.mu.Lock()
		x.ahead, x.timed = told.Sub(begin.Add(end.Sub(begin)/2)), true
		x.mu.Unlock()
		return
	}
}

const (
	//limit:clocks of a manifest that are asked | each manifest | further ones are not
	maxClocks = 4
	//limit:bytes of a clock's answer | each request | the clock is not used
	maxClock = 1 << 10
	// clockEach is how often a manifest's clock is asked.
	clockEach = 5 * time.Minute
)

// clockSlack is by how much a source's clock may be another one and count as the same.
const clockSlack = 3 * time.Second

// clock is the source's clock.
func (x *follower) clock() time.Time {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.now().Add(x.ahead)
}

// get fetches something whole.
func (x *follower) get(ctx context.Context, address string, offset, length int64, most int64) ([]byte, error) {
	b, _, err := x.fetch(ctx, address, offset, length, most)
	return b, err
}

// fetch fetches something whole, and tells where redirects led.
func (x *follower) fetch(ctx context.Context, address string, offset, length int64, most int64) (body []byte, base string, err error) {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	res, err := x.request(ctx, address, offset, length)
	if err != nil {
		return nil, "", err
	}
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(io.LimitReader(res.Body, most+1))
	switch {
	case err != nil:
		return nil, "", err
	case int64(len(b)) > most:
		return nil, "", fmt.Errorf("found more than %d MB, expected less", most>>20)
	case offset >= 0 && res.StatusCode == http.StatusOK: // the server knows no ranges
		if int64(len(b)) < offset+length {
			return nil, "", fmt.Errorf("found %d bytes, expected %d", len(b), offset+length)
		}
		b = b[offset : offset+length]
	}
	return b, res.Request.URL.String(), nil
}

// feed is the one that all renditions share; it is opened for the first unit.
func (x *follower) feed() (*contribution.Paced, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.paced == nil {
		feed, err := x.l.Open("HTTP "+strings.ToUpper(x.l.URL.Scheme), x.l.URL.Host, silence)
		if err != nil {
			x.err = err
			return nil, err
		}
		x.paced = contribution.NewPaced(feed)
		x.paced.Expect(x.expect)
		go func() {
			select {
			case why := <-feed.Kicked():
				x.kicked <- why
			case <-x.over:
			}
		}()
	}
	return x.paced, nil
}

// stream makes one for the segments of a rendition. It ends with what is followed.
func (x *follower) stream() *demux.Stream {
	s := demux.NewStream(time.Now)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.streams = append(x.streams, s)
	return s
}

// hear notes that a segment came.
func (x *follower) hear() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.heard = time.Now()
}

func (x *follower) quiet() time.Duration {
	x.mu.Lock()
	defer x.mu.Unlock()
	return time.Since(x.heard)
}

// pause waits while enough is held of a rendition, and reports whether to go on.
func (x *follower) pause(ctx context.Context, r *rendition) bool {
	for {
		x.mu.Lock()
		p := x.paced
		x.mu.Unlock()
		if p == nil {
			return ctx.Err() == nil
		}
		wait := p.PaceOf(r.ids)
		if wait == 0 {
			return ctx.Err() == nil
		}
		if !pause(ctx, wait) {
			return false
		}
	}
}

func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

// rendition turns the segments of one list into units of the feed.
type rendition struct {
	x        *follower
	number   int
	language string
	file     *cmaf.Reader
	stream   *demux.Stream
	packed   *coding.Elementary
	line     int
	lines    *periodLines // of a manifest
	header   string       // address of the header in force
	ids      map[media.TrackID]bool
}

// id makes the ids of tracks of several renditions different.
func (r *rendition) id(id media.TrackID) media.TrackID { return media.TrackID(r.number+1)<<16 | id }

// Track implements the sinks of files and streams.
func (r *rendition) Track(t media.Track) {
	feed, err := r.x.feed()
	if err != nil {
		return
	}
	t.ID = r.id(t.ID)
	if t.Language == "" {
		t.Language = r.language
	}
	r.ids[t.ID] = true
	feed.GoOn(t.ID, r.line)
	feed.Track(t)
}

// Unit implements the sinks of files and streams.
func (r *rendition) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	if feed, err := r.x.feed(); err == nil {
		feed.Unit(r.id(id), stamp, composition, key, data)
	}
}

// packedSink gives packed audio its only id.
type packedSink struct{ r *rendition }

func (s packedSink) Track(t media.Track) { t.ID = 1; s.r.Track(t) }

func (s packedSink) Unit(stamp, composition int64, key bool, data []byte) {
	s.r.Unit(1, stamp, composition, key, data)
}

// next says that the following segment begins another line.
func (r *rendition) next(line int) {
	if line == r.line {
		return
	}
	r.finish() // what is open belongs to the line before
	r.line = line
	if len(r.ids) == 0 {
		return // its tracks begin on it
	}
	if feed, err := r.x.feed(); err == nil {
		for id := range r.ids {
			feed.GoOn(id, line)
		}
	}
	if r.packed != nil {
		r.packed.Lost()
	}
}

// finish hands over what is still open of the segments.
func (r *rendition) finish() {
	if r.stream != nil {
		r.stream.Break()
	}
}

// segment takes a whole segment: of CMAF, of a transport stream, or packed audio.
func (r *rendition) segment(b []byte) error {
	r.x.hear()
	switch {
	case r.file != nil:
		r.file.Reset()
		return r.file.Write(b)
	case len(b) > 0 && b[0] == 'G':
		if r.stream == nil {
			r.stream = r.x.stream()
			r.stream.Take("", func() (contribution.Feed, error) {
				feed, err := r.x.feed()
				if err != nil {
					return nil, err
				}
				return &part{Paced: feed, r: r}, nil
			})
		}
		r.stream.Write(b)
		return nil
	case len(b) > 3 && string(b[:3]) == "ID3":
		return r.packedAudio(b)
	}
	return &media.FormatError{Format: "segment", Found: fmt.Sprintf("% x", b[:min(len(b), 4)]), Want: "CMAF with a header, a transport stream, or packed audio"}
}

// open takes the header of CMAF segments.
func (r *rendition) open(b []byte) error {
	if r.file == nil {
		r.file = cmaf.NewReader(1, "", r)
	}
	r.file.Reset()
	return r.file.Write(b)
}

// packedAudio reads frames behind a tag with their time (draft-pantos-hls-rfc8216bis, 3.4).
func (r *rendition) packedAudio(b []byte) error {
	var tag id3.Tag
	rest, err := tag.Unmarshal(b)
	if err != nil {
		return err
	}
	if r.packed == nil {
		codec := coding.ByStream(0x0f, coding.Private{})
		if len(rest) > 1 && rest[0] == 0x0b {
			codec = coding.ByStream(0x81, coding.Private{})
		}
		if r.packed, err = coding.OpenElementary(codec, nil, packedSink{r}); err != nil {
			return err
		}
	}
	return r.packed.Feed(tag.Timestamp, 0, rest)
}

// part is the feed as one rendition in transport streams sees it: it ends with the whole, not with the part.
type part struct {
	*contribution.Paced
	r *rendition
}

func (p *part) Track(t media.Track) { p.r.Track(t) }

func (p *part) Unit(id media.TrackID, stamp, composition int64, key bool, data []byte) {
	p.r.Unit(id, stamp, composition, key, data)
}

func (p *part) End(string) {}

func (p *part) Kicked() <-chan string { return nil }

var errEnded = errors.New("the source ended its stream")
