package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// programDir holds the program under test, and fixturesDir archives that no
// well-meaning tool would make.
var programDir, fixturesDir string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "ellwand-test-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		os.Chmod(dir, 0o755)
		programDir, fixturesDir = filepath.Join(dir, "bin"), filepath.Join(dir, "fixtures")
		build := exec.Command("go", "build", "-o", filepath.Join(programDir, "ellwand"), "../cmd/ellwand")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if os.Getenv("ELLWAND_TEST_RACE") != "" { // .ci/run does this
			build.Args = slices.Insert(build.Args, 2, "-race")
			build.Env = append(os.Environ(), "CGO_ENABLED=1")
		}
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
			return 1
		}
		writeFixtures()
		return m.Run()
	}())
}

func writeFixtures() {
	os.MkdirAll(fixturesDir, 0o755)
	write := func(name string, headers []tar.Header, keep int) {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		w := tar.NewWriter(z)
		for _, h := range headers {
			h.Mode, h.Size = 0o644, 0
			if h.Typeflag == 0 {
				h.Typeflag, h.Size = tar.TypeReg, 6
			}
			if err := w.WriteHeader(&h); err != nil {
				panic(err)
			}
			io.WriteString(w, "tides\n"[:h.Size])
		}
		w.Close()
		z.Close()
		data := b.Bytes()
		if keep > 0 {
			data = data[:keep]
		}
		if err := os.WriteFile(filepath.Join(fixturesDir, name), data, 0o644); err != nil {
			panic(err)
		}
	}
	sound := []tar.Header{{Name: "tide-1.0/", Typeflag: tar.TypeDir}, {Name: "tide-1.0/a file"}, {Name: "tide-1.0/Makefile"}}
	write("tide-1.0.tar.gz", sound, 0)
	write("truncated.tar.gz", sound, 70)
	writeForgedExport()
	if err := os.CopyFS(filepath.Join(fixturesDir, "refused"), os.DirFS("../docs/package-vectors/refused")); err != nil {
		panic(err)
	}
	write("escape.tar.gz", []tar.Header{{Name: "../evil"}, {Name: "/abs"}, {Name: "x/up", Typeflag: tar.TypeSymlink, Linkname: "../../etc"}, {Name: "x/abs", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, {Name: "x/fine"}}, 0)
}

// writeForgedExport makes the export of a recipe that says that an archive of
// its own making is what a commit contains.
func writeForgedExport() {
	recipe := "format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\narch = \"independent\"\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\ngit = \"https://saltmarsh.example/tide.git\"\ncommit = \"" + strings.Repeat("a", 40) + "\"\n"
	sum := func(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }
	source := "not the commit's files"
	facts := `{"files":{"recipe.toml":"` + sum(recipe) + `"},"format":1,"full":"1-1","name":"tide","sources":[{"commit":"` + strings.Repeat("a", 40) + `","name":"a","object":"dHJlZQ==","sha256":"` + sum(source) + `"}]}`
	var b bytes.Buffer
	z, err := zstd.NewWriter(&b)
	if err != nil {
		panic(err)
	}
	w := tar.NewWriter(z)
	for _, entry := range [][2]string{{"export.json", facts}, {"recipe/recipe.toml", recipe}, {"sources/" + sum(source), source}} {
		if err := w.WriteHeader(&tar.Header{Name: entry[0], Mode: 0o644, Size: int64(len(entry[1]))}); err != nil {
			panic(err)
		}
		io.WriteString(w, entry[1])
	}
	w.Close()
	z.Close()
	if err := os.WriteFile(filepath.Join(fixturesDir, "forged.recipe.ell"), b.Bytes(), 0o644); err != nil {
		panic(err)
	}
}

// TestScripts runs every file in testdata/script, and in testdata/regression,
// which has what was found wrong once, in a directory of its own. A
// script is made of lines that begin with
//
//	#   a comment
//	$   a command for sh; ellwand is on its PATH, $F is the directory of fixtures
//	=   the exit status that it must have, where that is not 0
//	>   a line that its standard output must have
//	2>  a line that its standard error must have
//	!>  a text that neither may have in it
//
// and of files to begin with: -- NAME -- and the lines up to the next one. Spaces
// around a line do not count, and … stands for anything in it. With -update, an
// expectation that is part of a line becomes the whole line, with … for times, sizes
// and whatever else differs from run to run.
func TestScripts(t *testing.T) {
	var files []string
	for _, dir := range []string{"script", "regression"} {
		found, err := filepath.Glob("testdata/" + dir + "/*.txt")
		if err != nil || len(found) == 0 {
			t.Fatal("no scripts", err)
		}
		files = append(files, found...)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			runScript(t, file)
		})
	}
}

// command is a command of a script with what is expected of it.
type command struct {
	line     int
	text     string
	status   int
	expected []expectation
}

type expectation struct {
	line        int
	where, text string
}

