// Package cli is the command line: it turns words into calls of the core, and
// what the core returns into text or JSON. One file holds one command.
package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"ellwand.example/app"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/ell"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/workspace"
)

// Exit statuses.
const (
	statusDone        = 0
	statusFindings    = 1   // lint errors, a difference
	statusUsage       = 2   // wrong words on the command line
	statusInput       = 3   // what was given cannot be read
	statusStep        = 4   // a step failed
	statusMachine     = 5   // the machine lacks something
	statusInterrupted = 130 // by Ctrl-C
)

// interrupted is what a command says that Ctrl-C ended.
const interrupted = "interrupted; nothing is left half-written\n"

// usageError is an error on the command line.
type usageError struct{ error }

// Status is that of the command line.
func (usageError) Status() fact.Status { return fact.StatusUsage }

// statusError ends a command with a status after it has said all there is to
// say.
type statusError int

func (s statusError) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// program is what every command shares.
type program struct {
	out, err  *term.Writer
	progress  *term.Progress
	json      bool
	quiet     bool
	verbose   bool
	color     string
	workspace string // the directory that --workspace names
	isolation string // what --isolation says
	// collected is what printJSON was called with, while a command runs for several targets.
	collected []json.RawMessage
	target    string // what --target says
	running   bool   // the words were understood
}

// Most commands are over before collecting memory would be worth while: it may
// grow to several times of what is used, but from softMemory on it is collected
// as often as it takes. No work of a usual size takes more than 256 MiB.
const (
	softMemory = 200 << 20
	memoryRate = 400 // percent
)

// Main runs a command line and returns the exit status.
func Main(args []string) int {
	// In the inner half of a sandbox this does not come back.
	sandbox.Enter()
	// What Ellwand writes has the modes it means, whatever the caller's mask.
	syscall.Umask(0o022)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softMemory)
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(memoryRate)
	}
	ctx, stop := interruptible(func() {
		os.Stderr.WriteString("\n" + interrupted)
		os.Exit(statusInterrupted)
	})
	defer stop()
	a := &program{}
	root := a.root(os.Stdout, os.Stderr)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if a.progress != nil {
		a.progress.Close()
	}
	var end statusError
	if a.out != nil && a.out.Err() != nil && (err == nil || errors.As(err, &end)) {
		err = &outputError{a.out.Err()}
	}
	return a.finish(ctx, err)
}

