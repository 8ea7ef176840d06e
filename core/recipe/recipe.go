// Package recipe reads recipes, format 1: one TOML file that says what a
// package is, what it is made from, how it is built, and which of the built
// files go where. Reading runs nothing. docs/recipe.md is the reference.
package recipe

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/recipe/document"
)

// FileName is the name of a recipe's file in its directory.
const FileName = "recipe.toml"

// Format is the number of the recipe format that this package reads.
const Format = 1

// The steps of a build, in their order. Unpack and Pack are built in.
const (
	Unpack  = "unpack"
	Prepare = "prepare"
	Build   = "build"
	Test    = "test"
	Stage   = "stage"
	Pack    = "pack"
)

// StepNames lists the steps in the order in which they run.
var StepNames = []string{Unpack, Prepare, Build, Test, Stage, Pack}

// Recipe is a recipe that was read without a mistake.
type Recipe struct {
	Format      int                `toml:"format"`
	Name        string             `toml:"name"`
	Version     string             `toml:"version"`
	Release     int                `toml:"release"`
	Epoch       int                `toml:"epoch"`
	Arch        string             `toml:"arch"` // fact.Independent, or empty for the target's
	Summary     string             `toml:"summary"`
	Description string             `toml:"description"`
	License     string             `toml:"license" shape:"an SPDX expression"`
	Homepage    string             `toml:"homepage"`
	Maintainer  string             `toml:"maintainer"`
	Category    string             `toml:"category"`
	Let         map[string]string  `toml:"let" shape:"names with strings"`
	Options     map[string]Option  `toml:"option"`
	Upstream    Upstream           `toml:"upstream"`
	Sources     []Source           `toml:"source"`
	Patches     []Patch            `toml:"patch"`
	Needs       Needs              `toml:"needs"`
	Steps       Steps              `toml:"steps"`
	Rewrites    []Rewrite          `toml:"rewrite"`
	Packages    map[string]Package `toml:"package"`
	Discard     []string           `toml:"discard"`
	Debug       *bool              `toml:"debug"` // split debug information off; true where it is left out
	Compression string             `toml:"compression"`
	Waivers     []Waiver           `toml:"waive"`
	Trial       Trial              `toml:"trial"`
	Changes     []Change           `toml:"change"`

	Set        Values             `toml:"-"` // the value of every option
	Dir        string             `toml:"-"` // the directory that the recipe is in
	Doc        *document.Document `toml:"-"` // for the places of things
	conditions int                `toml:"-"` // that were looked at
}

// Upstream says where new versions are announced, if the sources do not. At most one of Page,
// Git and Package is set.
type Upstream struct {
	Page    string `toml:"page" shape:"an http:// or https:// address"`         // with links to the versions
	Git     string `toml:"git" shape:"the address of a git repository"`         // with tags
	Package string `toml:"package" shape:"a package URL such as \"pkg:npm/…\""` // of Go or npm
	// Match is a tag, or the name of a file, of the recipe's own version.
	Match string `toml:"match"`
}

// Source is an input: an archive or file at a URL, a file beside the recipe, a commit of a
// git repository, or the modules of a language that the other sources depend on. Exactly one
// of URL, File, Git and Modules is set.
type Source struct {
	URL    string   `toml:"url"`
	File   string   `toml:"file"`
	SHA256 string   `toml:"sha256"`
	Git    string   `toml:"git"`
	Tag    string   `toml:"tag"`    // that the commit had when it was pinned
	Commit string   `toml:"commit"` // its whole name, in hexadecimal
	Into   string   `toml:"into" shape:"a path in the work tree"`
	Skip   []string `toml:"skip" shape:"patterns of paths in the archive"`
	If     string   `toml:"if" shape:"a condition"`
	Place  int      `toml:"-" json:"-"` // among the sources of the recipe's file, from 0

	Modules string   `toml:"modules" shape:"the name of a language"` // of fact.ModuleLanguages
	Run     string   `toml:"run" shape:"a shell script"`             // of fact.ModuleScript: what downloads
	Keep    []string `toml:"keep" shape:"paths in the work tree"`    // of what that downloaded
}

