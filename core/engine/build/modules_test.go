package build

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/source"
)

// goStandIn is a command that downloads as `go mod download` does: what go.sum names, from
// $GOPROXY, through $http_proxy.
const goStandIn = `#!/bin/sh
set -eu
test "$*" = "mod download"
while read -r name version _; do
	dir="$HOME/go/pkg/mod/cache/download/$name/@v"
	mkdir -p "$dir"
	perl -MIO::Socket::INET -e '
		my $s = IO::Socket::INET->new(substr($ENV{http_proxy}, 7)) or die "no proxy: $!";
		print $s "GET $ARGV[0] HTTP/1.0\r\nHost: x\r\n\r\n";
		my $all = join("", <$s>); my ($head, $body) = split(/\r\n\r\n/, $all, 2);
		die "$head: $body" unless $head =~ / 200 /; print $body;
	' "$GOPROXY/$name/@v/$version.zip" >"$dir/$version.zip"
	date >"$dir/$version.info"
done <go.sum
test -z "${ALSO:-}" || exit 1
`

// modulesFixture has a workspace with the stand-in, a recipe that it downloads for, and a
// registry.
func modulesFixture(t *testing.T, sum string) *fixture {
	t.Helper()
	registry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "module at "+r.URL.Path) }))
	t.Cleanup(registry.Close)
	y := newFixture(t)
	y.w.Settings.Sources.Registries = map[string]string{"go": registry.URL + "/mirror"}
	y.write("stand-in", "arch = \"independent\"\n[[source]]\nfile = \"go\"\n[steps]\nstage = 'install -D -m 755 go \"$DESTDIR/usr/bin/go\"'\n", "go", goStandIn)
	y.state("stand-in")
	y.write("tide", `arch = "independent"
[[source]]
file = "go.sum"
[[source]]
modules = "go"
[needs]
build = ["stand-in"]
[steps]
stage = '''
test "$GOPROXY" = off
mkdir -p "$DESTDIR/usr/share/tide"
cd "$HOME/go/pkg/mod/cache/download"
find . -type f | sort >"$DESTDIR/usr/share/tide/list"
cat tide.example/ebb/@v/v1.0.0.zip >"$DESTDIR/usr/share/tide/ebb"
'''
`, "go.sum", sum)
	return y
}

