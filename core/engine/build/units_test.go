package build

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

// A log keeps its beginning and its end, whole lines of it, and says how much is
// missing between them.
func TestLogWriter(t *testing.T) {
	for _, c := range []struct {
		title       string
		size        int64
		lines       int
		chunk       int // bytes written at once
		cut         bool
		first, last string
	}{
		{"a short one", 1 << 20, 100, 7, false, "line 0 of the log", "line 99 of the log"},
		{"a long one", 4096, 10_000, 100, true, "line 0 of the log", "line 9999 of the log"},
		{"in pieces longer than the end", 1024, 10_000, 5000, true, "line 0 of the log", "line 9999 of the log"},
		{"byte by byte", 512, 200, 1, true, "line 0 of the log", "line 199 of the log"},
	} {
		t.Run(c.title, func(t *testing.T) {
			var text strings.Builder
			for i := range c.lines {
				fmt.Fprintf(&text, "line %d of the log\n", i)
			}
			file, err := os.Create(filepath.Join(t.TempDir(), "log"))
			if err != nil {
				t.Fatal(err)
			}
			defer file.Close()
			w := &logWriter{file: file, size: c.size, task: progress.None.Begin("", 0, ""), stop: func(err error) { t.Error(err) }}
			for rest := text.String(); rest != ""; {
				n := min(c.chunk, len(rest))
				if _, err := w.Write([]byte(rest[:n])); err != nil {
					t.Fatal(err)
				}
				rest = rest[n:]
			}
			if err := w.end(); err != nil {
				t.Fatal(err)
			}
			data, err := os.ReadFile(file.Name())
			if err != nil {
				t.Fatal(err)
			}
			lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
			if lines[0] != c.first || lines[len(lines)-1] != c.last || int64(len(data)) > c.size+200 {
				t.Errorf("%d bytes, from %q to %q", len(data), lines[0], lines[len(lines)-1])
			}
			if cut := bytes.Contains(data, []byte("bytes of output are left out here")); cut != c.cut {
				t.Errorf("something is left out: %v", cut)
			}
		})
	}
}

// Where a log cannot be written, the build stops and says why.
func TestLogWriterFails(t *testing.T) {
	file, err := os.Open(os.DevNull)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	var stopped error
	w := &logWriter{file: file, size: 1 << 20, task: progress.None.Begin("", 0, ""), stop: func(err error) { stopped = err }}
	if _, err := w.Write([]byte("x\n")); err != nil || stopped == nil {
		t.Errorf("%v, stopped for %v", err, stopped)
	}
	if err := w.end(); err == nil || !errors.Is(err, stopped) {
		t.Errorf("in the end: %v", err)
	}
}

