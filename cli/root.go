// Package cli is the command line: it turns words into calls of the core, and
// what the core returns into text or JSON. One file holds one command.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/build"
	"ellwand.example/core/document"
	"ellwand.example/core/fact"
	"ellwand.example/core/history"
	"ellwand.example/core/pack"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/sandbox"
	"ellwand.example/core/solve"
	"ellwand.example/core/source"
	"ellwand.example/core/staging"
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

// outputError says that results could not be written to standard output.
type outputError struct{ err error }

func (e *outputError) Error() string { return "the output could not be written: " + e.err.Error() }

func (e *outputError) Unwrap() error { return e.err }

// interrupted is what a command says that Ctrl-C ended.
const interrupted = "interrupted; nothing is left half-written\n"

// usageError is a mistake on the command line.
type usageError struct{ error }

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
	workspace string // the folder that --workspace names
	isolation string // what --isolation says
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
		Version:       build.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if a.color != "auto" && a.color != "always" && a.color != "never" {
				return usageError{fmt.Errorf("--color is auto, always or never, not %q", a.color)}
			}
			a.running = true
			a.out, a.err = term.NewWriter(stdout, a.color), term.NewWriter(stderr, a.color)
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
	flags.BoolVar(&a.json, "json", false, "print the same facts as JSON")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "print results and errors only")
	flags.BoolVarP(&a.verbose, "verbose", "v", false, "print more of what happens, such as the output of steps")
	flags.StringVar(&a.color, "color", "auto", "colours: auto, always or never")
	flags.StringVar(&a.workspace, "workspace", "", "the workspace's folder (default: this one or the nearest above)")
	root.MarkPersistentFlagDirname("workspace")
	flags.StringVar(&a.target, "target", "", "what packages are made for: a [target] of ellwand.toml (default: the one that [build] names)")
	root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp))
	for _, group := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Recipes:", []*cobra.Command{a.initCommand(), a.draftCommand(), a.fetchCommand(), a.sourcesCommand(), a.bumpCommand(), a.exportCommand(), a.importCommand(), a.schemaCommand()}},
		{"Builds:", []*cobra.Command{a.needsCommand(), a.planCommand(), a.buildCommand(), a.logCommand(), a.cleanCommand()}},
		{"Packages:", []*cobra.Command{a.showCommand(), a.extractCommand(), a.compareCommand(), a.lintCommand(), a.explainCommand(), a.orderCommand()}},
		{"Repositories:", []*cobra.Command{a.publishCommand(), a.listCommand(), a.searchCommand(), a.syncCommand(), a.auditCommand(), a.promoteCommand(), a.retireCommand(), a.historyCommand(),
			a.rewindCommand(), a.verifyCommand(), a.pruneCommand(), a.indexCommand(), a.serveCommand()}},
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
	root.SetHelpCommandGroupID("More:")
	root.SetCompletionCommandGroupID("More:")
	return root
}

// finish says what went wrong, and with which status to end.
func (a *program) finish(ctx context.Context, err error) int {
	var status statusError
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &status):
		return int(status)
	}
	if a.err == nil {
		a.out, a.err = term.NewWriter(os.Stdout, "auto"), term.NewWriter(os.Stderr, "auto")
	}
	if ctx.Err() != nil {
		a.err.Printf("%s", interrupted)
		return statusInterrupted
	}
	code := statusOf(err)
	var usage usageError
	if !a.running || errors.As(err, &usage) {
		a.err.Printf("%s\n%s\n", a.err.Style(term.Bad, err.Error()), "`ellwand help` lists the commands, `ellwand COMMAND --help` shows how one is used")
		return statusUsage
	}
	var broken *brokenError
	if errors.As(err, &broken) {
		a.err.Printf("\nleft out, for the mistakes in them:\n")
	} else if a.json {
		a.printJSON(jsonError(err))
	}
	a.explainError(err)
	return code
}

// statusOf finds the exit status for an error of the core.
func statusOf(err error) int {
	var step *build.StepError
	var packing *build.PackError
	var change *build.ChangeError
	if errors.As(err, &step) || errors.As(err, &packing) || errors.As(err, &change) {
		return statusStep
	}
	var gate *repo.RefusedError
	var unsolved *solve.NoAnswerError
	var unfit *unfitError
	if errors.As(err, &gate) || errors.As(err, &unsolved) || errors.As(err, &unfit) {
		return statusFindings
	}
	var unreachable *repo.UnreachableError
	if errors.As(err, &unreachable) {
		return statusMachine
	}
	var missing *build.MissingError
	var http *source.HTTPError
	var refused *sandbox.RefusedError
	var setUp *sandbox.SetupError
	var output *outputError
	var noBase *build.SystemError
	if errors.As(err, &setUp) || errors.As(err, &output) || errors.As(err, &missing) || errors.As(err, &http) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, fs.ErrPermission) ||
		errors.Is(err, syscall.EROFS) || errors.Is(err, build.ErrBusy) || errors.As(err, &refused) || errors.As(err, &noBase) {
		return statusMachine
	}
	return statusInput
}

