// Package revision asks git what it knows of a recipe's folder: which commit it
// is at, whether it was changed since, and how it was at another one. It calls
// the git program, and does nothing where there is none or no repository.
package revision

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Revision is where a folder is in the history of its repository.
type Revision struct {
	Commit string `json:"commit"` // the last one that changed the folder
	Clean  bool   `json:"clean"`  // nothing in the folder differs from it
}

// git calls the program in a folder. Its output is bounded by memory: it is
// for small things.
func git(ctx context.Context, dir string, args ...string) ([]byte, error) {
	var out, problems bytes.Buffer
	cmd := exec.CommandContext(ctx, "git", append([]string{"--no-optional-locks"}, args...)...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &problems
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	if err := cmd.Run(); err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			text, _, _ := strings.Cut(strings.TrimSpace(problems.String()), "\n")
			return nil, fmt.Errorf("git: %s", strings.TrimPrefix(text, "fatal: "))
		}
		return nil, err
	}
	return out.Bytes(), nil
}

// Of finds the revision of a folder; ok is false where no repository has it.
func Of(ctx context.Context, dir string) (r Revision, ok bool) {
	if !inRepository(dir) {
		return r, false
	}
	commit, err := git(ctx, dir, "log", "-1", "--format=%H", "--", ".")
	if err != nil || len(commit) == 0 {
		return r, false
	}
	status, err := git(ctx, dir, "status", "--porcelain", "--", ".")
	if err != nil {
		return r, false
	}
	return Revision{strings.TrimSpace(string(commit)), len(bytes.TrimSpace(status)) == 0}, true
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

// InRepository reports whether a folder stands in a git repository.
func InRepository(dir string) bool {
	abs, err := filepath.Abs(dir)
	return err == nil && inRepository(abs)
}

// At reads a folder's files as they were at a revision, by their paths in it.
// The folder need not be there any more; the one above it must be.
func At(ctx context.Context, dir, rev string) (map[string][]byte, error) {
	if strings.HasPrefix(rev, "-") || strings.ContainsAny(rev, ": \t\n") {
		return nil, fmt.Errorf("%q is no revision: give a commit, a tag or a branch", rev)
	}
	above, name := filepath.Split(dir)
	prefix, err := git(ctx, above, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	inside := strings.TrimSuffix(string(prefix), "\n") + name
	if _, err := git(ctx, above, "rev-parse", "--verify", "--quiet", rev+"^{commit}"); err != nil {
		return nil, fmt.Errorf("git knows of no revision %q", rev)
	}
	top, err := git(ctx, above, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	// In a folder below, git takes only what is there.
	archive, err := git(ctx, strings.TrimSuffix(string(top), "\n"), "archive", "--format=tar", rev+":"+inside)
	if err != nil {
		return nil, fmt.Errorf("%s was not there at %s", inside, rev)
	}
	files := map[string][]byte{}
	for r := tar.NewReader(bytes.NewReader(archive)); ; {
		h, err := r.Next()
		if err == io.EOF {
			return files, nil
		}
		if err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg {
			if files[h.Name], err = io.ReadAll(r); err != nil {
				return nil, err
			}
		}
	}
}
