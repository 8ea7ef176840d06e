// Package ell writes and reads packages: `.ell` files.
//
// An .ell file is a tar archive in POSIX pax format (IEEE Std 1003.1, pax)
// compressed as Zstandard (RFC 8878) in independent frames:
//
//	frame 0       meta/facts.json, then the other meta files but one, sorted
//	frame 1       meta/layout.jsonl, meta/frames.json
//	frames 2..n   tree/…: the payload, cut where its contents say so
//	skippable     the seek table of the Zstandard seekable format
//
// Any tar with Zstandard lists and unpacks it. A reader that wants facts reads
// the seek table and frame 0; one that wants a single file reads frame 1 and the
// frames that hold it. docs/package-format.md is the specification.
//
// What is written depends on nothing but the input: entries are sorted, times
// are one given time, owners are names, JSON is canonical (RFC 8785).
package ell

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

// Format is the version of the format, in facts.json.
const Format = 1

// Extension ends the name of every package file.
const Extension = ".ell"

// FrameSize is how many bytes of the payload go into one frame at most.
const FrameSize = 8 << 20

// Names of the metadata files.
const (
	PackageFile = "meta/facts.json"
	LayoutFile  = "meta/layout.jsonl"
	FramesFile  = "meta/frames.json"
	BuildFile   = "meta/build.json"
	RecipeFile  = "meta/recipe.toml"
	ScriptsDir  = "meta/scripts/"
	treeDir     = "tree"
	// xattrRecord begins the pax record of an extended attribute, as tar
	// programs have it.
	xattrRecord    = "SCHILY.xattr."
	metaFrameCount = 2
)

// Bounds on what a reader accepts.
const (
	maxMeta    = 32 << 20 // bytes of the first frame, decompressed
	maxFrame   = 64 << 20 // bytes of any other
	maxFrames  = 1 << 20
	maxEntries = 4 << 20
	maxPath    = 4096
	maxName    = 255
	maxDepth   = 256 // names in a path
	maxMetas   = 64  // files in the first frame
	maxXattrs  = 32  // of one path
	maxXattr   = 64 << 10
)

// Facts are what a package says of itself: meta/facts.json.
type Facts struct {
	Format      int                     `json:"format"`
	Name        string                  `json:"name"`
	Version     string                  `json:"version"`
	Release     int                     `json:"release"`
	Epoch       int                     `json:"epoch,omitempty"`
	Arch        string                  `json:"arch"`   // as uname -m says it, or fact.Independent
	Target      string                  `json:"target"` // what it was made for
	Summary     string                  `json:"summary"`
	Description string                  `json:"description,omitempty"`
	License     string                  `json:"license"` // SPDX expression
	Homepage    string                  `json:"homepage,omitempty"`
	Maintainer  string                  `json:"maintainer,omitempty"`
	Category    string                  `json:"category,omitempty"`
	Recipe      string                  `json:"recipe"` // the recipe it comes from
	Date        string                  `json:"date"`   // RFC 3339 full-date, of the newest change
	Needs       []Need                  `json:"needs"`
	Provides    []Provide               `json:"provides"`
	Conflicts   []need.Need             `json:"conflicts,omitempty"` // needs that must not be met beside it
	Replaces    []need.Need             `json:"replaces,omitempty"`  // packages whose place it takes
	Suggests    []need.Need             `json:"suggests,omitempty"`  // needs that it can do without
	Accounts    map[string]fact.Account `json:"accounts,omitempty"`
	Choices     []Choice                `json:"choices,omitempty"` // by link
	Refresh     []Refresh               `json:"refresh,omitempty"`
	Changes     []fact.Change           `json:"changes,omitempty"`
	Paths       int                     `json:"paths"` // lines of layout.jsonl
	Size        int64                   `json:"size"`  // bytes of all files, installed
	Meta        map[string]string       `json:"meta"`  // SHA-256 of the other meta files
}

// FrameDigest identifies a frame of the payload by its contents, and by its bytes
// in the file, which depend on the compressor too. Both are in hexadecimal.
type FrameDigest struct {
	Contents string `json:"contents"` // XXH64: a hint, since contents are compared
	SHA256   string `json:"sha256"`   // of the bytes in the file
}

