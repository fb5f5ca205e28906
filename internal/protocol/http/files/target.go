package files

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"metaplasis/internal/network"

	"github.com/jlaffaye/ftp"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// target is where files are written to. A file is there whole or not at all, as far as the far end can do that.
type target interface {
	put(ctx context.Context, name, contentType string, pieces [][]byte) error
	remove(ctx context.Context, name string) error
	close() error
	// streams is how many files may be on their way at a time.
	streams() int
}

// statusError is an answer of a far end that is no success.
type statusError struct {
	status int
	text   string
}

func (e *statusError) Error() string { return e.text }

// passing reports whether a far end that answered so may take the file a moment later.
func passing(err error) bool {
	code := 0
	var told *statusError
	var store minio.ErrorResponse
	switch {
	case errors.As(err, &told):
		code = told.status
	case errors.As(err, &store):
		code = store.StatusCode
	}
	return code >= 500 && code != http.StatusNotImplemented || code == http.StatusTooManyRequests || code == http.StatusRequestTimeout
}

// refused reports whether a far end will not do what it was asked for.
func refused(err error) bool {
	var told *statusError
	var store minio.ErrorResponse
	var ftpSaid *textproto.Error
	switch {
	case errors.As(err, &told):
		return told.status/100 == 4 || told.status == http.StatusNotImplemented
	case errors.As(err, &store):
		return store.StatusCode/100 == 4
	case errors.As(err, &ftpSaid):
		return ftpSaid.Code/100 == 5
	}
	return errors.Is(err, os.ErrPermission)
}

// manyStreams is how many files are on their way at a time where each takes a round trip or more.
const manyStreams = 6

// wait bounds one file's way to the far end, and the way to it.
const wait = 20 * time.Second

// open opens the way to an address. folder is where those of the scheme folder lie.
func open(ctx context.Context, u *url.URL, folder string) (target, error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	switch u.Scheme {
	case "folder":
		return openFolder(folder, path.Join(u.Host, u.Path))
	case "put+http", "put+https":
		return openHTTP(u), nil
	case "s3":
		return openBucket(ctx, u)
	case "ftp", "ftps":
		return openFTP(ctx, u)
	case "sftp":
		return openSFTP(ctx, u)
	}
	return nil, fmt.Errorf("nothing here writes files to such an address: %s", u.Scheme)
}

func size(pieces [][]byte) (n int64) {
	for _, p := range pieces {
		n += int64(len(p))
	}
	return n
}

func reader(pieces [][]byte) io.Reader {
	list := make([]io.Reader, len(pieces))
	for i, p := range pieces {
		list[i] = bytes.NewReader(p)
	}
	return io.MultiReader(list...)
}

// onDisk is a folder of this machine.
type onDisk struct{ root *os.Root }

func openFolder(base, name string) (target, error) {
	if base == "" {
		return nil, errors.New("the service has no folder for files that are sent: start it with --send-folder")
	}
	full := filepath.Join(base, filepath.FromSlash(path.Clean("/"+name)))
	if err := os.MkdirAll(full, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(full) // nothing leads out of it
	if err != nil {
		return nil, err
	}
	return onDisk{root}, nil
}

func (d onDisk) put(_ context.Context, name, _ string, pieces [][]byte) error {
	if dir := path.Dir(name); dir != "." {
		if err := d.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	part := path.Join(path.Dir(name), ".part-"+path.Base(name))
	f, err := d.root.Create(part)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, reader(pieces))
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = d.root.Rename(part, name)
	}
	if err != nil {
		_ = d.root.Remove(part)
	}
	return err
}