func TestWarnings(t *testing.T) {
	file, err := os.Create(filepath.Join(t.TempDir(), "log"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	w := &logWriter{file: file, size: 1 << 20, task: progress.None.Begin("", 0, "")}
	for _, line := range []string{"tide.c:3:7: warning: unused variable", "a.c:3: warning: x", "cc1: warning: y", "/usr/bin/ld: warning: z", "configure: WARNING: no", "this is a warning: no", "tide.c:3:7: error: no"} {
		fmt.Fprintln(w, line)
	}
	if w.warnings != 4 {
		t.Errorf("%d warnings, not 4", w.warnings)
	}
}

func TestUnpinned(t *testing.T) {
	y := newFixture(t)
	y.write("tide", "[[source]]\nurl = \"https://tide.example/tide-1.0.tar.gz\"\n[[source]]\ngit = \"https://tide.example/tide.git\"\ntag = \"v1.0\"\n")
	r := y.recipes("tide")[0]
	file := Unpinned(r, 0, source.Fetched{Name: "tide-1.0.tar.gz", Size: 12, SHA256: "abc"})
	if !strings.Contains(file.Remedy, `sha256 = "abc"`) || !strings.Contains(file.Remedy, "12 bytes") || file.Line == 0 || file.Action.Verb != fact.PinSources {
		t.Errorf("%+v", file)
	}
	commit := Unpinned(r, 1, source.Fetched{Name: "tide", Commit: "def"})
	if !strings.Contains(commit.Remedy, `commit = "def"`) || !strings.Contains(commit.Remedy, "v1.0") || commit.Line <= file.Line {
		t.Errorf("%+v", commit)
	}
}

// A patch or a rewrite that does not apply stops the build at the step that it
// belongs to, with the line of the recipe.
func TestChangesThatFail(t *testing.T) {
	y := newFixture(t)
	patch := func(from string) string {
		return "--- a/tide\n+++ b/tide\n@@ -1 +1 @@\n-" + from + "\n+ebb\n"
	}
	for _, c := range []struct {
		title, recipe, patch string
		step, want           string
	}{
		{"a patch for another text", "[[patch]]\nfile = \"p\"\n", patch("moon"), recipe.Unpack, "make the patch again"},
		{"a patch that upstream has", "[[patch]]\nfile = \"p\"\n", "--- a/tide\n+++ b/tide\n@@ -1 +1 @@\n-moon\n+flood\n", recipe.Unpack, "remove the [[patch]]"},
		{"a patch of a missing file", "[[patch]]\nfile = \"p\"\n", strings.ReplaceAll(patch("x"), "/tide", "/none"), recipe.Unpack, "make the patch again"},
		{"a rewrite that matches nothing", "[[rewrite]]\nafter = \"unpack\"\npath = \"tide\"\nfind = \"moon\"\nreplace = \"x\"\n", "", recipe.Unpack, ""},
		{"a rewrite of a missing file", "[[rewrite]]\nafter = \"build\"\npath = \"nothing\"\nfind = \"x\"\nreplace = \"y\"\n", "", recipe.Build, ""},
	} {
		t.Run(c.title, func(t *testing.T) {
			y.t = t
			y.write("tide", "arch = \"independent\"\n[[source]]\nfile = \"tide\"\n"+c.recipe+"[steps]\nbuild = 'true'\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"'\n", "tide", "flood\n", "p", c.patch)
			_, err := y.build("tide", Options{})
			var change *ChangeError
			if !errors.As(err, &change) || change.Step != c.step || change.Line == 0 || change.Remedy == "" || !strings.Contains(change.Remedy, c.want) || change.Status() != fact.StatusStep || errors.Unwrap(change) == nil {
				t.Errorf("%+v", err)
			}
		})
	}
}

func TestSharedName(t *testing.T) {
	y := newFixture(t)
	text := "arch = \"independent\"\n[option.moon]\nchoices = [\"yes\", \"no\"]\ndefault = \"no\"\nsummary = \"The moon\"\n[steps]\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"; echo \"$ELL_OPT_MOON\" > \"$DESTDIR/usr/share/tide/moon\"'\n"
	y.write("tide", text)
	y.state("tide")
	with, err := y.w.Recipe("tide")
	if err != nil {
		t.Fatal(err)
	}
	if with, err = recipe.Load(with.Dir, "tide", y.w.Target, recipe.Values{"moon": "yes"}); err != nil {
		t.Fatal(err)
	}
	_, err = y.b.Build(t.Context(), with, Options{})
	var shared *SharedNameError
	if !errors.As(err, &shared) || !strings.Contains(err.Error(), "moon=yes") {
		t.Errorf("with another option: %v", err)
	}
}

func TestOptionText(t *testing.T) {
	for want, options := range map[string]map[string]string{"no options": nil, "a=1 b=2": {"b": "2", "a": "1"}} {
		if got := optionText(options); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// Clean removes what is chosen, and nothing that is being built.
func TestClean(t *testing.T) {
	y := newFixture(t)
	for _, name := range []string{"tide", "ebb"} {
		y.write(name, "arch = \"independent\"\n[steps]\nbuild = 'echo > x'\nstage = 'mkdir -p \"$DESTDIR/usr/share/"+name+"\"'\n")
		y.state(name)
	}
	clean := func(c Choice) (out []string) {
		t.Helper()
		removed, err := Clean(y.w, c)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range removed {
			out = append(out, r.Recipe)
		}
		return out
	}
	if got := clean(Choice{Older: time.Hour, Keep: -1}); got != nil {
		t.Errorf("what is an hour old: %q", got)
	}
	if got := clean(Choice{Keep: 1 << 40}); got != nil {
		t.Errorf("more than is kept: %q", got)
	}
	j, err := y.b.begin(t.Context(), y.recipes("ebb")[0])
	if err != nil {
		t.Fatal(err)
	}
	if got := clean(Choice{Recipes: []string{"ebb"}, Keep: -1}); got != nil {
		t.Errorf("while it is built: %q", got)
	}
	j.close()
	if got := clean(Choice{Recipes: []string{"ebb"}, Keep: -1}); len(got) == 0 || strings.Contains(strings.Join(got, " "), "tide") {
		t.Errorf("of one recipe: %q", got)
	}
	if got := clean(Choice{Keep: -1}); len(got) == 0 || strings.Contains(strings.Join(got, " "), "ebb") {
		t.Errorf("the rest: %q", got)
	}
	// Packages that were unpacked to build on stay for a day.
	old, fresh := y.w.State("needs", "old"), y.w.State("needs", "fresh")
	for _, dir := range []string{old, fresh} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	before := time.Now().Add(-2 * needsAge)
	if err := os.Chtimes(old, before, before); err != nil {
		t.Fatal(err)
	}
	if got := clean(Choice{Keep: -1}); len(got) != 1 || got[0] != "needs" || layer.Size(fresh) < 0 {
		t.Errorf("unpacked packages: %q", got)
	}
	if _, err := os.Stat(fresh); err != nil {
		t.Error(err)
	}
}

// A program is split into what runs and what a debugger reads.
func TestDebugOf(t *testing.T) {
	for path, want := range map[string]bool{"/proc/self/exe": true, "/bin/sh": false, "/etc/passwd": false, "/nonexistent": false} {
		if _, _, found := debugOf(path); found != want && path != "/proc/self/exe" {
			t.Errorf("%s has debug information: %v", path, found)
		}
	}
	if err := tool("false"); err == nil || !strings.Contains(err.Error(), "false") {
		t.Errorf("a tool that fails: %v", err)
	}
}
