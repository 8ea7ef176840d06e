package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"

	"ellwand.example/core/need"
	"ellwand.example/core/pack"
	"ellwand.example/core/probe"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
)

// NeedState is a need of a recipe, and what answers it here.
type NeedState struct {
	Need    string   `json:"need"`
	For     []string `json:"for"` // of "build", "test" and "run"
	Met     bool     `json:"met"`
	By      string   `json:"by,omitempty"`      // a package's identity, or "base"
	Path    string   `json:"path,omitempty"`    // in the base, also where its version is not enough
	Version string   `json:"version,omitempty"` // of what is there
	Holders []Holder `json:"holders,omitempty"` // of what is not met: who has it
	Near    string   `json:"near,omitempty"`    // of what is not met: something in the base with nearly its name
	Found   string   `json:"found,omitempty"`   // the packaged file that has the need; empty for a declared one
	Lacks   []string `json:"lacks,omitempty"`   // symbol versions that the base's library does not have
}

// Holder is who has what meets a need, or would but for its version.
type Holder struct {
	Kind    string `json:"kind"`              // one of the kinds below
	Name    string `json:"name"`              // of the repository or the recipe
	Package string `json:"package,omitempty"` // in a repository: its identity
	Enough  bool   `json:"enough"`            // its version is within the bounds

	file, sha256 string // of the package
}

// Kinds of holder.
const (
	HeldEnabled  = "repository"
	HeldDisabled = "disabled repository"
	HeldRecipe   = "recipe" // of the workspace, not built yet
)

// What needs are for.
const (
	ForBuild = "build"
	ForTest  = "test"
	ForRun   = "run"
)

// MissingError lists the build and test needs that nothing here meets.
type MissingError struct {
	Recipe string
	Needs  []NeedState
}

func (e *MissingError) Error() string {
	s := fmt.Sprintf("%s: nothing here meets %d of its needs:", e.Recipe, len(e.Needs))
	for _, n := range e.Needs {
		s += "\n  " + n.Need + "  " + n.Reason()
	}
	return s
}

// Reason says in one line why a need is not met, and who has it.
func (n NeedState) Reason() string {
	var parts []string
	switch {
	case len(n.Lacks) > 0:
		parts = append(parts, fmt.Sprintf("the base has %s, without %s", n.Path, strings.Join(n.Lacks, ", ")))
	case n.Path != "":
		parts = append(parts, "the base has "+strings.TrimSpace(n.Path+" "+n.Version)+", which is not within its bounds")
	}
	for _, h := range n.Holders {
		has := "has it"
		if !h.Enough {
			has = "has another version"
		}
		switch h.Kind {
		case HeldRecipe:
			parts = append(parts, fmt.Sprintf("recipe %s makes it: `ellwand build %s`", h.Name, h.Name))
		case HeldDisabled:
			parts = append(parts, fmt.Sprintf("repository %s, which is disabled, %s: %s", h.Name, has, h.Package))
		default:
			parts = append(parts, fmt.Sprintf("repository %s %s: %s", h.Name, has, h.Package))
		}
	}
	if len(n.Holders) == 0 {
		parts = append(parts, "no repository and no recipe has it")
	}
	if n.Near != "" {
		parts = append(parts, fmt.Sprintf("did you mean %q?", n.Near))
	}
	return strings.Join(parts, "; ")
}

// probe looks into the system that steps see.
func (b *Builder) probe() *probe.Base {
	root := b.baseRoot()
	b.catalogue.mu.Lock()
	defer b.catalogue.mu.Unlock()
	if b.probed == nil || b.probedRoot != root {
		b.probed, b.probedRoot = probe.Open(root), root
	}
	return b.probed
}

