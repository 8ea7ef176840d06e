package satisfy

import (
	"cmp"
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/recipe"
)

// NeedState is a need of a recipe, and what answers it here.
type NeedState struct {
	Need    need.Need `json:"need"`
	For     []string  `json:"for"` // of "build", "test" and "run"
	Met     bool      `json:"met"`
	By      string    `json:"by,omitempty"`      // a package's identity, or "system"
	Path    string    `json:"path,omitempty"`    // in the system, also where its version is not enough
	Version string    `json:"version,omitempty"` // of what is there
	Holders []Holder  `json:"holders,omitempty"` // of what is not met: who has it
	Near    string    `json:"near,omitempty"`    // of what is not met: something in the system with nearly its name
	OnPath  string    `json:"on_path,omitempty"` // of a command that is not met: where the caller has it, and steps do not see it
	Found   string    `json:"found,omitempty"`   // the packaged file that has the need; empty for a declared one
	Lacks   []string  `json:"lacks,omitempty"`   // symbol versions that the system's library does not have
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
	s := fmt.Sprintf("%s: %d of its dependencies are unavailable:", e.Recipe, len(e.Needs))
	for _, n := range e.Needs {
		s += "\n  " + n.Need.String() + "  " + n.Reason()
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
		parts = append(parts, "the system has "+strings.TrimSpace(n.Path+" "+n.Version)+", which does not meet the bounds")
	}
	for _, h := range n.Holders {
		has := "provides it"
		if !h.Enough {
			has = "provides another version"
		}
		switch h.Kind {
		case HeldRecipe:
			parts = append(parts, fmt.Sprintf("recipe %s provides it", h.Name))
		case HeldDisabled:
			parts = append(parts, fmt.Sprintf("repository %s, which is disabled, %s: %s", h.Name, has, h.Package))
		default:
			parts = append(parts, fmt.Sprintf("repository %s %s: %s", h.Name, has, h.Package))
		}
	}
	if len(n.Holders) == 0 {
		parts = append(parts, "no repository and no recipe provides it")
	}
	if n.OnPath != "" {
		parts = append(parts, fmt.Sprintf("you have %s, which steps do not see: they look in the system's own directories", n.OnPath))
	}
	if n.Near != "" {
		parts = append(parts, fmt.Sprintf("did you mean %q?", n.Near))
	}
	return strings.Join(parts, "; ")
}

// Needs reports what meets each dependency here: those that a recipe declares,
// and those that were found in its packages.
func (b *Resolver) Needs(ctx context.Context, r *recipe.Recipe) ([]NeedState, error) {
	wanted := map[string][]string{} // dependency → what it is for
	var order []need.Need
	add := func(purpose string, needs []need.Need) {
		for _, n := range needs {
			text := n.String()
			if wanted[text] == nil {
				order = append(order, n)
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
	all, err := b.Packages()
	if err != nil {
		return nil, err
	}
	var states []NeedState
	for _, n := range order {
		text := n.String()
		own := all
		if !slices.Contains(wanted[text], ForRun) {
			own = NotOf(all, r.Name) // a build does not depend on its own packages
		}
		s := b.State(n, nil, own)
		s.For = wanted[text]
		if !s.Met && slices.ContainsFunc(n.Alternatives, func(a need.Alternative) bool { return a.Kind == need.Package && r.Makes(a.Name) }) {
			s.Met, s.By = true, "this recipe"
		}
		states = append(states, s)
	}
	for _, p := range all {
		if p.Facts.Recipe != r.Name || p.Facts.Full().String() != r.Full() {
			continue
		}
		for _, f := range p.Facts.Needs {
			text := f.Need.String()
			if f.Path == "" || wanted[text] != nil {
				continue
			}
			wanted[text] = []string{ForRun}
			s := b.State(f.Need, f.Symbols, all)
			s.For, s.Found = wanted[text], f.Path
			states = append(states, s)
		}
	}
	return states, b.FindHolders(ctx, r, states)
}

// State finds out what meets a dependency: a package of all, or else the system,
// whose library must have the symbol versions.
func (b *Resolver) State(n need.Need, symbols []string, all []*Package) NeedState {
	s := NeedState{Need: n}
	if p := Find(all, n); p != nil {
		s.Met, s.By = true, p.Facts.Identity()
		return s
	}
	if found, ok := b.Probe().Look(n, symbols); ok {
		s.Met, s.Path, s.Version, s.Lacks = found.Enough, found.Path, found.Provide.Version, found.Lacks
		if s.Met {
			s.By = BySystem
		}
	}
	return s
}

// FindHolders fills in who has what is not met.
func (b *Resolver) FindHolders(ctx context.Context, r *recipe.Recipe, states []NeedState) error {
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
	offers := b.Offers(others)
	for i := range states {
		s := &states[i]
		n := s.Need
		if s.Met {
			continue
		}
		for _, p := range published {
			s.Holders = append(s.Holders, p.holders(n)...)
		}
		if made := cmp.Or(maker(n, offers), namesake(n, offers)); made != "" {
			s.Holders = append(s.Holders, Holder{Kind: HeldRecipe, Name: made, Enough: true})
		}
		if s.Path == "" {
			s.Near = b.Probe().Near(n)
		}
		for _, a := range n.Alternatives {
			if path, err := exec.LookPath(a.Name); a.Kind == need.Command && err == nil && s.Path == "" && !slices.Contains(strings.Split(probe.SearchPath, ":"), filepath.Dir(path)) {
				s.OnPath = path
			}
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
