// Package revision asks git what it knows of a recipe's directory: which commit
// it is at, whether it was changed since, and how it was at another one. It
// does nothing if there is no git program or no repository.
package revision

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/source/git"
)

// Revision is where a directory is in the history of its repository.
type Revision struct {
	Commit string `json:"commit"` // the last one that changed the directory
	Clean  bool   `json:"clean"`  // nothing in the directory differs from it
}

// Of finds the revision of a directory; ok is false if no repository has it.
func Of(ctx context.Context, dir string) (r Revision, ok bool) {
	if !inRepository(dir) {
		return r, false
	}
	commit, err := git.Output(ctx, dir, git.Local, "log", "-1", "--no-show-signature", "--format=%H", "--", ".")
	if err != nil || len(commit) == 0 {
		return r, false
	}
	clean, err := isClean(ctx, dir)
	return Revision{strings.TrimSpace(string(commit)), clean}, err == nil
}

// isClean compares the files of a directory with those of the commit that is
// checked out, and looks for others. "git status" would do the same, and run
// whatever filters the repository's configuration names.
func isClean(ctx context.Context, dir string) (bool, error) {
	inside, err := prefix(ctx, dir)
	if err != nil {
		return false, err
	}
	entries, err := git.Tree(ctx, dir, "HEAD:"+inside)
	if err != nil {
		return false, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return false, err
	}
	defer root.Close()
	for _, e := range entries {
		if same, err := isSame(root, e); !same || err != nil {
			return false, err
		}
	}
	others, err := git.Output(ctx, dir, git.Local, "ls-files", "--others", "--exclude-standard", "-z", "--", ".")
	if err != nil {
		return false, err
	}
	if len(others) > 0 {
		return false, nil
	}
	// What was added to the index and not committed is there too.
	indexed, err := git.Output(ctx, dir, git.Local, "ls-files", "--cached", "-z", "--", ".")
	return err == nil && strings.Count(string(indexed), "\x00") == len(entries), err
}

// isSame reports whether a file is as a commit has it.
func isSame(root *os.Root, e git.Entry) (bool, error) {
	name := filepath.FromSlash(e.Path)
	info, err := root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	id := ""
	switch e.Mode {
	case git.ModeSubmodule:
		return info.IsDir(), nil
	case git.ModeLink:
		target, err := root.Readlink(name)
		if err != nil {
			return false, nil
		}
		id, err = git.BlobID(e.ID, int64(len(target)), strings.NewReader(target))
		return id == e.ID, err
	}
	if !info.Mode().IsRegular() || (info.Mode()&0o100 != 0) != (e.Mode == git.ModeExecutable) {
		return false, nil
	}
	f, err := root.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	id, err = git.BlobID(e.ID, info.Size(), f)
	return id == e.ID, err
}

// prefix is the path of a directory in its repository, without a slash at the
// end; empty for the top.
func prefix(ctx context.Context, dir string) (string, error) {
	out, err := git.Output(ctx, dir, git.Local, "rev-parse", "--show-prefix")
	return strings.TrimSuffix(strings.TrimSuffix(string(out), "\n"), "/"), err
}

// inRepository looks for a repository without starting a program.
func inRepository(dir string) bool {
	for {
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil {
			return true
		}
		up := filepath.Dir(dir)
		if up == dir {
			return false
		}
		dir = up
	}
}

// InRepository reports whether a directory is in a git repository.
func InRepository(dir string) bool {
	abs, err := filepath.Abs(dir)
	return err == nil && inRepository(abs)
}

// Bounds on what At reads.
const (
	maxFiles = 10_000
	maxFile  = 64 << 20 // bytes
)

// At reads a directory's files as they were at a revision, by their paths in
// it. The directory need not be there any more; the one above it must be.
func At(ctx context.Context, dir, rev string) (map[string][]byte, error) {
	if strings.HasPrefix(rev, "-") || strings.ContainsAny(rev, ": \t\n") {
		return nil, fmt.Errorf("%q is not a revision: give a commit, a tag or a branch", rev)
	}
	above, name := filepath.Split(dir)
	inside, err := prefix(ctx, above)
	if err != nil {
		return nil, err
	}
	if inside != "" {
		inside += "/"
	}
	inside += name
	if _, err := git.Output(ctx, above, git.Local, "rev-parse", "--verify", "--quiet", rev+"^{commit}"); err != nil {
		return nil, fmt.Errorf("git knows of no revision %q", rev)
	}
	entries, err := git.Tree(ctx, above, rev+":"+inside)
	if err != nil {
		return nil, fmt.Errorf("%s was not there at %s", inside, rev)
	}
	if len(entries) > maxFiles {
		return nil, fmt.Errorf("%s had %d files at %s, and %d is the most that is read", inside, len(entries), rev, maxFiles)
	}
	objects, err := git.OpenObjects(ctx, above)
	if err != nil {
		return nil, err
	}
	defer objects.Close()
	files := map[string][]byte{}
	for _, e := range entries {
		if e.Mode != git.ModeFile && e.Mode != git.ModeExecutable {
			continue
		}
		err := objects.Object(e.ID, func(_ string, size int64, r io.Reader) error {
			if size > maxFile {
				return fmt.Errorf("%s had %d bytes at %s, and %d is the most that is read", e.Path, size, rev, maxFile)
			}
			data, err := io.ReadAll(r)
			files[e.Path] = data
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}
