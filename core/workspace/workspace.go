// Package workspace finds, makes and reads workspaces: a directory with
// ellwand.toml, recipes/, and Ellwand's own state under .ellwand/.
package workspace

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/lint"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// Names in a workspace.
const (
	SettingsFile = "ellwand.toml"
	RecipesDir   = "recipes"
	StateDir     = ".ellwand"
)

// ErrNotFound says that there is no workspace here or above.
var ErrNotFound = fact.Errorf(fact.StatusInput, "there is no workspace here or in a directory above: ellwand.toml marks one").Try(fact.StartWorkspace, "", "")

// ErrGone says that a directory is no workspace, or no longer.
var ErrGone = errors.New("no workspace")

type goneError struct{ dir string }

func (e *goneError) Error() string {
	return fmt.Sprintf("%s is not a workspace: it has no %s", e.dir, SettingsFile)
}

func (e *goneError) Is(target error) bool { return target == ErrGone }

//go:embed template.toml
var template []byte

// Settings are what ellwand.toml says.
type Settings struct {
	Name         string                `toml:"name"`
	Build        Build                 `toml:"build"`
	Sources      Sources               `toml:"sources"`
	Targets      map[string]Target     `toml:"target"`
	Repositories map[string]Repository `toml:"repository"`
	Lint         lint.Profile          `toml:"lint"`
}

// Build is the table [build].
type Build struct {
	Target   string `toml:"target"`
	Jobs     int    `toml:"jobs"`
	Packages string `toml:"packages"`
	// What the steps of one build may use; empty or 0 for no limit.
	Memory    string `toml:"memory" shape:"an amount such as \"8 GiB\""`
	Processes int    `toml:"processes"`
	Disk      string `toml:"disk" shape:"an amount such as \"20 GiB\""`
	Time      string `toml:"time" shape:"a time such as \"2h\" or \"30m\""`
	Log       string `toml:"log" shape:"an amount such as \"64 MiB\""` // of one step
	// How much time goes into making packages small, if the recipe does not
	// say.
	Compression string `toml:"compression"`
	Layers      string `toml:"layers" shape:"an amount such as \"20 GiB\""` // that all layers may take on disk
}

// Target is a table [target.NAME]: what packages are made for, and on which
// system.
type Target struct {
	System       string   `toml:"system" shape:"\"host\", a directory, or an archive of a root"`
	Arch         string   `toml:"arch" shape:"an architecture as uname -m says it"`
	Release      string   `toml:"release" shape:"the release of the system, such as \"saltmarsh-7\""` // where the system does not say it
	Toolchain    string   `toml:"toolchain" shape:"the triplet of a cross toolchain"`                 // for an architecture that is not this machine's
	CFlags       string   `toml:"cflags"`
	LDFlags      string   `toml:"ldflags"`
	Repositories []string `toml:"repositories" shape:"names of [repository] tables"`
}

// Sources is the table [sources]: where a team shares sources, and where the modules of
// languages come from.
type Sources struct {
	URL        string            `toml:"url" shape:"an http:// or https:// address"`
	Registries map[string]string `toml:"registry" shape:"languages with an address"` // in place of the language's own
}

// Repository is a table [repository.NAME].
type Repository struct {
	URL      string `toml:"url" shape:"a path or an address"`
	Channel  string `toml:"channel"`
	Enabled  *bool  `toml:"enabled"`  // true where it is left out
	Priority int    `toml:"priority"` // packages of a higher one are preferred to newer ones
	// Require is what packages must have passed to be published or promoted.
	Require []string `toml:"require"`
	// Documents are stored beside each package that is published.
	Documents []string `toml:"documents"`
}

// Documents about packages.
const (
	DocumentSPDX       = "spdx"
	DocumentCycloneDX  = "cyclonedx"
	DocumentProvenance = "provenance"
)

// Documents lists them.
var Documents = []string{DocumentSPDX, DocumentCycloneDX, DocumentProvenance}

// Requirements of a repository. Lint is required by default.
const (
	RequireLint      = "lint"
	RequireTrial     = "trial"     // a trial of that very package passed
	RequireCommitted = "committed" // its recipe was committed when it was built
)

// Requirements lists them.
var Requirements = []string{RequireLint, RequireTrial, RequireCommitted}

