package trial

import (
	"context"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/junit"
	"ellwand.example/core/staging"
	"ellwand.example/core/testtool"
	"golang.org/x/sys/unix"
)

// answers stands in for a sandbox: what a script has in it decides how it ends.
type answers map[string]Result

func (a answers) Run(_ context.Context, script string, _ time.Duration) (Result, error) {
	for part, r := range a {
		if strings.Contains(script, part) {
			return r, nil
		}
	}
	return Result{}, nil
}

// checker has files in its root: name → contents.
func checker(t *testing.T, s Sandbox, files map[string]string) *Checker {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		p := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	tree, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tree.Close() })
	return &Checker{Sandbox: s, Tree: tree}
}

func subject(settings Settings, provides []string, paths ...string) Subject {
	s := Subject{Facts: ell.Facts{Name: "tide"}, At: func(p string) string { return p }, Settings: settings, First: true}
	for _, p := range provides {
		s.Facts.Provides = append(s.Facts.Provides, ell.Provide{Provide: need.MustProvide(p)})
	}
	for _, p := range paths {
		s.Layout = append(s.Layout, ell.Entry{Path: p, Type: staging.File, Mode: "0755"})
	}
	return s
}

// said writes checks in a line each.
func said(checks []Check) string {
	var out []string
	for _, c := range checks {
		out = append(out, fmt.Sprintf("%s %s: %s %s", c.Name, c.Subject, c.State, c.Message))
	}
	return strings.Join(out, "\n")
}

func TestCommands(t *testing.T) {
	for _, c := range []struct {
		title    string
		answers  answers
		settings Settings
		want     string
	}{
		{"--version works", answers{"--help": {Status: 1}}, Settings{}, "passed "},
		{"only --help works", answers{"--version": {Status: 1}}, Settings{}, "passed "},
		{"neither works", answers{"--": {Status: 2, Output: "usage: tide"}}, Settings{}, "passed it starts, and knows neither --version nor --help"},
		{"it cannot be started", answers{"--": {Status: 127}}, Settings{}, "failed it could not be started (exit status 127)"},
		{"a library is missing", answers{"--": {Status: 1, Output: "tide: error while loading shared libraries: libtide.so.1"}}, Settings{}, "failed it ended with exit status 1"},
		{"it crashes", answers{"--": {Status: 139, Signal: "segmentation fault"}}, Settings{}, "failed it was ended by a signal: segmentation fault"},
		{"it hangs", answers{"--": {Limit: "time, 20s"}}, Settings{}, "failed it exceeded the limit on time, 20s"},
		{"it hangs with one, and starts with the other", answers{"--version": {Limit: "time, 20s"}, "--help": {Status: 64}}, Settings{}, "passed it starts, and knows neither --version nor --help"},
		{"the recipe has arguments", answers{"--version": {Status: 1}}, Settings{Commands: map[string]string{"tide": "--list"}}, "passed "},
		{"the arguments fail", answers{"--list": {Status: 3}}, Settings{Commands: map[string]string{"tide": "--list"}}, "failed it ended with exit status 3"},
		{"the recipe skips it", nil, Settings{Skip: []string{"tide"}}, "skipped the recipe says not to call it"},
	} {
		t.Run(c.title, func(t *testing.T) {
			got, err := checker(t, c.answers, nil).Check(t.Context(), subject(c.settings, nil, "/usr/bin/tide", "/usr/share/tide", "/usr/lib/tide/helper"))
			if err != nil {
				t.Fatal(err)
			}
			if said(got) != "command tide: "+c.want {
				t.Errorf("%s", said(got))
			}
			if c.want[:6] == "failed" && len(c.settings.Commands) == 0 && !strings.Contains(got[0].Remedy, "[trial.commands]") {
				t.Errorf("the remedy is %q", got[0].Remedy)
			}
		})
	}
}

