// Package scan looks into files for what matters about them to a package: what
// programs and libraries need and offer (ELF, System V ABI; symbol versions as
// the GNU tools write them), the interpreters of scripts, and pkg-config
// modules.
package scan

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/layout"
	"ellwand.example/core/need"
)

// File is what was found in one file; fields are nil or empty where it is not
// of that kind.
type File struct {
	Path        string
	ELF         *ELF
	Interpreter string // the command behind #!
	PkgConfig   *PkgConfig
}

// Need is something that a file needs at run time.
type Need struct {
	Need    need.Alternative
	Symbols []string // symbol versions used of a soname
	Path    string   // the file that needs it
}

// Provide is something that a file offers.
type Provide struct {
	need.Provide
	Path string
}

// headSize is how much of a file is looked at to tell what it is.
const headSize = 4096

// maxText bounds the pkg-config files that are read.
const maxText = 1 << 20

// Contents looks into one file.
func Contents(p string, r io.ReaderAt, size int64) (File, error) {
	f := File{Path: p}
	head := make([]byte, min(size, headSize))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return f, err
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		f.ELF = readELF(r)
	case bytes.HasPrefix(head, []byte("#!")):
		f.Interpreter = interpreter(head)
	case strings.HasSuffix(p, ".pc") && path.Base(path.Dir(p)) == "pkgconfig" && size <= maxText:
		text := make([]byte, size)
		if _, err := r.ReadAt(text, 0); err != nil && !errors.Is(err, io.EOF) {
			return f, err
		}
		f.PkgConfig = readPkgConfig(strings.TrimSuffix(path.Base(p), ".pc"), string(text))
	}
	return f, nil
}

// interpreter returns the command that a #! line starts; with env(1), the one
// that env starts.
func interpreter(head []byte) string {
	line, _, _ := bytes.Cut(head[2:], []byte("\n"))
	words := strings.Fields(string(line))
	if len(words) == 0 {
		return ""
	}
	command := words[0]
	if path.Base(command) == "env" {
		for _, w := range words[1:] {
			if !strings.HasPrefix(w, "-") && !strings.Contains(w, "=") {
				return w
			}
		}
	}
	return command
}

// Claims looks into all files of a package, on all cores. The result has a
// File for each claim that is a file and has something to tell, in order.
func Claims(ctx context.Context, claims []layout.Claim) ([]File, error) {
	found := make([]File, len(claims))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, c := range claims {
		if c.Type != layout.File {
			continue
		}
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			in, err := os.Open(c.Disk)
			if err != nil {
				return err
			}
			defer in.Close()
			info, err := in.Stat()
			if err != nil {
				return err
			}
			found[i], err = Contents(c.Path.Path, in, info.Size())
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(found, func(f File) bool { return f.ELF == nil && f.Interpreter == "" && f.PkgConfig == nil }), nil
}

// commandDirs are where a file that may be run is a command.
var commandDirs = map[string]bool{"/usr/bin": true, "/usr/sbin": true, "/bin": true, "/sbin": true}

// LibraryDir tells whether the dynamic linker looks into a directory on its
// own: /usr/lib and its like, and one folder below for an architecture.
func LibraryDir(dir string) bool {
	for _, d := range []string{"/usr/lib", "/usr/lib64", "/lib", "/lib64", "/usr/lib32"} {
		rest, ok := strings.CutPrefix(dir, d)
		if ok && (rest == "" || strings.Count(rest, "/") == 1 && strings.Contains(rest, "-linux-")) {
			return true
		}
	}
	return false
}

// Provides derives what a package offers from its paths and what was found.
func Provides(claims []layout.Claim, files []File) []Provide {
	var out []Provide
	for _, c := range claims {
		dir, base := path.Split(c.Path.Path)
		runs := c.Type == layout.File && c.Mode&0o111 != 0 || c.Type == layout.Symlink
		if runs && commandDirs[path.Clean(dir)] {
			out = append(out, Provide{need.Provide{Kind: need.Command, Name: base}, c.Path.Path})
		}
	}
	for _, f := range files {
		if f.ELF != nil && f.ELF.Type == Shared && f.ELF.Soname != "" && LibraryDir(path.Dir(f.Path)) {
			out = append(out, Provide{need.Provide{Kind: need.Soname, Name: f.ELF.Soname}, f.Path})
		}
		if f.PkgConfig != nil {
			out = append(out, Provide{need.Provide{Kind: need.PkgConfig, Name: f.PkgConfig.Name, Version: f.PkgConfig.version()}, f.Path})
		}
	}
	slices.SortFunc(out, func(a, b Provide) int {
		return cmp.Or(cmp.Compare(a.String(), b.String()), cmp.Compare(a.Path, b.Path))
	})
	return slices.CompactFunc(out, func(a, b Provide) bool { return a.Provide == b.Provide })
}

// Needs derives what a package needs from what was found in its files; what
// it offers itself is left out. Each need stands once, with the first file
// that has it and the symbol versions of all.
func Needs(files []File, own []Provide) []Need {
	byName := map[string]*Need{}
	add := func(a need.Alternative, p string, symbols []string) {
		n := need.Need{Alternatives: []need.Alternative{a}}
		if slices.ContainsFunc(own, func(o Provide) bool { return n.MetBy(o.Provide) }) {
			return
		}
		key := a.String()
		if byName[key] == nil {
			byName[key] = &Need{Need: a, Path: p}
		}
		byName[key].Symbols = append(byName[key].Symbols, symbols...)
	}
	for _, f := range files {
		if f.ELF != nil {
			for _, soname := range f.ELF.Needed {
				add(need.Alternative{Kind: need.Soname, Name: soname}, f.Path, f.ELF.Symbols[soname])
			}
		}
		if f.Interpreter != "" {
			add(need.Alternative{Kind: need.Command, Name: path.Base(f.Interpreter)}, f.Path, nil)
		}
		if f.PkgConfig != nil {
			for _, a := range f.PkgConfig.Requires {
				add(a, f.Path, nil)
			}
		}
	}
	var out []Need
	for _, n := range byName {
		slices.Sort(n.Symbols)
		n.Symbols = slices.Compact(n.Symbols)
		out = append(out, *n)
	}
	slices.SortFunc(out, func(a, b Need) int { return cmp.Compare(a.Need.String(), b.Need.String()) })
	return out
}
