// Package bundle carries a recipe with its sources in one file, so that it can
// be built elsewhere with no network.
//
// A bundle is a POSIX pax archive (IEEE Std 1003.1) compressed as Zstandard
// (RFC 8878), with these entries in this order:
//
//	bundle.json          canonical JSON (RFC 8785): Facts
//	recipe/PATH…         the recipe's folder, sorted by path
//	sources/SHA256…      the sources, each once, sorted by digest
//
// The same recipe and sources give the same bytes.
package bundle

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/google/renameio/v2"
	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/canonical"
	"ellwand.example/core/files"
	"ellwand.example/core/git"
	"ellwand.example/core/need"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/version"
)

// Extension ends the name of a bundle.
const Extension = ".bundle.ell"

// Format is the edition of the format that this package writes.
const Format = 1

// Facts are what a bundle says of itself.
type Facts struct {
	Format  int               `json:"format"`
	Name    string            `json:"name"`
	Full    string            `json:"full"`    // version and release
	Files   map[string]string `json:"files"`   // of the recipe's folder: path → SHA-256
	Sources []Source          `json:"sources"` // those that stand in no file beside the recipe
}

// Source is one source in a bundle.
type Source struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Commit string `json:"commit,omitempty"` // of which it is the archive
	// Object is the object of the commit, which names the tree that the archive
	// holds: whoever reads a bundle verifies the one by the other.
	Object []byte `json:"object,omitempty"`
}

// Limits on what a bundle may hold besides its sources.
const (
	maxFacts  = 4 << 20
	maxFile   = 64 << 20
	maxFiles  = 10_000
	maxSource = 64 << 30
)

// FileName is the name of the bundle of a recipe.
func FileName(r *recipe.Recipe) string {
	full := version.Full{Version: r.Version, Release: r.Release}
	return r.Name + "@" + full.String() + Extension
}

// Write writes the bundle of a recipe, whose sources have been fetched.
func Write(ctx context.Context, path string, r *recipe.Recipe, store source.Store, sources []source.Fetched) (Facts, error) {
	f := Facts{Format: Format, Name: r.Name, Full: r.Full(), Files: map[string]string{}, Sources: []Source{}}
	files, err := Folder(r.Dir)
	if err != nil {
		return f, err
	}
	for name, data := range files {
		f.Files[name] = digest(data)
	}
	paths := map[string]string{}
	for i, s := range sources {
		if r.Sources[i].File != "" {
			continue
		}
		if paths[s.SHA256] == "" {
			out := Source{Name: s.Name, SHA256: s.SHA256, Commit: s.Commit}
			if s.Commit != "" {
				out.Object = store.CommitArchive(s.Commit).Object
			}
			f.Sources = append(f.Sources, out)
		}
		paths[s.SHA256] = s.Path
	}
	slices.SortFunc(f.Sources, func(a, b Source) int { return strings.Compare(a.SHA256, b.SHA256) })
	t, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o644))
	if err != nil {
		return f, err
	}
	defer t.Cleanup()
	// Sources are compressed already, as a rule.
	z, err := zstd.NewWriter(t, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return f, err
	}
	w := tar.NewWriter(z)
	put := func(name string, size int64, executable bool, r io.Reader) error {
		h := &tar.Header{Format: tar.FormatPAX, Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644, ModTime: time.Unix(0, 0)}
		if executable {
			h.Mode = 0o755
		}
		if err := errors.Join(ctx.Err(), w.WriteHeader(h)); err != nil {
			return err
		}
		_, err := io.Copy(w, r)
		return err
	}
	facts, err := canonical.Marshal(f)
	if err != nil {
		return f, err
	}
	if err := put("bundle.json", int64(len(facts)), false, bytes.NewReader(facts)); err != nil {
		return f, err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		info, err := os.Stat(filepath.Join(r.Dir, name))
		if err != nil {
			return f, err
		}
		if err := put("recipe/"+name, int64(len(files[name])), info.Mode()&0o111 != 0, bytes.NewReader(files[name])); err != nil {
			return f, err
		}
	}
	for _, s := range f.Sources {
		if err := putSource(paths[s.SHA256], s.SHA256, put); err != nil {
			return f, err
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		return f, err
	}
	return f, t.CloseAtomicallyReplace()
}

