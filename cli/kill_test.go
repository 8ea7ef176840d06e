package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/staging"
)

// kills is how often changes of a repository are killed at a random moment.
var kills = flag.Int("kills", 180, "how many changes of a repository are killed")

// TestKilledChanges kills publishes, promotions and prunes without warning.
// After each, the repository reads whole: it holds what was published before,
// every file that it names has its digest, and the next change works.
func TestKilledChanges(t *testing.T) {
	dir := t.TempDir()
	root := filepath.Join(dir, "repository")
	made := 0
	actions := []struct {
		name string
		args func() []string
	}{
		{"publish", func() []string {
			made++
			return []string{"publish", samplePackage(t, dir, made), "--to", root, "--new"}
		}},
		{"promote", func() []string { return []string{"promote", root, "testing", "stable"} }},
		{"prune", func() []string { return []string{"prune", root, "--keep", "2", "--days", "0"} }},
	}
	run := func(args []string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), args...)
		cmd.Dir, cmd.Env = dir, environment(dir)
		return cmd
	}
	usual := make([]time.Duration, len(actions))
	for range 3 {
		for i, action := range actions {
			cmd := run(action.args())
			began := time.Now()
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%s: %v\n%s", action.name, err, out)
			}
			usual[i] = max(usual[i], time.Since(began))
		}
	}
	killed, halfway, published := 0, 0, wholeRepository(t, root)
	for n := 0; killed < *kills && n < 4**kills; n++ {
		i := n % len(actions)
		cmd := run(actions[i].args())
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.Int64N(int64(usual[i]))))
		cmd.Process.Kill()
		cmd.Wait()
		if ws, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			killed++
		}
		if left, _ := filepath.Glob(filepath.Join(root, ".incoming", "*")); len(left) > 1 {
			halfway++
		}
		now := wholeRepository(t, root)
		if now != published && (actions[i].name != "publish" || now != published+1) {
			t.Fatalf("kill %d, of a %s: the repository holds %d packages, and held %d before", n, actions[i].name, now, published)
		}
		published = now
	}
	t.Logf("%d changes were killed, %d of them while they wrote a file; %d packages are published", killed, halfway, published)
	if killed < *kills {
		t.Errorf("only %d changes were killed before their end", killed)
	}
	for _, action := range actions {
		if out, err := run(action.args()).CombinedOutput(); err != nil {
			t.Errorf("the next %s: %v\n%s", action.name, err, out)
		}
	}
}

