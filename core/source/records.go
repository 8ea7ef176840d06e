package source

import (
	"cmp"
	"context"
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

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
)

// Stored is one file of the cache.
type Stored struct {
	SHA256 string    `json:"sha256"`
	Name   string    `json:"name"` // that it came by last; empty where that is not known
	Size   int64     `json:"size"` // bytes
	Added  time.Time `json:"added"`
}

// name remembers what a file is called; the digest tells nobody anything.
func (s Cache) name(digest, name string) {
	file := filepath.Join(s.Dir, "names", digest)
	if old, err := os.ReadFile(file); err == nil && string(old) == name {
		return
	}
	// A name that is lost costs a line in a list, no more.
	if files.MkdirAll(filepath.Dir(file)) == nil {
		files.Write(file, []byte(name))
	}
}

// List lists the cache's files by name.
func (s Cache) List() ([]Stored, error) {
	files, err := filepath.Glob(filepath.Join(s.Dir, "sha256", "??", "*"))
	if err != nil {
		return nil, err
	}
	out := []Stored{}
	for _, file := range files {
		info, err := os.Stat(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue // another process clears the cache
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

// Remove removes a file from the cache.
func (s Cache) Remove(digest string) error {
	if err := os.Remove(s.Path(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	os.Remove(filepath.Join(s.Dir, "names", digest))
	return nil
}

// Enlist notes that a workspace uses the cache, so that what its recipes pin
// is known to be of use.
func (s Cache) Enlist(ctx context.Context, workspace string) error {
	if slices.Contains(s.Workspaces(), workspace) {
		return nil
	}
	if err := files.MkdirAll(s.Dir); err != nil {
		return err
	}
	unlock, err := files.Lock(ctx, filepath.Join(s.Dir, "workspaces.lock"))
	if err != nil {
		return err
	}
	defer unlock()
	data, err := json.Marshal(append(s.Workspaces(), workspace))
	if err != nil {
		return err
	}
	return files.WriteDurable(filepath.Join(s.Dir, "workspaces.json"), data)
}

// Workspaces lists the directories of the workspaces that use the cache; some may
// be gone.
func (s Cache) Workspaces() []string {
	var all []string
	if data, err := os.ReadFile(filepath.Join(s.Dir, "workspaces.json")); err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all
}

// CommitArchive is the archive that was made of a commit, and the commit's own
// object, by which a reader of the archive can tell that it is the commit's.
type CommitArchive struct {
	SHA256 string
	Object []byte
}

// SetCommitArchive notes the archive of a commit, which the caller has made or
// verified itself.
func (s Cache) SetCommitArchive(commit string, a CommitArchive) error {
	if !fact.IsCommit(commit) {
		return fmt.Errorf("%q is not a commit", commit)
	}
	data, err := json.Marshal(a)
	if err != nil {
		return err
	}
	known := filepath.Join(s.Dir, "git", "commits", commit+".json")
	if err := files.MkdirAll(filepath.Dir(known)); err != nil {
		return err
	}
	return files.Write(known, data)
}

// CommitArchive returns what is known of a commit's archive; nothing where
// none was made.
func (s Cache) CommitArchive(commit string) CommitArchive {
	var a CommitArchive
	data, err := os.ReadFile(filepath.Join(s.Dir, "git", "commits", filepath.Base(commit)+".json"))
	if err != nil || json.Unmarshal(data, &a) != nil || !fact.IsSHA256(a.SHA256) {
		return CommitArchive{}
	}
	return a
}

// ClearPartial removes what is left of downloads that were not completed, and
// the locks on them, and returns how many bytes that were. Downloads under way
// are left alone.
func (s Cache) ClearPartial() (int64, error) {
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