// Patch is a change to the sources, in the unified format, in a file beside
// the recipe. Patches are applied in their order once all sources are unpacked.
type Patch struct {
	File string `toml:"file"`
	Into string `toml:"into" shape:"a path in the work tree"`
	If   string `toml:"if" shape:"a condition"`
	Line int    `toml:"-" json:"-"` // of the recipe
}

// Rewrite replaces text in files after a step.
type Rewrite struct {
	After   string `toml:"after" shape:"the name of a step"`
	Path    string `toml:"path" shape:"a path or pattern in the work tree, or after stage among the staged files"`
	Find    string `toml:"find"`
	Regexp  string `toml:"regexp"`
	Replace string `toml:"replace"`
	Times   int    `toml:"times"` // how often it must be found, in all; 0 for at least once
	If      string `toml:"if" shape:"a condition"`
	Line    int    `toml:"-" json:"-"` // of the recipe
}

// Option is a choice that the person who builds the recipe can make.
type Option struct {
	Summary string          `toml:"summary"`
	Default document.Scalar `toml:"default"`
	Choices []string        `toml:"choices"`
}

// Values are the values of options, as text; "true" and "false" for switches.
type Values map[string]string

// Needs are dependencies. Those of every When whose condition is true are among the
// others once a recipe has been read.
type Needs struct {
	Build []need.Need `toml:"build"`
	Test  []need.Need `toml:"test"`
	Run   []need.Need `toml:"run"`
	When  []When      `toml:"when"`
}

// When are needs under a condition.
type When struct {
	If    string      `toml:"if" shape:"a condition"`
	Build []need.Need `toml:"build"`
	Test  []need.Need `toml:"test"`
	Run   []need.Need `toml:"run"`
}

// Steps are the shell scripts of the steps that are not built in. A method
// fills in those that are not written.
type Steps struct {
	Method    string            `toml:"method"`
	Configure []string          `toml:"configure"` // passed on by the method
	Allow     []string          `toml:"allow"`     // system calls beyond the usual ones, of Allowances
	Copy      map[string]string `toml:"copy"`      // of method copy: a path in the work tree, and where it goes
	Prepare   string            `toml:"prepare"`
	Build     string            `toml:"build"`
	Test      string            `toml:"test"`
	Stage     string            `toml:"stage"`
}

// Script returns the script of a step as written; empty for those built
// in.
func (s Steps) Script(step string) string {
	return map[string]string{Prepare: s.Prepare, Build: s.Build, Test: s.Test, Stage: s.Stage}[step]
}

// Package is one package that the recipe makes. Facts left out are the
// recipe's.
type Package struct {
	If          string             `toml:"if" shape:"a condition"`
	Summary     string             `toml:"summary"`
	Description string             `toml:"description"`
	Category    string             `toml:"category"`
	Arch        string             `toml:"arch"`
	Needs       []need.Need        `toml:"needs"`
	Provides    []need.Provide     `toml:"provides"`
	Conflicts   []need.Need        `toml:"conflicts"` // what it cannot be in one root with
	Replaces    []need.Need        `toml:"replaces"`  // packages that it replaces, whose paths it may contain
	Suggests    []need.Need        `toml:"suggests"`  // what it is better with
	Layout      map[string]Entry   `toml:"layout" shape:"paths with { } behind them"`
	Accounts    map[string]Account `toml:"account"`
	Scripts     Scripts            `toml:"script"`
	Refresh     []Refresh          `toml:"refresh"`
}

// Refresh is a script that runs once after paths changed that it reads, whatever package
// they belong to.
type Refresh struct {
	If    string   `toml:"if" shape:"a condition"`
	Paths []string `toml:"paths" shape:"patterns of installed paths"`
	Run   string   `toml:"run" shape:"a shell script"`
}

// Entry says what the paths that a layout line matches are.
type Entry struct {
	If    string `toml:"if" shape:"a condition"`
	Kind  string `toml:"kind"`
	Mode  string `toml:"mode" shape:"octal digits such as \"0640\""`
	Owner string `toml:"owner"`
	Group string `toml:"group"`
	From  string `toml:"from" shape:"a file beside the recipe"`
	// Replace says that From is in the place of a file that was staged.
	Replace bool `toml:"replace"`
	// Choice is a link that leads to this path if the root chooses so, Priority what
	// it chooses by.
	Choice   string `toml:"choice" shape:"an absolute path"`
	Priority int    `toml:"priority"`
	// Capabilities are what a program may do that else only root may.
	Capabilities []string `toml:"capabilities" shape:"names such as \"net_bind_service\""`
}