// IsEnabled reports whether packages are taken from the repository.
func (r Repository) IsEnabled() bool { return r.Enabled == nil || *r.Enabled }

// DefaultChannel is the channel that is used where none is named.
const DefaultChannel = "testing"

// Workspace is an open workspace.
type Workspace struct {
	Dir      string // absolute
	Settings Settings
	Target   recipe.Target
	On       Target        // the settings of the target, if it has any
	Set      recipe.Values // options for recipes that have them

	like *Workspace // whose state is used, and whose paths are shown; nil for its own
}

// Find looks for a workspace in dir and the directories above it.
func Find(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, SettingsFile)); err == nil {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", ErrNotFound
		}
		dir = up
	}
}

// Open reads the workspace whose directory is dir. Mistakes in its settings are
// document.Problems.
func Open(dir string) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, SettingsFile)
	doc, err := document.ReadFile(file, Display(file))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &goneError{dir}
	}
	if err != nil {
		return nil, err
	}
	w := &Workspace{Dir: dir}
	doc.Decode(&w.Settings)
	if w.Settings.Build.Jobs < 0 {
		doc.Add(doc.At("build", "jobs"), "the number of jobs is negative", "leave it out to use every core")
	}
	for name, r := range w.Settings.Repositories {
		if r.URL == "" && doc.Find("repository", name, "url") == nil {
			doc.Add(doc.At("repository", name), fmt.Sprintf("repository %q has no `url`", name), `add: url = "repository"`)
		}
		for i, word := range r.Documents {
			if !slices.Contains(Documents, word) {
				doc.Add(doc.At("repository", name, "documents", i), fmt.Sprintf("unknown document %q", word), "it is one of "+strings.Join(Documents, ", "))
			}
		}
		for i, word := range r.Require {
			if !slices.Contains(Requirements, word) {
				doc.Add(doc.At("repository", name, "require", i), fmt.Sprintf("unknown requirement %q", word), "it is one of "+strings.Join(Requirements, ", "))
			}
		}
	}
	w.checkBuild(doc)
	if u, err := url.Parse(w.Settings.Sources.URL); w.Settings.Sources.URL != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "") {
		doc.Add(doc.At("sources", "url"), fmt.Sprintf("%q is not the URL of a source cache", w.Settings.Sources.URL), `url = "https://…"`)
	}
	for language, address := range w.Settings.Sources.Registries {
		at := doc.Find("sources", "registry", language)
		if !slices.Contains(fact.ModuleLanguages, language) || language == fact.ModuleScript {
			remedy := "the languages are " + strings.Join(fact.ModuleLanguages, ", ")
			if near := fact.Nearest(language, fact.ModuleLanguages); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			doc.Add(at.Key, fmt.Sprintf("there is no registry of %q", language), remedy)
		}
		if u, err := url.Parse(address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			doc.Add(at.Value, fmt.Sprintf("%q is not the address of a registry", address), "it begins with https://")
		}
	}
	w.checkTargets(doc)
	w.Settings.Lint.Check(doc, "lint")
	if err := w.UseTarget(w.Settings.Build.Target); err != nil {
		doc.Add(doc.At("build", "target"), err.Error(), "letters, digits, . and -")
	}
	doc.Sort()
	return w, doc.Err()
}

// ExistsError says that Init found a workspace where none may be.
type ExistsError struct {
	Dir    string // the directory asked for
	Around string // the workspace that is there
}

func (e *ExistsError) Error() string {
	if e.Dir == e.Around {
		return fmt.Sprintf("%s is already a workspace", e.Dir)
	}
	return fmt.Sprintf("%s is inside the workspace %s: workspaces cannot be nested", e.Dir, e.Around)
}