func (d onDisk) remove(_ context.Context, name string) error {
	if err := d.root.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

func (d onDisk) close() error { return d.root.Close() }

func (onDisk) streams() int { return 1 }

// overHTTP writes by PUT and DELETE (DASH-IF Live Media Ingest Protocol, interface 2).
type overHTTP struct {
	client *http.Client
	base   *url.URL
	key    string
	user   *url.Userinfo
}

func openHTTP(u *url.URL) target {
	base := *u
	base.Scheme = strings.TrimPrefix(u.Scheme, "put+")
	q := base.Query()
	key := q.Get("key")
	q.Del("key")
	base.RawQuery, base.User = q.Encode(), nil
	return &overHTTP{client: &http.Client{Timeout: wait, Transport: network.Transport(10 * time.Second)}, base: &base, key: key, user: u.User}
}

func (h *overHTTP) do(ctx context.Context, method, name, contentType string, pieces [][]byte) error {
	at := *h.base
	at.Path = strings.TrimRight(at.Path, "/") + "/" + name
	var body io.Reader
	if method == http.MethodPut {
		body = reader(pieces)
	}
	req, err := http.NewRequestWithContext(ctx, method, at.String(), body)
	if err != nil {
		return err
	}
	if body != nil {
		req.ContentLength = size(pieces)
		req.Header.Set("Content-Type", contentType)
	}
	if h.key != "" {
		req.Header.Set("Authorization", "Bearer "+h.key)
	} else if h.user != nil {
		password, _ := h.user.Password()
		req.SetBasicAuth(h.user.Username(), password)
	}
	res, err := h.client.Do(req)
	if err != nil {
		var told *url.Error
		if errors.As(err, &told) { // the address may hold what is secret
			err = told.Err
		}
		return err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	_ = res.Body.Close()
	gone := method == http.MethodDelete && (res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusGone)
	if res.StatusCode/100 != 2 && !gone {
		return &statusError{res.StatusCode, fmt.Sprintf("the far end answered %s to %s of %s", res.Status, method, name)}
	}
	return nil
}

func (h *overHTTP) put(ctx context.Context, name, contentType string, pieces [][]byte) error {
	return h.do(ctx, http.MethodPut, name, contentType, pieces)
}

func (h *overHTTP) remove(ctx context.Context, name string) error {
	return h.do(ctx, http.MethodDelete, name, "", nil)
}

func (*overHTTP) streams() int { return manyStreams }

func (h *overHTTP) close() error { h.client.CloseIdleConnections(); return nil }

// bucket is one of an object store.
type bucket struct {
	client       *minio.Client
	name, prefix string
}

func openBucket(ctx context.Context, u *url.URL) (target, error) {
	name, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if name == "" {
		return nil, errors.New("found no bucket in the address, expected s3://HOST/BUCKET/PREFIX")
	}
	if prefix != "" {
		prefix += "/"
	}
	secret, _ := u.User.Password()
	client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(u.User.Username(), secret, ""), Secure: u.Query().Get("tls") != "off", Region: u.Query().Get("region"), MaxRetries: 1, Transport: network.Transport(wait)})
	if err != nil {
		return nil, err
	}
	there, err := client.BucketExists(ctx, name)
	if err != nil {
		return nil, err
	}
	if !there {
		return nil, fmt.Errorf("the object store has no bucket %s", name)
	}
	return &bucket{client, name, prefix}, nil
}

func (b *bucket) put(ctx context.Context, name, contentType string, pieces [][]byte) error {
	control := "public, max-age=31536000, immutable"
	if strings.HasSuffix(name, ".m3u8") || strings.HasSuffix(name, ".mpd") {
		control = "public, max-age=1"
	}
	body := io.Reader(bytes.NewReader(bytes.Join(pieces, nil))) // which can be read again for another attempt
	_, err := b.client.PutObject(ctx, b.name, b.prefix+name, body, size(pieces), minio.PutObjectOptions{ContentType: contentType, CacheControl: control, DisableMultipart: true})
	return err
}

func (b *bucket) remove(ctx context.Context, name string) error {
	return b.client.RemoveObject(ctx, b.name, b.prefix+name, minio.RemoveObjectOptions{})
}

func (b *bucket) close() error { return nil }