// Need is a run-time need, in the syntax of package need.
type Need struct {
	Need    need.Need `json:"need"`
	Path    string    `json:"path,omitempty"`    // the file it was found in; empty for a declared one
	Symbols []string  `json:"symbols,omitempty"` // symbol versions used of a soname
}

// Provide is something that the package offers.
type Provide struct {
	Provide need.Provide `json:"provide"`
	Path    string       `json:"path,omitempty"`    // the file it was found in
	Symbols []string     `json:"symbols,omitempty"` // symbol versions that a soname's library defines
}

// Choice is a path of the package for a link that other packages offer a path for too.
// The root leads the link to the path of the highest priority, unless a user decides
// otherwise.
type Choice struct {
	Link     string `json:"link"`
	Path     string `json:"path"`
	Priority int    `json:"priority"`
}

// Refresh is a script that runs after a transaction that changed paths that match a
// pattern: in this package or in others.
type Refresh struct {
	Paths []string `json:"paths"`
	Run   string   `json:"run"`
}

// Entry is a line of meta/layout.jsonl.
type Entry struct {
	Path   string            `json:"path"`
	Type   staging.Type      `json:"type"`
	Kind   string            `json:"kind,omitempty"`
	Mode   string            `json:"mode"` // four octal digits
	Owner  string            `json:"owner"`
	Group  string            `json:"group"`
	Size   int64             `json:"size,omitempty"`   // of a file
	SHA256 string            `json:"sha256,omitempty"` // of a file
	At     int64             `json:"at,omitempty"`     // of a file: where its bytes begin in the payload
	Link   string            `json:"link,omitempty"`   // of a symbolic link: its target
	Same   string            `json:"same,omitempty"`   // of a file: the path that it is a hard link to
	Copy   string            `json:"copy,omitempty"`   // of a file: the path whose bytes stand for its own
	Xattrs map[string][]byte `json:"xattrs,omitempty"` // extended attributes

	// Encoding is Base64 where Path, Link, Same and Copy are in the layout
	// as that, since one of them is not UTF-8; it is empty in an Entry that
	// was read.
	Encoding string `json:"encoding,omitempty"`
}

// Base64 is the encoding of names that are not UTF-8 (RFC 4648, section 4).
const Base64 = "base64"

// line is an Entry in the form that the layout has, with its keys in the order of
// canonical JSON.
type line struct {
	At       int64             `json:"at,omitempty"`
	Copy     string            `json:"copy,omitempty"`
	Encoding string            `json:"encoding,omitempty"`
	Group    string            `json:"group"`
	Kind     string            `json:"kind,omitempty"`
	Link     string            `json:"link,omitempty"`
	Mode     string            `json:"mode"`
	Owner    string            `json:"owner"`
	Path     string            `json:"path"`
	Same     string            `json:"same,omitempty"`
	SHA256   string            `json:"sha256,omitempty"`
	Size     int64             `json:"size,omitempty"`
	Type     staging.Type      `json:"type"`
	Xattrs   map[string][]byte `json:"xattrs,omitempty"`
}

