// Package repo keeps repositories: folders of packages with an index over
// them, made of static files that any web server or bucket can hold.
//
//	repository.json        the only file that changes
//	snapshots/SHA256.json  immutable: one state of one target's index
//	shards/SHA256.jsonl.zst  immutable: the packages whose names fall in one shard
//	files/SHA256.jsonl.zst   immutable: the paths in those packages
//	packages/TARGET/NAME/    the .ell files
//
// A publish adds immutable files and then replaces repository.json by rename.
// Readers need no lock: whatever they have read of the index stays whole.
// docs/repository-format.md is the specification.
package repo

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
	"unsafe"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/canonical"
	"ellwand.example/core/need"
	"ellwand.example/core/pack"
	"ellwand.example/core/version"
)

// Format is the version of the format, in repository.json and snapshots.
const Format = 1

// PointerFile is the one file of a repository that changes.
const PointerFile = "repository.json"

// Bounds on what a reader accepts.
const (
	maxPointer = 16 << 20
	maxShard   = 1 << 30 // decompressed
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

// Snapshot is one immutable state of a target's index. Its fields are in the
// order of their keys, so that encoding/json writes them in canonical form.
type Snapshot struct {
	Action   string         `json:"action"`            // what made it, such as "publish"
	Allowed  []Exception    `json:"allowed,omitempty"` // what the gate found and let pass
	Bytes    int64          `json:"bytes"`             // of all package files
	Files    map[string]Ref `json:"files"`             // as Shards, for paths
	Format   int            `json:"format"`
	From     string         `json:"from,omitempty"` // SHA-256 of the snapshot that it took its packages from
	Packages int            `json:"packages"`
	Parent   string         `json:"parent,omitempty"` // SHA-256 of the state before
	Serial   int64          `json:"serial"`           // of the repository when it came to be
	Shards   map[string]Ref `json:"shards"`           // two hex digits → shard
	Target   string         `json:"target"`
	Time     time.Time      `json:"time"`
}

// encode writes the snapshot as canonical JSON. Only the reasons of exceptions
// can have in them what encoding/json writes in another way.
func (s Snapshot) encode() ([]byte, error) {
	if len(s.Allowed) > 0 {
		return canonical.Marshal(s)
	}
	return json.Marshal(s)
}

// Exception is a finding that is let pass on purpose.
type Exception struct {
	Code    string `json:"code"`
	Package string `json:"package"` // its name
	Because string `json:"because"`
}

// check judges a snapshot, whoever wrote it: what it names becomes names of
// files.
func (s Snapshot) check() error {
	for _, refs := range []map[string]Ref{s.Shards, s.Files} {
		for key, ref := range refs {
			if !shardKey.MatchString(key) || !digest.MatchString(ref.SHA256) || ref.Count < 0 {
				return fmt.Errorf("shard %q cannot be %q with %d lines", key, ref.SHA256, ref.Count)
			}
		}
	}
	if !pack.ValidTarget(s.Target) || s.Parent != "" && !digest.MatchString(s.Parent) {
		return fmt.Errorf("target %q, parent %q cannot be", s.Target, s.Parent)
	}
	return nil
}

// Ref names an immutable file.
type Ref struct {
	Count  int    `json:"count"`  // lines in it
	SHA256 string `json:"sha256"` // of the file as it is stored
}

// Record is a package in the index: a line of a shard.
type Record struct {
	Name      string         `json:"name"`
	Version   string         `json:"version"`
	Release   int            `json:"release"`
	Epoch     int            `json:"epoch,omitempty"`
	Arch      string         `json:"arch"`
	Summary   string         `json:"summary"`
	License   string         `json:"license"`
	Category  string         `json:"category,omitempty"`
	Homepage  string         `json:"homepage,omitempty"`
	Recipe    string         `json:"recipe"`
	Date      string         `json:"date"`
	Needs     []pack.Need    `json:"needs"`
	Provides  []pack.Provide `json:"provides"`
	Conflicts []string       `json:"conflicts,omitempty"`
	Replaces  []string       `json:"replaces,omitempty"`
	Suggests  []string       `json:"suggests,omitempty"`
	Size      int64          `json:"size"`   // bytes, installed
	File      string         `json:"file"`   // path in the repository
	SHA256    string         `json:"sha256"` // of the file
	Bytes     int64          `json:"bytes"`  // of the file

	line []byte // as it was read, where it is to be written again
}

// Full is version and release.
func (r Record) Full() version.Full {
	return version.Full{Epoch: r.Epoch, Version: r.Version, Release: r.Release}
}

// Identity is NAME@VERSION-RELEASE.ARCH.
func (r Record) Identity() string { return r.Name + "@" + r.Full().String() + "." + r.Arch }

// inPlaceOf tells whether two packages cannot both be in a repository: an epoch
// is not in the name of a file.
func (r Record) inPlaceOf(other Record) bool {
	return r.Identity() == other.Identity() || r.File == other.File
}

// AllProvides returns what the package offers, itself first.
func (r Record) AllProvides() []need.Provide {
	return pack.Facts{Name: r.Name, Version: r.Version, Release: r.Release, Epoch: r.Epoch, Provides: r.Provides}.AllProvides()
}

func (r Record) check() error {
	_, _, _, ok := pack.ParseFileName(path.Base(r.File))
	switch {
	case !need.ValidPackageName(r.Name) || !version.Valid(r.Version) || r.Release < 1 || r.Epoch < 0:
		return fmt.Errorf("%q is no package", r.Identity())
	case !ok || !strings.HasPrefix(r.File, "packages/") || path.Clean(r.File) != r.File || !digest.MatchString(r.SHA256) || r.Bytes < 0:
		return fmt.Errorf("%s names no file in the repository", r.Identity())
	}
	return nil
}

// PathRecord is a path in a package: a line of a files shard.
type PathRecord struct {
	Path    string `json:"path"`
	Package string `json:"package"` // its identity
}

// The parts of a line around package and path, in canonical JSON.
const (
	pathBegin  = `{"package":"`
	pathMiddle = `","path":"`
	pathEnd    = "\"}\n"
)

// parse reads a line that has nothing escaped in it, as nearly all are: it
// takes a tenth of the time. The strings share the memory of the line.
func (p *PathRecord) parse(line []byte) bool {
	rest, ok := bytes.CutPrefix(line, []byte(pathBegin))
	name, rest, ok2 := bytes.Cut(rest, []byte(pathMiddle))
	text, ok3 := bytes.CutSuffix(rest, []byte(pathEnd))
	if !ok || !ok2 || !ok3 || bytes.ContainsAny(line, `\`) || bytes.IndexByte(text, '"') >= 0 || bytes.IndexByte(name, '"') >= 0 || !utf8.Valid(line) ||
		bytes.ContainsFunc(line[:len(line)-1], func(c rune) bool { return c < ' ' }) {
		return false
	}
	p.Package, p.Path = unsafe.String(unsafe.SliceData(name), len(name)), unsafe.String(unsafe.SliceData(text), len(text))
	return true
}

// plain tells whether nothing in the line would have to be escaped.
func (p *PathRecord) plain() bool {
	for _, text := range []string{p.Package, p.Path} {
		for i := range len(text) {
			if c := text[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
				return false
			}
		}
	}
	return true
}

var (
	digest   = regexp.MustCompile(`^[0-9a-f]{64}$`)
	channel  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	shardKey = regexp.MustCompile(`^[0-9a-f]{2}$`)
)

// DamagedError is a file of a repository that is not what it should be.
type DamagedError struct {
	Name string
	Err  error
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("the repository's %s is damaged: %v", e.Name, e.Err)
}

func (e *DamagedError) Unwrap() error { return e.Err }

// shardOf is the shard that a package's name falls in.
func shardOf(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:1])
}

func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// encodeLines writes values as canonical JSON, a line each, compressed.
func encodeLines[T any](items []T) ([]byte, error) {
	var b bytes.Buffer
	for i := range items {
		switch item := any(&items[i]).(type) {
		case *Record:
			if item.line != nil {
				b.Write(item.line)
				continue
			}
		case *PathRecord:
			if item.plain() {
				for _, part := range []string{pathBegin, item.Package, pathMiddle, item.Path, pathEnd} {
					b.WriteString(part)
				}
				continue
			}
		}
		line, err := canonical.Marshal(items[i])
		if err != nil {
			return nil, err
		}
		b.Write(line)
		b.WriteByte('\n')
	}
	enc, err := encoder()
	if err != nil {
		return nil, err
	}
	return enc.EncodeAll(b.Bytes(), nil), nil
}

// encoder is shared, like decoder.
var encoder = sync.OnceValues(func() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithEncoderCRC(true), zstd.WithLowerEncoderMem(true))
})

// decoder is shared: it has no state of its own between frames.
var decoder = sync.OnceValues(func() (*zstd.Decoder, error) {
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(maxShard))
})

// decodeLines reads JSON lines, of which there must be count; of those that
// keep refuses only their number counts. A keep of nil keeps all. With whole
// set, records hold on to their lines.
func decodeLines[T any](data []byte, count int, keep func(line []byte) bool, whole bool) ([]T, error) {
	dec, err := decoder()
	if err != nil {
		return nil, err
	}
	lines, err := dec.DecodeAll(data, nil)
	if err != nil {
		return nil, err
	}
	found := bytes.Count(lines, []byte("\n"))
	if len(lines) > 0 && lines[len(lines)-1] != '\n' || found != count {
		return nil, fmt.Errorf("it does not hold the %d lines that the snapshot says", count)
	}
	var items []T
	if keep == nil {
		items = make([]T, 0, count)
	}
	for line := range bytes.Lines(lines) {
		if keep != nil && !keep(line) {
			continue
		}
		var item T
		if p, ok := any(&item).(*PathRecord); ok && p.parse(line) {
			if keep != nil { // a few lines are not to hold on to all of them
				p.Package, p.Path = strings.Clone(p.Package), strings.Clone(p.Path)
			}
			items = append(items, item)
			continue
		}
		if err := json.Unmarshal(line, &item); err != nil {
			return nil, err
		}
		if r, ok := any(&item).(*Record); ok && whole {
			r.line = line
		}
		items = append(items, item)
	}
	return items, nil
}
