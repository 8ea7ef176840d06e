package build

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
)

// meetNeeds finds the packages of the workspace that meet build and test
// needs, and what those need in turn; the system meets others. What nothing meets
// is listed with who has it, all at once.
func (j *job) meetNeeds(ctx context.Context) error {
	wanted := slices.Concat(j.recipe.Needs.Build, j.recipe.Needs.Test)
	j.met, j.answers = map[string]string{}, map[string]string{}
	if len(wanted) == 0 {
		return nil
	}
	all, err := j.Packages()
	if err != nil {
		return err
	}
	all = satisfy.NotOf(all, j.recipe.Name)
	var missing []satisfy.NeedState
	for _, n := range wanted {
		text := n.String()
		usable := all
		if isCommand(n) {
			usable = runnable(all, j.cross() != "")
		}
		if p := satisfy.Find(usable, n); p != nil {
			j.met[text] = p.Facts.Identity()
			j.add(p, all)
			continue
		}
		if s := j.State(n, nil, nil); s.Met {
			j.met[text] = satisfy.BySystem
			j.answers[text] = satisfy.Stamp(j.Probe().Real(s.Path))
		} else if !slices.ContainsFunc(missing, func(m satisfy.NeedState) bool { return m.Need.String() == text }) {
			missing = append(missing, s)
		}
	}
	if len(missing) > 0 {
		if err := j.FindHolders(ctx, j.recipe, missing); err != nil {
			return err
		}
		return &satisfy.MissingError{Recipe: j.recipe.Name, Needs: missing}
	}
	slices.SortFunc(j.laid, func(a, b *satisfy.Package) int { return cmp.Compare(a.Path, b.Path) })
	return nil
}

// isCommand reports whether a need asks for a command.
func isCommand(n need.Need) bool {
	return slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Command })
}

func (j *job) add(p *satisfy.Package, all []*satisfy.Package) {
	if slices.Contains(j.laid, p) {
		return
	}
	j.laid = append(j.laid, p)
	for _, n := range p.Facts.Needs {
		if other := satisfy.Find(all, n.Need); other != nil {
			j.add(other, all)
		}
	}
}

// lay readies the packages that meet build needs to be laid over the system:
// each is unpacked once, into a directory under its digest.
func (j *job) lay(ctx context.Context) error {
	if j.laysInto() {
		return nil
	}
	j.over = nil
	for _, l := range j.laid {
		dir := j.Workspace.State("needs", l.Digest[:32])
		j.over = append(j.over, dir)
		if _, err := os.Stat(dir); err == nil {
			now := time.Now()
			os.Chtimes(dir, now, now)
			continue
		}
		temp, err := os.MkdirTemp(j.scrapFor("needs"), "")
		if err != nil {
			return err
		}
		err = errors.Join(os.Chmod(temp, 0o755), j.extract(ctx, l, temp))
		if err == nil {
			// Another build may have been quicker.
			if err = os.Rename(temp, dir); errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY) {
				err = nil
			}
		}
		if err := errors.Join(err, layer.RemoveAll(temp)); err != nil {
			return err
		}
	}
	return nil
}

// scrapFor makes a directory under the workspace's state, and one in it to make
// things in.
func (j *job) scrapFor(name string) string {
	dir := j.Workspace.State(name, ".new")
	os.MkdirAll(dir, 0o755) // what is made in it fails if this does
	return dir
}

func (j *job) extract(ctx context.Context, l *satisfy.Package, dir string) error {
	p, err := ell.Open(l.Path)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = p.Extract(ctx, dir, ell.Extraction{})
	return err
}

// layInto unpacks the packages that meet build needs into one directory of the
// tree, and points the pkg-config files in it there.
func (j *job) layInto(ctx context.Context, dir string) error {
	if len(j.laid) == 0 {
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, l := range j.laid {
		if err := j.extract(ctx, l, dir); err != nil {
			return err
		}
	}
	return filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || filepath.Ext(file) != ".pc" {
			return err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		return os.WriteFile(file, usrPrefix.ReplaceAll(text, []byte("${1}"+strings.ReplaceAll(j.worktree.seen("needs"), "$", "$$")+"/usr")), 0o644)
	})
}

var usrPrefix = pattern.New(`(?m)^(\s*\w+\s*=\s*)/usr\b`)