// Init makes a workspace in dir, which is created where it does not exist.
// Files that are there stay as they are.
func Init(dir string) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if around, err := Find(dir); err == nil {
		return nil, &ExistsError{dir, around}
	}
	if err := os.MkdirAll(filepath.Join(dir, RecipesDir), 0o755); err != nil {
		return nil, err
	}
	if err := makeState(dir); err != nil {
		return nil, err
	}
	// Packages can be built again; an existing ignore file is the maintainer's.
	ignore, err := os.OpenFile(filepath.Join(dir, ".gitignore"), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err == nil {
		_, err = ignore.WriteString("/packages/\n/images/made/\n")
		err = errors.Join(err, ignore.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	// A JSON string is a TOML string too, whatever the directory is called.
	name, err := json.Marshal(filepath.Base(dir))
	if err != nil {
		return nil, err
	}
	settings := bytes.ReplaceAll(template, []byte("{name}"), name)
	if err := renameio.WriteFile(filepath.Join(dir, SettingsFile), settings, 0o644); err != nil {
		return nil, err
	}
	return Open(dir)
}

// Aside makes a workspace for trials, in a new directory: with the same settings
// and packages, and no recipes. What is built in it stays in it.
func (w *Workspace) Aside(dir string) (*Workspace, error) {
	aside := *w
	aside.Dir = dir
	aside.Settings.Build.Packages = filepath.Join(dir, "packages")
	for _, d := range []string{filepath.Join(dir, RecipesDir), filepath.Join(dir, StateDir), aside.Packages()} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, err
		}
	}
	entries, err := os.ReadDir(w.Packages())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		if err := os.Symlink(filepath.Join(w.Packages(), e.Name()), filepath.Join(aside.Packages(), e.Name())); err != nil {
			return nil, err
		}
	}
	return &aside, nil
}

// AsideOf makes a workspace for trials as Aside does, of which the state is kept: layers and
// logs are those of the first, and messages name files as if they were there.
func (w *Workspace) AsideOf(dir string) (*Workspace, error) {
	aside, err := w.Aside(dir)
	if err == nil {
		aside.like = w
	}
	return aside, err
}

// Display shortens a path for messages: relative to the current directory where
// that is no longer.
func Display(path string) string {
	cwd, err := os.Getwd()
	if err != nil {
		return path
	}
	if rel, err := filepath.Rel(cwd, path); err == nil && len(rel) < len(path) {
		return rel
	}
	return path
}

// State returns a path under .ellwand/.
func (w *Workspace) State(elem ...string) string {
	dir := w.Dir
	if w.like != nil {
		dir = w.like.Dir
	}
	return filepath.Join(append([]string{dir, StateDir}, elem...)...)
}

// MakeState makes the directory of the workspace's state, which a workspace that comes
// from a git repository does not have.
func (w *Workspace) MakeState() error { return makeState(w.Dir) }

// makeState makes the directory for the state. It is not for version control; saying so
// inside of it leaves the maintainer's own ignore files alone.
func makeState(dir string) error {
	state := filepath.Join(dir, StateDir)
	if _, err := os.Stat(state); err == nil {
		return nil
	}
	if err := files.MkdirAll(state); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(state, ".gitignore"), []byte("*\n"), 0o644)
}

// plainPath is a path that make and shell scripts can handle without quotes:
// many upstream build files do not quote.
var plainPath = pattern.New(`^[A-Za-z0-9_./+@%,-]+$`)

