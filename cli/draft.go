package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"go/version"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ellwand.example/app"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/draft"
	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/recipe/revision"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// draftOptions are the flags of draft.
type draftOptions struct {
	name, version, license, summary string
	tag                             string
	build, noTests, write, options  bool
	image                           bool
	chosen                          []string
}

func (a *program) draftCommand() *cobra.Command {
	var o draftOptions
	cmd := &cobra.Command{
		Use:   "draft SOURCE | draft --image PACKAGE...",
		Short: "Write a first recipe from an archive, directory or URL",
		Long: `Inspect an upstream source and write a first recipe for it: name, version, license,
summary, description, homepage, how it is built, and the dependencies that its build
files ask for. Nothing is invented: what is not found is left open in the recipe, or has a
placeholder, with which the package can be built and tried, but not published.

Nothing of the source is run, except with --build: build the recipe, correct it from
each failure, and retry while that helps; then lint. The layout is filled in from what
was staged.

SOURCE may be the address of a git repository (https://….git, or with --tag): the tag with
the newest version is taken, or the one that --tag names.

With --options, list what the source's own configuration can turn on and off, and stop;
--option NAME makes one of them an option of the recipe, which --set changes.

With --image, write the description of an image with the named packages instead.

If the recipe exists, it is not changed: the difference to the draft is shown, and the
exit status is 1. With --write, it is changed. Values already in the recipe are reused.`,
		Example: `  ellwand draft upstream/libharmonic-1.4.3.tar.gz --options
  ellwand draft upstream/tidegauge-2.4.1.tar.gz --name tidegauge-again --build
  ellwand draft https://files.saltmarsh.example/tidegauge-2.4.1.tar.gz
  ellwand draft --image tidegauge tide-almanac --name station`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if o.image {
				return atLeastOne("a PACKAGE")(cmd, args)
			}
			return exactlyOne("SOURCE")(cmd, args)
		}),
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.image {
				return a.draftImage(cmd.Context(), o.name, args)
			}
			w, err := a.open()
			if err != nil {
				return err
			}
			return a.draft(cmd.Context(), w, args[0], o)
		},
	}
	cmd.Flags().StringVar(&o.name, "name", "", "the name of the recipe or image")
	cmd.Flags().StringVar(&o.version, "version", "", "the version, in place of the one found")
	cmd.Flags().StringVar(&o.license, "license", "", "the license, as an SPDX expression, in place of what is found")
	cmd.Flags().StringVar(&o.summary, "summary", "", "the summary, in place of the one found")
	cmd.Flags().BoolVar(&o.noTests, "no-tests", false, "do not run the source's own tests")
	cmd.Flags().BoolVar(&o.write, "write", false, "change the recipe, if it exists")
	cmd.Flags().BoolVar(&o.options, "options", false, "list the options of the source")
	cmd.Flags().StringSliceVar(&o.chosen, "option", nil, "make this option of the source an option of the recipe; may be repeated")
	cmd.Flags().StringVar(&o.tag, "tag", "", "the tag of a git repository")
	cmd.Flags().BoolVar(&o.build, "build", false, "build the recipe, and correct it from failures")
	cmd.Flags().BoolVar(&o.image, "image", false, "write the description of an image with these packages")
	for _, other := range []string{"version", "license", "summary", "no-tests", "write", "options", "option", "tag", "build"} {
		cmd.MarkFlagsMutuallyExclusive("image", other)
	}
	a.isolationFlag(cmd)
	return cmd
}

// draftImage writes the description of an image.
func (a *program) draftImage(ctx context.Context, name string, packages []string) error {
	u, err := a.app()
	if err != nil {
		return err
	}
	file, err := u.DraftImage(ctx, name, packages)
	if err != nil {
		return err
	}
	shown := workspace.Display(file)
	if a.json {
		return a.printJSON(map[string]string{"file": shown})
	}
	name = strings.TrimSuffix(filepath.Base(file), image.DescriptionExtension)
	a.out.Printf("written: %s\nnext: `ellwand image %s` makes it, and `ellwand trial --image %s` tries it\n", shown, name, name)
	return nil
}

