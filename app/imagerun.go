package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/image/emulator"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
)

// RunImageOptions say what is run in an image.
type RunImageOptions struct {
	Program  []string // in place of what the image runs, or of its trial
	Output   io.Writer
	Terminal *os.File // for a shell, if there is nothing to run, or for a machine's console
	// Form is what is run: of the forms that the image has, the first of oci, disk and iso if
	// it is empty.
	Form string
	// Time is how long a trial may take; zero for what the description says.
	Time time.Duration
}

// ImageRun is how what ran in an image ended.
type ImageRun struct {
	Image  string        `json:"image"`
	Target string        `json:"target"`
	Trial  bool          `json:"trial"` // it was the image's trial
	Passed bool          `json:"passed"`
	Status int           `json:"status"`           // of the program
	Limit  string        `json:"limit,omitempty"`  // that was exceeded
	Signal string        `json:"signal,omitempty"` // that ended it
	Time   time.Duration `json:"time"`             // nanoseconds
	Log    string        `json:"log,omitempty"`    // the file with the output of a trial
	Form   string        `json:"form"`
	// Accelerated means that a machine ran on this processor itself.
	Accelerated bool `json:"accelerated,omitempty"`
}

// RunImage runs an image: its trial if it has one, otherwise what it is for. What is written
// there is lost, and there is no network. An OCI image runs in a sandbox, as root of a user
// namespace of its own; forms that boot run in a virtual machine, from the firmware on.
func (a *App) RunImage(ctx context.Context, name string, o RunImageOptions) (run ImageRun, err error) {
	d, err := a.Image(name)
	if err != nil {
		return run, err
	}
	made, err := a.LastImage(name)
	if err != nil {
		return run, err
	}
	run = ImageRun{Image: name, Target: a.Workspace.Target.Name, Trial: len(o.Program) == 0 && d.Trial.Run != ""}
	for _, form := range []string{image.FormOCI, image.FormDisk, image.FormISO} {
		if place := made.output(form); place != "" && (o.Form == "" || o.Form == form) {
			if run.Form = form; form == image.FormOCI {
				return a.runOCI(ctx, d, place, o, run)
			}
			return a.runMachine(ctx, d, place, o, run)
		}
	}
	return run, fact.Errorf(fact.StatusInput, "image %s has no form that can be run: its description makes no oci, disk or iso", name)
}

// runMachine runs an image that boots.
func (a *App) runMachine(ctx context.Context, d *image.Description, place string, o RunImageOptions, run ImageRun) (_ ImageRun, err error) {
	if len(o.Program) > 0 {
		return run, fact.Errorf(fact.StatusUsage, "a PROGRAM can be run in an OCI image; a %s starts what is in it", run.Form)
	}
	dir, err := os.MkdirTemp(a.Workspace.State("images"), "run-")
	if err != nil {
		return run, err
	}
	defer func() { err = errors.Join(err, layer.RemoveAll(dir)) }()
	m := emulator.Machine{Arch: a.Workspace.Target.Arch, Temp: dir, Output: o.Output, Memory: 1 << 30, Format: cmp.Or(d.Disk.Format, image.Raw)}
	if run.Form == image.FormISO {
		m.ISO, m.Memory = place, 4<<30 // all files are in it, in a half of it at most
	} else {
		m.Disk = place
	}
	if n, err := fact.ParseBytes(d.Boot.Memory); err == nil {
		m.Memory = n
	}
	inner, limit := ctx, d.TrialTime()
	if run.Trial {
		m.Script = d.Trial.Run
		var cancel context.CancelFunc
		inner, cancel = context.WithTimeout(ctx, cmp.Or(o.Time, limit))
		defer cancel()
	} else if o.Terminal != nil {
		m.Input = o.Terminal
	}
	began := time.Now()
	r, err := emulator.Run(inner, m)
	run.Time, run.Status, run.Accelerated = time.Since(began), r.Status, r.Accelerated
	run.Passed = err == nil && (!run.Trial || r.Verdict && r.Status == 0)
	switch {
	case ctx.Err() != nil:
		return run, context.Cause(ctx)
	case inner.Err() != nil:
		run.Limit = "time, " + cmp.Or(o.Time, limit).String()
		return run, nil
	case err == nil && run.Trial && !r.Verdict:
		return run, fact.Errorf(fact.StatusStep, "image %s: %w", d.Name, emulator.ErrNoVerdict)
	}
	return run, err
}

