package cli

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/workspace"
	"ellwand.example/demo"
)

// starter is a recipe to begin with.
//
//go:embed starter.toml
var starter []byte

func (a *program) demoCommand() *cobra.Command {
	var channels bool
	cmd := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Run a complete example with made-up data",
		Long: `Unpack the workspace of a made-up harbour authority into a new directory, by default
ellwand-demo, and go through the whole work in it: fetch sources, build and lint
packages, publish them, look into them, rehearse them, install them into a root, upgrade
them, and make an image of them. Each command is shown before it runs. A C compiler and
make are needed.

With --channels it continues: a library gets a new soname and is refused by publish,
its users are rebuilt, and the set is promoted and taken back.`,
		Example: "  ellwand demo\n  ellwand demo --channels harbour",
		Args:    arguments(atMostOne),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "ellwand-demo"
			if len(args) > 0 {
				dir = args[0]
			}
			return a.demo(cmd, dir, channels)
		},
	}
	cmd.Flags().BoolVar(&channels, "channels", false, "continue with a library's new soname and the channels of the repository")
	return cmd
}

// scene is one command of the demo, with what it is there to show.
type scene struct {
	say    string
	args   []string // patterns of files among them stand for these
	shell  string   // a command of another program, in place of args
	status int      // that it ends with, where that is not 0
}

// scenes are the whole way from sources to a repository.
func scenes() []scene {
	return []scene{
		{say: "Sources are fetched into the source cache, and checked against the digests in the recipes.", args: []string{"fetch"}},
		{say: "A C library, a C program that uses it, a set of data and a script become packages.", args: append([]string{"build"}, demo.Recipes...)},
		{say: "What was found in the program's file is recorded in the package: here the libraries it needs.", args: []string{"show", "tidegauge"}},
		{say: "Lint checks recipes and packages.", args: append([]string{"lint"}, demo.Recipes...)},
		{say: "Packages are added to a repository in one step.", args: []string{"publish", "packages/*/*.ell", "--to", "local"}},
		{say: "What the repository holds:", args: []string{"list"}},
		{say: "Which package has the pkg-config module that a recipe needs?", args: []string{"search", "pkgconfig/harmonic"}},
		{say: "One recipe has faults, on purpose:", args: []string{"build", "-q", demo.Faulty}},
		{say: "Each finding names the place and a remedy.", args: []string{"lint", demo.Faulty}, status: statusFindings},
		{say: "With errors like these, nothing is published.", args: []string{"publish", "packages/*/" + demo.Faulty + "@*.ell", "--to", "local"}, status: statusFindings},
		{say: "If nothing has changed, nothing is done.", args: append([]string{"build"}, demo.Recipes...)},
		{say: "Upstream has a new version of the library: one command edits the recipe.", args: []string{"bump", "libharmonic", "1.4.3"}},
		{say: "Recipes that depend on it are rebuilt; the others are unchanged.", args: append([]string{"build", "-q"}, demo.Recipes...)},
		{say: "What that means for users of the old library:", args: []string{"compare", "libharmonic@1.4.2-1"}, status: statusFindings},
		{say: "A trial rehearses packages in a throwaway root: install, run, upgrade, remove.", args: []string{"trial", "libharmonic"}},
		{say: "The recipe with faults does not pass that either.", args: []string{"trial", demo.Faulty}, status: statusFindings},
		{say: "Packages are installed into a root: any directory, without being root. This one is based on this machine's system.", args: []string{"root", "create", "station"}},
		{say: "Everything is checked first, and the libraries it needs come with it.", args: []string{"root", "install", "station", "tidegauge"}},
		{say: "The program runs there.", args: []string{"root", "run", "station", "--", "tidegauge", "--hours", "2"}},
		{say: "Someone edits its configuration.", shell: "sed -i 's/^mean = .*/mean = 2.35/' station/etc/tidegauge/tidegauge.conf"},
		{say: "Meanwhile the package gets a new release, with another default.", args: []string{"bump", "tidegauge", "--release", "-m", "Explain where the stations are listed"}},
		{say: "The recipe changes a comment in the configuration.", shell: "sed -i 's/they are listed in/see the list in/' recipes/tidegauge/recipe.toml"},
		{say: "It is built.", args: []string{"build", "-q", "tidegauge"}},
		{say: "The upgrade merges both changes. --dry-run would print this without doing it.", args: []string{"root", "upgrade", "station"}},
		{say: "What differs from the default is still the edit alone:", args: []string{"root", "config", "station", "/etc/tidegauge/tidegauge.conf"}},
		{say: "Every change of the root is in its history, and can be undone.", args: []string{"root", "history", "station"}},
		{say: "Removing the packages leaves what someone edited.", args: []string{"root", "remove", "station", "tidegauge", "libharmonic", "saltmarsh-stations"}},
		{say: "An image is a whole system. This one is based on a minimal one: copies of this machine's shell and C library.", shell: "sh images/minimal-system.sh minimal"},
		{say: "It is made without root. The lock pins its packages, so that it is the same bytes anywhere.", args: []string{"image", "harbour"}},
		{say: "A container tool can run it now. So can Ellwand: its trial decides.", args: []string{"image", "harbour", "--run"}},
		{say: "One package changes.", shell: "sed -i 's/print name$/print name \", in meters\"/' recipes/tide-almanac/tide-almanac"},
		{say: "It gets a new release.", args: []string{"bump", "tide-almanac", "--release", "-m", "Say which unit it is"}},
		{say: "It is built.", args: []string{"build", "-q", "tide-almanac"}},
		{say: "The image is made again, and only what is new has to be fetched by those who have it.", args: []string{"image", "harbour", "--update"}},
	}
}

