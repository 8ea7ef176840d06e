package root

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// Incoming is a package to install.
type Incoming struct {
	Package *ell.Package
	SHA256  string // of its file
	Bytes   int64  // that its file has
	Asked   bool   // a user asked for it; otherwise another package needs it
}

// Request is a change of a root: packages to install, in place of others of the same
// names, and names of packages to remove.
type Request struct {
	Action  string // what the history calls it, such as "install"
	Install []Incoming
	Remove  []string
	// Adopt are paths that no package owns and that may be replaced.
	Adopt []string
	// Rewrite writes files again that have not changed.
	Rewrite bool
	// Accounts are created besides those of the packages.
	Accounts map[string]fact.Account
}

// Change is a package that comes in (From is nil), goes (To is nil), or makes room
// for another version.
type Change struct {
	Name string     `json:"name"`
	From *Installed `json:"from,omitempty"`
	To   *Installed `json:"to,omitempty"`
}

// Plan is what a transaction will do.
type Plan struct {
	Action   string         `json:"action"`
	Changes  []Change       `json:"changes"` // by name
	Config   []ConfigChange `json:"config,omitempty"`
	Accounts []string       `json:"accounts,omitempty"` // that will be created
	Scripts  []ScriptCall   `json:"scripts,omitempty"`
	Refresh  []string       `json:"refresh,omitempty"` // programs that refresh a database
	Units    []string       `json:"units,omitempty"`   // service units that come, go or change
	Chosen   []Choice       `json:"chosen,omitempty"`  // choices whose links change
	Written  int            `json:"written"`           // files and links
	Bytes    int64          `json:"bytes"`             // of the files that are written
	Removed  int            `json:"removed"`           // files and links
	Problems []Problem      `json:"problems,omitempty"`

	parts    []*part
	items    []*item          // by real path
	at       map[string]*item // items by real path
	removals []removal        // the innermost first
	early    []removal        // of them and others, those that make room for items
	made     []*item          // directories to create, the outermost first
	kept     []Kept
	owners   []owned // after the transaction
	accounts accounts
	// accountTemps are the names of new files of accounts before they are renamed.
	accountTemps map[string]string
}

// part is a package in a transaction.
type part struct {
	change Change
	in     *Incoming // nil for one that goes
	old    *Record   // nil for one that comes
	record *Record   // nil for one that goes
}

// item is a path of a package that comes in.
type item struct {
	entry  ell.Entry
	real   string
	part   *part      // nil for a directory or link that no package has
	old    *ell.Entry // what the package had there before
	there  fs.FileInfo
	write  bool
	temp   string // where it is written before it is renamed; "" if it is in a new directory
	config *configItem
}

// packageName is the package of an item; "" if no package has it.
func (i *item) packageName() string {
	if i.part == nil {
		return ""
	}
	return i.part.change.Name
}

// removal is a path that goes.
type removal struct {
	Path string       `json:"path"`
	Type staging.Type `json:"type"`
	// All removes everything below a directory: a cache.
	All bool `json:"all,omitempty"`
}

// Plan finds out what a change would do and what prevents it. Errors are those of
// reading; what prevents the change is in the plan's Problems.
func (t *Transaction) Plan(ctx context.Context, q Request) (*Plan, error) {
	p := &Plan{Action: q.Action, at: map[string]*item{}, accounts: t.accounts}
	for _, step := range []func(context.Context, *Plan, Request) error{
		t.planParts, t.planItems, t.planOwners, t.planDisk, t.planConfig, t.planRemovals, t.planChoices, t.planAccounts, t.planDirectories, t.planScripts, t.planRefresh, t.planSpace,
	} {
		if err := step(ctx, p, q); err != nil {
			return nil, err
		}
	}
	for _, i := range p.items {
		if i.write && i.entry.Type != staging.Directory {
			p.Written++
			p.Bytes += i.entry.Size
		}
	}
	for _, r := range p.removals {
		if r.Type != staging.Directory {
			p.Removed++
		}
	}
	return p, nil
}

// IsEmpty reports whether there is nothing to do.
func (p *Plan) IsEmpty() bool {
	return len(p.Changes) == 0 && len(p.Chosen) == 0 && len(p.Accounts) == 0
}

func (p *Plan) problem(problem Problem) { p.Problems = append(p.Problems, problem) }

