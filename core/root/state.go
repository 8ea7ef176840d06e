package root

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"sort"
	"strings"

	"golang.org/x/sys/unix"

	"ellwand.example/core/ell"
	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
)

// openFlags keep a pipe in the place of a file from being waited for. A link leads to
// nothing outside of the directory that is open as an os.Root.
const openFlags = unix.O_NONBLOCK

// State is state.json: what is installed. The same packages give the same bytes.
type State struct {
	Format   int         `json:"format"`
	Packages []Installed `json:"packages"` // by name
	Owners   string      `json:"owners"`   // SHA-256 of the list of owned paths, in objects
	Kept     []Kept      `json:"kept,omitempty"`
}

// Installed is a package in a root.
type Installed struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Release int    `json:"release"`
	Epoch   int    `json:"epoch,omitempty"`
	Arch    string `json:"arch"`
	SHA256  string `json:"sha256"` // of the package's file
	Bytes   int64  `json:"bytes"`  // that the file has
	Record  string `json:"record"` // SHA-256 of its record, in objects
	// Defaults are the digests of the package's configuration files, in objects.
	Defaults []string `json:"defaults,omitempty"`
	// Choices and Refresh are the package's, so that records need not be read for them.
	Choices []ell.Choice  `json:"choices,omitempty"`
	Refresh []ell.Refresh `json:"refresh,omitempty"`
	// Asked means that a user asked for it; otherwise another package needs it.
	Asked bool `json:"asked,omitempty"`
}

// Full is version and release.
func (i Installed) Full() version.Full {
	return version.Full{Epoch: i.Epoch, Version: i.Version, Release: i.Release}
}

// Identity is the package's identity; see fact.Identity.
func (i Installed) Identity() string { return fact.Identity(i.Name, i.Full(), i.Arch) }

// Kept is an edited configuration file of a package that was removed.
type Kept struct {
	Path    string `json:"path"`
	Package string `json:"package"`
	Default string `json:"default"` // SHA-256 of what the package had there, in objects
}