func putSource(path, want string, put func(string, int64, bool, io.Reader) error) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	h := sha256.New()
	if err := put("sources/"+want, info.Size(), false, io.TeeReader(in, h)); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != want {
		return &source.DigestError{What: "the source store's copy of " + path, Expected: want, Found: got}
	}
	return nil
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Folder reads the files of a recipe's folder, by their paths in it. What an
// editor leaves behind is not of it.
func Folder(dir string) (map[string][]byte, error) {
	out := map[string][]byte{}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if path == "." {
			return nil
		}
		if git.HasNested(path) {
			if e.IsDir() {
				return fs.SkipDir // of the one who keeps the recipe, and no part of it
			}
			return nil
		}
		if e.IsDir() || strings.HasSuffix(path, "~") || strings.HasPrefix(e.Name(), ".#") {
			return nil
		}
		data, err := readFile(root, path)
		if err != nil {
			return fmt.Errorf("%s: %w", filepath.Join(dir, path), err)
		}
		if len(out) >= maxFiles {
			return fmt.Errorf("%s has more than %d files, which is the most that a bundle takes", dir, maxFiles)
		}
		out[path] = data
		return nil
	})
	return out, err
}

// readFile reads a regular file of a recipe's directory. A link in it that
// leads elsewhere is not followed.
func readFile(root *os.Root, name string) ([]byte, error) {
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxFile {
		return nil, fmt.Errorf("a bundle takes regular files of up to %d MiB", maxFile>>20)
	}
	return io.ReadAll(io.LimitReader(f, maxFile))
}

// FormatError is a file that is no bundle, or a damaged one.
type FormatError struct{ Reason string }

func (e *FormatError) Error() string { return "this is no whole bundle: " + e.Reason }

func bad(format string, arguments ...any) error {
	return &FormatError{fmt.Sprintf(format, arguments...)}
}

// Content is a bundle that was read: its sources are in the store.
type Content struct {
	Facts
	Data       map[string][]byte // of the recipe's folder
	Executable map[string]bool
}

var sha256Name = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Read reads a bundle, and puts its sources into the store. Nothing else is
// written.
func Read(ctx context.Context, in io.Reader, store source.Store) (Content, error) {
	c := Content{Data: map[string][]byte{}, Executable: map[string]bool{}}
	z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(128<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return c, bad("%v", err)
	}
	defer z.Close()
	r := tar.NewReader(z)
	sources := map[string]bool{}
	for first := true; ; first = false {
		if err := ctx.Err(); err != nil {
			return c, err
		}
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return c, bad("%v", err)
		}
		if h.Typeflag != tar.TypeReg || !filepath.IsLocal(h.Name) || strings.ContainsAny(h.Name, "\\\x00") || h.Name != filepath.ToSlash(filepath.Clean(h.Name)) {
			return c, bad("%q is no plain file", h.Name)
		}
		if git.HasNested(h.Name) {
			// It would be configuration of git's, which can name programs to run.
			return c, bad("it brings %q, a part of a git repository", h.Name)
		}
		kind, name, _ := strings.Cut(h.Name, "/")
		switch {
		case first:
			if h.Name != "bundle.json" || h.Size > maxFacts {
				return c, bad("it begins with %q", h.Name)
			}
			if err := c.readFacts(r); err != nil {
				return c, err
			}
		case kind == "recipe" && c.Files[name] != "":
			if h.Size > maxFile || len(c.Data) >= maxFiles {
				return c, bad("%s is too large, or one file too many", name)
			}
			data, err := io.ReadAll(r)
			if err != nil {
				return c, bad("%v", err)
			}
			if digest(data) != c.Files[name] {
				return c, bad("%s is not what bundle.json says", name)
			}
			c.Data[name], c.Executable[name] = data, h.Mode&0o111 != 0
		case kind == "sources" && slices.ContainsFunc(c.Sources, func(s Source) bool { return s.SHA256 == name }):
			if h.Size > maxSource {
				return c, bad("source %s is too large", name)
			}
			if _, err := store.Add(ctx, r, "sources/"+name+" in the bundle", name); err != nil {
				return c, err
			}
			sources[name] = true
		default:
			return c, bad("bundle.json knows of no %s", h.Name)
		}
	}
	if len(c.Data) != len(c.Files) || c.Files[recipe.FileName] == "" {
		return c, bad("it has %d of %d files", len(c.Data), len(c.Files))
	}
	for _, s := range c.Sources {
		if !sources[s.SHA256] {
			return c, bad("source %s is not in it", s.Name)
		}
		if s.Commit != "" {
			if err := keepCommit(ctx, store, s); err != nil {
				return c, err
			}
		}
	}
	return c, nil
}

