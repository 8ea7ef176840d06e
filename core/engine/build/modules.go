package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/modules"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
	"ellwand.example/core/workspace"
)

// ModulesError is a download of a language's modules that failed.
type ModulesError struct {
	Recipe   string
	Language string
	Reason   string
	Tail     []string // the last lines of what the language's command printed
	Log      string
}

func (e *ModulesError) Error() string {
	s := fmt.Sprintf("%s: the modules of %s cannot be fetched: %s", e.Recipe, e.Language, e.Reason)
	for _, line := range e.Tail {
		s += "\n  " + line
	}
	if e.Log != "" {
		s += "\nlog: " + e.Log
	}
	return s
}

// Status is that of a failed step.
func (e *ModulesError) Status() fact.Status { return fact.StatusStep }

// FetchSource fetches source number i of a recipe, as Fetcher.Fetch does; modules of a
// language are fetched by its own command, over the other sources, in a sandbox.
func (b *Builder) FetchSource(ctx context.Context, r *recipe.Recipe, i int) (source.Fetched, error) {
	s := r.Sources[i]
	if s.Modules == "" {
		return b.Fetcher.Fetch(ctx, r, i)
	}
	if s.SHA256 != "" {
		if f, ok, err := b.Fetcher.FetchPinned(ctx, source.FileName(s), s.SHA256); ok || err != nil {
			return f, err
		}
	}
	j, err := b.begin(ctx, r)
	if err != nil {
		return source.Fetched{}, err
	}
	defer j.close()
	if err := j.meetNeeds(ctx); err != nil {
		return source.Fetched{}, err
	}
	j.sources = make([]source.Fetched, len(r.Sources))
	for k, other := range r.Sources {
		if other.Modules != "" {
			continue
		}
		if j.sources[k], err = b.Fetcher.Fetch(ctx, r, k); err != nil {
			return source.Fetched{}, err
		}
	}
	return j.fetchModules(ctx, i)
}

// fetchModules fetches the modules of source i. The other sources were fetched.
func (j *job) fetchModules(ctx context.Context, i int) (source.Fetched, error) {
	s := j.recipe.Sources[i]
	if s.SHA256 != "" {
		if f, ok, err := j.Fetcher.FetchPinned(ctx, source.FileName(s), s.SHA256); ok || err != nil {
			return f, err
		}
	}
	log, err := j.modulesLog(s.Modules)
	if err != nil {
		return source.Fetched{}, err
	}
	defer log.Close()
	d := &moduleDownload{job: *j, source: s, language: modules.Of(s.Modules), log: log, dir: filepath.Join(j.scrap(), "modules")}
	defer layer.RemoveAll(d.dir)
	f, err := d.run(ctx)
	f.Name = source.FileName(s)
	if err != nil && ctx.Err() == nil {
		var known interface{ Status() fact.Status }
		var digest *source.DigestError
		if !errors.As(err, &known) && !errors.As(err, &digest) {
			err = &ModulesError{Recipe: j.recipe.Name, Language: s.Modules, Reason: err.Error(), Log: workspace.Display(log.Name())}
		}
	}
	return f, err
}

// modulesLog is the log of the last download of a language's modules.
func (j *job) modulesLog(language string) (*os.File, error) {
	dir := j.Workspace.State("fetch")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	return os.Create(filepath.Join(dir, j.recipe.Name+"-"+language+".log"))
}

// moduleDownload is one download under way, in a tree of its own.
type moduleDownload struct {
	job
	source   recipe.Source
	language modules.Language
	log      *os.File
	dir      string
}

func (d *moduleDownload) run(ctx context.Context) (source.Fetched, error) {
	if d.Runner.OwnFileSystem() {
		d.worktree = &overlayTree{job: &d.job, store: layer.Store{Dir: filepath.Join(d.dir, "layers"), Copies: true}, scrap: d.dir}
	} else {
		d.worktree = &dirTree{dir: filepath.Join(d.dir, "plain")}
	}
	if err := errors.Join(layer.RemoveAll(d.dir), os.MkdirAll(d.dir, 0o755), d.worktree.begin([]stepKey{{recipe.Unpack, "modules"}}, 0)); err != nil {
		return source.Fetched{}, err
	}
	if err := d.lay(ctx); err != nil {
		return source.Fetched{}, err
	}
	if err := d.unpackSources(ctx, d.log, func(s recipe.Source) bool { return s.Modules == "" }); err != nil {
		return source.Fetched{}, err
	}
	if err := d.applyRewrites(ctx, recipe.Unpack); err != nil {
		return source.Fetched{}, err
	}
	if d.laysInto() {
		if err := d.layInto(ctx, d.worktree.own("needs")); err != nil {
			return source.Fetched{}, err
		}
	}
	root, err := os.OpenRoot(filepath.Dir(d.worktree.own("work")))
	if err != nil {
		return source.Fetched{}, err
	}
	defer root.Close()
	project := path.Join("work", d.source.Into)
	name, lock, err := d.language.Lock(root, project)
	if err != nil {
		return source.Fetched{}, err
	}
	if err := d.download(ctx, root, name, lock); err != nil {
		return source.Fetched{}, err
	}
	return d.store(ctx, root, project, lock)
}