func samplePackage(t *testing.T, dir string, i int) string {
	t.Helper()
	file := filepath.Join(dir, "file")
	data := make([]byte, 200_000)
	for j := range data {
		data[j] = byte(rand.UintN(256))
	}
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("tide-%d", i)
	w, err := ell.Write(context.Background(), filepath.Join(dir, "packages"), ell.Spec{
		Facts:  ell.Facts{Name: name, Version: "1", Release: 1, Arch: "independent", Target: "t", Summary: "Tides", License: "MIT", Recipe: name},
		Claims: []staging.Claim{{Path: staging.Path{Path: "/usr/share/" + name, Type: staging.File, Mode: 0o644, Disk: file}, Owner: "root", Group: "root"}},
	}, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

// wholeRepository reads all of a repository and returns how many packages its
// channel testing holds.
func wholeRepository(t *testing.T, root string) int {
	t.Helper()
	r := repo.Open(root)
	v, err := r.Verify(t.Context(), progress.None)
	if err != nil || len(v.Damaged) > 0 {
		t.Fatalf("%+v, %v", v.Damaged, err)
	}
	if _, err := r.List(t.Context(), "stable"); err != nil {
		t.Fatal(err)
	}
	n, err := r.Count(t.Context(), "testing")
	if err != nil {
		t.Fatal(err)
	}
	hits, err := r.Search(t.Context(), "testing", "/usr/share/")
	if err != nil || len(hits) != n {
		t.Fatalf("%d packages, and %d with their paths, %v", n, len(hits), err)
	}
	return n
}

// TestPublishersAndReaders has eight processes publish fifty packages each,
// one by one, to one repository, while eight readers poll it over HTTP. No
// reader ever finds a file missing or damaged, and nothing is lost.
func TestPublishersAndReaders(t *testing.T) {
	const publishers, each, readers = 8, 50, 8
	dir := t.TempDir()
	root := filepath.Join(dir, "repository")
	publish := func(file string) error {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), "publish", file, "--to", root, "--new")
		cmd.Dir, cmd.Env = dir, environment(dir)
		out, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
		return err
	}
	var files []string
	for i := range publishers*each + 1 {
		files = append(files, samplePackage(t, dir, i))
	}
	if err := publish(files[publishers*each]); err != nil {
		t.Fatal(err)
	}
	files = files[:publishers*each]
	serve := exec.Command(filepath.Join(programDir, "ellwand"), "serve", root, "--listen", "127.0.0.1:0", "--json")
	serve.Dir, serve.Env = dir, environment(dir)
	out, err := serve.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		serve.Process.Signal(os.Interrupt)
		if err := serve.Wait(); err != nil {
			t.Errorf("the server: %v", err)
		}
	}()
	var at struct{ Address string }
	if err := json.NewDecoder(out).Decode(&at); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	var reading, publishing sync.WaitGroup
	var polls atomic.Int64
	for i := range readers {
		cache := filepath.Join(dir, fmt.Sprint("cache", i))
		reading.Go(func() {
			before := 0
			for {
				r, err := repo.OpenAt(strings.TrimSuffix(at.Address, "/"), cache)
				if err != nil {
					t.Error(err)
					return
				}
				if _, err := r.Sync(t.Context(), "testing", true, progress.None); err != nil {
					t.Errorf("a reader: %v", err)
					return
				}
				n, err := r.Count(t.Context(), "testing")
				if err != nil || n < before {
					t.Errorf("a reader: %d packages after %d, %v", n, before, err)
					return
				}
				before = n
				polls.Add(1)
				select {
				case <-done:
					return
				case <-time.After(20 * time.Millisecond):
				}
			}
		})
	}
	for p := range publishers {
		publishing.Go(func() {
			for _, file := range files[p*each:][:each] {
				if err := publish(file); err != nil {
					t.Errorf("publisher %d: %v", p, err)
				}
			}
		})
	}
	publishing.Wait()
	close(done)
	reading.Wait()
	t.Logf("%d packages published by %d processes while %d readers polled %d times", publishers*each, publishers, readers, polls.Load())
	r := repo.Open(root)
	if n, err := r.Count(t.Context(), "testing"); err != nil || n != publishers*each+1 {
		t.Errorf("%d packages of %d, %v", n, publishers*each+1, err)
	}
	if v, err := r.Verify(t.Context(), progress.None); err != nil || len(v.Damaged) > 0 || v.Packages != publishers*each+1 {
		t.Errorf("%+v, %v", v.Damaged, err)
	}
}

