package root

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

const target = "saltmarsh-3-x86_64"

// newRoot creates a root that stands on no system.
func newRoot(t testing.TB) *Root {
	t.Helper()
	r, err := Create(filepath.Join(t.TempDir(), "a root"), Settings{Target: target, Arch: "x86_64", System: SystemNone})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return r
}

// builder makes packages and keeps them for the whole of a test.
type builder struct {
	dir  string
	made map[string]Incoming
}

func newBuilder(t testing.TB) *builder {
	b := &builder{t.TempDir(), map[string]Incoming{}}
	t.Cleanup(func() {
		for _, in := range b.made {
			in.Package.Close()
		}
	})
	return b
}

// pkg makes a package. Files are written as lines: a path, with " -> target" for a link,
// "/" at the end for a directory, or " = contents" for a file. Before the path may be
// "kind:" and after it "(mode)".
func (b *builder) pkg(t testing.TB, name, version, files string, edit ...func(*ell.Spec)) Incoming {
	t.Helper()
	key := fmt.Sprint(name, " ", version, files, len(edit))
	if in, ok := b.made[key]; ok && len(edit) == 0 {
		return in
	}
	spec := ell.Spec{
		Facts: ell.Facts{Name: name, Version: version, Release: 1, Arch: "x86_64", Target: target, Summary: "x", License: "MIT", Recipe: name, Date: "2031-04-02"},
		Time:  time.Unix(1e9, 0),
	}
	stage, err := os.MkdirTemp(b.dir, "stage")
	if err != nil {
		t.Fatal(err)
	}
	for n, line := range strings.Split(strings.TrimSpace(files), "\n") {
		spec.Claims = append(spec.Claims, claim(t, filepath.Join(stage, fmt.Sprint(n)), strings.TrimSpace(line)))
	}
	slices.SortFunc(spec.Claims, func(x, y staging.Claim) int { return strings.Compare(x.Path.Path, y.Path.Path) })
	for _, e := range edit {
		e(&spec)
	}
	out, err := os.MkdirTemp(b.dir, "out")
	if err != nil {
		t.Fatal(err)
	}
	w, err := ell.Write(t.Context(), out, spec, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	in := Incoming{Package: p, SHA256: fact.SHA256(data), Asked: true}
	b.made[key+w.Path] = in
	if len(edit) == 0 {
		b.made[key] = in
		delete(b.made, key+w.Path)
	}
	return in
}

// claim reads a line of pkg.
func claim(t testing.TB, disk, line string) staging.Claim {
	t.Helper()
	c := staging.Claim{Owner: staging.Root, Group: staging.Root}
	if kind, rest, ok := strings.Cut(line, ":"); ok && slices.Contains(fact.Kinds, kind) {
		c.Kind, line = kind, rest
	}
	name, text, isFile := strings.Cut(line, " = ")
	name, link, isLink := strings.Cut(name, " -> ")
	mode := ""
	if head, rest, ok := strings.Cut(name, " ("); ok {
		name, mode = head, strings.TrimSuffix(rest, ")")
	}
	c.Path = staging.Path{Path: strings.TrimSuffix(name, "/"), Mode: 0o644, Type: staging.File, Disk: disk}
	switch {
	case isLink:
		c.Type, c.Link, c.Mode = staging.Symlink, link, 0o777
	case !isFile:
		c.Type, c.Mode = staging.Directory, 0o755
	default:
		if err := os.WriteFile(disk, []byte(strings.ReplaceAll(text, `\n`, "\n")), 0o644); err != nil {
			t.Fatal(err)
		}
		c.Size = int64(len(strings.ReplaceAll(text, `\n`, "\n")))
	}
	if mode != "" {
		c.Mode = fact.ParseMode(mode)
	}
	return c
}

// scripted adds scripts to a package.
func scripted(scripts map[string]string) func(*ell.Spec) {
	return func(s *ell.Spec) { s.Scripts = scripts }
}

// recorder stands in for what runs scripts: it notes them, and those whose text is
// "false" fail.
type recorder struct{ ran []string }

func (r *recorder) Script(ctx context.Context, name, text string, env []string) (string, error) {
	r.ran = append(r.ran, name+" "+strings.Join(env[1:], " "))
	if text == "false" {
		return "no tide", errors.New("ended with exit status 1")
	}
	return "", ctx.Err()
}

// change does a transaction.
func change(t testing.TB, r *Root, runner Runner, q Request) (*Plan, *Entry, error) {
	t.Helper()
	if runner == nil {
		runner = &recorder{}
	}
	tx, err := r.Begin(t.Context(), Options{Runner: runner, Progress: progress.None})
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	p, err := tx.Plan(t.Context(), q)
	if err != nil {
		return nil, nil, err
	}
	e, err := tx.Apply(t.Context(), p)
	return p, e, err
}

// must is change that has to succeed.
func must(t testing.TB, r *Root, q Request) *Plan {
	t.Helper()
	p, _, err := change(t, r, nil, q)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// tree lists what is in a root, without its state: "path mode contents".
func tree(t testing.TB, r *Root) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(r.Dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(p, r.Dir)
		info, err := d.Info()
		switch {
		case err != nil:
			return err
		case name == "/"+StateDir:
			return fs.SkipDir
		case name == "" || name == "/var" || name == "/var/lib" || name == "/etc/.pwd.lock":
		case d.IsDir():
			out[name] = "dir " + fact.Octal(info.Mode())
		case info.Mode()&fs.ModeSymlink != 0:
			link, err := os.Readlink(p)
			out[name] = "-> " + link
			return err
		default:
			data, err := os.ReadFile(p)
			out[name] = fact.Octal(info.Mode()) + " " + string(data)
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// files are the files and links of a tree.
func filesOf(t testing.TB, r *Root) string {
	t.Helper()
	all := tree(t, r)
	maps.DeleteFunc(all, func(_, v string) bool { return strings.HasPrefix(v, "dir ") })
	var lines []string
	for _, p := range slices.Sorted(maps.Keys(all)) {
		lines = append(lines, p+" "+all[p])
	}
	return strings.Join(lines, "; ")
}

// edit changes a file of a root as a user would.
func edit(t testing.TB, r *Root, name, text string) {
	t.Helper()
	p := filepath.Join(r.Dir, name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// verified fails unless the root is whole.
func verified(t testing.TB, r *Root) {
	t.Helper()
	v, err := r.Verify(t.Context(), nil, func(string) bool { return true }, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	if !v.Whole() {
		t.Fatalf("the root is not whole: %+v", v)
	}
}