// channelScenes take a library with a new soname through the channels.
func channelScenes() []scene {
	return []scene{
		{say: "Is all of the channel installable? Those who want no surprises get what was tested.", args: []string{"audit", "local"}},
		{say: "No package is copied for that: both channels point to the same ones.", args: []string{"promote", "local", "testing", "stable"}},
		{say: "Upstream breaks with the past: in version 2.0.0 the library has another soname.", args: []string{"bump", "libharmonic", "2.0.0", "-m", "A soname of its own"}},
		{say: "The library is built.", args: []string{"build", "-q", "libharmonic"}},
		{say: "Published alone, it would take away what others need. That is refused, with what to build again.", args: []string{"publish", "packages/*/libharmonic*@2.0.0-1*.ell", "--to", "local"}, status: statusFindings},
		{say: "The plan is followed: the program gets a new release.", args: []string{"bump", "tidegauge", "--release", "-m", "Built with libharmonic 2"}},
		{say: "It is built with the new library.", args: []string{"build", "-q", "tidegauge"}},
		{say: "Both are published in one step and checked together.", args: []string{"publish", "packages/*/libharmonic*@2.0.0-1*.ell", "packages/*/tidegauge*@2.4.1-5*.ell", "--to", "local"}},
		{say: "The set goes to the other channel.", args: []string{"promote", "local", "testing", "stable"}},
		{say: "Somebody calls: the stations do not come up. The channel goes back to what it was.", args: []string{"rewind", "local", "--channel", "stable"}},
		{say: "The history shows it all, the rewind too.", args: []string{"history", "local", "--channel", "stable"}},
	}
}

func (a *program) demo(cmd *cobra.Command, dir string, channels bool) error {
	for _, tool := range []string{"cc", "make", "sh"} {
		if _, err := exec.LookPath(tool); err != nil {
			a.err.Printf("%s\n", a.err.Style(term.Bad, fmt.Sprintf("the demo compiles C programs, and there is no %s on this machine: install a C compiler and make", tool)))
			return statusError(statusMachine)
		}
	}
	if around, err := workspace.Find(filepath.Dir(dir)); err == nil {
		return fmt.Errorf("%s is inside the workspace %s: run the demo elsewhere, or name another directory", dir, around)
	}
	if err := demo.Unpack(dir); errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already: remove it, or name another directory: `ellwand demo DIR`", dir)
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
	acts := scenes()
	if channels {
		acts = append(acts, channelScenes()...)
	}
	for _, s := range acts {
		line := "ellwand"
		if s.shell != "" {
			line = s.shell
		}
		args := []string{"--color", a.childColor()}
		for _, arg := range s.args {
			word := arg
			if strings.Contains(arg, " ") {
				word = strconv.Quote(arg)
			}
			line += " " + word
			files, _ := filepath.Glob(filepath.Join(dir, arg))
			if !strings.Contains(arg, "*") || len(files) == 0 {
				args = append(args, arg)
				continue
			}
			for _, f := range files {
				args = append(args, filepath.Join("packages", filepath.Base(filepath.Dir(f)), filepath.Base(f)))
			}
		}
		out.Printf("\n%s\n%s\n", s.say, out.Style(term.Name, "$ "+line))
		c := exec.CommandContext(cmd.Context(), self, args...)
		if s.shell != "" {
			c = exec.CommandContext(cmd.Context(), "sh", "-c", s.shell)
		}
		c.Dir, c.Stdout, c.Stderr = dir, out.Stream(), a.err.Stream()
		if err := c.Run(); err != nil {
			if cmd.Context().Err() != nil {
				return cmd.Context().Err()
			}
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() == s.status && s.status != 0 {
				err = nil // as it should be
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

// childColor keeps the demo's commands in the colours of the demo itself.
func (a *program) childColor() string {
	if a.color == "auto" && a.json {
		return "never"
	}
	return a.color
}

func (a *program) demoEnd(dir string) {
	w := a.out
	w.Printf("\n%s\n", w.Style(term.Good, "That is the whole process, from sources to an image."))
	w.Printf("  %s/recipes      the recipes, to read and to change\n", dir)
	w.Printf("  %s/packages     the packages; any tar with zstd lists them\n", dir)
	w.Printf("  %s/repository   the repository: static files\n", dir)
	w.Printf("  %s/station      a root, with its history\n", dir)
	w.Printf("  %s/images/made  an OCI image\n", dir)
	w.Printf("\nTo try, in %s:\n", dir)
	for _, s := range []struct{ command, what string }{
		{"ellwand show tidegauge --files", "what is in a package"},
		{"ellwand trial tidegauge", "rehearse another package"},
		{"ellwand root rewind station 2", "install the packages again that were in the root"},
		{"ellwand show harbour", "what is in the image"},
		{"ellwand lint foghorn --fix", "apply automatic fixes to it"},
		{"ellwand explain ELL201", "what a rule of lint finds, and why"},
		{"ellwand explain recipe", "how a recipe of your own begins"},
		{"ellwand demo --channels ../more", "a new soname, refused, rebuilt, promoted, and taken back"},
	} {
		w.Printf("  %-34s %s\n", s.command, w.Style(term.Faint, s.what))
	}
	if _, err := exec.LookPath("ellwand"); err != nil {
		w.Printf("(`ellwand` is not on your PATH yet: `go install ./cmd/ellwand`, in Ellwand's source directory, puts it where Go keeps programs.)\n")
	}
	w.Printf("Take a line out of the layout in recipes/tidegauge/recipe.toml, or misspell a key, and build again.\n")
}
