// Package index is the format of a repository's index: the pointer, snapshots and
// listings, and what is looked up in them. docs/repository-format.md is the
// specification.
package index

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
	"ellwand.example/core/repo/storage"
)

// Format is the version of the format, in repository.json and snapshots.
const Format = 1

// Bounds on what a reader accepts.
const (
	MaxSnapshot = 16 << 20
	MaxStored   = 32 << 20   // of a stored listing
	MaxListing  = 64 << 20   // of a listing, decompressed
	maxPackages = 4_000_000  // in a snapshot
	maxLines    = 16_000_000 // in a listing
	MaxSync     = 16 << 30   // that one sync fetches
	// maxJump is how far the serial of a repository may be from the one that
	// was seen last: further than any that grows by one with each change.
	MaxJump = 1_000_000
	// maxSerial bounds the first that is seen.
	maxSerial = 1 << 40
)

// Pointer is repository.json: which snapshot each channel is at.
type Pointer struct {
	Format   int                          `json:"format"`
	Serial   int64                        `json:"serial"` // grows by one with each change
	Time     time.Time                    `json:"time"`
	Channels map[string]map[string]string `json:"channels"` // channel → target → SHA-256 of a snapshot
	// Pruned are snapshots that others have as their parent, and that were
	// taken away.
	Pruned []string `json:"pruned,omitempty"`
}

// ParsePointer reads repository.json and checks it.
func ParsePointer(data []byte) (Pointer, error) {
	var p Pointer
	if len(data) > storage.MaxPointer {
		return p, &DamagedError{storage.PointerFile, fmt.Errorf("it is larger than %d bytes", storage.MaxPointer)}
	}
	if err := json.Unmarshal(data, &p); err != nil {
		return p, &DamagedError{storage.PointerFile, err}
	}
	if p.Format != Format {
		return p, &DamagedError{storage.PointerFile, fmt.Errorf("it is of format %d, and this program reads format %d", p.Format, Format)}
	}
	if p.Serial < 0 || p.Serial > maxSerial {
		return p, &DamagedError{storage.PointerFile, fmt.Errorf("its serial cannot be %d", p.Serial)}
	}
	for name, targets := range p.Channels {
		for target, sha256 := range targets {
			if !ChannelName.MatchString(name) || !ell.ValidTarget(target) || !fact.IsSHA256(sha256) {
				return p, &DamagedError{storage.PointerFile, fmt.Errorf("channel %q, target %q at %q cannot be", name, target, sha256)}
			}
		}
	}
	return p, nil
}