// Account is a system account that a package needs; it exists before the
// package's files are laid down.
type Account struct {
	If      string `toml:"if" shape:"a condition"`
	Home    string `toml:"home"`
	Summary string `toml:"summary"`
}

// Scripts are run when a package is installed or removed.
type Scripts struct {
	If          string `toml:"if" shape:"a condition"` // of all of them
	PreInstall  string `toml:"pre-install"`
	PostInstall string `toml:"post-install"`
	PreRemove   string `toml:"pre-remove"`
	PostRemove  string `toml:"post-remove"`
}

// All returns the scripts that are there, by name.
func (s Scripts) All() map[string]string {
	all := map[string]string{
		"pre-install": s.PreInstall, "post-install": s.PostInstall,
		"pre-remove": s.PreRemove, "post-remove": s.PostRemove,
	}
	for name, text := range all {
		if text == "" {
			delete(all, name)
		}
	}
	return all
}

// Trial says how a package is tried once it is installed.
type Trial struct {
	Run string `toml:"run" shape:"a shell script"`
	// Commands are the arguments that commands are called with, in place of --version.
	Commands map[string]string `toml:"commands"`
	Skip     []string          `toml:"skip"` // commands that are not called
}

// Waiver accepts a finding on purpose.
type Waiver struct {
	Code   string `toml:"code"`
	Path   string `toml:"path"`
	Reason string `toml:"reason"`
}

// Change says what is new in a version.
type Change struct {
	Version string             `toml:"version"`
	Date    document.LocalDate `toml:"date"`
	By      string             `toml:"by"`
	Text    []string           `toml:"text"`
}

// Target is what packages are made for.
type Target struct {
	Name string // a system release, such as saltmarsh-7
	Arch string // as uname -m says it
	// System is the release of the system that the target builds on, such as saltmarsh-7;
	// empty if that is not known.
	System string
}

// Full is version and release, such as 2.4.1-3.
func (r *Recipe) Full() string {
	return version.Full{Epoch: r.Epoch, Version: r.Version, Release: r.Release}.String()
}

// Date is the time that is in everything built: midnight UTC of the
// newest change, or of 1980-01-01 (the oldest date that all archive formats
// hold) if there is none.
func (r *Recipe) Date() time.Time {
	newest := "1980-01-01"
	for _, c := range r.Changes {
		newest = max(newest, string(c.Date))
	}
	t, err := time.Parse(time.DateOnly, newest)
	if err != nil {
		return time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return t
}

// PackageNames lists the recipe's packages, the one named like the recipe
// first.
func (r *Recipe) PackageNames() []string {
	names := make([]string, 0, len(r.Packages))
	for name := range r.Packages {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		switch {
		case a == b:
			return 0
		case a == r.Name:
			return -1
		case b == r.Name:
			return 1
		case a < b:
			return -1
		}
		return 1
	})
	return names
}

// Makes reports whether a package of that name is among those of the recipe.
func (r *Recipe) Makes(name string) bool { return slices.Contains(r.PackageNames(), name) }

// Origin is the place in the recipe that says where source i comes from.
func (r *Recipe) Origin(i int) document.Span {
	place := r.Sources[i].Place
	for _, key := range origins {
		if r.Doc.Find("source", place, key) != nil {
			return r.Doc.At("source", place, key)
		}
	}
	return r.Doc.At("source", place)
}

// Beside returns the path of a file in the recipe's directory.
func (r *Recipe) Beside(name string) string { return filepath.Join(r.Dir, filepath.FromSlash(name)) }

// ScriptLine returns the line of the recipe that holds line n (from 1) of a
// step's script.
func (r *Recipe) ScriptLine(step string, n int) int {
	node := r.Doc.Find("steps", step)
	if node == nil {
		return 0
	}
	line, _ := r.Doc.Position(r.Doc.Inside(node, 0, 0).Offset)
	return line + n - 1
}

// MethodLine returns the line that names the method.
func (r *Recipe) MethodLine() int {
	line, _ := r.Doc.Position(r.Doc.At("steps", "method").Offset)
	return line
}