// download runs the language's command, with the proxy as its only way out.
func (d *moduleDownload) download(ctx context.Context, root *os.Root, lockName string, lock []byte) error {
	rule, err := d.language.Rule(lock)
	if err != nil {
		return err
	}
	var registry *url.URL
	if address := d.Workspace.Settings.Sources.Registries[d.source.Modules]; address != "" {
		if registry, err = url.Parse(address); err != nil {
			return err
		}
	}
	temp := filepath.Join(d.dir, "answers")
	if err := os.MkdirAll(temp, 0o700); err != nil {
		return err
	}
	proxy, err := modules.NewProxy(registry, rule, temp)
	if err != nil {
		return err
	}
	proxy.Log = d.log
	if err := root.WriteFile(path.Join("home", modules.CertificateFile), proxy.Certificate(), 0o644); err != nil {
		return err
	}
	if err := handOver(filepath.Dir(d.worktree.own("work"))); err != nil {
		return err
	}
	script := d.language.Download
	if d.source.Modules == fact.ModuleScript {
		script = d.source.Run
	}
	c, err := d.command("modules", script)
	if err != nil {
		return err
	}
	c.Dir = path.Join(c.Dir, d.source.Into)
	c.Env = d.online(c.Env, lockName, registry != nil)
	c.Proxy = func(l net.Listener) { proxy.Serve(ctx, l) }
	t := d.Progress.Begin(fmt.Sprintf("%s modules of %s", d.recipe.Name, d.source.Modules), 0, "")
	run, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	out := &logWriter{file: d.log, task: t, size: d.Workspace.LogSize(), stop: stop}
	c.Output = out
	_, err = d.Runner.Run(run, c)
	full := out.end()
	if err == nil && full == nil {
		t.End("done")
		return nil
	}
	t.End("failed")
	var exit *sandbox.ExitError
	if !errors.As(err, &exit) || ctx.Err() != nil {
		return errors.Join(err, full)
	}
	e := &ModulesError{Recipe: d.recipe.Name, Language: d.source.Modules, Reason: "the command " + exit.Error(), Tail: out.lines(), Log: workspace.Display(d.log.Name())}
	for _, answer := range proxy.Downloads() {
		if answer.Refused != "" {
			e.Reason, e.Tail = fmt.Sprintf("%s%s was refused: %s", answer.Host, answer.Path, answer.Refused), nil
			break
		}
	}
	return e
}

// online is the environment of the language's command.
func (d *moduleDownload) online(env []string, lockName string, registry bool) []string {
	home := d.worktree.seen("home")
	certificate := path.Join(home, modules.CertificateFile)
	values := map[string]string{"LOCK": lockName, "NO_PROXY": "", "SSL_CERT_FILE": certificate, "GIT_SSL_CAINFO": certificate}
	for _, name := range []string{"http_proxy", "https_proxy", "HTTP_PROXY", "HTTPS_PROXY"} {
		values[name] = "http://" + sandbox.ProxyAddress
	}
	maps.Copy(values, d.language.Online(home))
	if registry {
		maps.Copy(values, d.language.Registry(modules.Registry))
	}
	for _, v := range env {
		if name, value, _ := strings.Cut(v, "="); values[name] == "" && !offlineOnly(d.language, home, name) {
			values[name] = value
		}
	}
	out := []string{}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		out = append(out, name+"="+values[name])
	}
	return out
}

// offlineOnly reports whether a variable is for builds, and no download.
func offlineOnly(l modules.Language, home, name string) bool {
	_, ok := l.Offline(home)[name]
	return ok
}

// store adds what was downloaded to the source cache.
func (d *moduleDownload) store(ctx context.Context, root *os.Root, project string, lock []byte) (source.Fetched, error) {
	if err := d.language.Finish(root); err != nil {
		return source.Fetched{}, err
	}
	all, err := d.language.List(root, project, lock)
	if err != nil {
		return source.Fetched{}, err
	}
	var keep []string
	for _, dir := range d.language.Keep {
		if below, ok := strings.CutPrefix(dir, "work/"); ok {
			dir = path.Join(project, below)
		}
		keep = append(keep, dir)
	}
	for _, p := range d.source.Keep {
		if _, err := root.Lstat(path.Join(project, p)); err != nil {
			return source.Fetched{}, fact.Errorf(fact.StatusInput, "%s: the script downloaded nothing to %q, which `keep` names", d.recipe.Name, p)
		}
		keep = append(keep, path.Join(project, path.Clean(p)))
	}
	out, in := io.Pipe()
	go func() { in.CloseWithError(modules.WriteArchive(ctx, in, root, d.language, keep, all)) }()
	f, err := d.Fetcher.Add(ctx, source.FileName(d.source), out, d.source.SHA256)
	out.CloseWithError(err)
	if changed := (*source.DigestError)(nil); errors.As(err, &changed) {
		changed.What = fmt.Sprintf("what the lock file of %s's modules names", d.source.Modules)
	}
	return f, err
}

// moduleList lists the modules of a fetched source; none for other sources.
func (j *job) moduleList(i int) ([]fact.Module, error) {
	if j.recipe.Sources[i].Modules == "" {
		return nil, nil
	}
	return ModuleList(j.sources[i].Path)
}

// ModuleList lists what an archive of modules in the source cache consists of.
func ModuleList(file string) ([]fact.Module, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return modules.ReadList(f)
}

// offline are the variables with which builds find the modules that were fetched.
func (j *job) offline() []variable {
	var out []variable
	for _, s := range j.recipe.Sources {
		if s.Modules == "" {
			continue
		}
		values := modules.Of(s.Modules).Offline(j.worktree.seen("home"))
		for _, name := range slices.Sorted(maps.Keys(values)) {
			out = append(out, variable{name, values[name], true})
		}
	}
	return out
}
