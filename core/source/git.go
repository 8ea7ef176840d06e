package source

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source/git"
)

// GitError is something that the git program could not do with a repository.
type GitError struct {
	Address string
	Err     error
}

func (e *GitError) Error() string { return e.Address + ": " + e.Err.Error() }

func (e *GitError) Unwrap() error { return e.Err }

// fetchCommit fetches a commit of a git repository into the cache, as a tar
// archive with one top directory. Git itself checks that what came is what the
// commit's name says.
func (f *Fetcher) fetchCommit(ctx context.Context, s recipe.Source) (Fetched, error) {
	out := Fetched{Name: FileName(s), Commit: s.Commit}
	if out.Commit == "" {
		commit, err := tagged(ctx, s.Git, s.Tag)
		if err != nil {
			return out, err
		}
		out.Commit = commit
	}
	if known := f.Cache.CommitArchive(out.Commit); f.Cache.Has(known.SHA256) {
		out.SHA256 = known.SHA256
		return f.found(out)
	}
	key := sha256.Sum256([]byte(s.Git))
	mirror := filepath.Join(f.Cache.Dir, "git", fmt.Sprintf("%x", key[:16]))
	if err := files.MkdirAll(mirror); err != nil {
		return out, err
	}
	unlock, err := files.Lock(ctx, mirror+".lock")
	if err != nil {
		return out, err
	}
	defer unlock()
	t := f.Progress.Begin("fetch "+out.Name, 0, "")
	defer t.End("done")
	if err := obtain(ctx, mirror, s.Git, out.Commit); err != nil {
		return out, err
	}
	digest, object, err := f.archive(ctx, mirror, s.Git, out.Commit, strings.TrimSuffix(out.Name, ".tar"))
	if err != nil {
		return out, err
	}
	out.SHA256, out.New = digest, true
	if err := f.Cache.SetCommitArchive(out.Commit, CommitArchive{digest, object}); err != nil {
		return out, err
	}
	return f.found(out)
}

// archive adds the archive of a commit to the cache.
func (f *Fetcher) archive(ctx context.Context, mirror, address, commit, top string) (digest string, object []byte, err error) {
	objects, err := git.OpenObjects(ctx, mirror)
	if err != nil {
		return "", nil, &GitError{address, err}
	}
	object, err = objects.CommitObject(commit)
	if err = errors.Join(err, objects.Close()); err != nil {
		return "", nil, &GitError{address, err}
	}
	out, in := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := git.WriteArchive(ctx, mirror, commit, top, in)
		in.CloseWithError(err)
		done <- err
	}()
	digest, err = f.Cache.Add(ctx, out, address, "")
	out.CloseWithError(err)
	if wrote := <-done; wrote != nil && err == nil || ctx.Err() != nil {
		err = cmp.Or(context.Cause(ctx), wrote)
	}
	if err != nil {
		return "", nil, &GitError{address, err}
	}
	return digest, object, nil
}

// protocols are those by which a repository is reached.
func protocols(address string) git.Protocols {
	if strings.HasPrefix(address, "file://") {
		return git.Files
	}
	return git.Network
}

func runGit(ctx context.Context, dir, address string, args ...string) (string, error) {
	out, err := git.Output(ctx, dir, protocols(address), args...)
	if err != nil && ctx.Err() == nil {
		err = &GitError{address, err}
	}
	return string(out), err
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
		if name, ref, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok && strings.HasPrefix(ref, "refs/tags/"+tag) && fact.IsCommit(name) {
			commit = name
		}
	}
	if commit == "" {
		return "", &GitError{address, fmt.Errorf("git: there is no tag %q", tag)}
	}
	return commit, nil
}

// Tags lists the tags of a repository.
func Tags(ctx context.Context, address string) ([]string, error) {
	list, err := runGit(ctx, "", address, "ls-remote", "--tags", "--refs", "--", address)
	if err != nil {
		return nil, err
	}
	var out []string
	for line := range strings.Lines(list) {
		if _, ref, ok := strings.Cut(strings.TrimSpace(line), "\trefs/tags/"); ok {
			out = append(out, ref)
		}
	}
	return out, nil
}

// obtain makes sure that a bare repository of Ellwand's own has a commit: alone
// if the server gives it so, or with all that its tags and branches reach.
func obtain(ctx context.Context, dir, address, commit string) error {
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
		return &GitError{address, errors.New("git: no branch and no tag reaches the commit " + commit)}
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
