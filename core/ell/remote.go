package ell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"

	"ellwand.example/core/cancel"
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

// maxDownload bounds a package, in bytes, that a server only serves as a whole.
const maxDownload = 64 << 30

// OpenURL opens a package on a web server and reads only the parts of it that are
// asked for (range requests, RFC 9110, section 14). If the server does not serve
// parts, the package is downloaded to a temporary file, which Close removes.
// Authorize adds credentials to each request; it may be nil. The error is a
// *RemoteError if the server is at fault.
func OpenURL(ctx context.Context, url string, authorize func(*http.Request) error) (*Package, error) {
	r := &remote{ctx: ctx, url: url, authorize: authorize}
	whole, err := r.begin()
	if err != nil {
		return nil, err
	}
	if whole != nil {
		return r.download(whole)
	}
	return r.open()
}

// OpenParts is OpenURL for a package whose size is known from elsewhere, in bytes. Nothing
// is downloaded as a whole: a server that does not serve parts, or has a file of another
// size, is at fault.
func OpenParts(ctx context.Context, url string, size int64, authorize func(*http.Request) error) (*Package, error) {
	r := &remote{ctx: ctx, url: url, authorize: authorize}
	whole, err := r.begin()
	switch {
	case err != nil:
		return nil, err
	case whole != nil:
		whole.Body.Close()
		return nil, r.fail("the server does not serve parts of files")
	case r.size != size:
		return nil, r.fail("the file has %d bytes, not %d", r.size, size)
	}
	return r.open()
}

func (r *remote) open() (*Package, error) {
	p, err := OpenAt(r.url, r, r.size)
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
	mu        sync.Mutex
	same      string // the entity tag or date that says it is the same file
	head      []byte
	tail      []byte
	recent    part // what was read last, if it was small
}

// part is a part of a file.
type part struct {
	at   int64
	data []byte
}

// maxRecent bounds what is kept of a read.
const maxRecent = 8 << 20

func (r *remote) fail(format string, args ...any) error {
	return &RemoteError{r.url, fmt.Sprintf(format, args...)}
}

// begin reads the start of the file and finds out its size. If the server sends all
// of the file, whole is that answer, for the caller to close.
func (r *remote) begin() (whole *http.Response, err error) {
	resp, err := r.get(0, remoteAhead)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	defer resp.Body.Close()
	_, size, ok := strings.Cut(resp.Header.Get("Content-Range"), "/")
	if r.size, err = strconv.ParseInt(size, 10, 64); !ok || err != nil || r.size <= 0 {
		return nil, r.fail("the server does not say how large the file is")
	}
	r.same = resp.Header.Get("ETag")
	if r.same == "" || strings.HasPrefix(r.same, "W/") {
		r.same = resp.Header.Get("Last-Modified")
	}
	r.head = make([]byte, min(remoteAhead, r.size))
	if _, err := io.ReadFull(resp.Body, r.head); err != nil {
		return nil, r.fail("%v", err)
	}
	r.tail = make([]byte, min(remoteAhead/4, r.size))
	return nil, r.fill(r.tail, r.size-int64(len(r.tail)))
}

// download opens the package that an answer holds as a whole.
func (r *remote) download(resp *http.Response) (*Package, error) {
	defer resp.Body.Close()
	f, err := os.CreateTemp("", "ellwand-*"+Extension)
	if err != nil {
		return nil, err
	}
	// It has no name from now on, so that nothing is left after a kill.
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, err
	}
	size, err := io.Copy(f, cancel.Reader(r.ctx, httpclient.Limit(resp.Body, r.url, maxDownload)))
	if err != nil {
		f.Close()
		if r.ctx.Err() != nil {
			return nil, context.Cause(r.ctx)
		}
		return nil, r.fail("%v", err)
	}
	p, err := OpenAt(r.url, f, size)
	if err != nil {
		f.Close()
		return nil, err
	}
	p.close = f.Close
	return p, nil
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
	case resp.StatusCode == http.StatusOK && at == 0:
		return resp, nil
	case resp.StatusCode == http.StatusOK:
		err = r.fail("the server sends parts of the file at first, and then all of it")
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
	r.mu.Lock()
	recent := r.recent
	r.mu.Unlock()
	for _, kept := range []part{{0, r.head}, {r.size - int64(len(r.tail)), r.tail}, recent} {
		if at >= kept.at && at+n <= kept.at+int64(len(kept.data)) {
			copy(b, kept.data[at-kept.at:])
			return int(n), short(n, len(b))
		}
	}
	if err := r.fill(b[:n], at); err != nil {
		return 0, err
	}
	if n <= maxRecent {
		r.mu.Lock()
		r.recent = part{at, bytes.Clone(b[:n])}
		r.mu.Unlock()
	}
	return int(n), short(n, len(b))
}

func short(n int64, wanted int) error {
	if n < int64(wanted) {
		return io.EOF
	}
	return nil
}
