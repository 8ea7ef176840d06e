package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/image"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
	"ellwand.example/core/workspace"
)

// ImageOptions say how an image is made.
type ImageOptions struct {
	// Update lets these packages of the lock change, UpdateAll every one.
	Update    []string
	UpdateAll bool
	// IfChanged updates the lock, and makes the image only if that changes something, or if
	// what was made last is not there or is of another description.
	IfChanged bool
	Twice     bool     // make it again and compare the bytes
	Output    string   // a directory for what is made; the workspace's if it is empty
	Forms     []string // in place of the description's
	LockOnly  bool     // choose the packages, and make nothing
}

// MadeImage is an image that was made for one target.
type MadeImage struct {
	Name      string        `json:"name"`
	Target    string        `json:"target"`
	Arch      string        `json:"arch"`
	Packages  []Shipped     `json:"packages"`
	Layers    []MadeLayer   `json:"layers,omitempty"` // of the OCI image
	Outputs   []Output      `json:"outputs"`
	Changes   []root.Change `json:"changes,omitempty"` // of the lock
	Locked    bool          `json:"locked"`            // a lock was there, and still fits
	Unchanged bool          `json:"unchanged,omitempty"`
	Twice     bool          `json:"twice,omitempty"` // it was made twice, and is the same
}

// Shipped is a package in an image.
type Shipped struct {
	Identity  string `json:"identity"`
	SHA256    string `json:"sha256"`
	Installed int64  `json:"installed"` // bytes
	Asked     bool   `json:"asked,omitempty"`
}

// MadeLayer is a layer of an OCI image.
type MadeLayer struct {
	Name     string        `json:"name"`
	Packages []string      `json:"packages,omitempty"`
	Key      string        `json:"key"`
	Blob     v1.Descriptor `json:"blob"`
	DiffID   string        `json:"diff_id"`
	Reused   bool          `json:"reused,omitempty"` // it was there from the last time
}

// Output is a file or a directory with an image.
type Output struct {
	Form   string `json:"form"`
	Path   string `json:"path"`
	Digest string `json:"digest"` // SHA-256; of an OCI image, that of its manifest
	Bytes  int64  `json:"bytes"`
}

// imageRecord is what is known of the last time that an image was made.
type imageRecord struct {
	Description string    `json:"description"` // SHA-256 of the description, and of what is beside it
	Made        MadeImage `json:"made"`
}

// Images lists the images that the workspace describes.
func (a *App) Images() ([]string, error) { return image.Names(a.Workspace.Dir) }

// Image reads the description of an image.
func (a *App) Image(name string) (*image.Description, error) {
	shown := workspace.Display(filepath.Join(a.Workspace.Dir, image.Dir, name+image.DescriptionExtension))
	return image.Load(a.Workspace.Dir, name, shown)
}

// LastImage is what was made of an image the last time for the workspace's target; nil if that
// is nothing, or is not there any more.
func (a *App) LastImage(name string) (*MadeImage, error) {
	rec, err := readImageRecord(a.Workspace, name)
	if err != nil || rec == nil {
		return nil, err
	}
	for _, o := range rec.Made.Outputs {
		if _, err := os.Stat(o.Path); err != nil {
			return nil, nil
		}
	}
	return &rec.Made, nil
}

func imageRecordFile(w *workspace.Workspace, name string) string {
	return w.State("images", name+"."+w.Target.Name+".json")
}

