package app

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/fact"
	"ellwand.example/core/image"
	"ellwand.example/core/oci"
	"ellwand.example/core/root"
)

// content is everything in an image.
type content struct {
	system   []image.Layer
	base     *oci.Layout // that the layers of the system are from; nil for none
	image    oci.Image   // of base
	packages []image.Content
	layers   []image.Layer // above the system
	when     time.Time
	numbers  root.Numbers
	close    func() error
}

// assemble makes the forms of an image in a directory of the job.
func (j *imageJob) assemble(ctx context.Context, name string) (outputs []Output, layers []MadeLayer, err error) {
	dir, err := j.dir(name)
	if err != nil {
		return nil, nil, err
	}
	c, err := j.content(ctx, filepath.Join(dir, "root"))
	if err != nil {
		return nil, nil, err
	}
	defer func() { err = errors.Join(err, c.close()) }()
	j.result.Packages = nil
	for _, p := range c.packages {
		j.result.Packages = append(j.result.Packages, Shipped{p.Installed.Identity(), p.Installed.SHA256, p.Record.Facts.Size, p.Installed.Asked})
	}
	for _, form := range j.description.WantedForms() {
		var o Output
		switch form {
		case image.FormOCI:
			o, layers, err = j.ociImage(ctx, c, dir)
		case image.FormArchive:
			o, err = j.archive(ctx, c, dir)
		case image.FormDisk:
			o, err = j.bootDisk(ctx, c, dir)
		case image.FormISO:
			o, err = j.iso(ctx, c, dir)
		}
		if err != nil {
			return nil, nil, err
		}
		outputs = append(outputs, o)
		if form == image.FormOCI && j.description.OCI.Archive {
			if o, err = j.ociArchive(ctx, o, dir); err != nil {
				return nil, nil, err
			}
			outputs = append(outputs, o)
		}
	}
	return outputs, layers, nil
}

// content installs the packages of the lock into a new root, and finds what is in it.
func (j *imageJob) content(ctx context.Context, dir string) (_ *content, err error) {
	var closers []func() error
	c := &content{}
	c.close = func() error {
		var err error
		for _, f := range slices.Backward(closers) {
			err = errors.Join(err, f())
		}
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.close())
		}
	}()
	closers = append(closers, func() error { return layer.RemoveAll(dir) })
	if err := j.systemLayers(c); err != nil {
		return nil, err
	}
	if c.base != nil {
		closers = append(closers, c.base.Close)
	}
	r, err := root.Create(dir, j.settings)
	if err != nil {
		return nil, err
	}
	closers = append(closers, r.Close)
	u := &supply{app: j.app, root: r}
	closers = append(closers, func() error { u.Close(); return nil })
	task := j.app.Progress.Begin("image "+j.description.Name+": install", 0, "")
	scripts, err := j.install(ctx, c, u, r)
	task.End("done")
	if err != nil {
		return nil, err
	}
	closer, err := j.changes(ctx, c, r, scripts)
	if closer != nil {
		closers = append(closers, closer)
	}
	return c, err
}

// install installs the packages of the lock. Scripts is whether programs ran in the root.
func (j *imageJob) install(ctx context.Context, c *content, u *supply, r *root.Root) (scripts bool, err error) {
	incoming, err := u.findLocked(ctx, j.description.Name, j.lock.Packages)
	if err != nil {
		return false, err
	}
	runner, err := j.app.rootRunner(r)
	if err != nil {
		return false, err
	}
	defer runner.Close()
	tx, err := r.Begin(ctx, root.Options{Runner: runner, Progress: j.app.Progress, Disposable: true})
	if err != nil {
		return false, err
	}
	defer tx.Close()
	accounts := map[string]fact.Account{}
	for name, one := range j.description.Accounts {
		accounts[name] = fact.Account{Home: one.Home, Summary: one.Summary}
	}
	plan, err := tx.Plan(ctx, root.Request{Action: "image", Install: incoming, Accounts: accounts})
	if err != nil {
		return false, err
	}
	if !plan.IsEmpty() {
		var script *root.ScriptError
		_, err := tx.Apply(ctx, plan)
		if errors.As(err, &script) {
			script.Undone = true // the root is thrown away
		}
		if err != nil {
			return false, fmt.Errorf("image %s: %w", j.description.Name, err)
		}
	}
	if c.numbers, err = r.Numbers(); err != nil {
		return false, err
	}
	state, err := r.State()
	if err != nil {
		return false, err
	}
	c.when = time.Unix(0, 0).UTC()
	for _, i := range state.Packages {
		rec, err := r.Record(i)
		if err != nil {
			return false, err
		}
		at := slices.IndexFunc(incoming, func(in root.Incoming) bool { return in.SHA256 == i.SHA256 })
		locked := slices.IndexFunc(j.lock.Packages, func(p image.LockedPackage) bool { return p.Name == i.Name })
		if at < 0 || locked < 0 {
			return false, fmt.Errorf("%s was installed, and is not in the lock", i.Identity())
		}
		c.packages = append(c.packages, image.Content{Installed: i, Record: rec, Package: incoming[at].Package, Numbers: c.numbers, Changes: j.lock.Packages[locked].Changes})
		if date, err := time.Parse(time.DateOnly, rec.Facts.Date); err == nil && date.After(c.when) {
			c.when = date.UTC()
		}
	}
	return len(plan.Scripts) > 0 || len(plan.Refresh) > 0, nil
}