func (*bucket) streams() int { return manyStreams }

// overFTP writes over FTP, with TLS for ftps, on several connections, each of which carries one file at a time.
type overFTP struct {
	dial func(ctx context.Context) (*ftp.ServerConn, error)
	base string // relative to the folder that signing in leads to, or from / on
	free chan *ftp.ServerConn
	open chan struct{} // one for each connection
	mu   sync.Mutex
	made map[string]bool
}

// deadlined gives up a connection on which nothing moves.
type deadlined struct{ net.Conn }

func (d deadlined) Read(b []byte) (int, error) {
	_ = d.SetReadDeadline(time.Now().Add(wait))
	return d.Conn.Read(b)
}

func (d deadlined) Write(b []byte) (int, error) {
	_ = d.SetWriteDeadline(time.Now().Add(wait))
	return d.Conn.Write(b)
}

// ftpStreams is how many connections there are: servers let few in.
const ftpStreams = 3

func openFTP(ctx context.Context, u *url.URL) (target, error) {
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "21")
	}
	password, _ := u.User.Password()
	user := u.User.Username()
	if user == "" {
		user, password = "anonymous", "anonymous"
	}
	conf := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	dial := func(ctx context.Context) (*ftp.ServerConn, error) {
		control := true
		options := []ftp.DialOption{ftp.DialWithShutTimeout(wait), ftp.DialWithDialFunc(func(kind, address string) (net.Conn, error) {
			own, cancel := context.WithTimeout(context.WithoutCancel(ctx), wait)
			defer cancel()
			conn, err := network.Dialer(wait).DialContext(own, kind, address)
			if err != nil {
				return nil, err
			}
			first := control
			if control = false; !first && u.Scheme == "ftps" {
				return tls.Client(deadlined{conn}, conf), nil
			}
			return deadlined{conn}, nil
		})}
		if u.Scheme == "ftps" {
			options = append(options, ftp.DialWithExplicitTLS(conf))
		}
		c, err := ftp.Dial(host, options...)
		if err != nil {
			return nil, err
		}
		if err := c.Login(user, password); err != nil {
			return nil, errors.Join(fmt.Errorf("signing in: %w", err), c.Quit())
		}
		return c, nil
	}
	f := &overFTP{dial: dial, base: ftpBase(u.Path), made: map[string]bool{}, free: make(chan *ftp.ServerConn, ftpStreams), open: make(chan struct{}, ftpStreams)}
	c, err := f.connection(ctx)
	if err == nil {
		f.give(c, nil)
	}
	return f, err
}

// ftpBase is the folder of an address: relative to the one that signing in leads to, unless it begins with an encoded slash (RFC 1738,
// 3.2.2).
func ftpBase(p string) string {
	p = strings.TrimPrefix(p, "/")
	if strings.HasPrefix(p, "/") {
		return path.Clean(p)
	}
	return strings.Trim(path.Clean("/"+p), "/")
}

