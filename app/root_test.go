package app

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/root"
	"ellwand.example/core/staging"
)

// pack makes a package in a directory, with one file that has the version in it.
func (a *App) pack(t *testing.T, dir, name, version string, edit func(*ell.Facts)) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "file")
	write(t, file, version)
	f := ell.Facts{Name: name, Version: version, Release: 1, Arch: fact.Independent, Target: a.Workspace.Target.Name, Summary: "x", License: "MIT", Recipe: name, Date: "2031-04-02"}
	if edit != nil {
		edit(&f)
	}
	w, err := ell.Write(t.Context(), dir, ell.Spec{Facts: f, Time: time.Unix(1e9, 0), Claims: []staging.Claim{
		{Path: staging.Path{Path: "/usr/share/" + name, Type: staging.File, Mode: 0o644, Disk: file, Size: int64(len(version))}, Owner: staging.Root, Group: staging.Root},
	}}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

func needs(texts ...string) func(*ell.Facts) {
	return func(f *ell.Facts) {
		for _, text := range texts {
			f.Needs = append(f.Needs, ell.Need{Need: need.Must(text)})
		}
	}
}

// newRoot creates a root of an app's workspace, on no system.
func (a *App) newRoot(t *testing.T) *root.Root {
	t.Helper()
	r, err := a.CreateRoot(t.Context(), filepath.Join(t.TempDir(), "r"), RootSettings{System: root.SystemNone})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

// installed lists what a root has, as "name version" and "!" for what was asked for.
func installed(t *testing.T, r *root.Root) string {
	t.Helper()
	s, err := r.State()
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, p := range s.Packages {
		text := p.Name + " " + p.Version
		if p.Asked {
			text += "!"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func TestChangeRoot(t *testing.T) {
	a := newApp(t, "")
	r := a.newRoot(t)
	built := a.Workspace.Packages()
	if err := os.MkdirAll(built, 0o755); err != nil {
		t.Fatal(err)
	}
	a.pack(t, built, "libtide", "1", nil)
	a.pack(t, built, "tide", "1", needs("libtide"))
	do := func(c RootChange) error {
		t.Helper()
		_, err := a.ChangeRoot(t.Context(), r, c)
		return err
	}
	expect := func(want string) {
		t.Helper()
		if got := installed(t, r); got != want {
			t.Errorf("installed are %q, want %q", got, want)
		}
	}
	ok := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	ok(do(RootChange{Action: "install", Install: []string{"tide"}}))
	expect("libtide 1, tide 1!")
	// An upgrade takes what is newer, of everything or of what is named.
	a.pack(t, built, "libtide", "2", nil)
	a.pack(t, built, "tide", "2", needs("libtide"))
	ok(do(RootChange{Action: "upgrade", Upgrade: []string{"libtide"}}))
	expect("libtide 2, tide 1!")
	ok(do(RootChange{Action: "upgrade", UpgradeAll: true}))
	expect("libtide 2, tide 2!")
	// A package that takes the place of another carries on what was asked for.
	a.pack(t, built, "tides", "3", func(f *ell.Facts) {
		f.Replaces = []need.Need{need.Must("tide")}
		f.Provides = []ell.Provide{{Provide: need.Provide{Kind: need.Package, Name: "tide", Version: "3-1"}}}
	})
	ok(do(RootChange{Action: "install", Install: []string{"tides"}}))
	expect("libtide 2, tides 3!")
	// What others need goes only with them.
	ok(do(RootChange{Action: "rewind", Rewind: serial(1)}))
	expect("libtide 1, tide 1!")
	var dependents *DependentsError
	if err := do(RootChange{Action: "remove", Remove: []string{"libtide"}}); !errors.As(err, &dependents) || !slices.Equal(dependents.Dependents, []string{"tide"}) {
		t.Errorf("removing what another needs: %v", err)
	}
	ok(do(RootChange{Action: "remove", Remove: []string{"libtide"}, WithDependents: true}))
	expect("")
	// A plan changes nothing.
	result, err := a.ChangeRoot(t.Context(), r, RootChange{Action: "install", Install: []string{"tide@1-1"}, Plan: true})
	if err != nil || len(result.Plan.Changes) != 2 || result.Entry != nil {
		t.Errorf("%+v, %v", result, err)
	}
	expect("")
}

func serial(n int64) *int64 { return &n }

// A package that came from a file can be gone back to when the file is gone.
func TestRewindToFile(t *testing.T) {
	a := newApp(t, "")
	r := a.newRoot(t)
	dir := t.TempDir()
	for _, version := range []string{"1", "2"} {
		file := a.pack(t, dir, "tide", version, nil)
		if _, err := a.ChangeRoot(t.Context(), r, RootChange{Install: []string{file}}); err != nil {
			t.Fatal(err)
		}
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := a.ChangeRoot(t.Context(), r, RootChange{Rewind: serial(1)}); err != nil || installed(t, r) != "tide 1!" {
		t.Errorf("%v, and installed is %s", err, installed(t, r))
	}
	if err := os.RemoveAll(keptDir()); err != nil {
		t.Fatal(err)
	}
	if _, err := a.ChangeRoot(t.Context(), r, RootChange{Rewind: serial(2)}); err == nil || !strings.Contains(err.Error(), "tide@2-1 of serial 2 is in no repository any more") {
		t.Errorf("without a copy: %v", err)
	}
}

func TestRootMistakes(t *testing.T) {
	a := newApp(t, "")
	r := a.newRoot(t)
	dir := t.TempDir()
	for _, c := range []struct {
		change RootChange
		status fact.Status
		want   string
	}{
		{RootChange{Install: []string{"tyde"}}, fact.StatusInput, `there is no package "tyde"`},
		{RootChange{Install: []string{"tide@x y"}}, fact.StatusUsage, "is not NAME@VERSION-RELEASE"},
		{RootChange{Install: []string{"what/x"}}, fact.StatusUsage, "is neither a file nor a package"},
		{RootChange{Upgrade: []string{"tide"}}, fact.StatusInput, "tide is not installed"},
		{RootChange{Remove: []string{"tide"}}, fact.StatusInput, "tide is not installed"},
		{RootChange{Rewind: serial(7)}, fact.StatusInput, "has no serial 7"},
		{RootChange{Install: []string{a.pack(t, dir, "tide", "1", needs("libmoon >= 2"))}}, fact.StatusFindings, "libmoon >= 2"},
		{RootChange{Install: []string{a.pack(t, dir, "moon", "1", func(f *ell.Facts) { f.Arch, f.Target = "x86_64", "elsewhere-1" })}}, fact.StatusFindings, "it was built for elsewhere-1"},
	} {
		_, err := a.ChangeRoot(t.Context(), r, c.change)
		if err == nil || !strings.Contains(err.Error(), c.want) || fact.StatusOf(err) != c.status {
			t.Errorf("%+v: %v, status %d, want %s", c.change, err, fact.StatusOf(err), c.want)
		}
	}
	if got := installed(t, r); got != "" {
		t.Errorf("installed is %s", got)
	}
}

// A library of the system that is too old for a program is named, with the program and
// the symbols.
func TestMissingSymbols(t *testing.T) {
	a := newApp(t, "")
	r, err := a.CreateRoot(t.Context(), filepath.Join(t.TempDir(), "r"), RootSettings{System: root.SystemHost})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	file := a.pack(t, t.TempDir(), "tide", "1", func(f *ell.Facts) {
		f.Needs = []ell.Need{{Need: need.Must("soname/libc.so.6"), Path: "/usr/bin/tide", Symbols: []string{"GLIBC_2.2.5", "GLIBC_9.99"}}}
	})
	_, err = a.ChangeRoot(t.Context(), r, RootChange{Install: []string{file}})
	var old *SymbolsError
	if !errors.As(err, &old) || err.Error() != "/usr/bin/tide of tide@1-1 needs GLIBC_9.99 of libc.so.6, which the root's system does not have" {
		t.Errorf("%v", err)
	}
	var none *solve.NoAnswerError
	if errors.As(err, &none) {
		t.Error("the error is that of the solver")
	}
}

func TestRootSettings(t *testing.T) {
	a := newApp(t, "[repository.off]\nurl = \"elsewhere\"\nenabled = false\n")
	r := a.newRoot(t)
	if s := r.Settings; s.Target != a.Workspace.Target.Name || len(s.Repositories) != 1 || s.Repositories[0].Name != "local" || !filepath.IsAbs(s.Repositories[0].Address) || s.Repositories[0].Channel != "testing" {
		t.Errorf("%+v", s)
	}
	// A directory with an operating system in it stands on none.
	dir := t.TempDir()
	write(t, filepath.Join(dir, "bin/sh"), "")
	whole, err := a.CreateRoot(t.Context(), dir, RootSettings{})
	if err != nil {
		t.Fatal(err)
	}
	defer whole.Close()
	if whole.Settings.System != root.SystemNone {
		t.Errorf("its system is %s", whole.Settings.System)
	}
	for _, s := range []RootSettings{{System: "/nowhere"}, {System: filepath.Join(dir, "bin/sh")}, {Without: []string{"config"}}, {Target: "nowhere"}} {
		if _, err := a.CreateRoot(t.Context(), t.TempDir(), s); err == nil {
			t.Errorf("%+v is accepted", s)
		}
	}
	outside := &App{Progress: progress.None}
	alone, err := outside.CreateRoot(t.Context(), t.TempDir(), RootSettings{})
	if err != nil || alone.Settings.System != root.SystemNone || len(alone.Settings.Repositories) != 0 {
		t.Errorf("outside of a workspace: %+v, %v", alone.Settings, err)
	}
	alone.Close()
}

// What can be solved without reading all of a repository has the same answer.
func TestQuickly(t *testing.T) {
	a := newApp(t, "")
	dir := t.TempDir()
	var files []string
	for _, p := range []struct {
		name, version string
		needs         []string
	}{
		{"libtide", "1", nil}, {"libtide", "2", nil}, {"tide", "1", []string{"libtide"}}, {"tide", "2", []string{"libtide", "command/chart | tables"}}, {"tables", "1", nil},
		{"old", "1", []string{"libtide < 2"}}, {"ebb", "1", nil}, {"new", "1", []string{"libtide >= 2"}},
	} {
		files = append(files, a.pack(t, dir, p.name, p.version, needs(p.needs...)))
	}
	files = append(files, a.pack(t, dir, "flood", "1", func(f *ell.Facts) { f.Conflicts = []need.Need{need.Must("ebb")} }))
	o, err := a.Repository("local", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.Publish(t.Context(), o.Channel, files, repo.ChangeOptions{Allow: []index.Exception{{Code: gate.UnmetNeed, Package: "old", Reason: "it needs the older library"}}}, progress.None); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		there, install string
		quick          bool
		want           string
	}{
		{"", "tide", true, "libtide 2, tables 1, tide 2!"},
		{"", "tide@1-1", false, "libtide 2, tide 1!"},
		{"", "old", false, "libtide 1, old 1!"},
		{"", "old tide", false, "libtide 1, old 1!, tables 1, tide 2!"},
		{"old", "tide", true, "libtide 1, old 1!, tables 1, tide 2!"},
		{"libtide@1-1", "new", false, "libtide 2!, new 1!"},
		{"ebb", "flood", false, ""},
		{"tide", "ebb new", true, "ebb 1!, libtide 2, new 1!, tables 1, tide 2!"},
		{"", "tide < 2", false, "libtide 2, tide 1!"},
	} {
		t.Run(c.there+"+"+c.install, func(t *testing.T) {
			r := a.newRoot(t)
			if c.there != "" {
				if _, err := a.ChangeRoot(t.Context(), r, RootChange{Install: []string{c.there}}); err != nil {
					t.Fatal(err)
				}
			}
			change := RootChange{Install: strings.Fields(c.install)}
			if strings.Contains(c.install, "<") {
				change.Install = []string{c.install}
			}
			state, err := r.State()
			if err != nil {
				t.Fatal(err)
			}
			u, err := a.openSupply(t.Context(), r, state, change)
			if err != nil {
				t.Fatal(err)
			}
			_, quick, err := u.quickly(t.Context(), change)
			u.Close()
			if err != nil || quick != c.quick {
				t.Errorf("without reading all: %v, %v", quick, err)
			}
			_, err = a.ChangeRoot(t.Context(), r, change)
			if got := installed(t, r); (err == nil) != (c.want != "") || c.want != "" && got != c.want {
				t.Errorf("installed are %s, %v, want %s", got, err, c.want)
			}
		})
	}
}
