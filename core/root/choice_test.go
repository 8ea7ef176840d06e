package root

import (
	"context"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
)

// offering makes a package offer a path for /usr/bin/tide.
func offering(path string, priority int) func(*ell.Spec) {
	return func(s *ell.Spec) {
		s.Facts.Choices = []ell.Choice{{Link: "/usr/bin/tide", Path: path, Priority: priority}}
	}
}

// The link of a choice leads to the highest priority or to where a user wants it, stays
// through upgrades, and goes with the last package.
func TestChoices(t *testing.T) {
	r, b := newRoot(t), newBuilder(t)
	one := b.pkg(t, "tide1", "1", "/usr/bin/tide1 (0755) = one", offering("/usr/bin/tide1", 10))
	two := b.pkg(t, "tide2", "2", "/usr/bin/tide2 (0755) = two", offering("/usr/bin/tide2", 20))
	newer := b.pkg(t, "tide1", "1.1", "/usr/bin/tide1.1 (0755) = newer", offering("/usr/bin/tide1.1", 10))
	expect := func(what, target string) {
		t.Helper()
		got := tree(t, r)["/usr/bin/tide"]
		if got != target {
			t.Errorf("%s: the link is %q, want %q", what, got, target)
		}
		v, err := r.Verify(t.Context(), nil, func(string) bool { return true }, progress.None)
		if err != nil || !v.Whole() {
			t.Errorf("%s: %+v, %v", what, v.Deviations, err)
		}
	}
	must(t, r, Request{Install: []Incoming{one}})
	expect("one", "-> tide1")
	must(t, r, Request{Install: []Incoming{two}})
	expect("a higher priority", "-> tide2")
	if err := r.Choose(t.Context(), "/usr/bin/tide", "tide1"); err != nil {
		t.Fatal(err)
	}
	if p := must(t, r, Request{Action: "choose"}); len(p.Chosen) != 1 || p.IsEmpty() {
		t.Errorf("%+v", p.Chosen)
	}
	expect("chosen", "-> tide1")
	must(t, r, Request{Install: []Incoming{newer}})
	expect("upgraded", "-> tide1.1")
	if owners, err := r.Owner("/usr/bin/tide"); err != nil || strings.Join(owners, " ") != "tide1" {
		t.Errorf("it belongs to %v, %v", owners, err)
	}
	must(t, r, Request{Remove: []string{"tide1"}})
	expect("the chosen one is gone", "-> tide2")
	must(t, r, Request{Install: []Incoming{one}})
	expect("it is back", "-> tide1")
	if err := r.Choose(t.Context(), "/usr/bin/tide", ""); err != nil {
		t.Fatal(err)
	}
	must(t, r, Request{Action: "choose"})
	expect("by priority", "-> tide2")
	must(t, r, Request{Remove: []string{"tide1", "tide2"}})
	expect("nothing left", "")
	for link, name := range map[string]string{"/usr/bin/ebb": "tide1", "/usr/bin/tide": "ebb"} {
		if err := r.Choose(t.Context(), link, name); err == nil {
			t.Errorf("%s of %s was accepted", link, name)
		}
	}
}

// The place of a link may be taken: by a file of nobody's, by a package's, or by a link that a
// user led elsewhere, which stays.
func TestChoiceConflicts(t *testing.T) {
	r, b := newRoot(t), newBuilder(t)
	one := b.pkg(t, "tide1", "1", "/usr/bin/tide1 (0755) = one", offering("/usr/bin/tide1", 10))
	owner := b.pkg(t, "tide", "1", "/usr/bin/tide (0755) = mine")
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{one, owner}}); err == nil || !strings.Contains(err.Error(), "offers a choice") {
		t.Errorf("both at once: %v", err)
	}
	evil := b.pkg(t, "evil", "1", "/usr/bin/evil (0755) = x", func(s *ell.Spec) {
		s.Facts.Choices = []ell.Choice{{Link: "/" + StateDir + "/evil", Path: "/usr/bin/evil"}}
	})
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{evil}}); err == nil || !strings.Contains(err.Error(), "what Ellwand records") {
		t.Errorf("a link among the root's records: %v", err)
	}
	must(t, r, Request{Install: []Incoming{owner}})
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{one}}); err == nil || !strings.Contains(err.Error(), "belongs to tide") {
		t.Errorf("a package's file: %v", err)
	}
	must(t, r, Request{Remove: []string{"tide"}})
	edit(t, r, "usr/bin/tide", "mine")
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{one}}); err == nil || !strings.Contains(err.Error(), "no package owns") {
		t.Errorf("a file of nobody's: %v", err)
	}
	must(t, r, Request{Install: []Incoming{one}, Adopt: []string{"/usr/bin/tide"}})
	if got := tree(t, r)["/usr/bin/tide"]; got != "-> tide1" {
		t.Errorf("adopted: %s", got)
	}
	if err := r.tree.Remove("usr/bin/tide"); err != nil {
		t.Fatal(err)
	}
	if err := r.tree.Symlink("ebb", "usr/bin/tide"); err != nil {
		t.Fatal(err)
	}
	v, err := r.Verify(t.Context(), nil, func(string) bool { return true }, progress.None)
	if err != nil || v.Whole() {
		t.Errorf("a link that leads elsewhere is not told: %+v, %v", v, err)
	}
	must(t, r, Request{Remove: []string{"tide1"}})
	if got := tree(t, r)["/usr/bin/tide"]; got != "-> ebb" {
		t.Errorf("the user's link is %q", got)
	}
}

// Refreshers of packages run once for all that changed in what they read, and when their
// package comes, not when it goes.
func TestOwnRefreshers(t *testing.T) {
	r, b := newRoot(t), newBuilder(t)
	indexer := b.pkg(t, "indexer", "1", "/usr/bin/tide-index (0755) = x", func(s *ell.Spec) {
		s.Facts.Refresh = []ell.Refresh{{Paths: []string{"/usr/share/tide/*"}, Run: "tide-index"}, {Paths: []string{"/usr/share/ebb/**"}, Run: "ebb-index"}}
	})
	tables := b.pkg(t, "tables", "1", "/usr/share/tide/a = a\n/usr/share/tide/b = b")
	other := b.pkg(t, "other", "1", "/usr/share/moon = m")
	for _, c := range []struct {
		what string
		q    Request
		want string // the script
	}{
		{"before it is there", Request{Install: []Incoming{tables}}, ""},
		{"new", Request{Install: []Incoming{indexer}}, "(\ntide-index\n)\n(\nebb-index\n)"},
		{"something else", Request{Install: []Incoming{other}}, ""},
		{"what it reads goes", Request{Remove: []string{"tables"}}, "(\ntide-index\n)"},
		{"with its own removal", Request{Install: []Incoming{tables}, Remove: []string{"indexer"}}, ""},
	} {
		var runner texts
		if _, _, err := change(t, r, &runner, c.q); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(runner, "; "); got != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

// texts notes the scripts that are run.
type texts []string

func (x *texts) Script(_ context.Context, _, text string, _ []string) (string, error) {
	*x = append(*x, text)
	return "", nil
}