func (a *program) root(stdout, stderr io.Writer) *cobra.Command {
	root := &cobra.Command{
		Use:   "ellwand",
		Short: "Build, lint and publish system packages",
		Long: `Ellwand is for people who maintain system packages. With it you write a build
recipe, declare what it needs and how its files are laid out, build binary
packages from it, lint them, and publish them into a repository.`,
		Example: `  ellwand demo                       a whole example with made-up data
  ellwand init my-packages           start a workspace of your own
  ellwand explain recipe             how a recipe begins`,
		Version:       build.Version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if a.color != "auto" && a.color != "always" && a.color != "never" {
				return usageError{fmt.Errorf("--color is auto, always or never, not %q", a.color)}
			}
			a.running = true
			a.out, a.err = term.NewWriter(stdout, a.color), term.NewWriter(stderr, a.color)
			a.out.Edit, a.err.Edit = a.withTarget, a.withTarget
			level := term.Normal
			if a.quiet {
				level = term.Quiet
			} else if a.verbose {
				level = term.Verbose
			}
			a.progress = term.NewProgress(a.err, level)
			return nil
		},
	}
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.SetVersionTemplate("ellwand {{.Version}}\n")
	cobra.EnableCommandSorting = false
	flags := root.PersistentFlags()
	flags.BoolVar(&a.json, "json", false, "print the result as JSON")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "print results and errors only")
	flags.BoolVarP(&a.verbose, "verbose", "v", false, "print more, such as the output of steps")
	flags.StringVar(&a.color, "color", "auto", "colors: auto, always or never")
	flags.StringVar(&a.workspace, "workspace", "", "the directory of the workspace (default: the current directory or the nearest above it)")
	root.MarkPersistentFlagDirname("workspace")
	flags.StringVar(&a.target, "target", "", "the target to make packages for: a [target.NAME] in ellwand.toml (default: the one in [build])")
	root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp))
	for _, group := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Recipes:", []*cobra.Command{a.initCommand(), a.draftCommand(), a.fetchCommand(), a.sourcesCommand(), a.bumpCommand(), a.exportCommand(), a.importCommand(), a.schemaCommand()}},
		{"Builds:", []*cobra.Command{a.forTargets(a.needsCommand()), a.forTargets(a.planCommand()), a.buildCommand(), a.logCommand(), a.cleanCommand()}},
		{"Packages:", []*cobra.Command{a.showCommand(), a.extractCommand(), a.compareCommand(), a.forTargets(a.lintCommand()), a.explainCommand(), a.forTargets(a.trialCommand()), a.orderCommand()}},
		{"Repositories:", []*cobra.Command{a.forTargets(a.publishCommand()), a.listCommand(), a.searchCommand(), a.syncCommand(), a.auditCommand(), a.promoteCommand(), a.retireCommand(), a.historyCommand(),
			a.rewindCommand(), a.verifyCommand(), a.pruneCommand(), a.indexCommand(), a.serveCommand()}},
		{"Roots and images:", []*cobra.Command{a.rootCommand(), a.imageCommand(), a.bomCommand()}},
		{"More:", []*cobra.Command{a.demoCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.title, Title: group.title})
		for _, c := range group.commands {
			c.GroupID = group.title
			root.AddCommand(c)
		}
	}
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		switch c.Name() {
		case "completion":
			// Without a shell that it knows, the library shows its help and is content.
			c.Args = arguments(func(cmd *cobra.Command, args []string) error {
				if len(args) > 0 {
					return fmt.Errorf("there is no completion for %q; the shells are bash, fish, powershell and zsh", args[0])
				}
				return nil
			})
			c.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
			c.Example = "  ellwand completion bash > /etc/bash_completion.d/ellwand"
		case "help":
			c.Run = nil
			c.RunE = func(cmd *cobra.Command, args []string) error {
				found, _, err := root.Find(args)
				if err != nil || found == root && len(args) > 0 {
					return usageError{fmt.Errorf("there is no command %q", strings.Join(args, " "))}
				}
				found.InitDefaultHelpFlag()
				return found.Help()
			}
		}
	}
	formatHelp(root)
	root.SetHelpCommandGroupID("More:")
	root.SetCompletionCommandGroupID("More:")
	return root
}

func (a *program) printJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	if a.collected != nil {
		a.collected = append(a.collected, b.Bytes())
		return nil
	}
	_, err := a.out.Exact().Write(term.ASCII(b.Bytes()))
	return err
}

// open finds and reads the workspace.
func (a *program) open() (*workspace.Workspace, error) {
	dir := a.workspace
	if dir == "" {
		found, err := workspace.Find(".")
		if err != nil {
			return nil, err
		}
		dir = found
	}
	w, err := workspace.Open(dir)
	if err == nil && a.target != "" {
		if err := w.ChooseTarget(a.target); err != nil {
			return nil, usageError{err}
		}
	}
	return w, err
}

// app opens the workspace for use cases.
func (a *program) app() (*app.App, error) {
	w, err := a.open()
	if err != nil {
		return nil, err
	}
	return &app.App{Workspace: w, Progress: a.progress}, nil
}

// appIfAny is app for commands that work without a workspace too.
func (a *program) appIfAny() (*app.App, error) {
	w, err := a.openIfAny()
	if err != nil {
		return nil, err
	}
	return &app.App{Workspace: w, Progress: a.progress}, nil
}

// builder returns what builds recipes, with the isolation that the flag asks for.
func (a *program) builder(ctx context.Context, u *app.App) (*build.Builder, error) {
	isolation, err := a.chosenIsolation()
	if err != nil {
		return nil, err
	}
	return u.Builder(ctx, isolation)
}

// chosenIsolation is what the flag asks for.
func (a *program) chosenIsolation() (app.Isolation, error) {
	isolation := cmp.Or(app.Isolation(a.isolation), app.Namespaces)
	if isolation != app.Namespaces && isolation != app.NoSandbox {
		return "", usageError{fmt.Errorf("--isolation is namespaces or none, not %q", a.isolation)}
	}
	return isolation, nil
}

