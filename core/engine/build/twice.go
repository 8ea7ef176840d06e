package build

import (
	"bytes"
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"ellwand.example/core/ell"
	"ellwand.example/core/engine/layer"
	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
)

// Difference is something in which two builds of a recipe differ.
type Difference struct {
	Package string `json:"package"`
	Path    string `json:"path"`             // in the package; empty for its facts
	What    string `json:"what"`             // "contents", "mode", "there once only" …
	Offset  int64  `json:"offset,omitempty"` // of the first byte that differs
	Where   string `json:"where,omitempty"`  // the line of a text, or the section of an ELF file
	First   string `json:"first,omitempty"`  // what stands there after the first build
	Second  string `json:"second,omitempty"` // and after the second
	Hint    string `json:"hint,omitempty"`   // where such a difference comes from
}

// variation is how the second of two builds differs from the first: in nothing
// that may matter.
type variation struct {
	user     int
	timezone string
	locale   string
	jobs     int
}

// Twice builds a recipe, and builds it all again where as much as possible is
// different that should make no difference: a later time, another user, time
// zone, locale and number of processes, another directory, and where the machine
// has one another file system, which lists files in another order. It returns
// in what the packages differ.
func (b *Builder) Twice(ctx context.Context, r *recipe.Recipe, o Options) (Result, []Difference, error) {
	first, err := b.Build(ctx, r, o)
	if err != nil {
		return first, nil, err
	}
	dir, err := b.otherPlace(r)
	if err != nil {
		return first, nil, err
	}
	defer layer.RemoveAll(dir)
	aside, err := b.Workspace.Aside(filepath.Join(dir, "another directory"))
	if err != nil {
		return first, nil, err
	}
	jobs := 1
	if b.Workspace.Jobs() == 1 {
		jobs = 3
	}
	second := &Builder{Resolver: &satisfy.Resolver{Workspace: aside, Root: b.Root, Progress: b.Progress}, Fetcher: b.Fetcher, Runner: b.Runner,
		varied: &variation{user: sandbox.StepID + 1, timezone: "UTC-14", locale: "C", jobs: jobs}}
	if b.Runner.OwnFileSystem() {
		n, err := Isolate(ctx, aside)
		if err != nil {
			return first, nil, err
		}
		n.User, n.System = second.varied.user, b.Root
		second.Runner = n
	}
	// Packages link from the first workspace, and a new one replaces the link.
	again, err := second.Build(ctx, r, Options{From: recipe.Unpack})
	if err != nil {
		return first, nil, fmt.Errorf("the second build: %w", err)
	}
	differences := []Difference{}
	for i := range first.Packages {
		found, err := differ(ctx, first.Packages[i].Path, again.Packages[i].Path)
		if err != nil {
			return first, nil, err
		}
		differences = append(differences, found...)
	}
	return first, differences, nil
}

// otherPlace makes a directory on another file system, if there is one in memory
// with room enough, and else in the directory for temporary files.
func (b *Builder) otherPlace(r *recipe.Recipe) (string, error) {
	const memory = "/dev/shm"
	need := layer.Size(b.Workspace.State("layers", r.Name))*2 + 64<<20
	var fs syscall.Statfs_t
	if syscall.Statfs(memory, &fs) == nil && int64(fs.Bavail)*fs.Bsize > need {
		if dir, err := os.MkdirTemp(memory, "ellwand-"); err == nil {
			return dir, os.Chmod(dir, 0o755)
		}
	}
	dir, err := os.MkdirTemp("", "ellwand-")
	return dir, errors.Join(err, os.Chmod(dir, 0o755))
}

