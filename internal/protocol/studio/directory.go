package studio

import (
	"metaplasis/internal/retry"

	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pion/sdp/v3"

	"metaplasis/internal/contribution/rtpmedia"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/sap"
	"metaplasis/internal/network/dnssd"
	"metaplasis/internal/network/udp"
)

// Bounds of what is kept of the network.
const (
	//limit:sources that were announced | all | further ones are counted, and a problem is told
	maxSources = 256
	//limit:sources that were announced | each address | further ones are counted, and a problem is told
	maxOfOne = 64 // of one sender's address
	//limit:characters of a source's name | each announcement | the name is cut
	maxName      = 100
	lookEach     = 200 * time.Millisecond
	quietAfter   = 40 * time.Second // without an announcement, until a source counts as quiet
	goneAfter    = 10               // intervals of its announcements without one, and at least goneAtLeast
	goneAtLeast  = 5 * time.Minute
	describeEach = 30 * time.Second // sources that are asked what they send
	describing   = 4                // at once
)

// Source is what somebody on the network offers.
type Source struct {
	ID        string        `json:"id"`   // stays the same while the source is announced
	Name      string        `json:"name"` // as its announcement has it
	Via       string        `json:"via"`  // "SAP" or "DNS-SD"
	From      string        `json:"from"` // address of who announces it
	Interface string        `json:"interface"`
	Tracks    []SourceTrack `json:"tracks"`
	Bitrate   int64         `json:"bitrate"` // bits per second on the network, 0 when it does not say
	Heard     time.Time     `json:"heard"`   // when it was announced last
	Quiet     bool          `json:"quiet"`   // it is not announced any more as often as it was
	Problem   string        `json:"problem,omitempty"`
}

// SourceTrack is a stream of a source.
type SourceTrack struct {
	Kind    media.Kind `json:"kind"`
	Text    string     `json:"text"` // for people, such as raw video, 1280x720, 30/s, 8 bits
	Bitrate int64      `json:"bitrate"`
}

// entry is a source with what it takes to receive it.
type entry struct {
	Source
	version  uint64
	interval time.Duration // of its announcements
	streams  []stream      // of an announcement
	address  string        // of one that is fetched over RTSP
	asked    time.Time
	asking   bool
}

// Directory holds what is on the network.
type Directory struct {
	Interfaces []string // on which to look; none: not at all
	// Describe asks an RTSP server what a stream holds: a session description.
	Describe func(ctx context.Context, address string) ([]byte, error)
	Logger   *slog.Logger

	mu      sync.Mutex
	sources map[string]*entry // by their ID
	refused int64             // announcements for which there was no room
	wrong   []string          // interfaces on which nothing can be heard, and why
	asking  chan struct{}
	shots   shots
}

// On reports whether the network is looked at.
func (d *Directory) On() bool { return len(d.Interfaces) > 0 }

// Run looks until the context ends.
func (d *Directory) Run(ctx context.Context) {
	d.mu.Lock()
	d.sources, d.asking = map[string]*entry{}, make(chan struct{}, describing)
	d.mu.Unlock()
	var all sync.WaitGroup
	keep := func(what, face string, run func() error) {
		all.Add(1)
		go func() {
			defer all.Done()
			pause := retry.New(time.Second, time.Minute)
			for ctx.Err() == nil {
				err := run()
				if ctx.Err() != nil {
					return
				}
				d.trouble(fmt.Sprintf("%s on %s: %v", what, face, err))
				pause.Wait(ctx)
			}
		}()
	}
	for _, face := range d.Interfaces {
		for _, group := range sap.Groups {
			keep("session announcements to "+group.String(), face, func() error { return d.hear(ctx, face, group) })
		}
		keep("service discovery", face, func() error {
			return dnssd.Browse(ctx, face, "_rtsp._tcp", func(i dnssd.Instance) { d.service(ctx, face, i) })
		})
	}
	all.Wait()
}

func (d *Directory) trouble(text string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !slices.Contains(d.wrong, text) && len(d.wrong) < 16 {
		d.wrong = append(d.wrong, text)
		d.Logger.Warn("the studio's network cannot be heard", "why", text)
	}
}

