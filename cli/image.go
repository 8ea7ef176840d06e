package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/app"
	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/workspace"
)

// everyPackage is what --update means without packages.
const everyPackage = "*"

func (a *program) imageCommand() *cobra.Command {
	var o app.ImageOptions
	var all, run bool
	var update []string
	var push string
	cmd := &cobra.Command{
		Use:   "image NAME... | image NAME --run [-- PROGRAM...]",
		Short: "Make system images from lists of packages",
		Long: `Make the images that images/NAME.toml describe: an OCI image, an archive of all files, a disk
or an ISO image that boots. No root is needed.

The packages that an image is made of are in images/NAME.lock, by their digests: with the
lock, the image is the same bytes on any machine, at any time. Without one, the newest
packages are chosen, and it is written. --update chooses again.

--push sends the OCI image to a registry, with the credentials of container tools, and only what the
registry lacks.

--run also runs the image: its [trial], which decides the exit status, or what it is for, or PROGRAM.
What is written there is lost. An OCI image runs in a sandbox, a disk and an ISO image in a virtual
machine with the console in the terminal; --form chooses one.`,
		Example: `  ellwand image harbour
  ellwand image harbour --update --twice
  ellwand image harbour --run
  ellwand image --all --if-changed`,
		ValidArgsFunction: a.completeImages,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if all && len(args) > 0 {
				return errors.New("--all makes every image: name none")
			}
			if at := cmd.ArgsLenAtDash(); at >= 0 && !run {
				return errors.New("only --run takes a PROGRAM after --")
			}
			if run && (all || len(args) == 0 || len(args) > 1 && cmd.ArgsLenAtDash() != 1) {
				return errors.New("--run takes one image; what is to run in it comes after --")
			}
			if !all && len(args) == 0 {
				return errors.New("missing argument: the NAME of an image, or --all")
			}
			return nil
		}),
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := a.app()
			if err != nil {
				return err
			}
			if all {
				if args, err = u.Images(); err != nil {
					return err
				}
				if len(args) == 0 {
					return &image.NotFoundError{Name: "NAME"}
				}
			}
			for _, name := range update {
				if name == everyPackage {
					o.UpdateAll = true
				} else {
					o.Update = append(o.Update, name)
				}
			}
			for _, form := range o.Forms {
				if !slices.Contains(image.Forms, form) {
					return usageError{fmt.Errorf("--form is one of %s, not %q", strings.Join(image.Forms, ", "), form)}
				}
			}
			if push != "" {
				return a.pushImage(cmd.Context(), u, args, o, push)
			}
			if run {
				return a.runImage(cmd.Context(), u, args[0], o, args[1:])
			}
			return a.makeImages(cmd.Context(), u, args, o)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "make every image of the workspace")
	cmd.Flags().StringSliceVar(&update, "update", nil, "choose the newest packages, or with =`PACKAGE`,… only these")
	cmd.Flags().Lookup("update").NoOptDefVal = everyPackage
	cmd.Flags().BoolVar(&o.IfChanged, "if-changed", false, "choose the newest packages, and make only images that this changes")
	cmd.Flags().BoolVar(&o.LockOnly, "lock-only", false, "choose the packages, and make no image")
	cmd.Flags().BoolVar(&o.Twice, "twice", false, "make each image twice, and compare the bytes")
	cmd.Flags().BoolVar(&run, "run", false, "run the image")
	cmd.Flags().StringVar(&push, "push", "", "send the OCI image to a registry: to the `REFERENCE` HOST/NAME:TAG, or, if it has no value, the description's")
	cmd.Flags().Lookup("push").NoOptDefVal = everyPackage
	cmd.Flags().StringSliceVar(&o.Forms, "form", nil, "make this `FORM` in place of the description's: "+strings.Join(image.Forms, ", "))
	cmd.Flags().StringVarP(&o.Output, "output", "o", "", "put what is made into a `DIR` (default: images/made)")
	cmd.MarkFlagDirname("output")
	cmd.RegisterFlagCompletionFunc("form", cobra.FixedCompletions(image.Forms, cobra.ShellCompDirectiveNoFileComp))
	cmd.MarkFlagsMutuallyExclusive("update", "if-changed")
	cmd.MarkFlagsMutuallyExclusive("twice", "lock-only")
	cmd.MarkFlagsMutuallyExclusive("run", "lock-only")
	cmd.MarkFlagsMutuallyExclusive("run", "output")
	cmd.MarkFlagsMutuallyExclusive("push", "run")
	cmd.MarkFlagsMutuallyExclusive("push", "lock-only")
	cmd.MarkFlagsMutuallyExclusive("push", "output")
	cmd.AddCommand(a.imageListCommand())
	return cmd
}

