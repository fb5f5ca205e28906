// Package inspector follows a stream over HTTP as a player would and lets core/inspect judge it.
package inspector

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/inspect"
)

// Bounds of what is fetched.
const (
	//limit:bytes of a segment | each request | the segment is not inspected
	maxBody = 32 << 20 // of a segment
	//limit:bytes of a playlist or manifest | each request | it is refused
	maxText = 2 << 20 // of a playlist or manifest
	//limit:bytes of all playlists of a stream that are held | each inspection | further ones are not kept
	maxTexts = 8 << 20 // of all of a stream's that are held
	//limit:renditions | each inspection | further ones are left out
	maxRenditions = 16
	//limit:how long a request may take | each request | a finding
	requestLimit = 30 * time.Second
	//limit:segments that wait to be fetched | each rendition | the inspection waits
	queueLength = 256
	atFirst     = 2 // segments of each rendition that are fetched before new ones come
	onDemand    = 3 // of the begin, and one of the end, of a stream that is not live
)

// Options of an inspection.
type Options struct {
	Address string
	Follow  time.Duration
	Limit   time.Duration                 // when it ends whatever happens; 0 is never
	Allow   func(netip.AddrPort) error    // asked before each connection; nil allows all
	Slots   chan struct{}                 // room for what is held whole in memory; nil: some of its own
	Client  *http.Client                  // nil: one of its own
	Say     func(format string, a ...any) // progress; nil: silence
}

// follower is one inspection under way.
type follower struct {
	Options
	mu      sync.Mutex // guards i
	i       *inspect.Inspector
	begun   time.Time
	until   time.Time
	headers map[string]bool   // fetched, by rendition and address
	keys    map[string][]byte // by address
	texts   map[string]int    // sizes of playlists and manifests, by address
}

// ownSlots is how many segments an inspection holds at a time when nobody says.
const ownSlots = 8

// ErrAddress says that an address cannot be inspected.
var ErrAddress = errors.New("the address cannot be inspected")

// Run follows a stream and returns what was found. An error means that not even the address
// answered.
func Run(ctx context.Context, o Options) (inspect.Report, error) {
	u, err := url.Parse(o.Address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return inspect.Report{}, fmt.Errorf("%w: found %q, expected an address of a playlist or manifest, such as http://host/media/start-line/index.m3u8", ErrAddress, o.Address)
	}
	if o.Client == nil {
		// Each connection is checked, wherever a name or a redirect leads; a proxy would hide where.
		dialer := &net.Dialer{Timeout: 10 * time.Second, Control: o.control}
		o.Client = &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 64,
			MaxConnsPerHost: 64, MaxResponseHeaderBytes: 64 << 10}}
		defer o.Client.CloseIdleConnections()
	}
	if o.Slots == nil {
		o.Slots = make(chan struct{}, ownSlots)
	}
	if o.Limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, o.Limit)
		defer cancel()
	}
	if o.Say == nil {
		o.Say = func(string, ...any) {}
	}
	f := &follower{Options: o, i: inspect.New(o.Address), begun: time.Now(), headers: map[string]bool{},
		keys: map[string][]byte{}, texts: map[string]int{}}
	f.until = f.begun.Add(o.Follow)
	body, kind, _, err := f.get(ctx, o.Address)
	if err != nil {
		return inspect.Report{}, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	f.judge(func() { f.i.ContentType("", kind) })
	switch {
	case bytes.Contains(body[:min(len(body), 4096)], []byte("<MPD")):
		f.followDASH(ctx, body)
	case hls.IsMultivariant(body):
		f.followHLS(ctx, body)
	default:
		f.followPlaylist(ctx, inspect.Name(o.Address), o.Address, body)
	}
	f.judge(f.i.Aligned)
	return f.i.Report(time.Since(f.begun)), nil
}

func (f *follower) judge(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