func (a *program) draft(ctx context.Context, w *workspace.Workspace, arg string, o draftOptions) error {
	if err := w.MakeState(); err != nil {
		return err
	}
	temp, err := os.MkdirTemp(w.State(), "draft-")
	if err != nil {
		return err
	}
	defer layer.RemoveAll(temp)
	origin, path, err := a.draftSource(ctx, w, arg, o.tag, temp)
	if err != nil {
		return err
	}
	tree := filepath.Join(temp, "tree")
	if err := os.Mkdir(tree, 0o755); err != nil {
		return err
	}
	out, err := source.Unpack(ctx, tree, source.Job{Path: path, Name: filepath.Base(arg), SHA256: origin.SHA256}, a.progress)
	if err != nil {
		return err
	}
	known := strings.TrimSuffix(arg, "/")
	if origin.Git != "" {
		known = source.FileName(recipe.Source{Git: origin.Git, Tag: origin.Tag, Commit: origin.Commit})
	}
	f, err := draft.Look(tree, known, out.Dropped)
	if err != nil {
		return err
	}
	if o.options {
		return a.showOptions(f)
	}
	if err := f.Choose(o.chosen); err != nil {
		return err
	}
	f.Name = cmp.Or(o.name, f.Name)
	if f.Name == "" {
		return usageError{fmt.Errorf("%s does not tell what it is called: give it a name with --name", arg)}
	}
	file := filepath.Join(w.Dir, workspace.RecipesDir, f.Name, recipe.FileName)
	there, err := os.ReadFile(file)
	fresh := errors.Is(err, fs.ErrNotExist)
	if err != nil && !fresh {
		return err
	}
	// Mistakes in it are for `ellwand lint` to tell; what can be read of it counts.
	if r, _ := recipe.Parse(file, there, w.Target, nil); r != nil && !fresh {
		f.Keep(r)
	}
	f.Version, f.License, f.Summary = cmp.Or(o.version, f.Version), cmp.Or(o.license, f.License), cmp.Or(o.summary, f.Summary)
	if o.noTests {
		f.Steps[recipe.Test] = "true # left out: draft --no-tests"
	}
	d := &drafted{facts: f, origin: origin, beside: path, author: author()}
	switch {
	case fresh && !o.build:
		return errors.Join(d.write(w), a.endDraft(w, d))
	case fresh:
		if err := d.write(w); err != nil {
			return err
		}
		a.showFound(d.facts, d.author, workspace.Display(file))
		err := a.buildDraft(ctx, w, d, true)
		if err == nil && !a.json {
			a.showOpen(file, d.facts)
			a.out.Printf("Next: review %s, then `ellwand trial %s`\n", workspace.Display(file), d.facts.Name)
		}
		return err
	case o.build:
		// The existing recipe is not changed: the trials are made elsewhere.
		aside, err := w.AsideOf(filepath.Join(temp, "workspace"))
		if err != nil {
			return err
		}
		if err := errors.Join(d.write(aside), a.buildDraft(ctx, aside, d, false)); err != nil {
			return err
		}
		if d.origin.File != "" {
			d.beside = filepath.Join(aside.Dir, workspace.RecipesDir, f.Name, d.origin.File)
		}
	}
	if text := d.text(); o.write && !bytes.Equal(there, text) {
		a.showDifference(udiff.Unified(workspace.Display(file), workspace.Display(file)+" (drafted now)", string(there), string(text)))
		if err := d.write(w); err != nil {
			return err
		}
		a.out.Printf("%s is changed; next: `ellwand build %s`\n", workspace.Display(file), f.Name)
		return nil
	}
	return a.draftAgain(workspace.Display(file), there, d.text())
}

// showOpen lists the facts that are still placeholders, with the lines to edit.
func (a *program) showOpen(file string, f draft.Facts) {
	open := f.Open()
	if len(open) == 0 {
		return
	}
	a.out.Printf("%s\n", a.out.Style(term.Doubtful, "To fill in before it can be published:"))
	doc, err := document.ReadFile(file, workspace.Display(file))
	if err != nil {
		return // it was just written
	}
	for _, key := range open {
		line, _ := doc.Position(doc.At(key).Offset)
		a.out.Printf("  %s:%d: %s\n", workspace.Display(file), line, strings.TrimSpace(doc.Line(line)))
	}
}

// bigSource is from how many bytes on a source is kept out of git.
const bigSource = 1 << 20

// drafted is a recipe in the making.
type drafted struct {
	facts  draft.Facts
	origin draft.Source
	beside string // the source's file, where it belongs beside the recipe
	author string
}

func (d *drafted) text() []byte {
	return draft.Recipe(d.facts, d.origin, d.author, time.Now().UTC())
}

// write puts the recipe into a workspace.
func (d *drafted) write(w *workspace.Workspace) error {
	dir := filepath.Join(w.Dir, workspace.RecipesDir, d.facts.Name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if d.origin.File != "" {
		to := filepath.Join(dir, d.origin.File)
		// A directory that changed is packed anew.
		if _, err := os.Stat(d.beside); err == nil && d.beside != to {
			if err := os.Rename(d.beside, to); err != nil {
				return err
			}
		}
	}
	if d.origin.File != "" && revision.InRepository(w.Dir) {
		// Big files make every clone slow, for ever; the source cache has it.
		if info, err := os.Stat(filepath.Join(dir, d.origin.File)); err == nil && info.Size() > bigSource {
			if err := os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("/"+d.origin.File+"\n"), 0o644); err != nil {
				return err
			}
		}
	}
	return renameio.WriteFile(filepath.Join(dir, recipe.FileName), d.text(), 0o644)
}

