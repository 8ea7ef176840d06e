package ell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"ellwand.example/core/httpclient"
)

// readahead of what is asked for, this much is read of a package on a server: a
// small package comes whole with the first request, and so do the facts of
// most others.
const remoteAhead = 64 << 10

// RemoteError is a package on a server that cannot be read from there.
type RemoteError struct {
	URL    string
	Reason string
}

func (e *RemoteError) Error() string { return e.URL + ": " + e.Reason }

// OpenURL opens a package on a web server and reads no more of it than it is
// asked for (range requests, RFC 9110, section 14). Authorize adds to each
// request what the server is to be told of who asks; it may be nil. The error
// is a *RemoteError where the server does not serve parts of files.
func OpenURL(ctx context.Context, url string, authorize func(*http.Request) error) (*Package, error) {
	r := &remote{ctx: ctx, url: url, authorize: authorize}
	if err := r.begin(); err != nil {
		return nil, err
	}
	p, err := OpenAt(url, r, r.size)
	if err != nil {
		// What the server did is not the package's fault.
		var failed *RemoteError
		if errors.As(err, &failed) {
			return nil, failed
		}
		return nil, err
	}
	return p, nil
}

// remote reads parts of a file on a web server. It keeps the first and the
// last of it, which are read again and again.
type remote struct {
	ctx       context.Context
	url       string
	authorize func(*http.Request) error
	size      int64
	same      string // the entity tag or date that says it is the same file
	head      []byte
	tail      []byte
}

func (r *remote) fail(format string, args ...any) error {
	return &RemoteError{r.url, fmt.Sprintf(format, args...)}
}

// begin reads the start of the file, and learns its size.
func (r *remote) begin() error {
	resp, err := r.get(0, remoteAhead)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, size, ok := strings.Cut(resp.Header.Get("Content-Range"), "/")
	if r.size, err = strconv.ParseInt(size, 10, 64); !ok || err != nil || r.size <= 0 {
		return r.fail("the server does not say how large the file is")
	}
	r.same = resp.Header.Get("ETag")
	if r.same == "" || strings.HasPrefix(r.same, "W/") {
		r.same = resp.Header.Get("Last-Modified")
	}
	r.head = make([]byte, min(remoteAhead, r.size))
	if _, err := io.ReadFull(resp.Body, r.head); err != nil {
		return r.fail("%v", err)
	}
	r.tail = make([]byte, min(remoteAhead/4, r.size))
	return r.fill(r.tail, r.size-int64(len(r.tail)))
}

func (r *remote) get(at, n int64) (*http.Response, error) {
	req, err := http.NewRequestWithContext(r.ctx, http.MethodGet, r.url, nil)
	if err != nil {
		return nil, r.fail("%v", err)
	}
	req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", at, at+n-1))
	req.Header.Set("Accept-Encoding", "identity")
	if r.same != "" {
		req.Header.Set("If-Range", r.same)
	}
	if r.authorize != nil {
		if err := r.authorize(req); err != nil {
			return nil, r.fail("%v", err)
		}
	}
	resp, err := httpclient.Do(req, httpclient.Stall)
	if err != nil {
		return nil, r.fail("%v", err)
	}
	switch {
	case resp.StatusCode == http.StatusPartialContent:
		return resp, nil
	case resp.StatusCode == http.StatusOK && r.same != "":
		err = r.fail("the file changed while it was read: try again")
	case resp.StatusCode == http.StatusOK:
		err = r.fail("the server does not serve parts of files: fetch it, and name the file")
	default:
		err = r.fail("the server answers %s", resp.Status)
	}
	resp.Body.Close()
	return nil, err
}

// fill reads a part of the file.
func (r *remote) fill(b []byte, at int64) error {
	resp, err := r.get(at, int64(len(b)))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if want := fmt.Sprintf("bytes %d-%d/%d", at, at+int64(len(b))-1, r.size); resp.Header.Get("Content-Range") != want {
		return r.fail("the server sent %q in place of %q", resp.Header.Get("Content-Range"), want)
	}
	if _, err := io.ReadFull(resp.Body, b); err != nil {
		return r.fail("%v", err)
	}
	return nil
}

// ReadAt implements io.ReaderAt.
func (r *remote) ReadAt(b []byte, at int64) (int, error) {
	if at < 0 || at > r.size {
		return 0, io.EOF
	}
	n := min(int64(len(b)), r.size-at)
	for _, kept := range []struct {
		data []byte
		at   int64
	}{{r.head, 0}, {r.tail, r.size - int64(len(r.tail))}} {
		if at >= kept.at && at+n <= kept.at+int64(len(kept.data)) {
			copy(b, kept.data[at-kept.at:])
			return int(n), short(n, len(b))
		}
	}
	if err := r.fill(b[:n], at); err != nil {
		return 0, err
	}
	return int(n), short(n, len(b))
}

func short(n int64, wanted int) error {
	if n < int64(wanted) {
		return io.EOF
	}
	return nil
}