// changes finds the layers of the packages, and that of everything else.
func (j *imageJob) changes(ctx context.Context, c *content, r *root.Root, scripts bool) (func() error, error) {
	tree, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	all := image.Changes{Root: r, Tree: tree, Numbers: c.numbers, Description: j.description, When: c.when, Settings: j.settingsInside()}
	closer := tree.Close
	if dir := r.Settings.SystemDir(); dir != "" {
		if all.System, err = os.OpenRoot(dir); err != nil {
			return closer, err
		}
		closer = func() error { return errors.Join(tree.Close(), all.System.Close()) }
	}
	owned := map[string]bool{}
	for _, p := range c.packages {
		for _, e := range p.Record.Layout {
			owned[p.Record.At(e.Path)] = true
		}
	}
	all.Owned = func(p string) bool { return owned[p] }
	if scripts {
		v, err := r.Verify(ctx, nil, func(string) bool { return true }, j.app.Progress)
		if err != nil {
			return closer, err
		}
		for _, d := range v.Deviations {
			all.Changed = append(all.Changed, d.Path)
		}
	}
	there := func(dir string) bool {
		if all.System == nil {
			return false
		}
		info, err := all.System.Stat(strings.TrimPrefix(dir, "/"))
		return err == nil && info.IsDir()
	}
	if c.layers, err = image.PackageLayers(c.packages, there); err != nil {
		return closer, err
	}
	last, err := all.Layer(ctx)
	c.layers = append(c.layers, last)
	return closer, err
}

// settingsInside are what the record in an image says: the system is a part of it, and only
// repositories that can be reached from anywhere are of use.
func (j *imageJob) settingsInside() root.Settings {
	s := j.settings
	s.Format, s.System = root.Format, root.SystemNone
	s.Repositories = slices.DeleteFunc(slices.Clone(s.Repositories), func(r root.Repository) bool { return !fact.IsRemote(r.Address) })
	return s
}

// systemLayers opens the layers of the image's system.
func (j *imageJob) systemLayers(c *content) (err error) {
	s := j.system
	switch {
	case s.Layout != "":
		if c.base, err = oci.Open(s.Layout); err != nil {
			return err
		}
		if c.image, err = c.base.Image(fact.GoArchitecture(j.workspace.Target.Arch)); err != nil {
			return errors.Join(err, c.base.Close())
		}
		for _, d := range c.image.Layers {
			c.system = append(c.system, image.BlobLayer(c.base, d))
		}
	case s.Digest != "":
		c.system = []image.Layer{image.ArchiveLayer(j.workspace.Abs(j.description.System), s.Digest)}
	case s.Dir != "":
		c.system = []image.Layer{s.layer}
	}
	return nil
}

// name is what the files of the image are called: with the target, unless it is the usual one.
func (j *imageJob) name(suffix string) string {
	name := j.description.Name
	usual := *j.workspace
	if err := usual.UseTarget(usual.Settings.Build.Target); err != nil || len(j.description.Targets) > 1 || usual.Target.Name != j.workspace.Target.Name {
		name += "." + j.workspace.Target.Name
	}
	return name + suffix
}

// archive writes the image as one tar archive.
func (j *imageJob) archive(ctx context.Context, c *content, dir string) (o Output, err error) {
	compression := cmp.Or(j.description.Archive.Compression, image.Zstd)
	suffix := map[string]string{image.Zstd: ".tar.zst", image.Gzip: ".tar.gz", image.None: ".tar"}[compression]
	task := j.app.Progress.Begin("image "+j.description.Name+": archive", 0, "")
	defer task.End("done")
	each, err := image.Flatten(ctx, slices.Concat(c.system, c.layers))
	if err != nil {
		return o, err
	}
	return writeOutput(image.FormArchive, filepath.Join(dir, j.name(suffix)), func(w io.Writer) error {
		z, err := archiveCompressor(w, compression)
		if err != nil {
			return err
		}
		return errors.Join(image.WriteTar(ctx, z, each), z.Close())
	})
}