// runOCI runs an OCI image.
func (a *App) runOCI(ctx context.Context, d *image.Description, place string, o RunImageOptions, run ImageRun) (_ ImageRun, err error) {
	name := d.Name
	if !a.Workspace.RunsHere() {
		return run, &build.SystemError{Target: a.Workspace.Target.Name, Reason: fmt.Sprintf("image %s is not run: programs for %s do not run on this machine", name, a.Workspace.Target.Arch)}
	}
	dir, err := os.MkdirTemp(a.Workspace.State("images"), "run-")
	if err != nil {
		return run, err
	}
	defer func() { err = errors.Join(err, layer.RemoveAll(dir)) }()
	task := a.Progress.Begin("image "+name+": unpack", 0, "")
	system, err := build.OpenSystem(ctx, filepath.Join(dir, "unpacked"), place, a.Workspace.Target.Arch, a.Progress)
	task.End("done")
	if err != nil {
		return run, err
	}
	top := filepath.Join(dir, "root")
	if err := os.Mkdir(top, 0o755); err != nil {
		return run, err
	}
	runner, err := a.rootRunner(&root.Root{Dir: top, Settings: root.Settings{System: system.Dir}})
	if err != nil {
		return run, err
	}
	defer runner.Close()
	command, err := a.imageCommand(d, place, o)
	if err != nil {
		return run, err
	}
	if run.Trial {
		command.Limits.Time = max(o.Time, 0)
		if o.Time == 0 {
			command.Limits.Time = d.TrialTime()
		}
	}
	began := time.Now()
	_, err = runner.run(ctx, command)
	run.Time, run.Passed = time.Since(began), err == nil
	var failed *sandbox.ExitError
	if errors.As(err, &failed) {
		run.Status, run.Signal, run.Limit = failed.Status, failed.Signal, failed.Limit
		err = nil
	}
	return run, err
}

// output is the path of a form; empty if there is none.
func (m *MadeImage) output(form string) string {
	if m != nil {
		for _, o := range m.Outputs {
			if o.Form == form {
				return o.Path
			}
		}
	}
	return ""
}

// imageCommand is what runs in an image.
func (a *App) imageCommand(d *image.Description, place string, o RunImageOptions) (c sandbox.Command, err error) {
	layout, err := oci.Open(place)
	if err != nil {
		return c, err
	}
	defer layout.Close()
	i, err := layout.Image(fact.GoArchitecture(a.Workspace.Target.Arch))
	if err != nil {
		return c, err
	}
	config := i.Config.Config
	c = sandbox.Command{Name: "image-" + d.Name, Env: environment(config.Env, map[string]string{"HOME": "/tmp"}), Output: o.Output, Limits: sandbox.Limits{Processes: 4096}}
	argv := o.Program
	switch {
	case len(argv) > 0:
	case d.Trial.Run != "":
		c.Script = d.Trial.Run
	default:
		argv = append(append([]string{}, config.Entrypoint...), config.Cmd...)
	}
	if len(argv) > 0 {
		words := make([]string, len(argv))
		for k, word := range argv {
			if words[k], err = syntax.Quote(word, syntax.LangPOSIX); err != nil {
				return c, fact.Errorf(fact.StatusUsage, "%q cannot be an argument: %w", word, err)
			}
		}
		c.Script = "exec " + strings.Join(words, " ")
	}
	if c.Script == "" {
		if o.Terminal == nil {
			return c, fact.Errorf(fact.StatusInput, "image %s runs nothing: its description has neither [run] nor [trial]", d.Name)
		}
		c.Terminal = o.Terminal
		return c, nil
	}
	if config.WorkingDir != "" {
		dir, err := syntax.Quote(config.WorkingDir, syntax.LangPOSIX)
		if err != nil {
			return c, fact.Errorf(fact.StatusInput, "%q cannot be a directory: %w", config.WorkingDir, err)
		}
		c.Script = "cd " + dir + "\n" + c.Script
	}
	return c, nil
}

// TryImage makes an image if that is needed, and runs its trial. What it writes is kept in a
// file below the workspace's state.
func (a *App) TryImage(ctx context.Context, name, form string, limit time.Duration, out io.Writer) (run ImageRun, err error) {
	d, err := a.Image(name)
	if err != nil {
		return run, err
	}
	if d.Trial.Run == "" {
		return run, fact.Errorf(fact.StatusInput, "image %s has no trial: add a table [trial] with `run` to %s", name, d.Doc.File)
	}
	if err := os.MkdirAll(a.Workspace.State("images"), 0o755); err != nil {
		return run, err
	}
	file := a.Workspace.State("images", name+"."+a.Workspace.Target.Name+".log")
	f, err := os.Create(file)
	if err != nil {
		return run, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	run, err = a.RunImage(ctx, name, RunImageOptions{Output: io.MultiWriter(out, &bounded{f, maxImageLog}), Time: limit, Form: form})
	run.Log = file
	return run, err
}

// maxImageLog is how much of the output of a trial is kept, in bytes.
const maxImageLog = 64 << 20

// bounded writes no more than some bytes, and drops the rest.
type bounded struct {
	w    io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	n := len(p)
	if int64(n) > b.left {
		p = p[:b.left]
	}
	b.left -= int64(len(p))
	_, err := b.w.Write(p)
	return n, err
}
