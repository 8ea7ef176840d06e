package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// fixture is a workspace for tests.
type fixture struct {
	t *testing.T
	w *workspace.Workspace
	b *Builder
}

func newFixture(t *testing.T) *fixture {
	t.Helper()
	w, err := workspace.Init(filepath.Join(t.TempDir(), "w"))
	if err != nil {
		t.Fatal(err)
	}
	store := source.Cache{Dir: filepath.Join(t.TempDir(), "store")}
	runner, err := Isolate(t.Context(), w)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { layer.RemoveAll(w.State("layers")) })
	return &fixture{t, w, &Builder{Resolver: &satisfy.Resolver{Workspace: w, Progress: progress.None}, Fetcher: source.NewFetcher(store, progress.None), Runner: runner}}
}

func TestMain(m *testing.M) {
	sandbox.Enter()
	// What is started again in a sandbox leaves its coverage data there too.
	if dir := os.Getenv("GOCOVERDIR"); dir != "" {
		os.Chmod(dir, 0o777)
	}
	os.Exit(m.Run())
}

const head = "format = 1\nversion = \"1.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n"

// write puts a recipe down; files are names and contents beside it.
func (y *fixture) write(name, text string, files ...string) {
	y.t.Helper()
	dir := filepath.Join(y.w.Dir, "recipes", name)
	files = append(files, "recipe.toml", "name = \""+name+"\"\n"+head+text)
	for i := 0; i < len(files); i += 2 {
		os.MkdirAll(dir, 0o755)
		if err := os.WriteFile(filepath.Join(dir, files[i]), []byte(files[i+1]), 0o644); err != nil {
			y.t.Fatal(err)
		}
	}
}

func (y *fixture) build(name string, o Options) (Result, error) {
	y.t.Helper()
	r, err := y.w.Recipe(name)
	if err != nil {
		y.t.Fatal(err)
	}
	return y.b.Build(context.Background(), r, o)
}

// state builds a recipe that must build.
func (y *fixture) state(name string) string {
	y.t.Helper()
	res, err := y.build(name, Options{})
	if err != nil {
		y.t.Fatal(err)
	}
	return res.State
}

func TestWhatIsDoneAgain(t *testing.T) {
	y := newFixture(t)
	write := func(stage, layout, rest string) {
		y.write("tide", rest+"[[source]]\nfile = \"a\"\n[steps]\nstage = '''\nmkdir -p \"$DESTDIR/usr/share\"\ncp a \"$DESTDIR/usr/share\"\n"+stage+"'''\n[package.tide.layout]\n"+layout+"= {}\n", "a", "tide")
	}
	write("", `"/usr/share/a"`, "")
	for _, step := range []struct {
		name   string
		change func()
		want   string
	}{
		{"at first", func() {}, Built},
		{"nothing", func() {}, Unchanged},
		{"a fact", func() { write("", `"/usr/share/a"`, "category = \"x\"\n") }, Repacked},
		{"the layout", func() { write("", `"/usr/share/*"`, "category = \"x\"\n") }, Repacked},
		{"a script", func() { write("true\n", `"/usr/share/*"`, "") }, Built},
		{"a source", func() { os.WriteFile(filepath.Join(y.w.Dir, "recipes/tide/a"), []byte("ebb"), 0o644) }, Built},
		{"a file beside the recipe", func() { os.WriteFile(filepath.Join(y.w.Dir, "recipes/tide/b"), nil, 0o644) }, Repacked},
		{"a package file", func() { os.Remove(filepath.Join(y.w.Packages(), "tide@1.0-1."+y.w.Target.Arch+".ell")) }, Repacked},
		{"the number of jobs", func() { y.w.Settings.Build.Jobs = 7 }, Unchanged},
		{"the target", func() { y.w.Target.Name = "other" }, Built},
		{"the date", func() {
			write("true\n", `"/usr/share/*"`, "[[change]]\nversion=\"1.0-1\"\ndate=2031-01-01\ntext=[]\n")
		}, Built},
	} {
		step.change()
		if got := y.state("tide"); got != step.want {
			t.Errorf("%s changed: %s, want %s", step.name, got, step.want)
		}
	}
	if res, err := y.build("tide", Options{From: recipe.Unpack}); err != nil || res.State != Built {
		t.Errorf("again: %s, %v", res.State, err)
	}
}

// A build depends on packages of the workspace: what they need comes along, the
// newest is taken, and a new one makes its dependents be rebuilt.
func TestNeeds(t *testing.T) {
	y := newFixture(t)
	t.Run("laid over the system", func(t *testing.T) { testNeeds(t, y) })
	y = newFixture(t)
	y.b.Runner = sandbox.None{}
	t.Run("in a directory of the tree", func(t *testing.T) { testNeeds(t, y) })
	y = newFixture(t)
	y.b.Runner = sandbox.Namespaces{Copies: true}
	t.Run("without overlay mounts", func(t *testing.T) { testNeeds(t, y) })
}