// connection waits for a connection, or opens one.
func (f *overFTP) connection(ctx context.Context) (*ftp.ServerConn, error) {
	select {
	case c := <-f.free:
		return c, nil
	default:
	}
	select {
	case c := <-f.free:
		return c, nil
	case f.open <- struct{}{}:
		c, err := f.dial(ctx)
		if err != nil {
			<-f.open
		}
		return c, err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// give takes a connection back. One on which something went wrong is closed.
func (f *overFTP) give(c *ftp.ServerConn, err error) {
	var said *textproto.Error
	if err == nil || errors.As(err, &said) {
		f.free <- c
		return
	}
	_ = c.Quit()
	<-f.open
}

func (f *overFTP) at(name string) string { return path.Join(f.base, name) }

func (f *overFTP) put(ctx context.Context, name, _ string, pieces [][]byte) error {
	c, err := f.connection(ctx)
	if err != nil {
		return err
	}
	err = f.store(c, f.at(name), pieces)
	f.give(c, err)
	return err
}

func (f *overFTP) store(c *ftp.ServerConn, full string, pieces [][]byte) error {
	f.mu.Lock()
	if dir := path.Dir(full); !f.made[dir] {
		at := ""
		if strings.HasPrefix(dir, "/") {
			at = "/"
		}
		for part := range strings.SplitSeq(strings.Trim(dir, "/"), "/") {
			if at = path.Join(at, part); part != "." {
				_ = c.MakeDir(at) // it may be there
			}
		}
		f.made[dir] = true
	}
	f.mu.Unlock()
	part := path.Join(path.Dir(full), ".part-"+path.Base(full))
	if err := c.Stor(part, reader(pieces)); err != nil {
		return err
	}
	err := c.Rename(part, full)
	if refusal := (*textproto.Error)(nil); errors.As(err, &refusal) { // some servers rename over nothing that is there
		_ = c.Delete(full)
		err = c.Rename(part, full)
	}
	return err
}

func (f *overFTP) remove(ctx context.Context, name string) error {
	c, err := f.connection(ctx)
	if err != nil {
		return err
	}
	err = c.Delete(f.at(name))
	f.give(c, err)
	if refusal := (*textproto.Error)(nil); errors.As(err, &refusal) && refusal.Code == ftp.StatusFileUnavailable {
		return nil
	}
	return err
}

func (*overFTP) streams() int { return ftpStreams }

func (f *overFTP) close() (err error) {
	for {
		select {
		case c := <-f.free:
			err = errors.Join(err, c.Quit())
		default:
			return err
		}
	}
}

// overSFTP writes over SSH's file transfer.
type overSFTP struct {
	ssh  *ssh.Client
	c    *sftp.Client
	base string
	mu   sync.Mutex
	made map[string]bool
}

func (*overSFTP) streams() int { return manyStreams }

func openSFTP(ctx context.Context, u *url.URL) (target, error) {
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "22")
	}
	password, _ := u.User.Password()
	wanted := u.Query().Get("hostkey")
	conf := &ssh.ClientConfig{User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.Password(password)}, Timeout: wait,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if found := ssh.FingerprintSHA256(key); found != wanted {
				return fmt.Errorf("found the host key %s, expected %q: put ?hostkey=%s into the address if that is the right one", found, wanted, url.QueryEscape(found))
			}
			return nil
		}}
	dialer := network.Dialer(wait)
	line, err := dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, err
	}
	conn, channels, requests, err := ssh.NewClientConn(line, host, conf)
	if err != nil {
		return nil, errors.Join(err, line.Close())
	}
	s := ssh.NewClient(conn, channels, requests)
	c, err := sftp.NewClient(s)
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return &overSFTP{ssh: s, c: c, base: path.Join("/", u.Path), made: map[string]bool{}}, nil
}

func (s *overSFTP) put(ctx context.Context, name, _ string, pieces [][]byte) error {
	stop := context.AfterFunc(ctx, func() { _ = s.ssh.Close() }) // a line that stands still is given up
	defer stop()
	full := path.Join(s.base, name)
	if err := s.folder(path.Dir(full)); err != nil {
		return err
	}
	part := path.Join(path.Dir(full), ".part-"+path.Base(full))
	f, err := s.c.Create(part)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, reader(pieces))
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return err
	}
	if err := s.c.PosixRename(part, full); err != nil {
		_ = s.c.Remove(full)
		return s.c.Rename(part, full)
	}
	return nil
}

// folder makes a folder, once.
func (s *overSFTP) folder(dir string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made[dir] {
		return nil
	}
	if err := s.c.MkdirAll(dir); err != nil {
		return err
	}
	s.made[dir] = true
	return nil
}

func (s *overSFTP) remove(_ context.Context, name string) error {
	if err := s.c.Remove(path.Join(s.base, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

func (s *overSFTP) close() error { return errors.Join(s.c.Close(), s.ssh.Close()) }