// TestInterruptedBuild presses Ctrl-C in the middle of a step: nothing of the
// step runs on, and the next build works.
func TestInterruptedBuild(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"ellwand.toml": "name = \"test\"\n",
		"recipes/tide/recipe.toml": "format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\narch = \"independent\"\nsummary = \"Tides\"\nlicense = \"MIT\"\n[steps]\n" +
			"build = '''\nif test -e \"$ELL_RECIPE/wait\"; then echo waiting; sleep 3210 & wait; fi\n'''\nstage = 'mkdir -p \"$DESTDIR/usr/share/tide\"'\n",
		"recipes/tide/wait": "",
	} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	build := exec.Command(filepath.Join(programDir, "ellwand"), "build", "tide")
	build.Dir, build.Env = dir, environment(dir)
	var stderr strings.Builder
	build.Stderr = &stderr
	if err := build.Start(); err != nil {
		t.Fatal(err)
	}
	for range 200 {
		if log, _ := filepath.Glob(filepath.Join(dir, ".ellwand/logs/tide/*/build.log")); len(log) == 1 {
			if text, _ := os.ReadFile(log[0]); len(text) > 0 {
				break
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	again := exec.Command(filepath.Join(programDir, "ellwand"), "build", "tide")
	again.Dir, again.Env = dir, environment(dir)
	if out, err := again.CombinedOutput(); again.ProcessState.ExitCode() != statusMachine || !strings.Contains(string(out), "another process is building this recipe") {
		t.Errorf("two builds at once: %v\n%s", err, out)
	}
	build.Process.Signal(os.Interrupt)
	build.Wait()
	if code := build.ProcessState.ExitCode(); code != statusInterrupted || !strings.Contains(stderr.String(), "interrupted") {
		t.Errorf("status %d: %s", code, stderr.String())
	}
	processes, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range processes {
		if line, err := os.ReadFile(p); err == nil && strings.HasPrefix(string(line), "sleep\x003210") {
			t.Errorf("%s runs on", p)
		}
	}
	os.Remove(filepath.Join(dir, "recipes/tide/wait"))
	last := exec.Command(filepath.Join(programDir, "ellwand"), "build", "tide")
	last.Dir, last.Env = dir, environment(dir)
	if out, err := last.CombinedOutput(); err != nil || !strings.Contains(string(out), "tide 1-1  built") {
		t.Errorf("the next build: %v\n%s", err, out)
	}
}

// TestKilledBuild kills builds without warning, until one gets through: each
// next one works, gives the same bytes, and clears away what was left.
func TestKilledBuild(t *testing.T) {
	dir := t.TempDir()
	source := filepath.Join(dir, "recipes/tide/data")
	os.MkdirAll(filepath.Dir(source), 0o755)
	os.WriteFile(filepath.Join(dir, "ellwand.toml"), []byte("name = \"test\"\n"), 0o644)
	os.WriteFile(source, []byte(strings.Repeat("tide and ebb ", 200_000)), 0o644)
	os.WriteFile(filepath.Join(dir, "recipes/tide/recipe.toml"), []byte("format = 1\nname = \"tide\"\nversion = \"1\"\nrelease = 1\narch = \"independent\"\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\nfile = \"data\"\n[steps]\nbuild = 'sleep 0.05'\nstage = '''\nmkdir -p \"$DESTDIR/usr/share\"\nfor i in 1 2 3 4; do cp data \"$DESTDIR/usr/share/$i\"; done\n'''\n"), 0o644)
	build := func(from string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), "build", "tide", "--from", from)
		cmd.Dir, cmd.Env = dir, environment(dir)
		return cmd
	}
	began := time.Now()
	if out, err := build("unpack").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	usual := time.Since(began)
	found, err := filepath.Glob(filepath.Join(dir, "packages/*/tide@1-1.ell"))
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	file := found[0]
	first, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	inside := 0
	for i := range buildKills {
		cmd := build([]string{"unpack", "build", "stage"}[i%3])
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.Int64N(int64(usual))))
		children := childrenOf(cmd.Process.Pid)
		cmd.Process.Kill()
		cmd.Wait()
		inside += len(children)
		for _, pid := range children {
			if !gone(pid) {
				t.Fatalf("kill %d: process %s runs on", i, pid)
			}
		}
		if now, err := os.ReadFile(file); err != nil || string(now) != string(first) {
			t.Fatalf("the package is not whole after a kill: %d bytes, %v", len(now), err)
		}
	}
	t.Logf("%d builds were killed, %d of them with a sandbox at work", buildKills, inside)
	if mounts, err := os.ReadFile("/proc/self/mountinfo"); err != nil || strings.Contains(string(mounts), dir) {
		t.Errorf("something is still mounted: %v", err)
	}
	if out, err := build("stage").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if now, err := os.ReadFile(file); err != nil || string(now) != string(first) {
		t.Errorf("the next build gives other bytes: %v", err)
	}
	for _, place := range []string{"packages", filepath.Join("packages", filepath.Base(filepath.Dir(file))), ".ellwand/build/tide", ".ellwand/layers/tide"} {
		entries, _ := os.ReadDir(filepath.Join(dir, place))
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") || e.Name() == "under-way" {
				t.Errorf("%s/%s is left behind", place, e.Name())
			}
		}
	}
}

// buildKills is how often a build is killed at a random moment.
const buildKills = 300

func childrenOf(pid int) []string {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	var out []string
	for _, list := range lists {
		data, _ := os.ReadFile(list)
		out = append(out, strings.Fields(string(data))...)
	}
	return out
}

// gone waits for a process to end.
func gone(pid string) bool {
	for range 200 {
		state, err := os.ReadFile("/proc/" + pid + "/stat")
		if err != nil || strings.Contains(string(state), ") Z ") {
			return true
		}
		time.Sleep(10 * time.Millisecond)
	}
	return false
}
