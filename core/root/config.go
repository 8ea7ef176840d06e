package root

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/root/merge"
	"ellwand.example/core/staging"
)

// DefaultSuffix ends the name of a new default that is placed beside an edited file.
const DefaultSuffix = ".ellwand-default"

// Outcome is what a transaction does with a configuration file.
type Outcome string

// The outcomes. A file that was not edited is replaced without being mentioned.
const (
	ConfigKept     Outcome = "kept"     // edited; the package's default did not change
	ConfigMerged   Outcome = "merged"   // edited; the change of the default was merged into it
	ConfigConflict Outcome = "conflict" // edited; the new default is beside it
	ConfigDeleted  Outcome = "deleted"  // deleted by a user, and not installed again
	ConfigLeft     Outcome = "left"     // edited; its package was removed
)

// ConfigChange is a configuration file that a user edited.
type ConfigChange struct {
	Path    string  `json:"path"`
	Package string  `json:"package"`
	Outcome Outcome `json:"outcome"`
}

// configItem is a configuration file that comes in.
type configItem struct {
	data    []byte // the package's default; nil if it is too large to be held
	merged  []byte // in its place, if edits were merged
	beside  bool   // the default is written beside the file
	outcome Outcome
}

// digest returns the SHA-256 of a regular file of the root.
func (r *Root) digest(p string) (string, error) {
	f, err := r.tree.OpenFile(local(p), os.O_RDONLY|openFlags, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return "", errors.Join(err, &fs.PathError{Op: "read", Path: p, Err: files.ErrNotRegular})
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// isEdited reports whether a configuration file differs from a default.
func (t *Transaction) isEdited(p, sha256 string, info fs.FileInfo) (bool, error) {
	if !info.Mode().IsRegular() {
		return true, nil
	}
	sum, err := t.root.digest(p)
	return sum != sha256, err
}

// planConfig decides about each configuration file.
func (t *Transaction) planConfig(ctx context.Context, p *Plan, _ Request) error {
	for _, one := range p.parts {
		if one.record == nil {
			continue
		}
		defaults, err := defaults(ctx, one.in.Package, one.record.Layout)
		if err != nil {
			return err
		}
		for _, e := range one.record.Layout {
			i := p.at[one.record.At(e.Path)]
			if e.Kind != fact.KindConfig || e.Type != staging.File || i == nil || i.part != one {
				continue
			}
			i.config = &configItem{data: defaults[e.SHA256]}
			if err := t.decide(i); err != nil {
				return err
			}
			if i.config.outcome != "" {
				p.Config = append(p.Config, ConfigChange{i.real, one.change.Name, i.config.outcome})
			}
		}
	}
	return nil
}

// defaults reads the configuration files of a package, by their SHA-256.
func defaults(ctx context.Context, pkg *ell.Package, layout []ell.Entry) (map[string][]byte, error) {
	var chosen []ell.Entry
	for _, e := range layout {
		if e.Kind == fact.KindConfig && e.Type == staging.File && e.Size <= merge.MaxSize {
			chosen = append(chosen, e)
		}
	}
	out := map[string][]byte{}
	for _, e := range ell.Standalone(chosen) {
		if e.Same != "" || e.Copy != "" {
			continue
		}
		var b bytes.Buffer
		if err := pkg.WriteFile(ctx, &b, e); err != nil {
			return nil, err
		}
		out[e.SHA256] = b.Bytes()
	}
	return out, nil
}

// decide says what is done with one configuration file.
func (t *Transaction) decide(i *item) error {
	before := "" // the SHA-256 of the default that the user had
	if i.old != nil && i.old.Kind == fact.KindConfig {
		before = i.old.SHA256
	}
	for _, k := range t.state.Kept {
		if k.Path == i.real {
			before = k.Default
		}
	}
	if i.there == nil {
		if i.old != nil && i.old.Kind == fact.KindConfig {
			i.write, i.config.outcome = false, ConfigDeleted
		}
		return nil
	}
	if !i.there.Mode().IsRegular() {
		if before != "" { // a link or a directory in its place is an edit too
			i.write, i.config.outcome = false, ConfigKept
		}
		return nil
	}
	current, err := t.root.digest(i.real)
	if err != nil {
		return err
	}
	switch {
	case current == i.entry.SHA256:
		i.write = i.old == nil || !sameFile(*i.old, i.entry)
	case before == "":
		// Adopted: what is there counts as edited.
		i.write, i.config.outcome, i.config.beside = false, ConfigConflict, true
	case current == before:
		i.write = true
	case before == i.entry.SHA256:
		i.write, i.config.outcome = false, ConfigKept
	default:
		return t.merge(i, before)
	}
	return nil
}

// merge joins the edits of a user and the change of a default.
func (t *Transaction) merge(i *item, before string) error {
	i.config.outcome, i.config.beside, i.write = ConfigConflict, true, false
	base, err := t.root.object(before)
	if errors.Is(err, fs.ErrNotExist) || i.config.data == nil || i.there.Size() > merge.MaxSize {
		return nil
	}
	if err != nil {
		return err
	}
	mine, err := readFile(t.root.tree, local(i.real), merge.MaxSize)
	if err != nil {
		return err
	}
	if merged, ok := merge.Merge(base, mine, i.config.data); ok {
		i.config = &configItem{data: i.config.data, merged: merged, outcome: ConfigMerged}
		i.write = !bytes.Equal(merged, mine)
	}
	return nil
}

// ConfigState is a configuration file of a root that is not its package's default.
type ConfigState struct {
	Path    string `json:"path"`
	Package string `json:"package"`
	Edited  bool   `json:"edited"`
	Deleted bool   `json:"deleted,omitempty"`
	// Pending means that a new default is beside the file, at Path and DefaultSuffix.
	Pending bool `json:"pending,omitempty"`
	// Removed means that the package is not installed any more.
	Removed bool `json:"removed,omitempty"`

	defaults string // SHA-256 of the default
}

// Config lists the configuration files that were edited or deleted, or have a new
// default beside them.
func (r *Root) Config(ctx context.Context) ([]ConfigState, error) {
	s, err := r.State()
	if err != nil {
		return nil, err
	}
	var out []ConfigState
	look := func(c ConfigState) error {
		info, there, err := r.exists(c.Path)
		if err != nil {
			return err
		}
		if c.Deleted = !there; there {
			c.Edited = true
			if info.Mode().IsRegular() {
				sum, err := r.digest(c.Path)
				if err != nil {
					return err
				}
				c.Edited = sum != c.defaults
			}
		}
		if _, c.Pending, err = r.exists(c.Path + DefaultSuffix); err != nil {
			return err
		}
		if c.Edited || c.Deleted && !c.Removed || c.Pending {
			out = append(out, c)
		}
		return ctx.Err()
	}
	for _, p := range s.Packages {
		rec, err := r.Record(p)
		if err != nil {
			return nil, err
		}
		for _, e := range rec.Layout {
			if e.Kind != fact.KindConfig || e.Type != staging.File {
				continue
			}
			if err := look(ConfigState{Path: rec.At(e.Path), Package: p.Name, defaults: e.SHA256}); err != nil {
				return nil, err
			}
		}
	}
	for _, k := range s.Kept {
		if err := look(ConfigState{Path: k.Path, Package: k.Package, Removed: true, defaults: k.Default}); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out, func(a, b ConfigState) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// ConfigTexts returns a configuration file's default and what is there now; missing is
// true if it was deleted.
func (r *Root) ConfigTexts(ctx context.Context, p string) (standard, current []byte, missing bool, err error) {
	c, err := r.findConfig(p)
	if err != nil {
		return nil, nil, false, err
	}
	if standard, err = r.object(c.defaults); err != nil {
		return nil, nil, false, err
	}
	current, err = readFile(r.tree, local(c.Path), merge.MaxSize)
	if errors.Is(err, fs.ErrNotExist) {
		return standard, nil, true, nil
	}
	return standard, current, false, err
}

// findConfig finds a configuration file of an installed or removed package.
func (r *Root) findConfig(p string) (ConfigState, error) {
	s, err := r.State()
	if err != nil {
		return ConfigState{}, err
	}
	for _, k := range s.Kept {
		if k.Path == p {
			return ConfigState{Path: p, Package: k.Package, Removed: true, defaults: k.Default}, nil
		}
	}
	names, err := r.Owner(p)
	if err != nil {
		return ConfigState{}, err
	}
	for _, name := range names {
		i, _ := s.Find(name)
		rec, err := r.Record(i)
		if err != nil {
			return ConfigState{}, err
		}
		for _, e := range rec.Layout {
			if e.Kind == fact.KindConfig && e.Type == staging.File && (rec.At(e.Path) == p || e.Path == p) {
				return ConfigState{Path: rec.At(e.Path), Package: name, defaults: e.SHA256}, nil
			}
		}
	}
	return ConfigState{}, fact.Errorf(fact.StatusInput, "%s is not a configuration file of a package in %s", p, r.Dir)
}

// Resolution is how a configuration file is resolved.
type Resolution string

// The resolutions.
const (
	ResolveMine    Resolution = "mine"    // keep the edited file
	ResolveDefault Resolution = "default" // replace it by the package's default
)

// ResolveConfig decides about a configuration file that was edited: what is beside it
// goes.
func (r *Root) ResolveConfig(ctx context.Context, p string, how Resolution) error {
	unlock, err := r.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	c, err := r.findConfig(p)
	if err != nil {
		return err
	}
	if how == ResolveDefault {
		data, err := r.object(c.defaults)
		if err != nil {
			return err
		}
		if err := r.replaceContents(c.Path, data); err != nil {
			return err
		}
	}
	err = r.tree.Remove(local(c.Path + DefaultSuffix))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// replaceContents gives a file other contents at once, and leaves its mode and owner.
func (r *Root) replaceContents(p string, data []byte) error {
	temp := local(p) + ".ellwand-new"
	mode := fs.FileMode(0o644)
	info, there, err := r.exists(p)
	if err != nil {
		return err
	}
	if there {
		mode = info.Mode().Perm()
	}
	if err := r.tree.Remove(temp); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := r.tree.OpenFile(temp, os.O_CREATE|os.O_EXCL|os.O_WRONLY|openFlags, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil && there {
		err = copyOwner(f, info)
	}
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		r.tree.Remove(temp)
		return err
	}
	return r.tree.Rename(temp, local(p))
}