// Needs tells of every need that a recipe declares, and of those that were
// found in its packages, what meets it here.
func (b *Builder) Needs(ctx context.Context, r *recipe.Recipe) ([]NeedState, error) {
	wanted := map[string][]string{}
	var order []string
	add := func(purpose string, needs []string) {
		for _, text := range needs {
			if wanted[text] == nil {
				order = append(order, text)
			}
			if !slices.Contains(wanted[text], purpose) {
				wanted[text] = append(wanted[text], purpose)
			}
		}
	}
	add(ForBuild, r.Needs.Build)
	add(ForTest, r.Needs.Test)
	add(ForRun, r.Needs.Run)
	for _, name := range r.PackageNames() {
		add(ForRun, r.Packages[name].Needs)
	}
	all, err := b.packages()
	if err != nil {
		return nil, err
	}
	var states []NeedState
	for _, text := range order {
		n, err := need.Parse(text)
		if err != nil {
			return nil, err // the recipe's check has passed it
		}
		own := all
		if !slices.Contains(wanted[text], ForRun) {
			own = notOf(all, r.Name) // a build does not stand on its own packages
		}
		s := b.needState(n, nil, own)
		s.Need, s.For = text, wanted[text]
		if !s.Met && slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package && r.Makes(a.Name) }) {
			s.Met, s.By = true, "this recipe"
		}
		states = append(states, s)
	}
	for _, p := range all {
		if p.facts.Recipe != r.Name || p.facts.Full().String() != r.Full() {
			continue
		}
		for _, f := range p.facts.Needs {
			n, err := need.Parse(f.Need)
			if err != nil || f.Path == "" || wanted[f.Need] != nil {
				continue
			}
			wanted[f.Need] = []string{ForRun}
			s := b.needState(n, f.Symbols, all)
			s.Need, s.For, s.Found = f.Need, wanted[f.Need], f.Path
			states = append(states, s)
		}
	}
	return states, b.findHolders(ctx, r, states)
}

func notOf(all []*laidPackage, recipe string) []*laidPackage {
	return slices.DeleteFunc(slices.Clone(all), func(p *laidPackage) bool { return p.facts.Recipe == recipe })
}

// needState looks for what meets a need: the workspace's packages first, then
// the base, whose library must have the symbol versions.
func (b *Builder) needState(n need.Need, symbols []string, all []*laidPackage) NeedState {
	s := NeedState{Need: n.String()}
	if p := find(all, n); p != nil {
		s.Met, s.By = true, p.facts.Identity()
		return s
	}
	if found, ok := b.probe().Look(n, symbols); ok {
		s.Met, s.Path, s.Version, s.Lacks = found.Enough, found.Path, found.Provide.Version, found.Lacks
		if s.Met {
			s.By = base
		}
	}
	return s
}

// findHolders fills in who has what is not met.
func (b *Builder) findHolders(ctx context.Context, r *recipe.Recipe, states []NeedState) error {
	unmet := slices.ContainsFunc(states, func(s NeedState) bool { return !s.Met })
	if !unmet {
		return nil
	}
	published, err := b.published(ctx)
	if err != nil {
		return err
	}
	var others []*recipe.Recipe
	names, err := b.Workspace.Recipes()
	if err != nil {
		return err
	}
	for _, name := range names {
		// A recipe with mistakes makes nothing that is known.
		if other, err := b.Workspace.Recipe(name); err == nil && name != r.Name {
			others = append(others, other)
		}
	}
	offers := b.offers(others)
	for i := range states {
		s := &states[i]
		n, err := need.Parse(s.Need)
		if s.Met || err != nil {
			continue
		}
		for _, p := range published {
			s.Holders = append(s.Holders, p.holders(n)...)
		}
		if made := cmp.Or(maker(n, offers), namesake(n, offers)); made != "" {
			s.Holders = append(s.Holders, Holder{Kind: HeldRecipe, Name: made, Enough: true})
		}
		if s.Path == "" {
			s.Near = b.probe().Near(n)
		}
	}
	return nil
}

// published is what one repository of the workspace holds for its target.
type published struct {
	name     string
	dir      string
	disabled bool
	records  []repo.Record
}

// published reads the workspace's repositories. One that holds nothing yet, or
// cannot be read, has nothing.
func (b *Builder) published(ctx context.Context) ([]published, error) {
	var out []published
	var names []string
	for name := range b.Workspace.Settings.Repositories {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		dir, channel, err := b.Workspace.Repository(name)
		if err != nil {
			b.Progress.Note(fmt.Sprintf("repository %s is passed over: %v", name, err))
			continue
		}
		state, err := repo.Open(dir).At(ctx, channel)
		var none *repo.NotRepositoryError
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			if !errors.As(err, &none) {
				b.Progress.Note(fmt.Sprintf("repository %s is passed over: %v", name, err))
			}
			continue
		}
		records := slices.DeleteFunc(state.Records[b.Workspace.Target.Name], func(r repo.Record) bool {
			return r.Arch != recipe.AnyArch && r.Arch != b.Workspace.Target.Arch
		})
		out = append(out, published{name, dir, !b.Workspace.Settings.Repositories[name].IsEnabled(), records})
	}
	return out, nil
}

