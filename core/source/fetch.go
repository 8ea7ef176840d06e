package source

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ellwand.example/core/cancel"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/httpclient"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

// Fetched is what came of fetching one source.
type Fetched struct {
	Name   string // the file's name, as the recipe or the address has it
	SHA256 string
	Commit string // for a git repository, which is pinned by it
	Size   int64
	Path   string // in the cache
	New    bool   // it was not in the cache before
}

// Fetcher fetches sources into a cache.
type Fetcher struct {
	Cache    Cache
	Team     Team // none where it has no address
	Progress progress.Sink
	// Attempts is how often a broken download is taken up again; Pause is the
	// time between two attempts, and Stall how long a server may say nothing.
	Attempts int
	Pause    time.Duration
	Stall    time.Duration
}

// NewFetcher returns a fetcher with the usual patience.
func NewFetcher(c Cache, p progress.Sink) *Fetcher {
	return &Fetcher{Cache: c, Progress: p, Attempts: 4, Pause: 2 * time.Second, Stall: httpclient.Stall}
}

// FileName is the name of a source's file.
func FileName(s recipe.Source) string {
	if s.Git != "" {
		return gitName(s)
	}
	if s.Modules != "" {
		return s.Modules + "-modules.tar"
	}
	if s.File != "" {
		return path.Base(filepath.ToSlash(s.File))
	}
	u, err := url.Parse(s.URL)
	if err != nil {
		return path.Base(s.URL)
	}
	return path.Base(u.Path)
}

// Fetch fetches source number i of a recipe into the cache. A source without a
// digest is fetched too, and its digest is in the result, for the caller to
// check. Modules are not fetched here: they take commands of their language. Errors are *DigestError, *HTTPError and those of the file system and
// the network.
func (f *Fetcher) Fetch(ctx context.Context, r *recipe.Recipe, i int) (Fetched, error) {
	s := r.Sources[i]
	out := Fetched{Name: FileName(s), SHA256: s.SHA256}
	if s.SHA256 != "" && f.Cache.Has(s.SHA256) {
		return f.found(out)
	}
	var err error
	switch u, _ := url.Parse(s.URL); {
	case s.Git != "":
		return f.fetchCommit(ctx, s)
	case s.File != "" && isDirectory(r.Beside(s.File)):
		return f.packDirectory(ctx, r, s)
	case s.File != "" && s.SHA256 == "" && f.sameAsBefore(ctx, r.Beside(s.File), &out):
		return f.found(out)
	case s.File != "":
		out.SHA256, out.New, err = f.copyFile(ctx, func() (*os.File, error) { return r.OpenBeside(s.File) }, s.File, s.SHA256)
	case u.Scheme == "file":
		out.SHA256, out.New, err = f.copyFile(ctx, func() (*os.File, error) { return openNamed(u.Path) }, s.URL, s.SHA256)
	default:
		out.New = true
		ok := false
		if s.SHA256 != "" {
			ok, err = f.fromTeam(ctx, out.Name, s.SHA256)
		}
		if !ok && err == nil {
			if out.SHA256, err = f.download(ctx, s.URL, out.Name, s.SHA256); err == nil {
				f.toTeam(ctx, out.SHA256)
			}
		}
	}
	if err != nil {
		return out, err
	}
	return f.found(out)
}

// sameAsBefore reports whether a large file is one that the cache has, without reading it; its
// digest is in the result then.
func (f *Fetcher) sameAsBefore(ctx context.Context, name string, out *Fetched) bool {
	info, err := os.Lstat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() < largeFile || files.MkdirAll(f.Cache.Dir) != nil {
		return false
	}
	digest, err := files.Known{Path: filepath.Join(f.Cache.Dir, "known.json")}.SHA256(ctx, name)
	if err != nil || !f.Cache.Has(digest) {
		return false
	}
	out.SHA256 = digest
	return true
}

// largeFile is from how many bytes on a file's digest is remembered.
const largeFile = 1 << 20

func isDirectory(name string) bool {
	info, err := os.Lstat(name)
	return err == nil && info.IsDir()
}