func testNeeds(t *testing.T, y *fixture) {
	stage := func(text string) string { return "[steps]\nstage = '''\n" + text + "\n'''\n" }
	y.write("data", "arch = \"independent\"\n"+stage(`mkdir -p "$DESTDIR/usr/share/data"; echo one > "$DESTDIR/usr/share/data/x"`))
	y.write("lib", "arch = \"independent\"\n[needs]\nrun = [\"data\"]\n"+stage(`mkdir -p "$DESTDIR/usr/lib/pkgconfig" "$DESTDIR/usr/bin"
printf 'prefix=/usr\nlibdir=${prefix}/lib\nodd=/usrx\nVersion: 1.4\n' > "$DESTDIR/usr/lib/pkgconfig/lib.pc"
printf '#!/bin/sh\necho tool\n' > "$DESTDIR/usr/bin/lib-tool"; chmod 755 "$DESTDIR/usr/bin/lib-tool"`))
	y.write("tide", "arch = \"independent\"\n[needs]\nbuild = [\"pkgconfig/lib >= 1.2\", \"command/sh\"]\n"+stage(`mkdir -p "$DESTDIR/usr/share"
lib-tool > "$DESTDIR/usr/share/tide"
needs=${PKG_CONFIG_PATH-}; needs=${needs%%/usr/lib/pkgconfig:*}
cat "$needs/usr/share/data/x" >> "$DESTDIR/usr/share/tide"
grep -c "=$needs/usr\$" "$needs/usr/lib/pkgconfig/lib.pc" >> "$DESTDIR/usr/share/tide"
grep -c "=/usrx" "$needs/usr/lib/pkgconfig/lib.pc" >> "$DESTDIR/usr/share/tide"`))
	y.state("data")
	y.state("lib")
	y.state("tide")
	text := func() string {
		p, err := ell.Open(filepath.Join(y.w.Packages(), "tide@1.0-1.ell"))
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		entries, err := p.Layout()
		if err != nil {
			t.Fatal(err)
		}
		e, _ := ell.Find(entries, "/usr/share/tide")
		var b strings.Builder
		if err := p.WriteFile(context.Background(), &b, e); err != nil {
			t.Fatal(err)
		}
		if p.Build.Needs["pkgconfig/lib >= 1.2"] != "lib@1.0-1" || p.Build.Needs["command/sh"] != satisfy.BySystem {
			t.Errorf("the record says %v", p.Build.Needs)
		}
		return b.String()
	}
	if got := text(); got != "tool\none\n1\n1\n" {
		t.Errorf("staged %q", got)
	}
	y.write("data", "arch = \"independent\"\nepoch_is_no_key = 1\n")
	if _, err := y.w.Recipe("data"); err == nil {
		t.Error("an unknown key is accepted")
	}
	y.write("data", "arch = \"independent\"\n"+stage(`mkdir -p "$DESTDIR/usr/share/data"; echo two > "$DESTDIR/usr/share/data/x"`))
	y.state("data")
	if got := y.state("tide"); got != Built || text() != "tool\ntwo\n1\n1\n" {
		t.Errorf("after a need was built anew: %s, %q", got, text())
	}
	y.write("wants", "[needs]\nbuild = [\"lib >= 2\", \"nobody | nothing\", \"command/nothere\"]\n")
	var missing *satisfy.MissingError
	if _, err := y.build("wants", Options{}); !errors.As(err, &missing) || fmt.Sprint(needsOf(missing)) != "[lib >= 2 nobody | nothing command/nothere]" {
		t.Errorf("missing: %v", err)
	}
}

func needsOf(e *satisfy.MissingError) []string {
	var out []string
	for _, n := range e.Needs {
		out = append(out, n.Need.String())
	}
	return out
}

func TestErrors(t *testing.T) {
	y := newFixture(t)
	y.write("nothing", "")
	if _, err := y.build("nothing", Options{}); err == nil || !strings.Contains(err.Error(), "installed nothing") {
		t.Errorf("nothing staged: %v", err)
	}
	y.write("stubborn", "[steps]\nbuild = 'mkdir -p locked/in; chmod 0 locked'\n")
	for range 2 { // the second has to clear away what the first left
		if _, err := y.build("stubborn", Options{Until: recipe.Build}); err != nil {
			t.Error(err)
		}
	}
	layer.RemoveAll(y.w.State("build", "stubborn")) // or the test's directory could not be removed
	y.write("loud", "[steps]\nbuild = '''\ni=0; while [ $i -lt 200 ]; do i=$((i+1)); printf 'line %s \\033[31mred\\033[0m\\n' $i; done\nprintf 'no end'\nfalse'''\n")
	var step *StepError
	_, err := y.build("loud", Options{})
	if !errors.As(err, &step) || step.Line != 11 || len(step.Tail) != tailLines || step.Tail[0] != "line 177 red" || step.Tail[tailLines-1] != "no end" {
		t.Errorf("a loud step: %+v", err)
	}
	for range kept + 3 {
		y.build("loud", Options{})
	}
	if logs, _ := os.ReadDir(y.w.State("logs", "loud")); len(logs) != kept {
		t.Errorf("the logs of %d builds are kept", len(logs))
	}
	os.WriteFile(filepath.Join(y.w.Packages(), "bad@1-1.ell"), []byte("?"), 0o644)
	os.WriteFile(y.w.State("build", "loud", "record-"+y.w.Target.Name+".json"), []byte("{"), 0o644)
	y.write("sound", "arch = \"independent\"\n[needs]\nbuild = [\"command/sh\"]\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/sound\"'\n")
	if got := y.state("sound"); got != Built {
		t.Errorf("beside a damaged package: %s", got)
	}
}

