package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
	"ellwand.example/core/trial"
	"golang.org/x/sys/unix"
)

// editMark is added to configuration before an upgrade.
const editMark = "# edited in a trial"

// maxEdited is the most bytes of a configuration file that is edited.
const maxEdited = 16 << 20

// upgrades installs the published version of each package, edits its configuration, and
// upgrades it.
func (t *rehearsal) upgrades(ctx context.Context) error {
	for _, p := range t.asked {
		check := trial.Check{Package: p.Name, Name: trial.Upgrade}
		began := time.Now()
		old, err := t.older(ctx, p)
		if err != nil {
			return err
		}
		if old == "" {
			check.State, check.Message = trial.Skipped, "no other version is published"
			t.add(check)
			continue
		}
		check.Subject = "from " + old
		check, err = t.upgrade(ctx, check, p, old)
		if err != nil {
			return err
		}
		check.Time = time.Since(began)
		t.add(check)
	}
	return nil
}

// older is the newest published version of a package that is not the one that is tried;
// empty if there is none.
func (t *rehearsal) older(ctx context.Context, p root.Installed) (string, error) {
	r, err := root.Open(filepath.Join(t.dir, "root"))
	if err != nil {
		return "", err
	}
	defer r.Close()
	u := &supply{app: t.app, root: r, from: map[*solve.Package]origin{}}
	defer u.Close()
	if err := u.addPublished(ctx); err != nil {
		return "", err
	}
	var best *solve.Package
	for _, c := range u.all {
		if c.Name == p.Name && c.Full.Compare(p.Full()) < 0 && (best == nil || best.Full.Compare(c.Full) < 0) {
			best = c
		}
	}
	if best == nil {
		return "", nil
	}
	return best.Full.String(), nil
}

func (t *rehearsal) upgrade(ctx context.Context, check trial.Check, p root.Installed, old string) (trial.Check, error) {
	check.State = trial.Passed
	r, err := t.newRoot(ctx, "upgrade-"+p.Name)
	if err != nil {
		return check, err
	}
	defer r.Close()
	_, err = t.app.ChangeRoot(ctx, r, RootChange{Action: "install", Install: []string{p.Name + "@" + old}})
	if ctx.Err() != nil {
		return check, context.Cause(ctx)
	}
	var script *root.ScriptError
	if err != nil && !errors.As(err, &script) { // what is published may fail; the upgrade may not
		check.State, check.Message = trial.Skipped, "the published version cannot be installed: "+err.Error()
		return check, nil
	}
	edited, err := t.editConfig(r, p.Name)
	if err != nil {
		return check, err
	}
	word := p.Name + "@" + p.Full().String()
	if i := slices.IndexFunc(t.words, func(w string) bool { return IsPackageFile(w) && strings.HasPrefix(filepath.Base(w), p.Name+"@") }); i >= 0 {
		word = t.words[i]
	}
	result, err := t.app.ChangeRoot(ctx, r, RootChange{Action: "upgrade", Install: []string{word}})
	if ctx.Err() != nil {
		return check, context.Cause(ctx)
	}
	if err != nil {
		return failedChange(check, err), nil
	}
	conflicts := 0
	for _, c := range result.Entry.Config {
		if c.Outcome == root.ConfigConflict {
			conflicts++
		}
	}
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return check, err
	}
	defer tree.Close()
	for _, name := range edited {
		if !hasEdit(tree, name) {
			check.State, check.Message = trial.Failed, fmt.Sprintf("an edit of %s was lost", name)
			check.Remedy = "its path has to stay the same, and its kind has to be config in both versions"
			return check, nil
		}
	}
	if len(edited) > 0 {
		check.Message = fmt.Sprintf("%s edited, all edits kept", fact.Count(len(edited), "configuration file", "configuration files"))
		if conflicts > 0 {
			check.Message += fmt.Sprintf(", %d with the new default beside", conflicts)
		}
	}
	return check, nil
}

// hasEdit reports whether an edited file still has the edit. Scripts have run in the root:
// it may be something else by now.
func hasEdit(tree *os.Root, name string) bool {
	f, err := tree.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	data, err := files.ReadRegular(f, maxEdited)
	return err == nil && bytes.Contains(data, []byte(editMark))
}

// editConfig edits the configuration of a package, and returns the paths.
func (t *rehearsal) editConfig(r *root.Root, name string) ([]string, error) {
	s, err := r.State()
	if err != nil {
		return nil, err
	}
	p, ok := s.Find(name)
	if !ok {
		return nil, nil
	}
	rec, err := r.Record(p)
	if err != nil {
		return nil, err
	}
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	var edited []string
	for _, e := range rec.Layout {
		if e.Kind != fact.KindConfig || e.Type != staging.File || e.Size > maxEdited/2 {
			continue
		}
		at := strings.TrimPrefix(rec.At(e.Path), "/")
		f, err := tree.OpenFile(at, os.O_APPEND|os.O_WRONLY|unix.O_NONBLOCK, 0)
		if err != nil {
			continue // a script put something else there
		}
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
			f.Close()
			continue
		}
		_, err = f.WriteString(editMark + "\n")
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, err
		}
		edited = append(edited, at)
	}
	return edited, nil
}

// remove removes everything, and lists what is left behind.
func (t *rehearsal) remove(ctx context.Context, r *root.Root, before map[string]bool) error {
	began := time.Now()
	s, err := r.State()
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, p := range s.Packages {
		rec, err := r.Record(p)
		if err != nil {
			return err
		}
		for _, e := range rec.Layout {
			if e.Kind == fact.KindState || e.Kind == fact.KindConfig {
				kept[rec.At(e.Path)] = true
			}
		}
	}
	_, err = t.app.ChangeRoot(ctx, r, RootChange{Action: "remove", Remove: s.Names()})
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	after, errRead := contentsOf(r.Dir)
	if errRead != nil {
		return errRead
	}
	var left []string
	for p := range after {
		if !before[p] && !kept[p] && !allowedLeft(p, kept) {
			left = append(left, p)
		}
	}
	slices.Sort(left)
	for _, p := range t.asked {
		check := trial.Check{Package: p.Name, Name: trial.Remove, State: trial.Passed, Time: time.Since(began)}
		switch {
		case err != nil:
			check = failedChange(check, err)
		case len(left) > 0 && p.Name == t.asked[0].Name:
			check.State, check.Message = trial.Failed, fmt.Sprintf("%s left behind", fact.Count(len(left), "path is", "paths are"))
			check.Output = strings.Join(left, "\n")
			check.Remedy = "what scripts create has to be in the layout with kind state or cache, or be removed by post-remove"
		}
		t.add(check)
	}
	return nil
}

// ownFiles are what installing packages leaves in a root.
var ownFiles = []string{"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow", "/etc/.pwd.lock", "/etc/ld.so.cache"}

// allowedLeft reports whether a path may be left behind: accounts and databases, and what
// is in a directory of state.
func allowedLeft(p string, kept map[string]bool) bool {
	if slices.Contains(ownFiles, p) || strings.HasSuffix(p, root.DefaultSuffix) {
		return true
	}
	for dir := filepath.Dir(p); dir != "/"; dir = filepath.Dir(dir) {
		if kept[dir] {
			return true
		}
	}
	return false
}

// contentsOf lists the files and links in a root, without Ellwand's own and without
// caches that programs refresh.
func contentsOf(dir string) (map[string]bool, error) {
	out := map[string]bool{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(p, dir)
		if name == "/"+root.StateDir || name == "/var/cache/ldconfig" {
			return fs.SkipDir
		}
		if !d.IsDir() {
			out[name] = true
		}
		return nil
	})
	return out, err
}
