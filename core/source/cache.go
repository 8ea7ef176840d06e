// Package source fetches the sources of recipes into a content-addressed cache
// and unpacks them. Archives are tar (POSIX pax, GNU and older), plain or in
// gzip, bzip2, xz or Zstandard, and zip; what they are is told from their
// first bytes, never from their names.
package source

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"ellwand.example/core/cancel"
	"ellwand.example/core/files"
)

// Cache keeps files by the SHA-256 of their contents. Several processes may
// use it at once: files appear in it whole, by rename.
type Cache struct{ Dir string }

// DefaultCache is the cache shared by all workspaces of a user: in
// $XDG_CACHE_HOME (XDG Base Directory Specification), or under fallback where
// the user has no cache directory.
func DefaultCache(fallback string) Cache {
	if cache, err := os.UserCacheDir(); err == nil {
		return Cache{filepath.Join(cache, "ellwand", "sources")}
	}
	return Cache{fallback}
}

// Path is where the file with a digest (64 hex digits) is, or would be.
func (s Cache) Path(digest string) string {
	return filepath.Join(s.Dir, "sha256", digest[:2], digest)
}

// Has reports whether the cache holds a digest.
func (s Cache) Has(digest string) bool {
	if len(digest) < 2 {
		return false
	}
	info, err := os.Stat(s.Path(digest))
	return err == nil && info.Mode().IsRegular()
}

// Verify reads a stored file and compares its digest. A file that no longer
// is what it was is removed, so that the next fetch downloads it again.
func (s Cache) Verify(ctx context.Context, digest string) error {
	found, err := files.SHA256(ctx, s.Path(digest))
	if err != nil {
		return err
	}
	if found != digest {
		os.Remove(s.Path(digest))
		return &DigestError{What: "the source cache's copy, which is removed now,", Expected: digest, Found: found}
	}
	return nil
}

// Add copies r into the cache and returns its digest. With want set, a file of
// another digest is not kept and the error is a *DigestError.
func (s Cache) Add(ctx context.Context, r io.Reader, what, want string) (string, error) {
	if err := files.MkdirAll(s.Dir); err != nil {
		return "", err
	}
	h := sha256.New()
	t, err := os.CreateTemp(s.Dir, ".incoming-")
	if err != nil {
		return "", err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	defer t.Close()
	if _, err := io.Copy(io.MultiWriter(t, h), cancel.Reader(ctx, r)); err != nil {
		return "", err
	}
	digest := hex.EncodeToString(h.Sum(nil))
	if want != "" && digest != want {
		return digest, &DigestError{What: what, Expected: want, Found: digest}
	}
	if err := errors.Join(t.Chmod(files.Mode(s.Dir)), t.Sync(), t.Close()); err != nil {
		return "", err
	}
	return digest, s.place(t.Name(), digest)
}

// AddFile moves a file that is on the cache's file system into it.
func (s Cache) AddFile(ctx context.Context, path, what, want string) (string, error) {
	digest, err := files.SHA256(ctx, path)
	if err != nil {
		return "", err
	}
	if want != "" && digest != want {
		return digest, &DigestError{What: what, Expected: want, Found: digest}
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return "", err
	}
	if err := errors.Join(f.Chmod(files.Mode(s.Dir)), f.Sync(), f.Close()); err != nil {
		return "", err
	}
	return digest, s.place(path, digest)
}

// place puts a file that is complete where its digest says.
func (s Cache) place(path, digest string) error {
	dir := filepath.Dir(s.Path(digest))
	if err := files.MkdirAll(dir); err != nil {
		return err
	}
	if err := os.Rename(path, s.Path(digest)); err != nil {
		return err
	}
	return files.Flush(context.Background(), dir)
}

// DigestError says that contents are not those that were pinned.
type DigestError struct {
	What            string // whose contents
	Expected, Found string // SHA-256, hex
}

func (e *DigestError) Error() string {
	return fmt.Sprintf("%s is not what the recipe pins:\n  expected  sha256 %s\n  found     sha256 %s", e.What, e.Expected, e.Found)
}
