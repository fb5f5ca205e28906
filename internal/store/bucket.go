package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Bucket is a place in an object store that speaks S3. Objects are written whole, when they are closed.
type Bucket struct {
	client *minio.Client
	bucket string
	prefix string // "" or with a slash behind
	shown  string
}

// bucketWait bounds one call to an object store.
//
//limit:how long a call to an object store may take | each call | it is repeated
const bucketWait = 30 * time.Second

// Names of the environment's variables with an object store's credentials.
const (
	AccessKeyVariable = "METAPLASIS_S3_ACCESS_KEY"
	SecretKeyVariable = "METAPLASIS_S3_SECRET_KEY"
)

// newBucket returns the place of an address s3://HOST/BUCKET/PREFIX. The credentials are in the address before an @, or in the environment.
// ?tls=off speaks plain HTTP, ?region= names a region.
func newBucket(address string) (*Bucket, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "s3" || u.Host == "" {
		return nil, errors.New("found no address of an object store, expected s3://HOST/BUCKET/PREFIX")
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if bucket == "" {
		return nil, errors.New("found no bucket, expected s3://HOST/BUCKET/PREFIX")
	}
	if prefix != "" {
		prefix += "/"
	}
	access, secret := os.Getenv(AccessKeyVariable), os.Getenv(SecretKeyVariable)
	if u.User != nil {
		access = u.User.Username()
		secret, _ = u.User.Password()
	}
	client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(access, secret, ""), Secure: u.Query().Get("tls") != "off", Region: u.Query().Get("region")})
	if err != nil {
		return nil, fmt.Errorf("the object store: %w", err)
	}
	return &Bucket{client: client, bucket: bucket, prefix: prefix, shown: "s3://" + u.Host + "/" + bucket + "/" + prefix}, nil
}

// String implements Place.
func (b *Bucket) String() string { return b.shown }

func bounded() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), bucketWait)
}

// plain turns the answer that there is no such object into the file system's.
func plain(err error) error {
	if err == nil {
		return nil
	}
	if r := minio.ToErrorResponse(err); r.Code == "NoSuchKey" || r.Code == "NotFound" || r.StatusCode == 404 {
		return fs.ErrNotExist
	}
	return err
}

// Check makes sure that the bucket is there.
func (b *Bucket) Check() error {
	ctx, cancel := bounded()
	defer cancel()
	there, err := b.client.BucketExists(ctx, b.bucket)
	if err != nil {
		return fmt.Errorf("the object store at %s: %w", b.shown, err)
	}
	if !there {
		return fmt.Errorf("the object store at %s has no such bucket: make it first", b.shown)
	}
	return nil
}

// Create implements Place.
func (b *Bucket) Create(name string) (File, error) { return &object{b: b, name: name}, nil }

// Upload implements Remote. A large file goes in several parts.
func (b *Bucket) Upload(name, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), bucketWait+time.Duration(info.Size()/leastUpload)*time.Second)
	defer cancel()
	_, err = b.client.PutObject(ctx, b.bucket, b.prefix+name, f, info.Size(), minio.PutObjectOptions{ContentType: "application/octet-stream", PartSize: partSize, NumThreads: 1})
	return err
}

// Bounds of an upload: what a part holds, in bytes, and how fast the slowest line may be, in bytes per second.
const (
	partSize    = 16 << 20
	leastUpload = 128 << 10
)

// object is an object that is being made.
type object struct {
	b    *Bucket
	name string
	data []byte
	done bool
}

func (o *object) Write(p []byte) (int, error) {
	o.data = append(o.data, p...)
	return len(p), nil
}

func (o *object) Readable() int64 {
	if o.done {
		return int64(len(o.data))
	}
	return 0
}

func (o *object) Close() error {
	if o.done || len(o.data) == 0 {
		return nil
	}
	ctx, cancel := bounded()
	defer cancel()
	_, err := o.b.client.PutObject(ctx, o.b.bucket, o.b.prefix+o.name, bytes.NewReader(o.data), int64(len(o.data)), minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true})
	o.done = err == nil
	return err
}

