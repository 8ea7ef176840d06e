package cli

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/cobra"
)

// rounds is how often each command is interrupted at a random moment.
var rounds = flag.Int("rounds", 3, "how often each command gets a signal at a random moment")

// hangs is after which time a command counts as hanging: minutes, so that no
// slow machine does.
const hangs = 2 * time.Minute

// interruptions are a command line for each command. They run in a workspace
// that the demo made.
var interruptions = map[string][]string{
	"init": {"init", "another"}, "draft": {"draft", "upstream/buoy-codec-3.2.tar.gz", "--name", "codec"}, "fetch": {"fetch"}, "sources": {"sources"}, "sources verify": {"sources", "verify"}, "sources clear": {"sources", "clear"},
	"bump": {"bump", "libharmonic", "--release", "-m", "Built again"}, "export": {"export", "tidegauge", "--out", "."}, "import": {"import", "nothing.recipe.ell"}, "schema": {"schema"},
	"needs": {"needs", "tidegauge"}, "plan": {"plan"}, "build": {"build", "libharmonic", "tidegauge", "--from", "build"}, "log": {"log"}, "clean": {"clean", "foghorn"},
	"show": {"show", "tidegauge"}, "extract": {"extract", "tidegauge", "--into", "out"}, "compare": {"compare", "tidegauge", "libharmonic"}, "lint": {"lint", "--all"}, "explain": {"explain"},
	"order": {"order", "1.0", "2.0"}, "publish": {"publish", "--all", "--to", "local"}, "list": {"list", "local"}, "search": {"search", "tide"}, "sync": {"sync"}, "audit": {"audit", "local"},
	"promote": {"promote", "local", "testing", "stable"}, "retire": {"retire", "local", "foghorn"}, "history": {"history", "local"}, "rewind": {"rewind", "local", "1"}, "verify": {"verify", "local"},
	"prune": {"prune", "local", "--keep", "3"}, "index": {"index", "repository"}, "serve": {"serve", "repository", "--listen", "127.0.0.1:0"}, "demo": {"demo", "again"},
	"trial": {"trial", "tidegauge"}, "root create": {"root", "create", "another-root"}, "root install": {"root", "install", "station", "tidegauge", "tide-almanac"}, "root upgrade": {"root", "upgrade", "station"},
	"root remove": {"root", "remove", "station", "tidegauge", "--with-dependents"}, "root list": {"root", "list", "station"}, "root owner": {"root", "owner", "station", "/usr/bin/tidegauge"},
	"root verify": {"root", "verify", "station"}, "root config": {"root", "config", "station"}, "root choose": {"root", "choose", "station"}, "root history": {"root", "history", "station"}, "root rewind": {"root", "rewind", "station", "1"},
	"root run": {"root", "run", "station", "--", "sh", "-c", "sleep 5"}, "root finish": {"root", "finish", "station"},
	"image": {"image", "harbour", "--update", "--twice"}, "image list": {"image", "list"},
	"bom":        {"bom", "harbour"},
	"completion": {"completion", "bash"}, "help": {"help", "build"},
}

