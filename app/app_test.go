package app

import (
	"errors"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/staging"
	"ellwand.example/core/workspace"
)

// newApp starts a workspace with a repository "local", and a recipe "tide" without
// findings of severity error.
func newApp(t *testing.T, settings string) *App {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	dir := t.TempDir()
	write(t, filepath.Join(dir, workspace.SettingsFile), "name = \"saltmarsh\"\n[repository.local]\nurl = \"repository\"\n"+settings)
	write(t, filepath.Join(dir, "recipes/tide/recipe.toml"), recipeText("tide"))
	w, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return &App{Workspace: w, Progress: progress.None}
}

func recipeText(name string) string {
	return "format = 1\nname = \"" + name + "\"\nversion = \"1.0\"\nrelease = 1\narch = \"independent\"\nsummary = \"Tides\"\nlicense = \"MIT\"\n[steps]\nstage = \"true\"\n"
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// built makes a package of the workspace, with one file of a mode.
func (a *App) built(t *testing.T, name, version string, mode fs.FileMode) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "table")
	write(t, file, name+version)
	if err := os.MkdirAll(a.Workspace.Packages(), 0o755); err != nil {
		t.Fatal(err)
	}
	w, err := ell.Write(t.Context(), a.Workspace.Packages(), ell.Spec{
		Facts:  ell.Facts{Name: name, Version: version, Release: 1, Arch: fact.Independent, Target: a.Workspace.Target.Name, Summary: "Tides", License: "MIT", Recipe: name, Date: "2031-04-02"},
		Claims: []staging.Claim{{Path: staging.Path{Path: "/usr/share/" + name + "/table", Type: staging.File, Mode: mode, Disk: file}, Owner: "root", Group: "root"}},
		Recipe: []byte(strings.Replace(recipeText(name), "1.0", version, 1)), Time: time.Unix(1e9, 0), Build: ell.BuildRecord{Isolation: "namespaces"},
	}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

func codes(findings []fact.Finding) string {
	var out []string
	for _, f := range findings {
		if f.Severity == fact.SeverityError {
			out = append(out, f.Code+" "+f.SubjectName())
		}
	}
	return strings.Join(out, ", ")
}

// worldWritable is the code of the finding that a file with the mode 0666 has.
const worldWritable = "ELL201"

func TestPublishGate(t *testing.T) {
	allow := func(code, name string) []index.Exception {
		return []index.Exception{{Code: code, Package: name, Reason: "a test"}}
	}
	for name, c := range map[string]struct {
		settings string
		mode     fs.FileMode
		allow    []index.Exception
		refused  string // the findings that prevent it
		unused   bool   // an exception that nothing needs
	}{
		"good":                       {mode: 0o644},
		"an error":                   {mode: 0o666, refused: worldWritable + " tide"},
		"allowed":                    {mode: 0o666, allow: allow(worldWritable, "tide")},
		"allowed for another":        {mode: 0o666, allow: allow(worldWritable, "ebb"), refused: worldWritable + " tide"},
		"allowed without need":       {mode: 0o644, allow: allow(worldWritable, "tide"), unused: true},
		"the gate's, without need":   {mode: 0o644, allow: allow(gate.UnmetNeed, "tide"), unused: true},
		"nothing prevents a publish": {settings: "[lint]\nrefuse = \"never\"\n", mode: 0o666},
		"the rule is off":            {settings: "[lint]\noff = [\"" + worldWritable + "\"]\n", mode: 0o666},
		"a hint prevents it":         {settings: "[lint]\nrefuse = \"hint\"\n[lint.severity]\n" + worldWritable + " = \"hint\"\n", mode: 0o666, refused: "all"},
	} {
		t.Run(name, func(t *testing.T) {
			a := newApp(t, c.settings)
			file := a.built(t, "tide", "1.0", c.mode)
			o, err := a.Repository("local", "")
			if err != nil {
				t.Fatal(err)
			}
			report, err := a.Publish(t.Context(), o, []string{file}, PublishOptions{Allow: c.allow})
			var refused *LintError
			var unused *repo.UnusedError
			switch {
			case c.unused:
				if !errors.As(err, &unused) {
					t.Fatalf("%v, want an unused exception", err)
				}
			case c.refused == "all":
				if !errors.As(err, &refused) || len(refused.Findings) == 0 || fact.StatusOf(err) != fact.StatusFindings {
					t.Fatalf("%v, want findings", err)
				}
			case c.refused != "":
				if !errors.As(err, &refused) || codes(refused.Findings) != c.refused {
					t.Fatalf("%v, want %s", err, c.refused)
				}
			case err != nil || report.Count(repo.Added) != 1:
				t.Fatalf("%+v, %v", report, err)
			}
			contents, err := o.List(t.Context(), o.Channel)
			if published := err == nil && len(contents) == 1; published != (c.refused == "" && !c.unused) {
				t.Errorf("published: %v (%v)", published, err)
			}
		})
	}
}

// What the channel has already does not prevent publishing something else with it.
func TestPublishAgain(t *testing.T) {
	a := newApp(t, "")
	bad := a.built(t, "tide", "1.0", 0o666)
	o, err := a.Repository("", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Publish(t.Context(), o, []string{bad}, PublishOptions{Allow: []index.Exception{{Code: worldWritable, Package: "tide", Reason: "a test"}}}); err != nil {
		t.Fatal(err)
	}
	report, err := a.Publish(t.Context(), o, []string{bad, a.built(t, "ebb", "1.0", 0o644)}, PublishOptions{})
	if err != nil || report.Count(repo.Already) != 1 || report.Count(repo.Added) != 1 {
		t.Errorf("%+v, %v", report, err)
	}
}

func TestPublishDamaged(t *testing.T) {
	a := newApp(t, "")
	good, bad := a.built(t, "tide", "1.0", 0o644), a.built(t, "ebb", "1.0", 0o644)
	data, err := os.ReadFile(bad)
	if err != nil {
		t.Fatal(err)
	}
	data[len(data)/2] ^= 1
	write(t, bad, string(data))
	o, err := a.Repository("local", "")
	if err != nil {
		t.Fatal(err)
	}
	report, err := a.Publish(t.Context(), o, []string{good, bad, filepath.Join(t.TempDir(), "none.ell")}, PublishOptions{})
	if err != nil || report.Count(repo.Added) != 1 || report.Count(repo.Refused) != 2 {
		t.Errorf("%+v, %v", report, err)
	}
}

func TestPublishToNoRepository(t *testing.T) {
	a := newApp(t, "")
	file := a.built(t, "tide", "1.0", 0o644)
	place := filepath.Join(t.TempDir(), "locl")
	for name, near := range map[string]string{place: "", "lcal": "local"} {
		o, err := a.Repository(name, "")
		if err != nil {
			t.Fatal(err)
		}
		var none *NoRepositoryError
		if _, err := a.Publish(t.Context(), o, []string{file}, PublishOptions{}); !errors.As(err, &none) || none.Near != near {
			t.Errorf("%s: %v", name, err)
		}
		if action, ok := fact.ActionOf(none); !ok || action != (fact.Action{Verb: fact.StartRepository, Subject: name}) {
			t.Errorf("%s: action %v", name, action)
		}
	}
	o, err := a.Repository(place, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Publish(t.Context(), o, []string{file}, PublishOptions{Start: true}); err != nil {
		t.Errorf("starting one: %v", err)
	}
	if _, err := a.Publish(t.Context(), o, []string{file}, PublishOptions{}); err != nil {
		t.Errorf("once it is started: %v", err)
	}
}

func TestOpenPackage(t *testing.T) {
	a := newApp(t, "")
	file := a.built(t, "tide", "1.0", 0o644)
	a.built(t, "tide", "1.2", 0o644)
	flow := a.built(t, "flow", "2.0", 0o644)
	o, err := a.Repository("local", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Publish(t.Context(), o, []string{flow}, PublishOptions{}); err != nil {
		t.Fatal(err)
	}
	os.Remove(flow)
	server := httptest.NewServer(http.FileServer(http.Dir(filepath.Dir(file))))
	defer server.Close()
	write(t, filepath.Join(a.Workspace.Dir, "recipes/ebb/recipe.toml"), recipeText("ebb"))
	for word, want := range map[string]string{
		file: "tide@1.0-1", "tide": "tide@1.2-1", "tide@1.0-1": "tide@1.0-1", "flow": "flow@2.0-1", "flow@2.0-1": "flow@2.0-1", server.URL + "/tide@1.2-1.ell": "tide@1.2-1",
	} {
		p, err := a.OpenPackage(t.Context(), word)
		if err != nil {
			t.Errorf("%s: %v", word, err)
			continue
		}
		if got := p.Facts.Identity(); got != want {
			t.Errorf("%s is %s, want %s", word, got, want)
		}
		p.Close()
	}
	for word, want := range map[string]string{"ebb": "no package of ebb has been built yet", "tde": `did you mean "tide"?`, "xyzzy": "there is no file and no package", "none.ell": "there is no file", "tide@9-1": "there is no"} {
		if p, err := a.OpenPackage(t.Context(), word); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, %v, want %s", word, p, err, want)
		}
	}
	if _, err := (&App{Progress: progress.None}).OpenPackage(t.Context(), "tide"); err == nil || !strings.Contains(err.Error(), "no workspace") {
		t.Errorf("outside of a workspace: %v", err)
	}
}

func TestClassifyLintTargets(t *testing.T) {
	a := newApp(t, "")
	file := a.built(t, "tide", "1.0", 0o644)
	flow := a.built(t, "flow", "2.0", 0o644)
	dir := filepath.Join(a.Workspace.Dir, "recipes/tide")
	for name, c := range map[string]struct {
		word string
		want LintTargets
	}{
		"a recipe":                    {"tide", LintTargets{Recipes: []string{"tide"}}},
		"a recipe by its directory":   {dir, LintTargets{Recipes: []string{"tide"}}},
		"a recipe by its file":        {filepath.Join(dir, recipe.FileName), LintTargets{Recipes: []string{"tide"}}},
		"a package":                   {file, LintTargets{Packages: []string{file}}},
		"a package by its name":       {"flow", LintTargets{Packages: []string{flow}}},
		"a directory of packages":     {a.Workspace.Packages(), LintTargets{Packages: []string{flow, file}}},
		"the directory of all of it":  {a.Workspace.AllPackages(), LintTargets{Packages: []string{flow, file}}},
		"a configured repository":     {"local", LintTargets{Repositories: []string{"local"}}},
		"a repository on a server":    {"https://repo.example", LintTargets{Repositories: []string{"https://repo.example"}}},
		"what does not exist":         {"xyzzy", LintTargets{Recipes: []string{"xyzzy"}}},
		"a package that is not there": {"none.ell", LintTargets{Packages: []string{"none.ell"}}},
	} {
		got, err := a.ClassifyLintTargets([]string{c.word})
		if err != nil || !slices.Equal(got.Recipes, c.want.Recipes) || !slices.Equal(got.Packages, c.want.Packages) || !slices.Equal(got.Repositories, c.want.Repositories) {
			t.Errorf("%s: %+v, %v; want %+v", name, got, err, c.want)
		}
	}
	if _, err := (&App{Progress: progress.None}).ClassifyLintTargets([]string{"tide"}); !errors.Is(err, workspace.ErrNotFound) {
		t.Errorf("outside of a workspace: %v", err)
	}
	if all, err := a.AllLintTargets(); err != nil || len(all.Recipes) != 1 || len(all.Packages) != 2 {
		t.Errorf("all: %+v, %v", all, err)
	}
}

func TestLintAndFix(t *testing.T) {
	a := newApp(t, "")
	write(t, filepath.Join(a.Workspace.Dir, "recipes/tide/recipe.toml"), strings.Replace(recipeText("tide"), `"Tides"`, `"Tables of the tides."`, 1))
	write(t, filepath.Join(a.Workspace.Dir, "recipes/bad/recipe.toml"), "format = 1\nnam = 1\n")
	a.built(t, "tide", "1.0", 0o666)
	found, err := a.Lint(t.Context(), a.Linter(t.Context()), LintTargets{Recipes: []string{"tide", "bad"}})
	if err != nil {
		t.Fatal(err)
	}
	if len(found.Broken) == 0 || !slices.Equal(found.Subjects, []string{"tide", "tide@1.0-1"}) || codes(found.Findings) != worldWritable+" tide" {
		t.Fatalf("%v, %s, %d errors in input", found.Subjects, codes(found.Findings), len(found.Broken))
	}
	fixed, unknown, err := a.Fix(append(found.Findings, fact.Finding{Recipe: "elsewhere", Fix: found.Findings[slices.IndexFunc(found.Findings, fact.Finding.Fixable)].Fix}))
	if err != nil || len(fixed) != 1 || !slices.Equal(unknown, []string{"elsewhere"}) {
		t.Fatalf("%d fixed, %v, %v", len(fixed), unknown, err)
	}
	if err := WriteFixed(fixed[0]); err != nil {
		t.Fatal(err)
	}
	r, err := a.Workspace.Recipe("tide")
	if err != nil || r.Summary != "Tables of the tides" {
		t.Errorf("%q, %v", r.Summary, err)
	}
}

// Lint of a repository finds what its index and its files have.
func TestLintRepository(t *testing.T) {
	a := newApp(t, "")
	file := a.built(t, "tide", "1.0", 0o644)
	o, err := a.Repository("local", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Publish(t.Context(), o, []string{file}, PublishOptions{}); err != nil {
		t.Fatal(err)
	}
	dir, _ := o.Storage.LocalPath()
	published, _ := filepath.Glob(filepath.Join(dir, "packages/*/*/*.ell"))
	os.Remove(published[0])
	found, err := a.Lint(t.Context(), a.Linter(t.Context()), LintTargets{Repositories: []string{"local"}})
	if err != nil || len(found.Findings) != 1 || found.Findings[0].Code != gate.MissingPackage || found.Findings[0].Remedy == "" {
		t.Errorf("%+v, %v", found, err)
	}
}

// Findings of a build whose packages stay the same are not looked for again.
func TestLintAfter(t *testing.T) {
	a := newApp(t, "")
	file := a.built(t, "tide", "1.0", 0o666)
	r, err := a.Workspace.Recipe("tide")
	if err != nil {
		t.Fatal(err)
	}
	b, err := a.Planner(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	after := a.LintAfter(b)
	first := build.Result{State: build.Built, Packages: []ell.Written{{Path: file}}}
	if err := after(t.Context(), r, &first); err != nil || !first.Linted || codes(first.Findings) != worldWritable+" tide" {
		t.Fatalf("%+v, %v", first, err)
	}
	again := build.Result{State: build.Unchanged} // its packages are not even named
	if err := after(t.Context(), r, &again); err != nil || codes(again.Findings) != codes(first.Findings) {
		t.Errorf("unchanged: %s, %v", codes(again.Findings), err)
	}
	a.Workspace.Settings.Lint.Off = []string{worldWritable}
	changed := build.Result{State: build.Unchanged, Packages: first.Packages}
	if err := after(t.Context(), r, &changed); err != nil || codes(changed.Findings) != "" {
		t.Errorf("with the rule off: %s, %v", codes(changed.Findings), err)
	}
}

func TestRepositories(t *testing.T) {
	a := newApp(t, "[repository.attic]\nurl = \"attic\"\nenabled = false\npriority = 5\nchannel = \"old\"\n")
	all, err := a.Repositories("", "")
	if err != nil || len(all) != 2 || !all[0].Disabled || all[0].Channel != "old" || all[0].Priority != 5 || all[1].Name != "local" || all[1].Disabled {
		t.Errorf("%+v, %v", all, err)
	}
	if one, err := a.Repositories("attic", "new"); err != nil || len(one) != 1 || one[0].Disabled || one[0].Channel != "new" {
		t.Errorf("asked for by name: %+v, %v", one, err)
	}
	if _, err := (&App{Progress: progress.None}).Repository("", ""); fact.StatusOf(err) != fact.StatusUsage {
		t.Errorf("none: %v", err)
	}
	systems := a.Systems(t.Context())
	if systems("somewhere-else") != nil || systems(a.Workspace.Target.Name) == nil {
		t.Error("the system of a target is known wrongly")
	}
	if (&App{Progress: progress.None}).Systems(t.Context()) != nil {
		t.Error("a system is known outside of a workspace")
	}
}