func TestModules(t *testing.T) {
	provides := []string{"python/tide", "perl/Tide::Table", "pkgconfig/tide", "command/tide"}
	tools := map[string]string{"usr/bin/python3": "", "usr/bin/perl": "", "usr/bin/cc": "", "usr/bin/pkg-config": ""}
	got, err := checker(t, answers{"import tide": {Status: 1, Output: "no module"}, "--libs tide": {Status: 1}}, tools).Check(t.Context(), subject(Settings{}, provides))
	if err != nil || said(got) != "module tide: failed it ended with exit status 1\nmodule Tide::Table: passed \npkgconfig tide: failed it ended with exit status 1" {
		t.Errorf("%s, %v", said(got), err)
	}
	got, err = checker(t, answers{}, nil).Check(t.Context(), subject(Settings{}, provides))
	if err != nil || said(got) != "module tide: skipped the root has no python3\nmodule Tide::Table: skipped the root has no perl\npkgconfig tide: skipped the root has no cc" {
		t.Errorf("without tools: %s, %v", said(got), err)
	}
}

func TestUnits(t *testing.T) {
	const unit, entry = "/usr/lib/systemd/system/tide.service", "/usr/share/applications/tide.desktop"
	for _, c := range []struct{ title, unit, entry, want string }{
		{"both there", "[Service]\nExecStart=-/usr/bin/tide --serve\nExecStop=/bin/tide stop\n", "Exec=tide %U\n", "unit " + unit + ": passed \ndesktop " + entry + ": passed "},
		{"no program", "ExecStart=/usr/bin/tided\n", "Exec=tides\n", "unit " + unit + ": failed it starts /usr/bin/tided, which is not there\ndesktop " + entry + ": failed it starts tides, which is not there"},
		{"placeholders", "ExecStart=/usr/lib/%i/tide\n", "Exec=\"/usr/bin/tide\"\n", "unit " + unit + ": passed \ndesktop " + entry + ": passed "},
	} {
		t.Run(c.title, func(t *testing.T) {
			s := subject(Settings{}, nil, unit, entry)
			got, err := checker(t, answers{}, map[string]string{"usr/bin/tide": "", unit[1:]: c.unit, entry[1:]: c.entry}).Check(t.Context(), s)
			if err != nil || said(got) != c.want {
				t.Errorf("%s, %v", said(got), err)
			}
		})
	}
}

func TestScriptAndAccounts(t *testing.T) {
	s := subject(Settings{Run: "tide --test"}, nil)
	s.Facts.Accounts = map[string]fact.Account{"tide": {}}
	files := map[string]string{"etc/passwd": "root:x:0:0::/:\ntide:x:300:300::/:\n", "etc/group": "root:x:0:\nnot-tide:x:1:\n"}
	got, err := checker(t, answers{"tide --test": {Status: 4}}, files).Check(t.Context(), s)
	if err != nil || said(got) != "trial the recipe's script: failed it ended with exit status 4\naccount tide: failed it is not in /etc/group" {
		t.Errorf("%s, %v", said(got), err)
	}
	s.First, files["etc/group"] = false, "tide:x:300:\n"
	got, err = checker(t, answers{"tide --test": {Status: 4}}, files).Check(t.Context(), s)
	if err != nil || said(got) != "account tide: passed " {
		t.Errorf("not the first of its recipe: %s, %v", said(got), err)
	}
}

func TestLinkFaults(t *testing.T) {
	const output = `	linux-vdso.so.1 (0x00007ffc)
	libtide.so.1 => not found
	libc.so.6 => /lib/x86_64-linux-gnu/libc.so.6 (0x00007f)
./tide: /lib/libc.so.6: version ` + "`GLIBC_9.9'" + ` not found (required by ./tide)
undefined symbol: tide_high	(./tide)
`
	for _, c := range []struct {
		p    program
		want int
	}{{program{}, 3}, {program{library: true, linked: true}, 3}, {program{library: true}, 2}} {
		if got := linkFaults(output, c.p); len(got) != c.want {
			t.Errorf("%+v: %q", c.p, got)
		}
	}
	if got := linkFaults("sh: not found\n"+broken+"\n", program{}); len(got) != 1 || !strings.Contains(got[0], "sh: not found") {
		t.Errorf("of one that the linker gives up: %q", got)
	}
	if got := linkFaults("undefined symbol: host\n"+broken+"\n", program{library: true}); got != nil {
		t.Errorf("of a plug-in: %q", got)
	}
	if got := linkFaults("	libc.so.6 => /lib/libc.so.6 (0x00007f)\n", program{}); got != nil {
		t.Errorf("without a fault: %q", got)
	}
}

