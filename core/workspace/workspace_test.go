package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/recipe/document"
)

func TestInitAndFind(t *testing.T) {
	dir := filepath.Join(t.TempDir(), `tide "quoted" \ directory`)
	w, err := Init(dir)
	if err != nil {
		t.Fatal(err)
	}
	if w.Settings.Name != filepath.Base(dir) || w.Packages() != filepath.Join(dir, "packages", w.Target.Name) || w.AllPackages() != filepath.Join(dir, "packages") || w.Target.Name == "" || w.Target.Arch == "" || w.Jobs() < 1 {
		t.Errorf("%+v", w)
	}
	deep := filepath.Join(dir, "recipes", "a", "b")
	os.MkdirAll(deep, 0o755)
	if found, err := Find(deep); err != nil || found != dir {
		t.Errorf("found %s, %v", found, err)
	}
	var exists *ExistsError
	for _, d := range []string{dir, deep, filepath.Join(deep, "new")} {
		if _, err := Init(d); !errors.As(err, &exists) || exists.Around != dir {
			t.Errorf("a workspace in %s: %v", d, err)
		}
	}
	if _, err := Find(t.TempDir()); !errors.Is(err, ErrNotFound) {
		t.Errorf("no workspace: %v", err)
	}
}

func TestSettings(t *testing.T) {
	for text, want := range map[string]string{
		"[biuld]":                                    "unknown key `biuld` (did you mean `build`?)",
		"[build]\njobs = -1":                         "the number of jobs is negative",
		"[build]\ntarget = \"a b\"":                  `"a b" cannot be a target's name`,
		"[repository.x]\nchannel = \"stable\"":       "repository \"x\" has no `url`",
		"name = 3":                                   "`name` is an integer where a string is expected",
		"[repository.x]\nurl = \"/a\"\nchanel=\"b\"": "unknown key `chanel`",
	} {
		dir := t.TempDir()
		os.WriteFile(filepath.Join(dir, SettingsFile), []byte(text), 0o644)
		if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
}

func TestRepositories(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, SettingsFile), []byte("[repository.one]\nurl = \"repo\"\n[repository.two]\nurl = \"file:///srv/repo\"\nchannel = \"stable\"\n[repository.far]\nurl = \"https://repo.example/\"\n"), 0o644)
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"one": filepath.Join(dir, "repo") + " testing", "two": "/srv/repo stable", "/x": "/x testing", "rel": "rel testing", "far": "https://repo.example/ testing", "http://x.example/y": "http://x.example/y testing"} {
		d, channel := w.Repository(name)
		if d+" "+channel != want {
			t.Errorf("%s: %s %s; want %s", name, d, channel, want)
		}
	}
	if _, err := w.DefaultRepository(); err == nil || !strings.Contains(err.Error(), "far, one, two") {
		t.Errorf("which of three: %v", err)
	}
}

// A workspace whose path build files could not handle builds elsewhere, in a
// directory that nobody else can have prepared.
func TestBuildTree(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	plain, err := Init(filepath.Join(t.TempDir(), "plain"))
	if err != nil {
		t.Fatal(err)
	}
	if dir, err := plain.BuildTree("tide"); err != nil || dir != plain.State("build", "tide") {
		t.Errorf("plain: %s, %v", dir, err)
	}
	spaced, err := Init(filepath.Join(t.TempDir(), "with a space"))
	if err != nil {
		t.Fatal(err)
	}
	dir, err := spaced.BuildTree("tide")
	if err != nil || strings.Contains(dir, " ") || !strings.HasPrefix(dir, temp) {
		t.Fatalf("with a space: %s, %v", dir, err)
	}
	if again, err := spaced.BuildTree("tide"); err != nil || again != dir {
		t.Errorf("another directory each time: %s, %v", again, err)
	}
	own := strings.TrimSuffix(dir, "/.ellwand/build/tide")
	if info, err := os.Stat(own); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("%v, %v", info, err)
	}
	os.Chmod(own, 0o777)
	if _, err := spaced.BuildTree("tide"); err == nil || !strings.Contains(err.Error(), "not a directory of yours alone") {
		t.Errorf("a directory that others may write to: %v", err)
	}
	os.Remove(own)
	os.Symlink(t.TempDir(), own)
	if _, err := spaced.BuildTree("tide"); err == nil {
		t.Error("a link is followed")
	}
}

func TestRecipes(t *testing.T) {
	w, err := Init(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"tide", "almanac"} {
		os.MkdirAll(filepath.Join(w.Dir, RecipesDir, name), 0o755)
		os.WriteFile(filepath.Join(w.Dir, RecipesDir, name, "recipe.toml"), []byte("format = 1\nname = \""+name+"\"\nversion = \"1\"\nrelease = 1\nsummary = \"x\"\nlicense = \"MIT\"\n"), 0o644)
	}
	os.MkdirAll(filepath.Join(w.Dir, RecipesDir, "empty"), 0o755)
	os.WriteFile(filepath.Join(w.Dir, RecipesDir, "README"), nil, 0o644)
	if names, err := w.Recipes(); err != nil || strings.Join(names, " ") != "almanac tide" {
		t.Errorf("%v, %v", names, err)
	}
	if r, err := w.Recipe("tide"); err != nil || r.Name != "tide" {
		t.Errorf("%v, %v", r, err)
	}
	var problems document.Problems
	for name, want := range map[string]string{"tied": `did you mean "tide"?`, "buoy-codec": "there are almanac, tide", "empty": "there are almanac, tide"} {
		if _, err := w.Recipe(name); !errors.As(err, &problems) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", name, err, want)
		}
	}
}