func jsonError(err error) any {
	var problems document.Problems
	if errors.As(err, &problems) {
		return map[string]any{"error": fmt.Sprintf("%d mistakes", len(problems)), "problems": problems}
	}
	var step *build.StepError
	if errors.As(err, &step) {
		return map[string]any{"error": err.Error(), "step": step}
	}
	var packing *build.PackError
	if errors.As(err, &packing) {
		return map[string]any{"error": err.Error(), "layout": packing.Mismatch}
	}
	var gate *repo.RefusedError
	if errors.As(err, &gate) {
		return map[string]any{"error": fmt.Sprintf("channel %s would become inconsistent", gate.Channel), "findings": gate.Findings, "rebuild": gate.Rebuild}
	}
	var unfit *unfitError
	if errors.As(err, &unfit) {
		return map[string]any{"error": fmt.Sprintf("%d findings keep packages back from channel %s", len(unfit.findings), unfit.channel), "findings": unfit.findings}
	}
	var missing *build.MissingError
	if errors.As(err, &missing) {
		return map[string]any{"error": fmt.Sprintf("%d needs are not met", len(missing.Needs)), "needs": missing.Needs}
	}
	return map[string]any{"error": err.Error()}
}

func (a *program) explainError(err error) {
	var problems document.Problems
	var step *build.StepError
	var packing *build.PackError
	var change *build.ChangeError
	var refused *sandbox.RefusedError
	var missing *build.MissingError
	var gate *repo.RefusedError
	var unfit *unfitError
	var unsolved *solve.NoAnswerError
	var shared *build.SharedNameError
	var none *repo.NotRepositoryError
	var absent *noRepositoryError
	var unreadable *staging.UnreadableError
	var back *repo.BackError
	var jump *repo.JumpError
	switch {
	case errors.As(err, &gate):
		a.explainRefused(gate)
	case errors.As(err, &unfit):
		a.explainUnfit(unfit)
	case errors.As(err, &unsolved):
		a.err.Printf("%s\n", a.err.Style(term.Bad, "there is no set of packages in which everything has what it needs:"))
		for _, s := range unsolved.Sentences() {
			a.err.Printf("  %s\n", a.err.Wrapped(s, 2))
		}
	case errors.As(err, &missing):
		a.explainMissing(missing)
	case errors.As(err, &refused):
		a.err.Printf("%s\n%s\n", a.err.Style(term.Bad, refused.Error()),
			"have the machine's administrator allow user namespaces; or go on with `--isolation none`: steps can then write wherever you can, which the package records and lint reports")
	case errors.Is(err, sandbox.ErrNoTerminal):
		a.err.Printf("%s\n", a.err.Style(term.Bad, err.Error()))
		a.err.Printf("to run the steps up to one without a shell, use `ellwand build RECIPE --until STEP`\n")
	case errors.As(err, &problems):
		a.err.Problems(problems)
		files := map[string]int{}
		for _, p := range problems {
			files[p.File]++
		}
		for file, n := range files {
			a.err.Printf("%s in %s\n", a.err.Style(term.Bad, fact.Count(n, "mistake", "mistakes")), file)
		}
	case errors.As(err, &step):
		a.explainStep(step)
	case errors.As(err, &packing):
		a.explainPacking(packing)
	case errors.As(err, &change):
		a.err.Printf("%s: %s\n", a.err.Style(term.Strong, fmt.Sprintf("%s:%d", change.File, change.Line)), a.err.Style(term.Bad, change.What))
		for line := range strings.SplitSeq(change.Err.Error(), "\n") {
			a.err.Printf("%s %s\n", a.err.Style(term.Faint, "       |"), line)
		}
		a.err.Printf("%s\n", a.err.Style(term.Good, change.Remedy))
	case errors.As(err, &absent):
		a.err.Printf("%s\n", a.err.Style(term.Bad, absent.Error()))
		a.err.Printf("%s\n", a.err.Style(term.Good, fmt.Sprintf("to start one there, add --new: `ellwand publish PACKAGE... --to %s --new`", absent.name)))
	case errors.As(err, &unreadable):
		path, mode := unreadable.Path, "0600"
		if unreadable.Dir {
			path, mode = path+"/", "0700"
		}
		a.err.Printf("%s\n", a.err.Style(term.Bad, a.err.Wrapped(err.Error(), 0)))
		a.err.Printf("%s\n", a.err.Style(term.Good, fmt.Sprintf("stage it with the mode %s, and give it its own in the layout:\n  %q = { mode = %q }", mode, path, fact.Octal(unreadable.Mode))))
	case errors.As(err, &none):
		a.err.Printf("%s\n", a.err.Style(term.Bad, none.Error()))
		if !none.Foreign {
			a.err.Printf("`ellwand publish PACKAGE... --to %s --new` starts one\n", none.Dir)
		}
	case errors.As(err, &shared):
		a.err.Printf("%s\n", a.err.Style(term.Bad, a.err.Wrapped(err.Error(), 0)))
		a.err.Printf("%s\n", a.err.Style(term.Good, a.err.Wrapped("put the option into the package's name, as in [package.\"NAME-{option.x}\"], raise the release, or remove the file", 0)))
	case errors.As(err, &back), errors.As(err, &jump):
		a.err.Printf("%s\n", a.err.Style(term.Bad, err.Error()))
		a.err.Printf("if it was begun anew on purpose, `ellwand sync REPO --forget` forgets what was seen of it; otherwise ask whoever keeps it\n")
	default:
		a.err.Printf("%s\n", a.err.Style(term.Bad, err.Error()))
		if errors.Is(err, syscall.ENOSPC) {
			a.err.Printf("the disk is full; what was there before is as it was\n")
		}
	}
}