// holders are the newest package of a repository that meets a need, or else
// the newest of that name.
func (p published) holders(n need.Need) []Holder {
	kind := HeldEnabled
	if p.disabled {
		kind = HeldDisabled
	}
	loose := need.Need{}
	for _, a := range n.Alternatives {
		loose.Alternatives = append(loose.Alternatives, need.Alternative{Kind: a.Kind, Name: a.Name})
	}
	for _, try := range []need.Need{n, loose} {
		var best *repo.Record
		for i := range p.records {
			r := &p.records[i]
			if slices.ContainsFunc(r.AllProvides(), try.MetBy) && (best == nil || best.Full().Compare(r.Full()) < 0) {
				best = r
			}
		}
		if best != nil {
			return []Holder{{Kind: kind, Name: p.name, Package: best.Identity(), Enough: try.String() == n.String(), file: filepath.Join(p.dir, filepath.FromSlash(best.File)), sha256: best.SHA256}}
		}
	}
	return nil
}

// Supply brings the packages that meet a recipe's unmet needs from the enabled
// repositories among the workspace's own, with what these need in turn. It
// returns their identities.
func (b *Builder) Supply(ctx context.Context, r *recipe.Recipe) ([]string, error) {
	var brought []string
	states, err := b.Needs(ctx, r)
	if err != nil {
		return nil, err
	}
	var wanted []need.Need
	for _, s := range states {
		if n, err := need.Parse(s.Need); err == nil && !s.Met {
			wanted = append(wanted, n)
		}
	}
	all, err := b.published(ctx)
	if err != nil {
		return nil, err
	}
	for len(wanted) > 0 {
		n := wanted[0]
		wanted = wanted[1:]
		packages, err := b.packages()
		if err != nil {
			return brought, err
		}
		if b.needState(n, nil, packages).Met {
			continue
		}
		for _, p := range all {
			h := p.holders(n)
			if p.disabled || len(h) == 0 || !h[0].Enough || slices.Contains(brought, h[0].Package) {
				continue
			}
			facts, err := b.bring(ctx, h[0])
			if err != nil {
				return brought, err
			}
			brought = append(brought, h[0].Package)
			for _, more := range facts.Needs {
				if parsed, err := need.Parse(more.Need); err == nil {
					wanted = append(wanted, parsed)
				}
			}
			break
		}
	}
	return brought, nil
}

// bring copies a package, and checks that it is the one that the index names.
func (b *Builder) bring(ctx context.Context, h Holder) (pack.Facts, error) {
	in, err := os.Open(h.file)
	if err != nil {
		return pack.Facts{}, err
	}
	defer in.Close()
	dir := b.Workspace.Packages()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return pack.Facts{}, err
	}
	path := filepath.Join(dir, filepath.Base(h.file))
	out, err := renameio.NewPendingFile(path, renameio.WithStaticPermissions(0o644))
	if err != nil {
		return pack.Facts{}, err
	}
	defer out.Cleanup()
	if _, err := io.Copy(out, in); err != nil {
		return pack.Facts{}, err
	}
	w := pack.Written{Path: out.Name()}
	if err := w.Digest(); err != nil {
		return pack.Facts{}, err
	}
	if w.SHA256 != h.sha256 {
		return pack.Facts{}, fmt.Errorf("%s: its SHA-256 is %s, and the index of repository %s says %s", h.file, w.SHA256, h.Name, h.sha256)
	}
	if err := out.CloseAtomicallyReplace(); err != nil {
		return pack.Facts{}, err
	}
	p, err := pack.Open(path)
	if err != nil {
		return pack.Facts{}, err
	}
	defer p.Close()
	return p.Facts, ctx.Err()
}