// MarshalJSON writes names that are not UTF-8 as base64.
func (e Entry) MarshalJSON() ([]byte, error) {
	names := []*string{&e.Path, &e.Link, &e.Same, &e.Copy}
	if slices.ContainsFunc(names, func(s *string) bool { return !utf8.ValidString(*s) }) {
		e.Encoding = Base64
		for _, s := range names {
			*s = base64.StdEncoding.EncodeToString([]byte(*s))
		}
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(line{e.At, e.Copy, e.Encoding, e.Group, e.Kind, e.Link, e.Mode, e.Owner, e.Path, e.Same, e.SHA256, e.Size, e.Type, e.Xattrs})
	return b.Bytes(), err
}

// AppendLine appends an entry as a line of a layout.
func AppendLine(out []byte, e Entry) ([]byte, error) {
	text, err := e.MarshalJSON()
	// There is but one way to write it, unless something in it is escaped.
	if err == nil && bytes.IndexByte(text, '\\') >= 0 {
		if text, err = canonical.Marshal(e); err == nil {
			text = append(text, '\n')
		}
	}
	return append(out, text...), err
}

// decodeNames undoes what MarshalJSON did.
func (e *Entry) decodeNames() error {
	if len(e.Xattrs) == 0 {
		e.Xattrs = nil // {} and nothing are the same
	}
	names := []*string{&e.Path, &e.Link, &e.Same, &e.Copy}
	valid := func(s *string) bool { return utf8.ValidString(*s) }
	switch e.Encoding {
	case "":
		return nil
	case Base64:
		for _, s := range names {
			b, err := base64.StdEncoding.Strict().DecodeString(*s)
			if err != nil {
				return err
			}
			*s = string(b)
		}
		e.Encoding = ""
		if !slices.ContainsFunc(names, func(s *string) bool { return !valid(s) }) {
			return fmt.Errorf("the names of %q need no encoding", e.Path)
		}
		return nil
	}
	return fmt.Errorf("unknown encoding %q", e.Encoding)
}

// BuildRecord is what a package was built from: meta/build.json.
type BuildRecord struct {
	Ellwand string            `json:"ellwand"` // the version of this program
	Recipe  string            `json:"recipe"`  // SHA-256 of recipe.toml
	Files   map[string]string `json:"files"`   // SHA-256 of files beside it, by name
	Sources []SourceRecord    `json:"sources"`
	// Revision is where the recipe's directory was in the history of its git
	// repository, if it is in one.
	Revision    *Revision         `json:"revision,omitempty"`
	Needs       map[string]string `json:"needs"`                 // build need → the package that met it
	Options     map[string]string `json:"options,omitempty"`     // the recipe's options, as they were set
	Isolation   string            `json:"isolation"`             // "none", or how the steps were kept apart
	Allow       []string          `json:"allow,omitempty"`       // what the steps could do beyond the usual, as the recipe asks
	Compression string            `json:"compression,omitempty"` // where it is not the usual one
}

// Revision is a place in a git repository's history.
type Revision struct {
	Commit string `json:"commit"` // the last one that changed the recipe's directory
	Clean  bool   `json:"clean"`  // nothing in the directory differed from it
}

// SourceRecord is one source that went into a build.
type SourceRecord struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256,omitempty"`
	Commit string `json:"commit,omitempty"` // of a git repository, in place of a digest
	// Modules are those of a language that the source consists of.
	Modules []fact.Module `json:"modules,omitempty"`
}

// Full is version and release.
func (f Facts) Full() version.Full {
	return version.Full{Epoch: f.Epoch, Version: f.Version, Release: f.Release}
}

// Identity is the package's identity; see fact.Identity.
func (f Facts) Identity() string { return fact.Identity(f.Name, f.Full(), f.Arch) }

// FileName is the name of the package's file.
func (f Facts) FileName() string {
	full := version.Full{Version: f.Version, Release: f.Release} // file names do without the colon of an epoch
	return fact.Identity(f.Name, full, f.Arch) + Extension
}

// AllProvides returns what the package offers, itself first.
func (f Facts) AllProvides() []need.Provide {
	all := []need.Provide{{Kind: need.Package, Name: f.Name, Version: f.Full().String()}}
	for _, p := range f.Provides {
		all = append(all, p.Provide)
	}
	return all
}

// ValidTarget reports whether a word can be a target's name.
func ValidTarget(s string) bool { return token.MatchString(s) }

var (
	token = pattern.New(`^[A-Za-z0-9_][A-Za-z0-9._+-]{0,127}$`)
)

