package patch

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func tree(t testing.TB, files map[string]string) (*os.Root, string) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	return root, dir
}

const before = "one\ntwo\nthree\nfour\nfive\nsix\nseven\neight\n"

const diff = `--- tide-1.0.orig/src/tide.c	2031-04-02
+++ tide-1.0/src/tide.c	2031-04-03
@@ -2,5 +2,6 @@
 two
 three
-four
+FOUR
+four and a half
 five
 six
`

const after = "one\ntwo\nthree\nFOUR\nfour and a half\nfive\nsix\nseven\neight\n"

func TestApply(t *testing.T) {
	for _, c := range []struct{ name, text, diff, want, report string }{
		{"unchanged", before, diff, after, "src/tide.c 1 0 0"},
		{"moved", "zero\n" + before, diff, "zero\n" + after, "src/tide.c 1 1 0"},
		{"less context", strings.Replace(before, "six", "SIX", 1), diff, strings.Replace(after, "six", "SIX", 1), "src/tide.c 1 0 1"},
		{"git", before, "diff --git a/src/tide.c b/src/tide.c\nindex 1..2 100755\n" + strings.ReplaceAll(strings.ReplaceAll(diff, "tide-1.0.orig/", "a/"), "tide-1.0/", "b/"), after, "src/tide.c 1 0 0"},
		{"no end of line", strings.TrimSuffix(before, "\n"), diff, after, "src/tide.c 1 0 0"},
		{"the nearest of two", before + before, strings.Replace(diff, "@@ -2,5 +2,6 @@", "@@ -11,5 +11,6 @@", 1), before + after, "src/tide.c 1 1 0"},
	} {
		root, dir := tree(t, map[string]string{"src/tide.c": c.text})
		changes, err := Apply(root, []byte(c.diff))
		got, _ := os.ReadFile(filepath.Join(dir, "src/tide.c"))
		var report []string
		for _, ch := range changes {
			report = append(report, fmt.Sprint(ch.Path, " ", ch.Hunks, ch.Moved, ch.Fuzzed))
		}
		if err != nil || string(got) != c.want || strings.Join(report, ";") != c.report {
			t.Errorf("%s: %v\n%s\n%s, want %s", c.name, err, got, report, c.report)
		}
	}
}

func TestNewAndGone(t *testing.T) {
	root, dir := tree(t, map[string]string{"old": "x\n", "a": "1\n"})
	os.Link(filepath.Join(dir, "a"), filepath.Join(dir, "a2"))
	_, err := Apply(root, []byte("--- /dev/null\n+++ b/new dir/new\n@@ -0,0 +1 @@\n+hello\n--- a/old\n+++ /dev/null\n@@ -1 +0,0 @@\n-x\n--- a/a\n+++ b/a\n@@ -1 +1 @@\n-1\n+2\n"))
	made, _ := os.ReadFile(filepath.Join(dir, "new dir/new"))
	linked, _ := os.ReadFile(filepath.Join(dir, "a2"))
	if _, gone := os.Stat(filepath.Join(dir, "old")); err != nil || string(made) != "hello\n" || gone == nil || string(linked) != "1\n" {
		t.Errorf("%v, %q, %v, %q", err, made, gone, linked)
	}
}

func TestRefusals(t *testing.T) {
	for _, c := range []struct {
		name, text, diff, want string
		applied                bool
	}{
		{"in already", after, diff, "hunk 1 (@@ -2,5 +2,6 @@) is in the source already", true},
		{"does not fit", strings.Replace(before, "four", "vier", 1), diff, "4 of its 5 lines fit at line 2, but not this one:\n  expected  four\n  found     vier", false},
		{"nothing fits", "a\nb\n", diff, "none of its lines are in the file", false},
		{"no such file", before, strings.ReplaceAll(diff, "tide.c", "ebb.c"), "the source has no such file", false},
		{"outside", before, "--- /dev/null\n+++ ../../x\n@@ -0,0 +1 @@\n+x\n", "leads out of the tree", false},
		{"there already", before, "--- /dev/null\n+++ b/src/tide.c\n@@ -0,0 +1 @@\n+x\n", "src/tide.c: hunk 1 (a new file)", false},
		{"no patch", before, "hello", "it contains no change", false},
		{"broken", before, strings.Replace(diff, " five\n six\n", "", 1), "this is not a patch", false},
		{"one of two", before, diff + "--- a/gone\n+++ b/gone\n@@ -1 +1 @@\n-1\n+2\n", "gone: the source has no such file", false},
	} {
		root, dir := tree(t, map[string]string{"src/tide.c": c.text})
		_, err := Apply(root, []byte(c.diff))
		var e *Error
		if !errors.As(err, &e) || !strings.Contains(err.Error(), c.want) || e.Applied != c.applied {
			t.Errorf("%s: %v, want %s", c.name, err, c.want)
		}
		if got, _ := os.ReadFile(filepath.Join(dir, "src/tide.c")); string(got) != c.text {
			t.Errorf("%s: the file was changed", c.name)
		}
	}
}

func FuzzApply(f *testing.F) {
	f.Add([]byte(diff), before)
	f.Add([]byte("--- /dev/null\n+++ ../x\n@@ -0,0 +1 @@\n+x\n"), "")
	base := f.TempDir()
	f.Fuzz(func(t *testing.T, patch []byte, text string) {
		dir, err := os.MkdirTemp(base, "")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(dir)
		work := filepath.Join(dir, "work")
		os.MkdirAll(filepath.Join(work, "src"), 0o755)
		os.WriteFile(filepath.Join(work, "src/tide.c"), []byte(text), 0o644)
		root, err := os.OpenRoot(work)
		if err != nil {
			t.Fatal(err)
		}
		defer root.Close()
		Apply(root, patch)
		if left, _ := os.ReadDir(dir); len(left) != 1 {
			t.Errorf("something was written outside: %v", left)
		}
	})
}