// planParts reads what the packages are, and what is in their place.
func (t *Transaction) planParts(ctx context.Context, p *Plan, q Request) error {
	coming := map[string]bool{}
	for i := range q.Install {
		in := &q.Install[i]
		f := in.Package.Facts
		if coming[f.Name] {
			return fact.Errorf(fact.StatusUsage, "%s is to be installed twice", f.Name)
		}
		coming[f.Name] = true
		entries, err := in.Package.Layout()
		if err != nil {
			return err
		}
		to := Installed{Name: f.Name, Version: f.Version, Release: f.Release, Epoch: f.Epoch, Arch: f.Arch, SHA256: in.SHA256, Bytes: in.Bytes, Choices: f.Choices, Refresh: f.Refresh, Asked: in.Asked}
		one := &part{in: in, record: &Record{Facts: f, Scripts: in.Package.Scripts(), Real: map[string]string{}, Layout: t.root.Settings.wanted(entries)}}
		if from, ok := t.state.Find(f.Name); ok {
			to.Asked = to.Asked || from.Asked
			one.change.From = &from
			if one.old, err = t.root.Record(from); err != nil {
				return err
			}
		}
		one.change.Name, one.change.To = f.Name, &to
		p.parts = append(p.parts, one)
		if f.Arch != fact.Independent && f.Arch != t.root.Settings.Arch {
			p.problem(Problem{Package: f.Identity(), Message: fmt.Sprintf("it is for %s, and the root is for %s", f.Arch, t.root.Settings.Arch)})
		}
		if f.Target != t.root.Settings.Target && f.Arch != fact.Independent {
			p.problem(Problem{Package: f.Identity(), Message: fmt.Sprintf("it was built for %s, and the root is for %s", f.Target, t.root.Settings.Target), Remedy: "build it for the root's target, or create a root for the package's"})
		}
	}
	for _, name := range q.Remove {
		from, ok := t.state.Find(name)
		if !ok {
			return fact.Errorf(fact.StatusInput, "%s is not installed", name)
		}
		if coming[name] {
			return fact.Errorf(fact.StatusUsage, "%s is to be installed and removed", name)
		}
		old, err := t.root.Record(from)
		if err != nil {
			return err
		}
		p.parts = append(p.parts, &part{change: Change{Name: name, From: &from}, old: old})
	}
	slices.SortFunc(p.parts, func(a, b *part) int { return strings.Compare(a.change.Name, b.change.Name) })
	for _, one := range p.parts {
		p.Changes = append(p.Changes, one.change)
	}
	return ctx.Err()
}

