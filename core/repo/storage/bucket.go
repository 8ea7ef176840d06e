package storage

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"ellwand.example/core/cancel"
	"ellwand.example/core/credential"
	"ellwand.example/core/httpclient"
)

// Bucket is a repository's storage in a bucket of a server that speaks the S3
// protocol. It has no lock: publishers notice each other by conditional writes
// (If-Match, RFC 9110) of the one file that changes, and begin again.
type Bucket struct {
	client         *minio.Client
	bucket, prefix string // prefix is empty or ends in a slash
	address        string
}

// newBucket takes an address such as s3+https://HOST/BUCKET/PREFIX. The login
// is from ELLWAND_REPOSITORY_USER and _PASSWORD, from AWS_ACCESS_KEY_ID and
// AWS_SECRET_ACCESS_KEY, or from .netrc; without one, requests are anonymous.
func newBucket(u *url.URL) (Bucket, error) {
	name, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if name == "" {
		return Bucket{}, fmt.Errorf("%s names no bucket: %s://HOST/BUCKET", u.Redacted(), u.Scheme)
	}
	if prefix != "" {
		prefix += "/"
	}
	l, err := credential.For(u.Hostname(), variables)
	if err != nil {
		return Bucket{}, err
	}
	login := credentials.NewStaticV4(l.User, l.Password, "")
	switch {
	case l.User != "":
	case os.Getenv("AWS_ACCESS_KEY_ID") != "":
		login = credentials.NewEnvAWS()
	default:
		login = credentials.NewStatic("", "", "", credentials.SignatureAnonymous)
	}
	secure := u.Scheme == "s3+https"
	if !secure && !credential.Loopback(u) {
		return Bucket{}, fmt.Errorf("%s: a bucket is written to over s3+https, other than on this machine", u.Redacted())
	}
	region := os.Getenv("AWS_REGION")
	if region == "" {
		region = "us-east-1" // what servers with no regions expect
	}
	c, err := minio.New(u.Host, &minio.Options{Creds: login, Secure: secure, Region: region, BucketLookup: minio.BucketLookupPath, MaxRetries: Tries, Transport: httpclient.Transport()})
	return Bucket{c, name, prefix, u.Scheme + "://" + u.Host + "/" + name + "/" + strings.TrimSuffix(prefix, "/")}, err
}

// Where is the address.
func (b Bucket) Where() string { return strings.TrimSuffix(b.address, "/") }

// LocalPath reports that there is none.
func (b Bucket) LocalPath() (dir string, ok bool) { return "", false }

// Address is empty: reading a bucket takes a signed request.
func (b Bucket) Address(string) string { return "" }

// failed sorts an error of the server.
func (b Bucket) failed(ctx context.Context, name string, err error) error {
	if err == nil {
		return nil
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) || answer.StatusCode == 0 {
		return unreachable(ctx, b.Where(), err)
	}
	switch {
	case answer.Code == minio.NoSuchBucket:
		return fmt.Errorf("%s: the bucket does not exist; create it first", b.Where())
	case answer.StatusCode == http.StatusNotFound:
		return &fs.PathError{Op: "get", Path: b.Where() + "/" + name, Err: fs.ErrNotExist}
	case answer.StatusCode == http.StatusPreconditionFailed || answer.StatusCode == http.StatusConflict:
		return ErrChanged
	case answer.StatusCode == http.StatusForbidden || answer.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%s: the server refuses this: %s; a login is taken from %s_USER and %s_PASSWORD, AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or ~/.netrc", b.Where(), answer.Message, variables, variables)
	}
	return fmt.Errorf("%s/%s: %w", b.Where(), name, err)
}

// Open gets an object.
func (b Bucket) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	o, err := b.client.GetObject(ctx, b.bucket, b.prefix+name, minio.GetObjectOptions{})
	if err == nil {
		_, err = o.Stat() // the request is only sent now
	}
	if err != nil {
		return nil, b.failed(ctx, name, err)
	}
	return o, nil
}

// Current gets an object; its mark is its entity tag.
func (b Bucket) Current(ctx context.Context, name string) ([]byte, string, error) {
	o, err := b.client.GetObject(ctx, b.bucket, b.prefix+name, minio.GetObjectOptions{})
	if err != nil {
		return nil, "", b.failed(ctx, name, err)
	}
	defer o.Close()
	info, err := o.Stat()
	if err != nil {
		return nil, "", b.failed(ctx, name, err)
	}
	data, err := io.ReadAll(io.LimitReader(o, MaxPointer+1))
	return data, info.ETag, b.failed(ctx, name, err)
}

func options(name string) minio.PutObjectOptions {
	return minio.PutObjectOptions{ContentType: ContentType(path.Base(name)), CacheControl: Caching(name)}
}

// partSize is how much of a large file is sent, and held in memory, at once.
const partSize = 16 << 20

// Put sends a file. The server makes it appear whole.
func (b Bucket) Put(ctx context.Context, name string, r io.Reader) error {
	size := int64(-1)
	if s, ok := r.(interface{ Size() int64 }); ok {
		size = s.Size()
	}
	o := options(name)
	o.PartSize = partSize
	_, err := b.client.PutObject(ctx, b.bucket, b.prefix+name, cancel.Reader(ctx, r), size, o)
	return b.failed(ctx, name, err)
}

// Replace writes a file on condition that it has the mark.
func (b Bucket) Replace(ctx context.Context, name string, data []byte, mark string) error {
	o := options(name)
	if mark == "" {
		o.SetMatchETagExcept("*")
	} else {
		o.SetMatchETag(mark)
	}
	_, err := b.client.PutObject(ctx, b.bucket, b.prefix+name, bytes.NewReader(data), int64(len(data)), o)
	return b.failed(ctx, name, err)
}

// List lists objects.
func (b Bucket) List(ctx context.Context, prefix string, each func(Stored) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // ends the listing where each fails
	for o := range b.client.ListObjects(ctx, b.bucket, minio.ListObjectsOptions{Prefix: b.prefix + prefix, Recursive: true}) {
		if o.Err != nil {
			return b.failed(ctx, prefix, o.Err)
		}
		if err := each(Stored{strings.TrimPrefix(o.Key, b.prefix), o.Size, o.LastModified}); err != nil {
			return err
		}
	}
	return nil
}

// Remove removes an object.
func (b Bucket) Remove(ctx context.Context, name string) error {
	return b.failed(ctx, name, b.client.RemoveObject(ctx, b.bucket, b.prefix+name, minio.RemoveObjectOptions{}))
}

// Lock does nothing: see Bucket.
func (b Bucket) Lock(context.Context) (func(), error) { return func() {}, nil }
