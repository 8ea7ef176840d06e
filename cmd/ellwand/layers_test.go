package main

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

const module = "ellwand.example/"

type listedPackage struct {
	ImportPath   string
	Imports      []string
	Deps         []string
	TestImports  []string
	XTestImports []string
}

func listPackages(t *testing.T) []listedPackage {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps,TestImports,XTestImports", module+"...")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []listedPackage
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listedPackage
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
}

// layerOf is the layer of a package, from the bottom; -1 for packages of others.
func layerOf(path string) int {
	own, ok := strings.CutPrefix(path, module)
	if !ok {
		return -1
	}
	for layer, prefixes := range [][]string{{"core/fact", "demo"}, {"core"}, {"app"}, {"cli"}, {"cmd", "bench"}} {
		for _, prefix := range prefixes {
			if own == prefix || strings.HasPrefix(own, prefix+"/") {
				return layer
			}
		}
	}
	panic(path + " belongs to no layer")
}

// Imports lead downwards: cmd → cli → app → core → core/fact.
func TestLayers(t *testing.T) {
	for _, p := range listPackages(t) {
		for _, imported := range p.Imports {
			if layerOf(imported) > layerOf(p.ImportPath) {
				t.Errorf("%s imports %s, which is in a layer above it", p.ImportPath, imported)
			}
		}
		if layerOf(p.ImportPath) > 2 {
			continue
		}
		for _, imported := range p.Imports {
			for _, library := range []string{"github.com/spf13/", "github.com/charmbracelet/", "golang.org/x/term", "flag"} {
				// The sandbox passes a shell's terminal through.
				shell := p.ImportPath == module+"core/engine/sandbox" && imported == "golang.org/x/term"
				if strings.HasPrefix(imported, library) && !shell {
					t.Errorf("%s imports %s, which belongs to the command line", p.ImportPath, imported)
				}
			}
		}
	}
}

// Some packages are meant for programs that need nothing else of Ellwand.
func TestLinkedLibraries(t *testing.T) {
	unwanted := map[string][]string{
		"core/ell":       {"core/recipe", "github.com/expr-lang/", "mvdan.cc/sh", "minio"},
		"core/workspace": {"core/repo", "minio"},
		"core/lint":      {"core/repo", "minio"},
		"core/repo/site": {"charmbracelet", "core/recipe"},
		"core/fact":      {module + "core/recipe/document", "charmbracelet"},
	}
	for _, p := range listPackages(t) {
		for _, bad := range unwanted[strings.TrimPrefix(p.ImportPath, module)] {
			for _, dep := range p.Deps {
				if strings.Contains(dep, bad) {
					t.Errorf("%s links %s", p.ImportPath, dep)
				}
			}
		}
	}
}

// The core and the use cases name actions; only the command line knows how they are
// typed. Examples of lint rules are scripts that a test runs.
func TestNoCommandLines(t *testing.T) {
	command := regexp.MustCompile("[`\" (]ellwand [a-z]")
	for _, dir := range []string{"../../core", "../../app"} {
		err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
				return err
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for i, line := range strings.Split(string(data), "\n") {
				if command.MatchString(line) && !strings.Contains(line, "staleSibling(") {
					t.Errorf("%s:%d spells a command: %s", path, i+1, line)
				}
			}
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	}
}