// A file in the source cache that changed is not built from, and is fetched again.
func TestDamagedStore(t *testing.T) {
	y := newFixture(t)
	y.write("tide", "arch = \"independent\"\n[[source]]\nfile = \"data\"\n[[source]]\nfile = \"tool\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share\"; cp data \"$DESTDIR/usr/share\"'\n[package.tide.layout]\n\"/usr/share/data\" = {}\n\"/usr/bin/tool\" = { from = \"tool\" }\n", "data", "tide", "tool", "#!/bin/sh")
	os.Chmod(filepath.Join(y.w.Dir, "recipes/tide/tool"), 0o755)
	y.state("tide")
	p, err := ell.Open(filepath.Join(y.w.Packages(), "tide@1.0-1.ell"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if entries, err := p.Layout(); err != nil {
		t.Error(err)
	} else if e, _ := ell.Find(entries, "/usr/bin/tool"); e.Mode != "0755" {
		t.Errorf("a program beside the recipe is packed with mode %s", e.Mode)
	}
	r, _ := y.w.Recipe("tide")
	f, err := y.b.Fetcher.Fetch(context.Background(), r, 0)
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(f.Path, []byte("ebb"), 0o644)
	if _, err := y.build("tide", Options{From: recipe.Unpack}); err == nil || !strings.Contains(err.Error(), "the source cache's copy, which is removed now") || !strings.Contains(err.Error(), "build again") {
		t.Errorf("from a changed file: %v", err)
	}
	if res, err := y.build("tide", Options{From: recipe.Unpack}); err != nil || res.State != Built {
		t.Errorf("again: %v", err)
	}
}

func TestTrim(t *testing.T) {
	for in, want := range map[string]string{
		"plain\n": "plain", "10%\r20%\r100%": "100%", "\x1b[1;31mred\x1b[0m": "red", "a\tb\x07": "a b", "\xff\xfe": "", strings.Repeat("x", 3000): strings.Repeat("x", maxLine) + "…",
	} {
		if got := trim(in); got != want {
			t.Errorf("trim(%.20q) = %.20q", in, got)
		}
	}
}

// Packages of one recipe need one another exactly: where one has what another
// links to, and where a link leads into another.
func TestSiblings(t *testing.T) {
	y := newFixture(t)
	y.write("duo", `arch = "independent"
[steps]
stage = '''
mkdir -p "$DESTDIR/usr/lib/pkgconfig" "$DESTDIR/usr/share/doc/duo"
echo > "$DESTDIR/usr/lib/libduo.so.1"; ln -s libduo.so.1 "$DESTDIR/usr/lib/libduo.so"
printf 'Version: 1.4\n' > "$DESTDIR/usr/lib/pkgconfig/duo.pc"
printf 'Version: 1.4\nRequires: duo >= 1\n' > "$DESTDIR/usr/lib/pkgconfig/duo-more.pc"
echo > "$DESTDIR/usr/share/doc/duo/read"
'''
[package.duo.layout]
"/usr/lib/libduo.so.1" = {}
[package.duo-dev.layout]
"/usr/lib/libduo.so" = {}
"/usr/lib/pkgconfig/duo.pc" = {}
[package.duo-more]
needs = ["duo-dev = {full}"]
layout = { "/usr/lib/pkgconfig/duo-more.pc" = {} }
[package.duo-doc.layout]
"/usr/share/doc/**" = {}
`)
	y.state("duo")
	for name, want := range map[string]string{
		"duo": "", "duo-dev": "duo = 1.0-1 for /usr/lib/libduo.so", "duo-more": "duo-dev = 1.0-1 for ; pkgconfig/duo >= 1 for /usr/lib/pkgconfig/duo-more.pc", "duo-doc": "",
	} {
		p, err := ell.Open(filepath.Join(y.w.Packages(), name+"@1.0-1.ell"))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, n := range p.Facts.Needs {
			got = append(got, n.Need.String()+" for "+n.Path)
		}
		if all := strings.Join(got, "; "); all != want {
			t.Errorf("%s needs %q, want %q", name, all, want)
		}
		p.Close()
	}
}