// BuildTree returns the directory in which a recipe is built. It is under the
// workspace's state, or, where that has a space or another special character
// in its path, in a directory of the user's own under the system's temporary one.
func (w *Workspace) BuildTree(name string) (string, error) {
	dir := w.State("build", name)
	if plainPath.MatchString(dir) {
		return dir, nil
	}
	sum := sha256.Sum256([]byte(w.Dir))
	own := filepath.Join(os.TempDir(), fmt.Sprintf("ellwand-%d-%x", os.Getuid(), sum[:6]))
	if err := os.Mkdir(own, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	// Anyone can make a directory there: it must be this user's, and no link.
	info, err := os.Lstat(own)
	if err != nil {
		return "", err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || st.Uid != uint32(os.Getuid()) || info.Mode().Perm()&0o022 != 0 {
		return "", fmt.Errorf("%s is not a directory of yours alone, and builds go there because %q has special characters in it: remove it, or move the workspace", own, w.Dir)
	}
	return filepath.Join(own, StateDir, "build", name), nil
}

// Packages is the directory that packages built for the workspace's target are
// put into: those for two targets can have the same name.
func (w *Workspace) Packages() string { return filepath.Join(w.AllPackages(), w.Target.Name) }

// AllPackages is the directory with a directory of packages for each target.
func (w *Workspace) AllPackages() string {
	p := w.Settings.Build.Packages
	if p == "" {
		p = "packages"
	}
	return w.Abs(p)
}

// Abs makes a path of the settings absolute.
func (w *Workspace) Abs(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(w.Dir, p)
}

// Jobs is how many processes a build may run at once.
func (w *Workspace) Jobs() int {
	if w.Settings.Build.Jobs > 0 {
		return w.Settings.Build.Jobs
	}
	return runtime.NumCPU()
}

// Recipes lists the names of all recipes.
func (w *Workspace) Recipes() ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(w.Dir, RecipesDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if _, err := os.Stat(filepath.Join(w.Dir, RecipesDir, e.Name(), recipe.FileName)); err == nil {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// Recipe reads a recipe by its name.
func (w *Workspace) Recipe(name string) (*recipe.Recipe, error) {
	dir := filepath.Join(w.Dir, RecipesDir, name)
	if names, err := w.Recipes(); err == nil && !slices.Contains(names, name) {
		return nil, w.noRecipe(name, names)
	}
	shown := w.Dir
	if w.like != nil {
		shown = w.like.Dir
	}
	return recipe.Load(dir, Display(filepath.Join(shown, RecipesDir, name, recipe.FileName)), w.Target, w.Set)
}

func (w *Workspace) noRecipe(name string, names []string) error {
	remedy := "the workspace has no recipes yet"
	if near := fact.Nearest(name, names); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	} else if len(names) > 0 {
		remedy = "there are " + strings.Join(names, ", ")
	}
	return document.Problems{{File: Display(filepath.Join(w.Dir, RecipesDir)), Message: fmt.Sprintf("there is no recipe %q", name), Remedy: remedy}}
}

// Repository returns the place of a configured repository, or of one named by its
// path or URL, and the channel to use. Paths are relative to the current
// directory, if they are below it.
func (w *Workspace) Repository(name string) (place, channel string) {
	place, channel = name, DefaultChannel
	if w != nil {
		if r, ok := w.Settings.Repositories[name]; ok {
			place, channel = r.URL, cmp.Or(r.Channel, channel)
			if !fact.IsRemote(place) {
				place = w.Abs(fact.LocalPath(place))
			}
		}
	}
	if !fact.IsRemote(place) {
		place = Display(fact.LocalPath(place))
	}
	return place, channel
}

// RepositoryNames lists the configured repositories.
func (w *Workspace) RepositoryNames() []string {
	return slices.Sorted(maps.Keys(w.Settings.Repositories))
}

// DefaultRepository names the one configured repository, or the one called
// "local" among several.
func (w *Workspace) DefaultRepository() (string, error) {
	var names []string
	for name := range w.Settings.Repositories {
		names = append(names, name)
	}
	slices.Sort(names)
	switch {
	case len(names) == 1:
		return names[0], nil
	case slices.Contains(names, "local"):
		return "local", nil
	case len(names) == 0:
		return "", fmt.Errorf("%s names no repository: add a table [repository.local] with a url, or name one on the command line", Display(filepath.Join(w.Dir, SettingsFile)))
	}
	return "", fmt.Errorf("which repository: %s?", strings.Join(names, ", "))
}

// machine is the architecture as uname -m says it.
func machine() string {
	var u unix.Utsname
	if err := unix.Uname(&u); err != nil {
		return runtime.GOARCH
	}
	return unix.ByteSliceToString(u.Machine[:])
}

// hostRelease names the host's system release, as os-release(5) has it.
func hostRelease() string {
	if release := releaseOf("/"); release != "" {
		return release
	}
	return "linux"
}

// maxRelease bounds what is read of an os-release, in bytes.
const maxRelease = 64 << 10

// releaseOf names the system in a directory as its os-release(5) does; empty if that says
// nothing.
func releaseOf(dir string) string {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return ""
	}
	defer root.Close()
	data, err := root.ReadFile("etc/os-release")
	if err != nil {
		// The link may be absolute, which leads out of a directory.
		if data, err = root.ReadFile("usr/lib/os-release"); err != nil {
			return ""
		}
	}
	data = data[:min(len(data), maxRelease)]
	facts := map[string]string{}
	for line := range strings.SplitSeq(string(data), "\n") {
		if key, value, ok := strings.Cut(line, "="); ok {
			facts[key] = strings.Trim(value, `"'`)
		}
	}
	if facts["VERSION_ID"] == "" || facts["ID"] == "" {
		return facts["ID"]
	}
	return facts["ID"] + "-" + facts["VERSION_ID"]
}