func (f Facts) check() error {
	switch {
	case f.Format != Format:
		return fmt.Errorf("format %d, and this program reads format %d", f.Format, Format)
	case !need.ValidPackageName(f.Name):
		return fmt.Errorf("%q cannot be a package's name", f.Name)
	case !version.Valid(f.Version) || f.Release < 1 || f.Epoch < 0:
		return fmt.Errorf("%q cannot be a version", f.Full())
	case !token.MatchString(f.Arch) || !token.MatchString(f.Target):
		return fmt.Errorf("architecture %q or target %q is not a plain word", f.Arch, f.Target)
	case f.Paths < 0 || f.Paths > maxEntries || f.Size < 0:
		return fmt.Errorf("%d paths or %d bytes are not possible", f.Paths, f.Size)
	}
	if err := CheckDependencies(f.Needs, f.Provides, f.Conflicts, f.Replaces, f.Suggests); err != nil {
		return err
	}
	return f.checkLengths()
}

// Lengths that facts may have: in bytes, or in items of a list. Real packages
// stay far below. A single line has no control characters.
const (
	MaxLine        = 1024 // of a summary, a homepage, a name of a person
	MaxDescription = 64 << 10
	maxNeed        = 4096 // a need, provide or path
	maxNeeds       = 100_000
	maxSymbols     = 1_000_000 // of all needs and provides
	maxChanges     = 10_000
	maxChoices     = 1000
	maxRefreshes   = 64
	maxScript      = 64 << 10 // of a refresher
)

// CheckDependencies reports an error if one of a package's dependencies, or of what
// it provides, is missing: a key that the JSON left out, or null. A dependency that
// was dropped would be one that nothing has to meet.
func CheckDependencies(needs []Need, provides []Provide, others ...[]need.Need) error {
	missing := func(n need.Need) bool { return len(n.Alternatives) == 0 }
	if slices.ContainsFunc(needs, func(n Need) bool { return missing(n.Need) }) ||
		slices.ContainsFunc(others, func(list []need.Need) bool { return slices.ContainsFunc(list, missing) }) {
		return errors.New(`"" is not a dependency`)
	}
	if slices.ContainsFunc(provides, func(p Provide) bool { return p.Provide.Name == "" }) {
		return errors.New(`"" cannot be provided`)
	}
	return nil
}

// checkChoices reports a choice that no recipe can declare.
func (f Facts) checkChoices() error {
	if len(f.Choices) > maxChoices {
		return fmt.Errorf("%d choices are not possible", len(f.Choices))
	}
	for i, c := range f.Choices {
		switch {
		case !fact.IsCleanPath(c.Link) || !fact.IsCleanPath(c.Path) || len(c.Link) > maxPath || len(c.Path) > maxPath || c.Link == c.Path || c.Priority < 0:
			return fmt.Errorf("%q cannot lead to %q with priority %d", c.Link, c.Path, c.Priority)
		case i > 0 && f.Choices[i-1].Link >= c.Link:
			return errors.New("choices are not sorted by their links, or there are two for one")
		}
	}
	return nil
}

// checkRefresh reports a script of a refresher that is too long, or has no patterns that
// can be matched.
func (f Facts) checkRefresh() error {
	if len(f.Refresh) > maxRefreshes {
		return fmt.Errorf("%d refreshers are not possible", len(f.Refresh))
	}
	for _, r := range f.Refresh {
		if len(r.Run) > maxScript || len(r.Paths) == 0 || len(r.Paths) > maxRefreshes {
			return fmt.Errorf("a refresher of %d bytes with %d patterns is not possible", len(r.Run), len(r.Paths))
		}
		for _, p := range r.Paths {
			if !fact.IsPathPattern(p) || !strings.HasPrefix(p, "/") {
				return fmt.Errorf("%q is not a pattern of a refresher", p)
			}
		}
	}
	return nil
}

