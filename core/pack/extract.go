package pack

import (
	"context"
	"io"
	"os"
	"path"
	"strings"

	"ellwand.example/core/layout"
)

// Extract unpacks the payload into dir, which exists. Owners are not set.
// Nothing outside dir is written, whatever the package says.
func (p *Package) Extract(ctx context.Context, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return p.Walk(ctx, func(e Entry, r io.Reader) error {
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
		if _, err := io.Copy(f, r); err != nil {
			return err
		}
		if err := f.Chmod(mode); err != nil {
			return err
		}
		return f.Close()
	})
}
