package inspector

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"metaplasis/internal/core/inspect"
)

// statusError is an answer other than 200.
type statusError struct{ status int }

func (e *statusError) Error() string { return fmt.Sprintf("status %d", e.status) }

// fetch gets what one request is for. Of a server that does not serve ranges it takes the range out
// of the whole.
func (f *follower) fetch(ctx context.Context, r inspect.Resource, text bool) (body []byte, kind string, took time.Duration,
	err error) {
	ctx, cancel := context.WithTimeout(ctx, requestLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URI, nil)
	if err != nil {
		return nil, "", 0, err
	}
	req.Header.Set("User-Agent", "Metaplasis-inspector")
	if r.Offset >= 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", r.Offset, r.Offset+r.Length-1))
	}
	begin := time.Now()
	res, err := f.Client.Do(req)
	if err != nil {
		return nil, "", 0, err
	}
	defer func() { _ = res.Body.Close() }()
	partial := res.StatusCode == http.StatusPartialContent && r.Offset >= 0
	if res.StatusCode != http.StatusOK && !partial {
		_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<16))
		return nil, "", 0, &statusError{res.StatusCode}
	}
	if body, err = f.readBody(ctx, res, r.URI, text); err != nil {
		return nil, "", 0, err
	}
	if err == nil && r.Offset >= 0 {
		if !partial {
			body = body[min(r.Offset, int64(len(body))):]
			body = body[:min(r.Length, int64(len(body)))]
		}
		if int64(len(body)) != r.Length {
			err = fmt.Errorf("found %d bytes, expected the %d from %d on", len(body), r.Length, r.Offset)
		}
	}
	return body, res.Header.Get("Content-Type"), time.Since(begin), err
}

// readBody reads an answer whole, within what it may be and what there is room for.
func (f *follower) readBody(ctx context.Context, res *http.Response, uri string, text bool) ([]byte, error) {
	most := int64(maxBody)
	if text {
		most = maxText
	} else {
		select {
		case f.Slots <- struct{}{}:
			defer func() { <-f.Slots }()
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if res.ContentLength > most {
		return nil, fmt.Errorf("found %d bytes, expected %d at most", res.ContentLength, most)
	}
	var b bytes.Buffer
	b.Grow(int(max(res.ContentLength, 0)) + bytes.MinRead)
	n, err := b.ReadFrom(io.LimitReader(res.Body, most+1))
	if err != nil {
		return nil, err
	}
	if n > most {
		return nil, fmt.Errorf("found more than %d bytes, expected %d at most", most, most)
	}
	if !text {
		return b.Bytes(), nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	address, _, _ := strings.Cut(uri, "?")
	f.texts[address] = b.Len()
	all := 0
	for _, size := range f.texts {
		all += size
	}
	if all > maxTexts {
		return nil, fmt.Errorf("found playlists and manifests of more than %d bytes together, expected %d at most", all,
			maxTexts)
	}
	return b.Bytes(), nil
}

// control asks whether a connection is allowed, when its address is known.
func (o *Options) control(_, address string, _ syscall.RawConn) error {
	if o.Allow == nil {
		return nil
	}
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrAddress, err)
	}
	return o.Allow(to)
}

func (f *follower) get(ctx context.Context, address string) (body []byte, kind string, took time.Duration, err error) {
	return f.fetch(ctx, inspect.Resource{URI: address, Offset: -1}, true)
}

func join(base, ref string) string {
	b, err := url.Parse(base)
	if err != nil {
		return ref
	}
	u, err := b.Parse(ref)
	if err != nil {
		return ref
	}
	return u.String()
}
