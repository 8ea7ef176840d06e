package repo

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"ellwand.example/core/repo/storage"
)

// Server serves the files of a repository in a directory, to be read: whole, in
// ranges, or only if they changed (RFC 9110, RFC 9111). It reads nothing
// outside of the directory, and no hidden files.
type Server struct{ root *os.Root }

// NewServer returns the server of a directory. The error is a *NotRepositoryError
// if there is no repository in it.
func NewServer(dir string) (*Server, error) {
	root, err := os.OpenRoot(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &storage.NotRepositoryError{Dir: dir}
	}
	if err != nil {
		return nil, err
	}
	if _, err := root.Stat(storage.PointerFile); err != nil {
		root.Close()
		return nil, &storage.NotRepositoryError{Dir: dir}
	}
	return &Server{root}, nil
}

// Close lets go of the directory.
func (s *Server) Close() error { return s.root.Close() }

// ServeHTTP answers GET and HEAD.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		h.Set("Allow", "GET, HEAD")
		http.Error(w, "this server is only read from", http.StatusMethodNotAllowed)
		return
	}
	name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
	if name == "" || strings.HasSuffix(r.URL.Path, "/") {
		name = path.Join(name, frontPage)
	}
	f, info, err := s.open(name)
	if err != nil {
		http.Error(w, "there is no such file here", http.StatusNotFound)
		return
	}
	defer f.Close()
	// A file is another one once it was replaced: its time is to the nanosecond,
	// and what has a digest for a name is never another one.
	h.Set("ETag", fmt.Sprintf(`"%x-%x"`, info.ModTime().UnixNano(), info.Size()))
	h.Set("Cache-Control", storage.Caching(name))
	h.Set("Content-Type", storage.ContentType(name))
	if isPage(name) {
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'self'")
	}
	http.ServeContent(&pressing{w, http.NewResponseController(w)}, r, "", info.ModTime(), f)
}

// chunkTimeout is how long a client may take to receive what is written at
// once, which is some ten kilobytes.
const chunkTimeout = 30 * time.Second

// pressing gives up on a client that does not receive, however large the file
// is that it asks for.
type pressing struct {
	http.ResponseWriter
	control *http.ResponseController
}

func (p *pressing) Write(b []byte) (int, error) {
	if err := p.control.SetWriteDeadline(time.Now().Add(chunkTimeout)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return 0, err
	}
	return p.ResponseWriter.Write(b)
}

func (s *Server) open(name string) (*os.File, fs.FileInfo, error) {
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") {
			return nil, nil, fs.ErrNotExist
		}
	}
	f, err := s.root.Open(name)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fs.ErrNotExist
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}
