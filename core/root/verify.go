package root

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"sync"
	"syscall"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// Deviation is a path that is not as its package installed it.
type Deviation struct {
	Path    string `json:"path"`
	Package string `json:"package"`
	Message string `json:"message"`
	// Edited means that it is configuration, which may be edited.
	Edited bool `json:"edited,omitempty"`
}

// Verification is what Verify found.
type Verification struct {
	Packages   int          `json:"packages"`
	Paths      int          `json:"paths"`
	Deviations []Deviation  `json:"deviations"`
	Pending    []ScriptCall `json:"pending,omitempty"` // scripts that failed
	// Unfinished means that a transaction was interrupted: the next one finishes or
	// undoes it.
	Unfinished bool `json:"unfinished,omitempty"`
	// NotRefreshed are programs that the root lacks, whose databases are out of date.
	NotRefreshed []string `json:"not_refreshed,omitempty"`
}

// Whole reports whether nothing but configuration differs.
func (v Verification) Whole() bool {
	return !v.Unfinished && len(v.Pending) == 0 && !slices.ContainsFunc(v.Deviations, func(d Deviation) bool { return !d.Edited })
}

// Verify compares every path of the installed packages, or of those that are named, with
// its record: type, mode, owner, target, contents.
func (r *Root) Verify(ctx context.Context, names []string, has func(program string) bool, sink progress.Sink) (Verification, error) {
	var v Verification
	s, err := r.State()
	if err != nil {
		return v, err
	}
	for _, name := range names {
		if _, ok := s.Find(name); !ok {
			return v, fact.Errorf(fact.StatusInput, "%s is not installed", name)
		}
	}
	owners := accountNumbers(r)
	var lock sync.Mutex
	task := sink.Begin("verifying", 0, "bytes")
	defer task.End("")
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, p := range s.Packages {
		if len(names) > 0 && !slices.Contains(names, p.Name) {
			continue
		}
		v.Packages++
		rec, err := r.Record(p)
		if err != nil {
			return v, errors.Join(err, g.Wait())
		}
		for _, e := range rec.Layout {
			v.Paths++
			real := rec.At(e.Path)
			g.Go(func() error {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				message, err := r.deviation(real, e, owners)
				task.Advance(e.Size)
				if err != nil || message == "" {
					return err
				}
				edited := e.Kind == fact.KindConfig
				lock.Lock()
				defer lock.Unlock()
				v.Deviations = append(v.Deviations, Deviation{real, p.Name, message, edited})
				return nil
			})
		}
	}
	if err := g.Wait(); err != nil {
		return v, err
	}
	slices.SortFunc(v.Deviations, func(a, b Deviation) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Package, b.Package))
	})
	if v.Pending, err = r.Pending(); err != nil {
		return v, err
	}
	if len(names) == 0 {
		all, err := r.owners(s)
		if err != nil {
			return v, err
		}
		v.NotRefreshed = r.missingRefreshers(all, has)
		wrong, err := r.wrongChoices(s)
		if err != nil {
			return v, err
		}
		v.Deviations = append(v.Deviations, wrong...)
	}
	for _, name := range []string{prepareFile, commitFile} {
		if _, err := r.state.Lstat(name); err == nil {
			v.Unfinished = true
		}
	}
	return v, nil
}

// deviation describes how a path differs from its entry; empty if it does not.
func (r *Root) deviation(real string, e ell.Entry, owners *accounts) (string, error) {
	info, there, err := r.exists(real)
	switch {
	case err != nil:
		return "", err
	case !there && (e.Kind == fact.KindCache || e.Kind == fact.KindState && e.Type != staging.Directory):
		return "", nil // the program's own
	case !there:
		return "it is missing", nil
	}
	if e.Type == staging.Directory && info.Mode()&fs.ModeSymlink != 0 {
		if target, err := r.tree.Stat(local(real)); err == nil && target.IsDir() {
			return "", nil
		}
	}
	if !isType(info, e.Type) {
		return fmt.Sprintf("it is %s, and %s was installed", typeName(typeOf(info)), typeName(e.Type)), nil
	}
	if e.Type == staging.Symlink {
		target, err := r.tree.Readlink(local(real))
		if err != nil || target == e.Link {
			return "", err
		}
		return fmt.Sprintf("it leads to %q, and was installed leading to %q", target, e.Link), nil
	}
	if message := differentMeta(info, e, owners); message != "" {
		return message, nil
	}
	if e.Type != staging.File || staysInPlace(e) {
		return "", nil
	}
	if info.Size() != e.Size {
		return fmt.Sprintf("it has %s, and %s were installed", fact.Bytes(info.Size()), fact.Bytes(e.Size)), nil
	}
	sum, err := r.digest(real)
	if errors.Is(err, fs.ErrPermission) {
		return "it cannot be read by this user", nil
	}
	if err != nil {
		return "", err
	}
	if sum != e.SHA256 {
		return "its contents were changed", nil
	}
	return "", nil
}

func typeName(t staging.Type) string {
	switch t {
	case staging.File:
		return "a file"
	case staging.Symlink:
		return "a symbolic link"
	}
	return "a directory"
}

// differentMeta compares mode and owner. A directory that several packages have may have
// the mode of another.
func differentMeta(info fs.FileInfo, e ell.Entry, owners *accounts) string {
	if e.Type == staging.Directory && staging.IsShared(e.Path) {
		return ""
	}
	if mode := fact.Octal(info.Mode()); mode != e.Mode && e.Type == staging.File {
		return fmt.Sprintf("its mode is %s, and %s was installed", mode, e.Mode)
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if owners == nil || !ok || e.Type != staging.File {
		return ""
	}
	uid, gid := owners.numbers(e.Owner, e.Group)
	if uid >= 0 && int(s.Uid) != uid || gid >= 0 && int(s.Gid) != gid {
		return fmt.Sprintf("it belongs to %d:%d, and was installed for %s:%s", s.Uid, s.Gid, e.Owner, e.Group)
	}
	return ""
}