// planItems resolves where each path goes. No two packages may have the same path,
// unless both have it as a directory.
func (t *Transaction) planItems(ctx context.Context, p *Plan, _ Request) error {
	v := t.root.newView()
	var layouts [][]ell.Entry
	for _, one := range p.parts {
		if one.old != nil {
			for _, e := range one.old.Layout {
				if e.Type == staging.Symlink {
					v.gone[one.old.At(e.Path)] = true
				}
			}
		}
		if one.record != nil {
			layouts = append(layouts, one.record.Layout)
		}
	}
	if err := v.addLinks(layouts...); err != nil {
		return err
	}
	for _, one := range p.parts {
		if one.record == nil {
			continue
		}
		for _, e := range one.record.Layout {
			real, err := v.real(e.Path)
			if err != nil {
				return err
			}
			if real != e.Path {
				one.record.Real[e.Path] = real
			}
			if isOwn(real) {
				p.problem(Problem{Package: one.change.Name, Path: e.Path, Message: "it is among what Ellwand records of the root"})
				continue
			}
			other := p.at[real]
			if other == nil {
				p.at[real] = &item{entry: e, real: real, part: one}
				continue
			}
			if other.entry.Type != staging.Directory || e.Type != staging.Directory {
				p.problem(Problem{Package: one.change.Name, Path: real, Message: fmt.Sprintf("both %s and %s have it", other.part.change.Name, one.change.Name), Remedy: "install only one of them, or move the path in one of the recipes"})
			}
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	p.items = slices.SortedFunc(maps.Values(p.at), func(a, b *item) int { return strings.Compare(a.real, b.real) })
	return nil
}

// isOwn reports whether a path is Ellwand's own.
func isOwn(real string) bool {
	return real == "/"+StateDir || strings.HasPrefix(real, "/"+StateDir+"/")
}

// planOwners checks the paths of other installed packages, and makes the new list.
func (t *Transaction) planOwners(_ context.Context, p *Plan, _ Request) error {
	all, err := t.root.owners(t.state)
	if err != nil {
		return err
	}
	changed := map[string]*part{}
	for _, one := range p.parts {
		changed[one.change.Name] = one
	}
	others := slices.DeleteFunc(slices.Clone(all), func(o owned) bool { return changed[o.pkg] != nil })
	for _, i := range p.items {
		for _, o := range ownersOf(others, i.real) {
			if !o.dir || i.entry.Type != staging.Directory {
				p.problem(Problem{Package: i.part.change.Name, Path: i.real, Message: fmt.Sprintf("it belongs to %s, which is installed", o.pkg), Remedy: fmt.Sprintf("remove %s first, or declare that %s replaces it", o.pkg, i.part.change.Name)})
			}
		}
		// A file of another package may not become a directory's parent either.
		for dir := path.Dir(i.real); dir != "/" && p.at[dir] == nil; dir = path.Dir(dir) {
			for _, o := range ownersOf(others, dir) {
				if !o.dir && !t.isLink(dir) {
					p.problem(Problem{Package: i.part.change.Name, Path: i.real, Message: fmt.Sprintf("%s, a file of %s, is where a directory must be", dir, o.pkg)})
				}
			}
		}
	}
	p.owners = others
	for _, one := range p.parts {
		if one.record == nil {
			continue
		}
		for _, e := range one.record.Layout {
			p.owners = append(p.owners, owned{one.record.At(e.Path), one.change.Name, e.Type == staging.Directory})
		}
	}
	slices.SortFunc(p.owners, compareOwned)
	p.owners = slices.CompactFunc(p.owners, func(a, b owned) bool { return compareOwned(a, b) == 0 })
	// What the packages had before, by where it is.
	for _, one := range p.parts {
		if one.old == nil {
			continue
		}
		for n := range one.old.Layout {
			e := &one.old.Layout[n]
			if i := p.at[one.old.At(e.Path)]; i != nil && (i.old == nil || i.part == one) {
				i.old = e
			}
		}
	}
	return nil
}

func (t *Transaction) isLink(p string) bool {
	info, err := t.root.tree.Lstat(local(p))
	return err == nil && info.Mode()&fs.ModeSymlink != 0
}

// planDisk compares the items with what is in the root now.
func (t *Transaction) planDisk(ctx context.Context, p *Plan, q Request) error {
	adopt := map[string]bool{}
	for _, w := range q.Adopt {
		adopt[path.Clean("/"+w)] = true
	}
	open := newHandles(t.root.tree)
	defer open.Close()
	for n, i := range p.items {
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		info, there, err := open.exists(i.real)
		if err != nil {
			return err
		}
		if there {
			i.there = info
		}
		switch {
		case i.entry.Type == staging.Directory:
			i.write = !there
			if there && !info.IsDir() && !t.leadsToDir(i.real, info) {
				i.write = true
				if i.old == nil && !adopt[i.real] {
					p.problem(Problem{Package: i.part.change.Name, Path: i.real, Message: "a file that no package owns is where a directory must be", Remedy: "move it away"})
				}
			}
		case !there:
			i.write = true
		case staysInPlace(i.entry) && isType(info, i.entry.Type):
		case i.old == nil:
			same, err := t.isSame(i)
			if err != nil {
				return err
			}
			i.write = !same || !looksSame(info, i.entry)
			if same || adopt[i.real] || t.keptBefore(i.real) {
				continue
			}
			if info.IsDir() {
				continue // planDirectories knows whether it goes
			}
			p.problem(Problem{Package: i.part.change.Name, Path: i.real, Message: "no package owns it, and it differs from what " + i.part.change.Name + " has there", Remedy: "move it away, or replace it", Adopt: true})
		default:
			i.write = q.Rewrite || !sameFile(*i.old, i.entry) || !looksSame(info, i.entry)
		}
	}
	t.joinLinks(p)
	return nil
}

// joinLinks makes all names of a file that is written be written: they are hard links
// to each other.
func (t *Transaction) joinLinks(p *Plan) {
	type file struct {
		part *part
		path string
	}
	again := map[file]bool{}
	first := func(i *item) file { return file{i.part, cmp.Or(i.entry.Same, i.entry.Path)} }
	for _, i := range p.items {
		if i.write && i.entry.Type == staging.File {
			again[first(i)] = true
		}
	}
	for _, i := range p.items {
		if i.entry.Type == staging.File && again[first(i)] && !staysInPlace(i.entry) {
			i.write = true
		}
	}
}

// leadsToDir reports whether a path is a symbolic link to a directory of the root.
func (t *Transaction) leadsToDir(p string, info fs.FileInfo) bool {
	if info.Mode()&fs.ModeSymlink == 0 {
		return false
	}
	v := t.root.newView()
	real, err := v.dir(p, 0)
	if err != nil {
		return false
	}
	target, there, err := t.root.exists(real)
	return err == nil && there && target.IsDir()
}

// looksSame compares a path with its entry by what the directory says of it.
func looksSame(info fs.FileInfo, e ell.Entry) bool {
	switch e.Type {
	case staging.File:
		return info.Mode().IsRegular() && info.Size() == e.Size && fact.Octal(info.Mode()) == e.Mode
	case staging.Symlink:
		return info.Mode()&fs.ModeSymlink != 0
	}
	return info.IsDir()
}

// isSame reports whether a path that no package owns has what the item would put
// there.
func (t *Transaction) isSame(i *item) (bool, error) {
	switch {
	case i.entry.Type == staging.Symlink && i.there.Mode()&fs.ModeSymlink != 0:
		target, err := t.root.tree.Readlink(local(i.real))
		return target == i.entry.Link, err
	case i.entry.Type == staging.File && i.there.Mode().IsRegular() && i.there.Size() == i.entry.Size:
		sum, err := t.root.digest(i.real)
		return sum == i.entry.SHA256, err
	}
	return false, nil
}

func (t *Transaction) keptBefore(real string) bool {
	return slices.ContainsFunc(t.state.Kept, func(k Kept) bool { return k.Path == real })
}

// planRemovals finds what goes: what the old packages had, no package has any more, and
// the kind of the path does not keep.
func (t *Transaction) planRemovals(ctx context.Context, p *Plan, _ Request) error {
	p.kept = slices.Clone(t.state.Kept)
	p.kept = slices.DeleteFunc(p.kept, func(k Kept) bool { return p.at[k.Path] != nil })
	seen := map[string]bool{}
	for _, one := range p.parts {
		if one.old == nil {
			continue
		}
		for _, e := range one.old.Layout {
			real := one.old.At(e.Path)
			if p.at[real] != nil || seen[real] || len(ownersOf(p.owners, real)) > 0 {
				continue
			}
			seen[real] = true
			info, there, err := t.root.exists(real)
			if err != nil {
				return err
			}
			if !there || !isType(info, e.Type) || e.Kind == fact.KindState {
				continue
			}
			if e.Kind == fact.KindConfig && e.Type == staging.File {
				edited, err := t.isEdited(real, e.SHA256, info)
				if err != nil {
					return err
				}
				if edited {
					p.kept = append(p.kept, Kept{real, one.change.Name, e.SHA256})
					p.Config = append(p.Config, ConfigChange{Path: real, Package: one.change.Name, Outcome: ConfigLeft})
					continue
				}
			}
			all := e.Kind == fact.KindCache && e.Type == staging.Directory && !ownsBelow(p.owners, real) && !t.ownsItem(p, real)
			p.removals = append(p.removals, removal{real, e.Type, all})
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	if err := t.planEmptied(p, seen); err != nil {
		return err
	}
	slices.SortFunc(p.kept, func(a, b Kept) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(p.removals, func(a, b removal) int { return strings.Compare(b.Path, a.Path) })
	slices.SortFunc(p.Config, func(a, b ConfigChange) int { return strings.Compare(a.Path, b.Path) })
	return nil
}

// planEmptied adds the directories that no package has, and that may be empty once
// what packages had in them is gone.
func (t *Transaction) planEmptied(p *Plan, seen map[string]bool) error {
	for _, r := range slices.Clone(p.removals) {
		for dir := path.Dir(r.Path); dir != "/" && !seen[dir] && p.at[dir] == nil && !staging.IsShared(dir); dir = path.Dir(dir) {
			if len(ownersOf(p.owners, dir)) > 0 || ownsBelow(p.owners, dir) {
				break
			}
			seen[dir] = true
			info, there, err := t.root.exists(dir)
			if err != nil {
				return err
			}
			if there && info.IsDir() {
				p.removals = append(p.removals, removal{Path: dir, Type: staging.Directory})
			}
		}
	}
	return nil
}

func isType(info fs.FileInfo, t staging.Type) bool {
	switch t {
	case staging.File:
		return info.Mode().IsRegular()
	case staging.Symlink:
		return info.Mode()&fs.ModeSymlink != 0
	}
	return info.IsDir()
}

// ownsBelow reports whether a package has a path below a directory.
func ownsBelow(all []owned, dir string) bool {
	i, _ := slices.BinarySearchFunc(all, dir+"/", func(o owned, p string) int { return cmp.Compare(o.path, p) })
	return i < len(all) && strings.HasPrefix(all[i].path, dir+"/")
}

// ownsItem reports whether a kept configuration file is below a directory.
func (t *Transaction) ownsItem(p *Plan, dir string) bool {
	return slices.ContainsFunc(p.kept, func(k Kept) bool { return strings.HasPrefix(k.Path, dir+"/") })
}

// planDirectories finds which directories are created, and what has to go first where
// a directory takes the place of a file, or a file that of a directory.
func (t *Transaction) planDirectories(_ context.Context, p *Plan, _ Request) error {
	going := map[string]removal{}
	for _, r := range p.removals {
		going[r.Path] = r
	}
	made := map[string]*item{}
	open := newHandles(t.root.tree)
	defer open.Close()
	for _, i := range p.items {
		if i.entry.Type == staging.Directory && i.write {
			made[i.real] = i
			if i.there != nil {
				p.early = append(p.early, removal{Path: i.real, Type: typeOf(i.there)})
			}
		}
		if !i.write && i.entry.Type != staging.Directory {
			continue
		}
		if i.write && i.entry.Type != staging.Directory && i.there != nil && i.there.IsDir() {
			below, err := t.below(i.real)
			if err != nil {
				return err
			}
			for _, b := range below {
				if _, ok := going[b.Path]; !ok {
					p.problem(Problem{Package: i.packageName(), Path: i.real, Message: "a directory is where a file must be, and it has " + b.Path, Remedy: "move it away"})
					break
				}
			}
			p.early = append(append(p.early, below...), removal{Path: i.real, Type: staging.Directory})
		}
		for dir := path.Dir(i.real); dir != "/"; dir = path.Dir(dir) {
			if made[dir] != nil {
				continue
			}
			if at := p.at[dir]; at != nil && at.entry.Type != staging.Directory {
				break // a link: what is below it was resolved
			}
			info, there, err := open.exists(dir)
			if err != nil {
				return err
			}
			if there && (info.IsDir() || t.leadsToDir(dir, info)) {
				break
			}
			if there {
				if _, ok := going[dir]; !ok {
					p.problem(Problem{Package: i.packageName(), Path: dir, Message: "a file is where a directory must be", Remedy: "move it away"})
				}
				p.early = append(p.early, removal{Path: dir, Type: typeOf(info)})
			}
			made[dir] = newDirectory(dir)
		}
	}
	if len(p.accounts.text) > 0 && made["/etc"] == nil {
		if _, there, err := t.root.exists("/etc"); err != nil {
			return err
		} else if !there {
			made["/etc"] = newDirectory("/etc")
		}
	}
	for _, dir := range sortedKeys(made) {
		p.made = append(p.made, made[dir])
	}
	return nil
}

// newDirectory is one that no package has, but that paths of packages are in.
func newDirectory(dir string) *item {
	return &item{real: dir, write: true, entry: ell.Entry{Path: dir, Type: staging.Directory, Mode: "0755", Owner: staging.Root, Group: staging.Root}}
}

func typeOf(info fs.FileInfo) staging.Type {
	switch {
	case info.IsDir():
		return staging.Directory
	case info.Mode()&fs.ModeSymlink != 0:
		return staging.Symlink
	}
	return staging.File
}

// below lists what is below a directory, the innermost first.
func (t *Transaction) below(dir string) ([]removal, error) {
	var out []removal
	err := fs.WalkDir(t.root.tree.FS(), local(dir), func(p string, d fs.DirEntry, err error) error {
		if err != nil || "/"+p == dir {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		out = append(out, removal{Path: "/" + p, Type: typeOf(info)})
		return nil
	})
	slices.Reverse(out)
	return out, err
}