// differ tells in what two package files differ.
func differ(ctx context.Context, a, b string) ([]Difference, error) {
	same, err := sameBytes(a, b)
	if err != nil || same {
		return nil, err
	}
	left, err := ell.Open(a)
	if err != nil {
		return nil, err
	}
	defer left.Close()
	right, err := ell.Open(b)
	if err != nil {
		return nil, err
	}
	defer right.Close()
	name := left.Facts.Identity()
	var out []Difference
	for _, meta := range []string{"facts.json", "build.json", "recipe.toml"} {
		x, _ := left.Meta(meta)
		y, _ := right.Meta(meta)
		if meta != "facts.json" && !bytes.Equal(x, y) {
			out = append(out, differenceIn(name, "meta/"+meta, x, y))
		}
	}
	before, err := left.Layout()
	if err != nil {
		return nil, err
	}
	after, err := right.Layout()
	if err != nil {
		return nil, err
	}
	for _, e := range before {
		other, ok := ell.Find(after, e.Path)
		if !ok {
			out = append(out, Difference{Package: name, Path: e.Path, What: "there after the first build only"})
			continue
		}
		found, err := entriesDiffer(ctx, name, left, right, e, other)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	for _, e := range after {
		if _, ok := ell.Find(before, e.Path); !ok {
			out = append(out, Difference{Package: name, Path: e.Path, What: "there after the second build only"})
		}
	}
	if len(out) == 0 {
		out = append(out, Difference{Package: name, What: "the facts of the package"})
	}
	return out, nil
}

// maxDiffer bounds the files that are compared byte by byte.
const maxDiffer = 256 << 20

func entriesDiffer(ctx context.Context, name string, left, right *ell.Package, a, b ell.Entry) ([]Difference, error) {
	var out []Difference
	say := func(what, first, second string) {
		if first != second {
			out = append(out, Difference{Package: name, Path: a.Path, What: what, First: first, Second: second})
		}
	}
	say("type", string(a.Type), string(b.Type))
	say("mode", a.Mode, b.Mode)
	say("owner", a.Owner+":"+a.Group, b.Owner+":"+b.Group)
	say("link", a.Link, b.Link)
	if a.SHA256 == b.SHA256 || a.Type != b.Type {
		return out, nil
	}
	if a.Size > maxDiffer || b.Size > maxDiffer {
		say("contents", a.SHA256, b.SHA256)
		return out, nil
	}
	var x, y bytes.Buffer
	if err := errors.Join(left.WriteFile(ctx, &x, a), right.WriteFile(ctx, &y, b)); err != nil {
		return nil, err
	}
	return append(out, differenceIn(name, a.Path, x.Bytes(), y.Bytes())), nil
}

// differenceIn finds the first place in which two files differ.
func differenceIn(name, path string, x, y []byte) Difference {
	at := 0
	for at < len(x) && at < len(y) && x[at] == y[at] {
		at++
	}
	d := Difference{Package: name, Path: path, What: "contents", Offset: int64(at), First: around(x, at), Second: around(y, at)}
	if f, err := elf.NewFile(bytes.NewReader(x)); err == nil {
		for _, s := range f.Sections {
			if s.Type != elf.SHT_NOBITS && uint64(at) >= s.Offset && uint64(at) < s.Offset+s.FileSize {
				d.Where = "section " + s.Name
			}
		}
	} else if bytes.IndexByte(x[:min(len(x), 8000)], 0) < 0 {
		d.Where = fmt.Sprintf("line %d", 1+bytes.Count(x[:at], []byte("\n")))
	}
	d.Hint = hint(d)
	return d
}

// around is what is at a place, as far as it can be printed.
func around(data []byte, at int) string {
	const before, after = 12, 28
	part := data[max(0, min(at, len(data))-before):min(len(data), at+after)]
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '.'
		}
		return r
	}, string(part))
}

// clock is a time as programs write it.
var clock = pattern.New(`\d\d:\d\d(:\d\d)?`)

func hint(d Difference) string {
	both := d.First + d.Second
	switch {
	case strings.Contains(d.Where, ".note.gnu.build-id"):
		return "the build id follows from what else differs"
	case clock.MatchString(both):
		return "a time of day: have it taken from $SOURCE_DATE_EPOCH"
	case strings.Contains(both, fmt.Sprint(sandbox.StepID)):
		return "perhaps the number of the user that runs the steps"
	}
	return ""
}

func sameBytes(a, b string) (bool, error) {
	x, err := os.ReadFile(a)
	if err != nil {
		return false, err
	}
	y, err := os.ReadFile(b)
	return bytes.Equal(x, y), err
}