// Heads are the snapshots that the channels are at.
func (p Pointer) Heads() []string {
	seen := map[string]bool{}
	for _, targets := range p.Channels {
		for _, digest := range targets {
			seen[digest] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// ParseSnapshot reads a snapshot and checks it.
func ParseSnapshot(data []byte) (s Snapshot, err error) {
	if err := json.Unmarshal(data, &s); err != nil {
		return s, err
	}
	if s.Format != Format {
		return s, fmt.Errorf("it is of format %d, and this program reads format %d", s.Format, Format)
	}
	return s, s.check()
}

// Snapshot is one immutable state of a target's index. Its fields are in the
// order of their keys, so that encoding/json writes them in canonical form.
type Snapshot struct {
	Action   string      `json:"action"`            // what made it, such as "publish"
	Allowed  []Exception `json:"allowed,omitempty"` // findings that were accepted
	Bytes    int64       `json:"bytes"`             // of all package files
	Files    Refs        `json:"files"`             // as Listings, for paths
	Format   int         `json:"format"`
	From     string      `json:"from,omitempty"` // SHA-256 of the snapshot that it took its packages from
	Listings Refs        `json:"listings"`       // two hexadecimal digits → listing
	Packages int         `json:"packages"`
	Parent   string      `json:"parent,omitempty"` // SHA-256 of the state before
	Serial   int64       `json:"serial"`           // of the repository when it came to be
	Target   string      `json:"target"`
	Time     time.Time   `json:"time"`
}

// Encode writes the snapshot as canonical JSON. Only the reasons of exceptions
// can have in them what encoding/json writes in another way.
func (s Snapshot) Encode() ([]byte, error) {
	if len(s.Allowed) > 0 {
		return canonical.Marshal(s)
	}
	return json.Marshal(s)
}

// Exception is a finding that is accepted on purpose.
type Exception struct {
	Code    string `json:"code"`
	Package string `json:"package"` // its name
	Reason  string `json:"reason"`
}

// check validates a snapshot from any origin: what it names becomes names of
// files.
func (s Snapshot) check() error {
	for _, refs := range []map[string]Ref{s.Listings, s.Files} {
		for key, ref := range refs {
			if !fact.IsHex(key, 2) || !fact.IsSHA256(ref.SHA256) || ref.Count < 0 {
				return fmt.Errorf("listing %q cannot be %q with %d lines", key, ref.SHA256, ref.Count)
			}
		}
	}
	packages := 0
	for _, ref := range s.Listings {
		if packages += ref.Count; packages > maxPackages {
			return fmt.Errorf("it names more than %d packages", maxPackages)
		}
	}
	if !ell.ValidTarget(s.Target) || s.Parent != "" && !fact.IsSHA256(s.Parent) {
		return fmt.Errorf("target %q, parent %q cannot be", s.Target, s.Parent)
	}
	return nil
}

// Ref names an immutable file.
type Ref struct {
	Count  int    `json:"count"`  // lines in it
	SHA256 string `json:"sha256"` // of the stored file
}

// Refs name the files of listings, by two hexadecimal digits.
type Refs map[string]Ref

// UnmarshalJSON reads what is in canonical form, as it nearly always is, in a
// quarter of the time.
func (r *Refs) UnmarshalJSON(data []byte) error {
	if refs, ok := parseRefs(string(data)); ok {
		*r = refs
		return nil
	}
	return json.Unmarshal(data, (*map[string]Ref)(r))
}

func parseRefs(text string) (Refs, bool) {
	rest, ok := strings.CutPrefix(text, "{")
	if !ok {
		return nil, false
	}
	refs := make(Refs, len(rest)/90)
	for rest != "}" {
		key, after, ok := strings.Cut(rest, `":{"count":`)
		count, after, ok2 := strings.Cut(after, `,"sha256":"`)
		sha256, after, ok3 := strings.Cut(after, `"}`)
		comma := ","
		if len(refs) == 0 {
			comma = ""
		}
		key, ok4 := strings.CutPrefix(key, comma+`"`)
		n, err := strconv.Atoi(count)
		if !ok || !ok2 || !ok3 || !ok4 || !fact.IsHex(key, 2) || !fact.IsSHA256(sha256) || err != nil || strconv.Itoa(n) != count || refs[key].SHA256 != "" {
			return nil, false
		}
		refs[key], rest = Ref{n, sha256}, after
	}
	return refs, true
}

// Record is a package in the index: a line of a listing.
type Record struct {
	Name      string        `json:"name"`
	Version   string        `json:"version"`
	Release   int           `json:"release"`
	Epoch     int           `json:"epoch,omitempty"`
	Arch      string        `json:"arch"`
	Summary   string        `json:"summary"`
	License   string        `json:"license"`
	Category  string        `json:"category,omitempty"`
	Homepage  string        `json:"homepage,omitempty"`
	Recipe    string        `json:"recipe"`
	Date      string        `json:"date"`
	Needs     []ell.Need    `json:"needs"`
	Provides  []ell.Provide `json:"provides"`
	Conflicts []need.Need   `json:"conflicts,omitempty"`
	Replaces  []need.Need   `json:"replaces,omitempty"`
	Suggests  []need.Need   `json:"suggests,omitempty"`
	Size      int64         `json:"size"`   // bytes, installed
	File      string        `json:"file"`   // path in the repository
	SHA256    string        `json:"sha256"` // of the file
	Bytes     int64         `json:"bytes"`  // of the file

	line []byte // as it was read, where it is to be written again
}

// Full is version and release.
func (r Record) Full() version.Full {
	return version.Full{Epoch: r.Epoch, Version: r.Version, Release: r.Release}
}

// Identity is the package's identity; see fact.Identity.
func (r Record) Identity() string { return fact.Identity(r.Name, r.Full(), r.Arch) }

// Collides reports whether two packages cannot both be in a repository. An epoch
// is not in a file name, so that two identities can have one.
func (r Record) Collides(other Record) bool {
	return r.Identity() == other.Identity() || r.File == other.File
}

// AllProvides returns what the package offers, itself first.
func (r Record) AllProvides() []need.Provide {
	return ell.Facts{Name: r.Name, Version: r.Version, Release: r.Release, Epoch: r.Epoch, Provides: r.Provides}.AllProvides()
}

func (r Record) check() error {
	_, _, _, ok := ell.ParseFileName(path.Base(r.File))
	switch {
	case !need.ValidPackageName(r.Name) || !version.Valid(r.Version) || r.Release < 1 || r.Epoch < 0:
		return fmt.Errorf("%q is not a package", r.Identity())
	case !ok || !strings.HasPrefix(r.File, "packages/") || path.Clean(r.File) != r.File || !fact.IsSHA256(r.SHA256) || r.Bytes < 0:
		return fmt.Errorf("%s names no file in the repository", r.Identity())
	}
	if err := ell.CheckDependencies(r.Needs, r.Provides, r.Conflicts, r.Replaces, r.Suggests); err != nil {
		return fmt.Errorf("%s: %w", r.Identity(), err)
	}
	return nil
}

// PathRecord is a path in a package: a line of a files listing.
type PathRecord struct {
	Path    string `json:"path"`
	Package string `json:"package"` // its identity
}

var ChannelName = pattern.New(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// DamagedError is a file of a repository that is not what it should be.
type DamagedError struct {
	Name string
	Err  error
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("the repository's %s is damaged: %v", e.Name, e.Err)
}

func (e *DamagedError) Unwrap() error { return e.Err }
