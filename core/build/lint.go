package build

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"sync"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/files"
	"ellwand.example/core/lint"
	"ellwand.example/core/pack"
	"ellwand.example/core/probe"
	"ellwand.example/core/recipe"
	"ellwand.example/core/repo"
	"ellwand.example/core/source"
)

// Linter returns a linter that knows what the workspace knows: its settings,
// the system of its target, what is built and published, and what the last
// traced builds used. Everything is looked up when a rule first asks for it.
func (b *Builder) Linter(ctx context.Context) *lint.Linter {
	l := &lint.Linter{Profile: b.Workspace.Settings.Lint, Target: b.Workspace.Target.Name, Used: b.usage, Licenses: b.licenseTexts, Published: b.publishedBefore}
	system, err := System(ctx, b.Workspace, b.Progress)
	if err != nil {
		return l // a system that is not here is not judged by
	}
	l.System = probe.Open(system)
	var mu sync.Mutex
	known := map[string]bool{}
	records := sync.OnceValue(func() []published {
		all, err := b.published(ctx)
		if err != nil {
			return nil
		}
		return all
	})
	l.Meets = func(n need.Need) bool {
		mu.Lock()
		defer mu.Unlock()
		met, ok := known[n.String()]
		if !ok {
			met = b.metHere(n, l.System, records)
			known[n.String()] = met
		}
		return met
	}
	return l
}

// keptFindings are those of the last build, while its packages stay as they
// are.
type keptFindings struct {
	Profile  lint.Profile   `json:"profile"`
	Findings []fact.Finding `json:"findings"`
}

// lint looks at the recipe and what was made of it. Of packages that are as
// they were, it says what it said then.
func (j *job) lint(ctx context.Context) error {
	profile := j.Workspace.Settings.Lint
	kept := filepath.Join(j.state, "findings.json")
	if j.result.State == Unchanged {
		if last := readJSON[keptFindings](kept); last.Findings != nil && reflect.DeepEqual(last.Profile, profile) {
			j.result.Findings, j.result.Linted = last.Findings, true
			return nil
		}
	}
	t := j.Progress.Begin("lint "+j.recipe.Name, 0, "")
	defer t.End("done")
	l := j.Linter(ctx)
	found := append([]fact.Finding{}, l.Recipe(ctx, j.recipe)...)
	var opened []*pack.Package
	defer func() {
		for _, p := range opened {
			p.Close()
		}
	}()
	for _, written := range j.result.Packages {
		p, err := pack.Open(written.Path)
		if err != nil {
			return err
		}
		opened = append(opened, p)
	}
	of, err := l.Together(ctx, opened)
	if err != nil {
		return err
	}
	j.result.Findings, j.result.Linted = append(found, of...), true
	return writeJSON(kept, keptFindings{profile, j.result.Findings})
}

// metHere tells whether the system, a package of the workspace or a published
// one meets a need. Packages that cannot be listed are taken to.
func (b *Builder) metHere(n need.Need, system *probe.System, records func() []published) bool {
	if found, ok := system.Look(n, nil); ok && found.Enough {
		return true
	}
	all, err := b.packages()
	if err != nil || find(all, n) != nil {
		return true
	}
	return slices.ContainsFunc(records(), func(p published) bool {
		return slices.ContainsFunc(p.records, func(r repo.Record) bool { return slices.ContainsFunc(r.AllProvides(), n.MetBy) })
	})
}

