package client

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"metaplasis/internal/api"
	"metaplasis/internal/library"
)

// pieceBytes is how much is sent in a request.
const pieceBytes = 32 << 20

// slowHTTP has no timeout: a piece may take long.
var slowHTTP = &http.Client{}

// withoutTimeout is the client without a timeout: what is asked for may take long.
func (c *Client) withoutTimeout() *Client {
	out := *c
	out.HTTP = slowHTTP
	return &out
}

// tus makes one request of an upload.
func (c *Client) tus(ctx context.Context, method, address string, header map[string]string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Tus-Resumable", "1.0.0")
	req.Header.Set("Authorization", "Bearer "+c.Token)
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := slowHTTP.Do(req)
	if err != nil {
		return nil, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		e := &Error{Status: res.StatusCode}
		_ = json.NewDecoder(io.LimitReader(res.Body, 1<<16)).Decode(&e.Body) // without one the status says it
		if e.Body.Text == "" {
			e.Body.Text = res.Status
		}
		return res, e
	}
	return res, nil
}

// Uploads lists the uploads that are not complete.
func (c *Client) Uploads(ctx context.Context) ([]library.Upload, error) {
	return call[[]library.Upload](ctx, c, "GET", "/uploads", nil)
}

// Upload sends a file to the library; one of the same name and size that broke off is gone on with. A connection that is lost is made
// again, for as long as something gets through within patience. It returns the name of the file in the library.
func (c *Client) Upload(ctx context.Context, name string, file io.ReaderAt, size int64, patience time.Duration, progress func(sent int64)) (string, error) {
	base := strings.TrimRight(c.Server, "/")
	address := ""
	if list, err := c.Uploads(ctx); err == nil {
		for _, u := range list {
			if u.Name == name && u.Size == size {
				address = base + api.Prefix + "/uploads/" + u.ID
			}
		}
	}
	if address == "" {
		res, err := c.tus(ctx, http.MethodPost, base+api.Prefix+"/uploads", map[string]string{"Upload-Length": strconv.FormatInt(size, 10),
			"Upload-Metadata": "filename " + base64.StdEncoding.EncodeToString([]byte(name))}, nil)
		if err != nil {
			return "", err
		}
		to, err := url.Parse(res.Header.Get("Location"))
		if err != nil {
			return "", err
		}
		address = res.Request.URL.ResolveReference(to).String()
	}
	moved := time.Now()
	before := int64(-1)
	for {
		at, done, err := c.piece(ctx, address, file, size, progress)
		if done != "" || ctx.Err() != nil {
			return done, err
		}
		if at > before {
			before, moved = at, time.Now()
		}
		var refused *Error
		if errors.As(err, &refused) && refused.Status < 500 && refused.Status != http.StatusConflict && refused.Status != http.StatusLocked {
			return "", err
		}
		if err != nil {
			if time.Since(moved) > patience {
				return "", fmt.Errorf("nothing got through for %s: %w", patience, err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

// piece asks where the upload is, and sends what comes next.
func (c *Client) piece(ctx context.Context, address string, file io.ReaderAt, size int64, progress func(int64)) (at int64, done string, err error) {
	res, err := c.tus(ctx, http.MethodHead, address, nil, nil)
	if err != nil {
		return -1, "", err
	}
	if at, err = strconv.ParseInt(res.Header.Get("Upload-Offset"), 10, 64); err != nil {
		return -1, "", fmt.Errorf("found no Upload-Offset, expected one: %w", err)
	}
	progress(at)
	n := min(size-at, pieceBytes)
	body := &counted{Reader: io.NewSectionReader(file, at, n), at: at, tell: progress}
	res, err = c.tus(ctx, http.MethodPatch, address, map[string]string{"Upload-Offset": strconv.FormatInt(at, 10), "Content-Type": "application/offset+octet-stream"}, body)
	if err != nil {
		return at, "", err
	}
	return at + n, res.Header.Get("Metaplasis-File"), nil
}

// counted tells how much was read.
type counted struct {
	io.Reader
	at   int64
	tell func(int64)
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.at += int64(n)
	c.tell(c.at)
	return n, err
}
