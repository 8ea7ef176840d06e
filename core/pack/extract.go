package pack

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ellwand.example/core/layout"
)

// Extract unpacks the payload into dir, which exists. Owners are not set.
// Nothing outside dir is written, whatever the package says, and no file that
// is there is written over.
func (p *Package) Extract(ctx context.Context, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return p.Walk(ctx, func(e Entry, r io.Reader) error {
		return extract(root, e, func(w io.Writer) error {
			_, err := io.Copy(w, r)
			return err
		})
	})
}

// ExtractSome unpacks chosen entries of the layout into dir, as Extract does,
// and reads no more of the package than holds them. Of two hard links the
// second becomes a file of its own where the first is not chosen.
func (p *Package) ExtractSome(ctx context.Context, dir string, chosen []Entry) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	there := map[string]bool{}
	all, err := p.Layout()
	if err != nil {
		return err
	}
	for _, e := range chosen {
		if err := ctx.Err(); err != nil {
			return err
		}
		there[e.Path] = true
		from := e
		if e.Same != "" && !there[e.Same] {
			if from, _ = Find(all, e.Same); from.Path == "" {
				return &DamagedError{p.Path, fmt.Errorf("%s is a link to %s, which is not in it", e.Path, e.Same)}
			}
			e.Same = ""
		}
		if err := extract(root, e, func(w io.Writer) error { return p.WriteFile(w, from) }); err != nil {
			return err
		}
	}
	return nil
}

// extract puts one path below root.
func extract(root *os.Root, e Entry, write func(io.Writer) error) error {
	name := strings.TrimPrefix(e.Path, "/")
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	mode := layout.ParseMode(e.Mode)
	switch {
	case e.Type == layout.Directory:
		if err := root.MkdirAll(name, 0o755); err != nil {
			return err
		}
		return root.Chmod(name, mode|0o700)
	case e.Type == layout.Symlink:
		return root.Symlink(e.Link, name)
	case e.Same != "":
		return root.Link(strings.TrimPrefix(e.Same, "/"), name)
	}
	f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Chmod(mode); err != nil {
		return err
	}
	return f.Close()
}

// Choose lists the entries that words name: a path, with all that is below it,
// or a pattern. The error names a word that chooses nothing.
func Choose(entries []Entry, words []string) ([]Entry, error) {
	used := make([]bool, len(words))
	var out []Entry
	for _, e := range entries {
		chosen := false
		for i, w := range words {
			w = "/" + strings.Trim(w, "/")
			matched, err := doublestar.Match(w, e.Path)
			if err != nil {
				return nil, fmt.Errorf("%q is not a pattern", words[i])
			}
			if matched || e.Path == w || w == "/" || strings.HasPrefix(e.Path, w+"/") {
				chosen, used[i] = true, true
			}
		}
		if chosen {
			out = append(out, e)
		}
	}
	for i, ok := range used {
		if !ok {
			return nil, fmt.Errorf("there is no %s in the package", words[i])
		}
	}
	return out, nil
}