func readScript(t *testing.T, file, dir string) []command {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	script, rest, _ := strings.Cut("\n"+string(data), "\n-- ")
	for rest != "" {
		var name, text string
		name, rest, _ = strings.Cut(rest, " --\n")
		text, rest, _ = strings.Cut(rest, "\n-- ")
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte(strings.ReplaceAll(strings.TrimSuffix(text, "\n")+"\n", "$F", fixturesDir)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var commands []command
	for i, line := range strings.Split(strings.TrimPrefix(script, "\n"), "\n") {
		sign, text, _ := strings.Cut(line, " ")
		switch sign {
		case "", "#":
		case "$":
			commands = append(commands, command{line: i + 1, text: text})
		case "=":
			fmt.Sscan(text, &commands[len(commands)-1].status)
		case ">", "2>", "!>":
			c := &commands[len(commands)-1]
			c.expected = append(c.expected, expectation{i + 1, sign, text})
		default:
			t.Fatalf("%s:%d: a line begins with %q", file, i+1, sign)
		}
	}
	return commands
}

var update = flag.Bool("update", false, "write what the program prints into the tests' expectations")

// hasLine reports whether an output has a line, in which … stands for anything.
func hasLine(output, want string) bool {
	parts := strings.Split(strings.TrimSpace(want), "…")
	for line := range strings.SplitSeq(output, "\n") {
		if matches(strings.TrimSpace(line), parts) {
			return true
		}
	}
	return false
}

func matches(line string, parts []string) bool {
	rest, ok := strings.CutPrefix(line, parts[0])
	if !ok || len(parts) == 1 {
		return ok && rest == ""
	}
	for _, part := range parts[1 : len(parts)-1] {
		if _, rest, ok = strings.Cut(rest, part); !ok {
			return false
		}
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}

// volatile is what differs from run to run, or from machine to machine.
var volatile = regexp.MustCompile(`\d+(\.\d+)? ?(ms|s|B|KiB|MiB|GiB)\b|\b[0-9a-f]{8,64}\b|\b[a-z]+-[0-9.]+-(x86_64|aarch64)\b|\b(x86_64|aarch64)\b|\d{4}-\d\d-\d\d[T ]\d\d[:.]\d\d([:.]\d\d)?(\.\d+Z)?|127\.0\.0\.1:\d+`)

// updateLine puts a line of the output into a script in place of an expectation, if
// -update is given: one that has the expected text in it, or else the most similar
// one. The change is to be read before it is committed.
func updateLine(t *testing.T, file string, e expectation, output, dir string) bool {
	part := strings.TrimSpace(e.text)
	if !*update || len(part) < 4 {
		return false
	}
	line, best := "", 0.4
	for l := range strings.SplitSeq(output, "\n") {
		l = strings.TrimSpace(l)
		if before, after, ok := strings.Cut(l, part); ok {
			line = general(before, dir) + part + general(after, dir)
			break
		}
		if alike := similarity(general(l, dir), part); alike > best {
			line, best = general(l, dir), alike
		}
	}
	if line == "" {
		return false
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(data), "\n")
	lines[e.line-1] = e.where + " " + line
	if err := os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o644); err != nil {
		t.Fatal(err)
	}
	return true
}

// general replaces what differs from run to run.
func general(s, dir string) string {
	return volatile.ReplaceAllString(strings.ReplaceAll(s, dir, "…"), "…")
}

// similarity is the part of the words that two lines have in common, from 0 to 1.
func similarity(a, b string) float64 {
	x, y := strings.Fields(a), strings.Fields(b)
	common := 0
	for _, word := range x {
		if slices.Contains(y, word) {
			common++
		}
	}
	return float64(common) / float64(max(len(x), len(y), 1))
}

// environment is what commands of tests see: nothing of the caller's settings.
func environment(dir string) []string {
	return []string{
		"PATH=" + programDir + ":" + os.Getenv("PATH"), "HOME=" + filepath.Join(dir, ".home"), "TMPDIR=" + filepath.Join(dir, "tmp"), "F=" + fixturesDir, "LC_ALL=C.UTF-8",
		"COLUMNS=200",
	}
}

func runScript(t *testing.T, file string) {
	dir := t.TempDir()
	work := filepath.Join(dir, "a directory")
	os.Mkdir(work, 0o755)
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	for _, c := range readScript(t, file, work) {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		cmd := exec.CommandContext(ctx, "sh", "-c", c.text)
		var stdout, stderr bytes.Buffer
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = work, environment(dir), &stdout, &stderr
		err := cmd.Run()
		cancel()
		status := cmd.ProcessState.ExitCode()
		fail := func(line int, format string, args ...any) {
			t.Errorf("%s:%d: %s: %s\nstatus %d (%v)\nstandard output:\n%s\nstandard error:\n%s", file, line, c.text, fmt.Sprintf(format, args...), status, err, stdout.String(), stderr.String())
		}
		if status != c.status {
			fail(c.line, "status %d, want %d", status, c.status)
		}
		for _, e := range c.expected {
			switch {
			case e.where == ">" && !hasLine(stdout.String(), e.text):
				if !updateLine(t, file, e, stdout.String(), dir) {
					fail(e.line, "%q is not a line of its standard output", e.text)
				}
			case e.where == "2>" && !hasLine(stderr.String(), e.text):
				if !updateLine(t, file, e, stderr.String(), dir) {
					fail(e.line, "%q is not a line of its standard error", e.text)
				}
			case e.where == "!>" && strings.Contains(stdout.String()+stderr.String(), e.text):
				fail(e.line, "%q is in its output", e.text)
			}
		}
		if t.Failed() {
			return
		}
	}
	// Every package that a script leaves is one for a plain tar too.
	out, err := exec.Command("sh", "-ec", `command -v tar zstd >/dev/null || exit 0
find "$0" -path '*/packages/*.ell' -not -name 'damaged*' | while read -r f; do
	zstd -tq "$f" || echo "zstd: $f"
	into=$1/$(basename "$f"); mkdir -p "$into"
	tar --zstd -tf "$f" >/dev/null && tar --warning=no-timestamp --zstd -xf "$f" -C "$into" || echo "tar: $f"
done`, work, t.TempDir()).CombinedOutput()
	if err != nil || len(out) > 0 {
		t.Errorf("%s: %v\n%s", file, err, out)
	}
}
