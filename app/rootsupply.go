package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"ellwand.example/core/root"
)

// supply is where the packages for a root come from: files, what the workspace has built,
// and the root's repositories.
type supply struct {
	app   *App
	root  *root.Root
	state root.State

	all     []*solve.Package
	from    map[*solve.Package]origin
	words   map[string]*solve.Package // files and URLs, as they were given
	opened  []*ell.Package
	probes  []*probe.System // of the system below, and of the root itself
	records map[string]*root.Record
	copies  []fileCopy
}

// origin is where a package can be opened.
type origin struct {
	file       string // of a package file
	pkg        *ell.Package
	sha256     string                 // from an index; empty for files
	digest     func() (string, error) // of a file
	record     index.Record
	repository *repo.Repository
}

// fileCopy is a package file to be kept for a rewind.
type fileCopy struct{ file, sha256 string }

// openSupply lists what is installed and what could be.
func (a *App) openSupply(ctx context.Context, r *root.Root, s root.State, c RootChange) (_ *supply, err error) {
	u := &supply{app: a, root: r, state: s, from: map[*solve.Package]origin{}, words: map[string]*solve.Package{}, records: map[string]*root.Record{}}
	defer func() {
		if err != nil {
			u.Close()
		}
	}()
	if system := r.Settings.SystemDir(); system != "" {
		u.probes = append(u.probes, probe.Open(system))
	}
	u.probes = append(u.probes, probe.Open(r.Dir))
	for _, p := range s.Packages {
		rec, err := r.Record(p)
		if err != nil {
			return nil, err
		}
		u.records[p.Name] = rec
		candidate := index.RecordOf(rec.Facts).Candidate()
		candidate.Installed = true
		u.all = append(u.all, candidate)
	}
	for _, word := range c.Install {
		if IsPackageFile(word) {
			if err := u.addFile(ctx, word); err != nil {
				return nil, err
			}
		}
	}
	if len(c.Install) > 0 || len(c.Upgrade) > 0 || c.UpgradeAll {
		if err := u.addBuilt(ctx); err != nil {
			return nil, err
		}
	}
	return u, nil
}

// Close closes the packages that were opened.
func (u *supply) Close() {
	for _, p := range u.opened {
		p.Close()
	}
}

func (u *supply) add(c *solve.Package, o origin) {
	u.all = append(u.all, c)
	u.from[c] = o
}

func (u *supply) addFile(ctx context.Context, word string) error {
	p, err := u.app.OpenPackage(ctx, word)
	if err != nil {
		return err
	}
	u.opened = append(u.opened, p)
	o := origin{file: word, pkg: p}
	if IsPackageURL(word) {
		return fact.Errorf(fact.StatusInput, "%s is on a server: download it first, or install it from its repository", word)
	}
	// The digest is computed while the change is solved.
	type result struct {
		sum string
		err error
	}
	done := make(chan result, 1)
	go func() {
		sum, err := files.SHA256(ctx, word)
		done <- result{sum, err}
	}()
	o.digest = sync.OnceValues(func() (string, error) {
		r := <-done
		return r.sum, r.err
	})
	c := index.RecordOf(p.Facts).Candidate()
	u.words[word] = c
	u.add(c, o)
	return nil
}

