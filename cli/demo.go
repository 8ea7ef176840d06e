package cli

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/core/workspace"
	"ellwand.example/demo"
	"ellwand.example/term"
)

// starter is a recipe to begin with.
//
//go:embed starter.toml
var starter []byte

func (a *app) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [DIR]",
		Short: "A whole example with made-up data",
		Long: `Unpack the workspace of a made-up harbour authority into a new folder, by
default ellwand-demo, and go through all of the work in it: fetch sources, build
packages, look into one, lint them, publish them, and find them again. Each
command is shown before it runs. A C compiler and make are needed.`,
		Example: "  ellwand demo",
		Args:    arguments(atMostOne),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "ellwand-demo"
			if len(args) > 0 {
				dir = args[0]
			}
			return a.demo(cmd, dir)
		},
	}
}

// scene is one command of the demo, with what it is there to show.
type scene struct {
	say  string
	args []string
}

func scenes(packages []string) []scene {
	return []scene{
		{"Sources are brought into a store, and checked against the digests in the recipes.", []string{"fetch"}},
		{"A C library, a C program that uses it, a set of data and a script become packages.", append([]string{"build"}, demo.Recipes...)},
		{"What was found in the program's file is in the package: here the libraries it needs.", []string{"show", "tidegauge"}},
		{"Lint looks at recipes and packages.", []string{"lint", "--all"}},
		{"Packages are added to a repository in one step.", append(append([]string{"publish"}, packages...), "--to", "local")},
		{"What the repository holds:", []string{"list"}},
		{"Who has the pkg-config module that a recipe needs?", []string{"search", "pkgconfig/harmonic"}},
		{"With nothing changed, nothing is done.", append([]string{"build"}, demo.Recipes...)},
		{"Upstream has a new version of the library: one command edits the recipe.", []string{"bump", "libharmonic", "1.4.3"}},
		{"What stands on it is built again; the rest is as it was.", append([]string{"build", "-q"}, demo.Recipes...)},
		{"What that means for those who have the old library:", []string{"compare", "libharmonic@1.4.2-1"}},
	}
}

func (a *app) demo(cmd *cobra.Command, dir string) error {
	for _, tool := range []string{"cc", "make", "sh"} {
		if _, err := exec.LookPath(tool); err != nil {
			a.err.Printf("%s\n", a.err.Style(term.Bad, fmt.Sprintf("the demo compiles C programs, and there is no %s on this machine: install a C compiler and make", tool)))
			return statusError(statusMachine)
		}
	}
	if around, err := workspace.Find(filepath.Dir(dir)); err == nil {
		return fmt.Errorf("%s is inside the workspace %s: run the demo elsewhere, or name another folder", dir, around)
	}
	if err := demo.Unpack(dir); errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already: remove it, or name another folder: `ellwand demo DIR`", dir)
	} else if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	out := a.out
	if a.json {
		out = a.err // one JSON value is all that goes to standard output
	}
	out.Printf("The workspace is unpacked into %s\n", dir)
	ran := []string{}
	for i := range len(scenes(nil)) {
		// The names of the packages are known once they are built.
		w, err := workspace.Open(dir)
		if err != nil {
			return err
		}
		s := scenes(packagesIn(w))[i]
		line := "ellwand " + strings.Join(s.args, " ")
		if i == 4 {
			line = "ellwand publish packages/*.ell --to local"
		}
		out.Printf("\n%s\n%s\n", s.say, out.Style(term.Name, "$ "+line))
		c := exec.CommandContext(cmd.Context(), self, append([]string{"--color", a.childColor()}, s.args...)...)
		c.Dir, c.Stdout, c.Stderr = dir, out.Writer, a.err.Writer
		if err := c.Run(); err != nil {
			if cmd.Context().Err() != nil {
				return cmd.Context().Err()
			}
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() == statusFindings && s.args[0] == "compare" {
				err = nil // there are differences, as there should be
			} else if errors.As(err, &exit) {
				return statusError(exit.ExitCode())
			}
			if err != nil {
				return err
			}
		}
		ran = append(ran, line)
	}
	if a.json {
		return a.printJSON(map[string]any{"workspace": dir, "commands": ran})
	}
	a.demoEnd(dir)
	return nil
}

func packagesIn(w *workspace.Workspace) []string {
	files, _ := packageFiles(w.Packages())
	for i := range files {
		files[i] = filepath.Join("packages", filepath.Base(files[i]))
	}
	return files
}

// childColor keeps the demo's commands in the colours of the demo itself.
func (a *app) childColor() string {
	if a.color == "auto" && a.json {
		return "never"
	}
	return a.color
}

func (a *app) demoEnd(dir string) {
	w := a.out
	w.Printf("\n%s\n", w.Style(term.Good, "That is the whole way, from sources to a repository."))
	w.Printf("  %s/recipes      the recipes, to read and to change\n", dir)
	w.Printf("  %s/packages     the packages; any tar with zstd lists them\n", dir)
	w.Printf("  %s/repository   the repository: static files\n", dir)
	w.Printf("\nTo try, in %s:\n", dir)
	for _, s := range []struct{ command, what string }{
		{"ellwand show tidegauge --files", "what is in a package"},
		{"ellwand lint tidegauge", "what lint has to say of a recipe"},
		{"ellwand explain recipe", "how a recipe of your own begins"},
	} {
		w.Printf("  %-34s %s\n", s.command, w.Style(term.Faint, s.what))
	}
	if _, err := exec.LookPath("ellwand"); err != nil {
		w.Printf("(`ellwand` is not on your PATH yet: `go install ./cmd/ellwand`, in Ellwand's source folder, puts it where Go keeps programs.)\n")
	}
	w.Printf("Take a line out of the layout in recipes/tidegauge/recipe.toml, or misspell a key, and build again.\n")
}
