package root

import (
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

const (
	tide1 = `/usr/bin/tide (0755) = one
		/usr/share/tide/
		/usr/share/tide/old = x
		/usr/share/tide/same = s
		/usr/bin/ebb -> tide`
	tide2 = `/usr/bin/tide (0755) = two
		/usr/share/tide/
		/usr/share/tide/new file = y
		/usr/share/tide/same = s
		/usr/bin/ebb -> tide`
)

func TestInstallUpgradeRemove(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	p := must(t, r, Request{Action: "install", Install: []Incoming{b.pkg(t, "tide", "1.0", tide1)}})
	if p.Written != 4 || p.Removed != 0 {
		t.Errorf("%d written, %d removed", p.Written, p.Removed)
	}
	if got := filesOf(t, r); got != "/usr/bin/ebb -> tide; /usr/bin/tide 0755 one; /usr/share/tide/old 0644 x; /usr/share/tide/same 0644 s" {
		t.Errorf("installed: %s", got)
	}
	verified(t, r)
	p = must(t, r, Request{Action: "upgrade", Install: []Incoming{b.pkg(t, "tide", "2.0", tide2)}})
	if p.Written != 2 || p.Removed != 1 { // what is the same is not written again
		t.Errorf("%d written, %d removed", p.Written, p.Removed)
	}
	if got := filesOf(t, r); got != "/usr/bin/ebb -> tide; /usr/bin/tide 0755 two; /usr/share/tide/new file 0644 y; /usr/share/tide/same 0644 s" {
		t.Errorf("upgraded: %s", got)
	}
	verified(t, r)
	for path, want := range map[string]string{"/usr/bin/tide": "tide", "/usr/share/tide": "tide", "/usr/share/tide/new file": "tide", "/usr/share/tide/old": "", "/usr": ""} {
		if got, err := r.Owner(path); err != nil || strings.Join(got, " ") != want {
			t.Errorf("%s belongs to %q, %v, want %q", path, got, err, want)
		}
	}
	must(t, r, Request{Action: "remove", Remove: []string{"tide"}})
	if got := filesOf(t, r); got != "" {
		t.Errorf("removed: %s", got)
	}
	if _, there := tree(t, r)["/usr/share/tide"]; there {
		t.Error("its directory is still there")
	}
	history, err := r.History(10)
	if err != nil || len(history) != 3 || history[0].Action != "remove" || history[2].Serial != 1 || history[1].Changes[0].To.Version != "2.0" {
		t.Errorf("history: %+v, %v", history, err)
	}
	if _, err := r.Entry(9); err == nil || fact.StatusOf(err) != fact.StatusInput {
		t.Errorf("an entry that is not there: %v", err)
	}
}

// The same packages give the same state, however a root came to have them.
func TestStateIsDeterministic(t *testing.T) {
	b, one, two := newBuilder(t), newRoot(t), newRoot(t)
	tide, ebb := b.pkg(t, "tide", "2.0", tide2), b.pkg(t, "ebb", "1", "/usr/share/ebb/ = \n/usr/share/doc/x = 1")
	must(t, one, Request{Install: []Incoming{tide, ebb}})
	must(t, two, Request{Install: []Incoming{ebb}})
	must(t, two, Request{Install: []Incoming{b.pkg(t, "tide", "1.0", tide1)}})
	must(t, two, Request{Install: []Incoming{tide}})
	state := func(r *Root) map[string]string {
		out := map[string]string{}
		for _, name := range []string{stateFile, objectsDir} {
			filepath.Walk(r.where(name), func(p string, info os.FileInfo, err error) error {
				if err == nil && !info.IsDir() {
					data, _ := os.ReadFile(p)
					out[strings.TrimPrefix(p, r.Dir)] = string(data)
				}
				return err
			})
		}
		return out
	}
	a, z := state(one), state(two)
	if !maps.Equal(a, z) {
		t.Errorf("%v\nand %v", slices.Sorted(maps.Keys(a)), slices.Sorted(maps.Keys(z)))
	}
}

func TestConfiguration(t *testing.T) {
	version := func(text string) string { return "config:/etc/tide.conf = " + text }
	const first, second = `port = 1\nname = quay\nfeet = no\nlog = yes\n`, `port = 2\nname = quay\nfeet = no\nlog = yes\n`
	line := func(s string) string { return strings.ReplaceAll(s, `\n`, "\n") }
	for _, c := range []struct {
		title    string
		from, to string // the defaults
		edited   string // "" for not edited, "-" for deleted
		want     string // "-" if it is not there
		outcome  Outcome
		beside   string
	}{
		{"not edited", first, second, "", second, "", ""},
		{"not edited, the same default", first, first, "", first, "", ""},
		{"edited, the same default", first, first, "port = 9\n", "port = 9\n", ConfigKept, ""},
		{"edited, and merged", first, second, `port = 1\nname = quay\nfeet = no\nlog = no\n`, `port = 2\nname = quay\nfeet = no\nlog = no\n`, ConfigMerged, ""},
		{"edited on the same line", first, second, `port = 9\nname = quay\nfeet = no\nlog = yes\n`, `port = 9\nname = quay\nfeet = no\nlog = yes\n`, ConfigConflict, second},
		{"edited to the new default", first, second, second, second, "", ""},
		{"deleted", first, second, "-", "-", ConfigDeleted, ""},
		{"binary", "a\x00b", "a\x00c", "a\x00d", "a\x00d", ConfigConflict, "a\x00c"},
	} {
		t.Run(c.title, func(t *testing.T) {
			b, r := newBuilder(t), newRoot(t)
			must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", version(c.from))}})
			switch c.edited {
			case "":
			case "-":
				if err := os.Remove(filepath.Join(r.Dir, "etc/tide.conf")); err != nil {
					t.Fatal(err)
				}
			default:
				edit(t, r, "etc/tide.conf", line(c.edited))
			}
			p := must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", version(c.to))}})
			var outcome Outcome
			if len(p.Config) > 0 {
				outcome = p.Config[0].Outcome
			}
			got := tree(t, r)
			if outcome != c.outcome || got["/etc/tide.conf"] != map[bool]string{true: "", false: "0644 " + line(c.want)}[c.want == "-"] {
				t.Errorf("%q, and the file is %q", outcome, got["/etc/tide.conf"])
			}
			if beside := strings.TrimPrefix(got["/etc/tide.conf"+DefaultSuffix], "0644 "); beside != line(c.beside) {
				t.Errorf("beside it is %q", beside)
			}
			states, err := r.Config(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if want := outcome != "" && outcome != ConfigMerged || c.outcome == ConfigMerged; (len(states) == 1) != want {
				t.Errorf("listed: %+v", states)
			}
		})
	}
}

// An edited file stays when its package goes, and counts as edited when it comes back.
func TestConfigurationSurvivesRemoval(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	tide := b.pkg(t, "tide", "1", "config:/etc/tide/a = 1\nconfig:/etc/tide/b = 1\nstate:/var/lib/tide/ = \nstate:/var/lib/tide/data = x\ncache:/var/cache/tide/")
	must(t, r, Request{Install: []Incoming{tide}})
	edit(t, r, "etc/tide/a", "mine")
	edit(t, r, "var/cache/tide/x/y", "made by the program")
	edit(t, r, "var/lib/tide/data", "written by the program")
	p := must(t, r, Request{Remove: []string{"tide"}})
	if len(p.Config) != 1 || p.Config[0].Outcome != ConfigLeft {
		t.Errorf("%+v", p.Config)
	}
	if got := filesOf(t, r); got != "/etc/tide/a 0644 mine; /var/lib/tide/data 0644 written by the program" {
		t.Errorf("left: %s", got)
	}
	p = must(t, r, Request{Install: []Incoming{tide}})
	if got := filesOf(t, r); got != "/etc/tide/a 0644 mine; /etc/tide/b 0644 1; /var/lib/tide/data 0644 written by the program" || len(p.Config) != 1 || p.Config[0].Outcome != ConfigKept {
		t.Errorf("back: %s, %+v", got, p.Config)
	}
	verified(t, r)
}

func TestResolveConfig(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", "config:/etc/a = 1\nconfig:/etc/b = 1")}})
	edit(t, r, "etc/a", "mine")
	edit(t, r, "etc/b", "mine")
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", "config:/etc/a = 2\nconfig:/etc/b = 2")}})
	standard, current, missing, err := r.ConfigTexts(t.Context(), "/etc/a")
	if err != nil || missing || string(standard) != "2" || string(current) != "mine" {
		t.Errorf("%q, %q, %v, %v", standard, current, missing, err)
	}
	for p, how := range map[string]Resolution{"/etc/a": ResolveMine, "/etc/b": ResolveDefault} {
		if err := r.ResolveConfig(t.Context(), p, how); err != nil {
			t.Fatal(err)
		}
	}
	if got := filesOf(t, r); got != "/etc/a 0644 mine; /etc/b 0644 2" {
		t.Errorf("resolved: %s", got)
	}
	if err := r.ResolveConfig(t.Context(), "/etc/c", ResolveMine); err == nil {
		t.Error("what no package has can be resolved")
	}
}

func TestProblems(t *testing.T) {
	b := newBuilder(t)
	for _, c := range []struct {
		title  string
		before string            // of the package there, installed already
		disk   map[string]string // "/" at the end of a name is a directory
		files  string            // of the package tide
		adopt  []string
		want   string // part of the only problem, or nothing
	}{
		{"nothing in the way", "", nil, tide1, nil, ""},
		{"a file of another package", "/usr/bin/tide = x", nil, tide1, nil, "/usr/bin/tide: it belongs to there, which is installed"},
		{"a directory of another package", "/usr/share/tide/\n/usr/share/tide/mine = 1", nil, tide1, nil, ""},
		{"a file nobody owns", "", map[string]string{"usr/bin/tide": "mine"}, tide1, nil, "no package owns it"},
		{"a file nobody owns, adopted", "", map[string]string{"usr/bin/tide": "mine"}, tide1, []string{"/usr/bin/tide"}, ""},
		{"a file nobody owns, the same", "", map[string]string{"usr/bin/tide": "one"}, tide1, nil, ""},
		{"a directory where a file must be", "", map[string]string{"usr/bin/tide/x": ""}, tide1, nil, "a directory is where a file must be"},
		{"a file where a directory must be", "", map[string]string{"usr/share/tide": ""}, tide1, nil, "a file that no package owns is where a directory must be"},
		{"a file above a file", "/usr/share = x", nil, "/usr/share/x = 1", nil, "/usr/share, a file of there"},
		{"a path of Ellwand's own", "", nil, "/var/lib/ellwand/state.json = {}", nil, "it is among what Ellwand records"},
	} {
		t.Run(c.title, func(t *testing.T) {
			r := newRoot(t)
			for name, text := range c.disk {
				if dir, ok := strings.CutSuffix(name, "/"); ok {
					if err := os.MkdirAll(filepath.Join(r.Dir, dir), 0o755); err != nil {
						t.Fatal(err)
					}
					continue
				}
				edit(t, r, name, text)
			}
			if c.before != "" {
				must(t, r, Request{Install: []Incoming{b.pkg(t, "there", "1", c.before)}})
			}
			before := tree(t, r)
			_, _, err := change(t, r, nil, Request{Install: []Incoming{b.pkg(t, "tide", "1", c.files)}, Adopt: c.adopt})
			var unfit *UnfitError
			switch {
			case c.want == "":
				if err != nil {
					t.Fatal(err)
				}
				verified(t, r)
			case !errors.As(err, &unfit) || !strings.Contains(unfit.Problems[0].String(), c.want):
				t.Errorf("%v, want %s", err, c.want)
			case !maps.Equal(tree(t, r), before):
				t.Error("something was changed nevertheless")
			}
		})
	}
	r := newRoot(t)
	both := []Incoming{b.pkg(t, "a", "1", "/usr/x = 1"), b.pkg(t, "b", "1", "/usr/x = 2")}
	if _, _, err := change(t, r, nil, Request{Install: both}); err == nil || !strings.Contains(err.Error(), "both a and b have it") {
		t.Errorf("two packages with one path: %v", err)
	}
	other := b.pkg(t, "arm", "1", "/usr/x = 1", func(s *ell.Spec) { s.Facts.Arch = "aarch64" })
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{other}}); err == nil || !strings.Contains(err.Error(), "it is for aarch64, and the root is for x86_64") {
		t.Errorf("a package of another architecture: %v", err)
	}
	if _, _, err := change(t, r, nil, Request{Remove: []string{"tide"}}); err == nil || !strings.Contains(err.Error(), "tide is not installed") {
		t.Errorf("what is not there is removed: %v", err)
	}
}

