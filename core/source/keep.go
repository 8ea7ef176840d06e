package source

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
)

// Stored is one file of the store.
type Stored struct {
	SHA256 string    `json:"sha256"`
	Name   string    `json:"name"` // that it came by last; empty where that is not known
	Size   int64     `json:"size"` // bytes
	Added  time.Time `json:"added"`
}

// name remembers what a file is called; the digest tells nobody anything.
func (s Store) name(digest, name string) {
	file := filepath.Join(s.Dir, "names", digest)
	if old, err := os.ReadFile(file); err == nil && string(old) == name {
		return
	}
	// A name that is lost costs a line in a list, no more.
	if os.MkdirAll(filepath.Dir(file), 0o755) == nil {
		renameio.WriteFile(file, []byte(name), 0o644)
	}
}

// List lists the store's files by name.
func (s Store) List() ([]Stored, error) {
	files, err := filepath.Glob(filepath.Join(s.Dir, "sha256", "??", "*"))
	if err != nil {
		return nil, err
	}
	out := []Stored{}
	for _, file := range files {
		info, err := os.Stat(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue // another process clears the store
		}
		if err != nil {
			return nil, err
		}
		digest := filepath.Base(file)
		name, _ := os.ReadFile(filepath.Join(s.Dir, "names", digest))
		out = append(out, Stored{digest, string(name), info.Size(), info.ModTime()})
	}
	slices.SortFunc(out, func(a, b Stored) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.SHA256, b.SHA256)) })
	return out, nil
}

// Remove removes a file from the store.
func (s Store) Remove(digest string) error {
	if err := os.Remove(s.Path(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	os.Remove(filepath.Join(s.Dir, "names", digest))
	return nil
}

// Enlist notes that a workspace uses the store, so that what its recipes pin
// is known to be of use.
func (s Store) Enlist(workspace string) error {
	all := s.Workspaces()
	if slices.Contains(all, workspace) {
		return nil
	}
	data, err := json.Marshal(append(all, workspace))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(filepath.Join(s.Dir, "workspaces.json"), data, 0o644)
}

// Workspaces lists the folders of the workspaces that use the store; some may
// be gone.
func (s Store) Workspaces() []string {
	var all []string
	if data, err := os.ReadFile(filepath.Join(s.Dir, "workspaces.json")); err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all
}

// SetCommitArchive notes which file is the archive of a commit.
func (s Store) SetCommitArchive(commit, digest string) error {
	if !commitName.MatchString(commit) {
		return fmt.Errorf("%q is no commit", commit)
	}
	data, err := json.Marshal(map[string]string{"SHA256": digest})
	if err != nil {
		return err
	}
	known := filepath.Join(s.Dir, "git", "commits", commit+".json")
	if err := os.MkdirAll(filepath.Dir(known), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(known, data, 0o644)
}

// CommitArchive is the digest of the archive that was made of a commit; empty
// where there is none.
func (s Store) CommitArchive(commit string) string {
	var archive struct{ SHA256 string }
	if data, err := os.ReadFile(filepath.Join(s.Dir, "git", "commits", filepath.Base(commit)+".json")); err != nil || json.Unmarshal(data, &archive) != nil {
		return ""
	}
	return archive.SHA256
}

// ClearPartial removes what is left of downloads that were not completed, and
// the locks on them, and returns how many bytes that were. Downloads under way
// are left alone.
func (s Store) ClearPartial() (int64, error) {
	files, err := filepath.Glob(filepath.Join(s.Dir, "partial", "*.lock"))
	if err != nil {
		return 0, err
	}
	var freed int64
	for _, name := range files {
		lock := flock.New(name)
		if ok, err := lock.TryLock(); err != nil || !ok {
			continue
		}
		part := strings.TrimSuffix(name, ".lock")
		if info, err := os.Stat(part); err == nil {
			freed += info.Size()
		}
		for _, file := range []string{part, part + ".json", name} {
			if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
				lock.Unlock()
				return freed, err
			}
		}
		lock.Unlock()
	}
	return freed, nil
}