// packDirectory adds a directory beside the recipe to the cache, as an archive.
func (f *Fetcher) packDirectory(ctx context.Context, r *recipe.Recipe, s recipe.Source) (Fetched, error) {
	out := Fetched{Name: FileName(s) + ".tar"}
	beside, err := os.OpenRoot(r.Dir)
	if err != nil {
		return out, err
	}
	defer beside.Close()
	root, err := beside.OpenRoot(filepath.FromSlash(s.File))
	if err != nil {
		return out, err
	}
	defer root.Close()
	packed, in := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		in.CloseWithError(writeDirectory(ctx, in, root, path.Base(s.File)))
	}()
	digest, err := f.Cache.Add(ctx, packed, s.File, s.SHA256)
	packed.CloseWithError(err)
	<-done
	if err != nil {
		return out, err
	}
	out.SHA256 = digest
	return f.found(out)
}

// FetchPinned looks for a file in the cache, and in the team's; ok is false if neither has it.
func (f *Fetcher) FetchPinned(ctx context.Context, name, digest string) (out Fetched, ok bool, err error) {
	out = Fetched{Name: name, SHA256: digest}
	if !f.Cache.Has(digest) {
		if out.New, err = f.fromTeam(ctx, name, digest); err != nil || !out.New {
			return out, false, err
		}
	}
	out, err = f.found(out)
	return out, err == nil, err
}

// Add adds a file that was made here to the cache, and to the team's. With want set, it must
// have that digest; the error is a *DigestError otherwise.
func (f *Fetcher) Add(ctx context.Context, name string, r io.Reader, want string) (Fetched, error) {
	digest, err := f.Cache.Add(ctx, r, name, want)
	if err != nil {
		return Fetched{Name: name}, err
	}
	f.toTeam(ctx, digest)
	return f.found(Fetched{Name: name, SHA256: digest, New: true})
}

func (f *Fetcher) found(out Fetched) (Fetched, error) {
	out.Path = f.Cache.Path(out.SHA256)
	f.Cache.name(out.SHA256, out.Name)
	info, err := os.Stat(out.Path)
	if err != nil {
		return out, err
	}
	out.Size = info.Size()
	return out, nil
}

func (f *Fetcher) copyFile(ctx context.Context, open func() (*os.File, error), what, want string) (digest string, fresh bool, err error) {
	in, err := open()
	if err != nil {
		return "", false, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return "", false, err
	}
	if !info.Mode().IsRegular() {
		return "", false, fmt.Errorf("%s is not a regular file", what)
	}
	if want == "" {
		h := sha256.New()
		if _, err := io.Copy(h, cancel.Reader(ctx, in)); err != nil {
			return "", false, err
		}
		if digest = hex.EncodeToString(h.Sum(nil)); f.Cache.Has(digest) {
			return digest, false, nil
		}
		if _, err := in.Seek(0, io.SeekStart); err != nil {
			return "", false, err
		}
	}
	t := f.Progress.Begin("copy "+path.Base(what), info.Size(), "bytes")
	digest, err = f.Cache.Add(ctx, &counted{in, t}, what, want)
	t.End(outcome(err))
	return digest, err == nil, err
}

func outcome(err error) string {
	if err != nil {
		return "failed"
	}
	return "done"
}

// counted reports what is read through it.
type counted struct {
	r io.Reader
	t progress.Task
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.t.Advance(int64(n))
	return n, err
}

// HTTPError is a server's refusal.
type HTTPError struct {
	URL   string
	Code  int
	Login bool // a login was sent, and refused
}

func (e *HTTPError) Error() string {
	s := fmt.Sprintf("%s: the server answers %d %s", e.URL, e.Code, http.StatusText(e.Code))
	switch e.Code {
	case http.StatusNotFound, http.StatusGone:
		s += "; check the address and the version in it"
	case http.StatusUnauthorized, http.StatusForbidden:
		if e.Login {
			s += "; the login that was sent is wrong, or not for this"
		} else {
			s += "; it requires a login, and none is configured for this host"
		}
	}
	return s
}

// Status is that of something the machine lacks.
func (e *HTTPError) Status() fact.Status { return fact.StatusMachine }

func (e *HTTPError) temporary() bool {
	return e.Code >= 500 || e.Code == http.StatusTooManyRequests || e.Code == http.StatusRequestTimeout
}

// partial is a download that is not complete: the bytes so far, and what the
// server called them, so that only the same file is continued.
type partial struct {
	path      string
	Validator string `json:"validator"` // a strong ETag or a Last-Modified date (RFC 9110, 13.1.5)
}

func (p *partial) load() {
	data, err := os.ReadFile(p.path + ".json")
	if err != nil || json.Unmarshal(data, p) != nil {
		p.Validator = ""
	}
}

