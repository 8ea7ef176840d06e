package build

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// NeedState is a need of a recipe, and what answers it here.
type NeedState struct {
	Need    string   `json:"need"`
	For     []string `json:"for"` // of "build", "test" and "run"
	Met     bool     `json:"met"`
	By      string   `json:"by,omitempty"`      // a package's identity, or "system"
	Path    string   `json:"path,omitempty"`    // in the system, also where its version is not enough
	Version string   `json:"version,omitempty"` // of what is there
	Holders []Holder `json:"holders,omitempty"` // of what is not met: who has it
	Near    string   `json:"near,omitempty"`    // of what is not met: something in the system with nearly its name
	Found   string   `json:"found,omitempty"`   // the packaged file that has the need; empty for a declared one
	Lacks   []string `json:"lacks,omitempty"`   // symbol versions that the system's library does not have
}

// Holder is who has what meets a need, or would but for its version.
type Holder struct {
	Kind    string `json:"kind"`              // one of the kinds below
	Name    string `json:"name"`              // of the repository or the recipe
	Package string `json:"package,omitempty"` // in a repository: its identity
	Enough  bool   `json:"enough"`            // its version is within the bounds
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

// Status is that of something the machine lacks.
func (e *MissingError) Status() fact.Status { return fact.StatusMachine }

// Reason says in one line why a need is not met, and who has it.
func (n NeedState) Reason() string {
	var parts []string
	switch {
	case len(n.Lacks) > 0:
		parts = append(parts, fmt.Sprintf("the system has %s, without %s", n.Path, strings.Join(n.Lacks, ", ")))
	case n.Path != "":
		parts = append(parts, "the system has "+strings.TrimSpace(n.Path+" "+n.Version)+", which is not within its bounds")
	}
	for _, h := range n.Holders {
		has := "has it"
		if !h.Enough {
			has = "has another version"
		}
		switch h.Kind {
		case HeldRecipe:
			parts = append(parts, fmt.Sprintf("recipe %s makes it", h.Name))
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
func (b *Builder) probe() *probe.System {
	root := b.systemDir()
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
			own = notOf(all, r.Name) // a build does not depend on its own packages
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

func notOf(all []*depPackage, recipe string) []*depPackage {
	return slices.DeleteFunc(slices.Clone(all), func(p *depPackage) bool { return p.facts.Recipe == recipe })
}

// needState looks for what meets a need: the workspace's packages first, then
// the system, whose library must have the symbol versions.
func (b *Builder) needState(n need.Need, symbols []string, all []*depPackage) NeedState {
	s := NeedState{Need: n.String()}
	if p := find(all, n); p != nil {
		s.Met, s.By = true, p.facts.Identity()
		return s
	}
	if found, ok := b.probe().Look(n, symbols); ok {
		s.Met, s.Path, s.Version, s.Lacks = found.Enough, found.Path, found.Provide.Version, found.Lacks
		if s.Met {
			s.By = bySystem
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
		if s.Near == "" && len(s.Holders) == 0 {
			s.Near = nearest(n, published)
		}
	}
	return nil
}

// nearest names something that a repository has, and that is nearly what is
// needed.
func nearest(n need.Need, all []published) string {
	for _, a := range n.Alternatives {
		var names []string
		for _, p := range all {
			for _, r := range p.records {
				for _, o := range r.AllProvides() {
					if o.Kind == a.Kind {
						names = append(names, o.Name)
					}
				}
			}
		}
		if near := fact.Nearest(a.Name, names); near != "" {
			return need.Alternative{Kind: a.Kind, Name: near}.String()
		}
	}
	return ""
}

// published is what one repository of the workspace holds for its target.
type published struct {
	name       string
	repository *repo.Repository
	disabled   bool
	priority   int
	records    []index.Record
}

// published reads the workspace's repositories. One that holds nothing yet, or
// cannot be read, has nothing.
func (b *Builder) published(ctx context.Context) ([]published, error) {
	var out []published
	for _, name := range b.Workspace.RepositoryNames() {
		settings := b.Workspace.Settings.Repositories[name]
		place, channel := b.Workspace.Repository(name)
		r, err := repo.OpenCached(place)
		var state repo.State
		if err == nil {
			state, err = r.At(ctx, channel)
		}
		var none *storage.NotRepositoryError
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			if !errors.As(err, &none) {
				b.Progress.Note(fmt.Sprintf("repository %s is skipped: %v", name, err))
			}
			continue
		}
		records := slices.DeleteFunc(state.Records[b.Workspace.Target.Name], func(r index.Record) bool {
			return r.Arch != fact.Independent && r.Arch != b.Workspace.Target.Arch
		})
		out = append(out, published{name, r, !settings.IsEnabled(), settings.Priority, records})
	}
	slices.SortStableFunc(out, func(a, b published) int { return cmp.Compare(b.priority, a.priority) })
	return out, nil
}

// holders are the newest package of a repository that meets a need, or else
// the newest of that name.
func (p published) holders(n need.Need) []Holder {
	kind := HeldEnabled
	if p.disabled {
		kind = HeldDisabled
	}
	loose := solve.Need{Need: n}.Loose().Need
	for _, try := range []need.Need{n, loose} {
		var best *index.Record
		for i := range p.records {
			r := &p.records[i]
			if slices.ContainsFunc(r.AllProvides(), try.MetBy) && (best == nil || best.Full().Compare(r.Full()) < 0) {
				best = r
			}
		}
		if best != nil {
			return []Holder{{Kind: kind, Name: p.name, Package: best.Identity(), Enough: try.String() == n.String()}}
		}
	}
	return nil
}

// Supply brings packages from the enabled repositories among the workspace's
// own, such that all of a recipe's needs are met that can be, and all that
// these packages need in turn: the solver chooses them, and prefers what the
// workspace has already. It returns their identities. Needs that no repository
// knows of stay as they are; where those that are known cannot be met
// together, the error is a *solve.NoAnswerError.
func (b *Builder) Supply(ctx context.Context, r *recipe.Recipe) ([]string, error) {
	states, err := b.Needs(ctx, r)
	if err != nil {
		return nil, err
	}
	all, err := b.published(ctx)
	if err != nil {
		return nil, err
	}
	request := solve.Request{System: func(n solve.Need) bool {
		found, ok := b.probe().Look(n.Need, n.Symbols)
		return ok && found.Enough
	}}
	for _, s := range states {
		n, err := need.Parse(s.Need)
		known := slices.ContainsFunc(all, func(p published) bool {
			h := p.holders(n)
			return !p.disabled && len(h) > 0 && h[0].Enough
		})
		if err == nil && !s.Met && known {
			request.Install = append(request.Install, n)
		}
	}
	if len(request.Install) == 0 {
		return nil, nil
	}
	own, err := b.packages()
	if err != nil {
		return nil, err
	}
	for _, p := range newestOf(own) {
		c := index.RecordOf(p.facts).Candidate()
		c.Installed = true
		request.Packages = append(request.Packages, c)
	}
	from := map[*solve.Package]*published{}
	records := map[*solve.Package]index.Record{}
	for i, p := range all {
		for _, rec := range p.records {
			if p.disabled {
				continue
			}
			c := rec.Candidate()
			c.Origin, c.Priority = p.name, p.priority
			from[c], records[c] = &all[i], rec
			request.Packages = append(request.Packages, c)
		}
	}
	answer, err := solve.Solve(request)
	if err != nil {
		return nil, err
	}
	var brought []string
	for _, c := range answer.Packages {
		if c.Installed {
			continue
		}
		if _, err := from[c].repository.Copy(ctx, records[c], b.Workspace.Packages()); err != nil {
			return brought, fmt.Errorf("repository %s: %w", from[c].name, err)
		}
		brought = append(brought, records[c].Identity())
	}
	return brought, nil
}

// newestOf keeps the newest package of each name.
func newestOf(all []*depPackage) []*depPackage {
	best := map[string]*depPackage{}
	for _, p := range all {
		if have := best[p.facts.Name]; have == nil || have.facts.Full().Compare(p.facts.Full()) < 0 {
			best[p.facts.Name] = p
		}
	}
	var out []*depPackage
	for _, name := range slices.Sorted(maps.Keys(best)) {
		out = append(out, best[name])
	}
	return out
}