// A path may become one of another type in a new version.
func TestTypeChanges(t *testing.T) {
	b := newBuilder(t)
	for _, c := range []struct{ title, from, to, want string }{
		{"a file becomes a directory", "/usr/x = 1", "/usr/x/\n/usr/x/a = 2\n/usr/x/b/\n/usr/x/b/c = 3", "/usr/x/a 0644 2; /usr/x/b/c 0644 3"},
		{"a file becomes a directory without a line", "/usr/x = 1", "/usr/x/a = 2", "/usr/x/a 0644 2"},
		{"a directory becomes a file", "/usr/x/\n/usr/x/a = 2\n/usr/x/b/\n/usr/x/b/c = 3", "/usr/x = 1", "/usr/x 0644 1"},
		{"a link becomes a file", "/usr/x -> y\n/usr/y = 1", "/usr/x = 2\n/usr/y = 1", "/usr/x 0644 2; /usr/y 0644 1"},
		{"a file becomes a link", "/usr/x = 2\n/usr/y = 1", "/usr/x -> y\n/usr/y = 1", "/usr/x -> y; /usr/y 0644 1"},
		{"a directory becomes a link to another", "/usr/x/\n/usr/x/a = 1", "/usr/y/\n/usr/y/a = 1\n/usr/x -> y", "/usr/x -> y; /usr/y/a 0644 1"},
		{"a link becomes a directory", "/usr/y/\n/usr/y/a = 1\n/usr/x -> gone", "/usr/y/\n/usr/y/a = 1\n/usr/x/\n/usr/x/b = 2", "/usr/x/b 0644 2; /usr/y/a 0644 1"},
	} {
		t.Run(c.title, func(t *testing.T) {
			r := newRoot(t)
			must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", c.from)}})
			must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", c.to)}})
			if got := filesOf(t, r); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
			verified(t, r)
			must(t, r, Request{Remove: []string{"tide"}})
			if got := filesOf(t, r); got != "" {
				t.Errorf("left: %s", got)
			}
		})
	}
}

