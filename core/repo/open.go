package repo

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/fact"
)

// variables begins the names of those in the environment that hold
// credentials for repositories: ELLWAND_REPOSITORY_USER and so on.
const variables = "ELLWAND_REPOSITORY"

// OpenCached opens the repository at a path or URL, with a cache of its own below
// $XDG_CACHE_HOME (XDG Base Directory Specification), if there is one.
func OpenCached(place string) (*Repository, error) { return OpenAt(place, cacheFor(place)) }

func cacheFor(place string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	if !fact.IsRemote(place) {
		if abs, err := filepath.Abs(place); err == nil {
			place = abs
		}
	}
	sum := sha256.Sum256([]byte(place))
	return filepath.Join(cache, "ellwand", "repositories", fmt.Sprintf("%x", sum[:12]))
}

// OpenAt returns the repository at a path or URL:
//
//	DIR, file:///DIR                      a directory
//	http://HOST/PATH, https://…           behind a web server, to read only
//	s3+https://HOST/BUCKET/PATH, s3+http  in a bucket of a server that speaks S3
//
// It does not access the repository yet. Cache is as in Repository.
func OpenAt(address, cache string) (*Repository, error) {
	if !fact.IsRemote(address) {
		return &Repository{Storage: NewDirectory(fact.LocalPath(address)), Cache: cache}, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a repository", address)
	}
	r := &Repository{Cache: cache}
	switch u.Scheme {
	case "http", "https":
		r.Storage = Web{strings.TrimSuffix(address, "/")}
	case "s3+http", "s3+https":
		r.Storage, err = newBucket(u)
	default:
		return nil, fmt.Errorf("%s: a repository is in a directory, or at http://…, https://… or s3+https://HOST/BUCKET", address)
	}
	return r, err
}

// ReadOnlyError is a storage that can only be read.
type ReadOnlyError struct{ Where string }

func (e *ReadOnlyError) Error() string {
	return e.Where + " can only be read: publish into the directory or the bucket that it is served from"
}

// UnreachableError is a storage that does not answer.
type UnreachableError struct {
	Where string
	Err   error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("%s does not answer: %v", e.Where, e.Err)
}

// Status is that of something the machine lacks.
func (e *UnreachableError) Status() fact.Status { return fact.StatusMachine }

func (e *UnreachableError) Unwrap() error { return e.Err }

// unreachable makes an UnreachableError of what went wrong on the way, unless
// it was the caller who gave up.
func unreachable(ctx context.Context, where string, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var u *url.Error // it repeats the address
	if errors.As(err, &u) {
		err = u.Err
	}
	return &UnreachableError{where, err}
}