// hear listens to the announcements to a group.
func (d *Directory) hear(ctx context.Context, face string, group netip.Addr) error {
	conn, err := udp.Listen(&url.URL{Host: netip.AddrPortFrom(group, sap.Port).String(), RawQuery: url.Values{"interface": {face}}.Encode()})
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	r := udp.NewReader(conn, 8)
	for ctx.Err() == nil {
		if err := r.Read(lookEach, func(b []byte, from netip.Addr) { d.announced(face, b, from) }); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// announced takes a session announcement.
func (d *Directory) announced(face string, b []byte, from netip.Addr) {
	var a sap.Announcement
	if a.Unmarshal(b) != nil {
		return
	}
	if a.Deleted {
		d.deleted(&a, from)
		return
	}
	e, err := describe(a.Description, face)
	if err != nil {
		return // whose it is cannot be told
	}
	e.Via, e.From, e.Interface = "SAP", from.String(), face
	d.put(e, time.Now())
}

// deleted takes a source off that its own announcer takes back.
func (d *Directory) deleted(a *sap.Announcement, from netip.Addr) {
	id := identity(a.Description)
	d.mu.Lock()
	defer d.mu.Unlock()
	if e := d.sources[id]; e != nil && e.From == from.String() {
		delete(d.sources, id)
	}
}

// put notes a source, or that it was heard of again.
func (d *Directory) put(e *entry, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.sweep(now)
	old := d.sources[e.ID]
	switch {
	case old != nil && old.From != e.From:
		return // another one says that it is this
	case old != nil:
		if between := now.Sub(old.Heard); between > 500*time.Millisecond {
			e.interval = between
		} else {
			e.interval = old.interval
		}
	case !d.room(e.From):
		d.refused++
		return
	}
	e.Heard = now
	d.sources[e.ID] = e
}

// room reports whether a further source of an address is kept. When all room is taken, the address that has most of it
// gives one up, so that nobody keeps others out.
func (d *Directory) room(from string) bool {
	count := map[string]int{}
	for _, o := range d.sources {
		count[o.From]++
	}
	if count[from] >= maxOfOne {
		return false
	}
	if len(d.sources) < maxSources {
		return true
	}
	most := from
	for address, n := range count {
		if n > count[most] {
			most = address
		}
	}
	if count[most] <= count[from]+1 {
		return false
	}
	var stalest *entry
	for _, o := range d.sources {
		if o.From == most && (stalest == nil || o.Heard.Before(stalest.Heard)) {
			stalest = o
		}
	}
	delete(d.sources, stalest.ID)
	d.refused++
	return true
}

// sweep lets go what is not announced any more.
func (d *Directory) sweep(now time.Time) {
	for id, e := range d.sources {
		if now.Sub(e.Heard) > max(goneAfter*e.interval, goneAtLeast) {
			delete(d.sources, id)
		}
	}
}

// List is what is on the network, by name; wrong says what keeps it from being heard, and how many sources found no
// room.
func (d *Directory) List() (out []Source, wrong []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	d.sweep(now)
	out = make([]Source, 0, len(d.sources))
	for _, e := range d.sources {
		s := e.Source
		s.Quiet = now.Sub(s.Heard) > max(3*e.interval, quietAfter)
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Source) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) })
	wrong = slices.Clone(d.wrong)
	if d.refused > 0 {
		wrong = append(wrong, fmt.Sprintf("%d announcements found no room: %d sources are kept, %d of one address", d.refused, maxSources, maxOfOne))
	}
	return out, wrong
}

// find returns a source by its ID or its name, or says what there is instead.
func (d *Directory) find(name string) (*entry, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if e := d.sources[name]; e != nil {
		return e, nil
	}
	var found *entry
	for _, e := range d.sources {
		if e.Name == name {
			if found != nil {
				return nil, fmt.Errorf("several sources on the network are called %q: rename one of them, or take it by its ID", name)
			}
			found = e
		}
	}
	switch {
	case found != nil:
		return found, nil
	case !d.On():
		return nil, errors.New("the service does not look for sources: start it with --studio and the network's interface")
	}
	return nil, fmt.Errorf("no source on the network is called %q; %d others are there", name, len(d.sources))
}

// service takes an instance of an RTSP server, and asks it what it sends.
func (d *Directory) service(ctx context.Context, face string, i dnssd.Instance) {
	sum := sha256.Sum256([]byte("rtsp\x00" + i.Name))
	id := hex.EncodeToString(sum[:6])
	if i.Gone {
		d.mu.Lock()
		delete(d.sources, id)
		d.mu.Unlock()
		return
	}
	path := "/" + strings.TrimPrefix(i.Text["path"], "/")
	address := (&url.URL{Scheme: "rtsp", Host: net.JoinHostPort(i.Host.String(), strconv.Itoa(i.Port)), Path: path}).String()
	e := &entry{Source: Source{ID: id, Name: clip(i.Name), Via: "DNS-SD", From: i.Host.String(), Interface: face}, address: address}
	now := time.Now()
	d.mu.Lock()
	old := d.sources[id]
	if old != nil && old.address == address {
		e.Tracks, e.Bitrate, e.Problem, e.asked, e.asking = old.Tracks, old.Bitrate, old.Problem, old.asked, old.asking
	}
	ask := !e.asking && now.Sub(e.asked) > describeEach
	e.asking = e.asking || ask
	d.mu.Unlock()
	d.put(e, now)
	if !ask {
		return
	}
	select {
	case d.asking <- struct{}{}:
	default: // later
		d.answered(id, func(e *entry) {})
		return
	}
	go func() {
		defer func() { <-d.asking }()
		text, err := d.Describe(ctx, address)
		d.answered(id, func(e *entry) {
			e.asked = time.Now()
			var of *entry
			if err == nil {
				of, err = describe(text, face)
			}
			if err != nil {
				e.Problem = err.Error()
				return
			}
			e.Tracks, e.Bitrate, e.Problem = of.Tracks, of.Bitrate, of.Problem
		})
	}()
}