// addBuilt adds the packages that the workspace has built for the root's target.
func (u *supply) addBuilt(ctx context.Context) error {
	w := u.app.Workspace
	if w == nil || w.Target.Name != u.root.Settings.Target {
		return nil
	}
	files, err := PackageFiles(w.Packages())
	if err != nil {
		return err
	}
	for _, file := range files {
		p, err := ell.Open(file)
		if err != nil {
			u.app.Progress.Note(fmt.Sprintf("%s is skipped: %v", file, err))
			continue
		}
		u.opened = append(u.opened, p)
		c := index.RecordOf(p.Facts).Candidate()
		u.add(c, origin{file: file, pkg: p})
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

// addPublished adds the packages in the channels of the root's repositories.
func (u *supply) addPublished(ctx context.Context) error {
	for _, configured := range u.root.Settings.Repositories {
		r, err := repo.OpenCached(configured.Address)
		var state repo.State
		if err == nil {
			state, err = r.At(ctx, configured.Channel)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		var none *storage.NotRepositoryError
		if errors.As(err, &none) {
			continue // nothing was published yet
		}
		if err != nil {
			u.app.Progress.Note(fmt.Sprintf("repository %s is skipped: %v", configured.Name, err))
			continue
		}
		for _, rec := range state.Records[u.root.Settings.Target] {
			if rec.Arch != fact.Independent && rec.Arch != u.root.Settings.Arch {
				continue
			}
			c := rec.Candidate()
			c.Origin, c.Priority = configured.Name, configured.Priority
			u.add(c, origin{sha256: rec.SHA256, record: rec, repository: r})
		}
	}
	return nil
}

// meets reports whether the system below, or what in the root belongs to no package,
// meets a dependency.
func (u *supply) meets(n solve.Need) bool {
	found, ok := u.look(n)
	return ok && found.Enough
}

func (u *supply) look(n solve.Need) (best probe.Answer, ok bool) {
	for _, p := range u.probes {
		found, there := p.Look(n.Need, n.Symbols)
		if !there {
			continue
		}
		if p == u.probes[len(u.probes)-1] {
			if owners, err := u.root.Owner(found.Path); err == nil && len(owners) > 0 {
				continue // it may go: the solver knows its package
			}
		}
		if found.Enough || !ok {
			best, ok = found, true
		}
		if found.Enough {
			break
		}
	}
	return best, ok
}

// request finds the packages that a change takes.
func (u *supply) request(ctx context.Context, c RootChange) (root.Request, error) {
	if c.Rewind != nil {
		return u.rewind(ctx, *c.Rewind)
	}
	if q, ok, err := u.quickly(ctx, c); ok || err != nil {
		return q, err
	}
	if len(c.Install) > 0 || len(c.Upgrade) > 0 || c.UpgradeAll {
		if err := u.addPublished(ctx); err != nil {
			return root.Request{}, err
		}
	}
	q, asked, err := u.solveRequest(c)
	if err != nil {
		return root.Request{}, err
	}
	answer, err := solve.Solve(q)
	var none *solve.NoAnswerError
	if errors.As(err, &none) {
		if old := u.symbols(asked); old != nil {
			return root.Request{}, old
		}
	}
	if err != nil {
		return root.Request{}, err
	}
	return u.toRequest(ctx, answer, asked, c)
}

// solveRequest is what is asked of the solver, and the names of what is asked for.
func (u *supply) solveRequest(c RootChange) (q solve.Request, asked map[string]bool, err error) {
	q = solve.Request{Packages: u.all, System: u.meets, Suggestions: c.Suggestions}
	asked = map[string]bool{}
	for _, word := range c.Install {
		n, name, err := u.wanted(word)
		if err != nil {
			return q, nil, err
		}
		asked[name] = true
		q.Install = append(q.Install, n)
	}
	for _, name := range slices.Concat(c.Upgrade, c.Remove) {
		if _, ok := u.state.Find(name); !ok {
			return q, nil, u.notInstalled(name)
		}
	}
	q.Remove, q.Upgrade = c.Remove, c.Upgrade
	if c.UpgradeAll {
		q.Upgrade = u.state.Names()
	}
	return q, asked, nil
}

// toRequest opens the packages of an answer.
func (u *supply) toRequest(ctx context.Context, answer *solve.Answer, asked map[string]bool, c RootChange) (q root.Request, err error) {
	coming := slices.Clone(answer.Install)
	for _, change := range answer.Change {
		coming = append(coming, change.To)
		if change.From.Name != change.To.Name {
			q.Remove = append(q.Remove, change.From.Name)
			if old, ok := u.state.Find(change.From.Name); ok && old.Asked {
				asked[change.To.Name] = true
			}
		}
	}
	var dependents []string
	for _, p := range answer.Remove {
		q.Remove = append(q.Remove, p.Name)
		if !slices.Contains(c.Remove, p.Name) {
			dependents = append(dependents, p.Name)
		}
	}
	if len(dependents) > 0 && !c.WithDependents {
		return q, &DependentsError{Remove: c.Remove, Dependents: dependents}
	}
	q.Remove = unique(q.Remove)
	for _, p := range coming {
		in, err := u.open(ctx, p)
		if err != nil {
			return q, err
		}
		in.Asked = asked[p.Name]
		if !slices.ContainsFunc(q.Install, func(other root.Incoming) bool { return other.Package.Facts.Name == p.Name }) {
			q.Install = append(q.Install, in)
		}
	}
	// A package that is there already is installed again if it is to be written anew, or
	// if another build of the same version was named.
	for _, word := range c.Install {
		_, name, err := u.wanted(word)
		if err != nil {
			return q, err
		}
		have, there := u.state.Find(name)
		if !there || slices.ContainsFunc(q.Install, func(in root.Incoming) bool { return in.Package.Facts.Name == name }) {
			continue
		}
		if p := u.other(word, have, c.Rewrite); p != nil {
			in, err := u.open(ctx, p)
			if err != nil {
				return q, err
			}
			in.Asked = true
			q.Install = append(q.Install, in)
		}
	}
	return q, nil
}

// other is a package of the same version as an installed one, that was named by its file,
// or is to be written again.
func (u *supply) other(word string, have root.Installed, rewrite bool) *solve.Package {
	if p := u.words[word]; p != nil && (rewrite || u.isOther(p, have)) {
		return p
	}
	if !rewrite {
		return nil
	}
	for _, p := range u.all {
		if o, ok := u.from[p]; ok && p.Name == have.Name && p.Full.Compare(have.Full()) == 0 && (o.sha256 == "" || o.sha256 == have.SHA256) {
			return p
		}
	}
	return nil
}

// isOther reports whether a package file is not the installed one.
func (u *supply) isOther(p *solve.Package, have root.Installed) bool {
	sum, err := u.from[p].digest()
	return err == nil && sum != have.SHA256
}

// wanted is the dependency that a word stands for: a file, a name, NAME@VERSION-RELEASE,
// or a dependency such as "command/tide" or "tide >= 2".
func (u *supply) wanted(word string) (n need.Need, name string, err error) {
	if p := u.words[word]; p != nil {
		return exactly(p.Name, p.Full), p.Name, nil
	}
	if n, name, err = u.parse(word); err == nil && name != "" {
		err = u.known(name)
	}
	return n, name, err
}

// parse is wanted, but for files, and without looking whether there is such a package.
func (u *supply) parse(word string) (n need.Need, name string, err error) {
	if name, text, ok := strings.Cut(word, "@"); ok {
		full, err := version.ParseFull(text)
		if err != nil {
			return n, "", fact.Errorf(fact.StatusUsage, "%q is not NAME@VERSION-RELEASE: %w", word, err)
		}
		return exactly(name, full), name, nil
	}
	if n, err = need.Parse(word); err != nil {
		return n, "", fact.Errorf(fact.StatusUsage, "%q is neither a file nor a package: %w", word, err)
	}
	if a := n.Alternatives[0]; a.Kind == need.Package {
		return n, a.Name, nil
	}
	return n, "", nil
}

func exactly(name string, full version.Full) need.Need {
	return need.Of(need.Alternative{Kind: need.Package, Name: name, Constraints: []need.Constraint{{Op: "=", Full: full}}})
}

// known returns an error if no package has a name, or provides it.
func (u *supply) known(name string) error {
	asked := solve.Need{Need: need.Of(need.Alternative{Kind: need.Package, Name: name})}
	var names []string
	for _, p := range u.all {
		if p.Offers(asked) {
			return nil
		}
		names = append(names, p.Name)
	}
	message := fmt.Sprintf("there is no package %q for %s", name, u.root.Settings.Target)
	if near := fact.Nearest(name, names); near != "" {
		return fact.Errorf(fact.StatusInput, "%s; did you mean %q?", message, near)
	}
	if len(u.root.Settings.Repositories) == 0 {
		message += ", and the root has no repository"
	}
	return fact.Errorf(fact.StatusInput, "%s", message)
}

func (u *supply) notInstalled(name string) error {
	if near := fact.Nearest(name, u.state.Names()); near != "" {
		return fact.Errorf(fact.StatusInput, "%s is not installed in %s; did you mean %q?", name, u.root.Dir, near)
	}
	return fact.Errorf(fact.StatusInput, "%s is not installed in %s", name, u.root.Dir)
}

// open opens a package of an answer, once its digest is certain.
func (u *supply) open(ctx context.Context, p *solve.Package) (root.Incoming, error) {
	o, ok := u.from[p]
	if !ok {
		return root.Incoming{}, fmt.Errorf("%s@%s is not available any more", p.Name, p.Full)
	}
	if o.pkg == nil {
		opened, err := u.fetch(ctx, o.repository, o.record)
		if err != nil {
			return root.Incoming{}, err
		}
		return root.Incoming{Package: opened, SHA256: o.sha256, Bytes: o.record.Bytes}, nil
	}
	var err error
	if o.digest != nil {
		o.sha256, err = o.digest()
	} else {
		o.sha256, err = files.SHA256(ctx, o.file)
	}
	if err != nil {
		return root.Incoming{}, err
	}
	info, err := os.Stat(o.file)
	if err != nil {
		return root.Incoming{}, err
	}
	u.copies = append(u.copies, fileCopy{o.file, o.sha256})
	return root.Incoming{Package: o.pkg, SHA256: o.sha256, Bytes: info.Size()}, nil
}

func (u *supply) fetch(ctx context.Context, r *repo.Repository, rec index.Record) (*ell.Package, error) {
	p, err := r.Package(ctx, rec, filepath.Join(r.Cache, "packages"))
	if err == nil {
		u.opened = append(u.opened, p)
	}
	return p, err
}