// keepCommit notes that a source is the archive of a commit, once it is certain
// that it is: the bundle's word for it is worth nothing.
func keepCommit(ctx context.Context, store source.Store, s Source) error {
	f, err := os.Open(store.Path(s.SHA256))
	if err != nil {
		return err
	}
	defer f.Close()
	if err := git.VerifyArchive(ctx, s.Commit, s.Object, f); err != nil {
		if ctx.Err() != nil {
			return err
		}
		return bad("source %s is not what the commit %q holds: %v", s.Name, s.Commit, err)
	}
	return store.SetCommitArchive(s.Commit, source.CommitArchive{SHA256: s.SHA256, Object: s.Object})
}

func (c *Content) readFacts(r io.Reader) error {
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	if err := d.Decode(&c.Facts); err != nil {
		return bad("bundle.json: %v", err)
	}
	if c.Format != Format {
		return bad("it is of format %d, and this program reads format %d", c.Format, Format)
	}
	if !need.ValidPackageName(c.Name) {
		return bad("%q cannot be a recipe's name", c.Name)
	}
	for _, s := range c.Sources {
		if !sha256Name.MatchString(s.SHA256) {
			return bad("%q is no digest", s.SHA256)
		}
	}
	return nil
}

// EditedError says that a recipe is there already, and is not what was
// unbundled before.
type EditedError struct {
	Dir     string
	Changed []string // paths in the folder that differ from the bundle
	There   map[string][]byte
	Bundled map[string][]byte
}

func (e *EditedError) Error() string {
	return fmt.Sprintf("%s has edits of your own, which unbundling would lose: %s", e.Dir, strings.Join(e.Changed, ", "))
}

// Unpack writes the recipe's folder. One that is there is replaced if it is as
// the last bundle left it, which state, a file, remembers; otherwise the error
// is an *EditedError.
func (c *Content) Unpack(dir, state string) (changed bool, err error) {
	there, err := Folder(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	now := map[string]string{}
	for name, data := range there {
		now[name] = digest(data)
	}
	if maps.Equal(now, c.Files) {
		return false, c.remember(state)
	}
	last := map[string]string{}
	if data, err := os.ReadFile(state); err == nil && json.Unmarshal(data, &last) != nil {
		last = nil
	}
	if len(now) > 0 && !maps.Equal(now, last) {
		e := &EditedError{Dir: dir, There: there, Bundled: c.Data}
		for name := range now {
			if now[name] != c.Files[name] {
				e.Changed = append(e.Changed, name)
			}
		}
		for name := range c.Files {
			if now[name] == "" {
				e.Changed = append(e.Changed, name)
			}
		}
		slices.Sort(e.Changed)
		return false, e
	}
	temp, err := os.MkdirTemp(filepath.Dir(dir), ".unbundling-")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(temp)
	if err := c.write(temp); err != nil {
		return false, err
	}
	if len(now) > 0 {
		old := temp + ".old"
		if err := os.Rename(dir, old); err != nil {
			return false, err
		}
		defer os.RemoveAll(old)
	}
	if err := os.Rename(temp, dir); err != nil {
		return false, err
	}
	return true, c.remember(state)
}

func (c *Content) write(dir string) error {
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for name, data := range c.Data {
		if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		mode := os.FileMode(0o644)
		if c.Executable[name] {
			mode = 0o755
		}
		if err := root.WriteFile(name, data, mode); err != nil {
			return err
		}
	}
	return nil
}

func (c *Content) remember(state string) error {
	data, err := json.Marshal(c.Files)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(state), 0o755); err != nil {
		return err
	}
	return files.Write(state, data)
}