func TestModules(t *testing.T) {
	y := modulesFixture(t, "tide.example/ebb v1.0.0 h1:x=\ntide.example/flow v2.0.0 h1:x=\n")
	r, err := y.w.Recipe("tide")
	if err != nil {
		t.Fatal(err)
	}
	got, err := y.b.FetchSource(t.Context(), r, 1)
	if err != nil {
		t.Fatal(err)
	}
	// Where nothing can be laid over the system, the same comes.
	runner := y.b.Runner
	y.b.Runner = sandbox.Namespaces{Copies: true}
	if copied, err := y.b.FetchSource(t.Context(), r, 1); err != nil || copied.SHA256 != got.SHA256 {
		t.Errorf("without overlays: %+v, %v", copied, err)
	}
	y.b.Runner = runner
	// Without a pin nothing is built, and the digest is told.
	_, err = y.build("tide", Options{})
	var problems document.Problems
	if !errors.As(err, &problems) || !strings.Contains(err.Error(), "go-modules.tar has no sha256") || !strings.Contains(err.Error(), got.SHA256) {
		t.Fatal(err)
	}
	pin := func(digest string) {
		text, err := os.ReadFile(r.Beside("recipe.toml"))
		if err != nil {
			t.Fatal(err)
		}
		before, after, _ := strings.Cut(string(text), "modules = \"go\"\n")
		if strings.HasPrefix(after, "sha256") {
			_, after, _ = strings.Cut(after, "\n")
		}
		if err := os.WriteFile(r.Beside("recipe.toml"), []byte(before+"modules = \"go\"\nsha256 = \""+digest+"\"\n"+after), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	pin(got.SHA256)
	res, err := y.build("tide", Options{})
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(res.Packages[0].Path)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	want := []fact.Module{{Name: "tide.example/ebb", Version: "v1.0.0", URL: "pkg:golang/tide.example/ebb@v1.0.0"}, {Name: "tide.example/flow", Version: "v2.0.0", URL: "pkg:golang/tide.example/flow@v2.0.0"}}
	if m := p.Build.Sources[1].Modules; len(m) != 2 || m[0] != want[0] || m[1] != want[1] {
		t.Errorf("the record has the modules %+v", m)
	}
	out := t.TempDir()
	if _, err := p.Extract(t.Context(), out, ell.Extraction{}); err != nil {
		t.Fatal(err)
	}
	list, _ := os.ReadFile(filepath.Join(out, "usr/share/tide/list"))
	ebb, _ := os.ReadFile(filepath.Join(out, "usr/share/tide/ebb"))
	if string(list) != "./tide.example/ebb/@v/v1.0.0.zip\n./tide.example/flow/@v/v2.0.0.zip\n" || string(ebb) != "module at /mirror/tide.example/ebb/@v/v1.0.0.zip" {
		t.Errorf("the build saw %q, %q", list, ebb)
	}
	// With the cache gone, the same archive is made again; what another digest names is refused.
	if err := y.b.Fetcher.Cache.Remove(got.SHA256); err != nil {
		t.Fatal(err)
	}
	if _, err := y.build("tide", Options{From: "stage"}); err != nil {
		t.Error(err)
	}
	pin(strings.Repeat("0", 64))
	var wrong *source.DigestError
	if _, err := y.build("tide", Options{}); !errors.As(err, &wrong) || !strings.Contains(err.Error(), "lock file") {
		t.Errorf("another digest: %v", err)
	}
}

// What goes wrong in a download is told with its cause, and nothing is left behind.
func TestModulesErrors(t *testing.T) {
	y := modulesFixture(t, "tide.example/ebb v1.0.0 h1:x=\n")
	fetch := func() error {
		t.Helper()
		r, err := y.w.Recipe("tide")
		if err != nil {
			t.Fatal(err)
		}
		_, err = y.b.FetchSource(t.Context(), r, len(r.Sources)-1)
		return err
	}
	edit := func(old, replacement string) {
		t.Helper()
		file := filepath.Join(y.w.Dir, "recipes/tide/recipe.toml")
		text, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(text), old) {
			t.Fatal(old, err)
		}
		if err := os.WriteFile(file, []byte(strings.Replace(string(text), old, replacement, 1)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	y.w.Settings.Sources.Registries["go"] = "http://127.0.0.1:1"
	var failed *ModulesError
	if err := fetch(); !errors.As(err, &failed) || !strings.Contains(err.Error(), "tide.example/ebb/@v/v1.0.0.zip was refused") {
		t.Errorf("without a registry: %v", err)
	}
	edit(`file = "go.sum"`, `file = "go.work"`)
	os.Rename(filepath.Join(y.w.Dir, "recipes/tide/go.sum"), filepath.Join(y.w.Dir, "recipes/tide/go.work"))
	if err := fetch(); err == nil || fact.StatusOf(err) != fact.StatusInput || !strings.Contains(err.Error(), "the source has no go.sum") {
		t.Errorf("without a lock file: %v", err)
	}
	edit(`modules = "go"`, "modules = \"script\"\nrun = 'mkdir -p tables; echo ebb >tables/a; ln -s /etc/passwd tables/out'\nkeep = [\"tables\"]")
	if err := fetch(); err != nil {
		t.Errorf("a script: %v", err)
	}
	edit(`["tables"]`, `["nowhere"]`)
	if err := fetch(); err == nil || !strings.Contains(err.Error(), `downloaded nothing to "nowhere"`) {
		t.Errorf("a script that downloads nothing: %v", err)
	}
	edit(`mkdir -p tables;`, `echo the sea is out; exit 3;`)
	if err := fetch(); !errors.As(err, &failed) || !strings.Contains(err.Error(), "exit status 3\n  the sea is out") || !strings.Contains(err.Error(), "tide-script.log") {
		t.Errorf("a script that fails: %v", err)
	}
	if _, err := os.Stat(y.w.State("build", "tide", "scrap", "modules")); err == nil {
		t.Error("the tree of the download is left behind")
	}
	edit(`build = ["stand-in"]`, `build = ["command/nothing-has-this"]`)
	if err := fetch(); err == nil || !strings.Contains(err.Error(), "nothing-has-this") {
		t.Errorf("without its needs: %v", err)
	}
}
