// Package export writes a recipe with all its sources into one file, and reads
// such files, so that the recipe can be built elsewhere without a network.
//
// An exported recipe is a POSIX pax archive (IEEE Std 1003.1) compressed as Zstandard
// (RFC 8878), with these entries in this order:
//
//	export.json          canonical JSON (RFC 8785): Manifest
//	recipe/PATH…         the recipe's directory, sorted by path
//	sources/SHA256…      the sources, each once, sorted by digest
//
// The same recipe and sources give the same bytes.
package export

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
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/google/renameio/v2"
	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/source/git"
)

// Extension ends the name of an exported recipe.
const Extension = ".recipe.ell"

// Format is the number of the format that this package writes.
const Format = 1

// Manifest describes what an exported recipe contains.
type Manifest struct {
	Format  int               `json:"format"`
	Name    string            `json:"name"`
	Full    string            `json:"full"`    // version and release
	Files   map[string]string `json:"files"`   // of the recipe's directory: path → SHA-256
	Sources []Source          `json:"sources"` // those that are in no file beside the recipe
}

// Source is one source in an exported recipe.
type Source struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Commit string `json:"commit,omitempty"` // of which it is the archive
	// Object is the object of the commit, which names the tree that the archive
	// holds: a reader verifies one by the other.
	Object []byte `json:"object,omitempty"`
}

// Limits on what an exported recipe may contain.
const (
	maxManifest = 4 << 20
	maxFile     = 64 << 20
	maxFiles    = 10_000
	maxSource   = 64 << 30
)

// FileName is the name of the file that a recipe is exported to.
func FileName(r *recipe.Recipe) string {
	full := version.Full{Version: r.Version, Release: r.Release}
	return r.Name + "@" + full.String() + Extension
}

// Write exports a recipe, whose sources have been fetched.
func Write(ctx context.Context, path string, r *recipe.Recipe, cache source.Cache, sources []source.Fetched) (Manifest, error) {
	f := Manifest{Format: Format, Name: r.Name, Full: r.Full(), Files: map[string]string{}, Sources: []Source{}}
	files, err := Files(r.Dir)
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
				out.Object = cache.CommitArchive(s.Commit).Object
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
	if err := put("export.json", int64(len(facts)), false, bytes.NewReader(facts)); err != nil {
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
		return &source.DigestError{What: "the source cache's copy of " + path, Expected: want, Found: got}
	}
	return nil
}

func digest(data []byte) string {
	return fact.SHA256(data)
}

// Files reads the files of a recipe's directory, by their paths in it. What an
// editor leaves behind is not of it.
func Files(dir string) (map[string][]byte, error) {
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
				return fs.SkipDir // the recipe may be kept in git; that is not part of it
			}
			return nil
		}
		if e.IsDir() || strings.HasSuffix(path, "~") || strings.HasPrefix(e.Name(), ".#") {
			return nil
		}
		data, err := readFile(root, path)
		if err != nil && e.Type()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a link that leads out of the recipe's directory, or nowhere: put the file itself into the directory", filepath.Join(dir, path))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", filepath.Join(dir, path), err)
		}
		if len(out) >= maxFiles {
			return fmt.Errorf("%s has more than %d files, the most that can be exported", dir, maxFiles)
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
	return files.ReadRegular(f, maxFile)
}

// FormatError is a file that is not an exported recipe, or is damaged.
type FormatError struct{ Reason string }

func (e *FormatError) Error() string { return "not an exported recipe, or damaged: " + e.Reason }

func bad(format string, arguments ...any) error {
	return &FormatError{fmt.Sprintf(format, arguments...)}
}

// Content is an exported recipe that was read; its sources are in the source
// cache.
type Content struct {
	Manifest
	Data       map[string][]byte // of the recipe's directory
	Executable map[string]bool
}

// Read reads an exported recipe and adds its sources to the source cache. It
// writes nothing else.
func Read(ctx context.Context, in io.Reader, cache source.Cache) (Content, error) {
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
			return c, bad("%q is not a regular file", h.Name)
		}
		if git.HasNested(h.Name) {
			// It would be configuration of git's, which can name programs to run.
			return c, bad("it contains %q, a part of a git repository", h.Name)
		}
		kind, name, _ := strings.Cut(h.Name, "/")
		switch {
		case first:
			if h.Name != "export.json" || h.Size > maxManifest {
				return c, bad("it begins with %q", h.Name)
			}
			if err := c.readManifest(r); err != nil {
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
				return c, bad("%s does not match its digest in export.json", name)
			}
			c.Data[name], c.Executable[name] = data, h.Mode&0o111 != 0
		case kind == "sources" && slices.ContainsFunc(c.Sources, func(s Source) bool { return s.SHA256 == name }):
			if h.Size > maxSource {
				return c, bad("source %s is too large", name)
			}
			if _, err := cache.Add(ctx, r, "sources/"+name+" in the exported recipe", name); err != nil {
				return c, err
			}
			sources[name] = true
		default:
			return c, bad("%s is not listed in export.json", h.Name)
		}
	}
	if len(c.Data) != len(c.Files) || c.Files[recipe.FileName] == "" {
		return c, bad("%d of %d files are in it", len(c.Data), len(c.Files))
	}
	for _, s := range c.Sources {
		if !sources[s.SHA256] {
			return c, bad("source %s is missing", s.Name)
		}
		if s.Commit != "" {
			if err := keepCommit(ctx, cache, s); err != nil {
				return c, err
			}
		}
	}
	return c, nil
}

// keepCommit records that a source is the archive of a commit, after verifying
// it: what the file claims is not trusted.
func keepCommit(ctx context.Context, cache source.Cache, s Source) error {
	f, err := os.Open(cache.Path(s.SHA256))
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
	return cache.SetCommitArchive(s.Commit, source.CommitArchive{SHA256: s.SHA256, Object: s.Object})
}

func (c *Content) readManifest(r io.Reader) error {
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	if err := d.Decode(&c.Manifest); err != nil {
		return bad("export.json: %v", err)
	}
	if c.Format != Format {
		return bad("it has format %d; this program reads format %d", c.Format, Format)
	}
	if !need.ValidPackageName(c.Name) {
		return bad("%q cannot be a recipe's name", c.Name)
	}
	for _, s := range c.Sources {
		if !fact.IsSHA256(s.SHA256) {
			return bad("%q is not a digest", s.SHA256)
		}
	}
	return nil
}

// EditedError reports that the recipe exists and was edited since it was last
// imported.
type EditedError struct {
	Dir     string
	Changed []string          // paths in the directory that differ from the exported recipe
	Here    map[string][]byte // path → contents in the directory
	There   map[string][]byte // in the exported recipe
}

func (e *EditedError) Error() string {
	return fmt.Sprintf("%s was edited; importing would lose changes to %s", e.Dir, strings.Join(e.Changed, ", "))
}

// Unpack writes the recipe's directory. An existing one is replaced if it was not
// edited since the last import, whose digests are in the file state; otherwise
// the error is an *EditedError.
func (c *Content) Unpack(dir, state string) (changed bool, err error) {
	here, err := Files(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	now := map[string]string{}
	for name, data := range here {
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
		e := &EditedError{Dir: dir, Here: here, There: c.Data}
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
	temp, err := os.MkdirTemp(filepath.Dir(dir), ".importing-")
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