// buildDraft builds a drafted recipe in rounds. If it is kept, what comes out is shown and
// linted.
func (a *program) buildDraft(ctx context.Context, w *workspace.Workspace, d *drafted, kept bool) error {
	u := &app.App{Workspace: w, Progress: a.progress}
	b, err := a.builder(ctx, u)
	if err != nil {
		return err
	}
	var rounds []draft.Round
	trials := &draft.Trials{Builder: b, Facts: &d.facts, Write: func() error { return d.write(w) }, Tell: func(r draft.Round) {
		rounds = append(rounds, r)
		if !a.json {
			a.out.Printf("%s %s\n         %s\n", a.out.Style(term.Faint, fmt.Sprintf("round %d:", r.Number)), r.Failed, a.out.Style(term.Good, r.Learned))
		}
	}}
	if !a.json {
		a.out.Printf("building it to find out what is missing\n")
	}
	res, err := trials.Run(ctx)
	if err != nil {
		return err
	}
	if !kept && !a.json {
		return nil
	}
	found, err := u.Lint(ctx, u.Linter(ctx), app.LintTargets{Recipes: []string{res.Recipe}})
	if err != nil {
		return err
	}
	if fixed, n, err := a.fixDraft(ctx, u, b, found.Findings); err != nil {
		return err
	} else if n > 0 {
		res = fixed
		if !a.json {
			a.out.Printf("lint: %s fixed in the recipe\n", a.out.Style(term.Good, fact.Count(n, "finding", "findings")))
		}
		if found, err = u.Lint(ctx, u.Linter(ctx), app.LintTargets{Recipes: []string{res.Recipe}}); err != nil {
			return err
		}
	}
	if a.json {
		return a.printJSON(map[string]any{"facts": d.facts, "rounds": rounds, "build": res, "findings": found.Findings})
	}
	a.showBuild(res)
	a.showFindings(found.Subjects, found.Findings)
	return nil
}

// fixDraft applies the automatic fixes of a drafted recipe's findings, and builds it again. If
// it no longer builds, the recipe is put back.
func (a *program) fixDraft(ctx context.Context, u *app.App, b *build.Builder, findings []fact.Finding) (res build.Result, n int, err error) {
	fixed, _, err := u.Fix(findings)
	if err != nil || len(fixed) != 1 || len(fixed[0].Findings) == 0 {
		return res, 0, err
	}
	f := fixed[0]
	if err := app.WriteFixed(f); err != nil {
		return res, 0, err
	}
	r, err := u.Workspace.Recipe(f.Recipe.Name)
	if err == nil {
		res, err = b.Build(ctx, r, build.Options{})
	}
	if err != nil {
		return res, 0, errors.Join(context.Cause(ctx), renameio.WriteFile(f.Recipe.Beside(recipe.FileName), f.Recipe.Doc.Data, 0o644))
	}
	if res.State == build.Repacked {
		res.State = build.Built
	}
	return res, len(f.Findings), nil
}

// draftSource brings the source into the source cache. A directory becomes an archive
// in temp, to be put beside the recipe.
func (a *program) draftSource(ctx context.Context, w *workspace.Workspace, arg, tag, temp string) (origin draft.Source, path string, err error) {
	fetcher := (&app.App{Workspace: w, Progress: a.progress}).Fetcher(ctx)
	u, err := url.Parse(arg)
	if isGit := err == nil && (strings.HasSuffix(u.Path, ".git") && u.Scheme != "" || u.Scheme == "git" || u.Scheme == "ssh"); isGit || tag != "" {
		origin.Git, origin.Tag = arg, tag
		if tag == "" {
			if origin.Tag, err = newestTag(ctx, arg); err != nil {
				return origin, "", err
			}
		}
		got, err := fetcher.Fetch(ctx, &recipe.Recipe{Sources: []recipe.Source{{Git: origin.Git, Tag: origin.Tag}}}, 0)
		origin.Commit = got.Commit
		return origin, got.Path, err
	}
	if err == nil && u.Scheme != "" && u.Host+u.Path != "" {
		origin.URL = arg
	} else {
		abs, err := filepath.Abs(arg)
		if err != nil {
			return origin, "", err
		}
		info, err := os.Stat(abs)
		if errors.Is(err, fs.ErrNotExist) {
			return origin, "", fmt.Errorf("there is no file or directory %s", arg)
		}
		if err != nil {
			return origin, "", err
		}
		if info.IsDir() {
			origin.File = filepath.Base(abs) + ".tar.gz"
			path = filepath.Join(temp, origin.File)
			return origin, path, source.PackDirectory(ctx, abs, path)
		}
		origin.URL = (&url.URL{Scheme: "file", Path: abs}).String()
	}
	r := &recipe.Recipe{Sources: []recipe.Source{{URL: origin.URL}}}
	got, err := fetcher.Fetch(ctx, r, 0)
	origin.SHA256 = got.SHA256
	return origin, got.Path, err
}