// openIfAny is open for commands that do without a workspace as well.
func (a *program) openIfAny() (*workspace.Workspace, error) {
	w, err := a.open()
	if errors.Is(err, workspace.ErrNotFound) {
		return nil, nil
	}
	return w, err
}

// isolationFlag adds the flag that builder reads.
func (a *program) isolationFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.isolation, "isolation", "", "how steps are separated from the machine: namespaces (the default) or none")
	cmd.RegisterFlagCompletionFunc("isolation", cobra.FixedCompletions([]string{"namespaces", "none"}, cobra.ShellCompDirectiveNoFileComp))
}

// recipes reads the named recipes, or all of them. The mistakes of all are
// returned together.
func recipes(w *workspace.Workspace, names []string) ([]*recipe.Recipe, error) {
	if len(names) == 0 {
		all, err := w.Recipes()
		if err != nil {
			return nil, err
		}
		if len(all) == 0 {
			return nil, errors.New("the workspace has no recipes yet: `ellwand explain recipe` shows how one begins")
		}
		names = all
	}
	var out []*recipe.Recipe
	var problems document.Problems
	for _, name := range names {
		r, err := w.Recipe(app.RecipeName(name))
		var p document.Problems
		if errors.As(err, &p) {
			problems = append(problems, p...)
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, problems.Err()
}

// soundRecipes reads all recipes of the workspace. Those with mistakes are left
// out, and in the error, which is a *brokenError.
func soundRecipes(w *workspace.Workspace) (sound []*recipe.Recipe, broken error, err error) {
	names, err := w.Recipes()
	if err != nil {
		return nil, nil, err
	}
	if len(names) == 0 {
		return nil, nil, errors.New("the workspace has no recipes yet: `ellwand explain recipe` shows how one begins")
	}
	var problems document.Problems
	for _, name := range names {
		r, err := w.Recipe(name)
		var p document.Problems
		switch {
		case errors.As(err, &p):
			problems = append(problems, p...)
		case err != nil:
			problems = append(problems, document.Problem{File: workspace.Display(filepath.Join(w.Dir, workspace.RecipesDir, name, recipe.FileName)), Message: err.Error()})
		default:
			sound = append(sound, r)
		}
	}
	if len(problems) == 0 {
		return sound, nil, nil
	}
	if len(sound) == 0 {
		return nil, nil, problems
	}
	return sound, &brokenError{problems}, nil
}

// completeRecipes proposes the names of recipes.
func (a *program) completeRecipes(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	w, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := w.Recipes()
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completePackages proposes package files.
func completePackages(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{strings.TrimPrefix(ell.Extension, ".")}, cobra.ShellCompDirectiveFilterFileExt
}

// completeShown proposes recipes, whose packages mostly have their names, and
// files of packages.
func (a *program) completeShown(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	names, _ := a.completeRecipes(cmd, args, word)
	files, _ := filepath.Glob(word + "*" + ell.Extension)
	return append(names, files...), cobra.ShellCompDirectiveDefault
}

// completeRepositories proposes the configured repositories; directories do too.
func (a *program) completeRepositories(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	w, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	var names []string
	for name := range w.Settings.Repositories {
		names = append(names, name)
	}
	return names, cobra.ShellCompDirectiveDefault
}

// arguments turns an error in the arguments into a usage error with an example.
func arguments(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return usageError{fmt.Errorf("%w; for example:\n%s", err, cmd.Example)}
		}
		return nil
	}
}

// atLeastOne expects one argument or more, which are called what.
func atLeastOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return fmt.Errorf("missing argument: %s", what)
		}
		return nil
	}
}

// exactlyOne expects one argument, which is called what.
func exactlyOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch len(args) {
		case 0:
			return fmt.Errorf("missing argument: %s", what)
		case 1:
			return nil
		}
		return fmt.Errorf("too many arguments: expected one %s, got %d", what, len(args))
	}
}

// none expects no arguments.
func none(_ *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("unexpected argument: %s", args[0])
	}
	return nil
}

// atMostOne expects one argument or none.
func atMostOne(_ *cobra.Command, args []string) error {
	if len(args) > 1 {
		return fmt.Errorf("too many arguments: expected at most one, got %d", len(args))
	}
	return nil
}