func (d *Directory) answered(id string, set func(*entry)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if e := d.sources[id]; e != nil {
		next := *e
		next.asking = false
		set(&next)
		d.sources[id] = &next
	}
}

func clip(s string) string {
	s = strings.ToValidUTF8(strings.TrimSpace(s), "?")
	if r := []rune(s); len(r) > maxName {
		s = string(r[:maxName])
	}
	return s
}

// identity is of the session that a description, or the origin line of a deletion, is of (RFC 8866, 5.2): all of the
// line but the version.
func identity(description []byte) string {
	for line := range bytes.Lines(description) {
		if f := strings.Fields(strings.TrimPrefix(string(line), "o=")); bytes.HasPrefix(line, []byte("o=")) && len(f) == 6 {
			sum := sha256.Sum256([]byte(strings.Join([]string{f[0], f[1], f[3], f[4], f[5]}, " ")))
			return hex.EncodeToString(sum[:6])
		}
	}
	return ""
}

// stream is where a stream of a source is sent to.
type stream struct {
	m      *rtpmedia.Media
	group  string
	port   int
	rtcp   int
	source string // the only sender, "" for any
}

// describe reads a session description.
func describe(text []byte, face string) (*entry, error) {
	var d sdp.SessionDescription
	if err := d.Unmarshal(text); err != nil {
		return nil, &media.FormatError{Format: "session description", Found: fmt.Sprintf("%.40q", text), Want: "one that can be read"}
	}
	e := &entry{Source: Source{ID: identity(text), Name: clip(string(d.SessionName)), Tracks: []SourceTrack{}}, version: d.Origin.SessionVersion}
	if e.ID == "" {
		return nil, &media.FormatError{Format: "session description", Found: "no origin", Want: "a line o="}
	}
	if e.Name == "" {
		e.Name = d.Origin.UnicastAddress
	}
	var wrong []string
	again := duplicates(d.Attributes)
	for _, md := range d.MediaDescriptions {
		if mid, _ := md.Attribute("mid"); again[mid] {
			continue
		}
		m, err := rtpmedia.Describe(md)
		if err != nil {
			wrong = append(wrong, err.Error())
			continue
		}
		s := stream{m: m, port: md.MediaName.Port.Value, source: filter(md.Attributes)}
		s.rtcp = s.port + 1
		if text, ok := md.Attribute("rtcp"); ok { // RFC 3605
			number, _, _ := strings.Cut(text, " ")
			if n, err := strconv.Atoi(number); err == nil && n > 0 && n < 1<<16 {
				s.rtcp = n
			}
		}
		if s.source == "" {
			s.source = filter(d.Attributes)
		}
		c := md.ConnectionInformation
		if c == nil {
			c = d.ConnectionInformation
		}
		if c != nil && c.Address != nil {
			s.group, _, _ = strings.Cut(c.Address.Address, "/")
		}
		e.streams = append(e.streams, s)
		t := SourceTrack{Kind: m.Codec.Kind, Text: words(m), Bitrate: m.Bitrate()}
		e.Tracks, e.Bitrate = append(e.Tracks, t), e.Bitrate+t.Bitrate
	}
	if len(e.streams) == 0 {
		e.Problem = cmp.Or(strings.Join(wrong, "; "), "its description has no media")
	}
	return e, nil
}

// duplicates are the streams that another one is sent a second time in (RFC 7104), by their identifiers: the first of a
// group is received.
func duplicates(list []sdp.Attribute) map[string]bool {
	out := map[string]bool{}
	for _, a := range list {
		if f := strings.Fields(a.Value); a.Key == "group" && len(f) > 2 && f[0] == "DUP" {
			for _, mid := range f[2:] {
				out[mid] = true
			}
		}
	}
	return out
}

// filter is the only sender of a group (RFC 4570), "" when there may be others.
func filter(list []sdp.Attribute) string {
	for _, a := range list {
		if f := strings.Fields(a.Value); a.Key == "source-filter" && len(f) == 5 && f[0] == "incl" {
			return f[4]
		}
	}
	return ""
}

// words are a stream in words.
func words(m *rtpmedia.Media) string {
	text := m.Codec.Label
	if t, ok := coding.Announced(m.Codec, m.Config); ok && t.Kind == media.Video && t.Width > 0 {
		text += fmt.Sprintf(", %dx%d", t.Width, t.Height)
		if t.FrameRate.Valid() {
			text += ", " + strconv.FormatFloat(float64(t.FrameRate.Num)/float64(t.FrameRate.Den), 'f', -1, 32) + "/s"
		}
		if depth := m.Format.Parameters["depth"]; depth != "" {
			text += ", " + depth + " bits"
		}
	}
	if m.Codec.Kind == media.Audio {
		text += fmt.Sprintf(", %d Hz, %d channels", m.Format.Clock, max(m.Format.Channels, 1))
	}
	return text
}