// tracer answers for some of the programs that a script traces, as if others had taken
// all the room.
type tracer struct{ runs int }

func (tr *tracer) Run(_ context.Context, script string, _ time.Duration) (Result, error) {
	tr.runs++
	n := strings.Count(script, "LD_TRACE_LOADED_OBJECTS=1")
	var out strings.Builder
	for i := range n {
		if n > 1 && i == 0 {
			continue // lost
		}
		fmt.Fprintf(&out, "\n== %d\n", i)
		if strings.Contains(script, "/usr/bin/p2 ") && n == 1 {
			out.WriteString("libtide.so.1 => not found\n")
		}
	}
	return Result{Output: out.String()}, nil
}

// Each of many programs is traced, also if the output of one run has not room for all.
func TestManyPrograms(t *testing.T) {
	data, err := os.ReadFile(testtool.Find(t, "sh")) // a program that the dynamic linker loads
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{}
	var paths []string
	for n := range 2*atOnce + 3 {
		p := fmt.Sprintf("/usr/bin/p%d", n)
		files[p[1:]] = string(data)
		paths = append(paths, p)
	}
	for _, i := range interpreters {
		files[i[1:]] = ""
	}
	run := &tracer{}
	c := checker(t, run, files)
	got, err := c.libraries(t.Context(), subject(Settings{}, nil, paths...))
	if err != nil || len(got) != len(paths) {
		t.Fatalf("%d checks, %v", len(got), err)
	}
	for i, check := range got {
		if check.Subject != paths[i] || check.State != Passed {
			t.Errorf("%s: %s %s", check.Subject, check.State, check.Message)
		}
	}
	if run.runs != 6 {
		t.Errorf("%d runs", run.runs)
	}
	os.Remove(filepath.Join(c.Tree.Name(), interpreters[0]))
	got, err = c.libraries(t.Context(), subject(Settings{}, nil, paths[0]))
	if err != nil || len(got) != 1 || runtime.GOARCH == "amd64" && got[0].State != Failed {
		t.Errorf("without its dynamic linker: %+v, %v", got, err)
	}
}

// What a script put in the place of a file is not waited for.
func TestPipes(t *testing.T) {
	c := checker(t, answers{}, map[string]string{"usr/bin/other": "x"})
	for _, p := range []string{"usr/bin/tide", "usr/tide.service"} {
		if err := unix.Mkfifo(filepath.Join(c.Tree.Name(), p), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if _, ok := c.program("/usr/bin/tide"); ok {
		t.Error("a pipe is a program")
	}
	if data := c.read("/usr/tide.service"); data != nil {
		t.Errorf("a pipe has %q", data)
	}
	if err := os.Symlink("/dev/zero", filepath.Join(c.Tree.Name(), "usr/zero")); err != nil {
		t.Fatal(err)
	}
	if data := c.read("/usr/zero"); data != nil {
		t.Errorf("a link out of the root has %d bytes", len(data))
	}
}

func TestJUnit(t *testing.T) {
	data, err := JUnit([]Check{
		{Package: "tide", Name: Install, State: Passed, Message: "with 1 package", Time: time.Second},
		{Package: "tide", Name: Command, Subject: "tide", State: Failed, Message: "it crashes", Output: "ebb < flood", Remedy: "fix it"},
		{Package: "ebb", Name: Upgrade, State: Skipped, Message: "nothing is published"},
	})
	if err != nil {
		t.Fatal(err)
	}
	var all junit.Report
	if err := xml.Unmarshal(data, &all); err != nil {
		t.Fatal(err)
	}
	if all.Tests != 3 || all.Failures != 1 || len(all.Suites) != 2 || all.Suites[1].Skipped != 1 || all.Suites[0].Time != "1.000" {
		t.Errorf("%+v", all)
	}
	if f := all.Suites[0].Cases[1].Failure; f == nil || f.Text != "ebb < flood\nfix it" || f.Message != "it crashes" {
		t.Errorf("the failure is %+v", f)
	}
}
