package satisfy

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

// system makes a root that has the command awk and the module zlib 1.3.
func system(t *testing.T) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range map[string]string{"usr/bin/awk": "#!/bin/sh\n", "usr/lib/pkgconfig/zlib.pc": "Name: zlib\nVersion: 1.3\n"} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

func newResolver(t *testing.T, settings string) *Resolver {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache"))
	if err := os.MkdirAll(filepath.Join(dir, workspace.RecipesDir), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, workspace.SettingsFile), []byte(settings), 0o644); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return &Resolver{Workspace: w, Root: system(t), Progress: progress.None}
}

func addRecipe(t *testing.T, b *Resolver, name, text string) *recipe.Recipe {
	t.Helper()
	dir := filepath.Join(b.Workspace.Dir, workspace.RecipesDir, name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	head := "format = 1\nname = \"" + name + "\"\nversion = \"1\"\nrelease = 1\nsummary = \"x\"\nlicense = \"MIT\"\narch = \"independent\"\n"
	if err := os.WriteFile(filepath.Join(dir, recipe.FileName), []byte(head+text), 0o644); err != nil {
		t.Fatal(err)
	}
	r, err := b.Workspace.Recipe(name)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// addPackage makes a package from "NAME VERSION" and parts after semicolons, into a
// directory, and returns its file.
func addPackage(t *testing.T, b *Resolver, dir, text string) string {
	t.Helper()
	parts := strings.Split(text, "; ")
	name, version, _ := strings.Cut(parts[0], " ")
	f := ell.Facts{Name: name, Version: version, Release: 1, Arch: "independent", Target: b.Workspace.Target.Name, Summary: "x", License: "MIT", Recipe: name}
	for _, part := range parts[1:] {
		word, rest, _ := strings.Cut(part, " ")
		switch word {
		case "needs":
			f.Needs = append(f.Needs, ell.Need{Need: need.Must(rest)})
		case "provides":
			f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide(rest)})
		case "found":
			f.Needs = append(f.Needs, ell.Need{Need: need.Must(rest), Path: "/usr/share/" + name})
		case "conflicts":
			f.Conflicts = append(f.Conflicts, need.Must(rest))
		}
	}
	spec := ell.Spec{Facts: f, Time: time.Unix(1e9, 0), Claims: []staging.Claim{{Path: staging.Path{Path: "/usr/share/" + name, Type: staging.File, Mode: 0o644, Disk: "satisfy_test.go"}, Owner: "root", Group: "root"}}}
	written, err := ell.Write(t.Context(), dir, spec, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return written.Path
}

const settings = `[repository.local]
url = "repository"
[repository.extra]
url = "extra"
enabled = false
`

// publish puts packages into one of the workspace's repositories.
func publish(t *testing.T, b *Resolver, name string, packages ...string) {
	t.Helper()
	place, channel := b.Workspace.Repository(name)
	var files []string
	for _, text := range packages {
		files = append(files, addPackage(t, b, t.TempDir(), text))
	}
	if _, err := repo.Open(place).Publish(t.Context(), channel, files, repo.ChangeOptions{}, progress.None); err != nil {
		t.Fatal(err)
	}
}

func TestNeeds(t *testing.T) {
	b := newResolver(t, settings)
	addPackage(t, b, b.Workspace.Packages(), "moon 2; provides command/moon")
	addPackage(t, b, b.Workspace.Packages(), "moon 3; provides command/moon")
	publish(t, b, "local", "sun 1; provides command/sun")
	publish(t, b, "extra", "star 1; provides command/star")
	addRecipe(t, b, "comet", "[package.comet]\nprovides = [\"command/comet\"]\n")
	r := addRecipe(t, b, "tide", `[needs]
build = ["command/awk", "command/moon", "pkgconfig/zlib >= 1.2", "pkgconfig/zlib >= 2", "command/sun", "command/star", "command/comet", "command/awq", "command/nothing-like-it"]
test  = ["command/awk"]
run   = ["tide", "sun >= 9"]
`)
	states, err := b.Needs(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, s := range states {
		text := strings.Join(s.For, "+") + ": "
		if s.Met {
			text += s.By
		} else {
			text += s.Reason()
		}
		got[s.Need.String()] = text
	}
	for n, want := range map[string]string{
		"command/awk":             "build+test: system",
		"command/moon":            "build: moon@3-1",
		"pkgconfig/zlib >= 1.2":   "build: system",
		"pkgconfig/zlib >= 2":     "build: the system has /usr/lib/pkgconfig/zlib.pc 1.3, which does not meet the bounds; no repository and no recipe provides it",
		"command/sun":             "build: repository local provides it: sun@1-1",
		"command/star":            "build: repository extra, which is disabled, provides it: star@1-1",
		"command/comet":           "build: recipe comet provides it",
		"command/awq":             `build: no repository and no recipe provides it; did you mean "command/awk"?`,
		"command/nothing-like-it": "build: no repository and no recipe provides it",
		"tide":                    "run: this recipe",
		"sun >= 9":                "run: repository local provides another version: sun@1-1",
	} {
		if got[n] != want {
			t.Errorf("%s is %q, want %q", n, got[n], want)
		}
	}
	e := &MissingError{"tide", states[3:4]}
	if !strings.Contains(e.Error(), "pkgconfig/zlib >= 2") || e.Status() == 0 {
		t.Errorf("%v", e)
	}
}

// What was found in a recipe's packages counts too, once they are built.
func TestNeedsFound(t *testing.T) {
	b := newResolver(t, settings)
	addPackage(t, b, b.Workspace.Packages(), "tide 1; found soname/libmoon.so.1; found command/awk")
	r := addRecipe(t, b, "tide", "")
	states, err := b.Needs(t.Context(), r)
	if err != nil || len(states) != 2 || states[0].Found != "/usr/share/tide" || states[0].Met || !states[1].Met {
		t.Errorf("%+v, %v", states, err)
	}
}

func TestSupply(t *testing.T) {
	b := newResolver(t, settings)
	publish(t, b, "local", "moon 1; needs sun; provides command/moon", "sun 2; provides command/sun", "sun 1; provides command/sun", "star 1; conflicts moon; provides command/star")
	publish(t, b, "extra", "comet 1; provides command/comet")
	for _, c := range []struct {
		needs string
		want  string // what is brought
		err   bool
	}{
		{"command/awk", "", false},
		{"command/comet", "", false}, // its repository is disabled
		{"command/sun", "sun@2-1", false},
		{"command/moon", "moon@1-1", false}, // sun is there already
		{"command/moon", "", false},
		{"command/star", "", true}, // moon, which it conflicts with, is needed too
	} {
		more := ""
		if c.err {
			more = ", \"command/moon\""
			if err := os.RemoveAll(b.Workspace.Packages()); err != nil {
				t.Fatal(err)
			}
		}
		r := addRecipe(t, b, "tide", "[needs]\nbuild = [\""+c.needs+"\""+more+"]\n")
		brought, err := b.Supply(t.Context(), r)
		slices.Sort(brought)
		var none *solve.NoAnswerError
		if strings.Join(brought, " ") != c.want || errors.As(err, &none) != c.err || err != nil && !c.err {
			t.Errorf("%s: %q, %v, want %q", c.needs, brought, err, c.want)
		}
	}
}

func TestMeets(t *testing.T) {
	b := newResolver(t, settings)
	addPackage(t, b, b.Workspace.Packages(), "moon 2; provides command/moon")
	publish(t, b, "local", "sun 1; provides command/sun")
	meets := b.Meets(t.Context(), probe.Open(b.Root))
	for text, want := range map[string]bool{"command/awk": true, "command/moon": true, "command/sun": true, "command/comet": false, "sun >= 2": false, "command/comet | command/awk": true} {
		n, err := need.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		for _, when := range []string{"at first", "from memory"} {
			if meets(n) != want {
				t.Errorf("%s, %s, is met: %v", text, when, !want)
			}
		}
	}
}

// A package is read again only when its file changes; one that cannot be read is
// left out.
func TestPackages(t *testing.T) {
	b := newResolver(t, settings)
	dir := b.Workspace.Packages()
	if all, err := b.Packages(); err != nil || len(all) > 0 {
		t.Errorf("without a directory: %v, %v", all, err)
	}
	addPackage(t, b, dir, "moon 1")
	addPackage(t, b, dir, "moon 2")
	for name, text := range map[string]string{"bad@1-1.ell": "?", "notes.txt": "x"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	all, err := b.Packages()
	if err != nil || len(all) != 2 {
		t.Fatalf("%d packages, %v", len(all), err)
	}
	again, err := b.Packages()
	if err != nil || !slices.Equal(all, again) {
		t.Errorf("they are read again: %v", err)
	}
	if newest := Newest(all); len(newest) != 1 || newest[0].Facts.Version != "2" {
		t.Errorf("the newest: %+v", newest)
	}
	if rest := NotOf(all, "moon"); len(rest) > 0 {
		t.Errorf("those of other recipes: %+v", rest)
	}
	b.Workspace.Target.Name = "another"
	if all, err := b.Packages(); err != nil || len(all) > 0 {
		t.Errorf("for another target: %+v, %v", all, err)
	}
}

func TestSystemStamp(t *testing.T) {
	b := newResolver(t, settings)
	n, err := need.Parse("command/awk")
	if err != nil {
		t.Fatal(err)
	}
	before := b.SystemStamp(n)
	if before == "" {
		t.Fatal("nothing")
	}
	awk := filepath.Join(b.Root, "usr/bin/awk")
	if err := os.WriteFile(awk, []byte("#!/bin/sh\necho\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if after := b.SystemStamp(n); after == before || after == "" {
		t.Errorf("another program has the stamp %q", after)
	}
	if n, err = need.Parse("command/moon"); err != nil || b.SystemStamp(n) != "" {
		t.Errorf("what is not there has a stamp")
	}
}

func TestMakers(t *testing.T) {
	b := newResolver(t, settings)
	var all []*recipe.Recipe
	for name, text := range map[string]string{
		"libmoon": "", "sun": "[package.sun]\nprovides = [\"command/sun\"]\n", "star": "[package.star.layout]\n\"/usr/lib/pkgconfig/star.pc\" = {}\n", "tide": "", "awk": "",
	} {
		all = append(all, addRecipe(t, b, name, text))
	}
	slices.SortFunc(all, func(x, y *recipe.Recipe) int { return strings.Compare(x.Name, y.Name) })
	offers := b.Offers(all)
	tide := all[len(all)-1]
	for text, want := range map[string]string{
		"sun": "sun", "command/sun": "sun", "pkgconfig/star": "star", "pkgconfig/moon": "libmoon", "soname/libmoon.so.1": "", "command/awk": "", "command/comet": "", "tide": "",
	} {
		if got := strings.Join(b.Makers(tide, []need.Need{need.Must(text)}, offers), " "); got != want {
			t.Errorf("%s is made by %q, want %q", text, got, want)
		}
	}
}

func TestInterrupted(t *testing.T) {
	b := newResolver(t, "[repository.far]\nurl = \"http://127.0.0.1:1/\"\n")
	r := addRecipe(t, b, "tide", "[needs]\nbuild = [\"command/comet\"]\n")
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := b.Needs(stopped, r); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	// A repository that does not answer is skipped, and said to be.
	notes := &noter{}
	b.Progress = notes
	states, err := b.Needs(t.Context(), r)
	if err != nil || len(states) != 1 || len(notes.all) != 1 || !strings.Contains(notes.all[0], "repository far is skipped") {
		t.Errorf("%+v, %v, %q", states, err, notes.all)
	}
}

type noter struct {
	progress.Sink
	all []string
}

func (n *noter) Note(s string) { n.all = append(n.all, fmt.Sprint(s)) }

// A command that the caller has in a directory that steps do not see is told with its place.
func TestOnPath(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "tidewise"), []byte("#!/bin/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	w, err := workspace.Init(filepath.Join(t.TempDir(), "w"))
	if err != nil {
		t.Fatal(err)
	}
	b := &Resolver{Workspace: w, Progress: progress.None}
	for text, want := range map[string]string{"command/tidewise": filepath.Join(dir, "tidewise"), "command/nobody-has-this": "", "pkgconfig/tidewise": ""} {
		n, err := need.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		states := []NeedState{b.State(n, nil, nil)}
		if err := b.FindHolders(t.Context(), &recipe.Recipe{Name: "tide"}, states); err != nil {
			t.Fatal(err)
		}
		if states[0].OnPath != want || strings.Contains(states[0].Reason(), "which steps do not see") != (want != "") {
			t.Errorf("%s: %q, %s", text, states[0].OnPath, states[0].Reason())
		}
	}
}
