package cli

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/image"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// The examples of docs/recipe.md are parts of recipes. A comment before one,
// which a reader does not see, has what else its recipe holds.
var example = regexp.MustCompile("(?s)(?:<!-- with\n(.*?)-->\n)?```toml\n(.*?)```")

// exampleFacts are in every recipe, but for those that the example has.
var exampleFacts = []string{"format = 1", `name = "tidegauge"`, `version = "2.4.1"`, "release = 3", `summary = "Tides"`, `license = "MIT"`}

// TestRecipeReference builds every example of the recipe reference, in the
// demo's workspace, and sees to it that each key has one.
func TestRecipeReference(t *testing.T) {
	text, err := os.ReadFile("../docs/recipe.md")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	work := filepath.Join(dir, "salt")
	run := func(args ...string) (string, error) {
		cmd := exec.Command(filepath.Join(programDir, "ellwand"), args...)
		cmd.Dir, cmd.Env = work, environment(dir)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	demo := exec.Command(filepath.Join(programDir, "ellwand"), "demo", work)
	demo.Env = environment(dir)
	if out, err := demo.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	upstream := filepath.Join(work, "upstream")
	commit := exampleRepository(t, filepath.Join(dir, "almanac.git"))
	directory := filepath.Join(work, "recipes/tidegauge")
	if err := os.WriteFile(filepath.Join(directory, "station.conf"), []byte("station = Saltmarsh Bridge\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	shown := map[string]bool{}
	for _, m := range example.FindAllStringSubmatch(string(text), -1) {
		with, block := m[1], m[2]
		keys(document.Parse("", []byte(block)).Root, "", shown)
		var head []string
		for _, fact := range exampleFacts {
			key, _, _ := strings.Cut(fact, " ")
			if document.Parse("", []byte(block)).Root.Get(key) == nil {
				head = append(head, fact)
			}
		}
		// A fact must stand before the first table, wherever it comes from.
		parts := []string{block, with}
		if strings.HasPrefix(strings.TrimSpace(block), "[") {
			slices.Reverse(parts)
		}
		source := strings.Join(head, "\n") + "\n" + strings.Join(parts, "\n")
		source = strings.ReplaceAll(source, "https://files.saltmarsh.example/", "file://"+upstream+"/")
		source = strings.ReplaceAll(source, "https://git.saltmarsh.example/", "file://"+dir+"/")
		source = regexp.MustCompile(`(?m)^commit\s*=.*`).ReplaceAllString(source, fmt.Sprintf("commit = %q", commit))
		source = regexp.MustCompile(`(?m)^(url\s*=\s*"file://(.*)"\n(?:#.*\n)?)sha256\s*=.*`).ReplaceAllStringFunc(source, func(s string) string {
			line, _, _ := strings.Cut(s, "\n")
			_, path, _ := strings.Cut(strings.TrimSuffix(line, `"`), "file://")
			data, err := os.ReadFile(strings.NewReplacer("{version}", "2.4.1").Replace(path))
			if err != nil {
				t.Error(err)
			}
			return line + fmt.Sprintf("\nsha256 = \"%x\"", sha256.Sum256(data))
		})
		// What modules come to is known once they were fetched.
		open := regexp.MustCompile(`(?m)^sha256\s*=\s*"…"\n`)
		unpinned := open.MatchString(source)
		source = open.ReplaceAllString(source, "")
		os.WriteFile(filepath.Join(directory, "recipe.toml"), []byte(source), 0o644)
		if unpinned {
			if out, err := run("fetch", "tidegauge", "--pin"); err != nil {
				t.Errorf("%v\n%s", err, out)
			}
		}
		if out, err := run("build", "tidegauge"); err != nil {
			t.Errorf("%v\n%s\n--- this recipe:\n%s", err, out, source)
		}
	}
	for _, key := range recipe.Keys() {
		if !shown[key] {
			t.Errorf("docs/recipe.md has no example of %s", key)
		}
	}
}

// TestImageReference reads every example of the reference of images, and sees to it that each
// key has one.
func TestImageReference(t *testing.T) {
	text, err := os.ReadFile("../docs/images.md")
	if err != nil {
		t.Fatal(err)
	}
	shown := map[string]bool{}
	for _, m := range example.FindAllStringSubmatch(string(text), -1) {
		d, err := image.Parse("docs/images.md", []byte(m[2]), "example", t.TempDir())
		if err != nil {
			t.Errorf("%v\n%s", err, m[2])
		}
		keys(d.Doc.Root, "", shown)
	}
	for _, key := range image.Keys() {
		if !shown[key] {
			t.Errorf("docs/images.md has no example of %s", key)
		}
	}
}

// keys gathers the keys of a table, with dots between them. The numbers of
// arrays and names that a recipe gives are not in them.
func keys(n *document.Node, path string, shown map[string]bool) {
	for _, item := range n.Items {
		keys(item, path, shown)
	}
	for _, key := range n.Keys {
		inner := strings.TrimPrefix(path+"."+key, ".")
		switch path {
		case "option", "package", "package.*.account", "package.*.layout", "account":
			inner = path + ".*" // the key is a name
		case "let", "steps.copy", "environment", "labels":
			continue
		}
		shown[strings.ReplaceAll(inner, ".*", "")] = true
		keys(n.Get(key), inner, shown)
	}
}

// exampleRepository makes a git repository and returns its commit, tagged
// v2.4.1.
func exampleRepository(t *testing.T, dir string) string {
	t.Helper()
	out, err := exec.Command("sh", "-ec", `git init -q -b main "$0" && cd "$0" && git config user.name Ines && git config user.email ines@saltmarsh.example
mkdir tables && echo 1,2 > tables/tides.csv && git add . && git commit -q -m one && git tag v2.4.1 && git rev-parse HEAD`, dir).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return strings.TrimSpace(string(out))
}