func (a *program) printJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
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

// openIfAny is open for commands that do without a workspace as well.
func (a *program) openIfAny() (*workspace.Workspace, error) {
	w, err := a.open()
	if errors.Is(err, workspace.ErrNotFound) {
		return nil, nil
	}
	return w, err
}

func (a *program) fetcher(ctx context.Context, w *workspace.Workspace) *source.Fetcher {
	f := source.NewFetcher(source.DefaultCache(w.State("sources")), a.progress)
	f.Team.URL = w.Settings.Sources.URL
	// A cache that does not know of a workspace may lose what it needs, and
	// fetches it again.
	f.Cache.Enlist(ctx, w.Dir)
	return f
}

// builder makes what builds recipes, with steps kept apart as --isolation says.
func (a *program) builder(ctx context.Context, w *workspace.Workspace) (*build.Builder, error) {
	b := &build.Builder{Workspace: w, Fetcher: a.fetcher(ctx, w), Runner: sandbox.None{}, Progress: a.progress}
	var err error
	if b.History, err = history.Open(ctx, historyFile(w)); err != nil {
		a.progress.Note("there is no history of builds: " + err.Error())
		b.History = nil
	}
	switch a.isolation {
	case "none":
		if w.On.System != "" && w.On.System != workspace.HostSystem {
			return nil, usageError{fmt.Errorf("target %s has a system of its own, which --isolation none cannot give to the steps", w.Target.Name)}
		}
		return b, nil
	case "", "namespaces":
	default:
		return nil, usageError{fmt.Errorf("--isolation is namespaces or none, not %q", a.isolation)}
	}
	system, err := build.System(ctx, w, a.progress)
	if err != nil {
		return nil, err
	}
	runner, err := build.Isolate(ctx, w)
	runner.System = system
	if runner.Copies {
		a.progress.Note("overlay mounts are unavailable here: each step works on a copy of all files")
	}
	b.Runner = runner
	return b, err
}

// isolationFlag adds the flag that builder reads.
func (a *program) isolationFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.isolation, "isolation", "", "how steps are kept apart from the machine: namespaces (the default) or none")
	cmd.RegisterFlagCompletionFunc("isolation", cobra.FixedCompletions([]string{"namespaces", "none"}, cobra.ShellCompDirectiveNoFileComp))
}

// recipeName takes a recipe's name, or a path to its folder or file.
func recipeName(arg string) string {
	arg = filepath.Clean(arg)
	if filepath.Base(arg) == recipe.FileName {
		arg = filepath.Dir(arg)
	}
	return filepath.Base(arg)
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
		r, err := w.Recipe(recipeName(name))
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

// brokenError is recipes with mistakes among all of a workspace, that a command
// went on without.
type brokenError struct{ document.Problems }

func (e *brokenError) Unwrap() error { return e.Problems }

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
	return []string{strings.TrimPrefix(pack.Extension, ".")}, cobra.ShellCompDirectiveFilterFileExt
}

// completeShown proposes recipes, whose packages mostly have their names, and
// files of packages.
func (a *program) completeShown(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	names, _ := a.completeRecipes(cmd, args, word)
	files, _ := filepath.Glob(word + "*" + pack.Extension)
	return append(names, files...), cobra.ShellCompDirectiveDefault
}

// completeRepositories proposes the configured repositories; folders do too.
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

// arguments turns a mistake in the number of arguments into a usage error with
// an example.
func arguments(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return usageError{fmt.Errorf("%w; for example:\n%s", err, cmd.Example)}
		}
		return nil
	}
}

// atLeastOne wants one argument or more, and says of what.
func atLeastOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return fmt.Errorf("%s needs %s", cmd.CommandPath(), what)
		}
		return nil
	}
}

// exactlyOne wants one argument, and says what it is.
func exactlyOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return fmt.Errorf("%s needs %s, and got %s", cmd.CommandPath(), what, fact.Count(len(args), "word", "words"))
		}
		return nil
	}
}

// none wants no argument.
func none(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("%s takes no word, and got %s", cmd.CommandPath(), fact.Count(len(args), "word", "words"))
	}
	return nil
}

// atMostOne wants one argument or none.
func atMostOne(cmd *cobra.Command, args []string) error {
	if len(args) > 1 {
		return fmt.Errorf("%s takes one word at most, and got %d", cmd.CommandPath(), len(args))
	}
	return nil
}