// newestTag is the tag of a repository that names the newest version.
func newestTag(ctx context.Context, address string) (string, error) {
	tags, err := source.Tags(ctx, address)
	if err != nil {
		return "", err
	}
	newest := ""
	for _, tag := range tags {
		if _, v := draft.SplitName(tag); v == "" && !startsWithDigit(strings.TrimPrefix(tag, "v")) {
			continue
		}
		if newest == "" || version.Compare(tagVersion(tag), tagVersion(newest)) > 0 {
			newest = tag
		}
	}
	if newest == "" {
		return "", usageError{fmt.Errorf("%s has no tag with a version: name one with --tag", address)}
	}
	return newest, nil
}

func startsWithDigit(s string) bool { return s != "" && s[0] >= '0' && s[0] <= '9' }

// tagVersion is the version that a tag names, such as v1.2 or release-1.2.
func tagVersion(tag string) string {
	if at := strings.IndexAny(tag, "0123456789"); at >= 0 {
		tag = tag[at:]
	}
	return strings.ReplaceAll(tag, "-", "~") // what follows is unfinished
}

// showOptions lists what the configuration of a source can turn on and off.
func (a *program) showOptions(f draft.Facts) error {
	if a.json {
		return a.printJSON(f.Switches)
	}
	if len(f.Switches) == 0 {
		a.out.Printf("the source states no options\n")
		return nil
	}
	var rows [][]string
	for _, s := range f.Switches {
		word, about, _ := strings.Cut(s, " ")
		rows = append(rows, []string{fact.Visible(word), fact.Visible(strings.TrimSpace(about))})
	}
	a.out.Table([]string{"option", "what it does"}, rows)
	return nil
}

// draftAgain shows what a draft would change in a recipe that is there.
func (a *program) draftAgain(name string, there, text []byte) error {
	difference := udiff.Unified(name, name+" (drafted now)", string(there), string(text))
	if difference == "" {
		a.out.Printf("%s is what would be drafted now\n", name)
		return nil
	}
	a.showDifference(difference)
	a.err.Printf("%s exists and was not changed; above is what a draft would change (--write changes it)\n", name)
	return statusError(statusFindings)
}

// showFound tells what was found out.
func (a *program) showFound(f draft.Facts, maintainer, file string) {
	o := a.out
	if a.json {
		return
	}
	o.Printf("wrote %s\n", o.Style(term.Strong, file))
	found := func(what, value string) {
		if value == "" {
			value = o.Style(term.Doubtful, "not found")
		}
		o.Printf("  %s %s\n", o.Style(term.Faint, fmt.Sprintf("%-10s", what)), value)
	}
	found("name", f.Name)
	found("version", f.Version)
	found("summary", fact.Visible(f.Summary))
	if f.Description != "" { // it may be left out
		found("about", o.Wrapped(fact.Visible(f.Description), 13))
	}
	found("license", f.License)
	found("homepage", f.Homepage)
	if maintainer != "" {
		found("maintainer", fact.Visible(maintainer)+o.Style(term.Faint, "  as git knows you"))
	}
	found("method", cmp.Or(f.Method, "none; the recipe has steps of its own"))
	found("needs", strings.Join(f.Build, ", "))
	for _, n := range f.AllNotes() {
		o.Printf("  %s\n", o.Style(term.Doubtful, n))
	}
}

// endDraft closes a draft that is not built: what it found, and what is open.
func (a *program) endDraft(w *workspace.Workspace, d *drafted) error {
	file := filepath.Join(w.Dir, workspace.RecipesDir, d.facts.Name, recipe.FileName)
	if a.json {
		return a.printJSON(map[string]any{"file": file, "facts": d.facts})
	}
	a.showFound(d.facts, d.author, workspace.Display(file))
	a.showOpen(file, d.facts)
	a.out.Printf("Next: read it, then `ellwand build %s`; or `ellwand draft --build` from the start, which fills in the layout too\n", d.facts.Name)
	return nil
}