// Paths through symbolic links of the root are where the links lead, and never outside.
func TestLinksOfTheRoot(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	outside := t.TempDir()
	for link, to := range map[string]string{"bin": "usr/bin", "lib": "/usr/lib", "out": "../../../../../../../.." + outside, "abs": outside} {
		if err := os.Symlink(to, filepath.Join(r.Dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", "/bin/tide = 1\n/lib/tide.so = 2\n/out/x = 3\n/abs/y = 4")}})
	inside := strings.TrimPrefix(outside, "/")
	for name, want := range map[string]string{"usr/bin/tide": "1", "usr/lib/tide.so": "2", inside + "/x": "3", inside + "/y": "4"} {
		if got, err := os.ReadFile(filepath.Join(r.Dir, name)); err != nil || string(got) != want {
			t.Errorf("%s has %q, %v", name, got, err)
		}
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("outside of the root is %v", left)
	}
	verified(t, r)
	for _, p := range []string{"/bin/tide", "/usr/bin/tide"} {
		if got, err := r.Owner(p); err != nil || len(got) != 1 {
			t.Errorf("%s belongs to %v, %v", p, got, err)
		}
	}
	// The same path by two names is the same path.
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{b.pkg(t, "ebb", "1", "/usr/bin/tide = 1")}}); err == nil {
		t.Error("two packages have one file, by different paths")
	}
	must(t, r, Request{Remove: []string{"tide"}})
	if got := filesOf(t, r); strings.Contains(got, "tide") {
		t.Errorf("left: %s", got)
	}
	loop := newRoot(t)
	os.Symlink("b", filepath.Join(loop.Dir, "a"))
	os.Symlink("a", filepath.Join(loop.Dir, "b"))
	if _, _, err := change(t, loop, nil, Request{Install: []Incoming{b.pkg(t, "tide", "1", "/a/x = 1")}}); err == nil || !strings.Contains(err.Error(), "too many symbolic links") {
		t.Errorf("a loop of links: %v", err)
	}
}

func TestAccounts(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	edit(t, r, "etc/passwd", "root:x:0:0:root:/root:/bin/sh\n")
	edit(t, r, "etc/group", "root:x:0:") // without a line end
	edit(t, r, "etc/shadow", "root:!:::::::\n")
	account := func(s *ell.Spec) {
		s.Facts.Accounts = map[string]fact.Account{"tide": {Home: "/var/lib/tide", Summary: "Tides: high and low"}}
		s.Claims[0].Owner, s.Claims[0].Group = "tide", "tide"
	}
	tide := b.pkg(t, "tide", "1", "/usr/share/tide = 1", account)
	p := must(t, r, Request{Install: []Incoming{tide}})
	if !slices.Equal(p.Accounts, []string{"tide"}) {
		t.Errorf("accounts: %v", p.Accounts)
	}
	number := p.accounts.users["tide"]
	if number < firstAccount || number > lastAccount {
		t.Errorf("its number is %d", number)
	}
	got := tree(t, r)
	for name, want := range map[string]string{"passwd": ":Tides  high and low:/var/lib/tide:/usr/sbin/nologin\n", "group": "root:x:0:\ntide:x:", "shadow": "tide:!*:::::::\n"} {
		if !strings.Contains(got["/etc/"+name], want) {
			t.Errorf("%s has %q", name, got["/etc/"+name])
		}
	}
	if _, there := got["/etc/gshadow"]; there {
		t.Error("a file was created that was not there")
	}
	must(t, r, Request{Remove: []string{"tide"}})
	if !strings.Contains(tree(t, r)["/etc/passwd"], "tide:") {
		t.Error("the account was removed")
	}
	// Another root gives it the same number.
	other := newRoot(t)
	p = must(t, other, Request{Install: []Incoming{tide}})
	if p.accounts.users["tide"] != number {
		t.Errorf("%d here and %d there", number, p.accounts.users["tide"])
	}
	if os.Geteuid() == 0 {
		verified(t, other)
		stranger := b.pkg(t, "stranger", "1", "/usr/share/s = 1", func(s *ell.Spec) { s.Claims[0].Owner = "whoami" })
		if _, _, err := change(t, other, nil, Request{Install: []Incoming{stranger}}); err == nil || !strings.Contains(err.Error(), "has no user whoami") {
			t.Errorf("an owner that is unknown: %v", err)
		}
	}
}

func TestScriptCalls(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	all := scripted(map[string]string{preInstall: "true", postInstall: "true", preRemove: "true", postRemove: "true"})
	runner := &recorder{}
	do := func(q Request) {
		t.Helper()
		runner.ran = nil
		if _, _, err := change(t, r, runner, q); err != nil {
			t.Fatal(err)
		}
	}
	expect := func(want ...string) {
		t.Helper()
		if !slices.Equal(runner.ran, want) {
			t.Errorf("ran %q, want %q", runner.ran, want)
		}
	}
	do(Request{Install: []Incoming{b.pkg(t, "tide", "1", tide1, all)}})
	expect("tide pre-install ELLWAND_OLD_VERSION= ELLWAND_NEW_VERSION=1-1", "tide post-install ELLWAND_OLD_VERSION= ELLWAND_NEW_VERSION=1-1")
	do(Request{Install: []Incoming{b.pkg(t, "tide", "2", tide2, all)}})
	expect("tide pre-install ELLWAND_OLD_VERSION=1-1 ELLWAND_NEW_VERSION=2-1", "tide post-install ELLWAND_OLD_VERSION=1-1 ELLWAND_NEW_VERSION=2-1")
	do(Request{Remove: []string{"tide"}})
	expect("tide pre-remove ELLWAND_OLD_VERSION=2-1 ELLWAND_NEW_VERSION=", "tide post-remove ELLWAND_OLD_VERSION=2-1 ELLWAND_NEW_VERSION=")
}

func TestFailingScripts(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	before := tree(t, r)
	_, _, err := change(t, r, nil, Request{Install: []Incoming{b.pkg(t, "tide", "1", tide1, scripted(map[string]string{preInstall: "false"}))}})
	var failed *ScriptError
	if !errors.As(err, &failed) || !failed.Undone || failed.Call.Output != "no tide" || fact.StatusOf(err) != fact.StatusStep {
		t.Errorf("pre-install: %v", err)
	}
	if !maps.Equal(tree(t, r), before) {
		t.Errorf("something was changed: %v", tree(t, r))
	}
	// One that runs afterwards is recorded, and can be repeated.
	_, _, err = change(t, r, nil, Request{Install: []Incoming{b.pkg(t, "tide", "1", tide1, scripted(map[string]string{postInstall: "false"}))}})
	if !errors.As(err, &failed) || failed.Undone {
		t.Errorf("post-install: %v", err)
	}
	pending, err := r.Pending()
	if err != nil || len(pending) != 1 || pending[0].Output != "no tide" {
		t.Errorf("pending: %+v, %v", pending, err)
	}
	v, err := r.Verify(t.Context(), nil, func(string) bool { return true }, progress.None)
	if err != nil || v.Whole() || len(v.Deviations) > 0 {
		t.Errorf("verification: %+v, %v", v, err)
	}
	runner := &recorder{}
	tx, err := r.Begin(t.Context(), Options{Runner: runner, Progress: progress.None})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.RunPending(t.Context()); !errors.As(err, &failed) {
		t.Errorf("again: %v", err)
	}
	tx.Close()
	if len(runner.ran) != 1 || !strings.HasSuffix(runner.ran[0], EnvRepeated+"=1") {
		t.Errorf("ran %q", runner.ran)
	}
	// A version whose script succeeds settles it.
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", tide2, scripted(map[string]string{postInstall: "true"}))}})
	if pending, err := r.Pending(); err != nil || len(pending) != 0 {
		t.Errorf("still pending: %+v, %v", pending, err)
	}
}

// A package that turns out to be damaged while it is written leaves no trace.
func TestDamagedPackage(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	must(t, r, Request{Install: []Incoming{b.pkg(t, "ebb", "1", "/usr/share/ebb = 1\nconfig:/etc/ebb = 1")}})
	in := b.pkg(t, "tide", "1", "/usr/share/a/\n/usr/share/a/b = "+strings.Repeat("tide ", 5000)+"\n/usr/share/c = "+strings.Repeat("ebb ", 9000))
	data, err := os.ReadFile(in.Package.Path)
	if err != nil {
		t.Fatal(err)
	}
	for i := len(data) / 2; i < len(data)/2+40; i++ {
		data[i] ^= 0xff
	}
	file := filepath.Join(t.TempDir(), in.Package.Facts.FileName())
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	damaged, err := ell.Open(file)
	if err != nil {
		t.Skip("the damage is in the facts")
	}
	defer damaged.Close()
	before := tree(t, r)
	if _, _, err := change(t, r, nil, Request{Install: []Incoming{{Package: damaged, SHA256: in.SHA256}}}); err == nil {
		t.Error("a damaged package is installed")
	}
	if got := tree(t, r); !maps.Equal(got, before) {
		t.Errorf("left: %v", got)
	}
	verified(t, r)
	if s, err := r.State(); err != nil || len(s.Packages) != 1 {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestWithout(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	if err := r.UpdateSettings(t.Context(), func(s *Settings) { s.Without = []string{"documentation", "translation=de"} }); err != nil {
		t.Fatal(err)
	}
	again, err := Open(r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	must(t, again, Request{Install: []Incoming{b.pkg(t, "tide", "1", `/usr/bin/tide = 1
		documentation:/usr/share/doc/tide/
		documentation:/usr/share/doc/tide/x = 1
		translation:/usr/share/locale/de/LC_MESSAGES/tide.mo = 1
		translation:/usr/share/locale/fr/LC_MESSAGES/tide.mo = 1`)}})
	if got := filesOf(t, again); got != "/usr/bin/tide 0644 1; /usr/share/locale/fr/LC_MESSAGES/tide.mo 0644 1" {
		t.Errorf("installed: %s", got)
	}
	verified(t, again)
	for words, ok := range map[string]bool{"documentation": true, "translation": true, "translation=de": true, "config": false, "documentation=de": false, "translation=": false} {
		if err := CheckWithout([]string{words}); (err == nil) != ok {
			t.Errorf("%s: %v", words, err)
		}
	}
}

func TestVerify(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", `/usr/a = 1
		/usr/b = 1
		/usr/c = 1
		/usr/d -> a
		/usr/e (0755) = 1
		/usr/f/
		config:/etc/g = 1`)}})
	edit(t, r, "usr/a", "2")
	edit(t, r, "usr/b", "22")
	edit(t, r, "etc/g", "2")
	for _, change := range []func(string) error{
		func(dir string) error { return os.Remove(filepath.Join(dir, "usr/c")) },
		func(dir string) error {
			return errors.Join(os.Remove(filepath.Join(dir, "usr/d")), os.Symlink("b", filepath.Join(dir, "usr/d")))
		},
		func(dir string) error { return os.Chmod(filepath.Join(dir, "usr/e"), 0o777) },
		func(dir string) error {
			return errors.Join(os.Remove(filepath.Join(dir, "usr/f")), os.WriteFile(filepath.Join(dir, "usr/f"), nil, 0o644))
		},
	} {
		if err := change(r.Dir); err != nil {
			t.Fatal(err)
		}
	}
	v, err := r.Verify(t.Context(), []string{"tide"}, nil, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, d := range v.Deviations {
		got = append(got, d.Path+": "+d.Message)
	}
	want := []string{"/etc/g: its contents were changed", "/usr/a: its contents were changed", "/usr/b: it has 2 B, and 1 B were installed", "/usr/c: it is missing", `/usr/d: it leads to "b", and was installed leading to "a"`, "/usr/e: its mode is 0777, and 0755 was installed", "/usr/f: it is a file, and a directory was installed"}
	if !slices.Equal(got, want) || !v.Deviations[0].Edited {
		t.Errorf("found %q", got)
	}
	if _, err := r.Verify(t.Context(), []string{"ebb"}, nil, progress.None); err == nil {
		t.Error("what is not installed is verified")
	}
}

func TestHardLinks(t *testing.T) {
	b, r := newBuilder(t), newRoot(t)
	linked := func(s *ell.Spec) {
		for i := range s.Claims {
			if strings.HasPrefix(s.Claims[i].Path.Path, "/usr/bin/") {
				s.Claims[i].Inode, s.Claims[i].Disk = staging.Inode{Dev: 1, Ino: 7}, s.Claims[0].Disk
			}
		}
	}
	files := "/usr/bin/a (0755) = tide\n/usr/bin/b (0755) = tide\n/usr/share/c = tide\n/usr/share/d = tide"
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "1", files, linked)}})
	same := func(x, y string) bool {
		a, errA := os.Stat(filepath.Join(r.Dir, x))
		b, errB := os.Stat(filepath.Join(r.Dir, y))
		return errA == nil && errB == nil && os.SameFile(a, b)
	}
	if !same("usr/bin/a", "usr/bin/b") || same("usr/share/c", "usr/share/d") {
		t.Errorf("the links are not as in the package: %s", filesOf(t, r))
	}
	// If one name has to be written again, all are.
	if err := os.Remove(filepath.Join(r.Dir, "usr/bin/b")); err != nil {
		t.Fatal(err)
	}
	must(t, r, Request{Install: []Incoming{b.pkg(t, "tide", "2", files, linked)}})
	if !same("usr/bin/a", "usr/bin/b") {
		t.Error("the names are not links of each other any more")
	}
	verified(t, r)
}

func TestNotARoot(t *testing.T) {
	var none *NotRootError
	for _, dir := range []string{t.TempDir(), filepath.Join(t.TempDir(), "missing")} {
		if _, err := Open(dir); !errors.As(err, &none) || none.Action().Verb != fact.CreateRoot {
			t.Errorf("%v", err)
		}
	}
	r := newRoot(t)
	if _, err := Create(r.Dir, Settings{}); err == nil || !strings.Contains(err.Error(), "is a root already") {
		t.Errorf("created twice: %v", err)
	}
	if err := os.WriteFile(r.where(settingsFile), []byte(`{"format":9}`), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(r.Dir); err == nil || !strings.Contains(err.Error(), "reads format 1") {
		t.Errorf("another format: %v", err)
	}
}
