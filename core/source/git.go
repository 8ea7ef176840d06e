package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"ellwand.example/core/recipe"
)

// GitError is something that the git program could not do.
type GitError struct {
	Address string
	Text    string // what git says of it
}

func (e *GitError) Error() string { return e.Address + ": git: " + e.Text }

// fetchCommit brings a commit of a git repository into the store, as a tar
// archive with one top folder. Git itself checks that what came is what the
// commit's name says.
func (f *Fetcher) fetchCommit(ctx context.Context, s recipe.Source) (Fetched, error) {
	out := Fetched{Name: FileName(s), Commit: s.Commit}
	if _, err := exec.LookPath("git"); err != nil {
		return out, &GitError{s.Git, "the program git is not on this machine"}
	}
	if out.Commit == "" {
		commit, err := tagged(ctx, s.Git, s.Tag)
		if err != nil {
			return out, err
		}
		out.Commit = commit
	}
	if digest := f.Store.CommitArchive(out.Commit); sha256Name.MatchString(digest) && f.Store.Has(digest) {
		out.SHA256 = digest
		return f.found(out)
	}
	key := sha256.Sum256([]byte(s.Git))
	mirror := filepath.Join(f.Store.Dir, "git", fmt.Sprintf("%x", key[:16]))
	if err := os.MkdirAll(mirror, 0o755); err != nil {
		return out, err
	}
	lock := flock.New(mirror + ".lock")
	if ok, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil || !ok {
		return out, errors.Join(ctx.Err(), err)
	}
	defer lock.Unlock()
	t := f.Progress.Begin("fetch "+out.Name, 0, "")
	defer t.End("done")
	if err := bring(ctx, mirror, s.Git, out.Commit); err != nil {
		return out, err
	}
	prefix := strings.TrimSuffix(out.Name, ".tar") + "/"
	cmd := git(ctx, mirror, "archive", "--format=tar", "--prefix="+prefix, out.Commit)
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		return out, err
	}
	if err := cmd.Start(); err != nil {
		return out, err
	}
	digest, err := f.Store.Add(pipe, s.Git, "")
	io.Copy(io.Discard, pipe)
	if wait := cmd.Wait(); wait != nil {
		err = errors.Join(&GitError{s.Git, "the archive of " + out.Commit + " could not be made"}, err)
	}
	if err != nil {
		return out, err
	}
	out.SHA256, out.New = digest, true
	if err := f.Store.SetCommitArchive(out.Commit, digest); err != nil {
		return out, err
	}
	return f.found(out)
}

var (
	sha256Name = regexp.MustCompile(`^[0-9a-f]{64}$`)
	commitName = regexp.MustCompile(`^([0-9a-f]{40}|[0-9a-f]{64})$`)
)

// git prepares a call of the git program that asks nothing of anyone, and
// runs no program that the address names.
func git(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "protocol.ext.allow=never", "-c", "core.hooksPath=/dev/null", "-c", "safe.directory=*"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "LC_ALL=C")
	return cmd
}

func runGit(ctx context.Context, dir, address string, args ...string) (string, error) {
	var out, problems bytes.Buffer
	cmd := git(ctx, dir, args...)
	cmd.Stdout, cmd.Stderr = &out, &problems
	if err := cmd.Run(); err != nil {
		text := strings.TrimSpace(problems.String())
		if text == "" {
			text = err.Error()
		}
		return "", &GitError{address, text}
	}
	return out.String(), nil
}

// tagged asks a repository which commit a tag stands for.
func tagged(ctx context.Context, address, tag string) (string, error) {
	list, err := runGit(ctx, "", address, "ls-remote", "--", address, "refs/tags/"+tag, "refs/tags/"+tag+"^{}")
	if err != nil {
		return "", err
	}
	commit := ""
	for line := range strings.Lines(list) {
		// The line with ^{} comes second, and tells the commit of a tag that
		// is an object of its own.
		if name, ref, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok && strings.HasPrefix(ref, "refs/tags/"+tag) && commitName.MatchString(name) {
			commit = name
		}
	}
	if commit == "" {
		return "", &GitError{address, fmt.Sprintf("there is no tag %q", tag)}
	}
	return commit, nil
}

// bring makes sure that a bare repository of Ellwand's own has a commit: alone
// if the server gives it so, or with all that its tags and branches reach.
func bring(ctx context.Context, dir, address, commit string) error {
	if _, err := runGit(ctx, dir, address, "rev-parse", "--git-dir"); err != nil || !isBare(dir) {
		args := []string{"init", "--quiet", "--bare"}
		if len(commit) == sha256.Size*2 {
			args = append(args, "--object-format=sha256")
		}
		if _, err := runGit(ctx, dir, address, args...); err != nil {
			return err
		}
	}
	has := func() bool {
		_, err := runGit(ctx, dir, address, "cat-file", "-e", commit+"^{commit}")
		return err == nil
	}
	if has() {
		return nil
	}
	_, alone := runGit(ctx, dir, address, "fetch", "--quiet", "--no-tags", "--depth=1", "--", address, commit)
	if alone == nil && has() {
		return nil
	}
	if _, err := runGit(ctx, dir, address, "fetch", "--quiet", "--no-tags", "--force", "--", address, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return err
	}
	if !has() {
		return &GitError{address, "no branch and no tag reaches the commit " + commit}
	}
	return nil
}

func isBare(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "HEAD"))
	return err == nil
}

// gitName is the name that a commit goes by, as an archive's.
func gitName(s recipe.Source) string {
	base := strings.TrimSuffix(path.Base(strings.TrimSuffix(s.Git, "/")), ".git")
	what := s.Tag
	if what == "" {
		what = s.Commit[:min(12, len(s.Commit))]
	}
	return base + "-" + strings.ReplaceAll(what, "/", "-") + ".tar"
}
