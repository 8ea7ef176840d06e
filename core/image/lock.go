package image

import (
	"bytes"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/root"
	"golang.org/x/sys/unix"
)

// Lock is what an image is made of, exactly: images/NAME.lock.
type Lock struct {
	Format  int                   `json:"format"`
	Targets map[string]TargetLock `json:"targets"`
}

// TargetLock is the lock of an image for one target.
type TargetLock struct {
	// Wanted are the digests of what the description said when the packages were chosen, so
	// that a change of it shows.
	Wanted   string          `json:"wanted"`
	System   SystemLock      `json:"system"`
	Packages []LockedPackage `json:"packages"` // by name
}

// SystemLock is the system below an image.
type SystemLock struct {
	Name   string `json:"name"`             // as the description has it
	Digest string `json:"digest,omitempty"` // SHA-256; of an archive, the manifest of an OCI image, or everything in a directory
}

// LockedPackage is a package of an image.
type LockedPackage struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Release int    `json:"release"`
	Epoch   int    `json:"epoch,omitempty"`
	Arch    string `json:"arch"`
	SHA256  string `json:"sha256"`
	Bytes   int64  `json:"bytes"`
	Asked   bool   `json:"asked,omitempty"` // the description names it
	// Changes is how often the lock moved to another version of the package.
	Changes int `json:"changes,omitempty"`
}

// Installed is the package as a root has it.
func (p LockedPackage) Installed() root.Installed {
	return root.Installed{Name: p.Name, Version: p.Version, Release: p.Release, Epoch: p.Epoch, Arch: p.Arch, SHA256: p.SHA256, Bytes: p.Bytes, Asked: p.Asked}
}

// Full is version and release.
func (p LockedPackage) Full() version.Full {
	return version.Full{Epoch: p.Epoch, Version: p.Version, Release: p.Release}
}

// Identity is the package's identity; see fact.Identity.
func (p LockedPackage) Identity() string { return fact.Identity(p.Name, p.Full(), p.Arch) }

// NewPackages are the packages of a root as a lock has them. What an earlier lock knows of
// their changes is kept.
func NewPackages(installed []root.Installed, before []LockedPackage) []LockedPackage {
	out := []LockedPackage{}
	for _, i := range installed {
		p := LockedPackage{Name: i.Name, Version: i.Version, Release: i.Release, Epoch: i.Epoch, Arch: i.Arch, SHA256: i.SHA256, Bytes: i.Bytes, Asked: i.Asked}
		if at := slices.IndexFunc(before, func(b LockedPackage) bool { return b.Name == p.Name }); at >= 0 {
			if p.Changes = before[at].Changes; before[at].SHA256 != p.SHA256 {
				p.Changes++
			}
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b LockedPackage) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// InstalledOf are the packages of a lock as a root has them.
func InstalledOf(packages []LockedPackage) []root.Installed {
	out := make([]root.Installed, len(packages))
	for i, p := range packages {
		out[i] = p.Installed()
	}
	return out
}

// maxLock is how large a lock may be, in bytes.
const maxLock = 64 << 20

// ReadLock reads the lock of an image below a workspace's directory; one without targets if
// there is none.
func ReadLock(workspace, name string) (Lock, error) {
	l := Lock{Format: Format, Targets: map[string]TargetLock{}}
	file := filepath.Join(workspace, Dir, name+LockExtension)
	f, err := os.OpenFile(file, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	defer f.Close()
	data, err := files.ReadRegular(f, maxLock)
	if err != nil {
		return l, err
	}
	l, err = ParseLock(data)
	if err != nil {
		return l, fact.Errorf(fact.StatusInput, "%s is damaged: %w; if you remove it, the next image makes a new one", file, err)
	}
	return l, nil
}

// ParseLock reads a lock from its text.
func ParseLock(data []byte) (Lock, error) {
	var l Lock
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&l); err != nil {
		return l, err
	}
	if l.Format != Format {
		return l, fact.Errorf(fact.StatusInput, "it has format %d; this Ellwand reads format %d", l.Format, Format)
	}
	for target, t := range l.Targets {
		for i, p := range t.Packages {
			if !fact.IsSHA256(p.SHA256) || p.Name == "" || p.Bytes < 0 {
				return l, fact.Errorf(fact.StatusInput, "package %d for %s has no name or no digest", i+1, target)
			}
			if i > 0 && t.Packages[i-1].Name >= p.Name {
				return l, fact.Errorf(fact.StatusInput, "the packages for %s are not in order, or one is there twice", target)
			}
		}
	}
	if l.Targets == nil {
		l.Targets = map[string]TargetLock{}
	}
	return l, nil
}

// Write writes the lock of an image.
func (l Lock) Write(workspace, name string) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(l); err != nil {
		return err
	}
	return files.Write(filepath.Join(workspace, Dir, name+LockExtension), b.Bytes())
}

// Difference lists how the packages of two locks differ.
func Difference(from, to []LockedPackage) []root.Change {
	return root.Difference(InstalledOf(from), InstalledOf(to))
}