// State reads what is installed. Readers of a root never wait, and see it as it was
// before or after a transaction.
func (r *Root) State() (State, error) {
	s := State{Format: Format}
	data, err := readFile(r.state, stateFile, maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	return ParseState(r.where(stateFile), data)
}

// ParseState reads a state from the text of a file that has it.
func ParseState(file string, data []byte) (State, error) {
	var s State
	if err := json.Unmarshal(data, &s); err != nil {
		return s, &DamagedError{file, err}
	}
	if s.Format != Format {
		return s, fact.Errorf(fact.StatusInput, "%s has format %d; this Ellwand reads format %d", file, s.Format, Format)
	}
	return s, nil
}

// Find finds an installed package by its name.
func (s State) Find(name string) (Installed, bool) {
	i := sort.Search(len(s.Packages), func(i int) bool { return s.Packages[i].Name >= name })
	if i < len(s.Packages) && s.Packages[i].Name == name {
		return s.Packages[i], true
	}
	return Installed{}, false
}

// Names lists the installed packages.
func (s State) Names() []string {
	names := make([]string, len(s.Packages))
	for i, p := range s.Packages {
		names[i] = p.Name
	}
	return names
}

// Record is what a root knows of a package in it.
type Record struct {
	Facts   ell.Facts         `json:"facts"`
	Scripts map[string]string `json:"scripts,omitempty"`
	// Real has the paths that a symbolic link of the root leads elsewhere, by
	// their path in the package: /bin/tide → /usr/bin/tide.
	Real  map[string]string `json:"real,omitempty"`
	Paths int               `json:"paths"`

	Layout []ell.Entry `json:"-"` // what was installed of the package
}

// At is where a path of the package is in the root.
func (r *Record) At(path string) string {
	if real, ok := r.Real[path]; ok {
		return real
	}
	return path
}

// encode writes a record: a line of JSON, and a line for each path.
func (r *Record) encode() ([]byte, error) {
	r.Paths = len(r.Layout)
	data, err := canonical.Marshal(r)
	if err != nil {
		return nil, err
	}
	data = append(data, '\n')
	for _, e := range r.Layout {
		e.At = 0 // nobody reads the payload by it
		if data, err = ell.AppendLine(data, e); err != nil {
			return nil, err
		}
	}
	return data, nil
}

// ParseRecord reads the record of a package from the text of an object.
func ParseRecord(data []byte) (*Record, error) {
	head, lines, ok := bytes.Cut(data, []byte("\n"))
	if !ok {
		return nil, errors.New("it ends in its first line")
	}
	var rec Record
	if err := json.Unmarshal(head, &rec); err != nil {
		return nil, err
	}
	if rec.Paths < 0 || rec.Paths > len(lines) {
		return nil, fmt.Errorf("it cannot have %d paths", rec.Paths)
	}
	var err error
	if rec.Layout, err = ell.ParseLayout(lines, rec.Paths); err != nil {
		return nil, fmt.Errorf("layout%w", err)
	}
	for from, to := range rec.Real {
		if _, ok := ell.Find(rec.Layout, from); !ok || !isClean(to) {
			return nil, fmt.Errorf("%q cannot be at %q", from, to)
		}
	}
	return &rec, nil
}

// Record reads the record of an installed package.
func (r *Root) Record(i Installed) (*Record, error) {
	data, err := r.object(i.Record)
	if err != nil {
		return nil, fmt.Errorf("the record of %s: %w", i.Identity(), err)
	}
	rec, err := ParseRecord(data)
	if err != nil {
		return nil, &DamagedError{r.where(objectsDir + "/" + i.Record), err}
	}
	return rec, nil
}

// object reads a file that its SHA-256 names, and checks that.
func (r *Root) object(sha256 string) ([]byte, error) {
	name := objectsDir + "/" + sha256
	if !fact.IsSHA256(sha256) {
		return nil, &DamagedError{r.where(stateFile), fmt.Errorf("%q is not a digest", sha256)}
	}
	data, err := readFile(r.state, name, maxState)
	if err != nil {
		return nil, err
	}
	if fact.SHA256(data) != sha256 {
		return nil, &DamagedError{r.where(name), errors.New("its contents do not have the digest that is its name")}
	}
	return data, nil
}

// putObject keeps data under its SHA-256. It is on disk once syncObjects returns.
func (r *Root) putObject(data []byte) (string, error) {
	sum := fact.SHA256(data)
	name := objectsDir + "/" + sum
	if _, err := r.object(sum); err == nil {
		return sum, nil // one that is damaged is written again
	}
	temp := name + ".new"
	f, err := r.state.OpenFile(temp, unix.O_CREAT|unix.O_TRUNC|unix.O_WRONLY|openFlags, 0o644)
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	if err == nil && !r.disposable {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = r.state.Rename(temp, name)
	}
	return sum, err
}

// sweepObjects removes objects that nothing refers to any more.
func (r *Root) sweepObjects(s State) error {
	used := map[string]bool{s.Owners: true}
	for _, k := range s.Kept {
		used[k.Default] = true
	}
	for _, p := range s.Packages {
		used[p.Record] = true
		for _, d := range p.Defaults {
			used[d] = true
		}
	}
	dir, err := r.state.Open(objectsDir)
	if err != nil {
		return err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return err
	}
	for _, name := range names {
		if !used[name] {
			if err := r.state.Remove(objectsDir + "/" + name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// isClean reports whether a path is absolute and has no empty or dotted parts.
func isClean(p string) bool {
	return strings.HasPrefix(p, "/") && p != "/" && !slices.ContainsFunc(strings.Split(p[1:], "/"), func(s string) bool { return s == "" || s == "." || s == ".." }) && !strings.ContainsRune(p, 0)
}

// sortedKeys lists the keys of a map in order.
func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