func readImageRecord(w *workspace.Workspace, name string) (*imageRecord, error) {
	data, err := os.ReadFile(imageRecordFile(w, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var rec imageRecord
	if json.Unmarshal(data, &rec) != nil {
		return nil, nil // it is written again
	}
	return &rec, nil
}

// ImageTargets are the workspaces of the targets that an image is for.
func (a *App) ImageTargets(d *image.Description) ([]*workspace.Workspace, error) {
	targets := d.Targets
	if len(targets) == 0 {
		targets = []string{a.Workspace.Target.Name}
	}
	var out []*workspace.Workspace
	for i, name := range targets {
		w := *a.Workspace
		if err := w.ChooseTarget(name); err != nil {
			p := d.Doc.ProblemAt(d.Doc.At("targets", i), err.Error(), "")
			return nil, fact.Errorf(fact.StatusInput, "%s:%d: %w", d.Doc.File, p.Line, err)
		}
		out = append(out, &w)
	}
	return out, nil
}

// MakeImage makes an image for each of its targets. What was there before stays until the new
// one is whole.
func (a *App) MakeImage(ctx context.Context, name string, o ImageOptions) (made []MadeImage, err error) {
	d, err := a.Image(name)
	if err != nil {
		return nil, err
	}
	if len(o.Forms) > 0 {
		d.Forms = o.Forms
	}
	targets, err := a.ImageTargets(d)
	if err != nil {
		return nil, err
	}
	if err := a.Workspace.MakeState(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(a.Workspace.State("images"), 0o755); err != nil {
		return nil, err
	}
	unlock, err := files.Lock(ctx, a.Workspace.State("images", name+".lock"))
	if err != nil {
		return nil, err
	}
	defer unlock()
	lock, err := image.ReadLock(a.Workspace.Dir, name)
	if err != nil {
		return nil, err
	}
	var jobs []*imageJob
	defer func() {
		for _, j := range jobs {
			err = errors.Join(err, j.Close())
		}
	}()
	for _, w := range targets {
		j := &imageJob{app: &App{Workspace: w, Progress: a.Progress}, workspace: w, description: d, options: o}
		jobs = append(jobs, j)
		if err := j.choose(ctx, lock.Targets[w.Target.Name]); err != nil {
			return nil, err
		}
	}
	for _, j := range jobs {
		if !j.unchanged && !o.LockOnly {
			if err := j.make(ctx); err != nil {
				return nil, err
			}
		}
	}
	// The lock comes last: it is of packages that an image was made of.
	moved := false
	for _, j := range jobs {
		moved = moved || !j.result.Locked
		lock.Targets[j.workspace.Target.Name] = j.lock
		made = append(made, j.result)
	}
	// Without targets of its own, the image is for whichever target is chosen.
	if before := len(lock.Targets); len(d.Targets) > 0 {
		maps.DeleteFunc(lock.Targets, func(target string, _ image.TargetLock) bool { return !slices.Contains(d.Targets, target) })
		moved = moved || len(lock.Targets) < before
	}
	if moved {
		if err := lock.Write(a.Workspace.Dir, name); err != nil {
			return nil, err
		}
	}
	if o.LockOnly {
		return made, nil
	}
	if err := a.joinTargets(ctx, jobs, made); err != nil {
		return made, err
	}
	for i, j := range jobs {
		j.result = made[i]
		if err := j.save(); err != nil {
			return made, err
		}
	}
	return made, nil
}

// imageJob is an image that is made for one target.
type imageJob struct {
	app         *App
	workspace   *workspace.Workspace // with the target
	description *image.Description
	options     ImageOptions

	system    imageSystem
	settings  root.Settings
	lock      image.TargetLock
	input     string // digest of the description
	last      *imageRecord
	unchanged bool // nothing is to be made
	temp      string
	result    MadeImage
}

// Close removes what was made on the way.
func (j *imageJob) Close() error {
	if j.temp == "" {
		return nil
	}
	return layer.RemoveAll(j.temp)
}

// dir is a directory for what is made on the way: beside what will be made, so that it can be
// moved there in one step. What a run that was killed left there is removed.
func (j *imageJob) dir(name string) (string, error) {
	if j.temp == "" {
		temp := filepath.Join(j.outputDir(), ".new-"+j.name(""))
		if err := layer.RemoveAll(temp); err != nil {
			return "", err
		}
		if err := os.MkdirAll(temp, 0o755); err != nil {
			return "", err
		}
		j.temp = temp
	}
	dir := filepath.Join(j.temp, name)
	return dir, os.MkdirAll(dir, 0o755)
}

// choose finds the packages of the image: those of the lock if it fits the description.
func (j *imageJob) choose(ctx context.Context, before image.TargetLock) (err error) {
	a, d, o := j.app, j.description, j.options
	j.result = MadeImage{Name: d.Name, Target: j.workspace.Target.Name, Arch: j.workspace.Target.Arch}
	moves := o.UpdateAll || o.IfChanged
	locked := before.System
	if moves {
		locked = image.SystemLock{}
	}
	if j.system, err = a.imageSystem(ctx, j.workspace, d, locked); err != nil {
		return err
	}
	if j.settings, err = a.imageSettings(j.workspace, d, j.system); err != nil {
		return err
	}
	wanted, exact, err := wantedPackages(d)
	if err != nil {
		return err
	}
	j.lock = before
	if j.lock.Wanted, err = wantedDigest(d, wanted, exact); err != nil {
		return err
	}
	if j.input, err = j.digest(); err != nil {
		return err
	}
	if j.last, err = readImageRecord(j.workspace, d.Name); err != nil {
		return err
	}
	for _, name := range o.Update {
		if !slices.ContainsFunc(before.Packages, func(p image.LockedPackage) bool { return p.Name == name }) {
			return fact.Errorf(fact.StatusInput, "the lock of image %s has no package %q", d.Name, name)
		}
	}
	fits := before.Wanted == j.lock.Wanted && !moves && len(o.Update) == 0
	if fits && before.System != j.system.lock {
		return &OtherSystemError{Image: d.Name, System: j.system.lock.Name, Digest: j.system.lock.Digest, Locked: before.System.Digest}
	}
	j.lock.System = j.system.lock
	if fits {
		j.result.Locked = true
		return nil
	}
	dir, err := j.dir("choice")
	if err != nil {
		return err
	}
	r, err := root.Create(dir, j.settings)
	if err != nil {
		return err
	}
	defer r.Close()
	j.lock.Packages, err = a.choosePackages(ctx, j.workspace, imageChoice{description: d, root: r, locked: before.Packages, move: o.Update, moveAll: moves})
	if err != nil {
		return err
	}
	j.result.Changes = image.Difference(before.Packages, j.lock.Packages)
	if before.Wanted == j.lock.Wanted && len(j.result.Changes) == 0 && before.System == j.lock.System {
		j.result.Locked = true
	}
	if o.IfChanged && j.result.Locked && j.last != nil && j.last.Description == j.input {
		if made, err := a.LastImage(d.Name); err != nil || made != nil {
			j.unchanged = made != nil
			if made != nil {
				j.result = *made
				j.result.Unchanged = true
				j.result.Locked = true
			}
			return err
		}
	}
	return nil
}

// digest stands for the description and the files beside it that it names.
func (j *imageJob) digest() (string, error) {
	sums := []string{fact.SHA256(j.description.Doc.Data)}
	for _, f := range j.description.Files {
		if f.From == "" {
			continue
		}
		sum, err := j.description.DigestBeside(f.From)
		if err != nil {
			return "", err
		}
		sums = append(sums, sum)
	}
	return fact.SHA256([]byte(strings.Join(sums, "\n"))), nil
}

// save remembers what was made, for the next time.
func (j *imageJob) save() error {
	data, err := json.MarshalIndent(imageRecord{Description: j.input, Made: j.result}, "", "  ")
	if err != nil {
		return err
	}
	return files.Write(imageRecordFile(j.workspace, j.description.Name), append(data, '\n'))
}

// outputDir is where images are put.
func (j *imageJob) outputDir() string {
	return cmp.Or(j.options.Output, filepath.Join(j.workspace.Dir, image.Dir, "made"))
}

// make makes the forms of the image.
func (j *imageJob) make(ctx context.Context) error {
	outputs, layers, err := j.assemble(ctx, "first")
	if err != nil {
		return err
	}
	if j.options.Twice {
		again, _, err := j.assemble(ctx, "second")
		if err != nil {
			return err
		}
		for i, o := range outputs {
			if again[i].Digest != o.Digest {
				return &NotSameError{Image: j.description.Name, Form: o.Form, First: o.Digest, Second: again[i].Digest}
			}
		}
		j.result.Twice = true
	}
	j.result.Layers = layers
	for i := range outputs {
		if outputs[i], err = j.place(outputs[i]); err != nil {
			return err
		}
	}
	j.result.Outputs = outputs
	// Forms that were not asked for this time are those of before, if they still fit.
	if len(j.options.Forms) > 0 && j.result.Locked && j.last != nil && j.last.Description == j.input {
		for _, o := range j.last.Made.Outputs {
			if !slices.ContainsFunc(outputs, func(other Output) bool { return other.Form == o.Form }) {
				j.result.Outputs = append(j.result.Outputs, o)
			}
		}
		if j.result.Layers == nil {
			j.result.Layers = j.last.Made.Layers
		}
	}
	return nil
}

// place moves an output to where it belongs, in place of an older one.
func (j *imageJob) place(o Output) (Output, error) {
	to, err := filepath.Abs(filepath.Join(j.outputDir(), filepath.Base(o.Path)))
	if err != nil {
		return o, err
	}
	if info, err := os.Lstat(to); err == nil && info.IsDir() {
		old := o.Path + ".old"
		if err := os.Rename(to, old); err != nil {
			return o, err
		}
		defer layer.RemoveAll(old)
	}
	if err := os.Rename(o.Path, to); err != nil {
		return o, err
	}
	o.Path = to
	return o, nil
}

// NotSameError reports an image that is not the same when it is made again.
type NotSameError struct {
	Image, Form   string
	First, Second string // digests
}

func (e *NotSameError) Error() string {
	return fmt.Sprintf("image %s is not the same twice: the %s has the digests %s and %s; a script of a package that writes the time or a random number into a file is the usual cause", e.Image, e.Form, e.First, e.Second)
}

// Status is that of findings.
func (e *NotSameError) Status() fact.Status { return fact.StatusFindings }

// joinTargets puts the images of several targets into one layout, with an index of them.
func (a *App) joinTargets(ctx context.Context, jobs []*imageJob, made []MadeImage) (err error) {
	if len(jobs) < 2 || !slices.Contains(jobs[0].description.WantedForms(), image.FormOCI) {
		return nil
	}
	dir, err := jobs[0].dir("all")
	if err != nil {
		return err
	}
	o := Output{Form: image.FormOCI + " index", Path: filepath.Join(dir, jobs[0].description.Name+".oci")}
	w, err := oci.Create(o.Path)
	if err != nil {
		return err
	}
	var manifests []v1.Descriptor
	for i := range made {
		at := slices.IndexFunc(made[i].Outputs, func(o Output) bool { return o.Form == image.FormOCI })
		if at < 0 {
			return nil
		}
		list, err := w.TakeAll(ctx, made[i].Outputs[at].Path)
		if err != nil {
			return err
		}
		manifests = append(manifests, list...)
		o.Bytes += made[i].Outputs[at].Bytes
	}
	d, err := w.Nested(manifests, nil)
	if err != nil {
		return err
	}
	d.Annotations = map[string]string{v1.AnnotationRefName: jobs[0].tag()}
	if err := w.Finish([]v1.Descriptor{d}); err != nil {
		return err
	}
	o.Digest = d.Digest.Encoded()
	if o, err = jobs[0].place(o); err != nil {
		return err
	}
	made[0].Outputs = slices.DeleteFunc(made[0].Outputs, func(other Output) bool { return other.Form == o.Form })
	made[0].Outputs = append(made[0].Outputs, o)
	return nil
}

// ListedImage is an image that the workspace describes.
type ListedImage struct {
	Name    string     `json:"name"`
	Summary string     `json:"summary,omitempty"`
	Problem string     `json:"problem,omitempty"` // what is wrong with the description
	Locked  int        `json:"locked"`            // packages in the lock for the target
	Made    *MadeImage `json:"made,omitempty"`
}

// ListImages lists the images that the workspace describes.
func (a *App) ListImages() ([]ListedImage, error) {
	names, err := a.Images()
	if err != nil {
		return nil, err
	}
	out := []ListedImage{}
	for _, name := range names {
		one := ListedImage{Name: name}
		d, err := a.Image(name)
		if err != nil {
			one.Problem = err.Error()
		} else {
			one.Summary = d.Summary
		}
		lock, err := image.ReadLock(a.Workspace.Dir, name)
		if err != nil {
			return nil, err
		}
		one.Locked = len(lock.Targets[a.Workspace.Target.Name].Packages)
		if one.Made, err = a.LastImage(name); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// OtherSystemError reports that the system of an image is not the one of its lock.
type OtherSystemError struct {
	Image, System  string
	Digest, Locked string // SHA-256; empty for none
}

func (e *OtherSystemError) Error() string {
	short := func(digest string) string {
		if digest == "" {
			return "none"
		}
		return digest[:12] + "…"
	}
	return fmt.Sprintf("the system %q of image %s has changed since it was locked: its digest was %s, and is now %s", e.System, e.Image, short(e.Locked), short(e.Digest))
}

// Status is that of bad input.
func (e *OtherSystemError) Status() fact.Status { return fact.StatusInput }

// Action locks it.
func (e *OtherSystemError) Action() fact.Action {
	return fact.Action{Verb: fact.UpdateImage, Subject: e.Image}
}

// PushImage sends an OCI image that was made to a registry: what the registry lacks of it. The
// reference is that of the description if none is given. It returns the digest that the
// reference leads to then.
func (a *App) PushImage(ctx context.Context, name, reference string) (pushed, digest string, err error) {
	d, err := a.Image(name)
	if err != nil {
		return "", "", err
	}
	if reference = cmp.Or(reference, d.OCI.Reference); reference == "" {
		return "", "", fact.Errorf(fact.StatusUsage, "image %s is not told where to be pushed: name HOST/NAME:TAG, or set `reference` in its table [oci]", name)
	}
	made, err := a.LastImage(name)
	if err != nil {
		return "", "", err
	}
	place := cmp.Or(made.output(image.FormOCI+" index"), made.output(image.FormOCI))
	if place == "" {
		return "", "", fact.Errorf(fact.StatusInput, "image %s makes no OCI image, which a registry takes", name)
	}
	task := a.Progress.Begin("push "+reference, 0, "bytes")
	defer task.End("done")
	var sent int64
	digest, err = oci.Registry{Advance: func(n int64) { task.Advance(n - sent); sent = n }}.Push(ctx, place, reference)
	return reference, digest, err
}
