package root

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// A choice is a link of the root that several packages offer a path for: two versions
// of one command, say. The root has the link; no package does.

// Offer is a package's path for a link.
type Offer struct {
	Package  string `json:"package"`
	Path     string `json:"path"`
	Priority int    `json:"priority"`
}

// Choice is a link with the paths that are offered for it, the highest priority first.
type Choice struct {
	Link   string  `json:"link"`
	Offers []Offer `json:"offers"`
	// Package is the one whose path the link leads to; Fixed means that a user decided
	// that, and not the priority.
	Package string `json:"package"`
	Fixed   bool   `json:"fixed,omitempty"`
}

// chosen is the offer that the link leads to.
func (c Choice) chosen() Offer {
	i := slices.IndexFunc(c.Offers, func(o Offer) bool { return o.Package == c.Package })
	return c.Offers[i]
}

// target is what the link contains: as short as it can be.
func (c Choice) target() string {
	to := c.chosen().Path
	if relative, err := filepath.Rel(path.Dir(c.Link), to); err == nil && path.Dir(c.Link) == path.Dir(to) {
		return relative
	}
	return to
}

// choices lists the links that packages offer paths for, by link. Decided has the packages
// that users decided for, by link.
func choices(packages []Installed, decided map[string]string) []Choice {
	offers := map[string][]Offer{}
	for _, p := range packages {
		for _, c := range p.Choices {
			offers[c.Link] = append(offers[c.Link], Offer{p.Name, c.Path, c.Priority})
		}
	}
	var out []Choice
	for _, link := range sortedKeys(offers) {
		list := offers[link]
		slices.SortFunc(list, func(a, b Offer) int {
			return cmp.Or(cmp.Compare(b.Priority, a.Priority), cmp.Compare(a.Package, b.Package))
		})
		c := Choice{Link: link, Offers: list, Package: list[0].Package}
		if slices.ContainsFunc(list, func(o Offer) bool { return o.Package == decided[link] }) {
			c.Package, c.Fixed = decided[link], true
		}
		out = append(out, c)
	}
	return out
}

// Choices lists the root's choices, by link.
func (r *Root) Choices() ([]Choice, error) {
	s, err := r.State()
	if err != nil {
		return nil, err
	}
	return choices(s.Packages, r.Settings.Chosen), nil
}

// Choose makes a link lead to a package's path from the next transaction on, whatever the
// priorities are; an empty name leaves it to the priorities again.
func (r *Root) Choose(ctx context.Context, link, name string) error {
	all, err := r.Choices()
	if err != nil {
		return err
	}
	var links, offers []string
	known := false
	for _, c := range all {
		links = append(links, c.Link)
		if c.Link == link {
			known = true
			for _, o := range c.Offers {
				offers = append(offers, o.Package)
			}
		}
	}
	switch {
	case !known && len(links) == 0:
		return fact.Errorf(fact.StatusInput, "no package in %s offers a choice", r.Dir)
	case !known:
		return fact.Errorf(fact.StatusInput, "there is no choice %s; the choices are %s", link, strings.Join(links, ", "))
	case name != "" && !slices.Contains(offers, name):
		return fact.Errorf(fact.StatusInput, "%s does not offer %s; %s does", name, link, strings.Join(offers, ", "))
	}
	return r.UpdateSettings(ctx, func(s *Settings) {
		if name == "" {
			delete(s.Chosen, link)
			return
		}
		if s.Chosen == nil {
			s.Chosen = map[string]string{}
		}
		s.Chosen[link] = name
	})
}

