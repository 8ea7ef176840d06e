package bump

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

// fixture is a recipe with upstream releases to go through.
type fixture struct {
	t        *testing.T
	upstream string
	dir      string // of the recipe
	b        *Bumper
}

func newFixture(t *testing.T) *fixture {
	t.Helper()
	y := &fixture{t: t, upstream: t.TempDir(), dir: filepath.Join(t.TempDir(), "tide")}
	fetcher := source.NewFetcher(source.Cache{Dir: t.TempDir()}, progress.None)
	y.b = &Bumper{Cache: fetcher.Cache, Fetch: fetcher.Fetch, Progress: progress.None, Temp: t.TempDir()}
	if err := os.Mkdir(y.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return y
}

// release makes an upstream archive: names and contents in turn.
func (y *fixture) release(version string, files ...string) {
	y.t.Helper()
	tree := filepath.Join(y.t.TempDir(), "tide-"+version)
	for i := 0; i < len(files); i += 2 {
		os.MkdirAll(filepath.Dir(filepath.Join(tree, files[i])), 0o755)
		if err := os.WriteFile(filepath.Join(tree, files[i]), []byte(files[i+1]), 0o644); err != nil {
			y.t.Fatal(err)
		}
	}
	if err := source.PackDirectory(context.Background(), tree, filepath.Join(y.upstream, "tide-"+version+".tar.gz")); err != nil {
		y.t.Fatal(err)
	}
}

func (y *fixture) write(more string) {
	y.t.Helper()
	text := "format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 3\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\nurl = \"file://" + y.upstream + "/tide-{version}.tar.gz\"\n" + more
	if err := os.WriteFile(filepath.Join(y.dir, recipe.FileName), []byte(text), 0o644); err != nil {
		y.t.Fatal(err)
	}
}

func (y *fixture) read() *recipe.Recipe {
	y.t.Helper()
	r, err := recipe.Load(y.dir, "recipe.toml", y.b.Target, nil)
	if err != nil {
		y.t.Fatal(err)
	}
	return r
}

func (y *fixture) text() string {
	data, _ := os.ReadFile(filepath.Join(y.dir, recipe.FileName))
	return string(data)
}

const change = "--- a/tide.c\n+++ b/tide.c\n@@ -1 +1 @@\n-low\n+high\n"

func TestVersion(t *testing.T) {
	y := newFixture(t)
	y.release("1.0", "tide.c", "low\n", "COPYING", "old terms", "Makefile", "all:", "LICENSE.md", "gone")
	y.release("1.1", "tide.c", "high\n", "COPYING", "new terms", "meson.build", "x")
	os.WriteFile(filepath.Join(y.dir, "a.patch"), []byte(change), 0o644)
	os.WriteFile(filepath.Join(y.dir, "b.patch"), []byte(strings.NewReplacer("low", "ebb", "high", "flood").Replace(change)), 0o644)
	y.write("[[patch]]\nfile = \"a.patch\"\n[[patch]]\nfile = \"b.patch\"\n[[rewrite]]\nafter = \"unpack\"\npath = \"Makefile\"\nfind = \"all\"\nreplace = \"every\"\n[[rewrite]]\nafter = \"unpack\"\npath = \"tide.c\"\nfind = \"high\"\nreplace = \"highest\"\n")
	// The old source is brought, as any build before this one has done.
	old, err := y.b.Fetch(context.Background(), y.read(), 0)
	if err != nil {
		t.Fatal(err)
	}
	pinned, err := y.read().WithPins([]recipe.Pin{{Source: 0, SHA256: old.SHA256}})
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(y.dir, recipe.FileName), pinned, 0o644)

	report, err := y.b.Version(context.Background(), y.read(), "1.1", "Ines <i@x.example>", []string{"Higher"})
	if err != nil {
		t.Fatal(err)
	}
	r := y.read()
	if r.Full() != "1.1-1" || report.From != "1.0-3" || report.To != "1.1-1" || r.Sources[0].SHA256 != report.Fetched[0].SHA256 || r.Sources[0].SHA256 == old.SHA256 ||
		r.Changes[0].By != "Ines <i@x.example>" || r.Changes[0].Text[0] != "Higher" {
		t.Errorf("%+v\n%s", report, y.text())
	}
	if !report.Compared || strings.Join(report.Added, " ") != "meson.build" || strings.Join(report.Gone, " ") != "LICENSE.md Makefile" || strings.Join(report.Licenses, " ") != "COPYING LICENSE.md" {
		t.Errorf("compared: %+v", report)
	}
	var unfit []string
	for _, u := range report.Unfit {
		unfit = append(unfit, u.What)
		if (u.What == "a.patch") != u.Applied || u.Line == 0 || u.Reason == "" {
			t.Errorf("%+v", u)
		}
	}
	if strings.Join(unfit, ", ") != "a.patch, b.patch, rewrite of Makefile" {
		t.Errorf("unfit: %v", unfit)
	}
	if left, _ := os.ReadDir(y.b.Temp); len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestRefusals(t *testing.T) {
	y := newFixture(t)
	y.release("1.0", "a", "")
	y.release("2.0", "a", "")
	y.write("")
	before := y.text()
	for to, want := range map[string]string{
		"1.0": "is at version 1.0 already", "0.9": "0.9 sorts before 1.0", "1.0~rc1": "sorts before", "2 0": "cannot be a version", "3.0": "there is no file",
	} {
		if _, err := y.b.Version(context.Background(), y.read(), to, "", nil); err == nil || !strings.Contains(err.Error(), want) || y.text() != before {
			t.Errorf("to %s: %v, want %s", to, err, want)
		}
	}
	r := y.read()
	os.WriteFile(filepath.Join(y.dir, recipe.FileName), []byte(before+"# edited meanwhile\n"), 0o644)
	if _, err := y.b.Version(context.Background(), r, "2.0", "", nil); err == nil || !strings.Contains(err.Error(), "changed in the meantime") || !strings.HasSuffix(y.text(), "meanwhile\n") {
		t.Errorf("over an edit: %v", err)
	}
	y.write("[[change]]\nversion = \"1.0-3\"\ndate = 2099-01-01\ntext = []\n")
	if report, err := y.b.Release(y.read(), "", nil); err != nil || report.To != "1.0-4" || y.read().Changes[0].Date != "2099-01-01" || y.read().Changes[0].Text[0] != "Built again" {
		t.Errorf("the release alone: %+v, %v\n%s", report, err, y.text())
	}
	fixed := strings.Replace(before, "tide-{version}", "tide-1.0", 1)
	os.WriteFile(filepath.Join(y.dir, recipe.FileName), []byte(fixed), 0o644)
	if _, err := y.b.Version(context.Background(), y.read(), "2.0", "", nil); err != nil || !strings.Contains(y.text(), "tide-2.0.tar.gz") {
		t.Errorf("an address with the version written out: %v\n%s", err, y.text())
	}
}

// An address that does not change is asked again, and files beside the recipe need no address.
func TestSameAddress(t *testing.T) {
	y := newFixture(t)
	y.release("1.0", "a", "")
	latest := filepath.Join(y.upstream, "latest.tar.gz")
	copied := func(version string) string {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(y.upstream, "tide-"+version+".tar.gz"))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(latest, data, 0o644); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%x", sha256.Sum256(data))
	}
	digest := copied("1.0")
	y.write("")
	text := strings.Replace(y.text(), "tide-{version}.tar.gz\"\n", "latest.tar.gz\"\nsha256 = \""+digest+"\"\n", 1)
	os.WriteFile(filepath.Join(y.dir, recipe.FileName), []byte(text), 0o644)
	if _, err := y.b.Version(context.Background(), y.read(), "20260401", "", nil); err == nil || !strings.Contains(err.Error(), "latest.tar.gz is the file that it was") || y.text() != text {
		t.Errorf("the same file: %v", err)
	}
	y.release("2.0", "a", "new")
	digest = copied("2.0")
	if _, err := y.b.Version(context.Background(), y.read(), "20260401", "", nil); err != nil || !strings.Contains(y.text(), digest) || y.read().Version != "20260401" {
		t.Errorf("another file: %v\n%s", err, y.text())
	}
	os.WriteFile(filepath.Join(y.dir, "table"), nil, 0o644)
	text = "format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 3\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\nfile = \"table\"\n"
	os.WriteFile(filepath.Join(y.dir, recipe.FileName), []byte(text), 0o644)
	if _, err := y.b.Version(context.Background(), y.read(), "1.1", "", nil); err != nil || y.read().Full() != "1.1-1" {
		t.Errorf("a source beside the recipe: %v", err)
	}
}