// Open implements Place.
func (b *Bucket) Open(name string, offset, size int64) (io.ReadSeekCloser, error) {
	return &remote{b: b, name: name, offset: offset, size: size}, nil
}

// remote reads a stretch of an object, which is asked for with the first byte that is read.
type remote struct {
	b            *Bucket
	name         string
	offset, size int64
	at           int64
	body         *minio.Object
	cancel       context.CancelFunc
	idle         *time.Timer // cancels what stands still
}

func (r *remote) Read(p []byte) (int, error) {
	if r.at >= r.size {
		return 0, io.EOF
	}
	if r.body == nil {
		var opts minio.GetObjectOptions
		if err := opts.SetRange(r.offset+r.at, r.offset+r.size-1); err != nil {
			return 0, err
		}
		// Who reads takes the time that the viewer takes: only a store that stands still is given up.
		ctx, cancel := context.WithCancel(context.Background())
		body, err := r.b.client.GetObject(ctx, r.b.bucket, r.b.prefix+r.name, opts)
		if err != nil {
			cancel()
			return 0, plain(err)
		}
		r.body, r.cancel, r.idle = body, cancel, time.AfterFunc(bucketWait, cancel)
	}
	r.idle.Reset(bucketWait)
	defer r.idle.Stop()
	n, err := r.body.Read(p[:min(int64(len(p)), r.size-r.at)])
	r.at += int64(n)
	if err == io.EOF && r.at < r.size && n == 0 {
		return n, io.ErrUnexpectedEOF
	}
	if err == io.EOF {
		err = nil
	}
	return n, plain(err)
}

func (r *remote) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.size
	}
	if offset < 0 {
		return 0, fmt.Errorf("found offset %d, expected none below 0", offset)
	}
	if offset != r.at {
		_ = r.Close()
	}
	r.at = offset
	return offset, nil
}

func (r *remote) Close() error {
	if r.body == nil {
		return nil
	}
	r.idle.Stop()
	err := r.body.Close()
	r.cancel()
	r.body = nil
	return err
}

// List implements Place.
func (b *Bucket) List(folder string) (out []Entry, err error) {
	ctx, cancel := bounded()
	defer cancel()
	prefix := b.prefix
	if folder != "" {
		prefix += strings.TrimSuffix(folder, "/") + "/"
	}
	for o := range b.client.ListObjects(ctx, b.bucket, minio.ListObjectsOptions{Prefix: prefix}) {
		if o.Err != nil {
			return nil, o.Err
		}
		if name := strings.TrimPrefix(o.Key, prefix); name != "" {
			out = append(out, Entry{Name: name, Size: o.Size})
		}
	}
	return out, nil
}

// Size implements Place.
func (b *Bucket) Size(name string) (int64, error) {
	ctx, cancel := bounded()
	defer cancel()
	info, err := b.client.StatObject(ctx, b.bucket, b.prefix+name, minio.StatObjectOptions{})
	return info.Size, plain(err)
}

// Truncate implements Place. Objects are written whole, so that none has an end to cut off.
func (b *Bucket) Truncate(string, int64) error { return nil }

// Remove implements Place.
func (b *Bucket) Remove(name string) error {
	ctx, cancel := bounded()
	defer cancel()
	if err := plain(b.client.RemoveObject(ctx, b.bucket, b.prefix+name, minio.RemoveObjectOptions{})); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Limits of an object store: what is in a bundle waits in a local folder until it is whole.
const (
	bucketSpan   = time.Minute
	bucketBundle = 64 << 20
)

// Parse returns the place of an address: a folder, or s3://HOST/BUCKET/PREFIX; and the limits that suit it.
func Parse(address string) (Place, Limits, error) {
	if strings.HasPrefix(address, "s3://") {
		b, err := newBucket(address)
		if err != nil {
			return nil, Limits{}, err
		}
		return b, Limits{BundleSpan: bucketSpan, BundleBytes: bucketBundle}, b.Check()
	}
	if strings.Contains(address, "://") {
		return nil, Limits{}, fmt.Errorf("found %.60q, expected a folder, or s3://HOST/BUCKET/PREFIX", address)
	}
	return Folder(address), Limits{}, nil
}
