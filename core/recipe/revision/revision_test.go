package revision

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/testtool"
)

// history is a git repository in a directory, with recipes in a directory of it.
type history struct {
	t   *testing.T
	dir string
}

func newHistory(t *testing.T) history {
	t.Helper()
	testtool.Find(t, "git")
	for _, name := range []string{"GIT_CONFIG_GLOBAL", "GIT_CONFIG_SYSTEM"} {
		t.Setenv(name, os.DevNull)
	}
	for name, value := range map[string]string{"GIT_AUTHOR_NAME": "Ines", "GIT_AUTHOR_EMAIL": "ines@saltmarsh.example", "GIT_COMMITTER_NAME": "Ines", "GIT_COMMITTER_EMAIL": "ines@saltmarsh.example"} {
		t.Setenv(name, value)
	}
	h := history{t, filepath.Join(t.TempDir(), "salt marsh")}
	h.write("recipes/tide gauge/recipe.toml", "one")
	h.write("recipes/buoy/recipe.toml", "other")
	h.git("init", "-q")
	h.commit()
	return h
}

func (h history) git(args ...string) string {
	h.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = h.dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		h.t.Fatalf("git %v: %v: %s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// commit returns the new commit.
func (h history) commit() string {
	h.t.Helper()
	h.git("add", "-A")
	h.git("commit", "-q", "--allow-empty", "-m", "a step")
	return h.git("rev-parse", "HEAD")
}

func (h history) write(name, text string) {
	h.t.Helper()
	file := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		h.t.Fatal(err)
	}
}

func TestOf(t *testing.T) {
	h := newHistory(t)
	recipe := filepath.Join(h.dir, "recipes/tide gauge")
	first := h.git("rev-parse", "HEAD")
	is := func(title, commit string, clean bool) {
		t.Helper()
		if r, ok := Of(t.Context(), recipe); !ok || r != (Revision{commit, clean}) {
			t.Errorf("%s: %+v %v, not %s %v", title, r, ok, commit, clean)
		}
	}
	is("as it was committed", first, true)
	h.write("recipes/buoy/recipe.toml", "another text")
	is("with a change beside it", first, true)
	h.commit()
	is("with a commit beside it", first, true)
	h.write("recipes/tide gauge/recipe.toml", "two")
	is("changed", first, false)
	second := h.commit()
	is("committed again", second, true)
	h.write("recipes/tide gauge/new.patch", "")
	is("with a new file", second, false)

	h.write("recipes/new/recipe.toml", "")
	for _, dir := range []string{filepath.Join(h.dir, "recipes/new"), t.TempDir(), filepath.Join(h.dir, "nowhere")} {
		if r, ok := Of(t.Context(), dir); ok {
			t.Errorf("%s is at %+v", dir, r)
		}
	}
	if !InRepository(recipe) || InRepository(t.TempDir()) {
		t.Error("what is in a repository is told wrongly")
	}
}

func TestAt(t *testing.T) {
	h := newHistory(t)
	first := h.git("rev-parse", "HEAD")
	h.git("tag", "released")
	h.write("recipes/tide gauge/recipe.toml", "two")
	h.write("recipes/tide gauge/files/horn", "sound")
	h.commit()
	if err := os.RemoveAll(filepath.Join(h.dir, "recipes/tide gauge")); err != nil {
		t.Fatal(err)
	}
	last := h.commit()
	for _, c := range []struct{ dir, rev, want string }{
		{"recipes/tide gauge", first, "recipe.toml=one"},
		{"recipes/tide gauge", "released", "recipe.toml=one"},
		{"recipes/tide gauge", "HEAD~1", "files/horn=sound recipe.toml=two"}, // it is not there any more
		{"recipes/tide gauge", last, "recipes/tide gauge was not there at " + last},
		{"recipes/buoy", "HEAD", "recipe.toml=other"},
		{"recipes/eel", "HEAD", "recipes/eel was not there at HEAD"},
		{"recipes/buoy", "yesterday", `git knows of no revision "yesterday"`},
		{"recipes/buoy", "--output=x", "is not a revision"},
		{"recipes/buoy", "HEAD:recipes", "is not a revision"},
	} {
		files, err := At(t.Context(), filepath.Join(h.dir, c.dir), c.rev)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			for _, name := range []string{"files/horn", "recipe.toml"} {
				if text, ok := files[name]; ok {
					got += " " + name + "=" + string(text)
				}
			}
		}
		if !strings.Contains(got, c.want) || err == nil && strings.TrimSpace(got) != c.want {
			t.Errorf("%s at %s: %s, not %s", c.dir, c.rev, got, c.want)
		}
	}
	if _, err := At(t.Context(), filepath.Join(t.TempDir(), "tide"), "HEAD"); err == nil || !strings.Contains(err.Error(), "git: ") {
		t.Errorf("outside of a repository: %v", err)
	}
}
