package demo

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/lint"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

// The example is without a fault, and the same each time.
func TestUnpack(t *testing.T) {
	dirs := []string{filepath.Join(t.TempDir(), "a directory"), filepath.Join(t.TempDir(), "b")}
	for _, dir := range dirs {
		if err := Unpack(dir); err != nil {
			t.Fatal(err)
		}
	}
	if err := Unpack(dirs[0]); err == nil {
		t.Error("it was unpacked over what is there")
	}
	for _, name := range Recipes {
		r, err := recipe.Load(filepath.Join(dirs[0], "recipes", name), name, recipe.Target{Arch: "x86_64"}, nil)
		if err != nil {
			t.Error(err)
			continue
		}
		for _, f := range (&lint.Linter{}).Recipe(t.Context(), r) {
			t.Errorf("%s: %s %s", name, f.Code, f.Message)
		}
		for _, s := range r.Sources {
			if s.URL != "" && !strings.HasPrefix(s.URL, "file:///") {
				t.Errorf("%s: %s cannot be fetched without a network", name, source.FileName(s))
			}
		}
	}
	archives, err := filepath.Glob(filepath.Join(dirs[0], "upstream", "*"))
	if err != nil || len(archives) < 5 {
		t.Fatal(archives, err)
	}
	for _, a := range archives {
		one, _ := os.ReadFile(a)
		two, _ := os.ReadFile(filepath.Join(dirs[1], "upstream", filepath.Base(a)))
		if string(one) != string(two) {
			t.Errorf("%s differs between two directories", filepath.Base(a))
		}
	}
}
