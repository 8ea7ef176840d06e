package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ellwand.example/core/credential"
	"ellwand.example/core/fact"
	"ellwand.example/core/httpclient"
)

// Web is a repository's storage behind a plain web server, which is only read.
type Web struct{ URL string }

// variables begins the names of those in the environment that hold
// credentials for repositories: ELLWAND_REPOSITORY_USER and so on.
const variables = "ELLWAND_REPOSITORY"

// Authorize adds to a request the login for a repository.
func Authorize(req *http.Request) error { return credential.Authorize(req, variables) }

// Where is the address.
func (w Web) Where() string { return w.URL }

// LocalPath reports that there is none.
func (w Web) LocalPath() (dir string, ok bool) { return "", false }

// Address is the URL of a file.
func (w Web) Address(name string) string { return strings.TrimSuffix(w.URL, "/") + "/" + name }

// Tries is how often a file is asked for where the server fails.
const Tries = 3

func (w Web) get(ctx context.Context, name string, fresh bool) (*http.Response, error) {
	address := w.URL + "/" + (&url.URL{Path: name}).EscapedPath()
	var last error
	for try := range Tries {
		if try > 0 {
			select {
			case <-ctx.Done():
				return nil, context.Cause(ctx)
			case <-time.After(time.Duration(try) * 300 * time.Millisecond):
			}
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return nil, err
		}
		if fresh { // caches in between are not to answer for the server
			req.Header.Set("Cache-Control", "no-cache")
		}
		if err := Authorize(req); err != nil {
			return nil, err
		}
		res, err := httpclient.Do(req, httpclient.Stall)
		var redirect *httpclient.RedirectError
		if errors.As(err, &redirect) {
			return nil, redirect
		}
		if err != nil {
			last = unreachable(ctx, w.URL, err)
			continue
		}
		switch {
		case res.StatusCode == http.StatusOK:
			return res, nil
		case res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusGone:
			res.Body.Close()
			return nil, &fs.PathError{Op: "get", Path: address, Err: fs.ErrNotExist}
		}
		res.Body.Close()
		last = &UnreachableError{address, fmt.Errorf("the server says %s", res.Status)}
		if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
			why := "it requires a login, and none is configured for this host"
			if req.Header.Get("Authorization") != "" {
				why = "the login that was sent is wrong, or not for this"
			}
			return nil, fmt.Errorf("%s: the server says %s: %s; one is taken from %s_USER and %s_PASSWORD, %s_TOKEN or ~/.netrc", address, res.Status, why, variables, variables, variables)
		}
		if res.StatusCode < 500 {
			break
		}
	}
	return nil, last
}

// Open gets a file.
func (w Web) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	res, err := w.get(ctx, name, false)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// Current gets a file past all caches.
func (w Web) Current(ctx context.Context, name string) ([]byte, string, error) {
	res, err := w.get(ctx, name, true)
	if err != nil {
		return nil, "", err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, MaxPointer+1))
	if err != nil {
		return nil, "", unreachable(ctx, w.URL, err)
	}
	return data, fact.SHA256(data), nil
}

// Put is refused.
func (w Web) Put(context.Context, string, io.Reader) error { return &ReadOnlyError{w.URL} }

// Replace is refused.
func (w Web) Replace(context.Context, string, []byte, string) error { return &ReadOnlyError{w.URL} }

// List finds nothing: a web server does not tell what it has.
func (w Web) List(context.Context, string, func(Stored) error) error { return nil }

// Remove is refused.
func (w Web) Remove(context.Context, string) error { return &ReadOnlyError{w.URL} }

// Lock is refused, so that no change begins.
func (w Web) Lock(context.Context) (func(), error) { return nil, &ReadOnlyError{w.URL} }

// ContentType is what a server is to say that a file is.
func ContentType(name string) string {
	switch {
	case strings.HasSuffix(name, ".json"):
		return "application/json"
	case strings.HasSuffix(name, ".html"):
		return "text/html; charset=utf-8"
	case strings.HasSuffix(name, ".css"):
		return "text/css; charset=utf-8"
	case strings.HasSuffix(name, ".zst"):
		return "application/zstd"
	}
	return "application/octet-stream"
}

// Caching is how long a file may be kept by those who read it: what has its
// digest or its version in its name, for ever.
func Caching(name string) string {
	if name == PointerFile || strings.HasSuffix(name, ".html") || strings.HasSuffix(name, ".css") {
		return "no-cache" // ask each time whether it is still the same
	}
	return "public, max-age=31536000, immutable"
}