// completeImages proposes the images of the workspace.
func (a *program) completeImages(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	u, err := a.app()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, err := u.Images()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *program) makeImages(ctx context.Context, u *app.App, names []string, o app.ImageOptions) error {
	all := []app.MadeImage{}
	for i, name := range names {
		made, err := u.MakeImage(ctx, name, o)
		if err != nil {
			return err
		}
		all = append(all, made...)
		if a.json {
			continue
		}
		for k, m := range made {
			if i+k > 0 {
				a.out.Printf("\n")
			}
			a.showMade(m, o)
		}
	}
	if a.json {
		return a.printJSON(all)
	}
	return nil
}

// showMade shows an image that was made.
func (a *program) showMade(m app.MadeImage, o app.ImageOptions) {
	w := a.out
	w.Printf("%s  %s\n", w.Style(term.Strong, m.Name), w.Style(term.Faint, "for "+m.Target))
	if m.Unchanged {
		w.Printf("  unchanged: its packages and its description are those of the last time\n")
		return
	}
	a.showRootChanges(m.Changes)
	lock := workspace.Display(filepath.Join(image.Dir, m.Name+image.LockExtension))
	switch {
	case o.LockOnly && m.Locked:
		w.Printf("  %s has the newest packages already\n", lock)
		return
	case o.LockOnly:
		w.Printf("  written: %s\n", lock)
		return
	}
	var installed int64
	for _, p := range m.Packages {
		installed += p.Installed
	}
	text := fmt.Sprintf("%s, %s installed", fact.Count(len(m.Packages), "package", "packages"), fact.Bytes(installed))
	if m.Locked {
		text += ", as in " + lock
	} else {
		text += "; " + lock + " pins them"
	}
	w.Printf("  %s\n", w.Wrapped(text, 2))
	a.showLayers(m.Layers)
	w.Printf("\n")
	for _, out := range m.Outputs {
		w.Printf("  %s\n", w.Style(term.Name, workspace.Display(out.Path)))
		w.Printf("    %s\n", w.Style(term.Faint, w.Wrapped(fmt.Sprintf("%s, %s, sha256:%s", formTitles[out.Form], fact.Bytes(out.Bytes), out.Digest), 4)))
	}
	if m.Twice {
		w.Printf("  %s\n", w.Style(term.Good, "made twice: the same bytes"))
	}
}

// formTitles are the forms of an image, for people.
var formTitles = map[string]string{
	image.FormOCI: "OCI image", image.FormOCI + " archive": "OCI image in one file", image.FormOCI + " index": "OCI images of all targets", image.FormArchive: "archive of all files",
	image.FormDisk: "disk that boots", image.FormISO: "ISO image that boots",
}

// showLayers lists the layers of an OCI image.
func (a *program) showLayers(layers []app.MadeLayer) {
	w := a.out
	if len(layers) == 0 {
		return
	}
	w.Printf("\n")
	width := 0
	for _, l := range layers {
		width = max(width, len(l.Name))
	}
	for _, l := range layers {
		state := w.Style(term.Good, "new ")
		if l.Reused {
			state = w.Style(term.Faint, "same")
		}
		line := fmt.Sprintf("  %-*s  %s  %10s", width, l.Name, state, fact.Bytes(l.Blob.Size))
		if len(l.Packages) > 0 {
			line += "  " + w.Style(term.Faint, w.Wrapped(strings.Join(l.Packages, " "), width+22))
		}
		w.Printf("%s\n", line)
	}
}