// checkLengths reports texts and lists that are too long.
func (f Facts) checkLengths() error {
	for key, text := range map[string]string{
		"summary": f.Summary, "license": f.License, "homepage": f.Homepage, "maintainer": f.Maintainer, "category": f.Category, "recipe": f.Recipe, "date": f.Date,
	} {
		if err := checkLine(key, text, MaxLine); err != nil {
			return err
		}
	}
	if err := checkText("description", f.Description); err != nil {
		return err
	}
	if n := len(f.Needs) + len(f.Provides) + len(f.Conflicts) + len(f.Replaces) + len(f.Suggests); n > maxNeeds {
		return fmt.Errorf("%d needs, provides and the like are not possible", n)
	}
	if err := f.checkChoices(); err != nil {
		return err
	}
	if err := f.checkRefresh(); err != nil {
		return err
	}
	symbols := 0
	list := func(key, text, path string, of []string) error {
		if symbols += len(of); symbols > maxSymbols {
			return fmt.Errorf("more than %d symbol versions are not possible", maxSymbols)
		}
		for _, s := range of {
			if err := checkLine(key, s, maxNeed); err != nil {
				return err
			}
		}
		if len(path) > maxPath {
			return fmt.Errorf("a path of %s has %d bytes, and %d is the most", key, len(path), maxPath)
		}
		return checkLine(key, text, maxNeed)
	}
	for _, n := range f.Needs {
		if err := list("needs", n.Need.String(), n.Path, n.Symbols); err != nil {
			return err
		}
	}
	for _, p := range f.Provides {
		if err := list("provides", p.Provide.String(), p.Path, p.Symbols); err != nil {
			return err
		}
	}
	for _, n := range slices.Concat(f.Conflicts, f.Replaces, f.Suggests) {
		if err := checkLine("conflicts, replaces or suggests", n.String(), maxNeed); err != nil {
			return err
		}
	}
	if len(f.Accounts) > maxNeeds || len(f.Changes) > maxChanges || len(f.Meta) > maxMetas {
		return fmt.Errorf("%d accounts, %d changes or %d metadata files are not possible", len(f.Accounts), len(f.Changes), len(f.Meta))
	}
	for name, a := range f.Accounts {
		if !fact.IsAccountName(name) {
			return fmt.Errorf("%q cannot be an account's name", name)
		}
		if err := cmp.Or(checkLine("the home of "+name, a.Home, maxPath), checkLine("the summary of "+name, a.Summary, MaxLine)); err != nil {
			return err
		}
	}
	for _, c := range f.Changes {
		if err := cmp.Or(checkLine("a change's version", c.Version, MaxLine), checkLine("a change's date", string(c.Date), MaxLine), checkLine("a change's author", c.By, MaxLine)); err != nil {
			return err
		}
		size := 0
		for _, text := range c.Text {
			if size += len(text); size > MaxDescription {
				return fmt.Errorf("a change's text has more than %d bytes", MaxDescription)
			}
			if err := checkText("a change", text); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkLine validates a text of one line.
func checkLine(key, text string, most int) error {
	if len(text) > most {
		return fmt.Errorf("%s has %d bytes, and %d is the most", key, len(text), most)
	}
	if !utf8.ValidString(text) || strings.ContainsFunc(text, unicode.IsControl) {
		return fmt.Errorf("%s has control characters in it, or is not UTF-8: %q", key, text)
	}
	return nil
}

// checkText validates a text of several lines.
func checkText(key, text string) error {
	if len(text) > MaxDescription {
		return fmt.Errorf("%s has %d bytes, and %d is the most", key, len(text), MaxDescription)
	}
	if !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' }) {
		return fmt.Errorf("%s has control characters in it, or is not UTF-8", key)
	}
	return nil
}

// check validates one line of the layout.
func (e Entry) check() error {
	switch {
	case len(e.Path) > maxPath || !fact.IsCleanPath(e.Path):
		return fmt.Errorf("%q is not a clean absolute path", e.Path)
	case strings.Count(e.Path, "/") > maxDepth:
		return fmt.Errorf("%q is more than %d directories deep", e.Path, maxDepth)
	case slices.ContainsFunc(strings.Split(e.Path, "/"), func(s string) bool { return len(s) > maxName }):
		return fmt.Errorf("%q has a name of over %d bytes in it", e.Path, maxName)
	case !fact.IsMode(e.Mode):
		return fmt.Errorf("%s: mode %q is not four octal digits", e.Path, e.Mode)
	case !fact.IsAccountName(e.Owner) || !fact.IsAccountName(e.Group):
		return fmt.Errorf("%s: owner %q or group %q is not an account name", e.Path, e.Owner, e.Group)
	case e.Kind != "" && !slices.Contains(fact.Kinds, e.Kind):
		return fmt.Errorf("%s: unknown kind %q", e.Path, e.Kind)
	}
	switch e.Type {
	case staging.File:
		if !fact.IsSHA256(e.SHA256) || e.Size < 0 || e.At < 0 || e.Link != "" || e.Same != "" && e.Copy != "" {
			return fmt.Errorf("%s: a file needs a size and a digest, and has no target", e.Path)
		}
	case staging.Directory:
		if e.Size != 0 || e.SHA256 != "" || e.Link != "" || e.Same+e.Copy != "" {
			return fmt.Errorf("%s: a directory has no contents and no target", e.Path)
		}
	case staging.Symlink:
		if e.Link == "" || len(e.Link) > maxPath || e.Size != 0 || e.SHA256 != "" || e.Same+e.Copy != "" || strings.ContainsRune(e.Link, 0) {
			return fmt.Errorf("%s: a link has a target and nothing else", e.Path)
		}
	default:
		return fmt.Errorf("%s: unknown type %q", e.Path, e.Type)
	}
	if len(e.Xattrs) > maxXattrs || len(e.Xattrs) > 0 && e.Same != "" {
		return fmt.Errorf("%s: it has %d extended attributes", e.Path, len(e.Xattrs))
	}
	for name, value := range e.Xattrs {
		if !staging.ValidXattr(name) || len(value) > maxXattr {
			return fmt.Errorf("%s: it has an extended attribute %q of %d bytes", e.Path, name, len(value))
		}
	}
	return nil
}

// checkLayout validates all lines together: sorted, none twice, none below a path
// that is no directory, hard links only to files before them.
func checkLayout(entries []Entry) error {
	types := make(map[string]*Entry, len(entries))
	for i := range entries {
		e := &entries[i]
		if err := e.check(); err != nil {
			return err
		}
		if i > 0 && entries[i-1].Path >= e.Path {
			return fmt.Errorf("%q is after %q: the layout is not sorted, or contains a path twice", e.Path, entries[i-1].Path)
		}
		for dir := path.Dir(e.Path); dir != "/"; dir = path.Dir(dir) {
			if above := types[dir]; above != nil && above.Type != staging.Directory {
				return fmt.Errorf("%q is below %q, which is not a directory", e.Path, dir)
			}
		}
		if e.Same != "" {
			if first := types[e.Same]; first == nil || first.Type != staging.File || first.Same != "" || first.SHA256 != e.SHA256 || first.Size != e.Size {
				return fmt.Errorf("%q is a hard link to %q, which is not such a file before it", e.Path, e.Same)
			}
		}
		if e.Copy != "" {
			if first := types[e.Copy]; first == nil || first.Type != staging.File || first.Same+first.Copy != "" || first.SHA256 != e.SHA256 || first.Size != e.Size ||
				first.At != e.At || first.Mode != e.Mode || first.Owner != e.Owner || first.Group != e.Group {
				return fmt.Errorf("%q is a copy of %q, which is not such a file before it", e.Path, e.Copy)
			}
		}
		types[e.Path] = e
	}
	return nil
}

// exportArch is what an exported recipe has in its file name where a package has
// its architecture.
const exportArch = "recipe"

// ParseFileName splits a package's file name; ok is false for other names.
func ParseFileName(name string) (pkg, full, arch string, ok bool) {
	base, ok := strings.CutSuffix(name, Extension)
	if !ok {
		return "", "", "", false
	}
	pkg, rest, ok := strings.Cut(base, "@")
	dash := strings.LastIndexByte(rest, '-')
	if !ok || dash < 0 {
		return "", "", "", false
	}
	release, arch, found := strings.Cut(rest[dash+1:], ".")
	if !found {
		arch = fact.Independent
	}
	_, err := strconv.Atoi(release)
	return pkg, rest[:dash+1] + release, arch, err == nil && arch != "" && arch != exportArch
}