func (p *partial) save() error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return files.Write(p.path+".json", data)
}

func (p *partial) remove() {
	os.Remove(p.path)
	os.Remove(p.path + ".json")
}

// openNamed opens a file that a recipe, or a user, names.
func openNamed(path string) (*os.File, error) {
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &fact.Error{Class: fact.StatusInput, Message: "there is no file " + path, Cause: err}
	}
	return file, err
}

func (f *Fetcher) download(ctx context.Context, address, name, want string) (string, error) {
	dir := filepath.Join(f.Cache.Dir, "partial")
	if err := files.MkdirAll(dir); err != nil {
		return "", err
	}
	key := sha256.Sum256([]byte(address))
	p := &partial{path: filepath.Join(dir, hex.EncodeToString(key[:]))}
	// Two processes that fetch the same address would write into one file.
	unlock, err := files.Lock(ctx, p.path+".lock")
	if err != nil {
		return "", err
	}
	defer unlock()
	if want != "" && f.Cache.Has(want) {
		return want, nil // the other process fetched it
	}
	p.load()
	t := f.Progress.Begin("fetch "+name, 0, "bytes")
	err = f.attempts(ctx, address, p, t)
	if err != nil {
		t.End("failed")
		return "", err
	}
	digest, err := f.Cache.AddFile(ctx, p.path, address, want)
	var wrong *DigestError
	if err == nil || errors.As(err, &wrong) {
		p.remove()
	}
	t.End(outcome(err))
	return digest, err
}

func (f *Fetcher) attempts(ctx context.Context, address string, p *partial, t progress.Task) error {
	for attempt := 1; ; attempt++ {
		err := f.request(ctx, address, p, t)
		var status *HTTPError
		if err == nil || ctx.Err() != nil || attempt >= f.Attempts || errors.As(err, &status) && !status.temporary() || final(err) {
			return err
		}
		f.Progress.Note(fmt.Sprintf("%v; trying again (%d of %d)", err, attempt+1, f.Attempts))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(f.Pause):
		}
	}
}

// final reports whether another attempt would end in the same way.
func final(err error) bool {
	var redirect *httpclient.RedirectError
	var size *httpclient.SizeError
	return errors.As(err, &redirect) || errors.As(err, &size) || errors.Is(err, syscall.ENOSPC)
}

// maxDownload bounds a source, in bytes: larger ones than this are not built
// in practice.
const maxDownload = 64 << 30

// request asks once, for the rest where a part is there already.
func (f *Fetcher) request(ctx context.Context, address string, p *partial, t progress.Task) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	have := int64(0)
	if info, err := os.Stat(p.path); err == nil && p.Validator != "" {
		have = info.Size()
	}
	if have > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", have))
		req.Header.Set("If-Range", p.Validator)
	}
	res, err := f.do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	flags := os.O_CREATE | os.O_WRONLY
	switch res.StatusCode {
	case http.StatusPartialContent:
		var from int64
		if _, err := fmt.Sscanf(res.Header.Get("Content-Range"), "bytes %d-", &from); err != nil || from != have {
			p.remove()
			return fmt.Errorf("%s: the server sent another part than was asked for", address)
		}
		flags |= os.O_APPEND
	case http.StatusOK:
		flags |= os.O_TRUNC
		have = 0
		p.Validator = validator(res.Header)
		if err := p.save(); err != nil {
			return err
		}
	default:
		if res.StatusCode == http.StatusRequestedRangeNotSatisfiable {
			p.remove()
		}
		return &HTTPError{address, res.StatusCode, req.Header.Get("Authorization") != ""}
	}
	out, err := os.OpenFile(p.path, flags, files.Mode(filepath.Dir(p.path)))
	if err != nil {
		return err
	}
	defer out.Close()
	total := int64(0)
	if res.ContentLength > 0 {
		total = have + res.ContentLength
	}
	t.Set(have, total)
	body := &counted{httpclient.Limit(res.Body, address, maxDownload-have), t}
	if _, err := io.Copy(out, body); err != nil {
		return fmt.Errorf("%s: %w", address, err)
	}
	return out.Close()
}

// validator returns what If-Range may carry: a strong ETag or a date.
func validator(h http.Header) string {
	if tag := h.Get("ETag"); tag != "" && !strings.HasPrefix(tag, "W/") {
		return tag
	}
	return h.Get("Last-Modified")
}