type nothingToClose struct{ io.Writer }

func (nothingToClose) Close() error { return nil }

func archiveCompressor(w io.Writer, compression string) (io.WriteCloser, error) {
	switch compression {
	case image.Gzip:
		return gzip.NewWriter(w), nil
	case image.None:
		return nothingToClose{w}, nil
	}
	// The number of goroutines does not change the bytes.
	return zstd.NewWriter(w, zstd.WithEncoderConcurrency(max(2, runtime.GOMAXPROCS(0))), zstd.WithWindowSize(4<<20))
}

// writeOutput writes a file, and describes it.
func writeOutput(form, path string, write func(io.Writer) error) (o Output, err error) {
	f, err := os.Create(path)
	if err != nil {
		return o, err
	}
	h := sha256.New()
	err = write(io.MultiWriter(f, h))
	info, errStat := f.Stat()
	if err = errors.Join(err, errStat, f.Close()); err != nil {
		return o, err
	}
	return Output{form, path, hex.EncodeToString(h.Sum(nil)), info.Size()}, nil
}

// ociImage writes the image as an OCI layout. Layers that are there from the last time are
// not made again.
func (j *imageJob) ociImage(ctx context.Context, c *content, dir string) (o Output, made []MadeLayer, err error) {
	o = Output{Form: image.FormOCI, Path: filepath.Join(dir, j.name(".oci"))}
	w, err := oci.Create(o.Path)
	if err != nil {
		return o, nil, err
	}
	if made, err = j.ociLayers(ctx, c, w); err != nil {
		return o, nil, err
	}
	parts := oci.ImageParts{Config: j.ociConfig(c, made), Annotations: j.annotations(c)}
	for _, l := range made {
		parts.Layers = append(parts.Layers, oci.WrittenLayer{Descriptor: l.Blob, DiffID: l.DiffID})
		o.Bytes += l.Blob.Size
	}
	d, err := w.Image(parts)
	if err != nil {
		return o, nil, err
	}
	o.Digest = d.Digest.Encoded()
	bills, err := j.attachBills(ctx, c, w, d)
	if err != nil {
		return o, nil, err
	}
	d.Annotations = map[string]string{v1.AnnotationRefName: j.tag()}
	return o, made, w.Finish(append([]v1.Descriptor{d}, bills...))
}

// tag is the tag of the image's reference.
func (j *imageJob) tag() string { return cmp.Or(tagOf(j.description.OCI.Reference), "latest") }

// ociLayers writes the layers, several at once.
func (j *imageJob) ociLayers(ctx context.Context, c *content, w *oci.Writer) ([]MadeLayer, error) {
	compression := cmp.Or(j.description.OCI.Compression, oci.Gzip)
	known, before := j.lastLayers()
	if before != nil {
		defer before.Close()
	}
	var out []MadeLayer
	if c.base != nil {
		for i, d := range c.image.Layers {
			if err := w.Take(ctx, c.base, d); err != nil {
				return nil, err
			}
			l := MadeLayer{Name: "system", Key: "blob " + d.Digest.String(), Blob: d}
			if i < len(c.image.DiffIDs) {
				l.DiffID = c.image.DiffIDs[i]
			}
			_, l.Reused = known[l.Key]
			out = append(out, l)
		}
	}
	layers := c.layers
	if c.base == nil {
		layers = slices.Concat(c.system, c.layers)
	}
	first := len(out)
	out = slices.Grow(out, len(layers))[:first+len(layers)]
	task := j.app.Progress.Begin("image "+j.description.Name+": layers", int64(len(layers)), "layers")
	defer task.End("done")
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, l := range layers {
		g.Go(func() error {
			defer task.Advance(1)
			one := MadeLayer{Name: l.Name, Packages: l.Packages, Key: compression + " " + l.Key}
			if old, ok := known[one.Key]; ok && !j.options.Twice && w.Take(ctx, before, old.Blob) == nil {
				one.Blob, one.DiffID, one.Reused = old.Blob, old.DiffID, true
				out[first+i] = one
				return nil
			}
			written, err := w.Layer(ctx, compression, func(out io.Writer) error { return image.WriteTar(ctx, out, l.Each) })
			if err != nil {
				return err
			}
			one.Blob, one.DiffID = written.Descriptor, written.DiffID
			out[first+i] = one
			return nil
		})
	}
	return out, g.Wait()
}