// Load reads the recipe in a directory for a target. Name is the path of the file
// as messages show it; set has the options that are not at their default, and
// may name some that this recipe does not have. Mistakes come back as
// document.Problems, all at once.
func Load(dir, name string, target Target, set Values) (*Recipe, error) {
	doc, err := document.ReadFile(filepath.Join(dir, FileName), name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, document.Problems{{File: name, Message: "there is no recipe here", Remedy: "a recipe is the file " + FileName + " in a directory of its own under recipes/"}}
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	r := parse(doc, target, set)
	r.Dir = dir
	if len(doc.Root.Keys) > 0 {
		r.checkDirectory()
	}
	return r, doc.Err()
}

// Parse reads a recipe from memory; files beside it are not looked at.
func Parse(name string, data []byte, target Target, set Values) (*Recipe, error) {
	doc := document.Parse(name, data)
	r := parse(doc, target, set)
	return r, doc.Err()
}

func parse(doc *document.Document, target Target, set Values) *Recipe {
	r := &Recipe{Doc: doc}
	if len(doc.Root.Keys) == 0 {
		if len(doc.Problems) == 0 {
			doc.Problems = document.Problems{{File: doc.File, Message: "the recipe is empty", Remedy: "it begins with these lines:\n" + skeleton}}
		}
		return r
	}
	r.Set = optionValues(doc, set)
	expandAll(doc, target, r.Set)
	doc.Decode(r)
	r.check()
	r.decide(target)
	r.checkTies()
	if len(r.Packages) == 0 {
		r.Packages = map[string]Package{r.Name: {}}
	}
	return r
}

const skeleton = `format = 1
name    = "…"
version = "…"
release = 1
summary = "…"
license = "…"`

// OpenBeside opens a file beside the recipe. A link leads to no other place
// than the recipe's directory. What is no regular file does not block.
func (r *Recipe) OpenBeside(name string) (*os.File, error) {
	root, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
}

// maxBeside bounds a file beside the recipe that is read into memory, in bytes.
const maxBeside = 256 << 20

// ReadBeside reads a file beside the recipe, as OpenBeside opens it.
func (r *Recipe) ReadBeside(name string) ([]byte, error) {
	f, err := r.OpenBeside(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := files.ReadRegular(f, maxBeside)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}

// checkDirectory looks at what stands beside the recipe.
func (r *Recipe) checkDirectory() {
	if base := filepath.Base(r.Dir); r.Name != "" && r.Name != base {
		r.Doc.Add(r.Doc.At("name"), fmt.Sprintf("the recipe is named %q and its directory %q", r.Name, base), "the two are the same: rename one")
	}
	beside := func(name string, directory bool, path ...any) {
		if name == "" || !filepath.IsLocal(name) {
			return // said by check
		}
		f, err := r.OpenBeside(name)
		if err != nil {
			remedy := r.nearFile(name)
			message := fmt.Sprintf("there is no file %q beside the recipe", name)
			if info, err := os.Lstat(r.Beside(name)); err == nil && info.Mode()&os.ModeSymlink != 0 {
				message, remedy = fmt.Sprintf("%q is a link that leads out of the recipe's directory, or nowhere", name), "put the file itself into the directory"
			}
			r.Doc.Add(r.Doc.At(path...), message, remedy)
			return
		}
		defer f.Close()
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() && !(directory && info.IsDir()) {
			r.Doc.Add(r.Doc.At(path...), fmt.Sprintf("%q is not a regular file", name), "")
		}
	}
	for _, s := range r.Sources {
		beside(s.File, true, "source", s.Place, "file")
	}
	for i, p := range r.Patches {
		beside(p.File, false, "patch", i, "file")
	}
	for name, p := range r.Packages {
		for path, e := range p.Layout {
			beside(e.From, false, "package", name, "layout", path, "from")
		}
	}
}

func (r *Recipe) nearFile(name string) string {
	entries, _ := os.ReadDir(r.Dir)
	var names []string
	for _, e := range entries {
		if e.Name() != FileName {
			names = append(names, e.Name())
		}
	}
	if near := fact.Nearest(name, names); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "put it into the recipe's directory"
}