// Every command ends when it is interrupted, wherever it is, and leaves
// nothing that the next one stumbles over.
func TestSignals(t *testing.T) {
	commands := map[string]bool{}
	root := (&program{}).root(os.Stdout, os.Stderr)
	root.InitDefaultCompletionCmd()
	root.InitDefaultHelpCmd()
	each(root, func(c *cobra.Command) {
		if !c.HasSubCommands() || c.Name() == "completion" || c.Name() == "image" {
			commands[strings.TrimPrefix(c.CommandPath(), "ellwand ")] = true
		}
	})
	for name := range commands {
		if interruptions[name] == nil {
			t.Errorf("%s is not interrupted", name)
		}
	}
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	work := filepath.Join(dir, "salt")
	run := func(args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), args...)
		cmd.Dir, cmd.Env = work, environment(dir)
		return cmd
	}
	demo := run("demo", work)
	demo.Dir = dir
	if out, err := demo.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range interruptions {
			if !yield(name) {
				return
			}
		}
	}) {
		for n := range *rounds {
			cmd := run(interruptions[name]...)
			var out strings.Builder
			cmd.Stdout, cmd.Stderr = &out, &out
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			signals := []os.Signal{syscall.SIGINT, syscall.SIGTERM}
			time.Sleep(time.Duration(rand.Int64N(int64(400 * time.Millisecond))))
			cmd.Process.Signal(signals[n%2])
			if n%3 == 2 { // a second one at once
				cmd.Process.Signal(signals[n%2])
			}
			timer := time.AfterFunc(hangs, func() { cmd.Process.Signal(syscall.SIGQUIT) })
			cmd.Wait()
			if !timer.Stop() {
				t.Fatalf("%s hangs after a signal:\n%s", name, out.String())
			}
			// A signal before the program listens ends it too.
			ws, _ := cmd.ProcessState.Sys().(syscall.WaitStatus)
			if code := cmd.ProcessState.ExitCode(); code > statusMachine && code != statusInterrupted || code < 0 && !ws.Signaled() || strings.Contains(out.String(), "panic") {
				t.Errorf("%s: %v\n%s", name, cmd.ProcessState, out.String())
			}
		}
	}
	for _, args := range [][]string{{"verify", "local"}, {"build", "--all", "--no-lint"}, {"publish", "--all", "--to", "local"}, {"audit", "local"}, {"root", "finish", "station"}, {"root", "verify", "station"}} {
		out, err := run(args...).CombinedOutput()
		if err != nil && !strings.Contains(string(out), "foghorn") && args[0] != "publish" {
			t.Errorf("afterwards, %v: %v\n%s", args, err, out)
		}
	}
}

// each calls f for the commands of a command, and for theirs.
func each(c *cobra.Command, f func(*cobra.Command)) {
	for _, sub := range c.Commands() {
		f(sub)
		if sub.Name() != "completion" {
			each(sub, f)
		}
	}
}

// A build whose processes are stopped and continued at random moments, as a
// busy machine or somebody's Ctrl-Z may do it, waits and ends well: nothing
// between the program and its half in the sandbox depends on who is first.
func TestStopped(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	for name, text := range map[string]string{
		"ellwand.toml":             "name = \"test\"\n",
		"recipes/tide/recipe.toml": "format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\narch = \"independent\"\nsummary = \"Tides\"\nlicense = \"MIT\"\n[steps]\nprepare = 'seq 1 2000'\nbuild = 'sleep 0.1; seq 1 2000'\nstage = 'mkdir -p \"$DESTDIR/usr/share\" && seq 1 2000 | tee \"$DESTDIR/usr/share/tide\"'\n[[rewrite]]\nafter = \"stage\"\npath = \"/usr/share/tide\"\nfind = \"1999\"\nreplace = \"x\"\n",
	} {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for n := range 4 * *rounds {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), "build", "tide", "--again", "--no-lint")
		var out strings.Builder
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, environment(dir), &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		hang := time.After(hangs)
		for ended := false; !ended; {
			pids := append(childrenOf(cmd.Process.Pid), fmt.Sprint(cmd.Process.Pid))
			pid, _ := strconv.Atoi(pids[rand.IntN(len(pids))])
			syscall.Kill(pid, syscall.SIGSTOP)
			time.Sleep(time.Duration(rand.Int64N(int64(30 * time.Millisecond))))
			syscall.Kill(pid, syscall.SIGCONT)
			select {
			case err := <-done:
				ended = true
				if err != nil {
					t.Errorf("build %d: %v\n%s", n, err, out.String())
				}
			case <-hang:
				cmd.Process.Signal(syscall.SIGQUIT)
				t.Fatalf("build %d hangs:\n%s", n, out.String())
			default:
			}
		}
	}
}