// publishedBefore opens the newest published package of the same name that is
// older than this one, in the repositories that are folders; nil where there
// is none. Those on servers are not asked: lint does without a network.
func (b *Builder) publishedBefore(ctx context.Context, f pack.Facts) (*pack.Package, error) {
	var best *repo.Record
	var from *repo.Repository
	for _, name := range b.Workspace.RepositoryNames() {
		if fact.IsRemote(b.Workspace.Settings.Repositories[name].URL) || !b.Workspace.Settings.Repositories[name].IsEnabled() {
			continue
		}
		place, channel := b.Workspace.Repository(name)
		r, err := repo.OpenCached(place)
		if err != nil {
			continue // `ellwand verify` tells of it
		}
		records, err := r.Named(ctx, channel, f.Target, f.Name)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		for i := range records {
			c := &records[i]
			if c.Arch == f.Arch && c.Full().Compare(f.Full()) < 0 && (best == nil || best.Full().Compare(c.Full()) < 0) {
				best, from = c, r
			}
		}
	}
	if best == nil {
		return nil, nil
	}
	p, err := pack.Open(filepath.Join(from.Storage.Where(), filepath.FromSlash(best.File)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return p, err
}

// usageRecord is what a traced build leaves for lint.
type usageRecord struct {
	Recipe string      `json:"recipe"` // SHA-256 of its text
	Report NeedsReport `json:"report"`
}

func (b *Builder) usageFile(name string) string {
	return b.Workspace.State("needs", name+".json")
}

// keepUsage writes down what a traced build has used.
func (j *job) keepUsage(report *NeedsReport) error {
	sum := sha256.Sum256(j.recipe.Doc.Data)
	data, err := json.Marshal(usageRecord{hex.EncodeToString(sum[:]), *report})
	if err != nil {
		return err
	}
	file := j.usageFile(j.recipe.Name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return files.Write(file, data)
}

// usage reads what the last traced build used, if that was of this recipe.
func (b *Builder) usage(r *recipe.Recipe) *lint.Usage {
	data, err := os.ReadFile(b.usageFile(r.Name))
	var record usageRecord
	if err != nil || json.Unmarshal(data, &record) != nil {
		return nil
	}
	if sum := sha256.Sum256(r.Doc.Data); record.Recipe != hex.EncodeToString(sum[:]) {
		return nil
	}
	u := &lint.Usage{Unused: record.Report.Unused}
	for _, n := range record.Report.Undeclared {
		u.Undeclared = append(u.Undeclared, n.Need)
	}
	return u
}

// licenseName is what files with licence texts are called.
var licenseName = regexp.MustCompile(`(?i)^(licen[cs]e|copying|unlicense)([-._].*)?$`)

// maxLicense is how much of a licence text is read, and maxSource the largest
// archive that is looked into for them.
const (
	maxLicense = 64 << 10
	maxSource  = 64 << 20
)

// licenseTexts reads the licence texts of a recipe's sources, so far as these
// are in the source cache. What an archive has is written down under its digest.
func (b *Builder) licenseTexts(ctx context.Context, r *recipe.Recipe) map[string]string {
	out := map[string]string{}
	for _, s := range r.Sources {
		if s.File != "" {
			if data, err := r.ReadBeside(s.File); err == nil && licenseName.MatchString(filepath.Base(s.File)) {
				out[s.File] = string(data[:min(len(data), maxLicense)])
			}
			continue
		}
		if s.SHA256 == "" || s.Into != "" || b.Fetcher == nil || !b.Fetcher.Cache.Has(s.SHA256) {
			continue
		}
		for name, text := range b.archiveLicenses(ctx, b.Fetcher.Cache.Path(s.SHA256), s.SHA256) {
			out[sourceName(s)+": "+name] = text
		}
	}
	return out
}

func sourceName(s recipe.Source) string {
	if u, err := url.Parse(s.URL); err == nil {
		return filepath.Base(u.Path)
	}
	return source.FileName(s)
}

func (b *Builder) archiveLicenses(ctx context.Context, archive, digest string) map[string]string {
	kept := b.Workspace.State("licenses", digest+".json")
	texts := map[string]string{}
	if data, err := os.ReadFile(kept); err == nil && json.Unmarshal(data, &texts) == nil {
		return texts
	}
	if info, err := os.Stat(archive); err != nil || info.Size() > maxSource {
		return nil
	}
	texts, err := source.Texts(ctx, archive, licenseName.MatchString, maxLicense)
	if err != nil {
		return nil // fetching and unpacking tell of it
	}
	// Without the note, the archive is read again the next time.
	if data, err := json.Marshal(texts); err == nil && os.MkdirAll(filepath.Dir(kept), 0o755) == nil {
		_ = files.Write(kept, data)
	}
	return texts
}