func (a *program) imageListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the images of the workspace",
		Long:    "List the images that the workspace describes, whether they are locked, and what was made of them for the target.",
		Example: "  ellwand image list",
		Args:    arguments(none),
		RunE: func(*cobra.Command, []string) error {
			u, err := a.app()
			if err != nil {
				return err
			}
			list, err := u.ListImages()
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				a.out.Printf("The workspace describes no images yet: `ellwand draft --image PACKAGE...` writes a first one.\n")
				return nil
			}
			var rows [][]string
			for _, i := range list {
				state, made := "not locked", "-"
				switch {
				case i.Problem != "":
					state = "has mistakes"
				case i.Locked > 0:
					state = fact.Count(i.Locked, "package", "packages")
				}
				if i.Made != nil {
					var forms []string
					for _, o := range i.Made.Outputs {
						forms = append(forms, o.Form)
					}
					made = strings.Join(forms, ", ")
				}
				rows = append(rows, []string{i.Name, state, made, i.Summary})
			}
			a.out.Table([]string{"image", "lock", "made", "summary"}, rows)
			return nil
		},
	}
}

// pushImage makes images, reusing what is up to date, and sends them to a registry.
func (a *program) pushImage(ctx context.Context, u *app.App, names []string, o app.ImageOptions, reference string) error {
	if reference == everyPackage {
		reference = ""
	}
	if reference != "" && len(names) > 1 {
		return usageError{errors.New("several images cannot have one reference: give each its own in its table [oci]")}
	}
	var out []map[string]string
	for _, name := range names {
		if _, err := u.MakeImage(ctx, name, o); err != nil {
			return err
		}
		pushed, digest, err := u.PushImage(ctx, name, reference)
		if err != nil {
			return err
		}
		out = append(out, map[string]string{"image": name, "reference": pushed, "digest": digest})
		if !a.json {
			a.out.Printf("%s  %s\n", a.out.Style(term.Name, pushed), a.out.Style(term.Faint, digest))
		}
	}
	if a.json {
		return a.printJSON(out)
	}
	return nil
}

// runImage makes an image, reusing what is up to date, and runs it.
func (a *program) runImage(ctx context.Context, u *app.App, name string, o app.ImageOptions, argv []string) error {
	if _, err := u.MakeImage(ctx, name, o); err != nil {
		return err
	}
	run, err := u.RunImage(ctx, name, app.RunImageOptions{Program: argv, Output: a.streamed(), Terminal: os.Stdin, Form: strings.Join(o.Forms, "")})
	if err != nil {
		return err
	}
	return a.finishRun(run)
}

// streamed is where the output of a program in an image goes.
func (a *program) streamed() io.Writer {
	if a.json {
		return a.err.Stream()
	}
	return a.out.Stream()
}

// finishRun shows how an image ran, and returns the status that it ends with.
func (a *program) finishRun(run app.ImageRun) error {
	w := a.err
	if a.json {
		if err := a.printJSON(run); err != nil {
			return err
		}
	}
	seconds := fmt.Sprintf("%.1f s", run.Time.Seconds())
	switch {
	case run.Trial && run.Passed && !a.json && !a.quiet:
		w.Printf("%s\n", w.Style(term.Good, fmt.Sprintf("the trial of image %s passed after %s", run.Image, seconds)))
	case run.Passed, a.json:
	case run.Limit != "":
		w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("image %s was stopped after %s: it exceeded its limit of %s", run.Image, seconds, run.Limit)))
	case run.Trial:
		w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("the trial of image %s failed after %s, with status %d", run.Image, seconds, run.Status)))
	default:
		w.Printf("%s\n", w.Style(term.Bad, fmt.Sprintf("the program ended with status %d", run.Status)))
	}
	if run.Log != "" && !a.json {
		w.Printf("what it wrote is in %s\n", workspace.Display(run.Log))
	}
	switch {
	case run.Passed:
		return nil
	case run.Trial:
		return statusError(statusFindings)
	}
	return statusError(statusStep)
}
