package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/engine/sandbox"
)

// open opens a workspace with settings.
func open(t *testing.T, settings string) (*Workspace, error) {
	t.Helper()
	dir := t.TempDir()
	for _, d := range []string{RecipesDir, "root"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, SettingsFile), []byte(settings), 0o644); err != nil {
		t.Fatal(err)
	}
	return Open(dir)
}

func TestLimits(t *testing.T) {
	w, err := open(t, "[build]\nmemory = \"2 GiB\"\nprocesses = 64\ndisk = \"1 GiB\"\ntime = \"90m\"\nlog = \"1 MiB\"\nlayers = \"3 GiB\"\n")
	if err != nil {
		t.Fatal(err)
	}
	if want := (sandbox.Limits{Memory: 2 << 30, Processes: 64, Disk: 1 << 30, Time: 90 * time.Minute}); w.Limits() != want {
		t.Errorf("%+v, want %+v", w.Limits(), want)
	}
	if w.LogSize() != 1<<20 || w.LayerSpace() != 3<<30 {
		t.Errorf("log %d, layers %d", w.LogSize(), w.LayerSpace())
	}
	if w, err = open(t, ""); err != nil {
		t.Fatal(err)
	}
	if w.Limits() != (sandbox.Limits{}) || w.LogSize() != 64<<20 || w.LayerSpace() != 20<<30 {
		t.Errorf("without settings: %+v, log %d, layers %d", w.Limits(), w.LogSize(), w.LayerSpace())
	}
	for settings, want := range map[string]string{
		`memory = "much"`:      `"much" is not an amount`,
		`log = "1 XB"`:         `"1 XB" is not an amount`,
		`time = "a while"`:     `"a while" is not a duration`,
		`time = "-1h"`:         `"-1h" is not a duration`,
		`processes = -4`:       "the number of processes is negative",
		`compression = "best"`: `unknown compression "best"`,
	} {
		if _, err := open(t, "[build]\n"+settings+"\n"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", settings, err, want)
		}
	}
}

func TestTargets(t *testing.T) {
	const settings = `[repository.local]
url = "repository"
[repository.extra]
url = "/srv/extra"
enabled = false
[target.harbour]
arch = "aarch64"
[target.station]
system = "root"
`
	w, err := open(t, settings)
	if err != nil {
		t.Fatal(err)
	}
	host := w.Target.Name
	for name, want := range map[string]string{"harbour": "", "station": "", host: "", "harbor": `did you mean "harbour"?`, "zzzz": "there are harbour, station"} {
		err := w.ChooseTarget(name)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
		if err == nil && name == "harbour" && (w.Target.Arch != "aarch64" || w.RunsHere() != (machine() == "aarch64")) {
			t.Errorf("harbour: %+v, runs here: %v", w.Target, w.RunsHere())
		}
		if err == nil && name == "station" && (w.Target.Arch != machine() || !w.RunsHere() || w.On.System != "root") {
			t.Errorf("station: %+v, %+v", w.Target, w.On)
		}
		if err := w.UseTarget(""); err != nil {
			t.Fatal(err)
		}
	}
	// What conditions know as the system is what its os-release says, or the target.
	if err := os.MkdirAll(filepath.Join(w.Dir, "root/usr/lib"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(w.Dir, "root/usr/lib/os-release"), []byte("NAME=x\nID=saltmarsh\nVERSION_ID=\"7\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, release := range []string{"", "stated-8"} {
		station := w.Settings.Targets["station"]
		station.Release = release
		w.Settings.Targets["station"] = station
		if want := map[string]string{"": "saltmarsh-7", "stated-8": "stated-8"}[release]; w.UseTarget("station") != nil || w.Target.System != want {
			t.Errorf("system %q, want %q", w.Target.System, want)
		}
	}
	for _, name := range []string{"a/b", "..", "a b", ".hidden"} {
		if err := w.UseTarget(name); err == nil {
			t.Errorf("a target called %q", name)
		}
	}
	if got := w.RepositoryNames(); !slices.Equal(got, []string{"extra", "local"}) {
		t.Errorf("repositories %q", got)
	}
	if w.Settings.Repositories["extra"].IsEnabled() || !w.Settings.Repositories["local"].IsEnabled() {
		t.Error("enabled is not what the settings say")
	}
	for addition, want := range map[string]string{
		"[target.x]\nsystem = \"nowhere\"\n":                                "there is no ",
		"[target.x]\ntoolchain = \"aarch64-linux-gnu\"\n":                   "does not say which toolchain",
		"[target.x]\narch = \"aarch64\"\ntoolchain = \"/usr/bin/gcc; x\"\n": "does not say which toolchain",
		"[target.x]\nrepositories = [\"locale\"]\n":                         `did you mean "local"?`,
		"[target.x]\nrepositories = [\"qqqqqq\"]\n":                         "add a table [repository.qqqqqq]",
	} {
		if _, err := open(t, settings+addition); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", addition, err, want)
		}
	}
	if w, err = open(t, ""); err != nil {
		t.Fatal(err)
	}
	if err := w.ChooseTarget("new"); err == nil || !strings.Contains(err.Error(), "[target.new]") {
		t.Errorf("without any: %v", err)
	}
}

// A workspace aside has the packages of the first, and keeps its own to itself.
func TestAside(t *testing.T) {
	w, err := open(t, "name = \"first\"\n")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(w.Packages(), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(w.Packages(), "tide@1-1.ell"), []byte("tide"), 0o644); err != nil {
		t.Fatal(err)
	}
	aside, err := w.Aside(filepath.Join(t.TempDir(), "another place"))
	if err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(filepath.Join(aside.Packages(), "tide@1-1.ell")); err != nil || string(data) != "tide" {
		t.Errorf("its package: %q, %v", data, err)
	}
	if err := os.WriteFile(filepath.Join(aside.Packages(), "ebb@1-1.ell"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	entries, err := os.ReadDir(w.Packages())
	if err != nil || len(entries) != 1 || w.Settings.Build.Packages == aside.Settings.Build.Packages {
		t.Errorf("the first workspace has %d packages now, %v", len(entries), err)
	}
	if names, err := aside.Recipes(); err != nil || len(names) > 0 {
		t.Errorf("recipes %q, %v", names, err)
	}
}

func TestNoWorkspace(t *testing.T) {
	if _, err := Open(t.TempDir()); !errors.Is(err, ErrGone) || !strings.Contains(err.Error(), SettingsFile) {
		t.Errorf("an empty directory: %v", err)
	}
	same, within := &ExistsError{"/w", "/w"}, &ExistsError{"/w/a", "/w"}
	if same.Error() == within.Error() || !strings.Contains(within.Error(), "inside the workspace /w") {
		t.Errorf("%v; %v", same, within)
	}
}

func TestDisplay(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	for path, want := range map[string]string{filepath.Join(dir, "recipes", "tide"): filepath.Join("recipes", "tide"), "/etc/tide": "/etc/tide"} {
		if got := Display(path); got != want {
			t.Errorf("%s is shown as %s, want %s", path, got, want)
		}
	}
}