// lastLayers are the layers of the image as it was made the last time, by their keys.
func (j *imageJob) lastLayers() (map[string]MadeLayer, *oci.Layout) {
	if j.last == nil {
		return nil, nil
	}
	at := slices.IndexFunc(j.last.Made.Outputs, func(o Output) bool { return o.Form == image.FormOCI })
	if at < 0 {
		return nil, nil
	}
	layout, err := oci.Open(j.last.Made.Outputs[at].Path)
	if err != nil {
		return nil, nil // all layers are made anew
	}
	known := map[string]MadeLayer{}
	for _, l := range j.last.Made.Layers {
		known[l.Key] = l
	}
	return known, layout
}

// usualPath is the PATH of an image whose description does not set one.
const usualPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// ociConfig is the configuration of the image: that of its system, with what the description
// says.
func (j *imageJob) ociConfig(c *content, made []MadeLayer) v1.Image {
	d := j.description
	config := c.image.Config
	config.Created, config.Author = &c.when, ""
	config.OS, config.Architecture = "linux", cmp.Or(fact.GoArchitecture(j.workspace.Target.Arch), j.workspace.Target.Arch)
	config.Config.Env = environment(config.Config.Env, d.Environment)
	if len(d.Run.Command) > 0 {
		config.Config.Entrypoint, config.Config.Cmd = d.Run.Command, nil
	}
	if d.Run.Arguments != nil {
		config.Config.Cmd = d.Run.Arguments
	}
	if d.Run.User != "" {
		uid, gid, _ := c.numbers.Of(d.Run.User, d.Run.User)
		config.Config.User = d.Run.User
		if uid >= 0 && gid >= 0 { // numbers can be checked before the image's files are read
			config.Config.User = strconv.Itoa(uid) + ":" + strconv.Itoa(gid)
		}
	}
	config.Config.WorkingDir = cmp.Or(d.Run.Directory, config.Config.WorkingDir)
	config.Config.StopSignal = cmp.Or(d.Run.Stop, config.Config.StopSignal)
	for _, p := range d.Run.Ports {
		if config.Config.ExposedPorts == nil {
			config.Config.ExposedPorts = map[string]struct{}{}
		}
		if !strings.Contains(p, "/") {
			p += "/tcp"
		}
		config.Config.ExposedPorts[p] = struct{}{}
	}
	for _, v := range d.Run.Volumes {
		if config.Config.Volumes == nil {
			config.Config.Volumes = map[string]struct{}{}
		}
		config.Config.Volumes[v] = struct{}{}
	}
	for name, value := range d.Labels {
		if config.Config.Labels == nil {
			config.Config.Labels = map[string]string{}
		}
		config.Config.Labels[name] = value
	}
	for _, l := range made[len(c.image.Layers):] {
		config.History = append(config.History, v1.History{Created: &c.when, CreatedBy: image.CreatedBy + l.Name, Comment: strings.Join(l.Packages, " ")})
	}
	return config
}

// environment sets variables in a list of NAME=VALUE.
func environment(list []string, set map[string]string) []string {
	values := map[string]string{"PATH": usualPath}
	for _, one := range list {
		name, value, _ := strings.Cut(one, "=")
		values[name] = value
	}
	for name, value := range set {
		values[name] = value
	}
	var out []string
	for name, value := range values {
		out = append(out, name+"="+value)
	}
	slices.Sort(out)
	return out
}

// annotations describe the image (OCI Image Format Specification 1.1, annotations.md).
func (j *imageJob) annotations(c *content) map[string]string {
	out := map[string]string{v1.AnnotationCreated: c.when.Format(time.RFC3339), v1.AnnotationTitle: j.description.Name}
	if j.description.Summary != "" {
		out[v1.AnnotationDescription] = j.description.Summary
	}
	if c.base != nil {
		out[v1.AnnotationBaseImageDigest] = c.image.Digest
	}
	for name, value := range j.description.Labels {
		out[name] = value
	}
	return out
}

// ociArchive writes the layout as one file.
func (j *imageJob) ociArchive(ctx context.Context, layout Output, dir string) (Output, error) {
	return writeOutput(image.FormOCI+" archive", filepath.Join(dir, j.name(".oci.tar")), func(w io.Writer) error { return oci.WriteArchive(ctx, w, layout.Path) })
}
