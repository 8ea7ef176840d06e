package app

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/cancel"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/root"
)

// keptDir is where package files that no repository has are kept, for a rewind.
// It is empty for a user without a cache.
func keptDir() string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(cache, "ellwand", "installed")
}

// keep copies the files of packages that come from no repository.
func (u *supply) keep(ctx context.Context) error {
	for _, c := range u.copies {
		if keptDir() == "" {
			return nil
		}
		to := filepath.Join(keptDir(), c.sha256+ell.Extension)
		if _, err := os.Stat(to); err == nil {
			continue
		}
		if err := copyFile(ctx, c.file, to); err != nil {
			return err
		}
	}
	return nil
}

func copyFile(ctx context.Context, from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if os.Link(from, to) == nil {
		return nil
	}
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	t, err := os.CreateTemp(filepath.Dir(to), ".new-")
	if err != nil {
		return err
	}
	defer os.Remove(t.Name()) // fails after the rename, as it should
	_, err = io.Copy(t, cancel.Reader(ctx, f))
	if err = errors.Join(err, t.Close()); err != nil {
		return err
	}
	return os.Rename(t.Name(), to)
}

// rewind finds the very packages that an earlier transaction left.
func (u *supply) rewind(ctx context.Context, serial int64) (q root.Request, err error) {
	var entry root.Entry
	if serial > 0 {
		if entry, err = u.root.Entry(serial); err != nil {
			return q, err
		}
	}
	wanted := map[string]bool{}
	var lost []string
	for _, i := range entry.Packages {
		wanted[i.Name] = true
		if have, ok := u.state.Find(i.Name); ok && have.SHA256 == i.SHA256 {
			continue
		}
		in, err := u.find(ctx, i)
		if err != nil {
			return q, err
		}
		if in.Package == nil {
			lost = append(lost, i.Identity())
			continue
		}
		q.Install = append(q.Install, in)
	}
	for _, name := range u.state.Names() {
		if !wanted[name] {
			q.Remove = append(q.Remove, name)
		}
	}
	if len(lost) > 0 {
		return q, fact.Errorf(fact.StatusInput, "%s of serial %d %s in no repository any more, and no copy was kept", strings.Join(lost, ", "), serial, verb(len(lost), "is", "are"))
	}
	return q, nil
}

// find looks for a package by its digest; its Package is nil if it is nowhere.
func (u *supply) find(ctx context.Context, i root.Installed) (root.Incoming, error) {
	in := root.Incoming{SHA256: i.SHA256, Bytes: i.Bytes, Asked: i.Asked}
	if p, err := ell.Open(filepath.Join(keptDir(), i.SHA256+ell.Extension)); err == nil {
		if same, err := u.isFile(ctx, p, i.SHA256); err == nil && same {
			u.opened = append(u.opened, p)
			in.Package = p
			return in, nil
		}
		p.Close()
	}
	if p, err := u.builtFile(ctx, i); p != nil || err != nil {
		if p != nil {
			u.opened = append(u.opened, p)
		}
		in.Package = p
		return in, err
	}
	f := ell.Facts{Name: i.Name, Version: i.Version, Release: i.Release, Epoch: i.Epoch, Arch: i.Arch, Target: u.root.Settings.Target}
	rec := index.RecordOf(f)
	rec.SHA256, rec.Bytes = i.SHA256, i.Bytes
	for _, configured := range u.root.Settings.Repositories {
		r, err := repo.OpenCached(configured.Address)
		if err != nil {
			continue
		}
		if p, err := u.fetch(ctx, r, rec); err == nil {
			in.Package = p
			return in, nil
		}
		if ctx.Err() != nil {
			return in, context.Cause(ctx)
		}
	}
	return in, nil
}

// isFile reports whether a package's file has a digest.
func (u *supply) isFile(ctx context.Context, p *ell.Package, sha256 string) (bool, error) {
	sum, err := files.SHA256(ctx, p.Path)
	return sum == sha256, err
}