// after lists the packages that are installed once a plan is done.
func (t *Transaction) after(p *Plan) []Installed {
	changed := map[string]bool{}
	var out []Installed
	for _, one := range p.parts {
		changed[one.change.Name] = true
		if one.change.To != nil {
			out = append(out, *one.change.To)
		}
	}
	for _, i := range t.state.Packages {
		if !changed[i.Name] {
			out = append(out, i)
		}
	}
	slices.SortFunc(out, func(a, b Installed) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// planChoices finds the links of choices that are to be written, and those that go.
func (t *Transaction) planChoices(_ context.Context, p *Plan, q Request) error {
	v := t.root.newView()
	wanted := map[string]bool{}
	ours := map[string]map[string]bool{} // what choices would have in a link, before and after
	before := choices(t.state.Packages, nil)
	after := choices(t.after(p), t.root.Settings.Chosen)
	for _, list := range [][]Choice{before, after} {
		for _, c := range list {
			if ours[c.Link] == nil {
				ours[c.Link] = map[string]bool{}
			}
			for _, o := range c.Offers {
				one := Choice{Link: c.Link, Offers: c.Offers, Package: o.Package}
				ours[c.Link][one.target()] = true
			}
		}
	}
	for _, c := range after {
		wanted[c.Link] = true
		real, err := v.real(c.Link)
		if err != nil {
			return err
		}
		by := c.chosen().Package
		if isOwn(real) {
			p.problem(Problem{Package: by, Path: real, Message: "it is among what Ellwand records of the root"})
			continue
		}
		if i := p.at[real]; i != nil {
			p.problem(Problem{Package: i.part.change.Name, Path: real, Message: fmt.Sprintf("%s offers a choice for this path", by), Remedy: "one of the two has to declare it as a choice, or to replace the other"})
			continue
		}
		if owners := ownersOf(p.owners, real); len(owners) > 0 {
			p.problem(Problem{Package: by, Path: real, Message: fmt.Sprintf("it offers a choice for this path, which belongs to %s", owners[0].pkg), Remedy: fmt.Sprintf("remove %s first", owners[0].pkg)})
			continue
		}
		info, there, err := t.root.exists(real)
		if err != nil {
			return err
		}
		if there && isType(info, staging.Symlink) {
			now, err := t.root.tree.Readlink(local(real))
			if err != nil {
				return err
			}
			if now == c.target() {
				continue
			}
			there = !ours[c.Link][now]
		}
		if there && !slices.ContainsFunc(q.Adopt, func(w string) bool { return path.Clean("/"+w) == real }) {
			p.problem(Problem{Package: by, Path: real, Message: "it offers a choice for this path, and there is something that no package owns", Remedy: "move it away, or replace it", Adopt: true})
			continue
		}
		e := ell.Entry{Path: real, Type: staging.Symlink, Mode: "0777", Owner: staging.Root, Group: staging.Root, Link: c.target()}
		i := &item{entry: e, real: real, there: info, write: true}
		p.items = append(p.items, i)
		p.at[real] = i
		p.Chosen = append(p.Chosen, c)
	}
	for _, c := range before {
		if wanted[c.Link] {
			continue
		}
		real, err := v.real(c.Link)
		if err != nil {
			return err
		}
		info, there, err := t.root.exists(real)
		if err != nil {
			return err
		}
		if !there || !isType(info, staging.Symlink) || p.at[real] != nil {
			continue
		}
		// A link that somebody led elsewhere is not ours.
		if now, err := t.root.tree.Readlink(local(real)); err == nil && ours[c.Link][now] {
			p.removals = append([]removal{{Path: real, Type: staging.Symlink}}, p.removals...)
		}
	}
	return nil
}

// placeLinks makes the links that belong to no package.
func (t *Transaction) placeLinks(p *Plan, items []*item) error {
	for _, i := range items {
		uid, gid := t.numbers(p, i.entry)
		if err := t.placeLink(i, uid, gid); err != nil {
			return err
		}
	}
	return nil
}

// wrongChoices lists the links of choices that do not lead where they should.
func (r *Root) wrongChoices(s State) ([]Deviation, error) {
	var out []Deviation
	v := r.newView()
	for _, c := range choices(s.Packages, r.Settings.Chosen) {
		real, err := v.real(c.Link)
		if err != nil {
			return nil, err
		}
		message := ""
		info, there, err := r.exists(real)
		switch {
		case err != nil:
			return nil, err
		case !there:
			message = "missing; it is a choice, which leads to " + c.target()
		case !isType(info, staging.Symlink):
			message = "not a link; it is a choice, which leads to " + c.target()
		default:
			now, err := r.tree.Readlink(local(real))
			if err != nil {
				return nil, err
			}
			if now != c.target() {
				message = fmt.Sprintf("a link to %s; the choice leads to %s", now, c.target())
			}
		}
		if message != "" {
			out = append(out, Deviation{Path: real, Package: c.Package, Message: message})
		}
	}
	return out, nil
}
